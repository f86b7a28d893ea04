//! What is asked of the scheduler for a place, and what becomes of it.

use crate::executor::cluster::pool::ASKED_EVERY;
use crate::executor::cluster::pool::Lane;
use crate::executor::cluster::pool::Pending;
use crate::executor::cluster::pool::SingleOrder;
use crate::executor::cluster::pool::TICK;
use crate::executor::cluster::pool::WorkerPool;
use crate::executor::cluster::pool::WorkerPoolState;
use crate::executor::cluster::pool::said_of;
use crate::executor::cluster::scheduler::Allocation;
use crate::executor::cluster::scheduler::AllocationId;
use crate::executor::cluster::scheduler::AllocationState;
use crate::executor::cluster::scheduler::SubmitError;
use crate::executor::cluster::taking::dismiss_idle;
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

/// What is to be done next.
enum Due {
    /// A worker is to be asked for.
    Submit(Option<SingleOrder>),
    /// It is time to ask what has become of those that have not begun.
    Look,
    Nothing,
}

impl WorkerPool {
    /// Keeps workers from thinking that nobody is there; on a thread of its own, since a scheduler may take longer to answer
    /// than they wait.
    pub fn beat(self: &Arc<Self>) {
        loop {
            let begun = Instant::now();
            let state = lock(&self.state);
            if state.is_over {
                return;
            }
            let workers = state.workers.iter();
            let workers: Vec<_> = workers.map(|lane| Arc::clone(&lane.connection)).collect();
            drop(state);
            for worker in workers {
                // One that is gone is found out by who reads.
                let _ = worker.say(&ToWorker::Alive);
            }
            while begun.elapsed() < HEARTBEAT {
                let state = lock(&self.state);
                if state.is_over {
                    return;
                }
                let left = HEARTBEAT.saturating_sub(begun.elapsed());
                let _ = self.changed.wait_timeout(state, left);
            }
        }
    }

    /// Submits what jobs wait for, and asks what has become of it.
    pub fn manage(self: &Arc<Self>) {
        let mut asked = Instant::now();
        loop {
            let mut state = lock(&self.state);
            if state.is_over {
                return;
            }
            let port = state.port.unwrap_or(0);
            match self.due(&mut state, asked) {
                Due::Submit(single) => {
                    drop(state);
                    self.submit(port, single);
                }
                Due::Look => {
                    drop(state);
                    asked = Instant::now();
                    self.look();
                }
                Due::Nothing => {
                    let _ = self.changed.wait_timeout(state, TICK);
                }
            }
        }
    }

    fn due(&self, state: &mut WorkerPoolState, asked: Instant) -> Due {
        if state.fault.is_none()
            && let Some(single) = state.singles.pop_front()
        {
            return Due::Submit(Some(single));
        }
        let is_any = |lane: &&Lane| lane.connection.hello.order == 0;
        let free: u64 = state
            .workers
            .iter()
            .filter(is_any)
            .map(|lane| lane.free)
            .sum();
        let pending = state.pending.iter();
        let coming = pending.filter(|pending| pending.single.is_none()).count();
        let there = state.workers.iter().filter(is_any).count() + coming;
        let cores = free + coming as u64 * self.options.allocation.cores;
        // Cores that are free may be of no use to who waits: too few on one worker, or for too short a time.
        let is_starved = state.starved > 0 && coming == 0;
        let is_wanted = state.wanted > cores || is_starved;
        if is_wanted && there < self.options.most && state.fault.is_none() {
            return Due::Submit(None);
        }
        match !state.pending.is_empty() && asked.elapsed() >= ASKED_EVERY {
            true => Due::Look,
            false => Due::Nothing,
        }
    }

    /// What is asked for: a worker for any, or for a single job.
    fn allocation(&self, port: u16, single: Option<&SingleOrder>, is_mute: bool) -> Allocation {
        let host = self.options.address.clone().unwrap_or_else(host_name);
        let quoted =
            crate::project::shell::quote_all(self.options.worker.iter().map(String::as_str));
        let scratch = self.options.scratch.display();
        let base = &self.options.allocation;
        let cores = single.map_or(base.cores, |single| single.cores);
        let env = [
            ("TOKEN", self.token.clone()),
            ("ADDRESS", format!("{host}:{port}")),
            ("ROOT", self.options.root.display().to_string()),
            ("SCRATCH", scratch.to_string()),
            ("MARK", format!("seen-{}", &self.token[..8])),
            ("CORES", cores.to_string()),
            (
                "ORDER",
                single.map_or(0, |single| single.number).to_string(),
            ),
        ];
        let env = env.map(|(name, value)| (format!("HANDLOOM_WORKER_{name}"), value));
        Allocation {
            name: self.name.clone(),
            script: format!("#!/bin/sh\nexec {quoted}\n"),
            env: env.into(),
            output: match self.scheduler.literal_in_paths(&scratch.to_string()) {
                Some(folder) if !is_mute => {
                    format!("{folder}/{}", said_of(self.scheduler.id_in_paths()))
                }
                _ => "/dev/null".to_owned(),
            },
            cores,
            memory: single.map_or(base.memory, |single| single.memory),
            minutes: single.map_or(base.minutes, |single| single.minutes),
            options: base.options.clone(),
        }
    }

