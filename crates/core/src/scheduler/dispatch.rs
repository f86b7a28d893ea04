//! Carrying a pass out: jobs submitted as slots and resources allow, and what becomes of them taken in.

use std::collections::HashSet;
use std::collections::VecDeque;
use std::io;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::time::Duration;

use crate::executor::JobEnd;
use crate::executor::JobQueue;
use crate::executor::JobRoom;
use crate::executor::Notice;
use crate::executor::SlotId;
use crate::executor::Submission;
use crate::executor::Ticket;
use crate::executor::queue::Waker;
use crate::graph::Position;
use crate::ledger::Entry;
use crate::scheduler::event::Event;
use crate::scheduler::look_ahead::LookAhead;
use crate::scheduler::look_ahead::LookStage;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass::Pass;
use crate::scheduler::ready_queue::ReadyQueue;
use crate::scheduler::resources::ResourcePool;
use crate::scheduler::resources::memory_remark;
use crate::scheduler::services::ServiceTable;
use crate::scheduler::slot_table::Freed;
use crate::scheduler::slot_table::RunningJob;
use crate::scheduler::slot_table::SlotTable;
use crate::scheduler::start_job::StartedJob;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// Jobs are short when so many have ended and took less than so long on average.
const ENOUGH_JOBS: u32 = 8;
const SHORT: Duration = Duration::from_millis(20);

/// So often is asked whether something was changed while only tasks that stay are left.
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// Brings the positions of a pass to an end.
pub struct Dispatcher<'a, 'q> {
    queue: ReadyQueue,
    resources: ResourcePool,
    slots: SlotTable,
    jobs: Box<dyn JobQueue + 'q>,
    /// Positions that wait for nothing any more and were not judged yet.
    free: VecDeque<Position>,
    /// Tells the executor whether no job that was handed ahead is begun any more.
    hold: &'a AtomicBool,
    /// No job is begun any more.
    closing: bool,
    failure: Option<BuildError>,
    /// Tasks that stay and are alive.
    services: ServiceTable,
    /// Only those are left, and somebody may be told of a change for which they are to be ended.
    is_left_to_services: bool,
    /// Descriptions that were remarked on for their memory.
    remarked: HashSet<Span>,
    /// Steps that are being looked for in a shared store.
    ahead: LookAhead,
    waker: Option<Waker>,
}

impl<'a, 'q> Dispatcher<'a, 'q> {
    /// Nothing was begun yet.
    pub fn new(
        queue: ReadyQueue,
        resources: ResourcePool,
        jobs: Box<dyn JobQueue + 'q>,
        hold: &'a AtomicBool,
    ) -> Self {
        let waker = jobs.waker();
        Self {
            free: queue.free_at_first().collect(),
            slots: SlotTable::new(jobs.slots()),
            queue,
            resources,
            jobs,
            hold,
            closing: false,
            failure: None,
            services: ServiceTable::default(),
            is_left_to_services: false,
            remarked: HashSet::new(),
            ahead: LookAhead::default(),
            waker,
        }
    }

    /// Dispatches until nothing runs and nothing can begin.
    pub fn run(mut self, pass: &mut Pass<'_, '_, '_, '_>) -> Result<(), BuildError> {
        loop {
            self.judge_free(pass);
            self.begin_jobs(pass);
            if !self.free.is_empty() {
                continue;
            }
            let is_idle = self.slots.busy() == 0;
            if is_idle && (self.ahead.is_empty() || self.is_closing(pass)) {
                if self.services.is_empty() {
                    break;
                }
                if self.is_closing(pass) || !self.services.is_starting() {
                    self.leave_services(pass);
                }
            }
            let handed = self.hand_ahead(pass);
            self.note(handed);
            self.hold.store(self.closing, Ordering::SeqCst);
            let longest = self.is_left_to_services.then_some(LOOK_EVERY);
            let Some(notice) = self.jobs.wait(longest) else {
                break;
            };
            let heeded = self.heed(pass, notice);
            self.note(heeded);
            if self.failure.is_some() {
                self.free.clear();
            }
        }
        pass.account_for_rest();
        let noted = pass.state.note_circumstances(true);
        let synced = noted.and_then(|()| pass.state.writer.sync());
        match self.failure {
            Some(failure) => Err(failure),
            None => synced,
        }
    }

