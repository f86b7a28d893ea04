//! The side that controls: workers asked for as jobs wait for them, jobs handed to those that have cores free.

use std::collections::BTreeSet;
use std::io;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::mpsc::RecvTimeoutError;
use std::time::Instant;

use crate::executor::cancel::CancelLevel;
use crate::executor::cancel::CancelToken;
use crate::executor::cluster::connection::Connection;
use crate::executor::cluster::connection::JobMessage;
use crate::executor::cluster::pool::PlaceOptions;
use crate::executor::cluster::pool::WorkerPool;
use crate::executor::cluster::scheduler::BatchScheduler;
use crate::executor::cluster::settling::FileMark;
use crate::executor::cluster::settling::await_marks;
use crate::executor::cluster::taking::PATIENCE;
use crate::executor::cluster::wire::JobOrder;
use crate::executor::cluster::wire::ToWorker;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::job::RemoteRun;
use crate::executor::local::LocalExecutor;
use crate::executor::runner::JobRunner;
use crate::executor::runner::Remarks;
use crate::world::lock;
use crate::world::names::parent;

/// So often is waited again for what somebody changed while it was waited for.
const EDITS: usize = 3;

/// Jobs on this machine and at places with workers. Tasks that have the terminal, or stay, and what puts in order run on
/// this machine in any case.
pub struct ClusterExecutor {
    local: LocalExecutor,
    pools: Vec<Arc<WorkerPool>>,
    /// Whether all else runs at the first place, whatever it names.
    is_one_place: bool,
}

impl ClusterExecutor {
    /// All jobs at one place; `local` runs what stays here.
    #[must_use]
    pub fn new(
        local: LocalExecutor,
        options: PlaceOptions,
        scheduler: Box<dyn BatchScheduler>,
    ) -> Self {
        let mut executor = Self::of_places(local, vec![(options, scheduler)]);
        executor.is_one_place = true;
        executor
    }

    /// Jobs that name one of these places there, the others here.
    #[must_use]
    pub fn of_places(
        local: LocalExecutor,
        places: Vec<(PlaceOptions, Box<dyn BatchScheduler>)>,
    ) -> Self {
        let pool = |(options, scheduler): (PlaceOptions, Box<dyn BatchScheduler>)| {
            let mut hasher = blake3::Hasher::new();
            hasher.update(options.root.as_os_str().as_encoded_bytes());
            hasher.update(&[0]).update(options.name.as_bytes());
            Arc::new(WorkerPool {
                name: format!("handloom-{}", &hasher.finalize().to_hex()[..12]),
                token: token(),
                options,
                scheduler,
                state: Mutex::default(),
                changed: Condvar::new(),
                remarks: Mutex::default(),
            })
        };
        Self {
            local,
            pools: places.into_iter().map(pool).collect(),
            is_one_place: false,
        }
    }

    /// The workers that a job is for; none when it runs on this machine.
    fn pool_of(&self, job: &Job) -> Option<&Arc<WorkerPool>> {
        if job.terminal || job.stays || job.shielded || job.stop.is_some() {
            return None;
        }
        if self.is_one_place {
            return self.pools.first();
        }
        let place = job.place.as_ref()?;
        self.pools.iter().find(|pool| pool.options.name == *place)
    }
}

/// What nobody can guess.
fn token() -> String {
    let mut bytes = [0; 32];
    let read = std::fs::File::open("/dev/urandom")
        .and_then(|mut file| io::Read::read_exact(&mut file, &mut bytes));
    // Without it there is still what nobody knows: when this was, and which process.
    let salt = format!(
        "{read:?}{:?}{}",
        std::time::SystemTime::now(),
        std::process::id()
    );
    let mut hasher = blake3::Hasher::new();
    hasher.update(&bytes).update(salt.as_bytes());
    hasher.finalize().to_hex()[..32].to_owned()
}

impl ClusterExecutor {
    /// Who runs what stays on this machine, and hears the wish to end.
    #[must_use]
    pub fn local(&self) -> &LocalExecutor {
        &self.local
    }
}

impl JobRunner for ClusterExecutor {
    fn cancel(&self) -> &CancelToken {
        JobRunner::cancel(&self.local)
    }

    fn prepare(&self) -> io::Result<()> {
        JobRunner::prepare(&self.local)?;
        // Nobody else works in the project now, and none of these has begun.
        self.pools.iter().for_each(|pool| pool.recover());
        Ok(())
    }

    fn finish(&self) -> io::Result<Vec<String>> {
        self.pools.iter().for_each(|pool| pool.end());
        JobRunner::finish(&self.local)
    }

