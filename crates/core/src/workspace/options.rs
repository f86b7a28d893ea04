//! How a project is opened.

/// Whether a project is opened to run something in it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Access {
    /// Nothing is written.
    #[default]
    Read,
    /// The ledger may be written to, and what a killed run left behind is put in order first. The caller holds
    /// the project ([`ProjectLock`](crate::workspace::ProjectLock)).
    Run,
}

/// How to open a project.
#[derive(Clone, Debug, Default)]
pub struct OpenOptions {
    /// What for.
    pub access: Access,
    /// Variables and the words that they are set to.
    pub lets: Vec<(String, String)>,
    /// Names of commands, which tasks had better not have.
    pub commands: Vec<String>,
}
