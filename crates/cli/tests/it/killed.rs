//! Runs that are killed: what they left running, half done and set by.

use std::fs;
use std::process::Child;
use std::process::Command;
use std::thread::sleep;
use std::time::Duration;
use std::time::Instant;

use crate::bed::Bed;

/// Kills the program itself, and nothing that it started.
fn kill(child: &mut Child) {
    child.kill().unwrap();
    let _ = child.wait();
}

/// Whether a process with this number, written into a file, still runs.
fn runs(bed: &Bed, file: &str) -> bool {
    let pid = bed.read(file);
    let stat = fs::read_to_string(format!("/proc/{}/stat", pid.trim()));
    stat.is_ok_and(|stat| !stat.contains(") Z "))
}

#[track_caller]
fn ends(bed: &Bed, file: &str) {
    let start = Instant::now();
    while runs(bed, file) {
        assert!(start.elapsed().as_secs() < 10, "{file} still runs");
        sleep(Duration::from_millis(5));
    }
}

/// Kills a recipe whose number is in a file.
fn kill_group(bed: &Bed, file: &str) {
    let group: u32 = bed.read(file).trim().parse().unwrap();
    let _ = Command::new("kill")
        .args(["-KILL", "--", &format!("-{group}")])
        .status();
    ends(bed, file);
}

#[test]
fn the_next_run_ends_what_a_killed_one_left_before_it_begins() {
    let slow = "target out/x\n  needs in\n  recipe: cat in > out/x; echo $$ > pid; sleep 600; echo late >> out/x\n";
    let bed = Bed::new(slow);
    bed.write("in", "1\n");
    let mut child = bed.start(&[]);
    bed.await_file("pid");
    kill(&mut child);
    assert!(runs(&bed, "pid"), "the recipe outlives the kill");
    bed.write(
        "hand.loom",
        "target out/x\n  needs in\n  recipe: cat in > out/x\n",
    );
    bed.weave(&[])
        .status(0)
        .says(&["the last run was killed", "still running and ended now"])
        .ended(&["out/x made never-made,unfinished"]);
    assert!(!runs(&bed, "pid"));
    assert_eq!(bed.read("out/x"), "1\n");
    assert_eq!(bed.read(".handloom/failed/out/x"), "1\n");
    bed.weave(&[]).says_not("killed").all_kept(1);
}

/// In the group, out of the group, and without a word of where they came from.
#[test]
fn processes_that_left_their_group_are_found() {
    for leave in [
        "sleep 600 & echo $! > pid; wait",
        "setsid sh -c 'echo $$ > pid; exec sleep 600' & sleep 600",
        "(setsid sh -c 'echo $$ > pid; exec sleep 600' &) ; sleep 600",
        "set -m; sleep 600 & echo $! > pid; wait",
    ] {
        let bed = Bed::new(&format!("target x\n  recipe: {leave}\n"));
        let mut child = bed.start(&[]);
        bed.await_file("pid");
        sleep(Duration::from_millis(30));
        kill(&mut child);
        assert!(runs(&bed, "pid"), "{leave}");
        bed.write("hand.loom", "target x\n  recipe: echo > x\n");
        bed.weave(&[]).status(0).says(&["ended now"]);
        assert!(!runs(&bed, "pid"), "{leave}");
    }
}

#[test]
fn after_a_kill_the_old_output_is_back_and_undoing_the_edit_runs_nothing() {
    let bed = Bed::new("target out/x out/tree/\n  needs in how\n  recipe: sh how\n");
    let good = "cat in > out/x; mkdir -p out/tree/a; cat in > out/tree/a/b; echo >> log";
    bed.write("in", "costly\n");
    bed.write("how", good);
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    bed.write(
        "how",
        "echo half > out/x; mkdir out/tree/c; echo > began; sleep 600",
    );
    let mut child = bed.start(&[]);
    bed.await_file("began");
    kill(&mut child);
    assert_eq!(bed.read("out/x"), "half\n");
    bed.write("how", good);
    bed.weave(&[])
        .says(&["put back as before it: `out/tree`, `out/x`"])
        .all_kept(1);
    assert_eq!(bed.read("out/x"), "costly\n");
    assert_eq!(bed.read("out/tree/a/b"), "costly\n");
    assert!(!bed.exists("out/tree/c"));
    assert_eq!(bed.read("log"), "\n", "it was made once");
    // Also when it is not undone.
    bed.write("how", "exit 1");
    bed.weave(&[])
        .status(1)
        .ended(&["out/x failed unfinished,prerequisite-changed"]);
    assert_eq!(bed.read("out/x"), "costly\n");
}

