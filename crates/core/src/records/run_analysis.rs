//! What a recorded run says of itself when it is read as a whole: what kept it from ending sooner, where
//! its time went, and how it differs from earlier runs.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::time::Duration;

use crate::records::JobRecord;
use crate::records::RunRecord;
use crate::scheduler::event::Ending;
use crate::world::share;

/// All jobs of one description.
#[derive(Clone, Debug, PartialEq)]
pub struct RunGroup {
    /// What they are described as.
    pub by: String,
    /// The place of the description.
    pub place: String,
    /// How many ran.
    pub jobs: usize,
    /// How long they took together.
    pub took: Duration,
    /// Their processor time.
    pub processor: Duration,
    /// The number of the longest among the run's jobs.
    pub longest: usize,
}

/// A run read as a whole.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RunAnalysis {
    /// The numbers of the jobs of the longest way: each had to wait for the one before it. However many jobs run at once, the run
    /// takes at least as long as these together.
    pub longest: Vec<usize>,
    /// How long the jobs of the longest way took together.
    pub least: Duration,
    /// Where the time went, the most first.
    pub groups: Vec<RunGroup>,
    /// The numbers of all jobs that ran, the slowest first.
    pub slowest: Vec<usize>,
    /// How long all jobs took together.
    pub took: Duration,
    /// Their processor time.
    pub processor: Duration,
    /// How long the run took: until its last job ended when it was killed.
    pub whole: Duration,
    /// For each job how long it took when it last ran well before this run.
    pub earlier: Vec<Option<Duration>>,
    /// The numbers of the jobs that are known to have held much memory, the largest first.
    pub largest: Vec<usize>,
    /// The numbers of the jobs that waited for a free place or a worker, the longest wait first.
    pub waiting: Vec<usize>,
    /// How long all jobs together waited for a free place, and for a worker.
    pub waited: Duration,
    /// How many jobs were taken from the store.
    pub restored: usize,
    /// How much longer they took when they were made than it took to restore them.
    pub saved: Duration,
}

/// How long a job waited although nothing else was in its way.
fn wait(job: &JobRecord) -> Duration {
    job.waited + job.queued
}

/// What restoring a job saved.
fn saved(job: &JobRecord) -> Duration {
    let origin = job.from.as_ref();
    origin.map_or(Duration::ZERO, |origin| {
        origin.took().saturating_sub(job.took)
    })
}

/// Whether a job ran, whatever came of it.
#[must_use]
pub fn ran(job: &JobRecord) -> bool {
    job.ending != Ending::Held
}

impl RunAnalysis {
    /// Reads a run; `earlier` are those before it, the last of them last.
    #[must_use]
    pub fn of(run: &RunRecord, earlier: &[RunRecord]) -> Self {
        let jobs = &run.jobs;
        let (longest, least) = longest_way(jobs);
        let mut slowest: Vec<usize> = (0..jobs.len()).filter(|&job| ran(&jobs[job])).collect();
        slowest.sort_by(|&a, &b| jobs[b].took.cmp(&jobs[a].took));
        let by = |key: fn(&JobRecord) -> u128| {
            let mut found = slowest.clone();
            found.retain(|&job| key(&jobs[job]) > 0);
            found.sort_by_key(|&job| Reverse(key(&jobs[job])));
            found
        };
        let ends = jobs.iter().map(|job| job.began + job.took);
        let last_end = ends.max().unwrap_or_default();
        Self {
            longest,
            least,
            groups: groups(jobs),
            took: slowest.iter().map(|&job| jobs[job].took).sum(),
            processor: slowest.iter().map(|&job| jobs[job].processor).sum(),
            whole: run.tail.map_or(last_end, |tail| tail.took.max(last_end)),
            earlier: times_before(jobs, earlier),
            largest: by(|job| job.memory.bytes().into()),
            waiting: by(|job| wait(job).as_nanos()),
            waited: jobs.iter().map(wait).sum(),
            restored: jobs
                .iter()
                .filter(|job| job.ending == Ending::Restored)
                .count(),
            saved: jobs.iter().map(saved).sum(),
            slowest,
        }
    }

    /// How many jobs ran at once on average.
    #[must_use]
    pub fn at_once(&self) -> f64 {
        share(self.took, self.whole)
    }
}

/// The chain of jobs, each waiting for the one before it, that took longest together.
///
/// Jobs are recorded as they end, so what a job waited for stands before it.
fn longest_way(jobs: &[JobRecord]) -> (Vec<usize>, Duration) {
    let mut of_name: HashMap<&str, usize> = HashMap::new();
    let mut ways: Vec<(Duration, Option<usize>)> = Vec::with_capacity(jobs.len());
    for (number, job) in jobs.iter().enumerate() {
        let before = job
            .after
            .as_deref()
            .and_then(|name| of_name.get(name))
            .copied();
        let so_far = before.map_or(Duration::ZERO, |before| ways[before].0);
        let own = if ran(job) { job.took } else { Duration::ZERO };
        ways.push((so_far + own, before));
        of_name.insert(&job.step, number);
    }
    let last = (0..jobs.len())
        .filter(|&job| ran(&jobs[job]))
        .max_by(|&a, &b| ways[a].0.cmp(&ways[b].0));
    let least = last.map_or(Duration::ZERO, |last| ways[last].0);
    let mut links = Vec::new();
    let mut next = last;
    while let Some(job) = next {
        next = ways[job].1;
        links.push(job);
    }
    links.reverse();
    (links, least)
}

