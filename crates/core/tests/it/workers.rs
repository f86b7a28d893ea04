//! The two sides of a cluster, with a made-up scheduler whose workers are threads of this process: what is asked for and
//! when, who is let in, and what becomes of jobs whose worker is lost.

use std::collections::HashMap;
use std::io::ErrorKind;
use std::io::Read;
use std::io::Write;
use std::net::Shutdown;
use std::net::TcpListener;
use std::net::TcpStream;
use std::path::Path;
use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering;
use std::thread::JoinHandle;
use std::time::Duration;
use std::time::Instant;
use std::time::SystemTime;

use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::LocalExecutor;
use handloom_core::executor::OutputTail;
use handloom_core::executor::RemoteNeeds;
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
use handloom_core::world::ByteSize;
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
    /// Its nodes see what is written here late, and what is written there is seen here late.
    Late,
    /// What its nodes write is never seen here, nor the other way round.
    Blind,
    /// The connection of its first worker is cut once a file `cut` is there.
    Cut,
    /// Nothing goes through any more then.
    Silent,
}

struct MadeUp {
    treats: Treats,
    asked: Arc<Mutex<Vec<Allocation>>>,
    cancelled: Arc<AtomicUsize>,
    tries: AtomicUsize,
    /// Workers that were begun, by their numbers.
    workers: Mutex<HashMap<String, JoinHandle<()>>>,
}

/// Stands between the two sides until a file is there; then it closes both ends, or hands on nothing more.
fn go_between(address: String, cut: PathBuf, closes: bool) -> String {
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let own = listener.local_addr().unwrap().to_string();
    std::thread::spawn(move || {
        let (one, _) = listener.accept().unwrap();
        let other = TcpStream::connect(address).unwrap();
        for (from, to) in [(&one, &other), (&other, &one)] {
            let (mut from, mut to) = (from.try_clone().unwrap(), to.try_clone().unwrap());
            let cut = cut.clone();
            from.set_read_timeout(Some(Duration::from_millis(5)))
                .unwrap();
            std::thread::spawn(move || {
                let mut buffer = [0; 4096];
                loop {
                    let is_cut = cut.exists();
                    if is_cut && closes {
                        let _ = from.shutdown(Shutdown::Both);
                        let _ = to.shutdown(Shutdown::Both);
                        return;
                    }
                    match from.read(&mut buffer) {
                        Ok(0) => {
                            let _ = to.shutdown(Shutdown::Both);
                            return;
                        }
                        Ok(_) if is_cut => {}
                        Ok(count) => drop(to.write_all(&buffer[..count])),
                        Err(error) if error.kind() == ErrorKind::WouldBlock => {}
                        Err(_) => return,
                    }
                }
            });
        }
    });
    own
}

/// Says that it is over, also when a test fails.
struct SetAtEnd<'a>(&'a AtomicBool);

