//! What the user has is never lost: old outputs, and files that Hand Loom did not make.

use std::fs;
use std::process::Command;

use crate::bed::Bed;

/// A step whose recipe is a file of its own, so that what it does can be changed.
const STEP: &str = "target out/x\n  needs in how\n  recipe: sh how @{target}\n";
const GOOD: &str = "cat in > \"$1\"; echo made >> log\n";

fn made() -> Bed {
    let bed = Bed::new(STEP);
    bed.write("in", "costly\n");
    bed.write("how", GOOD);
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    bed
}

/// A recipe that goes wrong: the old output is back, and undoing the edit leaves nothing to do.
fn is_undone(how: &str, loom: &str) {
    let bed = made();
    bed.write("how", how);
    bed.write("hand.loom", loom);
    let run = bed.weave(&[]).status(1);
    assert_eq!(bed.read("out/x"), "costly\n", "{}", run.shown());
    bed.write("how", GOOD);
    bed.write("hand.loom", STEP);
    bed.weave(&[]).all_kept(1);
    assert_eq!(bed.read("log"), "made\n", "{how}");
    assert!(
        !bed.exists(".handloom/set-by/out/x") && !bed.exists(".handloom/jobs/running"),
        "nothing is left set by after {how}"
    );
}

#[test]
fn old_outputs_are_put_back_after_each_kind_of_failure() {
    is_undone("echo half > \"$1\"; exit 3", STEP);
    is_undone("exit 3", STEP);
    is_undone("kill -KILL $$", STEP);
    is_undone("true", STEP);
    is_undone("mkdir \"$1\"", STEP);
}

#[test]
fn old_outputs_are_put_back_when_a_recipe_cannot_start_or_meets_its_limit() {
    is_undone(GOOD, &STEP.replace("recipe:", "recipe with no-such-shell:"));
    is_undone(GOOD, &STEP.replace("  recipe:", "  in nowhere\n  recipe:"));
    is_undone(
        "echo half > \"$1\"; sleep 60",
        &STEP.replace("  recipe:", "  limit 0.2s\n  recipe:"),
    );
}

#[test]
fn an_interrupted_recipe_loses_nothing() {
    for signal in ["INT", "TERM", "QUIT", "HUP", "USR1"] {
        let bed = made();
        bed.write("how", "echo half > \"$1\"; echo > began; sleep 60");
        let mut child = bed.start(&[]);
        bed.await_file("began");
        let sent = Command::new("kill")
            .args([format!("-{signal}"), child.id().to_string()])
            .status();
        assert!(sent.unwrap().success());
        assert_eq!(child.wait().unwrap().code(), Some(130), "{signal}");
        assert_eq!(bed.read("out/x"), "costly\n", "{signal}");
        bed.write("how", GOOD);
        bed.weave(&[]).all_kept(1);
        assert_eq!(bed.read("log"), "made\n");
    }
}

#[test]
fn several_outputs_and_whole_folders_are_put_back_together() {
    let loom = "target out/a out/tree/\n  needs how\n  recipe: sh how\n";
    let bed = Bed::new(loom);
    let good = "echo a > out/a; mkdir -p out/tree/deep; echo t > out/tree/deep/t; chmod 555 out/tree/deep\n";
    bed.write("how", good);
    bed.weave(&[]).status(0).ended(&["out/a made never-made"]);
    bed.write("how", "echo b > out/a; echo u > out/tree/u; exit 1");
    bed.weave(&[])
        .status(1)
        .ended(&["out/a failed prerequisite-changed"]);
    assert_eq!(bed.read("out/a"), "a\n");
    assert_eq!(bed.read("out/tree/deep/t"), "t\n");
    assert!(!bed.exists("out/tree/u"));
    bed.write("how", good);
    bed.weave(&[]).all_kept(1);
    assert_eq!(bed.read(".handloom/failed/out/tree/u"), "u\n");
}

#[test]
fn old_outputs_need_not_be_kept_where_there_is_no_room() {
    let bed = made();
    bed.write(
        "../home/.config/handloom/settings.toml",
        "set-by = \"never\"\n",
    );
    bed.write("how", "test ! -e .handloom/set-by/out/x; exit 1");
    bed.weave(&[])
        .status(1)
        .ended(&["out/x failed prerequisite-changed"]);
    assert!(!bed.exists("out/x"));
    bed.run(&["settings"]).status(0).says(&["never"]);
    bed.write("how", GOOD);
    bed.weave(&[])
        .status(0)
        .ended(&["out/x same output-missing,failed-before"]);
}

#[test]
fn a_failed_step_gives_no_right_to_its_outputs_places() {
    let bed = Bed::new("target out/x\n  needs how\n  recipe: sh how\n");
    bed.write("how", "echo half > out/x; exit 1");
    for number in ["", ".2", ".3"] {
        bed.weave(&[]).status(1);
        assert_eq!(
            bed.read(&format!(".handloom/failed/out/x{number}")),
            "half\n"
        );
        // The user's own, three times; each is kept and named.
        bed.write("out/x", &format!("mine{number}\n"));
    }
    let run = bed
        .weave(&[])
        .status(1)
        .says(&["it is now `.handloom/aside/out/x.3`"]);
    assert_eq!(
        bed.read(".handloom/aside/out/x"),
        "mine\n",
        "{}",
        run.shown()
    );
    assert_eq!(bed.read(".handloom/aside/out/x.2"), "mine.2\n");
    assert_eq!(bed.read(".handloom/aside/out/x.3"), "mine.3\n");
}

