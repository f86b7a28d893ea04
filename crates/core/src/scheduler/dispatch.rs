//! Carrying a plan out: jobs handed to slots, and what they say taken in.

use std::collections::VecDeque;
use std::io;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;

use crate::graph::Node;
use crate::ledger::Entry;
use crate::ledger::task_key;
use crate::project::TaskId;
use crate::project::frame::Frame;
use crate::project::script::task_frame;
use crate::scheduler::complete;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::job_builder::JobBuilder;
use crate::scheduler::job_builder::PreparedJob;
use crate::scheduler::pass::Pass;
use crate::scheduler::pass::PassError;
use crate::scheduler::pass::RunningJob;
use crate::scheduler::prepare_outputs;
use crate::scheduler::prepare_outputs::PreparedOutputs;
use crate::scheduler::ready_queue::ReadyQueue;
use crate::scheduler::resources::ResourcePool;
use crate::scheduler::worker_pool;
use crate::scheduler::worker_pool::WorkDone;
use crate::scheduler::worker_pool::WorkerMessage;
use crate::scheduler::worker_pool::WorkerPool;

/// The folder of what jobs printed in the last runs.
pub const LOGS: &str = ".handloom/logs";

/// Jobs are short when so many have ended and took less than so many seconds on average.
const ENOUGH_JOBS: usize = 8;
const SHORT_SECONDS: f64 = 0.02;

/// A job that is ready to be handed to a slot.
struct Begun {
    order: worker_pool::WorkOrder,
    /// What is told when it begins.
    event: Event,
    job: RunningJob,
}

impl<'d> Pass<'_, '_, 'd> {
    pub(super) fn work_off(
        &mut self,
        mut queue: ReadyQueue,
        resources: &mut ResourcePool,
        mut slots: WorkerPool,
        hold: &AtomicBool,
        active: &[bool],
    ) -> Result<(), PassError> {
        let mut free: VecDeque<usize> = (0..active.len())
            .filter(|&position| active[position] && queue.is_free(position))
            .collect();
        let mut failure: Option<PassError> = None;
        loop {
            while let Some(position) = free.pop_front() {
                match self.judge(position) {
                    Ok(true) => queue.push_ready(position),
                    Ok(false) => free.extend(self.close(&mut queue, position)),
                    Err(error) => {
                        self.closing = true;
                        failure.get_or_insert(error);
                    }
                }
            }
            if self.session.stop.level() > 0 {
                self.closing = true;
            }
            while !self.closing
                && let Some(slot) = slots.idle()
                && let Some(position) = queue.pop_ready(|uses| resources.suffice(uses))
            {
                let alone =
                    queue.open == 1 && self.session.last_round && !self.is_recorded(position);
                match self.begin(position, slot, alone) {
                    Ok(Some(begun)) => {
                        resources.take(queue.uses(position));
                        self.session.tell(begun.event);
                        self.running[slot] = Some(begun.job);
                        slots.hand(begun.order);
                    }
                    Ok(None) => free.extend(self.close(&mut queue, position)),
                    Err(error) => {
                        self.closing = true;
                        failure.get_or_insert(error);
                    }
                }
                if !free.is_empty() {
                    break;
                }
            }
            if !free.is_empty() {
                continue;
            }
            if slots.busy() == 0 {
                break;
            }
            if let Err(error) = self.hand_ahead(&mut queue, resources, &mut slots) {
                self.closing = true;
                failure.get_or_insert(error);
            }
            hold.store(self.closing, Ordering::SeqCst);
            let done = match slots.wait() {
                Some(WorkerMessage::WorkDone(done)) => done,
                Some(WorkerMessage::Printed(slot, text)) => {
                    self.heard(slot, text);
                    continue;
                }
                Some(WorkerMessage::Began(slot)) => {
                    if let Some(event) = self.to_tell[slot].take() {
                        self.session.tell(event);
                    }
                    continue;
                }
                Some(WorkerMessage::NotBegun(slot)) => {
                    if let Err(error) = self.not_begun(slot, &mut queue, resources) {
                        self.closing = true;
                        failure.get_or_insert(error);
                    }
                    continue;
                }
                None => break,
            };
            let slot = done.slot;
            // A job that was handed ahead takes what this one took.
            if self.next[slot].is_none()
                && let Some(job) = &self.running[slot]
            {
                resources.give_back(queue.uses(job.position));
            }
            let ended = self.end(done);
            if let Some((job, event)) = self.next[slot].take() {
                self.running[slot] = Some(job);
                self.to_tell[slot] = Some(event);
            }
            match ended {
                Ok(position) => free.extend(self.close(&mut queue, position)),
                Err(error) => {
                    self.closing = true;
                    failure.get_or_insert(error);
                }
            }
            if failure.is_some() {
                free.clear();
            }
        }
        queue.clear_ready();
        self.account_for_rest(active);
        let synced = self.session.sync();
        match failure {
            Some(failure) => Err(failure),
            None => synced,
        }
    }

