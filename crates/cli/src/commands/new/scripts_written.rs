//! Scripts in the words of a description.

use std::collections::BTreeSet;
use std::fmt::Write;

use handloom_core::executor::watching::kernel::hands_calls_over;

use super::script_tokens::Dialect;
use super::scripts::FoundScript;
use super::scripts::is_pattern;
use super::section::Names;
use super::section::Section;
use super::section::clause;
use super::section::group;
use super::section::word;
use super::survey::is_installed;
use super::survey::stem_of;
use crate::ui::text;

/// The interpreter's variable and program.
fn interpreter(dialect: Dialect) -> (&'static str, &'static str) {
    match dialect {
        Dialect::Python => ("python", "python3"),
        Dialect::R => ("rscript", "Rscript"),
    }
}

/// All scripts as targets and tasks, with what is missing for them.
pub fn written(scripts: &[FoundScript], names: &mut Names) -> Section {
    let mut section = Section::default();
    let mut held_back: BTreeSet<&String> = BTreeSet::new();
    let count = |dialect| {
        let of = scripts.iter().filter(|script| script.dialect == dialect);
        of.count()
    };
    let kinds = [(Dialect::Python, "Python script"), (Dialect::R, "R script")];
    let told: Vec<String> = kinds
        .into_iter()
        .filter(|(dialect, _)| count(*dialect) > 0)
        .map(|(dialect, kind)| text::count(count(dialect), kind))
        .collect();
    section.told = told.join(" and ");
    for (dialect, _) in kinds.into_iter().filter(|(dialect, _)| count(*dialect) > 0) {
        let (name, program) = interpreter(dialect);
        section
            .lets
            .push((name, format!("let {name} = {program}\n")));
    }
    for script in scripts {
        section.covers.push(script.path.clone());
        section.covers.extend(script.modules.iter().cloned());
        let (_, program) = interpreter(script.dialect);
        let lacks = match (is_installed(program), &script.missing[..]) {
            (false, _) => Some(format!("`{program}` is not on this machine")),
            (true, []) => None,
            (true, missing) => Some(format!(
                "{program} does not have {}",
                missing
                    .iter()
                    .map(|name| format!("`{name}`"))
                    .collect::<Vec<_>>()
                    .join(", ")
            )),
        };
        let waits = script.reads.iter().any(|path| held_back.contains(path));
        if let Some(lacks) = &lacks {
            section
                .missing
                .push(format!("{lacks}; `{}` needs it", script.path));
        }
        section.body.push('\n');
        match &script.task {
            Some(why) => task(script, why, names, &mut section.body),
            None => {
                step(script, lacks.as_deref(), &mut section.body);
                if lacks.is_some() || waits {
                    section.holds_back = true;
                    held_back.extend(&script.writes);
                } else {
                    section
                        .default
                        .extend(script.writes.iter().map(|path| word(path)));
                }
            }
        }
    }
    syntax(scripts, names, &mut section);
    section
}

/// The words that run a script.
fn call(script: &FoundScript, name: &str) -> String {
    let (variable, _) = interpreter(script.dialect);
    let dot = if script.path.starts_with('-') {
        "./"
    } else {
        ""
    };
    format!("@{{{variable}}} {dot}@{{{name}}}")
}

fn step(script: &FoundScript, lacks: Option<&str>, body: &mut String) {
    if let Some(lacks) = lacks {
        let _ = writeln!(body, "# Not made by `handloom` alone: {lacks}.");
    }
    let outputs: Vec<String> = script.writes.iter().map(|path| word(path)).collect();
    let _ = writeln!(body, "target {}", outputs.join(" "));
    let made_by = || format!("Made by {}", script.path.escape_debug());
    let _ = writeln!(
        body,
        "  about: {}",
        script.about.clone().unwrap_or_else(made_by)
    );
    let _ = writeln!(body, "  needs\n    script: {}", word(&script.path));
    for (label, paths) in [("data", &script.reads), ("modules", &script.modules)] {
        let words = paths.iter().map(|path| match is_pattern(path) {
            true => path.clone(),
            false => word(path),
        });
        body.push_str(&group(label, &words.collect::<Vec<_>>()));
    }
    if script.found.is_unclear {
        body.push_str(match hands_calls_over() {
            true => "  # It names some of its files while it runs: what it reads is seen by watching it.\n  learn watched\n",
            false => "  # It names some of its files while it runs: add what it reads to its needs.\n",
        });
    }
    if !script.folder.is_empty() {
        let _ = writeln!(body, "  in {}", word(script.folder.trim_end_matches('/')));
    }
    let _ = writeln!(body, "  recipe: {}", call(script, "script"));
}

fn task(script: &FoundScript, why: &str, names: &mut Names, body: &mut String) {
    let name = names.task(stem_of(&script.path), "script");
    let _ = writeln!(
        body,
        "# {} A file that it makes would be a `target`.",
        why.escape_debug()
    );
    let _ = writeln!(body, "task {name}");
    let runs = || format!("Run {}", script.path.escape_debug());
    let _ = writeln!(
        body,
        "  about: {}",
        script.about.clone().unwrap_or_else(runs)
    );
    let _ = writeln!(body, "  needs {}", word(&script.path));
    if !script.folder.is_empty() {
        let _ = writeln!(body, "  in {}", word(script.folder.trim_end_matches('/')));
    }
    let _ = writeln!(body, "  recipe: {} @{{extra}}", call(script, "needs"));
}

/// A task that finds mistakes in Python scripts without running them.
fn syntax(scripts: &[FoundScript], names: &mut Names, section: &mut Section) {
    let python = scripts
        .iter()
        .filter(|script| script.dialect == Dialect::Python);
    let files: BTreeSet<&String> = python
        .flat_map(|script| std::iter::once(&script.path).chain(&script.modules))
        .collect();
    if files.is_empty() {
        return;
    }
    let name = names.task("syntax", "python");
    let words: Vec<String> = files.into_iter().map(|path| word(path)).collect();
    let _ = write!(
        section.body,
        "
task {name}
  about: See that Python can read the scripts
{}  remember
  recipe with @{{python}}:
    for path in @{{needs}}:
        with open(path, 'rb') as file:
            compile(file.read(), path, 'exec')
",
        clause("needs", &words)
    );
    if section.default.is_empty() && is_installed("python3") {
        section.default.push(name);
        section.holds_back = true;
    }
}
