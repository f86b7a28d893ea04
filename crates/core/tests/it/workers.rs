//! The two sides of a cluster, with a made-up scheduler whose workers are threads of this process: what is asked for and
//! when, who is let in, and what becomes of jobs whose worker is lost.

use std::collections::HashMap;
use std::net::TcpStream;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering;
use std::time::Duration;

use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::LocalExecutor;
use handloom_core::executor::OutputTail;
use handloom_core::executor::SlotId;
use handloom_core::executor::cluster::Allocation;
use handloom_core::executor::cluster::AllocationState;
use handloom_core::executor::cluster::BatchScheduler;
use handloom_core::executor::cluster::ClusterExecutor;
use handloom_core::executor::cluster::PlaceOptions;
use handloom_core::executor::cluster::SubmitError;
use handloom_core::executor::cluster::wire::FromWorker;
use handloom_core::executor::cluster::wire::Hello;
use handloom_core::executor::cluster::wire::VERSION;
use handloom_core::executor::cluster::wire::WorkerManner;
use handloom_core::executor::cluster::wire::send;
use handloom_core::executor::cluster::worker::WorkerOptions;
use handloom_core::executor::cluster::worker::serve;
use handloom_core::world::lock;

/// How a made-up scheduler treats what it is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Treats {
    /// It runs it at once.
    Well,
    /// Its workers are of another version.
    OtherVersion,
    /// Its nodes do not see the project.
    Elsewhere,
    /// It never runs it.
    Never,
    /// It does not answer the first few times.
    Away,
    /// Somebody else's program connects first, without the token.
    Strangers,
}

struct MadeUp {
    treats: Treats,
    asked: Arc<Mutex<Vec<Allocation>>>,
    cancelled: Arc<AtomicUsize>,
    tries: AtomicUsize,
}

fn value<'a>(allocation: &'a Allocation, name: &str) -> &'a str {
    let mut env = allocation.env.iter();
    let found = env.find(|(known, _)| known == &format!("HANDLOOM_WORKER_{name}"));
    found.map_or("", |(_, value)| value)
}

impl BatchScheduler for MadeUp {
    fn name(&self) -> &'static str {
        "made up"
    }

    fn submit(&self, allocation: &Allocation) -> Result<String, SubmitError> {
        if self.treats == Treats::Away && self.tries.fetch_add(1, Ordering::SeqCst) < 2 {
            return Err(SubmitError::Away("nobody answers".to_owned()));
        }
        let mut asked = lock(&self.asked);
        asked.push(allocation.clone());
        let id = asked.len().to_string();
        if self.treats == Treats::Never {
            return Ok(id);
        }
        let address = value(allocation, "ADDRESS").to_owned();
        let hello = |version: &str, token: &str| Hello {
            version: version.to_owned(),
            token: token.to_owned(),
            node: "elsewhere".to_owned(),
            allocation: id.clone(),
            cores: 1,
            complaint: None,
        };
        match self.treats {
            Treats::OtherVersion => {
                let mut stream = TcpStream::connect(&address).unwrap();
                let hello = hello("0.0.1/0", value(allocation, "TOKEN"));
                send(&mut stream, &FromWorker::Hello(hello)).unwrap();
                return Ok(id);
            }
            Treats::Strangers => {
                let mut stream = TcpStream::connect(&address).unwrap();
                send(&mut stream, &FromWorker::Hello(hello(VERSION, "guessed"))).unwrap();
                let mut noise = TcpStream::connect(&address).unwrap();
                std::io::Write::write_all(&mut noise, &[0xff; 64]).unwrap();
            }
            _ => {}
        }
        let options = WorkerOptions {
            addresses: vec![address],
            token: value(allocation, "TOKEN").to_owned(),
            root: PathBuf::from(value(allocation, "ROOT")),
            scratch: PathBuf::from(value(allocation, "SCRATCH")),
            mark: match self.treats {
                Treats::Elsewhere => "not-there".to_owned(),
                _ => value(allocation, "MARK").to_owned(),
            },
            node: format!("node{id}"),
            allocation: id.clone(),
            cores: value(allocation, "CORES").parse().unwrap(),
        };
        std::thread::spawn(move || serve(&options, |_| {}));
        Ok(id)
    }

    fn ask(&self, _: &str) -> Result<HashMap<String, AllocationState>, String> {
        let state = match self.treats {
            Treats::Never => AllocationState::Never("NoSuchThing".to_owned()),
            _ => AllocationState::Running,
        };
        let all = 1..=lock(&self.asked).len();
        Ok(all.map(|id| (id.to_string(), state.clone())).collect())
    }

    fn cancel(&self, _: &str) -> Result<(), String> {
        self.cancelled.fetch_add(1, Ordering::SeqCst);
        Ok(())
    }
}

