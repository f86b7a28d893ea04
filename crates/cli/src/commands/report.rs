//! `handloom report`: one run, read as a whole.

use std::path::Path;
use std::process::ExitCode;

use handloom_core::records::RunRecord;
use handloom_core::records::Runs;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::ReportArguments;
use crate::failure::CommandError;
use crate::project;
use crate::reporting;
use crate::reporting::Whole;
use crate::ui::Ui;

/// Carries the command out.
pub fn run(common: &Common, arguments: &ReportArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let write = arguments.to.as_deref().map(writer).transpose()?;
    let location = project::locate(common)?;
    let (run, earlier) = read(&Runs::new(&location.own()), arguments.run, ui)?;
    let whole = Whole::new(&run, &earlier, &location.root);
    match (&arguments.to, write) {
        (Some(file), Some(write)) => {
            let project = location.root.file_name().unwrap_or_default();
            let text = write(&whole, &project.to_string_lossy())?;
            std::fs::write(file, text).map_err(|error| {
                CommandError::io(format!("can't write `{}`", file.display()), error)
            })?;
            ui.say(&format!("wrote {}\n", file.display()));
        }
        _ if arguments.format == Format::Json => ui.print_json(&reporting::json(&whole))?,
        _ => ui.print(&reporting::plain::write(&whole, ui.out))?,
    }
    Ok(ExitCode::SUCCESS)
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
    let numbers = runs.numbers();
    let Some(number) = asked.or(numbers.last().copied()) else {
        return Err(CommandError::usage(
            "nothing has run in this project yet",
            "`handloom` runs what has a reason to",
        ));
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
    let before = numbers.iter().filter(|&&before| before < number);
    let earlier = before.filter_map(|&before| match runs.read(before) {
        Ok(run) => Some(run),
        Err(error) => {
            ui.say(&format!(
                "note: the record of run {before} can't be read: {error}\n"
            ));
            None
        }
    });
    let earlier = earlier.collect();
    Ok((run, earlier))
}
