//! How a recipe came to its end.

use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;

/// How a recipe came to its end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Exit {
    /// With this status.
    Status(i32),
    /// By this signal.
    Signal(i32),
    /// It ran longer than its `limit`.
    TimedOut(Duration),
    /// By the system, for want of memory.
    OutOfMemory,
    /// It could not be started.
    NotStarted(String),
    /// It could not be started, since the system had too little left of something: no fault of the recipe.
    NoRoom(String),
    /// It was to go on running for others, and was not ready in time or ended too early.
    DidNotStay(String),
    /// Where it ran was lost before it ended.
    Lost {
        /// Why, in words.
        why: String,
        /// Whether the job may have brought it about.
        is_suspect: bool,
    },
    /// What it reads or writes is not the same on its node and here, and why.
    Unseen(String),
    /// It was ended, since it waited for a terminal that it does not have.
    ReadsTerminal,
}

impl Exit {
    /// As a shell gives it: 128 and the signal's number, 127 when it could not be started, 124 for
    /// a time limit.
    #[must_use]
    pub fn code(&self) -> i32 {
        match self {
            Self::Status(status) => *status,
            Self::Signal(signal) => 128 + signal,
            Self::OutOfMemory => 137,
            Self::TimedOut(_) => 124,
            Self::NotStarted(_)
            | Self::NoRoom(_)
            | Self::DidNotStay(_)
            | Self::Lost { .. }
            | Self::Unseen(_) => 127,
            Self::ReadsTerminal => 125,
        }
    }

    /// In a few words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::Status(status) => format!("exit status {status}"),
            Self::Signal(signal) => format!("signal {signal}"),
            Self::TimedOut(limit) => format!("longer than {} s", limit.as_secs()),
            Self::OutOfMemory => "out of memory".to_owned(),
            Self::NotStarted(_) | Self::NoRoom(_) => "not started".to_owned(),
            Self::DidNotStay(why) | Self::Lost { why, .. } | Self::Unseen(why) => why.clone(),
            Self::ReadsTerminal => "reads the terminal".to_owned(),
        }
    }
}
