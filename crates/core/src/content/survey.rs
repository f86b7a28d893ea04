//! Looking at many files at once, and reading those that may have changed.

use std::borrow::Cow;
use std::io;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering;

use crate::content::LearnedPath;
use crate::content::Linked;
use crate::content::Record;
use crate::content::State;
use crate::content::as_executable;
use crate::content::folder_is_there;
use crate::content::tree::tree;
use crate::world::Clock;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::Stat;

/// Fewer files than this are looked at by one thread: starting a second costs more.
const WORTH_A_THREAD: usize = 512;

/// A long list is cut into so many pieces for each thread.
const PIECES: usize = 16;

/// Whoever knows what files held when they were read last.
pub trait FileRecords: Sync {
    /// What is recorded of a path.
    fn record(&self, path: &str) -> Option<Record>;
}

/// Nothing is recorded, so everything is read.
pub struct NoRecords;

impl FileRecords for NoRecords {
    fn record(&self, _: &str) -> Option<Record> {
        None
    }
}

/// What a look at files needs: the disk, the clock, and what is recorded.
pub struct Reader<'a> {
    /// The file system.
    pub disk: &'a dyn Disk,
    /// The clock.
    pub clock: &'a dyn Clock,
    /// What is recorded.
    pub records: &'a dyn FileRecords,
}

/// What a look at one path found, and records that are new.
#[derive(Debug)]
pub struct Look {
    /// What stands there.
    pub state: State,
    /// Files that had to be read.
    pub read: Vec<(String, Record)>,
}

impl Reader<'_> {
    /// Looks at a path; one that ends with a slash means a whole folder.
    pub fn look(&self, path: &str, buffer: &mut Vec<u8>) -> Look {
        let mut read = Vec::new();
        let state = self.state(path, buffer, &mut read);
        Look { state, read }
    }

    fn state(&self, path: &str, buffer: &mut Vec<u8>, read: &mut Vec<(String, Record)>) -> State {
        if let LearnedPath::Folder(folder) = LearnedPath::of(path) {
            return match self.disk.stat(folder) {
                Ok(Some(stat)) if stat.kind == FileKind::Folder => folder_is_there(),
                Ok(Some(_)) => State::WrongKind,
                Ok(None) => State::Missing,
                Err(error) => State::Unreadable(error.to_string()),
            };
        }
        if let LearnedPath::Link(link) = LearnedPath::of(path) {
            return self.link_text(link);
        }
        let wants_folder = path.ends_with('/');
        let unreadable = |error: io::Error| State::Unreadable(error.to_string());
        let stat = match self.disk.stat(path) {
            Ok(Some(stat)) => stat,
            Ok(None) => return State::Missing,
            Err(error) => return unreadable(error),
        };
        if stat.link && path != "./" {
            return self
                .link(path, &stat, buffer, read)
                .unwrap_or_else(unreadable);
        }
        match (stat.kind, wants_folder) {
            (FileKind::Folder, true) => tree(self, path, buffer, read).unwrap_or_else(unreadable),
            (FileKind::Folder, false) | (_, true) => State::WrongKind,
            _ => match self.file(path, &stat, buffer, read) {
                Ok(digest) => State::Content(digest),
                Err(error) if error.kind() == io::ErrorKind::NotFound => State::Missing,
                Err(error) => unreadable(error),
            },
        }
    }

    /// What a link says.
    fn link_text(&self, path: &str) -> State {
        match self.disk.stat(path) {
            Ok(Some(stat)) if stat.link => match self.disk.read_link(path) {
                Ok(text) => State::Content(Digest::of(text.as_bytes())),
                Err(error) => State::Unreadable(error.to_string()),
            },
            Ok(Some(_)) => State::WrongKind,
            Ok(None) => State::Missing,
            Err(error) => State::Unreadable(error.to_string()),
        }
    }

    /// A link: what it says, and what stands at its end.
    fn link(
        &self,
        path: &str,
        stat: &Stat,
        buffer: &mut Vec<u8>,
        read: &mut Vec<(String, Record)>,
    ) -> io::Result<State> {
        let plain = path.trim_end_matches('/');
        let text = self.disk.read_link(plain)?;
        let digest = |letter: &[u8], end: &[u8]| {
            let mut hasher = blake3::Hasher::new();
            hasher.update(letter);
            hasher.update(&(text.len() as u64).to_le_bytes());
            hasher.update(text.as_bytes());
            hasher.update(end);
            Digest(*hasher.finalize().as_bytes())
        };
        let own = digest(b"link", &[]);
        let (seen, end) = match stat.kind {
            FileKind::File if path.ends_with('/') => return Ok(State::WrongKind),
            FileKind::File => match self
                .records
                .record(plain)
                .filter(|recorded| recorded.covers(stat))
            {
                Some(recorded) => (recorded.digest, None),
                None => {
                    let record = self.read(plain, stat, buffer)?;
                    let (end, seen) = (record.digest, digest(b"file", &record.digest.0));
                    read.push((
                        plain.to_owned(),
                        Record {
                            digest: seen,
                            ..record
                        },
                    ));
                    (seen, Some(end))
                }
            },
            FileKind::Folder => {
                let end = tree(self, &format!("{plain}/"), buffer, read)?.digest();
                let bytes = end.map(|end| end.0).unwrap_or_default();
                (digest(b"folder", &bytes), end)
            }
            FileKind::Link => (digest(b"nothing", &[]), None),
            FileKind::Other => (digest(b"other", &[]), None),
        };
        Ok(State::Linked(Box::new(Linked {
            seen,
            own,
            end,
            dangling: stat.kind == FileKind::Link,
        })))
    }

    /// A file's digest, from the record when that still covers it. A file that changes while it is
    /// read is read again.
    pub fn file(
        &self,
        path: &str,
        stat: &Stat,
        buffer: &mut Vec<u8>,
        read: &mut Vec<(String, Record)>,
    ) -> io::Result<Digest> {
        // What is recorded of a link is not the digest of what stands at its end.
        let key = if stat.link {
            Cow::Owned(format!("{path}\0"))
        } else {
            Cow::Borrowed(path)
        };
        let recorded = self.records.record(&key);
        if let Some(recorded) = recorded
            && recorded.covers(stat)
        {
            return Ok(recorded.digest);
        }
        let record = self.read(path, stat, buffer)?;
        // For nearly all looks it is the only one.
        read.reserve_exact(1);
        read.push((key.into_owned(), record));
        Ok(record.digest)
    }

    fn read(&self, path: &str, stat: &Stat, buffer: &mut Vec<u8>) -> io::Result<Record> {
        if stat.kind != FileKind::File {
            return Err(io::Error::other("it is neither a file nor a folder"));
        }
        let mut stat = *stat;
        for _ in 0..3 {
            let read_at = self.clock.now();
            let bytes = self.disk.digest(path, buffer)?;
            let after = self.disk.stat(path)?.ok_or(io::ErrorKind::NotFound)?;
            if after == stat {
                let digest = if stat.executable {
                    as_executable(bytes)
                } else {
                    bytes
                };
                return Ok(Record::new(&stat, read_at, digest));
            }
            stat = after;
        }
        Err(io::Error::other("it keeps changing while it is read"))
    }
}

