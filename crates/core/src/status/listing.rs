//! The names in a folder, as a watched recipe that lists it may depend on them.
//!
//! What targets make does not count, nor do folders that only hold such, nor Hand Loom's own folder and what programs
//! keep beside sources to be faster: all these come and go without anybody having changed anything.

use crate::content::State;
use crate::project::Project;
use crate::project::folders::OWN_FOLDER;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::FileKind;

/// Folders in which programs keep what they can make again at any time: Python's compiled modules (PEP 3147).
const CACHES: [&str; 1] = ["__pycache__"];

/// Whether a path is one that nobody depends on: in Hand Loom's own folder, or in a program's cache.
#[must_use]
pub fn is_overlooked(path: &str) -> bool {
    path == OWN_FOLDER
        || path.starts_with(".handloom/")
        || path.split('/').any(|name| CACHES.contains(&name))
}

/// Whether a path, without a slash at its end, is an output of a target that is described now, or a folder that holds such.
#[must_use]
pub fn is_made(project: &Project<'_>, path: &str) -> bool {
    let folder = format!("{path}/");
    project.maker_of(path).is_some() || project.outputs_in(&folder).next().is_some()
}

/// The digest of names in a folder, which is empty for the root or ends with a slash, but for those that do not
/// count. The names are sorted.
pub fn digest<'n>(
    project: &Project<'_>,
    folder: &str,
    names: impl Iterator<Item = &'n str>,
) -> Digest {
    let mut hasher = blake3::Hasher::new();
    for name in names {
        let path = format!("{folder}{name}");
        if !is_overlooked(&path) && !is_made(project, &path) {
            hasher.update(name.as_bytes());
            hasher.update(&[0]);
        }
    }
    Digest(*hasher.finalize().as_bytes())
}

/// The names in a folder now, which is empty for the root or ends with a slash.
#[must_use]
pub fn state(disk: &dyn Disk, project: &Project<'_>, folder: &str) -> State {
    let place = if folder.is_empty() { "./" } else { folder };
    match disk.stat(place) {
        Ok(Some(stat)) if stat.kind == FileKind::Folder => {}
        Ok(Some(_)) => return State::WrongKind,
        Ok(None) => return State::Missing,
        Err(error) => return State::Unreadable(error.to_string()),
    }
    match disk.list(folder) {
        Ok(mut entries) => {
            entries.sort_unstable_by(|one, other| one.name.cmp(&other.name));
            let names = entries.iter().map(|entry| &*entry.name);
            State::Content(digest(project, folder, names))
        }
        Err(error) => State::Unreadable(error.to_string()),
    }
}
