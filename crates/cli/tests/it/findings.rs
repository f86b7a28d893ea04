//! What compilers and interpreters said, kept with the step that said it: of real ones, through runs, from the store.

use std::process::Command;

use serde_json::Value;

use crate::bed::Bed;
use crate::screen::Terminal;

const LOOM: &str = "target out/<u>.o
  needs each src/<u>.c
  recipe: gcc -Wall -c @{needs} -o @{target}
task scripts
  recipe: sh check.sh; python3 check.py
";

fn bed() -> Bed {
    let bed = Bed::new(LOOM);
    bed.write("src/a.c", "int f(int a) { int b; return a; }\n");
    bed.write("src/b.c", "int g(int a)\n{\n  return c;\n}\n");
    bed.write("check.sh", "echo begins\nlamp --on || true\n");
    bed.write(
        "check.py",
        "def check():\n    raise ValueError('dark')\ncheck()\n",
    );
    bed
}

/// `FILE:LINE LEVEL STEP SINCE NEW` of each.
fn found(bed: &Bed, words: &[&str]) -> Vec<String> {
    let mut arguments = vec!["findings", "--format", "json"];
    arguments.extend(words);
    let run = bed.run(&arguments).status(0);
    let all: Value = serde_json::from_str(&run.out).unwrap();
    let all = all.as_array().unwrap().iter();
    let all = all.filter(|one| one["level"] != "note").map(|one| {
        let text = |key: &str| one[key].as_str().unwrap_or_default().to_owned();
        format!(
            "{}:{} {} {} {} {}",
            text("file"),
            one["line"],
            text("level"),
            text("step"),
            one["since"],
            one["new"]
        )
    });
    all.collect()
}

#[test]
fn what_was_said_stands_until_the_step_says_it_no_more() {
    let bed = bed();
    bed.run(&["findings"]).status(0).says(&["nothing was said"]);
    // What is mistyped is not taken for what nothing was said of.
    bed.run(&["findings", "src/b.x"])
        .status(2)
        .says(&["`src/b.x` is not there, and nothing was said of it"]);
    bed.run(&["--on-failure", "continue", "out/a.o", "out/b.o", "scripts"])
        .status(1);
    assert_eq!(
        found(&bed, &[]),
        [
            "check.py:2 error scripts 1 true",
            "check.sh:2 error scripts 1 true",
            "src/a.c:1 warning out/a.o 1 true",
            "src/b.c:3 error out/b.o 1 true",
            "src/b.c:4 warning out/b.o 1 true",
        ]
    );
    let run = bed.run(&["findings", "src"]).status(0);
    run.says(&[
        "src/a.c\n  1:20     warning unused variable ‘b’  [-Wunused-variable]  out/a.o  new\n",
        "1 error, 2 warnings",
        "in 2 files",
    ]);
    // One is mended, and one comes; what did not run again stays, and is not new.
    bed.write("src/b.c", "int g(int a) { int c; return a; }\n");
    bed.run(&["out/b.o", "out/a.o"]).status(0);
    assert_eq!(
        found(&bed, &["src"]),
        [
            "src/a.c:1 warning out/a.o 1 false",
            "src/b.c:1 warning out/b.o 2 true"
        ]
    );
    assert_eq!(
        found(&bed, &["--new"]),
        ["src/b.c:1 warning out/b.o 2 true"]
    );
    // Said again on another line, it is the same.
    bed.write("src/b.c", "\n\nint g(int a) { int c; return a; }\n");
    bed.run(&["out/b.o"]).status(0);
    assert_eq!(
        found(&bed, &["src/b.c"]),
        ["src/b.c:3 warning out/b.o 2 false"]
    );
    // Records of runs go; what stands does not go with them.
    std::fs::remove_dir_all(bed.path(".handloom/runs")).unwrap();
    std::fs::remove_dir_all(bed.path(".handloom/logs")).unwrap();
    assert_eq!(found(&bed, &["src"]).len(), 2);
    // Of what is not described any more nothing is told.
    bed.write(
        "hand.loom",
        "target out/a.o\n  needs src/a.c\n  recipe: gcc -c @{needs} -o @{target}\n",
    );
    assert_eq!(found(&bed, &[]), ["src/a.c:1 warning out/a.o 1 false"]);
    bed.run(&["out/a.o"]).status(0);
    bed.run(&["findings"]).status(0).says(&["nothing was said"]);
}