impl Drop for SetAtEnd<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Copies what is new on either side of two folders to the other, a while after it was written.
fn copy_late(here: &Path, there: &Path, late: Duration, is_over: &AtomicBool) {
    let mut seen: HashMap<PathBuf, (SystemTime, Instant)> = HashMap::new();
    while !is_over.load(Ordering::SeqCst) {
        for (from, to) in [(here, there), (there, here)] {
            for folder in ["", "jobs"] {
                for entry in std::fs::read_dir(from.join(folder)).unwrap().flatten() {
                    let (path, copy) = (entry.path(), to.join(folder).join(entry.file_name()));
                    let modified = |path: &Path| path.metadata().and_then(|found| found.modified());
                    let (Ok(time), true) = (modified(&path), path.is_file()) else {
                        continue;
                    };
                    if modified(&copy).is_ok_and(|known| known >= time) {
                        continue;
                    }
                    let (known, since) = *seen
                        .entry(path.clone())
                        .and_modify(|known| {
                            if known.0 != time {
                                *known = (time, Instant::now());
                            }
                        })
                        .or_insert((time, Instant::now()));
                    if known == time && since.elapsed() >= late {
                        let copied = Command::new("cp").arg("-p").arg(&path).arg(&copy).status();
                        assert!(copied.unwrap().success());
                    }
                }
            }
        }
        std::thread::sleep(Duration::from_millis(10));
    }
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
            order: 0,
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
        let mut root = PathBuf::from(value(allocation, "ROOT"));
        let mut scratch = PathBuf::from(value(allocation, "SCRATCH"));
        let is_first = id == "1";
        let address = match self.treats {
            Treats::Cut | Treats::Silent if is_first => {
                go_between(address, root.join("cut"), self.treats == Treats::Cut)
            }
            Treats::Late | Treats::Blind => {
                root = root.join("there");
                scratch = root.join("jobs");
                address
            }
            _ => address,
        };
        let options = WorkerOptions {
            addresses: vec![address],
            token: value(allocation, "TOKEN").to_owned(),
            root,
            scratch,
            mark: match self.treats {
                Treats::Elsewhere => "not-there".to_owned(),
                _ => value(allocation, "MARK").to_owned(),
            },
            node: format!("node{id}"),
            allocation: id.clone(),
            cores: value(allocation, "CORES").parse().unwrap(),
            order: value(allocation, "ORDER").parse().unwrap(),
        };
        let worker = std::thread::spawn(move || drop(serve(&options, |_| {})));
        lock(&self.workers).insert(id.clone(), worker);
        Ok(id)
    }

    fn ask(&self, _: &str) -> Result<HashMap<String, AllocationState>, String> {
        let workers = lock(&self.workers);
        let state = |id: &str| match workers.get(id) {
            _ if self.treats == Treats::Never => AllocationState::Never("NoSuchThing".to_owned()),
            Some(worker) if worker.is_finished() => AllocationState::Ended("gone".to_owned()),
            _ => AllocationState::Running,
        };
        let all = (1..=lock(&self.asked).len()).map(|id| id.to_string());
        Ok(all.map(|id| (id.clone(), state(&id))).collect())
    }

    fn id_in_paths(&self) -> &'static str {
        "NUMBER"
    }

    fn cancel_one(&self, _: &String) -> Result<(), String> {
        self.cancelled.fetch_add(1, Ordering::SeqCst);
        Ok(())
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
        let manner = WorkerManner {
            grace: Duration::from_secs(10),
            idle,
            ..WorkerManner::default()
        };
        self.executor_of(treats, most, (cores, None), manner)
    }

    /// Workers with so many cores, and as much memory in megabytes.
    fn executor_of(
        &self,
        treats: Treats,
        most: usize,
        (cores, memory): (u64, Option<u64>),
        manner: WorkerManner,
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
                memory,
                minutes: 5,
                ..Allocation::default()
            },
            single: Duration::from_secs(100),
            manner,
        };
        let scheduler = MadeUp {
            treats,
            asked: Arc::clone(&self.asked),
            cancelled: Arc::clone(&self.cancelled),
            tries: AtomicUsize::new(0),
            workers: Mutex::default(),
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
            remote: None,
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

/// Workers are asked for as jobs wait, never more than there may be.
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
                let script = format!(
                    "touch now/{slot}; ls now | wc -l > most/{slot}; sleep 0.15; rm now/{slot}"
                );
                let outcome = executor.run(&bench.job(slot, 1, &script), &mut |_| {});
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

/// What is larger than a worker, or takes longer than one is kept for, is asked for on its own, with what it takes.
#[test]
fn what_is_large_or_long_is_asked_for_on_its_own() {
    let bench = Bench::new();
    let manner = WorkerManner {
        grace: Duration::from_secs(10),
        ..WorkerManner::default()
    };
    let executor = bench.executor_of(Treats::Well, 1, (2, Some(1000)), manner);
    let megabytes = |count: u64| Some(ByteSize(count << 20));
    let seconds = |count| Some(Duration::from_secs(count));
    let asked = |memory, cores, minutes| (cores, memory, minutes);
    let shared = asked(Some(1000), 2, 5);
    for (cores, memory, usual, limit, expected) in [
        (1, None, None, None, shared),
        (2, megabytes(1000), None, None, shared),
        (2, None, seconds(90), None, shared),
        (2, None, None, seconds(100), shared),
        (3, None, None, None, asked(Some(1000), 3, 5)),
        (1, megabytes(1001), None, None, asked(Some(1001), 1, 5)),
        (9, megabytes(10), None, None, asked(Some(10), 9, 5)),
        // 10 s to end, and twice the 9 s after which a side is gone.
        (1, None, None, seconds(101), asked(Some(1000), 1, 3)),
        (1, None, seconds(1000), None, asked(Some(1000), 1, 25)),
        // What took long is promised to be quick.
        (1, None, seconds(1000), seconds(50), shared),
    ] {
        let before = lock(&bench.asked).len();
        let job = Job {
            limit,
            remote: Some(Arc::new(RemoteNeeds {
                memory,
                usual,
                ..RemoteNeeds::default()
            })),
            ..bench.job(0, cores, "exit 3")
        };
        let outcome = executor.run(&job, &mut |_| {});
        assert_eq!(outcome.exit, Exit::Status(3));
        let asked = lock(&bench.asked);
        let case = format!("{cores} {memory:?} {usual:?} {limit:?}");
        if expected == shared && before > 0 {
            assert_eq!(asked.len(), before, "{case}: the worker that is there");
            continue;
        }
        assert_eq!(asked.len(), before + 1, "{case}");
        let last = asked.last().unwrap();
        assert_eq!((last.cores, last.memory, last.minutes), expected, "{case}");
    }
    JobRunner::finish(&executor).unwrap();
}

/// Two that each take more than half of a worker's memory do not run on it at once.
#[test]
fn memory_is_counted_for_each_worker() {
    let bench = Bench::new();
    let executor = bench.executor_of(Treats::Well, 2, (4, Some(1000)), WorkerManner::default());
    std::fs::create_dir(bench.folder.path().join("now")).unwrap();
    let shared = std::thread::scope(|scope| {
        let jobs = (0..6).map(|slot| {
            let (bench, executor) = (&bench, &executor);
            scope.spawn(move || {
                let script = format!("mkdir now/{slot}; sleep 0.2; ls now; rmdir now/{slot}");
                let job = Job {
                    remote: Some(Arc::new(RemoteNeeds {
                        memory: Some(ByteSize(600 << 20)),
                        ..RemoteNeeds::default()
                    })),
                    ..bench.job(slot, 1, &script)
                };
                let outcome = executor.run(&job, &mut |_| {});
                assert_eq!(outcome.exit, Exit::Status(0));
                let printed = String::from_utf8(outcome.output.start).unwrap();
                (printed.lines().count(), outcome.remote.unwrap().node)
            })
        });
        let jobs: Vec<_> = jobs.collect();
        jobs.into_iter()
            .map(|job| job.join().unwrap())
            .collect::<Vec<_>>()
    });
    let most = shared.iter().map(|(at_once, _)| at_once).max();
    assert_eq!(most, Some(&2), "one on each: {shared:?}");
    JobRunner::finish(&executor).unwrap();
}

/// What one machine has written counts once the other sees it so: what is read is waited for there, what is written here.
#[test]
fn a_file_system_that_is_late_is_waited_for() {
    let bench = Bench::new();
    let here = bench.folder.path();
    let there = here.join("there");
    std::fs::create_dir_all(there.join("jobs")).unwrap();
    for folder in [here, &there] {
        std::fs::write(folder.join("in"), "old").unwrap();
        // What is written next is newer, however coarse the clock is.
        let hour_ago = SystemTime::now() - Duration::from_secs(3600);
        let file = std::fs::File::options()
            .append(true)
            .open(folder.join("in"));
        file.unwrap().set_modified(hour_ago).unwrap();
    }
    let is_over = AtomicBool::new(false);
    let manner = WorkerManner {
        settle: Duration::from_secs(20),
        ..WorkerManner::default()
    };
    std::thread::scope(|scope| {
        scope.spawn(|| copy_late(here, &there, Duration::from_millis(400), &is_over));
        let _over = SetAtEnd(&is_over);
        let executor = bench.executor_of(Treats::Late, 1, (1, None), manner.clone());
        let job = Job {
            remote: Some(Arc::new(RemoteNeeds {
                reads: vec!["in".to_owned()],
                writes: vec!["out".to_owned()],
                ..RemoteNeeds::default()
            })),
            ..bench.job(0, 1, "tr a-z A-Z < in > out")
        };
        for round in 0..4 {
            let text = format!("round {round}");
            std::fs::write(here.join("in"), &text).unwrap();
            let (exit, _) = exit(&executor, &job);
            assert_eq!(exit, Exit::Status(0));
            let out = std::fs::read_to_string(here.join("out")).unwrap();
            assert_eq!(out, text.to_uppercase());
        }
        JobRunner::finish(&executor).unwrap();
    });
}

/// Lets a node see what says that the folder is the project's, as it would be seen if it were there.
fn show_mark(here: &Path, there: &Path) {
    let mark = std::iter::repeat_with(|| {
        let mut marks = std::fs::read_dir(here.join("jobs")).unwrap().flatten();
        let mark = marks.find(|entry| entry.file_name().to_string_lossy().starts_with("seen-"));
        std::thread::sleep(Duration::from_millis(5));
        mark
    });
    let mark = mark.flatten().next().unwrap();
    std::fs::write(there.join("jobs").join(mark.file_name()), "").unwrap();
}

/// What is never seen is said, with what stands on either side; and nothing runs on what is not the same.
#[test]
fn what_is_never_seen_is_said() {
    let bench = Bench::new();
    let here = bench.folder.path();
    let there = here.join("there");
    std::fs::create_dir_all(there.join("jobs")).unwrap();
    std::fs::write(here.join("in"), "new one").unwrap();
    let manner = WorkerManner {
        settle: Duration::from_millis(200),
        ..WorkerManner::default()
    };
    let executor = bench.executor_of(Treats::Blind, 1, (1, None), manner);
    let job = |reads: &str, writes: &str| Job {
        remote: Some(Arc::new(RemoteNeeds {
            reads: vec![reads.to_owned()],
            writes: vec![writes.to_owned()],
            ..RemoteNeeds::default()
        })),
        ..bench.job(0, 1, "echo ran > out")
    };
    std::thread::scope(|scope| {
        scope.spawn(|| {
            show_mark(here, &there);
        });
        let (unseen, _) = exit(&executor, &job("in", "out"));
        let expected =
            "`in` is not the same on node1 as here after 0.2 s: nothing there, 7 bytes here";
        assert_eq!(unseen, Exit::Unseen(expected.to_owned()));
        assert!(!there.join("out").exists(), "nothing ran");
        let (unseen, _) = exit(&executor, &job("absent", "out"));
        let expected =
            "`out` is not seen here as node1 wrote it, after 0.2 s: 4 bytes there, nothing here";
        assert_eq!(unseen, Exit::Unseen(expected.to_owned()));
    });
    JobRunner::finish(&executor).unwrap();
}

/// What is changed here all the time is waited for anew a few times, and then it is said.
#[test]
fn what_never_rests_is_not_waited_for_for_ever() {
    let bench = Bench::new();
    let here = bench.folder.path();
    let there = here.join("there");
    std::fs::create_dir_all(there.join("jobs")).unwrap();
    std::fs::write(here.join("in"), "").unwrap();
    let manner = WorkerManner {
        settle: Duration::from_millis(100),
        ..WorkerManner::default()
    };
    let executor = bench.executor_of(Treats::Blind, 1, (1, None), manner);
    let is_over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| show_mark(here, &there));
        scope.spawn(|| {
            let mut text = String::new();
            while !is_over.load(Ordering::SeqCst) {
                text.push('x');
                std::fs::write(here.join("in"), &text).unwrap();
                std::thread::sleep(Duration::from_millis(5));
            }
        });
        let _over = SetAtEnd(&is_over);
        let job = Job {
            remote: Some(Arc::new(RemoteNeeds {
                reads: vec!["in".to_owned()],
                ..RemoteNeeds::default()
            })),
            ..bench.job(0, 1, "touch ran")
        };
        let (unseen, _) = exit(&executor, &job);
        assert!(matches!(unseen, Exit::Unseen(_)), "{unseen:?}");
    });
    assert!(!there.join("ran").exists());
    JobRunner::finish(&executor).unwrap();
}

