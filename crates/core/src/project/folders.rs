//! What lies in the project's folders: listings, each read once, and walks along a pattern.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::collections::HashMap;
use std::collections::HashSet;
use std::io;
use std::rc::Rc;

use crate::project::pattern::Pattern;
use crate::world::Digest;
use crate::world::DirEntry;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::LeaveOut;
use crate::world::names::folder_of;

/// The folder that Hand Loom keeps its own files in.
pub const OWN_FOLDER: &str = ".handloom";

/// Listings of folders, sorted by name, each read at most once.
pub struct Folders<'d> {
    disk: &'d dyn Disk,
    listings: RefCell<HashMap<String, Listing>>,
    /// What was asked with [`Folders::is_folder`].
    asked: RefCell<HashMap<String, bool>>,
    /// What was asked with [`Folders::real_path`].
    followed: RefCell<HashMap<String, Option<String>>>,
}

/// A folder's names, and whether hidden ones were of interest.
#[derive(Clone)]
struct Listing {
    entries: Rc<[DirEntry]>,
    hidden: bool,
    /// Why it can't be read, when it is there.
    unreadable: Option<Rc<str>>,
}

/// A folder that is there and can't be read: what a pattern would match in it is not known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unreadable {
    /// Its path, from the root.
    pub folder: String,
    /// What the system said.
    pub why: String,
}

/// What of a folder working out a project depended on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SeenFolder {
    /// From the root: empty, or ending with a slash.
    pub folder: String,
    /// Whether hidden names count.
    pub hidden: bool,
    /// The digest of its names, as [`names_digest`] gives it.
    pub names: Digest,
}

