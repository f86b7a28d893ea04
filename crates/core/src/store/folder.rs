//! A folder of objects: the local store.
//!
//! ```text
//! lists/3f/<62 digits>     results/3f/<62 digits>     files/3f/<62 digits>
//! ```
//!
//! What is being written has a name with a dot in front, there or in `new/`.
//!
//! Nothing is locked and nothing is made durable: an object is written beside and then linked or renamed to its
//! name, so that it is whole or not there; what a crash of the machine leaves half written does not have its digest. When
//! an object is used its time is set, and those that were not used for longest are taken away first. Whoever finds one
//! gone takes it as never having been there.

use std::fs::File;
use std::fs::Metadata;
use std::io;
use std::io::Read;
use std::io::Write;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::path::PathBuf;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::SystemTime;

use rustix::fs::AtFlags;
use rustix::fs::RenameFlags;
use rustix::fs::Timespec;
use rustix::fs::Timestamps;
use rustix::io::Errno;

use crate::store::key::StoreKey;
use crate::store::object::ObjectKind;
use crate::store::object::opened;
use crate::store::object::sealed;
use crate::world::Digest;
use crate::world::own;

/// The folder of the format below a store's own: another format lies beside.
const FORMAT: &str = "1";

/// What the name of a file begins with that is being written.
const BEGUN: &str = ".";

/// A folder of objects.
#[derive(Debug)]
pub struct ObjectFolder {
    folder: PathBuf,
    /// Numbers what this process writes.
    written: AtomicU64,
}

impl ObjectFolder {
    /// The store below a folder, whether it is there or not.
    #[must_use]
    pub fn below(folder: &Path) -> Self {
        Self {
            folder: folder.join(FORMAT),
            written: AtomicU64::new(0),
        }
    }

    /// Where it is.
    #[must_use]
    pub fn place(&self) -> &Path {
        &self.folder
    }

    /// Whether anything was ever put in it.
    #[must_use]
    pub fn is_there(&self) -> bool {
        self.folder.join(ObjectKind::Lists.folder()).is_dir()
    }

    /// Where an object lies.
    #[must_use]
    pub fn path(&self, kind: ObjectKind, name: Digest) -> PathBuf {
        let digits = blake3::Hash::from_bytes(name.0).to_hex();
        let mut path = self.folder.join(kind.folder());
        path.push(&digits[..2]);
        path.push(&digits[2..]);
        path
    }

    /// Reads an object other than a file, and notes that it was used. One that is not as it was written is taken
    /// away.
    pub fn read<T: for<'de> serde::Deserialize<'de>>(
        &self,
        kind: ObjectKind,
        name: StoreKey,
    ) -> Option<T> {
        let path = self.path(kind, name.0);
        let file = own::open(&path, own::options().read(true)).ok()?;
        let length = note_use(&file).ok()?;
        let mut bytes = Vec::new();
        file.take(length).read_to_end(&mut bytes).ok()?;
        let object = opened(kind, name, &bytes);
        if object.is_none() {
            let _ = std::fs::remove_file(&path);
        }
        object
    }

