//! What an editor is told of values, steps and runs, and what it has run.

use serde_json::Value;
use serde_json::json;

use crate::bed::Bed;
use crate::editor::Editor;

const LOOM: &str = "let lamp = red
let all = files src/*.c
let lamps = @{lamp} @{lamp}
let key = secret VELLAN_KEY
target out/<u>.o
  needs each src/<u>.c
  recipe: gcc -Wall -c @{needs} -o @{target}
target out/sum
  needs out/*.o
  recipe: cat @{needs} > @{target}
task check edition
  about: Looks at an edition
  recipe: echo @{edition}
task slow
  recipe: echo > begun; sleep 100
";

fn bed() -> Bed {
    let bed = Bed::new(LOOM);
    bed.write("src/a.c", "int f(int a) { return a; }\n");
    bed.write("src/b.c", "int g(int a) { return a; }\n");
    bed
}

fn file(editor: &Editor<'_>, name: &str) -> Value {
    json!({"textDocument": {"uri": editor.uri(name)}, "range": {
        "start": {"line": 0, "character": 0}, "end": {"line": 99, "character": 0},
    }})
}

fn opened(bed: &Bed) -> Editor<'_> {
    let mut editor = Editor::begin(bed);
    editor.open("hand.loom", LOOM);
    assert_eq!(editor.wrong_in("hand.loom"), []);
    editor
}

fn hover(editor: &mut Editor<'_>, line: usize, column: usize) -> String {
    let said = editor.ask_at("hover", "hand.loom", line, column);
    said["contents"]["value"]
        .as_str()
        .unwrap_or_default()
        .to_owned()
}

#[test]
fn values_steps_and_reasons_are_told_where_they_stand() {
    let bed = bed();
    let mut editor = opened(&bed);
    let said = hover(&mut editor, 2, 14);
    assert!(
        said.contains("variable `lamp`") && said.contains("It is `red`."),
        "{said}"
    );
    let said = hover(&mut editor, 2, 5);
    assert!(said.contains("It has 2 words: `red red`."), "{said}");
    let said = hover(&mut editor, 8, 3);
    assert!(
        said.contains("`needs each PATTERN`") && said.contains(": prerequisites"),
        "{said}"
    );
    assert_eq!(
        hover(&mut editor, 14, 22),
        "",
        "in a recipe nothing is a keyword"
    );
    let said = hover(&mut editor, 1, 18);
    assert!(
        said.contains("`src/*.c` matches 2 files now") && said.contains("src/a.c\nsrc/b.c"),
        "{said}"
    );
    let said = hover(&mut editor, 8, 9);
    assert!(
        said.contains("`out/*.o` matches 2 files now") && said.contains("out/b.o"),
        "{said}"
    );
    let said = hover(&mut editor, 4, 8);
    for says in [
        "target `out/<u>.o`",
        "2 steps: 2 would run",
        "out/a.o would run: never made",
    ] {
        assert!(said.contains(says), "{said}");
    }
    // What it says is what a run does, also when a source was changed behind the editor's back.
    bed.run(&["out/sum"]).status(0);
    assert!(hover(&mut editor, 4, 8).contains("2 steps: 2 kept"));
    bed.write("src/b.c", "int g(int b) { return b; }\n");
    let said = hover(&mut editor, 4, 8);
    for says in ["1 would run, 1 kept", "out/b.o would run: src/b.c differs"] {
        assert!(said.contains(says), "{said}");
    }
    let said = hover(&mut editor, 7, 9);
    assert!(
        said.contains("one step: 1 may run") && said.contains("if out/b.o changes"),
        "{said}"
    );

    let asked = file(&editor, "hand.loom");
    let hints = editor.ask("textDocument/inlayHint", &asked);
    let hints = hints.as_array().unwrap().iter();
    let hints: Vec<String> = hints
        .map(|hint| {
            let place = &hint["position"];
            format!(
                "{}:{} {}",
                place["line"],
                place["character"],
                hint["label"].as_str().unwrap()
            )
        })
        .collect();
    // A secret is not shown, whatever it is.
    assert_eq!(
        hints,
        [
            "1:23 = src/a.c src/b.c (2)",
            "2:27 = red red (2)",
            "4:16 2 steps"
        ]
    );
    editor.end();
}

#[test]
fn what_can_be_done_is_offered_and_picked_from() {
    let bed = bed();
    let own = "../home/.config/handloom/hand.loom";
    bed.write(
        own,
        "task tidy files…\n  about: Everywhere\n  recipe: true\n",
    );
    let mut editor = opened(&bed);
    let asked = file(&editor, "hand.loom");
    let lenses = editor.ask("textDocument/codeLens", &asked);
    let lenses: Vec<String> = lenses
        .as_array()
        .unwrap()
        .iter()
        .map(|lens| {
            let command = &lens["command"];
            let argument = &command["arguments"][0];
            assert_eq!(command["command"], "handloom.start");
            format!(
                "{} {} {} {}",
                lens["range"]["start"]["line"],
                command["title"],
                argument["words"],
                argument["asks"]
            )
        })
        .collect();
    assert_eq!(
        lenses,
        [
            r#"4 "weave" ["weave","out/*.o"] []"#,
            r#"4 "preview" ["preview","out/*.o"] []"#,
            r#"7 "weave" ["weave","out/sum"] []"#,
            r#"7 "why" ["why","out/sum"] []"#,
            r#"10 "run …" ["run","check"] ["edition"]"#,
            r#"13 "run" ["run","slow"] []"#,
        ]
    );
    let params =
        json!({"command": "handloom.goals", "arguments": [{"file": bed.path("hand.loom")}]});
    let goals = editor.ask("workspace/executeCommand", &params);
    let goals: Vec<String> = goals
        .as_array()
        .unwrap()
        .iter()
        .map(|goal| {
            format!(
                "{} {} {} {}",
                goal["kind"].as_str().unwrap(),
                goal["name"].as_str().unwrap(),
                goal["words"],
                goal["parameters"]
            )
        })
        .collect();
    assert_eq!(
        goals,
        [
            r#"task check ["run","check"] [{"name":"edition","required":true}]"#,
            r#"task slow ["run","slow"] null"#,
            r#"own task tidy ["run","tidy"] [{"name":"files","required":false}]"#,
            r#"target out/<u>.o ["out/*.o"] null"#,
            r#"target out/sum ["out/sum"] null"#,
        ]
    );
    let found = editor.ask("workspace/symbol", &json!({"query": "LAMP"}));
    let names: Vec<&str> = found
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["lamp", "lamps"]);
    editor.end();
}

fn start(editor: &mut Editor<'_>, words: &[&str]) -> Value {
    let folder = editor.bed.root();
    let params =
        json!({"command": "handloom.start", "arguments": [{"folder": folder, "words": words}]});
    editor.ask("workspace/executeCommand", &params)
}

/// Values of `$/progress`, to the end of a run.
fn progress(editor: &mut Editor<'_>) -> Vec<String> {
    let mut all = Vec::new();
    loop {
        let value = editor.told("$/progress")["value"].clone();
        all.push(format!(
            "{} {}",
            value["kind"].as_str().unwrap(),
            value["message"]
                .as_str()
                .or(value["title"].as_str())
                .unwrap_or_default()
        ));
        if value["kind"] == "end" {
            return all;
        }
    }
}

#[test]
fn a_run_is_told_of_and_stopped() {
    let bed = bed();
    let mut editor = opened(&bed);
    assert_eq!(start(&mut editor, &["weave", "out/sum"]), "handloom-1");
    let told = progress(&mut editor);
    assert_eq!(told[0], "begin handloom weave out/sum");
    assert!(
        told.contains(&"report 2 of 3: out/sum".to_owned()),
        "{told:?}"
    );
    assert!(
        told.last().unwrap().starts_with("end 3 made in "),
        "{told:?}"
    );
    let message = editor.told("window/showMessage");
    assert_eq!(message["type"], 3, "{message}");
    assert!(bed.exists("out/sum"));
    // An answer is shown.
    start(&mut editor, &["why", "out/sum"]);
    let said = editor.told("window/showMessage")["message"].to_string();
    assert!(said.contains("out/sum would be kept"), "{said}");
    // Words that are none are an answer, too; and one that needs a value asks for it.
    start(&mut editor, &["weave", "out/smu"]);
    let said = editor.told("window/showMessage");
    assert!(
        said["type"] == 1
            && said["message"]
                .to_string()
                .contains("did you mean `out/sum`"),
        "{said}"
    );
    let params = json!({"command": "handloom.start", "arguments": [{"folder": bed.root(), "words": ["run", "check"], "asks": ["edition"]}]});
    let refused = editor.answer("workspace/executeCommand", &params);
    assert!(
        refused["error"]["message"]
            .to_string()
            .contains("needs a value for edition"),
        "{refused}"
    );
    editor.told.clear();
    // Stopped by the editor's own word for it.
    let token = start(&mut editor, &["run", "slow"]);
    bed.await_file("begun");
    editor.tell("window/workDoneProgress/cancel", &json!({"token": token}));
    let told = progress(&mut editor);
    assert!(
        told.last().unwrap().starts_with("end 1 stopped in "),
        "{told:?}"
    );
    editor.end();
}

/// What an editor leaves running when it goes is ended.
#[test]
fn a_run_ends_with_its_editor() {
    let bed = bed();
    let mut editor = opened(&bed);
    start(&mut editor, &["run", "slow"]);
    bed.await_file("begun");
    editor.end();
    let ended = std::time::Instant::now();
    while !bed.run(&["run", "check", "1"]).err.is_empty() {
        assert!(ended.elapsed().as_secs() < 20, "it still runs");
    }
}

#[test]
fn failures_and_findings_are_told_in_the_sources_until_they_are_mended() {
    let bed = bed();
    let mut editor = opened(&bed);
    bed.write("src/a.c", "int f(int a) { int b; return a; }\n");
    bed.write("src/b.c", "int g(int a)\n{\n  return  ä + c;\n}\n");
    bed.run(&["--on-failure", "continue", "out/sum"]).status(1);
    let failed = (4, 7, "`out/b.o` failed in run 1: exit status 1".to_owned());
    assert_eq!(editor.wrong_in("hand.loom"), [failed]);
    while !editor.wrong.contains_key("src/b.c") {
        editor.hear();
    }
    let found = editor.wrong["src/b.c"].iter();
    let found: Vec<(u64, u64, &str)> = found
        .map(|one| (one.0, one.1, one.2.split(" (").next().unwrap()))
        .collect();
    assert_eq!(
        found,
        [
            (2, 10, "‘ä’ undeclared"),
            (2, 14, "‘c’ undeclared"),
            (3, 0, "control reaches end of non-void function"),
        ]
    );
    assert_eq!(
        editor.wrong["src/a.c"],
        [(0, 19, "unused variable ‘b’".to_owned())]
    );
    // A run of something else takes nothing back.
    bed.run(&["run", "check", "1"]).status(0);
    assert_eq!(editor.wrong_in("hand.loom").len(), 1);
    // The failure stays at its target while that is edited.
    editor.edit("hand.loom", (0, 0), (0, 0), "# above\n");
    assert_eq!(editor.wrong_in("hand.loom")[0].0, 5);
    // Mended, it is gone; the warning of the step that did not run again stays.
    bed.write("src/b.c", "int g(int a) { return a; }\n");
    bed.run(&["out/sum"]).status(0);
    assert_eq!(editor.wrong_in("hand.loom"), []);
    while !editor.wrong.contains_key("src/b.c") {
        editor.hear();
    }
    assert_eq!(editor.wrong["src/b.c"], []);
    // Put right by hand, without anything to run.
    let right = bed.read("src/b.c");
    bed.write("src/b.c", "int g(\n");
    bed.run(&["out/b.o"]).status(1);
    assert_eq!(editor.wrong_in("hand.loom").len(), 1);
    bed.write("src/b.c", &right);
    let uri = editor.uri("hand.loom");
    editor.tell(
        "textDocument/didSave",
        &json!({"textDocument": {"uri": uri}}),
    );
    assert_eq!(editor.wrong_in("hand.loom"), []);
    bed.write("src/a.c", "int f(int a) { return a; }\n");
    bed.run(&["out/sum"]).status(0);
    while editor
        .wrong
        .get("src/a.c")
        .is_none_or(|found| !found.is_empty())
    {
        editor.hear();
    }
    editor.end();
}

/// Also in parts, of targets with labels and of tasks with values, wherever they stand by then.
#[test]
fn a_failure_follows_what_describes_it() {
    let bed = Bed::new("include part\n");
    let part = "target one: a  other: b\n  recipe: exit 3\ntask check edition\n  recipe: exit 4\n";
    bed.write("part/hand.loom", part);
    bed.run(&["--on-failure", "continue", "part/a"]).status(1);
    bed.run(&["run", "part/check", "1"]).status(1);
    let mut editor = Editor::begin(&bed);
    editor.open("part/hand.loom", &format!("# above\n{part}"));
    let wrong = editor.wrong_in("part/hand.loom");
    let mut places: Vec<(u64, u64)> = wrong.iter().map(|one| (one.0, one.1)).collect();
    places.sort_unstable();
    assert_eq!(places, [(1, 12), (3, 5)], "{wrong:?}");
    editor.end();
}

/// Whatever somebody wrote into the project's own files.
#[test]
fn odd_records_are_no_harm() {
    let bed = Bed::new("target out\n  recipe: true > @{target}\n");
    bed.write("a.c", "x");
    bed.write(".handloom/runs/1.jsonl", "{\"line\":\"run\"");
    bed.write(
        ".handloom/findings",
        "{\"step\":\"out\",\"run\":1,\"found\":[{\"level\":\"error\",\"file\":\"a.c\",\"line\":0,\"column\":0,\"message\":\"odd\",\"since\":1},{\"level\":\"error\",\"file\":\"../../etc\",\"line\":4000000000,\"column\":4000000000,\"message\":\"far\",\"since\":1}]}\n",
    );
    let mut editor = Editor::begin(&bed);
    editor.open("hand.loom", "target out\n  recipe: true > @{target}\n");
    assert_eq!(editor.wrong_in("hand.loom"), []);
    while !editor.wrong.contains_key("a.c") {
        editor.hear();
    }
    assert_eq!(editor.wrong["a.c"], [(0, 0, "odd".to_owned())]);
    assert_eq!(editor.wrong.len(), 2, "{:?}", editor.wrong);
    editor.end();
    bed.run(&["findings"]).status(0).says(&["odd"]);
}

/// A source that is not there is told as a run would tell it.
#[test]
fn a_missing_source_is_told() {
    let bed = Bed::new("");
    let mut editor = Editor::begin(&bed);
    editor.open(
        "hand.loom",
        "target out\n  needs lamp.c\n  recipe: true > @{target}\n",
    );
    let wrong = editor.wrong_in("hand.loom");
    assert_eq!(wrong.len(), 1, "{wrong:?}");
    assert!(
        wrong[0]
            .2
            .contains("`lamp.c` is needed, but it is not there"),
        "{wrong:?}"
    );
    editor.end();
}

/// However often an editor asks, what is wrong is told.
#[test]
fn questions_put_no_check_off() {
    let bed = bed();
    let mut editor = Editor::begin(&bed);
    editor.open("hand.loom", "targte out\n");
    let asked = std::time::Instant::now();
    while !editor.wrong.contains_key("hand.loom") {
        editor.ask_at("definition", "hand.loom", 0, 2);
        assert!(asked.elapsed().as_secs() < 20, "nothing is told");
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    assert_eq!(editor.wrong["hand.loom"].len(), 1);
    editor.end();
}

/// What takes longer can be given up.
#[test]
fn a_question_is_taken_back() {
    let bed = bed();
    let mut editor = opened(&bed);
    let uri = editor.uri("hand.loom");
    let place = json!({"line": 4, "character": 8});
    let params = json!({"textDocument": {"uri": uri}, "position": place});
    editor.say(
        &json!({"jsonrpc": "2.0", "id": "late", "method": "textDocument/hover", "params": params}),
    );
    editor.tell("$/cancelRequest", &json!({"id": "late"}));
    loop {
        let message = editor.hear();
        if message["id"] == "late" {
            // It may have been answered already.
            let is_cancelled = message["error"]["code"] == -32800;
            assert!(is_cancelled || message["result"].is_object(), "{message}");
            break;
        }
    }
    assert!(hover(&mut editor, 4, 8).contains("2 steps"));
    editor.end();
}
