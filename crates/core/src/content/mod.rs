//! What files hold: digests of files and whole folders, and the record that spares reading.
//!
//! A file is read again only when its [`Stat`] differs from the recorded one, or when the record was
//! taken so soon after the file's last change that a second change within the clock's grain could
//! hide behind the same times ([`Record::covers`]).

mod survey;
mod tree;

pub use survey::Look;
pub use survey::Reader;
pub use survey::over_threads;
pub use survey::survey;
pub use tree::tree_digest;

use serde::Deserialize;
use serde::Serialize;

use crate::world::Digest;
use crate::world::Stat;

/// File systems stamp times with the kernel's tick, 10 ms at the coarsest.
const TICK: i64 = 20_000_000;

/// Some file systems only keep whole seconds, or every other one.
const COARSE: i64 = 2_000_000_000;

/// A file's content as it was found, with the stat that tells whether it may have changed since.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Record {
    /// Bytes.
    pub size: u64,
    /// Time of the last change of content, nanoseconds since 1970.
    pub modified: i64,
    /// Time of the last change of content, name or rights.
    pub changed: i64,
    /// The file's number on its device.
    pub inode: u64,
    /// When the reading began, nanoseconds since 1970.
    pub read_at: i64,
    /// What it held.
    pub digest: Digest,
}

impl Record {
    /// A file found with this stat, whose reading began at `read_at`.
    #[must_use]
    pub fn new(stat: &Stat, read_at: i64, digest: Digest) -> Self {
        Self {
            size: stat.size,
            modified: stat.modified,
            changed: stat.changed,
            inode: stat.inode,
            read_at,
            digest,
        }
    }

    /// Whether a file with this stat surely holds what was recorded.
    #[must_use]
    pub fn covers(&self, stat: &Stat) -> bool {
        self.same_stat(stat) && self.settled()
    }

    /// Whether size, times and identity are as recorded.
    #[must_use]
    pub fn same_stat(&self, stat: &Stat) -> bool {
        self.size == stat.size
            && self.modified == stat.modified
            && self.changed == stat.changed
            && self.inode == stat.inode
    }

    /// Whether it was read late enough after the last change that a later change would show.
    #[must_use]
    pub fn settled(&self) -> bool {
        const SECOND: i64 = 1_000_000_000;
        let whole_seconds = self.modified % SECOND == 0 && self.changed % SECOND == 0;
        let grain = if whole_seconds { COARSE } else { TICK };
        self.read_at.saturating_sub(self.modified.max(self.changed)) > grain
    }
}

/// What stands at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// Nothing.
    Missing,
    /// A file, or a whole folder where the path ends with a slash.
    Content(Digest),
    /// Something else than the path says: a folder where a file is named, or the other way round.
    WrongKind,
    /// It is there, but cannot be read.
    Unreadable(String),
}

impl State {
    /// The content's digest.
    #[must_use]
    pub fn digest(&self) -> Option<Digest> {
        match self {
            Self::Content(digest) => Some(*digest),
            _ => None,
        }
    }
}

impl Serialize for Digest {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Ok(Self(<[u8; 32]>::deserialize(deserializer)?))
    }
}
