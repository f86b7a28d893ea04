//! Words put into shell scripts: what comes out is checked as text, and by real shells.

use std::process::Command;

use handloom_core::language::ClauseKind;
use handloom_core::language::Piece;
use handloom_core::language::TopItem;
use handloom_core::language::parse;
use handloom_core::project::shell::fill;
use handloom_core::project::shell::is_shell;
use handloom_core::project::shell::quote;
use handloom_core::project::value::Value;
use handloom_core::text::SourceId;

fn pieces(script: &str) -> Vec<Piece> {
    let indented: String = script.lines().map(|line| format!("    {line}\n")).collect();
    let parsed = parse(SourceId(0), &format!("target x\n  recipe:\n{indented}"));
    assert!(parsed.diagnostics.is_empty(), "{:?}", parsed.diagnostics);
    let TopItem::Target(target) = parsed.file.items.into_iter().next().unwrap() else {
        panic!("no target");
    };
    match target.clauses.into_iter().next().unwrap().kind {
        ClauseKind::Recipe(script) => script.pieces,
        other => panic!("{other:?}"),
    }
}

/// `@{w}` is one word, `@{l}` a list of two, `@{e}` an empty list.
fn value(name: &str) -> Value {
    match name {
        "w" => Value::word("a b$c"),
        "p" => Value::word("plain"),
        "q" => Value::word("it's"),
        "l" => Value::list(["x", "y z"]),
        "e" => Value::list([] as [&str; 0]),
        other => panic!("{other}"),
    }
}

fn filled(script: &str) -> String {
    let pieces = pieces(script);
    let result = fill(&pieces, |reference| Some(value(&reference.name.text))).unwrap();
    result.unwrap_or_else(|second| panic!("two lists: {second:?}"))
}

#[test]
fn words_are_quoted_as_their_place_asks() {
    for (script, expected) in [
        ("echo @{w}", "echo 'a b$c'"),
        ("echo @{p}", "echo plain"),
        ("echo @{l}", "echo x 'y z'"),
        ("echo -I@{l}.h", "echo -Ix.h -I'y z'.h"),
        ("echo -I@{e}", "echo "),
        ("echo @{p}/@{l}", "echo plain/x plain/'y z'"),
        ("echo \"@{w}\"", r#"echo "a b\$c""#),
        ("echo \"<@{l}>\"", r#"echo "<x y z>""#),
        ("echo '@{q}'", r"echo 'it'\''s'"),
        ("echo $(cat @{w})", "echo $(cat 'a b$c')"),
        ("echo \"$(cat @{w})\"", r#"echo "$(cat 'a b$c')""#),
        ("echo \"${x:-@{w}}\"", r#"echo "${x:-a b\$c}""#),
        ("echo ${x:-@{w}}", "echo ${x:-'a b$c'}"),
        ("echo `cat @{w}`", "echo `cat 'a b$c'`"),
        ("echo $((1 + @{p}))", "echo $((1 + plain))"),
        ("x=@{w}; y", "x='a b$c'; y"),
        ("# it's @{w}", "# it's a b$c"),
        ("echo a#b @{w}", "echo a#b 'a b$c'"),
        ("echo \\' @{w}", "echo \\' 'a b$c'"),
        ("echo @{raw w}", "echo a b$c"),
        ("echo \"@{raw w}\"", "echo \"a b$c\""),
        ("(cat @{w})|(cat @{q})", r"(cat 'a b$c')|(cat 'it'\''s')"),
        ("cat <<< @{w}", "cat <<< 'a b$c'"),
    ] {
        assert_eq!(filled(script).trim_end_matches('\n'), expected, "{script}");
    }
}

#[test]
fn here_documents_get_plain_text() {
    assert_eq!(
        filled("cat <<END @{w}\n@{w} 'x\nEND\necho @{w}"),
        "cat <<END 'a b$c'\na b\\$c 'x\nEND\necho 'a b$c'\n"
    );
    assert_eq!(
        filled("cat <<'END'\n@{w}\nEND\necho @{w}"),
        "cat <<'END'\na b$c\nEND\necho 'a b$c'\n"
    );
    assert_eq!(
        filled("cat <<A <<B\n@{w}\nA\n@{q}\nB\n@{w}"),
        "cat <<A <<B\na b\\$c\nA\nit's\nB\n'a b$c'\n"
    );
    // A line that only looks like the end, because a variable stands in it, is none.
    assert_eq!(
        filled("cat <<plain\n@{p}\nplain\necho @{w}"),
        "cat <<plain\nplain\nplain\necho 'a b$c'\n"
    );
}

#[test]
fn two_lists_in_one_word_are_refused() {
    let pieces = pieces("echo @{l}-@{l}");
    let result = fill(&pieces, |reference| Some(value(&reference.name.text))).unwrap();
    assert!(result.is_err());
}

#[test]
fn real_shells_read_words_back_unchanged() {
    let hard = [
        "", " ", "a b", "'", "\"", "$HOME", "`ls`", "\\", "*", "~", "#x", "-n", "a=b", "if", "!",
        "\n", "é灯", "$(x)", "a\tb", "{a,b}", "--x=y",
    ];
    let words: Vec<String> = hard.iter().map(|word| quote(word)).collect();
    let script = format!("printf '%s\\0' {}", words.join(" "));
    for shell in ["sh", "bash", "dash"] {
        let Ok(output) = Command::new(shell).args(["-c", &script]).output() else {
            continue;
        };
        let expected: Vec<u8> = hard
            .iter()
            .flat_map(|word| format!("{word}\0").into_bytes())
            .collect();
        assert_eq!(
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&expected),
            "{shell}"
        );
    }
    // In command position too.
    for word in ["if", "a=b", "{", "!"] {
        let output = Command::new("sh")
            .args(["-c", &format!("{} x", quote(word))])
            .output()
            .unwrap();
        assert_eq!(
            output.status.code(),
            Some(127),
            "`{word}` must be looked for as a program"
        );
    }
}

#[test]
fn places_are_what_real_shells_take_them_for() {
    let pieces = pieces(
        "printf '%s|' @{w} \"@{w}\" '@{w}' $(printf %s @{p}) \"$(printf '<%s>' @{w})\" ${none-@{w}}\ncat <<E\n@{w}\nE",
    );
    let text = fill(&pieces, |reference| Some(value(&reference.name.text)))
        .unwrap()
        .unwrap();
    let output = Command::new("sh").args(["-c", &text]).output().unwrap();
    let out = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(
        out, "a b$c|a b$c|a b$c|plain|<a b$c>|a b$c|a b$c\n",
        "{text}\n{output:?}"
    );
}

#[test]
fn shells_are_known_by_their_names() {
    let is = |words: &[&str]| {
        is_shell(
            &words
                .iter()
                .map(|word| (*word).to_owned())
                .collect::<Vec<_>>(),
        )
    };
    assert!(
        is(&["sh", "-eu"])
            && is(&["/bin/bash"])
            && is(&["env", "A=b", "zsh"])
            && is(&["/usr/bin/env", "-i", "dash"])
    );
    assert!(!is(&["python3"]) && !is(&["env", "python3"]) && !is(&[]) && !is(&["awk", "-f"]));
}
