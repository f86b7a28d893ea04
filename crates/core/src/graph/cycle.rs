//! A circle of nodes that need each other, as a message.

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::declared;
use crate::graph::dependencies;
use crate::graph::needed;
use crate::graph::node_count;
use crate::graph::order;
use crate::graph::order::Cycle;
use crate::project::Project;
use crate::project::What;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// A circle among all that a project describes, as a message; none when there is none.
#[must_use]
pub fn find_cycle(project: &Project<'_>) -> Option<Diagnostic> {
    let all = (0..node_count(project)).filter_map(|index| u32::try_from(index).ok());
    let all: Vec<NodeId> = all.map(NodeId).collect();
    let cycle = order(project, &all).err()?;
    Some(describe_cycle(project, &cycle))
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
    let mut diagnostic = Diagnostic::error(&mistakes::NEEDS_IN_A_CIRCLE, span, title)
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
    let leads = |what: What| {
        let mut hit = false;
        needed(project, what, &mut |node| {
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
