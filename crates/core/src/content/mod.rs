//! What files hold: digests of files and whole folders, and the record that spares reading.
//!
//! A file is read again only when its [`Stat`] differs from the recorded one, or when the record was
//! taken so soon after the file's last change that a second change within the clock's grain could
//! hide behind the same times ([`Record::covers`]).

mod learned_path;
mod state;
mod survey;
mod tree;

pub use learned_path::LearnedPath;
pub use learned_path::folder_is_there;
pub use state::Linked;
pub use state::State;
pub use state::as_executable;
pub use survey::FileRecords;
pub use survey::Look;
pub use survey::NoRecords;
pub use survey::Reader;
pub use survey::over_threads;
pub use survey::survey;
pub use tree::TreeHasher;
pub use tree::changed_since;
pub use tree::entries as tree_entries;

use serde::Deserialize;
use serde::Serialize;

use crate::world::Digest;
use crate::world::Stat;

/// A file that was read so soon after its last change may hold something else by now under the same
/// times: file systems stamp times with the kernel's tick (10 ms at the coarsest), and a page that was
/// written through a mapping is stamped when it is first dirtied, not at each write into it. What is
/// written so later than this shows only when it is written back; docs/how-it-works.md says what remains.
const GRAIN: i64 = 1_000_000_000;

/// Some file systems only keep whole seconds, or every other one.
const COARSE: i64 = 2_000_000_000;

/// A record that was taken so long after a file's last change is surely settled, nanoseconds.
pub const SETTLED: i64 = COARSE + 1;

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
    /// What it held, as [`State::digest`] has it.
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
        self.would_settle(self.read_at)
    }

    /// Whether it would be settled if it had been read at that time.
    #[must_use]
    pub fn would_settle(&self, read_at: i64) -> bool {
        settles(self.modified, self.changed, read_at)
    }
}

/// Whether a file that was changed then, in nanoseconds since 1970, and read at that time is known by its times.
#[must_use]
pub fn settles(modified: i64, changed: i64, read_at: i64) -> bool {
    const SECOND: i64 = 1_000_000_000;
    let whole_seconds = modified % SECOND == 0 && changed % SECOND == 0;
    let grain = if whole_seconds { COARSE } else { GRAIN };
    read_at.saturating_sub(modified.max(changed)) > grain
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
