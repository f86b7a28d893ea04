//! Asking the one that watches a project, instead of looking at its files.
//!
//! While `handloom watch` stands in a project, it knows without a look whether anything was changed: it is told of
//! each change. Others ask it over a socket, `.handloom/watching`. It answers only that nothing has to be done, or what
//! `why` and `list` say then, and only while it was told of nothing since it last knew so; whoever gets another answer, or none in time, does the
//! work alone. Both sides check that the other is of the same user, and the one that asks checks what the other
//! can't know: what its own environment holds.
//!
//! A question is answered behind all changes that were made before it: it makes a file in `.handloom/asked/`, of
//! which the watching one is told in turn.
//!
//! Question and answer are one line of JSON each.

mod client;
mod server;

use serde::Deserialize;
use serde::Serialize;

pub use client::ask;
pub use server::QueryServer;

/// The socket's name in the folder of Hand Loom's own files.
const SOCKET: &str = "watching";

/// The folder in which each question makes a file, in that of Hand Loom's own files.
pub const ASKED: &str = "asked";

/// A longer line is no question.
const LONGEST: u64 = 1 << 20;

/// A longer line is no answer: lists of very many targets are long.
const LONGEST_ANSWER: u64 = 1 << 28;

/// What is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum StandingWish {
    /// Whether nothing has to be done for what is named.
    Unchanged,
    /// What `why` says of the one file that is named, when it would be kept.
    Why {
        /// Why it ran the last time.
        last: bool,
        /// How it is written.
        style: TextStyle,
    },
    /// What `list` says.
    List {
        /// Every step.
        all: bool,
        /// How it is written.
        style: TextStyle,
    },
}

/// How a text is written that the one who asks will print.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TextStyle {
    /// As JSON.
    pub json: bool,
    /// With colours.
    pub colour: bool,
}

/// A question.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandingQuery {
    /// What is asked for.
    pub wish: StandingWish,
    /// The program that asks: another one may mean something else.
    pub build: String,
    /// What tells what is set from outside.
    pub outside: String,
    /// Names as typed.
    pub names: Vec<String>,
    /// The folder that they were typed in, from the root.
    pub folder: String,
}

/// What is answered.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum StandingAnswer {
    /// It has to be looked at.
    Alone,
    /// Nothing has to be done, where these environment variables hold what they do here.
    Unchanged {
        /// How many steps there are.
        kept: usize,
        /// Environment variables, each with a keyed digest of its value.
        environment: Vec<(String, Option<String>)>,
    },
    /// What is to be printed, under the same condition.
    Text {
        /// The text.
        text: String,
        /// As above.
        environment: Vec<(String, Option<String>)>,
    },
}
