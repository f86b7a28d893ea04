//! `handloom accept`: what stands there counts as made from what is there now.

use std::process::ExitCode;

use handloom_core::graph::BuildRequest;
use handloom_core::graph::Node;
use handloom_core::graph::goals;
use handloom_core::status::AcceptError;
use handloom_core::status::accept;

use crate::arguments::AcceptArguments;
use crate::arguments::Asking;
use crate::arguments::Common;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::running;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// Carries the command out.
pub fn run(common: &Common, arguments: &AcceptArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    let (_lock, workspace) = running::open(common, location, arguments.no_wait, ui)?;
    // What is given is compared too.
    let asking = Asking { ask: true };
    let (entries, accepted) =
        ReadOnlyProject::at_opened_asking(&workspace, asking, ui, |read_only| {
            let found = goals(
                read_only.project,
                &BuildRequest {
                    names: arguments.names.clone(),
                    folder: workspace.location.folder.clone(),
                    ..BuildRequest::default()
                },
            );
            if !found.unknown.is_empty() {
                return Err(project::wrong(&workspace, found.unknown));
            }
            let (mut entries, mut accepted) = (Vec::new(), Vec::new());
            for node in &found.nodes {
                let name = node.name(read_only.project);
                let Node::Step(step) = node.node(read_only.project) else {
                    return Err(CommandError::usage(
                        format!("`{name}` is a task, which makes no file"),
                        "name files that targets make",
                    ));
                };
                let taken = accept(
                    read_only.project,
                    read_only.vars,
                    read_only.environment,
                    step,
                );
                read_only.warnings()?;
                entries.extend(taken.map_err(|why| refused(&name, &why))?);
                accepted.push(name);
            }
            entries.extend(read_only.environment.new_outputs());
            Ok((entries, accepted))
        })?;
    let mut ledger = workspace.ledger.borrow_mut();
    let written = ledger.add_all(entries).and_then(|()| ledger.sync());
    written.map_err(|error| CommandError::io("can't write the ledger", error))?;
    let mut out = String::new();
    for name in &accepted {
        let word = ui.out.paint(Role::Same, "accepted");
        out.push_str(&format!("{word}  {}\n", text::safe(name)));
    }
    ui.print(&out)?;
    Ok(ExitCode::SUCCESS)
}

fn refused(name: &str, why: &AcceptError) -> CommandError {
    CommandError::usage(
        format!("`{name}` can't be accepted: {why}"),
        "only what is there can be taken as made from what is there",
    )
}
