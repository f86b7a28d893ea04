//! Sources that are compiled, and in which of them a program begins.

use std::collections::BTreeSet;

use super::survey::Survey;
use super::survey::from;
use handloom_core::world::names::folder_of;

/// What a source is written in, and how it is compiled.
pub struct Kind {
    /// Its name.
    pub name: &'static str,
    /// Of files, without the dot.
    pub ending: &'static str,
    /// The variable of the compiler.
    pub compiler: &'static str,
    /// That of its flags.
    pub flags: &'static str,
    /// Whether the compiler tells which headers it read.
    pub has_headers: bool,
}

const fn kind(name: &'static str, ending: &'static str) -> Kind {
    Kind {
        name,
        ending,
        compiler: "cc",
        flags: "cflags",
        has_headers: true,
    }
}

const fn plus_plus(ending: &'static str) -> Kind {
    Kind {
        compiler: "cxx",
        flags: "cxxflags",
        ..kind("C++", ending)
    }
}

pub static KINDS: [Kind; 6] = [
    kind("C", "c"),
    plus_plus("cpp"),
    plus_plus("cc"),
    plus_plus("cxx"),
    kind("assembler", "S"),
    Kind {
        has_headers: false,
        ..kind("assembler", "s")
    },
];

/// Libraries that a header wants when a program is linked.
pub const LIBRARIES: [(&str, &str); 14] = [
    ("math.h", "-lm"),
    ("cmath", "-lm"),
    ("complex.h", "-lm"),
    ("pthread.h", "-pthread"),
    ("threads.h", "-pthread"),
    ("thread", "-pthread"),
    ("dlfcn.h", "-ldl"),
    ("zlib.h", "-lz"),
    ("sqlite3.h", "-lsqlite3"),
    ("curses.h", "-lcurses"),
    ("ncurses.h", "-lncurses"),
    ("readline/readline.h", "-lreadline"),
    ("gmp.h", "-lgmp"),
    ("png.h", "-lpng"),
];

/// Folders whose sources are programs of their own, or somebody else's.
const BESIDE: [&str; 10] = [
    "tests",
    "test",
    "examples",
    "example",
    "benches",
    "bench",
    "doc",
    "docs",
    "external",
    "third_party",
];

/// Headers of what is built by another program, for a system of its own.
const FOREIGN: [&str; 7] = [
    "Python.h",
    "jni.h",
    "R.h",
    "Rinternals.h",
    "Arduino.h",
    "linux/module.h",
    "avr/io.h",
];

/// Where the sources of a project lie.
pub struct Layout {
    /// The one folder that holds all of them, with its slash; nothing for the project's own.
    pub place: String,
    /// Whether they lie in folders below it as well.
    pub is_deep: bool,
    /// Folders that are left out.
    pub except: Vec<String>,
    /// Folders that the compiler is to look for headers in.
    pub headers: Vec<String>,
}

impl Layout {
    /// None where there is nothing to compile; why, when that is for a header.
    pub fn of(survey: &Survey) -> Result<Option<Self>, String> {
        let first = |path: &str| path.split_once('/').map(|(first, _)| first.to_owned());
        let is_beside = |path: &str| first(path).is_some_and(|top| BESIDE.contains(&&*top));
        let sources: Vec<&str> = KINDS[..4]
            .iter()
            .flat_map(|kind| {
                survey
                    .files()
                    .filter(|path| path.ends_with(&format!(".{}", kind.ending)))
            })
            .collect();
        let own: Vec<&str> = sources
            .iter()
            .copied()
            .filter(|path| !is_beside(path))
            .collect();
        for path in &own {
            let text = survey.text(path);
            let foreign = includes(&text).find(|name| FOREIGN.contains(name));
            if let Some(header) = foreign {
                return Err(format!(
                    "`{path}`: it includes <{header}>, and is built by another program"
                ));
            }
        }
        let tops: BTreeSet<String> = own.iter().filter_map(|path| first(path)).collect();
        let has_flat = own.iter().any(|path| !path.contains('/'));
        let place = match (has_flat, tops.first()) {
            (false, None) => return Ok(None),
            (false, Some(top)) if tops.len() == 1 => format!("{top}/"),
            _ => String::new(),
        };
        let is_deep = !tops.is_empty();
        let beside = sources.iter().filter(|path| is_beside(path));
        let beside: BTreeSet<String> = beside.filter_map(|path| first(path)).collect();
        let except = beside.into_iter().filter(|_| is_deep && place.is_empty());
        Ok(Some(Self {
            headers: header_folders(survey, &sources),
            except: except.collect(),
            place,
            is_deep,
        }))
    }

    /// Whether a source is one of these.
    fn holds(&self, path: &str) -> bool {
        let is_left_out = |folder: &String| {
            path.strip_prefix(folder.as_str())
                .is_some_and(|rest| rest.starts_with('/'))
        };
        match self.is_deep {
            true => path.starts_with(&self.place) && !self.except.iter().any(is_left_out),
            false => folder_of(path) == self.place,
        }
    }
}