    /// Hands busy slots their next jobs while jobs are so short that the way from a slot to this thread
    /// and back would count. Only steps without side effects before they begin: with the plain uses,
    /// places for their outputs that are free, and no scratch file to learn from.
    fn hand_ahead(
        &mut self,
        queue: &mut ReadyQueue,
        resources: &ResourcePool,
        slots: &mut WorkerPool,
    ) -> Result<(), PassError> {
        let Some(plain) = resources
            .plain()
            .filter(|_| !self.closing && self.jobs_are_short())
        else {
            return Ok(());
        };
        while let Some(slot) = slots.without_next() {
            let fits = self.running[slot]
                .as_ref()
                .is_some_and(|job| queue.uses(job.position) == plain);
            if !fits {
                return Ok(());
            }
            let Some(position) = queue.pop_ready(|uses| uses == plain) else {
                return Ok(());
            };
            let begun = if prepare_outputs::is_free(self, position)? {
                self.begin(position, slot, false)?
            } else {
                None
            };
            let Some(begun) = begun else {
                queue.push_ready(position);
                return Ok(());
            };
            self.next[slot] = Some((begun.job, begun.event));
            let order = worker_pool::WorkOrder {
                ahead: true,
                ..begun.order
            };
            slots.hand_ahead(slot, order);
        }
        Ok(())
    }

