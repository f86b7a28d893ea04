//! `handloom weave`: bring targets up to date, run tasks.

use std::process::ExitCode;
use std::sync::Arc;

use handloom_core::project::script::TaskCall;
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
use crate::arguments::RunningArguments;
use crate::arguments::WeaveArguments;
use crate::context::Located;
use crate::context::Opened;
use crate::context::ask;
use crate::context::env;
use crate::failure;
use crate::failure::Failure;
use crate::lock::Lock;
use crate::ui::Ui;
use crate::ui::events::EventWriter;
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
    let work = Work {
        names: arguments.names.clone(),
        call: None,
        remake: arguments.remake,
        running: &arguments.running,
    };
    weave(common, located, &work, ui)
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
    let mut events = match &work.running.events {
        Some(path) => Some(EventWriter::open(path).map_err(|error| {
            Failure::io(format!("can't write events to `{}`", path.display()), error)
        })?),
        None => None,
    };
    let events_to_out = work.running.events.as_deref() == Some(std::path::Path::new("-"));
    let mut report = Report::new(ui, &opened.description.sources, events_to_out);
    let stop = Arc::new(Stop::default());
    heed_signals(&stop);
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
    let mut observer = |event: Event| {
        report.tell(&event);
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
        options(opened, work)?,
        &mut observer,
    );
    let asked = Asked {
        names: work.names.clone(),
        folder: opened.located.folder.clone(),
        calls: work.call.iter().cloned().collect(),
    };
    let result = session.weave(&opened.description, &opened.outside, &asked);
    drop(session);
    if let Some(error) = events.and_then(|events| events.error) {
        return Err(Failure::io("can't write events", error));
    }
    match result {
        Ok(summary) => Ok((summary, stop)),
        Err(Stopped::Description(diagnostics)) => Err(opened.wrong(diagnostics)),
        Err(Stopped::Io(what, error)) => Err(Failure::io(what, error)),
    }
}

fn options(opened: &Opened, work: &Work<'_>) -> Result<Options, Failure> {
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
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
    })
}

/// Interruptions raise the wish to stop: the first asks the jobs to end, the second kills them, the
/// third leaves at once.
fn heed_signals(stop: &Arc<Stop>) {
    use signal_hook::consts::SIGHUP;
    use signal_hook::consts::SIGINT;
    use signal_hook::consts::SIGTERM;
    let Ok(mut signals) = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP]) else {
        return;
    };
    let stop = Arc::clone(stop);
    std::thread::spawn(move || {
        for _ in signals.forever() {
            if stop.raise() > Stop::KILL {
                std::process::exit(i32::from(failure::INTERRUPTED));
            }
        }
    });
}
