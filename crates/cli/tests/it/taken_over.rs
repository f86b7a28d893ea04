//! A project that is taken over from the last run: everything that it was worked out from is noticed
//! when it changes, and nothing else makes it run.

use std::fs;

use crate::bed::Bed;
use crate::bed::Run;
use crate::bed::without_times;

/// A project that reads something of every kind while it is worked out.
const LOOM: &str = r"
include more.loom
let word = env WORD or none
let list = files notes/*.txt except notes/x*
let told = output cat told
default out/a.up out/all out/env out/list out/told out/given out/learned
target out/<name>.up
  needs each src/<name>.txt
  recipe: tr a-z A-Z < @{needs} > @{target}
target out/all
  needs out/*.up
  recipe: cat @{needs} > @{target}
target out/env
  recipe: echo @{word} > @{target}
target out/list
  recipe: echo @{list} > @{target}
target out/told
  recipe: echo @{told} > @{target}
target out/given
  given output cat told
  recipe: cat told > @{target}
target out/learned
  learn lines
  recipe:
    cat inc/one > @{target}
    echo inc/one > @{learn}
";

fn taken_over() -> Bed {
    taken_over_from(LOOM, 7)
}

fn taken_over_from(loom: &str, steps: usize) -> Bed {
    let bed = Bed::new(loom);
    bed.write("more.loom", "let unused = 1\n");
    bed.write("src/a.txt", "a\n");
    bed.write("notes/1.txt", "");
    bed.write("told", "told\n");
    bed.write("inc/one", "one\n");
    let _ = bed.weave(&[]).status(0).kept(0);
    // Times have to be older than the clock's grain to be trusted.
    std::thread::sleep(std::time::Duration::from_millis(60));
    bed.weave(&[]).all_kept(steps);
    assert!(bed.exists(".handloom/project"));
    bed.weave(&[]).all_kept(steps);
    bed
}

#[test]
fn every_change_is_noticed() {
    type Change = fn(&Bed);
    let cases: &[(&str, Change, &[&str])] = &[
        ("a touched source", |bed| bed.write("src/a.txt", "a\n"), &[]),
        (
            "an edited source",
            |bed| bed.write("src/a.txt", "b\n"),
            &[
                "out/a.up made prerequisite-changed",
                "out/all made prerequisite-changed",
            ],
        ),
        (
            "a new source",
            |bed| bed.write("src/b.txt", "b\n"),
            &[
                "out/b.up made never-made",
                "out/all made prerequisite-added",
            ],
        ),
        (
            "a file of no interest",
            |bed| bed.write("src/b.bin", "b\n"),
            &[],
        ),
        (
            "a new file in a list",
            |bed| bed.write("notes/2.txt", ""),
            &["out/list made recipe-changed"],
        ),
        (
            "a new file that the list leaves out",
            |bed| bed.write("notes/x.txt", ""),
            &[],
        ),
        (
            "what a command prints",
            |bed| bed.write("told", "else\n"),
            &[
                "out/told made recipe-changed",
                "out/given made given-changed",
            ],
        ),
        (
            "an edited output",
            |bed| bed.write("out/env", "mine\n"),
            &["out/env same output-edited"],
        ),
        (
            "a removed output",
            |bed| bed.remove("out/a.up"),
            &["out/a.up same output-missing"],
        ),
        (
            "what was learned",
            |bed| bed.write("inc/one", "two\n"),
            &["out/learned made learned-changed"],
        ),
        (
            "an included description",
            |bed| bed.write("more.loom", "let word = own\n"),
            &[],
        ),
        (
            "the kept project",
            |bed| {
                let mut bytes = fs::read(bed.path(".handloom/project")).unwrap();
                let middle = bytes.len() / 2;
                bytes[middle] ^= 1;
                fs::write(bed.path(".handloom/project"), bytes).unwrap();
            },
            &[],
        ),
        (
            "no kept project",
            |bed| bed.remove(".handloom/project"),
            &[],
        ),
        (
            "a lost end of the journal",
            |bed| {
                let bytes = fs::read(bed.path(".handloom/journal")).unwrap();
                fs::write(bed.path(".handloom/journal"), &bytes[..bytes.len() - 3]).unwrap();
            },
            &[],
        ),
    ];
    for (what, change, ended) in cases {
        let bed = taken_over();
        change(&bed);
        if *what == "an included description" {
            let _ = bed.weave(&[]).status(2).says(&["`word` is set twice"]);
            continue;
        }
        bed.weave(&[]).status(0).ended(ended);
        bed.weave(&[]).status(0).ended(&[]);
        bed.weave(&["--again", "out/env"])
            .status(0)
            .ended(&["out/env same asked"]);
    }
}

/// Weaves with an environment variable.
fn weave_with_word(bed: &Bed, word: &str) -> Run {
    let arguments = ["--events", "events"];
    let mut command = bed.command(&arguments);
    command.env("WORD", word);
    let mut run = bed.finish(command, &arguments);
    run.read_events(&bed.path("events"));
    run.status(0)
}

/// Asks with what was kept and without it: the answers must be the same.
#[track_caller]
fn compare_with_anew(bed: &Bed, questions: &[&[&str]], change: &str) {
    let ask = || -> Vec<(Option<i32>, String)> {
        let ask = |question: &&[&str]| {
            let answer = bed.run(question);
            (answer.status, without_times(&answer.shown()))
        };
        questions.iter().map(ask).collect()
    };
    let taken_over = ask();
    let kept = bed.path(".handloom/project");
    let aside = bed.path(".handloom/aside-project");
    fs::rename(&kept, &aside).unwrap();
    let anew = ask();
    fs::rename(&aside, &kept).unwrap();
    for ((question, one), other) in questions.iter().zip(taken_over).zip(anew) {
        assert_eq!(one, other, "{change}, {question:?}");
    }
}

#[test]
fn the_environment_and_variables_are_noticed() {
    let bed = taken_over();
    let with_word = |word: &str| weave_with_word(&bed, word);
    with_word("x").ended(&["out/env made recipe-changed"]);
    with_word("x").ended(&[]);
    bed.weave(&[]).ended(&["out/env made recipe-changed"]);
    bed.weave(&["--let", "word=y"])
        .ended(&["out/env made recipe-changed"]);
    bed.weave(&["--let", "word=y"]).ended(&[]);
    assert_eq!(bed.read("out/env"), "y\n");
}

#[test]
fn other_goals_are_judged_on_their_own() {
    let bed = taken_over();
    bed.write("src/a.txt", "b\n");
    bed.weave(&["out/env"]).all_kept(1);
    bed.weave(&["out/a.up"])
        .ended(&["out/a.up made prerequisite-changed"]);
    bed.weave(&[])
        .ended(&["out/all made prerequisite-changed"])
        .kept(6);
}

/// The order that is judged is then only a part of the whole one.
#[test]
fn what_puts_a_learned_prerequisite_first_is_seen_in_the_whole_project() {
    let bed = Bed::new(
        "target out/<n>\n  needs each in/<n>\n  recipe: cp @{needs} @{target}\ntarget gen\n  needs out/a\n  recipe: cp @{needs} @{target}\ntarget prog\n  needs main\n  after gen\n  learn lines\n  recipe:\n    cat main gen > @{target}\n    echo gen > @{learn}\n",
    );
    for name in ["a", "b", "c", "d", "e"] {
        bed.write(&format!("in/{name}"), name);
    }
    bed.write("main", "1");
    let _ = bed.run(&[]).status(0).says_not("only luck");
    bed.weave(&[]).all_kept(7);
    bed.write("main", "2");
    bed.weave(&[])
        .status(0)
        .ended(&["prog made prerequisite-changed"])
        .says_not("only luck");
}

/// Commands that only read take the project over as well, and say the same as without it.
#[test]
fn answers_are_those_of_a_project_worked_out_anew() {
    type Change = fn(&Bed);
    let changes: &[Change] = &[
        |_| {},
        |bed| bed.write("src/a.txt", "other\n"),
        |bed| bed.write("src/b.txt", "b\n"),
        |bed| bed.remove("out/list"),
        |bed| bed.write("inc/one", "other\n"),
        |bed| bed.write("out/env", "edited\n"),
        |bed| bed.write("notes/2.txt", ""),
        |bed| bed.remove("src/b.txt"),
        |bed| bed.remove("inc/one"),
        |bed| bed.write("more.loom", "let unused = 2\n"),
    ];
    let commands = "let told = output cat told\n";
    let given = "  given output cat told\n";
    let told = "target out/told\n  recipe: echo @{told} > @{target}\n";
    let mut loom = LOOM.replace(commands, "").replace(given, "");
    loom = loom.replace(told, "").replace(" out/told", "");
    loom += "task show\n  about: Shows all\n  needs out/all\n  recipe: cat @{needs}\n";
    let bed = taken_over_from(&loom, 6);
    let questions: &[&[&str]] = &[
        &["list", "--all"],
        &["list", "--format", "json"],
        &["preview"],
        &["preview", "--format", "json"],
        &["preview", "show", "out/learned"],
        &["preview", "--again", "out/all"],
        &["why", "out/a.up"],
        &["why", "out/all"],
        &["why", "out/learned", "--format", "json"],
        &["graph"],
        &["graph", "--to", "json"],
        &["graph", "--around", "out/all", "--to", "svg"],
        &["settings"],
        &["settings", "--format", "json"],
        &["preview", "nothing"],
    ];
    for (number, change) in changes.iter().enumerate() {
        change(&bed);
        compare_with_anew(&bed, questions, &format!("change {number}"));
    }
}

/// A recipe that is another one asks for a variable that no recipe asked for when the project was kept: the run after
/// it must know.
#[test]
fn what_another_recipe_asks_for_is_noticed() {
    let loom = |recipe: &str| {
        format!(
            "let word = env WORD or none\ntarget a\n  needs s\n  recipe: echo {recipe} > @{{target}}\n\
             target b\n  needs s\n  recipe: cp s @{{target}}\n"
        )
    };
    let bed = Bed::new(&loom("one"));
    bed.write("s", "s\n");
    let settle = || std::thread::sleep(std::time::Duration::from_millis(60));
    settle();
    let _ = bed.weave(&[]).status(0).kept(0);
    settle();
    bed.weave(&[]).all_kept(2);
    bed.write("hand.loom", &loom("@{word}"));
    let with_word = |word: &str| weave_with_word(&bed, word);
    with_word("x").ended(&["a made recipe-changed"]);
    with_word("x").ended(&[]);
    with_word("y").ended(&["a made recipe-changed"]);
    bed.weave(&[]).ended(&["a made recipe-changed"]);
    assert_eq!(bed.read("a"), "none\n");
}

/// Targets that come, go, and need something else: exactly they are made, answers are those of a project that is worked
/// out anew, and the run after has nothing to do.
#[test]
fn a_few_other_targets_are_told_from_all_others() {
    let base = |number: usize| {
        let before = match number {
            0 => "src/a".to_owned(),
            _ => format!("out/{}", number - 1),
        };
        format!("target out/{number}\n  needs {before}\n  recipe: cp {before} @{{target}}\n")
    };
    let text: String = (0..6).map(base).collect();
    let bed = Bed::new(&format!("include more.loom\n{text}"));
    bed.write(
        "more.loom",
        "target out/more\n  needs src/b\n  recipe: cp src/b @{target}\n",
    );
    bed.write("src/a", "a\n");
    bed.write("src/b", "b\n");
    let settle = || std::thread::sleep(std::time::Duration::from_millis(60));
    settle();
    let _ = bed.weave(&[]).status(0).kept(0);
    settle();
    bed.weave(&[]).all_kept(7);
    // What is replaced by what, in which file; what is made then; what answers say in either case.
    let changes: &[(&str, &str, &str, &[&str])] = &[
        (
            "hand.loom",
            "needs out/3\n",
            "needs out/3 src/b\n",
            &["out/4 same prerequisite-added"],
        ),
        (
            "hand.loom",
            "needs out/2\n",
            "needs out/2\n  after out/more\n",
            &[],
        ),
        (
            "hand.loom",
            "target out/2\n",
            "target out/new\n  needs out/1\n  recipe: cp out/1 @{target}\ntarget out/2\n",
            &["out/new made never-made"],
        ),
        (
            "more.loom",
            "target out/more\n",
            "target out/first\n  recipe: echo 1 > @{target}\ntarget out/more\n",
            &["out/first made never-made"],
        ),
        (
            "hand.loom",
            "  needs out/4\n",
            "  needs out/4 out/new\n",
            &["out/5 same prerequisite-added"],
        ),
        (
            "more.loom",
            "target out/first\n  recipe: echo 1 > @{target}\n",
            "",
            &[],
        ),
        (
            "hand.loom",
            " out/new\n  recipe",
            "\n  recipe",
            &["out/5 same prerequisite-dropped"],
        ),
        (
            "hand.loom",
            " src/b\n  recipe",
            "\n  recipe",
            &["out/4 same prerequisite-dropped"],
        ),
    ];
    let questions: &[&[&str]] = &[
        &["list", "--all"],
        &["preview", "--format", "json"],
        &["why", "out/4", "--format", "json"],
        &["graph", "--format", "json"],
        &["clean", "--preview"],
        &["out/none"],
    ];
    for (file, from, to, ended) in changes {
        let before = bed.read(file);
        assert!(before.contains(from), "{from} in {before}");
        bed.write(file, &before.replacen(from, to, 1));
        settle();
        compare_with_anew(&bed, questions, to);
        bed.weave(&[]).status(0).ended(ended);
        bed.weave(&[]).status(0).ended(&[]);
    }
}

/// Patterns over what steps make: the folders are fuller after the first run than they were, and nothing is new. What a
/// recipe writes beside its outputs is.
#[test]
fn the_first_run_keeps_a_project_whose_patterns_match_what_it_made() {
    let loom = "target out/<n>.up\n  needs each src/<n>.txt\n  recipe: cp @{needs} @{target}\n\
        target out/deep/er/<n>.up\n  needs each src/<n>.txt\n  recipe: cp @{needs} @{target}\n\
        target again/<n>\n  needs each out/<n>.up\n  recipe: cp @{needs} @{target}\n\
        target all\n  needs out/**/*.up again/*\n  recipe: cat @{needs} > @{target}\n";
    let bed = Bed::new(loom);
    bed.write("src/a.txt", "a\n");
    bed.write("src/b.txt", "b\n");
    let settle = || std::thread::sleep(std::time::Duration::from_millis(60));
    settle();
    let _ = bed.weave(&[]).status(0).kept(0);
    settle();
    let kept = fs::read(bed.path(".handloom/project")).unwrap();
    bed.weave(&[]).all_kept(7);
    assert!(
        fs::read(bed.path(".handloom/project")).unwrap() == kept,
        "the second run works nothing out"
    );
    // A file in a folder that came with the run, where no step makes it, is a source like any other.
    bed.write("out/deep/er/mine.up", "mine\n");
    bed.weave(&[]).ended(&["all made prerequisite-added"]);

    let stray = "target out/one.up\n  needs src/a.txt\n  recipe: cp @{needs} @{target}; echo stray > out/stray.up\n\
        target all\n  needs out/*.up\n  recipe: cat @{needs} > @{target}\n";
    let bed = Bed::new(stray);
    bed.write("src/a.txt", "a\n");
    settle();
    let _ = bed.weave(&[]).status(0);
    bed.weave(&[]).ended(&["all made prerequisite-added"]);
    assert_eq!(bed.read("all"), "a\nstray\n");
}
