//! One pass: a set of goals brought up to date.

use std::sync::atomic::AtomicBool;
use std::time::Duration;

use crate::executor::ExecutionContext;
use crate::executor::JobEnd;
use crate::executor::JobRoom;
use crate::executor::SlotId;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::project::TaskId;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::critical_path::CriticalPath;
use crate::scheduler::dispatch::Dispatcher;
use crate::scheduler::end_job::JobEnder;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::finally::run_finally;
use crate::scheduler::judge::Judge;
use crate::scheduler::look_ahead::StoreQuestion;
use crate::scheduler::missing_sources::SourceCheck;
use crate::scheduler::options::BuildError;
use crate::scheduler::options::OnFailure;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::ready_queue::ReadyQueue;
use crate::scheduler::resources::ResourcePool;
use crate::scheduler::slot_table::RunningJob;
use crate::scheduler::start_job::JobStarter;
use crate::scheduler::start_job::StartedJob;
use crate::scheduler::stored_results::StoredResults;
use crate::scheduler::stored_results::wants_run;
use crate::scheduler::undeclared_edges::EdgeFinder;
use crate::status::FileStates;
use crate::status::file_states::KnownStates;
use crate::store::Store;
use crate::store::StoreAnswer;
use crate::verdict::Reason;

/// How far a position has come.
#[derive(Default)]
pub(super) struct NodeState {
    /// What became of it.
    ending: Option<Ending>,
    /// Whether something that it waits for ended badly.
    blocked: bool,
    /// Whether it, or something that it waits for, needs what was taken away: the next pass makes that first.
    pub(super) postponed: bool,
    /// Why it runs, from its verdict to its beginning.
    reasons: Vec<Reason>,
}

/// What a pass says of each position.
#[derive(Default)]
pub struct Judged {
    /// Whether it was judged to have no reason to run.
    pub kept: PerPosition<bool>,
    /// Whether it has none now: also since it ran and ended well.
    pub good: PerPosition<bool>,
}

/// One pass.
pub struct Pass<'b, 's, 'p, 'd> {
    /// What it works on.
    pub view: PassView<'p, 'd>,
    /// What passes share.
    pub state: &'b mut BuildState<'s>,
    pub(super) judge: Judge<'s, 'p, 'd>,
    pub(super) nodes: PerPosition<NodeState>,
    /// Which positions have to be looked after.
    active: PerPosition<bool>,
    paths: CriticalPath,
    edges: EdgeFinder,
    /// Tasks that are held and may want something to be run all the same.
    finallies: Vec<TaskId>,
}

impl<'b, 's, 'p, 'd> Pass<'b, 's, 'p, 'd> {
    /// A pass that brings `goals` up to date.
    pub fn new(view: PassView<'p, 'd>, goals: &[NodeId], state: &'b mut BuildState<'s>) -> Self {
        let context = state.context;
        let states = FileStates::new(context.disk, context.clock, context.ledger);
        let again = state.options.again;
        Self {
            judge: Judge::new(view, context.ledger, states, goals, again),
            nodes: PerPosition::from_fn(view.order, |_| NodeState::default()),
            active: PerPosition::filled(view.order, false),
            paths: CriticalPath::new(view.order, context.clock.ticks()),
            edges: EdgeFinder::default(),
            finallies: Vec::new(),
            view,
            state,
        }
    }

    /// Brings the goals up to date; contents of files that are `known` are not looked at.
    pub fn run(mut self, known: Option<KnownStates<'_>>) -> Result<Judged, BuildError> {
        let (project, order) = (self.view.project, self.view.order);
        let threads = self.state.options.threads;
        self.judge.states.survey(project, order, threads, known);
        self.stand_in_for_fleeting();
        self.record_fresh()?;
        self.edges.behind_all_links(
            &self.view,
            &self.judge.states,
            self.state.context.disk,
            &mut self.state.progress.found_edges,
        );
        let clean = self.judge.upfront(&self.state.progress)?;
        self.active = self.judge.active(&clean);
        SourceCheck {
            view: self.view,
            states: &self.judge.states,
            disk: self.state.context.disk,
        }
        .check(&self.active)?;
        clean.set().for_each(|position| self.keep(position));
        if self.active.set().next().is_none() {
            return Ok(Judged {
                good: clean.clone(),
                kept: clean,
            });
        }
        let result = self.dispatch();
        let fresh = self.record_fresh();
        result.and(fresh)?;
        self.run_finallies()?;
        let endings = || self.nodes.values().map(|node| node.ending);
        Ok(Judged {
            kept: endings()
                .map(|ending| ending == Some(Ending::Kept))
                .collect(),
            good: endings()
                .map(|ending| ending.is_some_and(Ending::is_good))
                .collect(),
        })
    }

