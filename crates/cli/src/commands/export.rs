//! `handloom export`: the project for those who have no Hand Loom.

use std::collections::HashMap;
use std::fs;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::path::PathBuf;
use std::process::ExitCode;

use handloom_core::export::compile_commands::compile_commands;
use handloom_core::export::script::ExportError;
use handloom_core::export::script::ScriptExport;
use handloom_core::graph;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::NodeId;
use handloom_core::graph::Order;
use handloom_core::graph::goals;
use handloom_core::project::StepId;
use handloom_core::project::paths::relative;
use handloom_core::scheduler::Summary;
use handloom_core::workspace::Workspace;
use handloom_core::world::names;

use crate::arguments::Asking;
use crate::arguments::Common;
use crate::arguments::ExportArguments;
use crate::arguments::ExportForm;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::text;

/// Files larger than this are data and no programs, bytes.
const MOST_PROGRAM: u64 = 1 << 20;

/// Carries the command out.
pub fn run(common: &Common, arguments: &ExportArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    ReadOnlyProject::at(common, Asking::default(), ui, |read_only| {
        match arguments.form {
            ExportForm::Script => script(read_only, arguments, ui)?,
            ExportForm::CompileCommands => {
                let location = &read_only.workspace.location;
                let default = match &common.project {
                    Some(_) => location.root.join(DATABASE),
                    None => PathBuf::from(relative(DATABASE, &location.folder)),
                };
                let to = arguments.to.clone().unwrap_or(default);
                let goals = if arguments.names.is_empty() {
                    all_steps(read_only)
                } else {
                    named(read_only, &arguments.names)?
                };
                let order = order(read_only, &goals)?;
                let (entries, unknown) =
                    compile_commands(read_only.project, read_only.vars, &order);
                read_only.warnings()?;
                let text = ui.json(&entries)?;
                if entries.is_empty() {
                    ui.say("note: no recipe calls a compiler of C, C++ or Objective-C\n");
                }
                if unknown > 0 {
                    ui.say(&format!(
                        "note: {} of compilers left out, whose words only the shell knows when it runs\n",
                        text::count(unknown, "call")
                    ));
                }
                put(&to, &format!("{}\n", text.trim_end()), false, ui)?;
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// Writes down how sources are compiled where the settings name a file for it, when a run did something. That it can't be
/// written makes no good run a bad one.
pub fn keep_compile_commands(workspace: &Workspace, summary: &Summary, ui: Ui) {
    let Some(file) = workspace.settings.compile_commands.as_deref() else {
        return;
    };
    let has_news = summary.made + summary.same + summary.restored > 0;
    if has_news && let Err(failure) = write_compile_commands(workspace, file) {
        ui.failure(&failure);
    }
}

fn write_compile_commands(workspace: &Workspace, file: &str) -> Result<(), CommandError> {
    let silent = Ui::silent();
    ReadOnlyProject::at_opened(workspace, silent, |read_only| {
        let order = order(read_only, &all_steps(read_only))?;
        let (entries, _) = compile_commands(read_only.project, read_only.vars, &order);
        let text = silent.json(&entries)?;
        let to = workspace.location.root.join(file);
        if let Some(folder) = to.parent() {
            fs::create_dir_all(folder).map_err(|error| {
                CommandError::io(format!("can't write `{}`", to.display()), error)
            })?;
        }
        put(&to, &format!("{}\n", text.trim_end()), false, silent)
    })
}

fn all_steps(read_only: &ReadOnlyProject<'_, '_>) -> Vec<NodeId> {
    let steps = 0..read_only.project.steps.len();
    steps
        .map(|step| NodeId::step(StepId::from_index(step)))
        .collect()
}

/// What a compilation database is called.
const DATABASE: &str = "compile_commands.json";

fn named(
    read_only: &ReadOnlyProject<'_, '_>,
    names: &[String],
) -> Result<Vec<NodeId>, CommandError> {
    let asked = BuildRequest {
        names: names.to_vec(),
        folder: read_only.workspace.location.folder.clone(),
        ..BuildRequest::default()
    };
    let found = goals(read_only.project, &asked);
    if !found.unknown.is_empty() {
        return Err(project::wrong(read_only.workspace, found.unknown));
    }
    Ok(graph::with_steps(read_only.project, &found.nodes))
}

fn order(read_only: &ReadOnlyProject<'_, '_>, goals: &[NodeId]) -> Result<Order, CommandError> {
    graph::order(read_only.project, goals).map_err(|cycle| {
        let told = graph::describe_cycle(read_only.project, &cycle);
        project::wrong(read_only.workspace, vec![told])
    })
}

fn script(
    read_only: &ReadOnlyProject<'_, '_>,
    arguments: &ExportArguments,
    ui: Ui,
) -> Result<(), CommandError> {
    let goals = named(read_only, &arguments.names)?;
    if goals.is_empty() {
        return Err(CommandError::usage(
            "nothing is made here when nothing is named",
            "name files that targets make; `handloom list --all` shows them",
        ));
    }
    let order = order(read_only, &goals)?;
    let root = &read_only.workspace.location.root;
    let what = match arguments.names.is_empty() {
        true => "Makes what `handloom` makes here".to_owned(),
        false => format!("Makes {}", arguments.names.join(" ").replace('\n', " ")),
    };
    let about = format!(
        "{what}, step by step and in order, with a shell and the programs that its recipes call.\nRun it in the project's folder, or name that folder behind it. Written by Hand Loom {} from hand.loom.",
        env!("CARGO_PKG_VERSION")
    );
    let export = ScriptExport {
        project: read_only.project,
        vars: read_only.vars,
        order: &order,
        goals: &goals,
        about: &about,
        is_there: &|path| root.join(path).exists(),
    };
    let mut known: HashMap<String, bool> = HashMap::new();
    let mut mentions = |path: &str| match known.get(path) {
        Some(&known) => known,
        None => {
            let does = mentions_jobs(&root.join(path));
            known.insert(path.to_owned(), does);
            does
        }
    };
    let written = export.write(&mut mentions);
    let written = match written {
        Ok(written) => written,
        Err(ExportError::Description) => {
            read_only.warnings()?;
            return Err(project::wrong(read_only.workspace, Vec::new()));
        }
        Err(error @ ExportError::Task(_)) => {
            return Err(CommandError::usage(
                error.to_string(),
                "name files that targets make; a script makes them, and runs no tasks",
            ));
        }
    };
    read_only.warnings()?;
    if let Some(first) = written.bound.first() {
        let more = match written.bound.len() {
            1 => "names".to_owned(),
            count => format!("and {} more name", count - 1),
        };
        ui.say(&format!(
            "note: the recipe of `{}` {more} this project's folder, and works nowhere else\n",
            text::safe(first)
        ));
    }
    for tree in &written.not_made {
        let tree = text::safe(tree);
        ui.say(&format!(
            "note: `{tree}` was never made: what is made from each file in it is not in the script; make it first\n"
        ));
    }
    let to = arguments.to.clone().unwrap_or_else(|| PathBuf::from("-"));
    put(&to, &written.text, true, ui)
}

/// Whether a program may read what Hand Loom gives a job to know.
fn mentions_jobs(file: &Path) -> bool {
    let is_small =
        fs::metadata(file).is_ok_and(|file| file.is_file() && file.len() <= MOST_PROGRAM);
    is_small && fs::read(file).is_ok_and(|bytes| bytes.windows(9).any(|part| part == b"HANDLOOM_"))
}

/// Writes what is for others, if it is not there already.
fn put(to: &Path, text: &str, is_program: bool, ui: Ui) -> Result<(), CommandError> {
    let bytes = names::to_bytes(text);
    if to == Path::new("-") {
        let mut out = std::io::stdout().lock();
        out.write_all(&bytes)?;
        out.flush()?;
        return Ok(());
    }
    let failed = |error| CommandError::io(format!("can't write `{}`", to.display()), error);
    if fs::read(to).is_ok_and(|there| *there == *bytes) {
        ui.say(&format!("{} is as it would be written\n", to.display()));
        return Ok(());
    }
    fs::write(to, &bytes).map_err(failed)?;
    if is_program {
        let mode = fs::metadata(to).map_err(failed)?.permissions().mode();
        // Whoever may read it may run it.
        let mode = mode | (mode & 0o444) >> 2;
        fs::set_permissions(to, fs::Permissions::from_mode(mode)).map_err(failed)?;
    }
    ui.say(&format!("wrote {}\n", to.display()));
    Ok(())
}
