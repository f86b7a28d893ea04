//! One run in an open project: what every command that weaves has in common.

use std::path::Path;
use std::process::ExitCode;
use std::thread::Scope;
use std::time::Instant;

use handloom_core::executor::CancelToken;
use handloom_core::executor::control_codes::without_controls;
use handloom_core::executor::local::outliving;
use handloom_core::findings::FindingLevel;
use handloom_core::findings::FindingPattern;
use handloom_core::graph::BuildRequest;
use handloom_core::project::paths::relative;
use handloom_core::project::shell::quote;
use handloom_core::project::shell::quote_all;
use handloom_core::project::task_call::TaskCall;
use handloom_core::records::Recorder;
use handloom_core::records::RunHeader;
use handloom_core::records::Runs;
use handloom_core::records::findings_below;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::BuildError;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::EventSender;
use handloom_core::scheduler::RunWatcher;
use handloom_core::scheduler::Summary;
use handloom_core::scheduler::TimedEvent;
use handloom_core::scheduler::event_channel;
use handloom_core::status::RecordingEnvironment;
use handloom_core::store::Store;
use handloom_core::text::Sources;
use handloom_core::workspace::Access;
use handloom_core::workspace::settings::RUNS;

use crate::arguments::Common;
use crate::arguments::RunningArguments;
use crate::commands::export::keep_compile_commands;
use crate::commands::places::Place;
use crate::commands::run_options::cores;
use crate::commands::run_options::jobs_everywhere;
use crate::commands::run_options::options;
use crate::commands::run_options::output;
use crate::commands::unchanged;
use crate::commands::unchanged::Interrupted;
use crate::failure;
use crate::failure::CommandError;
use crate::project;
use crate::reporting::finding_line;
use crate::signals::Signals;
use crate::ui::Ui;
use crate::ui::events::EventWriter;
use crate::ui::report::Report;
use crate::ui::report::ReportManner;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::ProjectLock;
use handloom_core::workspace::Workspace;

/// What to weave, and how.
pub struct Work<'a> {
    /// Names as typed.
    pub names: Vec<String>,
    /// Arguments of the one task that is run.
    pub call: Option<(String, TaskCall)>,
    /// Make the named ones, reason or not.
    pub again: bool,
    /// How to run.
    pub running: &'a RunningArguments,
}

/// Opens a project for a run, which nobody else may work in meanwhile.
pub fn open(
    common: &Common,
    location: ProjectLocation,
    no_wait: bool,
    ui: Ui,
) -> Result<(ProjectLock, Workspace), CommandError> {
    let lock = lock(&location, no_wait, ui)?;
    let workspace = project::open(location, common, ui, Access::Run)?;
    Ok((lock, workspace))
}

/// Takes the project, or waits for it, and signs for it.
pub fn lock(
    location: &ProjectLocation,
    no_wait: bool,
    ui: Ui,
) -> Result<ProjectLock, CommandError> {
    take_lock(location, no_wait, ui).map(ProjectLock::signed)
}

/// Takes the project, or waits for it. Nothing is written yet.
fn take_lock(
    location: &ProjectLocation,
    no_wait: bool,
    ui: Ui,
) -> Result<ProjectLock, CommandError> {
    let inside = own_job(location);
    if inside == Some(Inside::Step) {
        return Err(CommandError::usage(
            "a recipe of this project calls Hand Loom in the project, which waits for the recipe",
            "name what it needs after `needs` or `after`; a task that runs others one after another has `steps`",
        ));
    }
    location.make_own()?;
    // The run around a task that has the terminal or stays may still hold the project.
    let no_wait = no_wait || inside == Some(Inside::Outliving);
    let command = std::env::args().skip(1).collect::<Vec<_>>().join(" ");
    let lock = ProjectLock::take(
        &location.own(),
        format!("handloom {command}").trim_end(),
        !no_wait,
        |owner| {
            ui.say(&format!(
                "waiting for another run in this project to end: {owner}\n"
            ));
        },
    )?;
    Ok(lock)
}

/// Which kind of job of a project this program was started in.
#[derive(PartialEq, Eq)]
enum Inside {
    Step,
    /// One that has the terminal, or stays.
    Outliving,
}

/// Whether this program was started by a recipe of the project.
fn own_job(location: &ProjectLocation) -> Option<Inside> {
    let manifest = std::env::var_os("HANDLOOM_JOB")?;
    let name = Path::new(&manifest)
        .strip_prefix(location.own().join("jobs"))
        .ok()?;
    let name = name.to_string_lossy();
    Some(
        if name.starts_with("terminal-") || outliving::is_one(&name) {
            Inside::Outliving
        } else {
            Inside::Step
        },
    )
}

