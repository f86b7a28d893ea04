//! What a first description is put together from.

use std::collections::HashSet;
use std::fmt::Write;

/// What was found of one kind, and how it is described.
#[derive(Default)]
pub struct Section {
    /// What it is, such as `3 C sources`.
    pub told: String,
    /// Variables: a name, and the lines that give it its value.
    pub lets: Vec<(&'static str, String)>,
    /// Its targets and tasks.
    pub body: String,
    /// What is to be made without a name.
    pub default: Vec<String>,
    /// Whether something that it describes is not made without its name, or a task is what it makes without one.
    pub holds_back: bool,
    /// Files that it describes.
    pub covers: Vec<String>,
    /// What has no description, and why.
    pub left: Vec<String>,
    /// What is not on this machine, and what needs it.
    pub missing: Vec<String>,
}

/// Names that can be given once only.
pub struct Names {
    commands: Vec<String>,
    taken: HashSet<String>,
}

impl Names {
    /// With those of the program's commands, which are no good names for tasks.
    pub fn new(commands: Vec<String>, taken: HashSet<String>) -> Self {
        Self { commands, taken }
    }

    /// A task's name like the one that is wanted; `kind` is put behind it when that is taken.
    pub fn task(&mut self, wanted: &str, kind: &str) -> String {
        let mut name: String = wanted
            .chars()
            .map(|c| {
                if c.is_alphanumeric() || c == '_' {
                    c
                } else {
                    '-'
                }
            })
            .collect();
        name = name.trim_matches('-').to_owned();
        if !name.starts_with(|c: char| c.is_alphabetic() || c == '_') {
            name = format!("{kind}-{name}").trim_end_matches('-').to_owned();
        }
        let is_free = |name: &String, taken: &HashSet<String>| {
            !self.commands.contains(name) && !taken.contains(name)
        };
        if !is_free(&name, &self.taken) {
            name = format!("{name}-{kind}");
        }
        let mut free = name.clone();
        let mut count = 1;
        while !is_free(&free, &self.taken) {
            count += 1;
            free = format!("{name}-{count}");
        }
        self.taken.insert(free.clone());
        free
    }

    /// Whether something described has this name.
    pub fn is_taken(&self, name: &str) -> bool {
        self.taken.contains(name)
    }

    /// Takes a target's name; whether it was free, and neither a folder of another one nor in one.
    pub fn target(&mut self, path: &str) -> bool {
        let is_in = |inner: &str, outer: &str| {
            inner
                .strip_prefix(outer)
                .is_some_and(|rest| rest.starts_with('/'))
        };
        let is_free = !self
            .taken
            .iter()
            .any(|taken| taken == path || is_in(taken, path) || is_in(path, taken));
        if is_free {
            self.taken.insert(path.to_owned());
        }
        is_free
    }
}

/// A name as a word of the description.
pub fn word(name: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || matches!(c, '.' | '_' | '-' | '/' | '+');
    if !name.is_empty() && name.chars().all(is_plain) {
        return name.to_owned();
    }
    if !name.contains(['\'', '\n', '\t']) {
        return format!("'{name}'");
    }
    let mut written = String::from("\"");
    for c in name.chars() {
        match c {
            '\n' => written.push_str("\\n"),
            '\t' => written.push_str("\\t"),
            '"' | '\\' | '@' => {
                written.push('\\');
                written.push(c);
            }
            c => written.push(c),
        }
    }
    written.push('"');
    written
}

/// Names as words, with spaces between them.
pub fn words<'n>(names: impl IntoIterator<Item = &'n str>) -> String {
    let names: Vec<String> = names.into_iter().map(word).collect();
    names.join(" ")
}

/// Text for a recipe that is to be read as it stands.
pub fn raw(text: &str) -> String {
    text.replace("@{", "@@{")
}

/// A clause of one line, or with its words below it where that would be long.
pub fn clause(keyword: &str, words: &[String]) -> String {
    let line = format!("  {keyword} {}\n", words.join(" "));
    if line.len() <= 100 {
        return line;
    }
    let mut out = format!("  {keyword}\n");
    for word in words {
        let _ = writeln!(out, "    {word}");
    }
    out
}

/// A group of prerequisites, in lines below `needs`; nothing for none.
pub fn group(label: &str, words: &[String]) -> String {
    match words {
        [] => String::new(),
        words => {
            let line = format!("    {label}: {}\n", words.join(" "));
            match line.len() <= 100 {
                true => line,
                false => format!("    {label}:\n      {}\n", words.join("\n      ")),
            }
        }
    }
}

/// The whole description; what nothing was found for has none of its parts.
pub fn put_together(sections: &[Section], names: &mut Names) -> String {
    let mut out = String::from(
        "# What is made from what. `handloom` brings it up to date, `handloom list` shows it.\n",
    );
    let mut given = HashSet::new();
    let lets = sections.iter().flat_map(|section| &section.lets);
    let lets: Vec<&str> = lets
        .filter(|(name, _)| given.insert(*name))
        .map(|(_, line)| line.as_str())
        .collect();
    if !lets.is_empty() {
        let _ = write!(out, "\n{}", lets.concat());
    }
    let default = sections.iter().flat_map(|section| &section.default);
    let mut default: Vec<String> = default.cloned().collect();
    let holds_back = sections.iter().any(|section| section.holds_back);
    let mut last = String::new();
    if holds_back && default.is_empty() {
        let task = names.task("missing", "here");
        let _ = write!(
            last,
            "\ntask {task}\n  about: What is not on this machine yet\n  recipe:\n"
        );
        for missing in sections.iter().flat_map(|section| &section.missing) {
            let line = missing.replace('\'', "'\\''").replace('\n', " ");
            let _ = writeln!(last, "    echo '{}'", raw(&line));
        }
        default.push(task);
    }
    if !default.is_empty() && holds_back {
        let _ = write!(out, "\ndefault {}\n", default.join(" "));
    }
    for section in sections.iter().filter(|section| !section.body.is_empty()) {
        let _ = write!(out, "\n{}", section.body.trim_start_matches('\n'));
    }
    out + &last
}
