//! What a run prints: one line for each step that ran, what it printed below, a summary.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::io;
use std::io::Write;
use std::time::Duration;

use handloom_core::executor::TwiceReport;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::Summary;
use handloom_core::text::Sources;
use handloom_core::verdict::Reason;
use handloom_core::verdict::ReasonKind;
use handloom_core::world::share;

use crate::arguments::Output;
use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::failure_report;
use crate::ui::failure_report::INDENT;
use crate::ui::folding::FoldedLines;
use crate::ui::live::Live;
use crate::ui::live::ProgressGuard;
use crate::ui::reads::ReadNotes;
use crate::ui::style::COLUMN;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::style::counts;
use crate::ui::style::ending_name;
use crate::ui::text;
use crate::ui::twice;

/// Says that nothing had to be done.
pub fn say_unchanged(ui: Ui, summary: &Summary, to_error: bool) {
    if ui.detail == Detail::Quiet {
        return;
    }
    if to_error {
        ui.say(&format!("{}\n", summary_line(summary, ui.err)));
    } else {
        // That nobody reads any more is no mistake.
        let _ = ui.print(&format!("{}\n", summary_line(summary, ui.out)));
    }
}

/// A failure is shown again at the end when so many lines came after it.
const FAR: usize = 20;

/// How a run is reported.
pub struct ReportManner<'a> {
    /// How jobs' output is shown.
    pub output: Output,
    /// The report goes to standard error, since standard output belongs to the events.
    pub to_error: bool,
    /// Jobs that may run at once.
    pub jobs: usize,
    /// Cores that they may keep busy.
    pub cores: usize,
    /// What to type to run one step or task alone.
    pub alone: &'a (dyn Fn(&str, bool) -> String + Sync),
    /// Of a step that failed and printed much, the first error among it.
    pub first_error: &'a (dyn Fn(&Ended) -> Option<String> + Sync),
    /// Printed above the first line of the run; nothing at all is printed of a run without such a line.
    pub heading: Option<String>,
    /// Printed as soon as the run is known to do something, without waiting for a line.
    pub heading_first: bool,
}

/// Prints a run.
pub struct Report<'a> {
    ui: Ui,
    sources: &'a Sources,
    manner: ReportManner<'a>,
    closed: bool,
    live: Option<Live>,
    /// Failures, each with the number of lines printed since.
    failures: Vec<(usize, String)>,
    /// What to type to run only what failed.
    alone: Vec<String>,
    /// Names of steps that did not run because of a failure.
    held: Vec<String>,
    /// The last line of each running job that has no end yet.
    unended: HashMap<String, Vec<u8>>,
    /// Scripts of jobs that are running, when they are shown.
    scripts: HashMap<String, String>,
    /// Jobs that ran, and their processor time.
    ran: usize,
    processor: Duration,
    /// Of them, those that ran elsewhere, by the places.
    elsewhere: BTreeMap<String, usize>,
    /// What watched steps read.
    reads: ReadNotes,
    /// On a terminal, lines that are counted.
    folded: FoldedLines,
}

impl<'a> Report<'a> {
    /// Nothing is printed yet.
    pub fn new(ui: Ui, sources: &'a Sources, manner: ReportManner<'a>) -> Self {
        let live = ui.live.then(|| Live::start(ui.err, manner.jobs));
        Self {
            ui,
            sources,
            manner,
            closed: false,
            live,
            failures: Vec::new(),
            alone: Vec::new(),
            held: Vec::new(),
            unended: HashMap::new(),
            scripts: HashMap::new(),
            ran: 0,
            processor: Duration::ZERO,
            elsewhere: BTreeMap::new(),
            reads: ReadNotes::default(),
            folded: FoldedLines::default(),
        }
    }

    /// Takes the live block away and lets it come back, when there is one.
    pub fn progress_guard(&self) -> Option<ProgressGuard> {
        self.live.as_ref().map(Live::progress_guard)
    }

    fn theme(&self) -> Theme {
        if self.manner.to_error {
            self.ui.err
        } else {
            self.ui.out
        }
    }

