//! What comes in from outside: the file system and the clock.
//!
//! Everything above this room speaks of files by their path from the project's root, with `/`
//! between folders, and reaches them through [`Disk`] alone. [`RealDisk`] is the machine's;
//! tests bring a made-up one.

pub mod names;
pub mod own;
pub mod quarantine;
pub mod time;

mod map;
mod real;

use std::collections::HashMap;
use std::io;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::sync::RwLock;

pub use map::map_file;
pub use real::RealDisk;
pub use real::SystemClock;
pub use time::ByteSize;
pub use time::Ticks;
pub use time::nanoseconds;
pub use time::rounded_seconds;
pub use time::share;

/// What a name stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum FileKind {
    /// A file with contents.
    File,
    /// A folder.
    Folder,
    /// A symbolic link. [`Disk::stat`] only says so of one that leads to nothing.
    Link,
    /// A device, a pipe or a socket.
    Other,
}

/// What the file system tells of a file without reading it. Two equal values mean that its content
/// is the same, as far as the clock's grain allows to tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Stat {
    /// What it is, links followed; [`FileKind::Link`] for a link that leads to nothing.
    pub kind: FileKind,
    /// Whether the name itself is a symbolic link.
    pub link: bool,
    /// Whether its owner may run it.
    pub executable: bool,
    /// Bytes.
    pub size: u64,
    /// Time of the last change of content, nanoseconds since 1970.
    pub modified: i64,
    /// Time of the last change of content, name or rights, nanoseconds since 1970.
    pub changed: i64,
    /// The file's number on its device; of a link, a number that another link at the same place, or
    /// another file at its end, does not have.
    pub inode: u64,
    /// Device and number of what it stands for, links followed.
    pub identity: (u64, u64),
}

/// A name in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DirEntry {
    /// Its name alone, as [`names::to_text`] has it.
    pub name: Box<str>,
    /// What it is; links are not followed.
    pub kind: FileKind,
}

/// The content of a file, told by its BLAKE3 digest.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Digest(pub [u8; 32]);

impl Digest {
    /// The digest of these bytes.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }

    /// The first 12 hexadecimal digits, enough for people to tell contents apart.
    #[must_use]
    pub fn short(&self) -> String {
        self.0[..6]
            .iter()
            .map(|byte| format!("{byte:02x}"))
            .collect()
    }
}

impl std::fmt::Debug for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.short())
    }
}

/// Tells of a path below a folder whether it does not count when the folder is compared as a whole; a folder's ends
/// with a slash.
pub type LeaveOut = Arc<dyn Fn(&str) -> bool + Send + Sync>;

/// What does not count of folders that are compared as wholes, by their paths.
#[derive(Default)]
pub struct LeftOut(RwLock<HashMap<String, LeaveOut>>);

impl LeftOut {
    /// From now on this is all there is.
    pub fn set(&self, rules: HashMap<String, LeaveOut>) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = rules;
    }

    /// What does not count of one folder, whose path ends with a slash.
    #[must_use]
    pub fn of(&self, folder: &str) -> Option<LeaveOut> {
        let rules = self.0.read().unwrap_or_else(PoisonError::into_inner);
        rules.get(folder).cloned()
    }
}

impl std::fmt::Debug for LeftOut {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let rules = self.0.read().unwrap_or_else(PoisonError::into_inner);
        f.debug_set().entries(rules.keys()).finish()
    }
}

/// A file system. Paths are relative to the project's root unless they begin with `/`; they are text, as
/// [`names`] says.
pub trait Disk: Sync {
    /// The names in a folder, in any order.
    fn list(&self, folder: &str) -> io::Result<Vec<DirEntry>>;
    /// A file's state, links followed as far as they lead; `None` when there is nothing.
    fn stat(&self, path: &str) -> io::Result<Option<Stat>>;
    /// Whether nothing at all stands at a path, not even a link into nothing.
    fn is_free(&self, path: &str) -> io::Result<bool> {
        Ok(self.stat(path)?.is_none())
    }
    /// What does not count of folders that are compared as wholes.
    fn left_out(&self) -> &LeftOut;
    /// The state of many files, one after the other; sorted by path they are found fastest.
    fn stat_all(
        &self,
        paths: &mut dyn Iterator<Item = &str>,
        found: &mut dyn FnMut(io::Result<Option<Stat>>),
    ) {
        for path in paths {
            found(self.stat(path));
        }
    }
    /// A whole file.
    fn read(&self, path: &str) -> io::Result<Vec<u8>>;
    /// A file's digest. `buffer` is scratch space that a caller keeps between files.
    fn digest(&self, path: &str, buffer: &mut Vec<u8>) -> io::Result<Digest>;
    /// Whether a path leads out of the project, through links in it.
    fn leads_out(&self, path: &str) -> io::Result<bool> {
        Ok(self.real_path(path)?.is_none())
    }
    /// Where a path leads when all links in it are followed, from the root; `None` when that lies outside of the project.
    fn real_path(&self, path: &str) -> io::Result<Option<String>> {
        Ok(Some(path.to_owned()))
    }
    /// Where a link points.
    fn read_link(&self, path: &str) -> io::Result<String>;
    /// Makes a folder and those above it.
    fn create_folders(&self, folder: &str) -> io::Result<()>;
    /// Writes a file anew.
    fn write(&self, path: &str, bytes: &[u8]) -> io::Result<()>;
    /// Moves a file or folder to a new name, within one file system. What stands at `to` is replaced only
    /// when it is a file, or an empty folder for a folder.
    fn rename(&self, from: &str, to: &str) -> io::Result<()>;
    /// Copies a file, a link as a link, or a folder with all below it, to a name that is free; contents
    /// and rights are kept.
    fn copy(&self, from: &str, to: &str) -> io::Result<()>;
    /// Removes a file or a link.
    fn remove_file(&self, path: &str) -> io::Result<()>;
    /// Removes an empty folder.
    fn remove_folder(&self, path: &str) -> io::Result<()>;
    /// Removes a folder with all below it, also where folders in it may not be written to; links inside
    /// are removed, not followed.
    fn remove_tree(&self, path: &str) -> io::Result<()>;
}

/// The time of day.
pub trait Clock: Sync {
    /// Nanoseconds since 1970.
    fn now(&self) -> i64;
    /// The moment on a clock that never goes back, for durations.
    fn ticks(&self) -> Ticks;
}

/// Takes a lock. What a thread that panicked left behind is taken as it is: no lock here guards more than one
/// change.
pub fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
