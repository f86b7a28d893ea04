//! Asking the one that watches a project: what is asked, what is answered, and that nothing wrong is ever believed.

use std::fs;
use std::io::BufRead;
use std::io::BufReader;
use std::io::Write;
use std::os::unix::net::UnixListener;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::process::Child;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use rustix::process::Pid;
use rustix::process::Signal;
use serde_json::Value;
use serde_json::json;

use crate::bed::Bed;
use crate::bed::without_times;
use crate::screen::LONGEST;

const LOOM: &str = "let mode = env LIGHT_MODE or plain\ntarget out/<n>\n  needs each src/<n>.txt\n  recipe: echo @{mode}; cp @{needs} @{target}\n";

fn bed() -> Bed {
    let bed = Bed::new(LOOM);
    for name in ["a", "b", "c"] {
        bed.write(&format!("src/{name}.txt"), name);
    }
    bed.run(&[]).status(0).says(&["3 made"]);
    bed
}

fn socket(bed: &Bed) -> PathBuf {
    bed.path(".handloom/watching")
}

/// One that answers in the place of `handloom watch`: with a line, or not at all. Gives what it was asked.
fn stand_in(bed: &Bed, answer: Option<&'static str>, act: impl FnOnce()) -> Option<Value> {
    let _ = fs::remove_file(socket(bed));
    let listener = UnixListener::bind(socket(bed)).unwrap();
    let told = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().ok()?;
        let mut line = String::new();
        BufReader::new(stream.try_clone().unwrap())
            .read_line(&mut line)
            .unwrap();
        match answer {
            Some(answer) => {
                let _ = writeln!(stream, "{answer}");
            }
            None => std::thread::sleep(Duration::from_millis(400)),
        }
        serde_json::from_str(&line).ok()
    });
    act();
    if !told.is_finished() {
        // Nobody may have asked.
        let _ = UnixStream::connect(socket(bed)).map(|mut stream| stream.write_all(b"\n"));
    }
    let asked = told.join().unwrap();
    fs::remove_file(socket(bed)).unwrap();
    asked
}

#[test]
fn whoever_watches_is_asked_and_believed_only_as_far_as_it_can_know() {
    let bed = bed();
    let unchanged = r#"{"Unchanged":{"kept":77,"environment":[]}}"#;
    let asked = stand_in(&bed, Some(unchanged), || {
        bed.run(&[]).status(0).says(&["77 kept"]);
    });
    let asked = asked.expect("it was asked");
    assert_eq!(
        (&asked["names"], &asked["folder"]),
        (&json!([]), &json!(""))
    );
    stand_in(&bed, Some(unchanged), || {
        bed.run(&["preview"]).status(0).says(&["77 would be kept"]);
    });
    let asked = stand_in(&bed, Some(unchanged), || {
        bed.run(&["out/a", "--let", "mode=loud"])
            .status(0)
            .says(&["77 kept"]);
    });
    let other = asked.expect("it was asked");
    assert_eq!(other["names"], json!(["out/a"]));
    assert_ne!(other["outside"], json!(""));
    // An environment that differs, another answer, half an answer, none: then everything is looked at.
    for wrong in [
        r#"{"Unchanged":{"kept":77,"environment":[["PATH",null]]}}"#,
        r#"{"Unchanged":{"kept":77,"environment":[["LIGHT_MODE","00"]]}}"#,
        r#""Alone""#,
        r#"{"Unchanged":{"kept":77"#,
        "",
    ] {
        stand_in(&bed, Some(wrong), || {
            bed.run(&[]).status(0).says(&["3 kept"]);
        });
    }
    stand_in(&bed, None, || {
        bed.run(&[]).status(0).says(&["3 kept"]);
    });
    // What is to be made in any case is not asked for.
    let asked = stand_in(&bed, Some(unchanged), || {
        bed.run(&["--again", "out/a"]).status(0).says(&["1 same"]);
    });
    assert_eq!(asked, None);
    // A socket that nobody listens at, and something else in its place.
    drop(UnixListener::bind(socket(&bed)).unwrap());
    bed.run(&[]).status(0).says(&["3 kept"]);
    fs::remove_file(socket(&bed)).unwrap();
    bed.write(".handloom/watching", "no socket");
    bed.run(&[]).status(0).says(&["3 kept"]);
}

/// The program, watching.
pub struct Standing {
    socket: PathBuf,
    child: Child,
    query: Value,
}

impl Standing {
    pub fn start(bed: &Bed, words: &[&str]) -> Self {
        // What is asked is told by whoever asks.
        let query = stand_in(bed, Some("\"Alone\""), || {
            bed.run(&[]).status(0);
        });
        let mut all = vec!["watch"];
        all.extend(words);
        let child = bed
            .command(&all)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        Self {
            socket: socket(bed),
            child,
            query: query.expect("it was asked"),
        }
    }

