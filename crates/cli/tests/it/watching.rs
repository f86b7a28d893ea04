//! `handloom watch`: what runs at which change, and nothing else.

use std::fs;
use std::path::PathBuf;
use std::process::Child;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use rustix::process::Pid;
use rustix::process::Signal;
use serde_json::Value;

use crate::bed::Bed;
use crate::bed::brief;
use crate::screen::LONGEST;
use crate::screen::Terminal;
use crate::screen::state_of;
use crate::screen::wait_for;

/// The program, watching a project, with its events.
pub struct Watch<'b> {
    bed: &'b Bed,
    child: Child,
    events: PathBuf,
    /// How many events were looked at.
    seen: usize,
}

impl<'b> Watch<'b> {
    /// Starts watching; returns after the first run.
    pub fn start(bed: &'b Bed, arguments: &[&str]) -> Self {
        let events = bed.root().with_file_name("watch-events");
        let mut all = vec!["watch", "--events", events.to_str().unwrap()];
        all.extend(arguments);
        let child = bed
            .command(&all)
            .stdout(fs::File::create(bed.root().with_file_name("watch-shown")).unwrap())
            .stderr(fs::File::create(bed.root().with_file_name("watch-said")).unwrap())
            .spawn()
            .unwrap();
        Self {
            bed,
            child,
            events,
            seen: 0,
        }
    }

    pub fn shown(&self) -> String {
        fs::read_to_string(self.bed.root().with_file_name("watch-shown")).unwrap()
    }

    pub fn said(&self) -> String {
        fs::read_to_string(self.bed.root().with_file_name("watch-said")).unwrap()
    }

    pub fn all(&self) -> Vec<Value> {
        let text = fs::read_to_string(&self.events).unwrap_or_default();
        let whole = text.rfind('\n').map_or("", |end| &text[..end]);
        let lines = whole.lines();
        lines
            .map(|line| serde_json::from_str(line).unwrap())
            .collect()
    }

