//! `handloom run`: one task with arguments.

use std::process::ExitCode;

use handloom_core::project::TaskNode;
use handloom_core::project::paths::from_root;
use handloom_core::project::paths::relative;
use handloom_core::project::pattern::Pattern;
use handloom_core::project::pattern::escape;
use handloom_core::project::pattern::is_pattern;
use handloom_core::project::task_call::TaskCall;
use handloom_core::project::task_call::usage;
use handloom_core::project::values::Vars;
use handloom_core::text::nearest;

use crate::arguments::Common;
use crate::arguments::RunArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::running;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::text;
use handloom_core::workspace::Access;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::ProjectLock;
use handloom_core::workspace::Workspace;
use handloom_core::world::names::folder_of;

/// Carries the command out.
pub fn run(common: &Common, arguments: &RunArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    if is_without_project(common) {
        return run_without_project(common, arguments, ui);
    }
    let location = project::locate(common)?;
    let (lock, workspace) = running::open(common, location, arguments.running.no_wait, ui)?;
    if is_pattern(&arguments.task) {
        let names = matching(&workspace, arguments, ui)?;
        let work = running::Work {
            names,
            call: None,
            again: arguments.again,
            running: &arguments.running,
        };
        return running::weave_opened(&workspace, &work, lock, ui);
    }
    if let Some(call) = bind(&workspace, arguments, ui)? {
        return run_bound(&workspace, call, arguments, lock, ui);
    }
    let unknown = unknown(&workspace, arguments, ui)?;
    // Not one of the project's: perhaps one of the user's own.
    let Ok(own) = project::personal(workspace, common, ui)? else {
        return Err(unknown);
    };
    match bind(&own, arguments, ui)? {
        Some(call) => run_bound(&own, call, arguments, lock, ui),
        None => Err(unknown),
    }
}

/// Whether only tasks of the user's own can be meant: there are some, and there is no project around.
pub fn is_without_project(common: &Common) -> bool {
    project::user().own_tasks().is_some()
        && !ProjectLocation::is_in_project(common.project.as_deref())
}

/// Runs a task of the user's own in a folder that is no project, and leaves nothing of Hand Loom's there.
fn run_without_project(
    common: &Common,
    arguments: &RunArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let location = ProjectLocation::without_project(common.project.as_deref())?;
    let own = location.own();
    let was_there = own.symlink_metadata().is_ok();
    let lock = running::lock(&location, arguments.running.no_wait, ui)?;
    let result = project::open_without_project(location, common, ui, Access::Run)
        .and_then(|workspace| run_own(workspace, common, arguments, lock, ui));
    if !was_there {
        // What can't be removed is in nobody's way.
        let _ = std::fs::remove_dir_all(own);
    }
    result
}

fn run_own(
    workspace: Workspace,
    common: &Common,
    arguments: &RunArguments,
    lock: ProjectLock,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let Ok(own) = project::personal(workspace, common, ui)? else {
        return Err(CommandError::usage("there are no tasks of your own", ""));
    };
    match bind(&own, arguments, ui)? {
        Some(call) => run_bound(&own, call, arguments, lock, ui),
        None => Err(unknown(&own, arguments, ui)?),
    }
}

fn run_bound(
    workspace: &Workspace,
    (name, call): (String, TaskCall),
    arguments: &RunArguments,
    lock: ProjectLock,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let work = running::Work {
        names: vec![name.clone()],
        call: Some((name, call)),
        again: arguments.again,
        running: &arguments.running,
    };
    running::weave_opened(workspace, &work, lock, ui)
}

/// Shows the help of one task: how it is run, and what it says of itself.
pub fn help(common: &Common, task: &str, ui: Ui) -> Result<ExitCode, CommandError> {
    let workspace = project::read(common, ui)?;
    if show_help(&workspace, task, ui)? {
        return Ok(ExitCode::SUCCESS);
    }
    if let Ok(own) = project::personal(workspace, common, ui)?
        && show_help(&own, task, ui)?
    {
        return Ok(ExitCode::SUCCESS);
    }
    Err(CommandError::usage(
        format!("no task is called `{task}`"),
        "`handloom list` shows the tasks; `handloom help run` tells how tasks are run",
    ))
}

