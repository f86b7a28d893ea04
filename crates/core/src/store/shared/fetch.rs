//! Fetching objects from a shared store into the local one, and putting them there.

use std::fs::File;
use std::io;
use std::io::Read;
use std::io::Seek;

use serde::Deserialize;

use crate::store::copying::read_through;
use crate::store::folder::ObjectFolder;
use crate::store::key::StoreKey;
use crate::store::object::Lists;
use crate::store::object::ObjectKind;
use crate::store::object::StoredResult;
use crate::store::object::opened;
use crate::store::shared::ObjectServer;
use crate::store::shared::SharedError;
use crate::store::shared::activity::Activity;
use crate::world::Digest;

/// Larger files are packed and unpacked on the disk, bytes.
const IN_MEMORY: u64 = 4 << 20;
/// No list or result is larger, bytes.
const MOST: u64 = 64 << 20;

/// A shared store, and the local one in front of it.
pub struct Exchange<'x> {
    /// The shared store.
    pub server: &'x dyn ObjectServer,
    /// The local one.
    pub folder: &'x ObjectFolder,
    /// Is told that something came or went.
    pub activity: &'x Activity,
}

/// The name of an object in a shared store.
pub fn name_of(kind: ObjectKind, name: Digest) -> String {
    let digits = blake3::Hash::from_bytes(name.0).to_hex();
    format!("{}/{}/{}", kind.folder(), &digits[..2], &digits[2..])
}