    fn tell_to(&self, tell: Remarks) {
        for pool in &self.pools {
            *lock(&pool.remarks) = Some(Arc::clone(&tell));
        }
    }

    fn run(&self, job: &Job, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let Some(pool) = self.pool_of(job) else {
            return self.local.run(job, heard);
        };
        let cancel = JobRunner::cancel(self);
        let asked = Instant::now();
        let begun = pool
            .begin()
            .map_err(|error| format!("no worker can be listened for: {error}"));
        let worker = match begun.and_then(|()| pool.take(job, cancel)) {
            Ok(Some(worker)) => worker,
            Ok(None) => {
                return Outcome {
                    stopped: true,
                    ..Outcome::silent(Exit::Signal(cancel.signal()))
                };
            }
            Err(fault) => return Outcome::silent(Exit::NotStarted(fault)),
        };
        let queued = asked.elapsed();
        let outcome = self.run_on(pool, &worker.connection, job, heard);
        pool.give_back(&worker);
        let hello = &worker.connection.hello;
        let mut outcome = outcome.unwrap_or_else(|| {
            pool.await_end(&hello.allocation);
            Outcome::silent(pool.how_lost(hello))
        });
        outcome.remote = Some(RemoteRun {
            place: pool.options.name.clone(),
            node: hello.node.clone(),
            queued,
        });
        outcome
    }
}

impl ClusterExecutor {
    /// Runs a job on a worker; none when that is lost meanwhile.
    fn run_on(
        &self,
        pool: &WorkerPool,
        worker: &Connection,
        job: &Job,
        heard: &mut dyn FnMut(&[u8]),
    ) -> Option<Outcome> {
        let root = &pool.options.root;
        let remote = job.remote.clone().unwrap_or_default();
        let mut edits = 0;
        loop {
            // What is missing here is missing there, for all that is known.
            let folders = remote.writes.iter().map(|path| parent(path));
            let folders: BTreeSet<&str> = folders.chain([&*job.folder]).collect();
            let paths = remote.reads.iter().map(String::as_str);
            let reads = paths.chain(folders).map(|path| FileMark::of(root, path));
            let reads: Vec<FileMark> = reads.filter(|mark| mark.seen.is_some()).collect();
            let order = JobOrder {
                job: job.clone(),
                seal: job.seal.as_deref().cloned(),
                reads: reads.clone(),
                writes: remote.writes.clone(),
            };
            let (mut outcome, wrote) = self.hear(worker, order, job, heard)?;
            let is_edited = || {
                let now = |mark: &FileMark| FileMark::of(root, &mark.path) != *mark;
                reads.iter().any(now)
            };
            // What was changed here meanwhile is waited for anew; what is changed all the time, not for ever.
            if matches!(outcome.exit, Exit::Unseen(_)) && edits < EDITS && is_edited() {
                edits += 1;
                continue;
            }
            let is_over = || JobRunner::cancel(self).is_raised();
            let settle = pool.options.manner.settle;
            if outcome.exit == Exit::Status(0)
                && let Some(seen) = await_marks(root, &wrote, settle, &is_over)
            {
                let there = wrote.iter().find(|mark| mark.path == seen.path)?;
                outcome.exit = Exit::Unseen(format!(
                    "`{}` is not seen here as {} wrote it, after {} s: {} there, {} here",
                    seen.path,
                    worker.hello.node,
                    settle.as_secs_f64(),
                    there.in_words(),
                    seen.in_words()
                ));
            }
            return Some(outcome);
        }
    }

    /// Hands a worker a job and hears of it until its end; none when the worker is lost meanwhile.
    fn hear(
        &self,
        worker: &Connection,
        order: JobOrder,
        job: &Job,
        heard: &mut dyn FnMut(&[u8]),
    ) -> Option<(Outcome, Vec<FileMark>)> {
        let cancel = JobRunner::cancel(self);
        let told = worker.begin(order).ok()?;
        let mut level = CancelLevel::None;
        loop {
            match told.recv_timeout(PATIENCE) {
                Ok(JobMessage::Printed(bytes)) => {
                    job.tail.take(&bytes);
                    heard(&bytes);
                }
                Ok(JobMessage::Ended(outcome, wrote)) => return Some((*outcome, wrote)),
                Err(RecvTimeoutError::Disconnected) => return None,
                Err(RecvTimeoutError::Timeout) => {}
            }
            let now = cancel.level();
            if now > level {
                level = now;
                worker
                    .say(&ToWorker::Cancel(now as u8, cancel.signal()))
                    .ok()?;
            }
        }
    }
}

impl Drop for ClusterExecutor {
    fn drop(&mut self) {
        self.pools.iter().for_each(|pool| pool.end());
    }
}
