//! The examples in docs/language.md do what is said there, and the editors' grammars know the words.

use std::path::PathBuf;

use handloom_core::language::CLAUSES;
use handloom_core::language::Comparison;
use handloom_core::language::RESERVED;
use handloom_core::language::SELECTORS;
use handloom_core::language::TOP;
use handloom_core::language::VALUE_FORMS;

use crate::bed::Bed;

fn root() -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

/// A comment in front of an example: what to prepare, and what must come of it.
#[derive(Debug, Default)]
struct Directions {
    files: Vec<String>,
    weaves: Vec<String>,
    holds: Vec<String>,
    runs: Vec<String>,
    wrong: Option<String>,
    /// Files that are shown in the document.
    written: Vec<(String, String)>,
}

fn words(text: &str) -> Vec<String> {
    let mut quoted = false;
    let mut words = vec![String::new()];
    for c in text.trim().chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().unwrap().push(c),
        }
    }
    words
}

fn directions(comment: &str) -> Directions {
    let mut found = Directions::default();
    for part in comment.split("; ") {
        let (key, rest) = part.split_once(':').unwrap();
        match key.trim() {
            "files" => found.files = words(rest),
            "weaves" => found.weaves = words(rest),
            "holds" => found.holds.push(rest.trim().to_owned()),
            "runs" => found.runs = words(rest),
            "wrong" => found.wrong = Some(rest.trim().to_owned()),
            other => panic!("unknown direction {other}"),
        }
    }
    found
}

#[test]
fn every_example_of_the_language_does_what_is_said() {
    let text = std::fs::read_to_string(root().join("docs/language.md")).unwrap();
    let mut comment = Directions::default();
    let mut count = 0;
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        if let Some(inner) = line.strip_prefix("<!-- ") {
            comment = directions(inner.trim_end_matches(" -->"));
        }
        // A file that the example reads stands in front of it: its kind, and its name.
        let fence = line
            .strip_prefix("```")
            .and_then(|info| info.split_once(' '));
        if let Some((_, name)) = fence {
            let text = lines.by_ref().take_while(|line| *line != "```");
            let text = text.map(|line| format!("{line}\n")).collect();
            comment.written.push((name.to_owned(), text));
        }
        if line == "```loom" {
            let example: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
            check(&example.join("\n"), &std::mem::take(&mut comment));
            count += 1;
        }
    }
    assert!(count >= 20, "only {count} examples were found");
}

fn check(example: &str, directions: &Directions) {
    let bed = Bed::new(&format!("{example}\n"));
    for file in &directions.files {
        let text = match file.rsplit('.').next() {
            Some("loom") => "",
            Some("sh") => "cat\n",
            _ => "text\n",
        };
        bed.write(file, text);
    }
    for (file, text) in &directions.written {
        bed.write(file, text);
    }
    if let Some(wrong) = &directions.wrong {
        bed.run(&["list"]).status(2).says(&[wrong]);
        return;
    }
    bed.run(&["list"]).status(0);
    if !directions.weaves.is_empty() {
        let names: Vec<&str> = directions.weaves.iter().map(String::as_str).collect();
        let run = bed.run(&names).status(0);
        let made: String = names.iter().map(|name| bed.read(name)).collect();
        for text in &directions.holds {
            assert!(
                made.contains(text),
                "`{text}` is not in:\n{made}\n{}",
                run.shown()
            );
        }
    }
    if !directions.runs.is_empty() {
        let mut arguments = vec!["run"];
        arguments.extend(directions.runs.iter().map(String::as_str));
        bed.run(&arguments).status(0);
    }
    // Every example is written in the standard layout of its kind, or can be laid out in it.
    bed.run(&["tidy"]).status(0);
    bed.run(&["tidy", "--check"]).status(0);
    bed.run(&["list"]).status(0);
}

