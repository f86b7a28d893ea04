//! `handloom demo`: the demonstration project, written out and woven.

use std::path::Path;
use std::process::ExitCode;

use include_dir::Dir;
use include_dir::include_dir;

use crate::arguments::Common;
use crate::arguments::DemoArguments;
use crate::commands::running;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;

static ALMANAC: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../examples/almanac");

/// The programs that its recipes call.
const TOOLS: [&str; 4] = ["cc", "sh", "awk", "sort"];

/// Carries the command out.
pub fn run(common: &Common, arguments: &DemoArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let missing: Vec<&str> = TOOLS
        .iter()
        .copied()
        .filter(|tool| !is_there(tool))
        .collect();
    if !missing.is_empty() {
        return Err(CommandError::usage(
            format!(
                "the demonstration needs programs that are not on this machine: {}",
                missing.join(", ")
            ),
            "install them with the system's package manager; `cc` comes with any C compiler",
        ));
    }
    let folder = match &common.project {
        Some(project) => project.join(&arguments.folder),
        None => arguments.folder.clone(),
    };
    let shown = folder.display().to_string();
    if folder.join("hand.loom").exists() {
        ui.print(&format!(
            "`{shown}` holds a project already; it is woven as it is\n\n"
        ))?;
    } else {
        write_out(&folder)?;
        ui.print(&format!("wrote the demonstration project to `{shown}`\n\n"))?;
    }
    let common = Common {
        project: Some(folder),
        ..common.clone()
    };
    let work = running::Work {
        names: Vec::new(),
        call: None,
        again: false,
        running: &arguments.running,
    };
    let code = running::weave(&common, project::locate(&common)?, &work, ui)?;
    if code == ExitCode::SUCCESS {
        ui.print(&next(&shown, ui))?;
    }
    Ok(code)
}

fn is_there(tool: &str) -> bool {
    std::env::var_os("PATH")
        .is_some_and(|path| std::env::split_paths(&path).any(|folder| folder.join(tool).is_file()))
}

fn write_out(folder: &Path) -> Result<(), CommandError> {
    let broken = |error| CommandError::io(format!("can't write to `{}`", folder.display()), error);
    if folder.exists() {
        let mut entries = folder.read_dir().map_err(broken)?;
        if entries.next().is_some() {
            return Err(CommandError::usage(
                format!("`{}` is not empty", folder.display()),
                "name a folder that is not there yet: `handloom demo FOLDER`",
            ));
        }
    }
    std::fs::create_dir_all(folder).map_err(broken)?;
    ALMANAC.extract(folder).map_err(broken)
}

fn next(shown: &str, ui: Ui) -> String {
    let name = |text: &str| ui.out.paint(Role::Name, text);
    let rows = [
        (format!("cd {shown}"), ""),
        ("handloom".to_owned(), "again: nothing has a reason to run"),
        ("handloom list".to_owned(), "what can be made and run"),
        (
            "echo '# seen' >> logs/dunmarrow.csv; handloom".to_owned(),
            "a comment more in one log: cleaned again, and all behind it spared",
        ),
        (
            "handloom --let mode=debug".to_owned(),
            "other flags: only what is compiled with them",
        ),
        ("handloom check".to_owned(), "the calculator's own tests"),
        ("handloom graph".to_owned(), "what is made from what"),
        (
            "handloom report".to_owned(),
            "where the last run spent its time",
        ),
        ("handloom watch".to_owned(), "weave again at every change"),
    ];
    let width = rows
        .iter()
        .map(|(command, _)| command.len())
        .max()
        .unwrap_or(0);
    let mut out = format!(
        "\nThe almanac is in {}. Try next:\n",
        name(&format!("{shown}/out/almanac.html"))
    );
    for (command, what) in rows {
        let pad = width - command.len();
        out.push_str(format!("  {}{:pad$}  {what}\n", name(&command), "").trim_end());
        out.push('\n');
    }
    out
}
