//! `handloom sketch`: first scripts for prerequisites that are missing.

mod templates;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::language::Group;
use handloom_core::project::Need;
use handloom_core::project::Project;

use self::templates::LabelledFiles;
use self::templates::ScriptFacts;
use self::templates::ScriptLanguage;
use crate::arguments::Asking;
use crate::arguments::Common;
use crate::arguments::SketchArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::ui::Ui;
use crate::ui::text;

/// Carries the command out.
pub fn run(common: &Common, arguments: &SketchArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let (root, missing) = ReadOnlyProject::at(common, Asking::default(), ui, |read| {
        let root = read.workspace.location.root.clone();
        let missing = missing(read.project, &root);
        Ok((root, missing))
    })?;
    let wanted: Vec<&str> = match &arguments.files[..] {
        [] => missing.keys().map(String::as_str).collect(),
        files => files
            .iter()
            .map(|file| file.trim_start_matches("./"))
            .collect(),
    };
    let mut sketches = Vec::new();
    let mut others = Vec::new();
    for file in wanted {
        match (missing.get(file), ScriptLanguage::of(file)) {
            (Some(facts), Some(language)) => sketches.push((file, facts, language)),
            (Some(_), None) if arguments.files.is_empty() => others.push(file),
            (Some(_), None) => {
                return Err(CommandError::usage(
                    format!("`{file}` does not end like a script that can be sketched"),
                    format!("such names end in {}", ScriptLanguage::endings()),
                ));
            }
            (None, _) if root.join(file).symlink_metadata().is_ok() => {
                return Err(CommandError::usage(
                    format!("`{file}` is there already"),
                    "nothing is written over; only what is missing is sketched",
                ));
            }
            (None, _) => {
                return Err(CommandError::usage(
                    format!("`{file}` is no prerequisite that is missing"),
                    format!(
                        "put it behind `needs` of what it makes, as seen from {}",
                        root.display()
                    ),
                ));
            }
        }
    }
    let mut told = String::new();
    for (file, facts, language) in &sketches {
        write(&root.join(file), &language.sketch(file, facts))?;
        let file = text::safe(file);
        told.push_str(&format!(
            "wrote `{file}` for {}: fill it in\n",
            facts.used_by()
        ));
    }
    for file in &others {
        told.push_str(&format!(
            "`{}` is missing too, and no script\n",
            text::safe(file)
        ));
    }
    if sketches.is_empty() && others.is_empty() {
        told.push_str("every prerequisite that is a script is there\n");
    }
    ui.print(&told)?;
    Ok(ExitCode::SUCCESS)
}

/// Writes a new file that may be run.
fn write(path: &Path, script: &str) -> Result<(), CommandError> {
    let broken = |error| CommandError::io(format!("can't write `{}`", path.display()), error);
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(broken)?;
    }
    let mut options = fs::OpenOptions::new();
    let mut file = options
        .write(true)
        .create_new(true)
        .mode(0o777)
        .open(path)
        .map_err(broken)?;
    file.write_all(script.as_bytes()).map_err(broken)
}

/// Prerequisites that are not there and that nothing makes, with the first step that needs each.
fn missing(project: &Project<'_>, root: &Path) -> BTreeMap<String, ScriptFacts> {
    let mut missing: BTreeMap<String, ScriptFacts> = BTreeMap::new();
    let mut note = |needs: &[Need], facts: &dyn Fn() -> ScriptFacts| {
        for (_, path) in project.open_needs(needs) {
            let name = project.paths.get(path);
            let is_file = !name.ends_with('/') && project.maker(path).is_none();
            if !is_file || root.join(name).symlink_metadata().is_ok() {
                continue;
            }
            let known = missing.entry(name.to_owned()).or_insert_with(facts);
            known.uses += 1;
        }
    };
    for step in &project.steps {
        let decl = project.decl(step);
        let needs = project.step_needs(step);
        let facts = || {
            let outputs = project.step_outputs(step);
            let outputs = outputs
                .iter()
                .map(|&(group, path)| (group, project.paths.get(path).to_owned()));
            let groups: Vec<&Group> = decl.syntax.outputs.iter().collect();
            ScriptFacts {
                about: decl.clauses.about.map(str::to_owned),
                task: None,
                outputs: labelled(outputs, &groups),
                needs: labelled(names(project, needs), &decl.clauses.needs),
                uses: 0,
            }
        };
        note(needs, &facts);
    }
    for task in &project.tasks {
        let facts = || ScriptFacts {
            about: task.decl.clauses.about.map(str::to_owned),
            task: Some(task.name.clone()),
            outputs: Vec::new(),
            needs: labelled(names(project, &task.needs), &task.decl.clauses.needs),
            uses: 0,
        };
        note(&task.needs, &facts);
    }
    missing
}

fn names<'p>(
    project: &'p Project<'_>,
    needs: &'p [Need],
) -> impl Iterator<Item = (u16, String)> + 'p {
    project
        .open_needs(needs)
        .map(|(group, path)| (group, project.paths.get(path).to_owned()))
}

/// Paths by the labels that they were written under.
fn labelled(paths: impl Iterator<Item = (u16, String)>, groups: &[&Group]) -> Vec<LabelledFiles> {
    let mut all: Vec<LabelledFiles> = Vec::new();
    for (group, path) in paths {
        let label = groups
            .get(usize::from(group))
            .and_then(|group| group.label.as_ref())
            .map(|label| label.text.to_string());
        match all.iter_mut().find(|known| known.name == label) {
            Some(known) => known.paths.push(path),
            None => all.push(LabelledFiles {
                name: label,
                paths: vec![path],
            }),
        }
    }
    all
}