/// The exit status of a run.
pub fn exit_code(summary: &Summary, cancel: &CancelToken) -> ExitCode {
    ExitCode::from(if cancel.is_raised() {
        failure::INTERRUPTED
    } else if summary.failed > 0 || summary.differing > 0 {
        failure::RECIPE
    } else {
        failure::DONE
    })
}

/// Weaves, from opening the project to the exit status.
pub fn weave(
    common: &Common,
    location: ProjectLocation,
    work: &Work<'_>,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let mut approach = project::approach(location, common)?;
    let began = Instant::now();
    if let Some(kept) = unchanged::asked_of_watch(&approach, work) {
        return unchanged::tell(work, kept, began, ui);
    }
    let lock = take_lock(&approach.location, work.running.no_wait, ui)?;
    match unchanged::look(&mut approach, work) {
        Ok(Some(kept)) if !approach.is_outgrown() => {
            if approach.has_news() {
                let _lock = lock.signed();
                approach.note();
            }
            return unchanged::tell(work, kept, began, ui);
        }
        Ok(_) => {}
        Err(Interrupted) => return Ok(ExitCode::from(failure::INTERRUPTED)),
    }
    let lock = lock.signed();
    let workspace = project::open_after(approach, common, ui, Access::Run)?;
    weave_opened(&workspace, work, lock, ui)
}

