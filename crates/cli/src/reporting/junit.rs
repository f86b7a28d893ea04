//! A run as JUnit XML, which build servers read: a suite for each description, a case for each step.
//!
//! The attributes and elements are those that the readers of this format have in common: counts, times in
//! seconds, `failure`, `error`, `skipped` and `system-out`.

use std::io;
use std::time::Duration;

use handloom_core::records::JobRecord;
use handloom_core::scheduler::Ending;
use quick_xml::Writer;
use quick_xml::events::BytesDecl;
use quick_xml::events::BytesText;
use quick_xml::events::Event;

use crate::reporting::Whole;
use crate::ui::text;

type Xml = Writer<Vec<u8>>;

/// The cases of one description.
struct TestSuite<'a> {
    name: &'a str,
    cases: Vec<TestCase<'a>>,
}

/// A step's result.
struct TestCase<'a> {
    job: &'a JobRecord,
    printed: &'a str,
    bad: Option<Bad>,
}

/// What became of a step that did not end well.
struct Bad {
    element: &'static str,
    message: String,
}

/// The results' text.
///
/// # Errors
/// When it can't be written as XML.
pub fn write(whole: &Whole<'_>) -> io::Result<String> {
    let suites = suites(whole);
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 4);
    write_all(&mut xml, whole, &suites)?;
    String::from_utf8(xml.into_inner()).map_err(io::Error::other)
}

fn suites<'a>(whole: &'a Whole<'_>) -> Vec<TestSuite<'a>> {
    let mut suites: Vec<TestSuite<'a>> = Vec::new();
    for (number, job) in whole.run.jobs.iter().enumerate() {
        let name = match (job.by.as_str(), job.ending) {
            ("", Ending::Held) => "not run",
            ("", _) => "steps",
            (by, _) => by,
        };
        let at = suites.iter().position(|suite| suite.name == name);
        let at = at.unwrap_or_else(|| {
            let cases = Vec::new();
            suites.push(TestSuite { name, cases });
            suites.len() - 1
        });
        let printed = whole.printed.iter().find(|(known, _)| *known == number);
        suites[at].cases.push(TestCase {
            job,
            printed: printed.map_or("", |(_, text)| text),
            bad: bad(job),
        });
    }
    suites
}

fn bad(job: &JobRecord) -> Option<Bad> {
    let (element, message) = match job.ending {
        Ending::Held => (
            "skipped",
            "not run, because what it needs failed".to_owned(),
        ),
        Ending::Stopped => ("error", "it was interrupted".to_owned()),
        Ending::Failed => (
            "failure",
            match &job.exit {
                Some(exit) => format!("{exit} ({})", job.place),
                None => job.place.clone(),
            },
        ),
        Ending::Made | Ending::Same | Ending::Kept | Ending::Restored => return None,
    };
    Some(Bad { element, message })
}

fn write_all(xml: &mut Xml, whole: &Whole<'_>, suites: &[TestSuite<'_>]) -> io::Result<()> {
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let cases = || suites.iter().flat_map(|suite| &suite.cases);
    let name = text::safe(&whole.run.head.command);
    xml.create_element("testsuites")
        .with_attribute(("name", &*name))
        .with_attribute(("tests", &*cases().count().to_string()))
        .with_attribute(("skipped", &*count(cases(), "skipped")))
        .with_attribute(("failures", &*count(cases(), "failure")))
        .with_attribute(("errors", &*count(cases(), "error")))
        .with_attribute(("time", &*seconds(whole.digest.whole)))
        .write_inner_content(|xml| suites.iter().try_for_each(|suite| write_suite(xml, suite)))?;
    xml.write_indent()
}

fn write_suite(xml: &mut Xml, suite: &TestSuite<'_>) -> io::Result<()> {
    xml.create_element("testsuite")
        .with_attribute(("name", &*text::safe(suite.name)))
        .with_attribute(("tests", &*suite.cases.len().to_string()))
        .with_attribute(("skipped", &*count(suite.cases.iter(), "skipped")))
        .with_attribute(("errors", &*count(suite.cases.iter(), "error")))
        .with_attribute(("failures", &*count(suite.cases.iter(), "failure")))
        .write_inner_content(|xml| {
            suite
                .cases
                .iter()
                .try_for_each(|case| write_case(xml, case))
        })?;
    Ok(())
}

fn write_case(xml: &mut Xml, case: &TestCase<'_>) -> io::Result<()> {
    let job = case.job;
    let element = xml
        .create_element("testcase")
        .with_attribute(("name", &*text::safe(&job.step)))
        .with_attribute(("classname", &*text::safe(&job.by)))
        .with_attribute(("time", &*seconds(job.took)));
    if case.bad.is_none() && job.reasons.is_empty() && job.from.is_none() {
        element.write_empty()?;
        return Ok(());
    }
    element.write_inner_content(|xml| {
        if let Some(bad) = &case.bad {
            xml.create_element(bad.element)
                .with_attribute(("message", &*text::safe(&bad.message)))
                .write_text_content(BytesText::new(&text::safe_lines(case.printed)))?;
        }
        if !job.reasons.is_empty() || job.from.is_some() {
            let reasons = job.reasons.join("; ");
            let why = match &job.from {
                Some(origin) => format!("restored: {}; why: {reasons}", text::origin(origin)),
                None => format!("why it ran: {reasons}"),
            };
            xml.create_element("system-out")
                .write_text_content(BytesText::new(&text::safe(&why)))?;
        }
        Ok(())
    })?;
    Ok(())
}

fn count<'a>(cases: impl Iterator<Item = &'a TestCase<'a>>, element: &str) -> String {
    let bad = |case: &&TestCase<'_>| case.bad.as_ref().is_some_and(|bad| bad.element == element);
    cases.filter(bad).count().to_string()
}

fn seconds(time: Duration) -> String {
    format!("{:.3}", time.as_secs_f64())
}
