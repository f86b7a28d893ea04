//! Where a ledger's bytes lie. Everything that can fail on a disk is behind [`Storage`], so that
//! tests can cut every write short.

use std::fs::File;
use std::io;
use std::io::Write;
use std::ops::Deref;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;

use crate::world::own;

/// A snapshot's bytes.
pub enum Bytes {
    /// A file mapped into memory.
    Mapped(memmap2::Mmap),
    /// Bytes in memory.
    Owned(Vec<u8>),
}

impl Deref for Bytes {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        match self {
            Self::Mapped(map) => map,
            Self::Owned(bytes) => bytes,
        }
    }
}

/// Which file of a kept project (`project_cache`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeptFile {
    /// What tells whether anything changed.
    Front,
    /// The project itself.
    Body,
}

impl KeptFile {
    fn name(self) -> &'static str {
        match self {
            Self::Front => "project-front",
            Self::Body => "project",
        }
    }
}

/// A place for a snapshot and a journal.
pub trait Storage: Send + Sync {
    /// The snapshot, if there is one.
    fn snapshot(&self) -> io::Result<Option<Bytes>>;
    /// The journal's bytes; none when there is none.
    fn journal(&self) -> io::Result<Vec<u8>>;
    /// Puts a new snapshot in the old one's place, whole or not at all, and durably.
    fn replace_snapshot(&mut self, pieces: &[&[u8]]) -> io::Result<()>;
    /// Begins a new journal in the old one's place.
    fn start_journal(&mut self, head: &[u8]) -> io::Result<()>;
    /// Adds to the journal.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()>;
    /// Takes off what lies behind a length.
    fn truncate_journal(&mut self, length: u64) -> io::Result<()>;
    /// Makes the journal durable.
    fn sync(&mut self) -> io::Result<()>;
    /// Something that does the same from another thread.
    fn syncer(&self) -> Option<Box<dyn Fn() -> io::Result<()> + Send>> {
        None
    }
    /// Moves a snapshot or a journal that can't be read out of the way; gives the snapshot's new name.
    fn set_aside(&mut self) -> io::Result<String>;
    /// A file of the project as it was worked out last, if it was kept (`project_cache`).
    fn kept(&self, file: KeptFile) -> io::Result<Option<Bytes>>;
    /// Keeps a file of the project as it was worked out, whole or not at all. It can be worked out again, so
    /// it need not be durable.
    fn keep(&mut self, file: KeptFile, pieces: &[&[u8]]) -> io::Result<()>;
}

/// A ledger in a folder: `ledger` is the snapshot, `journal` the journal.
#[derive(Debug)]
pub struct RealStorage {
    folder: PathBuf,
    journal: Option<File>,
    /// Where the journal ends; writes name their place, so that one cut short is written over.
    end: u64,
    /// How far the file reaches: zeros are written ahead of the journal's end.
    reach: u64,
}

/// So many zeros are written ahead at least, and at most.
///
/// A write into space that the file has already changes nothing but data. Making it durable then does
/// not wait for the file system's own journal, and so neither for the files that recipes write at the
/// same time; with a file that grows at each write a cold run took four times as long.
const AHEAD: (u64, u64) = (16 * 1024, 4 * 1024 * 1024);

