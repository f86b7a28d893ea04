//! One run in an open project: what every command that weaves has in common.

use std::path::Path;
use std::process::ExitCode;
use std::thread::Scope;

use handloom_core::executor::CancelToken;
use handloom_core::executor::LocalExecutor;
use handloom_core::graph::BuildRequest;
use handloom_core::project::script::TaskCall;
use handloom_core::project::script::relative;
use handloom_core::project::shell::quote;
use handloom_core::project::shell::quote_all;
use handloom_core::records::Recorder;
use handloom_core::records::RunHeader;
use handloom_core::records::Runs;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::BuildError;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::EventSender;
use handloom_core::scheduler::OldOutputs;
use handloom_core::scheduler::OnFailure;
use handloom_core::scheduler::Recovered;
use handloom_core::scheduler::Summary;
use handloom_core::scheduler::TimedEvent;
use handloom_core::scheduler::WatchHook;
use handloom_core::scheduler::event_channel;
use handloom_core::scheduler::recover;
use handloom_core::world::ByteSize;

use crate::arguments;
use crate::arguments::Common;
use crate::arguments::Output;
use crate::arguments::RunningArguments;
use crate::context::Located;
use crate::context::Opened;
use crate::failure;
use crate::failure::CommandError;
use crate::lock::Lock;
use crate::settings;
use crate::settings::SetBy;
use crate::signals::Signals;
use crate::ui::Ui;
use crate::ui::events::EventWriter;
use crate::ui::report::Manner;
use crate::ui::report::Report;
use crate::ui::text;

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

/// Opens a project for a run, which nobody else may work in meanwhile.
pub fn open(
    common: &Common,
    located: Located,
    no_wait: bool,
    ui: Ui,
) -> Result<(Lock, Opened), CommandError> {
    let lock = lock(&located, no_wait, ui)?;
    let opened = Opened::open(located, common, ui, true)?;
    Ok((lock, opened))
}

/// Puts in order what a run that was killed left behind; to be called before anything is looked at.
pub fn put_in_order(opened: &Opened, ui: Ui) -> Result<(), CommandError> {
    let recovered = recover(
        &opened.disk,
        &opened.clock,
        &opened.ledger,
        &opened.located.own().join("jobs"),
        &opened.root_text(),
    )
    .map_err(|(what, error)| CommandError::io(what, error))?;
    if !recovered.is_empty() {
        ui.say(&told(&recovered));
    }
    Ok(())
}

fn told(recovered: &Recovered) -> String {
    let mut parts = Vec::new();
    let list = |names: &[String]| {
        let mut names: Vec<String> = names
            .iter()
            .map(|name| format!("`{}`", text::safe(name)))
            .collect();
        names.sort_unstable();
        names.dedup();
        let more = names.len().saturating_sub(6);
        names.truncate(6);
        let more = if more > 0 {
            format!(" and {more} more")
        } else {
            String::new()
        };
        format!("{}{more}", names.join(", "))
    };
    if !recovered.ended.is_empty() {
        parts.push(format!(
            "still running and ended now: {}",
            list(&recovered.ended)
        ));
    }
    if !recovered.put_back.is_empty() {
        parts.push(format!(
            "put back as before it: {}",
            list(&recovered.put_back)
        ));
    }
    if !recovered.moved.is_empty() {
        let moved: Vec<String> = recovered.moved.iter().map(|(_, to)| to.clone()).collect();
        parts.push(format!("what it left half done is now {}", list(&moved)));
    }
    format!("note: the last run was killed; {}\n", parts.join("; "))
}

/// Takes the project, or waits for it.
pub fn lock(located: &Located, no_wait: bool, ui: Ui) -> Result<Lock, CommandError> {
    let inside = own_job(located);
    if inside == Some(Inside::Step) {
        return Err(CommandError::usage(
            "a recipe of this project calls Hand Loom in the project, which waits for the recipe",
            "name what it needs after `needs` or `after`; a task that runs others one after another has `steps`",
        ));
    }
    located.make_own()?;
    // The run around a task that has the terminal may still hold the project.
    let no_wait = no_wait || inside == Some(Inside::Terminal);
    let command = std::env::args().skip(1).collect::<Vec<_>>().join(" ");
    Lock::take(
        &located.own(),
        format!("handloom {command}").trim_end(),
        !no_wait,
        |owner| {
            ui.say(&format!(
                "waiting for another run in this project to end: {owner}\n"
            ));
        },
    )
}

/// Which kind of job of a project this program was started in.
#[derive(PartialEq, Eq)]
enum Inside {
    Step,
    Terminal,
}

/// Whether this program was started by a recipe of the project.
fn own_job(located: &Located) -> Option<Inside> {
    let facts = std::env::var_os("HANDLOOM_JOB")?;
    let name = Path::new(&facts)
        .strip_prefix(located.own().join("jobs"))
        .ok()?;
    Some(if name.to_string_lossy().starts_with("terminal-") {
        Inside::Terminal
    } else {
        Inside::Step
    })
}

