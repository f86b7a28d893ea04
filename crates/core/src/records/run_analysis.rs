//! What a recorded run says of itself when it is read as a whole: what kept it from ending sooner, where
//! its time went, and how it differs from earlier runs.

use std::collections::HashMap;

use crate::records::JobRecord;
use crate::records::RunRecord;

/// All jobs of one description.
#[derive(Clone, Debug, PartialEq)]
pub struct RunGroup {
    /// What they are described as.
    pub by: String,
    /// The place of the description.
    pub place: String,
    /// How many ran.
    pub jobs: usize,
    /// How long they took together, seconds.
    pub seconds: f64,
    /// Their processor time, seconds.
    pub processor: f64,
    /// The number of the longest among the run's jobs.
    pub longest: usize,
}

/// A run read as a whole.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RunAnalysis {
    /// The numbers of the jobs of the longest way: each had to wait for the one before it. However many jobs run at once, the run
    /// takes at least as long as these together.
    pub longest: Vec<usize>,
    /// How long the jobs of the longest way took together, seconds.
    pub least: f64,
    /// Where the time went, the most first.
    pub groups: Vec<RunGroup>,
    /// The numbers of all jobs that ran, the slowest first.
    pub slowest: Vec<usize>,
    /// How long all jobs took together, seconds.
    pub seconds: f64,
    /// Their processor time, seconds.
    pub processor: f64,
    /// How long the run took, seconds: until its last job ended when it was killed.
    pub whole: f64,
    /// For each job how long it took when it last ran well before this run, seconds.
    pub earlier: Vec<Option<f64>>,
}

/// Whether a job ran, whatever came of it.
#[must_use]
pub fn ran(job: &JobRecord) -> bool {
    job.ending != "held"
}

impl RunAnalysis {
    /// Reads a run; `earlier` are those before it, the last of them last.
    #[must_use]
    pub fn of(run: &RunRecord, earlier: &[RunRecord]) -> Self {
        let jobs = &run.jobs;
        let (longest, least) = longest_way(jobs);
        let mut slowest: Vec<usize> = (0..jobs.len()).filter(|&job| ran(&jobs[job])).collect();
        slowest.sort_by(|&a, &b| jobs[b].seconds.total_cmp(&jobs[a].seconds));
        let ends = jobs.iter().map(|job| job.began + job.seconds);
        let last_end = ends.fold(0.0, f64::max);
        Self {
            longest,
            least,
            groups: groups(jobs),
            seconds: slowest.iter().map(|&job| jobs[job].seconds).sum(),
            processor: slowest.iter().map(|&job| jobs[job].processor).sum(),
            whole: run
                .tail
                .map_or(last_end, |tail| f64::max(tail.seconds, last_end)),
            earlier: times_before(jobs, earlier),
            slowest,
        }
    }

    /// How many jobs ran at once on average.
    #[must_use]
    pub fn at_once(&self) -> f64 {
        if self.whole > 0.0 {
            self.seconds / self.whole
        } else {
            0.0
        }
    }
}

/// The chain of jobs, each waiting for the one before it, that took longest together.
///
/// Jobs are recorded as they end, so what a job waited for stands before it.
fn longest_way(jobs: &[JobRecord]) -> (Vec<usize>, f64) {
    let mut of_name: HashMap<&str, usize> = HashMap::new();
    let mut ways: Vec<(f64, Option<usize>)> = Vec::with_capacity(jobs.len());
    for (number, job) in jobs.iter().enumerate() {
        let before = job
            .after
            .as_deref()
            .and_then(|name| of_name.get(name))
            .copied();
        let so_far = before.map_or(0.0, |before| ways[before].0);
        let own = if ran(job) { job.seconds } else { 0.0 };
        ways.push((so_far + own, before));
        of_name.insert(&job.step, number);
    }
    let last = (0..jobs.len())
        .filter(|&job| ran(&jobs[job]))
        .max_by(|&a, &b| ways[a].0.total_cmp(&ways[b].0));
    let least = last.map_or(0.0, |last| ways[last].0);
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
                seconds: 0.0,
                processor: 0.0,
                longest: number,
            });
        }
        let group = &mut groups[at];
        group.jobs += 1;
        group.seconds += job.seconds;
        group.processor += job.processor;
        if job.seconds > jobs[group.longest].seconds {
            group.longest = number;
        }
    }
    groups.sort_by(|a, b| b.seconds.total_cmp(&a.seconds));
    groups
}

fn times_before(jobs: &[JobRecord], earlier: &[RunRecord]) -> Vec<Option<f64>> {
    let mut times: HashMap<&str, f64> = HashMap::new();
    for run in earlier {
        let well = |job: &&JobRecord| matches!(job.ending.as_str(), "made" | "same");
        for job in run.jobs.iter().filter(well) {
            times.insert(&job.step, job.seconds);
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

    fn job(step: &str, began: f64, seconds: f64, after: Option<&str>) -> JobRecord {
        JobRecord {
            step: step.to_owned(),
            task: false,
            ending: "made".to_owned(),
            reasons: Vec::new(),
            began,
            seconds,
            slot: 0,
            exit: None,
            memory: 0,
            processor: seconds / 2.0,
            log: None,
            place: "hand.loom:3".to_owned(),
            by: step.trim_end_matches(char::is_numeric).to_owned(),
            after: after.map(str::to_owned),
            waited: 0.0,
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
        assert_eq!((digest.least, digest.whole), (6.5, 7.0));
        assert_eq!(digest.slowest, [1, 2, 3, 0, 4]);
        assert_eq!(digest.at_once(), 1.5);
        let groups: Vec<(&str, usize, f64, usize)> = digest
            .groups
            .iter()
            .map(|group| (group.by.as_str(), group.jobs, group.seconds, group.longest))
            .collect();
        assert_eq!(
            groups,
            [("a", 2, 5.0, 1), ("b", 2, 5.0, 2), ("end", 1, 0.5, 4)]
        );
    }

    #[test]
    fn earlier_times_are_those_of_the_last_good_run() {
        let mut failed = job("a1", 0.0, 9.0, None);
        failed.ending = "failed".to_owned();
        let earlier = [
            run(vec![job("a1", 0.0, 2.0, None), job("b1", 0.0, 1.0, None)]),
            run(vec![job("a1", 0.0, 3.0, None)]),
            run(vec![failed]),
        ];
        let now = run(vec![job("a1", 0.0, 1.0, None), job("c1", 0.0, 1.0, None)]);
        assert_eq!(RunAnalysis::of(&now, &earlier).earlier, [Some(3.0), None]);
    }

    #[test]
    fn a_run_without_jobs_and_one_with_held_ones() {
        assert_eq!(RunAnalysis::of(&run(Vec::new()), &[]).whole, 0.0);
        let mut held = job("b1", 0.0, 0.0, Some("a1"));
        held.ending = "held".to_owned();
        let digest = RunAnalysis::of(&run(vec![job("a1", 0.0, 1.0, None), held]), &[]);
        assert_eq!(digest.slowest, [0]);
        assert_eq!(digest.longest, [0]);
    }
}
