//! The graph: which node waits for which, in what order, and where it goes round in circles.
//!
//! Nodes are steps, tasks and sets. A set that many steps need is a node of its own, so that a
//! thousand steps that each need a thousand files are two thousand edges and not a million.

mod cycle;
mod goals;
mod learned;
mod order;
pub mod request;

pub use cycle::describe_cycle;
pub use cycle::find_cycle;
pub use goals::Goals;
pub use goals::default_goals;
pub use goals::resolve;
pub use goals::with_steps;
pub use learned::Undeclared;
pub use learned::undeclared;
pub use order::Cycle;
pub use order::Order;
pub use order::PerPosition;
pub use order::Position;
pub use order::declared_order;
pub use order::order;
pub use request::BuildRequest;
pub use request::goals;

use crate::project::PathId;
use crate::project::Project;
use crate::project::SetId;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::What;

/// A node's number: steps first, then tasks, then sets.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(pub u32);

/// What a node is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Node {
    /// A step.
    Step(StepId),
    /// A task.
    Task(TaskId),
    /// A set of paths: done when all their makers are.
    Set(SetId),
}

impl NodeId {
    /// The number as an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }

    /// A step's number.
    #[must_use]
    pub fn step(step: StepId) -> Self {
        Self(step.0)
    }

    /// A task's number.
    #[must_use]
    pub fn task(project: &Project<'_>, task: TaskId) -> Self {
        Self(number(project.steps.len()) + task.0)
    }

    /// A set's number.
    #[must_use]
    pub fn set(project: &Project<'_>, set: SetId) -> Self {
        Self(number(project.steps.len() + project.tasks.len()) + set.0)
    }

    /// What it is.
    #[must_use]
    pub fn node(self, project: &Project<'_>) -> Node {
        let (steps, tasks) = (number(project.steps.len()), number(project.tasks.len()));
        if self.0 < steps {
            Node::Step(StepId(self.0))
        } else if self.0 < steps + tasks {
            Node::Task(TaskId(self.0 - steps))
        } else {
            Node::Set(SetId(self.0 - steps - tasks))
        }
    }

    /// How a user would name it.
    #[must_use]
    pub fn name(self, project: &Project<'_>) -> String {
        match self.node(project) {
            Node::Step(step) => project.step_name(step).to_owned(),
            Node::Task(task) => project.tasks[task.index()].name.clone(),
            Node::Set(_) => "a set of files".to_owned(),
        }
    }
}

fn number(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

/// How many nodes a project has.
#[must_use]
pub fn node_count(project: &Project<'_>) -> usize {
    project.steps.len() + project.tasks.len() + project.sets.len()
}

/// Calls `found` for every node that a node waits for; some may come twice.
pub fn dependencies(project: &Project<'_>, id: NodeId, found: &mut dyn FnMut(NodeId)) {
    declared(project, id, found);
    if !project.learned.is_empty()
        && let Node::Step(step) = id.node(project)
    {
        project
            .learned_makers(step)
            .for_each(|maker| found(NodeId::step(maker)));
    }
}

/// The same for what the description says alone, without what steps learned of.
pub fn declared(project: &Project<'_>, id: NodeId, found: &mut dyn FnMut(NodeId)) {
    match id.node(project) {
        Node::Step(step) => {
            let step = project.step(step);
            for need in step
                .needs
                .of(&project.needs)
                .iter()
                .chain(step.after.of(&project.needs))
            {
                needed(project, need.what, found);
            }
        }
        Node::Task(task) => {
            let task = &project.tasks[task.index()];
            let needs = task.needs.iter().map(|need| need.what);
            for what in needs.chain(task.after.iter().copied()) {
                needed(project, what, found);
            }
        }
        Node::Set(set) => {
            let set = &project.sets[set.index()];
            for &path in set.paths.iter().chain(&set.trees) {
                maker(project, path, found);
            }
        }
    }
}

/// Calls `found` for every node that makes something of what is needed.
fn needed(project: &Project<'_>, what: What, found: &mut dyn FnMut(NodeId)) {
    match what {
        What::Task(task) => found(NodeId::task(project, task)),
        What::Set(set) => found(NodeId::set(project, set)),
        What::Path(path) => {
            maker(project, path, found);
            let name = project.paths.get(path);
            if name.ends_with('/') {
                for inside in project.outputs_in(if name == "./" { "" } else { name }) {
                    maker(project, inside, found);
                }
            }
        }
    }
}

fn maker(project: &Project<'_>, path: PathId, found: &mut dyn FnMut(NodeId)) {
    if let Some(step) = project.maker(path) {
        found(NodeId::step(step));
    }
}