    /// Writes an object other than a file, over one that lies there; its bytes.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn write<T: serde::Serialize>(
        &self,
        kind: ObjectKind,
        name: StoreKey,
        object: &T,
    ) -> io::Result<Vec<u8>> {
        let bytes = sealed(kind, name, object).ok_or(io::ErrorKind::InvalidData)?;
        self.write_bytes(kind, name.0, &bytes)?;
        Ok(bytes)
    }

    /// Writes an object's bytes as they are.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn write_bytes(&self, kind: ObjectKind, name: Digest, bytes: &[u8]) -> io::Result<()> {
        let (new, mut file) = self.create(kind, Some(name))?;
        let written = file.write_all(bytes);
        written
            .and_then(|()| self.put(&new, kind, name))
            .inspect_err(|_| {
                let _ = std::fs::remove_file(&new);
            })
    }

    /// Makes a file under a name that nobody else has, in the folder where an object with this name lies, as far as the name is
    /// known: many that write at once are in each other's way in one folder.
    ///
    /// # Errors
    /// When it can't be made.
    pub fn create(&self, kind: ObjectKind, name: Option<Digest>) -> io::Result<(PathBuf, File)> {
        let place = name.map(|name| self.path(kind, name));
        let folder = match place.as_deref().and_then(Path::parent) {
            Some(folder) => folder.to_owned(),
            None => self.folder.join("new"),
        };
        let mut options = own::options();
        let options = options.read(true).write(true).create_new(true);
        loop {
            let number = self.written.fetch_add(1, Ordering::Relaxed);
            let new = folder.join(format!("{BEGUN}{}.{number}", std::process::id()));
            match own::open(&new, options) {
                // Also when somebody has taken the whole store away.
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    own::create_folders(&folder)?;
                }
                // Left by a process of the same number that was killed, or one in another container writes it now.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                file => return Ok((new, file?)),
            }
        }
    }

    /// Gives what was written its name. A file that has that name already is the same; another object is replaced.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn put(&self, new: &Path, kind: ObjectKind, name: Digest) -> io::Result<()> {
        let path = self.path(kind, name);
        let place = || match kind {
            ObjectKind::File => put_new(new, &path),
            ObjectKind::Lists | ObjectKind::Result => std::fs::rename(new, &path),
        };
        match place() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                if let Some(folder) = path.parent() {
                    own::create_folders(folder)?;
                }
                place()
            }
            placed => placed,
        }
    }

    /// Opens a kept file for reading, and notes that it was used.
    ///
    /// # Errors
    /// When it is not there, or can't be read.
    pub fn open_file(&self, name: Digest) -> io::Result<File> {
        let path = self.path(ObjectKind::File, name);
        let file = own::open(&path, own::options().read(true))?;
        note_use(&file)?;
        Ok(file)
    }

    /// Whether a file is kept; notes that it is of use.
    #[must_use]
    pub fn has_file(&self, name: Digest, size: u64) -> bool {
        let path = self.path(ObjectKind::File, name);
        let Ok(found) = path.symlink_metadata() else {
            return false;
        };
        if !found.is_file() || found.len() != size {
            return false;
        }
        if is_long_ago(&found) {
            touch(&path);
        }
        true
    }

    /// Takes an object away that is wrong.
    pub fn remove(&self, kind: ObjectKind, name: Digest) {
        // One that is gone is gone.
        let _ = std::fs::remove_file(self.path(kind, name));
    }

    /// Calls `found` with each object: its path, its bytes on the disk and when it was used last, nanoseconds since
    /// 1970; with those that are being written as well.
    pub fn walk(&self, found: &mut dyn FnMut(Option<ObjectKind>, PathBuf, u64, i64)) {
        let mut files = |kind: Option<ObjectKind>, folder: &Path| {
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                if let Ok(stat) = entry.metadata()
                    && stat.is_file()
                {
                    let is_begun = entry
                        .file_name()
                        .as_encoded_bytes()
                        .starts_with(BEGUN.as_bytes());
                    let kind = kind.filter(|_| !is_begun);
                    let used = stat.mtime().saturating_mul(1_000_000_000);
                    let used = used.saturating_add(stat.mtime_nsec());
                    found(kind, entry.path(), stat.blocks() * 512, used);
                }
            }
        };
        for kind in ObjectKind::ALL {
            let folder = self.folder.join(kind.folder());
            for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
                files(Some(kind), &entry.path());
            }
        }
        files(None, &self.folder.join("new"));
    }
}

/// Gives a file a name that no other has; where one has it, that one is the same.
fn put_new(new: &Path, path: &Path) -> io::Result<()> {
    let (folder, flags) = (rustix::fs::CWD, RenameFlags::NOREPLACE);
    let put = match rustix::fs::renameat_with(folder, new, folder, path, flags) {
        // A file system that can't tell: a second name, and the first one away.
        Err(Errno::INVAL | Errno::NOSYS) => {
            std::fs::hard_link(new, path).and_then(|()| std::fs::remove_file(new))
        }
        put => put.map_err(io::Error::from),
    };
    match put {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            touch(path);
            std::fs::remove_file(new)
        }
        put => put,
    }
}

/// An object whose time says that it was used so lately is not noted once more.
const LATELY: Duration = Duration::from_secs(60);

/// Notes that an open object is used now, for whoever takes away the oldest; how many bytes it has.
fn note_use(file: &File) -> io::Result<u64> {
    let stat = file.metadata()?;
    if is_long_ago(&stat) {
        // What can't be touched only goes the sooner.
        let _ = file.set_modified(SystemTime::now());
    }
    Ok(stat.len())
}

fn is_long_ago(stat: &Metadata) -> bool {
    let age = stat.modified().ok().and_then(|used| used.elapsed().ok());
    age.is_some_and(|age| age > LATELY)
}

/// The same by its path.
fn touch(path: &Path) {
    let now = Timespec {
        tv_sec: 0,
        tv_nsec: rustix::fs::UTIME_NOW,
    };
    let times = Timestamps {
        last_access: now,
        last_modification: now,
    };
    // What can't be touched only goes the sooner.
    let _ = rustix::fs::utimensat(rustix::fs::CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_process_of_the_same_number_left_is_in_nobodys_way() {
        let folder = tempfile::tempdir().unwrap();
        let name = Digest::of(b"a light");
        let kept = |store: &ObjectFolder| {
            store
                .write_bytes(ObjectKind::File, name, b"a light")
                .unwrap();
            std::fs::read(store.path(ObjectKind::File, name)).unwrap()
        };
        let killed = ObjectFolder::below(folder.path());
        for _ in 0..3 {
            killed.create(ObjectKind::File, Some(name)).unwrap();
        }
        // Counts from the beginning, as the next process does.
        let next = ObjectFolder::below(folder.path());
        assert_eq!(kept(&next), b"a light");
        assert_eq!(kept(&next), b"a light");
    }
}
