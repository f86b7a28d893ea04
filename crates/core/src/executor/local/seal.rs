//! What a sealed job needs to run: its own folder, its rules, and its root.

use std::ffi::OsString;
use std::io;
use std::os::fd::AsFd;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::path::PathBuf;
use std::process::Command;

use crate::executor::local::outliving;
use crate::executor::local::watch::WatchError;
use crate::executor::sealing::Seal;
use crate::executor::sealing::SealPlaces;
use crate::executor::sealing::SealPolicy;
use crate::executor::sealing::new_root;
use crate::executor::sealing::ruleset::ruleset;
use crate::executor::watching::Gap;
use crate::executor::watching::kernel;
use crate::executor::watching::kernel::Preparation;
use crate::executor::watching::kernel::SpawnSeal;
use crate::world::own;

/// The seal of one job, ready to be put over it.
pub struct JobSeal {
    /// What it may do.
    pub policy: SealPolicy,
    ruleset: OwnedFd,
    /// What is done before; nothing when it is not sealed strictly.
    pub preparations: Vec<Preparation>,
    /// The job's own folder, which is taken away behind it.
    own: PathBuf,
}

/// Where a sealed job of one slot finds what it needs.
pub struct SealFolders<'s> {
    /// The project's folder, without links in it.
    pub root: &'s Path,
    /// The folder for manifests and scripts.
    pub scratch: &'s Path,
    /// The name of what belongs to the job's slot.
    pub slot: String,
    /// What may be read besides, outside of the project.
    pub outside: &'s [String],
}

impl JobSeal {
    /// Makes a job's own folder and its rules, and tells its command of the folder.
    pub fn new(
        seal: &Seal,
        folders: &SealFolders<'_>,
        command: &mut Command,
    ) -> Result<Self, WatchError> {
        let scratch = std::fs::canonicalize(folders.scratch)?;
        let own = own_folder(&scratch, &folders.slot)?;
        let home = own.join(HOME);
        let empty = own.join("root");
        command.env("HOME", &home).env("TMPDIR", &own);
        let path = path_of(command);
        let policy = SealPolicy::new(
            seal,
            SealPlaces {
                root: folders.root,
                own: own.clone(),
                scratch,
                path: &path,
                outside: folders.outside,
            },
        );
        let preparations = if seal.strictly {
            own::create_folder(&empty)?;
            let user = (
                rustix::process::geteuid().as_raw(),
                rustix::process::getegid().as_raw(),
            );
            new_root::preparations(&policy, &empty, user)
        } else {
            Vec::new()
        };
        Ok(Self {
            ruleset: ruleset(&policy).map_err(WatchError::Impossible)?,
            policy,
            preparations,
            own,
        })
    }

    /// What this system can't refuse.
    pub fn gap(&self) -> Option<Gap> {
        /// The first version of Landlock that knows of the network.
        const WITH_NETWORK: i64 = 4;
        let is_open = self.preparations.is_empty() && kernel::landlock_version() < WITH_NETWORK;
        is_open.then_some(Gap::Network)
    }

    /// What is handed to whoever begins the job.
    pub fn spawn(&self) -> SpawnSeal<'_> {
        SpawnSeal {
            ruleset: self.ruleset.as_fd(),
            preparations: self.preparations.clone(),
        }
    }
}

impl Drop for JobSeal {
    fn drop(&mut self) {
        // What stays is taken away by the next job of this slot.
        let _ = emptied(&self.own);
    }
}

/// The home of a job, in its own folder.
const HOME: &str = "home";

/// How the own folder of a slot's jobs is called, behind the slot's number.
const OWN: &str = ".own";

/// Takes the own folders of all slots away, when no job runs any more.
pub fn remove_own_folders(scratch: &Path) {
    for entry in std::fs::read_dir(scratch).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let name = name.to_string_lossy();
        let is_own = name.contains(OWN) && !outliving::is_one(&name);
        if is_own && entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            // What does not let itself be taken away is in nobody's way.
            let _ = remove(&entry.path());
        }
    }
}

/// Makes a job's own folder with an empty home, and nothing else, whatever is there. Folders stay where they can: some
/// file systems take long to use again what was just freed.
fn emptied(own: &Path) -> io::Result<()> {
    // A link that a recipe put there leads to somebody else's files.
    match std::fs::symlink_metadata(own) {
        Ok(found) if found.is_dir() => {}
        Ok(_) => {
            std::fs::remove_file(own)?;
            own::create_folder(own)?;
        }
        Err(_) => own::create_folder(own)?,
    }
    for entry in std::fs::read_dir(own)? {
        let entry = entry?;
        let is_folder = entry.file_type()?.is_dir();
        match (is_folder, entry.file_name() == HOME) {
            (true, true) => {
                let is_empty = std::fs::read_dir(entry.path())?.next().is_none();
                if !is_empty {
                    remove(&entry.path())?;
                }
            }
            (true, false) => remove(&entry.path())?,
            (false, _) => std::fs::remove_file(entry.path())?,
        }
    }
    let home = own.join(HOME);
    if home.is_dir() {
        Ok(())
    } else {
        own::create_folder(&home)
    }
}

/// A new folder for one job. What an earlier one left there may not let itself be taken away: then it gets another
/// name.
fn own_folder(scratch: &Path, slot: &str) -> io::Result<PathBuf> {
    const MOST: usize = 1000;
    let mut failed = io::Error::from(io::ErrorKind::AlreadyExists);
    for number in 0..MOST {
        let name = match number {
            0 => format!("{slot}{OWN}"),
            number => format!("{slot}{OWN}{number}"),
        };
        let folder = scratch.join(name);
        match emptied(&folder) {
            Ok(()) => return Ok(folder),
            Err(error) => failed = error,
        }
    }
    Err(failed)
}

fn remove(folder: &Path) -> io::Result<()> {
    match std::fs::remove_dir_all(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        removed => removed,
    }
}

/// Where a command's programs are looked for.
fn path_of(command: &Command) -> OsString {
    let set = command.get_envs().find(|(name, _)| *name == "PATH");
    match set {
        Some((_, value)) => value.unwrap_or_default().to_owned(),
        None => std::env::var_os("PATH").unwrap_or_default(),
    }
}
