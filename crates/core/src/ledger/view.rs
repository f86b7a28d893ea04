//! A step's record, wherever it lies: in the snapshot or in tables in memory.

use std::time::Duration;

use zerocopy::little_endian::U32;

use crate::ledger::records::Edge;
use crate::ledger::records::LEGACY;
use crate::ledger::records::LOOKED_IN_VAIN;
use crate::ledger::records::WATCHED_BY_RUN;
use crate::ledger::snapshot::EdgeRec;
use crate::ledger::snapshot::GivenRec;
use crate::ledger::snapshot::NONE;
use crate::ledger::snapshot::SHARED;
use crate::ledger::snapshot::StepRec;
use crate::world::ByteSize;
use crate::world::Digest;

/// Tables in which the texts and edges of steps lie.
pub trait StepTables {
    /// A text by its number.
    fn text(&self, index: u32) -> Option<&str>;
    /// A path's text by the path's number.
    fn path_text(&self, index: u32) -> Option<&str>;
    /// A content by its number.
    fn digest_at(&self, index: u32) -> Option<Digest>;
    /// Edges that lie together.
    fn edges(&self, from: u32, count: u32) -> &[EdgeRec];
    /// Inputs that are no files, which lie together.
    fn givens(&self, from: u32, count: u32) -> &[GivenRec];
    /// Whether all edges are [`LEGACY`].
    fn is_legacy(&self) -> bool;
}

/// What is recorded of a step.
#[derive(Clone, Copy)]
pub struct StepView<'l> {
    tables: &'l dyn StepTables,
    record: &'l StepRec,
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

impl<'l> EdgeView<'l> {
    /// A path in a record of its own.
    #[must_use]
    pub fn of(edge: &'l Edge) -> Self {
        Self {
            path: &edge.path,
            digest: edge.digest,
            group: edge.group & !LEGACY,
            legacy: edge.group & LEGACY != 0,
        }
    }

    /// Of a learned edge, whether the step found nothing there.
    #[must_use]
    pub fn is_in_vain(&self) -> bool {
        self.group & LOOKED_IN_VAIN != 0
    }

    /// Whether a learned edge counts: what a step learned by its own description only counts as long as that says
    /// `learn`.
    #[must_use]
    pub fn counts(&self, says_learn: bool) -> bool {
        says_learn || self.group & WATCHED_BY_RUN != 0
    }

    /// The group as it is recorded.
    #[must_use]
    pub fn raw_group(&self) -> u16 {
        self.group | if self.legacy { LEGACY } else { 0 }
    }
}

impl<'l> StepView<'l> {
    /// A record in its tables.
    pub(super) fn new(tables: &'l dyn StepTables, record: &'l StepRec) -> Self {
        Self { tables, record }
    }

    /// Whether this is the record that another view is of.
    #[must_use]
    pub fn is(self, other: StepView<'_>) -> bool {
        std::ptr::eq(self.record, other.record)
    }

    fn edge(self, edge: &EdgeRec) -> Option<EdgeView<'l>> {
        let group = u16::try_from(edge.group.get()).unwrap_or(u16::MAX);
        Some(EdgeView {
            path: self.tables.path_text(edge.path.get())?,
            digest: self.tables.digest_at(edge.digest.get()),
            group: group & !LEGACY,
            legacy: self.tables.is_legacy() || group & LEGACY != 0,
        })
    }

    fn edges(self, skip: u32, count: U32) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        let from = self.record.edges.get().saturating_add(skip);
        self.edges_at(from, count)
    }

    fn edges_at(self, from: u32, count: U32) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        // An index out of range cannot pass the checksum; it would read as an absent empty path.
        let nothing = EdgeView {
            path: "",
            digest: None,
            group: 0,
            legacy: false,
        };
        let edges = self.tables.edges(from, count.get()).iter();
        edges.map(move |edge| self.edge(edge).unwrap_or(nothing))
    }

    /// What it made.
    pub fn outputs(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        self.edges(0, self.record.outputs)
    }

    /// The prerequisites as it saw them.
    pub fn needs(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        self.edges(self.record.outputs.get(), self.record.needs)
    }

    /// What it found out itself.
    pub fn learned(self) -> impl ExactSizeIterator<Item = EdgeView<'l>> {
        let before = self.record.outputs.get();
        let before = before.saturating_add(self.record.needs.get());
        let count = self.record.learned.get();
        let place = self.record.edges.get().saturating_add(before);
        if count & SHARED == 0 {
            return self.edges_at(place, count.into());
        }
        let place = self.tables.edges(place, 1).first();
        let first = place.map_or(NONE, |place| place.path.get());
        self.edges_at(first, (count & !SHARED).into())
    }

    /// Inputs that are no files, with their values.
    #[must_use]
    pub fn givens(self) -> Vec<(&'l str, Option<&'l str>)> {
        let (from, count) = (self.record.givens.get(), self.record.given_count.get());
        let givens = self.tables.givens(from, count).iter();
        let text = |index: U32| self.tables.text(index.get());
        givens
            .filter_map(|given| Some((text(given.key)?, text(given.value))))
            .collect()
    }

    fn text(self, index: U32) -> &'l str {
        self.tables.text(index.get()).unwrap_or_default()
    }

    /// The recipe as compared.
    #[must_use]
    pub fn recipe_text(self) -> &'l str {
        self.text(self.record.recipe_text)
    }

    /// The values of its holes, as text.
    #[must_use]
    pub fn parameters(self) -> &'l str {
        self.text(self.record.parameters)
    }

    /// Why it ran, one reason a line.
    #[must_use]
    pub fn reasons(self) -> &'l str {
        self.text(self.record.reasons)
    }

    /// When it ended, nanoseconds since 1970.
    #[must_use]
    pub fn ended_at(self) -> i64 {
        self.record.ended_at.get()
    }

    /// How long it took.
    #[must_use]
    pub fn took(self) -> Duration {
        Duration::from_nanos(self.record.took.get())
    }

    /// The largest amount of memory any of its processes held.
    #[must_use]
    pub fn memory(self) -> ByteSize {
        ByteSize(self.record.memory.get())
    }

    /// Processor time of all its processes.
    #[must_use]
    pub fn processor(self) -> Duration {
        Duration::from_nanos(self.record.processor.get())
    }
}
