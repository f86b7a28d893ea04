//! One run, read as a whole, in each of the forms it can be written in.

pub mod against;
pub mod findings;
pub mod history;
pub mod history_page;
pub mod junit;
pub mod lineage;
pub mod nodes;
pub mod page;
mod page_usage;
pub mod plain;
pub mod trace;

use std::collections::HashMap;
use std::fs::File;
use std::io::Read;
use std::io::Seek;
use std::io::SeekFrom;
use std::path::Path;
use std::time::Duration;

use serde::Serialize;

use handloom_core::findings::Finding;
use handloom_core::findings::FindingLevel;
use handloom_core::records::JobRecord;
use handloom_core::records::RunRecord;
use handloom_core::records::StandingFindings;
use handloom_core::records::findings_below;
use handloom_core::records::run_analysis::RunAnalysis;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Summary;
use handloom_core::world::rounded_seconds;

use crate::ui::text;
use crate::ui::text::started;

/// Of what a failed job printed, so much of the end is shown, bytes.
const PRINTED: u64 = 64 * 1024;

/// Of a run with more jobs that printed something, so many are read for what they say of sources.
const MOST_TALKING: usize = 2000;

/// A step's time is told as different from before when it is so much of it, and so long.
const SHARE: f64 = 0.1;
const LONG: Duration = Duration::from_millis(20);

/// A run with all that is said of it.
pub struct Whole<'r> {
    /// The run.
    pub run: &'r RunRecord,
    /// The run before it, if it is kept.
    pub before: Option<&'r RunRecord>,
    /// The run read as a whole.
    pub digest: RunAnalysis,
    /// What jobs that failed printed, by their number.
    pub printed: Vec<(usize, String)>,
    /// What was said of sources, each with the number of the job that said it: errors first.
    pub findings: Vec<(usize, Finding)>,
}

impl<'r> Whole<'r> {
    /// Reads what belongs to a run; `earlier` are those before it, `standing` is what was said of sources, `root` is the
    /// project's folder.
    pub fn new(
        run: &'r RunRecord,
        earlier: &'r [RunRecord],
        standing: &StandingFindings,
        root: &Path,
    ) -> Self {
        let failed = (0..).zip(&run.jobs).filter(|(_, job)| is_bad(job));
        Self {
            run,
            before: earlier.last(),
            digest: RunAnalysis::of(run, earlier),
            printed: failed
                .map(|(number, job)| (number, printed(job, root)))
                .collect(),
            findings: said_of_sources(run, standing, root),
        }
    }

    /// The first error that a job said of a source.
    pub fn first_error(&self, job: usize) -> Option<&Finding> {
        let mut said = self.findings.iter().filter(|(number, _)| *number == job);
        let error = said.find(|(_, finding)| finding.level == FindingLevel::Error);
        error.map(|(_, finding)| finding)
    }

    /// Steps that took longer or shorter than before, the largest difference first: their number, and the
    /// time before.
    pub fn differences(&self) -> Vec<(usize, Duration)> {
        let jobs = &self.run.jobs;
        let well = |number: usize| matches!(jobs[number].ending, Ending::Made | Ending::Same);
        let mut all: Vec<(usize, Duration)> = (0..)
            .zip(&self.digest.earlier)
            .filter_map(|(number, before)| Some((number, (*before)?)))
            .filter(|&(number, before)| {
                let more = jobs[number].took.abs_diff(before);
                well(number) && more >= LONG && more >= before.mul_f64(SHARE)
            })
            .collect();
        all.sort_by(|a, b| {
            let more = |&(number, before): &(usize, Duration)| jobs[number].took.abs_diff(before);
            more(b).cmp(&more(a))
        });
        all
    }
}

/// What jobs of a run said of sources that are still there: the errors, then the warnings, then the notes, each in the jobs'
/// order.
fn said_of_sources(
    run: &RunRecord,
    standing: &StandingFindings,
    root: &Path,
) -> Vec<(usize, Finding)> {
    let mut all: Vec<(usize, Finding)> = Vec::new();
    let talking = (0..).zip(&run.jobs).filter(|(_, job)| job.log.is_some());
    for (number, job) in talking.take(MOST_TALKING) {
        let folder = job.place.rsplit_once('/').map_or("", |(folder, _)| folder);
        let found = findings_below(root, folder, &[], &printed(job, root));
        all.extend(found.into_iter().map(|finding| (number, finding)));
    }
    // What the project's own patterns found is kept as well, and what stands in no log since it was restored.
    let of_step: HashMap<&str, usize> = (0..)
        .zip(&run.jobs)
        .map(|(number, job)| (job.step.as_str(), number))
        .collect();
    for step in standing.of_run(run.head.run) {
        let Some(&number) = of_step.get(step.step.as_str()) else {
            continue;
        };
        for one in &step.found {
            let said = (number, one.finding.clone());
            if !all.contains(&said) {
                all.push(said);
            }
        }
    }
    all.sort_by_key(|(_, finding)| std::cmp::Reverse(finding.level));
    all
}

/// A finding in one line: its place, and what is said.
pub fn finding_line(finding: &Finding) -> String {
    let column = finding
        .column
        .map_or(String::new(), |column| format!(":{column}"));
    let code = finding
        .code
        .as_ref()
        .map_or(String::new(), |code| format!(" [{code}]"));
    let Finding {
        file,
        line,
        message,
        level,
        ..
    } = finding;
    format!("{file}:{line}{column}: {}: {message}{code}", level.name())
}

