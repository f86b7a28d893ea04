//! The system's notices of changed files.
//!
//! Only folders in which something lies that matters are watched, each on its own: a project's other
//! folders, however large, cost nothing. Where notices do not tell of everything, the files themselves are
//! looked at every two seconds as well ([`FilePoller`]): where the system has no room for that many folders,
//! and on file systems that others may write to without this system knowing. A file behind a symbolic link
//! is watched where it lies, and a change there counts as one of the link.

use std::collections::HashMap;
use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::mpsc::Sender;
use std::time::Duration;
use std::time::SystemTime;

use notify::Config;
use notify::Event;
use notify::EventKind;
use notify::RecommendedWatcher;
use notify::RecursiveMode;
use notify::Watcher;
use notify::event::AccessKind;
use notify::event::AccessMode;

use handloom_core::status::WatchSet;
use handloom_core::world::lock;

use crate::failure::CommandError;
use crate::watching::FilePoller;
use crate::watching::WatchEvent;
use crate::watching::from_root;

/// Time between two looks at the files.
const EVERY: Duration = Duration::from_secs(2);

/// The numbers of file systems that others may write to unseen: from linux/magic.h, and for the last two
/// from their own headers.
const SHARED: [(u32, &str); 14] = [
    (0x6969, "NFS"),
    (0x517B, "SMB"),
    (0xFF53_4D42, "CIFS"),
    (0xFE53_4D42, "SMB2"),
    (0x0102_1997, "9P"),
    (0x6573_5546, "FUSE"),
    (0x00C3_6400, "Ceph"),
    (0x5346_414F, "AFS"),
    (0x6B41_4653, "AFS"),
    (0x7375_7245, "Coda"),
    (0x786F_4256, "a virtual machine's shared folder"),
    (0xBACB_ACBC, "a virtual machine's shared folder"),
    (0x0BD0_0BD0, "Lustre"),
    (0x4750_4653, "GPFS"),
];

/// For each file behind links what links to it, as seen from the root.
type Links = Arc<Mutex<HashMap<String, Vec<String>>>>;

/// Who is told of changed files.
pub struct Notices {
    root: PathBuf,
    told: Sender<WatchEvent>,
    watcher: RecommendedWatcher,
    watched: HashMap<String, Option<FolderId>>,
    trees: HashMap<String, Option<FolderId>>,
    /// Files that were looked at whether they are links.
    followed: HashSet<String>,
    links: Links,
    /// The system has no room for more folders.
    full: bool,
    /// Who looks at files as well.
    poller: Option<FilePoller>,
    /// Why, when nobody asked for it.
    why: Option<String>,
}

impl Notices {
    /// Nothing is watched yet but the project's own folder; files are looked at as well when a time
    /// between two looks is given.
    pub fn new(
        root: &Path,
        told: Sender<WatchEvent>,
        every: Option<Duration>,
    ) -> Result<Self, CommandError> {
        let links = Links::default();
        let teller = teller(root, Arc::clone(&links), told.clone());
        let watcher = RecommendedWatcher::new(teller, Config::default())
            .map_err(|error| CommandError::io("can't ask the system for notices", plain(error)))?;
        let mut notices = Self {
            root: root.to_owned(),
            told,
            watcher,
            watched: HashMap::new(),
            trees: HashMap::new(),
            followed: HashSet::new(),
            links,
            full: false,
            poller: None,
            why: None,
        };
        if let Some(every) = every {
            notices.look(every, None);
        }
        notices.watch("", RecursiveMode::NonRecursive);
        Ok(notices)
    }

    /// The project's folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Whether things may change that nobody is told of.
    pub fn is_blind(&self) -> bool {
        self.poller.is_some()
    }

    /// Why files are looked at although nobody asked for it.
    pub fn why_polling(&self) -> Option<&str> {
        self.why.as_deref()
    }

    /// Watches one folder more; whether that can be done.
    pub fn hear(&mut self, folder: &str) -> bool {
        self.watch(folder, RecursiveMode::NonRecursive);
        self.watched.contains_key(folder)
    }

