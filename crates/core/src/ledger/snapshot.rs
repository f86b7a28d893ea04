//! The snapshot: arrays of fixed-size records that are read where they lie.
//!
//! Head, 64 bytes: the 8 bytes `HLSNAP01`, the seed of the journal that belongs to it (32), the
//! XXH3 of everything behind the head (8), that many bytes as a number (8), flags (8: bit 0, whole
//! folders were made). Then a
//! table with offset and count of each array (16 bytes each, in the order of [`Section`]), then the
//! arrays. All numbers are little-endian; offsets count from the start of the file. The checksum is
//! verified once at the door, and every index is still looked up with a bounds check: an index out
//! of range reads as "nothing recorded".

use xxhash_rust::xxh3::xxh3_64;
use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::I64;
use zerocopy::little_endian::U32;
use zerocopy::little_endian::U64;

use crate::content::Record;
use crate::ledger::storage::Bytes;
use crate::ledger::view::BaseStep;
use crate::ledger::view::StepView;
use crate::project::paths::path_hash;
use crate::world::Digest;

pub const MAGIC: &[u8; 8] = b"HLSNAP01";
/// The same without the version, to tell a newer format from damage.
const FAMILY: &[u8; 6] = b"HLSNAP";
pub const HEAD: usize = 64;
/// No index.
pub const NONE: u32 = u32::MAX;

/// The arrays, in the order of the table.
#[derive(Clone, Copy, Debug)]
pub enum Section {
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
}

pub const SECTIONS: usize = 10;

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct SectionRec {
    pub at: U64,
    pub count: U64,
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
    pub sheet: U32,
    pub bindings: U32,
    pub reasons: U32,
    /// Its edges lie together: outputs, needs, learned.
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
    pub group: U32,
}

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct GivenRec {
    pub key: U32,
    /// [`NONE`]: it was not set.
    pub value: U32,
}

/// A snapshot that is being read.
pub struct Snapshot {
    bytes: Bytes,
    sections: [(usize, usize); SECTIONS],
    seed: [u8; 32],
    /// Whether any whole folder was made.
    pub has_trees: bool,
}

impl Snapshot {
    /// Checks a snapshot's head, table and checksum.
    ///
    /// # Errors
    /// What is wrong, for a message.
    pub fn open(bytes: Bytes) -> Result<Self, String> {
        let head = bytes.get(..HEAD).ok_or("it is cut short")?;
        if &head[..6] == FAMILY && &head[..8] != MAGIC {
            return Err(
                "it is of another format, written by another version of Hand Loom".to_owned(),
            );
        }
        if &head[..8] != MAGIC {
            return Err("it does not begin as a ledger does".to_owned());
        }
        let mut seed = [0; 32];
        seed.copy_from_slice(&head[8..40]);
        let number = |at: usize| {
            let mut bytes = [0; 8];
            bytes.copy_from_slice(&head[at..at + 8]);
            u64::from_le_bytes(bytes)
        };
        let body = &bytes[HEAD..];
        if number(48) != body.len() as u64 {
            return Err("it is cut short".to_owned());
        }
        if number(40) != xxh3_64(body) {
            return Err("its checksum does not fit its content".to_owned());
        }
        let has_trees = number(56) & 1 != 0;
        let sections = sections(&bytes).ok_or("its table points outside of it")?;
        Ok(Self {
            bytes,
            sections,
            seed,
            has_trees,
        })
    }

    /// The seed of the journal that belongs to it.
    pub fn seed(&self) -> [u8; 32] {
        self.seed
    }

    /// Its size in bytes.
    pub fn size(&self) -> usize {
        self.bytes.len()
    }

    fn array<T: FromBytes + Immutable + KnownLayout + Unaligned>(&self, section: Section) -> &[T] {
        let (at, count) = self.sections[section as usize];
        let size = count.saturating_mul(size_of::<T>());
        self.bytes
            .get(at..at.saturating_add(size))
            .and_then(|bytes| <[T]>::ref_from_bytes(bytes).ok())
            .unwrap_or_default()
    }

