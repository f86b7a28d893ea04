//! Each kind of change, and exactly the steps that run for it.

use handloom_core::content::FileRecords;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::RealStorage;
use handloom_core::world::Disk;
use handloom_core::world::RealDisk;

use crate::bed::Bed;

/// Two chains that meet: `a.txt` and `b.txt` upper-cased, then joined.
const CHAINS: &str = r"
let tool = tr
default out/all.txt
target out/<name>.up
  needs each src/<name>.txt
  recipe: @{tool} a-z A-Z < @{needs} > @{target}
target out/all.txt
  needs out/*.up
  recipe: cat @{needs} > @{target}
target out/side.txt
  needs src/a.txt
  recipe: wc -l < @{needs} > @{target}
";

fn chains() -> Bed {
    let bed = Bed::new(CHAINS);
    bed.write("src/a.txt", "alpha\n");
    bed.write("src/b.txt", "beta\n");
    bed.weave(&[])
        .status(0)
        .ended(&[
            "out/a.up made never-made",
            "out/b.up made never-made",
            "out/all.txt made never-made",
        ])
        .kept(0);
    assert_eq!(bed.read("out/all.txt"), "ALPHA\nBETA\n");
    assert!(!bed.exists("out/side.txt"), "nobody asked for it");
    bed
}

#[test]
fn a_second_run_runs_nothing() {
    let bed = chains();
    bed.weave(&[]).all_kept(3);
    bed.weave(&[]).all_kept(3);
}

#[test]
fn a_changed_source_runs_what_depends_on_it() {
    let bed = chains();
    bed.write("src/a.txt", "gamma\n");
    bed.weave(&[])
        .status(0)
        .ended(&[
            "out/a.up made prerequisite-changed",
            "out/all.txt made prerequisite-changed",
        ])
        .kept(1);
    assert_eq!(bed.read("out/all.txt"), "GAMMA\nBETA\n");
    bed.weave(&[]).all_kept(3);
}

/// Outputs that are so young that they are read before their steps run again.
#[test]
fn the_last_record_of_an_output_is_of_what_was_made_last() {
    let bed = chains();
    for edit in 0..4 {
        bed.write(
            "hand.loom",
            &CHAINS.replace(
                "a-z A-Z",
                &format!("-- a-{0} A-{1}", ["y", "z"][edit % 2], ["Y", "Z"][edit % 2]),
            ),
        );
        bed.weave(&[]).status(0);
        let storage = Box::new(RealStorage::new(&bed.path(".handloom")));
        let (ledger, _) = Ledger::open(storage, false).unwrap();
        let disk = RealDisk::open(&bed.root()).unwrap();
        for output in ["out/a.up", "out/b.up", "out/all.txt"] {
            let stat = disk.stat(output).unwrap().unwrap();
            assert!(
                ledger.record(output).unwrap().same_stat(&stat),
                "edit {edit}: {output}"
            );
        }
    }
}

#[test]
fn what_each_run_reads_does_not_grow_with_every_edit() {
    let bed = chains();
    let front = || std::fs::read(bed.path(".handloom/project-front")).unwrap_or_default();
    let (mut kept, mut kept_anew) = (front(), 0);
    for edit in 0..60 {
        bed.write("src/a.txt", &format!("edit {edit}\n"));
        bed.weave(&[]).status(0).ended(&[
            "out/a.up made prerequisite-changed",
            "out/all.txt made prerequisite-changed",
        ]);
        kept_anew += usize::from(front() != kept);
        kept = front();
    }
    assert_eq!(bed.read("out/all.txt"), "EDIT 59\nBETA\n");
    // What was written since is read by each run: some of it, and never all.
    assert!((2..20).contains(&kept_anew), "kept anew {kept_anew} times");
    bed.weave(&[]).all_kept(3);
}

#[test]
fn a_touched_source_runs_nothing() {
    let bed = chains();
    bed.write("src/a.txt", "alpha\n");
    bed.weave(&[]).all_kept(3);
}

#[test]
fn a_step_that_comes_out_the_same_spares_what_is_behind_it() {
    let bed = chains();
    bed.write("src/a.txt", "ALPHA\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/a.up same prerequisite-changed"])
        .kept(2);
    bed.weave(&[]).all_kept(3);
}

#[test]
fn a_changed_variable_runs_the_recipes_it_is_put_into() {
    let bed = chains();
    bed.weave(&["--let", "tool=env tr"])
        .status(0)
        .ended(&[
            "out/a.up same recipe-changed",
            "out/b.up same recipe-changed",
        ])
        .kept(1);
    bed.weave(&["--let", "tool=env tr"]).all_kept(3);
}

#[test]
fn a_recipe_that_only_reads_differently_is_the_same_recipe() {
    let bed = chains();
    bed.write(
        "hand.loom",
        &CHAINS
            .replace("let tool = tr", "let program = tr # renamed")
            .replace("@{tool}", "@{program}"),
    );
    bed.weave(&[]).all_kept(3);
}

#[test]
fn a_missing_output_is_made_again() {
    let bed = chains();
    bed.remove("out/b.up");
    bed.weave(&[])
        .status(0)
        .ended(&["out/b.up same output-missing"])
        .kept(2);
}

#[test]
fn an_edited_output_is_made_again_and_the_edit_kept_aside() {
    let bed = chains();
    bed.write("out/b.up", "mine\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/b.up same output-edited"])
        .says(&[
            "`out/b.up` was not made by Hand Loom, or was edited",
            ".handloom/aside/out/b.up",
        ]);
    assert_eq!(bed.read(".handloom/aside/out/b.up"), "mine\n");
    bed.write("out/b.up", "mine again\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/b.up same output-edited"]);
    assert_eq!(bed.read(".handloom/aside/out/b.up"), "mine\n");
    assert_eq!(bed.read(".handloom/aside/out/b.up.2"), "mine again\n");
}

#[test]
fn a_foreign_file_at_an_outputs_place_is_kept_aside() {
    let bed = Bed::new("target out/a\n  recipe: echo made > @{target}\n");
    bed.write("out/a", "foreign\n");
    bed.weave(&[]).status(0).ended(&["out/a made never-made"]);
    assert_eq!(bed.read("out/a"), "made\n");
    assert_eq!(bed.read(".handloom/aside/out/a"), "foreign\n");
}

#[test]
fn an_added_and_a_dropped_source_change_the_list() {
    let bed = chains();
    bed.write("src/c.txt", "chi\n");
    bed.weave(&[]).status(0).ended(&[
        "out/c.up made never-made",
        "out/all.txt made prerequisite-added",
    ]);
    assert_eq!(bed.read("out/all.txt"), "ALPHA\nBETA\nCHI\n");
    bed.remove("src/a.txt");
    bed.weave(&[])
        .status(0)
        .ended(&["out/all.txt made prerequisite-dropped"]);
    assert_eq!(bed.read("out/all.txt"), "BETA\nCHI\n");
    assert!(
        bed.exists("out/a.up"),
        "the leftover stays, but is not linked in"
    );
    bed.weave(&[]).all_kept(3);
}

#[test]
fn another_order_of_prerequisites_is_another_recipe() {
    let loom = |order: &str| {
        format!("target out\n  needs {order}\n  recipe: cat @{{needs}} > @{{target}}\n")
    };
    let bed = Bed::new(&loom("a b"));
    bed.write("a", "a");
    bed.write("b", "b");
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    bed.write("hand.loom", &loom("b a"));
    bed.weave(&[]).status(0).ended(&["out made recipe-changed"]);
    assert_eq!(bed.read("out"), "ba");
}

#[test]
fn a_learned_prerequisite_counts() {
    let bed = Bed::new(
        "target out/a\n  needs a.in\n  learn lines\n  recipe:\n    cat @{needs} $(cat a.in) > @{target}\n    cat a.in > @{learn}\n",
    );
    bed.write("a.in", "one.h\n");
    bed.write("one.h", "1\n");
    bed.write("two.h", "2\n");
    bed.weave(&[]).status(0).ended(&["out/a made never-made"]);
    bed.weave(&[]).all_kept(1);
    bed.write("two.h", "22\n");
    bed.weave(&[]).all_kept(1);
    bed.write("one.h", "11\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/a made learned-changed"]);
    bed.remove("one.h");
    bed.weave(&[])
        .status(1)
        .ended(&["out/a failed learned-missing"]);
    bed.write("a.in", "two.h\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/a made prerequisite-changed,learned-missing,failed-before"]);
    bed.weave(&[]).all_kept(1);
}

/// What a step learned is nothing to it any more once its description does not say `learn`.
#[test]
fn what_was_learned_is_forgotten_with_the_clause() {
    let loom = "target out/a\n  learn lines list\n  recipe: cat x > @{target}; echo x > list\n";
    let bed = Bed::new(loom);
    bed.write("x", "x\n");
    bed.weave(&[]).status(0).ended(&["out/a made never-made"]);
    bed.weave(&[]).all_kept(1);
    bed.write("hand.loom", &loom.replace("  learn lines list\n", ""));
    let why = bed.run(&["why", "out/a", "--format", "json"]).status(0);
    assert!(!why.shown().contains("learned-"), "{}", why.shown());
    bed.weave(&[])
        .status(0)
        .ended(&["out/a same recipe-changed"]);
    bed.write("x", "y\n");
    bed.weave(&[]).all_kept(1);
    bed.write("hand.loom", loom);
    bed.weave(&[])
        .status(0)
        .ended(&["out/a made recipe-changed"]);
    bed.weave(&[]).all_kept(1);
}

#[test]
fn givens_count() {
    let bed = Bed::new(
        "target out/a\n  given env SHADE\n  given output cat version\n  recipe: echo ${SHADE-none} > @{target}\n",
    );
    bed.write("version", "1\n");
    bed.weave(&[]).status(0).ended(&["out/a made never-made"]);
    bed.weave(&[]).all_kept(1);
    bed.write("version", "2\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/a same given-changed"]);
    let mut command = bed.command(&[]);
    command.env("SHADE", "red");
    bed.finish(command, &[])
        .status(0)
        .says(&["env SHADE gives something else"]);
    assert_eq!(bed.read("out/a"), "red\n");
}

#[test]
fn a_step_with_two_outputs_is_one_step() {
    let bed = Bed::new(
        "target one: out/1  two: out/2\n  needs in\n  recipe: cp @{needs} @{one}; echo fixed > @{two}\ntarget last\n  needs out/2\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("in", "1");
    bed.weave(&["out/1", "last"])
        .status(0)
        .ended(&["out/1 made never-made", "last made never-made"]);
    bed.write("in", "2");
    bed.weave(&["out/2", "last"])
        .status(0)
        .ended(&["out/1 made prerequisite-changed"])
        .kept(1);
    bed.remove("out/2");
    bed.weave(&["last"])
        .status(0)
        .ended(&["out/1 same output-missing"])
        .kept(1);
}

#[test]
fn remaking_runs_the_named_step_alone() {
    let bed = chains();
    bed.weave(&["--again", "out/a.up"])
        .status(0)
        .ended(&["out/a.up same asked"]);
    bed.weave(&["--again"])
        .status(0)
        .ended(&["out/all.txt same asked"])
        .kept(2);
}

#[test]
fn names_may_be_folders_and_patterns() {
    let bed = chains();
    bed.remove("out/a.up");
    bed.remove("out/b.up");
    bed.weave(&["out/[b-z].up"])
        .status(0)
        .ended(&["out/b.up same output-missing"]);
    bed.weave(&["out"])
        .status(0)
        .ended(&[
            "out/a.up same output-missing",
            "out/side.txt made never-made",
        ])
        .kept(2);
}

#[test]
fn a_moved_and_a_copied_project_runs_nothing() {
    let bed = chains();
    let copy = bed.root().with_file_name("copy");
    let status = std::process::Command::new("cp")
        .arg("-r")
        .arg(bed.root())
        .arg(&copy)
        .status()
        .unwrap();
    assert!(status.success());
    let mut command = bed.command(&["-v"]);
    command.current_dir(&copy);
    bed.finish(command, &["in a copy"])
        .status(0)
        .says(&["3 kept"]);
}

#[test]
fn the_project_is_found_from_below() {
    let bed = chains();
    bed.write("src/a.txt", "new\n");
    let mut command = bed.command(&["../out/a.up"]);
    command.current_dir(bed.path("src"));
    bed.finish(command, &["in src"])
        .status(0)
        .says(&["made  out/a.up"]);
    bed.write("src/a.txt", "newer\n");
    let mut command = bed.command(&["--project", bed.path("src").to_str().unwrap(), "-q"]);
    command.current_dir("/");
    let run = bed.finish(command, &["--project"]).status(0);
    assert_eq!(run.out, "", "quiet");
    assert_eq!(bed.read("out/all.txt"), "NEWER\nBETA\n");
}
