//! What several benches need: one whole run of the core, and this process's memory.
#![allow(dead_code, reason = "not every bench needs all of it")]

use std::cell::RefCell;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Executor;
use handloom_core::graph::BuildRequest;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::Storage;
use handloom_core::project::Description;
use handloom_core::project::environment::Overrides;
use handloom_core::project::overrides::SetOutside;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::Session;
use handloom_core::scheduler::Summary;
use handloom_core::status::RecordingEnvironment;
use handloom_core::world::Clock;
use handloom_core::world::Disk;

/// BuildOptions of a run from two threads.
pub const OPTIONS: BuildOptions = BuildOptions {
    jobs: 2,
    threads: 2,
    keep_going: false,
    remake: false,
    memory: u64::MAX,
    live: false,
    keep_old: true,
    run: None,
};

/// One whole run from two threads, from opening the ledger to the summary.
pub fn weave(
    disk: &dyn Disk,
    clock: &dyn Clock,
    place: &dyn Executor,
    storage: Box<dyn Storage>,
    root: &str,
    observer: &mut dyn FnMut(Event),
) -> Summary {
    let ledger = ledger(storage);
    let environment =
        RecordingEnvironment::new(disk, clock, &ledger, &|_| None, None, root.to_owned())
            .with_key(Some([7; 32]));
    let (description, outside) = description(disk, &environment);
    let stop = CancelToken::default();
    let mut session = Session::new(
        disk,
        clock,
        place,
        &stop,
        &ledger,
        &environment,
        OPTIONS,
        observer,
    );
    session
        .weave(&description, &outside, &BuildRequest::default())
        .expect("a run")
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
