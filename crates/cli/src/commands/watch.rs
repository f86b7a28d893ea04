//! `handloom watch`: weave, and again at every change.

use std::cell::RefCell;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::mpsc;
use std::sync::mpsc::Receiver;

use handloom_core::executor::ProcessControl;
use handloom_core::graph::BuildRequest;
use handloom_core::project::folders::Folders;
use handloom_core::project_cache::ResidentProject;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildError;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::RunWatcher;
use handloom_core::scheduler::Summary;
use handloom_core::status::WatchSet;
use handloom_core::world::Disk;
use handloom_core::world::lock;

use crate::arguments::Common;
use crate::arguments::WatchArguments;
use crate::commands::export::keep_compile_commands;
use crate::commands::places::Place;
use crate::commands::run_options::cores;
use crate::commands::running;
use crate::commands::running::BuildRun;
use crate::commands::running::Work;
use crate::commands::watch_answers::Standing;
use crate::commands::watch_run::Over;
use crate::commands::watch_run::RunHooks;
use crate::commands::watch_run::WatchedRun;
use crate::commands::watch_run::heading;
use crate::commands::watch_run::learned_since;
use crate::failure;
use crate::failure::CommandError;
use crate::project;
use crate::signals::Heard;
use crate::signals::Signals;
use crate::standing::ASKED;
use crate::standing::QueryServer;
use crate::standing::StandingAnswer;
use crate::ui::Ui;
use crate::ui::events::EventWriter;
use crate::ui::keys::Keys;
use crate::ui::watch_status::WatchStatus;
use crate::watching;
use crate::watching::Notices;
use crate::watching::RebuildRequest;
use crate::watching::WaitHooks;
use crate::watching::WatchEvent;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::Workspace;

/// Carries the command out.
pub fn run(common: &Common, arguments: &WatchArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let location = project::locate(common)?;
    let work = Work {
        names: arguments.names.clone(),
        call: None,
        again: false,
        running: &arguments.running,
    };
    let (tell, events_in) = mpsc::channel();
    let current: Arc<Mutex<Option<Arc<ProcessControl>>>> = Arc::default();
    let signals = Signals::heed();
    let told = tell.clone();
    signals.listen(Box::new(move |heard| {
        // Nobody listens any more at the program's end.
        let _ = told.send(match heard {
            Heard::End => WatchEvent::End,
            Heard::Resumed => WatchEvent::Resumed,
        });
    }));
    let (told, running) = (tell.clone(), Arc::clone(&current));
    let keys = Keys::listen(move |key| pressed(key, &running, &told));
    let mut watch = Watch {
        common,
        work: &work,
        ui,
        signals: &signals,
        notices: Notices::new(&location.root, tell, arguments.look_every)?,
        watch_status: WatchStatus::new(ui, keys.is_some()),
        keys,
        events_in,
        current,
        events: running::event_writer(&work)?,
        server: None,
        quietly: arguments.quietly,
        told_of_polling: false,
        waited: false,
        broken: None,
        shifts: 0,
    };
    let mut rebuild = RebuildRequest::default();
    loop {
        watch.hear_questions(&location);
        rebuild = if watch.quietly {
            watch.stand_quietly()?
        } else {
            watch.one_project(&rebuild)?
        };
        if rebuild.ends() {
            break;
        }
    }
    watch.watch_status.clear();
    Ok(if rebuild.interrupted {
        ExitCode::from(failure::INTERRUPTED)
    } else {
        ExitCode::SUCCESS
    })
}

/// A key was pressed: two of them are meant for the run that is going on.
fn pressed(
    key: char,
    current: &Mutex<Option<Arc<ProcessControl>>>,
    told: &mpsc::Sender<WatchEvent>,
) {
    if matches!(key, 's' | 'q')
        && let Some(control) = &*lock(current)
    {
        control.raise(signal_hook::consts::SIGINT);
    }
    let _ = told.send(WatchEvent::Key(key));
}

