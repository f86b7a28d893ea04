//! Where people stumble: each time the text that helps.

use crate::bed::Bed;

#[test]
fn help_is_found_where_it_is_looked_for() {
    let bed = Bed::new(
        "task install prefix=/usr\n  about: Put it in its place\n  recipe: echo @{prefix}\ntask tests\n  recipe: true\n",
    );
    bed.run(&["help"])
        .status(0)
        .says(&["Usage: handloom", "preview"]);
    bed.run(&["help", "clean"]).status(0).says(&["--leftovers"]);
    bed.run(&["run", "install", "--help"])
        .status(0)
        .says(&["handloom run install [prefix=/usr]", "Put it in its place"]);
    bed.run(&["run", "nothing", "--help"])
        .status(2)
        .says(&["no task is called `nothing`"]);
    bed.run(&["tests", "-x"])
        .status(2)
        .says(&["`handloom run tests -- -x`"]);
    bed.run(&["run", "tests", "--slow"])
        .status(2)
        .says(&["`handloom run tests -- --slow`"]);
    bed.remove("hand.loom");
    bed.run(&[])
        .status(2)
        .says(&["handloom new     writes a first one"]);
}

/// Without a key nothing is taken over: a damaged one is made anew.
#[test]
fn a_key_that_was_cut_short_is_made_anew() {
    let bed = Bed::new("target out\n  recipe: echo > @{target}\n");
    let key = "../home/.local/share/handloom/key";
    bed.write(key, "");
    bed.run(&[]).status(0);
    assert_eq!(std::fs::read(bed.path(key)).unwrap().len(), 32);
    let before = std::fs::read(bed.path(key)).unwrap();
    bed.run(&[]).status(0);
    assert_eq!(std::fs::read(bed.path(key)).unwrap(), before);
}

#[test]
fn descriptions_from_other_habits_get_the_better_text() {
    for (loom, texts) in [
        (
            "target out/<n>\n  needs each \"src dir/<n>.txt\"\n  recipe: true\n",
            &[
                "holes in quotes are plain text",
                "write `\"src dir/\"<n>.txt`",
            ][..],
        ),
        (
            "target out\n  cores 2\n  recipe: true\n",
            &["`takes cores=2`"],
        ),
        (
            "target out\n  threads 4\n  recipe: true\n",
            &["`takes cores=4`"],
        ),
        (
            "target out\n  memory 2G\n  recipe: true\n",
            &["`takes memory=2G`"],
        ),
        (
            "target out\n  lock db\n  recipe: true\n",
            &["`takes db=1`", "`supply db = 1`"],
        ),
        (
            "target out\n  gcc -c x\n",
            &["the clauses are: about, needs"],
        ),
        (
            "target out\n  needs each P in a b\n  recipe: true\n",
            &["`each NAME in WORDS` as a clause of its own"],
        ),
        (
            "target out/a\n  needs in/b.txt\n  recipe: true\n",
            &["needed by `out/a`"],
        ),
    ] {
        let run = Bed::new(loom).run(&[]).status(2);
        run.says(texts);
    }
}

#[test]
fn a_failing_recipe_names_what_was_meant() {
    let bed = Bed::new("let cc = true\ntarget out\n  recipe: $cc x > @{target}\n");
    bed.run(&[])
        .status(1)
        .says(&["the variable of the description is written `@{cc}`"]);
    let bed = Bed::new("target out/<u>\n  each u in a\n  recipe: cat <u> > @{target}\n");
    bed.run(&[]).status(1).says(&["is written `@{u}`"]);
    let bed = Bed::new("target out\n  recipe with nothing-here: x\n");
    bed.run(&[])
        .status(1)
        .says(&["could not start: `nothing-here` was not found"]);
    let bed = Bed::new("target out\n  in nowhere\n  recipe: true\n");
    bed.run(&[])
        .status(1)
        .says(&["the folder `nowhere/` that it runs in is not there"]);
}

