//! Words put into shell scripts: what comes out is checked as text, and by real shells.

use std::process::Command;

use handloom_core::language::ClauseKind;
use handloom_core::language::Piece;
use handloom_core::language::TopItem;
use handloom_core::language::parse;
use handloom_core::project::shell::Refusal;
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
        "n" => Value::word("-7"),
        "c" => Value::word("a,b"),
        "b" => Value::word("}"),
        "m" => Value::word("one\nEND"),
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

/// Why a script's variable is not put in.
fn refused(script: &str) -> &'static str {
    let pieces = pieces(script);
    match fill(&pieces, |reference| Some(value(&reference.name.text))).unwrap() {
        Err(Refusal::Unsure(_, why)) => why,
        other => panic!("{script}: {other:?}"),
    }
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
        ("echo `cat @{w}`", r"echo `cat 'a b\$c'`"),
        ("echo \"`cat @{w}`\"", r#"echo "`cat 'a b\$c'`""#),
        ("echo $((1 + @{n}))", "echo $((1 + -7))"),
        (
            "$(case x in (a|b) y @{w};; esac) @{w}",
            "$(case x in (a|b) y 'a b$c';; esac) 'a b$c'",
        ),
        ("$( (a); b @{w})", "$( (a); b 'a b$c')"),
        ("$((a); b @{w})", "$((a); b 'a b$c')"),
        ("{@{c},d}", "{'a,b',d}"),
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
    assert_eq!(
        filled("cat <<'E O'\nit's\nE O\necho @{w}"),
        "cat <<'E O'\nit's\nE O\necho 'a b$c'\n"
    );
    assert_eq!(
        filled("cat <<END\n$(cat @{w}) @{w}\nEND\n@{w}"),
        "cat <<END\n$(cat 'a b$c') a b\\$c\nEND\n'a b$c'\n"
    );
}

#[test]
fn where_it_cannot_be_told_how_a_word_is_read_it_is_refused() {
    for (script, why) in [
        ("cat <<plain\n@{p}\nplain", "the end of the here-document"),
        ("cat <<END\n@{m}\nx\nEND", "the end of the here-document"),
        ("cat <<'END'\n@{m}\nx\nEND", "the end of the here-document"),
        ("cat <<-END\n\t@{p}@{p}\nEND", ""),
        ("echo \\@{w}", "a backslash"),
        ("echo \"\\@{w}\"", "a backslash"),
        ("echo $@{p}", "a `$`"),
        ("echo \"$@{p}\"", "a `$`"),
        ("echo $'@{w}'", "not all shells"),
        ("echo `echo \\`echo @{w}\\``", "backquotes"),
        ("echo \"`echo \\\"@{w}\\\"`\"", "backquotes"),
        ("echo $((1 + @{w}))", "a whole number"),
        ("((x = @{w}))", "a whole number"),
        ("echo ${x:-@{b}}", "differently"),
        ("cat <<@{w}\nx\n", "the end word"),
        ("echo x$(pwd)@{l}", "a list"),
        ("echo @{l}$(pwd y)", "a list"),
    ] {
        if why.is_empty() {
            let _ = filled(script);
            continue;
        }
        let found = refused(script);
        assert!(found.contains(why), "{script}: {found}");
    }
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
    for shell in shells() {
        let output = run(&shell, &script);
        let expected: Vec<u8> = hard
            .iter()
            .flat_map(|word| format!("{word}\0").into_bytes())
            .collect();
        assert_eq!(
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&expected),
            "{shell:?}"
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
    assert!(
        is(&["nice", "-n", "5", "sh"])
            && is(&["timeout", "5", "bash", "-eu"])
            && is(&["busybox", "sh"])
    );
    assert!(!is(&["python3"]) && !is(&["env", "python3"]) && !is(&[]) && !is(&["awk", "-f"]));
}

/// The shells of this machine; CI has them all.
fn shells() -> Vec<Vec<&'static str>> {
    let all: [&[&str]; 5] = [&["sh"], &["dash"], &["bash"], &["zsh"], &["busybox", "sh"]];
    let found: Vec<Vec<&str>> = all
        .iter()
        .filter(|words| {
            Command::new(words[0])
                .args(&words[1..])
                .args(["-c", ":"])
                .output()
                .is_ok()
        })
        .map(|words| words.to_vec())
        .collect();
    if std::env::var_os("HANDLOOM_SHELLS").is_some() {
        assert_eq!(found.len(), all.len(), "only {found:?} are installed");
    }
    found
}

fn run(shell: &[&str], script: &str) -> std::process::Output {
    let folder = std::env::temp_dir();
    let mut command = Command::new(shell[0]);
    command
        .args(&shell[1..])
        .args(["-c", script])
        .current_dir(folder);
    command.output().unwrap()
}

/// A generator of numbers, so that a failure can be repeated.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % sides as u64).unwrap()
    }

    fn pick<'t>(&mut self, from: &[&'t str]) -> &'t str {
        from[self.roll(from.len())]
    }

    fn hostile(&mut self) -> String {
        const PARTS: [&str; 44] = [
            "'",
            "\"",
            "$",
            "`",
            "\\",
            " ",
            "\n",
            ";",
            "&",
            "|",
            "<",
            ">",
            "(",
            ")",
            "{",
            "}",
            "[",
            "]",
            "*",
            "?",
            "~",
            "#",
            "!",
            "=",
            "%",
            "^",
            ",",
            "é",
            "END",
            "E O F",
            "-n",
            "$(echo pwned)",
            "`echo pwned`",
            "${HOME}",
            "$HOME",
            "a",
            "b",
            "\t",
            "<<END",
            "esac",
            ";;",
            "\\n",
            "$'",
            "$((1))",
        ];
        let count = self.roll(7);
        (0..count).map(|_| self.pick(&PARTS)).collect()
    }
}

