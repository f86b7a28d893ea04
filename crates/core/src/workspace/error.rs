//! Why a project could not be opened.

use std::io;

use crate::text::Diagnostic;
use crate::text::Sources;

/// Why a project could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum WorkspaceError {
    /// The description is wrong.
    #[error("the description is wrong")]
    Description(Box<Sources>, Vec<Diagnostic>),
    /// Something that was said to the program is wrong, or not to be done: what, and what to do instead.
    #[error("{what}")]
    Usage {
        /// What is wrong.
        what: String,
        /// What to do.
        help: String,
    },
    /// Something stands in the way: what.
    #[error("{0}")]
    InTheWay(String),
    /// The disk or the system failed.
    #[error("{what}")]
    Io {
        /// What could not be done.
        what: String,
        /// Why.
        source: io::Error,
    },
}

impl WorkspaceError {
    /// The disk or the system failed at something.
    pub fn io(what: impl Into<String>, source: io::Error) -> Self {
        let what = what.into();
        Self::Io { what, source }
    }

    /// Something is wrong; what to do.
    pub fn usage(what: impl Into<String>, help: impl Into<String>) -> Self {
        let (what, help) = (what.into(), help.into());
        Self::Usage { what, help }
    }
}
