//! Edges that this pass finds out: a step that read what another makes, and does not wait for it.

use std::cell::OnceCell;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Position;
use crate::graph::declared;
use crate::graph::node_count;
use crate::project::PathId;
use crate::project::StepId;
use crate::scheduler::pass_view::PassView;
use crate::status::FileStates;
use crate::status::learned_edges::FoundEdges;
use crate::world::Disk;
use crate::world::names::folder_of;

/// Links that lead from one to the next further than this lead nowhere (Linux gives up after as many).
const MOST: usize = 40;

/// Finds edges that the order does not have.
#[derive(Default)]
pub struct EdgeFinder {
    /// For each node its position in the whole order; made when first needed.
    positions: OnceCell<Vec<Option<Position>>>,
}

impl EdgeFinder {
    /// Whether a step waits for another, directly or through others.
    pub fn waits_for(&self, view: &PassView<'_, '_>, from: StepId, to: StepId) -> bool {
        let mut direct = false;
        declared(view.project, NodeId::step(from), &mut |node| {
            direct |= node == NodeId::step(to);
        });
        if direct {
            return true;
        }
        let positions = self.positions.get_or_init(|| {
            let mut positions = vec![None; node_count(view.project)];
            for position in view.whole.positions() {
                positions[view.whole.node(position).index()] = Some(position);
            }
            positions
        });
        let (Some(from), Some(to)) = (
            positions[NodeId::step(from).index()],
            positions[NodeId::step(to).index()],
        ) else {
            return false;
        };
        // What is waited for stands in front.
        if to >= from {
            return false;
        }
        let mut seen = vec![false; from.index() + 1];
        let mut open = vec![from];
        while let Some(position) = open.pop() {
            for &before in view.whole.waits_for(position) {
                if before == to {
                    return true;
                }
                if before > to && !std::mem::replace(&mut seen[before.index()], true) {
                    open.push(before);
                }
            }
        }
        false
    }

    /// Whether another step makes what a step read, and nothing puts that one first. The build then goes on
    /// with the edge that is missing.
    pub fn is_luck(
        &self,
        view: &PassView<'_, '_>,
        found: &mut FoundEdges,
        step: StepId,
        path: &str,
    ) -> bool {
        let project = view.project;
        let Some(maker) = project.maker_of(path) else {
            return false;
        };
        if maker == step || self.waits_for(view, step, maker) {
            return false;
        }
        found.insert((
            project.step_name(step).to_owned(),
            project.step_name(maker).to_owned(),
        ));
        true
    }

    /// Notes the steps whose outputs a step reads through links, as far as it does not wait for them; the
    /// links.
    pub fn behind_links(
        &self,
        view: &PassView<'_, '_>,
        states: &FileStates<'_>,
        disk: &dyn Disk,
        found: &mut FoundEdges,
        step: StepId,
    ) -> Vec<PathId> {
        if states.linked.is_empty() {
            return Vec::new();
        }
        let project = view.project;
        let needs = project.open_needs(project.step_needs(project.step(step)));
        let links = needs
            .map(|(_, path)| path)
            .filter(|path| states.linked.contains(path));
        let mut by_luck = Vec::new();
        for path in links {
            for end in ends(disk, project.paths.get(path)) {
                if self.is_luck(view, found, step, &end) {
                    by_luck.push(path);
                }
            }
        }
        by_luck
    }

    /// The same for all steps of an order.
    pub fn behind_all_links(
        &self,
        view: &PassView<'_, '_>,
        states: &FileStates<'_>,
        disk: &dyn Disk,
        found: &mut FoundEdges,
    ) {
        if states.linked.is_empty() {
            return;
        }
        for position in view.order.positions() {
            if let Node::Step(step) = view.node(position) {
                let _ = self.behind_links(view, states, disk, found, step);
            }
        }
    }
}

/// The paths below the root that a link leads through, each as it is written and as a whole folder.
fn ends(disk: &dyn Disk, link: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut at = link.trim_end_matches('/').to_owned();
    for _ in 0..MOST {
        let Ok(text) = disk.read_link(&at) else { break };
        let folder = folder_of(&at);
        let Some(next) = below_root(folder, &text) else {
            break;
        };
        found.push(format!("{next}/"));
        found.push(next.clone());
        at = next;
    }
    found
}

/// A relative path as seen from a folder, without `.` and `..`; none outside of the project.
fn below_root(folder: &str, text: &str) -> Option<String> {
    if text.starts_with('/') {
        return None;
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in folder.split('/').chain(text.split('/')) {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            part => parts.push(part),
        }
    }
    (!parts.is_empty()).then(|| parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::below_root;

    #[test]
    fn paths_are_put_together() {
        assert_eq!(below_root("a/b/", "../c").as_deref(), Some("a/c"));
        assert_eq!(below_root("", "x/./y//z").as_deref(), Some("x/y/z"));
        assert_eq!(below_root("a/", "../../x"), None);
        assert_eq!(below_root("a/", "/etc"), None);
        assert_eq!(below_root("a/", ".."), None);
    }
}
