//! A picture as text for a terminal: what is made last on the left, what it is made from below it and
//! further right, each node once.
//!
//! ```text
//!    kept  out/bin/lightrange
//!  failed  ╎ out/obj/light.o  failed last time: src/light.c differs
//!          ╎ ╎ src/light.c
//! ```

use handloom_core::graph_view::Kind;
use handloom_core::graph_view::Knot;
use handloom_core::graph_view::Picture;
use handloom_core::graph_view::State;

use crate::drawing::note;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// The picture's text.
pub fn write(picture: &Picture, theme: Theme) -> String {
    let (before, behind) = picture.neighbours();
    let mut out = String::new();
    let mut shown = vec![false; picture.knots.len()];
    // Steps that nothing needs first, then tasks.
    let mut roots: Vec<usize> = (0..picture.knots.len())
        .filter(|&at| behind[at].is_empty())
        .collect();
    roots.sort_by_key(|&at| (picture.knots[at].kind == Kind::Task, at));
    // Groups may need each other in a circle: then nothing is last.
    roots.extend(0..picture.knots.len());
    let mut open: Vec<(usize, usize)> = Vec::new();
    for root in roots {
        if shown[root] {
            continue;
        }
        open.push((root, 0));
        while let Some((at, depth)) = open.pop() {
            let again = std::mem::replace(&mut shown[at], true);
            let has_more = again && !before[at].is_empty();
            out.push_str(&line(&picture.knots[at], depth, has_more, theme));
            if !again {
                let mut below = before[at].clone();
                below.sort_by_key(|&from| (picture.knots[from].kind != Kind::Source, from));
                open.extend(below.into_iter().rev().map(|from| (from, depth + 1)));
            }
        }
    }
    out
}

fn line(knot: &Knot, depth: usize, above: bool, theme: Theme) -> String {
    let (word, role) = match (knot.kind, knot.state) {
        (_, State::Failed) => ("failed", Role::Failed),
        (_, State::Missing) => ("missing", Role::Failed),
        (_, State::Run) => ("run", Role::Made),
        (_, State::Maybe) => ("maybe", Role::Held),
        (_, State::Kept) => ("kept", Role::Faint),
        (Kind::Task, State::None) => ("task", Role::Faint),
        (_, State::None) => ("", Role::Faint),
    };
    let strands = theme.paint(Role::Faint, &"╎ ".repeat(depth));
    let name = text::safe(&knot.name);
    let name = match knot.kind {
        Kind::Source | Kind::Set => name,
        Kind::Step | Kind::Task => theme.paint(Role::Name, &name),
    };
    // One step's state stands in front already.
    let one = knot.count == 1 && knot.kind != Kind::Set;
    let mut rest = match (one, knot.state) {
        (true, State::Kept | State::Failed) => String::new(),
        (true, _) => text::safe(&knot.reason),
        (false, _) => text::safe(&note(knot)),
    };
    if above {
        rest = "as above".to_owned();
    } else if rest.is_empty() && depth == 0 {
        rest = text::safe(&knot.about);
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
