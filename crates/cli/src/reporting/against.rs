//! Two runs side by side: their figures, and the steps that made the difference.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::time::Duration;

use serde::Serialize;

use handloom_core::records::JobRecord;
use handloom_core::records::run_analysis::ran;
use handloom_core::scheduler::Ending;
use handloom_core::world::ByteSize;
use handloom_core::world::rounded_seconds;
use handloom_core::world::share;

use crate::reporting::Whole;
use crate::reporting::page::begin;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::style::counts;
use crate::ui::style::ending_name;
use crate::ui::text;
use crate::ui::text::escaped;
use crate::ui::text::started;

/// Lists show so many.
const MOST: usize = 20;

/// A step in both runs.
#[derive(Clone, Copy, Debug)]
struct InBoth<'r> {
    before: &'r JobRecord,
    now: &'r JobRecord,
}

/// Two runs.
pub struct TwoRuns<'r> {
    /// The one that is reported on.
    now: &'r Whole<'r>,
    /// The one that it is put beside.
    before: &'r Whole<'r>,
    /// What ran in both, the largest difference of time first.
    both: Vec<InBoth<'r>>,
    /// What ran in one of them alone, the slowest first.
    only_now: Vec<&'r JobRecord>,
    only_before: Vec<&'r JobRecord>,
}

impl<'r> TwoRuns<'r> {
    /// Puts two runs side by side.
    pub fn new(now: &'r Whole<'r>, before: &'r Whole<'r>) -> Self {
        let of = |whole: &'r Whole<'r>| -> BTreeMap<&'r str, &'r JobRecord> {
            let jobs = whole.run.jobs.iter().filter(|job| ran(job));
            jobs.map(|job| (job.step.as_str(), job)).collect()
        };
        let (jobs, jobs_before) = (of(now), of(before));
        let alone = |some: &BTreeMap<&'r str, &'r JobRecord>,
                     others: &BTreeMap<&'r str, &'r JobRecord>| {
            let alone = some.iter().filter(|(name, _)| !others.contains_key(*name));
            let mut alone: Vec<&'r JobRecord> = alone.map(|(_, job)| *job).collect();
            alone.sort_by_key(|job| Reverse(job.took));
            alone
        };
        let mut both: Vec<InBoth<'r>> = jobs
            .iter()
            .filter_map(|(name, now)| {
                let before = jobs_before.get(name)?;
                Some(InBoth { before, now })
            })
            .collect();
        both.sort_by_key(|pair| Reverse(pair.now.took.abs_diff(pair.before.took)));
        Self {
            only_now: alone(&jobs, &jobs_before),
            only_before: alone(&jobs_before, &jobs),
            now,
            before,
            both,
        }
    }

    /// Each figure of both runs: what it is, before, and now.
    fn figures(&self) -> Vec<[String; 3]> {
        let figure = |name: &str, of: &dyn Fn(&Whole<'_>) -> String| {
            [name.to_owned(), of(self.before), of(self.now)]
        };
        let counted = |whole: &Whole<'_>| match &whole.run.tail {
            Some(tail) => {
                let words = counts(tail).into_iter().map(|(words, _)| words);
                words.collect::<Vec<_>>().join(", ")
            }
            None => "killed".to_owned(),
        };
        let largest = |whole: &Whole<'_>| match whole.digest.largest.first() {
            Some(&job) => text::bytes(whole.run.jobs[job].memory),
            None => "-".to_owned(),
        };
        let restored = |whole: &Whole<'_>| match whole.digest.restored {
            0 => "-".to_owned(),
            count => format!("{count}, saved {}", text::seconds(whole.digest.saved)),
        };
        let found = |whole: &Whole<'_>| match whole.findings.len() {
            0 => "-".to_owned(),
            count => count.to_string(),
        };
        vec![
            figure("when", &|whole| started(whole.run.head.started).plain),
            figure("typed", &|whole| whole.run.head.command.clone()),
            figure("took", &|whole| text::seconds(whole.digest.whole)),
            figure("ended", &counted),
            figure("longest way", &|whole| text::seconds(whole.digest.least)),
            figure("all jobs", &|whole| text::seconds(whole.digest.took)),
            figure("processor", &|whole| text::seconds(whole.digest.processor)),
            figure("jobs at once", &|whole| {
                format!("{:.1} of {}", whole.digest.at_once(), whole.run.head.jobs)
            }),
            figure("waiting", &|whole| text::seconds(whole.digest.waited)),
            figure("most memory", &largest),
            figure("restored", &restored),
            figure("said of sources", &found),
        ]
    }

    /// Those that ended in another way than before.
    fn other_endings(&self) -> Vec<InBoth<'r>> {
        let both = self.both.iter().copied();
        both.filter(|pair| pair.now.ending.is_good() != pair.before.ending.is_good())
            .collect()
    }

    /// Those that were run in both, and took longer or shorter than chance would have it.
    fn other_times(&self) -> Vec<InBoth<'r>> {
        let is_noticed = |pair: &InBoth<'_>| {
            let more = pair.now.took.abs_diff(pair.before.took);
            more >= Duration::from_millis(20) && share(more, pair.before.took) >= 0.1
        };
        let has_run = |job: &JobRecord| matches!(job.ending, Ending::Made | Ending::Same);
        let both = self.both.iter().copied();
        both.filter(|pair| has_run(pair.now) && has_run(pair.before) && is_noticed(pair))
            .collect()
    }

    fn numbers(&self) -> [u64; 2] {
        [self.before.run.head.run, self.now.run.head.run]
    }
}

