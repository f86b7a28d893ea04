//! The objects of a store, and how they are written.
//!
//! ```text
//! "HLSTORE1"  8 bytes
//! kind        1 byte    `l` lists, `r` result
//! checksum   32 bytes   BLAKE3 of what follows, keyed by the object's own name
//! body                  postcard
//! ```
//!
//! The checksum is keyed by the name under which an object lies: one that lies under another's name is as
//! wrong as one of which a byte was changed. Files have no such envelope: their name is the digest of what they hold.

use serde::Deserialize;
use serde::Serialize;

use crate::store::key::StoreKey;
use crate::world::Digest;

/// What stands in front of every object but files; the last character is the format.
const MAGIC: &[u8; 8] = b"HLSTORE1";
const HEAD: usize = MAGIC.len() + 1 + 32;

/// So many lists are kept under one declared key, the newest.
const MOST_LISTS: usize = 32;

/// What an object is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ObjectKind {
    /// The names that recipes found out, under a declared key.
    Lists,
    /// What a step made and printed, under its full key.
    Result,
    /// A file, under its digest.
    File,
}

impl ObjectKind {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Lists, Self::Result, Self::File];

    /// The folder that objects of this kind lie in.
    #[must_use]
    pub fn folder(self) -> &'static str {
        match self {
            Self::Lists => "lists",
            Self::Result => "results",
            Self::File => "files",
        }
    }

    fn letter(self) -> u8 {
        match self {
            Self::Lists => b'l',
            Self::Result => b'r',
            Self::File => b'f',
        }
    }
}

/// How a recipe ran that made a result. A result is only used for a run that asks for no more.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct RecipeManner {
    /// How far it was watched: 0 not at all, 1 for files of the project, 2 everywhere.
    pub reach: u8,
    /// How it was sealed: 0 not at all, 1 plainly, 2 strictly.
    pub seal: u8,
}

impl RecipeManner {
    /// Whether a run that asks for `wanted` may use what was made so.
    #[must_use]
    pub fn serves(self, wanted: Self) -> bool {
        self.reach >= wanted.reach && self.seal >= wanted.seal
    }
}

/// The names that a recipe found out, as a ledger has them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LearnedList {
    /// Paths and groups.
    pub names: Vec<(String, u16)>,
    /// How the recipe ran.
    pub manner: RecipeManner,
    /// Whether what it made names the project's own folder, and is of no use in another.
    pub is_bound: bool,
}

/// All that lies under a declared key.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lists {
    /// The newest first.
    pub lists: Vec<LearnedList>,
    /// It was run twice, and came out differently: nothing is kept of it.
    pub differs: bool,
}

impl Lists {
    /// Puts a list in front; whether that changes anything.
    pub fn put_first(&mut self, list: &LearnedList) -> bool {
        if self.lists.contains(list) {
            return false;
        }
        self.lists.insert(0, list.clone());
        self.lists.truncate(MOST_LISTS);
        true
    }

    /// What either has.
    #[must_use]
    pub fn merged(mut self, other: &Self) -> Self {
        self.differs |= other.differs;
        let more = other.lists.iter().filter(|list| !self.lists.contains(list));
        let more: Vec<LearnedList> = more.cloned().collect();
        self.lists.extend(more);
        self.lists.truncate(MOST_LISTS);
        self
    }
}

/// A finished result.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredResult {
    /// What was made, in the order of the outputs.
    pub outputs: Vec<StoredOutput>,
    /// The beginning of what was printed.
    pub printed: Vec<u8>,
    /// How many bytes were left out behind it.
    pub left_out: u64,
    /// The end, when something was left out.
    pub printed_end: Vec<u8>,
    /// How long it took, nanoseconds.
    pub took: u64,
    /// The largest amount of memory, bytes.
    pub memory: u64,
    /// Processor time, nanoseconds.
    pub processor: u64,
    /// When it was made, nanoseconds since 1970.
    pub made_at: i64,
    /// Where it was made: a machine's name and a folder.
    pub made_in: String,
}

