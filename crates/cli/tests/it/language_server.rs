//! The server for editors, driven as an editor does: messages on its standard input and output.

use serde_json::Value;
use serde_json::json;

use crate::bed::Bed;
use crate::editor::Editor;

/// `FILE:LINE:COLUMN` of locations, from 0.
fn places(found: &Value) -> Vec<String> {
    let places = found.as_array().unwrap().iter();
    places
        .map(|place| {
            let start = &place["range"]["start"];
            let uri = place["uri"].as_str().unwrap();
            let file = uri.rsplit_once("/project/").unwrap().1;
            format!("{file}:{}:{}", start["line"], start["character"])
        })
        .collect()
}

/// As one types: in units of UTF-16, without a save, and taken back when it is mended.
#[test]
fn what_is_wrong_is_told_as_one_types() {
    let bed = Bed::new("");
    let mut editor = Editor::begin(&bed);
    editor.open("hand.loom", "let 𝄞 = x\ntarget out\n  recipe: true\n");
    let wrong = editor.wrong_in("hand.loom");
    assert_eq!(wrong.len(), 1, "{wrong:?}");
    assert_eq!((wrong[0].0, wrong[0].1), (0, 4));
    editor.edit("hand.loom", (0, 4), (0, 6), "lamp");
    // It is used nowhere.
    let wrong = editor.wrong_in("hand.loom");
    assert!(wrong.iter().all(|one| one.2.contains("lamp")), "{wrong:?}");
    editor.edit(
        "hand.loom",
        (2, 10),
        (2, 14),
        "echo \"𝄞\" @{lamp} @{lmap} > out",
    );
    let wrong = editor.wrong_in("hand.loom");
    let column = "  recipe: echo \"𝄞\" @{lamp} ".encode_utf16().count() as u64;
    assert_eq!(wrong.len(), 1, "{wrong:?}");
    assert_eq!((wrong[0].0, wrong[0].1), (2, column));
    assert!(wrong[0].2.contains("lmap"), "{wrong:?}");
    let column = usize::try_from(column).unwrap();
    editor.edit("hand.loom", (2, column), (2, column + 7), "");
    assert_eq!(editor.wrong_in("hand.loom"), []);
    // Also what only a run of tasks would come upon.
    let circle = "task one\n  after two\ntask two\n  after one\n";
    editor.open("hand.loom", circle);
    let wrong = editor.wrong_in("hand.loom");
    assert!(
        wrong.len() == 1 && wrong[0].2.contains("`one`"),
        "{wrong:?}"
    );
    assert_eq!(bed.read("hand.loom"), "", "nothing is written");
    editor.end();
}

pub const ROOT: &str = "let lamp = red
let lamp += blue
include part
target out/<n>.txt
  each n in 1 2
  needs list: in.txt
  recipe: echo @{lamp} @{n} @{list} > @{target}
task check edition
  after part/inner
  recipe: echo @{edition} @{part/own}
";
const PART: &str = "let own = 1
target made
  recipe: echo @{lamp} @{own} > @{target}
task inner
  needs made
  recipe: true
";

/// The recorded places: what stands in front of the cursor and behind it, and what is offered.
pub fn completions() -> Vec<(String, String, String)> {
    let text = include_str!("../editors/completions.txt");
    let cases = text.lines().filter(|line| !line.starts_with('#'));
    let cases = cases.map(|line| {
        let (typed, offered) = line.split_once(" =>").unwrap();
        let typed = format!("supply gpu = 1\n{}", typed.replace("\\n", "\n"));
        let (before, rest) = typed.split_once('|').unwrap();
        (
            before.to_owned(),
            rest.to_owned(),
            offered.trim_start().to_owned(),
        )
    });
    cases.collect()
}

/// A project that has what they complete.
pub fn completion_bed() -> Bed {
    let bed = with_parts();
    bed.write("src/lamp.c", "");
    bed.write("src/bulb.c", "");
    bed.write("lights.csv", "light,kind of,height m\ntarn,buoy,3\n");
    bed.write(
        "params.toml",
        "rate = 1\n[model]\nrate = 3\nrange = 2\n[[model.lamp]]\na = 1\n",
    );
    bed
}

