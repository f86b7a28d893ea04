//! One round: a set of goals brought up to date.
//!
//! First everything that the goals reach is looked at, and each step whose prerequisites are settled
//! gets its verdict at once; in a run with nothing to do that is all. What remains is a plan: a node
//! is judged when the last of those it waits for has ended, and either runs or is spared.

use std::cell::OnceCell;
use std::io;
use std::sync::atomic::AtomicBool;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::declared;
use crate::graph::node_count;
use crate::ledger::Entry;
use crate::ledger::task_key;
use crate::project::Project;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::frame::Frame;
use crate::project::script::TaskCall;
use crate::project::values::Vars;
use crate::project_cache::cached_project::VerifiedContents;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::job_builder::PreparedJob;
use crate::scheduler::link_edges;
use crate::scheduler::prepare_outputs;
use crate::scheduler::prepare_outputs::MovedAside;
use crate::scheduler::ready_queue::ReadyQueue;
use crate::scheduler::resources::ResourcePool;
use crate::scheduler::resources::ResourceUseId;
use crate::scheduler::session::BuildError;
use crate::scheduler::session::Session;
use crate::scheduler::worker_pool::WorkerContext;
use crate::scheduler::worker_pool::WorkerPool;
use crate::status::file_states::FileStates;
use crate::status::step_inputs::InputBuffers;
use crate::status::step_inputs::StepInputs;
use crate::verdict;
use crate::verdict::Reason;

/// What a step without a record is thought to take, seconds.
const UNKNOWN_SECONDS: f64 = 0.5;

/// Why a round could not be carried out.
#[derive(Debug)]
pub enum PassError {
    /// The description is wrong; the mistakes are with the variables.
    Description,
    /// The ledger or the disk failed.
    Io(String, io::Error),
}

/// How a position came to be free, as far as jobs of this round led to it.
#[derive(Clone, Copy, Default)]
pub struct CriticalPath {
    /// How long the jobs of the longest way to it took together, seconds.
    longest: f64,
    /// The last position of that way.
    last: Option<u32>,
    /// When it became free, in the clock's ticks.
    pub free_at: u64,
    /// How long its own job took, seconds; none when it has none.
    pub took: Option<f64>,
}

/// A job that is running.
pub struct RunningJob {
    pub position: usize,
    pub reasons: Vec<Reason>,
    pub prepared: PreparedJob,
    /// Its old outputs that are set by.
    pub set_by: Vec<String>,
}

pub struct Pass<'r, 's, 'd> {
    pub session: &'r mut Session<'s>,
    pub project: &'r Project<'d>,
    pub vars: &'r Vars<'d>,
    /// What has to be judged.
    pub order: &'r Order,
    /// All that the goals reach: what is judged, and what is known to be kept.
    pub whole: &'r Order,
    /// VerifiedContents of files that are known without a look.
    contents: Option<VerifiedContents<'r>>,
    /// For each node whether it was asked for.
    is_goal: Vec<bool>,
    pub states: FileStates<'s>,
    pub step_inputs: StepInputs<'r, 'd>,
    pub scratch: InputBuffers,
    /// Files that were moved out of the way of jobs that are running.
    pub moved_aside: Vec<MovedAside>,
    /// What became of each position.
    pub(super) endings: Vec<Option<Ending>>,
    /// Whether something that a position waits for ended badly.
    pub(super) blocked: Vec<bool>,
    pub(super) reasons: Vec<Option<Vec<Reason>>>,
    pub(super) running: Vec<Option<RunningJob>>,
    /// What each slot was handed ahead, with the event to tell when it begins that.
    pub(super) next: Vec<Option<(RunningJob, Event)>>,
    /// The event to tell when a slot says that it began what it was handed ahead.
    pub(super) to_tell: Vec<Option<Event>>,
    /// The way to each position.
    pub(super) ways: Vec<CriticalPath>,
    /// No job is begun any more.
    pub(super) closing: bool,
    /// Tasks that are held and may want something to be run all the same.
    finallies: Vec<TaskId>,
    /// For each node its position in the whole order; made when first needed.
    positions: OnceCell<Vec<u32>>,
}

