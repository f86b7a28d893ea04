//! Moving files out of the way without losing any.

use std::io;

use crate::world::Disk;
use crate::world::Kind;

/// Where files go that Hand Loom did not make and that stood in an output's place.
pub const ASIDE: &str = ".handloom/aside";

/// Where outputs of failed recipes go; only the last of each is kept.
pub const FAILED: &str = ".handloom/failed";

/// Moves what stands at a path to [`ASIDE`], under a name that is free. Gives the new name.
///
/// # Errors
/// When it cannot be moved.
pub fn move_aside(disk: &dyn Disk, path: &str) -> io::Result<String> {
    let plain = path.trim_end_matches('/');
    let wanted = format!("{ASIDE}/{plain}");
    let mut free = wanted.clone();
    let mut number = 2;
    while disk.stat(&free)?.is_some() {
        free = format!("{wanted}.{number}");
        number += 1;
    }
    move_to(disk, plain, &free)?;
    Ok(free)
}

/// Moves what stands at a path to [`FAILED`], in the place of what was moved there before.
///
/// # Errors
/// When it cannot be moved.
pub fn move_failed(disk: &dyn Disk, path: &str) -> io::Result<String> {
    let plain = path.trim_end_matches('/');
    let to = format!("{FAILED}/{plain}");
    remove(disk, &to)?;
    move_to(disk, plain, &to)?;
    Ok(to)
}

fn move_to(disk: &dyn Disk, from: &str, to: &str) -> io::Result<()> {
    let folder = &to[..to.rfind('/').unwrap_or(0)];
    if let Err(error) = disk.create_folders(folder) {
        // A file from an earlier time may stand where a folder is needed now.
        clear_way(disk, folder).map_err(|_| error)?;
        disk.create_folders(folder)?;
    }
    disk.rename(from, to)
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
