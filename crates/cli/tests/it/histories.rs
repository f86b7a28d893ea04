//! Random histories of a small real project on the built program: edits, tampering, changed flags, renamed
//! targets, lists from commands, links and executable bits, recipes that fail, files of the user's in outputs'
//! places, runs that are killed while their jobs live on. After each, the outputs are byte for byte those of
//! a fresh copy, another run has nothing to do, and whatever the user wrote is still somewhere.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;

use crate::bed::Bed;
use crate::bed::Run;
use crate::standing::Standing;

/// `fail` is no prerequisite: it stands for whatever lets a recipe fail once.
const LOOM: &str = "let mark = one
let name = first
let picks = output cat src/picks
target out/<n>.up
  needs each src/<n>.txt
  learn lines
  recipe:
    { tr a-z A-Z < @{needs}; cat inc/common; echo @{mark}; } > @{target}
    echo inc/common > @{learn}
target out/all
  needs out/*.up
  recipe: sleep 0.01; cat @{needs} > @{target}; test ! -e fail
target out/size
  needs out/all
  recipe: echo half > @{target}; sleep 0.01; test ! -e fail; wc -c < @{needs} > @{target}
target out/latest
  needs out/size
  recipe: ln -s all @{target}
target out/behind
  needs out/latest
  recipe: cat @{needs} > @{target}
target tree/
  needs out/size
  recipe:
    cp @{needs} @{target}/size
    for n in 1 2 3; do echo $n > @{target}/$n; done
    ln -s size @{target}/link; chmod +x @{target}/1
target last
  needs tree/*
  recipe: cat @{needs} > @{target}
target gen/common.h
  needs inc/common
  recipe: sed s/^/gen-/ @{needs} > @{target}
target out/user
  after gen/common.h
  needs src/a.txt
  learn lines
  recipe: cat @{needs} gen/common.h > @{target}; echo gen/common.h > @{learn}
target out/@{name}.list
  needs data/
  recipe: ls -lL data | cut -c1-10 > @{target}; cat data/* >> @{target}
target out/pick.<p>
  each p in @{picks}
  needs src/a.txt
  recipe: { echo @{p}; cat @{needs}; } > @{target}
";

/// The same without a list that a command prints, of which nobody is told, and without what every run looks at
/// anew: folders that have links in them, and patterns in a folder that a step makes. With a pattern over what steps
/// make where that is asked for.
fn told_loom(with_pattern: bool) -> String {
    let start = LOOM.split("target out/pick").next().unwrap();
    let pattern = "target again/<n>\n  needs each out/<n>.up\n  recipe: cat @{needs} > @{target}\n";
    let told = start
        .replace("let picks = output cat src/picks\n", "")
        .replace("    ln -s size @{target}/link; ", "    ")
        .replace(
            "needs tree/*\n  recipe: cat @{needs}",
            "needs tree/\n  recipe: cat tree/*",
        )
        .replace("needs data/\n", "needs data/plain data/to\n")
        .replace("ls -lL data |", "ls -lL @{needs} |")
        .replace("cat data/*", "cat @{needs}");
    told + if with_pattern { pattern } else { "" }
}

/// The same without a folder that is made as a whole.
fn without_tree(loom: &str) -> String {
    let (front, behind) = loom.split_once("target tree/").unwrap();
    let behind = behind.split_once("target gen/").unwrap().1;
    format!("{front}target gen/{behind}")
}

/// Steps whose outputs are left away, and that go on from what is there; and what is made from them.
const MANNERS: &str = "target out/mid
  needs out/all
  fleeting
  recipe: tr A-Z a-z < @{needs} > @{target}
target out/mid2
  needs out/mid inc/common
  fleeting
  recipe: cat @{needs} > @{target}; test ! -e fail
target out/end
  needs out/mid2 src/a.txt
  recipe: cat @{needs} > @{target}
target out/on
  needs out/size
  resumes
  recipe: echo half > @{target}; sleep 0.01; cp @{needs} @{target}
";

/// Targets that come and go, each with where it stands: in front of these words.
const MORE: [(&str, &str); 4] = [
    (
        "target out/<n>.up",
        "target more/one\n  needs src/a.txt\n  recipe: cp @{needs} @{target}\n",
    ),
    (
        "target out/latest",
        "target more/two more/three\n  needs src/a.txt out/size\n  recipe: for o in @{target}; do cat @{needs} > $o; done\n",
    ),
    (
        "target out/user",
        "target more/four\n  needs more/five src/a.txt\n  recipe: cat @{needs} > @{target}\ntarget more/five\n  after out/all\n  recipe: echo 5 > @{target}\n",
    ),
    (
        "target out/behind",
        "target out/extra.up\n  needs src/a.txt\n  recipe: cp @{needs} @{target}\n",
    ),
];

/// A small generator of numbers; the seed makes each history repeatable.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }

    fn pick<T: Copy>(&mut self, of: &[T]) -> T {
        of[usize::try_from(self.roll(of.len() as u64)).unwrap()]
    }
}

/// A project and what its user did to it.
struct History {
    bed: Bed,
    loom: String,
    /// What two variables hold.
    values: [&'static str; 2],
    /// Which of [`MORE`] are described, and whether a target needs one thing more.
    more: [bool; 5],
    dice: Dice,
    /// What the user wrote where outputs belong: each a text of its own.
    foreign: Vec<String>,
}

impl History {
    fn new(seed: u64, loom: &str) -> Self {
        Self::in_bed(Bed::new(loom), seed, loom)
    }

    fn in_bed(bed: Bed, seed: u64, loom: &str) -> Self {
        for (path, text) in [
            ("src/a.txt", "a\n"),
            ("src/c d.txt", "c\n"),
            ("src/picks", "x y\n"),
            ("inc/common", "common\n"),
            ("data/plain", "plain\n"),
            ("data/to", "to\n"),
            ("else/where", "else\n"),
        ] {
            bed.write(path, text);
        }
        symlink("../else/where", bed.path("data/link")).unwrap();
        Self {
            bed,
            loom: loom.to_owned(),
            values: ["one", "first"],
            more: [false; 5],
            dice: Dice(seed * 7919 + 1),
            foreign: Vec::new(),
        }
    }

    /// Writes the description.
    fn describe(&self) {
        let [mark, name] = self.values;
        let mut loom = self.loom.replace("= one", &format!("= {mark}"));
        loom = loom.replace("= first", &format!("= {name}"));
        for ((place, text), _) in MORE.iter().zip(self.more).filter(|(_, is)| *is) {
            loom = loom.replacen(place, &format!("{text}{place}"), 1);
        }
        if self.more[4] {
            loom = loom.replace("needs out/latest\n", "needs out/latest src/a.txt\n");
        }
        self.bed.write("hand.loom", &loom);
    }

    fn act(&mut self) {
        let (bed, dice) = (&self.bed, &mut self.dice);
        let name = format!("src/{}.txt", dice.pick(&["a", "b", "c d", "e"]));
        let text = format!("text {}\n", dice.roll(3));
        match dice.roll(19) {
            0..=2 => bed.write(&name, &text),
            3 => {
                let _ = fs::remove_file(bed.path(&name));
                bed.write("src/a.txt", "always\n");
            }
            4 => bed.write("inc/common", &text),
            5 => {
                self.values = [dice.pick(&["one", "two"]), dice.pick(&["first", "second"])];
                self.describe();
            }
            6..=8 => self.intrude(),
            9 => {
                let path = bed.path(dice.pick(&["out/size", "out/latest", "tree/2"]));
                self.foreign.retain(|known| !holds(&path, known));
                let _ = fs::remove_file(path);
            }
            10 => bed.write("src/picks", dice.pick(&["x y\n", "y\n", "z x\n"])),
            11 => {
                let mode = dice.pick(&[0o644, 0o755]);
                let path = bed.path(dice.pick(&["data/plain", "else/where"]));
                fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
            }
            12 => {
                fs::remove_file(bed.path("data/link")).unwrap();
                let to = dice.pick(&["to", "plain", "../else/where"]);
                symlink(to, bed.path("data/link")).unwrap();
            }
            13 => bed.write(dice.pick(&["else/where", "data/to"]), &text),
            14 => self.fail(),
            15..=17 => {
                let which = dice.pick(&[0, 1, 2, 3, 4]);
                self.more[which] = !self.more[which];
                self.describe();
            }
            _ => self.kill(),
        }
    }

    /// The user writes where outputs belong.
    fn intrude(&mut self) {
        const PLACES: [&str; 7] = [
            "out/all",
            "out/size",
            "out/a.up",
            "out/latest",
            "out/user",
            "gen/common.h",
            "tree/2",
        ];
        let has_tree = self.loom.contains("target tree/");
        let places = &PLACES[..PLACES.len() - usize::from(!has_tree)];
        let path = self.bed.path(self.dice.pick(places));
        let text = format!("the user's {}", self.foreign.len());
        // What was the user's before is replaced by the user, and so no loss.
        self.foreign.retain(|known| !holds(&path, known));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        let _ = fs::remove_file(&path);
        if self.dice.roll(3) == 0 {
            symlink(&text, &path).unwrap();
        } else {
            fs::write(&path, &text).unwrap();
        }
        self.foreign.push(text);
    }

    /// A run whose recipes fail leaves the old outputs where they were.
    fn fail(&mut self) {
        let bed = &self.bed;
        bed.write("fail", "");
        let _ = bed.run(&["-j2"]);
        let before = fs::read(bed.path("out/size")).ok();
        bed.write("inc/common", &format!("failing {}\n", self.dice.roll(1000)));
        let _ = bed.run(&["-j2", "--on-failure", self.dice.pick(&["continue", "stop"])]);
        assert_eq!(fs::read(bed.path("out/size")).ok(), before);
        bed.remove("fail");
    }

    /// Starts a run and kills it after a random number of its own outputs' first bytes can be there; its
    /// jobs live on.
    fn kill(&mut self) {
        let mut child = self
            .bed
            .command(&["-j2"])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        for _ in 0..self.dice.roll(100) {
            std::thread::sleep(std::time::Duration::from_micros(300));
        }
        let _ = child.kill();
        child.wait().unwrap();
    }

    fn nothing_to_do(&self, seed: u64) {
        let run: Run = self.bed.weave(&[]).status(0);
        let ended: Vec<_> = run
            .events
            .iter()
            .filter(|event| event["event"] == "ended")
            .collect();
        assert!(ended.is_empty(), "seed {seed}: {}", run.shown());
    }

    /// The outputs are those of a fresh copy, and another run has nothing to do.
    fn is_as_fresh(&self, seed: u64) {
        let bed = &self.bed;
        bed.run(&["clean", "--leftovers"]).status(0);
        self.nothing_to_do(seed);
        let fresh = bed.root().with_file_name("fresh");
        fs::create_dir(&fresh).unwrap();
        for part in ["src", "inc", "data", "else", "hand.loom"] {
            let mut copy = Command::new("cp");
            copy.arg("-a").arg(bed.path(part)).arg(&fresh);
            assert!(copy.status().unwrap().success(), "{part}");
        }
        let mut command = bed.command(&["-j1"]);
        command
            .current_dir(&fresh)
            .env("HANDLOOM_STORE_USE", "never");
        bed.finish(command, &["fresh"]).status(0);
        assert_eq!(made(&bed.root()), made(&fresh), "seed {seed}");
    }

    /// What the user wrote is in its place or below `.handloom/`.
    fn nothing_is_lost(&self, seed: u64) {
        let mut all = Vec::new();
        contents(&self.bed.root(), "", true, &mut all);
        for text in &self.foreign {
            let is_there = all
                .iter()
                .any(|(_, content)| content.ends_with(text.as_str()));
            assert!(is_there, "seed {seed}: {text} is lost; {all:#?}");
        }
    }
}

/// Whether a file holds a text, or a link says it.
fn holds(path: &Path, text: &str) -> bool {
    fs::read_link(path).is_ok_and(|link| link == Path::new(text))
        || fs::read(path).is_ok_and(|bytes| bytes == text.as_bytes())
}

/// All files below a folder with what they hold, whether they are executable, and what links say.
fn contents(folder: &Path, prefix: &str, own: bool, found: &mut Vec<(String, String)>) {
    let mut names: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort_unstable();
    for name in names {
        let path = folder.join(&name);
        let stat = fs::symlink_metadata(&path).unwrap();
        let shown = format!("{prefix}{name}");
        if shown == ".handloom" && !own {
            continue;
        }
        if stat.is_symlink() {
            let link = fs::read_link(&path).unwrap();
            found.push((shown, format!("-> {}", link.display())));
        } else if stat.is_dir() {
            contents(&path, &format!("{shown}/"), own, found);
        } else if stat.is_file() {
            let is_executable = stat.permissions().mode() & 0o111 != 0;
            let bytes = fs::read(&path).unwrap();
            let text = String::from_utf8_lossy(&bytes);
            found.push((shown, format!("executable: {is_executable} {text}")));
        }
    }
}

/// All made files of a project.
fn made(root: &Path) -> Vec<(String, String)> {
    let mut found = Vec::new();
    contents(root, "", false, &mut found);
    let sources = ["src/", "inc/", "data/", "else/", "hand.loom"];
    found.retain(|(path, _)| !sources.iter().any(|source| path.starts_with(source)));
    // Whether these are there depends on what ran last.
    found.retain(|(path, _)| !path.starts_with("out/mid"));
    found
}

#[test]
fn any_history_leaves_what_a_fresh_copy_makes() {
    let asked = std::env::var("HANDLOOM_HISTORIES").ok();
    let histories = asked.map_or(40, |count| count.parse().unwrap());
    for seed in 0..histories {
        let loom = match seed % 3 {
            0 => LOOM.to_owned(),
            1 => without_tree(LOOM),
            _ => without_tree(LOOM) + MANNERS,
        };
        let mut history = History::new(seed, &loom);
        for _ in 0..history.dice.roll(6) + 1 {
            for _ in 0..history.dice.roll(5) {
                history.act();
            }
            history.bed.run(&["-j2"]).status(0);
            history.nothing_is_lost(seed);
        }
        history.is_as_fresh(seed);
    }
}

/// The same with a store, which two copies of the project share that go ways of their own: whatever comes out of
/// it is what a fresh copy would make, and some of it comes out of it.
#[test]
fn any_history_with_a_store_leaves_what_a_fresh_copy_makes() {
    let asked = std::env::var("HANDLOOM_HISTORIES").ok();
    let histories = asked.map_or(20, |count| count.parse().unwrap());
    let mut restored = 0;
    for seed in 0..histories {
        let loom = match seed % 3 {
            0 => LOOM.to_owned(),
            1 => without_tree(LOOM),
            _ => without_tree(LOOM) + MANNERS,
        };
        let first = Bed::new(&loom).with_store();
        let store = first.root().with_file_name("store");
        let second = Bed::new(&loom);
        let (first, second) = match seed % 4 {
            0 | 1 => (first, second.with_store_at(store)),
            // Each has its own, and both one behind it.
            _ => {
                let shared = first.root().with_file_name("shared");
                let second = second.with_store().sharing(shared.clone());
                (first.sharing(shared), second)
            }
        };
        let mut copies = [
            History::in_bed(first, seed, &loom),
            History::in_bed(second, seed + 1_000_000, &loom),
        ];
        for _ in 0..copies[0].dice.roll(5) + 2 {
            for history in &mut copies {
                for _ in 0..history.dice.roll(5) {
                    history.act();
                }
                let run = history.bed.weave(&["-j2"]).status(0);
                let ended = run.events.iter();
                restored += ended.filter(|event| event["ending"] == "restored").count();
                history.nothing_is_lost(seed);
            }
        }
        for history in &copies {
            history.is_as_fresh(seed);
        }
    }
    assert!(restored > histories as usize, "{restored} were restored");
}

/// What the one that stands in the project says of it is true, whenever it is asked; and who is told so by it does
/// what it would have done alone.
#[test]
fn any_history_is_told_truly() {
    let asked = std::env::var("HANDLOOM_HISTORIES").ok();
    let histories = asked.map_or(12, |count| count.parse().unwrap());
    let mut unchanged = [0, 0];
    for seed in 0..histories {
        let with_pattern = seed % 2 == 1;
        let loom = told_loom(with_pattern);
        let loom = if seed % 3 == 0 {
            without_tree(&loom)
        } else {
            loom
        };
        let mut history = History::new(seed, &loom);
        history.bed.run(&[]).status(0);
        let standing = Standing::start(&history.bed, &["--quietly"]);
        for _ in 0..history.dice.roll(6) + 3 {
            // It may know already that nothing has to be done, or not yet.
            std::thread::sleep(Duration::from_millis(history.dice.roll(4) * 60));
            if with_pattern && history.dice.roll(3) == 0 {
                // What such a pattern matched within the last second is judged by every run.
                std::thread::sleep(Duration::from_millis(1100));
                for _ in 0..2 {
                    history.bed.run(&[]).status(0);
                }
                std::thread::sleep(Duration::from_millis(100));
            }
            for _ in 0..history.dice.roll(4) {
                history.act();
            }
            let answer = standing.ask();
            if answer.is_some_and(|answer| answer["Unchanged"].is_object()) {
                unchanged[usize::from(with_pattern)] += 1;
                history.nothing_to_do(seed);
            }
            history.bed.run(&[]).status(0);
            history.nothing_is_lost(seed);
        }
        history.bed.run(&[]).status(0);
        history.is_as_fresh(seed);
    }
    assert!(
        histories < 8 || unchanged.iter().all(|&told| told >= histories / 12),
        "it was asked in vain: {unchanged:?} of {histories}"
    );
}