/// What a command prints for a value.
type Printed = fn(&str) -> String;

/// A command that prints a word and a zero byte, and what it prints for a value.
fn command(dice: &mut Dice) -> (String, Printed) {
    let same: Printed = str::to_owned;
    let between: Printed = |value| format!("pre {value} post");
    let line: Printed = |value| format!("pre {value} post\n");
    let printed: Printed = |value| value.trim_end_matches('\n').to_owned();
    let printed_line: Printed = |value| format!("{}\n", value.trim_end_matches('\n'));
    let all: [(&str, Printed); 21] = [
        ("printf '%s\\0' @{v}", same),
        ("printf '%s\\0' \"pre @{v} post\"", between),
        ("printf '%s\\0' 'pre @{v} post'", between),
        ("x=@{v}; printf '%s\\0' \"$x\"", same),
        ("printf '%s\\0' \"$(printf '%s' @{v})\"", printed),
        ("printf '%s\\0' \"$(printf '%s' \"@{v}\")\"", printed),
        ("printf '%s\\0' \"$(printf '%s' '@{v}')\"", printed),
        ("printf '%s\\0' \"`printf '%s' @{v}`\"", printed),
        ("printf '%s\\0' \"`printf '%s' '@{v}'`\"", printed),
        ("x=`printf '%s' @{v}`; printf '%s\\0' \"$x\"", printed),
        ("x=`printf '%s' \"@{v}\"`; printf '%s\\0' \"$x\"", printed),
        ("cat <<END\npre @{v} post\nEND\nprintf '\\0'", line),
        ("cat <<'END'\npre @{v} post\nEND\nprintf '\\0'", line),
        ("cat <<'E O F'\npre @{v} post\nE O F\nprintf '\\0'", line),
        ("cat <<-END\n\tpre @{v} post\n\tEND\nprintf '\\0'", line),
        (
            "cat <<END\n$(printf '%s' @{v})\nEND\nprintf '\\0'",
            printed_line,
        ),
        (
            "cat <<END\n$(printf '%s' \"@{v}\")\nEND\nprintf '\\0'",
            printed_line,
        ),
        (
            "printf '%s\\0' \"$(case x in (x) printf '%s' @{v};; esac)\"",
            printed,
        ),
        (
            "printf '%s\\0' \"$(case a in b) :;; a|c) printf '%s' '@{v}' ;; esac)\"",
            printed,
        ),
        ("unset none; printf '%s\\0' \"${none:-@{v}}\"", same),
        ("unset none; printf '%s\\0' ${none:-'@{v}'}", same),
    ];
    let (text, prints) = all[dice.roll(all.len())];
    // What comes before must not mislead the one who reads along.
    let before = dice.pick(&[
        "",
        "# it's \"nothing\n",
        ": \\'; ",
        ": $((1 << 2)); ",
        ": \"$(: ')' \")\" )\"; ",
        ": `: ')'`; ",
        "cat >/dev/null <<'E N'\nit's `\n$(\nE N\n",
        "cat >/dev/null <<A <<\\B\n$(: A)\nA\nit's `\nB\n",
        "case esac in (esac) :;; *) : case;; esac; ",
        ": $(case x in x) : ;; esac); ",
        ": $( (:); : ); ",
        ": a#b \"#\"; ",
        "for case in 1; do : in; done; ",
        ": ${x#'}'} ${x:-\"}\"}; ",
    ]);
    let (open, close) = [
        ("", ""),
        ("( ", "\n)"),
        ("{ ", "\n}"),
        ("if :; then ", "\nfi"),
        ("for i in 1; do ", "\ndone"),
        ("case x in y) ;; x) ", "\n;; esac"),
    ][dice.roll(6)];
    (format!("{open}{before}{text}{close}\n"), prints)
}

/// Commands with hostile words, 10,000 of them where all shells have to be there: what is put in is read by
/// every shell as what it is, or refused.
#[test]
fn hostile_words_stay_words_in_every_shell() {
    const AT_ONCE: usize = 100;
    let cases = if std::env::var_os("HANDLOOM_SHELLS").is_some() {
        10_000
    } else {
        2000
    };
    let mut dice = Dice(0x2545_f491_4f6c_dd1d);
    let shells = shells();
    let (mut tried, mut refused) = (0, 0);
    while tried < cases {
        let (mut script, mut expected, mut commands) = (String::new(), String::new(), Vec::new());
        for _ in 0..AT_ONCE {
            tried += 1;
            let (text, prints) = command(&mut dice);
            let hostile = dice.hostile();
            let pieces = pieces(&text);
            let result = fill(&pieces, |_| Some(Value::word(hostile.as_str()))).unwrap();
            let Ok(filled) = result else {
                refused += 1;
                continue;
            };
            script.push_str(&filled);
            script.push('\n');
            expected.push_str(&prints(&hostile));
            expected.push('\0');
            commands.push((text, hostile, filled, prints));
        }
        for shell in &shells {
            let output = run(shell, &script);
            if output.stdout == expected.as_bytes() {
                continue;
            }
            for (text, hostile, filled, prints) in &commands {
                let output = run(shell, filled);
                let out = String::from_utf8_lossy(&output.stdout).into_owned();
                assert_eq!(
                    out,
                    format!("{}\0", prints(hostile)),
                    "{shell:?}\n--- {text}\n--- {hostile:?}\n--- {filled}\n{output:?}"
                );
            }
            panic!(
                "{shell:?} reads each command as it should, and not all of them together:\n{script}"
            );
        }
    }
    assert!(refused * 4 < tried, "{refused} of {tried} were refused");
}
