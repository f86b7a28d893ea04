//! `handloom weave`: bring targets up to date, run tasks.

use std::process::ExitCode;

use handloom_core::graph::BuildRequest;

use crate::arguments::Common;
use crate::arguments::RunArguments;
use crate::arguments::WeaveArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::run as run_command;
use crate::commands::running::Work;
use crate::commands::running::weave;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;

/// Carries the command out.
pub fn run(common: &Common, arguments: &WeaveArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    if let [task, values @ ..] = &arguments.names[..]
        && run_command::is_without_project(common)
    {
        let run = RunArguments {
            task: task.clone(),
            values: values.to_vec(),
            extra: Vec::new(),
            again: arguments.again,
            running: arguments.running.clone(),
        };
        return run_command::run(common, &run, ui);
    }
    let location = project::locate(common)?;
    if let [name] = &arguments.names[..]
        && personal_task(common, name)?
    {
        // Not the project's: as `handloom run NAME`.
        let run = RunArguments {
            task: name.clone(),
            values: Vec::new(),
            extra: Vec::new(),
            again: arguments.again,
            running: arguments.running.clone(),
        };
        return run_command::run(common, &run, ui);
    }
    let work = Work {
        names: arguments.names.clone(),
        call: None,
        again: arguments.again,
        running: &arguments.running,
    };
    weave(common, location, &work, ui)
}

/// Whether a name that the project does not know is a task of the user's own.
fn personal_task(common: &Common, name: &str) -> Result<bool, CommandError> {
    if project::user().own_tasks().is_none() {
        return Ok(false);
    }
    let silent = Ui::silent();
    let Ok(workspace) = project::read(common, silent) else {
        // What is wrong with the project is told by the run.
        return Ok(false);
    };
    let asked = BuildRequest {
        names: vec![name.to_owned()],
        folder: workspace.location.folder.clone(),
        ..BuildRequest::default()
    };
    let known = ReadOnlyProject::at_opened(&workspace, silent, |read_only| {
        Ok(handloom_core::graph::goals(read_only.project, &asked)
            .unknown
            .is_empty())
    });
    if known.unwrap_or(true) {
        return Ok(false);
    }
    let Ok(own) = project::personal(workspace, common, silent)? else {
        return Ok(false);
    };
    ReadOnlyProject::at_opened(&own, silent, |read_only| {
        Ok(read_only.project.task_named(name).is_some())
    })
}
