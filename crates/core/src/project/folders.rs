//! What lies in the project's folders: listings, each read once, and walks along a pattern.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use crate::project::pattern::Pattern;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::Entry;
use crate::world::Kind;

/// The folder that Hand Loom keeps its own files in.
pub const OWN_FOLDER: &str = ".handloom";

/// Listings of folders, sorted by name, each read at most once.
pub struct Folders<'d> {
    disk: &'d dyn Disk,
    listings: RefCell<HashMap<String, Listing>>,
    /// What was asked with [`Folders::is_folder`].
    asked: RefCell<HashMap<String, bool>>,
}

/// A folder's names, and whether hidden ones were of interest.
#[derive(Clone)]
struct Listing {
    entries: Rc<[Entry]>,
    hidden: bool,
}

/// What of a folder working out a project depended on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// From the root: empty, or ending with a slash.
    pub folder: String,
    /// Whether hidden names count.
    pub hidden: bool,
    /// The digest of its names, as [`names_digest`] gives it.
    pub names: Digest,
}

/// The digest of a folder's names and kinds, sorted; hidden ones only where they count.
#[must_use]
pub fn names_digest(entries: &[Entry], hidden: bool) -> Digest {
    let mut text = Vec::new();
    for entry in entries {
        if hidden || !entry.name.starts_with('.') {
            text.push(match entry.kind {
                Kind::File => b'f',
                Kind::Folder => b'd',
                Kind::Link => b'l',
                Kind::Other => b'o',
            });
            text.extend_from_slice(entry.name.as_bytes());
            text.push(0);
        }
    }
    Digest::of(&text)
}

impl<'d> Folders<'d> {
    /// Nothing is read yet.
    pub fn new(disk: &'d dyn Disk) -> Self {
        Self {
            disk,
            listings: RefCell::default(),
            asked: RefCell::default(),
        }
    }

    /// What was looked at so far.
    #[must_use]
    pub fn seen(&self) -> Vec<Seen> {
        self.listings
            .borrow()
            .iter()
            .map(|(folder, listing)| Seen {
                folder: folder.clone(),
                hidden: listing.hidden,
                names: names_digest(&listing.entries, listing.hidden),
            })
            .collect()
    }

    /// What [`Folders::is_folder`] said so far.
    #[must_use]
    pub fn told(&self) -> Vec<(String, bool)> {
        let asked = self.asked.borrow();
        asked.iter().map(|(path, is)| (path.clone(), *is)).collect()
    }

    /// A folder's names; a folder that cannot be read has none.
    pub fn list(&self, folder: &str) -> Rc<[Entry]> {
        self.list_for(folder, false)
    }

    fn list_for(&self, folder: &str, hidden: bool) -> Rc<[Entry]> {
        if let Some(known) = self.listings.borrow_mut().get_mut(folder) {
            known.hidden |= hidden;
            return Rc::clone(&known.entries);
        }
        let entries: Rc<[Entry]> = sorted_names(self.disk, folder).into();
        let listing = Listing {
            entries: Rc::clone(&entries),
            hidden,
        };
        self.listings
            .borrow_mut()
            .insert(folder.to_owned(), listing);
        entries
    }

    /// Whether a path stands for a folder.
    pub fn is_folder(&self, path: &str) -> bool {
        let is = is_folder(self.disk, path);
        self.asked.borrow_mut().insert(path.to_owned(), is);
        is
    }

    /// Calls `found` for every file on the disk that a pattern matches, in the order of their paths
    /// within each folder. Folders that cannot hold a match are not read.
    pub fn walk(&self, pattern: &Pattern, found: &mut dyn FnMut(&str)) {
        let mut open = vec![pattern.folder().to_owned()];
        let mut path = String::new();
        let hidden = pattern.names_hidden();
        while let Some(folder) = open.pop() {
            let mut below = Vec::new();
            for entry in self.list_for(&folder, hidden).iter() {
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

/// Whether a path stands for a folder now.
#[must_use]
pub fn is_folder(disk: &dyn Disk, path: &str) -> bool {
    matches!(disk.stat(path), Ok(Some(stat)) if stat.kind == Kind::Folder)
}

/// A folder's names now, sorted; a folder that cannot be read has none.
#[must_use]
pub fn sorted_names(disk: &dyn Disk, folder: &str) -> Vec<Entry> {
    let mut entries = disk.list(folder).unwrap_or_default();
    if folder.is_empty() {
        entries.retain(|entry| &*entry.name != OWN_FOLDER);
    }
    entries.sort_unstable_by(|a, b| a.name.cmp(&b.name));
    entries
}