    /// Runs what is active.
    fn dispatch(&mut self) -> Result<(), BuildError> {
        let options = self.state.options.clone();
        let mut resources =
            ResourcePool::new(self.view.vars, &options).ok_or_else(BuildError::reported)?;
        let uses = resources
            .uses(&self.view, &self.active)
            .ok_or_else(BuildError::reported)?;
        let queue = ReadyQueue::new(
            self.view.order,
            &self.active,
            |position| self.judge.expected(position),
            uses,
            resources.kinds(),
        );
        self.announce();
        self.state.record_commands()?;
        let now = self.state.context.clock.ticks();
        self.paths = CriticalPath::new(self.view.order, now);
        let hold = AtomicBool::new(false);
        let executor = self.state.context.executor;
        let context = ExecutionContext {
            disk: self.state.context.disk,
            clock: self.state.context.clock,
            slots: (options.jobs + resources.slots_elsewhere())
                .min(queue.open)
                .max(1),
            live: options.live,
            hold: &hold,
        };
        std::thread::scope(|scope| {
            let jobs = executor.start(scope, context);
            let jobs = jobs.map_err(|error| BuildError::io("can't start a thread", error))?;
            Dispatcher::new(queue, resources, jobs, &hold).run(self)
        })
    }

    fn announce(&mut self) {
        let (mut jobs, mut usual, mut unknown) = (0, std::time::Duration::ZERO, 0);
        for position in self.active.set() {
            if matches!(self.view.node(position), Node::Set(_)) {
                continue;
            }
            jobs += 1;
            match self.judge.usual(position) {
                Some(took) => usual += took,
                None => unknown += 1,
            }
        }
        self.state.events.tell(Event::Planned {
            jobs,
            usual,
            unknown,
        });
    }

    /// Gives a position that waits for nothing any more its verdict; whether it has to run.
    pub fn judge_position(&mut self, position: Position) -> Result<bool, BuildError> {
        let id = self.view.id(position);
        if let Some(bad) = self.state.progress.bad_ending(self.view.project, id) {
            self.nodes[position].ending = Some(bad);
            return Ok(false);
        }
        if self.nodes[position].blocked {
            self.hold(position);
            return Ok(false);
        }
        if self.nodes[position].postponed {
            return Ok(false);
        }
        let reasons = match self.view.node(position) {
            Node::Set(_) => {
                self.nodes[position].ending = Some(Ending::Kept);
                return Ok(false);
            }
            Node::Task(task) if self.view.is_remembered(task) => self.judge.task_reasons(task)?,
            Node::Task(_) => return Ok(!self.is_postponed(position)),
            Node::Step(step) => self.judge.step_reasons(step, &self.state.progress)?,
        };
        if reasons.is_empty() {
            self.keep(position);
            let step = self.view.name(position);
            let usual = self.judge.usual(position);
            self.state.events.tell(Event::Spared { step, usual });
            return Ok(false);
        }
        if self.is_guarded(position, &reasons) {
            self.keep(position);
            let step = self.view.name(position);
            self.state.events.tell(Event::Guarded { step, reasons });
            return Ok(false);
        }
        if self.is_postponed(position) {
            return Ok(false);
        }
        self.nodes[position].reasons = reasons;
        Ok(true)
    }

    /// What the local store lacks for a step that is free to run; none of one that it has, or that is to run in any case.
    pub fn question(&mut self, store: &Store, position: Position) -> Option<StoreQuestion> {
        let Node::Step(step) = self.view.node(position) else {
            return None;
        };
        if wants_run(&self.nodes[position].reasons, self.state.options.twice) {
            return None;
        }
        let stored = StoredResults {
            project: self.view.project,
            store,
            recipes: self.state.options.recipes,
        };
        if !stored.is_worth_asking(step, self.judge.usual(position)) {
            return None;
        }
        let (inputs, states) = (&self.judge.inputs, &mut self.judge.states);
        let lookup = stored.lookup(step, inputs, states, self.state.context.ledger)?;
        match stored.find(lookup, states) {
            StoreAnswer::Found(_) => None,
            StoreAnswer::Absent(candidates) => Some(StoreQuestion {
                declared: lookup.declared,
                candidates,
            }),
        }
    }

    /// How long what stands at a position took last time.
    pub fn usual(&self, position: Position) -> Option<Duration> {
        self.judge.usual(position)
    }

    /// Why a position runs, when it is not begun after all.
    pub fn set_reasons(&mut self, position: Position, reasons: Vec<Reason>) {
        self.nodes[position].reasons = reasons;
    }

    /// Whether what stands at a position stays while others need it.
    pub fn is_service(&self, position: Position) -> bool {
        let Node::Task(task) = self.view.node(position) else {
            return false;
        };
        self.view.project.tasks[task.index()].decl.clauses.stays
    }

    /// Whether what stands at a position was asked for by name.
    pub fn is_goal(&self, position: Position) -> bool {
        self.judge.is_asked_for(self.view.id(position))
    }

    /// A task that stays is ready for those that wait for it.
    pub fn note_ready(&mut self, position: Position) {
        self.nodes[position].ending = Some(Ending::Made);
    }

