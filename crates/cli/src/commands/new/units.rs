//! Sources that are compiled, and in which of them a program begins.

use std::collections::BTreeSet;

use super::survey::Survey;
use super::survey::folder_of;

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
    /// Those in a folder; also those below it, when `is_deep`.
    pub fn find(survey: &Survey, place: &str, kind: &'static Kind, is_deep: bool) -> Option<Self> {
        let mut units = Self {
            kind,
            shared: Vec::new(),
            mains: Vec::new(),
            apart: Vec::new(),
            includes: BTreeSet::new(),
        };
        let ending = format!(".{}", kind.ending);
        let files = survey.ending(&ending).filter(|path| match is_deep {
            true => path.starts_with(place),
            false => folder_of(path) == place,
        });
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
