//! How a file came about: back from it, through the steps that made it, to the sources, as the ledger recorded it when each
//! of them ran.
//!
//! Nothing here is worked out from what the description says now: that may have changed since. Only a recipe as it was run
//! is put together with its help, where the description still says what was recorded ([`recipe`]).

pub mod recipe;

mod compare;
mod trace;

pub use compare::Difference;
pub use compare::DifferenceKind;
pub use compare::differences;
pub use trace::trace;

use std::collections::BTreeMap;

use crate::ledger::Given;
use crate::ledger::RanIn;
use crate::ledger::RunCircumstances;
use crate::lineage::recipe::RecordedRecipe;
use crate::verdict::Reason;
use crate::verdict::ResultOrigin;
use crate::world::Digest;

/// How a file came about.
#[derive(Clone, Debug, Default)]
pub struct Lineage {
    /// The file, or whole folder, from the root.
    pub file: String,
    /// The steps that it came through, each behind those that it needs; the one that made the file comes last.
    pub steps: Vec<LineageStep>,
    /// The files that no step made, in the contents that were seen of them, by their paths.
    pub sources: Vec<FileVersion>,
    /// What is recorded of the runs that the steps ran in, by their numbers.
    pub runs: BTreeMap<u64, RunCircumstances>,
}

/// A file in one of its contents.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileVersion {
    /// From the root, or absolute outside of the project; a whole folder's ends with a slash.
    pub path: String,
    /// What it held; none when it was only seen that it was there.
    pub content: Option<Digest>,
}

/// A step when it last ran.
#[derive(Clone, Debug)]
pub struct LineageStep {
    /// Its name: its first output.
    pub name: String,
    /// What it made.
    pub outputs: Vec<FileVersion>,
    /// The prerequisites that it names, as it saw them.
    pub needs: Vec<LineageInput>,
    /// Files that it found out itself, as it saw them; those outside of the project are its tools, as far as it was watched.
    pub learned: Vec<LineageInput>,
    /// Other things that it looked at, by the paths of the ledger: folders that it listed or looked for, and what it looked
    /// for in vain.
    pub looks: Vec<OtherLook>,
    /// Inputs that are no files.
    pub givens: Vec<Given>,
    /// Its recipe.
    pub recipe: RecordedRecipe,
    /// The values that differ from step to step, as they are compared.
    pub parameters: Vec<(String, String)>,
    /// Why it ran.
    pub reasons: Vec<Reason>,
    /// How its outputs came to be there.
    pub how: HowMade,
    /// The run that it ran in, and where; none in records of before that was noted.
    pub ran_in: Option<RanIn>,
    /// When it ended, nanoseconds since 1970.
    pub ended_at: i64,
    /// How long it took, nanoseconds; of what was restored, when it was made.
    pub took: u64,
    /// The largest amount of memory any of its processes held, bytes.
    pub memory: u64,
    /// Processor time of all its processes, nanoseconds.
    pub processor: u64,
}

/// A file that a step was made from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineageInput {
    /// The file as the step saw it.
    pub file: FileVersion,
    /// Where it came from.
    pub from: InputOrigin,
}

/// Where an input came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InputOrigin {
    /// No step made it: the number of the source.
    Source(usize),
    /// This step made it as it was seen.
    Step(usize),
    /// This step made it, and has made something else of it since: how the content that was seen came about is not known.
    MadeAnewSince(usize),
}

/// Something that a step looked at, and that is no file's content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherLook {
    /// The path as the ledger has it ([`crate::content::LearnedPath`]).
    pub path: String,
    /// What was seen; none when nothing was there.
    pub content: Option<Digest>,
}

/// How what a step made came to be there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HowMade {
    /// Its recipe made it.
    Made,
    /// It was taken from a store of results.
    Restored(ResultOrigin),
    /// It was there, and taken as made at its user's word.
    Accepted,
}

impl Lineage {
    /// The step that made the file; none of what is a source itself.
    #[must_use]
    pub fn maker(&self) -> Option<&LineageStep> {
        self.steps.last()
    }

    /// The output that the file is, or the whole folder that it lies in.
    #[must_use]
    pub fn made(&self) -> Option<&FileVersion> {
        let outputs = &self.maker()?.outputs;
        let is_it = |made: &&FileVersion| {
            made.path == self.file
                || (made.path.ends_with('/') && self.file.starts_with(&made.path))
        };
        outputs.iter().find(is_it)
    }

    /// How far each step is from the file: 0 for the one that made it, and for each other one more than for the farthest that
    /// needs it.
    #[must_use]
    pub fn depths(&self) -> Vec<usize> {
        let mut depths = vec![0; self.steps.len()];
        for (number, step) in self.steps.iter().enumerate().rev() {
            for input in step.inputs() {
                if let InputOrigin::Step(from) | InputOrigin::MadeAnewSince(from) = input.from {
                    depths[from] = depths[from].max(depths[number] + 1);
                }
            }
        }
        depths
    }
}

impl LineageStep {
    /// Every file that it was made from.
    pub fn inputs(&self) -> impl Iterator<Item = &LineageInput> {
        self.needs.iter().chain(&self.learned)
    }
}
