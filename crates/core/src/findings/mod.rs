//! What compilers, checkers and interpreters said of sources, out of what a job printed.
//!
//! Read are the forms that tools have in common: `FILE:LINE:COLUMN: error: MESSAGE` and its kin (GNU coding standards, "Formatting
//! Error Messages"), `FILE(LINE,COLUMN): error CODE: MESSAGE`, a message with `--> FILE:LINE:COLUMN` below it, an interpreter's
//! traceback, a shell's own messages. What names no file that is there is none: most of what is printed is prose.

mod blocks;
mod json;
mod lines;
mod pattern;

pub use pattern::FindingPattern;
pub use pattern::FindingPatternError;

use serde::Deserialize;
use serde::Serialize;

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FindingLevel {
    /// It explains another one.
    Note,
    /// It may be wrong.
    Warning,
    /// It is wrong.
    Error,
}

impl FindingLevel {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }
}

/// One thing that was said of a place in a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// How bad it is.
    pub level: FindingLevel,
    /// The file, as it was told it is called.
    pub file: String,
    /// The line, from 1.
    pub line: u32,
    /// The column, from 1, in whatever the tool counts; none when it was not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<u32>,
    /// What the tool calls such a thing: `-Wunused-variable`, `E0425`, `SC2086`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// What is said.
    pub message: String,
}

/// A place as it was printed.
#[derive(Clone, Debug, PartialEq, Eq)]
struct PrintedPlace<'t> {
    file: &'t str,
    line: u32,
    column: Option<u32>,
}

/// All that is said of files in what a job printed, in order, each once. `file` tells how a printed path is called, when it is a
/// file that counts.
#[must_use]
pub fn findings(text: &str, file: &dyn Fn(&str) -> Option<String>) -> Vec<Finding> {
    findings_by(text, &[], file)
}

/// The same; lines are also read by patterns of one's own, before all others.
#[must_use]
pub fn findings_by(
    text: &str,
    patterns: &[FindingPattern],
    file: &dyn Fn(&str) -> Option<String>,
) -> Vec<Finding> {
    let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    let mut found: Vec<Finding> = Vec::new();
    let mut at = 0;
    while at < lines.len() {
        let rest = &lines[at..];
        let mut own = patterns
            .iter()
            .filter_map(|pattern| pattern.read(rest[0], file));
        let whole = match own.next() {
            Some(finding) => Some(vec![finding]),
            None => json::read(rest[0], file),
        };
        if let Some(all) = whole {
            at += 1;
            for finding in all {
                if !found.contains(&finding) {
                    found.push(finding);
                }
            }
            continue;
        }
        let (finding, taken) = match blocks::read(rest, file) {
            Some((finding, taken)) => (finding, taken),
            None => (lines::read(rest[0], file), 1),
        };
        at += taken;
        if let Some(finding) = finding
            && !found.contains(&finding)
        {
            found.push(finding);
        }
    }
    found
}