    #[expect(
        clippy::cast_precision_loss,
        reason = "a number of jobs, for an average"
    )]
    fn jobs_are_short(&self) -> bool {
        let summary = &self.session.summary;
        let ended = summary.made + summary.same;
        ended >= ENOUGH_JOBS && summary.job_seconds / (ended as f64) < SHORT_SECONDS
    }

    /// A job that was handed ahead did not begin: it is ready again.
    fn not_begun(
        &mut self,
        slot: usize,
        queue: &mut ReadyQueue,
        resources: &mut ResourcePool,
    ) -> Result<(), PassError> {
        self.to_tell[slot] = None;
        let Some(job) = self.running[slot].take() else {
            return Ok(());
        };
        // What was handed ahead behind it takes what it took.
        match self.next[slot].take() {
            Some((next, event)) => {
                self.running[slot] = Some(next);
                self.to_tell[slot] = Some(event);
            }
            None => resources.give_back(queue.uses(job.position)),
        }
        self.reasons[job.position] = Some(job.reasons);
        queue.push_ready(job.position);
        let entry = Entry::NotBegun(job.prepared.job.name.clone());
        self.session.record([entry])
    }

    /// A job printed something.
    fn heard(&mut self, slot: usize, text: Vec<u8>) {
        if let Some(job) = &self.running[slot] {
            let step = job.prepared.job.name.clone();
            self.session.tell(Event::Printed { step, text });
        }
    }

    /// Prepares a job for a slot; `None` when there is nothing to start after all.
    ///
    /// `alone` says that nothing else is running or to be run.
    fn begin(
        &mut self,
        position: usize,
        slot: usize,
        alone: bool,
    ) -> Result<Option<Begun>, PassError> {
        let reasons = self.reasons[position].take().unwrap_or_default();
        let job_builder = JobBuilder {
            project: self.project,
            vars: self.vars,
        };
        let (mut prepared, cleared, retries) = match self.order.nodes[position].node(self.project) {
            Node::Set(_) => return Ok(None),
            Node::Step(step) => {
                let clauses = &self.project.decl(self.project.step(step)).clauses;
                let retries = prepare_outputs::retries(
                    self.vars,
                    clauses,
                    &self.project.decl(self.project.step(step)).fixed_frame(),
                )
                .ok_or(PassError::Description)?;
                let prepared = job_builder.step(step, slot).ok_or(PassError::Description)?;
                self.session.prepare_place()?;
                let cleared = prepare_outputs::clear_outputs(self, step, &prepared)?;
                (prepared, cleared, retries)
            }
            Node::Task(task) => match self.begin_task(&job_builder, task, slot)? {
                Some((prepared, retries)) => (prepared, PreparedOutputs::default(), retries),
                None => {
                    self.end_named_task(position);
                    return Ok(None);
                }
            },
        };
        if prepared.job.terminal && prepared.finally.is_none() && alone {
            self.session.let_project_go()?;
        }
        self.session.begun += 1;
        let log = self
            .session
            .options
            .run
            .map(|run| format!("{LOGS}/{run}/{}.log", self.session.begun));
        if let Some(finally) = &mut prepared.finally {
            finally.log.clone_from(&log);
        }
        Arc::make_mut(&mut prepared.job).log = log;
        let name = prepared.job.name.clone();
        let task = matches!(self.order.nodes[position].node(self.project), Node::Task(_));
        let event = Event::Began {
            usual: if task {
                self.usual(&task_key(&name))
            } else {
                self.usual(&name)
            },
            step: name,
            task,
            reasons: reasons.clone(),
            script: prepared.job.script.clone(),
            slot,
            terminal: prepared.job.terminal,
        };
        let order = worker_pool::WorkOrder {
            job: Arc::clone(&prepared.job),
            outputs: cleared.outputs,
            finally: prepared.finally.clone(),
            retries,
            ahead: false,
        };
        Ok(Some(Begun {
            order,
            event,
            job: RunningJob {
                position,
                reasons,
                prepared,
                set_by: cleared.set_by,
            },
        }))
    }

    /// Whether its end is written into the ledger.
    fn is_recorded(&self, position: usize) -> bool {
        match self.order.nodes[position].node(self.project) {
            Node::Task(task) => self.is_remembered(task),
            Node::Step(_) | Node::Set(_) => true,
        }
    }

    fn begin_task(
        &mut self,
        job_builder: &JobBuilder<'_, 'd>,
        task: TaskId,
        slot: usize,
    ) -> Result<Option<(PreparedJob, u32)>, PassError> {
        let project = self.project;
        let node = &project.tasks[task.index()];
        if node.decl.clauses.recipe.is_none() && node.decl.clauses.finally.is_none() {
            return Ok(None);
        }
        let call = self.call(task);
        let frame = task_frame(self.vars, project, node, &call).ok_or(PassError::Description)?;
        let retries =
            prepare_outputs::retries(self.vars, &node.decl.clauses, &Frame::of(node.decl.part))
                .ok_or(PassError::Description)?;
        self.session.prepare_place()?;
        if node.decl.clauses.remember {
            let began = Entry::Began(task_key(&node.decl.name));
            self.session.record([began])?;
        }
        let prepared = job_builder
            .task(task, &frame, slot)
            .ok_or(PassError::Description)?;
        Ok(Some((prepared, retries)))
    }

    /// A task without a recipe is done when all it stands for is.
    fn end_named_task(&mut self, position: usize) {
        let name = self.order.nodes[position].name(self.project);
        self.session.done.insert(name, Ending::Made);
        self.endings[position] = Some(Ending::Made);
    }

    fn end(&mut self, done: WorkDone) -> Result<usize, PassError> {
        let Some(job) = self.running[done.slot].take() else {
            return Err(PassError::Io(
                "a job ended that was never begun".to_owned(),
                io::ErrorKind::Other.into(),
            ));
        };
        let position = job.position;
        let ended = complete::end(self, job, done)?;
        let ending = ended.ending;
        self.endings[position] = Some(ending);
        self.session.done.insert(ended.step.clone(), ending);
        self.session.summary.count(ending);
        self.session.summary.job_seconds += ended.seconds;
        self.session.summary.tasks += usize::from(ended.task && ending == Ending::Made);
        if ending == Ending::Failed && !self.session.options.keep_going {
            self.closing = true;
        }
        self.session.tell(Event::Ended(Box::new(ended)));
        Ok(position)
    }

    /// What was not begun: held when something before it failed, else only counted.
    fn account_for_rest(&mut self, active: &[bool]) {
        for (position, _) in active.iter().enumerate().filter(|(_, active)| **active) {
            if self.endings[position].is_some() {
                continue;
            }
            let blocked = self.order.waits_for(position).iter().any(|&before| {
                matches!(
                    self.endings[before as usize],
                    Some(Ending::Failed | Ending::Held)
                )
            });
            if blocked {
                self.held(position);
            } else if !matches!(self.order.nodes[position].node(self.project), Node::Set(_)) {
                self.session.summary.unstarted += 1;
            }
        }
    }
}