fn with_parts() -> Bed {
    let bed = Bed::new(ROOT);
    bed.write("part/hand.loom", PART);
    bed.write("in.txt", "");
    bed
}

#[test]
fn names_are_found_and_changed_wherever_they_stand() {
    let bed = with_parts();
    let mut editor = Editor::begin(&bed);
    editor.open("hand.loom", ROOT);
    editor.open("part/hand.loom", PART);
    let mut at =
        |what: &str, file: &str, line, column| places(&editor.ask_at(what, file, line, column));
    let lamps = ["hand.loom:0:4", "hand.loom:1:4"];
    assert_eq!(at("definition", "hand.loom", 6, 17), lamps);
    assert_eq!(at("definition", "part/hand.loom", 2, 18), lamps);
    let all = [
        "hand.loom:0:4",
        "hand.loom:1:4",
        "hand.loom:6:17",
        "part/hand.loom:2:17",
    ];
    assert_eq!(at("references", "hand.loom", 0, 5), all);
    assert_eq!(
        at("references", "hand.loom", 3, 12),
        ["hand.loom:3:12", "hand.loom:4:7", "hand.loom:6:25"]
    );
    assert_eq!(at("definition", "hand.loom", 6, 31), ["hand.loom:5:8"]);
    assert_eq!(at("definition", "hand.loom", 9, 18), ["hand.loom:7:11"]);
    assert_eq!(at("definition", "hand.loom", 8, 15), ["part/hand.loom:3:5"]);
    assert_eq!(
        at("references", "hand.loom", 9, 34),
        [
            "hand.loom:9:33",
            "part/hand.loom:0:4",
            "part/hand.loom:2:25"
        ]
    );
    // A path leads to what makes it.
    assert_eq!(
        at("definition", "part/hand.loom", 4, 9),
        ["part/hand.loom:1:7"]
    );
    assert_eq!(at("definition", "hand.loom", 6, 3), [""; 0]);
    let rename = |editor: &mut Editor<'_>, line: usize, column: usize, name: &str| {
        let params = json!({
            "textDocument": {"uri": editor.uri("hand.loom")},
            "position": {"line": line, "character": column},
            "newName": name,
        });
        editor.answer("textDocument/rename", &params)
    };
    let renamed = rename(&mut editor, 9, 34, "mine");
    let changes = renamed["result"]["changes"].as_object().unwrap();
    let count: usize = changes
        .values()
        .map(|edits| edits.as_array().unwrap().len())
        .sum();
    assert_eq!((changes.len(), count), (2, 3), "{renamed}");
    for (name, says) in [
        ("2nd", "`2nd` is no name"),
        ("target", "`target` is built in"),
        // The part has one of its own, which would win there; so would a name that the target gives itself.
        ("own", "there is a `own` already, at part/hand.loom:1"),
        ("n", "there is a `n` already, at hand.loom:4"),
        ("lamp", "there is a `lamp` already"),
    ] {
        let refused = rename(&mut editor, 0, 5, name);
        let message = refused["error"]["message"].as_str().unwrap();
        assert!(message.contains(says), "{message}");
    }
    // Of a label only the name, and not its colon.
    let renamed = rename(&mut editor, 5, 9, "all");
    let edits = renamed["result"]["changes"][editor.uri("hand.loom")]
        .as_array()
        .unwrap();
    let ranges: Vec<_> = edits
        .iter()
        .map(|edit| {
            let range = &edit["range"];
            let number = |end: &str, key: &str| range[end][key].as_u64().unwrap();
            (
                number("start", "line"),
                number("start", "character"),
                number("end", "character"),
            )
        })
        .collect();
    assert_eq!(ranges, [(5, 8, 12), (6, 30, 34)], "{renamed}");
    // The other way round, it would be taken for the variable that stands there.
    let refused = rename(&mut editor, 3, 12, "lamp");
    let message = refused["error"]["message"].as_str().unwrap();
    assert!(
        message.contains("there is a `lamp` already, at hand.loom:7"),
        "{message}"
    );
    // Nobody else's name is in the way.
    let renamed = rename(&mut editor, 3, 12, "own");
    assert!(renamed["error"].is_null(), "{renamed}");
    let hover = editor.ask_at("hover", "hand.loom", 6, 18);
    let text = hover["contents"]["value"].as_str().unwrap();
    for says in [
        "variable `lamp`, used 2 times",
        "let lamp = red",
        "let lamp += blue",
        "hand.loom:2",
    ] {
        assert!(text.contains(says), "{text}");
    }
    editor.end();
}