    fn put(&mut self, block: &str) {
        if self.closed {
            return;
        }
        if let Some(heading) = self.manner.heading.take() {
            self.put(&heading);
        }
        let lines = block.matches('\n').count();
        for (since, _) in &mut self.failures {
            *since += lines;
        }
        let to_error = self.manner.to_error;
        if let Some(live) = &self.live {
            self.closed = !live.print(block, to_error);
            return;
        }
        // One write for each block, so that blocks of a run and its children never mix.
        let written = if to_error {
            io::stderr().lock().write_all(block.as_bytes())
        } else {
            let mut out = io::stdout().lock();
            out.write_all(block.as_bytes()).and_then(|()| out.flush())
        };
        // Nobody listens any more: the work goes on quietly.
        self.closed = written.is_err();
    }

    /// Says something on standard error, above the live block.
    fn say(&self, text: &str) {
        match &self.live {
            Some(live) => {
                live.print(text, true);
            }
            None => self.ui.say(text),
        }
    }

    /// Prints an event.
    pub fn tell(&mut self, event: &Event) {
        if let Some(live) = &self.live {
            live.tell(event);
        }
        match event {
            Event::Ended(ended) => self.ended(ended),
            Event::Printed { step, text } => self.printed(step, text),
            Event::Read(read) => self.reads.add(read),
            Event::Said {
                step,
                needed_by,
                text,
            } => self.put(&failure_report::said(self.theme(), step, needed_by, text)),
            Event::Finally { step, output } => {
                self.put(&failure_report::finally(self.theme(), step, output));
            }
            Event::Guarded { step, reasons } => {
                let theme = self.theme();
                let why: Vec<String> = reasons.iter().map(Reason::brief).collect();
                let step = text::safe(step);
                self.put(&format!(
                    "{} {step} has a reason to run ({}); `handloom --again {step}` makes it anew\n",
                    theme.paint(Role::Held, "guarded"),
                    text::safe(&why.join(", ")),
                ));
            }
            Event::TakenAway { path } if self.ui.detail == Detail::Verbose => {
                let theme = self.theme();
                let path = text::safe(path);
                self.put(&format!(
                    "{} {path}: all that needs it is made\n",
                    theme.paint(Role::Faint, "  taken away")
                ));
            }
            Event::Aside { path, to } => {
                let theme = self.ui.err;
                self.say(&format!(
                    "{} `{}` was not made by Hand Loom, or was edited: it is now `{}`\n",
                    theme.paint(Role::Held, "  moved"),
                    text::safe(path),
                    text::safe(to)
                ));
            }
            Event::Warning(warning) if self.ui.detail != Detail::Quiet => {
                let warning = std::slice::from_ref(warning);
                let colour = self.ui.err.colour;
                self.say(&crate::ui::diagnostics::render(
                    self.sources,
                    warning,
                    colour,
                ));
            }
            Event::Summary(summary) => self.summary(summary),
            Event::Began { step, script, .. } if self.ui.detail == Detail::Verbose => {
                self.scripts.insert(step.clone(), script.clone());
            }
            Event::Planned { .. } if self.manner.heading_first => self.put(""),
            Event::Planned { .. }
            | Event::Restoring { .. }
            | Event::Began { .. }
            | Event::Spared { .. }
            | Event::TakenAway { .. }
            | Event::Warning(_) => {}
        }
    }

    /// Whole lines that a job printed, with its name in front.
    fn printed(&mut self, step: &str, text: &[u8]) {
        /// A line that grows longer than this is printed in pieces.
        const LONGEST: usize = 64 * 1024;
        let unended = self.unended.entry(step.to_owned()).or_default();
        // Only what is new is looked through, so that a line without an end costs no more than others.
        let whole = match text.iter().rposition(|&byte| byte == b'\n') {
            Some(at) => unended.len() + at + 1,
            None if unended.len() + text.len() > LONGEST => unended.len() + text.len(),
            None => 0,
        };
        unended.extend_from_slice(text);
        let lines: Vec<u8> = unended.drain(..whole).collect();
        self.put_named(step, &lines);
    }

