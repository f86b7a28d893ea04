//! A picture as a Mermaid flow chart, for pages that draw them.
//!
//! Labels stand in double quotes; a quote and other characters of the language are written as entities:
//! `#quot;` and `#` with the character's number and `;`, as <https://mermaid.js.org/syntax/flowchart.html>
//! says.

use std::fmt::Write;

use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewEdge;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewNode;
use handloom_core::graph_view::ViewState;

use crate::drawing::note;

/// The picture's text.
pub fn write(view: &GraphView) -> String {
    let mut out = String::from("flowchart LR\n");
    for (id, node) in view.nodes.iter().enumerate() {
        let note = note(node);
        let mut label = escaped(&node.name);
        if !note.is_empty() {
            let _ = write!(label, "<br/>{}", escaped(&note));
        }
        let (open, close) = shape(node);
        let _ = writeln!(out, "  n{id}{open}\"{label}\"{close}");
    }
    for &(from, to, edge) in &view.edges {
        let arrow = match edge {
            ViewEdge::Needs => "-->",
            ViewEdge::After | ViewEdge::Learned => "-.->",
        };
        let _ = writeln!(out, "  n{from} {arrow} n{to}");
    }
    out
}

/// Shapes tell states apart without colour.
fn shape(node: &ViewNode) -> (&'static str, &'static str) {
    match (node.kind, node.state) {
        (ViewKind::Source, _) => ("[/", "/]"),
        (ViewKind::Set, _) => ("((", "))"),
        (_, ViewState::Failed) => ("{{", "}}"),
        (ViewKind::Task, _) => ("([", "])"),
        (ViewKind::Step, ViewState::Run) => (">", "]"),
        (ViewKind::Step, ViewState::Maybe) => ("[[", "]]"),
        (ViewKind::Step, _) => ("[", "]"),
    }
}

fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '"' => out.push_str("#quot;"),
            '#' | '<' | '>' | '&' | ';' | '`' | '\\' => {
                let _ = write!(out, "#{};", u32::from(c));
            }
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}
