//! What holds for every text: nothing panics, places lie in the text, laying out keeps the meaning.

use std::collections::BTreeMap;

use proptest::prelude::*;

use handloom_core::language::File;
use handloom_core::language::parse;
use handloom_core::language::tidy;
use handloom_core::text::SourceId;

use crate::looking::look;
use crate::made_up::Machine;

/// Pieces that descriptions are made of, and some that they are not.
const PIECES: &[&str] = &[
    "let ",
    "target ",
    "task ",
    "default ",
    "include ",
    "supply ",
    "recipes with ",
    "language 1",
    "needs ",
    "after ",
    "each ",
    "each x in ",
    "learn ",
    "lines ",
    "given env ",
    "given output ",
    "env A = ",
    "in ",
    "when ",
    "takes ",
    "limit 9s",
    "on cluster",
    "retry 2",
    "terminal",
    "remember",
    "steps ",
    "finally: ",
    "recipe: ",
    "recipe with python3:",
    "about: ",
    " = ",
    " += ",
    " one of ",
    "files ",
    "except ",
    "env ",
    " or ",
    "output ",
    "match ",
    " into ",
    " : ",
    " is ",
    " is not ",
    " has ",
    " and ",
    " not ",
    "a",
    "b-c",
    "out/x",
    "src/<n>.c",
    "src/*.c",
    "<path**>",
    "**/",
    "[ab]",
    "{a,b}",
    "\"q\"",
    "'s'",
    "\"@{a}\"",
    "@{a}",
    "@{a.stem}",
    "@{raw a}",
    "@{a.joined(\",\")}",
    "@{needs}",
    "@@{",
    "$x",
    "label: ",
    "#c",
    " ",
    "  ",
    "\n",
    "\n  ",
    "\n    ",
    "\n\t",
    "\r\n",
    "\\",
    "é",
    "\u{a0}",
    "@{",
    "}",
    "\"",
    "'",
    "<",
    "[",
    "0",
];

fn soup() -> impl Strategy<Value = String> {
    proptest::collection::vec(proptest::sample::select(PIECES), 0..60)
        .prop_map(|pieces| pieces.concat())
}

/// Lines that would be right, indented at random.
fn indented() -> impl Strategy<Value = String> {
    let indent =
        proptest::sample::select(&["", "  ", "  ", "    ", "\t", "\t\t", " \t", "\t "][..]);
    let line = proptest::sample::select(
        &[
            "target x",
            "out/y",
            "needs a",
            "needs",
            "l: a b",
            "about: x",
            "after b",
            "recipe: true",
            "recipe:",
            "echo x",
            "task t",
            "steps x",
            "let a = b",
            "# c",
            "",
        ][..],
    );
    proptest::collection::vec((indent, line), 1..7).prop_map(|lines| {
        let lines = lines
            .iter()
            .map(|(indent, line)| format!("{indent}{line}\n"));
        format!("target first\n{}", lines.collect::<String>())
    })
}

/// Descriptions that mostly are right.
fn sensible() -> impl Strategy<Value = String> {
    let name = proptest::sample::select(&["a", "b", "c-d", "e_1"][..]);
    let word = proptest::sample::select(
        &[
            "x",
            "out/y",
            "\"q r\"",
            "'s'",
            "@{os}",
            "src/*.c",
            "-I@{arch}",
            "@@{",
        ][..],
    );
    let words = proptest::collection::vec(word, 1..5).prop_map(|words| words.join("  "));
    let indent = proptest::sample::select(&["  ", "    ", "\t"][..]);
    let comment = proptest::sample::select(&["", "  # why", "\n\n", "\n# alone"][..]);
    let set = (name.clone(), words.clone(), comment.clone())
        .prop_map(|(name, words, comment)| format!("let {name}   =  {words}{comment}\n"));
    let target = (words.clone(), words.clone(), indent, comment, any::<bool>()).prop_map(
        |(outputs, needs, indent, comment, deep)| {
            let list = if deep {
                format!("{indent}needs\n{indent}{indent}one: {needs}\n{indent}{indent}two: {needs}{comment}\n")
            } else {
                format!("{indent}needs   {needs}{comment}\n")
            };
            format!("target {outputs}\n{list}{indent}recipe:\n{indent}{indent}first  @{{needs}}\n\n{indent}{indent}  second # kept\n")
        },
    );
    proptest::collection::vec(prop_oneof![set, target], 0..6).prop_map(|items| items.concat())
}

/// A tree without its places: each is replaced by the text it covers, white space made even.
fn meaning(file: &File, text: &str) -> String {
    let shown = format!("{file:?}");
    let mut out = String::new();
    let mut rest = shown.as_str();
    while let Some(at) = rest.find("Span { source: SourceId(0), start: ") {
        out.push_str(&rest[..at]);
        let inner = &rest[at + "Span { source: SourceId(0), start: ".len()..];
        let (start, inner) = inner.split_once(", end: ").unwrap();
        let (end, behind) = inner.split_once(" }").unwrap();
        let covered = &text[start.parse().unwrap()..end.parse().unwrap()];
        // A comment inside a span may be moved; that of a script stands in its pieces as well.
        let lines = covered.lines();
        let lines = lines.filter(|line| !line.trim_start().starts_with('#'));
        let words: Vec<&str> = lines.flat_map(str::split_whitespace).collect();
        out.push_str(&format!("{words:?}"));
        rest = behind;
    }
    out.push_str(rest);
    out
}

