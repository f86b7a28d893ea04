//! `handloom lineage --again`: a file made anew from its recorded sources in an empty folder, and compared.
//!
//! The folder gets the description, what that takes values from, and the sources of the file's lineage, and nothing else of the
//! project: a recipe that reads what it does not name fails there, or makes something else. No store of results is asked.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::lineage::DifferenceKind;
use handloom_core::lineage::InputOrigin;
use handloom_core::lineage::Lineage;
use handloom_core::lineage::LineageStep;
use handloom_core::world::Digest;
use handloom_core::world::names;

use crate::arguments::Common;
use crate::arguments::LineageArguments;
use crate::arguments::RunningArguments;
use crate::commands::lineage::CheckResult;
use crate::commands::lineage::check_text;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::running;
use crate::failure::CommandError;
use crate::failure::RECIPE;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// Makes a folder that is to be written into and is empty.
pub fn make_empty(folder: &Path) -> Result<(), CommandError> {
    let broken = |error| CommandError::io(format!("can't write to `{}`", folder.display()), error);
    if folder.symlink_metadata().is_ok() {
        let mut entries = folder.read_dir().map_err(broken)?;
        if entries.next().is_some() {
            return Err(CommandError::usage(
                format!("`{}` is not empty", folder.display()),
                "name a folder that is not there yet, or is empty",
            ));
        }
    }
    fs::create_dir_all(folder).map_err(broken)
}

/// Brings what the file is made from into an empty folder; how many files.
pub fn prepare(
    read_only: &ReadOnlyProject<'_, '_>,
    lineage: &Lineage,
    found: &CheckResult,
    folder: &Path,
) -> Result<usize, CommandError> {
    // That an output was edited or is gone since does not matter: it is made anew.
    let is_in_the_way = |kind| {
        !matches!(
            kind,
            DifferenceKind::OutputChanged | DifferenceKind::OutputMissing
        )
    };
    let in_the_way = CheckResult {
        files: found
            .files
            .iter()
            .filter(|one| is_in_the_way(one.kind))
            .cloned()
            .collect(),
        steps: found.steps.clone(),
    };
    if !in_the_way.is_empty() {
        return Err(CommandError::usage(
            format!(
                "what it was made from is not there any more as it was\n{}",
                check_text(lineage, &in_the_way, Ui::silent()).trim_end()
            ),
            "make the file first, give the same `--let`, or go back to the commit that `handloom lineage` names",
        ));
    }
    let workspace = read_only.workspace;
    let root = &workspace.location.root;
    let mut files: BTreeSet<String> = workspace.description.files.iter().cloned().collect();
    let answered = read_only.environment.answered_files();
    files.extend(answered.into_iter().map(|file| file.path));
    files.extend(read_only.data_files());
    let inputs = lineage.steps.iter().flat_map(LineageStep::inputs);
    let sources = inputs.filter(|input| matches!(input.from, InputOrigin::Source(_)));
    files.extend(sources.map(|input| input.file.path.clone()));
    let inside = |file: &String| !file.starts_with('/') && !file.starts_with("../");
    files.retain(|file| inside(file) && root.join(names::to_path(file)).exists());
    make_empty(folder)?;
    for file in &files {
        copy(root, folder, file).map_err(|error| {
            let what = format!("can't copy `{file}` to `{}`", folder.display());
            CommandError::io(what, error)
        })?;
    }
    Ok(files.len())
}

/// Copies a file, or all that lies in a folder, as whoever reads it sees it.
fn copy(root: &Path, to: &Path, file: &str) -> io::Result<()> {
    let path = names::to_path(file);
    let (from, target) = (root.join(&path), to.join(&path));
    if let Some(folder) = target.parent() {
        fs::create_dir_all(folder)?;
    }
    if !file.ends_with('/') {
        return fs::copy(from, target).map(|_| ());
    }
    fs::create_dir_all(&target)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let name = entry.file_name();
        let name = names::os_to_text(&name);
        let slash = if entry.path().is_dir() { "/" } else { "" };
        copy(root, to, &format!("{file}{name}{slash}"))?;
    }
    Ok(())
}

