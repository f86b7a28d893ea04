//! A step's record, wherever it lies: in the snapshot or in memory.

use std::time::Duration;

use crate::ledger::records::Edge;
use crate::ledger::records::LEGACY;
use crate::ledger::records::StepRecord;
use crate::ledger::snapshot::EdgeRec;
use crate::ledger::snapshot::Snapshot;
use crate::ledger::snapshot::StepRec;
use crate::world::ByteSize;
use crate::world::Digest;

/// A step in the snapshot.
#[derive(Clone, Copy)]
pub struct BaseStep<'l> {
    pub(super) snapshot: &'l Snapshot,
    pub(super) record: &'l StepRec,
}

/// What is recorded of a step.
#[derive(Clone, Copy)]
pub enum StepView<'l> {
    /// From the snapshot.
    Base(BaseStep<'l>),
    /// From the journal.
    Own(&'l StepRecord),
}

/// A recorded path with its content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EdgeView<'l> {
    /// From the project's root.
    pub path: &'l str,
    /// The content; none when nothing was there.
    pub digest: Option<Digest>,
    /// The number of its group.
    pub group: u16,
    /// Whether the digest leaves out whether a file may be run, and what links say.
    pub legacy: bool,
}

impl EdgeView<'_> {
    /// The group as it is recorded.
    #[must_use]
    pub fn raw_group(&self) -> u16 {
        self.group | if self.legacy { LEGACY } else { 0 }
    }
}

/// A list of edges in either place.
#[derive(Clone, Copy)]
enum Edges<'l> {
    Base(&'l Snapshot, &'l [EdgeRec]),
    Own(&'l [Edge]),
}

impl<'l> Edges<'l> {
    fn len(self) -> usize {
        match self {
            Self::Base(_, edges) => edges.len(),
            Self::Own(edges) => edges.len(),
        }
    }

    fn get(self, index: usize) -> Option<EdgeView<'l>> {
        match self {
            Self::Base(snapshot, edges) => {
                let edge = edges.get(index)?;
                let group = u16::try_from(edge.group.get()).unwrap_or(u16::MAX);
                Some(EdgeView {
                    path: snapshot.path(edge.path.get())?,
                    digest: snapshot.digest(edge.digest.get()),
                    group: group & !LEGACY,
                    legacy: snapshot.legacy || group & LEGACY != 0,
                })
            }
            Self::Own(edges) => {
                let edge = edges.get(index)?;
                Some(EdgeView {
                    path: &edge.path,
                    digest: edge.digest,
                    group: edge.group & !LEGACY,
                    legacy: edge.group & LEGACY != 0,
                })
            }
        }
    }

    fn iter(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        // An index out of range cannot pass the checksum; it would read as an absent empty path.
        let nothing = EdgeView {
            path: "",
            digest: None,
            group: 0,
            legacy: false,
        };
        (0..self.len()).map(move |index| self.get(index).unwrap_or(nothing))
    }
}

impl<'l> StepView<'l> {
    fn edges(
        self,
        skip: impl Fn(&StepRec) -> u32,
        count: impl Fn(&StepRec) -> u32,
        own: impl Fn(&'l StepRecord) -> &'l [Edge],
    ) -> Edges<'l> {
        match self {
            Self::Base(step) => {
                let from = step.record.edges.get().saturating_add(skip(step.record));
                Edges::Base(step.snapshot, step.snapshot.edges(from, count(step.record)))
            }
            Self::Own(record) => Edges::Own(own(record)),
        }
    }

    /// What it made.
    pub fn outputs(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        self.edges(|_| 0, |step| step.outputs.get(), |record| &record.outputs)
            .iter()
    }

    /// The prerequisites as it saw them.
    pub fn needs(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        self.edges(
            |step| step.outputs.get(),
            |step| step.needs.get(),
            |record| &record.needs,
        )
        .iter()
    }

    /// What it found out itself.
    pub fn learned(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        self.edges(
            |step| step.outputs.get().saturating_add(step.needs.get()),
            |step| step.learned.get(),
            |record| &record.learned,
        )
        .iter()
    }

    /// Inputs that are no files, with their values.
    #[must_use]
    pub fn givens(self) -> Vec<(&'l str, Option<&'l str>)> {
        match self {
            Self::Base(step) => step
                .snapshot
                .givens(step.record.givens.get(), step.record.given_count.get())
                .iter()
                .filter_map(|given| {
                    Some((
                        step.snapshot.text(given.key.get())?,
                        step.snapshot.text(given.value.get()),
                    ))
                })
                .collect(),
            Self::Own(record) => record
                .givens
                .iter()
                .map(|given| (given.key.as_str(), given.value.as_deref()))
                .collect(),
        }
    }

    /// The recipe as compared.
    #[must_use]
    pub fn recipe_text(self) -> &'l str {
        match self {
            Self::Base(step) => step
                .snapshot
                .text(step.record.recipe_text.get())
                .unwrap_or_default(),
            Self::Own(record) => &record.recipe_text,
        }
    }

    /// The values of its holes, as text.
    #[must_use]
    pub fn parameters(self) -> &'l str {
        match self {
            Self::Base(step) => step
                .snapshot
                .text(step.record.parameters.get())
                .unwrap_or_default(),
            Self::Own(record) => &record.parameters,
        }
    }

    /// Why it ran, one reason a line.
    #[must_use]
    pub fn reasons(self) -> &'l str {
        match self {
            Self::Base(step) => step
                .snapshot
                .text(step.record.reasons.get())
                .unwrap_or_default(),
            Self::Own(record) => &record.reasons,
        }
    }

    /// When it ended, nanoseconds since 1970.
    #[must_use]
    pub fn ended_at(self) -> i64 {
        match self {
            Self::Base(step) => step.record.ended_at.get(),
            Self::Own(record) => record.ended_at,
        }
    }

    /// How long it took.
    #[must_use]
    pub fn took(self) -> Duration {
        Duration::from_nanos(match self {
            Self::Base(step) => step.record.took.get(),
            Self::Own(record) => record.took,
        })
    }

    /// The largest amount of memory any of its processes held.
    #[must_use]
    pub fn memory(self) -> ByteSize {
        ByteSize(match self {
            Self::Base(step) => step.record.memory.get(),
            Self::Own(record) => record.memory,
        })
    }

    /// Processor time of all its processes.
    #[must_use]
    pub fn processor(self) -> Duration {
        Duration::from_nanos(match self {
            Self::Base(step) => step.record.processor.get(),
            Self::Own(record) => record.processor,
        })
    }
}
