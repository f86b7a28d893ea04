//! What the last runs did: for each run in which anything ran a file of its own.
//!
//! `.handloom/runs/NUMBER.jsonl` holds one JSON object a line: first a [`RunHeader`], then a [`JobRecord`] for
//! each job that ended or was held, last its [`Summary`]; a run without one was killed. A run's records are
//! written in groups, off the way of the jobs: that the end of a killed run's history may be missing is
//! no harm, since what has to be made again is the ledger's to know. What jobs printed lies in
//! `.handloom/logs/NUMBER/`. Only the last runs are kept.

pub mod history_analysis;
mod recorder;
pub mod run_analysis;
mod standing_findings;

use std::fs;
use std::io;
use std::path::Path;
use std::path::PathBuf;
use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;

pub use recorder::Recorder;
pub use standing_findings::StandingFinding;
pub use standing_findings::StandingFindings;
pub use standing_findings::StepFindings;
pub use standing_findings::findings_below;

use crate::scheduler::event::Ending;
use crate::scheduler::event::Summary;
use crate::verdict::ResultOrigin;
use crate::world::ByteSize;
use crate::world::own;
use crate::world::time::as_seconds;

/// A run, before anything ran.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunHeader {
    /// Its number; later runs have higher ones.
    pub run: u64,
    /// When it began, nanoseconds since 1970.
    pub started: i64,
    /// What was typed.
    pub command: String,
    /// Jobs that could run at once.
    pub jobs: usize,
}

/// A job that ended, or a step that was held.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct JobRecord {
    /// The step's or task's name.
    pub step: String,
    /// Whether it is a task.
    pub task: bool,
    /// What became of it.
    pub ending: Ending,
    /// Why it ran, in brief.
    pub reasons: Vec<String>,
    /// When it began, from the run's beginning.
    #[serde(with = "as_seconds")]
    pub began: Duration,
    /// How long it took.
    #[serde(rename = "seconds", with = "as_seconds")]
    pub took: Duration,
    /// Which of the jobs that may run at once it was, from 0.
    pub slot: usize,
    /// How its recipe ended, in words when it failed.
    pub exit: Option<String>,
    /// The largest amount of memory any of its processes held.
    pub memory: ByteSize,
    /// Processor time.
    #[serde(with = "as_seconds")]
    pub processor: Duration,
    /// The node that it ran on, when that was not this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<String>,
    /// The place where that is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<String>,
    /// How long it waited there until there was a worker for it; it began after that.
    #[serde(
        default,
        with = "as_seconds",
        skip_serializing_if = "Duration::is_zero"
    )]
    pub queued: Duration,
    /// The log of what it printed, from the root.
    pub log: Option<String>,
    /// The place of its description: `hand.loom:12`; where it failed, of its recipe.
    pub place: String,
    /// What it is described as: `out/obj/<unit>.o`.
    #[serde(default)]
    pub by: String,
    /// Of the jobs that it had to wait for, the last one of the longest way; none when it could begin at
    /// once.
    #[serde(default)]
    pub after: Option<String>,
    /// How long it waited for a free place when nothing else was in its way.
    #[serde(default, with = "as_seconds")]
    pub waited: Duration,
    /// Where its result came from, when it was restored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<ResultOrigin>,
}

/// A job's slot is below this.
const MOST_SLOTS: usize = 4096;

/// A line of a run's file.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "line", rename_all = "lowercase")]
enum RecordLine {
    Run(RunHeader),
    Job(Box<JobRecord>),
    End(Summary),
}

/// A run as it was recorded.
#[derive(Clone, Debug, PartialEq)]
pub struct RunRecord {
    /// Its beginning.
    pub head: RunHeader,
    /// What ran.
    pub jobs: Vec<JobRecord>,
    /// Its end; none when it was killed.
    pub tail: Option<Summary>,
}

/// The runs that are kept below a project's own folder.
#[derive(Clone, Debug)]
pub struct Runs {
    own: PathBuf,
}

impl Runs {
    /// Those of the project whose own folder this is.
    #[must_use]
    pub fn new(own: &Path) -> Self {
        Self {
            own: own.to_owned(),
        }
    }

    fn folder(&self) -> PathBuf {
        self.own.join("runs")
    }

    fn file(&self, run: u64) -> PathBuf {
        self.folder().join(format!("{run}.jsonl"))
    }

    /// The numbers of all runs that are kept, oldest first; none where nothing has run yet.
    ///
    /// # Errors
    /// When their folder is there and cannot be read, as by another user.
    pub fn numbers(&self) -> io::Result<Vec<u64>> {
        let entries = match fs::read_dir(self.folder()) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let mut numbers = Vec::new();
        for entry in entries {
            let name = entry?.file_name();
            let number = name.to_str().and_then(|name| name.strip_suffix(".jsonl"));
            numbers.extend(number.and_then(|number| number.parse::<u64>().ok()));
        }
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// How many bytes a run's record has now: it grows while the run goes on.
    #[must_use]
    pub fn size(&self, run: u64) -> u64 {
        fs::metadata(self.file(run)).map_or(0, |file| file.len())
    }

    /// A run; lines that cannot be read are left out.
    ///
    /// # Errors
    /// When its file cannot be read or does not begin as one.
    pub fn read(&self, run: u64) -> io::Result<RunRecord> {
        let bytes = own::read(&self.file(run))?;
        let mut lines = bytes
            .split(|&byte| byte == b'\n')
            .map(String::from_utf8_lossy);
        let first = lines.next().unwrap_or_default();
        let Ok(RecordLine::Run(head)) = serde_json::from_str(&first) else {
            return Err(io::Error::new(
                io::ErrorKind::InvalidData,
                "it does not begin as the record of a run does",
            ));
        };
        let mut read = RunRecord {
            head,
            jobs: Vec::new(),
            tail: None,
        };
        for line in lines {
            match serde_json::from_str(&line) {
                Ok(RecordLine::Job(job)) => read.jobs.push(JobRecord {
                    // More jobs than that never run at once, whatever a record says.
                    slot: job.slot.min(MOST_SLOTS),
                    ..*job
                }),
                Ok(RecordLine::End(tail)) => read.tail = Some(tail),
                Ok(RecordLine::Run(_)) | Err(_) => {}
            }
        }
        Ok(read)
    }

    /// Removes all but the last `keep` runs, with their logs.
    fn forget_old(&self, keep: usize) {
        // What can't be read now is looked at again by the next run.
        let numbers = self.numbers().unwrap_or_default();
        let old = numbers.len().saturating_sub(keep);
        for number in &numbers[..old] {
            // What cannot be removed now is tried again by the next run.
            let _ = fs::remove_file(self.file(*number));
            let _ = fs::remove_dir_all(self.own.join("logs").join(number.to_string()));
        }
    }
}
