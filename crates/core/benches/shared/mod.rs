//! What several benches need: one whole run of the core, and this process's memory.
#![allow(dead_code, reason = "not every bench needs all of it")]

pub mod memory;

use std::cell::RefCell;
use std::path::PathBuf;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Executor;
use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::Outcome;
use handloom_core::graph::BuildRequest;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::Storage;
use handloom_core::project::Description;
use handloom_core::project::environment::Overrides;
use handloom_core::project::overrides::SetOutside;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::Summary;
use handloom_core::scheduler::TimedEvent;
use handloom_core::status::RecordingEnvironment;
use handloom_core::world::Clock;
use handloom_core::world::Disk;

/// How to run with two jobs and from two threads.
pub fn options() -> BuildOptions {
    BuildOptions {
        jobs: 2,
        threads: 2,
        ..BuildOptions::default()
    }
}

/// One whole run from two threads, from opening the ledger to the summary.
pub fn weave(
    disk: &dyn Disk,
    clock: &dyn Clock,
    executor: &dyn Executor,
    storage: Box<dyn Storage>,
    root: &str,
    observer: impl FnMut(&TimedEvent),
) -> Summary {
    weave_with(options(), disk, clock, executor, storage, root, observer)
}

/// The same with other options.
pub fn weave_with(
    options: BuildOptions,
    disk: &dyn Disk,
    clock: &dyn Clock,
    executor: &dyn Executor,
    storage: Box<dyn Storage>,
    root: &str,
    observer: impl FnMut(&TimedEvent),
) -> Summary {
    let ledger = ledger(storage);
    let environment =
        RecordingEnvironment::new(disk, clock, &ledger, &|_| None, None, root.to_owned())
            .with_key(Some([7; 32]));
    let (description, outside) = description(disk, &environment);
    let context = BuildContext {
        store: None,
        disk,
        clock,
        executor,
        ledger: &ledger,
        environment: &environment,
    };
    Build::new(context, options, EventHub::new(clock).direct(observer))
        .run(&description, &outside, &BuildRequest::default())
        .expect("a run")
}

/// A place in which jobs are carried out in this process.
pub struct InProcess<F> {
    cancel: CancelToken,
    run: F,
}

impl<F: Fn(&Job) -> bool + Sync> InProcess<F> {
    /// `run` does what a job says; whether it went well.
    pub fn new(run: F) -> Self {
        let cancel = CancelToken::default();
        Self { cancel, run }
    }
}

impl<F: Fn(&Job) -> bool + Sync> JobRunner for InProcess<F> {
    fn cancel(&self) -> &CancelToken {
        &self.cancel
    }

    fn run(&self, job: &Job, _: &mut dyn FnMut(&[u8])) -> Outcome {
        Outcome::silent(Exit::Status(i32::from(!(self.run)(job))))
    }
}

/// Copies a job's prerequisite to its output, below a root.
pub fn copying(root: PathBuf) -> InProcess<impl Fn(&Job) -> bool + Sync> {
    InProcess::new(move |job| {
        let mut words = job.script.split(' ').skip(1).map(|word| root.join(word));
        let (from, to) = (
            words.next().unwrap_or_default(),
            words.next().unwrap_or_default(),
        );
        std::fs::copy(from, to).is_ok()
    })
}

/// What earlier runs saw, undamaged.
pub fn ledger(storage: Box<dyn Storage>) -> RefCell<Ledger> {
    let (ledger, damage) = Ledger::open(storage, true).expect("a ledger");
    assert_eq!(damage, None);
    RefCell::new(ledger)
}

/// The description, without mistakes.
pub fn description(
    disk: &dyn Disk,
    environment: &RecordingEnvironment<'_>,
) -> (Description, SetOutside) {
    let (mut description, wrong) = Description::read(disk);
    assert!(wrong.is_empty(), "{wrong:?}");
    let (outside, _) = SetOutside::read(&mut description, &Overrides::default(), environment);
    (description, outside)
}

/// This process's own peak, bytes: what the system counts for a child begins with its parent's.
pub fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status
        .lines()
        .find(|line| line.starts_with("VmHWM"))
        .unwrap_or_default();
    line.split_whitespace()
        .nth(1)
        .and_then(|kilobytes| kilobytes.parse::<u64>().ok())
        .unwrap_or(0)
        * 1024
}