    /// Only tasks that stay are left: those that were asked for by name go on, and the others end.
    fn leave_services(&mut self, pass: &mut Pass<'_, '_, '_, '_>) {
        let is_closing = self.is_closing(pass);
        self.services
            .stop(|position| !is_closing && pass.is_goal(position));
        if !is_closing && pass.state.progress.is_last_pass {
            let released = pass.state.release_project();
            self.note(released);
            self.is_left_to_services = pass.state.watcher.is_some();
        }
    }

    /// Ends the tasks that stay when what they need may have been changed.
    fn look_for_news(&mut self, pass: &mut Pass<'_, '_, '_, '_>) {
        let left = self.services.names();
        let watcher = &mut pass.state.watcher;
        if watcher
            .as_mut()
            .is_some_and(|watcher| watcher.has_news(&left))
        {
            self.is_left_to_services = false;
            self.closing = true;
        }
    }

    /// After the first error nothing more begins; what runs is awaited.
    fn note(&mut self, result: Result<(), BuildError>) {
        if let Err(error) = result {
            self.closing = true;
            self.failure.get_or_insert(error);
        }
    }

    /// Judges what waits for nothing any more.
    fn judge_free(&mut self, pass: &mut Pass<'_, '_, '_, '_>) {
        while let Some(position) = self.free.pop_front() {
            match pass.judge_position(position) {
                Ok(true) if self.look_ahead(pass, position, LookStage::Lists) => {}
                Ok(true) => self.queue.push_ready(position),
                Ok(false) => self.close(pass, position),
                Err(error) => self.note(Err(error)),
            }
        }
    }

    /// Whether no job is begun any more: also once somebody wants the run to end.
    fn is_closing(&mut self, pass: &Pass<'_, '_, '_, '_>) -> bool {
        self.closing |= pass.state.is_cancelled();
        self.closing
    }

    /// Begins jobs as long as there is a slot and what they take.
    fn begin_jobs(&mut self, pass: &mut Pass<'_, '_, '_, '_>) {
        while !self.is_closing(pass)
            && let Some(slot) = self.slots.idle()
            && let Some(position) = self.next_ready(pass)
        {
            if pass.is_service(position) {
                self.begin_service(pass, position);
                if !self.free.is_empty() {
                    break;
                }
                continue;
            }
            let alone = self.queue.open == 1
                && pass.state.progress.is_last_pass
                && pass.view.recorded_under(position).is_none();
            match pass.start(position, self.room(position, slot), alone) {
                Ok(Some(started)) => self.begin(pass, started),
                Ok(None) => self.close(pass, position),
                Err(error) => self.note(Err(error)),
            }
            if !self.free.is_empty() {
                break;
            }
        }
    }

    fn room(&self, position: Position, slot: SlotId) -> JobRoom {
        JobRoom {
            slot,
            cores: self.resources.cores(self.queue.uses(position)),
            memory: self.resources.memory(self.queue.uses(position)),
        }
    }

    /// Begins a task that stays: it takes no slot, and nothing of what there is.
    fn begin_service(&mut self, pass: &mut Pass<'_, '_, '_, '_>, position: Position) {
        let slot = self.services.next_slot(self.jobs.slots());
        let room = self.room(position, slot);
        let started = match pass.start(position, room, false) {
            Ok(Some(started)) => started,
            Ok(None) => return self.close(pass, position),
            Err(error) => return self.note(Err(error)),
        };
        pass.state.events.tell(started.event.clone());
        let live = pass.is_goal(position) || pass.state.options.live;
        if let Err(started) = self.services.begin(&mut *self.jobs, started, live) {
            let what = format!("can't let `{}` stay", started.job.prepared.job.name);
            self.note(Err(BuildError::io(what, io::ErrorKind::Unsupported.into())));
        }
    }

    /// What is to begin in a slot that is free.
    fn next_ready(&mut self, pass: &mut Pass<'_, '_, '_, '_>) -> Option<Position> {
        let ready = self.queue.pop_ready(|uses| self.resources.suffice(uses));
        ready.or_else(|| {
            let taken = self.take_back(pass);
            self.note(taken);
            self.queue.pop_ready(|uses| self.resources.suffice(uses))
        })
    }

