//! What a run prints: one line for each step that ran, what it printed below, a summary.

use std::io;
use std::io::Write;

use handloom_core::text::Sources;
use handloom_core::verdict::Reason;
use handloom_core::verdict::ReasonKind;
use handloom_core::weave::Ended;
use handloom_core::weave::Ending;
use handloom_core::weave::Event;
use handloom_core::weave::Exit;
use handloom_core::weave::Failure;
use handloom_core::weave::Problem;
use handloom_core::weave::Summary;

use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// So far lines of a step's text are indented.
const INDENT: &str = "         ";

/// Times of steps stand below each other behind names of up to so many characters.
const COLUMN: usize = 32;

/// Paragraphs are broken at so many characters.
const WIDTH: usize = 90;

/// A failure is shown again at the end when so many lines came after it.
const FAR: usize = 20;

/// Prints a run.
pub struct Report<'a> {
    ui: Ui,
    sources: &'a Sources,
    /// Standard error, when standard output belongs to the events.
    to_error: bool,
    closed: bool,
    /// Failures, each with the number of lines printed since.
    failures: Vec<(usize, String)>,
    /// Names of steps that did not run because of a failure.
    held: Vec<String>,
}

impl<'a> Report<'a> {
    /// Nothing is printed yet.
    pub fn new(ui: Ui, sources: &'a Sources, to_error: bool) -> Self {
        Self {
            ui,
            sources,
            to_error,
            closed: false,
            failures: Vec::new(),
            held: Vec::new(),
        }
    }

    fn theme(&self) -> Theme {
        if self.to_error {
            self.ui.err
        } else {
            self.ui.out
        }
    }

    fn put(&mut self, block: &str) {
        if self.closed {
            return;
        }
        let lines = block.matches('\n').count();
        for (since, _) in &mut self.failures {
            *since += lines;
        }
        // One write for each block, so that blocks of a run and its children never mix.
        let written = if self.to_error {
            io::stderr().lock().write_all(block.as_bytes())
        } else {
            let mut out = io::stdout().lock();
            out.write_all(block.as_bytes()).and_then(|()| out.flush())
        };
        // Nobody listens any more: the work goes on quietly.
        self.closed = written.is_err();
    }

    /// Prints an event.
    pub fn tell(&mut self, event: &Event) {
        match event {
            Event::Ended(ended) => self.ended(ended),
            Event::Aside { path, to } => {
                let theme = self.ui.err;
                let line = format!(
                    "{} `{}` was not made by Hand Loom, or was edited: it is now `{}`\n",
                    theme.paint(Role::Held, "  moved"),
                    text::safe(path),
                    text::safe(to)
                );
                self.ui.say(&line);
            }
            Event::Warning(warning) if self.ui.detail != Detail::Quiet => {
                self.ui
                    .diagnostics(self.sources, std::slice::from_ref(warning));
            }
            Event::Summary(summary) => self.summary(summary),
            Event::Planned { .. }
            | Event::Began { .. }
            | Event::Spared { .. }
            | Event::Warning(_) => {}
        }
    }

    fn ended(&mut self, ended: &Ended) {
        if ended.ending == Ending::Held {
            self.held.push(ended.step.clone());
            return;
        }
        let quiet = self.ui.detail == Detail::Quiet;
        if quiet && ended.ending.is_good() {
            return;
        }
        let mut block = self.line(ended);
        if self.ui.detail == Detail::Verbose {
            self.reasons(&ended.reasons, &mut block);
        }
        match &ended.failure {
            Some(failure) => self.failure(failure, ended, &mut block),
            None => indented(&ended.output, self.theme(), &mut block),
        }
        self.put(&block);
        if ended.failure.is_some() {
            self.failures.push((0, block));
        }
    }

