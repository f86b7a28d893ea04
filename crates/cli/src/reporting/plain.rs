//! A run as text for a terminal.

use std::time::Duration;

use handloom_core::findings::FindingLevel;
use handloom_core::records::JobRecord;
use handloom_core::world::ByteSize;
use handloom_core::world::share;

use crate::reporting::Whole;
use crate::reporting::finding_line;
use crate::reporting::nodes;
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
    let mut writer = PlainWriter {
        whole,
        theme,
        out: String::new(),
    };
    writer.head();
    writer.failed();
    writer.longest();
    writer.groups();
    writer.nodes();
    writer.slowest();
    writer.largest();
    writer.waiting();
    writer.restored();
    writer.findings();
    writer.differences();
    writer.out
}

struct PlainWriter<'w, 'r> {
    whole: &'w Whole<'r>,
    theme: Theme,
    out: String,
}

impl PlainWriter<'_, '_> {
    fn head(&mut self) {
        let (run, digest, theme) = (self.whole.run, &self.whole.digest, self.theme);
        let counts: Vec<String> = match &run.tail {
            Some(tail) => counts(tail)
                .into_iter()
                .map(|(words, role)| theme.paint(role, &words))
                .collect(),
            None => vec![theme.paint(Role::Failed, "killed")],
        };
        self.out.push_str(&format!(
            "{}  {}  {}\n{}, {} in {}\n",
            theme.paint(Role::Title, &format!("run {}", run.head.run)),
            theme.paint(Role::Faint, &started(run.head.started).plain),
            theme.paint(Role::Name, &text::safe(&run.head.command)),
            counts.join(", "),
            text::count(digest.slowest.len(), "job"),
            text::seconds(digest.whole),
        ));
    }

    /// A titled list, of which there may be more than is shown.
    fn block(&mut self, title: &str, lines: Vec<String>, all: usize) {
        if lines.is_empty() {
            return;
        }
        let title = self.theme.paint(Role::Title, title);
        self.out.push_str(&format!("\n{title}\n"));
        let shown = lines.len();
        self.out.extend(lines);
        if all > shown {
            let more = format!("         and {} more\n", all - shown);
            self.out.push_str(&self.theme.paint(Role::Faint, &more));
        }
    }

    fn job(&self, number: usize) -> &JobRecord {
        &self.whole.run.jobs[number]
    }

    fn line(&self, job: &JobRecord, rest: &str) -> String {
        let rest = self.theme.paint(Role::Faint, &text::safe(rest));
        let line = format!(
            "{:>7}  {}  {rest}",
            text::seconds(job.took),
            self.theme.paint(Role::Name, &text::safe(&job.step))
        );
        format!("{}\n", line.trim_end())
    }

    fn failed(&mut self) {
        let printed = &self.whole.printed;
        let lines = printed.iter().take(MOST).map(|(number, _)| {
            let job = self.job(*number);
            let exit = job.exit.as_deref().unwrap_or(job.ending.name());
            let log = job
                .log
                .as_deref()
                .map(|log| format!(", what it printed: {log}"));
            let rest = format!("{exit} ({}){}", job.place, log.unwrap_or_default());
            let first = self
                .whole
                .first_error(*number)
                .map_or(String::new(), |error| {
                    let error = text::safe(&finding_line(error));
                    format!("         {}\n", self.theme.paint(Role::Failed, &error))
                });
            format!("{}{first}", self.line(job, &rest))
        });
        let lines = lines.collect();
        self.block("what failed", lines, printed.len());
    }

    fn longest(&mut self) {
        let digest = &self.whole.digest;
        let lines = digest.longest.iter().map(|&number| {
            let job = self.job(number);
            self.line(job, &waited(job).unwrap_or_default())
        });
        let title = format!(
            "the longest way: {} that no number of cores makes shorter",
            text::seconds(digest.least)
        );
        let lines = lines.collect();
        self.block(&title, lines, 0);
    }

    fn groups(&mut self) {
        let (digest, theme) = (&self.whole.digest, self.theme);
        let lines = digest.groups.iter().take(MOST).map(|group| {
            let jobs = text::count(group.jobs, "job");
            let about = format!("{jobs}, {}", text::safe(&group.place));
            format!(
                "{:>7}  {:>3.0}%  {}  {}\n",
                text::seconds(group.took),
                100.0 * share(group.took, digest.took),
                theme.paint(Role::Name, &text::safe(&group.by)),
                theme.paint(Role::Faint, &about)
            )
        });
        let lines = lines.collect();
        self.block("where the time went", lines, digest.groups.len());
    }

