//! Nothing is stale: what was learned, what is left over, what is mapped, what others keep from the last run.

use std::fs;

use crate::bed::Bed;

/// A compile that tells of a generated header, which nobody puts first.
const LUCK: &str = "target out/obj\n  needs src.c\n  learn lines\n  recipe:\n    cat src.c inc/gen.h > @{target} 2>/dev/null || cat src.c > @{target}\n    echo inc/gen.h > @{learn}\ntarget inc/gen.h\n  needs gen.in\n  recipe: sleep 0.1; cp @{needs} @{target}\n";

#[test]
fn what_was_learned_is_an_edge() {
    for jobs in ["-j1", "-j2"] {
        let bed = Bed::new(LUCK);
        bed.write("src.c", "c\n");
        bed.write("gen.in", "1\n");
        bed.write("inc/keep", "");
        let run = bed.weave(&[jobs]).status(0).says(&["but does not need it"]);
        assert_eq!(bed.read("out/obj"), "c\n1\n", "{}", run.shown());
        bed.write("gen.in", "2\n");
        bed.weave(&[jobs])
            .status(0)
            .says(&["but does not need it"])
            .ended(&[
                "inc/gen.h made prerequisite-changed",
                "out/obj made learned-changed",
            ]);
        assert_eq!(bed.read("out/obj"), "c\n2\n");
        // The warning stays until the order is declared, and asking for one makes the other first.
        bed.write("gen.in", "3\n");
        bed.weave(&[jobs, "out/obj"])
            .status(0)
            .says(&["add `after inc/gen.h`"]);
        assert_eq!(bed.read("out/obj"), "c\n3\n");
        bed.weave(&[jobs])
            .says(&["but does not need it"])
            .all_kept(2);
        bed.write(
            "hand.loom",
            &LUCK.replace("  learn lines", "  after inc/gen.h\n  learn lines"),
        );
        bed.weave(&[jobs]).says_not("does not need it").all_kept(2);
        bed.weave(&[jobs]).says_not("does not need it").all_kept(2);
        bed.write("gen.in", "4\n");
        bed.weave(&[jobs]).status(0).ended(&[
            "inc/gen.h made prerequisite-changed",
            "out/obj made learned-changed",
        ]);
    }
}

#[test]
fn a_circle_that_only_learning_shows_is_told_and_can_be_left() {
    let bed = Bed::new(
        "target a\n  needs a.in\n  learn lines\n  recipe: cp a.in @{target}; cp a.in @{learn}\ntarget b\n  needs a\n  recipe: cp a @{target}\n",
    );
    bed.write("a.in", "nothing\n");
    bed.weave(&[]).status(0);
    bed.write("a.in", "b\n");
    let run = bed
        .weave(&[])
        .status(2)
        .says(&["in a circle: `b` → `a` → `b`"]);
    assert!(
        run.err.contains("read, when it last ran"),
        "{}",
        run.shown()
    );
    bed.weave(&[]).status(2);
    bed.write("a.in", "nothing\n");
    bed.weave(&[]).status(0);
    bed.weave(&[]).all_kept(2);
}

#[test]
fn a_file_that_nothing_describes_any_more_is_no_source() {
    let bed = Bed::new(
        "target out/a\n  recipe: echo a > @{target}\ntarget sum\n  needs out/a\n  recipe: cat out/a > @{target}\n",
    );
    bed.weave(&[]).status(0);
    bed.write("hand.loom", "target out/b\n  recipe: echo b > @{target}\ntarget sum\n  needs out/a\n  recipe: cat out/a > @{target}\n");
    for _ in 0..2 {
        bed.weave(&[]).status(2).says(&[
            "`out/a` was made by a target that is not described any more",
            "did you mean `out/b`?",
        ]);
    }
    bed.run(&["preview"])
        .status(2)
        .says(&["not described any more"]);
    // What was changed since is somebody's own.
    bed.write("out/a", "mine\n");
    bed.weave(&[]).status(0);
    assert_eq!(bed.read("sum"), "mine\n");
}

#[test]
fn a_folder_that_cannot_be_read_is_no_empty_list() {
    let bed = Bed::new("target sum\n  needs in/**/*.txt\n  recipe: cat @{needs} > @{target}\n");
    bed.write("in/a.txt", "a\n");
    bed.write("in/closed/b.txt", "b\n");
    bed.weave(&[]).status(0);
    bed.set_mode("in/closed", 0);
    let mut command = bed.command(&[]);
    let Some(mut command) = bed.as_nobody(&mut command) else {
        return;
    };
    let output = command.output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(2), "{said}");
    assert!(
        said.contains("the folder `in/closed/`, in which this pattern looks, can't be read"),
        "{said}"
    );
}

#[test]
fn on_failure_continue_holds_what_depends_on_a_failure_and_nothing_else() {
    let bed = Bed::new(
        "target tree/\n  needs in\n  recipe: exit 1\ntarget looks\n  needs tree/*.txt\n  recipe: echo > @{target}\ntarget each/<n>\n  needs each tree/<n>.txt\n  recipe: echo > @{target}\ntarget behind\n  needs looks\n  recipe: echo > @{target}\ntarget other\n  recipe: echo > @{target}\ntarget others\n  needs other\n  recipe: echo > @{target}\n",
    );
    bed.write("in", "");
    bed.weave(&["--on-failure", "continue"]).status(1).ended(&[
        "tree/ failed never-made",
        "looks held",
        "behind held",
        "other made never-made",
        "others made never-made",
    ]);
    // A sequence goes no further, and what stands beside it does.
    let bed = Bed::new(
        "task all\n  steps one two\ntask one\n  recipe: exit 1\ntask two\n  recipe: echo > two\ntarget other\n  recipe: echo > @{target}\n",
    );
    bed.weave(&["--on-failure", "continue", "all", "other"])
        .status(1)
        .ended(&[
            "one failed",
            "two held",
            "all held",
            "other made never-made",
        ]);
}

