//! Whose files are taken.
//!
//! A description is a program. One that belongs to another user, in a folder that all may write to or in a
//! folder above, must not be run by accident. Taken are files of the user's own, of root, of whoever owns the
//! folder that one stands in (a container works as root on somebody's checkout), and what the settings trust.

use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::path::PathBuf;

use crate::workspace::error::WorkspaceError;
use crate::workspace::settings::Settings;
use crate::workspace::user::UserFolders;

/// Who owns what may be taken.
pub struct Trust {
    own: u32,
    /// The owner of the folder that one stands in.
    here: Option<u32>,
    folders: Vec<String>,
    /// Where more of them can be named.
    settings: Option<PathBuf>,
}

impl Trust {
    /// Trust for whoever stands in a folder.
    #[must_use]
    pub fn new(start: &Path, settings: &Settings, user: &UserFolders) -> Self {
        Self {
            own: rustix::process::geteuid().as_raw(),
            here: std::fs::metadata(start).ok().map(|folder| folder.uid()),
            folders: settings.trust.clone(),
            settings: user.settings(),
        }
    }

    /// Whether a file or folder is taken; links are followed, and belong to two.
    #[must_use]
    pub fn takes(&self, path: &Path) -> bool {
        let trusted = self
            .folders
            .iter()
            .any(|folder| folder == "*" || path.starts_with(folder));
        let owners = [std::fs::metadata(path), std::fs::symlink_metadata(path)];
        trusted
            || owners
                .iter()
                .flatten()
                .all(|found| self.trusts(found.uid()))
    }

    fn trusts(&self, owner: u32) -> bool {
        owner == self.own || owner == 0 || self.here == Some(owner)
    }

    /// Refuses what is not taken.
    ///
    /// # Errors
    /// Whose it is, and what to do.
    pub fn check(&self, path: &Path) -> Result<(), WorkspaceError> {
        if self.takes(path) {
            return Ok(());
        }
        let owner = std::fs::metadata(path).map_or(0, |found| found.uid());
        let folder = path.parent().unwrap_or(path);
        Err(WorkspaceError::usage(
            format!(
                "`{}` belongs to {}, and is not taken",
                path.display(),
                name_of(owner)
            ),
            format!(
                "look at it first; if you trust it, write `trust = [\"{}\"]` into {}",
                folder.display(),
                self.settings.as_ref().map_or_else(
                    || "your settings".to_owned(),
                    |path| format!("`{}`", path.display())
                )
            ),
        ))
    }
}

/// A user's name, or the number.
fn name_of(user: u32) -> String {
    let text = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let name = text.lines().find_map(|line| {
        let mut fields = line.split(':');
        let name = fields.next()?;
        (fields.nth(1)?.parse() == Ok(user)).then(|| format!("the user `{name}`"))
    });
    name.unwrap_or_else(|| format!("the user with number {user}"))
}
