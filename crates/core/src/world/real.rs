//! The machine's own file system and clock.

use std::borrow::Cow;
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::io::Read;
use std::os::fd::AsFd;
use std::os::fd::BorrowedFd;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::path::PathBuf;
use std::time::Instant;
use std::time::SystemTime;
use std::time::UNIX_EPOCH;

use rustix::fs::AtFlags;
use rustix::fs::FileType;
use rustix::fs::Mode;
use rustix::fs::OFlags;
use rustix::io::Errno;

use crate::world::Clock;
use crate::world::Digest;
use crate::world::DirEntry;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::LeftOut;
use crate::world::Stat;
use crate::world::Ticks;
use crate::world::names;
use crate::world::names::folder_of;
use crate::world::own;

/// Files of this size and more are read in larger pieces, bytes.
const SMALL_READ: usize = 4096;

/// Files of at most this many bytes are read in one piece.
const ONE_READ: usize = 128 * 1024;

/// The files below a folder of this machine.
#[derive(Debug)]
pub struct RealDisk {
    root: PathBuf,
    folder: OwnedFd,
    left_out: LeftOut,
}

impl RealDisk {
    /// Opens a project's folder.
    ///
    /// # Errors
    /// When the folder cannot be opened.
    pub fn open(root: &Path) -> io::Result<Self> {
        let folder = rustix::fs::open(
            root,
            OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC,
            Mode::empty(),
        )?;
        Ok(Self {
            root: root.to_owned(),
            folder,
            left_out: LeftOut::default(),
        })
    }

    fn full(&self, path: &str) -> PathBuf {
        if path.is_empty() {
            return self.root.clone();
        }
        self.root.join(OsStr::from_bytes(&raw(path)))
    }

    /// Opens what must be a file with contents: a pipe that nobody writes to must not hang us.
    fn open_file(&self, path: &str) -> io::Result<File> {
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let file: File =
            rustix::fs::openat(&self.folder, &*names::to_bytes(path), flags, Mode::empty())?.into();
        let kind = FileType::from_raw_mode(rustix::fs::fstat(&file)?.st_mode);
        match kind {
            FileType::RegularFile => Ok(file),
            FileType::Directory => Err(io::ErrorKind::IsADirectory.into()),
            _ => Err(io::Error::other("it is neither a file nor a folder")),
        }
    }
}

/// The name to hand to the system: a folder's without its last slash, the root as `.`.
fn plain(path: &str) -> &str {
    match path.strip_suffix('/').unwrap_or(path) {
        "" if path.is_empty() => ".",
        "" => "/",
        plain => plain,
    }
}

/// The bytes of that name.
fn raw(path: &str) -> Cow<'_, [u8]> {
    names::to_bytes(plain(path))
}

impl Disk for RealDisk {
    fn left_out(&self) -> &LeftOut {
        &self.left_out
    }

