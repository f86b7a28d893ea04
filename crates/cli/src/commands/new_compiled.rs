//! A first description of C or C++ sources: their programs, what these share, and their tests.

use std::fs;
use std::path::Path;

use crate::ui::text;

/// Larger files are not looked into.
const MOST: u64 = 4 << 20;

/// A language, with the words of its description.
struct Language {
    name: &'static str,
    endings: &'static [&'static str],
    /// The variable of the compiler, the compiler, and the variable of its flags.
    compiler: [&'static str; 3],
}

const LANGUAGES: [Language; 2] = [
    Language {
        name: "C",
        endings: &["c"],
        compiler: ["cc", "cc", "cflags"],
    },
    Language {
        name: "C++",
        endings: &["cpp", "cc", "cxx"],
        compiler: ["cxx", "c++", "cxxflags"],
    },
];

/// Sources in one folder.
struct Units {
    /// The folder, with a slash at its end; empty for the project's own.
    place: &'static str,
    ending: &'static str,
    /// Those without a `main`, and those with one, without their ending.
    shared: Vec<String>,
    mains: Vec<String>,
    /// Names in angle brackets after `#include`.
    includes: Vec<String>,
}

impl Units {
    fn find(folder: &Path, place: &'static str, ending: &'static str) -> Option<Self> {
        let mut units = Self {
            place,
            ending,
            shared: Vec::new(),
            mains: Vec::new(),
            includes: Vec::new(),
        };
        for entry in fs::read_dir(folder.join(place)).ok()?.flatten() {
            let path = entry.path();
            let is_one = path.extension().is_some_and(|found| found == ending) && path.is_file();
            let Some(stem) = path
                .file_stem()
                .and_then(|stem| stem.to_str())
                .filter(|_| is_one)
            else {
                continue;
            };
            let is_small = entry.metadata().is_ok_and(|meta| meta.len() <= MOST);
            let text = is_small.then(|| fs::read(&path).unwrap_or_default());
            let text = String::from_utf8_lossy(text.as_deref().unwrap_or_default()).into_owned();
            units.includes.extend(includes(&text).map(str::to_owned));
            if has_main(&text) {
                units.mains.push(stem.to_owned());
            } else {
                units.shared.push(stem.to_owned());
            }
        }
        units.shared.sort_unstable();
        units.mains.sort_unstable();
        let is_any = !units.shared.is_empty() || !units.mains.is_empty();
        is_any.then_some(units)
    }

    fn count(&self) -> usize {
        self.shared.len() + self.mains.len()
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

/// A description of the compiled sources in a folder, and what it is for; none when there are none.
pub fn describe(folder: &Path) -> Option<(String, String)> {
    let found = |language: &'static Language| {
        let endings = language.endings.iter();
        let units = endings.filter_map(|ending| {
            Units::find(folder, "src/", ending).or_else(|| Units::find(folder, "", ending))
        });
        Some((language, units.max_by_key(Units::count)?))
    };
    let (language, units) = LANGUAGES
        .iter()
        .filter_map(found)
        .max_by_key(|(_, units)| units.count())?;
    let tests = Units::find(folder, "tests/", units.ending)
        .filter(|tests| tests.shared.is_empty() && !tests.mains.is_empty());
    let writer = Writer {
        language,
        units: &units,
        tests: tests.as_ref(),
        has_include: folder.join("include").is_dir(),
    };
    Some((writer.told(), writer.description()))
}

/// A name as a word of the description.
fn word(name: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || matches!(c, '.' | '_' | '-' | '/' | '+');
    if name.chars().all(is_plain) {
        name.to_owned()
    } else if name.contains('\'') {
        let escaped = name.replace('\\', "\\\\").replace('"', "\\\"");
        format!("\"{}\"", escaped.replace('@', "\\@"))
    } else {
        format!("'{name}'")
    }
}

struct Writer<'w> {
    language: &'static Language,
    units: &'w Units,
    /// Each a program.
    tests: Option<&'w Units>,
    has_include: bool,
}

