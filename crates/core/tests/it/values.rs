//! What variables, words and conditions come to, and what names on a command line stand for.

use std::cell::RefCell;
use std::collections::BTreeMap;

use handloom_core::graph;
use handloom_core::ledger::Ledger;
use handloom_core::project::Description;
use handloom_core::project::PartId;
use handloom_core::project::environment::OutputError;
use handloom_core::project::environment::Overrides;
use handloom_core::project::folders::Folders;
use handloom_core::project::overrides::SetOutside;
use handloom_core::project::values::Lookup;
use handloom_core::project::values::Vars;
use handloom_core::status::RecordingEnvironment;

use crate::looking::lines;
use crate::looking::look;
use crate::made_up::Machine;

fn machine(loom: &str) -> Machine {
    let mut files: BTreeMap<String, Vec<u8>> = [
        "src/a.c",
        "src/b.c",
        "src/deep/c.c",
        "src/.hidden.c",
        "doc/x y.md",
    ]
    .iter()
    .map(|path| ((*path).to_owned(), Vec::new()))
    .collect();
    files.insert("hand.loom".to_owned(), loom.as_bytes().to_vec());
    Machine::with(&files)
}

/// The words of the variable `v`, or what is wrong.
fn value_of_v(loom: &str, set: &[(&str, &str)]) -> Result<Vec<String>, String> {
    let machine = machine(loom);
    let (ledger, _) = Ledger::open(machine.storage(), false).unwrap();
    let ledger = RefCell::new(ledger);
    let env = |name: &str| (name == "SHADE").then(|| "deep red".to_owned());
    let ask = |command: &[String], folder: &str| match command.first().map(String::as_str) {
        Some("say") => Ok(format!("{} in<{folder}>\n", command[1..].join("+"))),
        _ => Err(OutputError::NotFound),
    };
    let environment = RecordingEnvironment::new(
        &machine,
        &machine,
        &ledger,
        &env,
        Some(&ask),
        "/project".to_owned(),
    )
    .with_key(Some([7; 32]));
    let (mut description, wrong) = Description::read(&machine);
    assert_eq!(wrong, [], "{loom}");
    let overrides = Overrides {
        command_line: set
            .iter()
            .map(|(name, text)| ((*name).to_owned(), (*text).to_owned()))
            .collect(),
        ..Overrides::default()
    };
    let (outside, wrong) = SetOutside::read(&mut description, &overrides, &environment);
    assert_eq!(wrong, [], "{loom}");
    let folders = Folders::new(&machine);
    let vars = Vars::new(&description, &outside, &environment, &folders);
    let value = vars.lookup(PartId::ROOT, "v");
    let wrong = lines(&description.sources, &vars.take_diagnostics());
    match value {
        Lookup::Found(value) if wrong.is_empty() => Ok(value.texts().map(str::to_owned).collect()),
        Lookup::Missing => panic!("no variable v"),
        _ => Err(wrong),
    }
}

