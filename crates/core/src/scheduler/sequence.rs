//! What was asked, as goals, and cut into phases: each item of a task's `steps` in one of its own.

use std::collections::HashSet;

use crate::graph;
use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::project::Project;
use crate::project::TaskId;
use crate::project::What;
use crate::project::pattern::is_pattern;
use crate::project::task_call::needs_value;
use crate::project::values::Vars;
use crate::scheduler::options::BuildError;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// A goal by name, since numbers change when the project is worked out anew.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Goal {
    Step(String),
    Task(String),
}

impl Goal {
    /// Its name.
    pub fn name(&self) -> &str {
        match self {
            Self::Step(name) | Self::Task(name) => name,
        }
    }
}

/// Goals that are brought up to date together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Phase {
    pub goals: Vec<Goal>,
    /// The number of the task's `steps` that it belongs to, and of which nothing is begun after a failure;
    /// none for what was asked for.
    pub sequence: Option<usize>,
}

impl Phase {
    /// All that was asked for, when its goals are known elsewhere.
    pub fn whole() -> Self {
        Self {
            goals: Vec::new(),
            sequence: None,
        }
    }
}

/// The node of a goal.
pub fn find(project: &Project<'_>, goal: &Goal) -> Option<NodeId> {
    match goal {
        Goal::Step(name) => {
            let path = project.paths.find(name)?;
            project.maker(path).map(NodeId::step)
        }
        Goal::Task(name) => project
            .task_named(name)
            .map(|task| NodeId::task(project, task)),
    }
}

fn goal(project: &Project<'_>, id: NodeId) -> Option<Goal> {
    match id.node(project) {
        Node::Step(step) => Some(Goal::Step(project.step_name(step).to_owned())),
        Node::Task(task) => Some(Goal::Task(project.tasks[task.index()].name.clone())),
        Node::Set(_) => None,
    }
}

/// Whole folders that sets in this order look into and that are not known to be up to date.
pub fn unmaterialized_trees(
    project: &Project<'_>,
    order: &graph::Order,
    materialized: &HashSet<String>,
) -> Vec<crate::project::PathId> {
    let mut trees = Vec::new();
    let mut any_set = false;
    for id in &order.nodes {
        if let Node::Set(set) = id.node(project) {
            any_set = true;
            for &tree in &project.sets[set.index()].trees {
                if !materialized.contains(project.paths.get(tree)) && !trees.contains(&tree) {
                    trees.push(tree);
                }
            }
        }
    }
    if any_set {
        for &tree in &project.unmaterialized {
            if !trees.contains(&tree) {
                trees.push(tree);
            }
        }
    }
    trees
}

fn needs_unmaterialized(project: &Project<'_>, id: NodeId) -> bool {
    matches!(id.node(project), Node::Set(set) if !project.sets[set.index()].materialized)
}

pub fn reaches_unmaterialized(project: &Project<'_>, goal: NodeId) -> bool {
    graph::order(project, &[goal]).is_ok_and(|order| {
        order
            .nodes
            .iter()
            .any(|&id| needs_unmaterialized(project, id))
    })
}

/// Cuts goals into phases: each item of a task's `steps` in a phase of its own.
pub fn cut<'d>(
    project: &Project<'d>,
    vars: &Vars<'d>,
    goals: &[NodeId],
) -> Result<Vec<Phase>, Box<Diagnostic>> {
    let mut cutter = Cutter {
        project,
        vars,
        phases: Vec::new(),
        open: Vec::new(),
        done: HashSet::new(),
        sequences: 0,
    };
    cutter.visit(goals)?;
    cutter.push(goals.iter().copied(), None);
    Ok(cutter.phases)
}

struct Cutter<'p, 'd> {
    project: &'p Project<'d>,
    vars: &'p Vars<'d>,
    phases: Vec<Phase>,
    open: Vec<NodeId>,
    done: HashSet<NodeId>,
    /// How many tasks with `steps` were cut.
    sequences: usize,
}

