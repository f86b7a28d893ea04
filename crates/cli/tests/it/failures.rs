//! Recipes that fail, runs that are interrupted, things that are not there.

use std::process::Stdio;

use crate::bed::Bed;

const ONE_FAILS: &str = "
target bad
  recipe:
    echo half > @{target}
    echo it went wrong >&2
    exit 7
target good
  recipe: echo good > @{target}
target behind
  needs bad good
  recipe: cat @{needs} > @{target}
task check
  needs behind
  recipe: true
";

#[test]
fn a_failure_is_shown_with_its_command_and_its_output() {
    let bed = Bed::new(ONE_FAILS);
    bed.weave(&["-j1", "bad"])
        .status(1)
        .ended(&["bad failed never-made"])
        .says(&[
            "exit status 7",
            "hand.loom:4",
            "echo half > bad",
            "it went wrong",
            "1 failed",
            ".handloom/failed/bad",
        ]);
    assert!(
        !bed.exists("bad"),
        "half a file is never taken for a whole one"
    );
    assert_eq!(bed.read(".handloom/failed/bad"), "half\n");
    bed.weave(&["-j1", "bad"])
        .status(1)
        .ended(&["bad failed never-made,failed-before"]);
}

#[test]
fn the_first_failure_begins_nothing_new() {
    let bed = Bed::new(ONE_FAILS);
    bed.weave(&["-j1", "bad", "good", "check"])
        .status(1)
        .ended(&["bad failed never-made", "behind held", "check held"])
        .says(&["1 not begun"]);
}

#[test]
fn going_on_finishes_what_does_not_depend_on_the_failure() {
    let bed = Bed::new(ONE_FAILS);
    bed.weave(&["--on-failure", "continue", "check"])
        .status(1)
        .ended(&[
            "bad failed never-made",
            "good made never-made",
            "behind held",
            "check held",
        ]);
}

#[test]
fn a_mended_step_runs_and_what_is_behind_it() {
    let bed = Bed::new(ONE_FAILS);
    bed.weave(&["--on-failure", "continue", "behind"])
        .status(1)
        .ended(&[
            "bad failed never-made",
            "good made never-made",
            "behind held",
        ]);
    bed.write("hand.loom", &ONE_FAILS.replace("exit 7", "exit 0"));
    bed.weave(&["behind"])
        .status(0)
        .ended(&[
            "bad made never-made,failed-before",
            "behind made never-made",
        ])
        .kept(1);
    assert_eq!(bed.read("behind"), "half\ngood\n");
}

#[test]
fn an_output_that_was_not_written_is_a_failure() {
    let bed = Bed::new("target a: one b: two\n  recipe: echo > @{a}\n");
    bed.weave(&[])
        .status(1)
        .ended(&["one failed never-made"])
        .says(&["did not write two"]);
}

#[test]
fn a_folder_where_a_file_is_described_is_a_failure() {
    let bed = Bed::new("target out\n  recipe: mkdir @{target}\n");
    bed.weave(&[])
        .status(1)
        .says(&["wrote a folder, where the target is a file: out"])
        .ended(&["out failed never-made"]);
}

#[test]
fn a_recipe_that_changes_its_own_prerequisite_fails() {
    let bed = Bed::new("target out\n  needs in\n  recipe: cp in @{target}; echo more >> in\n");
    bed.write("in", "x\n");
    bed.weave(&[])
        .status(1)
        .ended(&["out failed never-made"])
        .says(&["in changed while the recipe ran"]);
}

/// Which content the recipe read is not known, also when the step had never learned of the file before.
#[test]
fn what_a_step_learns_of_must_not_change_while_it_runs() {
    let bed = Bed::new(
        "target out\n  learn lines\n  recipe:\n    cat header > @{target}\n    touch began\n    while [ -e wait ]; do sleep 0.02; done\n    echo header > @{learn}\n",
    );
    bed.write("header", "1\n");
    bed.write("wait", "");
    std::thread::scope(|scope| {
        scope.spawn(|| {
            crate::screen::wait_for("it runs", || bed.exists("began"));
            // Later by more than the clock's grain.
            std::thread::sleep(std::time::Duration::from_millis(50));
            bed.write("header", "2\n");
            bed.remove("wait");
        });
        bed.weave(&[])
            .status(1)
            .ended(&["out failed never-made"])
            .says(&["header changed while the recipe ran"]);
    });
    bed.weave(&[])
        .status(0)
        .ended(&["out made never-made,failed-before"]);
    assert_eq!(bed.read("out"), "2\n");
    bed.weave(&[]).all_kept(1);
}