    pub fn text(&self, index: u32) -> Option<&str> {
        let text = self.array::<TextRec>(Section::Texts).get(index as usize)?;
        let (at, length) = (text.at.get() as usize, text.length.get() as usize);
        let bytes = self
            .array::<u8>(Section::Strings)
            .get(at..at.checked_add(length)?)?;
        std::str::from_utf8(bytes).ok()
    }

    pub fn path_rec(&self, index: u32) -> Option<&PathRec> {
        self.array::<PathRec>(Section::Paths).get(index as usize)
    }

    pub fn path(&self, index: u32) -> Option<&str> {
        self.text(self.path_rec(index)?.text.get())
    }

    pub fn digest(&self, index: u32) -> Option<Digest> {
        self.array::<[u8; 32]>(Section::Digests)
            .get(index as usize)
            .map(|bytes| Digest(*bytes))
    }

    pub fn edges(&self, from: u32, count: u32) -> &[EdgeRec] {
        let from = from as usize;
        self.array::<EdgeRec>(Section::Edges)
            .get(from..from.saturating_add(count as usize))
            .unwrap_or_default()
    }

    pub fn givens(&self, from: u32, count: u32) -> &[GivenRec] {
        let from = from as usize;
        self.array::<GivenRec>(Section::Givens)
            .get(from..from.saturating_add(count as usize))
            .unwrap_or_default()
    }

    fn find(&self, path: &str) -> Option<&PathRec> {
        let table = self.array::<U32>(Section::PathIndex);
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
        Some(Record {
            size: record.size.get(),
            modified: record.modified.get(),
            changed: record.changed.get(),
            inode: record.inode.get(),
            read_at: record.read_at.get(),
            digest: self.digest(record.digest.get())?,
        })
    }

    /// What is recorded of a step.
    pub fn step(&self, name: &str) -> Option<StepView<'_>> {
        let index = self.find(name)?.step.get();
        let record = self.steps().get(index as usize)?;
        Some(StepView::Base(BaseStep {
            snapshot: self,
            record,
        }))
    }

    pub fn steps(&self) -> &[StepRec] {
        self.array(Section::Steps)
    }

    pub fn paths(&self) -> &[PathRec] {
        self.array(Section::Paths)
    }

    pub fn commands(&self) -> impl Iterator<Item = (&str, &str)> {
        self.array::<GivenRec>(Section::Commands)
            .iter()
            .filter_map(|record| {
                Some((self.text(record.key.get())?, self.text(record.value.get())?))
            })
    }

    /// Folders that were made.
    pub fn folders(&self) -> impl Iterator<Item = &str> {
        self.array::<U32>(Section::Folders)
            .iter()
            .filter_map(|index| self.text(index.get()))
    }

    /// The step that made a path.
    pub fn maker(&self, path: &str) -> Option<&str> {
        let index = self.find(path)?.maker.get();
        self.path(self.steps().get(index as usize)?.name.get())
    }

    /// The names of all steps.
    pub fn step_names(&self) -> impl Iterator<Item = &str> {
        self.steps()
            .iter()
            .filter_map(|step| self.path(step.name.get()))
    }

    /// What a command printed.
    pub fn command(&self, key: &str) -> Option<&str> {
        self.commands()
            .find(|(known, _)| *known == key)
            .map(|(_, output)| output)
    }
}

fn sections(bytes: &[u8]) -> Option<[(usize, usize); SECTIONS]> {
    const SIZES: [usize; SECTIONS] = [
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
    ];
    let table = bytes.get(HEAD..HEAD + SECTIONS * size_of::<SectionRec>())?;
    let table = <[SectionRec]>::ref_from_bytes(table).ok()?;
    let mut sections = [(0, 0); SECTIONS];
    for (slot, (record, size)) in sections.iter_mut().zip(table.iter().zip(SIZES)) {
        let at = usize::try_from(record.at.get()).ok()?;
        let count = usize::try_from(record.count.get()).ok()?;
        let end = at.checked_add(count.checked_mul(size)?)?;
        if end > bytes.len() {
            return None;
        }
        *slot = (at, count);
    }
    let index = sections[Section::PathIndex as usize].1;
    (index == 0 || index.is_power_of_two()).then_some(sections)
}
