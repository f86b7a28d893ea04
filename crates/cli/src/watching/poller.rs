//! Looking at files again and again, where the system's notices do not tell of everything.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::mpsc::Sender;
use std::time::Duration;
use std::time::Instant;

use handloom_core::status::WatchSet;
use handloom_core::world::Disk;
use handloom_core::world::FileKind;
use handloom_core::world::RealDisk;
use handloom_core::world::Stat;
use handloom_core::world::lock;

use crate::watching::WatchEvent;
use handloom_core::world::names::folder_of;

/// So many times as long as a look takes is the time between two, at least: a slow network has better
/// things to do.
const REST: u32 = 20;

/// What stood at each path when it was last looked at.
type SeenFile = HashMap<String, Option<Stat>>;

/// Looks at files until it is dropped.
pub struct FilePoller {
    disk: RealDisk,
    seen: Arc<Mutex<SeenFile>>,
}

impl FilePoller {
    /// Looks at nothing yet; none when the project's folder can't be opened.
    pub fn start(root: &Path, every: Duration, told: Sender<WatchEvent>) -> Option<Self> {
        let (disk, own) = (RealDisk::open(root).ok()?, RealDisk::open(root).ok()?);
        let seen: Arc<Mutex<SeenFile>> = Arc::default();
        let weak = Arc::downgrade(&seen);
        std::thread::spawn(move || {
            let mut pause = every;
            loop {
                std::thread::sleep(pause);
                let Some(seen) = weak.upgrade() else { return };
                let began = Instant::now();
                let changed = look(&own, &mut lock(&seen));
                pause = every.max(began.elapsed() * REST);
                for woken in changed {
                    if told.send(woken).is_err() {
                        return;
                    }
                }
            }
        });
        Some(Self { disk, seen })
    }

    /// Looks at all that is a cause for a run as well, as it is from now on.
    pub fn cover(&self, watch_set: &WatchSet) {
        let mut seen = lock(&self.seen);
        for path in watch_set.causes() {
            enter(&self.disk, path, &mut seen);
        }
        for tree in watch_set.trees() {
            below(&self.disk, tree, &mut |path| {
                enter(&self.disk, path, &mut seen);
            });
        }
    }

    /// These are known to have changed, and with them the folders that they lie in; all of it is looked at
    /// after this.
    pub fn take_note(&self, paths: &[String]) {
        let mut seen = lock(&self.seen);
        for path in paths {
            let folder = folder_of(path);
            for path in [path.as_str(), folder] {
                if let Some(last) = seen.get_mut(path) {
                    *last = stat(&self.disk, path);
                }
            }
        }
    }
}

fn enter(disk: &RealDisk, path: &str, seen: &mut SeenFile) {
    if !seen.contains_key(path) {
        let stat = stat(disk, path);
        seen.insert(path.to_owned(), stat);
    }
}

fn stat(disk: &RealDisk, path: &str) -> Option<Stat> {
    let path = if path.is_empty() { "./" } else { path };
    disk.stat(path).ok().flatten()
}

/// Calls `found` for every file and folder below a folder.
fn below(disk: &RealDisk, folder: &str, found: &mut dyn FnMut(&str)) {
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in disk.list(&folder).unwrap_or_default() {
            let path = format!("{folder}{}", entry.name);
            if entry.kind == FileKind::Folder {
                open.push(format!("{path}/"));
                found(&format!("{path}/"));
            } else {
                found(&path);
            }
        }
    }
}

/// What is not as it was seen, by paths without slashes at their ends.
fn look(disk: &RealDisk, seen: &mut SeenFile) -> Vec<WatchEvent> {
    let (mut changed, mut names) = (Vec::new(), Vec::new());
    for (path, last) in seen.iter_mut() {
        let now = stat(disk, path);
        if now == *last {
            continue;
        }
        let is_folder = |stat: &Option<Stat>| stat.filter(|stat| stat.kind == FileKind::Folder);
        let same = match (is_folder(last), is_folder(&now)) {
            (Some(last), Some(now)) => last.inode == now.inode,
            _ => false,
        };
        *last = now;
        let told = if same { &mut names } else { &mut changed };
        told.push(path.trim_end_matches('/').to_owned());
    }
    let mut all = Vec::new();
    if !changed.is_empty() {
        all.push(WatchEvent::Changed(changed));
    }
    if !names.is_empty() {
        all.push(WatchEvent::Names(names));
    }
    all
}
