//! The side that runs jobs on a node: it connects to the run that controls it, and ends with it.

use std::io;
use std::net::Shutdown;
use std::net::TcpStream;
use std::net::ToSocketAddrs;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering;
use std::thread::Scope;
use std::time::Duration;
use std::time::Instant;

use crate::executor::cluster::settling::FileMark;
use crate::executor::cluster::settling::await_marks;
use crate::executor::cluster::wire::FromWorker;
use crate::executor::cluster::wire::HEARTBEAT;
use crate::executor::cluster::wire::Hello;
use crate::executor::cluster::wire::JobOrder;
use crate::executor::cluster::wire::SILENCE;
use crate::executor::cluster::wire::ToWorker;
use crate::executor::cluster::wire::VERSION;
use crate::executor::cluster::wire::receive;
use crate::executor::cluster::wire::send;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::local::LocalExecutor;
use crate::executor::local::control::ProcessControl;
use crate::executor::runner::JobRunner;
use crate::world::lock;

/// How long is tried to reach the run.
const REACHED_WITHIN: Duration = Duration::from_secs(10);

/// A node that sees the project's folder sees what is new in it within so long.
const SEEN_WITHIN: Duration = Duration::from_secs(5);

/// A signal to ask jobs with when the run is gone: SIGTERM, as POSIX numbers it.
const TERMINATE: i32 = 15;

/// A signal that ends a job of this worker as well as the worker is noticed here within so long.
const NOTICED_WITHIN: Duration = Duration::from_millis(150);

/// The environment variables by which a worker is told what it needs to know, and which its jobs do not have.
pub const OWN_ENV: [&str; 7] = [
    "HANDLOOM_WORKER_TOKEN",
    "HANDLOOM_WORKER_ADDRESS",
    "HANDLOOM_WORKER_ROOT",
    "HANDLOOM_WORKER_SCRATCH",
    "HANDLOOM_WORKER_MARK",
    "HANDLOOM_WORKER_CORES",
    "HANDLOOM_WORKER_ORDER",
];

/// What a worker is told when it is begun.
#[derive(Clone, Debug)]
pub struct WorkerOptions {
    /// Where the run listens, as `HOST:PORT`; tried one after another.
    pub addresses: Vec<String>,
    /// What says that it belongs to it.
    pub token: String,
    /// The project's folder.
    pub root: PathBuf,
    /// The folder for manifests and scripts.
    pub scratch: PathBuf,
    /// A file in it that the run has written: who does not see it does not see the project.
    pub mark: String,
    /// The node's name.
    pub node: String,
    /// The submission that it runs in.
    pub allocation: String,
    /// Cores that it has.
    pub cores: u64,
    /// The single job that it was asked for; 0 for any.
    pub order: u64,
}

/// Takes jobs until the run has nothing left to do, or is gone. `aim` is given what reaches all jobs at once.
///
/// # Errors
/// The run can't be reached, or wants none of it.
pub fn serve(options: &WorkerOptions, aim: impl FnOnce(&Arc<ProcessControl>)) -> io::Result<()> {
    let mut stream = connect(&options.addresses)?;
    let complaint = (!sees(options)).then(|| {
        format!(
            "the node {} does not see the project in `{}`",
            options.node,
            options.root.display()
        )
    });
    let hello = Hello {
        version: VERSION.to_owned(),
        token: options.token.clone(),
        node: options.node.clone(),
        allocation: options.allocation.clone(),
        cores: options.cores,
        order: options.order,
        complaint,
    };
    send(&mut stream, &FromWorker::Hello(hello))?;
    let ToWorker::Welcome(manner) = receive(&mut stream)? else {
        return Err(io::Error::other("the run wants none of this worker"));
    };
    // Its jobs are not marked for the next run on the controlling machine, where their numbers mean others.
    let executor = LocalExecutor::new(options.root.clone(), options.scratch.clone())
        .with_grace(manner.grace)
        .with_sealed_reads(manner.sealed_reads)
        .with_terminal_output(manner.columns)
        .without_env(&OWN_ENV);
    aim(executor.control());
    let writer = Mutex::new(stream.try_clone()?);
    let ended = AtomicBool::new(false);
    let wish = Wish {
        executor: &executor,
        options,
        settle: manner.settle,
        is_of_run: AtomicBool::new(false),
        jobs: AtomicUsize::new(0),
    };
    let idle = manner.idle;
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let (mut last, mut busy) = (Instant::now(), Instant::now());
            while !ended.load(Ordering::SeqCst) {
                std::thread::sleep(Duration::from_millis(50));
                if wish.jobs.load(Ordering::SeqCst) > 0 {
                    busy = Instant::now();
                }
                let is_idle = !idle.is_zero() && busy.elapsed() >= idle;
                if is_idle || wish.is_of_scheduler() {
                    // Idle, it is in others' way. When the scheduler ends it, its jobs are to run elsewhere, and are no
                    // failures. So is one that is being sent just now.
                    let _ = lock(&writer).shutdown(Shutdown::Both);
                }
                if last.elapsed() >= HEARTBEAT {
                    last = Instant::now();
                    // That nobody listens is found out by who reads.
                    let _ = send(&mut *lock(&writer), &FromWorker::Alive);
                }
            }
        });
        take_jobs(scope, &mut stream, &wish, &writer);
        ended.store(true, Ordering::SeqCst);
    });
    executor.family.end_all();
    Ok(())
}