impl Exchange<'_> {
    /// Adds what a shared store knows under a declared key to what the local one knows; whether that is anything new.
    pub fn fetch_lists(&self, declared: StoreKey) -> Result<bool, SharedError> {
        let Some(theirs): Option<Lists> = self.object(ObjectKind::Lists, declared)? else {
            return Ok(false);
        };
        let ours: Lists = self
            .folder
            .read(ObjectKind::Lists, declared)
            .unwrap_or_default();
        let merged = ours.clone().merged(&theirs);
        if merged == ours {
            return Ok(false);
        }
        self.folder.write(ObjectKind::Lists, declared, &merged)?;
        Ok(true)
    }

    /// Fetches the first of these results that is there, with all its files; which one, and its bytes.
    pub fn fetch_result(
        &self,
        candidates: &[StoreKey],
    ) -> Result<Option<(StoreKey, u64)>, SharedError> {
        for &key in candidates {
            let Some(result): Option<StoredResult> = self.object(ObjectKind::Result, key)? else {
                continue;
            };
            if self.fetch_files(&result)? {
                self.folder.write(ObjectKind::Result, key, &result)?;
                return Ok(Some((key, result.size())));
            }
        }
        Ok(None)
    }

    /// Whether all files of a result are in the local store now.
    fn fetch_files(&self, result: &StoredResult) -> Result<bool, SharedError> {
        for (digest, size) in result.files() {
            if !self.folder.has_file(digest, size) && !self.fetch_file(digest, size)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Fetches a file; whether it is there, and what its name says.
    fn fetch_file(&self, digest: Digest, size: u64) -> Result<bool, SharedError> {
        let Some(body) = self.server.get(&name_of(ObjectKind::File, digest))? else {
            return Ok(false);
        };
        if size <= IN_MEMORY {
            let bytes = self.unpack_small(body, size)?;
            let bytes = bytes.filter(|bytes| Digest::of(bytes) == digest);
            return match bytes {
                Some(bytes) => {
                    self.folder.write_bytes(ObjectKind::File, digest, &bytes)?;
                    Ok(true)
                }
                None => Ok(false),
            };
        }
        let (new, file) = self.folder.create(ObjectKind::File, Some(digest))?;
        let fetched = self.unpack(body, size, file);
        let is_right = matches!(&fetched, Ok(found) if *found == Some((digest, size)));
        let put = match is_right {
            true => self.folder.put(&new, ObjectKind::File, digest),
            false => std::fs::remove_file(&new),
        };
        put?;
        match fetched {
            // What can't be unpacked is wrong, and no trouble of the way to it.
            Err(error) if error.kind() == io::ErrorKind::TimedOut => Err(error.into()),
            _ => Ok(is_right),
        }
    }

    /// A body's contents, of which there are at most so many bytes; none when it is not one of those.
    fn unpack_small(
        &self,
        body: Box<dyn Read + Send>,
        most: u64,
    ) -> Result<Option<Vec<u8>>, SharedError> {
        let mut packed = Vec::new();
        // What can't be made smaller grows by little.
        let room = most.saturating_add(most / 8).saturating_add(4096);
        let mut body = self.activity.noting(body).take(room);
        body.read_to_end(&mut packed)?;
        let most = usize::try_from(most).unwrap_or(usize::MAX);
        Ok(unpacked_at_once(&packed, most).ok())
    }

    /// Writes a body's contents to a new file; their digest and how many bytes they are, as far as `most`.
    fn unpack(
        &self,
        body: Box<dyn Read + Send>,
        most: u64,
        mut file: File,
    ) -> io::Result<Option<(Digest, u64)>> {
        let mut unpacked = unpacked(self.activity.noting(body))?.take(most.saturating_add(1));
        io::copy(&mut unpacked, &mut file)?;
        file.rewind()?;
        let read = read_through(&mut file, None, &mut Vec::new())?;
        Ok(Some((read.digest, read.size)))
    }

    /// A list or a result; none when there is none, or it is not what was written there.
    fn object<T: for<'de> Deserialize<'de>>(
        &self,
        kind: ObjectKind,
        name: StoreKey,
    ) -> Result<Option<T>, SharedError> {
        let Some(body) = self.server.get(&name_of(kind, name.0))? else {
            return Ok(None);
        };
        let mut bytes = Vec::new();
        let read = unpacked(self.activity.noting(body))
            .and_then(|unpacked| unpacked.take(MOST).read_to_end(&mut bytes));
        Ok(read.ok().and_then(|_| opened(kind, name, &bytes)))
    }

    /// Puts a result into the shared store, with what it is found by: first what is pointed to.
    pub fn put_all(
        &self,
        declared: StoreKey,
        key: StoreKey,
        result: &StoredResult,
    ) -> Result<(), SharedError> {
        for (digest, size) in result.files() {
            self.put_file(digest, size)?;
        }
        let body = crate::store::object::sealed(ObjectKind::Result, key, result);
        self.put_bytes(ObjectKind::Result, key.0, &body.unwrap_or_default())?;
        self.put_lists(declared)
    }

    /// Adds what the local store knows under a declared key to what the shared one knows.
    pub fn put_lists(&self, declared: StoreKey) -> Result<(), SharedError> {
        let ours: Lists = self
            .folder
            .read(ObjectKind::Lists, declared)
            .unwrap_or_default();
        let theirs: Option<Lists> = self.object(ObjectKind::Lists, declared)?;
        // What was found to differ is said again by whoever finds it out; that it does not any more is ours to say.
        let merged = match &theirs {
            Some(theirs) => Lists {
                differs: ours.differs,
                ..ours.merged(theirs)
            },
            None => ours,
        };
        if theirs.as_ref() == Some(&merged) {
            return Ok(());
        }
        let body = crate::store::object::sealed(ObjectKind::Lists, declared, &merged);
        self.put_bytes(ObjectKind::Lists, declared.0, &body.unwrap_or_default())
    }

    fn put_bytes(&self, kind: ObjectKind, name: Digest, bytes: &[u8]) -> Result<(), SharedError> {
        let packed = packed(bytes)?;
        let length = packed.len() as u64;
        let mut reader = self.activity.noting(&packed[..]);
        let body = super::Body {
            reader: &mut reader,
            length,
        };
        self.server.put(&name_of(kind, name), body)
    }

    /// Puts a file into the shared store, unless it is there; one that is gone meanwhile is passed over, and makes
    /// the result useless and no more.
    fn put_file(&self, digest: Digest, size: u64) -> Result<(), SharedError> {
        let name = name_of(ObjectKind::File, digest);
        if self.server.has(&name)? {
            return Ok(());
        }
        let Ok(mut kept) = self.folder.open_file(digest) else {
            return Ok(());
        };
        if size <= IN_MEMORY {
            let mut bytes = Vec::new();
            kept.read_to_end(&mut bytes)?;
            return self.put_bytes(ObjectKind::File, digest, &bytes);
        }
        let (new, packed) = self.folder.create(ObjectKind::File, None)?;
        let put = self.put_packed(&mut kept, packed, &name);
        let _ = std::fs::remove_file(&new);
        put
    }

    fn put_packed(&self, kept: &mut File, packed: File, name: &str) -> Result<(), SharedError> {
        let mut file = pack_into(&mut self.activity.noting(kept), packed)?;
        let length = file.stream_position()?;
        file.rewind()?;
        let mut reader = self.activity.noting(file);
        let body = super::Body {
            reader: &mut reader,
            length,
        };
        self.server.put(name, body)
    }
}

#[cfg(feature = "shared-store")]
fn packed(bytes: &[u8]) -> io::Result<Vec<u8>> {
    zstd::bulk::compress(bytes, LEVEL)
}

#[cfg(feature = "shared-store")]
fn pack_into(from: &mut impl Read, to: File) -> io::Result<File> {
    let mut encoder = zstd::Encoder::new(to, LEVEL)?;
    io::copy(from, &mut encoder)?;
    encoder.finish()
}

#[cfg(feature = "shared-store")]
fn unpacked(body: impl Read) -> io::Result<impl Read> {
    zstd::Decoder::new(body)
}

#[cfg(feature = "shared-store")]
fn unpacked_at_once(packed: &[u8], most: usize) -> io::Result<Vec<u8>> {
    zstd::bulk::decompress(packed, most)
}

/// Small and quick: what is shared is read and written over a network that is slower.
#[cfg(feature = "shared-store")]
const LEVEL: i32 = 1;

/// A program that was built without the feature has no way to any shared store.
#[cfg(not(feature = "shared-store"))]
mod without {
    use std::fs::File;
    use std::io;
    use std::io::Read;

    pub fn packed(_: &[u8]) -> io::Result<Vec<u8>> {
        Err(io::ErrorKind::Unsupported.into())
    }

    pub fn pack_into(_: &mut impl Read, _: File) -> io::Result<File> {
        Err(io::ErrorKind::Unsupported.into())
    }

    pub fn unpacked_at_once(_: &[u8], _: usize) -> io::Result<Vec<u8>> {
        Err(io::ErrorKind::Unsupported.into())
    }

    pub fn unpacked(_: impl Read) -> io::Result<impl Read> {
        Err::<io::Empty, _>(io::ErrorKind::Unsupported.into())
    }
}

#[cfg(not(feature = "shared-store"))]
use without::pack_into;
#[cfg(not(feature = "shared-store"))]
use without::packed;
#[cfg(not(feature = "shared-store"))]
use without::unpacked;
#[cfg(not(feature = "shared-store"))]
use without::unpacked_at_once;
