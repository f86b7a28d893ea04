//! What descriptions mean, from end to end. The finer points are tested where they are worked out.

use crate::bed::Bed;

#[test]
fn a_mistake_shows_the_line_the_place_and_what_to_do() {
    let bed = Bed::new("let cc = gcc\ntarget out\n  need src/a.c\n  recipe: @{c} @{needs}\n");
    bed.run(&[]).status(2).says(&[
        "error[unknown-clause]: `need` is not a clause",
        "hand.loom:3:3",
        "3 |   need src/a.c",
        "^^^^",
        "did you mean `needs`?",
    ]);
    bed.write("hand.loom", "let cc = gcc\ntarget out\n  recipe: @{c} x\n");
    bed.run(&[]).status(2).says(&[
        "there is no variable `c` here",
        "hand.loom:3:11",
        "did you mean `@{cc}`?",
    ]);
    bed.run(&["list"]).status(2);
}

#[test]
fn several_mistakes_are_shown_in_one_run() {
    let bed = Bed::new("lett a = b\ntarget x:\n  recipe: true\ntask y\n");
    bed.run(&[])
        .status(2)
        .says(&["did you mean `let`?", "is not followed by a colon"]);
}

#[test]
fn each_is_joined_on_shared_holes_and_combined_otherwise() {
    let bed = Bed::new(
        "target out/<light>-<year>.txt\n  each year in 2024 2025\n  needs each logs/<light>.csv\n  needs each notes/<light>-<year>.md\n  recipe: cat @{needs} > @{target}\n\
         target grid/<a>-<b>\n  needs each x/<a>\n  needs each y/<b>\n  recipe: cat @{needs} > @{target}\n",
    );
    for name in [
        "logs/l1.csv",
        "logs/l2.csv",
        "notes/l1-2024.md",
        "notes/l1-2025.md",
        "notes/l2-2025.md",
        "notes/l3-2024.md",
        "x/1",
        "x/2",
        "y/1",
        "y/2",
    ] {
        bed.write(name, "");
    }
    bed.weave(&[]).status(0).ended(&[
        "out/l1-2024.txt made never-made",
        "out/l1-2025.txt made never-made",
        "out/l2-2025.txt made never-made",
        "grid/1-1 made never-made",
        "grid/1-2 made never-made",
        "grid/2-1 made never-made",
        "grid/2-2 made never-made",
    ]);
}

#[test]
fn whole_folders_are_targets_and_patterns_look_into_them() {
    let bed = Bed::new(
        "target site/\n  needs pages\n  recipe: for p in $(cat pages); do echo $p > @{target}/$p.html; done\n\
         target index\n  needs site/*.html\n  recipe: cat @{needs} > @{target}\n\
         target small/<p>.txt\n  needs each site/<p>.html\n  recipe: tr a-z A-Z < @{needs} > @{target}\n\
         target copy\n  needs site/\n  recipe: ls @{needs} > @{target}\n",
    );
    bed.write("pages", "one two\n");
    bed.weave(&[]).status(0).ended(&[
        "site/ made never-made",
        "index made never-made",
        "small/one.txt made never-made",
        "small/two.txt made never-made",
        "copy made never-made",
    ]);
    bed.weave(&[]).all_kept(5);
    bed.write("pages", "one three\n");
    bed.weave(&[]).status(0).ended(&[
        "site/ made prerequisite-changed",
        "index made prerequisite-added,prerequisite-dropped",
        "small/three.txt made never-made",
        "copy made prerequisite-changed",
    ]);
    bed.write("site/one.html", "tampered\n");
    bed.weave(&["index"])
        .status(0)
        .ended(&["site/ same output-edited"])
        .kept(1);
    assert_eq!(bed.read(".handloom/aside/site/one.html"), "tampered\n");
}