impl Cutter<'_, '_> {
    fn push(&mut self, nodes: impl Iterator<Item = NodeId>, sequence: Option<usize>) {
        let goals: Vec<Goal> = nodes.filter_map(|id| goal(self.project, id)).collect();
        if !goals.is_empty() {
            self.phases.push(Phase { goals, sequence });
        }
    }

    /// Puts the phases of all tasks with `steps` that nodes reach in front.
    fn visit(&mut self, ids: &[NodeId]) -> Result<(), Box<Diagnostic>> {
        if self.project.tasks.is_empty() {
            return Ok(());
        }
        let order = match graph::order(self.project, ids) {
            Ok(order) => order,
            Err(cycle) => return Err(Box::new(graph::describe_cycle(self.project, &cycle))),
        };
        for id in order.nodes {
            if let Node::Task(task) = id.node(self.project) {
                self.check_values(task)?;
            }
            if let Node::Task(task) = id.node(self.project)
                && !self.project.tasks[task.index()].steps.is_empty()
                && !self.done.contains(&id)
            {
                self.sequence(id)?;
            }
        }
        Ok(())
    }

    /// A task that is to run has a value for each parameter that must be given.
    fn check_values(&self, task: TaskId) -> Result<(), Box<Diagnostic>> {
        let node = &self.project.tasks[task.index()];
        match node.call.missing(&node.decl).first() {
            None => Ok(()),
            Some(missing) => Err(Box::new(needs_value(self.vars, &node.decl, missing))),
        }
    }

    fn sequence(&mut self, id: NodeId) -> Result<(), Box<Diagnostic>> {
        let Node::Task(task) = id.node(self.project) else {
            return Ok(());
        };
        let node = &self.project.tasks[task.index()];
        if self.open.contains(&id) {
            return Err(Box::new(
                Diagnostic::error(
                    &mistakes::STEPS_IN_A_CIRCLE,
                    node.decl.syntax.span,
                    format!("the steps of `{}` lead back to itself", node.name),
                )
                .help("take one of these steps away"),
            ));
        }
        self.open.push(id);
        self.sequences += 1;
        let sequence = Some(self.sequences);
        let mut needs = Vec::new();
        graph::dependencies(self.project, id, &mut |needed| needs.push(needed));
        self.push(needs.into_iter(), sequence);
        for &what in &node.steps {
            let items = self.nodes(what);
            self.visit(&items)?;
            self.push(items.into_iter(), sequence);
        }
        self.push(std::iter::once(id), sequence);
        self.open.pop();
        self.done.insert(id);
        Ok(())
    }

    fn nodes(&self, what: What) -> Vec<NodeId> {
        let mut nodes = Vec::new();
        let mut path = |path| nodes.extend(self.project.maker(path).map(NodeId::step));
        match what {
            What::Task(task) => nodes.push(NodeId::task(self.project, task)),
            What::Path(one) => path(one),
            What::Set(set) => self.project.sets[set.index()]
                .paths
                .iter()
                .for_each(|&one| path(one)),
        }
        nodes
    }
}

/// What was asked for, cut into phases; `None` when whole folders have to be made first to know what that is.
pub fn phases<'d>(
    project: &Project<'d>,
    vars: &Vars<'d>,
    request: &BuildRequest,
) -> Result<Option<Vec<Phase>>, BuildError> {
    let names = &request.names;
    let unclear = names.is_empty() || names.iter().any(|name| is_pattern(name));
    let found = graph::goals(project, request);
    if !project.unmaterialized.is_empty() && (unclear || !found.unknown.is_empty()) {
        return Ok(None);
    }
    if !found.unknown.is_empty() {
        return Err(BuildError::Description(found.unknown));
    }
    cut(project, vars, &found.nodes)
        .map(Some)
        .map_err(|wrong| BuildError::Description(vec![*wrong]))
}
