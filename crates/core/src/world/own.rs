//! Opening Hand Loom's own files, below `.handloom/`.
//!
//! What lies there may have been put there by somebody else: it comes along with a copied folder. So no
//! link is followed, nothing but a plain file is opened (a pipe would hang, a device never ends), no more
//! is read than the file holds, and what is made is for its owner alone.

use std::fs::DirBuilder;
use std::fs::File;
use std::fs::OpenOptions;
use std::io;
use std::io::Read;
use std::os::unix::fs::DirBuilderExt;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rustix::fs::OFlags;

/// The rights of files, and those of folders.
pub const FILE_MODE: u32 = 0o600;
/// The rights of folders.
pub const FOLDER_MODE: u32 = 0o700;

/// Options for opening an own file; whoever uses them adds what is wanted.
#[must_use]
pub fn options() -> OpenOptions {
    let flags = OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let mut options = File::options();
    options
        .mode(FILE_MODE)
        .custom_flags(i32::try_from(flags.bits()).unwrap_or(0));
    options
}

/// Opens an own file with these options.
///
/// # Errors
/// When it cannot be opened, is a link, or is no plain file.
pub fn open(path: &Path, options: &OpenOptions) -> io::Result<File> {
    let file = options.open(path).map_err(|error| {
        let is_link = std::fs::symlink_metadata(path).is_ok_and(|found| found.is_symlink());
        if is_link { not_plain() } else { error }
    })?;
    if file.metadata()?.is_file() {
        Ok(file)
    } else {
        Err(not_plain())
    }
}

fn not_plain() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "it is no plain file")
}

/// Whether a path stands for something that [`open`] refuses as no plain file.
#[must_use]
pub fn is_refused(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::InvalidData
}

/// Reads an own file.
///
/// # Errors
/// As [`open`], or when it cannot be read.
pub fn read(path: &Path) -> io::Result<Vec<u8>> {
    let file = open(path, options().read(true))?;
    let length = file.metadata()?.len();
    let mut bytes = Vec::new();
    file.take(length).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Makes an own folder, and those above it.
///
/// # Errors
/// When it cannot be made.
pub fn create_folders(path: &Path) -> io::Result<()> {
    DirBuilder::new()
        .recursive(true)
        .mode(FOLDER_MODE)
        .create(path)
}

/// Makes a folder below one that is there; one that is there already must be a folder and no link.
///
/// # Errors
/// When it cannot be made, or something else stands there.
pub fn create_folder(path: &Path) -> io::Result<()> {
    match DirBuilder::new().mode(FOLDER_MODE).create(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            if std::fs::symlink_metadata(path)?.is_dir() {
                Ok(())
            } else {
                Err(io::Error::new(
                    io::ErrorKind::InvalidData,
                    "it is no folder",
                ))
            }
        }
        result => result,
    }
}