/// Makes the file in the folder that was prepared, and compares each file on the way.
pub fn make_and_compare(
    common: &Common,
    arguments: &LineageArguments,
    lineage: &Lineage,
    copied: usize,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let Some(folder) = &arguments.again else {
        return Ok(ExitCode::SUCCESS);
    };
    ui.say(&format!(
        "making {} anew in {} from {}\n",
        text::safe(&lineage.file),
        folder.display(),
        text::count(copied, "file"),
    ));
    let there = Common {
        project: Some(folder.clone()),
        ..common.clone()
    };
    let work = running::Work {
        names: vec![lineage.file.clone()],
        call: None,
        again: false,
        running: &RunningArguments {
            jobs: arguments.jobs,
            on_failure: None,
            output: None,
            events: None,
            on: None,
            watched: false,
            sealed: false,
            twice: false,
            no_store: true,
            no_wait: false,
        },
    };
    let ended = running::weave(&there, project::locate(&there)?, &work, ui)?;
    if ended != ExitCode::SUCCESS {
        return Ok(ended);
    }
    let differing = differing(&there, lineage, ui)?;
    let root = project::locate(common)?.root;
    let names_folder = |path: &str| names_folder(&root, path);
    ui.print(&told(lineage, &differing, &names_folder, ui))?;
    Ok(match differing.is_empty() {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(RECIPE),
    })
}

/// An output that came out differently.
struct Differing<'a> {
    path: &'a str,
    /// Whether all that it was made from came out the same.
    is_first: bool,
}

/// What came out differently, as the ledger of the folder has it: also of what is taken away again.
fn differing<'a>(
    there: &Common,
    lineage: &'a Lineage,
    ui: Ui,
) -> Result<Vec<Differing<'a>>, CommandError> {
    let workspace = project::read(there, ui)?;
    let ledger = workspace.ledger.borrow();
    let mut differing = Vec::new();
    let mut has_other: Vec<bool> = Vec::with_capacity(lineage.steps.len());
    for step in &lineage.steps {
        let made: Vec<(&str, Option<Digest>)> = match ledger.step(&step.name) {
            Some(record) => record
                .outputs()
                .map(|edge| (edge.path, edge.digest))
                .collect(),
            None => Vec::new(),
        };
        let is_first = step.inputs().all(|input| match input.from {
            InputOrigin::Step(from) | InputOrigin::MadeAnewSince(from) => !has_other[from],
            InputOrigin::Source(_) => true,
        });
        let before = differing.len();
        for output in &step.outputs {
            if !made.contains(&(output.path.as_str(), output.content)) {
                differing.push(Differing {
                    path: &output.path,
                    is_first,
                });
            }
        }
        has_other.push(differing.len() > before);
    }
    Ok(differing)
}

/// Whether a file of a project holds the name of the project's folder: it comes out differently in any other.
fn names_folder(root: &Path, path: &str) -> bool {
    let name = root.as_os_str().as_bytes();
    let file = fs::read(root.join(names::to_path(path)));
    file.is_ok_and(|bytes| bytes.windows(name.len()).any(|part| part == name))
}

fn told(
    lineage: &Lineage,
    differing: &[Differing<'_>],
    names_folder: &dyn Fn(&str) -> bool,
    ui: Ui,
) -> String {
    let file = ui.out.paint(Role::Name, &text::safe(&lineage.file));
    if differing.is_empty() {
        let outputs = lineage.steps.iter().map(|step| step.outputs.len()).sum();
        return format!(
            "{file} came out the same, byte for byte, and so did all on the way: {} of {}\n",
            text::count(outputs, "file"),
            text::count(lineage.steps.len(), "step"),
        );
    }
    let is_same = differing.iter().all(|one| one.path != lineage.file);
    let mut out = format!(
        "{file} came out {}\n",
        if is_same {
            "the same, byte for byte, but not all on the way did"
        } else {
            "differently"
        }
    );
    for one in differing {
        let path = ui.out.paint(Role::Name, &text::safe(one.path));
        let what = if one.is_first && names_folder(one.path) {
            "differs: it holds the name of the folder that it was made in"
        } else if one.is_first {
            "differs, although it was made from the same"
        } else {
            "differs, as does something that it was made from"
        };
        out.push_str(&format!("  {path} {what}\n"));
    }
    out
}
