//! `handloom demo`: the demonstration project, written out and woven.

use std::path::Path;
use std::process::ExitCode;

use include_dir::Dir;
use include_dir::include_dir;

use crate::arguments::Common;
use crate::arguments::DemoArguments;
use crate::arguments::Example;
use crate::commands::new::is_installed;
use crate::commands::running;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;

static ALMANAC: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../examples/almanac");
static FOG: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../examples/fog");

/// A demonstration project.
struct Demonstration {
    files: &'static Dir<'static>,
    /// Where it is written when no folder is named.
    folder: &'static str,
    /// The programs that its recipes call, and where they come from.
    programs: &'static [&'static str],
    install: &'static str,
    /// What comes out, for people.
    result: &'static str,
    file: &'static str,
    /// Commands to try, and what they show.
    next: &'static [(&'static str, &'static str)],
    /// How the other one is asked for.
    other: (&'static str, &'static str),
}

static OF_ALMANAC: Demonstration = Demonstration {
    files: &ALMANAC,
    folder: "vellan-almanac",
    programs: &["cc", "sh", "awk", "sort"],
    install: "`cc` comes with any C compiler",
    result: "The almanac",
    file: "out/almanac.html",
    next: &[
        ("handloom", "again: nothing has a reason to run"),
        ("handloom list", "what can be made and run"),
        (
            "echo '# seen' >> logs/dunmarrow.csv; handloom",
            "a comment more in one log: cleaned again, and all behind it spared",
        ),
        (
            "handloom --let mode=debug",
            "other flags: only what is compiled with them",
        ),
        ("handloom check", "the calculator's own tests"),
        ("handloom graph", "what is made from what"),
        ("handloom report", "where the last run spent its time"),
        ("handloom watch", "weave again at every change"),
    ],
    other: (
        "handloom demo --example fog",
        "the other one: a study with samples, a sweep of parameters, figures and a text",
    ),
};

static OF_FOG: Demonstration = Demonstration {
    files: &FOG,
    folder: "vellan-fog",
    programs: &["python3", "sh", "awk", "sort"],
    install: "`python3` needs nothing but its standard library",
    result: "The study",
    file: "out/report.html",
    next: &[
        ("handloom", "again: nothing has a reason to run"),
        (
            "sed -i s/0.7/0.8/ params.toml; handloom",
            "another value of the sweep: only its five lights, and what shows them",
        ),
        (
            "sed -i /^n18/s/fog/haze/ samples.csv; handloom",
            "one night belongs to another weather: two groups",
        ),
        (
            "handloom --let draws=4000",
            "a larger sweep; without it the old one comes back from the store",
        ),
        (
            "handloom why out/figures/ranges.svg",
            "from what, and since when",
        ),
        ("handloom run night n03", "a task with a value"),
        ("handloom list --all", "each step"),
        ("handloom report", "where the last run spent its time"),
    ],
    other: (
        "handloom demo",
        "the other one: a C program, the logs of a year, and a page",
    ),
};

/// Carries the command out.
pub fn run(common: &Common, arguments: &DemoArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let demonstration = match arguments.example {
        Example::Almanac => &OF_ALMANAC,
        Example::Fog => &OF_FOG,
    };
    let missing: Vec<&str> = demonstration
        .programs
        .iter()
        .copied()
        .filter(|tool| !is_installed(tool))
        .collect();
    if !missing.is_empty() {
        return Err(CommandError::usage(
            format!(
                "the demonstration needs programs that are not on this machine: {}",
                missing.join(", ")
            ),
            format!(
                "install them with the system's package manager; {}",
                demonstration.install
            ),
        ));
    }
    let folder = arguments
        .folder
        .clone()
        .unwrap_or_else(|| demonstration.folder.into());
    let folder = match &common.project {
        Some(project) => project.join(folder),
        None => folder,
    };
    let shown = folder.display().to_string();
    if folder.join("hand.loom").exists() {
        ui.print(&format!(
            "`{shown}` holds a project already; it is woven as it is\n\n"
        ))?;
    } else {
        write_out(demonstration.files, &folder)?;
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
        ui.print(&next(demonstration, &shown, ui))?;
    }
    Ok(code)
}

fn write_out(files: &Dir<'_>, folder: &Path) -> Result<(), CommandError> {
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
    files.extract(folder).map_err(broken)
}

fn next(demonstration: &Demonstration, shown: &str, ui: Ui) -> String {
    let name = |text: &str| ui.out.paint(Role::Name, text);
    let enter = format!("cd {shown}");
    let rows = std::iter::once((enter.as_str(), "")).chain(demonstration.next.iter().copied());
    let rows: Vec<(&str, &str)> = rows.collect();
    let width = rows.iter().map(|(command, _)| command.len()).max();
    let width = width.unwrap_or(0);
    let mut out = format!(
        "\n{} is in {}. Try next:\n",
        demonstration.result,
        name(&format!("{shown}/{}", demonstration.file))
    );
    for (command, what) in rows {
        let pad = width - command.len();
        out.push_str(format!("  {}{:pad$}  {what}\n", name(command), "").trim_end());
        out.push('\n');
    }
    let (command, what) = demonstration.other;
    out.push_str(&format!("\n  {}  {what}\n", name(command)));
    out
}
