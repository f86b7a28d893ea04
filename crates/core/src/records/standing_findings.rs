//! What was said of sources when each step ran last: `.handloom/findings`.
//!
//! One JSON object a line, for each step or task of which something is known its [`StepFindings`]; of several lines of one step
//! the last counts. What was said when a step failed stands beside what was said when it last went well, until it goes well
//! again: the source may be put right without anything to run. Lines are added while a run goes on, with those of its record, and put together once they are many.

use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;

use serde::Deserialize;
use serde::Serialize;

use crate::findings::Finding;
use crate::findings::FindingPattern;
use crate::findings::findings_by;
use crate::world::own;

/// The name of the file in a project's own folder.
const NAME: &str = "findings";

/// No more is kept of one step: what is said first counts most.
const MOST: usize = 500;

/// So many lines that do not count any more are left standing.
const IDLE_LINES: usize = 1000;

/// A finding, and since when it is there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandingFinding {
    /// What was said.
    #[serde(flatten)]
    pub finding: Finding,
    /// The run in which it was said first; said again of the same file, on whatever line, it is the same.
    pub since: u64,
}

/// What was said when a step ran last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepFindings {
    /// The step's or task's name.
    pub step: String,
    /// The run that it ran in, or was restored.
    pub run: u64,
    /// Whether it failed then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub failed: bool,
    /// What was said; nothing when all of it is gone.
    pub found: Vec<StandingFinding>,
}

/// All that stands.
#[derive(Debug, Default)]
pub struct StandingFindings {
    /// By the step's name and whether it failed.
    steps: BTreeMap<(String, bool), StepFindings>,
    lines: usize,
    /// Whether the last line has no end: a run was killed while it wrote.
    is_torn: bool,
}

impl StandingFindings {
    /// What stands in the project whose own folder this is; lines that make no sense are left out.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn read(own_folder: &Path) -> io::Result<Self> {
        let mut read = Self::default();
        let bytes = match own::read(&own_folder.join(NAME)) {
            Ok(bytes) => bytes,
            // Nothing was said yet.
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(read),
            Err(error) => return Err(error),
        };
        read.is_torn = bytes.last().is_some_and(|&last| last != b'\n');
        for line in bytes.split(|&byte| byte == b'\n') {
            if let Ok(mut step) = serde_json::from_slice::<StepFindings>(line) {
                read.lines += 1;
                step.found.retain(|one| is_inside(&one.finding.file));
                read.take(step);
            }
        }
        Ok(read)
    }

    /// Those of steps of which something stands, by their names. `is_kept` tells of a step that failed whether it would be kept
    /// now: what was said then is over, and what was said when it went well stands again.
    pub fn steps(&self, is_kept: impl Fn(&str) -> bool) -> impl Iterator<Item = &StepFindings> {
        self.steps.values().filter(move |one| {
            let has_failed = one.failed || self.steps.contains_key(&(one.step.clone(), true));
            !has_failed || one.failed != is_kept(&one.step)
        })
    }

    /// What was said in a run by steps and tasks that did not run again since.
    pub fn of_run(&self, run: u64) -> impl Iterator<Item = &StepFindings> {
        self.steps.values().filter(move |one| one.run == run)
    }

    /// The steps that failed and of which something was said then.
    pub fn failed(&self) -> impl Iterator<Item = &str> {
        let failed = self.steps.values().filter(|one| one.failed);
        failed.map(|one| &*one.step)
    }

    fn take(&mut self, step: StepFindings) {
        if !step.failed {
            self.steps.remove(&(step.step.clone(), true));
        }
        let key = (step.step.clone(), step.failed);
        match step.found.is_empty() && !step.failed {
            true => drop(self.steps.remove(&key)),
            // Also that it failed without a word hides what was said before.
            false => drop(self.steps.insert(key, step)),
        }
    }

    /// Takes in what a step that ended printed; the line to be written, when something is another than it was.
    fn ended(
        &mut self,
        step: &str,
        run: u64,
        failed: bool,
        found: Vec<Finding>,
    ) -> Option<StepFindings> {
        let before = |failed| self.steps.get(&(step.to_owned(), failed));
        let before = [before(true), before(false)];
        if found.is_empty() && before == [None, None] {
            return None;
        }
        let same = |finding: &Finding| {
            let before = before.iter().flatten().flat_map(|before| &before.found);
            let mut before = before.filter(|known| {
                let known = &known.finding;
                (&known.file, &known.code, &known.message)
                    == (&finding.file, &finding.code, &finding.message)
                    && known.level == finding.level
            });
            before.next().map(|known| known.since)
        };
        let found = found.into_iter().take(MOST).map(|finding| StandingFinding {
            since: same(&finding).unwrap_or(run),
            finding,
        });
        let step = StepFindings {
            step: step.to_owned(),
            run,
            failed,
            found: found.collect(),
        };
        self.take(step.clone());
        Some(step)
    }
}