impl Writer<'_> {
    fn told(&self) -> String {
        let sources = format!("{} source", self.language.name);
        let mut told = format!(" for {}", text::count(self.units.count(), &sources));
        match &self.units.mains[..] {
            [] => told.push_str(" of a library"),
            [_] => {}
            mains => told.push_str(&format!(" of the programs {}", mains.join(", "))),
        }
        if let Some(tests) = self.tests {
            told.push_str(&format!(", and {}", text::count(tests.mains.len(), "test")));
        }
        told
    }

    fn description(&self) -> String {
        let [cc, compiler, flags] = self.language.compiler;
        let include = if self.has_include { " -Iinclude" } else { "" };
        let libraries = self.libraries();
        let mut loom = format!(
            "# What is made from what. `handloom` brings it up to date, `handloom list` shows it.

let {cc} = {compiler}
let mode one of release debug
let {flags} = -Wall -Wextra{include}
let {flags} += -O2 when @{{mode}} is release
let {flags} += -O0 -g when @{{mode}} is debug
"
        );
        if !libraries.is_empty() {
            loom.push_str(&format!("let libs = {libraries}\n"));
        }
        let (place, ending) = (self.units.place, self.units.ending);
        loom.push_str(&format!(
            "
default {}

# One object for each source; the compiler tells which headers it read.
target out/obj/<unit>.o
  about: One compiled unit
  needs each {place}<unit>.{ending}
  learn
  recipe: @{{{cc}}} @{{{flags}}} -MMD -MF @{{learn}} -c @{{needs}} -o @{{target}}

",
            self.default()
        ));
        self.programs(&mut loom);
        self.check(&mut loom);
        loom
    }

    fn libraries(&self) -> String {
        let tests = self.tests.iter().flat_map(|tests| &tests.includes);
        let all: Vec<&str> = self
            .units
            .includes
            .iter()
            .chain(tests)
            .map(String::as_str)
            .collect();
        let of = |names: &[&str], flag: &'static str| {
            names.iter().any(|name| all.contains(name)).then_some(flag)
        };
        let flags = [
            of(&["math.h", "cmath"], "-lm"),
            of(&["pthread.h", "thread"], "-pthread"),
        ];
        flags.into_iter().flatten().collect::<Vec<_>>().join(" ")
    }

    fn default(&self) -> &'static str {
        match self.units.mains.len() {
            0 => "out/library.a",
            1 => "out/program",
            _ => "out/bin/*",
        }
    }

    /// The words that link a program.
    fn link(&self, words: &str) -> String {
        let cc = self.language.compiler[0];
        let libs = if self.libraries().is_empty() {
            ""
        } else {
            " @{libs}"
        };
        format!("  recipe: @{{{cc}}} {words}{libs} -o @{{target}}\n")
    }

    /// What programs share: all objects but those that have a `main`.
    fn shared(&self) -> String {
        let mains = self.units.mains.iter();
        let mains: Vec<String> = mains
            .map(|main| format!(" {}", word(&format!("out/obj/{main}.o"))))
            .collect();
        match mains.is_empty() {
            true => "out/obj/*.o".to_owned(),
            false => format!("out/obj/*.o except{}", mains.concat()),
        }
    }

    fn programs(&self, loom: &mut String) {
        match &self.units.mains[..] {
            [] => loom.push_str(
                "# `out/obj/*.o` is exactly the objects described above.
target out/library.a
  about: The library
  needs out/obj/*.o
  recipe: ar rcs @{target} @{needs}
",
            ),
            [_] => {
                loom.push_str(
                    "# `out/obj/*.o` is exactly the objects described above.
target out/program
  about: The program
  needs out/obj/*.o
",
                );
                loom.push_str(&self.link("@{needs}"));
                loom.push_str(
                    "
task start
  about: Start the program
  needs out/program
  recipe: ./@{needs} @{extra}
",
                );
            }
            mains => {
                let names: Vec<String> = mains.iter().map(|main| word(main)).collect();
                let names = names.join(" ");
                loom.push_str(&format!(
                    "target out/bin/<program>
  about: A program
  each program in {names}
"
                ));
                self.linked("own: out/obj/<program>.o", loom);
                loom.push_str(&format!(
                    "
task start program one of {names}
  about: Start a program
  needs out/bin/@{{program}}
  recipe: ./@{{needs}} @{{extra}}
"
                ));
            }
        }
    }

    /// The prerequisites and the recipe of a program with an object of its own.
    fn linked(&self, own: &str, loom: &mut String) {
        if self.units.shared.is_empty() {
            loom.push_str(&format!("  needs\n    {own}\n"));
            loom.push_str(&self.link("@{own}"));
        } else {
            let shared = self.shared();
            loom.push_str(&format!("  needs\n    {own}\n    shared: {shared}\n"));
            loom.push_str(&self.link("@{own} @{shared}"));
        }
    }

    fn check(&self, loom: &mut String) {
        let Some(tests) = self.tests else { return };
        let [cc, _, flags] = self.language.compiler;
        let place = match self.units.place {
            "" => " -I.",
            place => &format!(" -I{}", place.trim_end_matches('/')),
        };
        loom.push_str(&format!(
            "
target out/obj/tests/<test>.o
  about: One compiled test
  needs each tests/<test>.{}
  learn
  recipe: @{{{cc}}} @{{{flags}}}{place} -MMD -MF @{{learn}} -c @{{needs}} -o @{{target}}

target out/tests/<test>
  about: One test
",
            tests.ending
        ));
        self.linked("own: each out/obj/tests/<test>.o", loom);
        loom.push_str(
            "
task check
  about: Run the tests
  needs out/tests/*
  recipe:
    for test in @{needs}; do
      echo \"$test\"
      \"./$test\"
    done
",
        );
    }
}
