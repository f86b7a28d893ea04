//! A run as JUnit XML, which build servers read: a suite for each description, a case for each step.

use std::time::Duration;

use handloom_core::history::Job;
use quick_junit::NonSuccessKind;
use quick_junit::Report;
use quick_junit::TestCase;
use quick_junit::TestCaseStatus;
use quick_junit::TestSuite;

use crate::reporting::Whole;
use crate::ui::text;

/// The results' text.
///
/// # Errors
/// In words, when it can't be written as XML.
pub fn write(whole: &Whole<'_>) -> Result<String, String> {
    let run = whole.run;
    let mut report = Report::new(text::safe(&run.head.command));
    report.set_time(duration(whole.digest.whole));
    let mut suites: Vec<(&str, TestSuite)> = Vec::new();
    for (number, job) in run.jobs.iter().enumerate() {
        let name = match (job.by.as_str(), job.ending.as_str()) {
            ("", "held") => "not run",
            ("", _) => "steps",
            (by, _) => by,
        };
        let at = suites.iter().position(|(known, _)| *known == name);
        let at = at.unwrap_or_else(|| {
            suites.push((name, TestSuite::new(text::safe(name))));
            suites.len() - 1
        });
        let printed = whole.printed.iter().find(|(known, _)| *known == number);
        let case = case(job, printed.map_or("", |(_, text)| text));
        suites[at].1.add_test_case(case);
    }
    report.add_test_suites(suites.into_iter().map(|(_, suite)| suite));
    report.to_string().map_err(|error| error.to_string())
}

fn case(job: &Job, printed: &str) -> TestCase {
    let mut status = match job.ending.as_str() {
        "failed" => TestCaseStatus::non_success(NonSuccessKind::Failure),
        "stopped" => TestCaseStatus::non_success(NonSuccessKind::Error),
        "held" => TestCaseStatus::skipped(),
        _ => TestCaseStatus::success(),
    };
    let message = match (job.ending.as_str(), &job.exit) {
        ("held", _) => Some("not run, because what it needs failed".to_owned()),
        ("stopped", _) => Some("it was interrupted".to_owned()),
        ("failed", Some(exit)) => Some(format!("{exit} ({})", job.place)),
        ("failed", None) => Some(job.place.clone()),
        _ => None,
    };
    if let Some(message) = message {
        status.set_message(text::safe(&message));
        status.set_description(text::safe_lines(printed));
    }
    let mut case = TestCase::new(text::safe(&job.step), status);
    case.set_classname(text::safe(&job.by));
    case.set_time(duration(job.seconds));
    if !job.reasons.is_empty() {
        let why = format!("why it ran: {}", job.reasons.join("; "));
        case.set_system_out(text::safe(&why));
    }
    case
}

fn duration(seconds: f64) -> Duration {
    Duration::try_from_secs_f64(seconds).unwrap_or_default()
}
