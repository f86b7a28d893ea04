//! Which worker takes a job: one that is there for any, or one that is asked for it alone.

use std::sync::Arc;
use std::sync::MutexGuard;
use std::time::Duration;
use std::time::Instant;

use crate::executor::cancel::CancelToken;
use crate::executor::cluster::connection::Connection;
use crate::executor::cluster::pool::SingleOrder;
use crate::executor::cluster::pool::WorkerPool;
use crate::executor::cluster::pool::WorkerPoolState;
use crate::executor::cluster::pool::WorkerShare;
use crate::executor::cluster::wire::SILENCE;
use crate::executor::cluster::wire::ToWorker;
use crate::executor::job::Job;
use crate::world::ByteSize;
use crate::world::lock;

/// A job that waits for a worker looks so often whether the run is to end; it is woken when there is one.
pub const PATIENCE: Duration = Duration::from_millis(100);

/// Of a job that has waited for so long it is shown that it waits.
const SHOWN_AFTER: Duration = Duration::from_secs(1);

impl WorkerPool {
    /// What a job takes of a worker; or the worker that is to be asked for it alone, when it is larger than one, or takes
    /// longer than one is to be kept for.
    fn share_of(&self, job: &Job) -> Result<WorkerShare, SingleOrder> {
        let remote = job.remote.as_deref();
        let memory = remote.and_then(|remote| remote.memory).map(ByteSize::bytes);
        let usual = remote.and_then(|remote| remote.usual).unwrap_or_default();
        let longest = Duration::from_secs(60 * self.options.allocation.minutes);
        // A limit is a promise, what it took last is a guess.
        let time = job.limit.unwrap_or(usual);
        let is_large = job.cores > self.options.allocation.cores
            || memory.is_some_and(|memory| self.memory().is_none_or(|there| memory > there));
        let single = self.options.single.min(longest.saturating_sub(SILENCE));
        if !is_large && time <= single {
            return Ok(WorkerShare {
                cores: job.cores,
                memory: memory.unwrap_or(0),
                time: usual.min(time),
            });
        }
        let needed = match job.limit {
            Some(limit) => limit + self.options.manner.grace + 2 * SILENCE,
            None => longest.max(usual + usual / 2),
        };
        let megabytes = memory.map(|memory| memory.div_ceil(1 << 20));
        Err(SingleOrder {
            number: 0,
            cores: job.cores,
            memory: megabytes.max(self.options.allocation.memory.filter(|_| memory.is_none())),
            minutes: needed.as_secs().div_ceil(60),
            failures: 0,
        })
    }

    /// A worker with room for a job; none when the run is to end.
    pub fn take(&self, job: &Job, cancel: &CancelToken) -> Result<Option<TakenWorker>, String> {
        let begun = Instant::now();
        let mut is_told = false;
        let mut tell = |state: &WorkerPoolState| {
            if !is_told && begun.elapsed() >= SHOWN_AFTER {
                is_told = true;
                job.tail.wait_for(Some(&match &*state.reason {
                    "" => "waits for a worker".to_owned(),
                    reason => format!("waits for a worker ({reason})"),
                }));
            }
        };
        let taken = match self.share_of(job) {
            Ok(share) => self.take_share(&share, cancel, &mut tell),
            Err(order) => self.take_single(&order, cancel, &mut tell),
        };
        if is_told {
            job.tail.wait_for(None);
        }
        taken
    }

    fn take_share(
        &self,
        share: &WorkerShare,
        cancel: &CancelToken,
        tell: &mut dyn FnMut(&WorkerPoolState),
    ) -> Result<Option<TakenWorker>, String> {
        let begun = Instant::now();
        let mut is_starved = false;
        let mut state = lock(&self.state);
        state.wanted += share.cores;
        self.changed.notify_all();
        let taken = loop {
            if let Some(lane) = state.workers.iter_mut().find(|lane| lane.suffices(share)) {
                lane.free -= share.cores;
                lane.free_memory -= share.memory;
                let connection = Arc::clone(&lane.connection);
                break Ok(Some(TakenWorker {
                    connection,
                    share: *share,
                }));
            }
            let fault = state.fault.clone();
            if fault.is_some() || cancel.is_raised() || state.is_over {
                break fault.map_or(Ok(None), Err);
            }
            if !is_starved && begun.elapsed() >= SHOWN_AFTER {
                is_starved = true;
                state.starved += 1;
            }
            if is_starved {
                dismiss_idle(&mut state, share.time);
            }
            tell(&state);
            state = self.wait(state);
        };
        state.wanted -= share.cores;
        state.starved -= usize::from(is_starved);
        taken
    }

    fn take_single(
        &self,
        order: &SingleOrder,
        cancel: &CancelToken,
        tell: &mut dyn FnMut(&WorkerPoolState),
    ) -> Result<Option<TakenWorker>, String> {
        let share = WorkerShare {
            cores: order.cores,
            memory: 0,
            time: Duration::ZERO,
        };
        let mut state = lock(&self.state);
        state.last_single += 1;
        let number = state.last_single;
        state.singles.push_back(SingleOrder {
            number,
            ..order.clone()
        });
        self.changed.notify_all();
        loop {
            let mut workers = state.workers.iter();
            if let Some(lane) = workers.find(|lane| lane.connection.hello.order == number) {
                let connection = Arc::clone(&lane.connection);
                return Ok(Some(TakenWorker { connection, share }));
            }
            let fault = state.single_faults.remove(&number);
            let fault = fault.or_else(|| state.fault.clone());
            if fault.is_some() || cancel.is_raised() || state.is_over {
                return fault.map_or(Ok(None), Err);
            }
            tell(&state);
            state = self.wait(state);
        }
    }

    fn wait<'s>(&self, state: MutexGuard<'s, WorkerPoolState>) -> MutexGuard<'s, WorkerPoolState> {
        match self.changed.wait_timeout(state, PATIENCE) {
            Ok((state, _)) => state,
            Err(poisoned) => poisoned.into_inner().0,
        }
    }

    pub fn give_back(&self, taken: &TakenWorker) {
        if taken.connection.hello.order != 0 {
            // It was there for this alone. One that is gone has left already.
            let _ = taken.connection.say(&ToWorker::Leave);
            return;
        }
        let mut state = lock(&self.state);
        let mut workers = state.workers.iter_mut();
        if let Some(lane) = workers.find(|lane| Arc::ptr_eq(&lane.connection, &taken.connection)) {
            lane.free += taken.share.cores;
            lane.free_memory += taken.share.memory;
        }
        drop(state);
        self.changed.notify_all();
    }
}

/// Lets workers go that have nothing to do, and too little time left for a job that waits.
pub fn dismiss_idle(state: &mut WorkerPoolState, time: Duration) {
    state.workers.retain(|lane| {
        let is_of_use = lane.connection.hello.order != 0 || !lane.is_idle() || lane.left() >= time;
        if !is_of_use {
            // One that is gone has left already.
            let _ = lane.connection.say(&ToWorker::Leave);
        }
        is_of_use
    });
}

/// A worker, and what of it is a job's.
pub struct TakenWorker {
    pub connection: Arc<Connection>,
    share: WorkerShare,
}