/// Who wants the jobs to end.
struct Wish<'e> {
    executor: &'e LocalExecutor,
    options: &'e WorkerOptions,
    /// What jobs read is waited for so long.
    settle: Duration,
    /// Whether it is the run that controls.
    is_of_run: AtomicBool,
    /// Jobs that run.
    jobs: AtomicUsize,
}

impl Wish<'_> {
    fn is_of_scheduler(&self) -> bool {
        self.executor.control().token().is_raised() && !self.is_of_run.load(Ordering::SeqCst)
    }

    /// What a job reads and is not seen here as the run sees it, after it was waited for.
    fn unseen(&self, reads: &[FileMark]) -> Option<String> {
        let is_over = || self.executor.control().token().is_raised();
        let seen = await_marks(&self.options.root, reads, self.settle, &is_over)?;
        let expected = reads.iter().find(|mark| mark.path == seen.path)?;
        Some(format!(
            "`{}` is not the same on {} as here after {} s: {} there, {} here",
            seen.path,
            self.options.node,
            self.settle.as_secs_f64(),
            seen.in_words(),
            expected.in_words()
        ))
    }

    /// Whether a job that ended so was ended by the scheduler. Its signal reaches the job and this process in any order, and
    /// what a job makes of it is its own affair: any failure may be that.
    fn has_ended(&self, exit: &Exit) -> bool {
        if *exit != Exit::Status(0) && !self.is_of_scheduler() {
            std::thread::sleep(NOTICED_WITHIN);
        }
        self.is_of_scheduler()
    }
}

/// Whether the node sees what the run has just written in the project; a little later, where it is told of it late.
fn sees(options: &WorkerOptions) -> bool {
    let mark = options.scratch.join(&options.mark);
    let begun = Instant::now();
    loop {
        if mark.exists() {
            return true;
        }
        if !options.scratch.is_dir() || begun.elapsed() >= SEEN_WITHIN {
            return false;
        }
        let _ = std::fs::read_dir(&options.scratch);
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn connect(addresses: &[String]) -> io::Result<TcpStream> {
    let begun = Instant::now();
    loop {
        let mut failed = io::Error::other("no address is given");
        for address in addresses {
            let resolved = match address.to_socket_addrs() {
                Ok(resolved) => resolved,
                Err(error) => {
                    failed = error;
                    continue;
                }
            };
            for one in resolved {
                match TcpStream::connect_timeout(&one, Duration::from_secs(2)) {
                    Ok(stream) => {
                        stream.set_nodelay(true)?;
                        stream.set_read_timeout(Some(SILENCE))?;
                        stream.set_write_timeout(Some(SILENCE))?;
                        return Ok(stream);
                    }
                    Err(error) => failed = error,
                }
            }
        }
        if begun.elapsed() >= REACHED_WITHIN {
            return Err(failed);
        }
        std::thread::sleep(Duration::from_millis(200));
    }
}

/// Reads what the run says, until it says no more.
fn take_jobs<'scope, 'env>(
    scope: &'scope Scope<'scope, 'env>,
    stream: &mut TcpStream,
    wish: &'env Wish<'env>,
    writer: &'env Mutex<TcpStream>,
) {
    loop {
        match receive(stream) {
            Ok(ToWorker::Run(id, order)) => {
                let JobOrder {
                    job,
                    seal,
                    reads,
                    writes,
                } = *order;
                let job = Job {
                    seal: seal.map(Arc::new),
                    ..job
                };
                wish.jobs.fetch_add(1, Ordering::SeqCst);
                scope.spawn(move || {
                    let mut heard = |bytes: &[u8]| {
                        // A run that is gone is found out by who reads.
                        let printed = FromWorker::Printed(id, bytes.to_vec());
                        let _ = send(&mut *lock(writer), &printed);
                    };
                    let outcome = match wish.unseen(&reads) {
                        Some(why) => Outcome::silent(Exit::Unseen(why)),
                        None => wish.executor.run(&job, &mut heard),
                    };
                    if !wish.has_ended(&outcome.exit) {
                        let root = &wish.options.root;
                        let wrote = writes.iter().map(|path| FileMark::of(root, path));
                        let ended = FromWorker::Ended(id, Box::new(outcome), wrote.collect());
                        let _ = send(&mut *lock(writer), &ended);
                    }
                    wish.jobs.fetch_sub(1, Ordering::SeqCst);
                });
            }
            Ok(ToWorker::Cancel(level, signal)) => {
                wish.is_of_run.store(true, Ordering::SeqCst);
                let control = wish.executor.control();
                while (control.token().level() as u8) < level {
                    control.raise(signal);
                }
            }
            Ok(ToWorker::Alive | ToWorker::Welcome(_)) => {}
            Ok(ToWorker::Leave) => return,
            Err(_) => {
                // The run is gone: nobody wants what they make.
                wish.executor.control().raise(TERMINATE);
                return;
            }
        }
    }
}
