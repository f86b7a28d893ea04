//! Tasks that stay: begun before those that need them, waited for until they are ready, and ended after the last.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use crate::executor::Exit;
use crate::executor::HostedJob;
use crate::executor::JobEnd;
use crate::executor::JobQueue;
use crate::executor::OutputTail;
use crate::executor::Printed;
use crate::executor::SlotId;
use crate::executor::Ticket;
use crate::graph::Position;
use crate::scheduler::slot_table::RunningJob;
use crate::scheduler::start_job::StartedJob;

/// So many bytes of what one printed last are kept, for when something fails that needs it.
const KEPT: usize = 32 * 1024;

/// A task that stays and was begun.
pub struct Service {
    ticket: Ticket,
    slot: SlotId,
    job: RunningJob,
    said: OutputTail,
    is_ready: bool,
    /// Why it never became ready.
    not_ready: Option<String>,
}

/// One that has ended.
pub struct EndedService {
    /// What is known of it.
    pub job: RunningJob,
    /// Where it ran.
    pub slot: SlotId,
    /// How it ended, as it is to be told.
    pub end: JobEnd,
    /// Whether those that wait for it were told before that it is ready.
    pub was_ready: bool,
}

/// All that are alive.
#[derive(Default)]
pub struct ServiceTable {
    alive: Vec<Service>,
    begun: usize,
    /// Positions that are done.
    closed: HashSet<Position>,
}

impl Service {
    fn stop(&self) {
        if let Some(stop) = &self.job.prepared.job.stop {
            stop.store(true, Ordering::SeqCst);
        }
    }

    fn is_stopped(&self) -> bool {
        let stop = self.job.prepared.job.stop.as_ref();
        stop.is_some_and(|stop| stop.load(Ordering::SeqCst))
    }
}

impl ServiceTable {
    /// Whether none is alive.
    pub fn is_empty(&self) -> bool {
        self.alive.is_empty()
    }

    /// Whether others may become free when one is ready.
    pub fn is_starting(&self) -> bool {
        let mut alive = self.alive.iter();
        alive.any(|service| !service.is_ready && !service.is_stopped())
    }

    /// The slot of the next one, behind those of other jobs: it and the question whether it is ready have one each.
    pub fn next_slot(&self, behind: usize) -> SlotId {
        SlotId::at(behind + 2 * self.begun)
    }

    /// Begins one; the job back where that is not possible.
    pub fn begin(
        &mut self,
        jobs: &mut dyn JobQueue,
        started: StartedJob,
        live: bool,
    ) -> Result<(), Box<StartedJob>> {
        let Some(plan) = started.job.prepared.service.clone() else {
            return Err(Box::new(started));
        };
        let said = OutputTail::keeping(KEPT);
        let slot = started.submission.job.slot;
        let ticket = jobs.host(HostedJob {
            job: Arc::clone(&started.submission.job),
            ready: plan.ready,
            within: plan.within,
            finally: started.submission.finally.clone(),
            said: said.clone(),
            live,
        });
        let Some(ticket) = ticket else {
            return Err(Box::new(started));
        };
        self.begun += 1;
        self.alive.push(Service {
            ticket,
            slot,
            job: started.job,
            said,
            is_ready: false,
            not_ready: None,
        });
        Ok(())
    }

    /// The name of one, when it is alive.
    pub fn name(&self, ticket: Ticket) -> Option<&str> {
        let service = self.alive.iter().find(|service| service.ticket == ticket)?;
        Some(&service.job.prepared.job.name)
    }

    /// The names of all that are alive, in order.
    pub fn names(&self) -> Vec<&str> {
        let alive = self.alive.iter();
        let mut names: Vec<&str> = alive
            .map(|service| service.job.prepared.job.name.as_str())
            .collect();
        names.sort_unstable();
        names
    }

    /// One is ready, or will never be; its position when it is.
    pub fn ready(&mut self, ticket: Ticket, ready: Result<(), String>) -> Option<Position> {
        let service = self
            .alive
            .iter_mut()
            .find(|service| service.ticket == ticket)?;
        match ready {
            Ok(()) => {
                service.is_ready = true;
                Some(service.job.position)
            }
            Err(why) => {
                service.not_ready = Some(why);
                service.stop();
                None
            }
        }
    }

    /// A position is done: services that nobody waits for any more are ended. `is_wanted` says which go on all the same.
    pub fn close(
        &mut self,
        position: Position,
        followers: impl Fn(Position) -> Vec<Position>,
        is_wanted: impl Fn(Position) -> bool,
    ) {
        self.closed.insert(position);
        for service in self.alive.iter().filter(|service| service.is_ready) {
            let position = service.job.position;
            let followers = followers(position);
            let all_done = followers
                .iter()
                .all(|follower| self.closed.contains(follower));
            if all_done && !is_wanted(position) {
                service.stop();
            }
        }
    }

    /// Ends all but those that are wanted.
    pub fn stop(&self, is_wanted: impl Fn(Position) -> bool) {
        let unwanted = self
            .alive
            .iter()
            .filter(|service| !is_wanted(service.job.position));
        unwanted.for_each(Service::stop);
    }

    /// What those said last that a position waits for, each with its name.
    pub fn said_for(&self, waits_for: &[Position]) -> Vec<(String, Vec<u8>)> {
        let needed = self
            .alive
            .iter()
            .filter(|service| waits_for.contains(&service.job.position));
        let said = needed.map(|service| {
            let name = service.job.prepared.job.name.clone();
            (name, service.said.bytes())
        });
        said.filter(|(_, said)| !said.is_empty()).collect()
    }

    /// One has ended; none when it is no service.
    pub fn ended(&mut self, mut end: Box<JobEnd>) -> Result<Box<EndedService>, Box<JobEnd>> {
        let at = self
            .alive
            .iter()
            .position(|service| service.ticket == end.ticket);
        let Some(at) = at else {
            return Err(end);
        };
        let service = self.alive.swap_remove(at);
        let is_asked = service.is_stopped() || end.outcome.stopped;
        if let Some(why) = &service.not_ready {
            end.outcome.exit = Exit::DidNotStay(why.clone());
            // With what the question whether it is ready printed last.
            end.outcome.output.start = service.said.bytes();
        } else if service.is_ready && end.outcome.stopped {
            // That it ended is what was wanted; what it printed is in its log.
            end.outcome.exit = Exit::Status(0);
            end.outcome.stopped = false;
            end.outcome.output = Printed::default();
        } else if !service.is_ready && is_asked {
            end.outcome.stopped = true;
        } else if !is_asked && end.outcome.exit == Exit::Status(0) {
            let why = match service.is_ready {
                true => "it ended while others needed it",
                false => "it ended before it was ready",
            };
            end.outcome.exit = Exit::DidNotStay(why.to_owned());
        }
        Ok(Box::new(EndedService {
            was_ready: service.is_ready,
            job: service.job,
            slot: service.slot,
            end: *end,
        }))
    }
}

impl Drop for ServiceTable {
    /// Whoever waits for the threads must not wait for ever.
    fn drop(&mut self) {
        self.alive.iter().for_each(Service::stop);
    }
}
