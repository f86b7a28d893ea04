//! What is asked of the scheduler for a place, and what becomes of it.

use crate::executor::cluster::pool::ASKED_EVERY;
use crate::executor::cluster::pool::TICK;
use crate::executor::cluster::pool::WorkerPool;
use crate::executor::cluster::pool::said_of;
use crate::executor::cluster::scheduler::Allocation;
use crate::executor::cluster::scheduler::AllocationState;
use crate::executor::cluster::scheduler::SubmitError;
use crate::executor::cluster::wire::HEARTBEAT;
use crate::executor::cluster::wire::ToWorker;
use crate::world::lock;
use crate::world::own;
use std::sync::Arc;
use std::time::Duration;
use std::time::Instant;

/// A scheduler that does not answer is waited for so long.
const AWAY_FOR: Duration = Duration::from_secs(120);

/// Workers that end before they have said hello, until it is given up.
const FAILURES: usize = 3;

impl WorkerPool {
    /// Submits what jobs wait for, asks what has become of it, and keeps workers from thinking that nobody is there.
    pub fn manage(self: &Arc<Self>) {
        let (mut asked, mut beaten) = (Instant::now(), Instant::now());
        loop {
            let state = lock(&self.state);
            if state.is_over {
                return;
            }
            let cores = self.options.allocation.cores;
            let free: u64 = state.workers.iter().map(|lane| lane.free).sum();
            let coming = free + state.pending.len() as u64 * cores;
            let there = state.workers.len() + state.pending.len();
            let is_wanted =
                state.wanted > coming && there < self.options.most && state.fault.is_none();
            let (port, is_pending) = (state.port.unwrap_or(0), !state.pending.is_empty());
            if beaten.elapsed() >= HEARTBEAT {
                beaten = Instant::now();
                for lane in &state.workers {
                    // One that is gone is found out by who reads.
                    let _ = lane.connection.say(&ToWorker::Alive);
                }
            }
            let is_due = is_pending && asked.elapsed() >= ASKED_EVERY;
            if !(is_wanted || is_due) {
                let _ = self.changed.wait_timeout(state, TICK);
                continue;
            }
            drop(state);
            if is_wanted {
                self.submit(port);
            } else {
                asked = Instant::now();
                self.look();
            }
        }
    }

    fn submit(&self, port: u16) {
        // Written before: a run that is killed now may have left something in the queue.
        let noted = own::open(&self.note(), own::options().create(true).write(true));
        let host = self.options.address.clone().unwrap_or_else(host_name);
        let quoted =
            crate::project::shell::quote_all(self.options.worker.iter().map(String::as_str));
        let scratch = self.options.scratch.display();
        let allocation = Allocation {
            name: self.name.clone(),
            script: format!("#!/bin/sh\nexec {quoted}\n"),
            env: vec![
                ("HANDLOOM_WORKER_TOKEN".to_owned(), self.token.clone()),
                (
                    "HANDLOOM_WORKER_ADDRESS".to_owned(),
                    format!("{host}:{port}"),
                ),
                (
                    "HANDLOOM_WORKER_ROOT".to_owned(),
                    self.options.root.display().to_string(),
                ),
                ("HANDLOOM_WORKER_SCRATCH".to_owned(), scratch.to_string()),
                (
                    "HANDLOOM_WORKER_MARK".to_owned(),
                    format!("seen-{}", &self.token[..8]),
                ),
                (
                    "HANDLOOM_WORKER_CORES".to_owned(),
                    self.options.allocation.cores.to_string(),
                ),
            ],
            output: format!("{scratch}/{}", said_of("%j")),
            ..self.options.allocation.clone()
        };
        let submitted = noted
            .map_err(|error| SubmitError::Refused(error.to_string()))
            .and_then(|_| self.scheduler.submit(&allocation));
        let mut state = lock(&self.state);
        match submitted {
            Ok(id) => {
                state.away_since = None;
                // Its worker may have been quicker.
                if !state
                    .workers
                    .iter()
                    .any(|lane| lane.connection.hello.allocation == id)
                {
                    state.pending.push(id);
                }
            }
            Err(SubmitError::Away(error)) => {
                let since = *state.away_since.get_or_insert_with(Instant::now);
                if since.elapsed() < AWAY_FOR {
                    let _ = self.changed.wait_timeout(state, ASKED_EVERY);
                    return;
                }
                state.fault.get_or_insert(format!(
                    "the scheduler of `{}` does not answer: {error}",
                    self.options.name
                ));
            }
            Err(SubmitError::Refused(error)) => {
                state.fault.get_or_insert(format!(
                    "no worker can be asked for at `{}`: {error}",
                    self.options.name
                ));
            }
        }
        drop(state);
        self.changed.notify_all();
    }

    /// What has become of those that have not begun.
    fn look(&self) {
        // While the scheduler can't be asked, workers go on, and what waits is waited for.
        let Ok(states) = self.scheduler.ask(&self.name) else {
            return;
        };
        let mut state = lock(&self.state);
        let mut pending = std::mem::take(&mut state.pending);
        let mut fault = None;
        pending.retain(|id| match states.get(id) {
            Some(AllocationState::Waiting(_) | AllocationState::Running) => true,
            Some(AllocationState::Never(reason)) => {
                // Looked at twice: a scheduler that has just taken it in may not know the reason yet.
                if state.doubted.as_ref() == Some(id) {
                    fault = Some(format!(
                        "no worker will ever start at `{}`: {reason}",
                        self.options.name
                    ));
                }
                state.doubted = Some(id.clone());
                true
            }
            Some(AllocationState::Ended(how)) => {
                state.failures += 1;
                if state.failures >= FAILURES {
                    fault = Some(format!(
                        "workers at `{}` end before they can be reached ({how}); what the last one said is in {}",
                        self.options.name,
                        self.options.scratch.join(said_of(id)).display()

                    ));
                }
                false
            }
            None => {
                state.failures += 1;
                false
            }
        });
        state.pending = pending;
        if let Some(fault) = fault {
            state.fault.get_or_insert(fault);
        }
        drop(state);
        self.changed.notify_all();
    }
}

fn host_name() -> String {
    let name = rustix::system::uname()
        .nodename()
        .to_string_lossy()
        .into_owned();
    if name.is_empty() {
        "localhost".to_owned()
    } else {
        name
    }
}
