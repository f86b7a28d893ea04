//! Wrong descriptions and exactly what is said of each. `HANDLOOM_GOLDEN=write cargo test` writes the
//! answers anew; read the difference before you keep it.

use std::collections::BTreeMap;
use std::path::Path;

use crate::looking::lines;
use crate::looking::look;
use crate::made_up::Machine;

const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/corpus/mistakes.txt");

/// The files that every case has beside its description.
const SOURCES: [&str; 5] = [
    "src/lamp.c",
    "src/bulb.c",
    "logs/tarn.csv",
    "logs/holm.csv",
    "assets/a",
];

fn answer(loom: &str) -> String {
    let mut files: BTreeMap<String, Vec<u8>> = SOURCES
        .iter()
        .map(|path| ((*path).to_owned(), b"x".to_vec()))
        .collect();
    // `== PATH` in a case begins another file.
    let mut path = "hand.loom".to_owned();
    for line in loom.lines() {
        match line.strip_prefix("== ") {
            Some(other) => other.clone_into(&mut path),
            None => {
                let text = line.replace("<TAB>", "\t").replace("<NBSP>", "\u{a0}");
                let file = files.entry(path.clone()).or_default();
                file.extend_from_slice(text.as_bytes());
                file.push(b'\n');
            }
        }
    }
    let machine = Machine::with(&files);
    let (sources, wrong) = look(&machine, |_, _| {});
    lines(&sources, &wrong)
}

#[test]
fn every_mistake_is_answered_as_recorded() {
    let text = std::fs::read_to_string(Path::new(FILE)).unwrap();
    let mut renewed = String::new();
    let mut count = 0;
    for case in text.split("\n#### ").filter(|case| !case.trim().is_empty()) {
        let case = case.trim_start_matches("#### ");
        let (title, rest) = case.split_once('\n').unwrap();
        let (loom, _) = rest.split_once("\n=>\n").unwrap_or((rest.trim_end(), ""));
        let answer = answer(loom);
        assert!(!answer.is_empty(), "nothing is wrong with: {title}\n{loom}");
        renewed += &format!("#### {title}\n{loom}\n=>\n{answer}\n");
        count += 1;
    }
    assert!(count > 50, "only {count} cases were found");
    if std::env::var_os("HANDLOOM_GOLDEN").is_some() {
        std::fs::write(FILE, &renewed).unwrap();
    }
    assert_eq!(text.trim(), renewed.trim());
}
