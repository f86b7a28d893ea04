//! The front of a kept project: all that tells whether anything changed, and nothing that is only needed when
//! something did.
//!
//! A run that finds that everything holds, and every file as it is recorded here, has nothing to do, and needs
//! neither the description's syntax nor the ledger's records. [`crate::ledger::arrays`] says how arrays are; the
//! magic is `HLFRNT02`, the arrays are those of [`FrontSection`]; the first is a [`FrontHeader`] in the postcard
//! format.

use serde::Deserialize;
use serde::Serialize;
use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::I64;
use zerocopy::little_endian::U32;
use zerocopy::little_endian::U64;

use crate::content::Record;
use crate::content::State;
use crate::content::folder_is_there;
use crate::content::settles;
use crate::ledger::Bytes;
use crate::ledger::Mark;
use crate::ledger::arrays;
use crate::ledger::arrays::ArrayLayout;
use crate::ledger::arrays::Arrays;
use crate::project_cache::dependencies::CacheDependencies;
use crate::project_cache::request::CachedRequest;
use crate::world::Digest;

/// The arrays, in the order of the table.
#[derive(Clone, Copy)]
enum FrontSection {
    /// [`FrontHeader`], postcard.
    Header,
    /// The paths of `Looked`, one behind the other.
    Arena,
    /// Where each path ends in `Arena`.
    Ends,
    /// [`LookRec`], sorted by path.
    Looked,
    /// For each of `Looked` the digest of what stood there, or of the names in a folder.
    Digests,
}

/// A project is not kept anew before so many bytes, and an eighth of its front, stand behind its mark in the journal.
const LONG_TAIL: usize = 16 << 10;

const LAYOUT: ArrayLayout = ArrayLayout {
    magic: b"HLFRNT02",
    older: &[],
    sizes: &[1, 1, 4, size_of::<LookRec>(), 32],
};

/// A path that was looked at, and how it is recognised.
#[derive(Clone, Copy, Debug, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct LookRec {
    /// The path in the body that this belongs to: the file, or the whole folder that it lies in.
    pub path: U32,
    /// A [`LookKind`], with [`YOUNG`].
    kind: U32,
    size: U64,
    modified: I64,
    changed: I64,
    inode: U64,
}

/// What is known of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LookKind {
    /// A file.
    File,
    /// A link to a file.
    Link,
    /// Nothing stands there.
    Absent,
    /// A file below a whole folder.
    Inside,
    /// A whole folder, or one in it: its names.
    Names,
    /// A folder of which only counts that it is there.
    Folder,
}

/// Set in a kind: it was read so soon after its last change that its times prove nothing.
const YOUNG: u32 = 1 << 8;

impl LookRec {
    /// What is known of a path. Without a record there is nothing.
    pub fn new(path: u32, kind: LookKind, record: Option<&Record>) -> Self {
        let young = record.is_some_and(|record| !record.settled());
        let kind = match kind {
            LookKind::File => 0,
            LookKind::Absent => 1,
            LookKind::Inside => 2,
            LookKind::Names => 3,
            LookKind::Link => 4,
            LookKind::Folder => 5,
        };
        Self {
            path: path.into(),
            kind: (kind | if young { YOUNG } else { 0 }).into(),
            size: record.map_or(0, |record| record.size).into(),
            modified: record.map_or(0, |record| record.modified).into(),
            changed: record.map_or(0, |record| record.changed).into(),
            inode: record.map_or(0, |record| record.inode).into(),
        }
    }

    /// What it is.
    pub fn kind(&self) -> LookKind {
        match self.kind.get() & !YOUNG {
            0 => LookKind::File,
            1 => LookKind::Absent,
            2 => LookKind::Inside,
            4 => LookKind::Link,
            5 => LookKind::Folder,
            _ => LookKind::Names,
        }
    }

    /// Whether it is a file that can be read.
    pub fn is_file(&self) -> bool {
        matches!(
            self.kind(),
            LookKind::File | LookKind::Link | LookKind::Inside
        )
    }

    /// Whether it would not be young if it had been read at that time, nanoseconds since 1970.
    pub fn would_settle(&self, read_at: i64) -> bool {
        settles(self.modified.get(), self.changed.get(), read_at)
    }

