//! Tasks that stay: begun once for all that need them, waited for, and ended after the last.

use std::os::unix::process::ExitStatusExt;

use rustix::process::Pid;
use rustix::process::Signal;
use rustix::process::kill_process;

use crate::bed::Bed;
use crate::screen::wait_for;
use crate::watching::Watch;

/// A service that is there a while after it began, and says in `log` when it began and ended.
const SKY: &str = "task sky\n  stays\n  limit 20s\n  ready: test -f up\n  recipe:\n    echo clouds\n    \
                   trap 'rm up; echo ended >> log; exit 0' TERM\n    sleep 0.2\n    echo began >> log\n    echo x > up\n    \
                   while true; do sleep 0.02; done\n";

fn bed(others: &str) -> Bed {
    Bed::new(&format!("{SKY}{others}"))
}

#[test]
fn it_is_begun_once_for_all_that_need_it_and_ended_after_the_last() {
    let bed = bed(
        "task one\n  after sky\n  recipe: test -f up; echo used >> log\ntask two\n  after sky one\n  \
                   recipe: test -f up; echo used >> log\ntarget out\n  after sky\n  recipe: cp up @{target}; echo used >> log\n\
                   task all\n  after one two out\ntask alone\n  recipe: true\n",
    );
    for jobs in ["-j1", "-j4"] {
        bed.write("log", "");
        bed.write("out", "not as it was made");
        bed.weave(&["all", jobs]).status(0);
        assert_eq!(
            bed.read("log"),
            "began\nused\nused\nused\nended\n",
            "{jobs}"
        );
        assert!(!bed.exists("up"));
    }
    bed.remove("log");
    bed.weave(&["alone"]).status(0).ended(&["alone made"]);
    assert!(!bed.exists("log"), "begun though nobody needs it");
    bed.weave(&["out"]).status(0).kept(1);
    assert!(!bed.exists("log"), "begun though what needs it is kept");
}

#[test]
fn what_it_printed_last_is_shown_where_something_fails_that_needs_it() {
    let bed = bed(
        "task breaks\n  after sky\n  recipe: exit 3\ntask works\n  after sky\n  recipe: true\n",
    );
    bed.run(&["breaks"]).status(1).says(&[
        "exit status 3",
        "sky, which breaks needs, printed last",
        "clouds",
    ]);
    assert_eq!(bed.read("log"), "began\nended\n");
    bed.run(&["works"]).status(0).says_not("clouds");
}

#[test]
fn one_that_is_never_ready_fails_after_its_limit() {
    let bed = Bed::new(
        "task sky\n  stays\n  limit 300ms\n  ready: echo asked; false\n  recipe: echo here; exec sleep 1000\n\
         task one\n  after sky\n  recipe: touch made\n",
    );
    bed.weave(&["one"])
        .status(1)
        .ended(&["one held", "sky failed"])
        .says(&["it was not ready within 300ms", "here", "asked"]);
    assert!(!bed.exists("made"));
}

#[test]
fn one_that_ends_too_early_fails() {
    let bed = Bed::new(
        "task dies\n  stays\n  ready: sleep 0.1; false\n  recipe: exit 3\ntask quits\n  stays\n  recipe: touch gone\n\
         task one\n  after dies\n  recipe: touch made\n\
         task two\n  after quits\n  recipe: while ! test -f gone; do sleep 0.01; done; sleep 0.3\n\
         task three\n  after two\n  recipe: touch made\n",
    );
    bed.weave(&["one"])
        .status(1)
        .ended(&["dies failed", "one held"])
        .says(&["exit status 3"]);
    bed.weave(&["three"])
        .status(1)
        .says(&["it ended while others needed it"]);
    assert!(!bed.exists("made"));
}

#[test]
fn one_that_was_asked_for_goes_on_until_it_is_ended_and_holds_nobody_up() {
    let bed =
        bed("target out\n  recipe: echo x > @{target}\ntask one\n  after sky\n  recipe: true\n");
    let mut child = bed.start(&["sky", "one"]);
    bed.await_file("up");
    // Another run has the project meanwhile, once nothing else is left.
    bed.weave(&["out"]).status(0);
    assert!(bed.exists("up"), "it ended though it was asked for");
    kill_process(Pid::from_child(&child), Signal::TERM).expect("a signal");
    let status = child.wait().expect("an end");
    assert_eq!((status.code(), status.signal()), (Some(130), None));
    assert_eq!(bed.read("log"), "began\nended\n");
}

#[test]
fn one_that_a_killed_run_left_is_ended_by_the_next() {
    let bed = bed(
        "task one\n  after sky\n  recipe: echo x > waits; while true; do sleep 0.02; done\ntask two\n  recipe: true\n",
    );
    let mut child = bed.start(&["one"]);
    bed.await_file("waits");
    child.kill().expect("a signal");
    child.wait().expect("an end");
    bed.run(&["two"])
        .status(0)
        .says(&["the last run was killed; still running and ended now: `sh`"]);
}

#[test]
fn its_finally_runs_and_a_question_that_hangs_holds_nobody_up() {
    let bed = Bed::new(
        "task sky where=1\n  stays\n  ready: test -s up@{where}\n  recipe: echo x > up@{where}; sleep 1000\n  \
         finally: rm up@{where}\ntask one\n  after sky 'sky 2'\n  recipe: cat up1 up2\n\
         task dies\n  stays\n  ready: sleep 1000\n  recipe: exit 3\ntask two\n  after dies\n  recipe: true\n",
    );
    bed.weave(&["one"]).status(0);
    assert!(!bed.exists("up1") && !bed.exists("up2"));
    bed.write("up1", "");
    bed.weave(&["two"])
        .status(1)
        .ended(&["dies failed", "two held"])
        .says(&["exit status 3"]);
}