/// Why a job was in one run alone, and whether it ran there at all.
fn why(job: &JobRecord) -> String {
    let reasons = job.reasons.join("; ");
    match job.ending {
        Ending::Restored => format!("restored; {reasons}"),
        _ => reasons,
    }
}

/// A step's times in both, for people.
fn times(pair: &InBoth<'_>) -> String {
    let (now, before) = (pair.now.took, pair.before.took);
    let sign = if now > before { "+" } else { "−" };
    format!("{sign}{}", text::seconds(now.abs_diff(before)))
}

fn was_and_is(pair: &InBoth<'_>) -> String {
    let (now, before) = (pair.now.took, pair.before.took);
    let mut text = format!("{}, before {}", text::seconds(now), text::seconds(before));
    let (now, before) = (pair.now.memory, pair.before.memory);
    if now > ByteSize::default() && before > ByteSize::default() {
        let _ = write!(
            text,
            "; {}, before {}",
            text::bytes(now),
            text::bytes(before)
        );
    }
    text
}

/// Two runs as text for a terminal.
pub fn plain(two: &TwoRuns<'_>, theme: Theme) -> String {
    let [before, now] = two.numbers();
    let figures = two.figures();
    let width = |column: usize| {
        let columns = figures
            .iter()
            .map(|row| text::columns(&row[column]).min(40));
        columns.max().unwrap_or(0).max(8)
    };
    let (first, second) = (width(0), width(1));
    let cell = |text: &str, width: usize| {
        let shown: String = text::safe(text).chars().take(40).collect();
        let pad = width.saturating_sub(text::columns(&shown));
        format!("{shown}{:pad$}", "")
    };
    let title = |text: &str| theme.paint(Role::Title, text);
    let mut out = format!(
        "{}  {}  {}\n",
        cell("", first),
        title(&cell(&format!("run {before}"), second)),
        title(&format!("run {now}"))
    );
    for [name, before, now] in &figures {
        let role = if before == now {
            Role::Faint
        } else {
            Role::Name
        };
        let line = format!(
            "{}  {}  {}",
            theme.paint(Role::Faint, &cell(name, first)),
            cell(before, second),
            theme.paint(role, cell(now, 0).trim_end())
        );
        out.push_str(line.trim_end());
        out.push('\n');
    }
    let mut block = |heading: &str, lines: Vec<String>| {
        if lines.is_empty() {
            return;
        }
        let _ = write!(out, "\n{}\n", title(heading));
        let all = lines.len();
        out.extend(lines.into_iter().take(MOST));
        if all > MOST {
            let more = format!("         and {} more\n", all - MOST);
            out.push_str(&theme.paint(Role::Faint, &more));
        }
    };
    let line = |size: &str, job: &JobRecord, rest: &str| {
        let line = format!(
            "{size:>8}  {}  {}",
            theme.paint(Role::Name, &text::safe(&job.step)),
            theme.paint(Role::Faint, &text::safe(rest))
        );
        format!("{}\n", line.trim_end())
    };
    let endings = two.other_endings();
    let endings = endings.iter().map(|pair| {
        let before = format!("before: {}", word(pair.before));
        line(word(pair.now), pair.now, &before)
    });
    block("ended otherwise", endings.collect());
    let other = two.other_times();
    let other = other
        .iter()
        .map(|pair| line(&times(pair), pair.now, &was_and_is(pair)));
    block("took longer or shorter", other.collect());
    let alone = |jobs: &[&JobRecord]| -> Vec<String> {
        let lines = jobs
            .iter()
            .map(|job| line(&text::seconds(job.took), job, &why(job)));
        lines.collect()
    };
    block(&format!("only in run {now}"), alone(&two.only_now));
    block(&format!("only in run {before}"), alone(&two.only_before));
    out
}

#[derive(Serialize)]
struct TwoRunsJson<'a> {
    run: u64,
    against: u64,
    figures: Vec<FigureJson>,
    both: Vec<InBothJson<'a>>,
    only: Vec<&'a JobRecord>,
    only_against: Vec<&'a JobRecord>,
}

