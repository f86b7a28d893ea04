//! `handloom new`: a first description that fits what is there.

mod builders;
mod commands;
mod compiled;
mod documents;
mod path_values;
mod python_package;
mod script_calls;
mod script_imports;
mod script_paths;
mod script_tokens;
mod scripts;
mod scripts_written;
mod section;
mod shell;
mod survey;
mod units;

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::collections::HashSet;
use std::fmt::Write as _;
use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::language;
use handloom_core::project::description::FILE_NAME;

use self::section::Names;
use self::section::Section;
use self::survey::Survey;
pub use self::survey::is_installed;
use crate::arguments::Asking;
use crate::arguments::Common;
use crate::arguments::NewArguments;
use crate::command_line::command_names;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::ui::Ui;
use crate::ui::text;

/// What is looked for, in the order in which it is described.
const FINDERS: [fn(&Survey, &mut Names) -> Option<Section>; 10] = [
    compiled::describe,
    scripts::describe,
    documents::notebooks,
    documents::describe,
    python_package::describe,
    builders::cargo,
    builders::go,
    commands::describe,
    builders::container,
    shell::describe,
];

/// Sources that somebody may expect in a description, and that nothing here knows.
const UNKNOWN: [&str; 21] = [
    "c", "cc", "cpp", "cxx", "s", "S", "rs", "go", "java", "kt", "rb", "jl", "pl", "awk", "asm",
    "f90", "hs", "ml", "lua", "ts", "swift",
];

/// Carries the command out.
pub fn run(common: &Common, arguments: &NewArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let folder = match &common.project {
        Some(project) => project.join(&arguments.folder),
        None => arguments.folder.clone(),
    };
    if arguments.show {
        return show(common, &folder, ui);
    }
    let path = folder.join(FILE_NAME);
    let broken = |error| CommandError::io(format!("can't write `{}`", path.display()), error);
    if path.symlink_metadata().is_ok() {
        return Err(already(&path));
    }
    fs::create_dir_all(&folder).map_err(broken)?;
    let names = Names::new(command_names(), HashSet::new());
    let found = Draft::of(&folder, BTreeSet::new(), names)?;
    let mut file = match fs::File::create_new(&path) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            return Err(already(&path));
        }
        Err(error) => return Err(broken(error)),
    };
    file.write_all(found.loom.as_bytes()).map_err(broken)?;
    let ignored = ignore_outputs(&folder)
        .map_err(|error| CommandError::io("can't write `.gitignore`", error))?;
    let mut told = format!(
        "wrote `{}`{}\n",
        text::safe(
            &path
                .strip_prefix(".")
                .unwrap_or(&path)
                .display()
                .to_string()
        ),
        found.told()
    );
    told.push_str(&found.left());
    if ignored {
        told.push_str("  `/out/` is in `.gitignore` now\n");
    }
    told.push_str("next: `handloom`, and `handloom list` for what can be made and run\n");
    ui.print(&told)?;
    Ok(ExitCode::SUCCESS)
}

fn already(path: &Path) -> CommandError {
    CommandError::usage(
        format!(
            "`{}` is there already",
            path.strip_prefix(".").unwrap_or(path).display()
        ),
        "`handloom list` shows what it describes, `handloom new --show` what else is here and could be described",
    )
}