/// A mistake in a part is told there, also when only who includes it is open; and what is not saved counts everywhere.
#[test]
fn parts_are_seen_as_they_are_open() {
    let bed = with_parts();
    let mut editor = Editor::begin(&bed);
    editor.open("hand.loom", ROOT);
    // It is told of the files in their order.
    assert_eq!(editor.wrong_in("part/hand.loom"), []);
    assert_eq!(editor.wrong["hand.loom"], []);
    editor.open("part/hand.loom", &PART.replace("let own = 1\n", ""));
    let in_part = editor.wrong_in("part/hand.loom");
    assert!(
        in_part
            .iter()
            .any(|one| one.0 == 1 && one.2.contains("own")),
        "{in_part:?}"
    );
    let wrong = &editor.wrong["hand.loom"];
    assert_eq!(wrong.len(), 1, "{wrong:?}");
    assert!(
        wrong[0].0 == 9 && wrong[0].2.contains("part/own"),
        "{wrong:?}"
    );
    // Closed without a save, it is what is on the disk again.
    let uri = editor.uri("part/hand.loom");
    editor.tell(
        "textDocument/didClose",
        &json!({"textDocument": {"uri": uri}}),
    );
    assert_eq!(editor.wrong_in("part/hand.loom"), []);
    assert_eq!(editor.wrong["hand.loom"], []);
    editor.end();
}

/// As it is recorded; the editors are asked for the same.
#[test]
fn what_may_stand_there_is_offered() {
    let bed = completion_bed();
    let mut editor = Editor::begin(&bed);
    editor.open("hand.loom", ROOT);
    assert_eq!(editor.wrong_in("hand.loom"), []);
    let mut count = 0;
    for (before, rest, offered) in completions() {
        editor.open("hand.loom", &format!("{ROOT}{before}{rest}\n"));
        let before = format!("{ROOT}{before}");
        let line = before.matches('\n').count();
        let column = before.rsplit('\n').next().unwrap().encode_utf16().count();
        assert_eq!(
            editor.offered("hand.loom", line, column).join(", "),
            offered,
            "{before}"
        );
        count += 1;
    }
    assert!(count > 40, "{count}");
    editor.end();
}

/// What is likely meant can be put there: each mistake by itself, and afterwards it is right.
#[test]
fn mistakes_are_mended_by_what_is_likely_meant() {
    for (text, mended) in [
        (
            "let lamp = 1\ntarget out\n  recipe: echo @{raw lmap.first} > out\n",
            "@{raw lamp.first}",
        ),
        ("targte out\n  recipe: true > out\n", "target out"),
        ("target out\n  rceipe: true > out\n", "recipe: true"),
        (
            "target out\n  takes coers=2\n  recipe: true > out\n",
            "takes cores=2",
        ),
        (
            "setting grcae = 5s\ntarget out\n  recipe: true > out\n",
            "setting grace",
        ),
        (
            "# ä𝄞\ntask go\n  recipe: true\ntask all\n  after goo\n",
            "after go\n",
        ),
    ] {
        let bed = Bed::new("");
        let mut editor = Editor::begin(&bed);
        editor.open("hand.loom", text);
        let wrong = editor.wrong_in("hand.loom");
        let (line, column, _) = wrong.first().unwrap_or_else(|| panic!("nothing: {text}"));
        let place = json!({"line": line, "character": column});
        let params = json!({
            "textDocument": {"uri": editor.uri("hand.loom")},
            "range": {"start": place, "end": place},
            "context": {"diagnostics": []},
        });
        let mends = editor.ask("textDocument/codeAction", &params);
        let mends = mends.as_array().unwrap();
        assert_eq!(mends.len(), 1, "{text}: {wrong:?} {mends:?}");
        let edit = &mends[0]["edit"]["changes"][editor.uri("hand.loom")][0];
        let at = |end: &str, key: &str| edit["range"][end][key].as_u64().unwrap() as usize;
        let (from, to) = (
            (at("start", "line"), at("start", "character")),
            (at("end", "line"), at("end", "character")),
        );
        let new = edit["newText"].as_str().unwrap().to_owned();
        editor.edit("hand.loom", from, to, &new);
        assert_eq!(editor.wrong_in("hand.loom"), [], "{text}: {edit}");
        let lines: Vec<&str> = text.split_inclusive('\n').collect();
        let line = lines[from.0];
        let whole = format!("{}{new}{}", &line[..from.1], &line[to.1..]);
        assert!(whole.contains(mended), "{whole}");
        let elsewhere = json!({
            "textDocument": {"uri": editor.uri("hand.loom")},
            "range": {"start": {"line": 0, "character": 0}, "end": {"line": 99, "character": 0}},
            "context": {"diagnostics": []},
        });
        assert_eq!(editor.ask("textDocument/codeAction", &elsewhere), json!([]));
        editor.end();
    }
}

