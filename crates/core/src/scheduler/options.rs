//! How to run, and why it could not be done.

use std::io;

use serde::Deserialize;

use crate::executor::watching::WatchReach;
use crate::text::Diagnostic;
use crate::world::ByteSize;

/// What becomes of independent steps when one fails.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OnFailure {
    /// Nothing new begins.
    #[default]
    Stop,
    /// What does not depend on it goes on.
    Continue,
}

impl OnFailure {
    /// All of them.
    pub const ALL: [Self; 2] = [Self::Stop, Self::Continue];

    /// As it is written in settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Stop => "stop",
            Self::Continue => "continue",
        }
    }
}

/// What becomes of a step's old outputs while its recipe runs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OldOutputs {
    /// They are set by, and put back when the recipe fails.
    #[default]
    SetBy,
    /// They are removed before: there is no room for both.
    Remove,
}

/// How recipes run that do not say it themselves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RecipeMode {
    /// Neither watched nor sealed.
    #[default]
    Plain,
    /// All targets' are watched for what they read.
    Watched,
    /// All are sealed.
    Sealed,
    /// All are sealed strictly.
    #[serde(rename = "sealed strictly")]
    SealedStrictly,
}

impl RecipeMode {
    /// All of them.
    pub const ALL: [Self; 4] = [
        Self::Plain,
        Self::Watched,
        Self::Sealed,
        Self::SealedStrictly,
    ];

    /// As it is written in settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Watched => "watched",
            Self::Sealed => "sealed",
            Self::SealedStrictly => "sealed strictly",
        }
    }
}

/// Whether a step is watched, and how far.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WatchPlan {
    /// Files outside of the project count too.
    pub everywhere: bool,
    /// The run or the project's settings say so, and not the step's own description.
    pub by_run: bool,
}

impl WatchPlan {
    /// How far it reaches.
    #[must_use]
    pub fn reach(self) -> WatchReach {
        if self.everywhere {
            WatchReach::Everywhere
        } else {
            WatchReach::Project
        }
    }
}

/// How to run.
#[derive(Clone, Debug)]
pub struct BuildOptions {
    /// Jobs that may run at once.
    pub jobs: usize,
    /// Threads that look at files.
    pub threads: usize,
    /// What a failure means for the rest.
    pub on_failure: OnFailure,
    /// Run the named steps, reason or not.
    pub again: bool,
    /// Run each step that runs again, and compare.
    pub twice: bool,
    /// Memory that jobs may use together.
    pub memory: ByteSize,
    /// Where else jobs can run, for those that name a place.
    pub places: Vec<PlaceSupply>,
    /// Whether they do.
    pub placing: Placing,
    /// Tell what jobs print as it comes.
    pub live: bool,
    /// What becomes of old outputs meanwhile.
    pub old_outputs: OldOutputs,
    /// How recipes run that do not say it themselves.
    pub recipes: RecipeMode,
    /// The number of this run, under which logs are written; none for no logs.
    pub run: Option<u64>,
}

/// Where jobs run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Placing {
    /// Where the description says.
    #[default]
    AsDescribed,
    /// All on this machine, whatever they name.
    AllHere,
    /// All at one other place, whatever they name: it is what `jobs` and `memory` are of.
    AllElsewhere,
}

/// How much a place has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaceSupply {
    /// Its name, as `on` has it.
    pub name: String,
    /// Cores of all its workers.
    pub cores: usize,
    /// Memory of all its workers.
    pub memory: ByteSize,
}

impl Default for BuildOptions {
    /// One job at a time, without logs.
    fn default() -> Self {
        Self {
            jobs: 1,
            threads: 1,
            on_failure: OnFailure::default(),
            again: false,
            twice: false,
            memory: ByteSize::UNLIMITED,
            places: Vec::new(),
            placing: Placing::default(),
            live: false,
            old_outputs: OldOutputs::default(),
            recipes: RecipeMode::default(),
            run: None,
        }
    }
}

/// Why a build could not be carried out. A recipe that fails is no such error: the summary counts it.
#[derive(Debug, thiserror::Error)]
pub enum BuildError {
    /// The description or the names are wrong.
    #[error("the description is wrong")]
    Description(Vec<Diagnostic>),
    /// The ledger or the disk failed.
    #[error("{what}")]
    Io {
        /// What could not be done.
        what: String,
        /// Why.
        source: io::Error,
    },
}

impl BuildError {
    /// The disk or the ledger failed at something.
    pub fn io(what: impl Into<String>, source: io::Error) -> Self {
        let what = what.into();
        Self::Io { what, source }
    }

    /// What is wrong was reported to the variables.
    #[must_use]
    pub fn reported() -> Self {
        Self::Description(Vec::new())
    }
}