/// One output of a result.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredOutput {
    /// Its path from the root; a whole folder's ends with a slash.
    pub path: String,
    /// What stands there, as the step that made it left it.
    pub own: Digest,
    /// The file or link itself, or all that lies in the folder, each behind the folder that it lies in.
    pub entries: Vec<StoredEntry>,
}

/// A file, link or folder of an output.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredEntry {
    /// The path below the output; empty for the output itself.
    pub below: String,
    /// What it is.
    pub what: StoredKind,
}

/// What an entry is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum StoredKind {
    /// A file.
    File {
        /// The digest of its bytes.
        digest: Digest,
        /// Bytes.
        size: u64,
        /// Its rights.
        mode: u32,
    },
    /// A link, and what it says.
    Link(String),
    /// A folder.
    Folder {
        /// Its rights.
        mode: u32,
    },
}

impl StoredResult {
    /// The bytes of all files.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.files().map(|(_, size)| size).sum()
    }

    /// All files, with their sizes in bytes.
    pub fn files(&self) -> impl Iterator<Item = (Digest, u64)> {
        let entries = self.outputs.iter().flat_map(|output| &output.entries);
        entries.filter_map(|entry| match entry.what {
            StoredKind::File { digest, size, .. } => Some((digest, size)),
            StoredKind::Link(_) | StoredKind::Folder { .. } => None,
        })
    }
}

/// An object as it is written under a name.
#[must_use]
pub fn sealed<T: Serialize>(kind: ObjectKind, name: StoreKey, body: &T) -> Option<Vec<u8>> {
    let body = postcard::to_allocvec(body).ok()?;
    let mut bytes = Vec::with_capacity(HEAD + body.len());
    bytes.extend_from_slice(MAGIC);
    bytes.push(kind.letter());
    bytes.extend_from_slice(blake3::keyed_hash(&name.0.0, &body).as_bytes());
    bytes.extend_from_slice(&body);
    Some(bytes)
}

/// Reads an object that lies under a name; `None` when it is not what was written there.
#[must_use]
pub fn opened<T: for<'de> Deserialize<'de>>(
    kind: ObjectKind,
    name: StoreKey,
    bytes: &[u8],
) -> Option<T> {
    let rest = bytes.strip_prefix(MAGIC)?;
    let (&letter, rest) = rest.split_first()?;
    let (checksum, body) = rest.split_at_checked(32)?;
    let is_whole =
        letter == kind.letter() && blake3::keyed_hash(&name.0.0, body).as_bytes() == checksum;
    if !is_whole {
        return None;
    }
    postcard::from_bytes(body).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(byte: u8) -> StoreKey {
        StoreKey(Digest([byte; 32]))
    }

    #[test]
    fn an_object_is_only_what_was_written_under_its_name() {
        let mut lists = Lists::default();
        let list = LearnedList {
            names: vec![("src/a.h".to_owned(), 0), ("src/b.h".to_owned(), 3)],
            ..LearnedList::default()
        };
        assert!(lists.put_first(&list) && !lists.put_first(&list));
        let bytes = sealed(ObjectKind::Lists, name(1), &lists).unwrap();
        let open = |kind, name, bytes: &[u8]| opened::<Lists>(kind, name, bytes);
        assert_eq!(open(ObjectKind::Lists, name(1), &bytes), Some(lists));
        assert_eq!(open(ObjectKind::Lists, name(2), &bytes), None);
        assert_eq!(open(ObjectKind::Result, name(1), &bytes), None);
        for at in 0..bytes.len() {
            assert_eq!(
                open(ObjectKind::Lists, name(1), &bytes[..at]),
                None,
                "cut at {at}"
            );
            for flip in [1, 0x80] {
                let mut other = bytes.clone();
                other[at] ^= flip;
                assert_eq!(
                    open(ObjectKind::Lists, name(1), &other),
                    None,
                    "flipped at {at}"
                );
            }
        }
    }

    #[test]
    fn the_newest_lists_are_kept() {
        let mut lists = Lists::default();
        for number in 0..100 {
            lists.put_first(&LearnedList {
                names: vec![(format!("{number}"), 0)],
                ..LearnedList::default()
            });
        }
        assert_eq!(lists.lists.len(), MOST_LISTS);
        assert_eq!(lists.lists[0].names[0].0, "99");
    }
}