    /// Whether what stands at a position failed.
    pub fn has_failed(&self, position: Position) -> bool {
        self.nodes[position].ending == Some(Ending::Failed)
    }

    /// Makes the job of a position ready; `None` when there is nothing to run.
    pub fn start(
        &mut self,
        position: Position,
        room: JobRoom,
        alone: bool,
    ) -> Result<Option<StartedJob>, BuildError> {
        let reasons = std::mem::take(&mut self.nodes[position].reasons);
        let mut starter = JobStarter {
            view: self.view,
            state: self.state,
            states: &mut self.judge.states,
            inputs: &self.judge.inputs,
        };
        let started = starter.start(position, room, reasons, alone)?;
        if started.is_none() && !matches!(self.view.node(position), Node::Set(_)) {
            // A task without a recipe is done when all it stands for is.
            let name = self.view.name(position);
            self.state.progress.end_uncounted(name);
            self.nodes[position].ending = Some(Ending::Made);
        }
        Ok(started)
    }

    /// A job has ended; whether nothing more is to begin.
    pub fn end(&mut self, job: RunningJob, slot: SlotId, end: JobEnd) -> Result<bool, BuildError> {
        let position = job.position;
        let ended = JobEnder {
            view: self.view,
            state: self.state,
            judge: &mut self.judge,
            paths: &mut self.paths,
            edges: &self.edges,
        }
        .end(job, slot, end)?;
        let ending = ended.ending;
        self.nodes[position].ending = Some(ending);
        let progress = &mut self.state.progress;
        progress.end(ended.step.clone(), ending);
        progress.summary.job_time += ended.took;
        progress.summary.tasks += usize::from(ended.task && ending == Ending::Made);
        self.state.events.tell(Event::Ended(Box::new(ended)));
        Ok(ending == Ending::Failed && self.state.options.on_failure == OnFailure::Stop)
    }

    fn keep(&mut self, position: Position) {
        self.nodes[position].ending = Some(Ending::Kept);
        if self.state.progress.rejudges {
            // It was counted when it was judged first.
            return;
        }
        match self.view.node(position) {
            Node::Step(step) => {
                let name = self.view.project.step_name(step);
                self.state.progress.keep(name);
            }
            Node::Task(task) if self.view.is_remembered(task) => {
                let name = self.view.task_name(task);
                self.state.progress.keep(name);
            }
            Node::Task(_) | Node::Set(_) => {}
        }
    }

    /// It does not run, since something that it needs came to a bad end.
    fn hold(&mut self, position: Position) {
        self.nodes[position].ending = Some(Ending::Held);
        let task = match self.view.node(position) {
            Node::Set(_) => return,
            Node::Task(task) => {
                self.finallies.push(task);
                true
            }
            Node::Step(_) => false,
        };
        let step = self.view.name(position);
        self.state.progress.end(step.clone(), Ending::Held);
        let held = Ended::held(step, task);
        self.state.events.tell(Event::Ended(Box::new(held)));
    }

    /// Runs what tasks that are held want to be run whatever happened.
    fn run_finallies(&mut self) -> Result<(), BuildError> {
        for task in std::mem::take(&mut self.finallies) {
            let output = run_finally(self.state, &self.view, task)?;
            if !output.is_empty() {
                let step = self.view.task_name(task).to_owned();
                self.state.events.tell(Event::Finally { step, output });
            }
        }
        Ok(())
    }

    /// Tells those that wait for a position how it ended, and how long the way to them is.
    pub fn lead_on(&mut self, position: Position, followers: &[Position]) {
        let ending = self.nodes[position].ending;
        if ending.is_some_and(|ending| !ending.is_good()) {
            for &follower in followers {
                self.nodes[follower].blocked = true;
            }
        }
        if self.nodes[position].postponed {
            for &follower in followers {
                self.nodes[follower].postponed = true;
            }
        }
        self.paths.lead_on(position, followers);
    }

    /// These wait for nothing any more.
    pub fn set_free(&mut self, free: &[Position]) {
        let now = self.state.context.clock.ticks();
        for &position in free {
            self.paths.free(position, now);
        }
    }

    /// What was not begun: held when something before it failed, else only counted.
    pub fn account_for_rest(&mut self) {
        let open: Vec<Position> = self
            .active
            .set()
            .filter(|&position| self.nodes[position].ending.is_none())
            .filter(|&position| !self.nodes[position].postponed)
            .collect();
        for position in open {
            let bad = |ending| matches!(ending, Some(Ending::Failed | Ending::Held));
            let before = self.view.order.waits_for(position);
            if before.iter().any(|&before| bad(self.nodes[before].ending)) {
                self.hold(position);
            } else if !matches!(self.view.node(position), Node::Set(_)) {
                self.state.progress.summary.unstarted += 1;
            }
        }
    }

    fn record_fresh(&mut self) -> Result<(), BuildError> {
        let fresh = self.judge.states.take_fresh();
        if fresh.is_empty() {
            return Ok(());
        }
        self.state.writer.record(fresh)
    }
}
