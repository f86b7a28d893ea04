//! What it costs to run steps: real recipes against a bare C loop that spawns the same commands from
//! two threads, and the scheduler alone with jobs, files and the ledger's storage made up.
//!
//!     cargo bench -p handloom-core --bench jobs          # both
//!     cargo bench -p handloom-core --bench jobs alone    # the scheduler
//!     cargo bench -p handloom-core --bench jobs alone 1000000
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod shared;

use std::io::Write;
use std::path::Path;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use tempfile::TempDir;

use shared::memory::MemoryDisk;

use handloom_core::executor::Executor;
use handloom_core::executor::Job;
use handloom_core::executor::LocalExecutor;
use handloom_core::ledger::MemoryStorage;
use handloom_core::ledger::RealStorage;
use handloom_core::ledger::Storage;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::TimedEvent;
use handloom_core::world::Clock;
use handloom_core::world::Disk;
use handloom_core::world::RealDisk;
use handloom_core::world::SystemClock;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const REAL: usize = 5_000;

fn main() {
    if !std::env::args().any(|word| word == "alone") {
        recipes();
    }
    let steps = std::env::args().find_map(|word| word.parse().ok());
    let steps: usize = steps.unwrap_or(100_000);
    let rounds = if steps == 100_000 { 5 } else { 1 };
    let mut times: Vec<f64> = (0..rounds).map(|_| made_up(steps)).collect();
    times.sort_by(f64::total_cmp);
    println!(
        "the scheduler alone: {:.1} µs a step at {steps} steps, {:.1} at best",
        times[rounds / 2],
        times[0]
    );
}

fn recipes() {
    let yardstick = folder();
    let program = yardstick.path().join("spawn");
    let built = Command::new("cc")
        .args(["-O2", "-pthread", "-o"])
        .arg(&program)
        .arg(concat!(env!("CARGO_MANIFEST_DIR"), "/benches/spawn.c"))
        .status()
        .expect("a C compiler");
    assert!(built.success());
    // Nothing is removed in between: some file systems are slow to use again what was just freed.
    let folders: Vec<TempDir> = (0..10).map(|_| folder()).collect();
    let mut ratios: Vec<(f64, Duration, Duration)> = folders
        .chunks(2)
        .map(|pair| {
            let floor = bare(&program, pair[0].path());
            let run = real(pair[1].path());
            (run.as_secs_f64() / floor.as_secs_f64(), run, floor)
        })
        .collect();
    ratios.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (ratio, run, floor) = ratios[ratios.len() / 2];
    println!(
        "{REAL} recipes, cold: {run:.2?} against {floor:.2?} for the bare loop, {ratio:.2} times"
    );
}

fn folder() -> TempDir {
    tempfile::tempdir().expect("a temporary folder")
}

/// The same commands, spawned by the bare loop.
fn bare(program: &Path, folder: &Path) -> Duration {
    std::fs::create_dir(folder.join("out")).expect("a folder");
    let start = Instant::now();
    let mut child = Command::new(program)
        .current_dir(folder)
        .stdin(Stdio::piped())
        .spawn()
        .expect("the yardstick runs");
    let lines: String = (0..REAL)
        .map(|index| format!("echo {index} > out/{index}\n"))
        .collect();
    let mut input = child.stdin.take().expect("its input");
    input.write_all(lines.as_bytes()).expect("it reads");
    drop(input);
    assert!(child.wait().expect("it ends").success());
    start.elapsed()
}

/// A cold run over the same commands, with a durable ledger.
fn real(root: &Path) -> Duration {
    let numbers: Vec<String> = (0..REAL).map(|index| index.to_string()).collect();
    let loom = format!(
        "target out/<n>\n  each n in {}\n  recipe: echo @{{n}} > @{{target}}\n",
        numbers.join(" ")
    );
    std::fs::write(root.join("hand.loom"), loom).expect("a description");
    std::fs::create_dir_all(root.join(".handloom/jobs")).expect("a folder");
    let disk = RealDisk::open(root).expect("a disk");
    let clock = SystemClock::default();
    let place = LocalExecutor::new(root.to_owned(), root.join(".handloom/jobs"));
    let storage = Box::new(RealStorage::new(&root.join(".handloom")));
    let start = Instant::now();
    let (made, _) = weave(&disk, &clock, &place, storage, root);
    assert_eq!(made, REAL);
    start.elapsed()
}

/// Microseconds a step, from when it is known what runs until the last has ended.
#[expect(clippy::cast_precision_loss, reason = "a number of steps")]
fn made_up(steps: usize) -> f64 {
    let disk = MemoryDisk::with_sources(steps);
    let loom =
        "target out/<d>/<unit>.o\n  needs each src/<d>/<unit>.c\n  recipe: cp @{needs} @{target}\n";
    disk.put("hand.loom", loom.as_bytes());
    let clock = SystemClock::default();
    let storage = Box::new(MemoryStorage::default());
    let copying = shared::InProcess::new(|job: &Job| {
        let to = job.script.split(' ').nth(2).unwrap_or_default();
        disk.put(to.trim_end(), b"x");
        true
    });
    let (made, took) = weave(&disk, &clock, &copying, storage, Path::new("/made-up"));
    assert_eq!(made, steps);
    took.as_secs_f64() * 1e6 / steps as f64
}

/// How many steps ran, and how long from when that was known until the last had ended.
fn weave(
    disk: &dyn Disk,
    clock: &dyn Clock,
    place: &dyn Executor,
    storage: Box<dyn Storage>,
    root: &Path,
) -> (usize, Duration) {
    let mut planned = Instant::now();
    let mut took = Duration::ZERO;
    let observer = |told: &TimedEvent| match told.event {
        Event::Planned { .. } => planned = Instant::now(),
        Event::Ended(_) => took = planned.elapsed(),
        _ => {}
    };
    let root = root.to_string_lossy();
    let made = shared::weave(disk, clock, place, storage, &root, observer).made;
    (made, took)
}
