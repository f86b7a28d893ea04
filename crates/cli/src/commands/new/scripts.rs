//! Scripts that a person runs by hand, described: those that make files as steps, the others as tasks.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::process::Command;
use std::process::Stdio;

use super::script_paths::ScriptPaths;
use super::script_paths::script_paths;
use super::script_tokens::Dialect;
use super::scripts_written::written;
use super::section::Names;
use super::section::Section;
use super::survey::Survey;
use super::survey::from;
use handloom_core::world::names::folder_of;

/// More scripts than that are not described one by one.
const MOST: usize = 200;

/// A script, with what its text tells.
pub struct FoundScript {
    /// From the project's folder.
    pub path: String,
    /// What it is written in.
    pub dialect: Dialect,
    /// What it says of itself.
    pub about: Option<String>,
    /// What its text tells.
    pub found: ScriptPaths,
    /// The folder that it expects to run in; empty for the project's own.
    pub folder: String,
    /// What it reads, from the project's folder.
    pub reads: BTreeSet<String>,
    /// What it writes.
    pub writes: BTreeSet<String>,
    /// The files that it imports.
    pub modules: BTreeSet<String>,
    /// Modules that are not there.
    pub missing: Vec<String>,
    /// Why it is a task, where it is no step.
    pub task: Option<String>,
}

/// The scripts of a project.
pub fn describe(survey: &Survey, names: &mut Names) -> Option<Section> {
    let mut scripts = find(survey);
    if scripts.is_empty() {
        return None;
    }
    let surplus = scripts.split_off(scripts.len().min(MOST));
    ask_for_modules(&mut scripts);
    choose(&mut scripts, survey, names);
    let mut section = written(&scripts, names);
    let surplus = surplus.into_iter().map(|script| script.path);
    section
        .left
        .extend(surplus.map(|path| format!("`{path}`: there are many scripts")));
    Some(section)
}

/// Python's own layout of tests and of what installs a package.
fn is_for_a_tool(path: &str) -> bool {
    let name = &path[folder_of(path).len()..];
    name.starts_with("test_")
        || name.ends_with("_test.py")
        || matches!(
            name,
            "setup.py" | "conftest.py" | "__init__.py" | "__main__.py"
        )
        || folder_of(path)
            .split('/')
            .any(|part| part == "tests" || part == "test")
}

fn find(survey: &Survey) -> Vec<FoundScript> {
    let python = survey
        .ending(".py")
        .filter(|path| !is_for_a_tool(path))
        .filter(|path| !survey.has(&format!("{}__init__.py", folder_of(path))));
    let r = [".R", ".r"]
        .into_iter()
        .flat_map(|ending| survey.ending(ending));
    let all = python
        .map(|path| (path, Dialect::Python))
        .chain(r.map(|path| (path, Dialect::R)));
    let texts = all.map(|(path, dialect)| (path, dialect, survey.text(path)));
    // One that is no text in UTF-8 can't be read by its interpreter either.
    let texts: Vec<(&str, Dialect, String)> = texts
        .filter(|(_, _, text)| !text.contains(['\u{fffd}', '\0']))
        .collect();
    let mut scripts: Vec<FoundScript> = texts
        .iter()
        .map(|(path, dialect, text)| script(survey, path, *dialect, text))
        .collect();
    // What others read as a module is no script, unless it says that it is one as well.
    let used: BTreeSet<String> = scripts
        .iter()
        .flat_map(|script| script.modules.iter().cloned())
        .collect();
    let says_main: BTreeMap<&str, bool> = texts
        .iter()
        .map(|(path, _, text)| (*path, text.contains("__main__")))
        .collect();
    scripts.retain(|script| {
        !used.contains(&script.path) || says_main.get(script.path.as_str()) == Some(&true)
    });
    scripts
}

fn script(survey: &Survey, path: &str, dialect: Dialect, text: &str) -> FoundScript {
    let found = script_paths(path, text, dialect);
    let home = folder_of(path);
    let counted = |folder: &str| {
        let named = found.reads.iter().chain(&found.others);
        let named = named.filter(|path| !found.anchored.contains(*path));
        named
            .filter(|path| from(folder, path).is_some_and(|path| is_there(survey, &path)))
            .count()
    };
    let is_at_home = !home.is_empty() && counted("") == 0 && counted(home) > 0;
    let folder = if is_at_home { home } else { "" };
    let placed = |paths: &BTreeSet<String>| -> BTreeSet<String> {
        let placed = paths
            .iter()
            .filter_map(|path| match found.anchored.contains(path) {
                true => Some(path.clone()),
                false => from(folder, path),
            });
        placed.collect()
    };
    let (mut reads, writes) = (placed(&found.reads), placed(&found.writes));
    let others = placed(&found.others);
    reads.extend(
        others
            .into_iter()
            .filter(|file| survey.has(file) && file != path),
    );
    let mut imports = Imports::of(survey, home, &found.modules);
    imports.local.remove(path);
    let is_unclear = found.is_unclear || imports.is_reader;
    FoundScript {
        path: path.to_owned(),
        dialect,
        about: says_of_itself(text, dialect),
        found: ScriptPaths {
            is_unclear,
            ..found
        },
        folder: folder.to_owned(),
        reads,
        writes,
        modules: imports.local,
        missing: imports.foreign.into_iter().collect(),
        task: None,
    }
}

