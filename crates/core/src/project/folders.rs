//! What lies in the project's folders: listings, each read once, and walks along a pattern.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use crate::project::pattern::Pattern;
use crate::world::Disk;
use crate::world::Entry;
use crate::world::Kind;

/// The folder that Hand Loom keeps its own files in.
pub const OWN_FOLDER: &str = ".handloom";

/// Listings of folders, sorted by name, each read at most once.
pub struct Folders<'d> {
    disk: &'d dyn Disk,
    listings: RefCell<HashMap<String, Rc<[Entry]>>>,
}

impl<'d> Folders<'d> {
    /// Nothing is read yet.
    pub fn new(disk: &'d dyn Disk) -> Self {
        Self {
            disk,
            listings: RefCell::default(),
        }
    }

    /// A folder's names; a folder that cannot be read has none.
    pub fn list(&self, folder: &str) -> Rc<[Entry]> {
        if let Some(known) = self.listings.borrow().get(folder) {
            return Rc::clone(known);
        }
        let mut entries = self.disk.list(folder).unwrap_or_default();
        if folder.is_empty() {
            entries.retain(|entry| &*entry.name != OWN_FOLDER);
        }
        entries.sort_unstable_by(|a, b| a.name.cmp(&b.name));
        let listing: Rc<[Entry]> = entries.into();
        self.listings
            .borrow_mut()
            .insert(folder.to_owned(), Rc::clone(&listing));
        listing
    }

    /// Whether a path stands for a folder.
    pub fn is_folder(&self, path: &str) -> bool {
        matches!(self.disk.stat(path), Ok(Some(stat)) if stat.kind == Kind::Folder)
    }

    /// Whether there is anything at a path.
    pub fn exists(&self, path: &str) -> bool {
        matches!(self.disk.stat(path), Ok(Some(_)))
    }

    /// Calls `found` for every file on the disk that a pattern matches, in the order of their paths
    /// within each folder. Folders that cannot hold a match are not read.
    pub fn walk(&self, pattern: &Pattern, found: &mut dyn FnMut(&str)) {
        let mut open = vec![pattern.folder().to_owned()];
        let mut path = String::new();
        while let Some(folder) = open.pop() {
            let mut below = Vec::new();
            for entry in self.list(&folder).iter() {
                path.clear();
                path.push_str(&folder);
                path.push_str(&entry.name);
                let kind = match entry.kind {
                    Kind::Link if self.is_folder(&path) => {
                        // A link to a folder is followed only where the pattern names its level, so
                        // that a link upwards cannot lead in circles.
                        if path.matches('/').count() > 64 {
                            continue;
                        }
                        Kind::Folder
                    }
                    Kind::Link => Kind::File,
                    kind => kind,
                };
                if kind == Kind::Folder {
                    path.push('/');
                    if pattern.may_hold(&path) {
                        below.push(path.clone());
                    }
                } else if kind == Kind::File && pattern.matches(&path) {
                    found(&path);
                }
            }
            open.extend(below.into_iter().rev());
        }
    }
}