#[test]
fn a_file_is_outlined_folded_and_laid_out() {
    let bed = Bed::new("");
    let mut editor = Editor::begin(&bed);
    let text = "let   lamp =  1\ntask   go   edition\n      recipe:   true\n";
    editor.open("hand.loom", text);
    let file = json!({"textDocument": {"uri": editor.uri("hand.loom")}, "options": {"tabSize": 2, "insertSpaces": true}});
    let symbols = editor.ask("textDocument/documentSymbol", &file);
    let names: Vec<&str> = symbols
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["lamp", "go"]);
    let folds = editor.ask("textDocument/foldingRange", &file);
    assert_eq!(folds[0]["startLine"], 1);
    let edits = editor.ask("textDocument/formatting", &file);
    let laid_out = edits[0]["newText"].as_str().unwrap().to_owned();
    bed.write("hand.loom", text);
    bed.run(&["tidy"]).status(0);
    assert_eq!(laid_out, bed.read("hand.loom"), "as `tidy` has it");
    editor.open("hand.loom", &laid_out);
    assert_eq!(editor.ask("textDocument/formatting", &file), json!([]));
    editor.end();
}

/// Each keyword and each name, with what it stands for, at its place.
#[test]
fn words_are_told_by_what_they_stand_for() {
    let bed = with_parts();
    let mut editor = Editor::begin(&bed);
    let text = format!(
        "{ROOT}# 𝄞\ntarget two/𝄞<n>\n  each n in 1\n  recipe: echo 𝄞 @{{lamp}} > @{{target}}\n"
    );
    editor.open("hand.loom", &text);
    let file = json!({"textDocument": {"uri": editor.uri("hand.loom")}});
    let told = editor.ask("textDocument/semanticTokens/full", &file);
    let numbers: Vec<usize> = told["data"]
        .as_array()
        .unwrap()
        .iter()
        .map(|number| usize::try_from(number.as_u64().unwrap()).unwrap())
        .collect();
    let lines: Vec<Vec<u16>> = text
        .lines()
        .map(|line| line.encode_utf16().collect())
        .collect();
    let (mut line, mut column) = (0, 0);
    let mut words = Vec::new();
    for token in numbers.chunks(5) {
        column = if token[0] == 0 {
            column + token[1]
        } else {
            token[1]
        };
        line += token[0];
        let word = String::from_utf16(&lines[line][column..column + token[2]]).unwrap();
        let kind = ["keyword", "variable", "own", "task"][token[3]];
        let given = if token[4] == 1 { "*" } else { "" };
        words.push(format!("{line} {kind} {word}{given}"));
    }
    assert_eq!(
        words,
        [
            "0 keyword let",
            "0 variable lamp*",
            "1 keyword let",
            "1 variable lamp*",
            "3 keyword target",
            "3 own n*",
            "4 keyword each",
            "4 own n*",
            "5 keyword needs",
            "5 own list*",
            "6 keyword recipe",
            "6 variable lamp",
            "6 own n",
            "6 own list",
            "7 keyword task",
            "7 task check*",
            "7 own edition*",
            "8 keyword after",
            "8 task inner",
            "9 keyword recipe",
            "9 own edition",
            "9 variable own",
            "11 keyword target",
            "11 own n*",
            "12 keyword each",
            "12 own n*",
            "13 keyword recipe",
            "13 variable lamp",
        ]
    );
    editor.end();
}

