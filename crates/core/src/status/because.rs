//! A prediction in a few words.

use crate::graph::Node;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::project::Project;
use crate::status::Prediction;

/// The first reason in a few words, or what it hangs on.
#[must_use]
pub fn because(
    project: &Project<'_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
    prediction: &Prediction,
) -> String {
    if let Some(reason) = prediction.reasons.first() {
        let more = match prediction.reasons.len() {
            1 => String::new(),
            count => format!(" (and {} more)", count - 1),
        };
        return format!("{}{more}", reason.brief());
    }
    if matches!(prediction.node.node(project), Node::Task(_)) {
        return "a task runs each time".to_owned();
    }
    let open = open_steps(project, order, predictions, prediction);
    match &open[..] {
        [] => String::new(),
        [one] => format!("if {} changes", order.node(*one).name(project)),
        [first, rest @ ..] => format!(
            "if {} or {} more change",
            order.node(*first).name(project),
            rest.len()
        ),
    }
}

/// The steps that a prediction hangs on, sets opened.
#[must_use]
pub fn open_steps(
    project: &Project<'_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
    prediction: &Prediction,
) -> Vec<Position> {
    let mut steps = Vec::new();
    for &before in &prediction.open {
        match order.node(before).node(project) {
            Node::Set(_) => steps.extend(&predictions[before].open),
            _ => steps.push(before),
        }
    }
    steps.sort_unstable();
    steps.dedup();
    steps
}