    fn put_named(&mut self, step: &str, lines: &[u8]) {
        if lines.is_empty() {
            return;
        }
        let theme = self.theme();
        let name = theme.paint(Role::Faint, &format!("{} │", text::safe(step)));
        let lines = text::safe_output(lines, theme.colour);
        let block: String = lines
            .trim_end_matches('\n')
            .split('\n')
            .map(|line| format!("{name} {line}\n"))
            .collect();
        self.put(&block);
    }

    fn ended(&mut self, ended: &Ended) {
        if ended.ending == Ending::Held {
            self.held.push(ended.step.clone());
            return;
        }
        self.ran += 1;
        match &ended.remote {
            Some(remote) => *self.elsewhere.entry(remote.place.clone()).or_default() += 1,
            None => {
                self.processor += ended.usage.map_or(Duration::ZERO, |usage| usage.processor);
            }
        }
        if let Some(rest) = self.unended.remove(&ended.step) {
            self.put_named(&ended.step, &rest);
        }
        let only_bad = self.ui.detail == Detail::Quiet || self.manner.output == Output::Failures;
        let differs = ended.twice.as_ref().is_some_and(TwiceReport::differs);
        if only_bad && ended.ending.is_good() && !differs {
            return;
        }
        let is_told = self.ui.live && self.ui.detail == Detail::Normal;
        if is_told && !differs && self.folded.takes(ended) {
            return;
        }
        let mut block = self.line(ended);
        if self.ui.detail == Detail::Verbose {
            self.reasons(&ended.reasons, &mut block);
            if let Some(origin) = &ended.origin {
                let line = format!("{INDENT}{}\n", text::safe(&text::origin(origin)));
                block.push_str(&self.theme().paint(Role::Faint, &line));
            }
            if let Some(script) = self.scripts.remove(&ended.step)
                && ended.failure.is_none()
            {
                failure_report::script(&script, &mut block);
            }
        }
        // What was shown line by line is not shown again.
        let shows_output = self.manner.output != Output::Live;
        let theme = self.theme();
        match &ended.failure {
            Some(failure) => {
                failure_report::failure(
                    self.sources,
                    failure,
                    ended,
                    &failure_report::ShownOutput {
                        is_shown: shows_output,
                        first_error: (self.manner.first_error)(ended),
                    },
                    theme,
                    &mut block,
                );
                self.alone
                    .push((self.manner.alone)(&ended.step, ended.task));
            }
            None if ended.origin.is_some() && !ended.output.is_empty() => {
                let title = theme.paint(Role::Faint, "what it printed when it was made:");
                block.push_str(&format!("{INDENT}{title}\n"));
                failure_report::indented(&ended.output, theme, &mut block);
            }
            None if shows_output => failure_report::indented(&ended.output, theme, &mut block),
            None => {}
        }
        if let Some(twice) = &ended.twice {
            twice::write(twice, theme, &mut block);
        }
        self.put(&block);
        if ended.failure.is_some() || differs {
            self.failures.push((0, block));
        }
    }

    fn line(&self, ended: &Ended) -> String {
        let theme = self.theme();
        let word = ending_name(ended.ending, ended.task);
        let name = text::safe(&ended.step);
        let mut line = format!(
            "{}{}",
            theme.ending_word(ended.ending, word),
            theme.paint(Role::Name, &name)
        );
        let pad = COLUMN.saturating_sub(text::columns(&name));
        let time = format!("{:pad$}  {:>6}", "", text::seconds(ended.took));
        line.push_str(&theme.paint(Role::Faint, &time));
        // On a first run it would stand on every line.
        let telling = ended
            .reasons
            .first()
            .filter(|reason| reason.kind != ReasonKind::NeverMade);
        if let Some(reason) = telling {
            let more = match ended.reasons.len() {
                1 => String::new(),
                count => format!(" (and {} more)", count - 1),
            };
            let brief = format!("  {}{more}", text::safe(&reason.brief()));
            line.push_str(&theme.paint(Role::Faint, &brief));
        }
        line.push('\n');
        line
    }

    fn reasons(&self, reasons: &[Reason], block: &mut String) {
        for reason in reasons.iter().skip(1) {
            let line = format!("{INDENT}also: {}\n", text::safe(&reason.brief()));
            block.push_str(&self.theme().paint(Role::Faint, &line));
        }
    }

