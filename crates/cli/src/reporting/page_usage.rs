//! What a run used and spared, and what it said of sources, as parts of its page.

use std::fmt::Write;
use std::time::Duration;

use handloom_core::records::JobRecord;
use handloom_core::world::share;

use crate::reporting::Whole;
use crate::reporting::finding_line;
use crate::reporting::page::MOST;
use crate::reporting::page::faint;
use crate::reporting::page::name;
use crate::reporting::page::row;
use crate::reporting::page::section;
use crate::reporting::waited;
use crate::ui::text;
use crate::ui::text::escaped;

/// What held the most memory, and how busy it kept a core.
pub fn largest(whole: &Whole<'_>, out: &mut String) {
    let jobs = &whole.run.jobs;
    let largest = &whole.digest.largest;
    let most = largest.first().map_or(0, |&job| jobs[job].memory.bytes());
    let rows: Vec<String> = largest
        .iter()
        .take(MOST)
        .map(|&number| {
            let job = &jobs[number];
            #[expect(clippy::cast_precision_loss, reason = "a share, for people")]
            let part = job.memory.bytes() as f64 / most as f64;
            let busy = 100.0 * share(job.processor, job.took);
            let about = format!("{busy:.0}% of a core for {}", text::seconds(job.took));
            row(
                part,
                &[
                    text::bytes(job.memory),
                    format!("{} {}", name(job), faint(&about)),
                ],
            )
        })
        .collect();
    let about = "The most that any process of a job held, and how busy it kept a core.";
    section("Memory and processor", about, &rows, out);
}

/// What waited although nothing else was in its way.
pub fn waiting(whole: &Whole<'_>, out: &mut String) {
    let (jobs, digest) = (&whole.run.jobs, &whole.digest);
    let wait = |number: usize| jobs[number].waited + jobs[number].queued;
    let most = digest
        .waiting
        .first()
        .map_or(Duration::ZERO, |&number| wait(number));
    let rows: Vec<String> = digest
        .waiting
        .iter()
        .filter_map(|&number| Some((number, waited(&jobs[number])?)))
        .take(MOST)
        .map(|(number, waited)| {
            let name = format!("{} {}", name(&jobs[number]), faint(&waited));
            row(
                share(wait(number), most),
                &[text::seconds(wait(number)), name],
            )
        })
        .collect();
    let about = format!(
        "{} together: nothing else was in the way of these jobs.",
        text::seconds(digest.waited)
    );
    section("Waiting", &about, &rows, out);
}

/// What came from the store, and how long it took when it was made.
pub fn restored(whole: &Whole<'_>, out: &mut String) {
    let (jobs, digest) = (&whole.run.jobs, &whole.digest);
    let mut restored: Vec<(Duration, &JobRecord, &str)> = jobs
        .iter()
        .filter_map(|job| {
            let origin = job.from.as_ref()?;
            Some((origin.took(), job, origin.made_in.as_str()))
        })
        .collect();
    restored.sort_by_key(|(took, ..)| std::cmp::Reverse(*took));
    let most = restored.first().map_or(Duration::ZERO, |(took, ..)| *took);
    let rows: Vec<String> = restored
        .iter()
        .take(MOST)
        .map(|(took, job, made_in)| {
            let about = format!("restored in {}, made in {made_in}", text::seconds(job.took));
            let name = format!("{} {}", name(job), faint(&about));
            row(share(*took, most), &[text::seconds(*took), name])
        })
        .collect();
    let about = format!(
        "{} from the store, which saved {}. How long each took when it was made:",
        text::count(digest.restored, "result"),
        text::seconds(digest.saved)
    );
    section("Restored", &about, &rows, out);
}

/// What compilers and checkers said.
pub fn findings(whole: &Whole<'_>, out: &mut String) {
    if whole.findings.is_empty() {
        return;
    }
    out.push_str("<section>\n<h2>What was said of sources</h2>\n<ul class=\"said\">\n");
    for (number, finding) in whole.findings.iter().take(MOST) {
        let _ = writeln!(
            out,
            "<li class=\"{}\">{} {}</li>",
            finding.level.name(),
            escaped(&finding_line(finding)),
            faint(&whole.run.jobs[*number].step),
        );
    }
    let more = whole.findings.len().saturating_sub(MOST);
    let more = match more {
        0 => String::new(),
        more => format!("<p class=\"why\">and {more} more</p>"),
    };
    let _ = writeln!(out, "</ul>{more}\n</section>");
}