/// The folders that hold what is included, and is not found beside who includes it. `include` is always one.
fn header_folders(survey: &Survey, sources: &[&str]) -> Vec<String> {
    let endings = [".h", ".hh", ".hpp", ".hxx", ".inc"];
    let headers: Vec<&str> = survey
        .files()
        .filter(|path| endings.iter().any(|ending| path.ends_with(ending)))
        .collect();
    let mut folders: BTreeSet<String> = BTreeSet::new();
    if survey.has_folder("include") {
        folders.insert("include".to_owned());
    }
    for path in sources.iter().chain(&headers) {
        for name in all_includes(&survey.text(path)) {
            let is_beside = from(folder_of(path), name).is_some_and(|path| survey.has(&path));
            let is_found = |folder: &String| {
                from(&format!("{folder}/"), name).is_some_and(|path| survey.has(&path))
            };
            if is_beside || folders.iter().any(is_found) {
                continue;
            }
            let ends = |header: &&&str| {
                header
                    .strip_suffix(name)
                    .is_some_and(|rest| rest.is_empty() || rest.ends_with('/'))
            };
            let nearest = headers
                .iter()
                .filter(ends)
                .min_by_key(|header| header.len());
            let folder = nearest.and_then(|header| header.strip_suffix(name));
            folders.extend(folder.map(|folder| match folder {
                "" => ".".to_owned(),
                folder => folder.trim_end_matches('/').to_owned(),
            }));
        }
    }
    folders.into_iter().collect()
}

/// The names after `#include`, in quotes or in angle brackets.
fn all_includes(text: &str) -> impl Iterator<Item = &str> {
    let lines = text.lines().filter_map(|line| {
        let rest = line.trim_start().strip_prefix('#')?.trim_start();
        Some(rest.strip_prefix("include")?.trim_start())
    });
    lines.filter_map(|rest| {
        let close = match rest.chars().next()? {
            '"' => '"',
            '<' => '>',
            _ => return None,
        };
        Some(rest[1..].split_once(close)?.0)
    })
}

/// Sources with one ending. Names are without the folder that all lie in, and without the ending.
pub struct Units {
    /// What they are written in.
    pub kind: &'static Kind,
    /// Those without a `main`.
    pub shared: Vec<String>,
    /// Those with one.
    pub mains: Vec<String>,
    /// Those that stand alone in other ways: they are compiled, and not linked.
    pub apart: Vec<String>,
    /// Names in angle brackets after `#include`.
    pub includes: BTreeSet<String>,
}

impl Units {
    /// Those of a layout.
    pub fn find(survey: &Survey, layout: &Layout, kind: &'static Kind) -> Option<Self> {
        let place = &layout.place;
        let mut units = Self {
            kind,
            shared: Vec::new(),
            mains: Vec::new(),
            apart: Vec::new(),
            includes: BTreeSet::new(),
        };
        let ending = format!(".{}", kind.ending);
        let files = survey.ending(&ending).filter(|path| layout.holds(path));
        for path in files {
            let stem = path[place.len()..path.len() - ending.len()].to_owned();
            let text = survey.text(path);
            units.includes.extend(includes(&text).map(str::to_owned));
            let is_assembler = kind.name == "assembler";
            let has_label = |label: &str| {
                text.lines()
                    .any(|line| line.trim_start().starts_with(label))
            };
            if is_assembler && has_label("_start:") {
                units.apart.push(stem);
            } else if has_main(&text) || is_assembler && has_label("main:") {
                units.mains.push(stem);
            } else {
                units.shared.push(stem);
            }
        }
        (units.count() > 0).then_some(units)
    }

    /// How many they are.
    pub fn count(&self) -> usize {
        self.shared.len() + self.mains.len() + self.apart.len()
    }

    /// Their names.
    pub fn all(&self) -> impl Iterator<Item = &String> {
        self.shared.iter().chain(&self.mains).chain(&self.apart)
    }
}

/// The names in angle brackets after `#include`.
fn includes(text: &str) -> impl Iterator<Item = &str> {
    let lines = text.lines().filter_map(|line| {
        let rest = line.trim_start().strip_prefix('#')?.trim_start();
        rest.strip_prefix("include")?.trim_start().strip_prefix('<')
    });
    lines.filter_map(|rest| Some(rest.split_once('>')?.0))
}

/// Whether a program begins in a source: a line that begins `int main(`, also in two lines.
fn has_main(text: &str) -> bool {
    let mut before = "";
    text.lines().any(|line| {
        let line = line.trim();
        let begins = ["int", "auto", "void"].iter().any(|kind| {
            let behind = line.strip_prefix(kind).map(str::trim_start);
            behind.is_some_and(is_main) || before == *kind && is_main(line)
        });
        before = line;
        begins
    })
}

fn is_main(text: &str) -> bool {
    text.strip_prefix("main")
        .is_some_and(|rest| rest.trim_start().starts_with('('))
}