    /// Waits for the end of the next run; the steps that ended, with why they ran.
    #[track_caller]
    pub fn next(&mut self) -> Vec<String> {
        let start = Instant::now();
        loop {
            let all = self.all();
            let end = all[self.seen..]
                .iter()
                .position(|event| event["event"] == "summary");
            if let Some(end) = end {
                let run = &all[self.seen..=self.seen + end];
                self.seen += end + 1;
                let ended = run.iter().filter(|event| event["event"] == "ended");
                let mut ended: Vec<String> = ended.map(|event| brief(event, "ending")).collect();
                ended.sort();
                return ended;
            }
            assert!(
                start.elapsed() < Duration::from_secs(120),
                "no run came\n{all:#?}\n{}",
                self.said()
            );
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Waits for runs until one in which something ended.
    #[track_caller]
    fn next_that_does(&mut self) -> Vec<String> {
        loop {
            let ended = self.next();
            if !ended.is_empty() {
                return ended;
            }
        }
    }

    /// Waits until it waits: nothing that was written before comes later.
    pub fn calm(&self) {
        wait_for("it watches", || self.said().contains("watching · "));
        std::thread::sleep(Duration::from_millis(150));
    }

    /// The events since the last run that was looked at.
    fn more(&self) -> Vec<Value> {
        self.all().split_off(self.seen)
    }

    /// Saves a file at once, as careful editors do.
    pub fn save(&self, name: &str, text: &str) {
        let beside = self.bed.root().with_file_name("beside");
        fs::write(&beside, text).unwrap();
        fs::rename(beside, self.bed.path(name)).unwrap();
    }

    pub fn end(mut self, signal: Signal) -> Option<i32> {
        rustix::process::kill_process(Pid::from_child(&self.child), signal).unwrap();
        self.child.wait().unwrap().code()
    }
}

impl Drop for Watch<'_> {
    fn drop(&mut self) {
        // It may have ended as the test wished.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

const COPIES: &str = "
target out/<name>
  needs each in/<name>
  recipe: cat @{needs} > @{target}
target all
  needs out/*
  recipe: cat @{needs} > @{target}
";

fn copies(names: &[&str]) -> Bed {
    let bed = Bed::new(COPIES);
    for name in names {
        bed.write(&format!("in/{name}"), name);
    }
    bed
}

#[test]
fn an_edit_runs_what_reads_it_and_nothing_else() {
    let bed = copies(&["a", "b", "c"]);
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next().len(), 4);
    watch.calm();
    for round in 0..4 {
        // The first goes through a project that is opened anew, later ones through one that stays.
        watch.save("in/b", &format!("round {round}"));
        assert_eq!(
            watch.next(),
            [
                "all made prerequisite-changed",
                "out/b made prerequisite-changed"
            ]
        );
        assert_eq!(bed.read("all"), format!("around {round}c"));
    }
    // As many editors save: beside, then renamed.
    fs::write(bed.path("in/.c.new"), "C").unwrap();
    fs::rename(bed.path("in/.c.new"), bed.path("in/c")).unwrap();
    assert_eq!(
        watch.next(),
        [
            "all made prerequisite-changed",
            "out/c made prerequisite-changed"
        ]
    );
    // Saved without a change.
    watch.save("in/c", "C");
    assert_eq!(watch.next(), [] as [&str; 0]);
    watch.calm();
    assert_eq!(watch.more(), [] as [Value; 0]);
    assert_eq!(watch.end(Signal::INT), Some(130));
    bed.weave(&[]).all_kept(4);
}

#[test]
fn sources_that_come_and_go_and_the_description_count() {
    let bed = copies(&["a", "b"]);
    let mut watch = Watch::start(&bed, &[]);
    watch.next();
    watch.calm();
    watch.save("in/d", "d");
    assert_eq!(
        watch.next_that_does(),
        ["all made prerequisite-added", "out/d made never-made"]
    );
    bed.remove("in/a");
    assert_eq!(watch.next_that_does(), ["all made prerequisite-dropped"]);
    watch.save(
        "hand.loom",
        &COPIES.replace(
            "cat @{needs} > @{target}\ntarget",
            "cat @{needs} @{needs} > @{target}\ntarget",
        ),
    );
    assert_eq!(
        watch.next_that_does(),
        [
            "all made prerequisite-changed",
            "out/b made recipe-changed",
            "out/d made recipe-changed"
        ]
    );
    // A folder full at once, as from version control.
    fs::create_dir(bed.root().with_file_name("away")).unwrap();
    fs::rename(bed.path("in"), bed.root().with_file_name("away/in")).unwrap();
    fs::write(bed.root().with_file_name("away/in/d"), "new").unwrap();
    fs::rename(bed.root().with_file_name("away/in"), bed.path("in")).unwrap();
    assert_eq!(
        watch.next_that_does(),
        [
            "all made prerequisite-changed",
            "out/d made prerequisite-changed"
        ]
    );
    // What was moved away and back is still watched.
    watch.calm();
    watch.save("in/b", "again");
    assert_eq!(
        watch.next_that_does(),
        [
            "all made prerequisite-changed",
            "out/b made prerequisite-changed"
        ]
    );
}

#[test]
fn a_change_during_a_run_is_not_missed() {
    let bed = Bed::new(
        "target out\n  needs a\n  recipe:\n    while [ ! -e go ]; do sleep 0.01; done\n    cp @{needs} @{target}\ntarget b\n  needs c\n  recipe: cp @{needs} @{target}\ntarget last\n  needs out b\n  recipe: cat @{needs} > @{target}\n",
    );
    bed.write("a", "1");
    bed.write("c", "1");
    let mut watch = Watch::start(&bed, &["-j2"]);
    wait_for("one step is made", || {
        watch.all().iter().any(|event| event["event"] == "ended")
    });
    watch.save("c", "2");
    bed.write("go", "");
    assert_eq!(
        watch.next(),
        [
            "b made never-made",
            "last made never-made",
            "out made never-made"
        ]
    );
    assert_eq!(
        watch.next(),
        [
            "b made prerequisite-changed",
            "last made prerequisite-changed"
        ]
    );
    assert_eq!(bed.read("last"), "12");
    // The same when the project stays in memory.
    watch.calm();
    bed.remove("go");
    watch.save("a", "3");
    wait_for("the step runs", || {
        watch.more().iter().any(|event| event["event"] == "began")
    });
    watch.save("c", "4");
    bed.write("go", "");
    assert_eq!(
        watch.next(),
        [
            "last made prerequisite-changed",
            "out made prerequisite-changed"
        ]
    );
    assert_eq!(
        watch.next(),
        [
            "b made prerequisite-changed",
            "last made prerequisite-changed"
        ]
    );
    assert_eq!(bed.read("last"), "34");
    assert_eq!(watch.end(Signal::TERM), Some(130));
    bed.weave(&[]).all_kept(3);
}

#[test]
fn what_a_step_learned_is_watched() {
    let bed = Bed::new(
        "target out\n  needs main\n  learn lines\n  recipe:\n    cat main $(cat main) > @{target}\n    cat main > @{learn}\n",
    );
    bed.write("main", "deep/one\n");
    bed.write("deep/one", "1\n");
    bed.write("deep/er/two", "2\n");
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next(), ["out made never-made"]);
    watch.calm();
    watch.save("deep/one", "one\n");
    assert_eq!(watch.next(), ["out made learned-changed"]);
    watch.save("main", "deep/er/two\n");
    assert_eq!(watch.next(), ["out made prerequisite-changed"]);
    // Learned only just now.
    watch.save("deep/er/two", "two\n");
    assert_eq!(watch.next(), ["out made learned-changed"]);
    assert_eq!(bed.read("out"), "deep/er/two\ntwo\n");
}

#[test]
fn mistakes_and_failures_are_waited_out() {
    let bed = Bed::new(
        "target out\n  needs a missing\n  recipe: cat @{needs} > @{target}; test ! -e bad\n",
    );
    bed.write("a", "1");
    let mut watch = Watch::start(&bed, &[]);
    wait_for("the mistake is told", || watch.said().contains("`missing`"));
    watch.calm();
    watch.save("missing", "2");
    assert_eq!(watch.next_that_does(), ["out made never-made"]);
    watch.save("hand.loom", "targett out\n");
    wait_for("the mistake is told", || watch.said().contains("targett"));
    watch.save(
        "hand.loom",
        "target out\n  needs a\n  recipe: cat @{needs} > @{target}; test ! -e bad\n",
    );
    assert_eq!(watch.next_that_does(), ["out made prerequisite-dropped"]);
    // Gone for a moment, as while another branch is checked out.
    let whole = bed.read("hand.loom");
    bed.remove("hand.loom");
    wait_for("its absence is told", || {
        watch.said().contains("there is no `hand.loom`")
    });
    watch.save("hand.loom", &whole);
    assert_eq!(watch.next(), [] as [&str; 0]);
    watch.calm();
    bed.write("bad", "");
    watch.save("a", "2");
    assert_eq!(watch.next_that_does(), ["out failed prerequisite-changed"]);
    watch.calm();
    // It is not tried again until something changes.
    assert_eq!(watch.more(), [] as [Value; 0]);
    bed.remove("bad");
    watch.save("a", "3");
    assert_eq!(bed.read("a"), "3");
    let ended = watch.next_that_does();
    assert!(ended[0].starts_with("out made "), "{ended:?}");
    assert!(ended[0].contains("prerequisite-changed"), "{ended:?}");
}

/// What is typed and what is no text were taken for files that differ from what was read, for ever.
#[test]
fn what_is_set_from_outside_is_no_file_that_changed() {
    let bed = Bed::new("let v = a\ntarget out\n  needs in\n  recipe: echo @{v} > @{target}\n");
    bed.write("in", "1");
    let mut watch = Watch::start(&bed, &["--let", "v=b"]);
    assert_eq!(watch.next(), ["out made never-made"]);
    watch.calm();
    assert_eq!(watch.more(), [] as [Value; 0]);
    let whole = bed.read("hand.loom");
    fs::write(bed.path("hand.loom"), b"target \xff\n").unwrap();
    wait_for("the mistake is told", || watch.said().contains("UTF-8"));
    std::thread::sleep(Duration::from_millis(300));
    let told = watch.said().matches("UTF-8").count();
    assert!(told <= 4, "{}", watch.said());
    watch.save("hand.loom", &whole);
    watch.save("in", "2");
    assert_eq!(watch.next_that_does(), ["out same prerequisite-changed"]);
}

#[test]
fn what_is_typed_wrong_is_not_waited_for() {
    let bed = copies(&["a"]);
    for (arguments, told) in [
        (&["watch", "nothing"][..], "`nothing`"),
        (&["watch", "--let", "no=1"], "no variable `no`"),
        (&["watch", "-j0"], "0 jobs"),
        (&["watch", "--events", "nowhere/file"], "nowhere/file"),
    ] {
        let status = if told == "nowhere/file" { 3 } else { 2 };
        bed.run(arguments).status(status).says(&[told]);
    }
    let empty = tempfile::tempdir().unwrap();
    let folder = empty.path().to_str().unwrap();
    bed.run(&["watch", "--project", folder])
        .status(2)
        .says(&["there is no `hand.loom`"]);
}

#[test]
fn outputs_are_no_cause_but_are_seen() {
    let bed = copies(&["a", "b"]);
    let mut watch = Watch::start(&bed, &[]);
    watch.next();
    watch.calm();
    watch.save("in/a", "1");
    watch.next();
    watch.calm();
    bed.remove("out/a");
    watch.save("out/b", "edited");
    watch.calm();
    assert_eq!(watch.more(), [] as [Value; 0]);
    watch.save("in/b", "2");
    assert_eq!(
        watch.next(),
        [
            "all made prerequisite-changed",
            "out/a same output-missing",
            "out/b made output-edited,prerequisite-changed"
        ]
    );
    assert_eq!(bed.read("all"), "12");
}

#[test]
fn another_run_in_between_is_taken_note_of() {
    let bed = copies(&["a", "b"]);
    let mut watch = Watch::start(&bed, &[]);
    watch.next();
    watch.calm();
    watch.save("in/a", "1");
    watch.next();
    watch.calm();
    let _ = bed.run(&["--again", "out/b", "--no-wait"]).status(0);
    watch.save("in/a", "2");
    assert_eq!(
        watch.next(),
        [
            "all made prerequisite-changed",
            "out/a made prerequisite-changed"
        ]
    );
    let _ = watch.end(Signal::TERM);
    bed.weave(&[]).all_kept(3);
}

#[test]
fn only_what_was_asked_for_is_woven() {
    let bed = copies(&["a", "b"]);
    let mut watch = Watch::start(&bed, &["out/a"]);
    assert_eq!(watch.next(), ["out/a made never-made"]);
    watch.calm();
    watch.save("in/b", "other");
    watch.calm();
    assert_eq!(watch.more(), [] as [Value; 0]);
    watch.save("in/a", "mine");
    assert_eq!(watch.next(), ["out/a made prerequisite-changed"]);
    assert!(!bed.exists("out/b"));
}

#[test]
fn fifty_thousand_files_are_watched() {
    let bed = Bed::in_memory(
        "target sum\n  needs data/**\n  recipe: ls data/*/ | wc -l > @{target}\ntarget one\n  needs data/0/f7\n  recipe: cp @{needs} @{target}\n",
    );
    for folder in 0..50 {
        fs::create_dir_all(bed.path(&format!("data/{folder}"))).unwrap();
        for file in 0..1000 {
            fs::write(bed.path(&format!("data/{folder}/f{file}")), "").unwrap();
        }
    }
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next().len(), 2);
    watch.calm();
    for round in 0..2 {
        watch.save("data/0/f7", &format!("{round}"));
        assert_eq!(
            watch.next_that_does(),
            [
                "one made prerequisite-changed",
                "sum same prerequisite-changed"
            ]
        );
    }
    // Another branch, so to say: thousands of files at once are one change.
    for file in 0..1000 {
        watch.save(&format!("data/9/f{file}"), "many");
    }
    // On a busy machine the run may begin while files are still being saved, which it notices: then it fails, or
    // another follows.
    let is_done = |line: &str| line.starts_with("sum same prerequisite-changed");
    let mut ended = watch.next_that_does();
    while !ended.last().is_some_and(|line| is_done(line)) {
        assert!(
            ended.len() <= 4 && ended.iter().all(|line| line.starts_with("sum ")),
            "{ended:?}"
        );
        ended.extend(watch.next_that_does());
    }
    watch.calm();
    let more = watch.more();
    let more = more.iter().filter(|event| event["event"] == "ended");
    let mut more = more.map(|event| brief(event, "ending"));
    assert!(more.all(|line| is_done(&line)));
}

