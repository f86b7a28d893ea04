//! In which run a step ran, and what that run was carried out in: kept for as long as any record speaks of the run.
//!
//! A step's record says it in one more line behind its reasons, `ran-in RUN PLACE NODE`; `-` stands where it was this machine.
//! What is said of the run is kept once, among what commands printed, under a key that no command has. So steps cost no more
//! than that line, and ledgers of before are read as they are.

use std::collections::HashSet;

use serde::Deserialize;
use serde::Serialize;

use crate::ledger::records::Entry;
use crate::ledger::state::Ledger;
use crate::ledger::view::StepView;

/// What a line of a record begins with that says it; no reason is called so.
const LINE: &str = "ran-in ";

/// What the keys of runs begin with; no command does.
const KEY: &str = "\0run ";

/// Where something is that is here.
const HERE: &str = "-";

/// The run that a step ran in, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RanIn {
    /// Which run it was: [`RunCircumstances::run`].
    pub run: u64,
    /// The place of another machine that it ran at, as the project's settings call it.
    pub place: Option<String>,
    /// That machine's name.
    pub node: Option<String>,
}

/// What a run was carried out in.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunCircumstances {
    /// When it began, milliseconds since 1970; no two runs in a project begin in the same one.
    pub run: u64,
    /// What was typed.
    pub command: String,
    /// The machine's name.
    pub machine: String,
    /// Its operating system and processors, for people.
    pub system: String,
    /// The project's folder.
    pub folder: String,
    /// Which Hand Loom it was.
    pub version: String,
    /// The state that the version control had the project in; none when there was none, or it could not be asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<CommitState>,
}

/// What the version control said of a project.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CommitState {
    /// The commit that was checked out, in full.
    pub id: String,
    /// Whether nothing differed from it; none when that took too long to find out.
    pub clean: Option<bool>,
    /// The first few files that differed from it, from the top of its tree.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changed: Vec<String>,
}

impl RanIn {
    /// As a line of a record, behind the reasons.
    #[must_use]
    pub fn line(&self) -> String {
        let word = |name: &Option<String>| {
            let name = name.as_deref().unwrap_or(HERE);
            name.replace(char::is_whitespace, "_")
        };
        let (place, node) = (word(&self.place), word(&self.node));
        format!("{LINE}{} {place} {node}\n", self.run)
    }

    /// What a record's reasons say; nothing in records of before.
    #[must_use]
    pub fn among(reasons: &str) -> Option<Self> {
        let line = reasons
            .lines()
            .rev()
            .find_map(|line| line.strip_prefix(LINE))?;
        let mut words = line.split(' ');
        let run = words.next()?.parse().ok()?;
        let mut name = || {
            let word = words.next()?;
            (word != HERE).then(|| word.to_owned())
        };
        Some(Self {
            run,
            place: name(),
            node: name(),
        })
    }
}

impl RunCircumstances {
    /// What a ledger is to be told of the run.
    #[must_use]
    pub fn entry(&self) -> Entry {
        let text = serde_json::to_string(self).unwrap_or_default();
        Entry::Command(key(self.run), text)
    }

    /// What a ledger says of a run.
    #[must_use]
    pub fn of(ledger: &Ledger, run: u64) -> Option<Self> {
        serde_json::from_str(ledger.command(&key(run))?).ok()
    }
}

fn key(run: u64) -> String {
    format!("{KEY}{run}")
}

/// The runs that some steps ran in, as keys.
pub(super) struct SpokenOf(HashSet<String>);

impl SpokenOf {
    /// Those of these steps.
    pub(super) fn of<'l>(steps: impl Iterator<Item = StepView<'l>>) -> Self {
        // Most steps that ran together share the text.
        let (mut texts, mut runs) = (HashSet::new(), HashSet::new());
        for step in steps {
            let reasons = step.reasons();
            if texts.insert((reasons.as_ptr(), reasons.len()))
                && let Some(ran) = RanIn::among(reasons)
            {
                runs.insert(key(ran.run));
            }
        }
        Self(runs)
    }

    /// Whether what stands under a key is of use: it speaks of no run, or of one of these.
    pub(super) fn wants(&self, key: &str) -> bool {
        !key.starts_with(KEY) || self.0.contains(key)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::verdict::Reason;

    #[test]
    fn where_a_step_ran_is_read_back_and_no_reason_is_taken_for_it() {
        for (place, node) in [(None, None), (Some("cluster"), Some("node 7"))] {
            let ran = RanIn {
                run: 1_790_000_000_123,
                place: place.map(str::to_owned),
                node: node.map(str::to_owned),
            };
            let record = format!("never-made \n{}", ran.line());
            let read = RanIn::among(&record).unwrap();
            assert_eq!((read.run, &read.place), (ran.run, &ran.place));
            assert_eq!(read.node, node.map(|_| "node_7".to_owned()));
            let reasons: Vec<Reason> = record.lines().filter_map(Reason::from_line).collect();
            assert_eq!(reasons.len(), 1);
        }
        assert_eq!(RanIn::among("prerequisite-changed ran-in 7 - -\n"), None);
        assert_eq!(RanIn::among("ran-in x\n"), None);
    }
}