/// Whether a path is one below the project's folder, whatever the file says.
fn is_inside(file: &str) -> bool {
    let mut names = file.split('/');
    !file.is_empty() && names.all(|name| !matches!(name, "" | "." | ".."))
}

/// A job that ended, as far as it matters here.
#[derive(Clone, Copy)]
pub(super) struct EndedJob<'a> {
    pub step: &'a str,
    pub run: u64,
    pub failed: bool,
    pub printed: &'a str,
    /// The folder of its description, from the root.
    pub folder: &'a str,
}

/// Notes what is said while a run goes on.
pub(super) struct FindingsWriter {
    own_folder: PathBuf,
    standing: StandingFindings,
    patterns: Vec<FindingPattern>,
    waiting: Vec<u8>,
}

impl FindingsWriter {
    /// A writer for the project whose own folder this is.
    ///
    /// # Errors
    /// When what stands there cannot be read: it would be lost when it is put together anew.
    pub fn new(own_folder: &Path, patterns: Vec<FindingPattern>) -> io::Result<Self> {
        let standing = StandingFindings::read(own_folder)?;
        Ok(Self {
            own_folder: own_folder.to_owned(),
            // What comes next must not be lost with a line that was cut off.
            waiting: if standing.is_torn {
                vec![b'\n']
            } else {
                Vec::new()
            },
            standing,
            patterns,
        })
    }

    /// Takes in what a step printed that ended; paths in it are seen from the root, or from the folder of its description.
    pub fn ended(&mut self, job: &EndedJob<'_>) -> io::Result<()> {
        let EndedJob {
            step,
            run,
            failed,
            printed,
            folder,
        } = *job;
        let root = self.own_folder.parent().unwrap_or(&self.own_folder);
        let found = findings_below(root, folder, &self.patterns, printed);
        if let Some(step) = self.standing.ended(step, run, failed, found) {
            serde_json::to_writer(&mut self.waiting, &step)?;
            self.waiting.push(b'\n');
            self.standing.lines += 1;
        }
        Ok(())
    }

    /// Writes what waits.
    pub fn flush(&mut self) -> io::Result<()> {
        if self.waiting.is_empty() {
            return Ok(());
        }
        let path = self.own_folder.join(NAME);
        let mut options = own::options();
        let mut file = own::open(&path, options.create(true).append(true))?;
        file.write_all(&self.waiting)?;
        self.waiting.clear();
        Ok(())
    }

    /// Puts the file together when much of it does not count any more.
    pub fn finish(&mut self) -> io::Result<()> {
        self.flush()?;
        if self.standing.lines < self.standing.steps.len() + IDLE_LINES {
            return Ok(());
        }
        let new = self.own_folder.join(format!("{NAME}.new"));
        let mut options = own::options();
        let file: File = own::open(&new, options.write(true).create(true).truncate(true))?;
        let mut out = io::BufWriter::new(file);
        for step in self.standing.steps.values() {
            serde_json::to_writer(&mut out, step)?;
            out.write_all(b"\n")?;
        }
        out.flush()?;
        std::fs::rename(&new, self.own_folder.join(NAME))?;
        self.standing.lines = self.standing.steps.len();
        Ok(())
    }
}

/// What a job's output says of files of a project; paths in it are seen from the root, or from the folder of its description.
#[must_use]
pub fn findings_below(
    root: &Path,
    folder: &str,
    patterns: &[FindingPattern],
    printed: &str,
) -> Vec<Finding> {
    findings_by(printed, patterns, &|name| file_below(root, folder, name))
}

/// The file of a project that a printed path is of, from the root: as it is seen from there, or from a folder in it.
fn file_below(root: &Path, folder: &str, name: &str) -> Option<String> {
    if name.len() > 4096 || name.contains('\0') {
        return None;
    }
    let name = name.trim_start_matches("./");
    let candidates = [root.join(name), root.join(folder).join(name)];
    let found = candidates.iter().find(|path| path.is_file())?;
    let relative = found.strip_prefix(root).ok()?;
    let is_plain = relative
        .components()
        .all(|part| matches!(part, std::path::Component::Normal(_)));
    is_plain.then(|| relative.to_str().map(str::to_owned))?
}
