//! The tests of Python code, and the programs that its manifest promises.

use std::collections::BTreeSet;
use std::fmt::Write;

use toml::Table;
use toml::Value;

use super::commands::Commands;
use super::documents::quoted;
use super::scripts::absent_modules;
use super::section::Names;
use super::section::Section;
use super::section::clause;
use super::section::word;
use super::survey::Survey;
use super::survey::is_installed;
use crate::ui::text;
use handloom_core::world::names::folder_of;

/// The manifest.
const MANIFEST: &str = "pyproject.toml";

/// The packages and tests of a folder.
pub fn describe(survey: &Survey, names: &mut Names) -> Option<Section> {
    let packages: Vec<&str> = survey
        .ending("/__init__.py")
        .filter(|path| {
            let home = folder_of(path).trim_end_matches('/');
            !survey.has(&format!("{}__init__.py", folder_of(home))) && !home.starts_with("test")
        })
        .collect();
    let tests: Vec<&str> = survey
        .ending(".py")
        .filter(|path| {
            let name = &path[folder_of(path).len()..];
            name.starts_with("test_") || name.ends_with("_test.py")
        })
        .collect();
    let manifest = manifest(survey);
    let mut section = Section::default();
    let home = packages
        .iter()
        .map(|path| folder_of(folder_of(path).trim_end_matches('/')));
    let home = home
        .clone()
        .find(|home| *home == "src/")
        .or(home.min())
        .unwrap_or("");
    if !packages.is_empty() {
        section.told = text::count(packages.len(), "Python package");
    }
    let promised = programs(&manifest, home, names, &mut section);
    if !tests.is_empty() {
        check(survey, &tests, home, names, &mut section);
        let tests = text::count(tests.len(), "Python test file");
        section.told = match section.told.is_empty() {
            true => tests,
            false => format!("{} with {tests}", section.told),
        };
    } else if !packages.is_empty() {
        syntax(survey, home, &packages, names, &mut section);
    }
    if promised > 0 {
        let promised = text::count(promised, "program");
        let _ = match section.told.is_empty() {
            true => write!(section.told, "{promised} of `{MANIFEST}`"),
            false => write!(section.told, ", {promised} of `{MANIFEST}`"),
        };
    }
    let files = survey.ending(".py").filter(|path| {
        tests.contains(path)
            || packages
                .iter()
                .any(|package| path.starts_with(folder_of(package)))
    });
    section.covers.extend(files.map(str::to_owned));
    if section.body.is_empty() {
        return None;
    }
    section
        .lets
        .push(("python", "let python = python3\n".to_owned()));
    Some(section)
}

fn manifest(survey: &Survey) -> Table {
    let text = if survey.has(MANIFEST) {
        survey.text(MANIFEST)
    } else {
        String::new()
    };
    text.parse().unwrap_or_default()
}

/// The programs of the manifest's tables; how many.
fn programs(manifest: &Table, home: &str, names: &mut Names, section: &mut Section) -> usize {
    let mut count = 0;
    let table = |table: &Table, keys: &[&str]| -> Table {
        let mut found = table.clone();
        for key in keys {
            found = match found.remove(*key) {
                Some(Value::Table(inner)) => inner,
                _ => return Table::new(),
            };
        }
        found
    };
    for (name, entry) in table(manifest, &["project", "scripts"]) {
        let Some((module, function)) = entry.as_str().and_then(|entry| entry.split_once(':'))
        else {
            section.left.push(format!(
                "`{name}` in `{MANIFEST}`: it is not written as `module:function`"
            ));
            continue;
        };
        let (module, function) = (module.trim(), function.trim());
        let is_name = |text: &str| {
            text.chars()
                .all(|c| c.is_alphanumeric() || matches!(c, '_' | '.'))
        };
        if !is_name(module) || !is_name(function) {
            section.left.push(format!(
                "`{name}` in `{MANIFEST}`: `{module}:{function}` is no function's name"
            ));
            continue;
        }
        let first = function.split('.').next().unwrap_or(function);
        let task = names.task(&name, "program");
        let _ = write!(
            section.body,
            "
task {task}
  about: {}
{}  recipe with sh:
    exec @{{python}} -c 'import sys; from {module} import {first}; sys.exit({function}())' @{{extra}}
",
            about(&name, "The program"),
            search_path(home),
        );
        count += 1;
    }
    let Some(Value::Table(tools)) = manifest.get("tool") else {
        return count;
    };
    for tool in tools.values().filter_map(Value::as_table) {
        for key in ["scripts", "tasks"] {
            let Some(Value::Table(scripts)) = tool.get(key) else {
                continue;
            };
            let commands = scripts.iter().filter_map(|(name, command)| {
                let command = match command {
                    Value::String(command) => Some(command.as_str()),
                    Value::Table(table) => ["cmd", "shell"]
                        .iter()
                        .find_map(|key| table.get(*key)?.as_str()),
                    _ => None,
                }?;
                // `module:function`, as above: another tool's own way to say it.
                let is_function = !command.contains(' ') && command.contains(':');
                (!is_function && !command.contains('\n'))
                    .then(|| (name.clone(), command.to_owned()))
            });
            let commands = Commands {
                all: commands.collect(),
                kind: "python",
                programs: ".venv/bin",
                prefix: search_path(home),
            };
            count += commands.write(names, section);
        }
    }
    count
}

