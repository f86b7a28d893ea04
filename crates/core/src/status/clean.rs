//! Taking away what was made: only files that are as they were left.

use std::io;
use std::time::Duration;

use crate::content::Reader;
use crate::content::State;
use crate::content::survey;
use crate::ledger::EdgeView;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::ledger::StepView;
use crate::status::environment::RecordingEnvironment;
use crate::verdict::is_as_left;
use crate::world::quarantine;

/// What became of one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cleaned {
    /// A file or whole folder that was made is gone.
    Removed(String),
    /// A folder that was made and is empty is gone.
    FolderRemoved(String),
    /// It was edited since it was made, and stays.
    Edited(String),
}

/// What could not be taken away or looked at.
#[derive(Debug, thiserror::Error)]
#[error("can't clean `{path}`")]
pub struct CleanError {
    /// Which path.
    pub path: String,
    /// Why.
    pub source: io::Error,
}

impl CleanError {
    fn ledger(source: io::Error) -> Self {
        let path = "the ledger".to_owned();
        Self { path, source }
    }
}

/// What would be taken away.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CleanForecast {
    /// What would become of each path.
    pub paths: Vec<Cleaned>,
    /// How long the steps took together whose outputs would be removed.
    pub took: Duration,
}

/// What [`clean`] would do now, but for folders that would be empty then.
#[must_use]
pub fn foresee_clean(
    environment: &RecordingEnvironment<'_>,
    steps: &[String],
    threads: usize,
) -> CleanForecast {
    let ledger = environment.ledger.borrow();
    let mut foreseen = CleanForecast::default();
    // Of each output what it was, and where it stands among the paths that are looked at.
    let mut outputs: Vec<(EdgeView<'_>, StepView<'_>)> = Vec::new();
    for step in steps {
        if let Some(record) = ledger.step(step) {
            outputs.extend(own_outputs(&ledger, step, record).map(|output| (output, record)));
        }
    }
    // Sorted by path they are found fastest.
    let mut sorted: Vec<usize> = (0..outputs.len()).collect();
    sorted.sort_unstable_by_key(|&at| outputs[at].0.path);
    let paths: Vec<&str> = sorted.iter().map(|&at| outputs[at].0.path).collect();
    let reader = Reader {
        disk: environment.disk,
        clock: environment.clock,
        records: &*ledger,
    };
    let looks = survey(&reader, &paths, threads);
    let mut becomes: Vec<Option<Cleaned>> = vec![None; outputs.len()];
    for (at, look) in sorted.into_iter().zip(looks) {
        becomes[at] = becomes_of(&outputs[at].0, &look.state);
    }
    let mut counted: Option<StepView<'_>> = None;
    for ((_, step), becomes) in outputs.iter().zip(becomes) {
        let is_removed = matches!(becomes, Some(Cleaned::Removed(_)));
        if is_removed && counted.is_none_or(|counted| !counted.is(*step)) {
            foreseen.took += step.took();
            counted = Some(*step);
        }
        foreseen.paths.extend(becomes);
    }
    foreseen
}

/// What a step made and no other has made since.
fn own_outputs<'l>(
    ledger: &'l Ledger,
    step: &'l str,
    record: StepView<'l>,
) -> impl Iterator<Item = EdgeView<'l>> {
    let outputs = record.outputs();
    outputs.filter(move |output| ledger.maker(output.path) == Some(step))
}

/// What becomes of an output in whose place something stands; nothing of one that is gone.
fn becomes_of(output: &EdgeView<'_>, state: &State) -> Option<Cleaned> {
    let path = || output.path.to_owned();
    match state {
        State::Missing => None,
        state if is_as_left(output, state) => Some(Cleaned::Removed(path())),
        _ => Some(Cleaned::Edited(path())),
    }
}

/// Removes the outputs of recorded steps, as far as they are unchanged, then folders that were made
/// and are empty now. What is not there any more is only forgotten.
///
/// # Errors
/// The path that could not be removed, or that the ledger could not be written.
pub fn clean(
    environment: &RecordingEnvironment<'_>,
    steps: &[String],
) -> Result<Vec<Cleaned>, CleanError> {
    let mut cleaned = Vec::new();
    let mut buffer = Vec::new();
    for step in steps {
        let all_gone = clean_step(environment, step, &mut cleaned, &mut buffer)?;
        if all_gone {
            record(environment, Entry::Forgotten(step.clone()))?;
        }
    }
    let folders: Vec<String> = environment
        .ledger
        .borrow()
        .folders()
        .into_iter()
        .map(str::to_owned)
        .collect();
    for folder in folders.into_iter().rev() {
        if !matches!(environment.disk.stat(&folder), Ok(Some(_))) {
            record(environment, Entry::FolderGone(folder))?;
            continue;
        }
        let is_empty = environment
            .disk
            .list(&folder)
            .is_ok_and(|entries| entries.is_empty());
        if is_empty && environment.disk.remove_folder(&folder).is_ok() {
            record(environment, Entry::FolderGone(folder.clone()))?;
            cleaned.push(Cleaned::FolderRemoved(folder));
        }
    }
    let synced = environment.ledger.borrow_mut().sync();
    synced.map_err(CleanError::ledger)?;
    Ok(cleaned)
}

fn record(environment: &RecordingEnvironment<'_>, entry: Entry) -> Result<(), CleanError> {
    let added = environment.ledger.borrow_mut().add(entry);
    added.map_err(CleanError::ledger)
}

/// Removes the outputs of a step; whether all of them are gone.
fn clean_step(
    environment: &RecordingEnvironment<'_>,
    step: &str,
    cleaned: &mut Vec<Cleaned>,
    buffer: &mut Vec<u8>,
) -> Result<bool, CleanError> {
    let becomes: Vec<Cleaned> = {
        let ledger = environment.ledger.borrow();
        let Some(record) = ledger.step(step) else {
            return Ok(false);
        };
        own_outputs(&ledger, step, record)
            .filter_map(|output| becomes_of(&output, &look(environment, output.path, buffer)))
            .collect()
    };
    let mut all_gone = true;
    for becomes in becomes {
        match &becomes {
            Cleaned::Removed(path) => {
                quarantine::remove(environment.disk, path).map_err(|source| CleanError {
                    path: path.clone(),
                    source,
                })?;
            }
            Cleaned::Edited(_) | Cleaned::FolderRemoved(_) => all_gone = false,
        }
        cleaned.push(becomes);
    }
    Ok(all_gone)
}

fn look(environment: &RecordingEnvironment<'_>, path: &str, buffer: &mut Vec<u8>) -> State {
    let ledger = environment.ledger.borrow();
    let reader = Reader {
        disk: environment.disk,
        clock: environment.clock,
        records: &*ledger,
    };
    reader.look(path, buffer).state
}