#[test]
fn a_part_works_the_same_from_inside_and_from_the_root() {
    let bed = Bed::new(
        "let word = above\nlet other = above\ninclude docs\ninclude more.loom\ntarget top\n  needs docs/out/page\n  recipe: cat @{needs} > @{target}; echo @{from-more} >> @{target}\n",
    );
    bed.write("more.loom", "let from-more = included\n");
    bed.write("docs/hand.loom", "let word = own\ndefault out/page\ntarget out/page\n  needs in/*.txt\n  recipe: cat @{needs} > @{target}; echo @{word} @{other} >> @{target}\ntask check\n  needs out/page\n  recipe: test -f @{needs}\n");
    bed.write("docs/in/a.txt", "a\n");
    bed.weave(&["top"])
        .status(0)
        .ended(&["docs/out/page made never-made", "top made never-made"]);
    assert_eq!(bed.read("top"), "a\nown above\nincluded\n");
    let mut command = bed.command(&["-v"]);
    command.current_dir(bed.path("docs/in"));
    bed.finish(command, &["inside"]).status(0).says(&["1 kept"]);
    assert!(!bed.exists("docs/.handloom"), "the project has one ledger");
    bed.weave(&["docs/check"])
        .status(0)
        .ended(&["docs/check made"])
        .kept(1);
    bed.weave(&["*/check"])
        .status(2)
        .says(&["`handloom run '*/check'` runs the tasks"]);
    bed.run(&["run", "*/check"])
        .status(0)
        .says(&["done  docs/check", "1 kept"]);
    let mut command = bed.command(&["check"]);
    command.current_dir(bed.path("docs"));
    bed.finish(command, &["check inside"])
        .status(0)
        .says(&["done  docs/check"]);
    bed.run(&["list"]).status(0).says(&[
        "files that can be made in docs/",
        "docs/out/page",
        "docs/check",
    ]);
}

#[test]
fn other_interpreters_get_words_as_json_and_facts_as_a_file() {
    let bed = Bed::new(
        "let tone = warm \"very red\"\ntarget out\n  needs one: a  all: in/*.txt\n  let shade = \"dark blue\"\n  recipe with python3:\n    import json, os\n    job = json.load(open(os.environ['HANDLOOM_JOB']))\n    with open(@{target}, 'w') as out:\n        json.dump([@{needs}, @{one}, @{all}, @{tone}, @{shade}, '@{raw shade}', job], out)\n",
    );
    bed.write("a", "");
    bed.write("in/it's.txt", "");
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    let found: serde_json::Value = serde_json::from_str(&bed.read("out")).unwrap();
    let root = bed.root().canonicalize().unwrap();
    assert_eq!(
        found,
        serde_json::json!([
            ["a", "in/it's.txt"], "a", ["in/it's.txt"], ["warm", "very red"], "dark blue", "dark blue",
            {
                "targets": ["out"], "target_groups": {}, "needs": ["a", "in/it's.txt"],
                "need_groups": {"one": ["a"], "all": ["in/it's.txt"]},
                "variables": {"shade": ["dark blue"], "tone": ["warm", "very red"]},
                "folder": root,
            }
        ])
    );
}

#[test]
fn a_recipe_longer_than_an_argument_may_be_runs() {
    let bed = Bed::new(
        "target out\n  needs in/*\n  recipe:\n    for f in @{needs}; do echo $f; done | wc -l > @{target}\n",
    );
    for index in 0..9000 {
        bed.write(&format!("in/a-file-with-a-rather-long-name-{index}"), "");
    }
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    assert_eq!(bed.read("out").trim(), "9000");
    bed.weave(&[]).all_kept(1);
}

#[test]
fn settings_and_the_environment_set_variables_in_their_order() {
    let bed = Bed::new(
        "let a = file\nlet b = file\nlet c = file\nlet d = file\ntask show\n  recipe: echo @{a} @{b} @{c} @{d} > log\n",
    );
    let settings = bed
        .root()
        .with_file_name("home")
        .join(".config/handloom/settings.toml");
    std::fs::create_dir_all(settings.parent().unwrap()).unwrap();
    std::fs::write(
        &settings,
        "[let]\nb = 'settings'\nc = ['settings']\nd = 'settings'\n",
    )
    .unwrap();
    let mut command = bed.command(&["show", "--let", "d=line"]);
    command
        .env("HANDLOOM_LET_c", "env")
        .env("HANDLOOM_LET_d", "env");
    bed.finish(command, &["show"]).status(0);
    assert_eq!(bed.read("log"), "file settings env line\n");
    std::fs::write(&settings, "lets = 1\n").unwrap();
    bed.run(&["show"])
        .status(2)
        .says(&["settings.toml` can't be understood"]);
}
