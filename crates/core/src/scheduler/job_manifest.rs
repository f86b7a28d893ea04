//! What a recipe is given to know of its job, as JSON.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::project::frame::Frame;
use crate::project::value::Value;

/// What `HANDLOOM_JOB` names; paths are seen from the folder that the recipe runs in.
#[derive(Serialize)]
pub struct JobManifest<'a> {
    /// What it makes.
    pub targets: WordTexts<'a>,
    /// The same by labels.
    pub target_groups: BTreeMap<&'a str, WordTexts<'a>>,
    /// What it needs.
    pub needs: WordTexts<'a>,
    /// The same by labels.
    pub need_groups: BTreeMap<&'a str, WordTexts<'a>>,
    /// The variables that the recipe mentions.
    pub variables: BTreeMap<&'a str, WordTexts<'a>>,
    /// Where it runs.
    pub folder: &'a str,
}

/// The words of a value; none of a name that has none.
#[derive(Default)]
pub struct WordTexts<'a>(pub Option<&'a Value>);

impl<'a> WordTexts<'a> {
    /// Those of a name.
    pub fn of(frame: &'a Frame<'_>, name: &str) -> Self {
        Self(frame.local(name))
    }

    /// One after another.
    pub fn texts(&self) -> impl Iterator<Item = &'a str> {
        self.0.into_iter().flat_map(Value::texts)
    }

    /// A word a line.
    pub fn joined(&self) -> String {
        self.texts().collect::<Vec<_>>().join("\n")
    }
}

impl Serialize for WordTexts<'_> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.texts())
    }
}

/// The words under each label.
pub fn groups<'a>(labels: &[&'a str], frame: &'a Frame<'_>) -> BTreeMap<&'a str, WordTexts<'a>> {
    let labels = labels.iter();
    labels
        .map(|label| (*label, WordTexts::of(frame, label)))
        .collect()
}
