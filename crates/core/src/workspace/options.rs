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
#[derive(Clone, Debug)]
pub struct OpenOptions {
    /// What for.
    pub access: Access,
    /// Variables and the words that they are set to.
    pub lets: Vec<(String, String)>,
    /// Whether it is only the user's own tasks that are wanted, also where there is no project.
    pub personal: bool,
    /// Gives the names of commands, which tasks had better not have. They are only wanted of a description that is
    /// read.
    pub commands: fn() -> Vec<String>,
}

impl Default for OpenOptions {
    fn default() -> Self {
        Self {
            access: Access::default(),
            lets: Vec::new(),
            personal: false,
            commands: Vec::new,
        }
    }
}