/// A connection that is cut, or that nothing goes through any more, is a worker that is lost: its job has ended before it runs
/// again elsewhere.
#[test]
fn a_connection_that_is_lost_loses_no_job() {
    for treats in [Treats::Cut, Treats::Silent] {
        let bench = Bench::new();
        let executor = bench.executor(treats, 1, 1);
        let script = "echo $$ >> begun
            if [ -e cut ]; then kill -0 $(head -1 begun) && echo beside >> begun; echo whole > out; exit 0; fi
            trap 'exit 9' TERM; touch cut; i=0
            while [ $i -lt 3000 ]; do sleep 0.02; i=$((i+1)); done; echo late > out";
        let (lost, _) = exit(&executor, &bench.job(0, 1, script));
        let expected = Exit::Lost {
            why: "the worker on node1 was lost".to_owned(),
            is_suspect: false,
        };
        assert_eq!(lost, expected, "{treats:?}");
        let (again, _) = exit(&executor, &bench.job(0, 1, script));
        assert_eq!(again, Exit::Status(0), "{treats:?}");
        let read = |name: &str| std::fs::read_to_string(bench.folder.path().join(name)).unwrap();
        assert_eq!(read("out"), "whole\n", "{treats:?}");
        assert_eq!(
            read("begun").lines().count(),
            2,
            "{treats:?}: {}",
            read("begun")
        );
        JobRunner::finish(&executor).unwrap();
    }
}
