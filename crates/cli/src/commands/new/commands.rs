//! Tables of commands that people keep in the manifests of their packages, as tasks: the command itself is the recipe.

use std::collections::HashMap;
use std::fmt::Write;

use super::section::Names;
use super::section::Section;
use super::section::raw;
use super::survey::Survey;

/// A table of commands.
pub struct Commands {
    /// Names and commands, in the order of the table.
    pub all: Vec<(String, String)>,
    /// What is put behind a name that is taken.
    pub kind: &'static str,
    /// The folder in which the ecosystem keeps the programs that a project has installed.
    pub programs: &'static str,
    /// Clauses of each task.
    pub prefix: String,
}

/// Names of commands that go on until somebody ends them.
const STAYING: [&str; 5] = ["start", "dev", "serve", "watch", "develop"];

impl Commands {
    /// Writes a task for each; how many.
    pub fn write(&self, names: &mut Names, section: &mut Section) -> usize {
        let tasks: HashMap<&str, String> = self
            .all
            .iter()
            .map(|(name, _)| (name.as_str(), names.task(name, self.kind)))
            .collect();
        for (name, command) in &self.all {
            let task = &tasks[name.as_str()];
            let _ = write!(section.body, "\ntask {task}\n  about: {}\n", about(command));
            let mut after = Vec::new();
            if let Some(before) = tasks.get(format!("pre{name}").as_str()) {
                after.push(before.as_str());
            }
            if let Some(steps) = self.only_calls(command, &tasks) {
                let steps = after.into_iter().chain(steps).collect::<Vec<_>>().join(" ");
                let _ = writeln!(section.body, "  steps {steps}");
                continue;
            }
            if !after.is_empty() {
                let _ = writeln!(section.body, "  after {}", after.join(" "));
            }
            if let Some(behind) = tasks.get(format!("post{name}").as_str()) {
                section.left.push(format!(
                    "`post{name}`: run `{behind}` behind `{task}` yourself"
                ));
            }
            section.body.push_str(&self.prefix);
            let _ = writeln!(
                section.body,
                "  env PATH = \"@{{root}}/{}:@{{path}}\"",
                self.programs
            );
            let stays = STAYING.contains(&name.as_str())
                || command.contains("--watch")
                || command.ends_with(" serve");
            if stays {
                section.body.push_str("  terminal\n");
            }
            let extra = if takes_more(command) { " @{extra}" } else { "" };
            let _ = writeln!(
                section.body,
                "  recipe with sh: {}{extra}",
                raw(command.trim())
            );
        }
        if !self.all.is_empty() {
            section
                .lets
                .push(("path", "let path = env PATH or /usr/bin:/bin\n".to_owned()));
        }
        self.all.len()
    }

    /// The tasks of a command that does nothing but to call others of its table, each as `PROGRAM run NAME`.
    fn only_calls<'t>(
        &self,
        command: &str,
        tasks: &'t HashMap<&str, String>,
    ) -> Option<Vec<&'t str>> {
        let called = command.split("&&").map(|part| {
            let words: Vec<&str> = part.split_whitespace().collect();
            match &words[..] {
                [program, "run", name] if !program.contains('/') => {
                    tasks.get(*name).map(String::as_str)
                }
                _ => None,
            }
        });
        called.collect()
    }
}

fn about(command: &str) -> String {
    let line: String = command.trim().chars().filter(|c| !c.is_control()).collect();
    match line.chars().count() > 70 {
        true => format!("{}…", line.chars().take(69).collect::<String>()),
        false => line,
    }
}

/// Whether words can be put behind a command and are its own: where its quotes are plain.
fn takes_more(command: &str) -> bool {
    let is_plain = |c: char| c.is_alphanumeric() || " _./:=,%+-".contains(c);
    command.replace("&&", "").chars().all(is_plain)
}

/// The table of a JavaScript package.
pub fn describe(survey: &Survey, names: &mut Names) -> Option<Section> {
    const MANIFEST: &str = "package.json";
    if !survey.has(MANIFEST) {
        return None;
    }
    let mut section = Section::default();
    let manifest: serde_json::Value =
        match serde_json::from_str(survey.text(MANIFEST).trim_start_matches('\u{feff}')) {
            Ok(manifest) => manifest,
            Err(error) => {
                section.left.push(format!("`{MANIFEST}`: {error}"));
                return Some(section);
            }
        };
    let scripts = manifest
        .get("scripts")
        .and_then(serde_json::Value::as_object);
    let mut all = Vec::new();
    for (name, command) in scripts.into_iter().flatten() {
        match command.as_str() {
            Some(command) if command.contains("no test specified") => {
                section.left.push(format!(
                    "`{name}` in `{MANIFEST}`: it only says that there is no test"
                ));
            }
            Some(command) if !command.trim().is_empty() && !command.contains('\n') => {
                all.push((name.clone(), command.to_owned()));
            }
            _ => section.left.push(format!(
                "`{name}` in `{MANIFEST}`: it is not one line of text"
            )),
        }
    }
    let commands = Commands {
        all,
        kind: "script",
        programs: "node_modules/.bin",
        prefix: String::new(),
    };
    let count = commands.write(names, &mut section);
    if count > 0 {
        section.told = format!(
            "{} of `{MANIFEST}`",
            crate::ui::text::count(count, "command")
        );
        section.covers.push(MANIFEST.to_owned());
        section
            .covers
            .extend(survey.ending(".ts").map(str::to_owned));
    }
    Some(section)
}