    fn submit(&self, port: u16, single: Option<SingleOrder>) {
        let is_mute = lock(&self.state).is_mute;
        let allocation = self.allocation(port, single.as_ref(), is_mute);
        // Written before: a run that is killed now may have left something in the queue.
        let noted = own::open(&self.note(), own::options().create(true).write(true));
        let submitted = noted
            .map_err(|error| SubmitError::Refused(error.to_string()))
            .and_then(|_| self.scheduler.submit(&allocation));
        let mut state = lock(&self.state);
        if !matches!(submitted, Err(SubmitError::Away(_))) {
            self.is_back(&mut state);
        }
        match submitted {
            Ok(id) => {
                // Its worker may have been quicker.
                let mut workers = state.workers.iter();
                if !workers.any(|lane| lane.connection.hello.allocation == id) {
                    state.pending.push(Pending { id, single });
                }
            }
            Err(SubmitError::Away(error)) => {
                if let Some(single) = single {
                    state.singles.push_front(single);
                }
                let is_new = state.away_since.is_none();
                let since = *state.away_since.get_or_insert_with(Instant::now);
                if since.elapsed() < AWAY_FOR {
                    if is_new {
                        self.remark(format!(
                            "the scheduler of `{}` does not answer ({error}); it is asked again for {} minutes, and jobs on workers go on",
                            self.options.name,
                            AWAY_FOR.as_secs() / 60
                        ));
                    }
                    let _ = self.changed.wait_timeout(state, ASKED_EVERY);
                    return;
                }
                state.fault.get_or_insert(format!(
                    "the scheduler of `{}` does not answer: {error}",
                    self.options.name
                ));
            }
            Err(SubmitError::Refused(error)) => {
                let fault = format!(
                    "no worker can be asked for at `{}`: {error}",
                    self.options.name
                );
                state.note_fault(single.as_ref(), fault);
            }
        }
        drop(state);
        self.changed.notify_all();
    }

    /// The scheduler has answered.
    fn is_back(&self, state: &mut WorkerPoolState) {
        if state.away_since.take().is_some() {
            self.remark(format!(
                "the scheduler of `{}` answers again",
                self.options.name
            ));
        }
    }

    fn ended_early(&self, id: &AllocationId, how: &str) -> String {
        let path = self.options.scratch.join(said_of(id));
        let said = std::fs::read(&path).unwrap_or_default();
        let said = String::from_utf8_lossy(&said);
        let last = said.lines().rfind(|line| !line.trim().is_empty());
        let last = last.map_or_else(String::new, |line| {
            let line: String = line.chars().take(200).collect();
            format!(": {}", line.trim())
        });
        format!(
            "workers at `{}` end before they can be reached ({how}); what the last one said is in {}{last}",
            self.options.name,
            path.display()
        )
    }

    /// What has become of those that have not begun.
    fn look(&self) {
        // While the scheduler can't be asked, workers go on, and what waits is waited for.
        let Ok(states) = self.scheduler.ask(&self.name) else {
            return;
        };
        let mut state = lock(&self.state);
        let mut hopeless = Vec::new();
        for mut pending in std::mem::take(&mut state.pending) {
            let single = pending.single.as_ref();
            match states.get(&pending.id) {
                Some(AllocationState::Waiting(reason)) => {
                    state.reason.clone_from(reason);
                    if single.is_some() && state.wanted == 0 {
                        // It may wait for what workers hold that have nothing to do.
                        dismiss_idle(&mut state, Duration::MAX);
                    }
                }
                Some(AllocationState::Running) => {}
                Some(AllocationState::Never(reason)) => {
                    // Looked at twice: a scheduler that has just taken it in may not know the reason yet.
                    if state.doubted.as_ref() == Some(&pending.id) {
                        let fault = format!(
                            "no worker will ever start at `{}`: {reason}",
                            self.options.name
                        );
                        state.note_fault(single, fault);
                        if single.is_some() {
                            hopeless.push(pending.id);
                            continue;
                        }
                    }
                    state.doubted = Some(pending.id.clone());
                }
                gone => {
                    let how = match gone {
                        Some(AllocationState::Ended(how)) => how,
                        _ => "ended",
                    };
                    let failures = match &mut pending.single {
                        Some(single) => &mut single.failures,
                        None => &mut state.failures,
                    };
                    *failures += 1;
                    let has_said = self.options.scratch.join(said_of(&pending.id)).exists();
                    if *failures >= FAILURES {
                        let fault = self.ended_early(&pending.id, how);
                        state.note_fault(pending.single.as_ref(), fault);
                    } else if let Some(single) = pending.single {
                        state.singles.push_back(single);
                    }
                    state.is_mute |= !has_said;
                    continue;
                }
            }
            state.pending.push(pending);
        }
        drop(state);
        self.changed.notify_all();
        for id in hopeless {
            // Others go on: it is not to stay in the queue until the end. While it is asked, nobody waits for the state.
            let _ = self.scheduler.cancel_one(&id);
        }
    }
}

impl WorkerPoolState {
    /// Why a single job can't run, or none can.
    fn note_fault(&mut self, single: Option<&SingleOrder>, fault: String) {
        match single {
            Some(single) => {
                self.single_faults.insert(single.number, fault);
            }
            None => {
                self.fault.get_or_insert(fault);
            }
        }
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