#[test]
fn what_lies_behind_links_is_watched() {
    use std::os::unix::fs::symlink;
    let bed = Bed::new("target out\n  needs near far\n  recipe: cat @{needs} > @{target}\n");
    let away = bed.root().with_file_name("away");
    fs::create_dir_all(&away).unwrap();
    fs::write(away.join("one"), "1").unwrap();
    fs::write(away.join("two"), "2").unwrap();
    bed.write("deep/real", "r");
    symlink("deep/real", bed.path("near")).unwrap();
    symlink(away.join("one"), bed.path("far")).unwrap();
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next(), ["out made never-made"]);
    watch.calm();
    watch.save("deep/real", "R");
    assert_eq!(watch.next_that_does(), ["out made prerequisite-changed"]);
    fs::write(away.join("one"), "I").unwrap();
    assert_eq!(watch.next_that_does(), ["out made prerequisite-changed"]);
    wait_for("both are in", || bed.read("out") == "RI");
    // The link leads elsewhere, and what lies there is watched from then on.
    watch.calm();
    bed.remove("far");
    symlink(away.join("two"), bed.path("far")).unwrap();
    wait_for("the other file is in", || {
        bed.exists("out") && bed.read("out") == "R2"
    });
    watch.calm();
    fs::write(away.join("two"), "II").unwrap();
    wait_for("its change is in", || {
        bed.exists("out") && bed.read("out") == "RII"
    });
}

