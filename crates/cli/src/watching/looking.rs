//! Looking at files again and again, where the system gives no notices.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::sync::mpsc::Sender;
use std::time::Duration;

use handloom_core::weave::Ground;
use handloom_core::world::Disk;
use handloom_core::world::Kind;
use handloom_core::world::RealDisk;
use handloom_core::world::Stat;

use crate::watching::Woken;

/// Time between two looks.
const EVERY: Duration = Duration::from_secs(2);

/// What stood at each path when it was last looked at.
type Seen = HashMap<String, Option<Stat>>;

/// Looks at files until it is dropped.
pub struct Looking {
    disk: RealDisk,
    seen: Arc<Mutex<Seen>>,
}

fn lock(seen: &Mutex<Seen>) -> MutexGuard<'_, Seen> {
    seen.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Looking {
    /// Looks at nothing yet; none when the project's folder can't be opened.
    pub fn start(root: &Path, told: Sender<Woken>) -> Option<Self> {
        let (disk, own) = (RealDisk::open(root).ok()?, RealDisk::open(root).ok()?);
        let seen: Arc<Mutex<Seen>> = Arc::default();
        let weak = Arc::downgrade(&seen);
        std::thread::spawn(move || {
            loop {
                std::thread::sleep(EVERY);
                let Some(seen) = weak.upgrade() else { return };
                let changed = look(&own, &mut lock(&seen));
                if !changed.is_empty() && told.send(Woken::Changed(changed)).is_err() {
                    return;
                }
            }
        });
        Some(Self { disk, seen })
    }

    /// Looks at all that is a cause for a run as well, as it is from now on.
    pub fn cover(&self, ground: &Ground) {
        let mut seen = lock(&self.seen);
        for path in ground.causes() {
            enter(&self.disk, path, &mut seen);
        }
        for tree in ground.trees() {
            below(&self.disk, tree, &mut |path| {
                enter(&self.disk, path, &mut seen);
            });
        }
    }
}

fn enter(disk: &RealDisk, path: &str, seen: &mut Seen) {
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
            if entry.kind == Kind::Folder {
                open.push(format!("{path}/"));
                found(&format!("{path}/"));
            } else {
                found(&path);
            }
        }
    }
}

/// The paths that are not as they were seen, without slashes at their ends.
fn look(disk: &RealDisk, seen: &mut Seen) -> Vec<String> {
    let mut changed = Vec::new();
    for (path, last) in seen.iter_mut() {
        let now = stat(disk, path);
        if now != *last {
            *last = now;
            changed.push(path.trim_end_matches('/').to_owned());
        }
    }
    changed
}
