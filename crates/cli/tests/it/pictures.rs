//! `handloom graph`: the same picture as text, SVG, DOT, Mermaid and JSON. Golden files lie in
//! `tests/golden`; `HANDLOOM_GOLDEN=write` writes them anew, to be looked at before they are committed.

use serde_json::Value;

use crate::bed::Bed;
use crate::bed::golden;

/// Everything that can be told apart: each state, tasks, what is learned, `after`, a missing source, hard
/// names.
const ALL: &str = r##"
target out/<unit>.o
  about: One "unit" <compiled>
  needs each src/<unit>.c
  after out/made.h
  learn lines
  recipe:
    cp @{needs} @{target}
    echo src/all.h > @{learn}
    test "@{unit}" != bad
target out/made.h
  needs data/table
  recipe: cp @{needs} @{target}
target prog
  needs out/*.o
  recipe: cat @{needs} > @{target}
target pages
  needs prog notes/*
  recipe: cat @{needs} > @{target}
target never
  needs "not # \"there\" & <so>"
  recipe: cp @{needs} @{target}
task check
  needs prog
  recipe: true
task ship
  after check
  needs pages
  recipe: true
"##;

fn all_states() -> Bed {
    let bed = Bed::new(ALL);
    for name in [
        "src/bad.c",
        "src/good.c",
        "src/all.h",
        "data/table",
        "notes/a.txt",
        "notes/b.txt",
        "notes/c.txt",
    ] {
        bed.write(name, name);
    }
    let _ = bed.run(&["pages", "--on-failure", "continue"]).status(1);
    bed.write("src/good.c", "other");
    bed
}

fn graph(bed: &Bed, arguments: &[&str]) -> String {
    let mut all = vec!["graph"];
    all.extend(arguments);
    bed.run(&all).status(0).out
}

#[test]
fn every_form_is_as_it_was_looked_at() {
    let bed = all_states();
    golden("graph.txt", &graph(&bed, &[]));
    golden("graph.svg", &graph(&bed, &["--to", "svg"]));
    golden("graph.dot", &graph(&bed, &["--to", "dot"]));
    golden("graph.mmd", &graph(&bed, &["--to", "mermaid"]));
    golden("graph.json", &graph(&bed, &["--format", "json"]));
}

#[test]
fn the_drawing_is_well_formed_and_holds_every_name() {
    let bed = all_states();
    let svg = graph(&bed, &["--to", "svg"]);
    let document = roxmltree::Document::parse(&svg).unwrap();
    let told: Vec<&str> = document
        .descendants()
        .filter(|node| node.has_tag_name("title"))
        .filter_map(|node| node.text())
        .collect();
    for name in [
        "out/good.o",
        "prog",
        "check",
        "not # \"there\" & <so>",
        "notes/*.txt",
    ] {
        let is_told = |told: &&str| told.lines().next() == Some(name);
        assert!(told.iter().any(is_told), "{name}: {told:?}");
    }
    bed.run(&["graph", "--to", "picture.svg"])
        .status(0)
        .says(&["wrote picture.svg"]);
    assert_eq!(bed.read("picture.svg"), svg);
}

#[test]
fn states_are_those_of_preview_and_nothing_runs() {
    let bed = all_states();
    let before = bed.run(&["history"]).out;
    let picture: Value = serde_json::from_str(&graph(&bed, &["--to", "json"])).unwrap();
    let mut states: Vec<String> = picture["nodes"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|node| node["kind"] == "step")
        .map(|node| {
            format!(
                "{} {}",
                node["name"].as_str().unwrap(),
                node["would"].as_str().unwrap()
            )
        })
        .collect();
    states.sort();
    assert_eq!(
        states,
        [
            "never run",
            "out/bad.o failed",
            "out/good.o run",
            "out/made.h keep",
            "pages run",
            "prog run"
        ]
    );
    assert_eq!(bed.run(&["history"]).out, before);
}

#[test]
fn many_steps_are_one_node_for_each_description() {
    let bed = Bed::new(
        "target a/<n>\n  needs each in/<n>\n  recipe: cp @{needs} @{target}\ntarget b/<n>\n  needs each a/<n>\n  recipe: cp @{needs} @{target}\ntarget all\n  needs b/*\n  recipe: cat @{needs} > @{target}\n",
    );
    for number in 0..40 {
        bed.write(&format!("in/{number}.txt"), "x");
    }
    let _ = bed.run(&["a/*"]).status(0);
    bed.write("in/7.txt", "y");
    assert_eq!(
        graph(&bed, &[]),
        "    run  all  never made\n    run  ╎ b/<n>  40 steps, would run\n    run  ╎ ╎ a/<n>  40 steps: 1 would run, 39 kept\n         ╎ ╎ ╎ in/*.txt  40 files\n"
    );
    let picture: Value = serde_json::from_str(&graph(&bed, &["--to", "json"])).unwrap();
    let nodes = picture["nodes"].as_array().unwrap();
    let counts: Vec<i64> = nodes
        .iter()
        .map(|node| node["count"].as_i64().unwrap())
        .collect();
    assert_eq!(counts.iter().sum::<i64>(), 121, "{picture:#}");
    assert_eq!(counts.len(), 4);
    let all: Value = serde_json::from_str(&graph(&bed, &["--all", "--to", "json"])).unwrap();
    assert_eq!(all["nodes"].as_array().unwrap().len(), 121);
}

#[test]
fn the_neighbourhood_of_one() {
    let bed = all_states();
    let names = |arguments: &[&str]| {
        let picture: Value = serde_json::from_str(&graph(&bed, arguments)).unwrap();
        let nodes = picture["nodes"].as_array().unwrap().iter();
        let mut names: Vec<String> = nodes
            .map(|node| node["name"].as_str().unwrap().to_owned())
            .collect();
        names.sort();
        names
    };
    assert_eq!(
        names(&["--around", "prog", "--to", "json"]),
        ["check", "out/bad.o", "out/good.o", "pages", "prog"]
    );
    assert_eq!(
        names(&["--around", "src/all.h", "--depth", "2", "--to", "json"]),
        ["out/good.o", "prog", "src/all.h"]
    );
    bed.run(&["graph", "--around", "prg"])
        .status(2)
        .says(&["`prg` is not in the picture", "did you mean `prog`?"]);
    bed.run(&["graph", "--to", "a.png"])
        .status(2)
        .says(&["svg, dot, mermaid or json"]);
    bed.run(&["graph", "nothing"])
        .status(2)
        .says(&["`nothing`"]);
}

#[test]
fn descriptions_that_need_each_other_in_turn_are_drawn() {
    // As a whole they form a circle, although no file needs itself.
    let mut loom = String::new();
    for number in 0..70 {
        let (name, from) = (["a", "b"][number % 2], ["b", "a"][number % 2]);
        let need = if number == 0 {
            "start".to_owned()
        } else {
            format!("{from}{}", number - 1)
        };
        loom += &format!(
            "target {name}{number}\n  needs {need}\n  recipe: cp @{{needs}} @{{target}}\n"
        );
    }
    let bed = Bed::new(&loom);
    bed.write("start", "x");
    roxmltree::Document::parse(&graph(&bed, &["--to", "svg"])).unwrap();
    assert_eq!(graph(&bed, &["--all"]).lines().count(), 71);
    let empty = Bed::new("");
    assert_eq!(
        graph(&empty, &[]),
        "the description has no target and no task yet\n"
    );
    roxmltree::Document::parse(&graph(&empty, &["--to", "svg"])).unwrap();
}