#[derive(Serialize)]
struct FigureJson {
    name: &'static str,
    run: f64,
    against: f64,
}

#[derive(Serialize)]
struct InBothJson<'a> {
    step: &'a str,
    run: &'a JobRecord,
    against: &'a JobRecord,
}

/// Two runs as programs read them.
pub fn json<'a>(two: &'a TwoRuns<'_>) -> impl Serialize + 'a {
    let figure = |name, of: &dyn Fn(&Whole<'_>) -> f64| FigureJson {
        name,
        run: of(two.now),
        against: of(two.before),
    };
    #[expect(clippy::cast_precision_loss, reason = "counts, for reading")]
    let count = |number: usize| number as f64;
    let [against, run] = two.numbers();
    TwoRunsJson {
        run,
        against,
        figures: vec![
            figure("seconds", &|whole| rounded_seconds(whole.digest.whole)),
            figure("least", &|whole| rounded_seconds(whole.digest.least)),
            figure("job_seconds", &|whole| rounded_seconds(whole.digest.took)),
            figure("processor", &|whole| {
                rounded_seconds(whole.digest.processor)
            }),
            figure("waited", &|whole| rounded_seconds(whole.digest.waited)),
            figure("jobs", &|whole| count(whole.digest.slowest.len())),
            figure("failed", &|whole| count(whole.printed.len())),
            figure("restored", &|whole| count(whole.digest.restored)),
            figure("saved", &|whole| rounded_seconds(whole.digest.saved)),
            figure("findings", &|whole| count(whole.findings.len())),
        ],
        both: two
            .both
            .iter()
            .map(|pair| InBothJson {
                step: &pair.now.step,
                run: pair.now,
                against: pair.before,
            })
            .collect(),
        only: two.only_now.clone(),
        only_against: two.only_before.clone(),
    }
}

/// Two runs as a page that needs nothing else, and no script.
pub fn page(two: &TwoRuns<'_>, project: &str) -> String {
    let [before, now] = two.numbers();
    let mut out = begin(&format!("{project}: run {now} against run {before}"));
    let _ = write!(
        out,
        "<header>\n<h1><span>{}</span> run {now} against run {before}</h1>\n</header>\n<main>\n<section>\n<h2>Side by side</h2>\n<table class=\"beside\">\n<thead><tr><th scope=\"col\"></th><th scope=\"col\">run {before}</th><th scope=\"col\">run {now}</th></tr></thead>\n<tbody>\n",
        escaped(project),
    );
    for [name, before, now] in two.figures() {
        let class = if before == now {
            ""
        } else {
            " class=\"other\""
        };
        let _ = writeln!(
            out,
            "<tr{class}><th scope=\"row\">{name}</th><td>{}</td><td>{}</td></tr>",
            escaped(&before),
            escaped(&now)
        );
    }
    out.push_str("</tbody>\n</table>\n</section>\n<div class=\"two\">\n");
    let mut list = |title: &str, rows: Vec<[String; 3]>| {
        if rows.is_empty() {
            return;
        }
        let all = rows.len();
        let _ = write!(out, "<section>\n<h2>{title}</h2>\n<table class=\"bars\">\n");
        for [size, name, about] in rows.into_iter().take(MOST) {
            let _ = writeln!(
                out,
                "<tr style=\"--share:0\"><td>{size}</td><td><b>{}</b> <small>{}</small></td></tr>",
                escaped(&name),
                escaped(&about)
            );
        }
        out.push_str("</table>\n");
        if all > MOST {
            let _ = writeln!(out, "<p class=\"why\">and {} more</p>", all - MOST);
        }
        out.push_str("</section>\n");
    };
    let row = |size: String, job: &JobRecord, about: String| [size, job.step.clone(), about];
    let endings = two.other_endings();
    let endings = endings.iter().map(|pair| {
        let before = format!("before: {}", word(pair.before));
        row(word(pair.now).to_owned(), pair.now, before)
    });
    list("Ended otherwise", endings.collect());
    let other = two.other_times();
    let other = other
        .iter()
        .map(|pair| row(times(pair), pair.now, was_and_is(pair)));
    list("Took longer or shorter", other.collect());
    let alone = |jobs: &[&JobRecord]| -> Vec<[String; 3]> {
        let rows = jobs
            .iter()
            .map(|job| row(text::seconds(job.took), job, why(job)));
        rows.collect()
    };
    list(&format!("Only in run {now}"), alone(&two.only_now));
    list(&format!("Only in run {before}"), alone(&two.only_before));
    out.push_str("</div>\n</main>\n</html>\n");
    out
}

fn word(job: &JobRecord) -> &'static str {
    ending_name(job.ending, job.task)
}