/// What was said when a step failed is over once its source is put right, though nothing has to run; what was said when it went
/// well stands again.
#[test]
fn a_source_may_be_put_right_without_a_run() {
    let bed = bed();
    bed.run(&["out/a.o"]).status(0);
    let right = bed.read("src/a.c");
    bed.write("src/a.c", &format!("{right}int x(\n"));
    bed.run(&["out/a.o"]).status(1);
    assert_eq!(
        found(&bed, &[]),
        [
            "src/a.c:1 warning out/a.o 1 false",
            "src/a.c:2 error out/a.o 2 true"
        ]
    );
    bed.write("src/a.c", &right);
    bed.run(&["out/a.o"]).status(0).says(&["kept"]);
    assert_eq!(found(&bed, &[]), ["src/a.c:1 warning out/a.o 1 false"]);
    // One that fails without a word is not what it was.
    bed.write("hand.loom", &LOOM.replace("gcc -Wall", "false; gcc -Wall"));
    bed.run(&["out/a.o"]).status(1);
    assert_eq!(found(&bed, &[]), [""; 0]);
    bed.write("hand.loom", LOOM);
    assert_eq!(found(&bed, &[]), ["src/a.c:1 warning out/a.o 1 false"]);
}

/// On a terminal compilers speak in colours.
#[test]
fn what_was_said_in_colours_is_read() {
    let bed = bed();
    let loom = LOOM.replace("gcc -Wall", "gcc -fdiagnostics-color=always -Wall");
    bed.write("hand.loom", &loom);
    let (status, shown) = Terminal::start(&bed, &["out/a.o"]).end();
    assert_eq!(status, Some(0), "{shown}");
    assert_eq!(found(&bed, &[]), ["src/a.c:1 warning out/a.o 1 true"]);
}

/// A result from the store has with it what was said when it was made.
#[test]
fn what_was_said_is_restored() {
    let bed = bed().with_store();
    bed.write(
        "hand.loom",
        &LOOM.replace("  recipe: gcc", "  store always\n  recipe: gcc"),
    );
    bed.run(&["out/a.o"]).status(0);
    let old = bed.read("src/a.c");
    bed.write("src/a.c", "int f(int a) { return a; }\n");
    bed.run(&["out/a.o"]).status(0);
    assert_eq!(found(&bed, &[]), [""; 0]);
    bed.write("src/a.c", &old);
    bed.run(&["out/a.o"]).status(0).says(&["restored"]);
    assert_eq!(found(&bed, &[]), ["src/a.c:1 warning out/a.o 3 true"]);
}

#[test]
fn a_file_for_build_servers() {
    let bed = bed();
    bed.write("src/a b.c", "int h(int a) { int b; return a; }\n");
    bed.run(&["out/a b.o"]).status(0);
    bed.run(&["findings", "--to", "found.txt"])
        .status(2)
        .says(&["`found.txt` is no form", ".sarif or .json"]);
    bed.run(&["findings", "--to", "found.sarif"]).status(0);
    let log: Value = serde_json::from_str(&bed.read("found.sarif")).unwrap();
    assert_eq!(log["version"], "2.1.0");
    let run = &log["runs"][0];
    let result = &run["results"][0];
    assert_eq!(
        (&result["level"], &result["ruleId"]),
        (&"warning".into(), &"-Wunused-variable".into())
    );
    let place = &result["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "src/a%20b.c");
    assert_eq!(
        (
            &place["region"]["startLine"],
            &place["region"]["startColumn"]
        ),
        (&1.into(), &20.into())
    );
    let base = run["originalUriBaseIds"]["PROJECT"]["uri"]
        .as_str()
        .unwrap();
    assert!(
        base.starts_with("file:///") && base.ends_with("/project/"),
        "{base}"
    );
    // The standard's own checker, whose status is 0 whatever it finds: its output is what tells.
    bed.run(&["scripts"]).status(1);
    bed.run(&["findings", "--to", "all.sarif"]).status(0);
    if let Some(checker) = std::env::var_os("HANDLOOM_SARIF") {
        let checked = Command::new(checker)
            .env("DOTNET_SYSTEM_GLOBALIZATION_INVARIANT", "1")
            .arg("validate")
            .arg(bed.path("all.sarif"))
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&checked.stdout);
        let is_done = said.contains("Analysis completed successfully");
        assert!(is_done && !said.contains(": error SARIF"), "{said}");
    }
    bed.run(&["findings", "--to", "found.json"]).status(0);
    let list: Value = serde_json::from_str(&bed.read("found.json")).unwrap();
    let codes: Vec<&Value> = list
        .as_array()
        .unwrap()
        .iter()
        .map(|one| &one["code"])
        .collect();
    assert_eq!(
        codes,
        [&Value::Null, &Value::Null, &"-Wunused-variable".into()]
    );
}

