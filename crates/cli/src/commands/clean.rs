//! `handloom clean`: take away what was made.

use std::io::BufRead;
use std::io::IsTerminal;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

use handloom_core::graph::BuildRequest;
use handloom_core::graph::Node;
use handloom_core::graph::goals;
use handloom_core::language::Manner;
use handloom_core::status::CleanError;
use handloom_core::status::Cleaned;
use handloom_core::status::clean;
use handloom_core::status::foresee_clean;
use handloom_core::world::ByteSize;
use handloom_core::world::names;
use handloom_core::world::quarantine::ASIDE;
use handloom_core::world::quarantine::FAILED;
use handloom_core::world::quarantine::remove;

use crate::arguments::Asking;
use crate::project;

use crate::arguments::CleanArguments;
use crate::arguments::Common;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::run_options::cores;
use crate::commands::running;
use crate::failure::CommandError;
use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;
use handloom_core::workspace::Workspace;

/// So many paths are named before they are taken away.
const SHOWN: usize = 40;

/// Taking away what took longer than this to make is asked for first, seconds.
const LONG: Duration = Duration::from_secs(60);

/// Carries the command out.
pub fn run(common: &Common, arguments: &CleanArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    if !location.own().is_dir() {
        ui.print("nothing was made yet\n")?;
        return Ok(ExitCode::SUCCESS);
    }
    let (_lock, workspace) = running::open(common, location, arguments.no_wait, ui)?;
    if arguments.aside {
        return clean_aside(&workspace, arguments, ui);
    }
    let steps = steps(&workspace, arguments, ui)?;
    let environment = workspace.environment();
    let broken = |error: CleanError| {
        CommandError::io(format!("can't remove `{}`", error.path), error.source)
    };
    let foreseen = foresee_clean(&environment, &steps, cores());
    if arguments.preview {
        ui.print(&render(&foreseen.paths, true, ui))?;
        return Ok(ExitCode::SUCCESS);
    }
    let asks = arguments.names.is_empty() && !arguments.yes && foreseen.took > LONG;
    if asks && is_attended() {
        let mut question = render(&foreseen.paths, true, ui);
        question.push_str(&format!(
            "it took {} to make them; take them away? [y/N] ",
            text::seconds(foreseen.took)
        ));
        if !confirm(&question)? {
            ui.print("nothing was removed\n")?;
            return Ok(ExitCode::SUCCESS);
        }
    }
    let cleaned = clean(&environment, &steps).map_err(broken)?;
    ui.print(&render(&cleaned, false, ui))?;
    Ok(ExitCode::SUCCESS)
}

/// Whether somebody is there to be asked.
pub fn is_attended() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// Asks, and waits for a line that begins with a `y`.
pub fn confirm(question: &str) -> Result<bool, CommandError> {
    let mut out = std::io::stderr().lock();
    out.write_all(question.as_bytes())?;
    out.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim_start().starts_with(['y', 'Y']))
}

/// Empties the places where files were set aside and where failed recipes' outputs are.
fn clean_aside(
    workspace: &Workspace,
    arguments: &CleanArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let mut out = String::new();
    let (mut count, mut bytes) = (0, 0);
    let mut kept = Vec::new();
    for place in [ASIDE, FAILED] {
        let folder = workspace.location.root.join(place);
        let mut names: Vec<_> = std::fs::read_dir(&folder)
            .into_iter()
            .flatten()
            .flatten()
            .collect();
        names.sort_by_key(std::fs::DirEntry::file_name);
        for entry in names {
            let (files, size) = measure(&entry.path());
            count += files;
            bytes += size;
            let name = names::os_to_text(&entry.file_name()).into_owned();
            out.push_str(&format!(
                "{:>8}  {}\n",
                text::bytes(ByteSize(size)),
                text::safe(&format!("{place}/{name}"))
            ));
            kept.push(format!("{place}/{name}"));
        }
    }
    if kept.is_empty() {
        ui.print("nothing was set aside\n")?;
        return Ok(ExitCode::SUCCESS);
    }
    let sum = format!(
        "{}, {}",
        text::count(count, "file"),
        text::bytes(ByteSize(bytes))
    );
    if arguments.preview {
        ui.print(&format!("{out}{sum} would be removed\n"))?;
        return Ok(ExitCode::SUCCESS);
    }
    if !arguments.yes && is_attended() && !confirm(&format!("{out}{sum}; remove them? [y/N] "))? {
        ui.print("nothing was removed\n")?;
        return Ok(ExitCode::SUCCESS);
    }
    for path in kept {
        remove(&workspace.disk, &path)
            .map_err(|error| CommandError::io(format!("can't remove `{path}`"), error))?;
    }
    ui.print(&format!("{out}{sum} removed\n"))?;
    Ok(ExitCode::SUCCESS)
}

