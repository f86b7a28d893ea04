//! `handloom clean`: take away what was made.

use std::process::ExitCode;

use handloom_core::graph::Node;
use handloom_core::weave::Asked;
use handloom_core::weave::Cleaned;
use handloom_core::weave::goals;

use crate::arguments::CleanArguments;
use crate::arguments::Common;
use crate::commands::looking::Looking;
use crate::commands::running;
use crate::context::Located;
use crate::context::Opened;
use crate::failure::Failure;
use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// Carries the command out.
pub fn run(common: &Common, arguments: &CleanArguments, ui: Ui) -> Result<ExitCode, Failure> {
    let located = Located::find(common)?;
    if !located.own().is_dir() {
        ui.print("nothing was made yet\n")?;
        return Ok(ExitCode::SUCCESS);
    }
    let (_lock, opened) = running::open(common, located, arguments.no_wait, ui)?;
    let steps = steps(&opened, arguments, ui)?;
    let around = opened.around();
    let cleaned = handloom_core::weave::clean(&around, &steps)
        .map_err(|(path, error)| Failure::io(format!("can't remove `{path}`"), error))?;
    ui.print(&render(&cleaned, ui))?;
    Ok(ExitCode::SUCCESS)
}

/// The recorded steps to clean.
fn steps(opened: &Opened, arguments: &CleanArguments, ui: Ui) -> Result<Vec<String>, Failure> {
    let mut recorded = opened.ledger.borrow().step_names();
    recorded.sort_unstable();
    if arguments.names.is_empty() && !arguments.leftovers {
        return Ok(recorded);
    }
    Looking::at_opened(opened, ui, |looking| {
        let project = looking.project;
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
            &Asked {
                names: arguments.names.clone(),
                folder: opened.located.folder.clone(),
                ..Asked::default()
            },
        );
        if !found.unknown.is_empty() {
            return Err(opened.wrong(found.unknown));
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

fn render(cleaned: &[Cleaned], ui: Ui) -> String {
    let mut out = String::new();
    let (mut files, mut folders, mut left) = (0, 0, 0);
    for one in cleaned {
        let (word, role, path, why) = match one {
            Cleaned::Removed(path) => {
                files += 1;
                ("removed", Role::Faint, path, "")
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
        if ui.detail == Detail::Verbose || matches!(one, Cleaned::Edited(_)) {
            let mark = ui.out.paint(role, &format!("{word:>7}"));
            out.push_str(&format!("{mark}  {}{why}\n", text::safe(path)));
        }
    }
    let mut parts = vec![format!("{} removed", text::count(files, "file"))];
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