/// The exit status of a run.
pub fn exit_code(summary: &Summary, cancel: &CancelToken) -> ExitCode {
    ExitCode::from(if cancel.is_raised() {
        failure::INTERRUPTED
    } else if summary.failed > 0 {
        failure::RECIPE
    } else {
        failure::DONE
    })
}

/// Weaves, from opening the project to the exit status.
pub fn weave(
    common: &Common,
    located: Located,
    work: &Work<'_>,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let (lock, opened) = open(common, located, work.running.no_wait, ui)?;
    weave_opened(&opened, work, lock, ui)
}

/// Weaves in a project that is open; gives the exit status.
pub fn weave_opened(
    opened: &Opened,
    work: &Work<'_>,
    lock: Lock,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let mut lock = Some(lock);
    let mut release = || drop(lock.take());
    let executor = executor(opened);
    let (signals, mut events) = (Signals::heed(), event_writer(work)?);
    let run = BuildRun {
        opened,
        work,
        ui,
        executor: &executor,
        signals: &signals,
        events: events.as_mut(),
        heading: None,
        watch: None,
        release: Some(&mut release),
        also: &mut |_| {},
    };
    let result =
        run.carry_out(|build, request| build.run(&opened.description, &opened.outside, request));
    let cancel = executor.control().token();
    match result {
        // A command for a value was ended on the user's wish: that is no mistake in the description.
        Err(CommandError::Description(..)) if cancel.is_raised() => {
            Ok(ExitCode::from(failure::INTERRUPTED))
        }
        result => Ok(exit_code(&result?, cancel)),
    }
}

/// Where events are to be written.
pub fn event_writer(work: &Work<'_>) -> Result<Option<EventWriter>, CommandError> {
    let Some(path) = &work.running.events else {
        return Ok(None);
    };
    let writer = EventWriter::open(path).map_err(|error| {
        CommandError::io(format!("can't write events to `{}`", path.display()), error)
    })?;
    Ok(Some(writer))
}

/// One run in a project that is open.
pub struct BuildRun<'a> {
    /// The project.
    pub opened: &'a Opened,
    /// What to weave.
    pub work: &'a Work<'a>,
    /// Who prints.
    pub ui: Ui,
    /// Where jobs run.
    pub executor: &'a LocalExecutor,
    /// Who is told of signals.
    pub signals: &'a Signals,
    /// Where events are written.
    pub events: Option<&'a mut EventWriter>,
    /// What stands above the run's lines, as [`Manner::heading`].
    pub heading: Option<String>,
    /// Who wants to know what the run depends on.
    pub watch: Option<WatchHook<'a>>,
    /// Gives the project free for other runs, when only a task is left that has the terminal.
    pub release: Option<&'a mut dyn FnMut()>,
    /// Is told what happens as well, at once.
    pub also: &'a mut dyn FnMut(&Event),
}

impl BuildRun<'_> {
    /// Carries the run out, as `drive` leads the build.
    ///
    /// Whatever may block while it writes has a thread of its own, so that it holds up no job.
    pub fn carry_out<T>(
        self,
        drive: impl FnOnce(&mut Build<'_>, &BuildRequest) -> Result<T, BuildError>,
    ) -> Result<T, CommandError> {
        let Self {
            opened,
            work,
            ui,
            executor,
            signals,
            mut events,
            heading,
            watch,
            release,
            also,
        } = self;
        let sources = &opened.description.sources;
        let options = options(opened, work)?;
        let typed = Typed {
            folder: &opened.located.folder,
            is_personal: opened.is_personal,
            call: work.call.as_ref(),
        };
        let alone = |name: &str, task: bool| typed.alone(name, task);
        let manner = Manner {
            output: output(opened, work),
            to_error: work.running.events.as_deref() == Some(Path::new("-")),
            jobs: options.jobs,
            cores: options.jobs.min(cores()),
            alone: &alone,
            heading,
        };
        let mut report = Report::new(ui, sources, manner);
        let _aim = signals.aim(executor.control(), report.progress_guard());
        let asker = |command: &[String], folder: &str| executor.ask(command, folder);
        let environment = opened.environment_asking(Some(&asker));
        let mut recorder = recorder(opened, &options);
        let options = BuildOptions {
            run: Some(recorder.run()),
            ..options
        };
        let context = BuildContext {
            disk: &opened.disk,
            clock: &opened.clock,
            executor,
            ledger: &opened.ledger,
            environment: &environment,
        };
        let request = request(opened, work);
        let result = std::thread::scope(|scope| {
            let mut hub = EventHub::new(&opened.clock).direct(|told| {
                also(&told.event);
                recorder.tell(&told.event);
            });
            hub = hub.channel(read_events(scope, "report", move |told| {
                report.tell(&told.event);
            })?);
            if let Some(events) = &mut events {
                hub = hub.channel(read_events(scope, "events", |told| {
                    events.tell(&told.event, sources);
                })?);
            }
            // Taken apart, since what is told may live shorter here than it does for the caller.
            let watch = watch.map(|(watch_set, told)| -> WatchHook<'_> { (watch_set, told) });
            let release = release.map(|release| -> &mut dyn FnMut() { release });
            let mut build = Build::new(context, options, hub)
                .watched(watch)
                .releasing(release);
            Ok::<_, CommandError>(drive(&mut build, &request))
            // The readers end with the build, and are awaited: nothing else is said before.
        })?;
        if let Some(error) = recorder.error {
            ui.say(&format!("note: this run is not recorded: {error}\n"));
        }
        if let Some(error) = events.and_then(|events| events.error.take()) {
            return Err(CommandError::io("can't write events", error));
        }
        result.map_err(|error| match error {
            BuildError::Description(diagnostics) => opened.wrong(diagnostics),
            BuildError::Io { what, source } => CommandError::io(what, source),
        })
    }
}

/// Starts a thread that reads events; where they are sent to.
fn read_events<'scope>(
    scope: &'scope Scope<'scope, '_>,
    name: &str,
    read: impl FnMut(&TimedEvent) + Send + 'scope,
) -> Result<EventSender, CommandError> {
    let (sender, receiver) = event_channel();
    std::thread::Builder::new()
        .name(name.to_owned())
        .spawn_scoped(scope, move || receiver.read_all(read))
        .map_err(|error| CommandError::io("can't start a thread", error))?;
    Ok(sender)
}

