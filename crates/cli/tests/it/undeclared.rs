//! What recipes read, list and look for without saying so: random histories against a model of what each step sees, a
//! search path, a C project and a Python project in which nothing but the sources is named.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::fmt::Write as _;

use crate::bed::Bed;

/// A small generator of numbers, so that a history can be told by its seed.
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % bound
    }
}

/// What one line of a recipe looks at.
#[derive(Clone, Copy, Debug)]
enum Look {
    /// Reads a file, or finds that it is not there.
    Read(usize),
    /// Asks whether a name is there.
    Ask(usize),
    /// Lists a folder.
    List(usize),
}

const FILES: [&str; 7] = [
    "a/one",
    "a/two",
    "b/one",
    "b/deep/three",
    "c/four",
    "top",
    "b/deep/er/five",
];
const FOLDERS: [&str; 4] = ["a", "b/deep", "c", "."];

struct World {
    files: BTreeMap<&'static str, String>,
}

impl World {
    fn is_folder(&self, folder: &str) -> bool {
        let below = format!("{folder}/");
        folder == "." || self.files.keys().any(|file| file.starts_with(&below))
    }

    /// The names in a folder, as `ls` has them; the root also has the description and what holds outputs.
    fn names(&self, folder: &str) -> String {
        let below = if folder == "." {
            String::new()
        } else {
            format!("{folder}/")
        };
        let mut names: BTreeSet<&str> = self
            .files
            .keys()
            .filter_map(|file| file.strip_prefix(&below))
            .map(|rest| rest.split('/').next().unwrap())
            .collect();
        if folder == "." {
            names.extend(["hand.loom", "out"]);
        }
        names.into_iter().map(|name| format!("{name}\n")).collect()
    }

    fn seen(&self, looks: &[Look]) -> String {
        let mut out = String::new();
        for look in looks {
            match look {
                Look::Read(file) => match self.files.get(FILES[*file]) {
                    Some(text) => writeln!(out, "{text}").unwrap(),
                    None => out.push_str("nothing\n"),
                },
                Look::Ask(file) => {
                    let there = self.files.contains_key(FILES[*file]);
                    writeln!(out, "{}", if there { "yes" } else { "no" }).unwrap();
                }
                Look::List(folder) if self.is_folder(FOLDERS[*folder]) => {
                    out.push_str(&self.names(FOLDERS[*folder]));
                }
                Look::List(_) => out.push_str("no folder\n"),
            }
        }
        out
    }

    /// What a step depends on: as it sees it, and the contents of what it only asks for, since a program may do more
    /// than ask.
    fn depends(&self, looks: &[Look]) -> String {
        let asked: Vec<Look> = looks
            .iter()
            .map(|look| match look {
                Look::Ask(file) => Look::Read(*file),
                other => *other,
            })
            .collect();
        self.seen(&asked)
    }
}

fn line(look: Look) -> String {
    match look {
        Look::Read(file) => {
            let file = FILES[file];
            format!("if test -e {file}; then cat {file}; else echo nothing; fi")
        }
        Look::Ask(file) => format!(
            "if test -e {}; then echo yes; else echo no; fi",
            FILES[file]
        ),
        Look::List(folder) => format!(
            "LC_ALL=C ls {} 2>/dev/null || echo no folder",
            FOLDERS[folder]
        ),
    }
}

fn history(seed: u64) {
    let mut dice = Dice(seed);
    let steps: Vec<Vec<Look>> = (0..4)
        .map(|_| {
            let count = 1 + dice.below(3);
            let look = |dice: &mut Dice| match dice.below(5) {
                0 | 1 => Look::Read(dice.below(FILES.len())),
                2 | 3 => Look::Ask(dice.below(FILES.len())),
                _ => Look::List(dice.below(FOLDERS.len())),
            };
            (0..count).map(|_| look(&mut dice)).collect()
        })
        .collect();
    let mut loom = String::new();
    if dice.below(2) == 0 {
        loom.push_str("setting recipes = watched\n");
    }
    let by_setting = !loom.is_empty();
    for (index, looks) in steps.iter().enumerate() {
        let learn = if by_setting { "" } else { "  learn watched\n" };
        write!(
            loom,
            "target out/{index}\n{learn}  recipe:\n    exec > @{{target}}\n"
        )
        .unwrap();
        for look in looks {
            writeln!(loom, "    {}", line(*look)).unwrap();
        }
    }
    let bed = Bed::new(&loom);
    let mut world = World {
        files: BTreeMap::new(),
    };
    let mut known: Vec<Option<String>> = vec![None; steps.len()];
    for round in 0..10 {
        for _ in 0..dice.below(3) {
            let file = FILES[dice.below(FILES.len())];
            if world.files.contains_key(file) && dice.below(2) == 0 {
                world.files.remove(file);
                bed.remove(file);
                // What is empty goes too, as with version control.
                let mut folder = bed.path(file);
                while folder.pop() && folder != bed.root() && std::fs::remove_dir(&folder).is_ok() {
                }
            } else {
                let text = format!("{}", dice.below(4));
                bed.write(file, &format!("{text}\n"));
                world.files.insert(file, text);
            }
        }
        let expected: Vec<String> = (0..steps.len())
            .filter(|&step| known[step].as_deref() != Some(&*world.depends(&steps[step])))
            .map(|step| format!("out/{step}"))
            .collect();
        let jobs = if dice.below(2) == 0 { "-j1" } else { "-j2" };
        let run = bed.weave(&[jobs]).status(0);
        let mut ran: Vec<String> = run
            .events
            .iter()
            .filter(|event| event["event"] == "ended")
            .map(|event| event["step"].as_str().unwrap().to_owned())
            .collect();
        ran.sort();
        assert_eq!(
            ran,
            expected,
            "seed {seed}, round {round}\n{loom}\n{}",
            run.shown()
        );
        for (step, looks) in steps.iter().enumerate() {
            assert_eq!(
                bed.read(&format!("out/{step}")),
                world.seen(looks),
                "seed {seed}, round {round}, step {step}\n{loom}\n{}",
                run.shown()
            );
            known[step] = Some(world.depends(looks));
        }
    }
}

