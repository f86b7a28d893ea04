//! What a build is carried out with, and what its passes share.

use std::cell::RefCell;

use crate::executor::Executor;
use crate::ledger::Ledger;
use crate::ledger::RunCircumstances;
use crate::scheduler::event::Event;
use crate::scheduler::event::Summary;
use crate::scheduler::event_hub::EventHub;
use crate::scheduler::ledger_writer::LedgerWriter;
use crate::scheduler::options::BuildError;
use crate::scheduler::options::BuildOptions;
use crate::scheduler::output_places::OutputPlaces;
use crate::scheduler::progress::Progress;
use crate::status::RecordingEnvironment;
use crate::status::WatchSet;
use crate::store::Store;
use crate::store::StoreTrouble;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::world::Clock;
use crate::world::Disk;
use crate::world::Ticks;

/// Everything that comes in from outside.
#[derive(Clone, Copy)]
pub struct BuildContext<'s> {
    /// The file system.
    pub disk: &'s dyn Disk,
    /// The clock.
    pub clock: &'s dyn Clock,
    /// Where jobs run.
    pub executor: &'s dyn Executor,
    /// What earlier runs saw.
    pub ledger: &'s RefCell<Ledger>,
    /// Results of earlier runs, when they are to be used.
    pub store: Option<&'s Store>,
    /// The project's environment.
    pub environment: &'s RecordingEnvironment<'s>,
}

/// Who wants to know what a run depends on.
pub trait RunWatcher {
    /// What is known of the run's files; each pass adds to it.
    fn watch_set(&mut self) -> &mut WatchSet;
    /// Is told when that has grown, before the files are looked at.
    fn cover(&mut self);
    /// Whether something was changed since. Asked while only tasks are left that stay and were asked for, which
    /// are then ended; the project is free for others at that time. They are told by name.
    fn has_news(&mut self, left: &[&str]) -> bool;
}

/// Who finds out what a run is carried out in.
pub trait CircumstanceFinder {
    /// The number by which records of its steps speak of the run.
    fn run(&self) -> u64;
    /// The first job is about to begin: from now on it is asked what takes its time.
    fn begin(&mut self);
    /// What is known by now; none when that was told before. When the run is over what is still being asked is waited for a
    /// moment, and no longer.
    fn found(&mut self, is_over: bool) -> Option<RunCircumstances>;
    /// Whether all was told.
    fn is_done(&self) -> bool;
}

/// What the passes of one build share.
pub struct BuildState<'s> {
    /// What comes in from outside.
    pub context: BuildContext<'s>,
    /// How to run.
    pub options: BuildOptions,
    /// Who is told.
    pub events: EventHub<'s>,
    /// Who writes to the ledger.
    pub writer: LedgerWriter<'s>,
    /// Where outputs lie.
    pub places: OutputPlaces<'s>,
    /// How far it has come.
    pub progress: Progress,
    /// Gives the project free for others, when only a job is left that has the terminal.
    pub release: Option<&'s mut dyn FnMut()>,
    /// Who wants to know what the run depends on.
    pub watcher: Option<&'s mut dyn RunWatcher>,
    /// Who finds out what it is carried out in, until that is written down.
    pub circumstances: Option<&'s mut dyn CircumstanceFinder>,
    /// The run as records of its steps speak of it.
    pub run: Option<u64>,
    /// When it began.
    pub began: Ticks,
    /// Whether the executor was told of the first job.
    prepared: bool,
}

impl<'s> BuildState<'s> {
    /// Nothing has happened yet.
    pub fn new(context: BuildContext<'s>, options: BuildOptions, events: EventHub<'s>) -> Self {
        Self {
            context,
            events,
            writer: LedgerWriter::new(context.ledger, context.clock),
            places: OutputPlaces::new(context.disk, context.ledger, options.old_outputs),
            options,
            progress: Progress::default(),
            release: None,
            watcher: None,
            circumstances: None,
            run: None,
            began: context.clock.ticks(),
            prepared: false,
        }
    }

    /// Whether the run is to end.
    pub fn is_cancelled(&self) -> bool {
        self.context.executor.cancel().is_raised()
    }

