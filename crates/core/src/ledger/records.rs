//! What is remembered, as plain data.

use serde::Deserialize;
use serde::Serialize;

use crate::content::Record;
use crate::world::Digest;

/// A path with the content that a step saw there, or made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Edge {
    /// From the project's root.
    pub path: String,
    /// The content; none when nothing was there (a learned absence).
    pub digest: Option<Digest>,
    /// The number of its group; with [`LEGACY`] when the digest is of the kind that ledgers before
    /// version 02 recorded.
    pub group: u16,
}

/// The group of a learned edge is made of these: the path was looked up in vain.
pub const LOOKED_IN_VAIN: u16 = 1;
/// The step was watched because the run or the project's settings said so, and not its own description.
pub const WATCHED_BY_RUN: u16 = 2;

/// Set in the group of an edge whose digest leaves out whether a file may be run, and what links say.
pub const LEGACY: u16 = 1 << 15;

/// An input that is no file, with its value.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Given {
    /// What it is: `env NAME` or `output COMMAND`.
    pub key: String,
    /// Its value; none when an environment variable was not set.
    pub value: Option<String>,
}

/// What a step saw and made when it last ran to its end.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepRecord {
    /// Its name: the first output, or a [`task_key`].
    pub name: String,
    /// The recipe as compared.
    pub recipe_text: String,
    /// The values of its holes, as text.
    pub parameters: String,
    /// What it made.
    pub outputs: Vec<Edge>,
    /// The prerequisites as it saw them.
    pub needs: Vec<Edge>,
    /// What it found out itself.
    pub learned: Vec<Edge>,
    /// Inputs that are no files.
    pub givens: Vec<Given>,
    /// Why it ran, one reason a line: its name, and what it speaks of.
    pub reasons: String,
    /// When it ended, nanoseconds since 1970.
    pub ended_at: i64,
    /// How long it took, nanoseconds.
    pub took: u64,
    /// The largest amount of memory any of its processes held, bytes.
    pub memory: u64,
    /// Processor time of all its processes, nanoseconds.
    pub processor: u64,
}

/// One thing that happened, as the journal keeps it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Entry {
    /// A file was read.
    File(String, Record),
    /// A step began.
    Began(String),
    /// A step ended.
    Ended(Box<StepRecord>),
    /// A step's outputs were taken away; nothing is known of it any more.
    Forgotten(String),
    /// A command was asked.
    Command(String, String),
    /// A folder was made; its path ends without a slash.
    Folder(String),
    /// A folder that was made is gone.
    FolderGone(String),
    /// A step that was about to begin did not, and its outputs are as they were.
    NotBegun(String),
    /// A step begins, and its outputs' places are cleared for it.
    Beginning(Box<Beginning>),
    /// A step that began has ended badly, and in which way. Its old outputs, where it had any, are as they
    /// were.
    EndedBadly(String, BadEnd),
    /// All that a kept project's request reaches is up to date; the seal of that project's front.
    UpToDate([u8; 32]),
}

/// How a step came to a bad end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum BadEnd {
    /// Its recipe failed.
    Failed,
    /// It was interrupted, or its run was killed.
    CutShort,
}

/// A step that begins.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Beginning {
    /// Its name.
    pub step: String,
    /// What it is to make.
    pub outputs: Vec<String>,
    /// Those of its old outputs that are set by for as long as it runs.
    pub set_by: Vec<String>,
}

impl Beginning {
    /// Stands first among the outputs of a step that goes on from what it finds: whoever puts in order what a killed
    /// run left leaves them in place.
    pub const STAYS: &str = "\0stays";
}

/// The name that a task is recorded under; no path begins so.
#[must_use]
pub fn task_key(name: &str) -> String {
    format!("\0task {name}")
}