#[test]
fn whatever_a_recipe_looks_at_decides_when_it_runs_again() {
    let count = std::env::var("HANDLOOM_HISTORIES")
        .ok()
        .and_then(|count| count.parse().ok())
        .unwrap_or(25);
    for seed in 0..count {
        history(seed);
    }
}

#[test]
fn every_order_in_which_headers_come_and_go_in_a_search_path() {
    let bed = Bed::new(
        "target out/x.o\n  needs x.c\n  learn watched\n  recipe: cc -E -P -Ifirst -Isecond -Ithird x.c > @{target}\n",
    );
    bed.write("x.c", "#include \"x.h\"\n");
    let folders = ["first", "second", "third"];
    let mut there = [false, false, true];
    bed.write("third/x.h", "third\n");
    // A folder that is not there at all is left out of the path, so that its coming is a reason.
    for folder in folders {
        bed.write(&format!("{folder}/other.h"), "");
    }
    let _ = bed.weave(&[]).status(0);
    // A walk over all states but the empty one, and back by other edges.
    for flipped in [
        0, 1, 0, 2, 0, 1, 2, 0, 2, 1, 0, 1, 2, 1, 2, 0, 1, 0, 2, 1, 2,
    ] {
        let first = |there: &[bool; 3]| there.iter().position(|is| *is);
        let before = first(&there);
        there[flipped] = !there[flipped];
        if first(&there).is_none() {
            there[flipped] = true;
            continue;
        }
        let name = format!("{}/x.h", folders[flipped]);
        if there[flipped] {
            bed.write(&name, &format!("{}\n", folders[flipped]));
        } else {
            bed.remove(&name);
        }
        let after = first(&there);
        let run = bed.weave(&[]).status(0);
        let made = run.events.iter().any(|event| event["event"] == "ended");
        // Behind the one that is found nothing was looked for.
        assert_eq!(made, before != after, "{there:?} {}", run.shown());
        assert_eq!(bed.read("out/x.o").trim(), folders[after.unwrap()]);
    }
}

/// What a header of the C project includes: two others of higher number.
fn included(header: usize) -> [usize; 2] {
    [header * 2 + 1, header * 2 + 2]
}

const UNITS: usize = 200;
const HEADERS: usize = 60;

/// Which headers a unit reads, itself and through others.
fn headers_of(unit: usize, extra: &BTreeMap<usize, usize>) -> BTreeSet<usize> {
    let mut open = vec![unit % HEADERS];
    open.extend(extra.get(&unit));
    let mut all = BTreeSet::new();
    while let Some(header) = open.pop() {
        if header < HEADERS && all.insert(header) {
            open.extend(included(header));
        }
    }
    all
}

