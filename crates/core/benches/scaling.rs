//! What would break first with very many steps and workers: the scheduler under a clock of its own, with steps of minutes on
//! thousands of slots; and the side that controls workers, with made-up ones that do nothing.
//!
//!     cargo bench -p handloom-core --bench scaling                  # both, at sizes that take a minute
//!     cargo bench -p handloom-core --bench scaling -- 1000000 1000  # steps and slots of the first
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod shared;
#[path = "../tests/it/simulated.rs"]
mod simulated;

use std::collections::HashMap;
use std::net::TcpStream;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::Instant;

use shared::memory::MemoryDisk;
use simulated::Jobs;
use simulated::Simulated;
use simulated::VirtualClock;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::LocalExecutor;
use handloom_core::executor::Outcome;
use handloom_core::executor::cluster::Allocation;
use handloom_core::executor::cluster::AllocationState;
use handloom_core::executor::cluster::BatchScheduler;
use handloom_core::executor::cluster::ClusterExecutor;
use handloom_core::executor::cluster::PlaceOptions;
use handloom_core::executor::cluster::SubmitError;
use handloom_core::executor::cluster::settling::FileMark;
use handloom_core::executor::cluster::wire::FromWorker;
use handloom_core::executor::cluster::wire::Hello;
use handloom_core::executor::cluster::wire::ToWorker;
use handloom_core::executor::cluster::wire::VERSION;
use handloom_core::executor::cluster::wire::WorkerManner;
use handloom_core::executor::cluster::wire::receive;
use handloom_core::executor::cluster::wire::send;
use handloom_core::ledger::MemoryStorage;
use handloom_core::scheduler::BuildOptions;
use handloom_core::world::ByteSize;
use handloom_core::world::Clock;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    let words: Vec<usize> = std::env::args()
        .filter_map(|word| word.parse().ok())
        .collect();
    if let [steps, slots] = words[..] {
        simulate(steps, slots);
        return;
    }
    for (steps, slots) in [(100_000, 100), (100_000, 1_000), (100_000, 4_000)] {
        simulate(steps, slots);
    }
    for (workers, cores) in [(4, 2), (50, 20), (200, 5)] {
        messages(20_000, workers, cores);
    }
}

/// Units of one to ten minutes, a thousand to an archive of half a minute, and one minute at the end.
const LOOM: &str = "target out/<d>/<unit>.o
  needs each src/<d>/<unit>.c
  recipe: work @{needs} @{target}
