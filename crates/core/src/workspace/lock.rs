//! One run at a time in a project.

use std::fs::File;
use std::io::Read;
use std::io::Seek;
use std::io::Write;
use std::path::Path;

use rustix::fs::FlockOperation;

use crate::world::own;

use crate::workspace::error::WorkspaceError;

/// Holds the project until it is dropped.
#[derive(Debug)]
pub struct ProjectLock {
    file: File,
    /// Whose it is, in words.
    text: String,
    /// Whether nobody else had it since this process last had it.
    pub was_ours: bool,
}

impl ProjectLock {
    /// Takes the project. When another run has it, `waiting` is told whose it is, and this one waits;
    /// or it fails at once when `wait` is false.
    pub fn take(
        folder: &Path,
        command: &str,
        wait: bool,
        waiting: impl FnOnce(&str),
    ) -> Result<Self, WorkspaceError> {
        let path = folder.join("lock");
        let broken = |error| WorkspaceError::io(format!("can't use `{}`", path.display()), error);
        let options = &mut own::options();
        let options = options.read(true).write(true).create(true).truncate(false);
        let mut file = match own::open(&path, options) {
            Err(error) if own::is_refused(&error) => {
                // Nothing that a run could hold: it makes way.
                std::fs::remove_file(&path).map_err(broken)?;
                own::open(&path, options)
            }
            file => file,
        }
        .map_err(broken)?;
        if rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            let mut owner = String::new();
            // Who holds it is only a courtesy.
            let _ = file.read_to_string(&mut owner);
            // Whoever only looks does not sign: then it is not whose it was last.
            let owner = if is_alive(&owner) {
                owner.trim()
            } else {
                "another process"
            };
            if !wait {
                return Err(WorkspaceError::InTheWay(format!(
                    "another run works in this project: {owner}"
                )));
            }
            waiting(owner);
            rustix::fs::flock(&file, FlockOperation::LockExclusive)
                .map_err(|error| broken(error.into()))?;
        }
        Ok(Self {
            file,
            text: format!("process {}, `{command}`", std::process::id()),
            was_ours: false,
        })
    }

    /// Writes down whose it is, for those that wait for it, and for this process, which then finds out whether
    /// somebody else changed something meanwhile.
    #[must_use]
    pub fn signed(mut self) -> Self {
        let mut last = Vec::new();
        let (file, text) = (&mut self.file, &self.text);
        let mut write = || -> std::io::Result<()> {
            file.rewind()?;
            file.read_to_end(&mut last)?;
            if last.trim_ascii() == text.as_bytes() {
                return Ok(());
            }
            // A file that is cut short before it is written is written out when it is closed: what is longer is
            // written over with spaces.
            let line = format!("{text:width$}\n", width = last.len().saturating_sub(1));
            file.rewind()?;
            file.write_all(line.as_bytes())
        };
        // A full disk must not keep a run from looking whether anything has to be done. The file is
        // empty then, so that nobody takes it for their own.
        let _ = write();
        self.was_ours = last.trim_ascii() == self.text.as_bytes();
        self
    }

    /// Whether the last to sign it was this process.
    #[must_use]
    pub fn is_signed_by_us(folder: &Path) -> bool {
        let text = own::read(&folder.join("lock")).unwrap_or_default();
        text.starts_with(format!("process {}, ", std::process::id()).as_bytes())
    }
}

/// Whether the process that signed is still there.
fn is_alive(owner: &str) -> bool {
    let number = owner.trim().strip_prefix("process ").unwrap_or_default();
    let number = number.split(',').next().unwrap_or_default();
    number
        .parse::<u32>()
        .is_ok_and(|number| Path::new(&format!("/proc/{number}")).exists())
}