#[test]
fn a_c_project_that_names_nothing_but_its_units() {
    let bed = Bed::in_memory(
        "target out/<unit>.o\n  needs each src/<unit>.c\n  learn watched\n  recipe: cc -Iown -Iinclude -c @{needs} -o @{target}\n\ntarget out/program\n  needs out/*.o\n  recipe: cc @{needs} -o @{target}\n",
    );
    let header = |number: usize, value: usize| {
        let mut text = format!("#pragma once\n#define V{number} {value}\n");
        for other in included(number)
            .into_iter()
            .filter(|other| *other < HEADERS)
        {
            writeln!(text, "#include <h{other}.h>").unwrap();
        }
        text
    };
    for number in 0..HEADERS {
        bed.write(&format!("include/h{number}.h"), &header(number, 0));
    }
    let unit = |number: usize, other: Option<usize>| {
        let first = number % HEADERS;
        let more = other
            .map(|other| format!("#include <h{other}.h>\n"))
            .unwrap_or_default();
        format!("#include <h{first}.h>\n{more}int f{number}(void) {{ return V{first}; }}\n")
    };
    for number in 0..UNITS {
        bed.write(&format!("src/u{number}.c"), &unit(number, None));
    }
    bed.write("own/readme.txt", "headers that take the place of others\n");
    bed.write(
        "src/main.c",
        "int f3(void);\nint main(void) { return f3(); }\n",
    );
    bed.weave(&[]).status(0);
    bed.weave(&[]).all_kept(UNITS + 2);
    let mut extra: BTreeMap<usize, usize> = BTreeMap::new();
    let mut own: BTreeSet<usize> = BTreeSet::new();
    let mut dice = Dice(7);
    for edit in 1..=20 {
        let changed: BTreeSet<usize> = match edit % 4 {
            // A header says something else.
            0 | 1 => {
                let number = dice.below(HEADERS);
                let folder = if own.contains(&number) {
                    "own"
                } else {
                    "include"
                };
                bed.write(&format!("{folder}/h{number}.h"), &header(number, edit));
                (0..UNITS)
                    .filter(|unit| headers_of(*unit, &extra).contains(&number))
                    .collect()
            }
            // A unit reads one header more.
            2 => {
                let (number, other) = (dice.below(UNITS), dice.below(HEADERS));
                extra.insert(number, other);
                bed.write(&format!("src/u{number}.c"), &unit(number, Some(other)));
                BTreeSet::from([number])
            }
            // A header comes in front of another in the search path, or goes again.
            _ => {
                let number = dice.below(HEADERS);
                let name = format!("own/h{number}.h");
                if own.remove(&number) {
                    bed.remove(&name);
                } else {
                    own.insert(number);
                    bed.write(&name, &header(number, 1000 + edit));
                }
                (0..UNITS)
                    .filter(|unit| headers_of(*unit, &extra).contains(&number))
                    .collect()
            }
        };
        let run = bed.weave(&[]).status(0);
        let ran: BTreeSet<String> = run
            .events
            .iter()
            .filter(|event| event["event"] == "ended" && event["step"] != "out/program")
            .map(|event| event["step"].as_str().unwrap().to_owned())
            .collect();
        let expected: BTreeSet<String> = changed
            .iter()
            .map(|unit| format!("out/u{unit}.o"))
            .collect();
        assert_eq!(ran, expected, "edit {edit}: {}", run.shown());
    }
}

#[test]
fn a_python_project_with_packages() {
    let bed = Bed::new(
        "target out/<name>.txt\n  needs each scripts/<name>.py\n  learn watched\n  recipe: python3 @{needs} > @{target}\n",
    );
    let script = |modules: &str| format!("import sys\nsys.path.insert(0, 'lib')\n{modules}\n");
    bed.write("lib/light/__init__.py", "");
    bed.write("lib/light/colour.py", "NAME = 'amber'\n");
    bed.write(
        "lib/light/range.py",
        "from light import colour\nMILES = 9\n",
    );
    bed.write("lib/tide.py", "HEIGHT = 2\n");
    bed.write("config/harbour.txt", "Vell\n");
    bed.write("scripts/plain.py", &script("print('plain')"));
    bed.write(
        "scripts/colour.py",
        &script("from light import colour; print(colour.NAME)"),
    );
    bed.write(
        "scripts/range.py",
        &script("from light import range; print(range.MILES, range.colour.NAME)"),
    );
    bed.write(
        "scripts/tide.py",
        &script("import tide; print(tide.HEIGHT, open('config/harbour.txt').read())"),
    );
    let ran = |bed: &Bed| -> Vec<String> {
        let run = bed.weave(&[]).status(0);
        let ended = run.events.iter().filter(|event| event["event"] == "ended");
        let mut names: Vec<String> = ended
            .map(|event| {
                event["step"]
                    .as_str()
                    .unwrap()
                    .trim_start_matches("out/")
                    .to_owned()
            })
            .collect();
        names.sort();
        names
    };
    assert_eq!(ran(&bed).len(), 4);
    assert!(ran(&bed).is_empty());
    let edits: &[(&str, &str, &[&str])] = &[
        (
            // Of another length: Python knows a module by its size and the second that it was written in.
            "lib/light/colour.py",
            "NAME = 'white light'\n",
            &["colour.txt", "range.txt"],
        ),
        (
            "lib/light/range.py",
            "from light import colour\nMILES = 10\n",
            &["range.txt"],
        ),
        (
            "lib/light/__init__.py",
            "# lights\n",
            &["colour.txt", "range.txt"],
        ),
        // Of another size, since Python's own cache of modules knows them by size and second.
        ("lib/tide.py", "HEIGHT = 3 + 0\n", &["tide.txt"]),
        ("config/harbour.txt", "Skarn\n", &["tide.txt"]),
        ("config/other.txt", "nobody reads it\n", &[]),
        ("scripts/plain.py", "print('plainer')\n", &["plain.txt"]),
        // A module that takes another's place comes into a folder that is listed.
        ("lib/light.py", "", &["colour.txt", "range.txt", "tide.txt"]),
    ];
    for (file, text, expected) in edits {
        bed.write(file, text);
        assert_eq!(ran(&bed), *expected, "{file}");
        assert!(ran(&bed).is_empty(), "{file}");
    }
    assert_eq!(bed.read("out/range.txt"), "10 white light\n");
    assert_eq!(bed.read("out/tide.txt"), "3 Skarn\n\n");
}
