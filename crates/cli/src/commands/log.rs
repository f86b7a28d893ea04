//! `handloom log`: what a job printed last, or prints now.

use std::fs::File;
use std::io;
use std::io::IsTerminal;
use std::io::Read;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use handloom_core::executor::log_index::IndexedLog;
use handloom_core::executor::log_index::LogIndex;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::RealStorage;
use handloom_core::records::JobRecord;
use handloom_core::records::Runs;
use handloom_core::scheduler::Ending;
use handloom_core::text::nearest;

use crate::arguments::Common;
use crate::arguments::LogArguments;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::text;

/// How often is looked whether there is more.
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// So much of a log is read at once.
const PIECE: usize = 64 * 1024;

/// Where a job's output is.
enum LogFound {
    /// In a log.
    Log(IndexedLog),
    /// Nowhere: it printed nothing in this run.
    Nothing(u64),
}

/// Carries the command out.
pub fn run(common: &Common, arguments: &LogArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    let typed = location.from_root(&arguments.name);
    let logs = Logs {
        index: LogIndex::new(&location.own()),
        runs: Runs::new(&location.own()),
        root: &location.root,
        only: arguments.run,
    };
    let mut name = typed.clone();
    let mut found = logs.find(&name)?;
    if found.is_none()
        && let Some(maker) = maker(&location.own(), &typed)
    {
        // One of several outputs.
        found = logs.find(&maker)?;
        name = maker;
    }
    match found {
        None => Err(logs.unknown(&typed)),
        Some(LogFound::Nothing(run)) => {
            ui.say(&format!(
                "{} printed nothing in run {run}\n",
                text::safe(&name)
            ));
            Ok(ExitCode::SUCCESS)
        }
        Some(LogFound::Log(log)) => {
            if io::stdout().is_terminal() {
                ui.say(&format!("{}, run {}\n", text::safe(&name), log.run));
            }
            show(&logs, &name, log, arguments.follow, ui)?;
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// The step that last made a file.
fn maker(own: &Path, path: &str) -> Option<String> {
    let (ledger, _) = Ledger::open(Box::new(RealStorage::new(own)), false).ok()?;
    ledger.maker(path).map(str::to_owned)
}

/// Prints a log, and what comes to it.
fn show(
    logs: &Logs<'_>,
    name: &str,
    mut log: IndexedLog,
    follow: bool,
    ui: Ui,
) -> Result<(), CommandError> {
    let path = log.path.clone();
    let can_not = |error| CommandError::io(format!("can't read `{}`", path.display()), error);
    let mut file = File::open(&path).map_err(can_not)?;
    let is_terminal = io::stdout().is_terminal();
    let (mut piece, mut pending) = (vec![0; PIECE], Vec::new());
    loop {
        // What is asked before reading tells whether more may come behind what is read.
        let may_grow = follow && log.is_open;
        loop {
            let length = file.read(&mut piece).map_err(can_not)?;
            if length == 0 {
                break;
            }
            if is_terminal {
                pending.extend_from_slice(&piece[..length]);
                let whole = whole_characters(&pending);
                let rest = pending.split_off(whole);
                ui.print(&text::safe_output(&pending, ui.out.colour))?;
                pending = rest;
            } else {
                let mut out = io::stdout().lock();
                out.write_all(&piece[..length])?;
                out.flush()?;
            }
        }
        if !may_grow {
            return ui.print(&text::safe_output(&pending, ui.out.colour));
        }
        // One that is tried again, or has something behind it, is closed for a moment.
        for _ in 0..2 {
            std::thread::sleep(LOOK_EVERY);
            let now = logs.index.find(log.run, name)?;
            log.is_open = now.is_some_and(|now| now.is_open);
            if log.is_open {
                break;
            }
        }
    }
}

/// How many of these bytes are whole characters, or none: the end of one may still come.
fn whole_characters(bytes: &[u8]) -> usize {
    match std::str::from_utf8(bytes) {
        Err(error) if error.error_len().is_none() => error.valid_up_to(),
        _ => bytes.len(),
    }
}

/// The logs of a project.
#[derive(Clone)]
struct Logs<'l> {
    index: LogIndex,
    runs: Runs,
    root: &'l Path,
    /// Only this run.
    only: Option<u64>,
}

impl Logs<'_> {
    /// The newest run in which a job ran, or runs.
    fn find(&self, name: &str) -> Result<Option<LogFound>, CommandError> {
        let mut runs = self.index.runs();
        runs.extend(project::kept_runs(&self.runs)?);
        runs.sort_unstable();
        runs.dedup();
        runs.retain(|run| self.only.is_none_or(|only| only == *run));
        for &run in runs.iter().rev() {
            if let Some(log) = self.index.find(run, name)? {
                return Ok(Some(LogFound::Log(log)));
            }
            // A record that can't be read tells nothing.
            let Ok(record) = self.runs.read(run) else {
                continue;
            };
            let mut jobs = record.jobs.iter();
            if let Some(job) = jobs.find(|job| job.step == name && has_run(job)) {
                return Ok(Some(match &job.log {
                    Some(log) => LogFound::Log(IndexedLog {
                        path: self.path(log),
                        run,
                        is_open: false,
                    }),
                    None => LogFound::Nothing(run),
                }));
            }
        }
        Ok(None)
    }

    fn path(&self, log: &str) -> PathBuf {
        self.root.join(log)
    }

    fn unknown(&self, name: &str) -> CommandError {
        let numbers = match project::kept_runs(&self.runs) {
            Ok(numbers) => numbers,
            Err(error) => return error,
        };
        if let Some(only) = self.only.filter(|only| !numbers.contains(only)) {
            return CommandError::usage(
                format!("there is no run {only}, or it is kept no more"),
                "`handloom history` shows those that are",
            );
        }
        if self.only.is_some()
            && let Ok(Some(LogFound::Log(IndexedLog { run, .. }) | LogFound::Nothing(run))) =
                (Logs {
                    only: None,
                    ..self.clone()
                })
                .find(name)
        {
            return CommandError::usage(
                format!("`{name}` did not run in that run"),
                format!("it ran last in run {run}"),
            );
        }
        if numbers.is_empty() {
            return CommandError::usage(
                format!("`{name}` has no log yet"),
                "nothing has run in this project",
            );
        }
        let read = numbers.iter().filter_map(|run| self.runs.read(*run).ok());
        let known: Vec<String> = read
            .flat_map(|run| run.jobs.into_iter().map(|job| job.step))
            .collect();
        let help = match nearest(name, known.iter().map(String::as_str)) {
            Some(near) => format!("did you mean `{near}`?"),
            None => "name a file or a task as `handloom history` and `handloom list` do".to_owned(),
        };
        let which = match self.only {
            Some(run) => format!("run {run}"),
            None => format!("the last {}", text::count(numbers.len(), "run")),
        };
        CommandError::usage(format!("`{name}` did not run in {which}"), help)
    }
}

fn has_run(job: &JobRecord) -> bool {
    !matches!(job.ending, Ending::Held | Ending::Kept)
}