/// Whether it stands for several files.
pub fn is_pattern(path: &str) -> bool {
    path.contains(['*', '?', '['])
}

/// Whether there is such a file, or one that matches; only a pattern's folder and ending are looked at.
fn is_there(survey: &Survey, path: &str) -> bool {
    if !is_pattern(path) {
        return survey.has(path);
    }
    let plain = &path[..path.find(['*', '?', '[']).unwrap_or(0)];
    let folder = &plain[..plain.rfind('/').map_or(0, |at| at + 1)];
    let ending = path.rsplit(['*', '?', ']']).next().unwrap_or("");
    survey.has_like(folder, ending)
}

/// What a script imports, directly or by way of what it imports.
#[derive(Default)]
struct Imports {
    /// Files of the project.
    local: BTreeSet<String>,
    /// Modules from elsewhere, without what is behind their first dot.
    foreign: BTreeSet<String>,
    /// Whether one of the files reads files itself.
    is_reader: bool,
}

impl Imports {
    /// `home` is the script's folder, with its slash.
    fn of(survey: &Survey, home: &str, modules: &BTreeSet<String>) -> Self {
        let mut imports = Self::default();
        let mut waiting: Vec<String> = modules.iter().cloned().collect();
        let mut known: BTreeSet<String> = modules.clone();
        while let Some(module) = waiting.pop() {
            for file in imports.enter(survey, home, &module) {
                let inner = script_paths(&file, &survey.text(&file), Dialect::Python);
                imports.is_reader |= inner.is_unclear || !inner.reads.is_empty();
                let new = inner.modules.into_iter();
                waiting.extend(new.filter(|module| known.insert(module.clone())));
            }
        }
        imports
    }

    /// Takes one module in; its files that are new.
    fn enter(&mut self, survey: &Survey, home: &str, module: &str) -> Vec<String> {
        if module.starts_with('.') {
            return Vec::new();
        }
        let path = format!("{home}{}", module.replace('.', "/"));
        let parts: Vec<&str> = module.split('.').collect();
        let packages = (1..parts.len()).map(|depth| format!("{home}{}", parts[..depth].join("/")));
        let mut files: Vec<String> = packages
            .map(|package| format!("{package}/__init__.py"))
            .collect();
        files.extend([format!("{path}.py"), format!("{path}/__init__.py")]);
        files.retain(|file| survey.has(file));
        // `from lamp import reach`: what is behind the module is not always one.
        let above = parts[..parts.len() - 1].join("/");
        let is_inside = parts.len() > 1
            && (survey.has(&format!("{home}{above}.py"))
                || survey.has_folder(&format!("{home}{}", parts[0])));
        if files.is_empty() && !is_inside {
            self.foreign.insert(parts[0].to_owned());
        }
        files.retain(|file| self.local.insert(file.clone()));
        files
    }
}

/// The first line of what a script says of itself.
fn says_of_itself(text: &str, dialect: Dialect) -> Option<String> {
    let mut lines = text.lines().map(str::trim);
    let line = lines.find(|line| {
        let is_comment = line.starts_with('#');
        let is_own = line.starts_with("#!") || line.contains("coding:") || *line == "# %%";
        !line.is_empty() && !is_own && (!is_comment || dialect == Dialect::R)
    })?;
    let told = match dialect {
        Dialect::R => line
            .strip_prefix('#')?
            .trim_start_matches(['#', '\''])
            .trim(),
        Dialect::Python => {
            let quote = ["\"\"\"", "'''"]
                .into_iter()
                .find(|quote| line.starts_with(quote))?;
            let inner = line[3..].split(quote).next().unwrap_or("").trim();
            match inner {
                "" => lines.next()?,
                inner => inner,
            }
        }
    };
    let told: String = told.chars().filter(|c| !c.is_control()).take(90).collect();
    (!told.is_empty()).then(|| told.trim_end_matches('.').to_owned())
}

/// Leaves in `missing` what the interpreter does not have. It is asked where it would look; nothing is imported.
fn ask_for_modules(scripts: &mut [FoundScript]) {
    let all: BTreeSet<String> = scripts
        .iter()
        .flat_map(|script| script.missing.iter().cloned())
        .collect();
    let absent: BTreeSet<String> = match absent_modules(&all) {
        Some(absent) => absent,
        None => return,
    };
    for script in scripts {
        script.missing.retain(|module| absent.contains(module));
    }
}

