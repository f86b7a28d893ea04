//! `handloom weave`: bring targets up to date, run tasks.

use std::process::ExitCode;
use std::sync::Arc;

use handloom_core::history::Head;
use handloom_core::history::Recorder;
use handloom_core::history::Runs;
use handloom_core::project::script::TaskCall;
use handloom_core::project::script::relative;
use handloom_core::project::shell::quote;
use handloom_core::project::shell::quote_all;
use handloom_core::weave::Around;
use handloom_core::weave::Asked;
use handloom_core::weave::Event;
use handloom_core::weave::LocalPlace;
use handloom_core::weave::Options;
use handloom_core::weave::Session;
use handloom_core::weave::Stop;
use handloom_core::weave::Stopped;
use handloom_core::weave::Summary;

use crate::arguments::Common;
use crate::arguments::OnFailure;
use crate::arguments::Output;
use crate::arguments::RunArguments;
use crate::arguments::RunningArguments;
use crate::arguments::WeaveArguments;
use crate::commands::looking::Looking;
use crate::commands::run as run_command;
use crate::context::Located;
use crate::context::Opened;
use crate::context::ask;
use crate::context::env;
use crate::failure;
use crate::failure::Failure;
use crate::lock::Lock;
use crate::settings;
use crate::ui::Ui;
use crate::ui::events::EventWriter;
use crate::ui::live::Veil;
use crate::ui::report::Manner;
use crate::ui::report::Report;

/// What to weave, and how.
pub struct Work<'a> {
    /// Names as typed.
    pub names: Vec<String>,
    /// Arguments of the one task that is run.
    pub call: Option<(String, TaskCall)>,
    /// Make the named ones, reason or not.
    pub remake: bool,
    /// How to run.
    pub running: &'a RunningArguments,
}

/// Carries the command out.
pub fn run(common: &Common, arguments: &WeaveArguments, ui: Ui) -> Result<ExitCode, Failure> {
    let located = Located::find(common)?;
    if let [name] = &arguments.names[..]
        && personal_task(common, name)?
    {
        // Not the project's: as `handloom run NAME`.
        let run = RunArguments {
            task: name.clone(),
            values: Vec::new(),
            extra: Vec::new(),
            remake: arguments.remake,
            running: arguments.running.clone(),
        };
        return run_command::run(common, &run, ui);
    }
    let work = Work {
        names: arguments.names.clone(),
        call: None,
        remake: arguments.remake,
        running: &arguments.running,
    };
    weave(common, located, &work, ui)
}

/// Whether a name that the project does not know is a task of the user's own.
fn personal_task(common: &Common, name: &str) -> Result<bool, Failure> {
    if settings::own_tasks().is_none() {
        return Ok(false);
    }
    let silent = Ui::silent();
    let Ok(opened) = Opened::open(Located::find(common)?, common, silent, false) else {
        // What is wrong with the project is told by the run.
        return Ok(false);
    };
    let asked = Asked {
        names: vec![name.to_owned()],
        folder: opened.located.folder.clone(),
        ..Asked::default()
    };
    let known = Looking::at_opened(&opened, silent, |looking| {
        Ok(handloom_core::weave::goals(looking.project, &asked)
            .unknown
            .is_empty())
    });
    if known.unwrap_or(true) {
        return Ok(false);
    }
    let Ok(own) = opened.personal(common, silent)? else {
        return Ok(false);
    };
    Looking::at_opened(&own, silent, |looking| {
        Ok(looking.project.task_named(name).is_some())
    })
}

/// Opens a project for a run, which nobody else may work in meanwhile.
pub fn open(
    common: &Common,
    located: Located,
    no_wait: bool,
    ui: Ui,
) -> Result<(Lock, Opened), Failure> {
    located.make_own()?;
    let command = std::env::args().skip(1).collect::<Vec<_>>().join(" ");
    let lock = Lock::take(
        &located.own(),
        format!("handloom {command}").trim_end(),
        !no_wait,
        |owner| {
            ui.say(&format!(
                "waiting for another run in this project to end: {owner}\n"
            ));
        },
    )?;
    let opened = Opened::open(located, common, ui, true)?;
    Ok((lock, opened))
}

/// Weaves, from opening the project to the exit status.
pub fn weave(
    common: &Common,
    located: Located,
    work: &Work<'_>,
    ui: Ui,
) -> Result<ExitCode, Failure> {
    let (_lock, opened) = open(common, located, work.running.no_wait, ui)?;
    let (summary, stop) = weave_opened(&opened, work, ui)?;
    Ok(exit_code(&summary, &stop))
}

/// The exit status of a run.
pub fn exit_code(summary: &Summary, stop: &Stop) -> ExitCode {
    ExitCode::from(if stop.level() > 0 {
        failure::INTERRUPTED
    } else if summary.failed > 0 {
        failure::RECIPE
    } else {
        failure::DONE
    })
}

