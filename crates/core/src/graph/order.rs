//! What goals reach, each node behind all that it waits for.

use std::ops::Index;
use std::ops::IndexMut;

use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;

use crate::graph::NodeId;
use crate::graph::declared;
use crate::graph::dependencies;
use crate::graph::node_count;
use crate::graph::number;
use crate::project::Project;

/// Where a node stands in an [`Order`].
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    FromBytes,
    IntoBytes,
    KnownLayout,
    Immutable,
)]
#[repr(transparent)]
pub struct Position(u32);

impl Position {
    /// The position with this index.
    #[must_use]
    pub fn at(index: usize) -> Self {
        Self(number(index))
    }

    /// The position as an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A value for each position of an order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PerPosition<T>(Vec<T>);

impl<T> Default for PerPosition<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T> PerPosition<T> {
    /// Works a value out for each position.
    pub fn from_fn(order: &Order, value: impl FnMut(Position) -> T) -> Self {
        Self(order.positions().map(value).collect())
    }

    /// All positions with their values, in order.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (Position, &T)> {
        self.0
            .iter()
            .enumerate()
            .map(|(index, value)| (Position::at(index), value))
    }

    /// The values alone, in order.
    pub fn values(&self) -> std::slice::Iter<'_, T> {
        self.0.iter()
    }

    /// The values alone, to be changed.
    pub fn values_mut(&mut self) -> std::slice::IterMut<'_, T> {
        self.0.iter_mut()
    }

    /// Adds the value of the next position.
    pub fn push(&mut self, value: T) {
        self.0.push(value);
    }
}

impl<T: Clone> PerPosition<T> {
    /// The same value for each position.
    #[must_use]
    pub fn filled(order: &Order, value: T) -> Self {
        Self(vec![value; order.nodes.len()])
    }
}

impl PerPosition<bool> {
    /// The positions that are true.
    pub fn set(&self) -> impl DoubleEndedIterator<Item = Position> {
        let set = self.iter().filter(|(_, is)| **is);
        set.map(|(position, _)| position)
    }
}

impl<T> FromIterator<T> for PerPosition<T> {
    fn from_iter<I: IntoIterator<Item = T>>(values: I) -> Self {
        Self(values.into_iter().collect())
    }
}

impl<T> Index<Position> for PerPosition<T> {
    type Output = T;
    fn index(&self, position: Position) -> &T {
        &self.0[position.index()]
    }
}

impl<T> IndexMut<Position> for PerPosition<T> {
    fn index_mut(&mut self, position: Position) -> &mut T {
        &mut self.0[position.index()]
    }
}

/// The nodes that a set of goals reaches, each behind all that it waits for, with their edges.
#[derive(Debug, Default)]
pub struct Order {
    /// Dependencies first.
    pub nodes: Vec<NodeId>,
    /// Where in `edges` the dependencies of `nodes[i]` begin; one more at the end.
    starts: Vec<u32>,
    /// Dependencies.
    edges: Vec<Position>,
}

impl Order {
    /// All positions, dependencies first.
    pub fn positions(&self) -> impl DoubleEndedIterator<Item = Position> + use<> {
        (0..self.nodes.len()).map(Position::at)
    }

    /// The node at a position.
    #[must_use]
    pub fn node(&self, position: Position) -> NodeId {
        self.nodes[position.index()]
    }

    /// What the node at a position waits for.
    #[must_use]
    pub fn waits_for(&self, position: Position) -> &[Position] {
        let index = position.index();
        &self.edges[self.starts[index] as usize..self.starts[index + 1] as usize]
    }

    /// Where each position's edges begin, and the edges.
    #[must_use]
    pub fn parts(&self) -> (&[u32], &[Position]) {
        (&self.starts, &self.edges)
    }

    /// The nodes with what [`Order::parts`] gave.
    #[must_use]
    pub fn from_parts(nodes: Vec<NodeId>, starts: Vec<u32>, edges: Vec<Position>) -> Self {
        Self {
            nodes,
            starts,
            edges,
        }
    }

    /// The positions that are `open` alone, with the edges among them.
    #[must_use]
    pub fn part(&self, open: &PerPosition<bool>) -> Self {
        let mut part = Self {
            starts: vec![0],
            ..Self::default()
        };
        let mut in_part = PerPosition::filled(self, Position::default());
        for position in open.set() {
            in_part[position] = Position::at(part.nodes.len());
            part.nodes.push(self.node(position));
            let edges = self
                .waits_for(position)
                .iter()
                .filter(|&&before| open[before])
                .map(|&before| in_part[before]);
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

/// A node whose dependencies are being put in order.
struct OpenNode {
    node: NodeId,
    /// Where its dependencies begin among those that are pending.
    start: usize,
    /// The next of them.
    next: usize,
}

fn order_by<'d>(
    project: &Project<'d>,
    goals: &[NodeId],
    dependencies: impl Fn(&Project<'d>, NodeId, &mut dyn FnMut(NodeId)),
) -> Result<Order, Cycle> {
    const NEW: Position = Position(u32::MAX);
    const OPEN: Position = Position(u32::MAX - 1);
    let mut position = vec![NEW; node_count(project)];
    let mut order = Order {
        starts: vec![0],
        ..Order::default()
    };
    let mut stack: Vec<OpenNode> = Vec::new();
    // The dependencies of a node stay below those of the one above it.
    let mut pending: Vec<NodeId> = Vec::new();
    let enter = |node: NodeId, stack: &mut Vec<OpenNode>, pending: &mut Vec<NodeId>| {
        let start = pending.len();
        let next = start;
        stack.push(OpenNode { node, start, next });
        dependencies(project, node, &mut |node| pending.push(node));
    };
    for &goal in goals {
        if position[goal.index()] != NEW {
            continue;
        }
        position[goal.index()] = OPEN;
        enter(goal, &mut stack, &mut pending);
        while let Some(frame) = stack.last_mut() {
            if frame.next < pending.len() {
                let dependency = pending[frame.next];
                frame.next += 1;
                match position[dependency.index()] {
                    NEW => {
                        position[dependency.index()] = OPEN;
                        enter(dependency, &mut stack, &mut pending);
                    }
                    OPEN => return Err(cycle(&stack, dependency)),
                    _ => {}
                }
                continue;
            }
            let (node, start) = (frame.node, frame.start);
            position[node.index()] = Position::at(order.nodes.len());
            order.nodes.push(node);
            let edges = pending.drain(start..);
            order
                .edges
                .extend(edges.map(|dependency| position[dependency.index()]));
            order.starts.push(number(order.edges.len()));
            stack.pop();
        }
    }
    Ok(order)
}

/// The nodes from the first that is `again` reached, to the last.
fn cycle(stack: &[OpenNode], again: NodeId) -> Cycle {
    let first = stack.iter().position(|frame| frame.node == again);
    let nodes = stack[first.unwrap_or(0)..].iter().map(|frame| frame.node);
    Cycle(nodes.collect())
}
