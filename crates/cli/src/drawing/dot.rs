//! A picture in the DOT language, for programs that draw graphs.
//!
//! The language is described at <https://graphviz.org/doc/info/lang.html>: names in double quotes, in which
//! a quote is written `\"` and a backslash stands for itself unless it begins an escape.

use std::fmt::Write;

use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewEdge;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewNode;
use handloom_core::graph_view::ViewState;

use crate::drawing::note;

/// The picture's text.
pub fn write(view: &GraphView) -> String {
    let mut out =
        String::from("digraph project {\n  rankdir=LR;\n  node [fontname=\"monospace\"];\n");
    for (id, node) in view.nodes.iter().enumerate() {
        let note = note(node);
        let label = if note.is_empty() {
            escaped(&node.name)
        } else {
            format!("{}\\n{}", escaped(&node.name), escaped(&note))
        };
        let _ = writeln!(out, "  n{id} [label=\"{label}\"{}];", look(node));
    }
    for &(from, to, edge) in &view.edges {
        let look = match edge {
            ViewEdge::Needs => "",
            ViewEdge::After => " [style=dotted]",
            ViewEdge::Learned => " [style=dashed]",
        };
        let _ = writeln!(out, "  n{from} -> n{to}{look};");
    }
    out.push_str("}\n");
    out
}

/// Shapes tell states apart without colour.
fn look(node: &ViewNode) -> &'static str {
    match (node.kind, node.state) {
        (ViewKind::Source, ViewState::Missing) => ", shape=underline, style=dashed",
        (ViewKind::Source, _) => ", shape=underline",
        (ViewKind::Set, _) => ", shape=ellipse",
        (ViewKind::Task, ViewState::Failed) | (ViewKind::Step, ViewState::Failed) => {
            ", shape=octagon, style=bold"
        }
        (ViewKind::Task, _) => ", shape=box, style=rounded",
        (ViewKind::Step, ViewState::Run) => ", shape=cds",
        (ViewKind::Step, ViewState::Maybe) => ", shape=box, style=dashed",
        (ViewKind::Step, _) => ", shape=box",
    }
}

fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => out.extend(c.escape_default()),
            c => out.push(c),
        }
    }
    out
}
