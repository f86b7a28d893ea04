//! Taking away what was made: only files that are as they were left.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io;
use std::time::Duration;

use crate::content::Reader;
use crate::content::State;
use crate::content::survey;
use crate::ledger::Entry;
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
///
/// # Errors
/// The path that could not be looked at.
pub fn foresee_clean(
    environment: &RecordingEnvironment<'_>,
    steps: &[String],
    threads: usize,
) -> Result<CleanForecast, CleanError> {
    let mut foreseen = CleanForecast::default();
    let states = look_at_all(environment, steps, threads);
    let state = |path: &str| states.get(path).cloned().unwrap_or(State::Missing);
    for step in steps {
        let before = foreseen.paths.len();
        clean_step(environment, step, &mut foreseen.paths, &state, false)?;
        let removes = |cleaned: &Cleaned| matches!(cleaned, Cleaned::Removed(_));
        if foreseen.paths[before..].iter().any(removes) {
            let ledger = environment.ledger.borrow();
            let took = ledger.step(step).map(crate::ledger::StepView::took);
            foreseen.took += took.unwrap_or_default();
        }
    }
    Ok(foreseen)
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
    let buffer = RefCell::new(Vec::new());
    let state = |path: &str| look(environment, path, &mut buffer.borrow_mut());
    for step in steps {
        let all_gone = clean_step(environment, step, &mut cleaned, &state, true)?;
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

/// Whether all outputs of the step are gone. They are only removed `really` when that is said.
fn clean_step(
    environment: &RecordingEnvironment<'_>,
    step: &str,
    cleaned: &mut Vec<Cleaned>,
    state: &dyn Fn(&str) -> State,
    really: bool,
) -> Result<bool, CleanError> {
    let outputs: Vec<(String, bool, State)> = {
        let ledger = environment.ledger.borrow();
        let Some(record) = ledger.step(step) else {
            return Ok(false);
        };
        // Another step may have taken a path over since.
        let outputs = record
            .outputs()
            .filter(|output| ledger.maker(output.path) == Some(step));
        outputs
            .map(|output| {
                let state = state(output.path);
                (output.path.to_owned(), is_as_left(&output, &state), state)
            })
            .collect()
    };
    let mut all_gone = true;
    for (path, as_left, state) in outputs {
        match state {
            State::Missing => {}
            _ if as_left => {
                if really {
                    quarantine::remove(environment.disk, &path).map_err(|source| CleanError {
                        path: path.clone(),
                        source,
                    })?;
                }
                cleaned.push(Cleaned::Removed(path));
            }
            _ => {
                all_gone = false;
                cleaned.push(Cleaned::Edited(path));
            }
        }
    }
    Ok(all_gone)
}

/// What stands at the outputs of recorded steps.
fn look_at_all(
    environment: &RecordingEnvironment<'_>,
    steps: &[String],
    threads: usize,
) -> HashMap<String, State> {
    let ledger = environment.ledger.borrow();
    let steps = steps.iter().filter_map(|step| ledger.step(step));
    let mut paths: Vec<&str> = steps
        .flat_map(|step| step.outputs().map(|output| output.path))
        .collect();
    // Sorted by path they are found fastest.
    paths.sort_unstable();
    paths.dedup();
    let reader = Reader {
        disk: environment.disk,
        clock: environment.clock,
        records: &*ledger,
    };
    let looks = survey(&reader, &paths, threads);
    let states = looks.into_iter().map(|look| look.state);
    paths.into_iter().map(str::to_owned).zip(states).collect()
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
