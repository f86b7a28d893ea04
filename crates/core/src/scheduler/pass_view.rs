//! What a pass works on, and does not change.

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::Position;
use crate::ledger::task_key;
use crate::project::Project;
use crate::project::TaskId;
use crate::project::values::Vars;
use crate::text::Span;

/// The project, and what of it a pass looks after.
#[derive(Clone, Copy)]
pub struct PassView<'p, 'd> {
    /// The project.
    pub project: &'p Project<'d>,
    /// Its variables.
    pub vars: &'p Vars<'d>,
    /// What has to be judged.
    pub order: &'p Order,
    /// All that the goals reach: what is judged, and what is known to be kept.
    pub whole: &'p Order,
}

impl PassView<'_, '_> {
    /// The number of the node at a position.
    pub fn id(&self, position: Position) -> NodeId {
        self.order.node(position)
    }

    /// What stands at a position.
    pub fn node(&self, position: Position) -> Node {
        self.id(position).node(self.project)
    }

    /// The name of what stands at a position.
    pub fn name(&self, position: Position) -> String {
        self.id(position).name(self.project)
    }

    /// A task's name.
    pub fn task_name(&self, task: TaskId) -> &str {
        &self.project.tasks[task.index()].name
    }

    /// Whether a task is only run when it has a reason to.
    pub fn is_remembered(&self, task: TaskId) -> bool {
        let clauses = &self.project.tasks[task.index()].decl.clauses;
        clauses.remember && clauses.recipe.is_some()
    }

    /// What a position is recorded under; none for tasks that are not remembered, and sets.
    pub fn recorded_under(&self, position: Position) -> Option<String> {
        match self.node(position) {
            Node::Step(step) => Some(self.project.step_name(step).to_owned()),
            Node::Task(task) if self.is_remembered(task) => Some(task_key(self.task_name(task))),
            Node::Task(_) | Node::Set(_) => None,
        }
    }

    /// The place of the line that describes what stands at a position.
    pub fn described(&self, position: Position) -> Span {
        match self.node(position) {
            Node::Step(step) => self.project.decl(self.project.step(step)).syntax.span,
            Node::Task(task) => self.project.tasks[task.index()].decl.syntax.span,
            Node::Set(_) => Span::default(),
        }
    }
}
