//! One job's part of a report: its output, and, when it failed, all that helps to mend it.

use handloom_core::executor::Exit;
use handloom_core::executor::Printed;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::JobFailure;
use handloom_core::scheduler::Problem;
use handloom_core::text::Sources;
use handloom_core::world::ByteSize;

use crate::ui::reads::refusals;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// Paragraphs are broken at so many characters.
const WIDTH: usize = 90;

/// So far lines of a step's text are indented.
pub const INDENT: &str = "         ";

/// What of a failed job's output is shown.
pub struct ShownOutput {
    /// Whether all of it is shown, as far as it is kept.
    pub is_shown: bool,
    /// The first error in it, when that is hard to find there.
    pub first_error: Option<String>,
}

/// What went wrong, the script as it was run, what it printed, what is left of it.
pub fn failure(
    sources: &Sources,
    failure: &JobFailure,
    ended: &Ended,
    output: &ShownOutput,
    theme: Theme,
    block: &mut String,
) {
    let place = sources.name_and_line(failure.span);
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
    if let Some(error) = &output.first_error {
        let line = theme.paint(Role::Failed, &text::safe(error));
        block.push_str(&format!("{INDENT}{line}\n"));
    }
    let with = failure.interpreter.join(" ");
    let which = match &failure.finally {
        Some(name) if *name == ended.step => "the `finally:`".to_owned(),
        Some(name) => format!("the recipe of {}, which comes behind it", text::safe(name)),
        None => "the recipe".to_owned(),
    };
    block.push_str(&format!(
        "{INDENT}{}\n",
        theme.paint(Role::Faint, &format!("{which}, with {with}{folder}:"))
    ));
    script(&failure.script, block);
    if output.is_shown && !ended.output.is_empty() {
        block.push_str(&format!(
            "{INDENT}{}\n",
            theme.paint(Role::Faint, "it printed:")
        ));
        indented(&ended.output, theme, block);
    }
    if let Some((output, end)) = &failure.log {
        let title = format!("it printed nothing; the end of {}:", text::safe(output));
        block.push_str(&format!("{INDENT}{}\n", theme.paint(Role::Faint, &title)));
        lines(end.as_bytes(), theme, block);
    }
    if !failure.refused.is_empty() {
        let title = "it is sealed, and was not let:";
        block.push_str(&format!("{INDENT}{}\n", theme.paint(Role::Help, title)));
        for line in refusals(&failure.refused) {
            block.push_str(&format!("{INDENT}  {}\n", text::safe(&line)));
        }
    }
    if let Some(hint) = &failure.hint {
        block.push_str(&format!(
            "{INDENT}{} {}\n",
            theme.paint(Role::Help, "help:"),
            text::safe_lines(hint)
        ));
    }
    for (from, to) in &failure.moved {
        let line = format!("what it left of {from} is in {to}");
        block.push_str(&format!(
            "{INDENT}{}\n",
            theme.paint(Role::Faint, &text::safe(&line))
        ));
    }
}

fn what_went_wrong(failure: &JobFailure) -> String {
    match &failure.problem {
        Problem::Recipe => match &failure.exit {
            Exit::Status(status) => format!("exit status {status}"),
            Exit::Signal(signal) => format!("ended by signal {signal} ({})", signal_name(*signal)),
            Exit::TimedOut(limit) => format!(
                "ran longer than its limit of {}",
                text::seconds(*limit)
            ),
            Exit::OutOfMemory => {
                "killed by the system, for want of memory; `takes memory=…` lets fewer such jobs run at once"
                    .to_owned()
            }
            Exit::NotStarted(why) | Exit::NoRoom(why) => format!("could not start: {why}"),
            Exit::DidNotStay(why) | Exit::Lost { why, .. } | Exit::Unseen(why) => why.clone(),
            Exit::ReadsTerminal => {
                "reads the terminal: mark the task `terminal`, or give the program its input".to_owned()
            }
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
                "{path} changed while the recipe ran; if you edited it, weave again; if the recipe did, name it among the targets or let it write somewhere else"
            )
        }
        Problem::Learned(why) | Problem::Around(why) => why.clone(),
    }
}

fn signal_name(signal: i32) -> &'static str {
    match signal {
        2 => "interrupted",
        4 => "illegal instruction",
        6 => "aborted",
        8 => "arithmetic error",
        9 => "killed",
        11 => "memory fault",
        13 => "nobody read its output",
        15 => "asked to end",
        _ => "see signal(7)",
    }
}

/// A script as it was run.
pub fn script(script: &str, block: &mut String) {
    const MOST: usize = 30;
    let lines: Vec<&str> = script.trim_end().lines().collect();
    for line in lines.iter().take(MOST) {
        let line = text::safe_lines(line);
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
pub fn indented(output: &Printed, theme: Theme, block: &mut String) {
    if output.is_empty() {
        return;
    }
    lines(&output.start, theme, block);
    if output.left_out > 0 {
        let log = match &output.log {
            Some(log) => format!("; all of it is in {log}"),
            None => String::new(),
        };
        let gap = format!(
            "… {} left out here{log} …",
            text::bytes(ByteSize(output.left_out))
        );
        block.push_str(&format!("{INDENT}  {}\n", theme.paint(Role::Held, &gap)));
        lines(&output.end, theme, block);
    }
}

fn lines(output: &[u8], theme: Theme, block: &mut String) {
    let output = text::safe_output(output, theme.colour);
    for line in output.trim_end_matches('\n').split('\n') {
        block.push_str(INDENT);
        block.push_str("  ");
        block.push_str(line);
        block.push('\n');
    }
}

/// What the `finally` of a step that is held printed.
pub fn finally(theme: Theme, step: &str, output: &Printed) -> String {
    let mut block = format!(
        "{}  {}\n",
        theme.paint(Role::Faint, &format!("{:>7}", "finally")),
        theme.paint(Role::Name, &text::safe(step))
    );
    indented(output, theme, &mut block);
    block
}

/// What a task that stays printed last, when a step failed that needs it.
pub fn said(theme: Theme, step: &str, needed_by: &str, text: &[u8]) -> String {
    let mut block = format!(
        "{}  {}, which {} needs, printed last\n",
        theme.paint(Role::Faint, &format!("{:>7}", "stays")),
        theme.paint(Role::Name, &text::safe(step)),
        text::safe(needed_by)
    );
    let said = Printed {
        start: text.to_vec(),
        ..Printed::default()
    };
    indented(&said, theme, &mut block);
    block
}

/// Names the steps that were held, in one paragraph.
pub fn held(held: &[String], all: bool, theme: Theme) -> String {
    const MOST: usize = 24;
    let shown = if all {
        held.len()
    } else {
        held.len().min(MOST)
    };
    let mut names: Vec<String> = held[..shown].iter().map(|name| text::safe(name)).collect();
    if shown < held.len() {
        names.push(format!("… and {} more", held.len() - shown));
    }
    let why = theme.paint(Role::Faint, "not run, because what they need failed:");
    let mut block = format!(
        "{}  {why}\n",
        theme.ending(Ending::Held, &format!("{:>7}", "held"))
    );
    for line in text::paragraph(&names, WIDTH) {
        block.push_str(&format!("{INDENT}  {line}\n"));
    }
    block
}
