//! The side that controls: workers asked for as jobs wait for them, jobs handed to those that have cores free.

use std::io;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::mpsc::RecvTimeoutError;

use crate::executor::cancel::CancelLevel;
use crate::executor::cancel::CancelToken;
use crate::executor::cluster::connection::Connection;
use crate::executor::cluster::connection::JobMessage;
use crate::executor::cluster::pool::PlaceOptions;
use crate::executor::cluster::pool::TICK;
use crate::executor::cluster::pool::WorkerPool;
use crate::executor::cluster::scheduler::BatchScheduler;
use crate::executor::cluster::wire::ToWorker;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::local::LocalExecutor;
use crate::executor::thread_pool::JobRunner;

/// Jobs on a cluster; tasks that have the terminal, or stay, and what puts in order run on this machine.
pub struct ClusterExecutor {
    local: LocalExecutor,
    pool: Arc<WorkerPool>,
}

impl ClusterExecutor {
    /// Workers of this place; `local` runs what stays here.
    #[must_use]
    pub fn new(
        local: LocalExecutor,
        options: PlaceOptions,
        scheduler: Box<dyn BatchScheduler>,
    ) -> Self {
        let digest = blake3::hash(options.root.as_os_str().as_encoded_bytes()).to_hex();
        let pool = WorkerPool {
            name: format!("handloom-{}", &digest[..12]),
            token: token(),
            options,
            scheduler,
            state: Mutex::default(),
            changed: Condvar::new(),
        };
        Self {
            local,
            pool: Arc::new(pool),
        }
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
        self.pool.begin()
    }

    fn finish(&self) -> io::Result<Vec<String>> {
        self.pool.end();
        JobRunner::finish(&self.local)
    }

    fn run(&self, job: &Job, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let is_of_here = job.terminal || job.stays || job.shielded || job.stop.is_some();
        if is_of_here {
            return self.local.run(job, heard);
        }
        let cancel = JobRunner::cancel(self);
        let worker = match self.pool.take(job.cores, cancel) {
            Ok(Some(worker)) => worker,
            Ok(None) => {
                return Outcome {
                    stopped: true,
                    ..Outcome::silent(Exit::Signal(cancel.signal()))
                };
            }
            Err(fault) => return Outcome::silent(Exit::NotStarted(fault)),
        };
        let outcome = self.run_on(&worker, job, heard);
        self.pool.give_back(&worker, job.cores);
        let hello = &worker.hello;
        let mut outcome = outcome.unwrap_or_else(|| {
            self.pool.await_end(&hello.allocation);
            Outcome::silent(self.pool.how_lost(hello))
        });
        outcome.node = Some(hello.node.clone());
        outcome
    }
}

impl ClusterExecutor {
    /// Runs a job on a worker; none when that is lost meanwhile.
    fn run_on(
        &self,
        worker: &Connection,
        job: &Job,
        heard: &mut dyn FnMut(&[u8]),
    ) -> Option<Outcome> {
        let cancel = JobRunner::cancel(self);
        let told = worker.begin(job).ok()?;
        let mut level = CancelLevel::None;
        loop {
            match told.recv_timeout(TICK) {
                Ok(JobMessage::Printed(bytes)) => {
                    job.tail.take(&bytes);
                    heard(&bytes);
                }
                Ok(JobMessage::Ended(outcome)) => return Some(*outcome),
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
        self.pool.end();
    }
}
