//! Moving files out of the way, and back, without losing any.
//!
//! Nothing here replaces what stands at a path: a name in [`ASIDE`] or [`FAILED`] is used once, also when
//! what stands there is a link to nothing. Links are moved as links.

use std::io;

use crate::world::Disk;
use crate::world::FileKind;
use crate::world::names::parent;

/// Where files go that Hand Loom did not make and that stood in an output's place.
pub const ASIDE: &str = ".handloom/aside";

/// Where outputs of failed recipes go.
pub const FAILED: &str = ".handloom/failed";

/// Where old outputs are while a recipe runs that makes them anew, each below its own path.
pub const SET_BY: &str = ".handloom/set-by";

/// The path without a slash at its end.
fn plain(path: &str) -> &str {
    path.trim_end_matches('/')
}

/// Where an output is set by.
#[must_use]
pub fn set_by_path(path: &str) -> String {
    format!("{SET_BY}/{}", plain(path))
}

/// Moves what stands at a path to [`ASIDE`], under a name that is free. Gives the new name; none when
/// nothing stands there any more.
///
/// # Errors
/// When it cannot be moved.
pub fn move_aside(disk: &dyn Disk, path: &str) -> io::Result<Option<String>> {
    move_below(disk, ASIDE, path)
}

/// Moves what stands at a path to [`FAILED`], under a name that is free. Gives the new name; none when
/// nothing stands there any more.
///
/// # Errors
/// When it cannot be moved.
pub fn move_failed(disk: &dyn Disk, path: &str) -> io::Result<Option<String>> {
    move_below(disk, FAILED, path)
}

fn move_below(disk: &dyn Disk, place: &str, path: &str) -> io::Result<Option<String>> {
    let to = free_name(disk, &format!("{place}/{}", plain(path)))?;
    Ok(transfer(disk, plain(path), &to)?.then_some(to))
}

/// The name itself, or with a number behind it, such that nothing stands there.
fn free_name(disk: &dyn Disk, wanted: &str) -> io::Result<String> {
    let mut free = wanted.to_owned();
    let mut number = 2;
    while !disk.is_free(&free)? {
        free = format!("{wanted}.{number}");
        number += 1;
    }
    Ok(free)
}

/// Moves a file, a link or a folder to a place of Hand Loom's own that is free; whether there was anything
/// to move.
///
/// # Errors
/// When it cannot be moved; it then stands where it stood.
pub fn transfer(disk: &dyn Disk, from: &str, to: &str) -> io::Result<bool> {
    make_folder(disk, parent(to))?;
    rename(disk, from, to)
}

/// Moves what is set by back to its place, which is free.
///
/// # Errors
/// When it cannot be moved.
pub fn put_back(disk: &dyn Disk, path: &str) -> io::Result<bool> {
    let plain = plain(path);
    if let Some(at) = plain.rfind('/') {
        disk.create_folders(&plain[..at])?;
    }
    rename(disk, &set_by_path(path), plain)
}

/// Whether there was anything to rename.
fn rename(disk: &dyn Disk, from: &str, to: &str) -> io::Result<bool> {
    match disk.rename(from, to) {
        Ok(()) => Ok(true),
        // Somebody else took it away since it was looked at.
        Err(_) if disk.is_free(from)? => Ok(false),
        // Another file system, or a folder that may not be written to: its `..` is part of it.
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::CrossesDevices | io::ErrorKind::PermissionDenied
            ) =>
        {
            move_by_copy(disk, from, to).map_err(|_| error)?;
            Ok(true)
        }
        Err(error) => Err(error),
    }
}

fn move_by_copy(disk: &dyn Disk, from: &str, to: &str) -> io::Result<()> {
    let beside = free_name(disk, &format!("{to}.part"))?;
    let copied = disk
        .copy(from, &beside)
        .and_then(|()| disk.rename(&beside, to));
    if copied.is_err() {
        let _ = remove(disk, &beside);
        return copied;
    }
    let removed = remove(disk, from);
    if removed.is_err() && !disk.is_free(from)? {
        // It must not stand in both places.
        let _ = remove(disk, to);
    }
    removed
}