/// Weaves in a project that is open; gives the exit status.
pub fn weave_opened(
    workspace: &Workspace,
    work: &Work<'_>,
    lock: ProjectLock,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let mut lock = Some(lock);
    let mut release = || drop(lock.take());
    let place = Place::of(workspace, work.running, ui)?;
    let (signals, mut events) = (Signals::heed(), event_writer(work)?);
    let run = BuildRun {
        workspace,
        work,
        ui,
        place: &place,
        signals: &signals,
        events: events.as_mut(),
        heading: None,
        heading_first: false,
        watcher: None,
        release: Some(&mut release),
        also: &mut |_| {},
    };
    let result = run
        .carry_out(|build, request| build.run(&workspace.description, &workspace.outside, request));
    let cancel = place.local().control().token();
    match result {
        // A command for a value was ended on the user's wish: that is no mistake in the description.
        Err(CommandError::Description(..)) if cancel.is_raised() => {
            Ok(ExitCode::from(failure::INTERRUPTED))
        }
        result => {
            let summary = result?;
            keep_compile_commands(workspace, &summary, ui);
            Ok(exit_code(&summary, cancel))
        }
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
    pub workspace: &'a Workspace,
    /// What to weave.
    pub work: &'a Work<'a>,
    /// Who prints.
    pub ui: Ui,
    /// Where jobs run.
    pub place: &'a Place,
    /// Who is told of signals.
    pub signals: &'a Signals,
    /// Where events are written.
    pub events: Option<&'a mut EventWriter>,
    /// What stands above the run's lines, as [`ReportManner::heading`].
    pub heading: Option<String>,
    /// As [`ReportManner::heading_first`].
    pub heading_first: bool,
    /// Who wants to know what the run depends on.
    pub watcher: Option<&'a mut dyn RunWatcher>,
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
            workspace,
            work,
            ui,
            place,
            signals,
            mut events,
            heading,
            heading_first,
            watcher,
            release,
            also,
        } = self;
        let sources = &workspace.description.sources;
        let options = options(workspace, work.running, work.again)?;
        let typed = Typed::of(workspace, work);
        let alone = |name: &str, task: bool| typed.alone(name, task);
        let (root, patterns) = (
            &*workspace.location.root,
            &workspace.settings.finding_patterns,
        );
        let manner = ReportManner {
            output: output(workspace, work.running),
            to_error: work.running.events.as_deref() == Some(Path::new("-")),
            jobs: jobs_everywhere(workspace, &options),
            cores: options.jobs.min(cores()),
            alone: &alone,
            first_error: &|ended| first_error(root, patterns, sources, ended),
            heading,
            heading_first,
        };
        let mut report = Report::new(ui, sources, manner);
        let _aim = signals.aim(place.local().control(), report.progress_guard());
        let asker = |command: &[String], folder: &str| place.local().ask(command, folder);
        let environment = workspace.environment_asking(Some(&asker));
        let mut recorder = recorder(workspace, &options);
        let mut found = workspace.circumstances(typed_command(), place.local());
        let run = Some(recorder.run());
        let options = BuildOptions { run, ..options };
        let store = workspace.store().filter(|_| !work.running.no_store);
        let context = context(workspace, place, store.as_ref(), &environment);
        let request = request(workspace, work);
        let result = std::thread::scope(|scope| {
            let mut hub = EventHub::new(&workspace.clock).direct(|told| {
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
            let watcher = watcher.map(|watcher| -> &mut dyn RunWatcher { watcher });
            let release = release.map(|release| -> &mut dyn FnMut() { release });
            let mut build = Build::new(context, options, hub)
                .watched(watcher)
                .noting(Some(&mut found))
                .releasing(release);
            build.with_front(workspace.take_front());
            Ok::<_, CommandError>(drive(&mut build, &request))
            // The readers end with the build, and are awaited: nothing else is said before.
        })?;
        if let Some(error) = recorder.error {
            ui.say(&format!("note: this run is not recorded: {error}\n"));
        }
        if let Some(error) = events.and_then(|events| events.error.take()) {
            return Err(CommandError::io("can't write events", error));
        }
        result.map_err(|error| project::build_failed(workspace, error))
    }
}

/// Of a job that failed and printed much, the first error that it said of a source, unless it stands near the beginning.
fn first_error(
    root: &Path,
    patterns: &[FindingPattern],
    sources: &Sources,
    ended: &Ended,
) -> Option<String> {
    /// What is printed below the line of the job is seen at once.
    const NEAR: usize = 8;
    let printed = String::from_utf8_lossy(&ended.output.start);
    let place = sources.name_and_line(ended.described);
    let folder = place.rsplit_once('/').map_or("", |(folder, _)| folder);
    let first = |text: &str| {
        let plain = without_controls(text.as_bytes());
        let found = findings_below(root, folder, patterns, &String::from_utf8_lossy(&plain));
        found
            .into_iter()
            .find(|one| one.level == FindingLevel::Error)
    };
    let (far, _) = printed.match_indices('\n').nth(NEAR)?;
    if first(&printed[..far]).is_some() {
        return None;
    }
    first(&printed).map(|error| finding_line(&error))
}

/// What a build is carried out with.
fn context<'s>(
    workspace: &'s Workspace,
    place: &'s Place,
    store: Option<&'s Store>,
    environment: &'s RecordingEnvironment<'s>,
) -> BuildContext<'s> {
    BuildContext {
        store,
        disk: &workspace.disk,
        clock: &workspace.clock,
        executor: place.executor(),
        ledger: &workspace.ledger,
        environment,
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

/// What was asked for.
pub fn request(workspace: &Workspace, work: &Work<'_>) -> BuildRequest {
    BuildRequest {
        names: work.names.clone(),
        folder: workspace.location.folder.clone(),
        calls: work.call.iter().cloned().collect(),
    }
}

/// What was typed to begin this run.
fn typed_command() -> String {
    let typed: Vec<String> = std::env::args().skip(1).collect();
    let typed = quote_all(typed.iter().map(String::as_str));
    format!("handloom {typed}").trim_end().to_owned()
}

/// The record of the run that is about to begin.
fn recorder<'a>(workspace: &'a Workspace, options: &BuildOptions) -> Recorder<'a> {
    use handloom_core::world::Clock;
    let head = RunHeader {
        run: 0,
        started: workspace.clock.now(),
        command: typed_command(),
        jobs: jobs_everywhere(workspace, options),
    };
    let keep = workspace.settings.runs.unwrap_or(RUNS);
    Recorder::new(
        Runs::new(&workspace.location.own()),
        head,
        keep,
        &workspace.description.sources,
    )
    .reading_by(workspace.settings.finding_patterns.clone())
}

/// What was typed, as far as it decides what to type next.
struct Typed<'a> {
    folder: &'a str,
    is_personal: bool,
    call: Option<&'a (String, TaskCall)>,
}

impl<'a> Typed<'a> {
    fn of(workspace: &'a Workspace, work: &'a Work<'_>) -> Self {
        Self {
            folder: &workspace.location.folder,
            is_personal: workspace.is_personal,
            call: work.call.as_ref(),
        }
    }

    /// What to type, in the folder that the user is in, to run one step or task alone.
    fn alone(&self, name: &str, task: bool) -> String {
        if !task {
            return format!("handloom {}", quote(&relative(name, self.folder)));
        }
        let call = self.call.filter(|(called, _)| called == name);
        let arguments = call.map_or_else(String::new, |(_, call)| {
            let values = call.values.iter();
            let mut words: Vec<String> = values
                .flat_map(|(name, values)| {
                    values.iter().map(move |value| format!("{name}={value}"))
                })
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
