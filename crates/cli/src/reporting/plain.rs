//! A run as text for a terminal.

use handloom_core::records::JobRecord;

use crate::reporting::Whole;
use crate::reporting::waited;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::style::counts;
use crate::ui::text;
use crate::ui::text::started;

/// Lists show so many.
const MOST: usize = 10;

/// The run's text.
pub fn write(whole: &Whole<'_>, theme: Theme) -> String {
    let (run, digest) = (whole.run, &whole.digest);
    let mut out = String::new();
    let counts: Vec<String> = match &run.tail {
        Some(tail) => counts(tail)
            .into_iter()
            .map(|(words, role)| theme.paint(role, &words))
            .collect(),
        None => vec![theme.paint(Role::Failed, "killed")],
    };
    out.push_str(&format!(
        "{}  {}  {}\n{}, {} in {}\n",
        theme.paint(Role::Title, &format!("run {}", run.head.run)),
        theme.paint(Role::Faint, &started(run.head.started).plain),
        theme.paint(Role::Name, &text::safe(&run.head.command)),
        counts.join(", "),
        text::count(digest.slowest.len(), "job"),
        text::seconds(digest.whole),
    ));
    let mut block = |title: &str, lines: Vec<String>, all: usize| {
        if lines.is_empty() {
            return;
        }
        out.push_str(&format!("\n{}\n", theme.paint(Role::Title, title)));
        lines.iter().for_each(|line| out.push_str(line));
        if all > lines.len() {
            let more = format!("         and {} more\n", all - lines.len());
            out.push_str(&theme.paint(Role::Faint, &more));
        }
    };
    let line = |job: &JobRecord, rest: &str| {
        let rest = theme.paint(Role::Faint, &text::safe(rest));
        let line = format!(
            "{:>7}  {}  {rest}",
            text::seconds(job.seconds),
            theme.paint(Role::Name, &text::safe(&job.step))
        );
        format!("{}\n", line.trim_end())
    };
    let job = |number: usize| &run.jobs[number];
    let failed: Vec<String> = whole
        .printed
        .iter()
        .take(MOST)
        .map(|(number, _)| {
            let job = job(*number);
            let exit = job.exit.as_deref().unwrap_or(&job.ending);
            let log = job
                .log
                .as_deref()
                .map(|log| format!(", what it printed: {log}"));
            line(
                job,
                &format!("{exit} ({}){}", job.place, log.unwrap_or_default()),
            )
        })
        .collect();
    block("what failed", failed, whole.printed.len());
    let longest = digest.longest.iter().map(|&number| {
        let job = job(number);
        line(job, &waited(job).unwrap_or_default())
    });
    let title = format!(
        "the longest way: {} that no number of cores makes shorter",
        text::seconds(digest.least)
    );
    block(&title, longest.collect(), 0);
    let groups = digest.groups.iter().take(MOST).map(|group| {
        format!(
            "{:>7}  {:>3.0}%  {}  {}\n",
            text::seconds(group.seconds),
            100.0 * group.seconds / digest.seconds.max(f64::MIN_POSITIVE),
            theme.paint(Role::Name, &text::safe(&group.by)),
            theme.paint(
                Role::Faint,
                &format!(
                    "{}, {}",
                    text::count(group.jobs, "job"),
                    text::safe(&group.place)
                )
            )
        )
    });
    block("where the time went", groups.collect(), digest.groups.len());
    let slowest = digest.slowest.iter().take(MOST);
    let slowest = slowest.map(|&number| line(job(number), &job(number).reasons.join("; ")));
    block("slowest", slowest.collect(), digest.slowest.len());
    let differences = whole.differences();
    let lines = differences
        .iter()
        .take(MOST)
        .map(|&(number, before)| line(job(number), &format!("before {}", text::seconds(before))));
    block(
        "longer or shorter than before",
        lines.collect(),
        differences.len(),
    );
    out
}