    fn list(&self, folder: &str) -> io::Result<Vec<DirEntry>> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let descriptor = rustix::fs::openat(&self.folder, &*raw(folder), flags, Mode::empty())?;
        let mut entries = Vec::new();
        let mut buffer = Vec::with_capacity(32 * 1024);
        let mut listing = rustix::fs::RawDir::new(&descriptor, buffer.spare_capacity_mut());
        while let Some(entry) = listing.next() {
            let entry = entry?;
            let bytes = entry.file_name().to_bytes();
            if bytes == b"." || bytes == b".." {
                continue;
            }
            let name = names::to_text(bytes);
            let mut kind = kind_of(entry.file_type());
            if entry.file_type() == FileType::Unknown {
                let stat =
                    rustix::fs::statat(&descriptor, entry.file_name(), AtFlags::SYMLINK_NOFOLLOW)?;
                kind = kind_of(FileType::from_raw_mode(stat.st_mode));
            }
            entries.push(DirEntry {
                name: name.into(),
                kind,
            });
        }
        Ok(entries)
    }

    fn stat(&self, path: &str) -> io::Result<Option<Stat>> {
        stat_below(self.folder.as_fd(), &raw(path))
    }

    fn is_free(&self, path: &str) -> io::Result<bool> {
        match rustix::fs::statat(&self.folder, &*raw(path), AtFlags::SYMLINK_NOFOLLOW) {
            Ok(_) => Ok(false),
            Err(Errno::NOENT | Errno::NOTDIR) => Ok(true),
            Err(error) => Err(error.into()),
        }
    }

    fn stat_all(
        &self,
        paths: &mut dyn Iterator<Item = &str>,
        found: &mut dyn FnMut(io::Result<Option<Stat>>),
    ) {
        /// So many files of one folder are worth opening it.
        const WORTH_OPENING: usize = 4;
        let mut paths = paths.peekable();
        let mut run: Vec<&str> = Vec::new();
        while let Some(path) = paths.next() {
            let folder = folder_of(path);
            run.clear();
            run.push(path);
            while let Some(next) = paths.next_if(|next| folder_of(next) == folder) {
                run.push(next);
            }
            let opened = (run.len() >= WORTH_OPENING && !folder.is_empty())
                .then(|| {
                    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
                    rustix::fs::openat(&self.folder, &*raw(folder), flags, Mode::empty()).ok()
                })
                .flatten();
            for path in &run {
                found(match &opened {
                    Some(opened) => stat_below(opened.as_fd(), &raw(&path[folder.len()..])),
                    None => self.stat(path),
                });
            }
        }
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        self.open_file(path)?.read_to_end(&mut bytes)?;
        Ok(bytes)
    }

    fn digest(&self, path: &str, buffer: &mut Vec<u8>) -> io::Result<Digest> {
        let mut file = self.open_file(path)?;
        // Most files are small: the large buffer is only filled with zeros when it is needed.
        let mut small = [0; SMALL_READ];
        let first = read_full(&mut file, &mut small)?;
        if first < SMALL_READ {
            return Ok(Digest::of(&small[..first]));
        }
        buffer.resize(ONE_READ, 0);
        let mut hasher = blake3::Hasher::new();
        hasher.update(&small);
        loop {
            let more = read_full(&mut file, buffer)?;
            hasher.update(&buffer[..more]);
            if more < ONE_READ {
                return Ok(Digest(*hasher.finalize().as_bytes()));
            }
        }
    }

    fn read_link(&self, path: &str) -> io::Result<String> {
        let target = rustix::fs::readlinkat(&self.folder, &*raw(path), Vec::new())?;
        Ok(names::to_text(target.as_bytes()).into_owned())
    }

    fn create_folders(&self, folder: &str) -> io::Result<()> {
        if folder.starts_with(".handloom/") {
            return own::create_folders(&self.full(folder));
        }
        std::fs::create_dir_all(self.full(folder))
    }

    fn real_path(&self, path: &str) -> io::Result<Option<String>> {
        let real = self.full(path).canonicalize()?;
        let below = real.strip_prefix(self.root.canonicalize()?).ok();
        Ok(below.map(|below| names::os_to_text(below.as_os_str()).into_owned()))
    }

    fn write(&self, path: &str, bytes: &[u8]) -> io::Result<()> {
        std::fs::write(self.full(path), bytes)
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        Ok(rustix::fs::renameat(
            &self.folder,
            &*raw(from),
            &self.folder,
            &*raw(to),
        )?)
    }

    fn remove_file(&self, path: &str) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(
            &self.folder,
            &*raw(path),
            AtFlags::empty(),
        )?)
    }

    fn remove_folder(&self, path: &str) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(
            &self.folder,
            &*raw(path),
            AtFlags::REMOVEDIR,
        )?)
    }

    fn remove_tree(&self, path: &str) -> io::Result<()> {
        let full = self.full(path);
        match std::fs::remove_dir_all(&full) {
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                open_up(&full);
                std::fs::remove_dir_all(&full)
            }
            result => result,
        }
    }

    fn copy(&self, from: &str, to: &str) -> io::Result<()> {
        copy_all(&self.full(from), &self.full(to))
    }
}

