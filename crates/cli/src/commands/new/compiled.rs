//! A first description of compiled sources: C and C++ with assembler beside, their programs, what these share, and
//! their tests.

use std::fmt::Write;

use super::section::Names;
use super::section::Section;
use super::section::clause;
use super::section::word;
use super::section::words;
use super::survey::Survey;
use super::units::KINDS;
use super::units::Kind;
use super::units::LIBRARIES;
use super::units::Layout;
use super::units::Units;
use crate::ui::text;

/// The compiled sources of a folder.
pub fn describe(survey: &Survey, names: &mut Names) -> Option<Section> {
    let layout = match Layout::of(survey) {
        Ok(layout) => layout?,
        Err(left) => {
            return Some(Section {
                left: vec![left],
                ..Section::default()
            });
        }
    };
    let place = &layout.place;
    let mut groups: Vec<Units> = KINDS
        .iter()
        .filter_map(|kind| Units::find(survey, &layout, kind))
        .collect();
    let main = (0..groups.len()).max_by_key(|&at| (groups[at].mains.len(), groups[at].count()))?;
    groups.swap(0, main);
    let mut left = Vec::new();
    for group in &mut groups {
        for stem in &group.apart {
            left.push(format!(
                "`{place}{stem}.{}`: it begins at `_start`; it is compiled, not linked",
                group.kind.ending
            ));
        }
    }
    for group in &mut groups[1..] {
        for stem in std::mem::take(&mut group.mains) {
            left.push(format!("`{place}{stem}.{}`: another program, in another language; it is compiled, not linked", group.kind.ending));
            group.apart.push(stem);
        }
    }
    let tests = ["tests/", "test/"].into_iter().find_map(|folder| {
        let layout = Layout {
            place: folder.to_owned(),
            is_deep: false,
            except: Vec::new(),
            headers: Vec::new(),
        };
        let found = KINDS[..4]
            .iter()
            .filter_map(|kind| Units::find(survey, &layout, kind));
        let tests = found.max_by_key(|tests| tests.mains.len())?;
        let is_each_a_program = tests.shared.is_empty() && !tests.mains.is_empty();
        is_each_a_program.then_some((folder, tests))
    });
    let writer = Writer {
        layout: &layout,
        is_deep: groups
            .iter()
            .any(|group| group.all().any(|stem| stem.contains('/'))),
        groups: &groups,
        tests: tests.as_ref().map(|(folder, tests)| (*folder, tests)),
    };
    let mut section = writer.section(names);
    section.left.extend(left);
    Some(section)
}

struct Writer<'w> {
    layout: &'w Layout,
    /// Whether sources lie in folders below that of the layout.
    is_deep: bool,
    /// The first has the programs.
    groups: &'w [Units],
    /// Each a program, and their folder.
    tests: Option<(&'w str, &'w Units)>,
}

