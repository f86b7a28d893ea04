//! Moving files out of the way without losing any.

use std::io;

use crate::world::Disk;
use crate::world::Kind;

/// Where files go that Hand Loom did not make and that stood in an output's place.
pub const ASIDE: &str = ".handloom/aside";

/// Where outputs of failed recipes go; only the last of each is kept.
pub const FAILED: &str = ".handloom/failed";

/// Moves what stands at a path to [`ASIDE`], under a name that is free. Gives the new name; none when
/// nothing stands there any more.
///
/// # Errors
/// When it cannot be moved.
pub fn move_aside(disk: &dyn Disk, path: &str) -> io::Result<Option<String>> {
    let plain = path.trim_end_matches('/');
    let wanted = format!("{ASIDE}/{plain}");
    let mut free = wanted.clone();
    let mut number = 2;
    while disk.stat(&free)?.is_some() {
        free = format!("{wanted}.{number}");
        number += 1;
    }
    Ok(move_to(disk, plain, &free)?.then_some(free))
}

/// Moves what stands at a path to [`FAILED`], in the place of what was moved there before. Gives the new
/// name; none when nothing stands there any more.
///
/// # Errors
/// When it cannot be moved.
pub fn move_failed(disk: &dyn Disk, path: &str) -> io::Result<Option<String>> {
    let plain = path.trim_end_matches('/');
    let to = format!("{FAILED}/{plain}");
    remove(disk, &to)?;
    Ok(move_to(disk, plain, &to)?.then_some(to))
}

/// Whether there was anything to move.
fn move_to(disk: &dyn Disk, from: &str, to: &str) -> io::Result<bool> {
    let folder = &to[..to.rfind('/').unwrap_or(0)];
    if let Err(error) = disk.create_folders(folder) {
        // A file from an earlier time may stand where a folder is needed now.
        clear_way(disk, folder).map_err(|_| error)?;
        disk.create_folders(folder)?;
    }
    match disk.rename(from, to) {
        Ok(()) => Ok(true),
        // Somebody else took it away since it was looked at.
        Err(_) if disk.is_free(from)? => Ok(false),
        Err(error) => Err(error),
    }
}

/// Renames the file that stands in the way of a folder.
fn clear_way(disk: &dyn Disk, folder: &str) -> io::Result<()> {
    for (at, _) in folder.match_indices('/').chain([(folder.len(), "")]) {
        let part = &folder[..at];
        if disk
            .stat(part)?
            .is_some_and(|stat| stat.kind != Kind::Folder)
        {
            let mut number = 2;
            while disk.stat(&format!("{part}.{number}"))?.is_some() {
                number += 1;
            }
            return disk.rename(part, &format!("{part}.{number}"));
        }
    }
    Ok(())
}

/// Removes whatever stands at a path; nothing there is fine.
///
/// # Errors
/// When it cannot be removed.
pub fn remove(disk: &dyn Disk, path: &str) -> io::Result<()> {
    let plain = path.trim_end_matches('/');
    let removed = match disk.stat(plain)? {
        Some(stat) if stat.kind == Kind::Folder && !stat.link => disk.remove_tree(plain),
        // A link into nothing has no stat, but is there.
        _ => disk.remove_file(plain),
    };
    match removed {
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory
            ) =>
        {
            Ok(())
        }
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::world::RealDisk;

    #[test]
    fn what_is_gone_already_need_not_be_moved() {
        let folder = tempfile::tempdir().unwrap();
        let disk = RealDisk::open(folder.path()).unwrap();
        assert_eq!(move_aside(&disk, "out/gone").unwrap(), None);
        assert_eq!(move_failed(&disk, "out/gone/").unwrap(), None);
        std::fs::write(folder.path().join("there"), "1").unwrap();
        let aside = move_aside(&disk, "there").unwrap();
        assert_eq!(aside.as_deref(), Some(".handloom/aside/there"));
        assert_eq!(disk.read(".handloom/aside/there").unwrap(), b"1");
        assert_eq!(move_aside(&disk, "there").unwrap(), None);
    }
}
