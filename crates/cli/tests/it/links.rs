//! Symbolic links as outputs and as prerequisites, names that are not UTF-8, and the executable bit.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;

use crate::bed::Bed;

const LIBRARY: &str = "target libx.so\n  recipe: ln -s libx.so.1 @{target}\ntarget libx.so.1\n  needs in\n  recipe: sleep 0.1; cp in @{target}\ntarget out\n  needs libx.so libx.so.1\n  recipe: cat libx.so > @{target}\n";

#[test]
fn a_link_is_made_once_whatever_it_leads_to() {
    let bed = Bed::new(LIBRARY);
    bed.write("in", "1\n");
    bed.weave(&[]).status(0).ended(&[
        "libx.so made never-made",
        "libx.so.1 made never-made",
        "out made never-made",
    ]);
    bed.weave(&[]).all_kept(3);
    bed.write("in", "2\n");
    bed.weave(&[]).status(0).ended(&[
        "libx.so.1 made prerequisite-changed",
        "out made prerequisite-changed",
    ]);
    assert_eq!(bed.read("out"), "2\n");
    // What it says is what it is.
    bed.remove("libx.so");
    bed.link("in", "libx.so");
    bed.weave(&["libx.so"])
        .status(0)
        .ended(&["libx.so same output-edited"])
        .says(&["it is now `.handloom/aside/libx.so`"]);
    assert_eq!(bed.says_link("libx.so"), "libx.so.1");
    assert_eq!(bed.says_link(".handloom/aside/libx.so"), "in");
    bed.run(&["clean", "libx.so"])
        .status(0)
        .says(&["1 file removed"]);
    assert!(!bed.exists("libx.so") && bed.exists("libx.so.1"));
}

/// A reader of a link that another step's output stands behind comes after that step, declared or not.
#[test]
fn what_stands_behind_a_link_counts_for_its_readers() {
    let bed = Bed::new(
        "target current\n  recipe: ln -s real @{target}\ntarget real\n  needs in\n  recipe: cp in @{target}\ntarget out\n  needs current\n  recipe: cat current > @{target}\n",
    );
    bed.write("in", "1\n");
    bed.write("real", "");
    bed.remove("real");
    // Only the first time luck has to put it first: nobody knows yet where the link leads.
    bed.run(&["real"]).status(0);
    bed.run(&["real", "out"]).status(0);
    assert_eq!(bed.read("out"), "1\n");
    bed.write("in", "2\n");
    let run = bed.weave(&[]).status(0);
    assert_eq!(bed.read("out"), "2\n", "{}", run.shown());
    bed.weave(&[]).all_kept(3);
}

#[test]
fn links_among_sources_and_in_folders_count_with_what_they_say_and_lead_to() {
    let bed = Bed::new(
        "target one\n  needs src/link\n  recipe: cat src/link > @{target}; echo >> one.log\ntarget all\n  needs src/\n  recipe: cat src/link src/deep/a > @{target}; echo >> all.log\n",
    );
    bed.write("other/a", "a\n");
    bed.write("other/b", "a\n");
    bed.link("../other/a", "src/link");
    bed.link("../other", "src/deep");
    bed.weave(&[]).status(0);
    bed.weave(&[]).all_kept(2);
    bed.write("other/a", "changed\n");
    bed.weave(&[]).status(0).ended(&[
        "one made prerequisite-changed",
        "all made prerequisite-changed",
    ]);
    bed.weave(&[]).all_kept(2);
    bed.write("other/a", "a\n");
    bed.run(&["-q"]).status(0);
    // The same content behind another link is another link.
    bed.remove("src/link");
    bed.link("../other/b", "src/link");
    bed.weave(&[]).status(0).ended(&[
        "one same prerequisite-changed",
        "all same prerequisite-changed",
    ]);
    bed.write("other/new", "in a folder behind a link\n");
    bed.weave(&[])
        .status(0)
        .ended(&["all same prerequisite-changed"]);
}

