//! The system's notices of changed files.
//!
//! Only folders in which something lies that matters are watched, each on its own: a project's other
//! folders, however large, cost nothing. Where the system has no room for that many, their files are looked
//! at every two seconds instead ([`Looking`]). A file behind a symbolic link is watched where it lies, and a
//! change there counts as one of the link.

use std::collections::HashMap;
use std::collections::HashSet;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::sync::mpsc::Sender;

use notify::Config;
use notify::Event;
use notify::EventKind;
use notify::RecommendedWatcher;
use notify::RecursiveMode;
use notify::Watcher;
use notify::event::AccessKind;
use notify::event::AccessMode;

use handloom_core::weave::Ground;

use crate::failure::Failure;
use crate::watching::Looking;
use crate::watching::Woken;
use crate::watching::from_root;

/// For each file behind links what links to it, as seen from the root.
type Links = Arc<Mutex<HashMap<String, Vec<String>>>>;

fn lock(links: &Links) -> MutexGuard<'_, HashMap<String, Vec<String>>> {
    links.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Who is told of changed files.
pub struct Notices {
    root: PathBuf,
    told: Sender<Woken>,
    watcher: RecommendedWatcher,
    watched: HashSet<String>,
    trees: HashSet<String>,
    /// Files that were looked at whether they are links.
    followed: HashSet<String>,
    links: Links,
    /// Who looks at files instead, and why.
    pub instead: Option<(Looking, String)>,
}

impl Notices {
    /// Nothing is watched yet but the project's own folder.
    pub fn new(root: &Path, told: Sender<Woken>) -> Result<Self, Failure> {
        let links = Links::default();
        let teller = teller(root, Arc::clone(&links), told.clone());
        let watcher = RecommendedWatcher::new(teller, Config::default())
            .map_err(|error| Failure::io("can't ask the system for notices", plain(error)))?;
        let mut notices = Self {
            root: root.to_owned(),
            told,
            watcher,
            watched: HashSet::new(),
            trees: HashSet::new(),
            followed: HashSet::new(),
            links,
            instead: None,
        };
        notices.watch("", RecursiveMode::NonRecursive);
        Ok(notices)
    }

    /// The project's folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Watches all that a run depends on.
    pub fn cover(&mut self, ground: &Ground) {
        if let Some((looking, _)) = &self.instead {
            return looking.cover(ground);
        }
        for folder in ground.folders() {
            if !self.watched.contains(folder) {
                self.watch(folder, RecursiveMode::NonRecursive);
            }
        }
        for tree in ground.trees() {
            if !self.trees.contains(tree) {
                self.watch(tree, RecursiveMode::Recursive);
            }
        }
        if let Some((looking, _)) = &self.instead {
            looking.cover(ground);
        }
    }

    /// Watches what lies behind those of these files that are links, each once.
    pub fn follow<'p>(&mut self, paths: impl Iterator<Item = &'p str>) {
        for path in paths {
            if self.followed.contains(path) {
                continue;
            }
            self.followed.insert(path.to_owned());
            let whole = self.root.join(path);
            let is_link = whole.symlink_metadata().is_ok_and(|meta| meta.is_symlink());
            // What leads nowhere yet is noticed when the link itself changes.
            let Some(real) = is_link.then(|| whole.canonicalize().ok()).flatten() else {
                continue;
            };
            let Some(real) = from_root(&self.root, &real) else {
                continue;
            };
            if let Some((folder, _)) = real.rsplit_once('/') {
                self.watch(&format!("{folder}/"), RecursiveMode::NonRecursive);
            }
            lock(&self.links)
                .entry(real)
                .or_default()
                .push(path.to_owned());
        }
    }

    /// The same for files that were changed: they may be other links now.
    pub fn follow_again(&mut self, paths: &[String]) {
        for path in paths {
            self.followed.remove(path);
        }
        self.follow(paths.iter().map(String::as_str));
    }

    /// A folder came, went or was moved: those watched below it may be others now.
    pub fn forget(&mut self, folder: &str) {
        let below = format!("{folder}/");
        let (gone, kept) = std::mem::take(&mut self.watched)
            .into_iter()
            .partition(|watched| watched.starts_with(&below));
        self.watched = kept;
        let gone: HashSet<String> = gone;
        self.trees.retain(|tree| !tree.starts_with(&below));
        for folder in gone {
            // The system forgets folders that are gone by itself.
            let _ = self.watcher.unwatch(&self.root.join(folder));
        }
    }

    fn watch(&mut self, folder: &str, mode: RecursiveMode) {
        let path = self.root.join(folder);
        if !path.is_dir() {
            // It is noticed in the folder around it when it comes.
            return;
        }
        match self.watcher.watch(&path, mode) {
            Ok(()) => {}
            Err(error) if self.instead.is_none() && path.is_dir() => {
                return self.look_instead(&plain(error));
            }
            // It went away just now.
            Err(_) => return,
        }
        if mode == RecursiveMode::Recursive {
            self.trees.insert(folder.to_owned());
        } else {
            self.watched.insert(folder.to_owned());
        }
    }

    /// Looks at the files themselves from now on.
    fn look_instead(&mut self, why: &std::io::Error) {
        let looking = Looking::start(&self.root, self.told.clone());
        self.instead = looking.map(|looking| (looking, why.to_string()));
        // Whatever is not watched yet.
        let _ = self.told.send(Woken::Overflow);
    }
}

/// Hands on what matters of the system's notices.
fn teller(
    root: &Path,
    links: Links,
    told: Sender<Woken>,
) -> impl Fn(notify::Result<Event>) + Send + 'static {
    let root = root.to_owned();
    move |notice| {
        let woken = match notice {
            Ok(event) if event.need_rescan() => Woken::Overflow,
            Ok(event) if is_reading(event.kind) => return,
            Ok(event) => {
                let seen = |path: &PathBuf| from_root(&root, path);
                let mut paths: Vec<String> = event.paths.iter().filter_map(seen).collect();
                let links = lock(&links);
                if !links.is_empty() {
                    let linked = paths.iter().filter_map(|path| links.get(path));
                    let linked: Vec<String> = linked.flatten().cloned().collect();
                    paths.extend(linked);
                }
                Woken::Changed(paths)
            }
            Err(_) => Woken::Overflow,
        };
        // Nobody listens any more at the program's end.
        let _ = told.send(woken);
    }
}

fn is_reading(kind: EventKind) -> bool {
    match kind {
        EventKind::Access(kind) => kind != AccessKind::Close(AccessMode::Write),
        _ => false,
    }
}

fn plain(error: notify::Error) -> std::io::Error {
    match error.kind {
        notify::ErrorKind::Io(error) => error,
        notify::ErrorKind::MaxFilesWatch => {
            std::io::Error::other("the system has no room for more watched folders")
        }
        _ => std::io::Error::other(error.to_string()),
    }
}