/// Lets the owner write to a folder and all folders below it, as far as that is possible.
fn open_up(folder: &Path) {
    let Ok(before) = std::fs::symlink_metadata(folder) else {
        return;
    };
    if !before.is_dir() {
        return;
    }
    let mut rights = before.permissions();
    rights.set_mode(rights.mode() | 0o700);
    // What can't be changed is told by the removal.
    let _ = std::fs::set_permissions(folder, rights);
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            open_up(&entry.path());
        }
    }
}

fn copy_all(from: &Path, to: &Path) -> io::Result<()> {
    let kind = std::fs::symlink_metadata(from)?;
    if kind.is_symlink() {
        return std::os::unix::fs::symlink(std::fs::read_link(from)?, to);
    }
    if kind.is_file() {
        return std::fs::copy(from, to).map(|_| ());
    }
    if !kind.is_dir() {
        // A pipe or a socket has no content that could be kept.
        return Ok(());
    }
    std::fs::create_dir(to)?;
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        copy_all(&entry.path(), &to.join(entry.file_name()))?;
    }
    // Last, since nothing can be put into a folder that may only be read.
    std::fs::set_permissions(to, kind.permissions())
}

fn stat_below(folder: BorrowedFd<'_>, path: &[u8]) -> io::Result<Option<Stat>> {
    let own = match rustix::fs::statat(folder, path, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(own) => own,
        Err(Errno::NOENT | Errno::NOTDIR) => return Ok(None),
        Err(error) => return Err(error.into()),
    };
    if FileType::from_raw_mode(own.st_mode) != FileType::Symlink {
        return Ok(Some(stat_of(&own)));
    }
    let own = stat_of(&own);
    match rustix::fs::statat(folder, path, AtFlags::empty()) {
        Ok(behind) => {
            let behind = stat_of(&behind);
            Ok(Some(Stat {
                link: true,
                inode: behind.inode ^ mixed(&own),
                ..behind
            }))
        }
        Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Ok(Some(Stat { link: true, ..own })),
        Err(error) => Err(error.into()),
    }
}

/// A number that tells one link from another at the same place.
fn mixed(link: &Stat) -> u64 {
    let mut bytes = [0; 24];
    bytes[..8].copy_from_slice(&link.inode.to_le_bytes());
    bytes[8..16].copy_from_slice(&link.changed.to_le_bytes());
    bytes[16..].copy_from_slice(&link.modified.to_le_bytes());
    xxhash_rust::xxh3::xxh3_64(&bytes)
}

fn read_full(file: &mut File, buffer: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match file.read(&mut buffer[filled..]) {
            Ok(0) => break,
            Ok(count) => filled += count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}

fn kind_of(kind: FileType) -> FileKind {
    match kind {
        FileType::RegularFile => FileKind::File,
        FileType::Directory => FileKind::Folder,
        FileType::Symlink => FileKind::Link,
        _ => FileKind::Other,
    }
}

fn stat_of(stat: &rustix::fs::Stat) -> Stat {
    let nanos = |seconds: i64, nanos: u64| {
        seconds
            .saturating_mul(1_000_000_000)
            .saturating_add(i64::try_from(nanos).unwrap_or(0))
    };
    Stat {
        kind: kind_of(FileType::from_raw_mode(stat.st_mode)),
        link: false,
        executable: stat.st_mode & 0o100 != 0,
        size: u64::try_from(stat.st_size).unwrap_or(0),
        modified: nanos(stat.st_mtime, stat.st_mtime_nsec),
        changed: nanos(stat.st_ctime, stat.st_ctime_nsec),
        inode: stat.st_ino,
        identity: (stat.st_dev, stat.st_ino),
    }
}

/// The machine's clocks.
#[derive(Debug)]
pub struct SystemClock {
    start: Instant,
}

impl Default for SystemClock {
    fn default() -> Self {
        Self {
            start: Instant::now(),
        }
    }
}

impl Clock for SystemClock {
    fn now(&self) -> i64 {
        let since = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .unwrap_or_default();
        i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
    }

    fn ticks(&self) -> Ticks {
        Ticks::after(self.start.elapsed())
    }
}