/// Weaves in a project that is open.
pub fn weave_opened(
    opened: &Opened,
    work: &Work<'_>,
    ui: Ui,
) -> Result<(Summary, Arc<Stop>), Failure> {
    let sources = &opened.description.sources;
    let mut events = match &work.running.events {
        Some(path) => Some(EventWriter::open(path, sources).map_err(|error| {
            Failure::io(format!("can't write events to `{}`", path.display()), error)
        })?),
        None => None,
    };
    let options = options(opened, work)?;
    let alone = |name: &str, task: bool| alone(opened, work, name, task);
    let manner = Manner {
        output: output(opened, work),
        to_error: work.running.events.as_deref() == Some(std::path::Path::new("-")),
        jobs: options.jobs,
        cores: options.jobs.min(cores()),
        alone: &alone,
    };
    let mut report = Report::new(ui, sources, manner);
    let stop = Arc::new(Stop::default());
    heed_signals(&stop, report.veil());
    let root = &opened.located.root;
    let asker = |command: &[String], folder: &str| ask(root, command, folder);
    let around = Around::new(
        &opened.disk,
        &opened.clock,
        &opened.ledger,
        &env,
        Some(&asker),
        opened.root_text(),
    );
    let place = LocalPlace::new(root.clone(), opened.located.own().join("jobs"));
    let name_place = |span| sources.name_and_line(span);
    let mut recorder = recorder(opened, &options, &name_place);
    let options = Options {
        run: Some(recorder.run()),
        ..options
    };
    let mut observer = |event: Event| {
        report.tell(&event);
        recorder.tell(&event);
        if let Some(events) = &mut events {
            events.tell(&event);
        }
    };
    let mut session = Session::new(
        &opened.disk,
        &opened.clock,
        &place,
        &stop,
        &opened.ledger,
        &around,
        options,
        &mut observer,
    );
    let asked = Asked {
        names: work.names.clone(),
        folder: opened.located.folder.clone(),
        calls: work.call.iter().cloned().collect(),
    };
    let result = session.weave(&opened.description, &opened.outside, &asked);
    drop(session);
    // The block must be gone before anything else is said.
    drop(report);
    if let Some(error) = recorder.error {
        ui.say(&format!("note: this run is not recorded: {error}\n"));
    }
    if let Some(error) = events.and_then(|events| events.error) {
        return Err(Failure::io("can't write events", error));
    }
    match result {
        Ok(summary) => Ok((summary, stop)),
        Err(Stopped::Description(diagnostics)) => Err(opened.wrong(diagnostics)),
        Err(Stopped::Io(what, error)) => Err(Failure::io(what, error)),
    }
}

fn output(opened: &Opened, work: &Work<'_>) -> Output {
    work.running
        .output
        .or(opened.settings.output)
        .unwrap_or(Output::Grouped)
}

/// The record of the run that is about to begin.
fn recorder<'a>(
    opened: &Opened,
    options: &Options,
    place: &'a dyn Fn(handloom_core::text::Span) -> String,
) -> Recorder<'a> {
    use handloom_core::world::Clock;
    let typed: Vec<String> = std::env::args().skip(1).collect();
    let head = Head {
        run: 0,
        started: opened.clock.now(),
        command: format!("handloom {}", quote_all(typed.iter().map(String::as_str)))
            .trim_end()
            .to_owned(),
        jobs: options.jobs,
    };
    let keep = opened.settings.runs.unwrap_or(settings::RUNS);
    Recorder::new(Runs::new(&opened.located.own()), head, keep, place)
}

/// What to type, in the folder that the user is in, to run one step or task alone.
fn alone(opened: &Opened, work: &Work<'_>, name: &str, task: bool) -> String {
    let folder = &opened.located.folder;
    if !task {
        return format!("handloom {}", quote(&relative(name, folder)));
    }
    let call = work.call.iter().find(|(called, _)| called == name);
    let arguments = call.map_or_else(String::new, |(_, call)| {
        let mut words: Vec<String> = call
            .values
            .iter()
            .map(|(name, value)| format!("{name}={value}"))
            .collect();
        if !call.extra.is_empty() {
            words.push("--".to_owned());
            words.extend(call.extra.iter().cloned());
        }
        format!(" {}", quote_all(words.iter().map(String::as_str)))
    });
    let command = format!("handloom run {}{arguments}", quote(&relative(name, folder)));
    command.trim_end().to_owned()
}

fn options(opened: &Opened, work: &Work<'_>) -> Result<Options, Failure> {
    let cores = cores();
    let jobs = work.running.jobs.or(opened.settings.jobs).unwrap_or(cores);
    if jobs == 0 || jobs > 4096 {
        return Err(Failure::usage(
            format!("{jobs} jobs can't run at once"),
            "give a number from 1 to 4096",
        ));
    }
    Ok(Options {
        jobs,
        threads: cores,
        keep_going: work.running.on_failure == OnFailure::Continue,
        remake: work.remake,
        memory: memory(),
        live: output(opened, work) == Output::Live,
        run: None,
    })
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// The machine's memory, bytes.
fn memory() -> u64 {
    let text = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    text.lines()
        .find_map(|line| line.strip_prefix("MemTotal:"))
        .and_then(|rest| rest.trim().trim_end_matches(" kB").parse::<u64>().ok())
        .map_or(u64::MAX, |kilobytes| kilobytes.saturating_mul(1024))
}

/// Interruptions raise the wish to stop: the first asks the jobs to end, the second kills them, the
/// third leaves at once. The keyboard's wish to pause stops all jobs, then this program; when it goes on,
/// so do they.
fn heed_signals(stop: &Arc<Stop>, veil: Option<Veil>) {
    use signal_hook::consts::SIGHUP;
    use signal_hook::consts::SIGINT;
    use signal_hook::consts::SIGTERM;
    use signal_hook::consts::SIGTSTP;
    let Ok(mut signals) = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP, SIGTSTP])
    else {
        return;
    };
    let stop = Arc::clone(stop);
    std::thread::spawn(move || {
        for signal in signals.forever() {
            let level = match signal {
                SIGTSTP => {
                    if let Some(veil) = &veil {
                        veil.drop_down();
                    }
                    stop.pause();
                    // Stopped as the shell expects it; this returns when the program goes on.
                    let _ = signal_hook::low_level::emulate_default_handler(SIGTSTP);
                    stop.resume();
                    if let Some(veil) = &veil {
                        veil.lift();
                    }
                    continue;
                }
                SIGINT => stop.interrupt(),
                other => stop.raise(other),
            };
            if level > Stop::KILL {
                std::process::exit(i32::from(failure::INTERRUPTED));
            }
        }
    });
}
