//! `handloom tidy`: lay the descriptions of a project out in the one standard way.

use std::process::ExitCode;

use handloom_core::language::tidy;

use crate::arguments::Common;
use crate::arguments::TidyArguments;
use crate::commands::mend;
use crate::failure::CommandError;
use crate::failure::RECIPE;
use crate::project;
use crate::ui::Ui;
use crate::ui::text;

/// Carries the command out.
pub fn run(common: &Common, arguments: &TidyArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    if arguments.mend {
        return mend::run(common, arguments, ui);
    }
    let workspace = project::read(common, ui)?;
    let mut changed = 0;
    for name in &workspace.description.files {
        let path = workspace.location.root.join(name);
        let before = std::fs::read_to_string(&path)
            .map_err(|error| CommandError::io(format!("can't read `{name}`"), error))?;
        let Some(after) = tidy(&before) else { continue };
        if after == before {
            continue;
        }
        changed += 1;
        if arguments.check {
            ui.print(&format!(
                "{} is not laid out in the standard way\n",
                text::safe(name)
            ))?;
            continue;
        }
        project::write_description(&path, name, &after)?;
        ui.print(&format!("laid out {}\n", text::safe(name)))?;
    }
    if changed == 0 {
        ui.print("all is laid out in the standard way\n")?;
    } else if arguments.check {
        return Ok(ExitCode::from(RECIPE));
    }
    Ok(ExitCode::SUCCESS)
}
