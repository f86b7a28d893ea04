//! Taking a result out of the store: what was made is put where it was.
//!
//! What comes out of a store was written by somebody. A result only ever makes what its step is declared to make, and
//! nothing in it leads out of that: no path with `..` in it, and nothing below a link.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;

use crate::store::copying::copy_out;
use crate::store::folder::ObjectFolder;
use crate::store::key::StoreKey;
use crate::store::object::ObjectKind;
use crate::store::object::StoredEntry;
use crate::store::object::StoredKind;
use crate::store::object::StoredOutput;
use crate::store::object::StoredResult;
use crate::world::Digest;
use crate::world::names;

/// A result that can be put in place.
#[derive(Clone, Debug)]
pub struct Restore {
    pub(super) store: Arc<ObjectFolder>,
    pub(super) key: StoreKey,
    /// What is put in place.
    pub result: Arc<StoredResult>,
    /// The project's folder.
    pub root: PathBuf,
}

/// Why a result could not be put in place. The step then runs.
#[derive(Debug, thiserror::Error)]
pub enum RestoreError {
    /// The result says something that no run wrote.
    #[error("the stored result is not one of this step")]
    Wrong,
    /// A file is not kept any more, or the disk failed.
    #[error("a stored file can't be put in place")]
    Io(#[from] io::Error),
}

impl Restore {
    /// The same, to be put below another folder of the project, where its own folders are made.
    #[must_use]
    pub fn below(&self, folder: &str) -> Self {
        Self {
            root: self.root.join(folder),
            ..self.clone()
        }
    }

    /// Puts everything in place; all places are free.
    ///
    /// # Errors
    /// When something is not kept, or the disk fails: what is there then is to be removed.
    pub fn put_in_place(&self) -> Result<(), RestoreError> {
        for output in &self.result.outputs {
            self.output(output)?;
        }
        Ok(())
    }

    /// What the step printed: the beginning and the end.
    pub fn printed(&self) -> impl Iterator<Item = &[u8]> {
        [&*self.result.printed, &*self.result.printed_end].into_iter()
    }

    /// What stands at each output when it is in place.
    pub fn expected(&self) -> impl Iterator<Item = Digest> {
        self.result.outputs.iter().map(|output| output.own)
    }

    /// Takes the result out of the store, and those of its files that do not hold what they should.
    pub fn forget(&self) {
        self.store.remove(ObjectKind::Result, self.key.0);
        let mut buffer = Vec::new();
        for (name, size) in self.result.files() {
            let Ok(mut file) = self.store.open_file(name) else {
                continue;
            };
            let read = super::copying::read_through(&mut file, None, &mut buffer);
            if !read.is_ok_and(|read| (read.digest, read.size) == (name, size)) {
                self.store.remove(ObjectKind::File, name);
            }
        }
    }

    fn output(&self, output: &StoredOutput) -> Result<(), RestoreError> {
        let plain = output.path.trim_end_matches('/');
        let place = self.root.join(OsStr::from_bytes(&names::to_bytes(plain)));
        let Some((first, inside)) = output.entries.split_first() else {
            return Err(RestoreError::Wrong);
        };
        if !first.below.is_empty() || !is_well_formed(first, inside) {
            return Err(RestoreError::Wrong);
        }
        let mut folders = Vec::new();
        for entry in &output.entries {
            let path = if entry.below.is_empty() {
                place.clone()
            } else {
                place.join(OsStr::from_bytes(&names::to_bytes(&entry.below)))
            };
            match &entry.what {
                StoredKind::File { digest, mode, .. } => {
                    copy_out(&self.store, *digest, &path, *mode)?;
                }
                StoredKind::Link(text) => {
                    let text = names::to_bytes(text);
                    std::os::unix::fs::symlink(OsStr::from_bytes(&text), &path)?;
                }
                StoredKind::Folder { mode } => {
                    make_folder(&path)?;
                    folders.push((path, *mode));
                }
            }
        }
        // The rights last, and from the inside: nothing can be put into a folder that may not be written to.
        for (path, mode) in folders.into_iter().rev() {
            let mode = std::fs::Permissions::from_mode(mode & 0o777);
            std::fs::set_permissions(path, mode)?;
        }
        Ok(())
    }
}

/// Makes a folder, unless it was made for the recipe already.
fn make_folder(path: &Path) -> io::Result<()> {
    match std::fs::create_dir(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            if path.symlink_metadata()?.is_dir() {
                return Ok(());
            }
            Err(error)
        }
        made => made,
    }
}

/// Whether everything lies in a folder that stands in front of it, under names that lead nowhere else.
fn is_well_formed(first: &StoredEntry, inside: &[StoredEntry]) -> bool {
    if !matches!(first.what, StoredKind::Folder { .. }) {
        return inside.is_empty();
    }
    let mut folders: HashSet<&str> = HashSet::from([""]);
    inside.iter().all(|entry| {
        let below = entry.below.as_str();
        let is_name = |name: &str| !matches!(name, "" | "." | "..") && !name.contains('\0');
        let folder = below.rsplit_once('/').map_or("", |(folder, _)| folder);
        let is_fine = below.split('/').all(is_name) && folders.contains(folder);
        if matches!(entry.what, StoredKind::Folder { .. }) {
            folders.insert(below);
        }
        is_fine
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(below: &str, what: StoredKind) -> StoredEntry {
        StoredEntry {
            below: below.to_owned(),
            what,
        }
    }

    #[test]
    fn nothing_leads_out_of_an_output() {
        let folder = || StoredKind::Folder { mode: 0o755 };
        let link = || StoredKind::Link("/etc".to_owned());
        let root = entry("", folder());
        let fine = [
            entry("a", folder()),
            entry("a/b", link()),
            entry("c", link()),
        ];
        assert!(is_well_formed(&root, &fine));
        for wrong in [
            vec![entry("..", folder())],
            vec![entry("a/../b", folder())],
            vec![entry("/etc/x", folder())],
            vec![entry("a/b", folder())],
            vec![entry("a", link()), entry("a/b", folder())],
            vec![entry("a", folder()), entry("a/", folder())],
            vec![entry("a", folder()), entry("a//b", folder())],
            vec![entry(".", folder())],
            vec![entry("", link())],
            vec![entry("a\0b", link())],
        ] {
            assert!(!is_well_formed(&root, &wrong), "{wrong:?}");
        }
        assert!(is_well_formed(&entry("", link()), &[]));
        assert!(!is_well_formed(&entry("", link()), &fine));
    }
}
