//! Which steps of a pass have a reason to run.
//!
//! First everything that the goals reach is looked at, and each step whose prerequisites are settled gets its
//! verdict at once ([`Judge::upfront`]); in a build with nothing to do that is all. The others are judged when
//! the last of those they wait for has ended.

use std::cell::RefCell;
use std::time::Duration;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::graph::node_count;
use crate::ledger::Ledger;
use crate::ledger::StepView;
use crate::ledger::task_key;
use crate::project::PathId;
use crate::project::StepId;
use crate::project::TaskId;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::progress::Progress;
use crate::status::FileStates;
use crate::status::InputBuffers;
use crate::status::StepInputs;
use crate::verdict;
use crate::verdict::Reason;

/// What a step without a record is thought to take.
const UNKNOWN: Duration = Duration::from_millis(500);

/// Judges the steps of a pass.
pub struct Judge<'s, 'p, 'd> {
    view: PassView<'p, 'd>,
    ledger: &'s RefCell<Ledger>,
    /// What stands at every path.
    pub states: FileStates<'s>,
    /// What of each step is compared.
    pub inputs: StepInputs<'p, 'd>,
    buffers: InputBuffers,
    /// For each node whether it was asked for.
    is_goal: Vec<bool>,
    again: bool,
}

impl<'s, 'p, 'd> Judge<'s, 'p, 'd> {
    /// A judge for whom `goals` were asked for, and are run in any case with `again`.
    pub fn new(
        view: PassView<'p, 'd>,
        ledger: &'s RefCell<Ledger>,
        states: FileStates<'s>,
        goals: &[NodeId],
        again: bool,
    ) -> Self {
        let mut is_goal = vec![false; node_count(view.project)];
        for goal in goals {
            is_goal[goal.index()] = true;
        }
        Self {
            view,
            ledger,
            states,
            inputs: StepInputs::new(view.vars, view.project),
            buffers: InputBuffers::default(),
            is_goal,
            again,
        }
    }

    /// Whether a node was asked for.
    pub fn is_asked_for(&self, id: NodeId) -> bool {
        self.is_goal[id.index()]
    }

    /// Which positions are settled and kept: they have no reason to run, nor has anything they wait for.
    pub fn upfront(&mut self, progress: &Progress) -> Result<PerPosition<bool>, BuildError> {
        let order = self.view.order;
        let mut clean = PerPosition::filled(order, false);
        for position in order.positions() {
            // A task that only has to be done *before* gives no reason.
            let settled = order
                .waits_for(position)
                .iter()
                .all(|&before| clean[before] || matches!(self.view.node(before), Node::Task(_)));
            clean[position] = match self.view.node(position) {
                Node::Set(_) => settled,
                Node::Task(task) => self.task_is_kept(task, settled, progress)?,
                Node::Step(step) => settled && self.step_is_kept(step, progress)?,
            };
        }
        Ok(clean)
    }

    fn task_is_kept(
        &self,
        task: TaskId,
        settled: bool,
        progress: &Progress,
    ) -> Result<bool, BuildError> {
        let id = NodeId::task(self.view.project, task);
        if progress.bad_ending(self.view.project, id).is_some() {
            return Ok(false);
        }
        if self.view.project.tasks[task.index()].decl.clauses.stays {
            // It ended with the pass that needed it.
            return Ok(false);
        }
        Ok(progress.was_done(self.view.task_name(task))
            || (settled && self.view.is_remembered(task) && self.task_reasons(task)?.is_empty()))
    }

    fn step_is_kept(&mut self, step: StepId, progress: &Progress) -> Result<bool, BuildError> {
        if !progress.is_empty() {
            // A step that was done in an earlier pass is judged once more when its edges are others now.
            let is_rejudged = progress.rejudges && !self.is_forced(step);
            if progress.was_done(self.view.project.step_name(step)) && !is_rejudged {
                return Ok(true);
            }
            let id = NodeId::step(step);
            if progress.bad_ending(self.view.project, id).is_some() {
                return Ok(false);
            }
        }
        let asked = self.is_forced(step) && !progress.rejudges;
        let ledger = self.ledger.borrow();
        self.inputs
            .with(step, &self.states, asked, &mut self.buffers, |state| {
                verdict::is_kept(state, &ledger)
            })
            .ok_or_else(BuildError::reported)
    }

    /// Whether a step is run in any case.
    fn is_forced(&self, step: StepId) -> bool {
        self.again && self.is_goal[NodeId::step(step).index()]
    }

    /// Which positions have to be looked after: the goals that are not kept, and whatever those wait for. A
    /// task that only kept steps ask for is not run.
    pub fn active(&self, clean: &PerPosition<bool>) -> PerPosition<bool> {
        let order = self.view.order;
        let mut active = PerPosition::filled(order, false);
        let mut wanted =
            PerPosition::from_fn(order, |position| self.is_goal[order.node(position).index()]);
        for position in order.positions().rev() {
            if wanted[position] && !clean[position] {
                active[position] = true;
                for &before in order.waits_for(position) {
                    wanted[before] = true;
                }
            }
        }
        active
    }

    /// Why a task that is remembered has to run again.
    pub fn task_reasons(&self, task: TaskId) -> Result<Vec<Reason>, BuildError> {
        let asked = self.again && self.is_goal[NodeId::task(self.view.project, task).index()];
        let ledger = self.ledger.borrow();
        self.inputs
            .with_task(task, &self.states, asked, |state| {
                verdict::reasons(state, &ledger)
            })
            .ok_or_else(BuildError::reported)
    }

    /// Why a step has to run, now that all it waits for has ended.
    pub fn step_reasons(
        &mut self,
        step: StepId,
        progress: &Progress,
    ) -> Result<Vec<Reason>, BuildError> {
        self.refresh_derived(step);
        let asked = self.is_forced(step) && !progress.rejudges;
        let ledger = self.ledger.borrow();
        self.inputs
            .reasons(step, &self.states, asked, &ledger, &mut self.buffers)
            .ok_or_else(BuildError::reported)
    }

    /// Looks again at prerequisites that jobs of this build may have changed without being their named output:
    /// files in made folders, folders that outputs lie in, and what stands behind links.
    fn refresh_derived(&mut self, step: StepId) {
        let project = self.view.project;
        let needs: Vec<PathId> = project
            .open_needs(project.step_needs(project.step(step)))
            .map(|(_, path)| path)
            .collect();
        for path in needs {
            let text = project.paths.get(path);
            let named = project.maker(path).is_some_and(|maker| {
                project
                    .step_outputs(project.step(maker))
                    .iter()
                    .any(|&(_, output)| output == path)
            });
            let behind_link = self.states.linked.contains(&path);
            if behind_link || (!named && (text.ends_with('/') || project.maker(path).is_some())) {
                let state = self.states.look(text);
                self.states.set(path, state);
            }
        }
    }

    /// How long what stands at a position is thought to take.
    pub fn expected(&self, position: Position) -> Duration {
        match self.view.node(position) {
            Node::Set(_) => Duration::ZERO,
            Node::Task(_) => UNKNOWN,
            Node::Step(_) => self.usual(position).unwrap_or(UNKNOWN),
        }
    }

    /// How long what stands at a position took last time, if that is known.
    pub fn usual(&self, position: Position) -> Option<Duration> {
        let key = match self.view.node(position) {
            Node::Set(_) => return None,
            Node::Step(step) => self.view.project.step_name(step).to_owned(),
            Node::Task(task) => task_key(self.view.task_name(task)),
        };
        let ledger = self.ledger.borrow();
        ledger.step(&key).map(StepView::took)
    }
}