fn show_help(workspace: &Workspace, task: &str, ui: Ui) -> Result<bool, CommandError> {
    ReadOnlyProject::at_opened(workspace, ui, |read_only| {
        let name = from_root(&read_only.workspace.location.folder, task);
        let names = [name.as_str(), task];
        let found = names
            .iter()
            .find_map(|name| read_only.project.task_named(name));
        let Some(found) = found else {
            return Ok(false);
        };
        let decl = &read_only.project.tasks[found.index()].decl;
        let mut out = format!(
            "handloom run {}\n",
            text::safe(&usage(read_only.vars, decl))
        );
        if let Some(about) = decl.clauses.about {
            out.push_str(&format!("\n{}\n", text::safe_lines(about.trim_end())));
        }
        ui.print(&out)?;
        Ok(true)
    })
}

/// The names of the tasks that a pattern matches, as they are typed in the folder that one is in.
fn matching(
    workspace: &Workspace,
    arguments: &RunArguments,
    ui: Ui,
) -> Result<Vec<String>, CommandError> {
    let pattern = &arguments.task;
    if !arguments.values.is_empty() || !arguments.extra.is_empty() {
        return Err(CommandError::usage(
            format!("values can't be given to all tasks that `{pattern}` matches"),
            "run the tasks one by one, or give their parameters values of their own",
        ));
    }
    ReadOnlyProject::at_opened(workspace, ui, |read_only| {
        let folder = &read_only.workspace.location.folder;
        let source = from_root(&escape(folder), pattern);
        let compiled = Pattern::compile(&source)
            .map_err(|error| CommandError::usage(error.to_string(), "quote it for the shell"))?;
        let tasks = read_only
            .project
            .tasks
            .iter()
            .filter(|task| !task.is_called);
        let tasks = tasks.map(|task| &task.decl.name);
        let names: Vec<String> = tasks
            .filter(|name| compiled.matches(name))
            .map(|name| relative(name, folder))
            .collect();
        if names.is_empty() {
            return Err(CommandError::usage(
                format!("no task matches `{pattern}`"),
                "`handloom list` shows the tasks",
            ));
        }
        Ok(names)
    })
}

/// The task's full name and its arguments by name; none when there is no such task.
fn bind(
    workspace: &Workspace,
    arguments: &RunArguments,
    ui: Ui,
) -> Result<Option<(String, TaskCall)>, CommandError> {
    ReadOnlyProject::at_opened(workspace, ui, |read_only| {
        let project = read_only.project;
        let mut folder = read_only.workspace.location.folder.as_str();
        loop {
            let name = from_root(folder, &arguments.task);
            if let Some(task) = project.task_named(&name) {
                let node = &project.tasks[task.index()];
                let call = call(read_only.vars, node, arguments)?;
                return Ok(Some((node.decl.name.clone(), call)));
            }
            if folder.is_empty() {
                return Ok(None);
            }
            folder = folder_of(folder);
        }
    })
}

fn unknown(
    workspace: &Workspace,
    arguments: &RunArguments,
    ui: Ui,
) -> Result<CommandError, CommandError> {
    ReadOnlyProject::at_opened(workspace, ui, |read_only| {
        let tasks = &read_only.project.tasks;
        let names = tasks.iter().map(|task| task.decl.name.as_str());
        let help = match nearest(&arguments.task, names) {
            Some(near) => format!("did you mean `handloom run {near}`?"),
            None => "`handloom list` shows the tasks".to_owned(),
        };
        let what = format!("no task is called `{}`", arguments.task);
        Ok(CommandError::usage(what, help))
    })
}

fn call(
    vars: &Vars<'_>,
    task: &TaskNode<'_>,
    arguments: &RunArguments,
) -> Result<TaskCall, CommandError> {
    let decl = &task.decl;
    let as_typed = || format!("the task is run as: handloom run {}", usage(vars, decl));
    let mut call = TaskCall::bind(vars, decl, &arguments.values).map_err(|wrong| {
        let help = match &wrong.near {
            Some(near) => format!("did you mean `{near}`? T{}", &as_typed()[1..]),
            None => as_typed(),
        };
        CommandError::usage(wrong.title, help)
    })?;
    call.extra.clone_from(&arguments.extra);
    let asks_for_extra = decl.clauses.recipe.is_some_and(|recipe| {
        handloom_core::language::script_names(recipe).any(|(name, _)| name == "extra")
    });
    if !call.extra.is_empty() && !asks_for_extra {
        return Err(CommandError::usage(
            format!(
                "`{}` takes no extra words, but got: {}",
                decl.name,
                call.extra.join(" ")
            ),
            as_typed(),
        ));
    }
    Ok(call)
}
