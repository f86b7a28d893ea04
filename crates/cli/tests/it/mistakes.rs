//! Every code of a mistake is raised by something, and docs/mistakes.md says what the table says.
//! `HANDLOOM_GOLDEN=write` writes the document anew.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::path::PathBuf;

use handloom_core::text::mistakes;

use crate::bed::Bed;
use crate::bed::golden;

/// A project and what is done in it; its last command tells of the mistake.
struct Case {
    code: &'static str,
    /// `== PATH` begins another file.
    files: &'static str,
    commands: &'static [&'static [&'static str]],
}

const fn listed(code: &'static str, files: &'static str) -> Case {
    Case {
        code,
        files,
        commands: &[&["list"]],
    }
}

const fn woven(code: &'static str, files: &'static str) -> Case {
    Case {
        code,
        files,
        commands: &[&["out/x"]],
    }
}

/// Those that only the program can be told of: the others stand in the core's corpus.
const CASES: &[Case] = &[
    Case {
        code: "not-a-choice",
        files: "let c one of p q\ntarget out/x\n  recipe: echo @{c} > @{target}",
        commands: &[&["--let", "c=r", "out/x"]],
    },
    woven(
        "unbound-value",
        "let at = each/@{u}\ntarget out/<u>\n  each u in a b\n  recipe: echo @{at} > @{target}\ndefault @{at}",
    ),
    woven(
        "invalid-environment-name",
        "let key = secret \"A=B\"\ntarget out/x\n  recipe: echo @{key} > @{target}",
    ),
    woven(
        "failed-command-value",
        "let lamp = output sh -c 'echo dark; exit 3'\ntarget out/x\n  recipe: echo @{lamp} > @{target}",
    ),
    listed(
        "comparison-the-wrong-way",
        "target out/<light>\n  each light in table lights.csv where kind buoy is x\n  recipe: true\n== lights.csv\nlight,kind\ntarn,buoy",
    ),
    woven(
        "not-a-number",
        "let a = many\nlet b = few\nlet b = lots when @{a} above 3\ntarget out/x\n  recipe: echo @{b} > @{target}",
    ),
    woven(
        "not-one-word",
        "let folders = a b\ntarget out/x\n  in @{folders}\n  recipe: true",
    ),
    woven(
        "too-many-words",
        "let a = 0123456789abcdef\nlet b = @{a}@{a}@{a}@{a}@{a}@{a}@{a}@{a}\nlet c = @{b}@{b}@{b}@{b}@{b}@{b}@{b}@{b}\nlet d = @{c}@{c}@{c}@{c}@{c}@{c}@{c}@{c}\nlet e = @{d}@{d}@{d}@{d}@{d}@{d}@{d}@{d}\nlet f = @{e}@{e}@{e}@{e}@{e}@{e}@{e}@{e}\nlet g = @{f}@{f}@{f}@{f}@{f}@{f}@{f}@{f}\ntarget out/x\n  needs @{g}\n  recipe: true",
    ),
    Case {
        code: "unreadable-folder",
        files: "let all = files in/*.c\ntarget out/x\n  recipe: echo @{all} > @{target}",
        commands: &[&["LINK", "in"], &["out/x"]],
    },
    Case {
        code: "orphaned-file",
        files: "target out/a\n  recipe: echo > @{target}",
        commands: &[
            &["out/a"],
            &["WRITE", "target out/x\n  needs out/a\n  recipe: true\n"],
            &["out/x"],
        ],
    },
    Case {
        code: "behind-link",
        files: "target out/a\n  recipe: echo > @{target}\ntarget out/x\n  needs link/a\n  recipe: true",
        commands: &[&["out/a"], &["LINK", "out", "link"], &["out/x"]],
    },
    Case {
        code: "steps-in-a-circle",
        files: "task a\n  steps b\ntask b\n  steps a",
        commands: &[&["a"]],
    },
    Case {
        code: "endless-calls",
        files: "task count n\n  after \"count @{n}x\"\n  recipe: true\ntask all\n  after 'count 1'\n  recipe: true",
        commands: &[&["all"]],
    },
    woven(
        "supply-too-small",
        "supply gpu = 1\ntarget out/x\n  takes gpu=2\n  recipe: true",
    ),
    woven(
        "unclear-quoting",
        "let a = 1 2\ntarget out/x\n  recipe: echo $((@{a})) > @{target}",
    ),
    woven(
        "secret-in-script",
        "let key = secret PATH\ntarget out/x\n  recipe with python3: print(@{key})",
    ),
    Case {
        code: "sealed-terminal",
        files: "task a\n  terminal\n  sealed\n  recipe: true",
        commands: &[&["a"]],
    },
    listed("unknown-setting", "setting job = 2"),
    listed("unfit-setting", "setting jobs = many"),
    listed("repeated-setting", "setting jobs = 2\nsetting jobs = 3"),
    listed(
        "setting-in-part",
        "include part\n== part/hand.loom\nsetting jobs = 2",
    ),
    Case {
        code: "target-in-own-description",
        files: "task a\n  recipe: true\n== ../home/.config/handloom/hand.loom\ntarget out/x\n  recipe: true",
        commands: &[&["list"]],
    },
    Case {
        code: "unknown-goal",
        files: "target out/x\n  recipe: true",
        commands: &[&["out/y"]],
    },
    Case {
        code: "unknown-place",
        files: "target out/x\n  on attic\n  recipe: echo > @{target}",
        commands: &[&["out/x"]],
    },
    woven(
        "missing-source",
        "target out/x\n  needs lamp.c\n  recipe: true",
    ),
    Case {
        code: "undeclared-need",
        files: "target gen\n  recipe: echo gen > gen\ntarget use\n  learn lines\n  recipe: cat gen > use; echo gen > @{learn}",
        commands: &[&["-j1", "gen", "use"]],
    },
    woven(
        "memory-exceeded",
        "target out/x\n  takes memory=1M\n  recipe: head -c 60000000 /dev/zero | tail -c 60000000 > @{target}; sleep 0.3",
    ),
    woven(
        "left-running",
        "target out/x\n  recipe: sleep 100 & echo > @{target}",
    ),
    Case {
        code: "store-unusable",
        files: "target out/x\n  store always\n  recipe: echo > @{target}\n== shared\nno folder",
        commands: &[&["SHARE", "shared"], &["out/x"]],
    },
    Case {
        code: "failed-finally",
        files: "task sweep\n  recipe: exit 3\ntask bad\n  recipe: exit 4\ntask a\n  after bad\n  finally sweep",
        commands: &[&["a"]],
    },
];

/// Those whose message is checked by a test that has what it takes, and where.
const ELSEWHERE: &[(&str, &str, &str)] = &[
    (
        "place-remark",
        "crates/cli/tests/it/cluster.rs",
        "the scheduler of `cluster` does not answer",
    ),
    (
        "events-left-out",
        "crates/core/tests/it/scheduling.rs",
        "16 events are left out here, since they were not read in time",
    ),
];

fn root() -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

/// The files of a case by their paths.
fn files(text: &str) -> BTreeMap<String, String> {
    let mut path = "hand.loom".to_owned();
    let mut files: BTreeMap<String, String> = BTreeMap::new();
    for line in text.lines() {
        match line.strip_prefix("== ") {
            Some(other) => other.clone_into(&mut path),
            None => {
                let text = files.entry(path.clone()).or_default();
                text.push_str(line);
                text.push('\n');
            }
        }
    }
    files
}

/// What is said in a case: the title of its message.
fn said(case: &Case) -> String {
    let files = files(case.files);
    let mut bed = Bed::new("");
    for (path, text) in &files {
        bed.write(path, text);
    }
    let (last, before) = case.commands.split_last().unwrap();
    for command in before {
        match command {
            ["WRITE", text] => bed.write("hand.loom", text),
            ["LINK", name] => bed.link(name, name),
            ["LINK", to, name] => bed.link(to, name),
            ["SHARE", name] => {
                let shared = bed.path(name);
                bed = bed.with_store().sharing(shared);
            }
            command => drop(bed.run(command).status(0)),
        }
    }
    let run = bed.run(last);
    let mark = format!("[{}]: ", case.code);
    let mut lines = run.err.lines().chain(run.out.lines());
    let line = lines.find_map(|line| line.split_once(&mark));
    let (_, title) = line.unwrap_or_else(|| panic!("{}: {}", case.code, run.shown()));
    match title.split_once(" held ") {
        // How much it was is not the same each time.
        Some((what, _)) => format!("{what} held 60M of memory, and `takes` says 1M"),
        None => title.to_owned(),
    }
}

/// A message for each code: of the program, and of the core's corpus.
fn messages() -> BTreeMap<String, String> {
    let corpus = root().join("crates/core/tests/corpus/mistakes.txt");
    let corpus = std::fs::read_to_string(corpus).unwrap();
    let mut messages = BTreeMap::new();
    for line in corpus.lines() {
        let mut words = line.split(' ').skip(1);
        if !matches!(words.next(), Some("error" | "warning")) {
            continue;
        }
        let code = words.next().unwrap();
        let (_, title) = line.split_once("`: ").unwrap();
        messages
            .entry(code.to_owned())
            .or_insert_with(|| title.to_owned());
    }
    for case in CASES {
        messages.insert(case.code.to_owned(), said(case));
    }
    for (code, file, title) in ELSEWHERE {
        let text = std::fs::read_to_string(root().join(file)).unwrap();
        assert!(text.contains(title), "{file} does not check `{title}`");
        messages.insert((*code).to_owned(), (*title).to_owned());
    }
    messages
}

/// Broken at blanks into lines that are not too long.
fn wrapped(text: &str) -> String {
    let mut out = String::new();
    let mut length = 0;
    for word in text.split(' ') {
        let more = word.chars().count() + 1;
        if length + more > 130 {
            out.truncate(out.trim_end().len());
            out.push('\n');
            length = 0;
        }
        length += more;
        out.push_str(word);
        out.push(' ');
    }
    out.truncate(out.trim_end().len());
    out + "\n"
}

/// Also that no message has a code that is not in the table: the table is where they come from.
#[test]
fn every_code_is_raised_and_the_document_has_them_all() {
    let messages = messages();
    let mut document = String::from(
        "# Mistakes\n\n*For whoever met one: what each message is about, by the code in its brackets.*\n\nThis document is written from the table that the messages take their codes from\n(`crates/core/src/text/mistakes`), and each example is a message of the program in its tests. A code does not change\nits meaning once it has been released.\n",
    );
    for (heading, list) in mistakes::ALL {
        write!(document, "\n## {heading}\n").unwrap();
        for mistake in list {
            let code = mistake.code;
            let plain = code.bytes().all(|b| b.is_ascii_lowercase() || b == b'-');
            assert!(plain, "{code}");
            let message = messages
                .get(code)
                .unwrap_or_else(|| panic!("nothing raises `{code}`"));
            let mend = mistake.mend;
            let paragraph = format!(
                "{} **To mend it:** {mend} *For example:* {message}.",
                mistake.what
            );
            write!(document, "\n### {code}\n\n{}", wrapped(&paragraph)).unwrap();
        }
    }
    let codes = mistakes::ALL.iter().flat_map(|(_, list)| list.iter());
    assert_eq!(codes.count(), messages.len(), "a code stands twice");
    golden("../../../../docs/mistakes.md", &document);
}