/// The first run says so already, not only the next one.
#[test]
fn a_recipe_that_learns_of_what_it_writes_fails() {
    let bed = Bed::new(
        "target out\n  learn lines\n  recipe:\n    sleep 0.05\n    echo made > header\n    cp header @{target}\n    echo header > @{learn}\n",
    );
    bed.weave(&[]).status(1).says(&[
        "header changed while the recipe ran",
        "name it among the targets",
    ]);
    bed.write("hand.loom", "target out header\n  learn lines\n  recipe:\n    sleep 0.05\n    echo made > header\n    cp header out\n    echo header > @{learn}\n");
    let _ = bed.weave(&[]).status(0);
    bed.weave(&[]).all_kept(1);
}

#[test]
fn a_recipe_that_cannot_start_says_so() {
    let bed = Bed::new("target out\n  recipe with no-such-program:\n    x\n");
    bed.weave(&[])
        .status(1)
        .ended(&["out failed never-made"])
        .says(&["could not start: `no-such-program`"]);
}

#[test]
fn a_recipe_ended_by_a_signal_says_which() {
    let bed = Bed::new("target out\n  recipe: kill -SEGV $$\n");
    bed.weave(&[])
        .status(1)
        .ended(&["out failed never-made"])
        .says(&["ended by signal 11 (memory fault)"]);
}

#[test]
fn a_missing_source_is_an_error_before_anything_runs() {
    let bed = Bed::new(
        "target out\n  needs src/lamp.c src/bulb.c\n  recipe: cat @{needs} > @{target}\ntarget other\n  recipe: echo > @{target}\n",
    );
    bed.write("src/lamp.c", "");
    bed.write("src/bulbs.c", "");
    let run = bed.weave(&[]).status(2).says(&[
        "`src/bulb.c` is needed, but it is not there and no target makes it",
        "hand.loom:2",
        "did you mean `src/bulbs.c`?",
    ]);
    assert_eq!(run.began(), [] as [&str; 0]);
}

#[test]
fn unknown_names_are_refused_with_the_nearest() {
    let bed =
        Bed::new("target out/lamp.svg\n  recipe: echo > @{target}\ntask check\n  recipe: true\n");
    bed.run(&["out/lam.svg"]).status(2).says(&[
        "no target or task is called `out/lam.svg`",
        "did you mean `out/lamp.svg`?",
    ]);
    bed.run(&["chek"])
        .status(2)
        .says(&["did you mean `check`?"]);
    bed.run(&["'*/nothing'"])
        .status(2)
        .says(&["no target matches"]);
    let mut outside = bed.command(&[]);
    outside.current_dir("/");
    bed.finish(outside, &["in /"])
        .status(2)
        .says(&["there is no `hand.loom`"]);
}

#[test]
fn a_step_that_needs_itself_is_shown_as_a_circle() {
    let bed = Bed::new(
        "target a\n  needs b\n  recipe: cp b a\ntarget b\n  needs c\n  recipe: cp c b\ntarget c\n  needs a\n  recipe: cp a c\n",
    );
    let _ = bed.run(&["a"]).status(2).says(&[
        "these need each other in a circle: `a` → `b` → `c` → `a`",
        "`a` needs `b`",
        "`b` needs `c`",
        "`c` needs `a`",
    ]);
}

fn signal(child: &std::process::Child, signal: &str) {
    let status = std::process::Command::new("kill")
        .args([signal, &child.id().to_string()])
        .status()
        .unwrap();
    assert!(status.success());
}

