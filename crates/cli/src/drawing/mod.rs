//! Pictures of a project, in each of the forms it can be written in.

pub mod dot;
pub mod layout;
pub mod mermaid;
pub mod svg;
pub mod tree;

use serde::Serialize;

use handloom_core::graph_view::Kind;
use handloom_core::graph_view::Knot;
use handloom_core::graph_view::Picture;
use handloom_core::graph_view::State;

use crate::ui::text;

#[derive(Serialize)]
struct PictureJson<'a> {
    nodes: Vec<NodeJson<'a>>,
    edges: Vec<EdgeJson>,
}

#[derive(Serialize)]
struct NodeJson<'a> {
    id: usize,
    kind: &'static str,
    name: &'a str,
    about: Option<&'a str>,
    would: &'static str,
    count: usize,
    counts: serde_json::Map<String, serde_json::Value>,
    reason: Option<&'a str>,
    files: &'a [String],
}

#[derive(Serialize)]
struct EdgeJson {
    from: usize,
    to: usize,
    kind: &'static str,
}

/// The picture as programs read it.
pub fn json(picture: &Picture) -> impl Serialize + '_ {
    PictureJson {
        nodes: picture
            .knots
            .iter()
            .enumerate()
            .map(|(id, knot)| NodeJson {
                id,
                kind: knot.kind.name(),
                name: &knot.name,
                about: Some(knot.about.as_str()).filter(|about| !about.is_empty()),
                would: knot.state.name(),
                count: knot.count,
                counts: knot
                    .counts
                    .iter()
                    .filter(|(state, _)| *state != State::None)
                    .map(|(state, count)| (state.name().to_owned(), (*count).into()))
                    .collect(),
                reason: Some(knot.reason.as_str()).filter(|reason| !reason.is_empty()),
                files: &knot.files,
            })
            .collect(),
        edges: picture
            .ties
            .iter()
            .map(|&(from, to, tie)| EdgeJson {
                from,
                to,
                kind: tie.name(),
            })
            .collect(),
    }
}

/// What is said of a node below its name: how many it stands for, and what would become of it.
fn note(knot: &Knot) -> String {
    let words = knot.state.words();
    if knot.count == 1 {
        return match (words, knot.reason.as_str()) {
            ("kept", _) => String::new(),
            // That its outputs are missing is no news then.
            (words, _) if knot.state == State::Failed => words.to_owned(),
            (words, "") => words.to_owned(),
            (words, reason) => format!("{words}: {reason}"),
        };
    }
    let unit = match knot.kind {
        Kind::Step => "step",
        _ => "file",
    };
    let count = text::count(knot.count, unit);
    let states: Vec<String> = knot
        .counts
        .iter()
        .map(|(state, count)| format!("{count} {}", state.words()))
        .collect();
    match &knot.counts[..] {
        [] => count,
        [(_, all)] if *all == knot.count => format!("{count}, {words}"),
        _ => format!("{count}: {}", states.join(", ")),
    }
}