    /// The file's size, bytes.
    pub fn size(&self) -> u64 {
        self.size.get()
    }

    /// Whether its times prove nothing.
    pub fn is_young(&self) -> bool {
        self.kind.get() & YOUNG != 0
    }

    /// Whether size, times and identity are as recorded.
    pub fn same_stat(&self, stat: &crate::world::Stat) -> bool {
        self.size.get() == stat.size
            && self.modified.get() == stat.modified
            && self.changed.get() == stat.changed
            && self.inode.get() == stat.inode
    }
}

/// A file of the description.
#[derive(Clone, Serialize, Deserialize)]
pub struct KeptText {
    /// Its path from the root.
    pub name: String,
    /// How it is recognised; none for a link.
    pub record: Option<Record>,
    /// The digest of its text.
    pub digest: Digest,
    /// The XXH3 of what it puts in, and where; none when its lines can't be put in order.
    pub directives: Option<u64>,
}

/// All that is small.
#[derive(Serialize, Deserialize)]
pub struct FrontHeader {
    /// The digest of what the project was worked out from.
    pub key: Digest,
    /// The digest of the program, the machine and the project's folder.
    pub place: Digest,
    /// The digest of all that sets variables from outside.
    pub outside: Digest,
    /// The description's files.
    pub files: Vec<KeptText>,
    /// Files that it would put in if they were there.
    pub absent: Vec<String>,
    /// What was asked for.
    pub request: CachedRequest,
    /// How far the journal reached.
    pub mark: Mark,
    /// What working out depended on.
    pub dependencies: CacheDependencies,
    /// Whether every step that was reached has no reason to run, nothing else was reached, and nothing has to
    /// be said of the description.
    pub all_good: bool,
    /// Whether something has to be said of the description whenever it is read.
    pub is_remarkable: bool,
    /// Whether there are paths of which it can't be told without reading whether they changed.
    pub is_unsure: bool,
    /// How many steps were reached.
    pub steps_in_order: usize,
    /// The seal of the body that belongs to it.
    pub body: [u8; 32],
}

/// What of a front is another for other texts of the description.
pub struct OtherTexts {
    /// The description's files.
    pub files: Vec<KeptText>,
    /// The digest of what the project was worked out from.
    pub project: Digest,
    /// What working out depended on.
    pub dependencies: CacheDependencies,
    /// How many steps are reached.
    pub steps_in_order: usize,
    /// The seal of the body that belongs to it.
    pub body: [u8; 32],
}

/// What is looked at, as it is gathered.
#[derive(Default)]
pub struct FrontLooks {
    /// The paths, one behind the other.
    pub arena: String,
    /// Where each ends.
    pub ends: Vec<u32>,
    /// How each is recognised.
    pub looked: Vec<LookRec>,
    /// What stood there.
    pub digests: Vec<[u8; 32]>,
}

/// A front that is being read.
pub struct Front {
    arrays: Arrays,
    /// All that is small.
    pub header: FrontHeader,
}

/// Hands the bytes of a front to `take`, in pieces; `None` when it can't be written down.
pub fn write<T>(
    header: &FrontHeader,
    looks: &FrontLooks,
    key: &[u8; 32],
    take: impl FnOnce(&[&[u8]]) -> T,
) -> Option<T> {
    let small = postcard::to_allocvec(header).ok()?;
    let arrays: [&[u8]; 5] = [
        &small,
        looks.arena.as_bytes(),
        looks.ends.as_bytes(),
        looks.looked.as_bytes(),
        looks.digests.as_bytes(),
    ];
    Some(arrays::sealed(LAYOUT, key, &arrays, |pieces, _| {
        take(pieces)
    }))
}

impl Front {
    /// Reads one; `None` when it is damaged, of another kind, or was not written by this user.
    pub fn open(bytes: Bytes, key: &[u8; 32]) -> Option<Self> {
        let arrays = Arrays::open_sealed(bytes, LAYOUT, key).ok()?;
        let header = postcard::from_bytes(arrays.get::<u8>(FrontSection::Header as usize)).ok()?;
        let front = Self { arrays, header };
        front.is_sound().then_some(front)
    }

