//! A picture in the DOT language, for programs that draw graphs.
//!
//! The language is described at <https://graphviz.org/doc/info/lang.html>: names in double quotes, in which
//! a quote is written `\"` and a backslash stands for itself unless it begins an escape.

use std::fmt::Write;

use handloom_core::graph_view::Kind;
use handloom_core::graph_view::Knot;
use handloom_core::graph_view::Picture;
use handloom_core::graph_view::State;
use handloom_core::graph_view::Tie;

use crate::drawing::note;

/// The picture's text.
pub fn write(picture: &Picture) -> String {
    let mut out =
        String::from("digraph project {\n  rankdir=LR;\n  node [fontname=\"monospace\"];\n");
    for (id, knot) in picture.knots.iter().enumerate() {
        let note = note(knot);
        let label = if note.is_empty() {
            escaped(&knot.name)
        } else {
            format!("{}\\n{}", escaped(&knot.name), escaped(&note))
        };
        let _ = writeln!(out, "  n{id} [label=\"{label}\"{}];", look(knot));
    }
    for &(from, to, tie) in &picture.ties {
        let look = match tie {
            Tie::Needs => "",
            Tie::After => " [style=dotted]",
            Tie::Learned => " [style=dashed]",
        };
        let _ = writeln!(out, "  n{from} -> n{to}{look};");
    }
    out.push_str("}\n");
    out
}

/// Shapes tell states apart without colour.
fn look(knot: &Knot) -> &'static str {
    match (knot.kind, knot.state) {
        (Kind::Source, State::Missing) => ", shape=underline, style=dashed",
        (Kind::Source, _) => ", shape=underline",
        (Kind::Set, _) => ", shape=ellipse",
        (Kind::Task, State::Failed) | (Kind::Step, State::Failed) => ", shape=octagon, style=bold",
        (Kind::Task, _) => ", shape=box, style=rounded",
        (Kind::Step, State::Run) => ", shape=cds",
        (Kind::Step, State::Maybe) => ", shape=box, style=dashed",
        (Kind::Step, _) => ", shape=box",
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