impl RealStorage {
    /// A ledger in this folder, which need not exist while it is only read.
    #[must_use]
    pub fn new(folder: &Path) -> Self {
        Self {
            folder: folder.to_owned(),
            journal: None,
            end: 0,
            reach: 0,
        }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    fn sync_folder(&self) -> io::Result<()> {
        File::open(&self.folder)?.sync_all()
    }

    fn mapped(&self, name: &str) -> io::Result<Option<Bytes>> {
        let file = match own::open(&self.path(name), own::options().read(true)) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        if file.metadata()?.len() == 0 {
            return Ok(Some(Bytes::Owned(Vec::new())));
        }
        Ok(Some(Bytes::Mapped(crate::world::map_file(&file)?)))
    }

    /// Writes a file beside and renames it over the old one.
    fn replace(&self, name: &str, pieces: &[&[u8]], durable: bool) -> io::Result<()> {
        let beside = self.path(&format!("{name}.new"));
        // Whatever stands there is of a run that was cut short, or none of ours.
        let _ = std::fs::remove_file(&beside);
        let created = own::open(&beside, own::options().write(true).create_new(true));
        let written = created.and_then(|mut file| {
            for piece in pieces {
                file.write_all(piece)?;
            }
            if durable { file.sync_all() } else { Ok(()) }
        });
        if let Err(error) = written {
            let _ = std::fs::remove_file(&beside);
            return Err(error);
        }
        std::fs::rename(&beside, self.path(name))
    }

    fn open_journal(&mut self) -> io::Result<&mut File> {
        if self.journal.is_none() {
            let file = own::open(&self.path("journal"), own::options().write(true))?;
            self.end = file.metadata()?.len();
            self.reach = self.end;
            self.journal = Some(file);
        }
        self.journal
            .as_mut()
            .ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

fn write_all_at(file: &File, bytes: &[u8], at: u64) -> io::Result<()> {
    std::os::unix::fs::FileExt::write_all_at(file, bytes, at)
}

impl Storage for RealStorage {
    fn snapshot(&self) -> io::Result<Option<Bytes>> {
        self.mapped("ledger")
    }

    fn journal(&self) -> io::Result<Vec<u8>> {
        match own::read(&self.path("journal")) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            result => result,
        }
    }

    fn replace_snapshot(&mut self, pieces: &[&[u8]]) -> io::Result<()> {
        self.replace("ledger", pieces, true)?;
        self.sync_folder()
    }

    fn start_journal(&mut self, head: &[u8]) -> io::Result<()> {
        let path = self.path("journal");
        // What is no plain file is replaced, not written through.
        if std::fs::symlink_metadata(&path).is_ok_and(|found| !found.is_file()) {
            std::fs::remove_file(&path)?;
        }
        let options = &mut own::options();
        let mut file = own::open(&path, options.write(true).create(true).truncate(true))?;
        file.write_all(head)?;
        self.end = head.len() as u64;
        self.reach = self.end;
        self.journal = Some(file);
        Ok(())
    }

    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.open_journal()?;
        let (end, reach) = (self.end, self.reach);
        let after = end + bytes.len() as u64;
        let file = self.open_journal()?;
        if after > reach {
            let ahead = after + end.clamp(AHEAD.0, AHEAD.1);
            let zeros = vec![0; usize::try_from(ahead - reach).unwrap_or(0)];
            write_all_at(file, &zeros, reach)?;
            self.reach = ahead;
        }
        write_all_at(self.open_journal()?, bytes, end)?;
        self.end = after;
        Ok(())
    }

    fn truncate_journal(&mut self, length: u64) -> io::Result<()> {
        self.open_journal()?.set_len(length)?;
        self.end = length;
        self.reach = length;
        Ok(())
    }

    fn sync(&mut self) -> io::Result<()> {
        self.open_journal()?.sync_data()
    }

    fn syncer(&self) -> Option<Box<dyn Fn() -> io::Result<()> + Send>> {
        let file = self.journal.as_ref()?.try_clone().ok()?;
        Some(Box::new(move || file.sync_data()))
    }

    fn set_aside(&mut self) -> io::Result<String> {
        let name = (1..)
            .map(|number| format!("ledger.unreadable-{number}"))
            .find(|name| std::fs::symlink_metadata(self.path(name)).is_err())
            .unwrap_or_default();
        std::fs::rename(self.path("ledger"), self.path(&name))?;
        Ok(format!(".handloom/{name}"))
    }

    fn kept(&self, file: KeptFile) -> io::Result<Option<Bytes>> {
        self.mapped(file.name())
    }

    fn keep(&mut self, file: KeptFile, pieces: &[&[u8]]) -> io::Result<()> {
        self.replace(file.name(), pieces, false)
    }
}

/// The files of a ledger in memory, shared by those that open it one after the other.
#[derive(Clone, Debug, Default)]
pub struct MemoryStorage {
    files: Arc<Mutex<MemoryFiles>>,
}

#[derive(Debug, Default)]
struct MemoryFiles {
    /// Durable as soon as it is there ([`Storage::replace_snapshot`]).
    snapshot: Option<Vec<u8>>,
    /// The journal as it was written.
    journal: Vec<u8>,
    /// The journal as it was made durable last.
    durable: Vec<u8>,
    /// Whether the durable journal is of the file that stands there now, and not of the one before.
    same_file: bool,
    /// The front and the body of a kept project.
    kept: [Option<Vec<u8>>; 2],
    /// How many more bytes may be written, when that is limited.
    room: Option<usize>,
}

impl MemoryStorage {
    /// Lets the storage take so many bytes more; then every write is cut short and fails. `None`
    /// lifts the limit.
    pub fn limit(&self, room: Option<usize>) {
        self.with(|files| files.room = room);
    }