/// The digest of a folder's names and kinds, sorted; hidden ones only where they count.
#[must_use]
pub fn names_digest(entries: &[DirEntry], hidden: bool) -> Digest {
    let mut text = Vec::new();
    for entry in entries {
        if hidden || !entry.name.starts_with('.') {
            text.push(match entry.kind {
                FileKind::File => b'f',
                FileKind::Folder => b'd',
                FileKind::Link => b'l',
                FileKind::Other => b'o',
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
            followed: RefCell::default(),
        }
    }

    /// What was looked at so far.
    #[must_use]
    pub fn seen(&self) -> Vec<SeenFolder> {
        self.listings
            .borrow()
            .iter()
            .map(|(folder, listing)| SeenFolder {
                folder: folder.clone(),
                hidden: listing.hidden,
                names: names_digest(&listing.entries, listing.hidden),
            })
            .collect()
    }

    /// What a folder's names were when they were read, if they were.
    #[must_use]
    pub fn seen_names(&self, folder: &str) -> Option<Rc<[DirEntry]>> {
        let listings = self.listings.borrow();
        listings.get(folder).map(|listing| listing.entries.clone())
    }

    /// What [`Folders::is_folder`] said so far.
    #[must_use]
    pub fn told(&self) -> Vec<(String, bool)> {
        let asked = self.asked.borrow();
        asked.iter().map(|(path, is)| (path.clone(), *is)).collect()
    }

    /// A folder's names; a folder that cannot be read has none.
    pub fn list(&self, folder: &str) -> Rc<[DirEntry]> {
        self.list_for(folder, false).entries
    }

    fn list_for(&self, folder: &str, hidden: bool) -> Listing {
        if let Some(known) = self.listings.borrow_mut().get_mut(folder) {
            known.hidden |= hidden;
            return known.clone();
        }
        let (entries, unreadable) = match read_names(self.disk, folder) {
            Ok(entries) => (entries, None),
            Err(error) => (Vec::new(), Some(error.to_string().into())),
        };
        let listing = Listing {
            entries: entries.into(),
            hidden,
            unreadable,
        };
        let known = listing.clone();
        self.listings.borrow_mut().insert(folder.to_owned(), known);
        listing
    }

    /// Where a folder leads when links in its path are followed, from the root; none when that lies outside.
    ///
    /// # Errors
    /// When it is not there, or can't be entered.
    pub fn real_path(&self, folder: &str) -> io::Result<Option<String>> {
        let path = if folder.is_empty() { "./" } else { folder };
        let real = self.disk.real_path(path)?;
        let known = real.clone();
        self.followed.borrow_mut().insert(folder.to_owned(), known);
        Ok(real)
    }

    /// What [`Folders::real_path`] said so far of folders that are there.
    #[must_use]
    pub fn followed(&self) -> Vec<(String, Option<String>)> {
        let followed = self.followed.borrow();
        let followed = followed.iter().filter(|(folder, _)| !folder.is_empty());
        followed
            .map(|(folder, real)| (folder.clone(), real.clone()))
            .collect()
    }

    /// Whether a path stands for a folder.
    pub fn is_folder(&self, path: &str) -> bool {
        let is = is_folder(self.disk, path);
        self.asked.borrow_mut().insert(path.to_owned(), is);
        is
    }

    /// What does not count of folders that are compared as wholes.
    pub fn set_left_out(&self, rules: HashMap<String, LeaveOut>) {
        self.disk.left_out().set(rules);
    }

    /// Calls `found` for every file on the disk that a pattern matches, in the order of their paths
    /// within each folder. Folders that cannot hold a match are not read.
    ///
    /// A link to a folder is followed behind all folders that are entered by their own name, and never
    /// when it leads back to a folder around it. Below a `**` a folder is entered once.
    ///
    /// # Errors
    /// The first folder that may hold a match and can't be read.
    pub fn walk(&self, pattern: &Pattern, found: &mut dyn FnMut(&str)) -> Result<(), Unreadable> {
        let mut walk = PatternWalk {
            folders: self,
            pattern,
            entered: Vec::new(),
            links: BTreeSet::new(),
            unreadable: None,
        };
        walk.below(pattern.folder().to_owned(), found);
        let once = pattern.crosses_folders();
        let mut known: HashSet<(u64, u64)> = HashSet::new();
        while let Some(link) = walk.links.pop_first() {
            if once {
                let entered = std::mem::take(&mut walk.entered);
                known.extend(entered.iter().filter_map(|folder| self.identity(folder)));
            }
            let Some(identity) = self.identity(&link) else {
                continue;
            };
            let folder = folder_of(&link);
            let leads_back = folders_around(self.disk, folder).contains(&identity);
            if leads_back || (once && !known.insert(identity)) {
                continue;
            }
            walk.below(link, found);
        }
        walk.unreadable.map_or(Ok(()), Err)
    }

    fn identity(&self, folder: &str) -> Option<(u64, u64)> {
        let folder = if folder.is_empty() { "./" } else { folder };
        Some(self.disk.stat(folder).ok()??.identity)
    }
}

/// One walk along a pattern.
struct PatternWalk<'w, 'd> {
    folders: &'w Folders<'d>,
    pattern: &'w Pattern,
    /// Folders that were entered since this was last taken.
    entered: Vec<String>,
    /// Links to folders that are still to be looked at; each ends with a slash.
    links: BTreeSet<String>,
    unreadable: Option<Unreadable>,
}

impl PatternWalk<'_, '_> {
    fn below(&mut self, folder: String, found: &mut dyn FnMut(&str)) {
        let hidden = self.pattern.names_hidden();
        let mut open = vec![folder];
        let mut path = String::new();
        while let Some(folder) = open.pop() {
            let mut below = Vec::new();
            let listing = self.folders.list_for(&folder, hidden);
            if let Some(why) = listing.unreadable {
                self.unreadable.get_or_insert_with(|| Unreadable {
                    folder: folder.clone(),
                    why: why.to_string(),
                });
            }
            for entry in listing.entries.iter() {
                path.clear();
                path.push_str(&folder);
                path.push_str(&entry.name);
                let is_link = entry.kind == FileKind::Link && self.folders.is_folder(&path);
                match entry.kind {
                    FileKind::Folder | FileKind::Link
                        if is_link || entry.kind == FileKind::Folder =>
                    {
                        path.push('/');
                        if self.pattern.may_hold(&path) {
                            if is_link {
                                self.links.insert(path.clone());
                            } else {
                                below.push(path.clone());
                            }
                        }
                    }
                    FileKind::File | FileKind::Link if self.pattern.matches(&path) => found(&path),
                    _ => {}
                }
            }
            self.entered.push(folder);
            open.extend(below.into_iter().rev());
        }
    }
}

/// The identities of a folder (empty for the root, or ending with a slash) and of all around it, also
/// outside of the project.
#[must_use]
pub fn folders_around(disk: &dyn Disk, folder: &str) -> HashSet<(u64, u64)> {
    const HIGHEST: usize = 128;
    let inside = folder
        .match_indices('/')
        .map(|(at, _)| folder[..=at].to_owned());
    let above = (0..HIGHEST).map(|level| match level {
        0 => "./".to_owned(),
        level => "../".repeat(level),
    });
    let mut environment = HashSet::new();
    for folder in inside {
        environment.extend(disk.stat(&folder).ok().flatten().map(|stat| stat.identity));
    }
    if folder.starts_with('/') {
        return environment;
    }
    for folder in above {
        // The system's own root is above itself.
        match disk.stat(&folder) {
            Ok(Some(stat)) if environment.insert(stat.identity) => {}
            _ => break,
        }
    }
    environment
}

/// Whether a path stands for a folder now.
#[must_use]
pub fn is_folder(disk: &dyn Disk, path: &str) -> bool {
    matches!(disk.stat(path), Ok(Some(stat)) if stat.kind == FileKind::Folder)
}

/// A folder's names now, sorted; a folder that cannot be read has none.
#[must_use]
pub fn sorted_names(disk: &dyn Disk, folder: &str) -> Vec<DirEntry> {
    read_names(disk, folder).unwrap_or_default()
}

/// A folder's names now, sorted; none when it is not there.
fn read_names(disk: &dyn Disk, folder: &str) -> io::Result<Vec<DirEntry>> {
    let mut entries = match disk.list(folder) {
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
            ) =>
        {
            Vec::new()
        }
        entries => entries?,
    };
    if folder.is_empty() {
        entries.retain(|entry| &*entry.name != OWN_FOLDER);
    }
    entries.sort_unstable_by(|a, b| a.name.cmp(&b.name));
    Ok(entries)
}