/// The file that they are kept in does not grow with every run.
#[test]
fn what_does_not_count_any_more_is_put_away() {
    let bed = Bed::new("task lamp\n  recipe: cat said\n");
    bed.write("lamp.c", "");
    for round in 0..3 {
        let lines: Vec<String> = (0..40)
            .map(|line| format!("lamp.c:{}: warning: {round}", line + 1))
            .collect();
        bed.write("said", &(lines.join("\n") + "\n"));
        bed.run(&["lamp"]).status(0);
        let file = bed.path(".handloom/findings");
        // As if many runs had been.
        let text = std::fs::read_to_string(&file).unwrap();
        std::fs::write(&file, text.repeat(if round == 1 { 1200 } else { 1 })).unwrap();
    }
    assert_eq!(bed.read(".handloom/findings").lines().count(), 1);
    assert_eq!(found(&bed, &[]).len(), 40);
    // A line that was cut off by a kill takes no other one with it.
    std::fs::write(bed.path(".handloom/findings"), "{\"step\":\"lamp\",\"run\"").unwrap();
    bed.run(&["lamp"]).status(0);
    assert_eq!(found(&bed, &[]).len(), 40);
    // What somebody wrote into it is no harm.
    std::fs::write(
        bed.path(".handloom/findings"),
        "\0\nno line\n{\"step\":3}\n",
    )
    .unwrap();
    bed.run(&["findings"]).status(0).says(&["nothing was said"]);
}

/// A tool of the machine: its command, the file that it speaks of, and what is found in what it says of it.
type SpeakingTool = (
    &'static str,
    &'static str,
    &'static str,
    &'static [&'static str],
);

/// Real tools on sources with mistakes; CI has all of them.
const TOOLS: [SpeakingTool; 10] = [
    (
        "clang -Wstrict-prototypes -c lamp.c -o lamp.o",
        "lamp.c",
        "int f() {\n  int b;\n  return c;\n}\n",
        &["3 error", "1 warning -Wstrict-prototypes"],
    ),
    (
        "gcc -Wall -Wno-return-type -c lamp.c -o lamp.o",
        "lamp.c",
        "int f(int a) {\n  int b;\n  return c;\n}\n",
        &["3 error", "2 warning -Wunused-variable"],
    ),
    (
        "gcc -fdiagnostics-format=json -Wall -Wno-return-type -c lamp.c -o lamp.o",
        "lamp.c",
        "int f(int a) {\n  int b;\n  return c;\n}\n",
        &["3 error", "2 warning -Wunused-variable"],
    ),
    (
        "rustc --crate-type lib lamp.rs",
        "lamp.rs",
        "pub fn f() -> i32 {\n    let unused = 1;\n    \"a\"\n}\n",
        &["3 error E0308"],
    ),
    (
        "rustc --error-format=json --crate-type lib lamp.rs",
        "lamp.rs",
        "pub fn f() -> i32 {\n    let unused = 1;\n    2\n}\n",
        &["2 warning unused_variables"],
    ),
    (
        "javac -Xlint:all -d . Lamp.java",
        "Lamp.java",
        "class Lamp {\n  int f() { return \"a\"; }\n}\n",
        &["2 error"],
    ),
    (
        "python3 lamp.py",
        "lamp.py",
        "def light():\n    return 1 / 0\nlight()\n",
        &["2 error"],
    ),
    (
        "sh lamp.sh",
        "lamp.sh",
        "echo lit\nlamp --on\n",
        &["2 error"],
    ),
    (
        "shellcheck -f gcc lamp.sh",
        "lamp.sh",
        "#!/bin/sh\nx=1\necho $y\n",
        &["2 warning SC2034", "3 warning SC2154", "3 note SC2086"],
    ),
    (
        "pyflakes3 lamp.py",
        "lamp.py",
        "import os\nprint(lamp)\n",
        &["1 warning", "2 error"],
    ),
];

#[test]
#[expect(clippy::print_stderr, reason = "a test that lacks something says so")]
fn what_real_compilers_interpreters_and_linters_say_is_found() {
    for (command, file, text, expected) in TOOLS {
        let tool = command.split(' ').next().unwrap();
        let is_there = Command::new("sh")
            .args(["-c", &format!("command -v {tool}")])
            .output();
        if !is_there.unwrap().status.success() {
            let required = std::env::var_os("HANDLOOM_LINTERS").is_some();
            assert!(!required, "no {tool}");
            eprintln!("no {tool}: what it says is not tried");
            continue;
        }
        let bed = Bed::new(&format!("task try\n  recipe: {command} || true\n"));
        bed.write(file, text);
        let _ = bed.run(&["try"]).status(0);
        let run = bed.run(&["findings", "--format", "json"]).status(0);
        let all: Value = serde_json::from_str(&run.out).unwrap();
        let said: Vec<String> = all
            .as_array()
            .unwrap()
            .iter()
            .map(|one| {
                assert_eq!(one["file"], file, "{command}");
                let code = one["code"]
                    .as_str()
                    .map_or(String::new(), |code| format!(" {code}"));
                format!("{} {}{code}", one["line"], one["level"].as_str().unwrap())
            })
            .collect();
        for wanted in expected {
            let found = said.iter().any(|one| one == wanted);
            assert!(
                found,
                "{command}: {wanted} is not among {said:?}\n{}",
                bed.run(&["log", "try"]).out
            );
        }
        // What explains another one comes with it; nothing else is made up.
        let others = said.iter().filter(|one| !expected.contains(&one.as_str()));
        let others: Vec<&String> = others.filter(|one| !one.contains("note")).collect();
        assert_eq!(others, [""; 0], "{command}");
    }
}