/// A name that comes while something runs, and that nothing else follows, is not taken for seen.
#[test]
fn a_new_name_during_a_run_is_not_missed() {
    let bed = Bed::new(
        "target out/<name>\n  needs each in/<name>\n  recipe:\n    touch began\n    while [ -e wait ]; do sleep 0.02; done\n    cp @{needs} @{target}\n",
    );
    bed.write("in/a", "1");
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next(), ["out/a made never-made"]);
    watch.calm();
    // The first run after a change is one on the project that stands, the next one works it out anew.
    for (change, new) in [("in/a", "b"), ("in/c", "d")] {
        bed.remove("began");
        bed.write("wait", "");
        watch.save(change, "2");
        wait_for("it runs", || bed.path("began").exists());
        watch.save(&format!("in/{new}"), "3");
        std::thread::sleep(Duration::from_millis(50));
        bed.remove("wait");
        let first = watch.next_that_does();
        assert_eq!(first.len(), 1, "{first:?}");
        let ended = watch.next_that_does();
        assert_eq!(ended, [format!("out/{new} made never-made")]);
    }
}

/// Edits of every kind, faster than runs and slower, and after each pause the outputs are those of the
/// sources as they are. `HANDLOOM_EDITS` says how many of them.
#[test]
fn any_edits_are_followed() {
    let histories = std::env::var("HANDLOOM_EDITS").map_or(3, |count| count.parse().unwrap());
    for seed in 0..histories {
        // Half of them also look at the files themselves, which finds what notices tell once more.
        let looking: &[&str] = &["--look-every", "0.02s"];
        follow_edits(11 + 1000 * seed, if seed % 2 == 0 { &[] } else { looking });
    }
}

