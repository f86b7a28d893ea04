//! The workers of a place: let in, handed out to jobs that wait, taken for gone.

use crate::executor::cluster::connection::Connection;
use crate::executor::cluster::scheduler::Allocation;
use crate::executor::cluster::scheduler::AllocationId;
use crate::executor::cluster::scheduler::AllocationState;
use crate::executor::cluster::scheduler::BatchScheduler;
use crate::executor::cluster::wire::FromWorker;
use crate::executor::cluster::wire::Hello;
use crate::executor::cluster::wire::SILENCE;
use crate::executor::cluster::wire::ToWorker;
use crate::executor::cluster::wire::VERSION;
use crate::executor::cluster::wire::WorkerManner;
use crate::executor::cluster::wire::receive_first;
use crate::executor::exit::Exit;
use crate::executor::runner::Remarks;
use crate::world::lock;
use crate::world::own;
use std::collections::HashMap;
use std::collections::VecDeque;
use std::io;
use std::net::TcpListener;
use std::net::TcpStream;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::time::Duration;
use std::time::Instant;

/// How often is looked for what nobody tells.
pub const TICK: Duration = Duration::from_millis(20);

/// How often the scheduler is asked, while something was submitted that has not begun.
pub const ASKED_EVERY: Duration = Duration::from_millis(700);

/// A worker that was let go leaves within so long, or is taken out by the scheduler.
const LEAVES_WITHIN: Duration = Duration::from_secs(1);

/// What a place is, and how workers come to be there.
#[derive(Clone, Debug)]
pub struct PlaceOptions {
    /// Its name, for messages.
    pub name: String,
    /// The project's folder, and that for manifests and scripts.
    pub root: PathBuf,
    /// The folder for manifests and scripts.
    pub scratch: PathBuf,
    /// The program that is a worker, with its words; a path that all nodes see.
    pub worker: Vec<String>,
    /// The name that workers find this machine by; its own, when none is given.
    pub address: Option<String>,
    /// Workers at once, at most.
    pub most: usize,
    /// A job that takes longer is asked for on its own.
    pub single: Duration,
    /// What each of them is asked for with; name, script, environment and output are filled in.
    pub allocation: Allocation,
    /// How jobs run there.
    pub manner: WorkerManner,
}

/// The workers of a place, and what was asked for.
pub struct WorkerPool {
    pub options: PlaceOptions,
    pub scheduler: Box<dyn BatchScheduler>,
    /// The name of all its submissions.
    pub name: String,
    pub token: String,
    pub state: Mutex<WorkerPoolState>,
    pub changed: Condvar,
    /// Hears what is of no single job.
    pub remarks: Mutex<Option<Remarks>>,
}

/// What a job takes of a worker.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WorkerShare {
    pub cores: u64,
    /// Bytes; nothing, when it does not say.
    pub memory: u64,
    /// How long it takes, as far as is known.
    pub time: Duration,
}

/// A worker that is asked for on its own, for a single job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SingleOrder {
    pub number: u64,
    pub cores: u64,
    /// Megabytes.
    pub memory: Option<u64>,
    pub minutes: u64,
    /// Workers that have ended before they said hello.
    pub failures: usize,
}

/// What was submitted, until its worker says hello.
#[derive(Clone, Debug)]
pub struct Pending {
    pub id: AllocationId,
    /// The single job that it is for; none for any.
    pub single: Option<SingleOrder>,
}

/// What changes of it.
#[derive(Default)]
pub struct WorkerPoolState {
    /// The port that is listened on, once jobs are to come.
    pub port: Option<u16>,
    pub workers: Vec<Lane>,
    /// Submissions whose workers have not said hello.
    pub pending: Vec<Pending>,
    /// Workers for single jobs that are to be submitted.
    pub singles: VecDeque<SingleOrder>,
    /// The number of the last of them.
    pub last_single: u64,
    /// Why single jobs can't run, by their orders.
    pub single_faults: HashMap<u64, String>,
    /// Cores that jobs wait for.
    pub wanted: u64,
    /// Jobs that have waited for long, though it seems that there are cores for them.
    pub starved: usize,
    /// A worker could not even be begun where its words were to be written: the next one has none, and says itself what it sees.
    pub is_mute: bool,
    /// Why the last one that was looked at waits in the queue, in the scheduler's words.
    pub reason: String,
    pub failures: usize,
    /// One that, at the last look, would never start.
    pub doubted: Option<AllocationId>,
    /// Since when the scheduler does not answer.
    pub away_since: Option<Instant>,
    /// Why no job can run there.
    pub fault: Option<String>,
    pub is_over: bool,
}

