//! What has to be asked of a cluster's scheduler, whichever it is.

use std::collections::HashMap;

/// A submission, as the scheduler calls it.
pub type AllocationId = String;

/// What is asked for: one worker on one node.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Allocation {
    /// A name for the submission, by which it is found again.
    pub name: String,
    /// The script that runs there, for `/bin/sh`.
    pub script: String,
    /// Environment variables of the script; they stand on no command line.
    pub env: Vec<(String, String)>,
    /// Cores on one node.
    pub cores: u64,
    /// Memory of all of them, megabytes; what the scheduler gives without being asked, when not said.
    pub memory: Option<u64>,
    /// How long it may last, minutes.
    pub minutes: u64,
    /// Further words for the scheduler, as its own users write them.
    pub options: Vec<String>,
    /// Where what the script prints is written.
    pub output: String,
}

/// What has become of a submission.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AllocationState {
    /// It waits, and why, in the scheduler's words.
    Waiting(String),
    /// It waits for what will never be there, and why.
    Never(String),
    /// It runs.
    Running,
    /// It has ended, and how, in the scheduler's words.
    Ended(String),
}

/// Why something was not submitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SubmitError {
    /// The scheduler does not answer now; it may later.
    Away(String),
    /// It does not take this.
    Refused(String),
}

/// A cluster's scheduler.
pub trait BatchScheduler: Send + Sync {
    /// Its name, for messages.
    fn name(&self) -> &str;
    /// Submits one.
    ///
    /// # Errors
    /// What the scheduler says.
    fn submit(&self, allocation: &Allocation) -> Result<AllocationId, SubmitError>;
    /// What has become of all with this name. One that is not among them has ended a while ago.
    ///
    /// # Errors
    /// When the scheduler can't be asked.
    fn ask(&self, name: &str) -> Result<HashMap<AllocationId, AllocationState>, String>;
    /// What stands for a submission's number in the path of its output.
    fn id_in_paths(&self) -> &str;
    /// How the rest of that path is written so that nothing in it stands for something else; none when it can't be.
    fn literal_in_paths(&self, path: &str) -> Option<String> {
        Some(path.to_owned())
    }
    /// Ends one.
    ///
    /// # Errors
    /// When the scheduler can't be asked.
    fn cancel_one(&self, id: &AllocationId) -> Result<(), String>;
    /// Ends all with this name, whatever they do.
    ///
    /// # Errors
    /// When the scheduler can't be asked.
    fn cancel(&self, name: &str) -> Result<(), String>;
}
