//! `handloom run`: one task with arguments.

use std::process::ExitCode;

use handloom_core::language::is_name;
use handloom_core::project::TaskNode;
use handloom_core::project::paths::from_root;
use handloom_core::project::pattern::Pattern;
use handloom_core::project::pattern::escape;
use handloom_core::project::pattern::is_pattern;
use handloom_core::project::script::TaskCall;
use handloom_core::project::script::relative;
use handloom_core::project::script::usage;
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
use handloom_core::workspace::ProjectLock;
use handloom_core::workspace::Workspace;
use handloom_core::world::names::folder_of;

/// Carries the command out.
pub fn run(common: &Common, arguments: &RunArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    let (lock, workspace) = running::open(common, location, arguments.running.no_wait, ui)?;
    if is_pattern(&arguments.task) {
        let names = matching(&workspace, arguments, ui)?;
        let work = running::Work {
            names,
            call: None,
            remake: arguments.remake,
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
        remake: arguments.remake,
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
        let tasks = read_only.project.tasks.iter().map(|task| &task.decl.name);
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
    let wrong = |what: String| {
        CommandError::usage(
            what,
            format!("the task is run as: handloom run {}", usage(vars, decl)),
        )
    };
    let parameters = &decl.syntax.parameters;
    let mut call = TaskCall::default();
    for value in &arguments.values {
        let named = value.split_once('=').filter(|(name, _)| {
            parameters
                .iter()
                .any(|parameter| &*parameter.name.text == *name)
        });
        let (name, value) = match named {
            Some((name, value)) => (name.to_owned(), value.to_owned()),
            None => {
                if let Some((name, _)) = value.split_once('=')
                    && is_name(name)
                    && let Some(near) = nearest(
                        name,
                        parameters.iter().map(|parameter| &*parameter.name.text),
                    )
                {
                    return Err(CommandError::usage(
                        format!("`{}` has no parameter `{name}`", decl.name),
                        format!(
                            "did you mean `{near}=…`? The task is run as: handloom run {}",
                            usage(vars, decl)
                        ),
                    ));
                }
                let next = parameters
                    .iter()
                    .find(|parameter| !call.values.contains_key(&*parameter.name.text));
                let Some(next) = next else {
                    return Err(wrong(format!(
                        "`{value}` is one value too many for `{}`",
                        decl.name
                    )));
                };
                (next.name.text.to_string(), value.clone())
            }
        };
        if call.values.insert(name.clone(), value).is_some() {
            return Err(wrong(format!("`{name}` is given twice")));
        }
    }
    let missing = parameters.iter().find(|parameter| {
        parameter.default.is_none() && !call.values.contains_key(&*parameter.name.text)
    });
    if let Some(missing) = missing {
        return Err(wrong(format!(
            "`{}` needs a value for `{}`",
            decl.name, missing.name.text
        )));
    }
    call.extra.clone_from(&arguments.extra);
    let asks_for_extra = decl.clauses.recipe.is_some_and(|recipe| {
        handloom_core::language::script_names(recipe).any(|(name, _)| name == "extra")
    });
    if !call.extra.is_empty() && !asks_for_extra {
        return Err(wrong(format!(
            "`{}` takes no extra words, but got: {}",
            decl.name,
            call.extra.join(" ")
        )));
    }
    Ok(call)
}