    fn summary(&mut self, summary: &Summary) {
        if let Some(mut live) = self.live.take() {
            live.end();
        }
        let folded = self.folded.lines(self.sources, self.theme());
        if !folded.is_empty() {
            self.put(&folded);
        }
        let again: Vec<String> = self
            .failures
            .iter()
            .filter(|(since, _)| *since > FAR)
            .map(|(_, block)| block.clone())
            .collect();
        for block in again {
            self.put(&format!("\nonce more, what went wrong:\n{block}"));
        }
        if !self.held.is_empty() {
            let all = self.ui.detail == Detail::Verbose;
            self.put(&failure_report::held(&self.held, all, self.theme()));
        }
        if self.ui.detail != Detail::Quiet {
            let reads = self.reads.text(self.theme());
            self.put(&reads);
        }
        let bad = summary.failed + summary.held + summary.stopped + summary.unstarted > 0;
        let unheard = self.manner.heading.is_some() && self.ran == 0;
        if (self.ui.detail == Detail::Quiet || unheard) && !bad {
            return;
        }
        let theme = self.theme();
        let mut line = summary_line(summary, theme);
        for (place, count) in &self.elsewhere {
            let words = format!(", {count} on {}", text::safe(place));
            line.push_str(&theme.paint(Role::Faint, &words));
        }
        let elsewhere: usize = self.elsewhere.values().sum();
        if self.ran > elsewhere && summary.took >= Duration::from_millis(100) {
            line.push_str(&theme.paint(Role::Faint, &self.busy(summary)));
        }
        line.push('\n');
        line.push_str(&self.only_failed());
        self.put(&line);
    }

    /// How busy the cores were with jobs.
    #[expect(clippy::cast_precision_loss, reason = "a number of jobs, for a share")]
    fn busy(&self, summary: &Summary) -> String {
        let share = share(self.processor, summary.took) / self.manner.cores as f64;
        let cores = match self.manner.cores {
            1 => "1 core".to_owned(),
            count => format!("{count} cores"),
        };
        format!(", {cores} {:.0}% busy", (share * 100.0).min(100.0))
    }

    /// What to type to run only what failed.
    fn only_failed(&self) -> String {
        const MOST: usize = 5;
        let theme = self.theme();
        let title = match self.alone.len() {
            0 => return String::new(),
            1 => "to run only what failed:",
            _ => "to run only one of those that failed:",
        };
        let names = self
            .alone
            .iter()
            .map(|command| command.strip_prefix("handloom "));
        let names: Option<Vec<&str>> = names
            .map(|name| name.filter(|name| !name.contains(' ')))
            .collect();
        if let Some(mut names) = names
            && (2..=20).contains(&names.len())
        {
            let title = theme.paint(Role::Help, "to run only what failed:");
            // In whichever order they failed, the same line.
            names.sort_unstable();
            return format!(
                "{title}\n  {}\n",
                text::safe(&format!("handloom {}", names.join(" ")))
            );
        }
        let mut out = format!("{}\n", theme.paint(Role::Help, title));
        for command in self.alone.iter().take(MOST) {
            out.push_str(&format!("  {}\n", text::safe(command)));
        }
        if self.alone.len() > MOST {
            out.push_str(&format!("  … and {} more\n", self.alone.len() - MOST));
        }
        out
    }
}

fn summary_line(summary: &Summary, theme: Theme) -> String {
    let counts = counts(summary).into_iter();
    let parts: Vec<String> = counts
        .map(|(words, role)| theme.paint(role, &words))
        .collect();
    let all = if parts.is_empty() {
        "nothing to weave (`handloom list` shows what there is)".to_owned()
    } else {
        parts.join(", ")
    };
    let twice = match (summary.twice, summary.differing) {
        (0, _) => String::new(),
        (twice, 0) => format!("; {twice} run twice, and the same"),
        (twice, differing) => {
            let differs = format!("{differing} came out differently");
            format!(
                "; {twice} run twice: {}",
                theme.paint(Role::Failed, &differs)
            )
        }
    };
    format!("{all} in {}{twice}", text::seconds(summary.took))
}
