//! Everything that ends a command early, and its exit status.

use std::io;
use std::process::ExitCode;

use handloom_core::text::Diagnostic;
use handloom_core::text::Sources;
use handloom_core::workspace::WorkspaceError;

/// Done.
pub const DONE: u8 = 0;
/// A recipe failed.
pub const RECIPE: u8 = 1;
/// The description or the command line is wrong.
pub const DESCRIPTION: u8 = 2;
/// Hand Loom itself could not go on.
pub const BROKEN: u8 = 3;
/// Interrupted.
pub const INTERRUPTED: u8 = 130;

/// Why a command ended early.
#[derive(Debug)]
pub enum CommandError {
    /// The description is wrong.
    Description(Box<Sources>, Vec<Diagnostic>),
    /// What was typed is wrong: what, and what to do.
    Usage(String, Option<String>),
    /// The disk, the ledger or the system failed.
    Broken(String, Option<io::Error>),
    /// Nobody reads what is printed any more.
    OutputClosed,
}

impl CommandError {
    /// The exit status.
    pub fn code(&self) -> ExitCode {
        ExitCode::from(match self {
            Self::Description(..) | Self::Usage(..) => DESCRIPTION,
            Self::Broken(..) => BROKEN,
            Self::OutputClosed => DONE,
        })
    }

    /// A failure of the disk or the system.
    pub fn io(what: impl Into<String>, error: io::Error) -> Self {
        if error.kind() == io::ErrorKind::BrokenPipe {
            return Self::OutputClosed;
        }
        Self::Broken(what.into(), Some(error))
    }

    /// Something typed that is wrong.
    pub fn usage(what: impl Into<String>, help: impl Into<String>) -> Self {
        Self::Usage(what.into(), Some(help.into()))
    }
}

impl From<io::Error> for CommandError {
    fn from(error: io::Error) -> Self {
        Self::io("can't print", error)
    }
}

impl From<WorkspaceError> for CommandError {
    fn from(error: WorkspaceError) -> Self {
        match error {
            WorkspaceError::Description(sources, wrong) => Self::Description(sources, wrong),
            WorkspaceError::Usage { what, help } => Self::Usage(what, Some(help)),
            WorkspaceError::InTheWay(what) => Self::Broken(what, None),
            WorkspaceError::Io { what, source } => Self::io(what, source),
        }
    }
}
