//! What steps learned of and others make: edges like those that are declared, as long as it lasts.
//!
//! Nobody wrote them down, so the first run only has them by luck; each run says so until the order is
//! declared.

use std::collections::HashMap;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::declared;
use crate::project::Project;
use crate::project::StepId;

/// A step that read what another makes, and does not say so.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Undeclared {
    /// The step that read it.
    pub step: StepId,
    /// The step that makes it.
    pub maker: StepId,
}

/// Of the learned edges in an order those that the description does not have, directly or through others.
///
/// Makers are taken 64 at a time: one pass over the order tells each node which of them it reaches.
#[must_use]
pub fn undeclared(project: &Project<'_>, order: &Order) -> Vec<Undeclared> {
    let mut open: Vec<Undeclared> = Vec::new();
    for id in &order.nodes {
        let Node::Step(step) = id.node(project) else {
            continue;
        };
        for maker in project.learned_makers(step) {
            let mut direct = false;
            declared(project, *id, &mut |node| {
                direct |= node == NodeId::step(maker);
            });
            if !direct {
                open.push(Undeclared { step, maker });
            }
        }
    }
    if open.is_empty() {
        return open;
    }
    let position: HashMap<NodeId, usize> = order
        .nodes
        .iter()
        .enumerate()
        .map(|(at, &id)| (id, at))
        .collect();
    let mut makers: Vec<StepId> = open.iter().map(|edge| edge.maker).collect();
    makers.sort_unstable();
    makers.dedup();
    let mut found = Vec::new();
    for some in makers.chunks(64) {
        let reached = reached(project, order, &position, some);
        for edge in &open {
            let bit = some.iter().position(|maker| *maker == edge.maker);
            let at = position.get(&NodeId::step(edge.step));
            if let (Some(bit), Some(&at)) = (bit, at)
                && reached[at] & (1 << bit) == 0
            {
                found.push(*edge);
            }
        }
    }
    found.sort_unstable();
    found
}

/// For each position which of at most 64 makers it waits for, as the description has it.
fn reached(
    project: &Project<'_>,
    order: &Order,
    position: &HashMap<NodeId, usize>,
    makers: &[StepId],
) -> Vec<u64> {
    let mut reached = vec![0u64; order.nodes.len()];
    for (at, &id) in order.nodes.iter().enumerate() {
        let mut mask = 0;
        declared(project, id, &mut |before| {
            if let Some(&before) = position.get(&before) {
                mask |= reached[before];
            }
            if let Node::Step(step) = before.node(project)
                && let Some(bit) = makers.iter().position(|maker| *maker == step)
            {
                mask |= 1 << bit;
            }
        });
        reached[at] = mask;
    }
    reached
}