#[test]
fn a_folder_that_cannot_be_used_loses_nothing_and_says_so() {
    let bed = Bed::new("target out/x\n  needs in\n  recipe: cp in out/x\n");
    bed.write("in", "1\n");
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    bed.write("in", "2\n");
    // A file of the user's stands where things are set by.
    bed.write(".handloom/set-by", "mine\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/x made prerequisite-changed"]);
    assert_eq!(bed.read("out/x"), "2\n");
    assert_eq!(bed.read(".handloom/set-by.not-ours-1"), "mine\n");
}

#[test]
fn a_target_may_become_a_folder_and_a_folder_a_target() {
    let file = "target out/x\n  recipe: echo file > @{target}\n";
    let below = "target out/x/y\n  recipe: echo below > @{target}\n";
    let bed = Bed::new(file);
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    bed.write("hand.loom", below);
    bed.weave(&[]).status(0).ended(&["out/x/y made never-made"]);
    assert_eq!(bed.read("out/x/y"), "below\n");
    bed.write("out/x/mine", "mine\n");
    bed.write("hand.loom", file);
    let run = bed.weave(&[]).status(0);
    assert_eq!(bed.read("out/x"), "file\n", "{}", run.shown());
    assert_eq!(
        bed.read(".handloom/aside/out/x.2/mine"),
        "mine\n",
        "{}",
        run.shown()
    );
    bed.weave(&[]).all_kept(1);
}

#[test]
fn clean_says_first_and_empties_what_was_set_aside() {
    let bed = made();
    bed.write("out/x", "edited\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/x same output-edited"]);
    bed.run(&["clean", "--preview"])
        .status(0)
        .says(&["would go  out/x", "1 file would be removed"]);
    assert_eq!(bed.read("out/x"), "costly\n");
    bed.run(&["clean", "--aside", "--preview"])
        .status(0)
        .says(&["7 B  .handloom/aside/out", "1 file, 7 B would be removed"]);
    bed.run(&["clean", "--aside"])
        .status(0)
        .says(&["1 file, 7 B removed"]);
    assert!(!bed.exists(".handloom/aside/out/x"));
    bed.run(&["clean", "--aside"])
        .status(0)
        .says(&["nothing was set aside"]);
    bed.run(&["clean"]).status(0).says(&["1 file removed"]);
    assert!(!bed.exists("out/x"));
}

/// A made folder that is changed by being used is set aside each time it is made again: only what differs
/// is kept.
#[test]
fn a_folder_that_is_changed_by_use_does_not_fill_the_disk() {
    let bed =
        Bed::new("target venv/\n  needs in\n  recipe: for i in 1 2 3; do cp in venv/$i; done\n");
    bed.write("in", &"large\n".repeat(1000));
    bed.weave(&[]).status(0).ended(&["venv/ made never-made"]);
    for number in 0..3 {
        bed.write("venv/cache", &format!("{number}"));
        bed.weave(&[])
            .status(0)
            .ended(&["venv/ same output-edited"]);
    }
    let aside = fs::read_dir(bed.path(".handloom/aside")).unwrap();
    let mut files = 0;
    for entry in aside {
        let inside: Vec<_> = fs::read_dir(entry.unwrap().path()).unwrap().collect();
        files += inside.len();
    }
    assert_eq!(files, 3, "the three caches, and nothing that is there too");
}

/// Another file system below the project: moves are copies there.
#[test]
fn outputs_and_own_files_may_lie_on_other_file_systems() {
    for mounted in ["out", ".handloom"] {
        let bed = made();
        fs::create_dir_all(bed.path("elsewhere")).unwrap();
        let script = format!(
            "set -e; cp -a {mounted}/. elsewhere; mount -t tmpfs none {mounted}; cp -a elsewhere/. {mounted}; exec \"$0\" \"$@\""
        );
        let program = bed.command(&[]).get_program().to_owned();
        let run = |arguments: &[&str]| {
            let mut command = Command::new("unshare");
            command
                .args(["-m", "sh", "-c"])
                .arg(&script)
                .arg(&program)
                .args(arguments);
            command
                .current_dir(bed.path(""))
                .env("HOME", bed.path("../home"))
                .env("HANDLOOM_STORE_USE", "never");
            command.output()
        };
        let Ok(first) = run(&["settings"]) else {
            return;
        };
        if !first.status.success() {
            // No right to mount here.
            return;
        }
        bed.write(
            "how",
            "cat \"$1\" 2>/dev/null; echo half > \"$1\"; ls -R .handloom/set-by; exit 1",
        );
        let output = run(&[]).unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert_eq!(output.status.code(), Some(1), "{mounted}: {output:?}");
        assert!(said.contains("x"), "{said}");
        bed.write("how", GOOD.replace("made", "again").as_str());
        let output = run(&[]).unwrap();
        assert_eq!(output.status.code(), Some(0), "{mounted}: {output:?}");
        bed.write("how", GOOD);
    }
}