/// Makes a folder of Hand Loom's own, one by one; what is no folder, or only a link to one, makes way.
fn make_folder(disk: &dyn Disk, folder: &str) -> io::Result<()> {
    let is_folder = |path: &str| {
        let found = disk.stat(path)?;
        io::Result::Ok(found.is_some_and(|stat| stat.kind == FileKind::Folder && !stat.link))
    };
    let ends = folder.match_indices('/').map(|(at, _)| at);
    for end in ends.chain([folder.len()]) {
        let part = &folder[..end];
        if !is_folder(part)? && !disk.is_free(part)? {
            disk.rename(part, &free_name(disk, &format!("{part}.2"))?)?;
        }
    }
    if is_folder(folder)? {
        return Ok(());
    }
    disk.create_folders(folder)
}

/// What stands in the way of a folder that an output is to lie in: the outermost part of its path that is
/// no folder.
///
/// # Errors
/// When that can't be told.
pub fn in_the_way<'f>(disk: &dyn Disk, folder: &'f str) -> io::Result<Option<&'f str>> {
    let ends = folder.match_indices('/').map(|(at, _)| at);
    for end in ends.chain([folder.len()]) {
        let part = &folder[..end];
        match disk.stat(part)? {
            Some(stat) if stat.kind == FileKind::Folder => {}
            Some(_) => return Ok(Some(part)),
            None => return Ok(None),
        }
    }
    Ok(None)
}

/// Removes whatever stands at a path; nothing there is fine.
///
/// # Errors
/// When it cannot be removed.
pub fn remove(disk: &dyn Disk, path: &str) -> io::Result<()> {
    let plain = plain(path);
    let removed = match disk.stat(plain)? {
        Some(stat) if stat.kind == FileKind::Folder && !stat.link => disk.remove_tree(plain),
        Some(_) => disk.remove_file(plain),
        None => Ok(()),
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

/// All files below a folder of Hand Loom's own, links as links, sorted; without its own path in front.
///
/// # Errors
/// When a folder can't be read.
pub fn files_below(disk: &dyn Disk, folder: &str) -> io::Result<Vec<String>> {
    let mut found = Vec::new();
    let mut open = vec![String::new()];
    while let Some(below) = open.pop() {
        let names = match disk.list(&format!("{folder}/{below}")) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            names => names?,
        };
        for entry in names {
            let path = format!("{below}{}", entry.name);
            if entry.kind == FileKind::Folder {
                open.push(format!("{path}/"));
            } else {
                found.push(path);
            }
        }
    }
    found.sort_unstable();
    Ok(found)
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

    #[test]
    fn links_are_moved_as_links_and_no_name_is_used_twice() {
        let folder = tempfile::tempdir().unwrap();
        let disk = RealDisk::open(folder.path()).unwrap();
        let link = |to: &str| std::os::unix::fs::symlink(to, folder.path().join("x")).unwrap();
        link("nowhere");
        assert_eq!(
            move_aside(&disk, "x").unwrap().unwrap(),
            ".handloom/aside/x"
        );
        link("nowhere else");
        assert_eq!(
            move_aside(&disk, "x").unwrap().unwrap(),
            ".handloom/aside/x.2"
        );
        std::fs::create_dir_all(folder.path().join("x/y")).unwrap();
        assert_eq!(
            move_aside(&disk, "x/").unwrap().unwrap(),
            ".handloom/aside/x.3"
        );
        assert_eq!(disk.read_link(".handloom/aside/x").unwrap(), "nowhere");
        assert_eq!(
            disk.read_link(".handloom/aside/x.2").unwrap(),
            "nowhere else"
        );
    }

    #[test]
    fn a_link_in_the_way_of_an_own_folder_is_not_followed() {
        let folder = tempfile::tempdir().unwrap();
        let elsewhere = tempfile::tempdir().unwrap();
        let disk = RealDisk::open(folder.path()).unwrap();
        std::fs::create_dir_all(folder.path().join(".handloom/aside")).unwrap();
        let link = folder.path().join(".handloom/aside/out");
        std::os::unix::fs::symlink(elsewhere.path(), link).unwrap();
        std::fs::create_dir(folder.path().join("out")).unwrap();
        std::fs::write(folder.path().join("out/x"), "1").unwrap();
        assert_eq!(
            move_aside(&disk, "out/x").unwrap().unwrap(),
            ".handloom/aside/out/x"
        );
        assert_eq!(std::fs::read_dir(elsewhere.path()).unwrap().count(), 0);
        assert_eq!(disk.read(".handloom/aside/out/x").unwrap(), b"1");
    }
}