/// A worker, and what it has free.
pub struct Lane {
    pub connection: Arc<Connection>,
    pub free: u64,
    /// Bytes.
    pub free_memory: u64,
    /// The scheduler ends it then.
    pub until: Instant,
}

impl Lane {
    /// Whether a job finds enough free.
    pub fn suffices(&self, share: &WorkerShare) -> bool {
        self.connection.hello.order == 0
            && self.free >= share.cores
            && self.free_memory >= share.memory
            && self.left() >= share.time
    }

    pub fn left(&self) -> Duration {
        self.until.saturating_duration_since(Instant::now())
    }

    pub fn is_idle(&self) -> bool {
        self.free == self.connection.hello.cores
    }
}

impl WorkerPool {
    /// Ends what a run that was killed left in the queue.
    pub fn recover(&self) {
        if self.note().exists() {
            // Its workers end by themselves, what still waits does not.
            let _ = self.scheduler.cancel(&self.name);
        }
        self.clear();
    }

    /// Listens for workers, from the first job on.
    pub fn begin(self: &Arc<Self>) -> io::Result<()> {
        let mut state = lock(&self.state);
        if state.port.is_some() {
            return Ok(());
        }
        let listener = TcpListener::bind(("0.0.0.0", 0))?;
        state.port = Some(listener.local_addr()?.port());
        own::open(&self.mark(), own::options().create(true).write(true))?;
        let pool = Arc::clone(self);
        std::thread::Builder::new()
            .name("workers".to_owned())
            .spawn(move || pool.listen(&listener))?;
        let pool = Arc::clone(self);
        std::thread::Builder::new()
            .name("allocations".to_owned())
            .spawn(move || pool.manage())?;
        let pool = Arc::clone(self);
        std::thread::Builder::new()
            .name("heartbeats".to_owned())
            .spawn(move || pool.beat())?;
        Ok(())
    }

    /// Takes away what runs that were killed left: nobody else works in the project now.
    fn clear(&self) {
        let entries = std::fs::read_dir(&self.options.scratch);
        for entry in entries.into_iter().flatten().flatten() {
            let name = entry.file_name();
            let name = name.to_string_lossy();
            let is_ours = name.starts_with("seen-") || name.starts_with("worker-");
            if is_ours {
                let _ = std::fs::remove_file(entry.path());
            }
        }
    }

    /// What says that something may be in the queue.
    pub fn note(&self) -> PathBuf {
        self.options
            .scratch
            .join(format!("submitted-{}", self.name))
    }

    /// What a worker must see.
    fn mark(&self) -> PathBuf {
        self.options
            .scratch
            .join(format!("seen-{}", &self.token[..8]))
    }

    fn listen(self: &Arc<Self>, listener: &TcpListener) {
        for stream in listener.incoming() {
            if lock(&self.state).is_over {
                return;
            }
            let Ok(stream) = stream else { continue };
            let pool = Arc::clone(self);
            // Without room for a thread this worker ends, and another may come.
            let _ = std::thread::Builder::new()
                .name("worker".to_owned())
                .spawn(move || pool.welcome(stream));
        }
    }

    /// Takes a worker in, and hears what it says until it is gone.
    fn welcome(self: &Arc<Self>, mut stream: TcpStream) {
        let manners = stream
            .set_read_timeout(Some(SILENCE))
            .and_then(|()| stream.set_write_timeout(Some(SILENCE)))
            .and_then(|()| stream.set_nodelay(true));
        if manners.is_err() {
            return;
        }
        let Ok(FromWorker::Hello(hello)) = receive_first(&mut stream) else {
            return;
        };
        if hello.token != self.token {
            return;
        }
        if let Some(fault) = self.fault_of(&hello) {
            lock(&self.state).fault.get_or_insert(fault);
            self.changed.notify_all();
            return;
        }
        let Ok(reader) = stream.try_clone() else {
            return;
        };
        let connection = Arc::new(Connection::new(hello, stream));
        let welcome = ToWorker::Welcome(self.options.manner.clone());
        if connection.say(&welcome).is_err() {
            return;
        }
        {
            let mut state = lock(&self.state);
            let asked = state
                .pending
                .iter()
                .position(|pending| pending.id == connection.hello.allocation)
                .map(|at| state.pending.remove(at));
            let single = asked.and_then(|pending| pending.single);
            let minutes = match single {
                Some(single) => single.minutes,
                None => self.options.allocation.minutes,
            };
            state.failures = 0;
            if state.is_over {
                let _ = connection.say(&ToWorker::Leave);
                return;
            }
            state.workers.push(Lane {
                free: connection.hello.cores,
                free_memory: self.memory().unwrap_or(u64::MAX),
                // It was begun a moment ago, by whatever clock.
                until: Instant::now() + Duration::from_secs(60 * minutes).saturating_sub(SILENCE),
                connection: Arc::clone(&connection),
            });
        }
        self.changed.notify_all();
        connection.listen(reader);
        let mut state = lock(&self.state);
        state
            .workers
            .retain(|lane| !Arc::ptr_eq(&lane.connection, &connection));
        drop(state);
        self.changed.notify_all();
    }

