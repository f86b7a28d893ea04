//! Fleeting outputs: taken away when all that needs them is made, missed only by what has to run, and then made first.
//!
//! A step whose verdict is that it runs, and that needs what was taken away, is put off: the pass ends without it and
//! without what waits for it, and the next one makes first what is wanted.

use std::collections::HashMap;

use crate::content::State;
use crate::graph;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::language::Manner;
use crate::ledger::Ledger;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass::Pass;
use crate::scheduler::run_pass::PassPlan;
use crate::status::FileStates;
use crate::verdict::Reason;
use crate::world::quarantine;

impl Pass<'_, '_, '_, '_> {
    /// Lets what was taken away count as if it were there, but for what is wanted.
    pub(super) fn stand_in_for_fleeting(&mut self) {
        let wanted = &self.state.progress.wanted;
        let is_wanted = |step: &str| wanted.contains(step);
        self.judge
            .states
            .stand_in_for_fleeting(self.view.project, &is_wanted);
    }

    /// Whether a step or task that is to run needs what was taken away; that is wanted then.
    pub(super) fn is_postponed(&mut self, position: Position) -> bool {
        let project = self.view.project;
        let node = self.view.node(position);
        let needs = match node {
            Node::Step(step) => project.step_needs(project.step(step)),
            Node::Task(task) => &project.tasks[task.index()].needs,
            Node::Set(_) => return false,
        };
        let needs = project.open_needs(needs).map(|(_, path)| path);
        let mut missing: Vec<PathId> = needs
            .filter(|&path| self.judge.states.is_taken_away(path))
            .collect();
        if let Node::Step(step) = node {
            let makers = project.learned_makers(step);
            missing.extend(makers.flat_map(|maker| taken_away(project, &self.judge.states, maker)));
        }
        if missing.is_empty() {
            return false;
        }
        while let Some(path) = missing.pop() {
            let Some(maker) = project.maker(path) else {
                continue;
            };
            if self
                .state
                .progress
                .wanted
                .insert(project.step_name(maker).to_owned())
            {
                // What it is made from may have been taken away as well.
                let needs = project.open_needs(project.step_needs(project.step(maker)));
                let needs = needs.map(|(_, path)| path);
                missing.extend(needs.filter(|&path| self.judge.states.is_taken_away(path)));
            }
        }
        self.nodes[position].postponed = true;
        true
    }

    /// Whether a step that has a reason to run is to be left as it is.
    pub(super) fn is_guarded(&self, position: Position, reasons: &[Reason]) -> bool {
        let project = self.view.project;
        let Node::Step(step) = self.view.node(position) else {
            return false;
        };
        let clauses = &project.decl(project.step(step)).clauses;
        let is_asked = reasons.iter().any(|reason| reason.kind.is_for_guarded());
        let mut outputs = project.step_outputs(project.step(step)).iter();
        clauses.has(Manner::Guarded)
            && !is_asked
            && outputs.all(|&(_, path)| *self.judge.states.get(path) != State::Missing)
    }
}

/// The outputs of a step that were taken away.
fn taken_away<'p>(
    project: &'p Project<'_>,
    states: &'p FileStates<'_>,
    step: StepId,
) -> impl Iterator<Item = PathId> + 'p {
    let outputs = project.step_outputs(project.step(step)).iter();
    outputs
        .map(|&(_, path)| path)
        .filter(|&path| states.is_taken_away(path))
}