#[test]
fn an_interruption_ends_the_jobs_and_leaves_no_half_made_output() {
    let bed = Bed::new(
        "target out\n  recipe:\n    echo half > @{target}\n    sleep 100 & echo $! > grandchild\n    echo > started\n    wait\n",
    );
    let mut child = bed
        .command(&[])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    bed.await_file("started");
    signal(&child, "-INT");
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(!bed.exists("out"));
    assert_eq!(bed.read(".handloom/failed/out"), "half\n");
    let grandchild = bed.read("grandchild");
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", grandchild.trim()));
    assert!(
        stat.is_err() || stat.unwrap().contains(") Z "),
        "the grandchild outlived the run"
    );
    bed.write(
        "hand.loom",
        "target out\n  recipe: echo whole > @{target}\n",
    );
    bed.weave(&[])
        .status(0)
        .ended(&["out made never-made,unfinished"]);
}

#[test]
fn a_job_that_ignores_the_wish_to_stop_is_killed_by_the_second() {
    let bed = Bed::new(
        "target out\n  recipe:\n    trap '' INT\n    echo > started\n    while :; do sleep 0.05 || :; done\n",
    );
    let mut child = bed
        .command(&[])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    bed.await_file("started");
    signal(&child, "-INT");
    signal(&child, "-TERM");
    assert_eq!(child.wait().unwrap().code(), Some(130));
}

#[test]
fn jobs_get_the_signal_that_asked_the_run_to_end() {
    for name in ["INT", "TERM", "HUP"] {
        let bed = Bed::new(&format!(
            "target out\n  recipe:\n    trap 'echo {name} > got; exit 1' {name}\n    echo > started\n    while :; do sleep 0.02 || :; done\n"
        ));
        let mut child = bed
            .command(&[])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        bed.await_file("started");
        signal(&child, &format!("-{name}"));
        assert_eq!(child.wait().unwrap().code(), Some(130), "{name}");
        assert_eq!(bed.read("got"), format!("{name}\n"));
    }
}

#[test]
fn a_process_left_in_the_background_neither_hangs_the_run_nor_outlives_it() {
    let bed = Bed::new(
        "target out\n  recipe:\n    sleep 1000 &\n    echo $! > background\n    echo x > @{target}\n",
    );
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    let background = bed.read("background");
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", background.trim()));
    assert!(stat.is_err() || stat.unwrap().contains(") Z "));
}

#[test]
fn a_killed_run_loses_only_what_was_running() {
    let bed = Bed::new(
        "target first\n  recipe: echo 1 > @{target}\ntarget second\n  needs first\n  recipe: echo half > @{target}; echo > started; sleep 100\n",
    );
    let mut child = bed
        .command(&[])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    bed.await_file("started");
    signal(&child, "-KILL");
    child.wait().unwrap();
    let loom = bed.read("hand.loom");
    bed.write(
        "hand.loom",
        &loom.replace("; echo > started; sleep 100", ""),
    );
    bed.weave(&[])
        .status(0)
        .ended(&["second made never-made,unfinished"])
        .kept(1);
    assert_eq!(bed.read("second"), "half\n");
    bed.weave(&[]).all_kept(2);
}

#[test]
fn a_limit_ends_a_job() {
    let bed = Bed::new("target out\n  limit 0.2s\n  recipe: sleep 100\n");
    bed.weave(&[])
        .status(1)
        .ended(&["out failed never-made"])
        .says(&["ran longer than its limit"]);
}

#[test]
fn a_retry_may_succeed_and_finally_always_runs() {
    let bed = Bed::new(
        "target out\n  retry 2\n  recipe:\n    echo x >> tries\n    test $(wc -l < tries) -ge 3\n    echo done > @{target}\n  finally: echo after >> log\n",
    );
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    assert_eq!(
        (bed.read("tries"), bed.read("log")),
        ("x\nx\nx\n".to_owned(), "after\n".to_owned())
    );
}

/// A recipe that ended well is not shown as what failed.
#[test]
fn a_finally_that_fails_is_what_is_shown() {
    let bed = Bed::new(
        "task sweep\n  recipe: echo swept; exit 4\ntask one\n  finally sweep\n  recipe: echo lit\n\
         task two\n  recipe: echo lit\n  finally: echo dark; exit 3\n",
    );
    bed.weave(&["one"])
        .status(1)
        .says(&[
            "exit status 4",
            "the recipe of sweep, which comes behind it",
        ])
        .says(&["echo swept; exit 4"])
        .says_not("echo lit");
    bed.weave(&["two"])
        .status(1)
        .says(&["exit status 3", "the `finally:`, with sh -eu:"])
        .says(&["echo dark; exit 3"])
        .says_not("echo lit");
}

