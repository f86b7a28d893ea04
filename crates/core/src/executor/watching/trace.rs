//! Noting what the processes of one job look at, as it happens.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::collections::HashMap;
use std::ffi::OsString;
use std::fs::FileType;
use std::io;
use std::io::Read;
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::FileTypeExt;
use std::path::Component;
use std::path::Path;
use std::path::PathBuf;

use crate::executor::watching::observed::Gap;
use crate::executor::watching::observed::Observed;
use crate::executor::watching::observed::PathAccess;
use crate::executor::watching::observed::SealRefusal;
use crate::executor::watching::observed::Sight;
use crate::executor::watching::observed::WatchReach;
use crate::world::names;

/// Scripts whose interpreters are scripts again, further than this, are not started by the system either.
const INTERPRETERS: usize = 5;

/// So much of a program is read to see what else the system needs to start it.
const HEAD: usize = 4096;

/// Where the system keeps its own: nothing in there leads into a project, and most of what a process looks at is here.
const SYSTEM: [&str; 9] = [
    "/usr/lib",
    "/usr/lib64",
    "/usr/bin",
    "/usr/share",
    "/usr/include",
    "/lib",
    "/lib64",
    "/bin",
    "/etc",
];

/// What was looked at so far.
pub struct Trace<'a> {
    reach: WatchReach,
    /// The project's root, without links in it.
    root: &'a Path,
    seen: HashMap<PathBuf, Sight>,
    /// Folders that the job made, and what came to be one by a rename: all below is its own.
    own_trees: BTreeSet<PathBuf>,
    listed: BTreeMap<PathBuf, BTreeSet<OsString>>,
    /// Of each folder where it really is.
    real_folders: HashMap<PathBuf, PathBuf>,
    gaps: BTreeSet<Gap>,
    refused: BTreeSet<SealRefusal>,
    unread: usize,
}

impl<'a> Trace<'a> {
    /// Nothing was seen yet. `root` has no links in it.
    pub fn new(root: &'a Path, reach: WatchReach) -> Self {
        Self {
            reach,
            root,
            seen: HashMap::new(),
            own_trees: BTreeSet::new(),
            listed: BTreeMap::new(),
            real_folders: HashMap::new(),
            gaps: BTreeSet::new(),
            refused: BTreeSet::new(),
            unread: 0,
        }
    }

    /// Something went past the watch.
    pub fn miss(&mut self, gap: Gap) {
        self.gaps.insert(gap);
    }

    /// A call's path could not be read.
    pub fn miss_path(&mut self) {
        self.unread += 1;
    }

    /// A path from a folder, with nothing to be left out in it. What lies behind a name that is not there is not there
    /// because of that name.
    pub fn path(&self, base: &Path, path: &Path) -> PathBuf {
        let mut whole = if path.is_absolute() {
            PathBuf::from("/")
        } else {
            base.to_owned()
        };
        for component in path.components() {
            match component {
                Component::Normal(name) => whole.push(name),
                Component::ParentDir => match std::fs::symlink_metadata(&whole) {
                    Ok(found) if found.is_dir() => {
                        whole.pop();
                    }
                    Ok(_) => match std::fs::canonicalize(&whole) {
                        Ok(real) => {
                            whole = real;
                            whole.pop();
                        }
                        Err(_) => return whole,
                    },
                    Err(_) => return whole,
                },
                Component::RootDir | Component::CurDir | Component::Prefix(_) => {}
            }
        }
        whole
    }

    /// Whether the job made this itself.
    pub fn made(&self, path: &Path) -> bool {
        self.seen.get(path) == Some(&Sight::Written) || self.is_own(path)
    }

    /// Something was refused that is there.
    pub fn refuse(&mut self, path: &Path, access: PathAccess) {
        let mut shown = text(self.root, path);
        if kind(path).is_some_and(|kind| kind.is_dir()) {
            shown = if shown.is_empty() {
                "./".to_owned()
            } else {
                format!("{shown}/")
            };
        }
        self.refused.insert(SealRefusal {
            path: shown,
            write: access == PathAccess::Write,
        });
    }

