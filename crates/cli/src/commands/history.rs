//! `handloom history`: the last runs, or one step through them.

use std::process::ExitCode;
use std::time::Duration;

use serde::Serialize;

use handloom_core::records::JobRecord;
use handloom_core::records::RunRecord;
use handloom_core::records::Runs;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Summary;
use handloom_core::world::ByteSize;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::HistoryArguments;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style;
use crate::ui::style::Role;
use crate::ui::text;
use crate::ui::text::started;

/// A run, as programs read it.
#[derive(Serialize)]
struct RunJson<'a> {
    run: u64,
    started: String,
    command: &'a str,
    /// Whether it was killed before its end.
    killed: bool,
    #[serde(flatten)]
    tail: Option<&'a Summary>,
}

/// A step in one run, as programs read it.
#[derive(Serialize)]
struct RecordedStep<'a> {
    run: u64,
    started: String,
    #[serde(flatten)]
    job: &'a JobRecord,
}

/// Carries the command out.
pub fn run(
    common: &Common,
    arguments: &HistoryArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    let runs = Runs::new(&location.own());
    let mut read = Vec::new();
    for number in project::kept_runs(&runs)? {
        match runs.read(number) {
            Ok(run) => read.push(run),
            Err(error) => ui.say(&format!(
                "note: the record of run {number} can't be read: {error}\n"
            )),
        }
    }
    match &arguments.name {
        None => all(&read, arguments.format, ui)?,
        Some(_) if read.is_empty() => return Err(project::nothing_ran()),
        Some(name) => one(&read, &location.from_root(name), arguments.format, ui)?,
    }
    Ok(ExitCode::SUCCESS)
}

fn all(runs: &[RunRecord], format: Format, ui: Ui) -> Result<(), CommandError> {
    if format == Format::Json {
        let rows: Vec<RunJson<'_>> = runs
            .iter()
            .map(|run| RunJson {
                run: run.head.run,
                started: started(run.head.started).iso,
                command: &run.head.command,
                killed: run.tail.is_none(),
                tail: run.tail.as_ref(),
            })
            .collect();
        return ui.print_json(&rows);
    }
    if runs.is_empty() {
        return ui.print("nothing has run in this project yet\n");
    }
    let width = runs
        .iter()
        .map(|run| text::columns(&run.head.command).min(40))
        .max()
        .unwrap_or(0);
    let mut out = String::new();
    for run in runs {
        let command = shortened(&text::safe(&run.head.command), 40);
        let pad = width.saturating_sub(text::columns(&command));
        let seconds = run
            .tail
            .as_ref()
            .map_or_else(String::new, |tail| text::seconds(tail.took));
        out.push_str(&format!(
            "{:>5}  {}  {}{:pad$}  {seconds:>7}  {}\n",
            run.head.run,
            ui.out.paint(Role::Faint, &started(run.head.started).plain),
            ui.out.paint(Role::Name, &command),
            "",
            counts(run, ui)
        ));
    }
    ui.print(&out)
}

/// How many steps came to each ending.
fn counts(run: &RunRecord, ui: Ui) -> String {
    let Some(tail) = &run.tail else {
        let text = format!("killed, after {}", text::count(run.jobs.len(), "job"));
        return ui.out.paint(Role::Failed, &text);
    };
    let counts = style::counts(tail).into_iter();
    let painted = counts.map(|(words, role)| ui.out.paint(role, &words));
    painted.collect::<Vec<_>>().join(", ")
}

fn one(runs: &[RunRecord], name: &str, format: Format, ui: Ui) -> Result<(), CommandError> {
    let rows: Vec<(&RunRecord, &JobRecord)> = runs
        .iter()
        .flat_map(|run| run.jobs.iter().map(move |job| (run, job)))
        .filter(|(_, job)| job.step == name)
        .collect();
    if rows.is_empty() {
        return Err(CommandError::usage(
            format!(
                "`{name}` did not run in the last {}",
                text::count(runs.len(), "run")
            ),
            "name a file or a task as `handloom history` and `handloom list` do",
        ));
    }
    if format == Format::Json {
        let rows: Vec<RecordedStep<'_>> = rows
            .iter()
            .map(|(run, job)| RecordedStep {
                run: run.head.run,
                started: started(run.head.started).iso,
                job,
            })
            .collect();
        return ui.print_json(&rows);
    }
    let mut out = format!("{}\n", ui.out.paint(Role::Name, &text::safe(name)));
    for (run, job) in &rows {
        let role = match job.ending {
            Ending::Made => Role::Made,
            Ending::Same | Ending::Restored => Role::Same,
            Ending::Failed => Role::Failed,
            Ending::Kept | Ending::Held | Ending::Stopped => Role::Held,
        };
        let mut why = job.reasons.join("; ");
        if let Some(exit) = job.exit.as_deref().filter(|_| job.ending == Ending::Failed) {
            why = format!("{exit}; {why}");
        }
        if let Some(node) = &job.node {
            why = format!("{why} · on {node}");
        }
        if job.memory > ByteSize::default() {
            why = format!("{why} · {}", text::bytes(job.memory));
        }
        if let Some(origin) = &job.from {
            why = format!("{}; {why}", text::origin(origin));
        }
        out.push_str(&format!(
            "{:>5}  {}  {}  {:>7}  {}\n",
            run.head.run,
            ui.out.paint(Role::Faint, &started(run.head.started).plain),
            ui.out.paint(
                role,
                &format!("{:>8}", style::ending_name(job.ending, job.task))
            ),
            text::seconds(job.took),
            ui.out.paint(Role::Faint, &text::safe(&why))
        ));
    }
    let times: Vec<Duration> = rows
        .iter()
        .filter(|(_, job)| job.ending != Ending::Held)
        .map(|(_, job)| job.took)
        .collect();
    if times.len() > 1 {
        let least = times.iter().copied().min().unwrap_or_default();
        let most = times.iter().copied().max().unwrap_or_default();
        out.push_str(&format!(
            "       {}  from {} to {}\n",
            text::blocks(&times, most),
            text::seconds(least),
            text::seconds(most)
        ));
    }
    ui.print(&out)
}

fn shortened(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    text.chars().take(most - 1).chain(['…']).collect()
}
