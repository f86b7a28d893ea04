//! The snapshot: arrays of fixed-size records that are read where they lie.
//!
//! The file is laid out as [`crate::ledger::arrays`] says, with the magic `HLSNAP03`, the seed of
//! the journal that belongs to it, one flag (bit 0: whole folders were made) and the arrays of
//! [`SnapshotSection`]. Version 02 had no lists of learned edges that several steps share ([`SHARED`]). An index out of range reads as "nothing recorded".

use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::I64;
use zerocopy::little_endian::U32;
use zerocopy::little_endian::U64;

use crate::content::Record;
use crate::ledger::arrays::ArrayLayout;
use crate::ledger::arrays::Arrays;
use crate::ledger::arrays::FormatError;
use crate::ledger::journal;
use crate::ledger::records::Entry;
use crate::ledger::storage::Bytes;
use crate::ledger::view::StepTables;
use crate::ledger::view::StepView;
use crate::project::paths::path_hash;
use crate::world::Digest;

/// The format.
pub const LAYOUT: ArrayLayout = ArrayLayout {
    magic: b"HLSNAP03",
    older: &[(b"HLSNAP01", 10), (b"HLSNAP02", 11)],
    sizes: &[
        1,
        size_of::<TextRec>(),
        size_of::<PathRec>(),
        4,
        32,
        size_of::<StepRec>(),
        size_of::<EdgeRec>(),
        size_of::<GivenRec>(),
        size_of::<GivenRec>(),
        4,
        1,
    ],
};

/// No index.
pub const NONE: u32 = u32::MAX;

/// Set in a step's number of learned edges: they lie where another step's lie, and in their place stands one record
/// whose `path` is the index of the first.
pub const SHARED: u32 = 1 << 31;

/// The arrays, in the order of the table.
#[derive(Clone, Copy, Debug)]
pub enum SnapshotSection {
    /// Bytes of all texts and paths.
    Strings,
    /// [`TextRec`]: where each text lies.
    Texts,
    /// [`PathRec`]
    Paths,
    /// Hash table from a path to its index in `Paths`: a power of two of indices, [`NONE`] is free.
    PathIndex,
    /// 32 bytes each.
    Digests,
    /// [`StepRec`]
    Steps,
    /// [`EdgeRec`]
    Edges,
    /// [`GivenRec`]: inputs that are no files.
    Givens,
    /// [`GivenRec`]: what commands printed.
    Commands,
    /// Indices of the texts of folders that were made.
    Folders,
    /// Bytes of journal entries: of steps that began and have not ended, and of those that ended badly.
    Open,
}

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct TextRec {
    pub at: U32,
    pub length: U32,
}

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct PathRec {
    /// Index of its text.
    pub text: U32,
    /// Index of the file's digest; [`NONE`] when no file record is kept.
    pub digest: U32,
    /// Index of the step that made it, or [`NONE`].
    pub maker: U32,
    /// Index of the step that it names, or [`NONE`].
    pub step: U32,
    pub size: U64,
    pub modified: I64,
    pub changed: I64,
    pub inode: U64,
    pub read_at: I64,
}

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct StepRec {
    /// Index of its name in `Paths`.
    pub name: U32,
    pub recipe_text: U32,
    pub parameters: U32,
    pub reasons: U32,
    /// Its edges lie together: outputs, needs, learned (or, with [`SHARED`] in their number, where those are).
    pub edges: U32,
    pub outputs: U32,
    pub needs: U32,
    pub learned: U32,
    pub givens: U32,
    pub given_count: U32,
    pub ended_at: I64,
    pub took: U64,
    pub memory: U64,
    pub processor: U64,
}

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct EdgeRec {
    pub path: U32,
    /// [`NONE`]: nothing was there.
    pub digest: U32,
    /// As [`crate::ledger::Edge::group`].
    pub group: U32,
}

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct GivenRec {
    pub key: U32,
    /// [`NONE`]: it was not set.
    pub value: U32,
}

impl PathRec {
    /// What is recorded of the file there, whose content that is.
    pub fn record(&self, digest: Digest) -> Record {
        Record {
            size: self.size.get(),
            modified: self.modified.get(),
            changed: self.changed.get(),
            inode: self.inode.get(),
            read_at: self.read_at.get(),
            digest,
        }
    }
}

/// The seed of the journal that belongs to a snapshot of this version, of which nothing else is looked at.
pub fn seed_of(bytes: &[u8]) -> Option<[u8; 32]> {
    let begins = bytes.get(..LAYOUT.magic.len())? == LAYOUT.magic;
    let seed = bytes.get(8..40)?.try_into().ok()?;
    begins.then_some(seed)
}

/// A snapshot that is being read.
pub struct Snapshot {
    arrays: Arrays,
    /// Whether any whole folder was made.
    pub has_trees: bool,
    /// Whether it is of version 01, so that all its edges are [`LEGACY`](crate::ledger::records::LEGACY) and
    /// what it says of files is passed over.
    pub legacy: bool,
}

impl Snapshot {
    /// Checks a snapshot's head, table and checksum.
    ///
    /// # Errors
    /// What is wrong.
    pub fn open(bytes: Bytes) -> Result<Self, FormatError> {
        Self::of(Arrays::open(bytes, LAYOUT)?)
    }

