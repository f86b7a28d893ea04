//! `handloom manual`: the manual pages, made from the definitions of the commands.
//!
//! The pages are written in the `man` macros of roff, section 1: `handloom.1`, and one for each command.

use std::io;
use std::path::Path;
use std::process::ExitCode;

use clap_mangen::Man;
use clap_mangen::roff::Roff;
use clap_mangen::roff::roman;

use crate::arguments::ManualArguments;
use crate::arguments::definition;
use crate::failure::CommandError;
use crate::ui::Ui;
use crate::ui::text;

/// What a script wants to know of the program as a whole: term and text.
const ENDINGS: [(&str, &str); 5] = [
    ("0", "Everything asked for is up to date, or was answered."),
    ("1", "A recipe failed."),
    ("2", "The description or the command line is wrong."),
    (
        "3",
        "Hand Loom itself could not go on: a full disk, a ledger that can't be read.",
    ),
    ("130", "Interrupted."),
];
const FILES: [(&str, &str); 4] = [
    (
        "hand.loom",
        "The description, at the root of the project; parts have their own.",
    ),
    (
        ".handloom/",
        "What Hand Loom remembers: the ledger, the last runs, logs, what was moved aside.",
    ),
    ("~/.config/handloom/settings.toml", "The user's settings."),
    (
        "~/.config/handloom/hand.loom",
        "The user's own tasks, which can be run in any project.",
    ),
];
const ENVIRONMENT: [(&str, &str); 3] = [
    (
        "HANDLOOM_LET_name",
        "Sets the variable `name` of the description, as --let does.",
    ),
    (
        "HANDLOOM_JOB",
        "In a recipe: the file that names its targets, needs and variables, as JSON.",
    ),
    ("NO_COLOR", "Set to anything: no colours."),
];

/// Carries the command out.
pub fn run(arguments: &ManualArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let folder = &arguments.folder;
    let broken = |error| CommandError::io(format!("can't write to `{}`", folder.display()), error);
    std::fs::create_dir_all(folder).map_err(broken)?;
    let mut command = definition();
    command.build();
    let mut count = 1;
    write(folder, "handloom.1", &whole(&command).map_err(broken)?).map_err(broken)?;
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("handloom-{}", sub.get_name());
        let mut text = Vec::new();
        man(sub.clone()).render(&mut text).map_err(broken)?;
        write(folder, &format!("{name}.1"), &text).map_err(broken)?;
        count += 1;
    }
    ui.say(&format!(
        "wrote {} to {}; `man -l {}` shows the first\n",
        text::count(count, "manual page"),
        folder.display(),
        folder.join("handloom.1").display()
    ));
    Ok(ExitCode::SUCCESS)
}

fn write(folder: &Path, name: &str, text: &[u8]) -> io::Result<()> {
    std::fs::write(folder.join(name), text)
}

fn man(command: clap::Command) -> Man {
    Man::new(command)
        .source(format!("Hand Loom {}", env!("CARGO_PKG_VERSION")))
        .manual("Hand Loom")
}

/// The page of the program as a whole.
fn whole(command: &clap::Command) -> io::Result<Vec<u8>> {
    let page = man(command.clone());
    let mut out = Vec::new();
    page.render_title(&mut out)?;
    page.render_name_section(&mut out)?;
    page.render_synopsis_section(&mut out)?;
    page.render_description_section(&mut out)?;
    page.render_options_section(&mut out)?;
    page.render_subcommands_section(&mut out)?;
    let mut rest = Roff::new();
    section(&mut rest, "EXIT STATUS", &ENDINGS);
    section(&mut rest, "FILES", &FILES);
    section(&mut rest, "ENVIRONMENT", &ENVIRONMENT);
    rest.to_writer(&mut out)?;
    Ok(out)
}

fn section(page: &mut Roff, title: &str, rows: &[(&str, &str)]) {
    page.control("SH", [title]);
    for (term, words) in rows {
        page.control("TP", []);
        page.text([roman(*term)]);
        page.text([roman(*words)]);
    }
}