fn follow_edits(seed: u64, arguments: &[&str]) {
    let bed = Bed::new(
        "target out/<name>\n  needs\n    own: each in/<name>\n    all: common\n  learn lines\n  recipe:\n    cat @{own} @{all} more/one > @{target}\n    echo more/one > @{learn}\ntarget whole\n  needs out/*\n  recipe: cat @{needs} > @{target}\n",
    );
    bed.write("common", "c");
    bed.write("more/one", "m");
    bed.write("in/0", "0");
    let mut watch = Watch::start(&bed, arguments);
    watch.next();
    watch.calm();
    // Numbers of the generator of Park and Miller, so that each run sees the same edits.
    let mut state = seed;
    let mut next = |below: u64| {
        state = state * 48271 % 2_147_483_647;
        state % below
    };
    for round in 0..60 {
        let text = format!("{round},");
        // Each kind is the last one before a look at some time.
        let any = next(8);
        let kind = if round % 6 == 5 { round / 6 % 7 } else { any };
        match kind {
            0 => bed.write("common", &text),
            1 => watch.save("common", &text),
            2 => watch.save("more/one", &text),
            3 => {
                let _ = fs::remove_file(bed.path(&format!("in/{}", 1 + next(4))));
            }
            4 => bed.write(&format!("in/{}", next(5)), &text),
            5 => {
                // Nobody's cause, and put right by the next run.
                let _ = fs::remove_file(bed.path("out/0"));
                watch.save("common", &text);
            }
            _ => watch.save(&format!("in/{}", next(5)), &text),
        }
        std::thread::sleep(Duration::from_millis([0, 0, 3, 30][next(4) as usize]));
        if round % 6 == 5 {
            let rest = format!("{}{}", bed.read("common"), bed.read("more/one"));
            let mut names: Vec<_> = fs::read_dir(bed.path("in")).unwrap().collect();
            names.sort_by_key(|entry| entry.as_ref().unwrap().file_name());
            let expected: String = names
                .into_iter()
                .map(|entry| fs::read_to_string(entry.unwrap().path()).unwrap() + &rest)
                .collect();
            let whole = || fs::read_to_string(bed.path("whole")).unwrap_or_default();
            let start = Instant::now();
            while whole() != expected {
                assert!(
                    start.elapsed() < LONGEST,
                    "seed {seed}, round {round}, edit {kind}: {} and not {expected}\n{}\n{}",
                    whole(),
                    watch.said(),
                    fs::read_to_string(&watch.events).unwrap(),
                );
                std::thread::sleep(Duration::from_millis(5));
            }
        }
    }
    watch.calm();
    assert_eq!(watch.end(Signal::TERM), Some(130));
    bed.weave(&[]).status(0).ended(&[]);
}