/// What lives from the first run to the last.
pub struct Watch<'w> {
    pub(super) common: &'w Common,
    pub(super) work: &'w Work<'w>,
    pub(super) ui: Ui,
    signals: &'w Signals,
    pub(super) notices: Notices,
    pub(super) watch_status: WatchStatus,
    keys: Option<Keys>,
    pub(super) events_in: Receiver<WatchEvent>,
    /// Who hears the questions of others.
    server: Option<QueryServer>,
    /// Whether nothing is woven.
    quietly: bool,
    /// The wish to end the run that is going on.
    current: Arc<Mutex<Option<Arc<ProcessControl>>>>,
    events: Option<EventWriter>,
    told_of_polling: bool,
    /// Whether it waited for a change before: what is typed was right then.
    pub(super) waited: bool,
    /// What is wrong with the project, as it was said.
    pub(super) broken: Option<String>,
    /// How often in a row something changed between reading and watching.
    pub(super) shifts: usize,
}

impl Watch<'_> {
    /// Opens the project, weaves, and goes on while the description stays the same; gives what is to be done
    /// then.
    fn one_project(&mut self, rebuild: &RebuildRequest) -> Result<RebuildRequest, CommandError> {
        let mut watch_set = WatchSet::default();
        let location = project::locate(self.common);
        let workspace = location.and_then(|location| {
            // Later on another run is nothing to end for.
            let no_wait = self.work.running.no_wait && !self.waited;
            running::open(self.common, location, no_wait, self.ui)
        });
        let (lock, workspace) = match workspace {
            Ok(workspace) => workspace,
            Err(failure) => return self.mend(failure, watch_set),
        };
        let mut lock = Some(lock);
        let mut release = || drop(lock.take());
        let hooks = Some((&mut watch_set, &mut release as &mut dyn FnMut()));
        let result = self.weave(&workspace, rebuild, hooks, |build, request| {
            build.run(&workspace.description, &workspace.outside, request)
        });
        drop(lock);
        let over = match result {
            Ok(over) => over,
            Err(failure) => return self.mend(failure, watch_set),
        };
        self.broken = None;
        self.watch_status.over(&over.result, &rebuild.causes);
        let mut kept = all_kept(&over.result);
        let mut rebuild = self.after(&workspace, &mut watch_set, &over.ran, over.noticed);
        if self.is_news(over.shifted) {
            rebuild.everything = true;
            rebuild.cause("the description or a folder".to_owned());
        }
        while !rebuild.ends() {
            if !rebuild.is_one() {
                // What was changed so far is in what is looked at now.
                rebuild = rebuild.left();
            }
            match self.stand(&workspace, &mut watch_set, rebuild, &mut kept)? {
                Next::Stale(left) => rebuild = left,
                Next::Rebuild(next) => return Ok(next),
            }
        }
        Ok(rebuild)
    }

    /// Weaves at every change without opening the project anew, as long as that goes.
    fn stand(
        &mut self,
        workspace: &Workspace,
        watch_set: &mut WatchSet,
        rebuild: RebuildRequest,
        kept: &mut Option<usize>,
    ) -> Result<Next, CommandError> {
        let asking = workspace.executor();
        let asker = |command: &[String], folder: &str| asking.ask(command, folder);
        let environment = workspace.environment_asking(Some(&asker));
        let folders = Folders::new(&workspace.disk);
        let vars = workspace.vars(&environment, &folders);
        let asked = running::request(workspace, self.work);
        // Without notices nobody tells of targets that are not as they were left.
        let blind = self.notices.is_blind();
        let mut resident = if rebuild.is_one() || blind {
            None
        } else {
            let ledger = workspace.ledger.borrow();
            ResidentProject::open(&vars, &folders, &asked, &ledger, &environment, cores())
        };
        let mut rebuild = rebuild;
        loop {
            let names = &self.work.names;
            let standing = resident
                .as_ref()
                .and_then(|resident| Standing::new(workspace, resident, names, *kept, false));
            rebuild = self.wait(
                rebuild,
                watch_set,
                &workspace.disk,
                false,
                standing.as_ref(),
            );
            if rebuild.ends() {
                return Ok(Next::Rebuild(rebuild));
            }
            let Some(resident) = resident.as_mut().filter(|_| !rebuild.everything) else {
                self.forget_folders(&rebuild, watch_set);
                return Ok(Next::Rebuild(rebuild));
            };
            let lock = running::lock(&workspace.location, false, self.ui)?;
            if !lock.was_ours {
                return Ok(Next::Rebuild(rebuild));
            }
            for path in &rebuild.invalidated {
                resident.invalidate(path);
            }
            let result = self.weave(workspace, &rebuild, None, |build, request| {
                build.run_resident(resident, &workspace.description, request)
            });
            drop(lock);
            let over = match result {
                Ok(over) => over,
                Err(failure) => {
                    return self
                        .mend(failure, std::mem::take(watch_set))
                        .map(Next::Rebuild);
                }
            };
            let Some(summary) = over.result else {
                rebuild.told = true;
                return Ok(Next::Rebuild(rebuild));
            };
            self.watch_status.over(&summary, &rebuild.causes);
            keep_compile_commands(workspace, &summary, self.ui);
            *kept = all_kept(&summary);
            rebuild = self.after(workspace, watch_set, &over.ran, over.noticed);
            if resident.is_stale() && !rebuild.is_one() {
                return Ok(Next::Stale(rebuild));
            }
        }
    }

    /// One run; with the hooks of one for which the project was opened.
    fn weave<T>(
        &mut self,
        workspace: &Workspace,
        rebuild: &RebuildRequest,
        hooks: Option<RunHooks<'_>>,
        drive: impl FnOnce(&mut Build<'_>, &BuildRequest) -> Result<T, BuildError>,
    ) -> Result<Over<T>, CommandError> {
        self.announce(rebuild);
        let place = Place::of(workspace, self.work.running, self.ui)?;
        self.aim(Some(place.local().control()));
        let heading = heading(rebuild, self.ui);
        let keys = &self.keys;
        // The job that has the terminal, and all that ran.
        let lent: RefCell<Option<String>> = RefCell::default();
        let ran: RefCell<Vec<String>> = RefCell::default();
        let mut also = |event: &Event| match event {
            Event::Began {
                terminal: true,
                step,
                ..
            } => {
                keys.iter().for_each(Keys::lend);
                lent.replace(Some(step.clone()));
            }
            Event::Ended(ended) => {
                if lent.borrow().as_ref() == Some(&ended.step) {
                    keys.iter().for_each(Keys::take_back);
                    lent.take();
                }
                if matches!(ended.ending, Ending::Made | Ending::Same) {
                    ran.borrow_mut().push(ended.step.clone());
                }
            }
            _ => {}
        };
        let (watch_set, release) = hooks.unzip();
        // Taken apart, since it may live shorter here than it does for the caller.
        let release = release.map(|release| -> &mut dyn FnMut() { release });
        let mut watched = watch_set.map(|watch_set| WatchedRun {
            workspace,
            watch_set,
            notices: &mut self.notices,
            events_in: &self.events_in,
            server: self.server.as_ref(),
            ran: &ran,
            shifted: false,
            noticed: RebuildRequest::default(),
            rests: false,
        });
        let run = BuildRun {
            workspace,
            work: self.work,
            ui: self.ui,
            place: &place,
            signals: self.signals,
            events: self.events.as_mut(),
            heading,
            heading_first: !rebuild.ended.is_empty(),
            watcher: watched
                .as_mut()
                .map(|watched| -> &mut dyn RunWatcher { watched }),
            release,
            also: &mut also,
        };
        let result = run.carry_out(drive);
        let (shifted, noticed) = watched
            .map(|watched| (watched.shifted, watched.noticed))
            .unwrap_or_default();
        self.aim(None);
        Ok(Over {
            result: result?,
            ran: ran.into_inner(),
            shifted,
            noticed,
        })
    }

    /// A run is about to begin.
    fn announce(&mut self, rebuild: &RebuildRequest) {
        self.watch_status.clear();
        self.notices.take_note(&rebuild.causes);
        if let Some(events) = &mut self.events
            && !rebuild.causes.is_empty()
            && !rebuild.told
        {
            events.changed(&rebuild.causes);
        }
    }

    fn aim(&self, control: Option<&Arc<ProcessControl>>) {
        *lock(&self.current) = control.cloned();
    }

    /// Watches what steps learned when they ran; gives what changed during the run.
    fn after(
        &mut self,
        workspace: &Workspace,
        watch_set: &mut WatchSet,
        ran: &[String],
        noticed: RebuildRequest,
    ) -> RebuildRequest {
        let mut rebuild = noticed;
        watching::drain(&self.events_in, &mut rebuild, watch_set);
        self.forget_folders(&rebuild, watch_set);
        learned_since(workspace, watch_set, &mut self.notices, ran, &mut rebuild);
        self.say_of_polling();
        rebuild
    }

    /// Says once that notices do not tell of everything.
    pub(super) fn say_of_polling(&mut self) {
        if let Some(why) = self.notices.why_polling()
            && !std::mem::replace(&mut self.told_of_polling, true)
        {
            self.ui.say(&format!(
                "note: files are looked at every two seconds, since {why}\n"
            ));
        }
    }

    /// Hears the questions of others from now on, as soon as there is a folder for it.
    fn hear_questions(&mut self, location: &ProjectLocation) {
        if self.server.is_none() && location.own().is_dir() && !self.notices.is_blind() {
            self.server = QueryServer::start(&location.own());
            if self.server.is_some() && !self.notices.hear(&format!(".handloom/{ASKED}/")) {
                self.server = None;
            }
        }
    }

    pub(super) fn wait(
        &mut self,
        rebuild: RebuildRequest,
        watch_set: &WatchSet,
        disk: &dyn Disk,
        broken: bool,
        standing: Option<&Standing<'_, '_, '_>>,
    ) -> RebuildRequest {
        self.waited = true;
        self.watch_status.show(watch_set.sources());
        let refresh = || self.watch_status.show(watch_set.sources());
        let mut answer = |rebuild: &mut RebuildRequest| {
            for number in std::mem::take(&mut rebuild.asked) {
                let Some(server) = &self.server else { continue };
                server.answer(number, |query| match standing {
                    Some(standing) => standing.answer(query, rebuild),
                    None => StandingAnswer::Alone,
                });
            }
        };
        let is_enough = |rebuild: &RebuildRequest| {
            self.quietly && (rebuild.others_wrote || !rebuild.invalidated.is_empty())
        };
        let mut hooks = WaitHooks {
            refresh: &refresh,
            answer: &mut answer,
            is_enough: &is_enough,
        };
        watching::wait(
            &self.events_in,
            rebuild,
            watch_set,
            disk,
            broken,
            &mut hooks,
        )
    }

    /// Folders that came or went are watched anew.
    pub(super) fn forget_folders(&mut self, rebuild: &RebuildRequest, watch_set: &WatchSet) {
        for path in &rebuild.invalidated {
            if watch_set.is_folder(path) {
                self.notices.forget(path);
            }
        }
    }
}

/// How many steps have no reason to run after a run; none when it was not a good one.
fn all_kept(summary: &Summary) -> Option<usize> {
    let bad = summary.failed + summary.held + summary.stopped + summary.unstarted;
    let all = summary.kept + summary.made + summary.same + summary.restored;
    (bad + summary.tasks == 0).then_some(all)
}

/// How it goes on after the project stayed in memory.
enum Next {
    /// The project is to be looked at as a whole, without a run; with what is still open then.
    Stale(RebuildRequest),
    /// Something is to be done.
    Rebuild(RebuildRequest),
}