#[test]
fn patterns_of_ones_own_read_what_no_other_tool_says() {
    let bed = Bed::new(
        "setting finding-patterns = '^(?<level>\\w+) in (?<file>\\S+) at line (?<line>\\d+), column (?<column>\\d+): (?<message>.+) <(?<code>\\w+)>$'\ntask try\n  recipe: cat said\n",
    );
    bed.write("lamp.txt", "");
    bed.write(
        "said",
        "begins\nWarning in lamp.txt at line 3, column 7: too dim <L12>\nFault in lamp.txt at line 4, column 1: dark <L1>\nFault in none.txt at line 4, column 1: dark <L1>\n",
    );
    let _ = bed.run(&["try"]).status(0);
    assert_eq!(
        found(&bed, &[]),
        [
            "lamp.txt:3 warning try 1 true",
            "lamp.txt:4 error try 1 true"
        ]
    );
    bed.run(&["findings"])
        .status(0)
        .says(&["3:7      warning too dim  [L12]"]);
    bed.run(&["report"])
        .status(0)
        .says(&["lamp.txt:4:1: error: dark [L1]"]);
    for (pattern, says) in [
        (
            "(?<file>.+) (?<message>.+)",
            "no `(?<file>.+) (?<message>.+)`",
        ),
        ("(?<file>", "regular expressions with groups"),
    ] {
        bed.write(
            "hand.loom",
            &format!("setting finding-patterns = '{pattern}'\ntask try\n  recipe: cat said\n"),
        );
        let run = bed.run(&["try"]).status(2);
        assert!(
            run.err.contains("finding-patterns") || run.err.contains(says),
            "{}",
            run.err
        );
        run.says(&["regular expressions with groups for the file, the line and the message"]);
    }
}

#[test]
fn the_first_error_of_a_long_output_stands_in_front() {
    let bed =
        Bed::new("target a.o\n  needs a.c talk\n  recipe: cat talk; cc -c a.c -o @{target}\n");
    bed.write("a.c", "int f(void) { return b; }\n");
    bed.write("talk", "");
    // Near the beginning it is seen at once.
    let run = bed.run(&[]).status(1);
    assert_eq!(run.out.matches("error: ").count(), 1, "{}", run.out);
    bed.write("talk", &"words and words\n".repeat(40));
    let run = bed.run(&[]).status(1);
    let lines: Vec<&str> = run.out.lines().collect();
    let at = lines
        .iter()
        .position(|line| line.contains("exit status 1"))
        .unwrap();
    assert!(
        lines[at + 1].trim_start().starts_with("a.c:1:22: error: "),
        "{}",
        run.out
    );
}

#[test]
fn how_sources_are_compiled_is_kept_up_to_date() {
    let bed = Bed::new(
        "setting compile-commands = build/compile_commands.json\nlet flags = -O1\ntarget out/<u>.o\n  needs each src/<u>.c\n  recipe: cc @{flags} -c @{needs} -o @{target}\n",
    );
    bed.write("src/a.c", "int a;\n");
    let words = |bed: &Bed| -> Vec<String> {
        let all: Value = serde_json::from_str(&bed.read("build/compile_commands.json")).unwrap();
        let all = all.as_array().unwrap().iter();
        all.map(|one| {
            format!(
                "{} {}",
                one["file"].as_str().unwrap(),
                one["arguments"][1].as_str().unwrap()
            )
        })
        .collect()
    };
    let _ = bed.run(&[]).status(0);
    assert_eq!(words(&bed), ["src/a.c -O1"]);
    bed.write("src/b.c", "int b;\n");
    let _ = bed.run(&["--let", "flags=-O2"]).status(0);
    assert_eq!(words(&bed), ["src/a.c -O2", "src/b.c -O2"]);
    bed.write(
        "hand.loom",
        "setting compile-commands = ../out.json\ntarget a\n  recipe: touch a\n",
    );
    bed.run(&[])
        .status(2)
        .says(&["a file of the project, such as `compile_commands.json`"]);
}
