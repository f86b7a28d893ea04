//! `handloom log`: what a job printed last, and what it prints now.

use std::io::Read;
use std::process::Stdio;

use crate::bed::Bed;
use crate::screen::wait_for;

#[test]
fn what_was_printed_last_is_shown_also_after_other_runs() {
    let bed = Bed::new(
        "target a b\n  recipe: echo first; printf '\\37750%%\\r100%%'; touch a b\n\
         target sub/c\n  recipe: touch @{target}\n\
         task fails\n  recipe: echo no good >&2; exit 3\n  finally: echo tidied\n",
    );
    bed.run(&["log", "a"])
        .status(2)
        .says(&["`a` has no log yet", "nothing has run in this project"]);
    bed.run(&[]).status(0);
    bed.run(&["fails"]).status(1);
    let log = |name: &str| bed.command(&["log", name]).output().unwrap();
    // Byte for byte, by whichever output, from whichever folder.
    for name in ["a", "b"] {
        assert_eq!(log(name).stdout, b"first\n\xff50%\r100%", "{name}");
    }
    assert_eq!(log("fails").stdout, b"no good\ntidied\n");
    bed.run(&["log", "sub/c"])
        .status(0)
        .says(&["sub/c printed nothing in run 1"]);
    // The newest run counts, and an older one by its number.
    bed.write(
        "hand.loom",
        &bed.read("hand.loom").replace("echo first", "echo second"),
    );
    bed.run(&["a"]).status(0);
    assert!(log("b").stdout.starts_with(b"second\n"));
    let first = bed.command(&["log", "a", "--run", "1"]).output().unwrap();
    assert!(first.stdout.starts_with(b"first\n"));
    for (arguments, says) in [
        (&["log", "fail"][..], "did you mean `fails`?"),
        (
            &["log", "nothing-like-it"],
            "did not run in the last 3 runs",
        ),
        (&["log", "fails", "--run", "3"], "it ran last in run 2"),
        (&["log", "a", "--run", "77"], "there is no run 77"),
    ] {
        bed.run(arguments).status(2).says(&[says]);
    }
    // It needs no description, and nothing is written.
    bed.write("hand.loom", "target\n");
    assert!(log("a").stdout.starts_with(b"second\n"));
}

#[test]
fn what_a_job_prints_is_followed_until_it_ends() {
    let bed = Bed::new(
        "task slow\n  recipe: echo one; while ! test -e go; do sleep 0.02; done; echo two\n  finally: echo three\n\
         task stays\n  stays\n  recipe: echo here; echo x > up; while :; do sleep 0.02; done\n",
    );
    let mut run = bed.start(&["slow"]);
    let holds = |file: &str, text: &str| {
        let read = std::fs::read_to_string(bed.path(file));
        read.is_ok_and(|read| read.ends_with(text))
    };
    wait_for("it is noted", || holds(".handloom/logs/1/index", "\n"));
    let mut follower = bed
        .command(&["log", "slow", "--follow"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut out = follower.stdout.take().unwrap();
    let mut first = [0; 4];
    out.read_exact(&mut first).unwrap();
    assert_eq!(&first, b"one\n");
    bed.write("go", "");
    let mut rest = String::new();
    out.read_to_string(&mut rest).unwrap();
    assert_eq!(rest, "two\nthree\n");
    assert!(follower.wait().unwrap().success() && run.wait().unwrap().success());
    // What a killed run left does not go on.
    let mut run = bed.start(&["stays"]);
    wait_for("it prints", || holds(".handloom/logs/2/1.log", "here\n"));
    run.kill().unwrap();
    run.wait().unwrap();
    let followed = bed.command(&["log", "stays", "--follow"]).output().unwrap();
    assert_eq!(followed.stdout, b"here\n");
    bed.run(&["slow"]).status(0);
}
