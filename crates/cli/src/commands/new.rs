//! `handloom new`: a first description that fits what is there.

use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::project::description::FILE_NAME;

use crate::arguments::NewArguments;
use crate::commands::new_compiled;
use crate::failure::CommandError;
use crate::ui::Ui;

/// Carries the command out.
pub fn run(arguments: &NewArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let folder = &arguments.folder;
    let path = folder.join(FILE_NAME);
    let broken = |error| CommandError::io(format!("can't write `{}`", path.display()), error);
    fs::create_dir_all(folder).map_err(broken)?;
    let (what, loom) = fitting(folder);
    let loom = handloom_core::language::tidy(&loom).unwrap_or(loom);
    let mut file = match fs::File::create_new(&path) {
        Ok(file) => file,
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            return Err(CommandError::usage(
                format!("`{}` is there already", path.display()),
                "`handloom list` shows what it describes",
            ));
        }
        Err(error) => return Err(broken(error)),
    };
    file.write_all(loom.as_bytes()).map_err(broken)?;
    let ignored = ignore_outputs(folder)
        .map_err(|error| CommandError::io("can't write `.gitignore`", error))?;
    let ignored = match ignored {
        true => "; `/out/` is in `.gitignore` now",
        false => "",
    };
    ui.print(&format!(
        "wrote `{}`{what}; `handloom list` shows what it describes{ignored}\n",
        path.display()
    ))?;
    Ok(ExitCode::SUCCESS)
}

/// Keeps what is made out of version control, where there is one in this folder; whether that had to be written.
fn ignore_outputs(folder: &Path) -> std::io::Result<bool> {
    if folder.join(".git").symlink_metadata().is_err() {
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

/// A folder's files with this extension: in `src/`, or in the folder itself.
fn sources(folder: &Path, extension: &str) -> Option<&'static str> {
    let has = |folder: &Path| {
        fs::read_dir(folder).is_ok_and(|entries| {
            entries.flatten().any(|entry| {
                entry
                    .path()
                    .extension()
                    .is_some_and(|found| found == extension)
            })
        })
    };
    if has(&folder.join("src")) {
        Some("src/")
    } else if has(folder) {
        Some("")
    } else {
        None
    }
}

/// What to tell of it, and the description.
fn fitting(folder: &Path) -> (String, String) {
    if let Some(described) = new_compiled::describe(folder) {
        return described;
    }
    let data = ["data/", "logs/", ""]
        .into_iter()
        .find(|place| sources_in(folder, place, "csv"));
    if let Some(scripts) =
        sources(folder, "py").or_else(|| sources_in(folder, "tools/", "py").then_some("tools/"))
    {
        return (
            " for the Python scripts and data".to_owned(),
            python_project(scripts, data.unwrap_or("data/")),
        );
    }
    (String::new(), empty_project())
}

fn sources_in(folder: &Path, place: &str, extension: &str) -> bool {
    fs::read_dir(folder.join(place)).is_ok_and(|entries| {
        entries.flatten().any(|entry| {
            entry
                .path()
                .extension()
                .is_some_and(|found| found == extension)
        })
    })
}

fn python_project(scripts: &str, data: &str) -> String {
    format!(
        "# What is made from what. `handloom` brings it up to date, `handloom list` shows it.

let python = python3

# One result for each table; the recipe here is Python itself.
target out/tables/<name>.txt
  about: What one table holds, counted
  needs each {data}<name>.csv
  recipe with @{{python}}:
    import csv
    table = @{{needs}}[0]
    with open(table) as source, open(@{{target}}, 'w') as out:
        out.write(f'{{table}}: {{sum(1 for _ in csv.reader(source))}} rows\\n')

target out/report.txt
  about: All results together
  needs out/tables/*.txt
  recipe: cat @{{needs}} > @{{target}}

task check
  about: See that the scripts compile
  needs {scripts}*.py
  recipe: @{{python}} -m py_compile @{{needs}}
"
    )
}

fn empty_project() -> String {
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
"
    .to_owned()
}
