//! `handloom report`: one run, read as a whole.

use std::path::Path;
use std::process::ExitCode;

use handloom_core::records::RunRecord;
use handloom_core::records::Runs;
use handloom_core::records::history_analysis::HistoryAnalysis;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::ReportArguments;
use crate::failure::CommandError;
use crate::project;
use crate::reporting;
use crate::reporting::Whole;
use crate::reporting::against::TwoRuns;
use crate::ui::Ui;

/// Carries the command out.
pub fn run(common: &Common, arguments: &ReportArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    let runs = Runs::new(&location.own());
    let project = location.root.file_name().unwrap_or_default();
    let project = project.to_string_lossy();
    if arguments.history {
        let history = HistoryAnalysis::of(&all(&runs, |_| true, ui)?);
        let told = SeveralRuns {
            page: &|| reporting::history_page::write(&history, &project),
            json: &|| ui.json(&reporting::history::json(&history)),
            plain: &|| reporting::history::plain(&history, ui.out),
        };
        return told.tell(arguments, ui);
    }
    let standing = project::standing_findings(&location.own())?;
    let whole = |run, earlier| Whole::new(run, earlier, &standing, &location.root);
    if let Some(against) = arguments.against {
        let (now, before) = (
            read(&runs, arguments.run, ui)?,
            read(&runs, Some(against), ui)?,
        );
        let (now, before) = (whole(&now.0, &now.1), whole(&before.0, &before.1));
        let two = TwoRuns::new(&now, &before);
        let told = SeveralRuns {
            page: &|| reporting::against::page(&two, &project),
            json: &|| ui.json(&reporting::against::json(&two)),
            plain: &|| reporting::against::plain(&two, ui.out),
        };
        return told.tell(arguments, ui);
    }
    let write = arguments.to.as_deref().map(writer).transpose()?;
    let (run, earlier) = read(&runs, arguments.run, ui)?;
    let whole = whole(&run, &earlier);
    match (&arguments.to, write) {
        (Some(file), Some(write)) => {
            put(file, &write(&whole, &project)?, ui)?;
        }
        _ if arguments.format == Format::Json => ui.print_json(&reporting::json(&whole))?,
        _ => ui.print(&reporting::plain::write(&whole, ui.out))?,
    }
    Ok(ExitCode::SUCCESS)
}

fn put(file: &Path, text: &str, ui: Ui) -> Result<(), CommandError> {
    std::fs::write(file, text)
        .map_err(|error| CommandError::io(format!("can't write `{}`", file.display()), error))?;
    ui.say(&format!("wrote {}\n", file.display()));
    Ok(())
}

/// What is told of several runs, in each form.
struct SeveralRuns<'t> {
    page: &'t dyn Fn() -> String,
    json: &'t dyn Fn() -> Result<String, CommandError>,
    plain: &'t dyn Fn() -> String,
}

impl SeveralRuns<'_> {
    fn tell(&self, arguments: &ReportArguments, ui: Ui) -> Result<ExitCode, CommandError> {
        match &arguments.to {
            Some(file) => match file.extension().and_then(|ending| ending.to_str()) {
                Some("html" | "htm") => put(file, &(self.page)(), ui)?,
                Some("json") => put(file, &(self.json)()?, ui)?,
                _ => {
                    return Err(CommandError::usage(
                        format!("`{}` is no report of several runs", file.display()),
                        "name a page (.html), or a file for programs (.json)",
                    ));
                }
            },
            None if arguments.format == Format::Json => ui.print(&(self.json)()?)?,
            None => ui.print(&(self.plain)())?,
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Writes a run, given the project's name.
type Write = fn(&Whole<'_>, &str) -> Result<String, CommandError>;

/// How a file is written, by its ending.
fn writer(file: &Path) -> Result<Write, CommandError> {
    let ending = file.extension().and_then(|ending| ending.to_str());
    match ending {
        Some("html" | "htm") => Ok(|whole, project| Ok(reporting::page::write(whole, project))),
        Some("json") => Ok(|whole, _| Ok(reporting::trace::write(whole))),
        Some("xml") => Ok(|whole, _| {
            reporting::junit::write(whole)
                .map_err(|error| CommandError::Broken(format!("can't write XML: {error}"), None))
        }),
        _ => Err(CommandError::usage(
            format!("`{}` is no report that can be written", file.display()),
            "name a page (.html), a trace (.json) or results for a build server (.xml)",
        )),
    }
}

/// The run that was asked for, and those before it that are kept.
fn read(
    runs: &Runs,
    asked: Option<u64>,
    ui: Ui,
) -> Result<(RunRecord, Vec<RunRecord>), CommandError> {
    let numbers = project::kept_runs(runs)?;
    let Some(number) = asked.or(numbers.last().copied()) else {
        return Err(project::nothing_ran());
    };
    if !numbers.contains(&number) {
        return Err(CommandError::usage(
            format!("there is no record of run {number}"),
            "`handloom history` shows the runs that are kept",
        ));
    }
    let run = runs.read(number).map_err(|error| {
        CommandError::io(format!("can't read the record of run {number}"), error)
    })?;
    let earlier = all(runs, |before| before < number, ui)?;
    Ok((run, earlier))
}

/// Those of the runs that are wanted, as far as they can be read.
fn all(runs: &Runs, wanted: impl Fn(u64) -> bool, ui: Ui) -> Result<Vec<RunRecord>, CommandError> {
    let mut numbers = project::kept_runs(runs)?;
    numbers.retain(|&number| wanted(number));
    let read = numbers
        .into_iter()
        .filter_map(|number| match runs.read(number) {
            Ok(run) => Some(run),
            Err(error) => {
                ui.say(&format!(
                    "note: the record of run {number} can't be read: {error}\n"
                ));
                None
            }
        });
    Ok(read.collect())
}