impl<'r, 's, 'd> Pass<'r, 's, 'd> {
    pub fn new(
        session: &'r mut Session<'s>,
        project: &'r Project<'d>,
        vars: &'r Vars<'d>,
        (order, whole): (&'r Order, &'r Order),
        goals: &'r [NodeId],
        contents: Option<VerifiedContents<'r>>,
    ) -> Self {
        let states = FileStates::new(session.disk, session.clock, session.ledger);
        let mut is_goal = vec![false; node_count(project)];
        for goal in goals {
            is_goal[goal.index()] = true;
        }
        let count = order.nodes.len();
        let slots = session.options.jobs;
        Self {
            states,
            step_inputs: StepInputs::new(vars, project),
            scratch: InputBuffers::default(),
            moved_aside: Vec::new(),
            endings: vec![None; count],
            blocked: vec![false; count],
            reasons: (0..count).map(|_| None).collect(),
            running: (0..slots).map(|_| None).collect(),
            next: (0..slots).map(|_| None).collect(),
            to_tell: vec![None; slots],
            ways: vec![CriticalPath::default(); count],
            closing: false,
            finallies: Vec::new(),
            positions: OnceCell::new(),
            session,
            project,
            vars,
            order,
            whole,
            contents,
            is_goal,
        }
    }

    /// Brings the goals up to date. Gives for each position whether it was judged to have no reason
    /// to run.
    pub fn run(mut self) -> Result<Vec<bool>, PassError> {
        let contents = self.contents.take();
        self.states.survey(
            self.project,
            self.order,
            self.session.options.threads,
            contents.as_ref(),
        );
        self.record_fresh()?;
        self.follow_links();
        let clean = self.judge_settled()?;
        let active = self.active(&clean);
        self.check_sources(&active)?;
        for (position, _) in clean.iter().enumerate().filter(|(_, clean)| **clean) {
            self.keep(position);
        }
        if !active.contains(&true) {
            return Ok(clean);
        }
        let (mut resources, uses) = self.uses(&active).ok_or(PassError::Description)?;
        let queue = ReadyQueue::new(
            self.order,
            &active,
            |position| self.expected(position),
            uses,
            resources.kinds(),
        );
        self.announce(&active);
        self.session.record_commands()?;
        let hold = AtomicBool::new(false);
        let context = WorkerContext {
            place: self.session.place,
            disk: self.session.disk,
            clock: self.session.clock,
            stop: self.session.stop,
            live: self.session.options.live,
            hold: &hold,
        };
        let now = self.session.clock.ticks();
        self.ways.iter_mut().for_each(|way| way.free_at = now);
        let count = self.session.options.jobs.min(queue.open).max(1);
        let result = std::thread::scope(|scope| {
            let slots = WorkerPool::start(scope, context, count)
                .map_err(|error| PassError::Io("can't start a thread".to_owned(), error))?;
            self.work_off(queue, &mut resources, slots, &hold, &active)
        });
        let fresh = self.record_fresh();
        result.and(fresh)?;
        self.run_finallies()?;
        Ok(self
            .endings
            .iter()
            .map(|ending| *ending == Some(Ending::Kept))
            .collect())
    }

    /// Finds steps that another step's output stands behind a link for, and that do not wait for that one.
    fn follow_links(&mut self) {
        if self.states.linked.is_empty() {
            return;
        }
        for position in 0..self.order.nodes.len() {
            if let Node::Step(step) = self.order.nodes[position].node(self.project) {
                let _ = link_edges::find_edges(self, step);
            }
        }
    }

    // ---- verdicts ------------------------------------------------------------------------------

    /// Which positions are settled and kept: they have no reason to run, nor has anything they wait
    /// for.
    fn judge_settled(&mut self) -> Result<Vec<bool>, PassError> {
        let mut clean = vec![false; self.order.nodes.len()];
        for position in 0..clean.len() {
            let id = self.order.nodes[position];
            let before = self.order.waits_for(position);
            // A task that only has to be done *before* gives no reason.
            let settled = before.iter().all(|&before| {
                clean[before as usize]
                    || matches!(
                        self.order.nodes[before as usize].node(self.project),
                        Node::Task(_)
                    )
            });
            clean[position] = match id.node(self.project) {
                Node::Set(_) => settled,
                Node::Task(_) if self.ended_before(id).is_some() => false,
                Node::Task(task) => {
                    self.was_done(&self.project.tasks[task.index()].decl.name)
                        || (settled
                            && self.is_remembered(task)
                            && self.task_reasons(task)?.is_empty())
                }
                Node::Step(step) => settled && self.step_is_kept(step)?,
            };
        }
        Ok(clean)
    }

    pub(super) fn is_remembered(&self, task: TaskId) -> bool {
        let clauses = &self.project.tasks[task.index()].decl.clauses;
        clauses.remember && clauses.recipe.is_some()
    }