/// What is written through a mapping of a file into memory is nothing that notices tell of, as what is
/// written on another machine is not.
#[test]
fn what_no_notice_tells_of_is_found_by_looking() {
    let bed = copies(&["a", "b"]);
    let mut watch = Watch::start(&bed, &["--look-every", "0.05s"]);
    watch.next();
    watch.calm();
    let script =
        "import mmap, sys; f = open(sys.argv[1], 'r+b'); mmap.mmap(f.fileno(), 0)[0:1] = b'x'";
    let python = std::process::Command::new("python3")
        .args(["-c", script])
        .arg(bed.path("in/a"))
        .status();
    assert!(python.unwrap().success());
    let expected = [
        "all made prerequisite-changed",
        "out/a made prerequisite-changed",
    ];
    assert_eq!(watch.next_that_does(), expected);
    // What a notice told is not found once more by looking.
    watch.calm();
    watch.more();
    let before = watch.seen + watch.more().len();
    watch.seen = before;
    watch.save("in/a", "new");
    assert_eq!(watch.next(), expected);
    std::thread::sleep(Duration::from_millis(300));
    // A look may fall between the notice and the run; then one more finds nothing to do.
    let more = watch.more();
    assert!(
        !more.iter().any(|event| event["event"] == "ended"),
        "{more:?}"
    );
}