/// How long a job waited for a free place and for a worker, when that is worth telling.
fn waited(job: &JobRecord) -> Option<String> {
    let waits = [(job.waited, "a free place"), (job.queued, "a worker")];
    let worth = waits
        .iter()
        .filter(|(time, _)| *time >= Duration::from_millis(10));
    let told: Vec<String> = worth
        .map(|(time, what)| format!("waited {} for {what}", text::seconds(*time)))
        .collect();
    (!told.is_empty()).then(|| told.join(", "))
}

/// Whether a job did not end well.
pub fn is_bad(job: &JobRecord) -> bool {
    matches!(job.ending, Ending::Failed | Ending::Stopped)
}

/// The end of what a job printed.
fn printed(job: &JobRecord, root: &Path) -> String {
    let Some(log) = &job.log else {
        return String::new();
    };
    let read = || -> std::io::Result<String> {
        let mut file = File::open(root.join(log))?;
        let size = file.metadata()?.len();
        let mut text = String::new();
        if size > PRINTED {
            file.seek(SeekFrom::Start(size - PRINTED))?;
            text.push_str("…\n");
        }
        let mut bytes = Vec::new();
        file.take(PRINTED).read_to_end(&mut bytes)?;
        text.push_str(&crate::ui::text::safe_output(&bytes, false));
        Ok(text)
    };
    // The log may be gone with its run's number taken over; that is worth a word.
    read().unwrap_or_else(|error| format!("(what it printed can't be read: {error})"))
}

/// A run as programs read it.
#[derive(Serialize)]
struct WholeJson<'a> {
    run: u64,
    started: String,
    command: &'a str,
    jobs: usize,
    /// Whether it was killed before its end.
    killed: bool,
    seconds: f64,
    summary: Option<Summary>,
    job_seconds: f64,
    processor: f64,
    longest: Vec<LinkJson<'a>>,
    least: f64,
    /// How long jobs waited for a free place or a worker, together.
    waited: f64,
    /// How many were restored, and how much longer they took when they were made.
    restored: usize,
    saved: f64,
    /// What was said of sources, errors first.
    findings: Vec<SaidJson<'a>>,
    groups: Vec<GroupJson<'a>>,
    steps: Vec<ReportedStep<'a>>,
    before: Option<BeforeJson<'a>>,
}

#[derive(Serialize)]
struct SaidJson<'a> {
    step: &'a str,
    #[serde(flatten)]
    finding: &'a Finding,
}

#[derive(Serialize)]
struct LinkJson<'a> {
    step: &'a str,
    seconds: f64,
    waited: f64,
}

#[derive(Serialize)]
struct GroupJson<'a> {
    by: &'a str,
    place: &'a str,
    jobs: usize,
    seconds: f64,
    processor: f64,
    longest: &'a str,
}

#[derive(Serialize)]
struct ReportedStep<'a> {
    #[serde(flatten)]
    job: &'a JobRecord,
    before: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    printed: Option<&'a str>,
}

#[derive(Serialize)]
struct BeforeJson<'a> {
    run: u64,
    started: String,
    command: &'a str,
    seconds: Option<f64>,
    summary: Option<Summary>,
}

/// A run as programs read it.
pub fn json<'a>(whole: &'a Whole<'_>) -> impl Serialize + 'a {
    let (run, digest) = (whole.run, &whole.digest);
    let jobs = &run.jobs;
    let printed = |number: usize| {
        let found = whole.printed.iter().find(|(known, _)| *known == number);
        found.map(|(_, text)| text.as_str())
    };
    WholeJson {
        run: run.head.run,
        started: started(run.head.started).iso,
        command: &run.head.command,
        jobs: run.head.jobs,
        killed: run.tail.is_none(),
        seconds: rounded_seconds(digest.whole),
        summary: run.tail,
        job_seconds: rounded_seconds(digest.took),
        processor: rounded_seconds(digest.processor),
        longest: digest
            .longest
            .iter()
            .map(|&number| LinkJson {
                step: &jobs[number].step,
                seconds: rounded_seconds(jobs[number].took),
                waited: rounded_seconds(jobs[number].waited),
            })
            .collect(),
        least: rounded_seconds(digest.least),
        waited: rounded_seconds(digest.waited),
        restored: digest.restored,
        saved: rounded_seconds(digest.saved),
        findings: whole
            .findings
            .iter()
            .map(|(number, finding)| SaidJson {
                step: &jobs[*number].step,
                finding,
            })
            .collect(),
        groups: digest
            .groups
            .iter()
            .map(|group| GroupJson {
                by: &group.by,
                place: &group.place,
                jobs: group.jobs,
                seconds: rounded_seconds(group.took),
                processor: rounded_seconds(group.processor),
                longest: &jobs[group.longest].step,
            })
            .collect(),
        steps: jobs
            .iter()
            .enumerate()
            .map(|(number, job)| ReportedStep {
                job,
                before: digest.earlier[number].map(rounded_seconds),
                printed: printed(number),
            })
            .collect(),
        before: whole.before.map(|before| BeforeJson {
            run: before.head.run,
            started: started(before.head.started).iso,
            command: &before.head.command,
            seconds: before.tail.map(|tail| rounded_seconds(tail.took)),
            summary: before.tail,
        }),
    }
}