/// Takes away what fleeting steps made and all that needs it is made from; `good` says which positions of the plan's
/// order are up to date. What was asked for by name stays.
pub fn take_away(
    state: &mut BuildState<'_>,
    project: &Project<'_>,
    plan: &PassPlan,
    good: &PerPosition<bool>,
) -> Result<(), BuildError> {
    let fleeting = |step: StepId| {
        let decl = project.decls.read_already(project.step(step).decl as usize);
        decl.is_some_and(|decl| decl.clauses.has(Manner::Fleeting))
    };
    let mut steps: Vec<StepId> = Vec::new();
    for position in plan.order.positions() {
        if let Node::Step(step) = plan.order.node(position).node(project)
            && fleeting(step)
            && good[position]
            && !plan.goals.contains(&NodeId::step(step))
        {
            steps.push(step);
        }
    }
    if steps.is_empty() {
        return Ok(());
    }
    let positions: HashMap<NodeId, Position> = plan
        .order
        .positions()
        .map(|position| (plan.order.node(position), position))
        .collect();
    let led_to = led_to(state, project, &plan.order);
    for (step, users) in steps.iter().zip(users_of(project, &steps)) {
        let ledger = state.context.ledger.borrow();
        let all_made = users.iter().all(|user| match positions.get(user) {
            Some(&position) => good[position],
            None => is_made_with(project, &ledger, *user, *step),
        });
        drop(ledger);
        // What was only asked for by name in an earlier run stays until something is made with it.
        let is_used = positions
            .get(&NodeId::step(*step))
            .is_some_and(|&position| led_to[position]);
        if users.is_empty() || !all_made || !is_used {
            continue;
        }
        for &(_, path) in project.step_outputs(project.step(*step)) {
            remove(state, project.paths.get(path))?;
        }
    }
    Ok(())
}

/// For each position whether something ran in this build that it leads to, or it itself.
fn led_to(state: &BuildState<'_>, project: &Project<'_>, order: &Order) -> PerPosition<bool> {
    let mut led = PerPosition::from_fn(order, |position| {
        has_run(state, project, order.node(position))
    });
    for position in order.positions().rev() {
        if led[position] {
            for &before in order.waits_for(position) {
                led[before] = true;
            }
        }
    }
    led
}

/// Whether a node ran in this build.
fn has_run(state: &BuildState<'_>, project: &Project<'_>, node: NodeId) -> bool {
    let ending = state.progress.ending(&node.name(project));
    ending.is_some_and(|ending| ending.is_good() && ending != Ending::Kept)
}

/// For each step the steps and tasks that wait for it, sets opened.
fn users_of(project: &Project<'_>, steps: &[StepId]) -> Vec<Vec<NodeId>> {
    let mut users = vec![Vec::new(); steps.len()];
    let count = graph::node_count(project);
    let nodes = (0..count).map(|index| NodeId(u32::try_from(index).unwrap_or(u32::MAX)));
    let makes = |node: NodeId| match node.node(project) {
        Node::Step(step) => steps.iter().position(|known| *known == step),
        _ => None,
    };
    for node in nodes.filter(|node| !matches!(node.node(project), Node::Set(_))) {
        let mut found: Vec<usize> = Vec::new();
        graph::dependencies(project, node, &mut |needed| match needed.node(project) {
            Node::Set(_) => {
                graph::dependencies(project, needed, &mut |inside| found.extend(makes(inside)));
            }
            _ => found.extend(makes(needed)),
        });
        for at in found {
            if users[at].last() != Some(&node) {
                users[at].push(node);
            }
        }
    }
    users
}

/// Whether a step that this build did not look at was made with what another made last. A task that nobody runs now
/// is nobody's user.
fn is_made_with(project: &Project<'_>, ledger: &Ledger, user: NodeId, step: StepId) -> bool {
    let Node::Step(user) = user.node(project) else {
        return true;
    };
    let (Some(user), Some(made)) = (
        ledger.step(project.step_name(user)),
        ledger.step(project.step_name(step)),
    ) else {
        return false;
    };
    made.outputs().all(|output| {
        let mut seen = user
            .needs()
            .chain(user.learned())
            .filter(|need| need.path == output.path);
        seen.all(|need| need.digest == output.digest)
    })
}

fn remove(state: &mut BuildState<'_>, path: &str) -> Result<(), BuildError> {
    let mut states = FileStates::new(
        state.context.disk,
        state.context.clock,
        state.context.ledger,
    );
    let is_own = {
        let now = states.look(path);
        let ledger = state.context.ledger.borrow();
        let made = ledger.maker(path).and_then(|maker| ledger.step(maker));
        let made = made.and_then(|made| made.outputs().find(|output| output.path == path));
        made.is_some_and(|made| crate::verdict::is_as_left(&made, &now))
    };
    if !is_own {
        return Ok(());
    }
    quarantine::remove(state.context.disk, path)
        .map_err(|error| BuildError::io(format!("can't take `{path}` away"), error))?;
    let path = path.to_owned();
    state.events.tell(Event::TakenAway { path });
    Ok(())
}