#[test]
fn what_a_let_comes_to() {
    for (loom, expected) in [
        ("let v = a  b", &["a", "b"][..]),
        ("let v = \"a b\" 'c d' e", &["a b", "c d", "e"]),
        ("let v = \"x\\ty\\\"\\\\\\@{z}\"", &["x\ty\"\\@{z}"]),
        ("let v = a@@{b}", &["a@{b}"]),
        ("let v = a'b c'd\"e f\"", &["ab cde f"]),
        ("let v =", &[]),
        ("let v = \"\"", &[""]),
        ("let v = a\n  b\n    c # d\n  e", &["a", "b", "c", "e"]),
        ("let l = x y\nlet v = @{l} z", &["x", "y", "z"]),
        ("let l = x y\nlet v = -I@{l}/inc", &["-Ix/inc", "-Iy/inc"]),
        ("let l = x y\nlet v = \"<@{l}>\"", &["<x>", "<y>"]),
        ("let l =\nlet v = -I@{l} end", &["end"]),
        ("let a = 1\nlet l = x y\nlet v = @{a}@{l}", &["1x", "1y"]),
        ("let v = @{w}\nlet w = later", &["later"]),
        ("let v one of p q r", &["p"]),
        ("let v = a\nlet v += b\nlet v += c", &["a", "b", "c"]),
        ("let v = a\nlet v = b when @{os} is nowhere", &["a"]),
        (
            "let v = a\nlet v = b when @{os} is not nowhere\nlet v += c",
            &["b", "c"],
        ),
        ("let v = files src/*.c", &["src/a.c", "src/b.c"]),
        (
            "let v = files src/**/*.c except src/a.*",
            &["src/b.c", "src/deep/c.c"],
        ),
        (
            "let v = files doc/* src/.h*",
            &["doc/x y.md", "src/.hidden.c"],
        ),
        ("let v = env SHADE or none", &["deep", "red"]),
        ("let v = env NOT_SET or a b", &["a", "b"]),
        ("let v = output say a b", &["a+b", "in<>"]),
        (
            "let some = only src/*.c d* : src/a.c other src/b.c dot\nlet v = match {src/,}<u>{.c,} into out/<u>.o : @{some}",
            &["out/a.o", "out/b.o", "out/dot.o"],
        ),
        ("let v = match <a>-<b> into <b>/<a>/<b> : x-y", &["y/x/y"]),
        (
            "let p = a.tar.gz dir/b c/\nlet v = @{p.stem} @{p.ext.first} @{p.dir.joined(\":\")}",
            &["a.tar", "b", "c", "gz", ".:dir:."],
        ),
        (
            "let p = a b c\nlet v = @{p.count} @{p.2} @{p.rest} @{p.name.first}",
            &["3", "b", "b", "c", "a"],
        ),
        ("let v = @{root}/x", &["/project/x"]),
    ] {
        let found = value_of_v(&format!("{loom}\n"), &[]);
        let expected: Vec<String> = expected.iter().map(|word| (*word).to_owned()).collect();
        assert_eq!(found, Ok(expected), "{loom}");
    }
}

#[test]
fn conditions() {
    for (condition, holds) in [
        ("a is a", true),
        ("a is b", false),
        ("a is not b", true),
        ("@{l} has y", true),
        ("@{l} has y x", true),
        ("@{l} has z", false),
        ("@{l} is x y", true),
        ("@{l} is y x", false),
        ("not a is b", true),
        ("not not a is a", true),
        ("a is b or a is a", true),
        ("a is a and a is b", false),
        ("a is a or a is a and a is b", true),
        ("not a is a or a is a", true),
        ("@{e.count} is 0", true),
        ("\"is\" is is", true),
        ("a is above", false),
        ("a before b", true),
        ("b before a", false),
        ("@{l} before y", true),
        ("10 before 9", true),
        ("10 above 9", true),
        ("-1.5 below 0", true),
        ("1e3 above 999 and not 2 below 2", true),
        ("\"above\" is above", true),
        ("@{os} is not \"\"", true),
    ] {
        let loom = format!("let l = x y\nlet e =\nlet v = no\nlet v = yes when {condition}\n");
        let expected = if holds { "yes" } else { "no" };
        let found = value_of_v(&loom, &[]);
        assert_eq!(found, Ok(vec![expected.to_owned()]), "{condition}");
    }
}

#[test]
fn values_from_outside_are_words_and_may_put_variables_in() {
    let loom = "let l = x y\nlet v = z\n";
    assert_eq!(
        value_of_v(loom, &[("v", "a 'b c' @{l}")]),
        Ok(["a", "b c", "x", "y"].map(str::to_owned).to_vec())
    );
    assert_eq!(value_of_v(loom, &[("v", "")]), Ok(Vec::new()));
    assert_eq!(
        value_of_v(loom, &[("v", "1"), ("v", "2")]),
        Ok(vec!["2".to_owned()])
    );
    let wrong = value_of_v("let v one of p q\n", &[("v", "r")]).unwrap_err();
    assert!(
        wrong.contains("`r` is no value of `v`") && wrong.contains("it is one of: p, q"),
        "{wrong}"
    );
    let wrong = value_of_v("let v = output nonsense\n", &[]).unwrap_err();
    assert!(wrong.contains("`nonsense` was not found"), "{wrong}");
    let wrong = value_of_v("let v = env NOT_SET\n", &[]).unwrap_err();
    assert!(wrong.contains("`NOT_SET` is not set"), "{wrong}");
}