    /// Takes a job back that another slot was handed ahead: the one in front of it may take long after all.
    fn take_back(&mut self, pass: &mut Pass<'_, '_, '_, '_>) -> Result<(), BuildError> {
        let is_room = |plain| self.resources.suffice(plain);
        if !self.resources.plain().is_some_and(is_room) {
            return Ok(());
        }
        let mut handed = self.slots.handed_ahead();
        let Some(ticket) = handed.find(|ticket| self.jobs.withdraw(*ticket)) else {
            return Ok(());
        };
        drop(handed);
        match self.slots.withdraw(ticket) {
            Some(job) => self.make_ready_again(pass, job),
            None => Ok(()),
        }
    }

    fn begin(&mut self, pass: &mut Pass<'_, '_, '_, '_>, started: StartedJob) {
        self.resources.take(self.queue.uses(started.job.position));
        let to_tell = if started.submission.restore.is_some() {
            // It only begins when its stored result can't be put in place.
            let usual = pass.usual(started.job.position);
            let step = started.job.prepared.job.name.clone();
            pass.state.events.tell(Event::Restoring { step, usual });
            Some(started.event)
        } else {
            pass.state.events.tell(started.event);
            None
        };
        let ticket = self.jobs.submit(started.submission);
        self.slots.begin(ticket, started.job, to_tell);
    }

    /// Hands busy slots their next jobs while jobs are so short that the way from a slot to this thread
    /// and back would count. Only steps without side effects before they begin: with the plain uses,
    /// places for their outputs that are free, and no scratch file to learn from.
    fn hand_ahead(&mut self, pass: &mut Pass<'_, '_, '_, '_>) -> Result<(), BuildError> {
        let may = !self.closing && jobs_are_short(pass);
        let Some(plain) = self.resources.plain().filter(|_| may) else {
            return Ok(());
        };
        while let Some((slot, running)) = self.slots.without_next() {
            if self.queue.uses(running.position) != plain {
                return Ok(());
            }
            let Some(position) = self.queue.pop_ready(|uses| uses == plain) else {
                return Ok(());
            };
            let started = if pass.state.places.are_free(&pass.view, position)? {
                pass.start(position, self.room(position, slot), false)?
            } else {
                None
            };
            let Some(started) = started else {
                self.queue.push_ready(position);
                return Ok(());
            };
            self.submit_ahead(slot, started);
        }
        Ok(())
    }

    fn submit_ahead(&mut self, slot: SlotId, started: StartedJob) {
        let ticket = self.jobs.submit(Submission {
            ahead: true,
            ..started.submission
        });
        self.slots
            .hand_ahead(slot, ticket, started.job, started.event);
    }

    fn heed(&mut self, pass: &mut Pass<'_, '_, '_, '_>, notice: Notice) -> Result<(), BuildError> {
        match notice {
            Notice::Printed(ticket, text) => {
                let job = self.slots.running(ticket);
                let name = job.map(|job| job.prepared.job.name.as_str());
                if let Some(step) = name.or_else(|| self.services.name(ticket)) {
                    let step = step.to_owned();
                    pass.state.events.tell(Event::Printed { step, text });
                }
                Ok(())
            }
            Notice::Ready(ticket, ready) => {
                if let Some(position) = self.services.ready(ticket, ready) {
                    pass.note_ready(position);
                    self.close(pass, position);
                }
                Ok(())
            }
            Notice::Began(ticket, _) => {
                if let Some(event) = self.slots.began(ticket) {
                    pass.state.events.tell(event);
                }
                Ok(())
            }
            Notice::NotBegun(ticket) => self.not_begun(pass, ticket),
            Notice::Ended(end) => self.ended(pass, end),
            Notice::Answered(number) => {
                self.answered(pass, number);
                Ok(())
            }
            Notice::Remark(what) => {
                pass.state
                    .warn(Diagnostic::placeless_warning(&mistakes::PLACE_REMARK, what));
                Ok(())
            }
            Notice::Nothing => {
                self.look_for_news(pass);
                Ok(())
            }
        }
    }