#[test]
fn half_outputs_of_a_killed_step_are_no_sources() {
    for lose_ledger in [false, true] {
        let bed = Bed::new(
            "target data/half.csv\n  recipe: echo half > @{target}; echo > began; sleep 600\n",
        );
        bed.write("data/whole.csv", "whole\n");
        let mut child = bed.start(&[]);
        bed.await_file("began");
        kill(&mut child);
        // Its description is gone by then; so may be the ledger.
        bed.write(
            "hand.loom",
            "target sum\n  needs data/*.csv\n  recipe: cat @{needs} > @{target}\n",
        );
        if lose_ledger {
            bed.remove(".handloom/ledger");
            bed.remove(".handloom/journal");
        }
        let run = bed.weave(&[]).status(0).ended(&["sum made never-made"]);
        assert_eq!(bed.read("sum"), "whole\n", "{}", run.shown());
        assert_eq!(bed.read(".handloom/failed/data/half.csv"), "half\n");
    }
}

/// Where the power failed, the marks and the journal's end may be gone, and the renames not.
#[test]
fn old_outputs_are_put_back_also_without_the_marks() {
    let costly = "target out/x\n  needs in\n  recipe: cat in > @{target}\n";
    let bed = Bed::new(costly);
    bed.write("in", "costly\n");
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    let journal = fs::read(bed.path(".handloom/journal")).unwrap();
    bed.write(
        "hand.loom",
        "target out/x\n  needs in\n  recipe: echo half > @{target}; echo $$ > pid; sleep 600\n",
    );
    let mut child = bed.start(&[]);
    bed.await_file("pid");
    kill(&mut child);
    kill_group(&bed, "pid");
    bed.remove(".handloom/jobs/running");
    fs::write(bed.path(".handloom/journal"), journal).unwrap();
    bed.write("hand.loom", costly);
    bed.weave(&[]).all_kept(1).says(&["out/x"]);
    assert_eq!(bed.read("out/x"), "costly\n");
    assert_eq!(bed.read(".handloom/aside/out/x"), "half\n");
}

#[test]
fn old_outputs_are_put_back_also_without_the_ledger() {
    let bed = Bed::new("target out/x\n  needs in\n  recipe: cat in > @{target}\n");
    bed.write("in", "costly\n");
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    bed.write(
        "hand.loom",
        "target out/x\n  needs in\n  recipe: echo > began; sleep 600\n",
    );
    let mut child = bed.start(&[]);
    bed.await_file("began");
    kill(&mut child);
    bed.remove(".handloom/ledger");
    bed.remove(".handloom/journal");
    bed.write("hand.loom", "target other\n  recipe: echo > @{target}\n");
    bed.run(&[])
        .status(0)
        .says(&["put back as before it: `out/x`"]);
    assert_eq!(bed.read("out/x"), "costly\n");
}

/// What the next run puts back decides then: before it, `preview` and `why` do not call it certain.
#[test]
fn what_is_still_set_by_may_come_back_and_is_no_certain_reason() {
    let bed = Bed::new("target out/x\n  needs in\n  recipe: cat in > @{target}\n");
    bed.write("in", "costly\n");
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    // Once the old output is as recorded, once it is not; what stands in its place is edited, or gone.
    for (set_by, edited) in [
        ("costly\n", Some("half\n")),
        ("costly\n", None),
        ("older\n", Some("half\n")),
        ("older\n", None),
    ] {
        bed.write(".handloom/set-by/out/x", set_by);
        match edited {
            Some(text) => bed.write("out/x", text),
            None => bed.remove("out/x"),
        }
        bed.run(&["preview"]).says(&["maybe  out/x", "1 may run"]);
        bed.run(&["why", "out/x"])
            .says(&["may run", "the next run first puts back"]);
        let run = bed.weave(&[]);
        match set_by {
            "costly\n" => run.all_kept(1),
            _ => run.status(0).ended(&["out/x same output-edited"]),
        };
        assert_eq!(bed.read("out/x"), "costly\n");
        bed.run(&["preview"]).says(&["1 would be kept"]);
    }
}

#[test]
fn a_process_that_is_none_of_ours_is_left_alone() {
    let bed = Bed::new("target x\n  recipe: echo $$ > pid; sleep 600\n");
    let mut child = bed.start(&[]);
    bed.await_file("pid");
    kill(&mut child);
    kill_group(&bed, "pid");
    let pid = bed.read("pid");
    // Later its number is given to another by now, as far as the mark can tell.
    sleep(Duration::from_millis(50));
    let mut other = Command::new("sleep").arg("600").spawn().unwrap();
    let marks = bed.read(".handloom/jobs/running");
    let marks = marks.replace(pid.trim(), &other.id().to_string());
    fs::write(bed.path(".handloom/jobs/running"), marks).unwrap();
    bed.write("hand.loom", "target x\n  recipe: echo > x\n");
    bed.weave(&[]).status(0).says_not("ended now");
    assert_eq!(other.try_wait().unwrap(), None, "it was not ended");
    kill(&mut other);
}