/// Runs two steps that read the same file, and changes it while both run: neither may count as made from
/// what is there now.
#[track_caller]
fn changed_under_two(loom: &str, changed: &str) {
    let bed = Bed::new(loom);
    for name in ["in/a", "in/b", changed] {
        bed.write(name, "old\n");
    }
    bed.write("go", "");
    let _ = bed.run(&["-j2"]).status(0);
    for name in ["go", "read-a", "read-b"] {
        bed.remove(name);
    }
    bed.write("in/a", "new\n");
    bed.write("in/b", "new\n");
    let mut child = bed
        .command(&["-j2", "--on-failure", "continue"])
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    crate::screen::wait_for("both have read it", || {
        bed.exists("read-a") && bed.exists("read-b")
    });
    bed.write(changed, "changed\n");
    bed.write("go", "");
    assert_eq!(child.wait().unwrap().code(), Some(1));
    let run = bed.weave(&[]).status(0);
    let mut ran = run.began();
    ran.sort_unstable();
    assert_eq!(ran, ["out/a", "out/b"], "{}", run.shown());
    for name in ["out/a", "out/b"] {
        assert_eq!(bed.read(name), "new\nchanged\n");
    }
}

const READ_AND_WAIT: &str = "    cat @{own} common > part-@{name}
    touch read-@{name}
    while [ ! -e go ]; do sleep 0.01; done
    mv part-@{name} @{target}
";

#[test]
fn a_source_that_changes_under_two_steps_fails_both() {
    let loom = format!(
        "target out/<name>\n  needs\n    own: each in/<name>\n    also: common\n  recipe:\n{READ_AND_WAIT}"
    );
    changed_under_two(&loom, "common");
}

#[test]
fn a_learned_source_that_changes_under_two_steps_fails_both() {
    let loom = format!(
        "target out/<name>\n  needs\n    own: each in/<name>\n  learn lines\n  recipe:\n{READ_AND_WAIT}    echo common > @{{learn}}\n"
    );
    changed_under_two(&loom, "common");
}

/// While jobs are short a slot is handed its next one ahead: a failure in between makes nothing run twice, and
/// nothing is left out.
#[test]
fn failures_among_short_jobs_run_each_step_once() {
    let mut loom = String::new();
    for number in 0..60 {
        let end = if number > 12 && number % 4 == 0 {
            "exit 3"
        } else {
            "touch @{target}"
        };
        loom += &format!("target o{number}\n  recipe: echo o{number} >> log; {end}\n");
    }
    let bed = Bed::new(&loom);
    let run = bed.weave(&["--on-failure", "continue"]).status(1);
    let all = (0..60).map(|number| {
        let ending = if number > 12 && number % 4 == 0 {
            "failed"
        } else {
            "made"
        };
        format!("o{number} {ending} never-made")
    });
    let all: Vec<String> = all.collect();
    let _ = run.ended(&all.iter().map(String::as_str).collect::<Vec<_>>());
    let log = bed.read("log");
    let mut ran: Vec<&str> = log.lines().collect();
    ran.sort_unstable();
    let mut expected: Vec<String> = (0..60).map(|number| format!("o{number}")).collect();
    expected.sort_unstable();
    assert_eq!(ran, expected);
}

#[test]
fn the_log_of_a_failed_test_that_is_its_output_is_shown() {
    let bed = Bed::new(
        "target tests.bin tests.log
  recipe:
    head -c 100 /dev/zero > tests.bin
    for n in $(seq 1 30); do echo \"case $n\"; done > tests.log
    echo 'wrong: 3 is not 4' >> tests.log
    exit 1
target speaks
  recipe: echo half > @{target}; echo its own words; exit 1
",
    );
    let run = bed.run(&["tests.log"]).status(1).says(&[
        "it printed nothing; the end of tests.log:",
        "case 30",
        "wrong: 3 is not 4",
        "what it left of tests.log is in .handloom/failed/tests.log",
    ]);
    assert!(!run.out.contains("case 11\n"), "{}", run.out);
    bed.run(&["speaks"])
        .status(1)
        .says(&["its own words"])
        .says_not("printed nothing");
}