    /// The arguments that a task is run with.
    pub fn call(&self, task: TaskId) -> TaskCall {
        let name = &self.project.tasks[task.index()].decl.name;
        self.session.calls.get(name).cloned().unwrap_or_default()
    }

    /// Why a task that is remembered has to run again.
    fn task_reasons(&self, task: TaskId) -> Result<Vec<Reason>, PassError> {
        let asked =
            self.session.options.remake && self.is_goal[NodeId::task(self.project, task).index()];
        let ledger = self.session.ledger.borrow();
        self.step_inputs
            .with_task(task, &self.call(task), &self.states, asked, |facts| {
                verdict::reasons(facts, &ledger)
            })
            .ok_or(PassError::Description)
    }

    fn was_done(&self, name: &str) -> bool {
        self.session
            .done
            .get(name)
            .is_some_and(|ending| ending.is_good())
    }

    fn step_is_kept(&mut self, step: StepId) -> Result<bool, PassError> {
        if !self.session.done.is_empty() {
            if self.was_done(self.project.step_name(step)) && !self.is_rejudged(step) {
                return Ok(true);
            }
            if self.ended_before(NodeId::step(step)).is_some() {
                return Ok(false);
            }
        }
        let asked = self.is_asked(step);
        let ledger = self.session.ledger.borrow();
        self.step_inputs
            .with(step, &self.states, asked, &mut self.scratch, |facts| {
                verdict::is_kept(facts, &ledger)
            })
            .ok_or(PassError::Description)
    }

    fn is_asked(&self, step: StepId) -> bool {
        self.session.options.remake
            && self.is_goal[NodeId::step(step).index()]
            && !self.session.rejudges
    }

    /// Whether a step that was done in an earlier round of this call is judged once more.
    fn is_rejudged(&self, step: StepId) -> bool {
        self.session.rejudges
            && !(self.session.options.remake && self.is_goal[NodeId::step(step).index()])
    }

    /// How a node came to a bad end in an earlier round of this call.
    fn ended_before(&self, id: NodeId) -> Option<Ending> {
        let name = match id.node(self.project) {
            Node::Step(step) => self.project.step_name(step),
            Node::Task(task) => &self.project.tasks[task.index()].decl.name,
            Node::Set(_) => return None,
        };
        let ending = self.session.done.get(name).copied();
        ending.filter(|ending| !ending.is_good())
    }

    /// Which positions have to be looked after: the goals that are not kept, and whatever those wait
    /// for. A task that only kept steps ask for is not run.
    fn active(&self, clean: &[bool]) -> Vec<bool> {
        let mut active = vec![false; clean.len()];
        let mut wanted = vec![false; clean.len()];
        for (position, id) in self.order.nodes.iter().enumerate() {
            wanted[position] = self.is_goal[id.index()];
        }
        for position in (0..clean.len()).rev() {
            if wanted[position] && !clean[position] {
                active[position] = true;
                for &before in self.order.waits_for(position) {
                    wanted[before as usize] = true;
                }
            }
        }
        active
    }

    /// Every prerequisite that no target makes must be there.
    fn check_sources(&self, active: &[bool]) -> Result<(), PassError> {
        let mut wrong = false;
        for (position, _) in active.iter().enumerate().filter(|(_, active)| **active) {
            let needs = match self.order.nodes[position].node(self.project) {
                Node::Step(step) => self.project.step_needs(self.project.step(step)),
                Node::Task(task) => &self.project.tasks[task.index()].needs,
                Node::Set(_) => continue,
            };
            for need in needs {
                if let crate::project::What::Path(path) = need.what {
                    wrong |= prepare_outputs::missing_source(self, position, need.group, path);
                }
            }
        }
        if wrong {
            Err(PassError::Description)
        } else {
            Ok(())
        }
    }

    // ---- running -------------------------------------------------------------------------------

    fn expected(&self, position: usize) -> f64 {
        match self.order.nodes[position].node(self.project) {
            Node::Set(_) => 0.0,
            Node::Step(step) => self
                .usual(self.project.step_name(step))
                .unwrap_or(UNKNOWN_SECONDS),
            Node::Task(_) => UNKNOWN_SECONDS,
        }
    }