/// All that the language has is explained in the document, and stands in an example that runs.
#[test]
fn the_language_is_documented_as_a_whole() {
    let text = std::fs::read_to_string(root().join("docs/language.md")).unwrap();
    let (mut examples, mut prose) = (String::new(), String::new());
    let mut fence: Option<&str> = None;
    for line in text.lines() {
        match (line.strip_prefix("```"), fence) {
            (Some(_), Some(_)) => fence = None,
            (Some(kind), None) => fence = Some(kind),
            (None, Some("loom")) => examples.extend([line, "\n"]),
            (None, Some(_)) => {}
            // What the card at the top lists is not explained by that.
            (None, None) if line.starts_with('|') => {}
            (None, None) => prose.extend([line, "\n"]),
        }
    }
    let is_in = |text: &str, word: &str| {
        let is_part = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '_');
        text.match_indices(word).any(|(at, _)| {
            !is_part(text[..at].chars().next_back())
                && !is_part(text[at + word.len()..].chars().next())
        })
    };
    let mut wrong: Vec<String> = Vec::new();
    let mut check = |kind: &str, word: &str, written: &str| {
        if !prose
            .split('`')
            .skip(1)
            .step_by(2)
            .any(|code| is_in(code, word))
        {
            wrong.push(format!("{kind} `{word}` is not explained"));
        }
        let is_shown = match written.starts_with('.') {
            true => examples.contains(written),
            false => is_in(&examples, written),
        };
        if !is_shown {
            wrong.push(format!("{kind} `{word}` is in no example"));
        }
    };
    for word in TOP {
        check("the keyword", word, word);
    }
    for word in CLAUSES {
        check("the clause", word, word);
    }
    for word in VALUE_FORMS {
        check("the value", word, &format!("= {word}"));
    }
    for word in SELECTORS {
        check("the part", word, &format!(".{word}"));
    }
    for word in RESERVED.iter().chain(&["cores"]) {
        check("the name", word, &format!("@{{{word}"));
    }
    for how in Comparison::ALL {
        check("the comparison", how.written(), how.written());
    }
    for word in [
        "and", "or", "not", "except", "when", "where", "take", "into", "if there", "one of",
        "each", "raw",
    ] {
        check("the word", word, word);
    }
    // The keys of the job file, as a job has them.
    let bed = Bed::new("target out\n  recipe: cp $HANDLOOM_JOB @{target}\n");
    bed.run(&[]).status(0);
    let job: serde_json::Value = serde_json::from_str(&bed.read("out")).unwrap();
    for key in job.as_object().unwrap().keys() {
        check("the key", key, &format!("\"{key}\""));
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn the_shipped_descriptions_are_laid_out_in_the_standard_way() {
    let text = std::fs::read_to_string(root().join("examples/almanac/hand.loom")).unwrap();
    let bed = Bed::new(&text);
    bed.run(&["tidy"])
        .status(0)
        .says(&["all is laid out in the standard way"]);
}

#[test]
fn the_editors_know_every_keyword() {
    let grammar: serde_json::Value = serde_json::from_str(
        &std::fs::read_to_string(root().join("editors/handloom.tmLanguage.json")).unwrap(),
    )
    .unwrap();
    let vim = std::fs::read_to_string(root().join("editors/vim/syntax/handloom.vim")).unwrap();
    let all = grammar.to_string();
    for keyword in TOP.iter().chain(CLAUSES) {
        assert!(
            all.contains(keyword),
            "{keyword} is not in the TextMate grammar"
        );
        assert!(vim.contains(keyword), "{keyword} is not in the Vim syntax");
    }
    // Every pattern is a regular expression that finds what it is named after in the demonstration.
    let loom = std::fs::read_to_string(root().join("examples/almanac/hand.loom")).unwrap();
    let mut checked = 0;
    for (name, rule) in grammar["repository"].as_object().unwrap() {
        for pattern in rule["patterns"].as_array().unwrap() {
            for key in ["match", "begin"] {
                let Some(source) = pattern[key].as_str() else {
                    continue;
                };
                let regex = fancy_regex::Regex::new(&format!("(?m){source}"));
                let regex = regex.unwrap_or_else(|error| panic!("{name}: {error}"));
                let sample = pattern["x-sample"].as_str().unwrap_or(&loom);
                assert!(
                    regex.is_match(sample).unwrap(),
                    "{name}: `{source}` finds nothing"
                );
                checked += 1;
            }
        }
    }
    assert!(checked >= 8, "only {checked} patterns");
}

#[test]
fn manual_pages_are_made_for_every_command() {
    let bed = Bed::new("");
    bed.run(&["manual", "pages"])
        .status(0)
        .says(&["`man -l pages/handloom.1` shows the first"]);
    let main = bed.read("pages/handloom.1");
    for title in ["NAME", "SYNOPSIS", "EXIT STATUS", "FILES", "ENVIRONMENT"] {
        let written = [format!(".SH {title}\n"), format!(".SH \"{title}\"\n")];
        assert!(
            written.iter().any(|line| main.contains(line)),
            "{title}\n{main}"
        );
    }
    let help = bed.run(&["--help"]).status(0).out;
    let commands = help
        .split("Commands:")
        .nth(1)
        .unwrap()
        .split("\n\n")
        .next()
        .unwrap();
    let names: Vec<&str> = commands
        .lines()
        .filter_map(|line| line.split_whitespace().next())
        .collect();
    assert!(names.len() > 14 && names.contains(&"watch"), "{names:?}");
    for name in names {
        let page = bed.read(&format!("pages/handloom-{name}.1"));
        let title = format!("handloom-{name}").replace('-', "\\-");
        assert!(page.contains(&title), "{page}");
        assert!(page.contains("\\-\\-project"), "{page}");
        // A line that begins with a dot by chance would be taken for a macro.
        let macros = [
            "TH", "SH", "SS", "TP", "RS", "RE", "IP", "PP", "br", "ie", "el", "B", "R",
        ];
        for line in page.lines().filter(|line| line.starts_with('.')) {
            let word = line[1..].split([' ', '\\']).next().unwrap();
            assert!(macros.contains(&word), "{name}: {line}");
        }
    }
}