    /// What is answered now; none when nobody listens.
    pub fn ask(&self) -> Option<Value> {
        let mut stream = UnixStream::connect(&self.socket).ok()?;
        stream
            .set_read_timeout(Some(Duration::from_secs(5)))
            .unwrap();
        writeln!(stream, "{}", self.query).ok()?;
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line).ok()?;
        serde_json::from_str(&line).ok()
    }

    /// The same a second later: what was written within the last second is looked at by every run.
    #[track_caller]
    fn rest(&self, bed: &Bed, kept: usize) {
        std::thread::sleep(Duration::from_millis(1100));
        // The first reads it once more, the second keeps what it knows.
        for _ in 0..2 {
            bed.run(&[]).status(0).says(&[&format!("{kept} kept")]);
        }
        self.settle(kept);
    }

    /// Waits until nothing is known to have changed.
    #[track_caller]
    fn settle(&self, kept: usize) {
        let start = Instant::now();
        loop {
            let answer = self.ask();
            if let Some(answer) = &answer
                && answer["Unchanged"]["kept"] == json!(kept)
            {
                return;
            }
            assert!(start.elapsed() < LONGEST, "{answer:?}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Standing {
    fn drop(&mut self) {
        let pid = Pid::from_child(&self.child);
        let _ = rustix::process::kill_process(pid, Signal::TERM);
        let _ = self.child.wait();
    }
}

#[test]
fn a_change_is_never_overtaken_by_a_question() {
    let bed = bed();
    let standing = Standing::start(&bed, &["--quietly"]);
    standing.settle(3);
    for round in 0..15 {
        bed.write("src/b.txt", &format!("edit {round}"));
        assert_eq!(standing.ask(), Some(json!("Alone")), "round {round}");
        bed.run(&[]).status(0).says(&["1 made, 2 kept"]);
        bed.run(&[]).status(0).says(&["3 kept"]);
        standing.settle(3);
    }
    // A new source, one that goes, a description, an output that is not as it was left.
    bed.write("src/d.txt", "d");
    assert_eq!(standing.ask(), Some(json!("Alone")));
    bed.run(&[]).status(0).says(&["1 made, 3 kept"]);
    standing.settle(4);
    bed.remove("src/d.txt");
    assert_eq!(standing.ask(), Some(json!("Alone")));
    bed.run(&[]).status(0).says(&["3 kept"]);
    standing.settle(3);
    bed.write("out/a", "not so");
    assert_eq!(standing.ask(), Some(json!("Alone")));
    bed.run(&[]).status(0).says(&["1 same"]);
    standing.settle(3);
    bed.write("hand.loom", &LOOM.replace("cp @", "cp -f @"));
    assert_eq!(standing.ask(), Some(json!("Alone")));
    bed.run(&[]).status(0).says(&["3 same"]);
    standing.settle(3);
    // It weaves nothing itself.
    bed.write("src/a.txt", "waits");
    std::thread::sleep(Duration::from_millis(300));
    assert_ne!(bed.read("out/a"), "waits");
}

#[test]
fn what_lies_in_a_folder_that_a_step_makes_is_noticed() {
    const LOOM: &str = "target tree/
  needs src/a.txt
  recipe: mkdir @{target}/in; cp @{needs} @{target}/in/deep; echo b > @{target}/flat
target last
  needs tree/
  recipe: cat tree/flat tree/in/deep > @{target}
";
    // One that weaves knows nothing any more once somebody else has woven.
    for (words, rounds) in [(&["--quietly"][..], 3), (&[], 1)] {
        let bed = Bed::new(LOOM);
        bed.write("src/a.txt", "a");
        bed.run(&[]).status(0).says(&["2 made"]);
        let standing = Standing::start(&bed, words);
        // A file, one in a folder of it, one that comes; and again in the folder that stands there since.
        for (round, path) in ["flat", "in/deep", "new"].iter().take(rounds).enumerate() {
            standing.rest(&bed, 2);
            bed.write(&format!("tree/{path}"), &format!("edit {round}"));
            assert_eq!(standing.ask(), Some(json!("Alone")), "{words:?} {path}");
            bed.run(&[]).status(0).says(&["1 same, 1 kept"]);
            assert_eq!(bed.read("tree/in/deep"), "a");
        }
    }
}

/// A pattern that matches what steps make finds these files on the disk too; whether they count as sources depends on
/// what they hold.
#[test]
fn patterns_over_outputs_are_answered_for() {
    let bed = Bed::new(
        "target out/<n>\n  needs each src/<n>.txt\n  recipe: cp @{needs} @{target}\ntarget upper/<n>\n  needs each out/<n>\n  recipe: tr a-z A-Z < @{needs} > @{target}\n",
    );
    for name in ["a", "b"] {
        bed.write(&format!("src/{name}.txt"), name);
    }
    bed.run(&[]).status(0).says(&["4 made"]);
    let standing = Standing::start(&bed, &["--quietly"]);
    standing.rest(&bed, 4);
    // One that is edited, and one that comes where steps make theirs.
    bed.write("out/a", "edited");
    assert_eq!(standing.ask(), Some(json!("Alone")));
    bed.run(&[]).status(0).says(&["1 same, 3 kept"]);
    standing.rest(&bed, 4);
    bed.write("out/c", "c");
    assert_eq!(standing.ask(), Some(json!("Alone")));
    bed.run(&[]).status(0).says(&["1 made, 4 kept"]);
    assert_eq!(bed.read("upper/c"), "C");
    standing.rest(&bed, 5);
}

#[test]
fn why_and_list_are_answered_as_they_answer_alone() {
    let bed = bed();
    bed.write("sub/x", "");
    let alone = |words: &[&str]| {
        let run = bed.run(words);
        (run.status, run.out, run.err)
    };
    let typed: [&[&str]; 8] = [
        &["list"],
        &["list", "--all", "--color", "always"],
        &["list", "--format", "json"],
        &["why", "out/b", "--color", "always"],
        &["why", "out/b", "--last"],
        &["why", "out/b", "--format", "json"],
        &["why", "out/missing"],
        &["why", "../out/b", "--project", "sub"],
    ];
    let before: Vec<_> = typed.iter().map(|words| alone(words)).collect();
    let standing = Standing::start(&bed, &["--quietly"]);
    standing.settle(3);
    for (words, before) in typed.iter().zip(before) {
        let now = alone(words);
        assert_eq!(
            (now.0, without_times(&now.1), without_times(&now.2)),
            (before.0, without_times(&before.1), without_times(&before.2)),
            "{words:?}"
        );
    }
    // It is that one's answer and no other's.
    let text = r#"{"Text":{"text":"from elsewhere\n","environment":[]}}"#;
    drop(standing);
    for words in [&["list"][..], &["why", "out/b"]] {
        let asked = stand_in(&bed, Some(text), || {
            bed.run(words).status(0).says(&["from elsewhere"]);
        });
        assert!(asked.is_some());
    }
    // A file that has to be made is judged by whoever asks.
    let standing = Standing::start(&bed, &["--quietly"]);
    standing.settle(3);
    bed.write("src/b.txt", "other");
    bed.run(&["why", "out/b"])
        .status(0)
        .says(&["would run", "src/b.txt differs"]);
    bed.run(&["why", "out/a"])
        .status(0)
        .says(&["would be kept"]);
}

#[test]
fn one_that_weaves_answers_between_its_runs() {
    let bed = bed();
    let standing = Standing::start(&bed, &[]);
    standing.settle(3);
    for round in 0..8 {
        let text = format!("edit {round}");
        bed.write("src/b.txt", &text);
        // Not before the change is woven in.
        standing.settle(3);
        assert_eq!(bed.read("out/b"), text);
        bed.run(&[]).status(0).says(&["3 kept"]);
    }
    bed.write("src/b.txt", "again");
    standing.settle(3);
    // Another value of a variable that decides something is not what the watching one knows.
    let mut other = bed.command(&[]);
    other.env("LIGHT_MODE", "loud");
    bed.finish(other, &[]).status(0).says(&["3 same"]);
}

#[test]
fn nonsense_is_not_answered_and_does_no_harm() {
    let bed = bed();
    let standing = Standing::start(&bed, &["--quietly"]);
    standing.settle(3);
    for nonsense in [
        &b"\n"[..],
        b"{}\n",
        b"[1,2]\n",
        &[0xff; 4096],
        b"{\"build\":1}\n",
    ] {
        let mut stream = UnixStream::connect(socket(&bed)).unwrap();
        stream.write_all(nonsense).unwrap();
        drop(stream);
    }
    let mute: Vec<UnixStream> = (0..5)
        .map(|_| UnixStream::connect(socket(&bed)).unwrap())
        .collect();
    standing.settle(3);
    drop(mute);
    let mut other = standing.query.clone();
    for (key, value) in [("build", "x"), ("outside", "x"), ("folder", "x/")] {
        let kept = std::mem::replace(&mut other[key], json!(value));
        let mut stream = UnixStream::connect(socket(&bed)).unwrap();
        writeln!(stream, "{other}").unwrap();
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line).unwrap();
        assert_eq!(line, "\"Alone\"\n", "{key}");
        other[key] = kept;
    }
    drop(standing);
    assert!(
        !socket(&bed).exists(),
        "the socket goes with the one that watches"
    );
    bed.run(&[]).status(0).says(&["3 kept"]);
}
