//! A run as one page that needs nothing else: the figures as plain tables, the time line drawn by a script
//! from the run's record, which the page carries as JSON.

use std::fmt::Write;
use std::time::Duration;

use handloom_core::records::JobRecord;
use handloom_core::records::run_analysis::ran;
use handloom_core::scheduler::Ending;
use handloom_core::world::ByteSize;
use handloom_core::world::share;

use crate::reporting::Whole;
use crate::reporting::finding_line;
use crate::reporting::json;
use crate::reporting::nodes;
use crate::reporting::page_usage::findings;
use crate::reporting::page_usage::largest;
use crate::reporting::page_usage::restored;
use crate::reporting::page_usage::waiting;
use crate::reporting::waited;
use crate::ui::style::counts;
use crate::ui::style::ending_name;
use crate::ui::text;
use crate::ui::text::escaped;
use crate::ui::text::started;

const STYLE: &str = include_str!("../../pages/report.css");
const SCRIPT: &str = include_str!("../../pages/report.js");

/// Lists show so many; the table of all jobs so many.
pub(super) const MOST: usize = 15;
const ROWS: usize = 2000;

/// The beginning of any page of ours.
pub fn begin(title: &str) -> String {
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n<meta name=\"color-scheme\" content=\"light dark\">\n<title>{}</title>\n<style>\n{STYLE}</style>\n",
        escaped(title)
    )
}

/// The page's text; `project` is the name of the project's folder.
pub fn write(whole: &Whole<'_>, project: &str) -> String {
    let run = whole.run;
    let mut out = begin(&format!("{project}: run {}", run.head.run));
    head(whole, project, &mut out);
    out.push_str("<main>\n");
    failures(whole, &mut out);
    time_line(whole, &mut out);
    out.push_str("<div class=\"two\">\n");
    longest(whole, &mut out);
    groups(whole, &mut out);
    where_it_ran(whole, &mut out);
    slowest(whole, &mut out);
    largest(whole, &mut out);
    waiting(whole, &mut out);
    restored(whole, &mut out);
    findings(whole, &mut out);
    differences(whole, &mut out);
    out.push_str("</div>\n");
    all_jobs(whole, &mut out);
    out.push_str("</main>\n");
    // Within a script nothing is escaped, so nothing may look like its end.
    let data = serde_json::to_string(&json(whole)).unwrap_or_default();
    // No page may hold these, in whatever way it is written.
    let data = text::shown_json(&data).replace(['\u{fffe}', '\u{ffff}'], "\u{fffd}");
    let data = data.replace('<', "\\u003c");
    let _ = write!(
        out,
        "<script type=\"application/json\" id=\"run\">{data}</script>\n<script>\n{SCRIPT}</script>\n</html>\n"
    );
    out
}

fn head(whole: &Whole<'_>, project: &str, out: &mut String) {
    let (run, digest) = (whole.run, &whole.digest);
    let counts: String = match &run.tail {
        Some(tail) => counts(tail)
            .into_iter()
            .map(|(words, _)| {
                let kind = words.rsplit(' ').next().unwrap_or_default().to_owned();
                format!("<li class=\"{kind}\">{words}</li>")
            })
            .collect(),
        None => "<li class=\"failed\">killed before its end</li>".to_owned(),
    };
    let _ = write!(
        out,
        "<header>\n<h1><span>{}</span> run {}</h1>\n<p><code>{}</code> {}</p>\n<ul class=\"counts\">{counts}</ul>\n<dl>{}{}{}{}</dl>\n</header>\n",
        escaped(project),
        run.head.run,
        escaped(&run.head.command),
        started(run.head.started).plain,
        figure("took", &text::seconds(digest.whole)),
        figure("longest way", &text::seconds(digest.least)),
        figure(
            "jobs at once",
            &format!("{:.1} of {}", digest.at_once(), run.head.jobs)
        ),
        figure("processor", &text::seconds(digest.processor)),
    );
}

fn figure(name: &str, value: &str) -> String {
    format!("<div><dt>{name}</dt><dd>{value}</dd></div>")
}

fn failures(whole: &Whole<'_>, out: &mut String) {
    if whole.printed.is_empty() {
        return;
    }
    out.push_str("<section>\n<h2>What failed</h2>\n");
    for (number, printed) in &whole.printed {
        let job = &whole.run.jobs[*number];
        let _ = write!(
            out,
            "<details open class=\"failure\"><summary><b>{}</b> {} <span>{}</span></summary><p class=\"why\">{}</p>",
            escaped(&job.step),
            escaped(job.exit.as_deref().unwrap_or(job.ending.name())),
            escaped(&job.place),
            escaped(&job.reasons.join("; ")),
        );
        if let Some(error) = whole.first_error(*number) {
            let _ = write!(
                out,
                "<p class=\"first\">{}</p>",
                escaped(&finding_line(error))
            );
        }
        if printed.is_empty() {
            out.push_str("<p class=\"why\">It printed nothing.</p></details>\n");
        } else {
            let _ = writeln!(out, "<pre>{}</pre></details>", escaped(printed));
        }
    }
    let held = whole
        .run
        .jobs
        .iter()
        .filter(|job| job.ending == Ending::Held);
    let held: Vec<String> = held.map(|job| escaped(&job.step)).collect();
    if !held.is_empty() {
        let _ = writeln!(
            out,
            "<details><summary>{} not run because of it</summary><p class=\"why\">{}</p></details>",
            text::count(held.len(), "step"),
            held.join(", ")
        );
    }
    out.push_str("</section>\n");
}

