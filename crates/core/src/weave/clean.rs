//! Taking away what was made: only files that are as they were left.

use std::io;

use crate::content::Reader;
use crate::content::State;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::weave::around::Around;
use crate::weave::keep;

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

/// Removes the outputs of recorded steps, as far as they are unchanged, then folders that were made
/// and are empty now. What is not there any more is only forgotten.
///
/// # Errors
/// The path that could not be removed, or that the ledger could not be written.
pub fn clean(around: &Around<'_>, steps: &[String]) -> Result<Vec<Cleaned>, (String, io::Error)> {
    let mut cleaned = Vec::new();
    for step in steps {
        let all_gone = clean_step(around, step, &mut cleaned)?;
        if all_gone {
            record(around, Entry::Forgotten(step.clone()))?;
        }
    }
    let folders: Vec<String> = around
        .ledger
        .borrow()
        .folders()
        .into_iter()
        .map(str::to_owned)
        .collect();
    for folder in folders.into_iter().rev() {
        if !matches!(around.disk.stat(&folder), Ok(Some(_))) {
            record(around, Entry::FolderGone(folder))?;
            continue;
        }
        let is_empty = around
            .disk
            .list(&folder)
            .is_ok_and(|entries| entries.is_empty());
        if is_empty && around.disk.remove_folder(&folder).is_ok() {
            record(around, Entry::FolderGone(folder.clone()))?;
            cleaned.push(Cleaned::FolderRemoved(folder));
        }
    }
    let synced = around.ledger.borrow_mut().sync();
    synced.map_err(|error| ("the ledger".to_owned(), error))?;
    Ok(cleaned)
}

fn record(around: &Around<'_>, entry: Entry) -> Result<(), (String, io::Error)> {
    let added = around.ledger.borrow_mut().add(entry);
    added.map_err(|error| ("the ledger".to_owned(), error))
}

/// Whether all outputs of the step are gone.
fn clean_step(
    around: &Around<'_>,
    step: &str,
    cleaned: &mut Vec<Cleaned>,
) -> Result<bool, (String, io::Error)> {
    let outputs: Vec<(String, Option<crate::world::Digest>)> =
        match around.ledger.borrow().step(step) {
            Some(record) => record
                .outputs()
                .map(|output| (output.path.to_owned(), output.digest))
                .collect(),
            None => return Ok(false),
        };
    let mut all_gone = true;
    for (path, digest) in outputs {
        // Another step may have taken the path over since.
        if around.ledger.borrow().maker(&path) != Some(step) {
            continue;
        }
        match look(around, &path) {
            State::Missing => {}
            state if state.digest() == digest => {
                keep::remove(around.disk, &path).map_err(|error| (path.clone(), error))?;
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

fn look(around: &Around<'_>, path: &str) -> State {
    let guard = around.ledger.borrow();
    let ledger: &Ledger = &guard;
    let record = |path: &str| ledger.file(path);
    let reader = Reader {
        disk: around.disk,
        clock: around.clock,
        record: &record,
    };
    reader.look(path, &mut Vec::new()).state
}