#[test]
fn what_makes_no_sense_beside_it_is_refused() {
    let refused = [
        ("  ready: true\n  recipe: true\n", "this one does not stay"),
        (
            "  stays\n  needs hand.loom\n",
            "so nothing can go on running",
        ),
        ("  stays\n  remember\n  recipe: true\n", "has no `remember`"),
        ("  stays\n  retry 2\n  recipe: true\n", "is not tried again"),
        (
            "  steps sky\ntask sky\n  stays\n  recipe: true\n",
            "`sky` stays, and can't be one of the steps",
        ),
    ];
    for (clauses, says) in refused {
        let bed = Bed::new(&format!("task one\n{clauses}"));
        bed.run(&["one"]).status(2).says(&[says]);
    }
}

/// A service that can't begin while another one holds its place, and takes a while to give it free.
const PAGE: &str = "target page\n  needs text\n  recipe: grep . @{needs} > @{target}\n\
                    task serve\n  stays\n  needs page\n  ready: test -s up\n  recipe:\n    \
                    if test -e up; then echo taken; exit 1; fi\n    \
                    trap 'sleep 0.1; rm up; exit 0' TERM\n    cat page >> served\n    echo x > up\n    \
                    while true; do sleep 0.02; done\n\
                    target other\n  recipe: echo x > @{target}\n";

#[test]
fn watch_begins_it_again_when_what_it_needs_has_changed() {
    let bed = Bed::new(PAGE);
    bed.write("text", "one\n");
    let mut watch = Watch::start(&bed, &["serve"]);
    bed.await_file("up");
    // Others have the project meanwhile.
    bed.weave(&["other"]).status(0);
    // Saved without a change: nothing to do.
    watch.save("text", "one\n");
    watch.save("text", "two\n");
    assert_eq!(watch.next(), ["page made never-made", "serve made"]);
    wait_for("it serves", || bed.read("served") == "one\ntwo\n");
    bed.await_file("up");
    // What breaks leaves it ended, and what mends it lets it begin.
    watch.save("text", "");
    assert_eq!(
        watch.next(),
        ["page made prerequisite-changed", "serve made"]
    );
    assert_eq!(
        watch.next(),
        ["page failed prerequisite-changed", "serve held"]
    );
    watch.save("text", "three\n");
    wait_for("it serves", || bed.read("served") == "one\ntwo\nthree\n");
    bed.await_file("up");
    let text = bed.read("hand.loom");
    watch.save("hand.loom", &text.replace("cat page", "cat page page"));
    wait_for("it serves", || {
        bed.read("served").ends_with("three\nthree\nthree\n")
    });
    bed.await_file("up");
    let said = watch.shown();
    assert!(!said.contains("taken"), "{said}");
    assert!(
        said.contains("text changed; serve ended, to be begun again"),
        "{said}"
    );
    assert!(
        said.contains("hand.loom changed; serve ended, to be begun again"),
        "{said}"
    );
    assert_eq!(watch.end(Signal::TERM), Some(130));
    assert!(!bed.exists("up"));
}

#[test]
fn one_that_a_killed_run_left_is_ended_also_when_others_had_the_project() {
    let bed = bed("task one\n  after sky\n  recipe: cat up\ntask two\n  recipe: true\n");
    let mut child = bed.start(&["sky"]);
    bed.await_file("up");
    // It is no concern of a run while its own is alive.
    bed.run(&["two"]).status(0).says_not("killed");
    assert!(bed.exists("up"));
    child.kill().expect("a signal");
    child.wait().expect("an end");
    bed.run(&["one"])
        .status(0)
        .says(&["the last run was killed; still running and ended now: `sh`"]);
    let left = std::fs::read_dir(bed.path(".handloom/jobs")).expect("a folder");
    let left = left.map(|entry| entry.expect("an entry").file_name());
    let left: Vec<_> = left
        .filter(|name| name.to_string_lossy().starts_with("stays"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn what_it_is_given_to_know_is_its_own_while_others_run() {
    let bed = Bed::new(
        "task sky\n  stays\n  let mine = yes\n  ready: test -s up\n  recipe:\n    echo @{mine} > up\n    \
         while ! test -e ask; do sleep 0.02; done\n    cat \"$HANDLOOM_JOB\" > told\n    exec sleep 1000\n\
         target a<n>\n  each n in 1 2 3 4 5 6 7 8\n  recipe: echo x > @{target}\n",
    );
    let mut child = bed.start(&["sky"]);
    bed.await_file("up");
    bed.weave(&["-j8", "a*"]).status(0);
    bed.write("ask", "");
    bed.await_file("told");
    assert!(
        bed.read("told").contains(r#""mine":["yes"]"#),
        "{}",
        bed.read("told")
    );
    kill_process(Pid::from_child(&child), Signal::TERM).expect("a signal");
    child.wait().expect("an end");
}

#[test]
fn what_is_left_away_stays_while_others_may_have_the_project() {
    let bed = Bed::new(&format!(
        "target mid\n  needs text\n  fleeting\n  recipe: cp @{{needs}} @{{target}}\n{}",
        PAGE.replace("needs text", "needs mid")
    ));
    bed.write("text", "one\n");
    let mut watch = Watch::start(&bed, &["serve"]);
    bed.await_file("up");
    assert!(bed.exists("mid"));
    watch.save("text", "two\n");
    let _ = watch.next();
    wait_for("it serves", || bed.read("served") == "one\ntwo\n");
    assert!(bed.exists("mid"));
    assert_eq!(watch.end(Signal::TERM), Some(130));
    // A run that has the project to itself takes it away.
    bed.write("text", "three\n");
    bed.weave(&["page"]).status(0);
    assert!(!bed.exists("mid"));
}