#[test]
fn what_failed_can_be_run_with_one_line() {
    let bed =
        Bed::new("target a\n  recipe: echo > @{target}\ntarget b\n  recipe: echo > @{target}\n");
    bed.run(&[]).status(0);
    bed.write(
        "hand.loom",
        "target a\n  recipe: exit 1\ntarget b\n  recipe: exit 1\n",
    );
    bed.run(&["--on-failure", "continue", "-j1"])
        .status(1)
        .says(&["to run only what failed:\n  handloom a b\n"]);
    bed.run(&["why", "a"])
        .status(0)
        .says(&["it failed last time"]);
}

#[test]
fn why_last_shows_the_difference_of_recipes() {
    let bed = Bed::new("target out\n  recipe: echo one > @{target}\n");
    bed.run(&[]).status(0);
    bed.write("hand.loom", "target out\n  recipe: echo two > @{target}\n");
    bed.run(&[]).status(0);
    bed.run(&["why", "out", "--last"])
        .status(0)
        .says(&["was echo one", "now echo two"]);
}

#[test]
fn lists_show_values_and_columns_line_up() {
    let bed = Bed::new(
        "let dir = out\ntarget @{dir}/灯台\n  about: wide\n  recipe: true\ntarget @{dir}/plain\n  about: narrow\n  recipe: true\ntask t channel=@{dir}\n  recipe: true\n",
    );
    let run = bed.run(&["list"]).status(0);
    assert!(run.out.contains("  out/灯台   wide\n"), "{}", run.out);
    assert!(run.out.contains("  out/plain  narrow\n"), "{}", run.out);
    assert!(run.out.contains("t [channel=out]"), "{}", run.out);
}

#[test]
fn verbose_shows_scripts_and_an_error_in_mid_run_ends_with_a_summary() {
    let bed = Bed::new("target out\n  recipe: echo 'as run' > @{target}\n");
    bed.run(&["-v"]).status(0).says(&["echo 'as run' > out"]);
    let bed = Bed::new(
        "target a\n  recipe: echo > a\ntarget b\n  needs a\n  recipe: cat @{target}@{needs} \\@{target}\n",
    );
    let run = bed
        .weave(&[])
        .status(2)
        .says(&["a backslash stands in front"]);
    assert!(
        run.events.iter().any(|event| event["event"] == "summary"),
        "{}",
        run.shown()
    );
}

#[test]
fn a_failed_personal_task_suggests_what_works_here() {
    let bed = Bed::new("include part\n");
    bed.write("part/hand.loom", "target x\n  recipe: true\n");
    bed.write(
        "../home/.config/handloom/hand.loom",
        "task tidy-up\n  recipe: exit 1\n",
    );
    let mut command = bed.command(&["run", "tidy-up"]);
    command.current_dir(bed.path("part"));
    bed.finish(command, &["run", "tidy-up"])
        .status(1)
        .says(&["handloom run tidy-up\n"]);
}

#[test]
fn the_tab_key_offers_choices_parameters_and_own_tasks() {
    let bed = Bed::new(
        "let mode one of fast slow\ntarget out/a\n  recipe: true\ntask publish edition channel=draft\n  recipe: echo @{edition}\n",
    );
    bed.write(
        "../home/.config/handloom/hand.loom",
        "task mine\n  recipe: true\n",
    );
    let complete = |words: &[&str]| {
        let mut command = bed.command(&[]);
        command
            .env("HANDLOOM_COMPLETE", "bash")
            .env("_CLAP_COMPLETE_INDEX", (words.len() - 1).to_string())
            .env("_CLAP_COMPLETE_COMP_TYPE", "9")
            .env("_CLAP_COMPLETE_SPACE", "true")
            .env("_CLAP_IFS", "\n")
            .arg("--")
            .args(words);
        bed.finish(command, words).out
    };
    let found = complete(&["handloom", "--let", "mode="]);
    assert!(found.contains("fast") && found.contains("slow"), "{found}");
    assert!(complete(&["handloom", "run", "mi"]).contains("mine"));
    assert!(complete(&["handloom", "run", "publish", "chan"]).contains("channel="));
    assert!(complete(&["handloom", "run", "publish", "hand"]).contains("hand.loom"));
    let elsewhere = Bed::new("task other\n  recipe: true\n");
    let root = elsewhere.root();
    let found = complete(&[
        "handloom",
        "--project",
        root.to_str().unwrap(),
        "run",
        "oth",
    ]);
    assert!(found.contains("other"), "{found}");
}