fn check(text: &str) -> Result<(), TestCaseError> {
    let parsed = parse(SourceId(0), text);
    for diagnostic in &parsed.diagnostics {
        for label in diagnostic.primary.iter().chain(&diagnostic.context) {
            let (start, end) = (label.span.start as usize, label.span.end as usize);
            prop_assert!(text.get(start..end).is_some(), "{diagnostic:?}");
        }
        prop_assert!(
            diagnostic.help.is_some(),
            "it does not say what to do: {diagnostic:?}"
        );
        prop_assert!(!diagnostic.title.ends_with('.'), "{}", diagnostic.title);
    }
    match tidy(text) {
        None => prop_assert!(
            parsed
                .diagnostics
                .iter()
                .any(handloom_core::text::Diagnostic::is_error)
        ),
        Some(tidied) => {
            let again = tidy(&tidied);
            prop_assert_eq!(again.as_deref(), Some(tidied.as_str()), "laid out twice");
            let other = parse(SourceId(0), &tidied);
            prop_assert_eq!(
                meaning(&parsed.file, text),
                meaning(&other.file, &tidied),
                "{}\n---\n{}",
                text,
                tidied
            );
            every_line_counts(text)?;
        }
    }
    Ok(())
}

/// No line of a description without mistakes is passed over: without any of them it means something else.
fn every_line_counts(text: &str) -> Result<(), TestCaseError> {
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    let whole = meaning(&parse(SourceId(0), text).file, text);
    for (number, line) in lines.iter().enumerate() {
        let bare = line.trim();
        if bare.is_empty() || bare.starts_with('#') {
            continue;
        }
        let without = [&lines[..number], &lines[number + 1..]].concat().concat();
        let parsed = parse(SourceId(0), &without);
        let wrong = parsed
            .diagnostics
            .iter()
            .any(handloom_core::text::Diagnostic::is_error);
        prop_assert!(
            wrong || meaning(&parsed.file, &without) != whole,
            "line {} counts for nothing:\n{}",
            number + 1,
            text
        );
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_soup_is_read_and_laid_out(text in soup()) {
        check(&text)?;
    }

    #[test]
    fn any_indentation_is_read_or_refused(text in indented()) {
        check(&text)?;
    }

    #[test]
    fn sensible_descriptions_are_laid_out(text in sensible()) {
        check(&text)?;
    }

    #[test]
    fn any_characters_are_read(text in any::<String>()) {
        check(&text)?;
    }

    #[test]
    fn any_soup_is_worked_out_without_a_panic(text in soup()) {
        let files = BTreeMap::from([("hand.loom".to_owned(), text.into_bytes()), ("src/n.c".to_owned(), Vec::new())]);
        look(&Machine::with(&files), |_, _| {});
    }
}

#[test]
fn a_chain_of_100_000_steps_overflows_nothing() {
    let mut loom = String::from("target s0\n  recipe: true\n");
    for step in 1..100_000 {
        loom += &format!("target s{step}\n  needs s{}\n  recipe: true\n", step - 1);
    }
    let files = BTreeMap::from([("hand.loom".to_owned(), loom.into_bytes())]);
    let (sources, wrong) = look(&Machine::with(&files), |project, _| {
        assert_eq!(project.steps.len(), 100_000);
    });
    assert_eq!(crate::looking::lines(&sources, &wrong), "");
}

#[test]
fn includes_a_thousand_deep_overflow_nothing() {
    let mut files = BTreeMap::new();
    let mut folder = String::new();
    for depth in 0..1000 {
        let loom = format!("include d\ntarget out{depth}\n  recipe: echo @{{word}}\n");
        let head = if depth == 0 { "let word = x\n" } else { "" };
        files.insert(
            format!("{folder}hand.loom"),
            format!("{head}{loom}").into_bytes(),
        );
        folder.push_str("d/");
    }
    files.insert(
        format!("{folder}hand.loom"),
        b"target last\n  recipe: true\n".to_vec(),
    );
    let (sources, wrong) = look(&Machine::with(&files), |project, _| {
        assert_eq!(project.steps.len(), 1001);
    });
    assert_eq!(crate::looking::lines(&sources, &wrong), "");
}

#[test]
fn hostile_depths_are_refused_or_read() {
    let deep = "@{a.dir".repeat(10_000);
    let not = format!("let a = b when {}@{{os}} is x\n", "not ".repeat(100_000));
    let stars = format!(
        "target x\n  needs {}\n  recipe: true\n",
        "*?".repeat(100_000)
    );
    let braces = format!("target x\n  needs {}\n  recipe: true\n", "{a,b}".repeat(64));
    let nested = format!(
        "target x\n  needs {}a{}\n  recipe: true\n",
        "{".repeat(5000),
        "}".repeat(5000)
    );
    let mut chain = String::from("let v0 = x\n");
    for at in 1..5000 {
        chain += &format!("let v{at} = @{{v{}}}\n", at - 1);
    }
    chain += "target @{v4999}\n  recipe: true\n";
    for text in [deep, not, stars, braces, nested, chain] {
        let files = BTreeMap::from([("hand.loom".to_owned(), text.into_bytes())]);
        look(&Machine::with(&files), |_, _| {});
    }
}
