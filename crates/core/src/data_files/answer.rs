//! What is asked of a file, and what it answers.

use serde::Deserialize;
use serde::Serialize;

use crate::world::Digest;

/// Lists and objects nested deeper than this are refused.
pub const MAX_DEPTH: usize = 100;

/// What is asked of a file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum FileQuestion {
    /// What stands under a key: the way to it from the outermost object.
    Value(Vec<String>),
    /// Its lines.
    Lines,
    /// Its lines `NAME=value`: each name, and its value behind it.
    Assignments,
    /// These columns of each row.
    Columns(Vec<String>),
}

/// What a file answers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileAnswer {
    /// The words; of rows the cells that were asked for, one row behind the other.
    pub words: Vec<String>,
    /// Whether it is a list there.
    pub is_list: bool,
    /// For each row the line that it begins on, or in JSON its number; both from 1.
    pub places: Vec<u64>,
}

impl FileAnswer {
    /// What tells whether the same is answered another time.
    #[must_use]
    pub fn digest(&self) -> Digest {
        let mut text = vec![u8::from(self.is_list)];
        for word in &self.words {
            text.extend_from_slice(&word.len().to_le_bytes());
            text.extend_from_slice(word.as_bytes());
        }
        Digest::of(&text)
    }
}

/// Why a file does not answer.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{title}")]
pub struct DataError {
    /// What is wrong, with the file's own line where there is one.
    pub title: String,
    /// What to do.
    pub help: String,
    /// A name that was asked for and the one that is likely meant by it.
    pub meant: Option<(String, String)>,
}

impl DataError {
    pub(super) fn meant(mut self, asked: &str, near: Option<&str>) -> Self {
        self.meant = near.map(|near| (asked.to_owned(), near.to_owned()));
        self
    }

    pub(super) fn new(title: impl Into<String>, help: impl Into<String>) -> Self {
        let (title, help) = (title.into(), help.into());
        let meant = None;
        Self { title, help, meant }
    }

    /// The file can't be read.
    #[must_use]
    pub fn unreadable(name: &str, why: impl std::fmt::Display) -> Self {
        Self::new(
            format!("can't read `{name}`: {why}"),
            "the value stands in this file; paths are seen from the folder of the description",
        )
    }
}

/// A few names for a message.
pub fn listed<'n>(names: impl Iterator<Item = &'n str>) -> String {
    const MOST: usize = 20;
    let mut names: Vec<String> = names
        .take(MOST + 1)
        .map(|name| format!("`{name}`"))
        .collect();
    if names.len() > MOST {
        names.truncate(MOST);
        names.push("…".to_owned());
    }
    names.join(", ")
}
