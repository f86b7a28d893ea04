//! Whose output the logs of a run hold, and which of them are still written: `.handloom/logs/RUN/index`.
//!
//! One JSON object a line: when a job prints its first byte, which log holds it, who runs it; and when the job has ended.
//! A retried job, and what comes behind one, begin again in the same log.

use std::fs::File;
use std::io;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Mutex;

use serde::Deserialize;
use serde::Serialize;

use crate::executor::local::owner::Owner;
use crate::world::lock;
use crate::world::own;

/// The name of the file beside the logs.
const NAME: &str = "index";

#[derive(Serialize, Deserialize)]
#[serde(tag = "line", rename_all = "lowercase")]
enum IndexLine {
    Begun {
        job: String,
        log: String,
        /// The process that runs it.
        by: String,
    },
    Ended {
        log: String,
    },
}

/// A log, as its run's index tells of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IndexedLog {
    /// Where it is.
    pub path: PathBuf,
    /// The run's number.
    pub run: u64,
    /// Whether its job still runs.
    pub is_open: bool,
}

/// Notes that a job begins to print into a log.
pub fn note_begun(log: &Path, job: &str) {
    let by = Owner::current().to_string();
    let line = |log| IndexLine::Begun {
        job: job.to_owned(),
        log,
        by,
    };
    note(log, line);
}

/// Notes that the job whose log this is has ended.
pub fn note_ended(log: &Path) {
    note(log, |log| IndexLine::Ended { log });
}

fn note(log: &Path, line: impl FnOnce(String) -> IndexLine) {
    let (Some(folder), Some(name)) = (log.parent(), log.file_name().and_then(|name| name.to_str()))
    else {
        return;
    };
    let Ok(mut text) = serde_json::to_string(&line(name.to_owned())) else {
        return;
    };
    text.push('\n');
    // That of the run that is going on stays open.
    static OPEN: Mutex<Option<(PathBuf, File)>> = Mutex::new(None);
    let mut open = lock(&OPEN);
    if open.as_ref().is_none_or(|(known, _)| known != folder) {
        let mut options = own::options();
        let file = own::open(&folder.join(NAME), options.create(true).append(true));
        *open = file.ok().map(|file| (folder.to_owned(), file));
    }
    if let Some((_, file)) = &mut *open {
        // Without it the log is only found by its run's record.
        let _ = file.write_all(text.as_bytes());
    }
}

/// What the logs of runs hold.
#[derive(Clone, Debug)]
pub struct LogIndex {
    logs: PathBuf,
}

impl LogIndex {
    /// That of the project whose own folder this is.
    #[must_use]
    pub fn new(own: &Path) -> Self {
        Self {
            logs: own.join("logs"),
        }
    }

    /// The numbers of runs that have logs, oldest first.
    #[must_use]
    pub fn runs(&self) -> Vec<u64> {
        let entries = std::fs::read_dir(&self.logs)
            .into_iter()
            .flatten()
            .flatten();
        let mut runs: Vec<u64> = entries
            .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
            .collect();
        runs.sort_unstable();
        runs
    }

    /// The log of a job in a run.
    ///
    /// # Errors
    /// When the index can't be read.
    pub fn find(&self, run: u64, job: &str) -> io::Result<Option<IndexedLog>> {
        let folder = self.logs.join(run.to_string());
        let text = match own::read(&folder.join(NAME)) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            text => text?,
        };
        let mut found: Option<(String, Option<Owner>)> = None;
        for line in text.split(|&byte| byte == b'\n') {
            match serde_json::from_slice(line) {
                Ok(IndexLine::Begun { job: of, log, by }) if of == job => {
                    found = Some((log, Owner::parse(&by)));
                }
                Ok(IndexLine::Ended { log }) => {
                    if let Some((known, owner)) = &mut found
                        && *known == log
                    {
                        *owner = None;
                    }
                }
                // The last line may be half written.
                Ok(IndexLine::Begun { .. }) | Err(_) => {}
            }
        }
        Ok(found.map(|(log, owner)| IndexedLog {
            path: folder.join(log),
            run,
            is_open: owner.is_some_and(Owner::is_alive),
        }))
    }
}
