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

/// By its name alone a target's file behind a link is a source, and nobody would wait for the target.
#[test]
fn a_targets_file_behind_a_link_is_not_taken_for_a_source() {
    let bed = Bed::new("target out/mid\n  needs in\n  recipe: cp in @{target}\n");
    bed.write("in", "1\n");
    bed.write("part/source", "");
    bed.link("out", "link");
    bed.link(".", "self");
    bed.link("project", "../elsewhere");
    bed.run(&[]).status(0);
    let made = bed.read("hand.loom");
    let elsewhere = bed.path("../elsewhere/out/mid");
    let elsewhere = elsewhere.to_str().unwrap();
    for (needs, name) in [
        ("link/mid", "link/mid"),
        ("self/out/mid", "self/out/mid"),
        ("link/*", "link/mid"),
        ("@{root}/link/mid", "link/mid"),
        ("@{both}", "link/mid"),
        (elsewhere, "elsewhere/out/mid"),
    ] {
        let reader = format!(
            "let both = in link/mid\ntarget fin\n  needs {needs}\n  recipe: cat @{{needs}} > @{{target}}\n"
        );
        bed.write("hand.loom", &format!("{made}{reader}"));
        bed.run(&[]).status(2).says(&[
            "error[behind-link]: ",
            &format!("{name}` is `out/mid`, which a target makes, behind a link"),
            "write `out/mid`",
        ]);
    }
    for more in [
        "target fin\n  needs link/\n  recipe: ls link > @{target}\n",
        "target fin\n  needs self/\n  recipe: ls self > @{target}\n",
        "target fin/<n>\n  needs each link/<n>id\n  recipe: cp @{needs} @{target}\n",
        "target link/mid2\n  recipe: echo > @{target}\ntarget fin\n  needs out/mid2\n  recipe: cp @{needs} @{target}\n",
        "target self/out/mid\n  recipe: echo > @{target}\n",
    ] {
        bed.write("hand.loom", &format!("{made}{more}"));
        bed.run(&[]).status(2).says(&["error[behind-link]: "]);
    }
    // What no target makes, and what lies outside, may stand behind links.
    bed.link("../outside", "big");
    bed.write("../outside/data", "1\n");
    bed.link("part", "p");
    bed.write(
        "hand.loom",
        &format!(
            "{made}target big/made\n  needs big/data p/source\n  recipe: cat @{{needs}} > @{{target}}\ntarget fin\n  needs big/made\n  recipe: cp @{{needs}} @{{target}}\n"
        ),
    );
    bed.run(&[]).status(0);
    bed.write("../outside/data", "2\n");
    bed.weave(&[]).status(0).ended(&[
        "big/made made prerequisite-changed",
        "fin made prerequisite-changed",
    ]);
}

/// A folder of sources becomes a link to one of targets, and what is described stays as it is.
#[test]
fn a_folder_that_becomes_a_link_to_targets_is_noticed() {
    use std::os::unix::fs::symlink;
    const LOOM: &str = "target gen/a
  needs from
  recipe: cp @{needs} @{target}
target out
  needs deep/inc/a
  recipe: cp @{needs} @{target}
";
    for (old, new, to) in [
        ("deep/inc", "deep/inc", "../gen"),
        ("deep", "deep", "other"),
    ] {
        let bed = Bed::new(LOOM);
        bed.write("from", "1");
        bed.write("deep/inc/a", "own");
        bed.weave(&[]).status(0);
        // So that all of it is kept for the next run.
        bed.weave(&[]).all_kept(2);
        fs::remove_dir_all(bed.path(old)).unwrap();
        if new == "deep" {
            fs::create_dir(bed.path("other")).unwrap();
            symlink("../gen", bed.path("other/inc")).unwrap();
        }
        symlink(to, bed.path(new)).unwrap();
        bed.write("from", "2");
        let says = [
            "`deep/inc/a` is `gen/a`, which a target makes",
            "write `gen/a`",
        ];
        bed.weave(&[]).status(2).says(&says);
        bed.run(&["preview"]).status(2).says(&says);
        bed.write("hand.loom", &LOOM.replace("deep/inc/a", "gen/a"));
        bed.weave(&[]).status(0);
        assert_eq!(bed.read("out"), "2");
        // And back again.
        bed.write("hand.loom", LOOM);
        fs::remove_file(bed.path(new)).unwrap();
        bed.write("deep/inc/a", "own again");
        bed.weave(&[]).status(0);
        assert_eq!(bed.read("out"), "own again");
        bed.weave(&[]).all_kept(2);
    }
}

