//! What was seen of a job's processes, as data.

use serde::Deserialize;
use serde::Serialize;

/// How far a watch reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum WatchReach {
    /// The project, by whichever way a process comes to it.
    Project,
    /// Everywhere.
    Everywhere,
}

/// What a call is about to do with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PathAccess {
    /// It looks whether and how it is there.
    Look,
    /// It reads or executes it.
    Read,
    /// It asks for the names in it.
    List,
    /// It makes, changes or takes it away.
    Write,
}

impl PathAccess {
    /// What a call does that makes or takes away, when it does so, and else only learns that it can't.
    #[must_use]
    pub fn of_change(takes_place: bool) -> Self {
        if takes_place { Self::Write } else { Self::Look }
    }
}

/// Something that a sealed job was refused.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SealRefusal {
    /// From the project's root, or absolute outside of it.
    pub path: String,
    /// Whether it was to be written, and not to be read.
    pub write: bool,
}

/// How a path was seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum Sight {
    /// A file, or a link, that was read, executed or looked at.
    Read,
    /// Nothing was there.
    Absent,
    /// A folder was looked at, and not what is in it.
    Folder,
    /// It was made, changed, renamed or taken away by the job itself.
    Written,
}

/// Something that went past the watch.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Gap {
    /// It was not watched at all, and why.
    Unwatched(String),
    /// It talked to a local socket with this path or name; who answers may read files for it.
    Socket(String),
    /// So many calls were made whose path could not be read.
    Unread(usize),
    /// The system has no means to refuse a sealed job its network.
    Network,
}

/// What was seen of a job's processes. Paths are from the root of the project, or absolute outside of it; bytes that
/// are not UTF-8 stand in them as [`crate::world::names`] says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Observed {
    /// Each path once, sorted.
    pub paths: Vec<(String, Sight)>,
    /// Folders that were listed, without a slash at the end (the root is empty), with the names in them, sorted: as they were then, but
    /// for what the job itself made and took away there.
    pub listed: Vec<(String, Vec<String>)>,
    /// What may have gone past the watch, sorted.
    pub gaps: Vec<Gap>,
    /// What a sealed job was refused although it is there, sorted.
    pub refused: Vec<SealRefusal>,
}