    fn is_sound(&self) -> bool {
        let count = self.looked().len();
        let arena = self.arrays.count(FrontSection::Arena as usize);
        let ends = self.ends();
        ends.len() == count
            && self.arrays.count(FrontSection::Digests as usize) == count
            && ends.windows(2).all(|pair| pair[0].get() <= pair[1].get())
            && ends.last().is_none_or(|last| last.get() as usize <= arena)
    }

    /// What only this front is sealed with.
    pub fn seal(&self) -> [u8; 32] {
        self.arrays.seed
    }

    /// What is looked at, sorted by path.
    pub fn looked(&self) -> &[LookRec] {
        self.arrays.get(FrontSection::Looked as usize)
    }

    fn ends(&self) -> &[U32] {
        self.arrays.get(FrontSection::Ends as usize)
    }

    /// Whether so much stands in the journal since this was kept that the project is better kept anew than all of it
    /// read by each run. `end` is where the journal ends.
    pub fn is_outgrown(&self, end: usize) -> bool {
        let behind = self.header.mark.bytes_behind(end);
        behind > LONG_TAIL + self.arrays.size() / 8
    }

    /// The path of one look.
    pub fn path(&self, look: usize) -> &str {
        std::str::from_utf8(self.path_bytes(look)).unwrap_or_default()
    }

    fn path_bytes(&self, look: usize) -> &[u8] {
        let ends = self.ends();
        let start = look.checked_sub(1).map_or(0, |before| ends[before].get());
        let bytes = self.arrays.get::<u8>(FrontSection::Arena as usize);
        let bytes = bytes.get(start as usize..ends[look].get() as usize);
        bytes.unwrap_or_default()
    }

    /// The look at a path itself.
    pub fn find(&self, path: &str) -> Option<usize> {
        let (mut low, mut high) = (0, self.looked().len());
        while low < high {
            let middle = low.midpoint(high);
            if self.path_bytes(middle) < path.as_bytes() {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        (low < self.looked().len() && self.path_bytes(low) == path.as_bytes()).then_some(low)
    }

    /// The digest of what stood there.
    pub fn digest(&self, look: usize) -> Digest {
        let digests = self.arrays.get::<[u8; 32]>(FrontSection::Digests as usize);
        Digest(digests.get(look).copied().unwrap_or_default())
    }

    /// The bytes of the same front with other records of the same contents, by the number of the look.
    pub fn with_records<'r>(
        &self,
        records: impl Iterator<Item = (usize, &'r Record)>,
        key: &[u8; 32],
    ) -> Option<Vec<u8>> {
        let mut looked = self.looked().to_vec();
        for (look, record) in records {
            if record.digest != self.digest(look) {
                return None;
            }
            let known = looked.get_mut(look)?;
            *known = LookRec::new(known.path.get(), known.kind(), Some(record));
        }
        let section = FrontSection::Looked as usize;
        let mut bytes = self.arrays.with_array(LAYOUT, section, looked.as_bytes());
        arrays::seal(&mut bytes, key);
        Some(bytes)
    }

    /// The bytes of the same front for other texts of the description, and another body.
    pub fn with_texts(&self, texts: OtherTexts, key: &[u8; 32]) -> Option<Vec<u8>> {
        let header = &self.header;
        let header = FrontHeader {
            key: texts.project,
            files: texts.files,
            body: texts.body,
            dependencies: texts.dependencies,
            steps_in_order: texts.steps_in_order,
            place: header.place,
            outside: header.outside,
            request: header.request.clone(),
            mark: header.mark.clone(),
            absent: header.absent.clone(),
            ..*header
        };
        let small = postcard::to_allocvec(&header).ok()?;
        let section = FrontSection::Header as usize;
        let mut bytes = self.arrays.with_array(LAYOUT, section, &small);
        arrays::seal(&mut bytes, key);
        Some(bytes)
    }

    /// What stands at a file that is as recorded.
    pub fn state(&self, look: usize) -> Option<State> {
        match self.looked().get(look)?.kind() {
            LookKind::Absent => Some(State::Missing),
            LookKind::File => Some(State::Content(self.digest(look))),
            LookKind::Folder => Some(folder_is_there()),
            LookKind::Link | LookKind::Inside | LookKind::Names => None,
        }
    }
}