/// A compiler tells of a header as it found it, and a watch sees where that leads.
#[test]
fn a_targets_file_that_was_learned_behind_a_link_is_that_targets() {
    let bed = Bed::new(
        "target out/folder\n  needs src\n  learn lines\n  recipe: cat src link/x.h > @{target}; echo link/x.h > @{learn}\ntarget out/file\n  needs src\n  learn lines\n  recipe: cat src inc/y.h > @{target}; echo inc/y.h > @{learn}\ntarget out/seen\n  needs src\n  learn watched\n  recipe: cat src inc/y.h link/x.h > @{target}\ntarget gen/x.h\n  needs in\n  recipe: sleep 0.1; cp in @{target}\ntarget gen/y.h\n  needs in\n  recipe: sleep 0.1; cp in @{target}\n",
    );
    bed.write("src", "c\n");
    bed.write("in", "1\n");
    bed.link("gen", "link");
    bed.link("../gen/y.h", "inc/y.h");
    bed.run(&["gen/x.h", "gen/y.h"]).status(0);
    bed.weave(&["-j8"])
        .status(0)
        .says(&[
            "`out/folder` reads `gen/x.h`, which another target makes, but does not need it",
            "`out/file` reads `gen/y.h`, which another target makes, but does not need it",
        ])
        .says_not("needs inc/y.h");
    bed.weave(&[]).all_kept(5);
    bed.write("in", "2\n");
    bed.weave(&["-j8"]).status(0).ended(&[
        "gen/x.h made prerequisite-changed",
        "gen/y.h made prerequisite-changed",
        "out/file made learned-changed",
        "out/folder made learned-changed",
        "out/seen made learned-changed",
    ]);
    for name in ["out/folder", "out/file"] {
        assert_eq!(bed.read(name), "c\n2\n");
    }
    assert_eq!(bed.read("out/seen"), "c\n2\n2\n");
    bed.weave(&[]).all_kept(5);
    // What leads there may lead elsewhere once.
    bed.remove("link");
    bed.write("link/x.h", "other\n");
    bed.weave(&[]).status(0).ended(&[
        "out/folder made learned-changed",
        "out/seen made learned-changed",
    ]);
    bed.weave(&[]).all_kept(5);
}

/// A file has one name, however it is written.
#[test]
fn a_targets_file_is_the_same_by_its_whole_path() {
    let bed = Bed::new(
        "include part/\ntarget @{root}/mid\n  needs @{root}/in\n  recipe: sleep 0.1; cp @{needs} @{target}\ntarget fin\n  needs ../project/mid\n  recipe: cp @{needs} @{target}\ntarget out/<n>.o\n  needs each @{root}/<n>.c\n  recipe: cp @{needs} @{target}\ntarget all\n  needs @{root}/out/*.o except @{root}/out/b.o\n  recipe: echo @{needs} > @{target}\n",
    );
    bed.write(
        "part/hand.loom",
        "let all = files @{root}/*.c\nlet same = files ../*.c\ntarget fin\n  needs @{root}/mid\n  recipe: cp @{needs} @{target}\ntarget names\n  needs @{all} @{same}\n  recipe: echo @{needs} > @{target}\n",
    );
    bed.write("in", "1\n");
    bed.write("a.c", "");
    bed.write("b.c", "");
    bed.weave(&["-j4"]).status(0).ended(&[
        "all made never-made",
        "fin made never-made",
        "mid made never-made",
        "out/a.o made never-made",
        "out/b.o made never-made",
        "part/fin made never-made",
        "part/names made never-made",
    ]);
    assert_eq!(bed.read("all"), "out/a.o\n");
    assert_eq!(bed.read("part/names"), "../a.c ../b.c ../a.c ../b.c\n");
    bed.write("in", "2\n");
    bed.weave(&["-j4"]).status(0).ended(&[
        "fin made prerequisite-changed",
        "mid made prerequisite-changed",
        "part/fin made prerequisite-changed",
    ]);
    assert_eq!(bed.read("part/fin"), "2\n");
    bed.weave(&[]).all_kept(7);
    // So it is on the command line, from any folder.
    let whole = bed.path("part/fin");
    let whole = whole.to_str().unwrap();
    bed.weave(&["--project", "part", whole])
        .status(0)
        .all_kept(2);
    for command in [
        &["why", whole][..],
        &["history", whole],
        &["lineage", whole],
        &["log", whole],
        &["graph", whole],
    ] {
        bed.run(command).status(0).says(&["part/fin"]);
    }
    bed.run(&["clean", whole])
        .status(0)
        .says(&["1 file removed"]);
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