struct Bench {
    folder: tempfile::TempDir,
    asked: Arc<Mutex<Vec<Allocation>>>,
    cancelled: Arc<AtomicUsize>,
}

impl Bench {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("jobs")).unwrap();
        Self {
            folder,
            asked: Arc::default(),
            cancelled: Arc::default(),
        }
    }

    fn executor(&self, treats: Treats, cores: u64, most: usize) -> ClusterExecutor {
        self.executor_with(treats, cores, most, Duration::ZERO)
    }

    fn executor_with(
        &self,
        treats: Treats,
        cores: u64,
        most: usize,
        idle: Duration,
    ) -> ClusterExecutor {
        let root = self.folder.path().to_owned();
        let scratch = root.join("jobs");
        let options = PlaceOptions {
            name: "there".to_owned(),
            root: root.clone(),
            scratch: scratch.clone(),
            worker: vec!["handloom".to_owned(), "worker".to_owned()],
            address: Some("127.0.0.1".to_owned()),
            most,
            allocation: Allocation {
                cores,
                minutes: 5,
                ..Allocation::default()
            },
            manner: WorkerManner {
                grace: Duration::from_secs(10),
                idle,
                ..WorkerManner::default()
            },
        };
        let scheduler = MadeUp {
            treats,
            asked: Arc::clone(&self.asked),
            cancelled: Arc::clone(&self.cancelled),
            tries: AtomicUsize::new(0),
        };
        let local = LocalExecutor::new(root, scratch);
        let executor = ClusterExecutor::new(local, options, Box::new(scheduler));
        JobRunner::prepare(&executor).unwrap();
        executor
    }

    fn job(&self, slot: usize, cores: u64, script: &str) -> Job {
        Job {
            name: format!("job {slot}"),
            interpreter: vec!["sh".to_owned(), "-eu".to_owned()],
            shell: true,
            script: script.to_owned(),
            arguments: vec!["a word".to_owned()],
            folder: String::new(),
            env: vec![("SAID".to_owned(), "so".to_owned())],
            secrets: vec![("TOKEN".to_owned(), "hush-hush".to_owned())],
            manifest: "{}".to_owned(),
            slot: SlotId::at(slot),
            cores,
            place: None,
            limit: None,
            terminal: false,
            stays: false,
            shielded: false,
            stop: None,
            tail: OutputTail::default(),
            log: None,
            watched: None,
            seal: None,
        }
    }
}

fn exit(executor: &ClusterExecutor, job: &Job) -> (Exit, String) {
    let mut heard = Vec::new();
    let outcome = executor.run(job, &mut |bytes| heard.extend_from_slice(bytes));
    assert_eq!(outcome.output.start, heard, "what is heard is what is kept");
    (outcome.exit, String::from_utf8(heard).unwrap())
}