#[test]
fn steps_of_each_are_chained_joined_and_combined() {
    let steps = |loom: &str| -> Vec<String> {
        let mut names = Vec::new();
        let (sources, wrong) = look(&machine(loom), |project, _| {
            for step in &project.steps {
                let outputs: Vec<&str> = project
                    .step_outputs(step)
                    .iter()
                    .map(|&(_, path)| project.paths.get(path))
                    .collect();
                let needs: Vec<&str> = project
                    .open_needs(project.step_needs(step))
                    .map(|(_, path)| project.paths.get(path))
                    .collect();
                names.push(format!("{} < {}", outputs.join(" "), needs.join(" ")));
            }
        });
        assert_eq!(lines(&sources, &wrong), "", "{loom}");
        names
    };
    assert_eq!(
        steps(
            "target o/<u>.s\n  needs each src/<u>.c\n  recipe: x\ntarget o/<u>.o\n  needs each o/<u>.s\n  recipe: x\ntarget all\n  needs o/*.o\n  recipe: x\n"
        ),
        [
            "o/a.s < src/a.c",
            "o/b.s < src/b.c",
            "o/a.o < o/a.s",
            "o/b.o < o/b.s",
            "all < o/a.o o/b.o"
        ]
    );
    assert_eq!(
        steps(
            "let m = p q\ntarget <m>/<u>\n  each m in @{m}\n  needs each src/<u>.c\n  let deep = -@{m}-\n  needs <m>.cfg\n  when @{m} is not q\n  recipe: x @{deep}\n"
        ),
        ["p/a < src/a.c p.cfg", "p/b < src/b.c p.cfg"]
    );
    assert_eq!(
        steps("target <p**>.o\n  needs each src/<p**>.c  all: src/**/*.c\n  recipe: x\n").len(),
        3
    );
}

#[test]
fn names_on_a_command_line() {
    let loom = "target out/a\n  recipe: x\ntarget out/b out/c\n  recipe: x\ntarget tree/\n  recipe: x\ntask check\n  recipe: x\ninclude part\n";
    let machine = machine(loom);
    machine.write_now(
        "part/hand.loom",
        b"target out/p\n  recipe: x\ntask check\n  recipe: x\n",
    );
    let goals = |names: &[&str], folder: &str| -> Vec<String> {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let mut found = Vec::new();
        let (_, wrong) = look(&machine, |project, _| {
            let goals = graph::resolve(project, &names, folder);
            found.extend(goals.nodes.iter().map(|node| node.name(project)));
            found.extend(
                goals
                    .unknown
                    .iter()
                    .map(|wrong| format!("! {}", wrong.title)),
            );
        });
        assert_eq!(wrong, []);
        found
    };
    for (names, folder, expected) in [
        (&["out/a"][..], "", &["out/a"][..]),
        (&["out/c", "out/b"], "", &["out/b"]),
        (&["./out//a", "out/../out/a"], "", &["out/a"]),
        (&["out"], "", &["out/a", "out/b"]),
        (&["tree"], "", &["tree/"]),
        (&["tree/"], "", &["tree/"]),
        (&["check"], "", &["check"]),
        (&["check"], "part/", &["part/check"]),
        (&["out/p"], "part/", &["part/out/p"]),
        (&["out/a"], "part/", &["out/a"]),
        (&["../check"], "part/", &["check"]),
        (&["*/check"], "", &["! no target matches `*/check`"]),
        (&["out/[ab]"], "", &["out/a", "out/b"]),
        (&["**/out/*"], "", &["out/a", "out/b", "part/out/p"]),
        (
            &["nothing"],
            "",
            &["! no target or task is called `nothing`"],
        ),
        (&["no*"], "", &["! no target matches `no*`"]),
    ] {
        assert_eq!(goals(names, folder), expected, "{names:?} in {folder:?}");
    }
}