fn groups(jobs: &[JobRecord]) -> Vec<RunGroup> {
    let mut groups: Vec<RunGroup> = Vec::new();
    let mut of_name: HashMap<(&str, &str), usize> = HashMap::new();
    for (number, job) in jobs.iter().enumerate().filter(|(_, job)| ran(job)) {
        // A failed job's place is that of its recipe: its description is the same.
        let file = job.place.rsplit_once(':').map_or("", |(file, _)| file);
        let at = *of_name.entry((&job.by, file)).or_insert(groups.len());
        if at == groups.len() {
            groups.push(RunGroup {
                by: job.by.clone(),
                place: job.place.clone(),
                jobs: 0,
                took: Duration::ZERO,
                processor: Duration::ZERO,
                longest: number,
            });
        }
        let group = &mut groups[at];
        group.jobs += 1;
        group.took += job.took;
        group.processor += job.processor;
        if job.took > jobs[group.longest].took {
            group.longest = number;
        }
    }
    groups.sort_by_key(|group| Reverse(group.took));
    groups
}

fn times_before(jobs: &[JobRecord], earlier: &[RunRecord]) -> Vec<Option<Duration>> {
    let mut times: HashMap<&str, Duration> = HashMap::new();
    for run in earlier {
        let well = |job: &&JobRecord| matches!(job.ending, Ending::Made | Ending::Same);
        for job in run.jobs.iter().filter(well) {
            times.insert(&job.step, job.took);
        }
    }
    jobs.iter()
        .map(|job| times.get(job.step.as_str()).copied())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::RunHeader;

    fn seconds(seconds: f64) -> Duration {
        Duration::from_secs_f64(seconds)
    }

    fn job(step: &str, began: f64, took: f64, after: Option<&str>) -> JobRecord {
        JobRecord {
            step: step.to_owned(),
            task: false,
            ending: Ending::Made,
            from: None,
            reasons: Vec::new(),
            began: seconds(began),
            took: seconds(took),
            slot: 0,
            exit: None,
            memory: crate::world::ByteSize::default(),
            processor: seconds(took / 2.0),
            node: None,
            on: None,
            queued: Duration::ZERO,
            log: None,
            place: "hand.loom:3".to_owned(),
            by: step.trim_end_matches(char::is_numeric).to_owned(),
            after: after.map(str::to_owned),
            waited: Duration::ZERO,
        }
    }

    fn run(jobs: Vec<JobRecord>) -> RunRecord {
        let head = RunHeader {
            run: 7,
            started: 0,
            command: "handloom".to_owned(),
            jobs: 2,
        };
        RunRecord {
            head,
            jobs,
            tail: None,
        }
    }

    #[test]
    fn the_longest_way_is_the_one_that_no_number_of_cores_makes_shorter() {
        // In the order in which they ended.
        let run = run(vec![
            job("a1", 0.0, 1.0, None),
            job("a2", 0.0, 4.0, None),
            job("b1", 1.5, 3.0, Some("a1")),
            job("b2", 4.5, 2.0, Some("a2")),
            job("end", 6.5, 0.5, Some("b2")),
        ]);
        let digest = RunAnalysis::of(&run, &[]);
        assert_eq!(digest.longest, [1, 3, 4]);
        assert_eq!((digest.least, digest.whole), (seconds(6.5), seconds(7.0)));
        assert_eq!(digest.slowest, [1, 2, 3, 0, 4]);
        assert_eq!(digest.at_once(), 1.5);
        let groups: Vec<(&str, usize, f64, usize)> = digest
            .groups
            .iter()
            .map(|group| {
                (
                    group.by.as_str(),
                    group.jobs,
                    group.took.as_secs_f64(),
                    group.longest,
                )
            })
            .collect();
        assert_eq!(
            groups,
            [("a", 2, 5.0, 1), ("b", 2, 5.0, 2), ("end", 1, 0.5, 4)]
        );
    }

    #[test]
    fn earlier_times_are_those_of_the_last_good_run() {
        let mut failed = job("a1", 0.0, 9.0, None);
        failed.ending = Ending::Failed;
        let earlier = [
            run(vec![job("a1", 0.0, 2.0, None), job("b1", 0.0, 1.0, None)]),
            run(vec![job("a1", 0.0, 3.0, None)]),
            run(vec![failed]),
        ];
        let now = run(vec![job("a1", 0.0, 1.0, None), job("c1", 0.0, 1.0, None)]);
        assert_eq!(
            RunAnalysis::of(&now, &earlier).earlier,
            [Some(seconds(3.0)), None]
        );
    }

    #[test]
    fn a_run_without_jobs_and_one_with_held_ones() {
        assert_eq!(RunAnalysis::of(&run(Vec::new()), &[]).whole, Duration::ZERO);
        let mut held = job("b1", 0.0, 0.0, Some("a1"));
        held.ending = Ending::Held;
        let digest = RunAnalysis::of(&run(vec![job("a1", 0.0, 1.0, None), held]), &[]);
        assert_eq!(digest.slowest, [0]);
        assert_eq!(digest.longest, [0]);
    }
}