#[test]
fn what_a_run_keeps_is_taken_from_the_same_user_and_build_alone() {
    let bed = Bed::new("target out\n  needs in\n  recipe: cp in @{target}\n");
    bed.write("in", "1\n");
    for _ in 0..3 {
        bed.run(&["-q"]).status(0);
        std::thread::sleep(std::time::Duration::from_millis(1100));
    }
    let kept = bed.path(".handloom/project");
    let good = fs::read(&kept).unwrap();
    // Every changed byte is noticed, and none is believed.
    for at in (0..good.len()).step_by(good.len() / 200 + 1) {
        let mut forged = good.clone();
        forged[at] ^= 0x21;
        fs::write(&kept, &forged).unwrap();
        bed.weave(&[]).all_kept(1);
    }
    fs::write(&kept, &good).unwrap();
    // Nor is what another user sealed, though every byte of it is right.
    fs::write(bed.path("../home/.local/share/handloom/key"), [9; 32]).unwrap();
    bed.weave(&[]).all_kept(1);
    bed.write("in", "2\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out made prerequisite-changed"]);
}

/// Ledgers of version 01 left out whether files may be run and what links say.
#[test]
fn old_ledgers_are_read() {
    for kind in ["journal", "snapshot"] {
        let bed = Bed::new(
            "target out/a.txt\n  needs tools/gen.sh src/a.txt\n  learn lines\n  recipe: ./tools/gen.sh src/a.txt > @{target}; echo src/inc.txt > @{learn}\n\ntarget out/tree/\n  needs out/a.txt\n  recipe: mkdir -p @{target}/sub; cp @{needs} @{target}/sub/x; cp tools/gen.sh @{target}/run; chmod +x @{target}/run\n\ntarget out/tool\n  needs src/a.txt\n  recipe: cp @{needs} @{target}; chmod +x @{target}\n",
        );
        bed.write("tools/gen.sh", "#!/bin/sh\ncat \"$1\"\n");
        bed.set_mode("tools/gen.sh", 0o755);
        bed.write("src/a.txt", "hello\n");
        bed.write("src/inc.txt", "inc\n");
        bed.write("out/a.txt", "hello\n");
        bed.write("out/tool", "hello\n");
        bed.set_mode("out/tool", 0o755);
        bed.write("out/tree/sub/x", "hello\n");
        bed.write("out/tree/run", "#!/bin/sh\ncat \"$1\"\n");
        bed.set_mode("out/tree/run", 0o755);
        let fixture = concat!(
            env!("CARGO_MANIFEST_DIR"),
            "/../core/tests/fixtures/ledger-01/"
        );
        for name in ["ledger", "journal"] {
            let bytes = fs::read(format!("{fixture}{kind}/{name}")).unwrap();
            fs::create_dir_all(bed.path(".handloom")).unwrap();
            fs::write(bed.path(&format!(".handloom/{name}")), bytes).unwrap();
        }
        bed.weave(&[]).all_kept(3);
        bed.weave(&[]).all_kept(3);
        bed.write("src/inc.txt", "other\n");
        bed.weave(&[])
            .status(0)
            .ended(&["out/a.txt same learned-changed"]);
        bed.weave(&[]).all_kept(3);
    }
}

#[test]
fn givens_that_differ_only_in_bytes_that_are_no_text_differ() {
    let bed = Bed::new(
        "target out\n  given output cat value\n  given env ODD\n  recipe: echo > @{target}\n",
    );
    fs::write(bed.path("value"), b"caf\xe9").unwrap();
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    fs::write(bed.path("value"), b"caf\xe8").unwrap();
    bed.weave(&[]).status(0).ended(&["out same given-changed"]);
    bed.weave(&[]).all_kept(1);
}

#[test]
fn a_value_that_the_recipe_does_not_use_is_no_reason() {
    let loom = |unused: &str, used: &str| {
        format!(
            "target out/<n>\n  each n in 1 2\n  let unused = {unused}\n  let used = {used}\n  let both = @{{used}}\n  recipe: echo @{{both}} > @{{target}}\n"
        )
    };
    let bed = Bed::new(&loom("a", "x"));
    bed.weave(&[]).status(0);
    bed.write("hand.loom", &loom("b", "x"));
    bed.weave(&[]).all_kept(2);
    bed.write("hand.loom", &loom("b", "y"));
    bed.weave(&[])
        .status(0)
        .ended(&["out/1 made recipe-changed", "out/2 made recipe-changed"]);
}

#[test]
fn a_folder_that_changed_while_it_was_used_names_the_file() {
    let bed = Bed::new(
        "target out\n  needs data/\n  recipe: echo > @{target}; sleep 0.05; echo x >> data/sub/log\n",
    );
    bed.write("data/sub/log", "");
    bed.write("data/other", "");
    std::thread::sleep(std::time::Duration::from_millis(50));
    bed.weave(&[])
        .status(1)
        .says(&["data/sub/log changed while the recipe ran"]);
}