fn time_line(whole: &Whole<'_>, out: &mut String) {
    if whole.digest.slowest.is_empty() {
        return;
    }
    let is_queued = |job: &JobRecord| !job.queued.is_zero();
    let queue = match whole.run.jobs.iter().any(is_queued) {
        true => " <i class=\"queue\"></i>waits for a worker",
        false => "",
    };
    let _ = write!(
        out,
        "<section id=\"line\">\n<h2>Time line</h2>\n\
         <p class=\"keys\"><button type=\"button\" data-zoom=\"in\">+ nearer</button> \
         <button type=\"button\" data-zoom=\"out\">− farther</button> \
         <button type=\"button\" data-zoom=\"all\">0 all</button> \
         <span>arrow keys go from job to job, the pointer drags, Ctrl and the wheel go nearer</span></p>\n\
         <canvas tabindex=\"0\" role=\"img\" aria-label=\"Jobs over time, one row for each that could run at once\" aria-describedby=\"told\"></canvas>\n\
         <p class=\"key\"><i class=\"made\"></i>made <i class=\"same\"></i>came out the same <i class=\"restored\"></i>from the store \
         <i class=\"failed\"></i>failed <i class=\"way\"></i>on the longest way{queue}</p>\n\
         <div id=\"told\" aria-live=\"polite\"></div>\n\
         <noscript><p>The time line is drawn by a script; the tables below need none.</p></noscript>\n</section>\n",
    );
}

/// A table's row that shows its share as a bar.
pub(super) fn row(share: f64, cells: &[String]) -> String {
    let cells: Vec<String> = cells
        .iter()
        .map(|cell| format!("<td>{cell}</td>"))
        .collect();
    format!(
        "<tr style=\"--share:{:.3}\">{}</tr>\n",
        share.clamp(0.0, 1.0),
        cells.concat()
    )
}

pub(super) fn name(job: &JobRecord) -> String {
    format!("<b>{}</b>", escaped(&job.step))
}

pub(super) fn faint(text: &str) -> String {
    format!("<small>{}</small>", escaped(text))
}

pub(super) fn section(title: &str, about: &str, rows: &[String], out: &mut String) {
    if rows.is_empty() {
        return;
    }
    let _ = writeln!(
        out,
        "<section>\n<h2>{title}</h2>\n<p class=\"why\">{about}</p>\n<table class=\"bars\">\n{}</table>\n</section>",
        rows.concat()
    );
}

fn longest(whole: &Whole<'_>, out: &mut String) {
    let digest = &whole.digest;
    let rows: Vec<String> = digest
        .longest
        .iter()
        .map(|&number| {
            let job = &whole.run.jobs[number];
            let waited = waited(job).map_or_else(String::new, |waited| faint(&waited));
            row(
                share(job.took, digest.least),
                &[text::seconds(job.took), format!("{} {waited}", name(job))],
            )
        })
        .collect();
    let about = format!(
        "Each waited for the one above it. {} of {}: no number of cores makes the run shorter than that.",
        text::seconds(digest.least),
        text::seconds(digest.whole)
    );
    section("The longest way", &about, &rows, out);
}

fn groups(whole: &Whole<'_>, out: &mut String) {
    let digest = &whole.digest;
    let rows: Vec<String> = digest
        .groups
        .iter()
        .take(MOST)
        .map(|group| {
            let part = share(group.took, digest.took);
            row(
                part,
                &[
                    text::seconds(group.took),
                    format!("{:.0}%", 100.0 * part),
                    format!(
                        "<b>{}</b> {}",
                        escaped(&group.by),
                        faint(&format!(
                            "{}, {}",
                            text::count(group.jobs, "job"),
                            group.place
                        ))
                    ),
                ],
            )
        })
        .collect();
    let about = "All jobs of one description together.";
    section("Where the time went", about, &rows, out);
}

fn where_it_ran(whole: &Whole<'_>, out: &mut String) {
    let rows: Vec<String> = nodes::shares(whole.run)
        .iter()
        .map(|node| {
            let part = share(node.took, whole.digest.took);
            let mut about = text::count(node.jobs.len(), "job");
            if node.queued >= Duration::from_millis(10) {
                let queued = text::seconds(node.queued);
                let _ = write!(about, ", which waited up to {queued} for a worker");
            }
            row(
                part,
                &[
                    text::seconds(node.took),
                    format!("{:.0}%", 100.0 * part),
                    format!("<b>{}</b> {}", escaped(&node.name), faint(&about)),
                ],
            )
        })
        .collect();
    let about = "All jobs of one machine together.";
    section("Where it ran", about, &rows, out);
}