impl Writer<'_> {
    fn mains(&self) -> &[String] {
        &self.groups[0].mains
    }

    fn section(&self, names: &mut Names) -> Section {
        let mut body = String::new();
        for (at, group) in self.groups.iter().enumerate() {
            self.objects(at, group, &mut body);
        }
        self.programs(names, &mut body);
        self.check(names, &mut body);
        for path in [
            "out/obj",
            "out/bin",
            "out/tests",
            "out/program",
            "out/library.a",
        ] {
            names.target(path);
        }
        let default = match self.mains().len() {
            0 => "out/library.a",
            1 => "out/program",
            _ if self.mains().iter().any(|main| main.contains('/')) => "out/bin/**",
            _ => "out/bin/*",
        };
        let of_group = |place: &str, units: &Units| -> Vec<String> {
            let ending = units.kind.ending;
            units
                .all()
                .map(|stem| format!("{place}{stem}.{ending}"))
                .collect()
        };
        let mut covers: Vec<String> = self
            .groups
            .iter()
            .flat_map(|group| of_group(&self.layout.place, group))
            .collect();
        if let Some((place, tests)) = self.tests {
            covers.extend(of_group(place, tests));
        }
        Section {
            told: self.told(),
            lets: self.lets(),
            body,
            default: vec![default.to_owned()],
            holds_back: self.tests.is_some()
                || self.groups.iter().any(|group| !group.apart.is_empty()),
            covers,
            ..Section::default()
        }
    }

    fn told(&self) -> String {
        let mut kinds: Vec<(&str, usize)> = Vec::new();
        for group in self.groups {
            match kinds.iter_mut().find(|(name, _)| *name == group.kind.name) {
                Some((_, count)) => *count += group.count(),
                None => kinds.push((group.kind.name, group.count())),
            }
        }
        let kinds = kinds
            .into_iter()
            .map(|(name, count)| text::count(count, &format!("{name} source")));
        let mut told = kinds.collect::<Vec<_>>().join(" and ");
        match self.mains() {
            [] => told.push_str(" of a library"),
            [_] => {}
            mains => {
                let _ = write!(told, " of {}", text::count(mains.len(), "program"));
            }
        }
        if let Some((_, tests)) = self.tests {
            let _ = write!(told, " with {}", text::count(tests.mains.len(), "test"));
        }
        told
    }

    fn lets(&self) -> Vec<(&'static str, String)> {
        let tests = self.tests.iter().map(|(_, tests)| *tests);
        let kinds: Vec<&Kind> = self
            .groups
            .iter()
            .chain(tests)
            .map(|group| group.kind)
            .collect();
        let mut lets = Vec::new();
        let headers = self.layout.headers.iter();
        let include: String = headers
            .map(|folder| format!(" {}", word(&format!("-I{folder}"))))
            .collect();
        for (compiler, program, flags) in [("cc", "cc", "cflags"), ("cxx", "c++", "cxxflags")] {
            let of = kinds.iter().filter(|kind| kind.compiler == compiler);
            if of.clone().count() == 0 {
                continue;
            }
            lets.push((compiler, format!("let {compiler} = {program}\n")));
            if of.clone().all(|kind| !kind.has_headers) {
                continue;
            }
            lets.push(("mode", "let mode one of release debug\n".to_owned()));
            lets.push((
                flags,
                format!(
                    "let {flags} = -Wall -Wextra{include}
let {flags} += -O2 when @{{mode}} is release
let {flags} += -O0 -g when @{{mode}} is debug
"
                ),
            ));
        }
        let libraries = self.libraries();
        if !libraries.is_empty() {
            lets.push(("libs", format!("let libs = {libraries}\n")));
        }
        lets
    }

    fn libraries(&self) -> String {
        let tests = self.tests.iter().map(|(_, tests)| *tests);
        let mut flags: Vec<&str> = Vec::new();
        for group in self.groups.iter().chain(tests) {
            for (_, flag) in LIBRARIES
                .iter()
                .filter(|(name, _)| group.includes.contains(*name))
            {
                if !flags.contains(flag) {
                    flags.push(flag);
                }
            }
        }
        flags.join(" ")
    }

    /// The objects of one kind. Those of the first have the plain names.
    fn objects(&self, at: usize, group: &Units, body: &mut String) {
        let stars = if self.is_deep { "**" } else { "" };
        let except: Vec<String> = self
            .layout
            .except
            .iter()
            .map(|folder| format!(" {folder}/**"))
            .collect();
        let except = match except.is_empty() || !self.is_deep {
            true => String::new(),
            false => format!(" except{}", except.concat()),
        };
        let kind = group.kind;
        let (compiler, flags, ending) = (kind.compiler, kind.flags, kind.ending);
        if at == 0 {
            body.push_str(
                "\n# One object for each source; the compiler tells which headers it read.\n",
            );
        } else {
            body.push('\n');
        }
        let _ = write!(
            body,
            "target {}
  about: One compiled unit{}
  needs each {}<unit{stars}>.{ending}{except}
",
            self.object(at, &format!("<unit{stars}>")),
            if at == 0 {
                String::new()
            } else {
                format!(" in {}", kind.name)
            },
            self.layout.place,
        );
        body.push_str(&match kind.has_headers {
            true => format!(
                "  learn\n  recipe: @{{{compiler}}} @{{{flags}}} -MMD -MF @{{learn}} -c @{{needs}} -o @{{target}}\n"
            ),
            false => format!("  recipe: @{{{compiler}}} -c @{{needs}} -o @{{target}}\n"),
        });
    }

    fn object(&self, at: usize, stem: &str) -> String {
        match at {
            0 => format!("out/obj/{stem}.o"),
            at => format!("out/obj/{stem}.{}.o", self.groups[at].kind.ending),
        }
    }

    /// The words that link a program; `other` is the kind of what is linked with the rest.
    fn link(&self, words: &str, other: Option<&Kind>) -> String {
        let mut kinds = self.groups.iter().map(|group| group.kind).chain(other);
        let compiler = match kinds.any(|kind| kind.compiler == "cxx") {
            true => "cxx",
            false => "cc",
        };
        let libs = if self.libraries().is_empty() {
            ""
        } else {
            " @{libs}"
        };
        format!("  recipe: @{{{compiler}}} {words}{libs} -o @{{target}}\n")
    }

    fn all_objects(&self) -> &'static str {
        if self.is_deep {
            "out/obj/**/*.o"
        } else {
            "out/obj/*.o"
        }
    }

    /// All objects but those of programs, when these are not to be among them.
    fn objects_without(&self, leaves_mains: bool) -> String {
        let mut without = Vec::new();
        for (at, group) in self.groups.iter().enumerate() {
            let mains = group.mains.iter().filter(|_| leaves_mains);
            without.extend(
                group
                    .apart
                    .iter()
                    .chain(mains)
                    .map(|stem| self.object(at, stem)),
            );
        }
        match &without[..] {
            [] => self.all_objects().to_owned(),
            without => format!(
                "{} except {}",
                self.all_objects(),
                words(without.iter().map(String::as_str))
            ),
        }
    }

    fn has_shared(&self) -> bool {
        self.groups.iter().any(|group| !group.shared.is_empty())
    }

    fn programs(&self, names: &mut Names, body: &mut String) {
        let objects = self.objects_without(false);
        let exactly = format!(
            "# `{}` is exactly the objects described above.\n",
            self.all_objects()
        );
        let what = "start";
        match self.mains() {
            [] => {
                let _ = write!(
                    body,
                    "\n{exactly}target out/library.a\n  about: The library\n  needs {objects}\n  recipe: ar rcs @{{target}} @{{needs}}\n"
                );
            }
            [_] => {
                let task = names.task(what, "program");
                let _ = write!(
                    body,
                    "\n{exactly}target out/program\n  about: The program\n  needs {objects}\n{}
task {task}
  about: Start the program
  needs out/program
  recipe: ./@{{needs}} @{{extra}}
",
                    self.link("@{needs}", None)
                );
            }
            mains => {
                let task = names.task(what, "program");
                let programs = words(mains.iter().map(String::as_str));
                let program = if mains.iter().any(|main| main.contains('/')) {
                    "<program**>"
                } else {
                    "<program>"
                };
                let each: Vec<String> = mains.iter().map(|main| word(main)).collect();
                let _ = write!(
                    body,
                    "\ntarget out/bin/{program}\n  about: A program\n{}{}
task {task} program one of {programs}
  about: Start a program
  needs out/bin/@{{program}}
  recipe: ./@{{needs}} @{{extra}}
",
                    clause("each program in", &each),
                    self.linked(&format!("own: {}", self.object(0, "<program>")), None)
                );
            }
        }
    }

    /// The prerequisites and the recipe of a program with an object of its own.
    fn linked(&self, own: &str, kind: Option<&Kind>) -> String {
        if self.has_shared() {
            let shared = self.objects_without(true);
            let link = self.link("@{own} @{shared}", kind);
            format!("  needs\n    {own}\n    shared: {shared}\n{link}")
        } else {
            format!("  needs\n    {own}\n{}", self.link("@{own}", kind))
        }
    }

    fn check(&self, names: &mut Names, body: &mut String) {
        let Some((folder, tests)) = self.tests else {
            return;
        };
        let (compiler, flags, ending) = (tests.kind.compiler, tests.kind.flags, tests.kind.ending);
        let task = names.task("check", "compiled");
        let linked = self.linked("own: each out/tests/obj/<test>.o", Some(tests.kind));
        let _ = write!(
            body,
            "
target out/tests/obj/<test>.o
  about: One compiled test
  needs each {folder}<test>.{ending}
  learn
  recipe: @{{{compiler}}} @{{{flags}}} -MMD -MF @{{learn}} -c @{{needs}} -o @{{target}}

target out/tests/<test>
  about: One test
{linked}
task {task}
  about: Run the tests
  needs out/tests/*
  recipe:
    for test in @{{needs}}; do
      echo \"$test\"
      \"./$test\"
    done
"
        );
    }
}