/// Where the system has no room for more watched folders, the files themselves are looked at.
#[test]
fn without_notices_files_are_looked_at() {
    let bed = copies(&["a", "b"]);
    let events = bed.root().with_file_name("watch-events");
    let program = env!("CARGO_BIN_EXE_handloom");
    let limited = format!(
        "echo 1 > /proc/sys/user/max_inotify_watches && exec {program} watch --events {}",
        events.display()
    );
    let mut command = bed.command(&[]);
    command = {
        let mut shell = std::process::Command::new("unshare");
        shell
            .args(["-Ur", "sh", "-c", &limited])
            .current_dir(bed.root());
        for (name, value) in command.get_envs() {
            shell.env(name, value.unwrap());
        }
        shell
    };
    let said = fs::File::create(bed.root().with_file_name("watch-said")).unwrap();
    let child = command
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(said)
        .spawn();
    let Ok(child) = child else { return };
    let mut watch = Watch {
        bed: &bed,
        child,
        events,
        seen: 0,
    };
    std::thread::sleep(Duration::from_millis(300));
    if watch.child.try_wait().unwrap().is_some() {
        // This machine lets nobody have limits of their own.
        return;
    }
    assert_eq!(watch.next().len(), 3);
    wait_for("it says so", || {
        watch.said().contains("every two seconds, since")
    });
    watch.save("in/a", "new");
    assert_eq!(
        watch.next_that_does(),
        [
            "all made prerequisite-changed",
            "out/a made prerequisite-changed"
        ]
    );
}

#[test]
fn keys_weave_stop_and_quit() {
    let bed = Bed::new(
        "target out\n  needs a\n  recipe:\n    while [ -e wait ]; do sleep 0.02; done\n    cp @{needs} @{target}\n",
    );
    bed.write("a", "1");
    let mut terminal = Terminal::start(&bed, &["watch"]);
    terminal.shows("watching  up to date at ");
    terminal.shows("1 source · w weave now, s stop, q quit");
    bed.write("a", "2");
    terminal.shows("a changed");
    terminal.until("that it waits again", |screen| {
        screen.contains("1 made in") && screen.matches("watching  up to date").count() == 1
    });
    bed.remove("out");
    terminal.press(b"w");
    terminal.shows("asked for");
    terminal.shows("out is missing");
    bed.write("wait", "");
    bed.write("a", "3");
    terminal.shows("›  out");
    terminal.press(b"s");
    terminal.shows("stopped");
    terminal.shows("watching  1 stopped at ");
    bed.remove("wait");
    terminal.press(b"w");
    terminal.shows("watching  up to date at ");
    // Saved as it was: the line says so, and nothing is printed.
    bed.write("a", "3");
    terminal.shows("watching  a made no difference at ");
    terminal.press(b"q");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert!(!screen.contains("watching"), "{screen}");
    assert_eq!(bed.read("out"), "3");
}

#[test]
fn control_c_ends_it_and_the_terminal_is_as_it_was() {
    let bed = Bed::new("target out\n  needs a\n  recipe: cp @{needs} @{target}\n");
    bed.write("a", "1");
    let mut terminal = Terminal::start(&bed, &["watch"]);
    let modes = |terminal: &Terminal| {
        rustix::termios::tcgetattr(&terminal.keyboard)
            .unwrap()
            .local_modes
    };
    terminal.shows("watching  up to date");
    let single = modes(&terminal);
    assert!(!single.contains(rustix::termios::LocalModes::ICANON));
    terminal.press(b"\x03");
    terminal.until("the end", |screen| !screen.contains("watching"));
    wait_for("the terminal is as it was", || {
        modes(&terminal)
            .contains(rustix::termios::LocalModes::ICANON | rustix::termios::LocalModes::ECHO)
    });
    assert_eq!(terminal.end().0, Some(130));
}

#[test]
fn a_pause_gives_the_terminal_back_and_takes_it_again() {
    use rustix::termios::LocalModes;
    let bed = Bed::new("target out\n  needs a\n  recipe: cp @{needs} @{target}\n");
    bed.write("a", "1");
    let mut terminal = Terminal::start(&bed, &["watch"]);
    terminal.shows("watching  up to date");
    let canonical = |terminal: &Terminal| {
        let modes = rustix::termios::tcgetattr(&terminal.keyboard).unwrap();
        modes.local_modes.contains(LocalModes::ICANON)
    };
    let program = terminal.child.id().to_string();
    terminal.press(b"\x1a");
    wait_for("the program is stopped", || state_of(&program) == Some('T'));
    assert!(canonical(&terminal), "the shell reads lines again");
    // Saved during the pause.
    bed.write("a", "2");
    let pid = Pid::from_raw(program.parse().unwrap()).unwrap();
    rustix::process::kill_process(pid, Signal::CONT).unwrap();
    terminal.shows("a changed");
    terminal.shows("1 made in");
    wait_for("keys are heard again", || !canonical(&terminal));
    terminal.press(b"q");
    let (status, screen) = terminal.end();
    assert_eq!(status, Some(0), "{screen}");
    assert_eq!(bed.read("out"), "2");
}