#[test]
fn jobs_run_there_as_they_do_here() {
    let bench = Bench::new();
    let executor = bench.executor(Treats::Well, 2, 1);
    let job = bench.job(0, 1, "echo \"$1 $SAID hush-hush\"; pwd -P; exit 4");
    let root = bench.folder.path().canonicalize().unwrap();
    let (exit, said) = exit(&executor, &job);
    assert_eq!(exit, Exit::Status(4));
    assert_eq!(said, format!("a word so •••\n{}\n", root.display()));
    assert!(
        job.tail
            .line()
            .ends_with(root.file_name().unwrap().as_encoded_bytes())
    );
    JobRunner::finish(&executor).unwrap();
    assert_eq!(
        bench.cancelled.load(Ordering::SeqCst),
        0,
        "all have left by themselves"
    );
    let left = std::fs::read_dir(bench.folder.path().join("jobs")).unwrap();
    let left = left.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let left: Vec<String> = left
        .filter(|name| name.starts_with("submitted") || name.starts_with("seen"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

/// Workers are asked for as jobs wait, never more than there may be, and nobody gets more cores than there are.
#[test]
fn workers_are_asked_for_as_jobs_wait() {
    let bench = Bench::new();
    let executor = bench.executor(Treats::Well, 2, 3);
    let (exit, _) = exit(&executor, &bench.job(0, 1, "true"));
    assert_eq!(exit, Exit::Status(0));
    assert_eq!(lock(&bench.asked).len(), 1, "one job, one worker");
    let count = |name: &str| {
        std::fs::read_dir(bench.folder.path().join(name))
            .unwrap()
            .count()
    };
    std::fs::create_dir(bench.folder.path().join("now")).unwrap();
    std::fs::create_dir(bench.folder.path().join("most")).unwrap();
    std::thread::scope(|scope| {
        for slot in 0..12 {
            let (bench, executor) = (&bench, &executor);
            scope.spawn(move || {
                // One asks for more cores than any worker has: it gets all of one.
                let cores = if slot == 5 { 9 } else { 1 };
                let script = format!(
                    "touch now/{slot}; ls now | wc -l > most/{slot}; sleep 0.15; rm now/{slot}"
                );
                let outcome = executor.run(&bench.job(slot, cores, &script), &mut |_| {});
                assert_eq!(outcome.exit, Exit::Status(0));
            });
        }
    });
    assert_eq!(count("most"), 12);
    let most = (0..12).map(|slot| {
        std::fs::read_to_string(bench.folder.path().join(format!("most/{slot}"))).unwrap()
    });
    let most = most
        .map(|text| text.trim().parse::<usize>().unwrap())
        .max()
        .unwrap();
    assert!((2..=6).contains(&most), "{most}");
    let asked = lock(&bench.asked).len();
    assert!((2..=3).contains(&asked), "{asked}");
    JobRunner::finish(&executor).unwrap();
}

#[test]
fn who_can_take_no_jobs_is_told_of() {
    for (treats, says) in [
        (
            Treats::OtherVersion,
            "the worker on elsewhere is of version 0.0.1/0, and this is ",
        ),
        (
            Treats::Elsewhere,
            "the node node1 does not see the project in `",
        ),
        (
            Treats::Never,
            "no worker will ever start at `there`: NoSuchThing",
        ),
    ] {
        let bench = Bench::new();
        let executor = bench.executor(treats, 1, 1);
        let (exit, _) = exit(&executor, &bench.job(0, 1, "true"));
        let Exit::NotStarted(why) = exit else {
            panic!("{treats:?}: {exit:?}");
        };
        assert!(why.contains(says), "{treats:?}: {why}");
        JobRunner::finish(&executor).unwrap();
        assert_eq!(
            bench.cancelled.load(Ordering::SeqCst),
            1,
            "{treats:?}: nothing stays in the queue"
        );
    }
}

#[test]
fn strangers_and_absence_hold_nothing_up() {
    for treats in [Treats::Strangers, Treats::Away] {
        let bench = Bench::new();
        let executor = bench.executor(treats, 1, 1);
        let (exit, said) = exit(&executor, &bench.job(0, 1, "echo done"));
        assert_eq!((exit, &*said), (Exit::Status(0), "done\n"), "{treats:?}");
        JobRunner::finish(&executor).unwrap();
    }
}

/// The wish to end reaches jobs that run there, and those that still wait for a worker.
#[test]
fn the_wish_to_end_reaches_them() {
    let bench = Bench::new();
    let executor = bench.executor(Treats::Well, 1, 1);
    std::thread::scope(|scope| {
        let running = scope.spawn(|| {
            let script =
                "trap 'echo asked; exit 7' TERM; touch begun; while :; do sleep 0.02; done";
            let outcome = executor.run(&bench.job(0, 1, script), &mut |_| {});
            (outcome.exit, outcome.stopped)
        });
        while !bench.folder.path().join("begun").exists() {
            std::thread::sleep(Duration::from_millis(5));
        }
        let waiting = scope.spawn(|| {
            executor
                .run(&bench.job(1, 1, "touch never"), &mut |_| {})
                .stopped
        });
        executor.local().control().raise(15);
        assert_eq!(running.join().unwrap(), (Exit::Status(7), true));
        assert!(waiting.join().unwrap());
    });
    assert!(!bench.folder.path().join("never").exists());
    JobRunner::finish(&executor).unwrap();
}

/// A worker that has nothing to do leaves, and another comes when there is something.
#[test]
fn an_idle_worker_leaves() {
    let bench = Bench::new();
    let idle = Duration::from_millis(300);
    let executor = bench.executor_with(Treats::Well, 1, 1, idle);
    for round in 1..=2 {
        let (exit, _) = exit(&executor, &bench.job(0, 1, "sleep 0.5"));
        assert_eq!(exit, Exit::Status(0), "one that is busy stays");
        assert_eq!(lock(&bench.asked).len(), round);
        std::thread::sleep(3 * idle);
    }
    JobRunner::finish(&executor).unwrap();
}