/// Prints what could be described, and writes nothing.
fn show(common: &Common, folder: &Path, ui: Ui) -> Result<ExitCode, CommandError> {
    if !folder.is_dir() {
        return Err(CommandError::usage(
            format!("`{}` is no folder", folder.display()),
            "`handloom new FOLDER` makes it and writes a first description",
        ));
    }
    let mut taken = HashSet::new();
    let mut described = BTreeSet::new();
    let has_description = folder.join(FILE_NAME).symlink_metadata().is_ok();
    if has_description {
        let common = Common {
            project: Some(folder.to_owned()),
            ..common.clone()
        };
        ReadOnlyProject::at(&common, Asking::default(), ui, |read| {
            let project = read.project;
            let name = |path| project.paths.get(path).to_owned();
            taken.extend(project.outputs.iter().map(|&(_, path)| name(path)));
            taken.extend(project.tasks.iter().map(|task| task.name.clone()));
            let of_tasks = project.tasks.iter().flat_map(|task| &task.needs);
            for needs in project.needs.iter().chain(of_tasks) {
                let all = project.open_needs(std::slice::from_ref(needs));
                described.extend(all.map(|(_, path)| name(path)));
            }
            Ok(())
        })?;
    }
    let found = Draft::of(folder, described, Names::new(command_names(), taken))?;
    if has_description && found.sections.iter().all(|section| section.body.is_empty()) {
        let what = "there is nothing here that `new` knows and that is not described\n";
        ui.print(&format!("{what}{}", found.left()))?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut told = String::new();
    let _ = writeln!(told, "# could be described{}:", found.told());
    for line in found.left().lines() {
        let _ = writeln!(told, "# {line}");
    }
    told.push('\n');
    told.push_str(&found.loom);
    ui.print(&told)?;
    Ok(ExitCode::SUCCESS)
}

/// What was found in a folder.
struct Draft {
    sections: Vec<Section>,
    loom: String,
    left: Vec<String>,
    missing: Vec<String>,
}

impl Draft {
    /// Without the files that are `described` already.
    fn of(
        folder: &Path,
        described: BTreeSet<String>,
        mut names: Names,
    ) -> Result<Self, CommandError> {
        let survey = Survey::of(folder, described).map_err(|error| {
            CommandError::io(format!("can't read `{}`", folder.display()), error)
        })?;
        let sections: Vec<Section> = FINDERS
            .iter()
            .filter_map(|find| find(&survey, &mut names))
            .collect();
        let mut left: Vec<String> = sections
            .iter()
            .flat_map(|section| section.left.clone())
            .collect();
        let unwritable = survey.unwritable.iter();
        left.extend(unwritable.map(|name| format!("`{name}`: a description can't name it")));
        left.extend(unknown(&survey, &sections));
        let missing = sections.iter().flat_map(|section| section.missing.clone());
        let loom = match sections.iter().all(|section| section.body.is_empty()) {
            true => EMPTY.to_owned(),
            false => section::put_together(&sections, &mut names),
        };
        Ok(Self {
            loom: language::tidy(&loom).unwrap_or(loom),
            left,
            missing: missing.collect(),
            sections,
        })
    }

    /// ` for …`, or nothing.
    fn told(&self) -> String {
        let told: Vec<&str> = self
            .sections
            .iter()
            .map(|section| section.told.as_str())
            .filter(|told| !told.is_empty())
            .collect();
        match &told[..] {
            [] => String::new(),
            [one] => format!(" for {one}"),
            [first @ .., last] => format!(" for {}, and {last}", first.join(", ")),
        }
    }

    /// A line for each that has no description, and for each that will not work yet.
    fn left(&self) -> String {
        const SHOWN: usize = 12;
        let mut out = String::new();
        for (word, list) in [("missing ", &self.missing), ("left out", &self.left)] {
            for line in list.iter().take(SHOWN) {
                let _ = writeln!(out, "  {word} {}", text::safe(line));
            }
            if list.len() > SHOWN {
                let _ = writeln!(out, "  {word} {} more", list.len() - SHOWN);
            }
        }
        out
    }
}

/// Sources that nothing describes, by their ending.
fn unknown(survey: &Survey, sections: &[Section]) -> Vec<String> {
    let covered: HashSet<&str> = sections
        .iter()
        .flat_map(|section| section.covers.iter().map(String::as_str))
        .collect();
    let mut endings: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for path in survey.files().filter(|path| !covered.contains(path)) {
        let ending = path.rsplit_once('.').map_or("", |(_, ending)| ending);
        if UNKNOWN.contains(&ending) {
            endings.entry(ending).or_default().push(path);
        }
    }
    let lines = endings.into_values().map(|paths| match &paths[..] {
        [one] => format!("`{one}`: `new` does not know how it is used"),
        [first, rest @ ..] => format!(
            "`{first}` and {} like it: `new` does not know how they are used",
            rest.len()
        ),
        [] => String::new(),
    });
    lines.collect()
}

/// Keeps what is made out of version control, where this folder is under one; whether that had to be written.
fn ignore_outputs(folder: &Path) -> std::io::Result<bool> {
    let whole = folder.canonicalize()?;
    let mut above = whole.ancestors();
    if !above.any(|above| above.join(".git").symlink_metadata().is_ok()) {
        return Ok(false);
    }
    let path = folder.join(".gitignore");
    let text = match fs::read(&path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Vec::new(),
        text => text?,
    };
    let is_out =
        |line: &[u8]| [&b"/out/"[..], b"out/", b"/out", b"out"].contains(&line.trim_ascii());
    if text.split(|&byte| byte == b'\n').any(is_out) {
        return Ok(false);
    }
    let mut file = fs::OpenOptions::new()
        .create(true)
        .append(true)
        .open(&path)?;
    let newline = if text.is_empty() || text.ends_with(b"\n") {
        ""
    } else {
        "\n"
    };
    file.write_all(format!("{newline}/out/\n").as_bytes())?;
    Ok(true)
}

/// What is written where nothing was found.
const EMPTY: &str =
    "# What is made from what. `handloom` brings it up to date, `handloom list` shows it.

let greeting = \"good evening\"

# The file that is made, what it is made from, and how.
target out/hello.txt
  about: A first target
  needs hand.loom
  recipe: echo @{greeting} > @{target}

# A task makes no file.
task show
  about: Show what was made
  needs out/hello.txt
  recipe: cat @{needs}
";
