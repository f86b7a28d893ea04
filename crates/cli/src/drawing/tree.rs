//! A picture as text for a terminal: what is made last on the left, what it is made from below it and
//! further right, each node once.
//!
//! ```text
//!    kept  out/bin/lightrange
//!  failed  ╎ out/obj/light.o  failed last time: src/light.c differs
//!          ╎ ╎ src/light.c
//! ```

use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewNode;
use handloom_core::graph_view::ViewState;

use crate::drawing::note;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// The picture's text.
pub fn write(view: &GraphView, theme: Theme) -> String {
    let (before, behind) = view.neighbours();
    let mut out = String::new();
    let mut shown = vec![false; view.nodes.len()];
    // Steps that nothing needs first, then tasks.
    let mut roots: Vec<usize> = (0..view.nodes.len())
        .filter(|&at| behind[at].is_empty())
        .collect();
    roots.sort_by_key(|&at| (view.nodes[at].kind == ViewKind::Task, at));
    // Groups may need each other in a circle: then nothing is last.
    roots.extend(0..view.nodes.len());
    let mut open: Vec<(usize, usize)> = Vec::new();
    for root in roots {
        if shown[root] {
            continue;
        }
        open.push((root, 0));
        while let Some((at, depth)) = open.pop() {
            let again = std::mem::replace(&mut shown[at], true);
            let has_more = again && !before[at].is_empty();
            out.push_str(&line(&view.nodes[at], depth, has_more, theme));
            if !again {
                let mut below = before[at].clone();
                below.sort_by_key(|&from| (view.nodes[from].kind != ViewKind::Source, from));
                open.extend(below.into_iter().rev().map(|from| (from, depth + 1)));
            }
        }
    }
    out
}

fn line(node: &ViewNode, depth: usize, above: bool, theme: Theme) -> String {
    let (word, role) = match (node.kind, node.state) {
        (_, ViewState::Failed) => ("failed", Role::Failed),
        (_, ViewState::Missing) => ("missing", Role::Failed),
        (_, ViewState::Run) => ("run", Role::Made),
        (_, ViewState::Maybe) => ("maybe", Role::Held),
        (_, ViewState::Kept) => ("kept", Role::Faint),
        (ViewKind::Task, ViewState::None) => ("task", Role::Faint),
        (_, ViewState::None) => ("", Role::Faint),
    };
    let strands = theme.paint(Role::Faint, &"╎ ".repeat(depth));
    let name = text::safe(&node.name);
    let name = match node.kind {
        ViewKind::Source | ViewKind::Set => name,
        ViewKind::Step | ViewKind::Task => theme.paint(Role::Name, &name),
    };
    // One step's state stands in front already.
    let one = node.count == 1 && node.kind != ViewKind::Set;
    let mut rest = match (one, node.state) {
        (true, ViewState::Kept) => note(node),
        (true, ViewState::Failed) => String::new(),
        (true, _) => text::safe(&node.reason),
        (false, _) => text::safe(&note(node)),
    };
    if above {
        rest = "as above".to_owned();
    } else if rest.is_empty() && depth == 0 {
        rest = text::safe(&node.about);
    }
    let rest = if rest.is_empty() {
        String::new()
    } else {
        theme.paint(Role::Faint, &format!("  {rest}"))
    };
    format!(
        "{}  {strands}{name}{rest}\n",
        theme.paint(role, &format!("{word:>7}"))
    )
}
