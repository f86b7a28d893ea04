//! Pictures of a project, in each of the forms it can be written in.

pub mod dot;
pub mod layout;
pub mod mermaid;
pub mod svg;
pub mod tree;

use serde::Serialize;

use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewNode;
use handloom_core::graph_view::ViewState;

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
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    restored: bool,
    files: &'a [String],
}

#[derive(Serialize)]
struct EdgeJson {
    from: usize,
    to: usize,
    kind: &'static str,
}

/// What is said of a step that is kept, and was restored when it last changed.
const FROM_STORE: &str = "from the store";

/// The picture as programs read it.
pub fn json(view: &GraphView) -> impl Serialize + '_ {
    PictureJson {
        nodes: view
            .nodes
            .iter()
            .enumerate()
            .map(|(id, node)| NodeJson {
                id,
                kind: node.kind.name(),
                name: &node.name,
                about: Some(node.about.as_str()).filter(|about| !about.is_empty()),
                would: node.state.name(),
                count: node.count,
                counts: node
                    .counts
                    .iter()
                    .filter(|(state, _)| *state != ViewState::None)
                    .map(|(state, count)| (state.name().to_owned(), (*count).into()))
                    .collect(),
                restored: node.restored,
                reason: Some(node.reason.as_str()).filter(|reason| !reason.is_empty()),
                files: &node.files,
            })
            .collect(),
        edges: view
            .edges
            .iter()
            .map(|&(from, to, edge)| EdgeJson {
                from,
                to,
                kind: edge.name(),
            })
            .collect(),
    }
}

/// What is said of a node below its name: how many it stands for, and what would become of it.
fn note(node: &ViewNode) -> String {
    let words = node.state.words();
    if node.count == 1 {
        return match (words, node.reason.as_str()) {
            ("kept", _) if node.restored => FROM_STORE.to_owned(),
            ("kept", _) => String::new(),
            // That its outputs are missing is no news then.
            (words, _) if node.state == ViewState::Failed => words.to_owned(),
            (words, "") => words.to_owned(),
            (words, reason) => format!("{words}: {reason}"),
        };
    }
    let unit = match node.kind {
        ViewKind::Step => "step",
        _ => "file",
    };
    let count = text::count(node.count, unit);
    let states: Vec<String> = node
        .counts
        .iter()
        .map(|(state, count)| format!("{count} {}", state.words()))
        .collect();
    match &node.counts[..] {
        [] => count,
        [(_, all)] if *all == node.count => format!("{count}, {words}"),
        _ => format!("{count}: {}", states.join(", ")),
    }
}