/// Nothing that an editor says ends it, runs anything, or makes it lose its place.
#[test]
fn whatever_is_said_is_answered() {
    let bed =
        Bed::new("let trap = output touch sprung\ntarget out\n  recipe: echo @{trap} > out\n");
    let mut editor = Editor::begin(&bed);
    let mut text: Vec<u16> = ROOT.encode_utf16().collect();
    editor.open("hand.loom", ROOT);
    let mut seed: usize = 7;
    let mut random = |below: usize| {
        seed = seed
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) % below.max(1)
    };
    let pieces = [
        "\n",
        "  ",
        "@{",
        "}",
        "<n>",
        "target",
        "𝄞",
        "ä",
        "\"",
        ":",
        "needs ",
        "\r\n",
        "include part\n",
        "#",
        "let x = ",
    ];
    let place = |text: &[u16], at: usize| {
        let before = &text[..at];
        let line = before
            .iter()
            .filter(|unit| **unit == u16::from(b'\n'))
            .count();
        let start = before
            .iter()
            .rposition(|unit| *unit == u16::from(b'\n'))
            .map_or(0, |at| at + 1);
        (line, at - start)
    };
    // In front of a character, and not between a line's end and what belongs to it.
    let is_border = |text: &[u16], at: usize| {
        let is_low = text
            .get(at)
            .is_some_and(|unit| (0xDC00..0xE000).contains(unit));
        let is_end =
            at > 0 && text[at - 1] == u16::from(b'\r') || text.get(at) == Some(&u16::from(b'\r'));
        !is_low && !is_end
    };
    for round in 0..1500 {
        let mut from = random(text.len() + 1);
        while !is_border(&text, from) {
            from -= 1;
        }
        let mut to = (from + random(4)).min(text.len());
        while !is_border(&text, to) {
            to += 1;
        }
        let new = pieces[random(pieces.len())];
        editor.edit("hand.loom", place(&text, from), place(&text, to), new);
        text.splice(from..to, new.encode_utf16());
        let methods = ["completion", "hover", "definition", "references"];
        if round % 5 == 0 {
            let (line, column) = place(&text, random(text.len() + 1));
            editor.ask_at(methods[random(4)], "hand.loom", line, column);
        }
    }
    for (method, params) in [
        ("textDocument/hover", json!({"nothing": 1})),
        ("textDocument/rename", json!([])),
        ("no/such", json!({})),
        (
            "textDocument/documentSymbol",
            json!({"textDocument": {"uri": "untitled:1"}}),
        ),
    ] {
        let answer = editor.answer(method, &params);
        assert!(answer["error"]["message"].is_string(), "{answer}");
    }
    editor.tell("textDocument/didChange", &json!({"strange": true}));
    editor.ask_at("completion", "hand.loom", 999_999, 999_999);
    // It has the very text that was typed: a mark at its end is told of in the right line.
    let whole = String::from_utf16(&text).unwrap();
    let lines = whole.matches('\n').count();
    let column = whole.rsplit('\n').next().unwrap().encode_utf16().count();
    editor.edit(
        "hand.loom",
        (lines, column),
        (lines, column),
        "\n\nlet mark = @{mark}\n",
    );
    let found = places(&editor.ask_at("definition", "hand.loom", lines + 2, 14));
    assert_eq!(found, [format!("hand.loom:{}:4", lines + 2)], "{whole}");
    assert!(!bed.exists("sprung"), "nothing is run");
    editor.end();
}
