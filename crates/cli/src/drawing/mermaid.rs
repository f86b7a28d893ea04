//! A picture as a Mermaid flow chart, for pages that draw them.
//!
//! Labels stand in double quotes; a quote and other characters of the language are written as entities:
//! `#quot;` and `#` with the character's number and `;`, as <https://mermaid.js.org/syntax/flowchart.html>
//! says.

use std::fmt::Write;

use handloom_core::graph_view::Kind;
use handloom_core::graph_view::Knot;
use handloom_core::graph_view::Picture;
use handloom_core::graph_view::State;
use handloom_core::graph_view::Tie;

use crate::drawing::note;

/// The picture's text.
pub fn write(picture: &Picture) -> String {
    let mut out = String::from("flowchart LR\n");
    for (id, knot) in picture.knots.iter().enumerate() {
        let note = note(knot);
        let mut label = escaped(&knot.name);
        if !note.is_empty() {
            let _ = write!(label, "<br/>{}", escaped(&note));
        }
        let (open, close) = shape(knot);
        let _ = writeln!(out, "  n{id}{open}\"{label}\"{close}");
    }
    for &(from, to, tie) in &picture.ties {
        let arrow = match tie {
            Tie::Needs => "-->",
            Tie::After | Tie::Learned => "-.->",
        };
        let _ = writeln!(out, "  n{from} {arrow} n{to}");
    }
    out
}

/// Shapes tell states apart without colour.
fn shape(knot: &Knot) -> (&'static str, &'static str) {
    match (knot.kind, knot.state) {
        (Kind::Source, _) => ("[/", "/]"),
        (Kind::Set, _) => ("((", "))"),
        (_, State::Failed) => ("{{", "}}"),
        (Kind::Task, _) => ("([", "])"),
        (Kind::Step, State::Run) => (">", "]"),
        (Kind::Step, State::Maybe) => ("[[", "]]"),
        (Kind::Step, _) => ("[", "]"),
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
