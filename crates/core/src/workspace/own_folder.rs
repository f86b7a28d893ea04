//! The folder of Hand Loom's own files in a project: `.handloom`.

use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use crate::workspace::error::WorkspaceError;
use crate::world::own;

/// The folder of Hand Loom's own files, below the root.
pub const OWN: &str = ".handloom";

/// Makes the folder of Hand Loom's own files, which tells version control to ignore it.
///
/// # Errors
/// When something else stands there, or it can't be made.
pub fn make_own_folder(folder: &Path) -> Result<(), WorkspaceError> {
    let broken = |error| WorkspaceError::io(format!("can't use the folder `{OWN}`"), error);
    if folder.symlink_metadata().is_ok_and(|found| !found.is_dir()) {
        return Err(WorkspaceError::InTheWay(format!(
            "`{OWN}` is no folder, or only a link to one: nothing is written through it; remove it, or make it a folder"
        )));
    }
    own::create_folder(folder).map_err(broken)?;
    let rights = folder.metadata().map_err(broken)?.permissions().mode() & 0o777;
    if rights != own::FOLDER_MODE {
        close_to_others(folder);
    }
    for name in ["jobs", "logs", "runs", "aside", "failed", "set-by"] {
        set_aside_unless_folder(folder, name).map_err(broken)?;
    }
    own::create_folder(&folder.join("jobs")).map_err(broken)?;
    let ignore = folder.join(".gitignore");
    if ignore.symlink_metadata().is_err() {
        let options = &mut own::options();
        let mut file = own::open(&ignore, options.write(true).create_new(true)).map_err(broken)?;
        std::io::Write::write_all(&mut file, b"*\n").map_err(broken)?;
    }
    Ok(())
}

/// What is not a folder, where one of ours is to be, gets another name.
fn set_aside_unless_folder(own: &Path, name: &str) -> std::io::Result<()> {
    let path = own.join(name);
    if !path.symlink_metadata().is_ok_and(|found| !found.is_dir()) {
        return Ok(());
    }
    let free = (1..)
        .map(|number| own.join(format!("{name}.not-ours-{number}")))
        .find(|free| free.symlink_metadata().is_err());
    std::fs::rename(&path, free.unwrap_or_default())
}

/// Takes the rights of others away from what earlier versions made. What is kept of the user's files stays as
/// it is: nobody gets at it through a folder that is closed.
fn close_to_others(own: &Path) {
    fn close(folder: &Path, files: bool) {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            let Ok(kind) = entry.file_type() else {
                continue;
            };
            let path = entry.path();
            if kind.is_dir() && files {
                close(
                    &path,
                    !path.ends_with("aside")
                        && !path.ends_with("failed")
                        && !path.ends_with("set-by"),
                );
            } else if kind.is_file() && files {
                // What can't be changed belongs to another, who is asked for elsewhere.
                let _ = std::fs::set_permissions(&path, Permissions::from_mode(own::FILE_MODE));
            }
        }
        let _ = std::fs::set_permissions(folder, Permissions::from_mode(own::FOLDER_MODE));
    }
    close(own, true);
}