    fn nodes(&mut self) {
        let (digest, theme) = (&self.whole.digest, self.theme);
        let shares = nodes::shares(self.whole.run);
        let lines = shares.iter().map(|node| {
            let mut about = text::count(node.jobs.len(), "job");
            if node.queued >= Duration::from_millis(10) {
                let queued = text::seconds(node.queued);
                about.push_str(&format!(", which waited up to {queued} for a worker"));
            }
            format!(
                "{:>7}  {:>3.0}%  {}  {}\n",
                text::seconds(node.took),
                100.0 * share(node.took, digest.took),
                theme.paint(Role::Name, &text::safe(&node.name)),
                theme.paint(Role::Faint, &about)
            )
        });
        let lines = lines.collect();
        self.block("where it ran", lines, 0);
    }

    fn slowest(&mut self) {
        let slowest = &self.whole.digest.slowest;
        let lines = slowest.iter().take(MOST).map(|&number| {
            let job = self.job(number);
            let mut rest = job.reasons.join("; ");
            if let Some(node) = &job.node {
                rest.push_str(&format!(" · on {}", text::safe(node)));
            }
            if job.memory > ByteSize::default() {
                rest.push_str(&format!(" · {}", text::bytes(job.memory)));
            }
            self.line(job, &rest)
        });
        let lines = lines.collect();
        self.block("slowest", lines, slowest.len());
    }

    fn largest(&mut self) {
        let largest = &self.whole.digest.largest;
        let lines = largest.iter().take(MOST).map(|&number| {
            let job = self.job(number);
            let busy = 100.0 * share(job.processor, job.took);
            let rest = format!("{busy:.0}% of a core for {}", text::seconds(job.took));
            self.sized(&text::bytes(job.memory), job, &rest)
        });
        let lines = lines.collect();
        self.block("the most memory", lines, largest.len());
    }

    fn waiting(&mut self) {
        let digest = &self.whole.digest;
        // What began a moment later than it could is no wait.
        let is_long = |number: &&usize| waited(self.job(**number)).is_some();
        let all = digest.waiting.iter().filter(is_long).count();
        let lines = digest
            .waiting
            .iter()
            .filter(is_long)
            .take(MOST)
            .map(|&number| {
                let job = self.job(number);
                self.sized(
                    &text::seconds(job.waited + job.queued),
                    job,
                    &waited(job).unwrap_or_default(),
                )
            });
        let lines: Vec<String> = lines.collect();
        let title = format!("waiting: {} together", text::seconds(digest.waited));
        self.block(&title, lines, all);
    }

    fn restored(&mut self) {
        let digest = &self.whole.digest;
        if digest.restored == 0 {
            return;
        }
        let title = self.theme.paint(
            Role::Title,
            &format!(
                "restored: {}, which saved {}",
                text::count(digest.restored, "step"),
                text::seconds(digest.saved)
            ),
        );
        self.out.push_str(&format!("\n{title}\n"));
    }

    fn findings(&mut self) {
        let found = &self.whole.findings;
        let lines = found.iter().take(MOST).map(|(number, finding)| {
            let role = match finding.level {
                FindingLevel::Error => Role::Failed,
                FindingLevel::Warning => Role::Held,
                FindingLevel::Note => Role::Faint,
            };
            let said = self.theme.paint(role, &text::safe(&finding_line(finding)));
            let step = self
                .theme
                .paint(Role::Faint, &text::safe(&self.job(*number).step));
            format!("         {said}  {step}\n")
        });
        let lines = lines.collect();
        self.block("what was said of sources", lines, found.len());
    }

    /// A job's line with something else than its time in front.
    fn sized(&self, size: &str, job: &JobRecord, rest: &str) -> String {
        let line = format!(
            "{size:>7}  {}  {}",
            self.theme.paint(Role::Name, &text::safe(&job.step)),
            self.theme.paint(Role::Faint, &text::safe(rest))
        );
        format!("{}\n", line.trim_end())
    }

    fn differences(&mut self) {
        let differences = self.whole.differences();
        let lines = differences.iter().take(MOST).map(|&(number, before)| {
            let before = format!("before {}", text::seconds(before));
            self.line(self.job(number), &before)
        });
        let lines = lines.collect();
        let all = differences.len();
        self.block("longer or shorter than before", lines, all);
    }
}
