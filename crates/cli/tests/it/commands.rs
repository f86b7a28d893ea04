//! Commands that look, lay out, write a first description, or take away what was made.

use serde_json::Value;

use crate::bed::Bed;
use crate::bed::Run;
use crate::bed::brief;

const CHAIN: &str = r"let flag = one
target out/<n>.up
  needs each src/<n>.txt
  recipe: tr a-z A-Z < @{needs} > @{target}
target out/all
  needs out/*.up
  recipe:
    # @{flag}
    cat @{needs} > @{target}
task show
  needs out/all
  recipe: cat @{needs}
";

fn woven() -> Bed {
    let bed = Bed::new(CHAIN);
    bed.write("src/a.txt", "a\n");
    bed.write("src/b.txt", "b\n");
    bed.run(&[]).status(0);
    bed
}

fn json(run: &Run) -> Value {
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}\n{}", run.shown()))
}

/// `step would reasons` of a preview.
fn predictions(bed: &Bed, arguments: &[&str]) -> Vec<String> {
    let mut all = vec!["preview", "--format", "json"];
    all.extend(arguments);
    let run = bed.run(&all).status(0);
    let steps = json(&run)["steps"].as_array().unwrap().clone();
    steps.iter().map(|step| brief(step, "would")).collect()
}

#[test]
fn a_preview_tells_would_from_may_and_changes_nothing() {
    let bed = woven();
    assert_eq!(
        predictions(&bed, &[]),
        ["out/a.up keep", "out/b.up keep", "out/all keep"]
    );
    bed.write("src/a.txt", "changed\n");
    let before = std::fs::read(bed.path(".handloom/journal")).unwrap();
    assert_eq!(
        predictions(&bed, &[]),
        [
            "out/a.up run prerequisite-changed",
            "out/b.up keep",
            "out/all maybe"
        ]
    );
    bed.run(&["preview"]).status(0).says(&[
        "run  out/a.up",
        "src/a.txt differs",
        "maybe  out/all",
        "if out/a.up changes",
        "1 would run, 1 may run, 1 would be kept",
    ]);
    bed.run(&["preview", "-v"])
        .status(0)
        .says(&["tr a-z A-Z < src/a.txt > out/a.up"]);
    assert_eq!(
        predictions(&bed, &["--let", "flag=two", "show"])[2..],
        ["out/all run recipe-changed", "show run"]
    );
    assert_eq!(
        predictions(&bed, &["--again", "out/b.up"]),
        ["out/b.up run asked"]
    );
    assert_eq!(
        std::fs::read(bed.path(".handloom/journal")).unwrap(),
        before
    );
    bed.weave(&[]).status(0).ended(&[
        "out/a.up made prerequisite-changed",
        "out/all made prerequisite-changed",
    ]);
}

#[test]
fn a_preview_of_a_missing_output_hangs_what_is_behind_it_on_it() {
    let bed = woven();
    bed.remove("out/a.up");
    assert_eq!(
        predictions(&bed, &[]),
        [
            "out/a.up run output-missing",
            "out/b.up keep",
            "out/all maybe"
        ]
    );
    bed.weave(&[])
        .status(0)
        .ended(&["out/a.up same output-missing"])
        .kept(2);
}

#[test]
fn why_names_every_reason_and_the_way_to_the_source() {
    let bed = woven();
    bed.run(&["why", "out/all"]).status(0).says(&[
        "would be kept",
        "made from",
        "out/a.up, out/b.up",
    ]);
    bed.run(&["why", "out/all", "--last"])
        .status(0)
        .says(&["because\n  never made"]);
    bed.write("src/a.txt", "changed\n");
    bed.run(&["why", "out/all"])
        .status(0)
        .says(&["out/all may run", "out/a.up would run: src/a.txt differs"]);
    let run = bed.run(&["why", "out/a.up", "--format", "json"]).status(0);
    let found = json(&run);
    assert_eq!(found["step"], "out/a.up");
    assert_eq!(found["reasons"][0]["kind"], "prerequisite-changed");
    assert_eq!(found["reasons"][0]["path"], "src/a.txt");
    assert_ne!(found["reasons"][0]["was"], found["reasons"][0]["now"]);
    bed.run(&["why", "out/all", "--let", "flag=two"])
        .status(0)
        .says(&["its recipe differs", "was # one", "now # two"]);
    bed.run(&[]).status(0);
    bed.run(&["why", "out/all", "--last"])
        .status(0)
        .says(&["out/a.up differs"]);
    bed.run(&["why", "show"])
        .status(2)
        .says(&["`show` is a task"]);
    bed.run(&["why", "out/al"])
        .status(2)
        .says(&["did you mean `out/all`?"]);
}

#[test]
fn commands_that_look_run_nothing_from_the_project() {
    let bed = Bed::new(
        "let trap = output sh -c 'echo > sprung'\ntarget out/x\n  given output sh -c 'echo > sprung'\n  recipe: echo @{trap} > sprung\ntask t\n  recipe: echo > sprung\n",
    );
    for arguments in [
        &["preview"][..],
        &["preview", "-v"],
        &["why", "out/x"],
        &["settings"],
        &["tidy"],
        &["list"],
        &["list", "--all"],
        &["history"],
    ] {
        bed.run(arguments).status(0);
        assert!(!bed.exists("sprung"), "{arguments:?}");
        assert!(!bed.exists(".handloom"), "{arguments:?} wrote");
    }
}

#[test]
fn cleaning_takes_away_what_was_made_and_nothing_else() {
    let bed = woven();
    bed.write("out/mine", "kept");
    bed.write("out/b.up", "edited\n");
    bed.run(&["clean", "out/a.up"])
        .status(0)
        .says(&["1 file removed"]);
    assert!(!bed.exists("out/a.up") && bed.exists("out/all"));
    bed.run(&["clean"])
        .status(0)
        .says(&["1 file removed", "left  out/b.up  it was edited"]);
    assert!(bed.exists("out/mine") && bed.exists("out/b.up") && !bed.exists("out/all"));
    bed.weave(&[]).status(0).ended(&[
        "out/a.up made never-made",
        "out/b.up same output-edited",
        "out/all made never-made",
    ]);
    std::fs::remove_file(bed.path("out/mine")).unwrap();
    bed.run(&["clean", "-v"]).status(0).says(&[
        "3 files removed, 1 empty folder removed",
        "out  the folder is empty now",
    ]);
    assert!(!bed.exists("out") && bed.exists("src/a.txt"));
    bed.run(&["clean"]).status(0).says(&["0 files removed"]);
}

#[test]
fn leftovers_are_what_is_no_longer_described() {
    let bed = woven();
    bed.remove("src/b.txt");
    bed.run(&[]).status(0);
    assert!(bed.exists("out/b.up"));
    bed.run(&["clean", "--leftovers"])
        .status(0)
        .says(&["1 file removed"]);
    assert!(!bed.exists("out/b.up") && bed.exists("out/a.up"));
    bed.write("hand.loom", &CHAIN.replace("out/all", "out/other"));
    bed.run(&[]).status(0);
    bed.run(&["clean", "--leftovers", "-v"])
        .status(0)
        .says(&["out/all"]);
    bed.weave(&[]).all_kept(2);
}

#[test]
fn an_output_that_a_step_no_longer_has_is_a_leftover() {
    let bed = Bed::new("target a b\n  recipe: echo > a; echo > b\n");
    bed.run(&[]).status(0);
    bed.write("hand.loom", "target a\n  recipe: echo > a\n");
    bed.weave(&[]).status(0).ended(&["a made recipe-changed"]);
    bed.run(&["clean", "--leftovers"])
        .status(0)
        .says(&["1 file removed"]);
    assert!(bed.exists("a") && !bed.exists("b"));
}

#[test]
fn a_lost_ledger_leaves_no_copies_behind() {
    let bed = woven();
    std::fs::remove_dir_all(bed.path(".handloom")).unwrap();
    bed.write("out/b.up", "foreign\n");
    bed.run(&[])
        .status(0)
        .says(&[".handloom/aside/out/b.up"])
        .says_not("aside/out/a.up");
    assert_eq!(bed.read(".handloom/aside/out/b.up"), "foreign\n");
    assert!(
        !bed.exists(".handloom/aside/out/a.up"),
        "it held what was made again"
    );
}

#[test]
fn tidy_lays_out_and_keeps_comments() {
    let bed = Bed::new("let a=1\n");
    bed.run(&["tidy"]).status(2);
    bed.write(
        "hand.loom",
        "# top\nlet cc = cc\nlet cflags =  -O2   # fast\nlet cflags += -g when @{os} is linux\ntarget   out/x\n    about:   A thing\n    needs src/a\n         src/b # two\n    # why\n    recipe:\n        first\n          second # kept\ntask t\n recipe: true",
    );
    bed.run(&["tidy", "--check"])
        .status(1)
        .says(&["hand.loom is not laid out"]);
    bed.run(&["tidy"]).status(0).says(&["laid out hand.loom"]);
    assert_eq!(
        bed.read("hand.loom"),
        "# top\nlet cc      = cc\nlet cflags  = -O2  # fast\nlet cflags += -g   when @{os} is linux\n\ntarget out/x\n  about: A thing\n  needs src/a\n    src/b  # two\n  # why\n  recipe:\n    first\n      second # kept\n\ntask t\n  recipe: true\n"
    );
    bed.run(&["tidy", "--check"]).status(0);
}

#[test]
fn settings_tell_where_values_come_from() {
    let bed = Bed::new("let a = \"x y\" z\nlet b = file\nlet c one of p q\ninclude part\n");
    bed.write("part/hand.loom", "let b = own\n");
    let mut command = bed.command(&["settings", "--let", "b=line", "--format", "json"]);
    command.env("HANDLOOM_LET_c", "q");
    let run = bed.finish(command, &["settings"]).status(0);
    let variables = json(&run)["variables"].clone();
    let found: Vec<String> = variables
        .as_array()
        .unwrap()
        .iter()
        .map(|v| format!("{} {} {}", v["name"], v["value"], v["from"]))
        .collect();
    assert_eq!(
        found,
        [
            r#""a" ["x y","z"] "hand.loom:1""#,
            r#""b" ["line"] "the command line""#,
            r#""c" ["q"] "HANDLOOM_LET_c in the environment""#,
            r#""part/b" ["line"] "the command line""#,
        ]
    );
    bed.run(&["settings"])
        .status(0)
        .says(&["'x y' z", "jobs", "grouped", "runs", "30"]);
    bed.run(&["settings", "--let", "c=r"])
        .status(2)
        .says(&["`r` is no value of `c`", "it is one of: p, q"]);
    bed.run(&["settings", "--let", "part/b=deep"])
        .status(0)
        .says(&["deep"]);
}