#[test]
fn a_task_with_the_terminal_gets_all_keys() {
    let bed = Bed::new(
        "task ask\n  needs a\n  terminal\n  recipe: printf 'what: '; read word; echo \"$word\" > heard\n",
    );
    bed.write("a", "1");
    let mut terminal = Terminal::start(&bed, &["watch", "ask"]);
    terminal.shows("what:");
    terminal.press(b"sq w\n");
    terminal.shows("watching  up to date");
    assert_eq!(bed.read("heard"), "sq w\n");
    terminal.press(b"q");
    assert_eq!(terminal.end().0, Some(0));
}

#[test]
fn what_a_watched_recipe_looked_for_is_a_cause() {
    let bed = Bed::new(
        "target out/x\n  learn watched\n  recipe: ls data > @{target}; cat deep/down/none >> @{target} 2>/dev/null || true\n",
    );
    bed.write("data/one", "");
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next().len(), 1);
    watch.calm();
    bed.write("deep/down/none", "there\n");
    assert_eq!(watch.next_that_does(), ["out/x made learned-appeared"]);
    watch.calm();
    bed.write("data/two", "");
    assert_eq!(watch.next_that_does(), ["out/x made learned-listing"]);
    watch.calm();
    assert_eq!(bed.read("out/x"), "one\ntwo\nthere\n");
}

#[test]
fn files_that_values_come_from_are_watched() {
    let bed = Bed::new(
        "let rate = value p.toml rate\nlet name = other.toml\nlet more = value @{name} x\nenv file .env if there\ninclude local.loom if there\ntarget out\n  needs source\n  recipe: echo @{rate} @{more} ${A-} @{mode} > @{target}\nlet mode = one\n",
    );
    bed.write("source", "");
    bed.write("p.toml", "rate = 1\n");
    bed.write("other.toml", "x = 1\n");
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next(), ["out made never-made"]);
    for (file, text, holds) in [
        ("p.toml", "rate = 2\n", "2 1 one\n"),
        ("other.toml", "x = 2\n", "2 2 one\n"),
        (".env", "A=a\n", "2 2 a one\n"),
        (
            "local.loom",
            "let mode = two when @{os} is not plan9\n",
            "2 2 a one\n",
        ),
    ] {
        watch.calm();
        watch.save(file, text);
        if file != "local.loom" {
            assert_eq!(
                watch.next_that_does(),
                ["out made recipe-changed"],
                "{file}"
            );
        }
        assert_eq!(bed.read("out"), holds);
    }
    watch.calm();
    watch.save("p.toml", "rate = \n");
    wait_for("it says what is wrong", || {
        watch.said().contains("`p.toml` line 1")
    });
    watch.save("p.toml", "rate = 3\n");
    assert_eq!(watch.next_that_does(), ["out made recipe-changed"]);
    let _ = watch.end(Signal::TERM);
}

#[test]
fn what_is_left_out_of_a_folder_is_no_cause() {
    let bed = Bed::new(
        "target out\n  needs in/ except in/tmp/ **/*~\n  recipe: ls @{needs} > @{target}\n",
    );
    bed.write("in/a", "");
    bed.write("in/tmp/a", "");
    let mut watch = Watch::start(&bed, &[]);
    assert_eq!(watch.next(), ["out made never-made"]);
    watch.calm();
    watch.save("in/tmp/b", "");
    watch.save("in/a~", "");
    watch.calm();
    assert!(watch.more().is_empty(), "{:#?}", watch.more());
    watch.save("in/b", "");
    assert_eq!(watch.next(), ["out made prerequisite-changed"]);
}