fn about(name: &str, what: &str) -> String {
    let name: String = name.chars().filter(|c| !c.is_control()).collect();
    format!("{what} `{name}`")
}

/// Where the packages are, for those that import them.
fn search_path(home: &str) -> String {
    let home = if home.is_empty() {
        "."
    } else {
        home.trim_end_matches('/')
    };
    format!(
        "  env PYTHONPATH = {}\n  env PYTHONDONTWRITEBYTECODE = 1\n",
        word(home)
    )
}

fn check(survey: &Survey, tests: &[&str], home: &str, names: &mut Names, section: &mut Section) {
    let of_framework = |text: &str| {
        let mut lines = text.lines();
        lines.any(|line| {
            line.starts_with("import pytest")
                || line.starts_with("from pytest")
                || line.starts_with("def test_")
        })
    };
    let wants_framework = tests.iter().any(|path| of_framework(&survey.text(path)));
    let folders: BTreeSet<&str> = tests.iter().map(|path| folder_of(path)).collect();
    let task = names.task("check", "python");
    let recipe = if wants_framework {
        let wanted = BTreeSet::from(["pytest".to_owned()]);
        if absent_modules(&wanted).is_some_and(|absent| !absent.is_empty()) {
            section
                .missing
                .push(format!("python3 does not have `pytest`; `{task}` needs it"));
        }
        format!(
            "    @{{python}} -m pytest -p no:cacheprovider {}\n",
            words_of(&folders)
        )
    } else {
        let runs = folders.iter().map(|folder| {
            let folder = if folder.is_empty() {
                "."
            } else {
                folder.trim_end_matches('/')
            };
            let ending = tests.iter().any(|path| path.ends_with("_test.py"));
            let pattern = if ending { " -p '*test*.py'" } else { "" };
            format!(
                "    @{{python}} -m unittest discover -s {}{pattern}\n",
                quoted(folder)
            )
        });
        runs.collect()
    };
    let _ = write!(
        section.body,
        "
task {task}
  about: Run the Python tests
  needs {}
  remember
{}  recipe:
{recipe}",
        sources(survey, home),
        search_path(home),
    );
}

fn words_of(folders: &BTreeSet<&str>) -> String {
    let words = folders.iter().map(|folder| match *folder {
        "" => ".".to_owned(),
        folder => quoted(folder.trim_end_matches('/')),
    });
    words.collect::<Vec<_>>().join(" ")
}

/// Patterns of the Python files that tests may depend on.
fn sources(survey: &Survey, home: &str) -> String {
    let mut folders: BTreeSet<&str> = BTreeSet::new();
    let mut has_flat = false;
    for path in survey.ending(".py") {
        match path.split_once('/') {
            Some((first, _)) => {
                folders.insert(first);
            }
            None => has_flat = true,
        }
    }
    let flat = has_flat.then(|| "*.py".to_owned());
    let below = folders.into_iter().filter(|folder| word(folder) == *folder);
    let below = below.map(|folder| format!("{folder}/**/*.py"));
    let manifest = survey.has(MANIFEST).then(|| MANIFEST.to_owned());
    debug_assert!(home.is_empty() || home.ends_with('/'), "{home}");
    let all: Vec<String> = flat.into_iter().chain(below).chain(manifest).collect();
    all.join(" ")
}

/// Where there are no tests: that Python can read each file.
fn syntax(
    survey: &Survey,
    home: &str,
    packages: &[&str],
    names: &mut Names,
    section: &mut Section,
) {
    let task = names.task("check", "python");
    let folders = packages.iter().map(|path| word(folder_of(path)));
    let patterns: Vec<String> = folders
        .map(|folder| match folder.strip_prefix('\'') {
            Some(quoted) => format!("'{quoted}"),
            None => format!("{folder}**/*.py"),
        })
        .collect();
    let is_plain = patterns.iter().all(|pattern| !pattern.starts_with('\''));
    let needs = match is_plain {
        true => clause("needs", &patterns),
        false => {
            let files = survey.ending(".py").filter(|path| path.starts_with(home));
            clause("needs", &files.map(word).collect::<Vec<_>>())
        }
    };
    let _ = write!(
        section.body,
        "
task {task}
  about: See that Python can read the packages
{needs}  remember
  recipe with @{{python}}:
    for path in @{{needs}}:
        with open(path, 'rb') as file:
            compile(file.read(), path, 'exec')
"
    );
    if is_installed("python3") {
        section.default.push(task);
        section.holds_back = true;
    }
}