/// Nothing that a recipe starts outlives the run, however it ends and wherever it went.
#[test]
fn no_process_is_left_behind() {
    let ways = [
        "sleep 600 & echo $! > pid",
        "sleep 600 > /dev/null 2>&1 & echo $! > pid",
        "setsid sh -c 'echo $$ > pid; exec sleep 600' > /dev/null 2>&1 & while ! test -s pid; do sleep 0.01; done",
        "(env -i PATH=\"$PATH\" setsid sh -c 'echo $$ > pid; exec sleep 600' > /dev/null 2>&1 &) ; while ! test -s pid; do sleep 0.01; done",
        "set -m; sleep 600 & echo $! > pid",
        "trap '' TERM INT; sleep 600 & echo $! > pid",
    ];
    for way in ways {
        let bed = Bed::new(&format!("target x\n  recipe:\n    {way}\n    echo > x\n"));
        bed.run(&[])
            .status(0)
            .says(&["running in the background; it was ended"]);
        assert!(!runs(&bed, "pid"), "after a good end: {way}");
        let bed = Bed::new(&format!(
            "target x\n  limit 0.3s\n  recipe:\n    {way}\n    sleep 600\n"
        ));
        bed.write(
            "../home/.config/handloom/settings.toml",
            "grace = \"0.2s\"\n",
        );
        bed.run(&[]).status(1).says(&["ran longer than its limit"]);
        assert!(!runs(&bed, "pid"), "after its limit: {way}");
        let bed = Bed::new(&format!("target x\n  recipe:\n    {way}\n    sleep 600\n"));
        bed.write(
            "../home/.config/handloom/settings.toml",
            "grace = \"0.2s\"\n",
        );
        let mut child = bed.start(&[]);
        bed.await_file("pid");
        let sent = Command::new("kill")
            .args(["-INT", &child.id().to_string()])
            .status();
        assert!(sent.unwrap().success());
        assert_eq!(child.wait().unwrap().code(), Some(130), "{way}");
        assert!(!runs(&bed, "pid"), "after an interruption: {way}");
    }
}

/// Asked to end, a script's children have their grace, also when the shell at its head dies at once.
#[test]
fn the_whole_group_has_its_grace() {
    let recipe = "  recipe:\n    sh -c 'trap \"sleep 0.3; echo tidy > tidied; exit\" TERM INT; echo > ready; while :; do sleep 0.05; done' &\n    while ! test -e ready; do sleep 0.01; done\n    exec sleep 600\n";
    let bed = Bed::new(&format!("target x\n  limit 0.5s\n{recipe}"));
    bed.run(&[]).status(1).says(&["longer than its limit"]);
    assert_eq!(bed.read("tidied"), "tidy\n", "at a limit");
    let bed = Bed::new(&format!("target x\n{recipe}"));
    let mut child = bed.start(&[]);
    bed.await_file("ready");
    sleep(Duration::from_millis(50));
    assert!(
        Command::new("kill")
            .args(["-TERM", &child.id().to_string()])
            .status()
            .unwrap()
            .success()
    );
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert_eq!(bed.read("tidied"), "tidy\n", "after a signal");
}

#[test]
fn what_only_has_to_write_out_the_rest_is_not_cut_off() {
    let bed = Bed::new(
        "target x\n  recipe with bash -eu:\n    for i in $(seq 2000); do echo line $i; done > >(sed s/line/row/ > x)\n",
    );
    bed.run(&[]).status(0).says_not("in the background");
    assert!(bed.read("x").ends_with("row 2000\n"));
}

#[test]
fn an_ignored_hangup_is_respected() {
    let bed = Bed::new("target x\n  recipe: echo > began; sleep 0.5; echo done > x\n");
    let program = bed.command(&[]).get_program().to_owned();
    let mut command = Command::new("sh");
    command
        .args(["-c", "trap '' HUP; exec \"$0\""])
        .arg(program);
    let mut child = command
        .current_dir(bed.path(""))
        .env("HOME", bed.path("../home"))
        .spawn()
        .unwrap();
    bed.await_file("began");
    assert!(
        Command::new("kill")
            .args(["-HUP", &child.id().to_string()])
            .status()
            .unwrap()
            .success()
    );
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(bed.read("x"), "done\n");
}

/// A run that is killed again and again, at any moment, ends with what a fresh one makes.
#[test]
fn kills_at_any_moment_leave_what_a_fresh_run_makes() {
    let loom = "target out/<n>\n  needs each in/<n>\n  recipe: cat @{needs} > @{target}; sleep 0.00@{n}; cat @{needs} >> @{target}\ntarget all\n  needs out/*\n  recipe: cat @{needs} > @{target}\n";
    let bed = Bed::new(loom);
    for n in 1..=6 {
        bed.write(&format!("in/{n}"), &format!("{n}\n"));
    }
    let asked = std::env::var("HANDLOOM_KILLS").ok();
    for round in 0..asked.map_or(25_u64, |count| count.parse().unwrap()) {
        bed.write(
            &format!("in/{}", round % 6 + 1),
            &format!("round {round}\n"),
        );
        let mut child = bed.start(&["-j2"]);
        sleep(Duration::from_micros(round % 25 * 1700 + round / 25 * 40));
        kill(&mut child);
    }
    bed.weave(&[]).status(0);
    let fresh = Bed::new(loom);
    for n in 1..=6 {
        fresh.write(&format!("in/{n}"), &bed.read(&format!("in/{n}")));
    }
    fresh.weave(&[]).status(0);
    assert_eq!(bed.read("all"), fresh.read("all"));
    bed.weave(&[]).all_kept(7);
}