    /// Whether a folder is not watched, or is another one by now: the run of somebody else may have put it there.
    fn is_due(&self, folder: &str, known: &HashMap<String, Option<FolderId>>) -> bool {
        let known = known.get(folder);
        !self.full && known.is_none_or(|known| *known != folder_id(&self.root.join(folder)))
    }

    /// Watches all that a run depends on.
    pub fn cover(&mut self, watch_set: &WatchSet) {
        for folder in watch_set.folders() {
            if self.is_due(folder, &self.watched) {
                self.watch(folder, RecursiveMode::NonRecursive);
            }
        }
        for tree in watch_set.trees() {
            if self.is_due(tree, &self.trees) {
                self.watch(tree, RecursiveMode::Recursive);
            }
        }
        if let Some(poller) = &self.poller {
            poller.cover(watch_set);
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

    /// Files that were changed are looked at now: they may be other links, and what was noticed need not be
    /// found once more.
    pub fn take_note(&mut self, paths: &[String]) {
        for path in paths {
            self.followed.remove(path);
        }
        self.follow(paths.iter().map(String::as_str));
        if let Some(poller) = &self.poller {
            poller.take_note(paths);
        }
    }

    /// A folder came, went or was moved: those watched below it may be others now.
    pub fn forget(&mut self, folder: &str) {
        let below = format!("{folder}/");
        let (gone, kept) = std::mem::take(&mut self.watched)
            .into_iter()
            .partition(|(watched, _)| watched.starts_with(&below));
        self.watched = kept;
        let gone: HashMap<String, _> = gone;
        self.trees.retain(|tree, _| !tree.starts_with(&below));
        for folder in gone.into_keys() {
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
        let known = if mode == RecursiveMode::Recursive {
            &mut self.trees
        } else {
            &mut self.watched
        };
        if known.remove(folder).is_some() {
            // What is watched under this name is another folder.
            let _ = self.watcher.unwatch(&path);
        }
        let id = folder_id(&path);
        match self.watcher.watch(&path, mode) {
            Ok(()) => {}
            Err(error) if path.is_dir() => {
                self.full = true;
                let why = format!(
                    "{}; a higher `fs.inotify.max_user_watches` makes it quicker",
                    plain(error)
                );
                self.look(EVERY, Some(why));
                // Whatever is not watched yet.
                let _ = self.told.send(WatchEvent::Overflow);
                return;
            }
            // It went away just now.
            Err(_) => return,
        }
        if let Some(kind) = shared(&path) {
            let why = format!("{kind} does not tell of changes that are made elsewhere");
            self.look(EVERY, Some(why));
        }
        if mode == RecursiveMode::Recursive {
            self.trees.insert(folder.to_owned(), id);
        } else {
            self.watched.insert(folder.to_owned(), id);
        }
    }

    /// Looks at the files themselves from now on.
    fn look(&mut self, every: Duration, why: Option<String>) {
        if self.poller.is_none() {
            self.poller = FilePoller::start(&self.root, every, self.told.clone());
            self.why = why;
        }
    }
}

/// Device and number of a folder, and when it was made, where that is known: numbers are used again.
type FolderId = (u64, u64, Option<SystemTime>);

fn folder_id(folder: &Path) -> Option<FolderId> {
    let found = folder.metadata().ok()?;
    Some((found.dev(), found.ino(), found.created().ok()))
}

/// The kind of file system that a folder lies on, if others may write to it unseen: over a network, or from
/// outside of a virtual machine or a container.
fn shared(folder: &Path) -> Option<&'static str> {
    let found = rustix::fs::statfs(folder).ok()?;
    // The field's width differs from system to system; the numbers have 32 bits.
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "only these bits are a number"
    )]
    let number = found.f_type as u32;
    SHARED
        .iter()
        .find(|(kind, _)| *kind == number)
        .map(|(_, name)| *name)
}

/// Hands on what matters of the system's notices.
fn teller(
    root: &Path,
    links: Links,
    told: Sender<WatchEvent>,
) -> impl Fn(notify::Result<Event>) + Send + 'static {
    let root = root.to_owned();
    move |notice| {
        let woken = match notice {
            Ok(event) if event.need_rescan() => WatchEvent::Overflow,
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
                WatchEvent::Changed(paths)
            }
            Err(_) => WatchEvent::Overflow,
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
