//! The system's notices of changed files.
//!
//! Only folders in which something lies that matters are watched, each on its own: a project's other
//! folders, however large, cost nothing. Where the system has no room for that many, their files are looked
//! at every two seconds instead ([`Looking`]).

use std::collections::HashSet;
use std::path::Path;
use std::path::PathBuf;
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

/// Who is told of changed files.
pub struct Notices {
    root: PathBuf,
    told: Sender<Woken>,
    watcher: RecommendedWatcher,
    watched: HashSet<String>,
    trees: HashSet<String>,
    /// Who looks at files instead, and why.
    pub instead: Option<(Looking, String)>,
}

impl Notices {
    /// Nothing is watched yet but the project's own folder.
    pub fn new(root: &Path, told: Sender<Woken>) -> Result<Self, Failure> {
        let teller = teller(root, told.clone());
        let watcher = RecommendedWatcher::new(teller, Config::default())
            .map_err(|error| Failure::io("can't ask the system for notices", plain(error)))?;
        let mut notices = Self {
            root: root.to_owned(),
            told,
            watcher,
            watched: HashSet::new(),
            trees: HashSet::new(),
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
fn teller(root: &Path, told: Sender<Woken>) -> impl Fn(notify::Result<Event>) + Send + 'static {
    let root = root.to_owned();
    move |notice| {
        let woken = match notice {
            Ok(event) if event.need_rescan() => Woken::Overflow,
            Ok(event) if is_reading(event.kind) => return,
            Ok(event) => Woken::Changed(
                event
                    .paths
                    .iter()
                    .filter_map(|path| from_root(&root, path))
                    .collect(),
            ),
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
