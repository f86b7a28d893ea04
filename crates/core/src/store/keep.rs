//! Putting a finished result into the store.

use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::path::PathBuf;

use memchr::memmem::Finder;

use crate::content::TreeHasher;
use crate::content::as_executable;
use crate::content::tree_entries;
use crate::ledger::Edge;
use crate::store::copying::KeepError;
use crate::store::copying::copy_in;
use crate::store::folder::ObjectFolder;
use crate::store::key::KeyScope;
use crate::store::key::StoreKey;
use crate::store::object::LearnedList;
use crate::store::object::Lists;
use crate::store::object::ObjectKind;
use crate::store::object::RecipeManner;
use crate::store::object::StoredEntry;
use crate::store::object::StoredKind;
use crate::store::object::StoredOutput;
use crate::store::object::StoredResult;
use crate::world::Digest;
use crate::world::FileKind;
use crate::world::RealDisk;
use crate::world::names;

/// A result that is to be kept.
#[derive(Clone, Debug)]
pub struct KeepRequest {
    /// The step's name.
    pub step: String,
    /// Its declared key.
    pub declared: StoreKey,
    /// What it found out.
    pub learned: Vec<Edge>,
    /// How it ran.
    pub manner: RecipeManner,
    /// What it made: paths, and what stood there when it ended.
    pub outputs: Vec<(String, Digest)>,
    /// What else is kept; without outputs.
    pub result: StoredResult,
}

/// Keeps results of one project.
pub struct ResultKeeper<'a> {
    /// Where to.
    pub store: &'a ObjectFolder,
    /// The project's files.
    pub disk: &'a RealDisk,
    /// Where results may be used.
    pub scope: &'a KeyScope,
    /// Scratch space.
    pub buffer: Vec<u8>,
}

impl ResultKeeper<'_> {
    /// Keeps a result; its full key and what was kept. `None` when it can't be used again: a file was changed since, or is of a kind that can't be
    /// kept.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn keep(
        &mut self,
        request: KeepRequest,
    ) -> Result<Option<(StoreKey, StoredResult)>, KeepError> {
        let lists: Option<Lists> = self.store.read(ObjectKind::Lists, request.declared);
        let mut lists = lists.unwrap_or_default();
        if lists.differs {
            return Ok(None);
        }
        let mut is_bound = false;
        let mut result = request.result;
        for (path, own) in &request.outputs {
            let Some(entries) = self.entries(path, *own, &mut is_bound)? else {
                return Ok(None);
            };
            result.outputs.push(StoredOutput {
                path: path.clone(),
                own: *own,
                entries,
            });
        }
        let names = request.learned.iter();
        let list = LearnedList {
            names: names.map(|edge| (edge.path.clone(), edge.group)).collect(),
            manner: request.manner,
            is_bound,
        };
        let full = self
            .scope
            .full_seen(request.declared, &list, &request.learned);
        let Some(key) = full else {
            return Ok(None);
        };
        // First what is pointed to.
        self.write(ObjectKind::Result, key, &result)?;
        if lists.put_first(&list) {
            self.write(ObjectKind::Lists, request.declared, &lists)?;
        }
        Ok(Some((key, result)))
    }

    fn write<T: serde::Serialize>(
        &self,
        kind: ObjectKind,
        name: StoreKey,
        object: &T,
    ) -> Result<(), KeepError> {
        let written = self.store.write(kind, name, object);
        written.map(drop).map_err(KeepError::Store)
    }

    /// What an output consists of, with its files put into the store.
    fn entries(
        &mut self,
        path: &str,
        own: Digest,
        is_bound: &mut bool,
    ) -> Result<Option<Vec<StoredEntry>>, KeepError> {
        let root = Path::new(std::ffi::OsStr::from_bytes(&names::to_bytes(
            self.scope.root(),
        )))
        .to_owned();
        let full = |path: &str| root.join(std::ffi::OsStr::from_bytes(&names::to_bytes(path)));
        let Some(folder) = path.strip_suffix('/') else {
            let what = self.entry(&full(path), Some(own), is_bound)?;
            return Ok(what.map(|what| {
                vec![StoredEntry {
                    below: String::new(),
                    what,
                }]
            }));
        };
        let Some(what) = self.entry(&full(folder), None, is_bound)? else {
            return Ok(None);
        };
        let mut entries = vec![StoredEntry {
            below: String::new(),
            what,
        }];
        if matches!(entries[0].what, StoredKind::Link(_)) {
            return Ok(Some(entries));
        }
        for (inner, kind) in tree_entries(self.disk, path).map_err(KeepError::Source)? {
            if kind == FileKind::Other {
                return Ok(None);
            }
            let Some(what) = self.entry(&full(&inner), None, is_bound)? else {
                return Ok(None);
            };
            entries.push(StoredEntry {
                below: inner[path.len()..].to_owned(),
                what,
            });
        }
        // What was put into the folder since is none of the step's.
        Ok((tree_digest(&entries) == own).then_some(entries))
    }

    /// What stands at a path; `None` when that is not what it was.
    fn entry(
        &mut self,
        path: &PathBuf,
        own: Option<Digest>,
        is_bound: &mut bool,
    ) -> Result<Option<StoredKind>, KeepError> {
        let stat = match path.symlink_metadata() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            stat => stat.map_err(KeepError::Source)?,
        };
        let mode = stat.permissions().mode() & 0o777;
        if stat.is_symlink() {
            let text = std::fs::read_link(path).map_err(KeepError::Source)?;
            let text = names::to_text(text.as_os_str().as_bytes()).into_owned();
            *is_bound |= self.scope.is_bound(&text);
            return Ok(Some(StoredKind::Link(text)));
        }
        if stat.is_dir() {
            return Ok(Some(StoredKind::Folder { mode }));
        }
        if !stat.is_file() {
            return Ok(None);
        }
        let is_executable = mode & 0o100 != 0;
        let plain = own.map(|own| {
            if is_executable {
                as_executable(own)
            } else {
                own
            }
        });
        let root = names::to_bytes(self.scope.root());
        let finder = Finder::new(&*root);
        let wanted = (root.len() > 1 && !*is_bound).then_some(&finder);
        let expected = plain.map(|plain| (plain, stat.len()));
        let read = copy_in(self.store, path, expected, wanted, &mut self.buffer)?;
        *is_bound |= read.holds;
        if plain.is_some_and(|plain| plain != read.digest) {
            return Ok(None);
        }
        Ok(Some(StoredKind::File {
            digest: read.digest,
            size: read.size,
            mode,
        }))
    }
}

/// The digest of a folder with these entries, of which the first is the folder itself.
fn tree_digest(entries: &[StoredEntry]) -> Digest {
    let mut hasher = TreeHasher::default();
    for entry in entries.iter().skip(1) {
        let name = names::to_bytes(&entry.below);
        match &entry.what {
            StoredKind::Folder { .. } => hasher.folder(&name),
            StoredKind::Link(text) => hasher.link(&name, &names::to_bytes(text)),
            StoredKind::File { digest, mode, .. } => {
                let is_executable = mode & 0o100 != 0;
                let content = if is_executable {
                    as_executable(*digest)
                } else {
                    *digest
                };
                hasher.file(&name, content, is_executable);
            }
        }
    }
    hasher.digest()
}
