//! Copying files into the store and out of it.

use std::fs::File;
use std::io;
use std::io::Read;
use std::io::Seek;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use memchr::memmem::Finder;

use crate::store::folder::ObjectFolder;
use crate::store::object::ObjectKind;
use crate::world::Digest;
use crate::world::own;

/// Files are read in pieces of so many bytes.
const PIECE: usize = 128 * 1024;

/// Why a result could not be kept.
#[derive(Debug, thiserror::Error)]
pub enum KeepError {
    /// What is to be kept can't be read: the trouble of this one result.
    #[error("what is to be kept can't be read")]
    Source(#[source] io::Error),
    /// The store can't be written to: nothing more can be kept.
    #[error("can't write to the store")]
    Store(#[source] io::Error),
}

/// What was read of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileRead {
    /// The digest of its bytes.
    pub digest: Digest,
    /// Bytes.
    pub size: u64,
    /// Whether it holds what was looked for.
    pub holds: bool,
}

/// Reads a file to its end: its digest, and whether `text` is in it.
pub fn read_through(
    file: &mut impl Read,
    text: Option<&Finder<'_>>,
    buffer: &mut Vec<u8>,
) -> io::Result<FileRead> {
    let mut hasher = blake3::Hasher::new();
    let mut read = FileRead {
        digest: Digest([0; 32]),
        size: 0,
        holds: false,
    };
    // What is looked for may begin in one piece and end in the next.
    let overlap = text.map_or(0, |text| text.needle().len().saturating_sub(1));
    buffer.resize(PIECE + overlap, 0);
    let mut before = 0;
    loop {
        let count = match file.read(&mut buffer[before..before + PIECE]) {
            Ok(0) => break,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            count => count?,
        };
        let end = before + count;
        hasher.update(&buffer[before..end]);
        read.size += count as u64;
        if let Some(text) = text.filter(|_| !read.holds) {
            read.holds = text.find(&buffer[..end]).is_some();
        }
        before = overlap.min(end);
        buffer.copy_within(end - before..end, 0);
    }
    read.digest = Digest(*hasher.finalize().as_bytes());
    Ok(read)
}

/// Puts a file of the project into the store, unless what it held when `expected` was read is there already.
///
/// The copy is read, and not the file: so its name is the digest of what is kept, whatever becomes of the file meanwhile.
///
/// # Errors
/// When the disk fails, or the file is none.
pub fn copy_in(
    store: &ObjectFolder,
    path: &Path,
    expected: Option<(Digest, u64)>,
    text: Option<&Finder<'_>>,
    buffer: &mut Vec<u8>,
) -> Result<FileRead, KeepError> {
    let mut source = own::open(path, own::options().read(true)).map_err(KeepError::Source)?;
    if let Some((digest, size)) = expected
        && store.has_file(digest, size)
    {
        let read = read_through(&mut source, text, buffer).map_err(KeepError::Source)?;
        if read.digest == digest {
            return Ok(read);
        }
        source.rewind().map_err(KeepError::Source)?;
    }
    let name = expected.map(|(digest, _)| digest);
    let created = store.create(ObjectKind::File, name);
    let (new, copy) = created.map_err(KeepError::Store)?;
    let written = write_new(&mut source, copy, text, buffer);
    let put = written.and_then(|read| {
        store.put(&new, ObjectKind::File, read.digest)?;
        Ok(read)
    });
    put.map_err(|error| {
        let _ = std::fs::remove_file(&new);
        KeepError::Store(error)
    })
}

fn write_new(
    source: &mut File,
    mut copy: File,
    text: Option<&Finder<'_>>,
    buffer: &mut Vec<u8>,
) -> io::Result<FileRead> {
    // The system copies between files by itself, and only notes that they share it where it can.
    io::copy(source, &mut copy)?;
    copy.rewind()?;
    read_through(&mut copy, text, buffer)
}

/// Copies a kept file to a place that is free.
///
/// # Errors
/// When it is not kept, something stands there, or the disk fails.
pub fn copy_out(store: &ObjectFolder, name: Digest, to: &Path, mode: u32) -> io::Result<()> {
    let mut kept = store.open_file(name)?;
    let mut options = own::options();
    let mut copy = options.write(true).create_new(true).open(to)?;
    // For few bytes, asking the system to copy costs it more than to have them read and written.
    let mut bytes = Vec::new();
    (&mut kept).take(PIECE as u64).read_to_end(&mut bytes)?;
    copy.write_all(&bytes)?;
    if bytes.len() == PIECE {
        copy.rewind()?;
        kept.rewind()?;
        io::copy(&mut kept, &mut copy)?;
    }
    copy.set_permissions(std::fs::Permissions::from_mode(mode & 0o777))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_found_wherever_pieces_are_cut() {
        let finder = Finder::new("/home/keeper/lights");
        let mut buffer = Vec::new();
        for at in [
            0,
            1,
            PIECE - 19,
            PIECE - 18,
            PIECE - 9,
            PIECE - 1,
            PIECE,
            3 * PIECE,
        ] {
            let mut bytes = vec![b'/'; at];
            bytes.extend_from_slice(b"/home/keeper/lights/x");
            let read = read_through(&mut &bytes[..], Some(&finder), &mut buffer).unwrap();
            assert!(read.holds, "at {at}");
            assert_eq!(read.digest, Digest::of(&bytes));
            assert_eq!(read.size, bytes.len() as u64);
            bytes[at + 4] = b'x';
            let read = read_through(&mut &bytes[..], Some(&finder), &mut buffer).unwrap();
            assert!(!read.holds, "at {at}");
        }
    }
}
