//! What several benches need: one whole run of the core, and this process's memory.
#![allow(dead_code, reason = "not every bench needs all of it")]

use std::cell::RefCell;

use handloom_core::ledger::Ledger;
use handloom_core::ledger::Storage;
use handloom_core::project::Description;
use handloom_core::project::overrides::SetOutside;
use handloom_core::project::surroundings::Overrides;
use handloom_core::weave::Around;
use handloom_core::weave::Asked;
use handloom_core::weave::Event;
use handloom_core::weave::Options;
use handloom_core::weave::Place;
use handloom_core::weave::Session;
use handloom_core::weave::Stop;
use handloom_core::weave::Summary;
use handloom_core::world::Clock;
use handloom_core::world::Disk;

/// One whole run from two threads, from opening the ledger to the summary.
pub fn weave(
    disk: &dyn Disk,
    clock: &dyn Clock,
    place: &dyn Place,
    storage: Box<dyn Storage>,
    root: &str,
    observer: &mut dyn FnMut(Event),
) -> Summary {
    let (ledger, damage) = Ledger::open(storage, true).expect("a ledger");
    assert_eq!(damage, None);
    let ledger = RefCell::new(ledger);
    let env = |_: &str| None;
    let around = Around::new(disk, clock, &ledger, &env, None, root.to_owned());
    let (mut description, wrong) = Description::read(disk);
    assert!(wrong.is_empty(), "{wrong:?}");
    let (outside, _) = SetOutside::read(&mut description, &Overrides::default(), &around);
    let stop = Stop::default();
    let options = Options {
        jobs: 2,
        threads: 2,
        keep_going: false,
        remake: false,
        memory: u64::MAX,
        live: false,
        run: None,
    };
    let mut session = Session::new(
        disk, clock, place, &stop, &ledger, &around, options, observer,
    );
    session
        .weave(&description, &outside, &Asked::default())
        .expect("a run")
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