    fn is_own(&self, path: &Path) -> bool {
        !self.own_trees.is_empty()
            && path
                .ancestors()
                .any(|folder| self.own_trees.contains(folder))
    }

    /// A name was looked up: what is there counts, or that nothing is.
    pub fn look(&mut self, path: &Path) -> Option<FileType> {
        // A project may lie there itself.
        if self.reach == WatchReach::Project
            && SYSTEM.iter().any(|place| path.starts_with(place))
            && !path.starts_with(self.root)
        {
            return None;
        }
        match self.seen.get(path) {
            Some(Sight::Written) => return kind(path),
            Some(Sight::Read) => return kind(path),
            _ if self.is_own(path) => return kind(path),
            _ => {}
        }
        let found = match std::fs::symlink_metadata(path) {
            Ok(found) => found.file_type(),
            Err(error) if is_absence(&error) => {
                self.note_absent(path);
                return None;
            }
            Err(_) => return None,
        };
        let sight = if found.is_dir() {
            Sight::Folder
        } else if found.is_file() || found.is_symlink() {
            Sight::Read
        } else {
            return Some(found);
        };
        self.note(path, sight);
        if found.is_symlink()
            && let Ok(real) = std::fs::canonicalize(path)
            && real.starts_with(self.root)
        {
            let end = kind(&real);
            if end.is_some_and(|end| end.is_file()) {
                self.note(&real, Sight::Read);
            }
            return end.or(Some(found));
        }
        Some(found)
    }

    /// Notes a path, and the same by the way that leads there without links.
    fn note(&mut self, path: &Path, sight: Sight) {
        if let (Some(folder), Some(name)) = (path.parent(), path.file_name()) {
            let real = self.real_folder(folder);
            if real != folder && real.starts_with(self.root) {
                let real = real.join(name);
                self.enter(real, sight);
                if !path.starts_with(self.root) {
                    // Only another way into the project.
                    return;
                }
            }
        }
        self.enter(path.to_owned(), sight);
    }

    fn enter(&mut self, path: PathBuf, sight: Sight) {
        let known = self.seen.entry(path).or_insert(sight);
        // What the job wrote is its own from then on; what came after a look in vain was read all the same.
        if *known != Sight::Written {
            *known = sight;
        }
    }

    fn note_absent(&mut self, path: &Path) {
        if !self.seen.contains_key(path) && !self.is_own(path) {
            self.note(path, Sight::Absent);
        }
    }

    /// A path by the way that leads there without links.
    pub fn real(&mut self, path: &Path) -> PathBuf {
        match (path.parent(), path.file_name()) {
            (Some(folder), Some(name)) => self.real_folder(folder).join(name),
            _ => path.to_owned(),
        }
    }

    fn real_folder(&mut self, folder: &Path) -> PathBuf {
        if let Some(real) = self.real_folders.get(folder) {
            return real.clone();
        }
        let real = std::fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
        self.real_folders.insert(folder.to_owned(), real.clone());
        real
    }

    /// A file was opened so that it may change.
    pub fn write(&mut self, path: &Path) {
        if self.is_own(path) {
            return;
        }
        match kind(path) {
            Some(kind) if !kind.is_file() && !kind.is_symlink() => {}
            None if path.parent().is_some_and(|folder| kind(folder).is_none()) => {
                self.note_absent(path);
            }
            _ => self.note(path, Sight::Written),
        }
    }

    /// A folder is about to be made.
    pub fn make_folder(&mut self, path: &Path) {
        if kind(path).is_some() {
            self.look(path);
        } else if path.parent().and_then(kind).is_some() {
            self.own_tree(path);
        } else {
            self.note_absent(path);
        }
    }

    fn own_tree(&mut self, path: &Path) {
        self.note(path, Sight::Written);
        self.own_trees.insert(path.to_owned());
    }

    /// A name is taken away; where there is none, that is what the job learns.
    pub fn remove(&mut self, path: &Path) {
        if kind(path).is_some() {
            if !self.is_own(path) {
                self.note(path, Sight::Written);
            }
        } else {
            self.look(path);
        }
    }