fn slowest(whole: &Whole<'_>, out: &mut String) {
    let jobs = &whole.run.jobs;
    let most = whole
        .digest
        .slowest
        .first()
        .map_or(Duration::ZERO, |&job| jobs[job].took);
    let rows: Vec<String> = whole
        .digest
        .slowest
        .iter()
        .take(MOST)
        .map(|&number| {
            let job = &jobs[number];
            row(
                share(job.took, most),
                &[
                    text::seconds(job.took),
                    format!("{} {}", name(job), faint(&job.reasons.join("; "))),
                ],
            )
        })
        .collect();
    section("Slowest", "With why they ran.", &rows, out);
}

fn differences(whole: &Whole<'_>, out: &mut String) {
    let Some(before) = whole.before else { return };
    let jobs = &whole.run.jobs;
    let all = whole.differences();
    let most = all.first().map_or(Duration::ZERO, |&(number, before)| {
        jobs[number].took.abs_diff(before)
    });
    let mut rows: Vec<String> = all
        .iter()
        .take(MOST)
        .map(|&(number, before)| {
            let job = &jobs[number];
            let more = job.took.abs_diff(before);
            let sign = if job.took > before { "+" } else { "−" };
            row(
                share(more, most),
                &[
                    format!("{sign}{}", text::seconds(more)),
                    format!(
                        "{} {}",
                        name(job),
                        faint(&format!(
                            "{}, before {}",
                            text::seconds(job.took),
                            text::seconds(before)
                        ))
                    ),
                ],
            )
        })
        .collect();
    if rows.is_empty() {
        rows.push(
            "<tr><td>No step that ran before took noticeably longer or shorter.</td></tr>\n"
                .to_owned(),
        );
    }
    let took = before.tail.map_or_else(
        || "was killed".to_owned(),
        |tail| format!("took {}", text::seconds(tail.took)),
    );
    let counts: Vec<String> = before
        .tail
        .iter()
        .flat_map(counts)
        .map(|(words, _)| words)
        .collect();
    let about = format!(
        "Run {}, <code>{}</code>, {took}: {}. Steps are compared with when they last ran well.",
        before.head.run,
        escaped(&before.head.command),
        counts.join(", ")
    );
    section("Compared with before", &about, &rows, out);
}

/// Why a job ran, and where its result came from when it did not.
fn why(job: &JobRecord) -> String {
    let reasons = job.reasons.join("; ");
    match &job.from {
        Some(origin) => format!("{reasons} ({})", text::origin(origin)),
        None => reasons,
    }
}

fn all_jobs(whole: &Whole<'_>, out: &mut String) {
    let jobs = &whole.run.jobs;
    if jobs.is_empty() {
        return;
    }
    // Of a great many the slowest are worth reading.
    let mut shown: Vec<usize> = if jobs.len() > ROWS {
        whole.digest.slowest[..ROWS.min(whole.digest.slowest.len())].to_vec()
    } else {
        (0..jobs.len()).collect()
    };
    shown.sort_by(|&a, &b| {
        let held = |job: usize| !ran(&jobs[job]);
        let began = jobs[a].began.cmp(&jobs[b].began);
        held(a).cmp(&held(b)).then(began)
    });
    let more = if shown.len() < jobs.len() {
        format!(
            " <small>the {} slowest of {}</small>",
            shown.len(),
            jobs.len()
        )
    } else {
        String::new()
    };
    let _ = write!(
        out,
        "<section id=\"all\">\n<h2>Every job, and why it ran{more}</h2>\n<p class=\"keys\"><label>Only with <input type=\"search\" id=\"only\"></label></p>\n<table class=\"all\">\n<thead><tr><th>began<th>took<th>before<th>ending<th>what<th>why<th>memory</tr></thead>\n<tbody>\n"
    );
    for number in shown {
        let job = &jobs[number];
        let before = whole.digest.earlier[number].map_or_else(String::new, text::seconds);
        let [began, took] = if ran(job) {
            [job.began, job.took].map(text::seconds)
        } else {
            [String::new(), String::new()]
        };
        let memory = if job.memory == ByteSize::default() {
            String::new()
        } else {
            text::bytes(job.memory)
        };
        let _ = writeln!(
            out,
            "<tr class=\"{ending}\"><td>{began}<td>{took}<td>{before}<td>{}<td>{}<td>{}<td>{memory}</tr>",
            ending_name(job.ending, job.task),
            name(job),
            escaped(&why(job)),
            ending = job.ending.name(),
        );
    }
    out.push_str("</tbody>\n</table>\n</section>\n");
}