    /// Whether nothing of this build is a reason to look closer the next time.
    pub fn is_calm(&self) -> bool {
        self.progress.bad() == 0 && !self.is_cancelled() && !self.events.has_warned()
    }

    /// Tells the executor that the first job is about to begin.
    pub fn prepare_executor(&mut self) -> Result<(), BuildError> {
        if !self.prepared {
            let prepared = self.context.executor.prepare();
            prepared.map_err(|error| BuildError::io("can't note that jobs run", error))?;
            self.prepared = true;
            if let Some(circumstances) = &mut self.circumstances
                && self.run.is_none()
            {
                self.run = Some(circumstances.run());
                circumstances.begin();
            }
        }
        Ok(())
    }

    /// Tells the executor that all jobs have ended. After a failure of the disk its notes stay: what could not
    /// be put in order now is put in order by the next run.
    pub fn finish_executor<T>(&mut self, result: Result<T, BuildError>) -> Result<T, BuildError> {
        if !std::mem::take(&mut self.prepared) || matches!(result, Err(BuildError::Io { .. })) {
            return result;
        }
        match self.context.executor.finish() {
            Ok(mut left) => {
                left.dedup();
                if !left.is_empty() {
                    let names: Vec<String> = left.iter().map(|name| format!("`{name}`")).collect();
                    self.warn(Diagnostic::placeless_warning(
                        &mistakes::LEFT_RUNNING,
                        format!(
                            "a recipe left {} running in the background; it was ended",
                            names.join(", ")
                        ),
                    ));
                }
                result
            }
            Err(error) => result.and(Err(ended_unnoted(error))),
        }
    }

    /// Writes down what the run is carried out in, once that is known; what is not known when it is over is left open.
    pub fn note_circumstances(&mut self, is_over: bool) -> Result<(), BuildError> {
        if self.run.is_none() {
            return Ok(());
        }
        let Some(circumstances) = &mut self.circumstances else {
            return Ok(());
        };
        let found = circumstances.found(is_over);
        if circumstances.is_done() {
            self.circumstances = None;
        }
        match found {
            Some(found) => self.writer.record([found.entry()]),
            None => Ok(()),
        }
    }

    /// Everything but one task that has the terminal is done: the project is free for others, and nothing of
    /// it is written any more.
    pub fn release_project(&mut self) -> Result<(), BuildError> {
        let Some(release) = self.release.take() else {
            return Ok(());
        };
        self.note_circumstances(true)?;
        self.writer.sync()?;
        if std::mem::take(&mut self.prepared) {
            self.context.executor.finish().map_err(ended_unnoted)?;
        }
        self.writer.close();
        release();
        Ok(())
    }

    /// Tells of something that is likely not meant.
    pub fn warn(&mut self, warning: Diagnostic) {
        self.events.tell(Event::Warning(warning));
    }

    /// Writes down what commands printed whose output is a value.
    pub fn record_commands(&mut self) -> Result<(), BuildError> {
        let outputs = self.context.environment.new_outputs();
        if outputs.is_empty() {
            return Ok(());
        }
        self.writer.record(outputs)
    }

    /// Waits until the store has what was made.
    fn finish_store(&mut self) {
        let Some(store) = self.context.store else {
            return;
        };
        for trouble in store.finish(self.context.clock.now()) {
            let warning = match trouble {
                StoreTrouble::Local(error) => {
                    let what = format!("not all results could be kept in the store: {error}");
                    Diagnostic::placeless_warning(&mistakes::STORE_UNUSABLE, what)
                        .help("`handloom store` says where it is and how large it may be")
                }
                StoreTrouble::Shared(why) => {
                    let what = format!("this run did without the shared store: {why}");
                    Diagnostic::placeless_warning(&mistakes::STORE_UNUSABLE, what)
                        .help("`handloom settings` says where `store.shared` is set")
                }
            };
            self.warn(warning);
        }
    }

    /// Tells the sums.
    pub fn sum_up(&mut self) -> Summary {
        self.finish_store();
        self.progress.summary.took = self.context.clock.ticks().since(self.began);
        self.events.tell(Event::Summary(self.progress.summary));
        self.progress.summary
    }
}

fn ended_unnoted(error: std::io::Error) -> BuildError {
    BuildError::io("can't note that jobs have ended", error)
}
