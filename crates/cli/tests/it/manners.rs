//! Targets that run always, go on from what is there, are guarded or fleeting; and taking what is there as made.

use std::time::Duration;

use rustix::process::Pid;
use rustix::process::Signal;
use rustix::process::kill_process;

use crate::bed::Bed;

fn settle() {
    std::thread::sleep(Duration::from_millis(1100));
}

#[test]
fn what_runs_always_gives_a_reason_only_when_it_differs() {
    let bed = Bed::new(
        "target fetched\n  always\n  recipe: echo run >> runs; cp source @{target}\ntarget out\n  needs fetched\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("source", "1");
    bed.weave(&[])
        .status(0)
        .ended(&["fetched made never-made,always", "out made never-made"]);
    for _ in 0..3 {
        settle();
        bed.weave(&[])
            .status(0)
            .ended(&["fetched same always"])
            .kept(1);
    }
    bed.write("source", "2");
    bed.weave(&[])
        .status(0)
        .ended(&["fetched made always", "out made prerequisite-changed"]);
    assert_eq!(bed.read("runs").lines().count(), 5);
    bed.run(&["preview"])
        .status(0)
        .says(&["it always runs", "1 would run, 1 may run"]);
    bed.run(&["why", "fetched"])
        .says(&["fetched would run, because", "it always runs"]);
    bed.run(&["graph"]).status(0);
    // A target that comes to run always, in a project that is known already.
    let bed = Bed::new(
        "target a\n  recipe: echo a > @{target}\ntarget b\n  recipe: echo b > @{target}\n",
    );
    bed.weave(&[]).status(0);
    settle();
    bed.weave(&[]).all_kept(2);
    let loom = bed
        .read("hand.loom")
        .replace("target b\n", "target b\n  always\n");
    bed.write("hand.loom", &loom);
    for _ in 0..2 {
        bed.weave(&[]).status(0).ended(&["b same always"]).kept(1);
    }
    // Not from a store either.
    let bed = bed.with_store();
    bed.run(&[]).status(0);
    bed.remove("b");
    bed.weave(&[])
        .status(0)
        .ended(&["b same output-missing,always"]);
}

#[test]
fn what_resumes_finds_what_it_left() {
    let bed = Bed::new(
        "target steps\n  needs goal\n  resumes\n  recipe:\n    touch @{target}\n    while [ $(wc -l < @{target}) -lt $(cat @{needs}) ]; do\n      echo x >> @{target}\n      if [ -e stop ] && [ $(wc -l < @{target}) -ge 2 ]; then exit 3; fi\n      if [ -e slow ]; then echo slow > began; sleep 60; fi\n    done\n",
    );
    bed.write("goal", "3");
    bed.write("stop", "");
    bed.weave(&[]).status(1).ended(&["steps failed never-made"]);
    assert_eq!(bed.read("steps"), "x\nx\n", "it is still there");
    assert!(!bed.exists(".handloom/failed/steps"));
    bed.remove("stop");
    bed.weave(&[])
        .status(0)
        .ended(&["steps made never-made,failed-before"]);
    assert_eq!(bed.read("steps"), "x\nx\nx\n");
    bed.weave(&[]).all_kept(1);
    bed.write("goal", "5");
    bed.weave(&[])
        .status(0)
        .ended(&["steps made prerequisite-changed"]);
    assert_eq!(bed.read("steps"), "x\n".repeat(5));
    // Killed in the middle: the next run goes on.
    bed.write("goal", "9");
    bed.write("slow", "");
    let mut child = bed.start(&[]);
    bed.await_file("began");
    kill_process(Pid::from_child(&child), Signal::KILL).unwrap();
    let _ = child.wait();
    assert_eq!(bed.read("steps"), "x\n".repeat(6));
    bed.remove("slow");
    bed.weave(&[])
        .status(0)
        .ended(&["steps made output-edited,unfinished,prerequisite-changed"]);
    assert_eq!(bed.read("steps"), "x\n".repeat(9));
    // What was there before the first run is somebody else's.
    let other = Bed::new("target a\n  resumes\n  recipe: echo a >> @{target}\n");
    other.write("a", "mine\n");
    other.run(&[]).status(0).says(&["moved"]);
    assert_eq!(other.read("a"), "a\n");
    assert_eq!(other.read(".handloom/aside/a"), "mine\n");
    // Tried again, it goes on too.
    let again = Bed::new(
        "target a\n  resumes\n  retry 2\n  recipe: echo a >> @{target}; test $(wc -l < @{target}) -ge 3\n",
    );
    again.run(&[]).status(0);
    assert_eq!(again.read("a"), "a\na\na\n");
}

#[test]
fn what_is_guarded_and_made_from_what_may_change_says_so() {
    let bed = Bed::new(
        "target raw\n  always\n  recipe: cp data @{target}\ntarget model\n  needs raw\n  guarded\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("data", "1");
    bed.weave(&[]).status(0);
    for data in ["2", "3"] {
        bed.run(&["preview"])
            .status(0)
            .says(&["guarded  model", "if raw changes"]);
        bed.run(&["why", "model"]).status(0).says(&[
            "since it is guarded, although what it is made from may change",
            "raw would run: it always runs",
        ]);
        bed.write("data", data);
        bed.weave(&[]).status(0).ended(&["raw made always"]);
    }
}

#[test]
fn what_is_guarded_is_made_again_by_its_name_alone() {
    let bed = Bed::new(
        "target model\n  needs data\n  guarded\n  recipe: cp @{needs} @{target}\ntarget out\n  needs model\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("data", "1");
    bed.weave(&[])
        .status(0)
        .ended(&["model made never-made", "out made never-made"]);
    settle();
    bed.weave(&[]).all_kept(2);
    bed.write("data", "2");
    for _ in 0..2 {
        let run = bed.weave(&[]).status(0).ended(&[]).kept(2);
        let guarded: Vec<_> = run
            .events
            .iter()
            .filter(|event| event["event"] == "guarded")
            .collect();
        assert_eq!(guarded.len(), 1, "{}", run.shown());
        assert_eq!(guarded[0]["reasons"][0], "prerequisite-changed");
        let _ = run.says(&[
            "model has a reason to run (data differs)",
            "handloom --again model",
        ]);
    }
    bed.run(&["preview"])
        .status(0)
        .says(&["guarded  model", "data differs", "2 would be kept"]);
    bed.run(&["why", "model"])
        .status(0)
        .says(&["would be kept, since it is guarded", "data differs"]);
    bed.run(&["clean"]).status(0);
    assert!(bed.exists("model") && !bed.exists("out"));
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    assert_eq!(bed.read("out"), "1");
    bed.weave(&["--again", "model"])
        .status(0)
        .ended(&["model made prerequisite-changed,asked"]);
    bed.weave(&[])
        .status(0)
        .ended(&["out made prerequisite-changed"]);
    assert_eq!(bed.read("out"), "2");
    // What is missing is made.
    bed.remove("model");
    bed.weave(&[])
        .status(0)
        .ended(&["model same output-missing"])
        .kept(1);
    bed.run(&["clean", "model"]).status(0);
    assert!(!bed.exists("model"));
}

const FLEETING: &str = "target cut
  needs source
  recipe: cut -c1 @{needs} > @{target}; echo cut >> runs
target big
  needs cut
  fleeting
  recipe: cat @{needs} @{needs} > @{target}; echo big >> runs
target out
  needs big style
  recipe: cat @{needs} > @{target}; echo out >> runs
";

#[test]
fn what_is_fleeting_is_left_away_and_made_for_who_needs_it() {
    let bed = Bed::new(FLEETING);
    bed.write("source", "ab\n");
    bed.write("style", "s\n");
    bed.weave(&[]).status(0).ended(&[
        "cut made never-made",
        "big made never-made",
        "out made never-made",
    ]);
    assert!(!bed.exists("big"));
    assert_eq!(bed.read("out"), "a\na\ns\n");
    for _ in 0..2 {
        settle();
        bed.weave(&[]).all_kept(3);
    }
    bed.run(&["preview"]).status(0).says(&["3 would be kept"]);
    bed.run(&["why", "big"]).status(0).says(&["would be kept"]);
    // A change that is none for it.
    bed.write("source", "ac\n");
    bed.weave(&[])
        .status(0)
        .ended(&["cut same prerequisite-changed"])
        .kept(2);
    // Its user has to run for a reason of its own: it is made again first.
    bed.write("style", "t\n");
    bed.run(&["preview"]).status(0).says(&[
        "big is missing",
        "style differs",
        "2 would run, 1 would be kept",
    ]);
    bed.weave(&[])
        .status(0)
        .ended(&["big same output-missing", "out made prerequisite-changed"])
        .kept(1);
    assert_eq!(bed.read("out"), "a\na\nt\n");
    assert!(!bed.exists("big"));
    // A change that reaches it.
    bed.write("source", "x\n");
    bed.weave(&[]).status(0).ended(&[
        "cut made prerequisite-changed",
        "big made prerequisite-changed",
        "out made prerequisite-changed",
    ]);
    assert_eq!(bed.read("out"), "x\nx\nt\n");
    bed.weave(&[]).all_kept(3);
    // Asked for by its name it is made, and stays until something that needs it is made.
    bed.weave(&["big"])
        .status(0)
        .ended(&["big same output-missing"]);
    assert!(bed.exists("big"));
    bed.weave(&[]).all_kept(3);
    assert!(bed.exists("big"));
    bed.write("style", "u\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out made prerequisite-changed"])
        .kept(2);
    assert!(!bed.exists("big"));
    // A user that is not made yet: it stays for it.
    let loom =
        format!("{FLEETING}target other\n  needs big\n  recipe: cp @{{needs}} @{{target}}\n");
    bed.write("hand.loom", &loom);
    bed.write("style", "v\n");
    bed.weave(&["out"])
        .status(0)
        .ended(&["big same output-missing", "out made prerequisite-changed"]);
    assert!(bed.exists("big"), "`other` was not made with it");
    bed.weave(&[]).status(0).ended(&["other made never-made"]);
    assert!(!bed.exists("big"));
    bed.run(&["clean"]).status(0);
    bed.weave(&["-j2"]).status(0);
    assert_eq!(bed.read("other"), "x\nx\n");
}

#[test]
fn fleeting_steps_in_a_row_and_failures() {
    let bed = Bed::new(
        "target a\n  needs s\n  fleeting\n  recipe: cp @{needs} @{target}\ntarget b/<n>\n  each n in 1 2\n  needs a\n  fleeting\n  recipe: cat @{needs} > @{target}; echo @{n} >> @{target}\ntarget c\n  needs b/* t\n  recipe: cat @{needs} > @{target}; test ! -e fail\ntask show\n  needs a\n  recipe: cat @{needs}\n",
    );
    bed.write("s", "s\n");
    bed.write("t", "t\n");
    bed.weave(&[]).status(0);
    assert!(!bed.exists("a") && !bed.exists("b/1") && !bed.exists("b/2"));
    assert_eq!(bed.read("c"), "s\n1\ns\n2\nt\n");
    settle();
    bed.weave(&[]).all_kept(4);
    bed.write("t", "u\n");
    bed.write("fail", "");
    bed.weave(&[]).status(1).ended(&[
        "a same output-missing",
        "b/1 same output-missing",
        "b/2 same output-missing",
        "c failed prerequisite-changed",
    ]);
    assert!(
        bed.exists("a") && bed.exists("b/1"),
        "they stay for the next try"
    );
    bed.remove("fail");
    bed.weave(&[])
        .status(0)
        .ended(&["c made prerequisite-changed,failed-before"]);
    assert!(!bed.exists("a") && !bed.exists("b/1"));
    bed.weave(&["show"])
        .status(0)
        .ended(&["a same output-missing", "show made"])
        .says(&["s\n"]);
    assert!(!bed.exists("a"));
    // What the user wrote there is no fleeting output.
    bed.write("b/1", "mine");
    bed.write("t", "w\n");
    bed.run(&[]).status(0);
    assert_eq!(bed.read(".handloom/aside/b/1"), "mine");
}

#[test]
fn what_is_there_is_taken_as_made() {
    let bed = Bed::new(
        "let flag = 1\ntarget out\n  needs in\n  recipe: echo @{flag} > @{target}; cat @{needs} >> @{target}\ntarget more\n  needs out\n  recipe: cp @{needs} @{target}\ntask t\n  recipe: true\n",
    );
    bed.write("in", "x\n");
    bed.run(&["accept", "out"])
        .status(2)
        .says(&["`out` can't be accepted: `out` is not there"]);
    bed.write("out", "by hand\n");
    bed.run(&["accept", "out"])
        .status(0)
        .says(&["accepted  out"]);
    bed.weave(&[])
        .status(0)
        .ended(&["more made never-made"])
        .kept(1);
    assert_eq!(bed.read("more"), "by hand\n");
    bed.run(&["why", "out"])
        .status(0)
        .says(&["it was accepted just now"]);
    bed.run(&["why", "out", "--last"])
        .status(0)
        .says(&["out was accepted just now"]);
    let json = bed.run(&["why", "out", "--format", "json"]).status(0).out;
    assert!(json.contains("\"accepted\": true"), "{json}");
    // An edit of the recipe that makes no difference.
    settle();
    bed.weave(&[]).all_kept(2);
    let loom = bed.read("hand.loom").replace("flag = 1", "flag = 2");
    bed.write("hand.loom", &loom);
    bed.run(&["accept", "out"]).status(0);
    bed.weave(&[]).all_kept(2);
    bed.write("in", "y\n");
    bed.weave(&[]).status(0).ended(&[
        "out made prerequisite-changed",
        "more made prerequisite-changed",
    ]);
    bed.run(&["why", "out", "--last"])
        .status(0)
        .says_not("accepted");
    bed.remove("in");
    bed.run(&["accept", "out"])
        .status(2)
        .says(&["`in`, which it is made from, is not there"]);
    bed.run(&["accept", "t"])
        .status(2)
        .says(&["`t` is a task, which makes no file"]);
    bed.run(&["accept", "oot"])
        .status(2)
        .says(&["did you mean `out`?"]);
}

#[test]
fn remembered_tasks_have_inputs_that_are_no_files() {
    let bed = Bed::new(
        "task lint\n  remember\n  given env LEVEL\n  given output cat version\n  recipe: echo ran >> log\n",
    );
    bed.write("version", "1");
    bed.weave(&["lint"])
        .status(0)
        .ended(&["lint made never-made"]);
    bed.weave(&["lint"]).all_kept(1);
    bed.write("version", "2");
    bed.weave(&["lint"])
        .status(0)
        .ended(&["lint made given-changed"]);
    bed.weave(&["lint"]).all_kept(1);
    let mut command = bed.command(&["lint"]);
    command.env("LEVEL", "high");
    bed.finish(command, &["lint"]).status(0);
    assert_eq!(bed.read("log").lines().count(), 3);
    bed.run(&["why", "lint"])
        .status(0)
        .says(&["env LEVEL gives something else"]);
}