    /// Changes the snapshot's and the journal's bytes.
    pub fn damage(&self, change: impl FnOnce(&mut Option<Vec<u8>>, &mut Vec<u8>)) {
        self.with(|files| change(&mut files.snapshot, &mut files.journal));
    }

    /// The power fails: of what was not made durable, each block of the journal is there or is zeros, as
    /// `is_kept` says, its end is where it says, and a new journal may not have come into the old one's place.
    pub fn lose_power(&self, mut is_kept: impl FnMut() -> bool) {
        const BLOCK: usize = 64;
        self.with(|files| {
            if !files.same_file && !is_kept() {
                files.journal.clone_from(&files.durable);
            } else {
                let sure = if files.same_file {
                    files.durable.len()
                } else {
                    0
                };
                let mut end = files.journal.len();
                let mut at = sure.min(end);
                while at < end {
                    let next = (at + BLOCK).min(end);
                    if !is_kept() {
                        files.journal[at..next].fill(0);
                        if is_kept() {
                            end = at;
                        }
                    }
                    at = next;
                }
                files.journal.truncate(end);
            }
            files.durable.clone_from(&files.journal);
            files.same_file = true;
            files.kept = [None, None];
        });
    }

    fn with<T>(&self, use_files: impl FnOnce(&mut MemoryFiles) -> T) -> T {
        use_files(&mut crate::world::lock(&self.files))
    }
}

impl MemoryFiles {
    /// As much of `bytes` as there is room for.
    fn take<'b>(&mut self, bytes: &'b [u8]) -> (&'b [u8], io::Result<()>) {
        match &mut self.room {
            Some(room) if *room < bytes.len() => {
                let cut = &bytes[..*room];
                *room = 0;
                (cut, Err(io::ErrorKind::StorageFull.into()))
            }
            Some(room) => {
                *room -= bytes.len();
                (bytes, Ok(()))
            }
            None => (bytes, Ok(())),
        }
    }
}

impl Storage for MemoryStorage {
    fn snapshot(&self) -> io::Result<Option<Bytes>> {
        Ok(self.with(|files| files.snapshot.clone().map(Bytes::Owned)))
    }

    fn journal(&self) -> io::Result<Vec<u8>> {
        Ok(self.with(|files| files.journal.clone()))
    }

    fn replace_snapshot(&mut self, pieces: &[&[u8]]) -> io::Result<()> {
        let bytes = pieces.concat();
        self.with(|files| {
            let (_, result) = files.take(&bytes);
            result?;
            files.snapshot = Some(bytes);
            Ok(())
        })
    }

    fn start_journal(&mut self, head: &[u8]) -> io::Result<()> {
        self.with(|files| {
            let (cut, result) = files.take(head);
            files.journal = cut.to_vec();
            files.same_file = false;
            result
        })
    }

    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.with(|files| {
            let (cut, result) = files.take(bytes);
            files.journal.extend_from_slice(cut);
            result
        })
    }

    fn truncate_journal(&mut self, length: u64) -> io::Result<()> {
        self.with(|files| {
            files
                .journal
                .truncate(usize::try_from(length).unwrap_or(usize::MAX));
        });
        Ok(())
    }

    fn sync(&mut self) -> io::Result<()> {
        self.with(|files| {
            files.durable.clone_from(&files.journal);
            files.same_file = true;
        });
        Ok(())
    }

    fn set_aside(&mut self) -> io::Result<String> {
        self.with(|files| files.snapshot = None);
        Ok("memory".to_owned())
    }

    fn kept(&self, file: KeptFile) -> io::Result<Option<Bytes>> {
        Ok(self.with(|files| files.kept[file as usize].clone().map(Bytes::Owned)))
    }

    fn keep(&mut self, file: KeptFile, pieces: &[&[u8]]) -> io::Result<()> {
        let bytes = pieces.concat();
        self.with(|files| {
            let (_, result) = files.take(&bytes);
            result?;
            files.kept[file as usize] = Some(bytes);
            Ok(())
        })
    }
}
