//! The graph: which node waits for which, in what order, and where it goes round in circles.
//!
//! Nodes are steps, tasks and sets. A set that many steps need is a node of its own, so that a
//! thousand steps that each need a thousand files are two thousand edges and not a million.

mod goals;
mod learned;
pub mod request;

pub use goals::Goals;
pub use goals::default_goals;
pub use goals::resolve;
pub use learned::Undeclared;
pub use learned::undeclared;
pub use request::BuildRequest;
pub use request::goals;

use crate::project::PathId;
use crate::project::Project;
use crate::project::SetId;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::What;
use crate::text::Diagnostic;
use crate::text::Span;

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
            Node::Task(task) => project.tasks[task.index()].decl.name.clone(),
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
                what(project, need.what, found);
            }
        }
        Node::Task(task) => {
            let task = &project.tasks[task.index()];
            let needs = task.needs.iter().map(|need| need.what);
            for needed in needs.chain(task.after.iter().copied()) {
                what(project, needed, found);
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

fn what(project: &Project<'_>, what: What, found: &mut dyn FnMut(NodeId)) {
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

/// The nodes that a set of goals reaches, each behind all that it waits for, with their edges.
#[derive(Debug, Default)]
pub struct Order {
    /// Dependencies first.
    pub nodes: Vec<NodeId>,
    /// Where in `edges` the dependencies of `nodes[i]` begin; one more at the end.
    starts: Vec<u32>,
    /// Dependencies, as positions in `nodes`.
    edges: Vec<u32>,
}

impl Order {
    /// What the node at a position waits for, as positions.
    #[must_use]
    pub fn waits_for(&self, position: usize) -> &[u32] {
        &self.edges[self.starts[position] as usize..self.starts[position + 1] as usize]
    }

    /// Where each position's edges begin, and the edges.
    #[must_use]
    pub fn parts(&self) -> (&[u32], &[u32]) {
        (&self.starts, &self.edges)
    }

    /// The nodes with what [`Order::parts`] gave.
    #[must_use]
    pub fn from_parts(nodes: Vec<NodeId>, starts: Vec<u32>, edges: Vec<u32>) -> Self {
        Self {
            nodes,
            starts,
            edges,
        }
    }

    /// The positions that are `open` alone, with the edges among them.
    #[must_use]
    pub fn part(&self, open: &[bool]) -> Self {
        let mut part = Self {
            starts: vec![0],
            ..Self::default()
        };
        let mut position_in_part = vec![0; self.nodes.len()];
        for position in (0..self.nodes.len()).filter(|&position| open[position]) {
            position_in_part[position] = number(part.nodes.len());
            part.nodes.push(self.nodes[position]);
            let edges = self
                .waits_for(position)
                .iter()
                .filter(|&&before| open[before as usize])
                .map(|&before| position_in_part[before as usize]);
            part.edges.extend(edges);
            part.starts.push(number(part.edges.len()));
        }
        part
    }
}

/// A circle: each node waits for the next, and the last for the first.
#[derive(Debug, PartialEq, Eq)]
pub struct Cycle(pub Vec<NodeId>);

/// Puts all that `goals` reach in order.
///
/// # Errors
/// The circle that makes it impossible.
pub fn order(project: &Project<'_>, goals: &[NodeId]) -> Result<Order, Cycle> {
    order_by(project, goals, dependencies)
}

/// The same by what the description says alone.
///
/// # Errors
/// The circle that makes it impossible.
pub fn declared_order(project: &Project<'_>, goals: &[NodeId]) -> Result<Order, Cycle> {
    order_by(project, goals, declared)
}

fn order_by<'d>(
    project: &Project<'d>,
    goals: &[NodeId],
    dependencies: impl Fn(&Project<'d>, NodeId, &mut dyn FnMut(NodeId)),
) -> Result<Order, Cycle> {
    const NEW: u32 = u32::MAX;
    const OPEN: u32 = u32::MAX - 1;
    let mut position = vec![NEW; node_count(project)];
    let mut order = Order {
        starts: vec![0],
        ..Order::default()
    };
    // Each frame: a node, where its dependencies begin in `pending`, and the next of them.
    let mut stack: Vec<(NodeId, usize, usize)> = Vec::new();
    let mut pending: Vec<NodeId> = Vec::new();
    for &goal in goals {
        if position[goal.index()] != NEW {
            continue;
        }
        position[goal.index()] = OPEN;
        stack.push((goal, pending.len(), pending.len()));
        dependencies(project, goal, &mut |node| pending.push(node));
        while let Some(&mut (node, start, ref mut next)) = stack.last_mut() {
            if *next < pending.len() {
                let dependency = pending[*next];
                *next += 1;
                match position[dependency.index()] {
                    NEW => {
                        position[dependency.index()] = OPEN;
                        let at = pending.len();
                        // The dependencies of this node stay below those of the one above it.
                        stack.push((dependency, at, at));
                        dependencies(project, dependency, &mut |node| pending.push(node));
                    }
                    OPEN => {
                        let first = stack
                            .iter()
                            .position(|frame| frame.0 == dependency)
                            .unwrap_or(0);
                        return Err(Cycle(stack[first..].iter().map(|frame| frame.0).collect()));
                    }
                    _ => {}
                }
                continue;
            }
            position[node.index()] = number(order.nodes.len());
            order.nodes.push(node);
            let edges = pending
                .drain(start..)
                .map(|dependency| position[dependency.index()]);
            order.edges.extend(edges);
            order.starts.push(number(order.edges.len()));
            stack.pop();
        }
    }
    Ok(order)
}

/// A circle as a message: a path through it, with the line of each edge.
#[must_use]
pub fn describe_cycle(project: &Project<'_>, cycle: &Cycle) -> Diagnostic {
    let named: Vec<NodeId> = cycle
        .0
        .iter()
        .copied()
        .filter(|id| !matches!(id.node(project), Node::Set(_)))
        .collect();
    let mut path: Vec<String> = named
        .iter()
        .map(|id| format!("`{}`", id.name(project)))
        .collect();
    path.extend(path.first().cloned());
    let shown = if path.len() > 12 {
        format!(
            "{} → … → {}",
            path[..6].join(" → "),
            path[path.len() - 5..].join(" → ")
        )
    } else {
        path.join(" → ")
    };
    let mut places: Vec<(Span, String)> = Vec::new();
    for (at, &id) in named.iter().enumerate() {
        let next = named[(at + 1) % named.len()];
        let span = edge_span(project, id, next);
        let how = if only_learned(project, id, next) {
            "read, when it last ran, what is made by"
        } else {
            "needs"
        };
        let text = format!("`{}` {how} `{}`", id.name(project), next.name(project));
        if !places.iter().any(|(known, _)| *known == span) && places.len() < 12 {
            places.push((span, text));
        }
    }
    let mut places = places.into_iter();
    let (span, text) = places.next().unwrap_or_default();
    let title = match named.len() {
        1 => format!("{} needs itself", path[0]),
        _ => format!("these need each other in a circle: {shown}"),
    };
    let mut diagnostic = Diagnostic::error(span, title)
        .here(text)
        .help("take one of these needs away, or split the target that is made too early");
    for (span, text) in places {
        diagnostic = diagnostic.also(span, text);
    }
    diagnostic
}

/// Whether a node waits for another only since it learned of something that it makes.
fn only_learned(project: &Project<'_>, from: NodeId, to: NodeId) -> bool {
    let mut says = false;
    declared(project, from, &mut |node| {
        says |= node == to;
        if let Node::Set(_) = node.node(project) {
            declared(project, node, &mut |inner| says |= inner == to);
        }
    });
    let (Node::Step(from), Node::Step(to)) = (from.node(project), to.node(project)) else {
        return false;
    };
    !says && project.learned_makers(from).any(|maker| maker == to)
}

/// The place of the words by which one node waits for another.
fn edge_span(project: &Project<'_>, from: NodeId, to: NodeId) -> Span {
    let leads = |needed: What| {
        let mut hit = false;
        what(project, needed, &mut |node| {
            hit |= node == to;
            if let Node::Set(_) = node.node(project) {
                dependencies(project, node, &mut |inner| hit |= inner == to);
            }
        });
        hit
    };
    match from.node(project) {
        Node::Step(step) => {
            let decl = project.decl(project.step(step));
            let needs = project.step_needs(project.step(step));
            let group = needs
                .iter()
                .find(|need| leads(need.what))
                .map(|need| need.group as usize);
            group
                .and_then(|group| decl.clauses.needs.get(group))
                .and_then(|group| {
                    Some(
                        group
                            .items
                            .first()?
                            .word
                            .span
                            .to(group.items.last()?.word.span),
                    )
                })
                .or_else(|| decl.clauses.after.first().map(|word| word.span))
                .unwrap_or(decl.syntax.span)
        }
        Node::Task(task) => project.tasks[task.index()].decl.syntax.span,
        Node::Set(_) => Span::default(),
    }
}