    /// How long a step took last time, seconds.
    #[expect(
        clippy::cast_precision_loss,
        reason = "nanoseconds of a job as seconds for people"
    )]
    pub(super) fn usual(&self, name: &str) -> Option<f64> {
        self.session
            .ledger
            .borrow()
            .step(name)
            .map(|record| record.took() as f64 / 1e9)
    }

    fn announce(&mut self, active: &[bool]) {
        let (mut jobs, mut seconds, mut unknown) = (0, 0.0, 0);
        for (position, _) in active.iter().enumerate().filter(|(_, active)| **active) {
            let usual = match self.order.nodes[position].node(self.project) {
                Node::Set(_) => continue,
                Node::Step(step) => self.usual(self.project.step_name(step)),
                Node::Task(task) => {
                    self.usual(&task_key(&self.project.tasks[task.index()].decl.name))
                }
            };
            jobs += 1;
            match usual {
                Some(usual) => seconds += usual,
                None => unknown += 1,
            }
        }
        self.session.tell(Event::Planned {
            jobs,
            seconds,
            unknown,
        });
    }

    /// What each active position takes while it runs; `None` when an amount is wrong.
    fn uses(&self, active: &[bool]) -> Option<(ResourcePool, Vec<ResourceUseId>)> {
        let options = self.session.options;
        let mut resources = ResourcePool::new(self.vars, options.jobs, options.memory)?;
        let mut uses = vec![0; active.len()];
        let mut of_decl: Vec<Option<ResourceUseId>> = vec![None; self.project.decls.len()];
        for position in (0..active.len()).filter(|&position| active[position]) {
            uses[position] = match self.order.nodes[position].node(self.project) {
                Node::Set(_) => 0,
                Node::Task(task) => {
                    let decl = &self.project.tasks[task.index()].decl;
                    resources.of(self.vars, &decl.clauses, &Frame::of(decl.part))?
                }
                Node::Step(step) => {
                    let node = self.project.step(step);
                    let known = of_decl[node.decl as usize];
                    match known {
                        Some(known) => known,
                        None => {
                            let decl = self.project.decl(node);
                            let frame = decl.fixed_frame();
                            let uses = resources.of(self.vars, &decl.clauses, &frame)?;
                            of_decl[node.decl as usize] = Some(uses);
                            uses
                        }
                    }
                }
            };
        }
        Some((resources, uses))
    }

    /// Gives a free position its verdict; whether it has to run.
    pub(super) fn judge(&mut self, position: usize) -> Result<bool, PassError> {
        if !self.session.done.is_empty()
            && let Some(bad) = self.ended_before(self.order.nodes[position])
        {
            self.endings[position] = Some(bad);
            return Ok(false);
        }
        if self.blocked[position] {
            self.held(position);
            return Ok(false);
        }
        match self.order.nodes[position].node(self.project) {
            Node::Set(_) => {
                self.endings[position] = Some(Ending::Kept);
                Ok(false)
            }
            Node::Task(task) if self.is_remembered(task) => {
                let reasons = self.task_reasons(task)?;
                if reasons.is_empty() {
                    self.keep(position);
                    let name = &self.project.tasks[task.index()].decl.name;
                    let usual = self.usual(&task_key(name));
                    let step = name.clone();
                    self.session.tell(Event::Spared { step, usual });
                    return Ok(false);
                }
                self.reasons[position] = Some(reasons);
                Ok(true)
            }
            Node::Task(_) => {
                self.reasons[position] = Some(Vec::new());
                Ok(true)
            }
            Node::Step(step) => {
                prepare_outputs::refresh_derived(self, step);
                let asked = self.is_asked(step);
                let reasons = {
                    let ledger = self.session.ledger.borrow();
                    self.step_inputs
                        .reasons(step, &self.states, asked, &ledger, &mut self.scratch)
                        .ok_or(PassError::Description)?
                };
                if reasons.is_empty() {
                    self.keep(position);
                    let step = self.project.step_name(step).to_owned();
                    let usual = self.usual(&step);
                    self.session.tell(Event::Spared { step, usual });
                    return Ok(false);
                }
                self.reasons[position] = Some(reasons);
                Ok(true)
            }
        }
    }

    pub(super) fn keep(&mut self, position: usize) {
        self.endings[position] = Some(Ending::Kept);
        if self.session.rejudges {
            // It was counted when it was judged first.
            return;
        }
        let name = match self.order.nodes[position].node(self.project) {
            Node::Step(step) => Some(self.project.step_name(step)),
            Node::Task(task) if self.is_remembered(task) => {
                Some(&*self.project.tasks[task.index()].decl.name)
            }
            Node::Task(_) | Node::Set(_) => None,
        };
        if let Some(name) = name {
            if self.session.done.is_empty() && self.session.last_round {
                // Nobody will ask: by far the most steps of a large project end here.
                self.session.summary.count(Ending::Kept);
            } else if !self.session.done.contains_key(name) {
                self.session.done.insert(name.to_owned(), Ending::Kept);
                self.session.summary.count(Ending::Kept);
            }
        }
    }

    pub(super) fn held(&mut self, position: usize) {
        self.endings[position] = Some(Ending::Held);
        let id = self.order.nodes[position];
        let task = match id.node(self.project) {
            Node::Set(_) => return,
            Node::Task(_) => true,
            Node::Step(_) => false,
        };
        let step = id.name(self.project);
        self.session.done.insert(step.clone(), Ending::Held);
        self.session.summary.count(Ending::Held);
        if let Node::Task(task) = id.node(self.project) {
            self.finallies.push(task);
        }
        self.session
            .tell(Event::Ended(Box::new(Ended::held(step, task))));
    }

    /// Runs what tasks that are held want to be run whatever happened.
    fn run_finallies(&mut self) -> Result<(), PassError> {
        for task in std::mem::take(&mut self.finallies) {
            let ran = self.session.run_finally(self.project, self.vars, task);
            let output = ran.map_err(|stopped| match stopped {
                BuildError::Description(_) => PassError::Description,
                BuildError::Io(what, error) => PassError::Io(what, error),
            })?;
            if !output.is_empty() {
                let step = self.project.tasks[task.index()].decl.name.clone();
                self.session.tell(Event::Finally { step, output });
            }
        }
        Ok(())
    }

    pub(super) fn close(&mut self, queue: &mut ReadyQueue, position: usize) -> Vec<usize> {
        let bad = self.endings[position].is_some_and(|ending| !ending.is_good());
        if bad {
            for &follower in queue.followers_of(position) {
                self.blocked[follower as usize] = true;
            }
        }
        self.lead_on(queue, position);
        let free = queue.close(position);
        let now = self.session.clock.ticks();
        for &follower in &free {
            self.ways[follower].free_at = now;
        }
        free
    }

    /// Whether a step waits for another, directly or through others.
    pub(super) fn waits_for(&self, from: StepId, to: StepId) -> bool {
        let mut direct = false;
        declared(self.project, NodeId::step(from), &mut |node| {
            direct |= node == NodeId::step(to);
        });
        if direct {
            return true;
        }
        let nowhere = u32::MAX;
        let positions = self.positions.get_or_init(|| {
            let mut positions = vec![nowhere; node_count(self.project)];
            for (at, id) in (0..).zip(&self.whole.nodes) {
                positions[id.index()] = at;
            }
            positions
        });
        let (from, to) = (
            positions[NodeId::step(from).index()],
            positions[NodeId::step(to).index()],
        );
        // What is waited for stands in front.
        if from == nowhere || to == nowhere || to >= from {
            return false;
        }
        let mut seen = vec![false; from as usize + 1];
        let mut open = vec![from];
        while let Some(position) = open.pop() {
            for &before in self.whole.waits_for(position as usize) {
                if before == to {
                    return true;
                }
                if before > to && !std::mem::replace(&mut seen[before as usize], true) {
                    open.push(before);
                }
            }
        }
        false
    }

    /// Tells those that wait for a position how long the way to them is.
    fn lead_on(&mut self, queue: &ReadyQueue, position: usize) {
        let way = self.ways[position];
        // What was spared, and sets, only pass on what they waited for.
        let (longest, last) = match way.took {
            Some(took) => (way.longest + took, u32::try_from(position).ok()),
            None => (way.longest, way.last),
        };
        if last.is_none() {
            return;
        }
        for &follower in queue.followers_of(position) {
            let to = &mut self.ways[follower as usize];
            if to.last.is_none() || longest > to.longest {
                (to.longest, to.last) = (longest, last);
            }
        }
    }

    /// The name of the last job of the longest way to a position.
    pub(super) fn after(&self, position: usize) -> Option<String> {
        let last = self.ways[position].last? as usize;
        Some(self.order.nodes[last].name(self.project))
    }

    pub(super) fn record_fresh(&mut self) -> Result<(), PassError> {
        let fresh: Vec<Entry> = self.states.take_fresh();
        if fresh.is_empty() {
            return Ok(());
        }
        self.session.record(fresh)
    }
}