/// How many files lie below a path, and how large they are together.
fn measure(path: &Path) -> (usize, u64) {
    let Ok(found) = path.symlink_metadata() else {
        return (0, 0);
    };
    if !found.is_dir() {
        return (1, found.len());
    }
    let inside = std::fs::read_dir(path).into_iter().flatten().flatten();
    inside
        .map(|entry| measure(&entry.path()))
        .fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1))
}

/// The recorded steps without what is guarded, which is only taken away by its name.
fn without_guarded(
    workspace: &Workspace,
    recorded: Vec<String>,
    ui: Ui,
) -> Result<Vec<String>, CommandError> {
    let says = |word: &str| {
        let mut sources = workspace.description.sources.iter();
        sources.any(|(_, source)| source.text.contains(word))
    };
    if !says("guarded") {
        if says("except") {
            // Working it out tells what does not count of whole folders; where it can't be, more is left.
            let _ = ReadOnlyProject::at_opened(workspace, ui, |_| Ok(()));
        }
        return Ok(recorded);
    }
    ReadOnlyProject::at_opened(workspace, ui, |read_only| {
        let project = read_only.project;
        let is_guarded = |name: &String| {
            let path = project.paths.find(name);
            let step = path.and_then(|path| project.maker(path));
            step.is_some_and(|step| {
                project
                    .decl(project.step(step))
                    .clauses
                    .has(Manner::Guarded)
            })
        };
        Ok(recorded
            .iter()
            .filter(|name| !is_guarded(name))
            .cloned()
            .collect())
    })
}

/// The recorded steps to clean.
fn steps(
    workspace: &Workspace,
    arguments: &CleanArguments,
    ui: Ui,
) -> Result<Vec<String>, CommandError> {
    let mut recorded = workspace.ledger.borrow().step_names();
    recorded.sort_unstable();
    if arguments.names.is_empty() && !arguments.leftovers {
        return without_guarded(workspace, recorded, ui);
    }
    // What lists from commands hold now decides what is still described.
    let asking = Asking {
        ask: arguments.leftovers,
    };
    ReadOnlyProject::at_opened_asking(workspace, asking, ui, |read_only| {
        let project = read_only.project;
        if arguments.leftovers {
            let described = |name: &String| {
                project
                    .paths
                    .find(name)
                    .and_then(|path| project.maker(path))
                    .is_some_and(|step| project.step_name(step) == name)
            };
            return Ok(recorded
                .into_iter()
                .filter(|name| !described(name))
                .collect());
        }
        let found = goals(
            project,
            &BuildRequest {
                names: arguments.names.clone(),
                folder: workspace.location.folder.clone(),
                ..BuildRequest::default()
            },
        );
        if !found.unknown.is_empty() {
            return Err(project::wrong(workspace, found.unknown));
        }
        Ok(found
            .nodes
            .iter()
            .filter_map(|node| match node.node(project) {
                Node::Step(step) => Some(project.step_name(step).to_owned()),
                _ => None,
            })
            .collect())
    })
}

fn render(cleaned: &[Cleaned], foreseen: bool, ui: Ui) -> String {
    let mut out = String::new();
    let (mut files, mut folders, mut left) = (0, 0, 0);
    for one in cleaned {
        let (word, role, path, why) = match one {
            Cleaned::Removed(path) => {
                files += 1;
                (
                    if foreseen { "would go" } else { "removed" },
                    Role::Faint,
                    path,
                    "",
                )
            }
            Cleaned::FolderRemoved(path) => {
                folders += 1;
                ("removed", Role::Faint, path, "  the folder is empty now")
            }
            Cleaned::Edited(path) => {
                left += 1;
                (
                    "left",
                    Role::Held,
                    path,
                    "  it was edited since it was made",
                )
            }
        };
        let is_shown = ui.detail == Detail::Verbose || (foreseen && files <= SHOWN);
        if is_shown || matches!(one, Cleaned::Edited(_)) {
            let mark = ui.out.paint(role, &format!("{word:>8}"));
            out.push_str(&format!("{mark}  {}{why}\n", text::safe(path)));
        }
    }
    let removed = if foreseen {
        "would be removed"
    } else {
        "removed"
    };
    if foreseen && files > SHOWN && ui.detail != Detail::Verbose {
        out.push_str(&format!(
            "          … and {} more; `-v` names them\n",
            files - SHOWN
        ));
    }
    let mut parts = vec![format!("{} {removed}", text::count(files, "file"))];
    if folders > 0 {
        parts.push(format!("{} removed", text::count(folders, "empty folder")));
    }
    if left > 0 {
        parts.push(format!("{} left", text::count(left, "edited file")));
    }
    if ui.detail != Detail::Quiet {
        out.push_str(&format!("{}\n", parts.join(", ")));
    }
    out
}