target lib/<d>.a
  each d in @{folders}
  needs out/@{d}/*.o
  recipe: gather @{d} @{target}
target all
  needs lib/*.a
  recipe: finish @{target}
";

struct Minutes<'d>(&'d MemoryDisk);

/// How long a job takes.
fn time_of(script: &str) -> Duration {
    let mut words = script.split_whitespace();
    match words.next() {
        Some("work") => {
            let number = words.next().unwrap_or_default();
            let digits: String = number.chars().rev().filter(char::is_ascii_digit).collect();
            let spread = digits
                .parse::<u64>()
                .unwrap_or(0)
                .wrapping_mul(0x9E37_79B9_7F4A_7C15);
            Duration::from_millis(60_000 + (spread >> 20) % 540_000)
        }
        Some("gather") => Duration::from_secs(30),
        _ => Duration::from_secs(60),
    }
}

impl Jobs for Minutes<'_> {
    fn begin(&self, job: &Job) -> Duration {
        time_of(&job.script)
    }

    fn end(&self, job: &Job) -> Outcome {
        let target = job.script.split_whitespace().last().unwrap_or_default();
        self.0.put(target, b"x");
        Outcome::silent(Exit::Status(0))
    }
}

#[expect(clippy::cast_precision_loss, reason = "a number of steps")]
fn simulate(steps: usize, slots: usize) {
    let disk = MemoryDisk::with_sources(steps);
    let folders: Vec<String> = (0..steps.div_ceil(1000))
        .map(|d| format!("{d:03}"))
        .collect();
    let loom = format!("let folders = {}\n{LOOM}", folders.join(" "));
    disk.put("hand.loom", loom.as_bytes());
    let clock = VirtualClock::default();
    let cancel = CancelToken::default();
    let jobs = Minutes(&disk);
    let executor = Simulated {
        jobs: &jobs,
        clock: &clock,
        cancel: &cancel,
    };
    let options = BuildOptions {
        jobs: slots,
        threads: 2,
        memory: ByteSize(u64::MAX),
        ..BuildOptions::default()
    };
    let storage = Box::new(MemoryStorage::default());
    let began = clock.now();
    let start = Instant::now();
    let summary = shared::weave_with(
        options,
        &disk,
        &clock,
        &executor,
        storage,
        "/made-up",
        |_| {},
    );
    let real = start.elapsed();
    assert_eq!(summary.made, steps + steps.div_ceil(1000) + 1);
    let took = Duration::from_nanos(u64::try_from(clock.now() - began).unwrap_or(0));
    let work: Duration = (0..steps)
        .map(|index| time_of(&format!("work src/{:03}/f{index:06}.c", index / 1000)))
        .sum();
    // Nothing is quicker than all slots full, and the last archive and the end behind that.
    let least = work.as_secs_f64() / slots as f64 + 90.0;
    println!(
        "{steps} steps on {slots} slots: {:.2} h, {:.3} times the least; the scheduler took {:.1} s, {:.1} µs a step, {} MB",
        took.as_secs_f64() / 3600.0,
        took.as_secs_f64() / least,
        real.as_secs_f64(),
        real.as_secs_f64() * 1e6 / steps as f64,
        shared::peak() >> 20
    );
}

/// Workers that say of each job at once that it is done.
struct Idlers {
    begun: AtomicUsize,
    cores: u64,
}

fn value<'a>(allocation: &'a Allocation, name: &str) -> &'a str {
    let mut env = allocation.env.iter();
    let found = env.find(|(known, _)| known == &format!("HANDLOOM_WORKER_{name}"));
    found.map_or("", |(_, value)| value)
}

impl BatchScheduler for Idlers {
    fn name(&self) -> &'static str {
        "made up"
    }

    fn submit(&self, allocation: &Allocation) -> Result<String, SubmitError> {
        let id = self.begun.fetch_add(1, Ordering::SeqCst).to_string();
        let address = value(allocation, "ADDRESS").to_owned();
        let hello = Hello {
            version: VERSION.to_owned(),
            token: value(allocation, "TOKEN").to_owned(),
            node: format!("node{id}"),
            allocation: id.clone(),
            cores: self.cores,
            order: 0,
            complaint: None,
        };
        std::thread::spawn(move || -> std::io::Result<()> {
            let mut stream = TcpStream::connect(address)?;
            stream.set_nodelay(true)?;
            send(&mut stream, &FromWorker::Hello(hello))?;
            loop {
                match receive(&mut stream)? {
                    ToWorker::Run(number, order) => {
                        let wrote = order
                            .writes
                            .iter()
                            .map(|path| FileMark::of(Path::new("/"), path));
                        let outcome = Box::new(Outcome::silent(Exit::Status(0)));
                        let ended = FromWorker::Ended(number, outcome, wrote.collect());
                        send(&mut stream, &ended)?;
                    }
                    ToWorker::Leave => return Ok(()),
                    _ => {}
                }
            }
        });
        Ok(id)
    }

    fn ask(&self, _: &str) -> Result<HashMap<String, AllocationState>, String> {
        Ok(HashMap::new())
    }

    fn id_in_paths(&self) -> &'static str {
        "NUMBER"
    }

    fn cancel_one(&self, _: &String) -> Result<(), String> {
        Ok(())
    }

    fn cancel(&self, _: &str) -> Result<(), String> {
        Ok(())
    }
}

/// How long the side that controls takes for a step that takes no time.
#[expect(clippy::cast_precision_loss, reason = "a number of steps")]
fn messages(steps: usize, workers: usize, cores: u64) {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::create_dir(folder.path().join("jobs")).expect("a folder");
    let options = PlaceOptions {
        name: "there".to_owned(),
        root: folder.path().to_owned(),
        scratch: folder.path().join("jobs"),
        worker: vec!["none".to_owned()],
        address: Some("127.0.0.1".to_owned()),
        most: workers,
        single: Duration::from_secs(600),
        allocation: Allocation {
            cores,
            minutes: 60,
            ..Allocation::default()
        },
        manner: WorkerManner::default(),
    };
    let scheduler = Box::new(Idlers {
        begun: AtomicUsize::new(0),
        cores,
    });
    let local = LocalExecutor::new(folder.path().to_owned(), folder.path().join("jobs"));
    let executor = ClusterExecutor::new(local, options, scheduler);
    JobRunner::prepare(&executor).expect("it begins");
    let next = AtomicUsize::new(0);
    let slots = workers * usize::try_from(cores).unwrap_or(1);
    let job = Job {
        interpreter: vec!["sh".to_owned(), "-eu".to_owned()],
        script: "cc -O2 -c src/unit.c -o out/unit.o\n".to_owned(),
        cores: 1,
        remote: Some(Arc::default()),
        ..Job::default()
    };
    let start = Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..slots {
            scope.spawn(|| {
                while next.fetch_add(1, Ordering::SeqCst) < steps {
                    let outcome = JobRunner::run(&executor, &job, &mut |_| {});
                    assert_eq!(outcome.exit, Exit::Status(0));
                }
            });
        }
    });
    println!(
        "{steps} steps of no time, {workers} workers of {cores} cores: {:.0} µs a step",
        start.elapsed().as_secs_f64() * 1e6 / steps as f64
    );
}
