//! Files that one machine has written are seen late on another: a file system that machines share may answer from what it
//! remembers, for as long as it likes (nfs(5), "Data and metadata coherence": `acregmin`, `acdirmax` and the like are seconds to a
//! minute). So who has looked at a file says what it saw, and who is to rely on that waits until it sees the same.
//!
//! Opening is what makes such a file system ask its server again ("close-to-open"): that is done between looks, to the file and
//! to its folder.

use std::fs::File;
use std::fs::Metadata;
use std::fs::OpenOptions;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::Duration;
use std::time::Instant;

use rustix::fs::OFlags;
use serde::Deserialize;
use serde::Serialize;

/// How often is looked again.
const TICK: Duration = Duration::from_millis(40);

/// A file that has its size and is not touched for so long is taken for the same though its time is another: the two machines
/// may give a file different times while one of them still holds it for itself.
const STEADY: Duration = Duration::from_secs(2);

/// What a machine sees at a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileMark {
    /// The path, from the root.
    pub path: String,
    /// What stands there; none for nothing.
    pub seen: Option<SeenFile>,
}

/// What stands at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenFile {
    /// Whether it is a folder.
    is_folder: bool,
    /// Bytes; of a folder, of all files in it.
    size: u64,
    /// Time of the last change, nanoseconds since 1970; of a folder, a number that tells what lies in it.
    modified: u64,
}

impl FileMark {
    /// What this machine sees.
    #[must_use]
    pub fn of(root: &Path, path: &str) -> Self {
        Self {
            path: path.to_owned(),
            seen: look(&root.join(path.trim_end_matches('/')), path.ends_with('/')),
        }
    }

    /// In a few words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self.seen {
            None => "nothing".to_owned(),
            Some(seen) if seen.is_folder => format!("a folder with {} bytes", seen.size),
            Some(seen) => format!("{} bytes", seen.size),
        }
    }
}

/// Waits until this machine sees what another one saw, so long at most; gives what it does not. `is_over` says that nobody
/// waits for it any more.
pub fn await_marks(
    root: &Path,
    marks: &[FileMark],
    longest: Duration,
    is_over: &dyn Fn() -> bool,
) -> Option<FileMark> {
    let begun = Instant::now();
    for mark in marks {
        let mut steady: Option<(Option<SeenFile>, Instant)> = None;
        loop {
            let now = FileMark::of(root, &mark.path);
            if now == *mark {
                break;
            }
            let since = match steady {
                Some((seen, since)) if seen == now.seen => since,
                _ => Instant::now(),
            };
            steady = Some((now.seen, since));
            let is_alike = match (now.seen, mark.seen) {
                (Some(one), Some(other)) => {
                    !one.is_folder && !other.is_folder && one.size == other.size
                }
                _ => false,
            };
            if is_alike && since.elapsed() >= STEADY {
                break;
            }
            if begun.elapsed() >= longest || is_over() {
                return Some(now);
            }
            ask_again(&root.join(mark.path.trim_end_matches('/')));
            std::thread::sleep(TICK);
        }
    }
    None
}

/// Opens a file and its folder, so that the file system asks its server for both.
fn ask_again(path: &Path) {
    // What can't be opened is looked at all the same.
    let _ = path.parent().map(File::open);
    let is_plain = path
        .symlink_metadata()
        .is_ok_and(|found| found.is_file() || found.is_dir());
    if is_plain {
        let flags = OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY;
        let flags = i32::try_from(flags.bits()).unwrap_or(0);
        let _ = OpenOptions::new().read(true).custom_flags(flags).open(path);
    }
}

fn look(path: &Path, is_whole: bool) -> Option<SeenFile> {
    let found = path.metadata().or_else(|_| path.symlink_metadata()).ok()?;
    if !found.is_dir() {
        return Some(SeenFile {
            is_folder: false,
            size: found.len(),
            modified: modified(&found),
        });
    }
    let mut folder = SeenFile {
        is_folder: true,
        size: 0,
        modified: 0,
    };
    if is_whole {
        let mut hasher = blake3::Hasher::new();
        add(path, &mut folder.size, &mut hasher);
        let hash = hasher.finalize();
        let first = hash.as_bytes().first_chunk().copied();
        folder.modified = u64::from_le_bytes(first.unwrap_or_default());
    }
    Some(folder)
}

/// Adds what lies in a folder, in the order of names.
fn add(folder: &Path, size: &mut u64, hasher: &mut blake3::Hasher) {
    let entries = std::fs::read_dir(folder);
    let mut entries: Vec<_> = entries.into_iter().flatten().flatten().collect();
    entries.sort_by_key(std::fs::DirEntry::file_name);
    for entry in entries {
        let path = entry.path();
        let name = entry.file_name();
        hasher.update(name.as_bytes()).update(b"/");
        match path.symlink_metadata() {
            Ok(found) if found.is_dir() => {
                add(&path, size, hasher);
                hasher.update(b"/");
            }
            Ok(found) => {
                *size += found.len();
                hasher.update(&found.len().to_le_bytes());
                hasher.update(&modified(&found).to_le_bytes());
            }
            // It goes just now.
            Err(_) => {}
        }
    }
}

/// A number that tells when a file was changed last.
fn modified(found: &Metadata) -> u64 {
    let seconds = found.mtime().cast_unsigned();
    seconds
        .wrapping_mul(1_000_000_000)
        .wrapping_add(found.mtime_nsec().cast_unsigned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_seen_late_is_waited_for() {
        let here = tempfile::tempdir().unwrap();
        let there = tempfile::tempdir().unwrap();
        let write =
            |root: &Path, path: &str, text: &str| std::fs::write(root.join(path), text).unwrap();
        std::fs::create_dir(there.path().join("folder")).unwrap();
        write(there.path(), "folder/a", "1");
        write(there.path(), "file", "text");
        let marks = ["file", "folder/", "absent"].map(|path| FileMark::of(there.path(), path));
        let never = || false;
        let missing = await_marks(here.path(), &marks, TICK, &never).unwrap();
        assert_eq!((&*missing.path, &*missing.in_words()), ("file", "nothing"));
        let copy = || {
            let copied = std::process::Command::new("cp")
                .arg("-a")
                .arg(there.path().join("."))
                .arg(here.path())
                .status();
            assert!(copied.unwrap().success());
        };
        std::thread::scope(|scope| {
            scope.spawn(|| {
                std::thread::sleep(3 * TICK);
                copy();
            });
            let longest = Duration::from_secs(20);
            assert_eq!(await_marks(here.path(), &marks, longest, &never), None);
        });
        write(there.path(), "folder/b", "2");
        let mark = [FileMark::of(there.path(), "folder/")];
        assert!(await_marks(here.path(), &mark, TICK, &never).is_some());
        copy();
        assert_eq!(await_marks(here.path(), &mark, TICK, &never), None);
        // Another time alone is no other file, once it stays.
        write(here.path(), "file", "TEXT");
        let longest = 3 * STEADY;
        assert_eq!(await_marks(here.path(), &marks[..1], longest, &never), None);
        write(here.path(), "file", "longer");
        assert!(await_marks(here.path(), &marks[..1], TICK, &never).is_some());
        assert!(await_marks(here.path(), &marks[..1], longest, &|| true).is_some());
    }
}