    fn line(&self, ended: &Ended) -> String {
        let theme = self.theme();
        let word = format!("{:>7}", ended.ending.name());
        let name = text::safe(&ended.step);
        let mut line = format!(
            "{}  {}",
            theme.ending(ended.ending, &word),
            theme.paint(Role::Name, &name)
        );
        let pad = COLUMN.saturating_sub(name.chars().count());
        let time = format!("{:pad$}  {:>6}", "", text::seconds(ended.seconds));
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

    fn failure(&self, failure: &Failure, ended: &Ended, block: &mut String) {
        let theme = self.theme();
        let place = self.sources.name_and_line(failure.span);
        let folder = if failure.folder.is_empty() {
            String::new()
        } else {
            format!(", run in {}", failure.folder)
        };
        let what = what_went_wrong(failure);
        block.push_str(&format!(
            "{INDENT}{} ({})\n",
            theme.paint(Role::Failed, &text::safe(&what)),
            text::safe(&place)
        ));
        let with = failure.interpreter.join(" ");
        block.push_str(&format!(
            "{INDENT}{}\n",
            theme.paint(Role::Faint, &format!("the recipe, with {with}{folder}:"))
        ));
        script(&failure.script, block);
        if !ended.output.is_empty() {
            block.push_str(&format!(
                "{INDENT}{}\n",
                theme.paint(Role::Faint, "it printed:")
            ));
            indented(&ended.output, theme, block);
        }
        for (from, to) in &failure.moved {
            let line = format!("what it left of {from} is in {to}");
            block.push_str(&format!(
                "{INDENT}{}\n",
                theme.paint(Role::Faint, &text::safe(&line))
            ));
        }
    }

    /// Names the steps that were held, in one paragraph.
    fn name_held(&mut self) {
        const MOST: usize = 24;
        if self.held.is_empty() {
            return;
        }
        let all = self.ui.detail == Detail::Verbose;
        let shown = if all {
            self.held.len()
        } else {
            self.held.len().min(MOST)
        };
        let mut names: Vec<String> = self.held[..shown]
            .iter()
            .map(|name| text::safe(name))
            .collect();
        if shown < self.held.len() {
            names.push(format!("… and {} more", self.held.len() - shown));
        }
        let theme = self.theme();
        let why = theme.paint(Role::Faint, "not run, because what they need failed:");
        let mut block = format!(
            "{}  {why}\n",
            theme.ending(Ending::Held, &format!("{:>7}", "held"))
        );
        for line in text::paragraph(&names, WIDTH) {
            block.push_str(&format!("{INDENT}  {line}\n"));
        }
        self.put(&block);
    }

    fn summary(&mut self, summary: &Summary) {
        let again: Vec<String> = self
            .failures
            .iter()
            .filter(|(since, _)| *since > FAR)
            .map(|(_, block)| block.clone())
            .collect();
        for block in again {
            self.put(&format!("\nonce more, what failed:\n{block}"));
        }
        self.name_held();
        let bad = summary.failed + summary.held + summary.stopped + summary.unstarted > 0;
        if self.ui.detail == Detail::Quiet && !bad {
            return;
        }
        let line = summary_line(summary, self.theme());
        self.put(&line);
    }
}

fn what_went_wrong(failure: &Failure) -> String {
    match &failure.problem {
        Problem::Recipe => match &failure.exit {
            Exit::Status(status) => format!("exit status {status}"),
            Exit::Signal(signal) => format!("ended by signal {signal} ({})", signal_name(*signal)),
            Exit::TimedOut(limit) => format!(
                "ran longer than its limit of {}",
                text::seconds(seconds_of(*limit))
            ),
            Exit::NotStarted(why) => format!("could not start: {why}"),
        },
        Problem::NotWritten(paths) => {
            format!(
                "the recipe ended well, but did not write {}",
                paths.join(" ")
            )
        }
        Problem::WrongKind(path) if path.ends_with('/') => {
            format!("the recipe wrote a file, where the target is a whole folder: {path}")
        }
        Problem::WrongKind(path) => {
            format!(
                "the recipe wrote a folder, where the target is a file: {path} (a whole folder is described as `{path}/`)"
            )
        }
        Problem::PrerequisiteChanged(path) => {
            format!(
                "{path} changed while the recipe ran; if you edited it, weave again; if the recipe did, let it write somewhere else"
            )
        }
        Problem::Learned(why) | Problem::Around(why) => why.clone(),
    }
}

#[expect(clippy::cast_precision_loss, reason = "a limit in seconds, for people")]
fn seconds_of(limit: u64) -> f64 {
    limit as f64
}

fn signal_name(signal: i32) -> &'static str {
    match signal {
        2 => "interrupted",
        4 => "illegal instruction",
        6 => "aborted",
        8 => "arithmetic error",
        9 => "killed, perhaps for want of memory",
        11 => "memory fault",
        13 => "nobody read its output",
        15 => "asked to end",
        _ => "see signal(7)",
    }
}

fn script(script: &str, block: &mut String) {
    const MOST: usize = 30;
    let lines: Vec<&str> = script.trim_end().lines().collect();
    for line in lines.iter().take(MOST) {
        let line = text::safe(line);
        if line.chars().count() > 2000 {
            let start: String = line.chars().take(2000).collect();
            block.push_str(&format!("{INDENT}  {start} …\n"));
        } else {
            block.push_str(&format!("{INDENT}  {line}\n"));
        }
    }
    if lines.len() > MOST {
        block.push_str(&format!(
            "{INDENT}  … and {} more lines\n",
            lines.len() - MOST
        ));
    }
}

/// What a job printed, below its line.
fn indented(output: &[u8], theme: Theme, block: &mut String) {
    if output.is_empty() {
        return;
    }
    let output = text::safe_output(output, theme.colour);
    for line in output.trim_end_matches('\n').split('\n') {
        block.push_str(INDENT);
        block.push_str("  ");
        block.push_str(line);
        block.push('\n');
    }
}

fn summary_line(summary: &Summary, theme: Theme) -> String {
    let counts = [
        (summary.failed, "failed", Role::Failed),
        (summary.held, "held", Role::Held),
        (summary.stopped, "stopped", Role::Held),
        (summary.unstarted, "not begun", Role::Held),
        (summary.made, "made", Role::Made),
        (summary.same, "same", Role::Same),
        (summary.restored, "restored", Role::Same),
        (summary.kept, "kept", Role::Faint),
    ];
    let parts: Vec<String> = counts
        .iter()
        .filter(|(count, ..)| *count > 0)
        .map(|(count, word, role)| theme.paint(*role, &format!("{count} {word}")))
        .collect();
    let all = if parts.is_empty() {
        "nothing to weave".to_owned()
    } else {
        parts.join(", ")
    };
    format!("{all} in {}\n", text::seconds(summary.seconds))
}
