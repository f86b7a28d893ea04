//! Tasks: arguments, orders, what they wait for.

use crate::bed::Bed;

#[test]
fn a_task_runs_each_time_and_makes_what_it_needs_first() {
    let bed = Bed::new(
        "target out\n  recipe: echo x > @{target}\ntask show\n  needs out\n  recipe: cat @{needs} >> log\n",
    );
    bed.weave(&["show"])
        .status(0)
        .ended(&["out made never-made", "show made"]);
    bed.weave(&["show"]).status(0).ended(&["show made"]).kept(1);
    assert_eq!(bed.read("log"), "x\nx\n");
}

#[test]
fn arguments_are_checked_and_quoted() {
    let bed = Bed::new(
        "task publish edition channel=draft\n  recipe: printf '[%s]' @{edition} @{channel} @{extra} > log\n",
    );
    bed.run(&["run", "publish", "the 1st", "--", "-x", "y z"])
        .status(0);
    assert_eq!(bed.read("log"), "[the 1st][draft][-x][y z]");
    bed.run(&["run", "publish", "channel=final", "2nd"])
        .status(0);
    assert_eq!(bed.read("log"), "[2nd][final]");
    let usage = "handloom run publish EDITION [channel=draft]";
    bed.run(&["run", "publish"])
        .status(2)
        .says(&["`publish` needs a value for `edition`", usage]);
    bed.run(&["run", "publish", "a", "b", "c"])
        .status(2)
        .says(&["`c` is one value too many", usage]);
    bed.run(&["run", "publish", "a", "edition=b"])
        .status(2)
        .says(&["`edition` is given twice", usage]);
    bed.run(&["run", "publich"])
        .status(2)
        .says(&["did you mean `handloom run publish`?"]);
    bed.write("hand.loom", "task plain\n  recipe: true\n");
    bed.run(&["run", "plain", "--", "x"])
        .status(2)
        .says(&["`plain` takes no extra words"]);
}

#[test]
fn steps_come_strictly_one_after_another() {
    let bed = Bed::new(
        "task all\n  steps generate out/use second\n  recipe: echo all >> log\n\
         task generate\n  recipe: echo generate >> log; echo made > source\n\
         target out/use\n  needs source\n  recipe: echo use >> log; cp @{needs} @{target}\n\
         task second\n  recipe: echo second >> log\n",
    );
    bed.write("source", "old");
    bed.weave(&["-j8", "all"]).status(0).ended(&[
        "generate made",
        "out/use made never-made",
        "second made",
        "all made",
    ]);
    assert_eq!(bed.read("log"), "generate\nuse\nsecond\nall\n");
    assert_eq!(
        bed.read("out/use"),
        "made\n",
        "it saw what the step before it wrote"
    );
    bed.weave(&["all"])
        .status(0)
        .ended(&["generate made", "second made", "all made"])
        .kept(1);
}

#[test]
fn a_failed_step_holds_the_rest() {
    let bed = Bed::new(
        "task all\n  steps bad good\ntask bad\n  recipe: exit 3\ntask good\n  recipe: echo >> log\n",
    );
    bed.weave(&["all"])
        .status(1)
        .ended(&["bad failed", "good held", "all held"]);
    assert!(!bed.exists("log"));
}

#[test]
fn after_orders_without_giving_a_reason() {
    let bed = Bed::new(
        "task before\n  recipe: echo before >> log\ntarget out\n  after before other\n  recipe: echo out >> log; echo > @{target}\ntarget other\n  needs in\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("in", "1");
    bed.weave(&["-j4", "out"]).status(0).ended(&[
        "before made",
        "other made never-made",
        "out made never-made",
    ]);
    assert_eq!(bed.read("log"), "before\nout\n");
    bed.write("in", "2");
    bed.weave(&["out"]).status(0).says_not("out made").kept(1);
    bed.weave(&["out"]).all_kept(2);
}

#[test]
fn a_task_without_a_recipe_is_a_name_for_what_it_needs() {
    let bed = Bed::new(
        "task both\n  needs a b\ntarget a\n  recipe: echo > a\ntarget b\n  recipe: echo > b\n",
    );
    let run = bed.weave(&["both"]).status(0);
    assert!(bed.exists("a") && bed.exists("b"), "{}", run.shown());
}