#[test]
fn dangling_links_are_neither_lost_nor_taken_for_files() {
    let bed = Bed::new("target out/x\n  recipe: echo made > @{target}\n");
    bed.link("nowhere", "out/x");
    bed.weave(&[])
        .status(0)
        .says(&["it is now `.handloom/aside/out/x`"]);
    assert_eq!(bed.says_link(".handloom/aside/out/x"), "nowhere");
    bed.remove("out/x");
    bed.link("nowhere either", "out/x");
    bed.weave(&[])
        .status(0)
        .says(&["it is now `.handloom/aside/out/x.2`"]);
    assert_eq!(bed.says_link(".handloom/aside/out/x.2"), "nowhere either");
    let bed = Bed::new("target out\n  needs in\n  recipe: cat in > @{target}\n");
    bed.link("gone", "in");
    bed.weave(&[]).status(2).says(&[
        "`in` is needed, but it is a link to something that is not there",
        "it says `gone`",
    ]);
}

#[test]
fn links_that_lead_back_neither_hang_nor_multiply() {
    let bed = Bed::new(
        "target list\n  needs src/**/*.c\n  recipe: echo @{needs} > @{target}\ntarget whole\n  needs src/\n  recipe: echo > @{target}\n",
    );
    bed.write("src/deep/er/a.c", "a\n");
    bed.write("other/b.c", "b\n");
    bed.link(".", "src/here");
    bed.link("..", "src/up");
    bed.link("..", "src/deep/up");
    bed.link("../../other", "src/deep/one");
    bed.link("../../other", "src/deep/two");
    bed.run(&[]).status(0);
    assert_eq!(bed.read("list"), "src/deep/er/a.c src/deep/one/b.c\n");
    bed.weave(&[]).all_kept(2);
}

#[test]
fn the_executable_bit_belongs_to_a_file() {
    let bed = Bed::new(
        "target out\n  needs tool in\n  recipe: test -x tool && echo runs > @{target} || echo no > @{target}\n",
    );
    bed.write("tool", "x\n");
    bed.write("in", "x\n");
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    bed.set_mode("tool", 0o755);
    bed.weave(&[])
        .status(0)
        .ended(&["out made prerequisite-changed"]);
    assert_eq!(bed.read("out"), "runs\n");
    bed.weave(&[]).all_kept(1);
    bed.set_mode("tool", 0o700);
    bed.weave(&[]).all_kept(1);
    bed.set_mode("out", 0o755);
    bed.weave(&[]).status(0).ended(&["out same output-edited"]);
}

#[test]
fn names_that_are_not_utf_8_count() {
    let odd = OsStr::from_bytes(b"caf\xe9.c");
    let bed = Bed::new(
        "target out/<u>.o\n  needs each src/<u>.c\n  recipe: cat @{needs} > @{target}\ntarget sum\n  needs src/\n  recipe: cat src/* > @{target}\ntarget tree/\n  recipe: echo > tree/own\n",
    );
    bed.write("src/plain.c", "plain\n");
    fs::write(bed.path("src").join(odd), "odd\n").unwrap();
    bed.weave(&[]).status(0).says(&["out/caf\\xE9.o"]).ended(&[
        "out/caf\\xE9.o made never-made",
        "out/plain.o made never-made",
        "sum made never-made",
        "tree/ made never-made",
    ]);
    let made = bed.path("out").join(OsStr::from_bytes(b"caf\xe9.o"));
    assert_eq!(fs::read(&made).unwrap(), b"odd\n");
    bed.weave(&[]).all_kept(4);
    fs::write(bed.path("src").join(odd), "changed\n").unwrap();
    bed.weave(&[]).status(0).ended(&[
        "out/caf\\xE9.o made prerequisite-changed",
        "sum made prerequisite-changed",
    ]);
    // Somebody else's file in a made folder is not deleted.
    fs::write(bed.path("tree").join(odd), "foreign\n").unwrap();
    bed.run(&["clean"]).status(0).says(&["left", "tree/"]);
    assert!(bed.path("tree").join(odd).exists() && !made.exists());
}