    /// Asks a shared store for what a step lacks; whether it waits for an answer.
    fn look_ahead(
        &mut self,
        pass: &mut Pass<'_, '_, '_, '_>,
        position: Position,
        stage: LookStage,
    ) -> bool {
        let (Some(waker), Some(store)) = (&self.waker, pass.state.context.store) else {
            return false;
        };
        if store.shared().is_none() {
            return false;
        }
        let question = pass.question(store, position);
        question.is_some_and(|question| self.ahead.ask(position, stage, question, store, waker))
    }

    /// A shared store has answered: the step is ready, or asks for what the answer names.
    fn answered(&mut self, pass: &mut Pass<'_, '_, '_, '_>, number: u64) {
        let Some((position, stage)) = self.ahead.answered(number) else {
            return;
        };
        let asks_more =
            stage == LookStage::Lists && self.look_ahead(pass, position, LookStage::Result);
        if !asks_more {
            self.queue.push_ready(position);
        }
    }

    /// A job that was handed ahead did not begin: it is ready again.
    fn not_begun(
        &mut self,
        pass: &mut Pass<'_, '_, '_, '_>,
        ticket: Ticket,
    ) -> Result<(), BuildError> {
        let Some(freed) = self.slots.not_begun(ticket) else {
            return Ok(());
        };
        self.give_back(&freed);
        self.make_ready_again(pass, freed.job)
    }

    /// A job that was handed ahead is ready as it was before.
    fn make_ready_again(
        &mut self,
        pass: &mut Pass<'_, '_, '_, '_>,
        job: RunningJob,
    ) -> Result<(), BuildError> {
        pass.set_reasons(job.position, job.reasons);
        self.queue.push_ready(job.position);
        let entry = Entry::NotBegun(job.prepared.job.name.clone());
        pass.state.writer.record([entry])
    }

    fn ended(
        &mut self,
        pass: &mut Pass<'_, '_, '_, '_>,
        end: Box<JobEnd>,
    ) -> Result<(), BuildError> {
        let end = match self.services.ended(end) {
            Err(end) => *end,
            Ok(service) => {
                let position = service.job.position;
                self.closing |= pass.end(service.job, service.slot, service.end)?;
                if !service.was_ready {
                    self.close(pass, position);
                }
                return Ok(());
            }
        };
        let freed = self.slots.ended(end.ticket, end.went_well());
        let Some(freed) = freed else {
            return Err(BuildError::io(
                "a job ended that was never begun",
                io::ErrorKind::Other.into(),
            ));
        };
        self.give_back(&freed);
        let position = freed.job.position;
        let said = self.resources.memory(self.queue.uses(position));
        if let Some(said) = said.filter(|said| end.outcome.memory > *said) {
            let prepared = &freed.job.prepared;
            // Once of each description.
            if self.remarked.insert(prepared.span) {
                let remark = memory_remark(prepared, said, end.outcome.memory);
                pass.state.warn(remark);
            }
        }
        self.closing |= pass.end(freed.job, freed.slot, end)?;
        if pass.has_failed(position) {
            for (step, text) in self.services.said_for(pass.view.order.waits_for(position)) {
                let needed_by = pass.view.name(position);
                pass.state.events.tell(Event::Said {
                    step,
                    needed_by,
                    text,
                });
            }
        }
        self.close(pass, position);
        Ok(())
    }

    /// What a job took, unless one that was handed ahead takes it over.
    fn give_back(&mut self, freed: &Freed) {
        if freed.is_free {
            self.resources
                .give_back(self.queue.uses(freed.job.position));
        }
    }

    fn close(&mut self, pass: &mut Pass<'_, '_, '_, '_>, position: Position) {
        pass.lead_on(position, self.queue.followers_of(position));
        let free = self.queue.close(position);
        pass.set_free(&free);
        self.free.extend(free);
        if !self.services.is_empty() {
            let queue = &self.queue;
            let followers = |position| queue.followers_of(position).to_vec();
            self.services
                .close(position, followers, |position| pass.is_goal(position));
        }
    }
}

fn jobs_are_short(pass: &Pass<'_, '_, '_, '_>) -> bool {
    let summary = &pass.state.progress.summary;
    let ended = u32::try_from(summary.made + summary.same).unwrap_or(u32::MAX);
    ended >= ENOUGH_JOBS && summary.job_time / ended < SHORT
}
