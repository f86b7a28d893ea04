//! What a store holds, and taking away what was not used for longest.

use std::path::PathBuf;

use crate::store::folder::ObjectFolder;
use crate::store::object::ObjectKind;
use crate::world::ByteSize;

/// What was begun so long ago and is not in its place was left by somebody who was killed, nanoseconds.
const LEFT_BEHIND: i64 = 3600 * 1_000_000_000;

/// What a store holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Holdings {
    /// Results.
    pub results: usize,
    /// Files.
    pub files: usize,
    /// All objects, on the disk.
    pub size: ByteSize,
    /// When the one was used that was not used for longest, nanoseconds since 1970.
    pub oldest: Option<i64>,
}

/// What was taken away.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Collected {
    /// So many objects.
    pub objects: usize,
    /// So much room.
    pub size: ByteSize,
    /// What is left.
    pub left: ByteSize,
}

struct Object {
    used: i64,
    size: u64,
    path: PathBuf,
}

/// Counts what a store holds.
#[must_use]
pub fn holdings(store: &ObjectFolder) -> Holdings {
    let mut held = Holdings::default();
    store.walk(&mut |kind, _, size, used| {
        match kind {
            Some(ObjectKind::Result) => held.results += 1,
            Some(ObjectKind::File) => held.files += 1,
            Some(ObjectKind::Lists) | None => {}
        }
        held.size.0 += size;
        held.oldest = Some(held.oldest.map_or(used, |oldest| oldest.min(used)));
    });
    held
}

/// Takes away what was not used for longest, until no more than `most` is left. Others may use and trim the store
/// meanwhile: what was used since it was looked at stays.
#[must_use]
pub fn trim(store: &ObjectFolder, most: ByteSize, now: i64) -> Collected {
    let mut objects = Vec::new();
    let mut collected = Collected::default();
    store.walk(&mut |kind, path, size, used| {
        let is_left_behind = kind.is_none() && now.saturating_sub(used) > LEFT_BEHIND;
        if kind.is_some() || is_left_behind {
            let used = if is_left_behind { i64::MIN } else { used };
            objects.push(Object { used, size, path });
        }
        collected.left.0 += size;
    });
    objects.sort_unstable_by_key(|object| object.used);
    for object in objects {
        if collected.left <= most && object.used != i64::MIN {
            break;
        }
        if remove(&object) {
            collected.objects += 1;
            collected.size.0 += object.size;
        }
        collected.left.0 = collected.left.0.saturating_sub(object.size);
    }
    collected
}

/// Takes an object away unless it was used since; whether it did.
fn remove(object: &Object) -> bool {
    use std::os::unix::fs::MetadataExt;
    let Ok(stat) = object.path.symlink_metadata() else {
        return false;
    };
    let used = stat.mtime().saturating_mul(1_000_000_000) + stat.mtime_nsec();
    (object.used == i64::MIN || used == object.used) && std::fs::remove_file(&object.path).is_ok()
}

/// Takes away everything; what others put in meanwhile may stay.
#[must_use]
pub fn empty(store: &ObjectFolder) -> Collected {
    let mut collected = Collected::default();
    store.walk(&mut |kind, path, size, _| {
        // What is being written just now is let be.
        if kind.is_some() && std::fs::remove_file(path).is_ok() {
            collected.objects += 1;
            collected.size.0 += size;
        }
    });
    collected
}
