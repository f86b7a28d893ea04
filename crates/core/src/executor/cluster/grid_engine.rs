//! Grid Engine, by its own commands: qsub(1), qstat(1), qdel(1).

use std::collections::HashMap;
use std::path::PathBuf;
use std::process::Command;

use crate::executor::cluster::commands::Failed;
use crate::executor::cluster::commands::output_of;
use crate::executor::cluster::scheduler::Allocation;
use crate::executor::cluster::scheduler::AllocationId;
use crate::executor::cluster::scheduler::AllocationState;
use crate::executor::cluster::scheduler::BatchScheduler;
use crate::executor::cluster::scheduler::SubmitError;

/// The scheduler of one cluster.
#[derive(Clone, Debug)]
pub struct GridEngine {
    /// Its folder (`SGE_ROOT`), where it is not what the environment says.
    pub configuration: Option<PathBuf>,
    /// The parallel environment that gives slots of one host, by which a worker has more than one core.
    pub parallel: String,
}

/// What the commands say when the master does not answer.
const AWAY: [&str; 4] = [
    "unable to contact qmaster",
    "unable to send message to qmaster",
    "commlib error",
    "failed receiving gdi request",
];

impl GridEngine {
    fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        if let Some(configuration) = &self.configuration {
            command.env("SGE_ROOT", configuration);
        }
        command
    }
}

impl GridEngine {
    /// Why a submission is in a state of error, in the scheduler's words.
    fn error_of(&self, id: &AllocationId) -> Option<String> {
        let mut command = self.command("qstat");
        command.args(["-j", id]);
        let said = output_of(command, "").ok()?;
        let line = said.lines().find(|line| line.starts_with("error reason"))?;
        // Behind the name, the task and the time.
        let reason = line
            .split_once("error: ")
            .map_or(line, |(_, reason)| reason);
        Some(reason.trim().to_owned())
    }
}

impl BatchScheduler for GridEngine {
    fn name(&self) -> &'static str {
        "gridengine"
    }

    fn submit(&self, allocation: &Allocation) -> Result<AllocationId, SubmitError> {
        let mut command = self.command("qsub");
        // What can never run is refused at once (`-w e`); a colon in front of a path keeps one in it from being a host's end.
        command
            .args(["-terse", "-w", "e", "-V", "-r", "n", "-j", "y"])
            .args(["-S", "/bin/sh", "-N", &allocation.name])
            .arg("-o")
            .arg(format!(":{}", allocation.output))
            .arg("-l")
            .arg(format!("h_rt={}", 60 * allocation.minutes.max(1)));
        if allocation.cores > 1 {
            command.args(["-pe", &self.parallel, &allocation.cores.to_string()]);
        }
        if let Some(memory) = allocation.memory {
            // It is asked for by the slot.
            let each = memory.div_ceil(allocation.cores.max(1));
            command.args(["-l", &format!("h_vmem={each}M")]);
        }
        command.args(&allocation.options);
        command.envs(allocation.env.iter().map(|(name, value)| (name, value)));
        let said = output_of(command, &allocation.script).map_err(|failed| {
            let is_away = AWAY.iter().any(|words| failed.says(words));
            let error = failed.in_words();
            match is_away {
                true => SubmitError::Away(error),
                false => SubmitError::Refused(error),
            }
        })?;
        let id = said.trim().to_owned();
        if id.is_empty() {
            return Err(SubmitError::Refused("qsub: it gave no number".to_owned()));
        }
        Ok(id)
    }

    fn ask(&self, name: &str) -> Result<HashMap<AllocationId, AllocationState>, String> {
        let mut command = self.command("qstat");
        command.arg("-xml");
        let said = output_of(command, "").map_err(|failed| failed.in_words())?;
        let mut states = states(&said, name).map_err(|error| format!("qstat: {error}"))?;
        for (id, state) in &mut states {
            if let AllocationState::Never(reason) = state
                && let Some(said) = self.error_of(id)
            {
                *reason = said;
            }
        }
        Ok(states)
    }

    fn id_in_paths(&self) -> &'static str {
        "$JOB_ID"
    }

    fn literal_in_paths(&self, path: &str) -> Option<String> {
        (!path.contains('$')).then(|| path.to_owned())
    }

    fn cancel_one(&self, id: &AllocationId) -> Result<(), String> {
        let mut command = self.command("qdel");
        command.arg(id);
        quiet(output_of(command, ""))
    }

    fn cancel(&self, name: &str) -> Result<(), String> {
        let mut command = self.command("qdel");
        command.arg(name);
        quiet(output_of(command, ""))
    }
}

/// What is gone needs nobody to end it.
fn quiet(deleted: Result<String, Failed>) -> Result<(), String> {
    match deleted {
        Err(failed) if !failed.says("does not exist") && !failed.says("do not exist") => {
            Err(failed.in_words())
        }
        _ => Ok(()),
    }
}

/// What qstat(1) lists of those with a name. One that has ended is not listed.
fn states(
    said: &str,
    name: &str,
) -> Result<HashMap<AllocationId, AllocationState>, roxmltree::Error> {
    let document = roxmltree::Document::parse(said)?;
    let jobs = document
        .descendants()
        .filter(|element| element.has_tag_name("job_list"));
    let states = jobs.filter_map(|job| {
        let text = |tag: &str| {
            let mut children = job.children();
            children
                .find(|child| child.has_tag_name(tag))
                .and_then(|child| child.text())
        };
        let state = state_of(text("state").unwrap_or_default());
        (text("JB_name")? == name).then_some((text("JB_job_number")?.to_owned(), state))
    });
    Ok(states.collect())
}

/// The letters of a state: sge_status(5).
fn state_of(letters: &str) -> AllocationState {
    let has = |letter: char| letters.contains(letter);
    if has('E') {
        return AllocationState::Never(format!("its state is {letters}, an error"));
    }
    if has('h') {
        return AllocationState::Never(format!("its state is {letters}, it is held"));
    }
    match has('q') || has('w') {
        true => AllocationState::Waiting(letters.to_owned()),
        false => AllocationState::Running,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_listed_is_told_apart() {
        let job = |number: u32, name: &str, state: &str| {
            format!(
                "<job_list><JB_job_number>{number}</JB_job_number><JB_name>{name}</JB_name><state>{state}</state></job_list>"
            )
        };
        let listed = [
            job(1, "ours", "r"),
            job(2, "ours", "qw"),
            job(3, "ours", "Eqw"),
            job(4, "ours", "hqw"),
            job(5, "theirs", "r"),
            job(6, "ours", "dr"),
        ];
        let said = format!(
            "<?xml version='1.0'?>\n<job_info><queue_info>{}</queue_info></job_info>",
            listed.concat()
        );
        let found = states(&said, "ours").unwrap();
        let mut found: Vec<_> = found.into_iter().collect();
        found.sort_by(|one, other| one.0.cmp(&other.0));
        let never = |why: &str| AllocationState::Never(why.to_owned());
        let expected = [
            ("1", AllocationState::Running),
            ("2", AllocationState::Waiting("qw".to_owned())),
            ("3", never("its state is Eqw, an error")),
            ("4", never("its state is hqw, it is held")),
            ("6", AllocationState::Running),
        ];
        assert_eq!(found, expected.map(|(id, state)| (id.to_owned(), state)));
        assert!(states("no xml", "ours").is_err());
    }
}