    /// The same for one that this process has just written: it is not read through once more.
    ///
    /// # Errors
    /// What is wrong.
    pub fn open_own(bytes: Bytes) -> Result<Self, FormatError> {
        Self::of(Arrays::open_own(bytes, LAYOUT)?)
    }

    fn of(arrays: Arrays) -> Result<Self, FormatError> {
        let index = arrays.get::<U32>(SnapshotSection::PathIndex as usize).len();
        if index != 0 && !index.is_power_of_two() {
            return Err(FormatError::Table);
        }
        Ok(Self {
            has_trees: arrays.flags & 1 != 0,
            legacy: arrays.older == Some(0),
            arrays,
        })
    }

    /// The seed of the journal that belongs to it.
    pub fn seed(&self) -> [u8; 32] {
        self.arrays.seed
    }

    /// The entries of steps that began and have not ended, and of those that ended badly.
    pub fn open_entries(&self) -> Vec<Entry> {
        journal::entries(self.array::<u8>(SnapshotSection::Open), &self.seed())
    }

    /// Whether no step and no file is recorded in it.
    pub fn is_empty(&self) -> bool {
        self.paths().is_empty()
    }

    /// Its size in bytes.
    pub fn size(&self) -> usize {
        self.arrays.size()
    }

    fn array<T: FromBytes + Immutable + KnownLayout + Unaligned>(
        &self,
        section: SnapshotSection,
    ) -> &[T] {
        self.arrays.get(section as usize)
    }

    pub fn path_rec(&self, index: u32) -> Option<&PathRec> {
        self.array::<PathRec>(SnapshotSection::Paths)
            .get(index as usize)
    }

    fn find(&self, path: &str) -> Option<&PathRec> {
        let table = self.array::<U32>(SnapshotSection::PathIndex);
        if table.is_empty() {
            return None;
        }
        let mask = table.len() - 1;
        let mut slot = path_hash(path) as usize & mask;
        for _ in 0..table.len() {
            let index = table.get(slot)?.get();
            if index == NONE {
                return None;
            }
            let record = self.path_rec(index)?;
            if self.text(record.text.get()) == Some(path) {
                return Some(record);
            }
            slot = (slot + 1) & mask;
        }
        None
    }

    /// What is recorded of a file.
    pub fn file(&self, path: &str) -> Option<Record> {
        self.file_of(self.find(path)?)
    }

    pub fn file_of(&self, record: &PathRec) -> Option<Record> {
        if self.legacy {
            return None;
        }
        Some(record.record(self.digest_at(record.digest.get())?))
    }

    /// What is recorded of a step.
    pub fn step(&self, name: &str) -> Option<StepView<'_>> {
        let index = self.find(name)?.step.get();
        let record = self.steps().get(index as usize)?;
        Some(StepView::new(self, record))
    }

    pub fn steps(&self) -> &[StepRec] {
        self.array(SnapshotSection::Steps)
    }

    pub fn paths(&self) -> &[PathRec] {
        self.array(SnapshotSection::Paths)
    }

    pub fn commands(&self) -> impl Iterator<Item = (&str, &str)> {
        self.array::<GivenRec>(SnapshotSection::Commands)
            .iter()
            .filter_map(|record| {
                Some((self.text(record.key.get())?, self.text(record.value.get())?))
            })
    }

    /// Folders that were made.
    pub fn folders(&self) -> impl Iterator<Item = &str> {
        self.array::<U32>(SnapshotSection::Folders)
            .iter()
            .filter_map(|index| self.text(index.get()))
    }

    /// The step that made a path.
    pub fn maker(&self, path: &str) -> Option<&str> {
        let index = self.find(path)?.maker.get();
        self.path_text(self.steps().get(index as usize)?.name.get())
    }

    /// The names of all steps.
    pub fn step_names(&self) -> impl Iterator<Item = &str> {
        self.steps()
            .iter()
            .filter_map(|step| self.path_text(step.name.get()))
    }

    /// What a command printed.
    pub fn command(&self, key: &str) -> Option<&str> {
        self.commands()
            .find(|(known, _)| *known == key)
            .map(|(_, output)| output)
    }
}

impl StepTables for Snapshot {
    fn text(&self, index: u32) -> Option<&str> {
        let texts = self.array::<TextRec>(SnapshotSection::Texts);
        let text = texts.get(index as usize)?;
        let (at, length) = (text.at.get() as usize, text.length.get() as usize);
        let strings = self.array::<u8>(SnapshotSection::Strings);
        std::str::from_utf8(strings.get(at..at.checked_add(length)?)?).ok()
    }

    fn path_text(&self, index: u32) -> Option<&str> {
        self.text(self.path_rec(index)?.text.get())
    }

    fn digest_at(&self, index: u32) -> Option<Digest> {
        let digests = self.array::<[u8; 32]>(SnapshotSection::Digests);
        digests.get(index as usize).copied().map(Digest)
    }

    fn edges(&self, from: u32, count: u32) -> &[EdgeRec] {
        let from = from as usize;
        self.array::<EdgeRec>(SnapshotSection::Edges)
            .get(from..from.saturating_add(count as usize))
            .unwrap_or_default()
    }

    fn givens(&self, from: u32, count: u32) -> &[GivenRec] {
        let from = from as usize;
        self.array::<GivenRec>(SnapshotSection::Givens)
            .get(from..from.saturating_add(count as usize))
            .unwrap_or_default()
    }

    fn is_legacy(&self) -> bool {
        self.legacy
    }
}