    fn fault_of(&self, hello: &Hello) -> Option<String> {
        if hello.version != VERSION {
            return Some(format!(
                "the worker on {} is of version {}, and this is {VERSION}; `{}` must be the same program everywhere",
                hello.node,
                hello.version,
                self.options.worker.first().map_or("", String::as_str)
            ));
        }
        hello.complaint.clone()
    }

    /// Memory of a worker, bytes; none when it is the scheduler's to say.
    pub fn memory(&self) -> Option<u64> {
        let memory = self.options.allocation.memory;
        memory.map(|megabytes| megabytes.saturating_mul(1 << 20))
    }

    /// Says something that is of no single job.
    pub fn remark(&self, what: String) {
        if let Some(remarks) = &*lock(&self.remarks) {
            remarks(what);
        }
    }

    /// Waits until a submission whose worker was lost has surely ended: what it runs must not write beside what runs
    /// instead. It ends itself when it hears nothing.
    pub fn await_end(&self, allocation: &str) {
        let begun = Instant::now();
        let longest = SILENCE + self.options.manner.grace;
        while begun.elapsed() < longest {
            let is_running = match self.scheduler.ask(&self.name) {
                Ok(states) => states.get(allocation) == Some(&AllocationState::Running),
                // It may; it ends itself when it hears nothing.
                Err(_) => true,
            };
            if !is_running {
                return;
            }
            std::thread::sleep(ASKED_EVERY);
        }
    }

    /// How a worker was lost, as far as the scheduler has written it where the worker's own words are.
    pub fn how_lost(&self, hello: &Hello) -> Exit {
        let said = self.options.scratch.join(said_of(&hello.allocation));
        let said = std::fs::read_to_string(said)
            .unwrap_or_default()
            .to_lowercase();
        let has = |word: &str| said.contains(word);
        let is_late = has("time limit");
        let is_suspect = has("memory") || has("oom") || is_late;
        let why = if is_late {
            ": its time was over"
        } else if is_suspect {
            ": its jobs held more memory than it was given"
        } else if has("cancelled") {
            ": it was cancelled"
        } else {
            ""
        };
        Exit::Lost {
            why: format!("the worker on {} was lost{why}", hello.node),
            is_suspect,
        }
    }

    /// Lets all workers go, and takes what waits out of the queue.
    pub fn end(&self) {
        let mut state = lock(&self.state);
        let Some(port) = state.port.take() else {
            return;
        };
        state.is_over = true;
        let workers = std::mem::take(&mut state.workers);
        let is_any_pending = !state.pending.is_empty() || state.failures > 0;
        drop(state);
        for lane in &workers {
            // One that is gone has left already.
            let _ = lane.connection.say(&ToWorker::Leave);
        }
        self.changed.notify_all();
        // Who accepts looks up, sees that it is over, and is gone.
        let _ = TcpStream::connect_timeout(&([127, 0, 0, 1], port).into(), Duration::from_secs(1));
        let begun = Instant::now();
        let have_left = || workers.iter().all(|lane| lane.connection.is_closed());
        while !have_left() && begun.elapsed() < LEAVES_WITHIN {
            std::thread::sleep(Duration::from_millis(2));
        }
        if self.note().exists() {
            // What has left by itself needs nobody to end it.
            let is_out =
                !is_any_pending && have_left() || self.scheduler.cancel(&self.name).is_ok();
            if is_out {
                let _ = std::fs::remove_file(self.note());
            }
        }
        let _ = std::fs::remove_file(self.mark());
    }
}

/// The file that a worker's words go to, by its submission.
pub fn said_of(allocation: &str) -> String {
    format!("worker-{allocation}.out")
}
