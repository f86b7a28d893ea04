//! How a run is to go, as far as what was typed and the settings say.

use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::OldOutputs;
use handloom_core::scheduler::OnFailure;
use handloom_core::scheduler::Placing;
use handloom_core::scheduler::RecipeMode;
use handloom_core::workspace::Workspace;
use handloom_core::workspace::settings::SetBy;
use handloom_core::world::ByteSize;

use crate::arguments::FailureChoice;
use crate::arguments::Output;
use crate::arguments::RunningArguments;
use crate::commands::places;
use crate::failure::CommandError;

/// How to run.
pub fn options(
    workspace: &Workspace,
    running: &RunningArguments,
    again: bool,
) -> Result<BuildOptions, CommandError> {
    let cores = cores();
    let place = places::settings(workspace, running)?;
    let there = place.map_or(cores, |(_, place)| place.slots().min(4096));
    let own = workspace.settings.jobs.filter(|_| place.is_none());
    let jobs = running.jobs.or(own).unwrap_or(there);
    if jobs == 0 || jobs > 4096 {
        return Err(CommandError::usage(
            format!("{jobs} jobs can't run at once"),
            "give a number from 1 to 4096",
        ));
    }
    Ok(BuildOptions {
        jobs,
        threads: cores,
        on_failure: match running.on_failure {
            Some(FailureChoice::Stop) => OnFailure::Stop,
            Some(FailureChoice::Continue) => OnFailure::Continue,
            None => workspace.settings.on_failure.unwrap_or_default(),
        },
        again,
        twice: running.twice,
        memory: place.map_or_else(memory, |(_, place)| place.memory()),
        places: match running.on {
            Some(_) => Vec::new(),
            None => places::supplies(workspace),
        },
        placing: match (&running.on, place) {
            (None, _) => Placing::AsDescribed,
            (Some(_), None) => Placing::AllHere,
            (Some(_), Some(_)) => Placing::AllElsewhere,
        },
        live: output(workspace, running) == Output::Live,
        old_outputs: match workspace.settings.set_by {
            Some(SetBy::Never) => OldOutputs::Remove,
            Some(SetBy::Always) | None => OldOutputs::SetBy,
        },
        recipes: if running.watched {
            RecipeMode::Watched
        } else if running.sealed {
            RecipeMode::Sealed
        } else {
            workspace.settings.recipes.unwrap_or_default()
        },
        run: None,
    })
}

/// How what jobs print is shown.
pub fn output(workspace: &Workspace, running: &RunningArguments) -> Output {
    running
        .output
        .or(workspace.settings.output.map(Output::from))
        .unwrap_or(Output::Grouped)
}

/// Jobs that may run at once, here and at the places that the description names.
pub fn jobs_everywhere(workspace: &Workspace, options: &BuildOptions) -> usize {
    let names = options.placing == Placing::AsDescribed && workspace.description.names_places();
    let places = options.places.iter().filter(|_| names);
    options.jobs + places.map(|place| place.cores).sum::<usize>()
}

/// Cores of this machine.
pub fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// The machine's memory.
fn memory() -> ByteSize {
    let text = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    text.lines()
        .find_map(|line| line.strip_prefix("MemTotal:"))
        .and_then(|rest| rest.trim().trim_end_matches(" kB").parse::<u64>().ok())
        .map_or(ByteSize::UNLIMITED, |kilobytes| {
            ByteSize(kilobytes.saturating_mul(1024))
        })
}