/// Where the jobs of a project run.
pub fn executor(opened: &Opened) -> LocalExecutor {
    let scratch = opened.located.own().join("jobs");
    LocalExecutor::new(opened.located.root.clone(), scratch).with_grace(opened.settings.grace())
}

/// What was asked for.
pub fn request(opened: &Opened, work: &Work<'_>) -> BuildRequest {
    BuildRequest {
        names: work.names.clone(),
        folder: opened.located.folder.clone(),
        calls: work.call.iter().cloned().collect(),
    }
}

fn output(opened: &Opened, work: &Work<'_>) -> Output {
    work.running
        .output
        .or(opened.settings.output)
        .unwrap_or(Output::Grouped)
}

/// The record of the run that is about to begin.
fn recorder<'a>(opened: &'a Opened, options: &BuildOptions) -> Recorder<'a> {
    use handloom_core::world::Clock;
    let typed: Vec<String> = std::env::args().skip(1).collect();
    let head = RunHeader {
        run: 0,
        started: opened.clock.now(),
        command: format!("handloom {}", quote_all(typed.iter().map(String::as_str)))
            .trim_end()
            .to_owned(),
        jobs: options.jobs,
    };
    let keep = opened.settings.runs.unwrap_or(settings::RUNS);
    Recorder::new(
        Runs::new(&opened.located.own()),
        head,
        keep,
        &opened.description.sources,
    )
}

/// What was typed, as far as it decides what to type next.
struct Typed<'a> {
    folder: &'a str,
    is_personal: bool,
    call: Option<&'a (String, TaskCall)>,
}

impl Typed<'_> {
    /// What to type, in the folder that the user is in, to run one step or task alone.
    fn alone(&self, name: &str, task: bool) -> String {
        if !task {
            return format!("handloom {}", quote(&relative(name, self.folder)));
        }
        let call = self.call.filter(|(called, _)| called == name);
        let arguments = call.map_or_else(String::new, |(_, call)| {
            let values = call.values.iter();
            let mut words: Vec<String> = values
                .map(|(name, value)| format!("{name}={value}"))
                .collect();
            if !call.extra.is_empty() {
                words.push("--".to_owned());
                words.extend(call.extra.iter().cloned());
            }
            format!(" {}", quote_all(words.iter().map(String::as_str)))
        });
        // The user's own tasks have one name, wherever one is.
        let name = if self.is_personal {
            name.to_owned()
        } else {
            relative(name, self.folder)
        };
        let command = format!("handloom run {}{arguments}", quote(&name));
        command.trim_end().to_owned()
    }
}

fn options(opened: &Opened, work: &Work<'_>) -> Result<BuildOptions, CommandError> {
    let cores = cores();
    let jobs = work.running.jobs.or(opened.settings.jobs).unwrap_or(cores);
    if jobs == 0 || jobs > 4096 {
        return Err(CommandError::usage(
            format!("{jobs} jobs can't run at once"),
            "give a number from 1 to 4096",
        ));
    }
    Ok(BuildOptions {
        jobs,
        threads: cores,
        on_failure: match work.running.on_failure {
            arguments::OnFailure::Stop => OnFailure::Stop,
            arguments::OnFailure::Continue => OnFailure::Continue,
        },
        remake: work.remake,
        memory: memory(),
        live: output(opened, work) == Output::Live,
        old_outputs: match opened.settings.set_by {
            Some(SetBy::Never) => OldOutputs::Remove,
            Some(SetBy::Always) | None => OldOutputs::SetBy,
        },
        run: None,
    })
}

/// Cores of this machine.
pub fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// The machine's memory.
fn memory() -> ByteSize {
    let text = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    text.lines()
        .find_map(|line| line.strip_prefix("MemTotal:"))
        .and_then(|rest| rest.trim().trim_end_matches(" kB").parse::<u64>().ok())
        .map_or(ByteSize::UNLIMITED, |kilobytes| {
            ByteSize(kilobytes.saturating_mul(1024))
        })
}
