//! One set-up of a build for all tests: a made-up machine with a ledger, a description, and whoever runs jobs.

use std::cell::RefCell;

use handloom_core::executor::Executor;
use handloom_core::graph::BuildRequest;
use handloom_core::ledger::Ledger;
use handloom_core::project::Description;
use handloom_core::project::environment::Overrides;
use handloom_core::project::overrides::SetOutside;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::BuildError;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::RunWatcher;
use handloom_core::scheduler::Summary;
use handloom_core::scheduler::TimedEvent;
use handloom_core::status::RecordingEnvironment;
use handloom_core::text::Diagnostic;
use handloom_core::world::Clock;

use crate::made_up::Machine;

/// A made-up machine's environment, for a user with a key.
pub fn environment<'a>(
    machine: &'a Machine,
    ledger: &'a RefCell<Ledger>,
) -> RecordingEnvironment<'a> {
    let root = "/project".to_owned();
    RecordingEnvironment::new(machine, machine, ledger, &|_| None, None, root)
        .with_key(Some([7; 32]))
}

/// What earlier runs saw.
pub fn ledger(machine: &Machine, writable: bool) -> RefCell<Ledger> {
    let (ledger, _) = Ledger::open(machine.storage(), writable).unwrap();
    RefCell::new(ledger)
}

/// The description, what is set from outside, and what is wrong with either.
pub fn read(
    machine: &Machine,
    environment: &RecordingEnvironment<'_>,
) -> (Description, SetOutside, Vec<Diagnostic>) {
    let (mut description, mut wrong) = Description::read(machine);
    let (outside, more) = SetOutside::read(&mut description, &Overrides::default(), environment);
    wrong.extend(more);
    (description, outside, wrong)
}

/// The description and what is set from outside, without mistakes.
pub fn describe(
    machine: &Machine,
    environment: &RecordingEnvironment<'_>,
) -> (Description, SetOutside) {
    let (description, outside, wrong) = read(machine, environment);
    assert!(wrong.is_empty(), "{wrong:?}");
    (description, outside)
}

/// Who runs jobs, by which clock, and how.
#[derive(Clone)]
pub struct Bed<'a> {
    pub machine: &'a Machine,
    pub executor: &'a dyn Executor,
    pub clock: &'a dyn Clock,
    pub options: BuildOptions,
}

impl<'a> Bed<'a> {
    /// The machine runs its jobs itself, by its own clock.
    pub fn of(machine: &'a Machine, options: BuildOptions) -> Self {
        Self {
            machine,
            executor: machine,
            clock: machine,
            options,
        }
    }

    /// A build in which nothing has happened yet, handed to `drive`; `note` is told what happens.
    pub fn build<T>(
        &self,
        ledger: &RefCell<Ledger>,
        environment: &RecordingEnvironment<'_>,
        watcher: Option<&mut dyn RunWatcher>,
        mut note: impl FnMut(&Event),
        drive: impl FnOnce(&mut Build<'_>) -> T,
    ) -> T {
        let context = BuildContext {
            store: None,
            disk: self.machine,
            clock: self.clock,
            executor: self.executor,
            ledger,
            environment,
        };
        let events = EventHub::new(self.clock).direct(|told: &TimedEvent| note(&told.event));
        let watcher = watcher.map(|watcher| -> &mut dyn RunWatcher { watcher });
        drive(&mut Build::new(context, self.options.clone(), events).watched(watcher))
    }

    /// One whole run, from opening the ledger.
    pub fn run(
        &self,
        request: &BuildRequest,
        note: impl FnMut(&Event),
    ) -> Result<Summary, BuildError> {
        let ledger = ledger(self.machine, true);
        let environment = environment(self.machine, &ledger);
        let (description, outside) = describe(self.machine, &environment);
        self.build(&ledger, &environment, None, note, |build| {
            build.run(&description, &outside, request)
        })
    }
}
