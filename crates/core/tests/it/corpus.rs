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

/// A case's files by their paths.
fn files(loom: &str) -> BTreeMap<String, Vec<u8>> {
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
    files
}

fn answer(loom: &str) -> String {
    let mut files = files(loom);
    let (sources, wrong) = look(&Machine::with(&files), |_, _| {});
    let said = lines(&sources, &wrong);
    // What is surely meant is written, by itself: that mistake must be gone then.
    for one in &wrong {
        let Some(mend) = one.replacement.as_ref().filter(|mend| mend.is_sure) else {
            continue;
        };
        let file = &sources.get(mend.span.source).name;
        let mut text = sources.get(mend.span.source).text.clone();
        text.replace_range(mend.span.start as usize..mend.span.end as usize, &mend.text);
        let before = files.insert(file.clone(), text.into_bytes()).unwrap();
        let (_, left) = look(&Machine::with(&files), |_, _| {});
        let stays = left.iter().any(|left| left.title == one.title);
        assert!(!stays, "{} is not mended in\n{loom}", one.title);
        files.insert(file.clone(), before);
    }
    said
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