/// Looks at all these paths, over the machine's cores, in the order given.
pub fn survey(reader: &Reader<'_>, paths: &[&str], threads: usize) -> Vec<Look> {
    over_threads(paths, threads, |paths| {
        let mut buffer = Vec::new();
        paths
            .iter()
            .map(|path| reader.look(path, &mut buffer))
            .collect()
    })
}

/// Works contiguous shares of a list off on several threads; the results in the list's order.
pub fn over_threads<T: Sync, R: Send>(
    list: &[T],
    threads: usize,
    work: impl Fn(&[T]) -> Vec<R> + Sync,
) -> Vec<R> {
    let threads = threads.clamp(1, list.len().div_ceil(WORTH_A_THREAD).max(1));
    if threads == 1 {
        return work(list);
    }
    // A thread begins when the system lets it: who is there first takes more of the pieces.
    let size = (list.len() / (threads * PIECES)).max(WORTH_A_THREAD / 2);
    let pieces: Vec<&[T]> = list.chunks(size).collect();
    let next = AtomicUsize::new(0);
    let take = || {
        let mut done = Vec::new();
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(piece) = pieces.get(at) else { break };
            done.push((at, work(piece)));
        }
        done
    };
    let mut done = std::thread::scope(|scope| {
        // Where there is no room for one more thread the others do its part.
        let others: Vec<_> = (1..threads)
            .map_while(|_| {
                let thread = std::thread::Builder::new();
                thread.spawn_scoped(scope, take).ok()
            })
            .collect();
        let mut done = take();
        for other in others {
            match other.join() {
                Ok(more) => done.extend(more),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        done
    });
    done.sort_unstable_by_key(|(at, _)| *at);
    done.into_iter().flat_map(|(_, found)| found).collect()
}