    /// A name becomes another one.
    pub fn rename(&mut self, from: &Path, to: &Path) {
        let Some(kind) = kind(from) else {
            self.look(from);
            return;
        };
        if !self.is_own(from) {
            self.note(from, Sight::Written);
        }
        if kind.is_dir() {
            self.own_tree(to);
        } else if !self.is_own(to) {
            self.note(to, Sight::Written);
        }
    }

    /// A file gets another name: it is read through it.
    pub fn link(&mut self, from: &Path, to: &Path) {
        if self.look(from).is_some() && !self.is_own(to) {
            self.note(to, Sight::Written);
        }
    }

    /// The names in a folder are asked for.
    pub fn list(&mut self, folder: &Path) {
        let real = self.real_folder(folder);
        if self.is_own(&real) || self.listed.contains_key(&real) || !real.starts_with(self.root) {
            return;
        }
        let entries = std::fs::read_dir(&real).into_iter().flatten().flatten();
        let names = entries.map(|entry| entry.file_name()).collect();
        self.listed.insert(real, names);
    }

    /// A program is started: it is read, and so is whatever the system needs to start it.
    pub fn execute(&mut self, base: &Path, path: &Path) {
        let mut path = self.path(base, path);
        for _ in 0..INTERPRETERS {
            let is_file = self
                .look(&path)
                .is_some_and(|kind| kind.is_file() || kind.is_symlink());
            if !is_file {
                return;
            }
            let mut head = Vec::new();
            let read = std::fs::File::open(&path)
                .and_then(|file| file.take(HEAD as u64).read_to_end(&mut head));
            let interpreter = read.ok().and_then(|_| script_interpreter(&head));
            let Some(interpreter) = interpreter else {
                return;
            };
            path = self.path(base, &interpreter);
        }
    }

    /// All that was seen.
    pub fn finish(mut self) -> Observed {
        let root = self.root;
        let mut listed = Vec::with_capacity(self.listed.len());
        for (folder, mut names) in std::mem::take(&mut self.listed) {
            if self.is_own(&folder) {
                continue;
            }
            for (path, sight) in &self.seen {
                let own = *sight == Sight::Written && path.parent() == Some(&*folder);
                let Some(name) = path.file_name().filter(|_| own) else {
                    continue;
                };
                if kind(path).is_some() {
                    names.insert(name.to_owned());
                } else {
                    names.remove(name);
                }
            }
            let names = names
                .iter()
                .map(|name| names::os_to_text(name).into_owned());
            listed.push((text(root, &folder), names.collect()));
        }
        let is_own = |path: &Path, sight| {
            sight != Sight::Written
                && path
                    .ancestors()
                    .any(|folder| self.own_trees.contains(folder))
        };
        let mut paths: Vec<(String, Sight)> = self
            .seen
            .iter()
            .filter(|(path, sight)| !is_own(path, **sight))
            .map(|(path, sight)| (text(root, path), *sight))
            .collect();
        paths.sort_unstable();
        if self.unread > 0 {
            self.gaps.insert(Gap::Unread(self.unread));
        }
        Observed {
            paths,
            listed,
            gaps: self.gaps.into_iter().collect(),
            refused: self.refused.into_iter().collect(),
        }
    }
}

/// A path as the project names it.
fn text(root: &Path, path: &Path) -> String {
    let path = path.strip_prefix(root).unwrap_or(path);
    names::os_to_text(path.as_os_str()).into_owned()
}

fn kind(path: &Path) -> Option<FileType> {
    let found = std::fs::symlink_metadata(path).ok()?;
    let kind = found.file_type();
    // What such a thing is asked is no content.
    (!kind.is_socket()).then_some(kind)
}

fn is_absence(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
    )
}

/// What a script's first line says that it is to be read by.
fn script_interpreter(head: &[u8]) -> Option<PathBuf> {
    let line = head.strip_prefix(b"#!")?;
    let line = line.split(|&byte| byte == b'\n').next()?;
    let line = line.trim_ascii();
    let word = line.split(|byte| matches!(byte, b' ' | b'\t')).next()?;
    (!word.is_empty()).then(|| OsString::from_vec(word.to_vec()).into())
}
