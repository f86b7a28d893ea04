//! All runs that are kept, read as a whole: how long they took, what of them was restored, which steps take longest, and which
//! fail.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::time::Duration;

use crate::records::JobRecord;
use crate::records::RunRecord;
use crate::records::run_analysis::RunAnalysis;
use crate::records::run_analysis::ran;
use crate::scheduler::event::Ending;

/// One run in a history.
#[derive(Clone, Debug, PartialEq)]
pub struct RunSums {
    /// Its number.
    pub run: u64,
    /// When it began, nanoseconds since 1970.
    pub started: i64,
    /// What was typed.
    pub command: String,
    /// How long it took.
    pub took: Duration,
    /// Whether it was killed before its end.
    pub killed: bool,
    /// How many jobs ran, whatever came of them.
    pub ran: usize,
    /// How many of all were taken from the store.
    pub restored: usize,
    /// How many failed.
    pub failed: usize,
    /// What restoring saved.
    pub saved: Duration,
}

/// One step or task through the runs.
#[derive(Clone, Debug, PartialEq)]
pub struct StepThroughRuns {
    /// Its name.
    pub step: String,
    /// How long it took in each run of the history; none where it did not run.
    pub times: Vec<Option<Duration>>,
    /// All of it together.
    pub total: Duration,
}

/// A step or task that failed.
#[derive(Clone, Debug, PartialEq)]
pub struct FailingStep {
    /// Its name.
    pub step: String,
    /// In how many runs it failed.
    pub failed: usize,
    /// In how many it ran.
    pub ran: usize,
    /// The last run in which it failed.
    pub last: u64,
    /// How it ended there, in words.
    pub exit: String,
    /// Whether it failed when it last ran.
    pub failed_last: bool,
}

/// A history.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct HistoryAnalysis {
    /// The runs, oldest first.
    pub runs: Vec<RunSums>,
    /// Steps and tasks by what they took together, the most first.
    pub steps: Vec<StepThroughRuns>,
    /// Those that failed, the last one first.
    pub failing: Vec<FailingStep>,
}

impl StepThroughRuns {
    /// How long it took in the runs in which it ran.
    pub fn ran(&self) -> impl Iterator<Item = Duration> {
        self.times.iter().copied().flatten()
    }

    /// The middle of its times.
    #[must_use]
    pub fn middle(&self) -> Duration {
        let mut times: Vec<Duration> = self.ran().collect();
        times.sort_unstable();
        times.get(times.len() / 2).copied().unwrap_or_default()
    }
}

fn has_run(job: &JobRecord) -> bool {
    matches!(
        job.ending,
        Ending::Made | Ending::Same | Ending::Failed | Ending::Stopped
    )
}

impl HistoryAnalysis {
    /// Reads runs, oldest first.
    #[must_use]
    pub fn of(runs: &[RunRecord]) -> Self {
        let mut steps: HashMap<&str, StepThroughRuns> = HashMap::new();
        let mut failing: HashMap<&str, FailingStep> = HashMap::new();
        for (number, run) in runs.iter().enumerate() {
            for job in run.jobs.iter().filter(|job| ran(job)) {
                if !has_run(job) {
                    // Restored: as good as made.
                    if let Some(known) = failing.get_mut(job.step.as_str()) {
                        known.failed_last = false;
                    }
                    continue;
                }
                let step = steps.entry(&job.step).or_insert_with(|| StepThroughRuns {
                    step: job.step.clone(),
                    times: vec![None; runs.len()],
                    total: Duration::ZERO,
                });
                step.times[number] = Some(job.took);
                step.total += job.took;
                let has_failed = job.ending == Ending::Failed;
                if !has_failed && !failing.contains_key(job.step.as_str()) {
                    continue;
                }
                let known = failing.entry(&job.step).or_insert_with(|| FailingStep {
                    step: job.step.clone(),
                    failed: 0,
                    // The runs before, in which it went well, count as well.
                    ran: step.ran().count() - 1,
                    last: 0,
                    exit: String::new(),
                    failed_last: false,
                });
                known.ran += 1;
                known.failed_last = has_failed;
                if has_failed {
                    known.failed += 1;
                    known.last = run.head.run;
                    known.exit = job.exit.clone().unwrap_or_default();
                }
            }
        }
        let mut steps: Vec<StepThroughRuns> = steps.into_values().collect();
        steps.sort_by(|a, b| (Reverse(a.total), &a.step).cmp(&(Reverse(b.total), &b.step)));
        let mut failing: Vec<FailingStep> = failing.into_values().collect();
        failing.sort_by(|a, b| (Reverse(a.last), &a.step).cmp(&(Reverse(b.last), &b.step)));
        Self {
            runs: runs.iter().map(sums).collect(),
            steps,
            failing,
        }
    }
}

fn sums(run: &RunRecord) -> RunSums {
    let digest = RunAnalysis::of(run, &[]);
    let count = |wanted: fn(&JobRecord) -> bool| run.jobs.iter().filter(|job| wanted(job)).count();
    RunSums {
        run: run.head.run,
        started: run.head.started,
        command: run.head.command.clone(),
        took: digest.whole,
        killed: run.tail.is_none(),
        ran: count(has_run),
        restored: digest.restored,
        failed: count(|job| job.ending == Ending::Failed),
        saved: digest.saved,
    }
}