/// Which of these modules Python does not have; none when there is no Python.
pub fn absent_modules(modules: &BTreeSet<String>) -> Option<BTreeSet<String>> {
    const ASKED: &str = "import sys, importlib.util as u
for name in sys.argv[1:]:
    try:
        found = u.find_spec(name)
    except Exception:
        found = None
    if found is None:
        print(name)
";
    if modules.is_empty() {
        return Some(BTreeSet::new());
    }
    let output = Command::new("python3")
        .args(["-I", "-c", ASKED])
        .args(modules)
        .current_dir("/")
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .output()
        .ok()?;
    let text = String::from_utf8_lossy(&output.stdout);
    output
        .status
        .success()
        .then(|| text.lines().map(str::to_owned).collect())
}

/// Which scripts are steps, and why the others are not.
fn choose(scripts: &mut Vec<FoundScript>, survey: &Survey, names: &mut Names) {
    for script in scripts.iter_mut() {
        let in_place = script.writes.intersection(&script.reads).next();
        let unfit = script.writes.iter().find(|path| is_unfit(survey, path));
        script.task = if script.found.takes_words {
            Some("It takes words on its command line, which stand behind `--`.".to_owned())
        } else if let Some(path) = script.writes.iter().find(|path| is_pattern(path)) {
            Some(format!(
                "It writes `{path}`, whose names its text does not tell."
            ))
        } else if script.writes.is_empty() {
            Some("Its text names no file that it writes.".to_owned())
        } else if let Some(path) = in_place {
            Some(format!("It reads `{path}` and writes it as well."))
        } else if let Some(path) = unfit {
            Some(format!("It writes `{path}`, which no step may make."))
        } else {
            let taken = script.writes.iter().find(|path| !names.target(path));
            taken.map(|path| format!("Something else writes `{path}`, or in it."))
        };
    }
    while settle(scripts, survey) || order(scripts) {}
}

/// Whether a file is none that a step may make: the description, a script, a folder, what others keep.
fn is_unfit(survey: &Survey, path: &str) -> bool {
    let first = path.split('/').next().unwrap_or("");
    let is_source = [
        ".py", ".R", ".r", ".sh", ".ipynb", ".c", ".h", ".cpp", ".md", ".tex",
    ]
    .iter()
    .any(|ending| path.ends_with(ending));
    matches!(first, "hand.loom" | ".handloom" | ".git")
        || path == "out"
        || survey.has_folder(path)
        || is_source && survey.has(path)
}

/// Whether a step reads what neither is there nor is made by another; it becomes a task.
fn settle(scripts: &mut [FoundScript], survey: &Survey) -> bool {
    let steps = || scripts.iter().filter(|script| script.task.is_none());
    let made: BTreeSet<&String> = steps().flat_map(|script| &script.writes).collect();
    let absent = |path: &&String| {
        let is_made = match is_pattern(path) {
            true => made.iter().any(|made| folder_of(made) == folder_of(path)),
            false => made.contains(path),
        };
        !is_made && !is_there(survey, path)
    };
    let found = scripts.iter().enumerate().find_map(|(at, script)| {
        let path = script.reads.iter().find(absent)?;
        script.task.is_none().then(|| (at, path.clone()))
    });
    let Some((at, path)) = found else {
        return false;
    };
    scripts[at].task = Some(format!("It reads `{path}`, which is not there."));
    true
}

/// Puts steps behind those that make what they read, and tasks behind all. Whether there was a circle of steps; one
/// of it has become a task.
fn order(scripts: &mut Vec<FoundScript>) -> bool {
    let (mut waiting, tasks): (Vec<FoundScript>, Vec<FoundScript>) =
        scripts.drain(..).partition(|script| script.task.is_none());
    let mut ordered: Vec<FoundScript> = Vec::new();
    let mut is_circle = false;
    while !waiting.is_empty() {
        let pending: BTreeSet<String> = waiting
            .iter()
            .flat_map(|script| script.writes.iter().cloned())
            .collect();
        let waits = |script: &FoundScript| {
            script.reads.iter().any(|path| match is_pattern(path) {
                true => pending.iter().any(|made| {
                    folder_of(made) == folder_of(path) && !script.writes.contains(made)
                }),
                false => pending.contains(path),
            })
        };
        let ready = waiting.iter().position(|script| !waits(script));
        let mut next = waiting.remove(ready.unwrap_or(0));
        if ready.is_none() && !is_circle {
            next.task = Some("What it reads is made from what it writes.".to_owned());
            is_circle = true;
        }
        ordered.push(next);
    }
    ordered.extend(tasks);
    *scripts = ordered;
    is_circle
}
