//! What a job prints, kept within bounds: its beginning and its end in memory, all of it in a log.

use std::collections::VecDeque;
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;

use serde::Deserialize;
use serde::Serialize;

use crate::executor::control_codes::ControlStripper;
use crate::executor::log_index;
use crate::executor::output_tail::OutputTail;
use crate::world::own;

/// So many bytes of the beginning are kept in memory, and as many of the end.
const KEPT: usize = 128 * 1024;

/// What a job printed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Printed {
    /// The beginning; all of it when nothing was left out.
    pub start: Vec<u8>,
    /// How many bytes between the beginning and the end are only in the log.
    pub left_out: u64,
    /// The end, when something was left out.
    pub end: Vec<u8>,
    /// The log that holds all of it, from the root; none when nothing was printed, or when the log
    /// could not be written.
    pub log: Option<String>,
}

impl Printed {
    /// Whether nothing was printed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.start.is_empty()
    }

    /// Puts what an earlier try printed in front.
    pub fn put_behind(&mut self, earlier: Self) {
        let mut all = Capture::default();
        all.take(&earlier.start);
        all.take(&earlier.end);
        all.take(&self.start);
        all.take(&self.end);
        let log = self.log.take().or(earlier.log);
        let left_out = earlier.left_out + self.left_out;
        *self = all.finish();
        self.left_out += left_out;
        self.log = log;
    }
}

/// Takes in what a job prints.
#[derive(Debug, Default)]
pub struct Capture {
    start: Vec<u8>,
    end: VecDeque<u8>,
    left_out: u64,
    log: Log,
    tail: OutputTail,
    /// What comes from a terminal is only text in the log and in the tail.
    stripper: Option<ControlStripper>,
}

#[derive(Debug, Default)]
enum Log {
    /// No log is wanted, or it can't be written.
    #[default]
    None,
    /// Not begun: most jobs print nothing.
    Waiting(LogPlace),
    Open(File, LogPlace),
}

/// Where a log is to be.
#[derive(Debug)]
struct LogPlace {
    path: PathBuf,
    /// The same from the root.
    name: String,
    job: String,
}

impl Capture {
    /// Nothing was printed yet. `log` is a path below `root`, for what the job of this name prints.
    #[must_use]
    pub fn new(root: &Path, log: Option<&str>, job: &str, tail: &OutputTail) -> Self {
        Self {
            tail: tail.clone(),
            log: match log {
                Some(log) => Log::Waiting(LogPlace {
                    path: root.join(log),
                    name: log.to_owned(),
                    job: job.to_owned(),
                }),
                None => Log::None,
            },
            ..Self::default()
        }
    }

    /// The same for a job that writes to a terminal, or does not.
    #[must_use]
    pub fn of_terminal(self, is_terminal: bool) -> Self {
        Self {
            stripper: is_terminal.then(ControlStripper::default),
            ..self
        }
    }

    /// Takes in more.
    pub fn take(&mut self, bytes: &[u8]) {
        let mut stripper = self.stripper.take();
        let text = match &mut stripper {
            Some(stripper) => stripper.take(bytes),
            None => bytes.into(),
        };
        self.stripper = stripper;
        self.write_log(&text);
        self.tail.take(&text);
        let room = KEPT.saturating_sub(self.start.len()).min(bytes.len());
        self.start.extend_from_slice(&bytes[..room]);
        self.end.extend(&bytes[room..]);
        if self.end.len() > KEPT {
            let over = self.end.len() - KEPT;
            self.end.drain(..over);
            self.left_out += over as u64;
        }
    }

    fn write_log(&mut self, bytes: &[u8]) {
        if let Log::Waiting(place) = &self.log {
            let opened = open_log(&place.path);
            let begun = std::mem::take(&mut self.log);
            if let (Ok(file), Log::Waiting(place)) = (opened, begun) {
                log_index::note_begun(&place.path, &place.job);
                self.log = Log::Open(file, place);
            }
        }
        if let Log::Open(file, _) = &mut self.log
            && file.write_all(bytes).is_err()
        {
            // A full disk is told of by the ledger; the job's own output goes on.
            self.log = Log::None;
        }
    }

    /// What was printed.
    #[must_use]
    pub fn finish(mut self) -> Printed {
        let end = Vec::from(std::mem::take(&mut self.end));
        let mut start = self.start;
        if self.left_out == 0 {
            start.extend(end);
            return Printed {
                start,
                left_out: 0,
                end: Vec::new(),
                log: self.log.name(),
            };
        }
        Printed {
            start,
            left_out: self.left_out,
            end,
            log: self.log.name(),
        }
    }
}

impl Log {
    /// Its name, when it was begun; nothing more is written to it.
    fn name(self) -> Option<String> {
        match self {
            Self::Open(file, place) => {
                drop(file);
                log_index::note_ended(&place.path);
                Some(place.name)
            }
            Self::None | Self::Waiting(..) => None,
        }
    }
}

/// A retried job and a `finally:` add to the same log.
fn open_log(path: &Path) -> std::io::Result<File> {
    let mut options = own::options();
    options.create(true).append(true);
    own::open(path, &options).or_else(|_| {
        if let Some(folder) = path.parent() {
            if let Some(above) = folder.parent() {
                own::create_folders(above)?;
            }
            own::create_folder(folder)?;
        }
        own::open(path, &options)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn little_is_kept_whole_and_leaves_no_log_when_nothing_was_printed() {
        let folder = tempfile::tempdir().unwrap();
        let capture = Capture::new(
            folder.path(),
            Some("logs/1.log"),
            "job",
            &OutputTail::default(),
        );
        assert_eq!(capture.finish(), Printed::default());
        assert!(!folder.path().join("logs").exists());
        let mut capture = Capture::new(
            folder.path(),
            Some("logs/1.log"),
            "job",
            &OutputTail::default(),
        );
        capture.take(b"one\n");
        capture.take(b"two\n");
        let printed = capture.finish();
        assert_eq!(printed.start, b"one\ntwo\n");
        assert_eq!(
            (printed.left_out, printed.log.as_deref()),
            (0, Some("logs/1.log"))
        );
        let log = std::fs::read(folder.path().join("logs/1.log")).unwrap();
        assert_eq!(log, b"one\ntwo\n");
    }

    #[test]
    fn of_much_the_beginning_and_the_end_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let mut capture = Capture::new(folder.path(), Some("1.log"), "job", &OutputTail::default());
        let mut all = Vec::new();
        for number in 0..200_000 {
            let line = format!("{number}\n");
            capture.take(line.as_bytes());
            all.extend_from_slice(line.as_bytes());
        }
        let printed = capture.finish();
        assert_eq!(printed.start, all[..KEPT]);
        assert_eq!(printed.end, all[all.len() - KEPT..]);
        assert_eq!(printed.left_out, (all.len() - 2 * KEPT) as u64);
        assert_eq!(std::fs::read(folder.path().join("1.log")).unwrap(), all);
    }
}
