//! Putting nodes together.

use std::collections::HashMap;

use crate::graph_view::GraphView;
use crate::graph_view::ViewEdge;
use crate::graph_view::ViewKind;
use crate::graph_view::ViewNode;
use crate::graph_view::ViewState;
use crate::graph_view::counted;
use crate::world::names::folder_of;

/// Sources that lead to the same nodes, lie in one folder and end alike are put together from this number
/// on; among groups from the second; and wherever they lie from the third.
const ALIKE: usize = 3;
const ALIKE_IN_GROUPS: usize = 2;
const ANYWHERE: usize = 9;

impl GraphView {
    /// The same with one node for all steps of one description.
    #[must_use]
    pub fn grouped(self) -> Self {
        let own = self.groups.len();
        let key = |(at, node): (usize, &ViewNode)| match (node.kind, node.group) {
            (ViewKind::Step | ViewKind::Task, Some(group)) => group,
            _ => own + at,
        };
        let keys: Vec<usize> = self.nodes.iter().enumerate().map(key).collect();
        let mut view = self.put_together(&keys);
        for node in &mut view.nodes {
            if let (ViewKind::Step, Some(group)) = (node.kind, node.group) {
                node.name.clone_from(&view.groups[group].0);
            }
        }
        // Sets were drawn for the steps' sake: among groups they only stand in the way.
        view.without_sets()
            .put_sources_together(ALIKE_IN_GROUPS, shape)
            .put_sources_together(ANYWHERE, |_| String::new())
    }

    /// The same with one node for sources that are read by the same nodes, lie in one folder and end
    /// alike.
    #[must_use]
    pub(super) fn with_sources_put_together(self) -> Self {
        self.put_sources_together(ALIKE, shape)
    }

    /// `likeness` is what their names must have in common.
    fn put_sources_together(self, least: usize, likeness: impl Fn(&str) -> String) -> Self {
        let behind = self.behind();
        let sources = self.nodes.iter().enumerate();
        let sources: Vec<usize> = sources
            .filter(|(_, node)| node.kind == ViewKind::Source)
            .map(|(at, _)| at)
            .collect();
        // Most are alone in front of what reads them, and need no closer look.
        let first = |at: usize| behind[at].first().copied().unwrap_or(self.nodes.len());
        let mut readers = vec![0; self.nodes.len() + 1];
        for &at in &sources {
            readers[first(at)] += 1;
        }
        let mut alike: HashMap<(String, &[usize], ViewState), Vec<usize>> = HashMap::new();
        for at in sources {
            if readers[first(at)] >= least {
                let node = &self.nodes[at];
                let key = (likeness(&node.name), behind[at].as_slice(), node.state);
                alike.entry(key).or_default().push(at);
            }
        }
        let mut of: Vec<usize> = (0..self.nodes.len()).collect();
        let mut differs = false;
        for same in alike.into_values().filter(|same| same.len() >= least) {
            differs = true;
            for &at in &same {
                of[at] = same[0];
            }
        }
        if !differs {
            return self;
        }
        let mut view = self.put_together(&of);
        for node in &mut view.nodes {
            if node.kind == ViewKind::Source && node.count > 1 {
                node.name = in_common(&node.files);
            }
        }
        view
    }

    /// One node for all with the same key, where the first of them stands. Keys are small numbers.
    fn put_together(self, keys: &[usize]) -> Self {
        let mut of_key: Vec<usize> = vec![usize::MAX; keys.iter().max().map_or(0, |key| key + 1)];
        let mut numbers = Vec::with_capacity(self.nodes.len());
        let mut view = Self {
            groups: self.groups,
            ..Self::default()
        };
        for (node, &key) in self.nodes.into_iter().zip(keys) {
            if of_key[key] == usize::MAX {
                of_key[key] = view.nodes.len();
                view.nodes.push(node);
            } else {
                join(&mut view.nodes[of_key[key]], node);
            }
            numbers.push(of_key[key]);
        }
        let edges = self.edges.into_iter();
        view.edges = edges
            .map(|(from, to, edge)| (numbers[from], numbers[to], edge))
            .filter(|(from, to, _)| from != to)
            .collect();
        view.tidy();
        view
    }

    /// What leads to a set leads to what needs it.
    fn without_sets(self) -> Self {
        let keep: Vec<bool> = self
            .nodes
            .iter()
            .map(|node| node.kind != ViewKind::Set)
            .collect();
        if keep.iter().all(|keep| *keep) {
            return self;
        }
        let (before, behind) = self.neighbours();
        let mut through = self;
        for at in (0..keep.len()).filter(|&at| !keep[at]) {
            for &from in &before[at] {
                let edges = behind[at].iter();
                through
                    .edges
                    .extend(edges.map(|&to| (from, to, ViewEdge::Needs)));
            }
        }
        through.edges.retain(|(from, to, _)| from != to);
        through.tidy();
        through.kept(&keep)
    }
}

fn join(known: &mut ViewNode, more: ViewNode) {
    if more.state > known.state {
        known.state = more.state;
        known.reason = more.reason;
    }
    known.count += more.count;
    let both = known.counts.iter().chain(&more.counts).copied();
    known.counts = counted(both);
    known.files.extend(more.files);
}

/// The folder and the ending of a path.
fn shape(path: &str) -> String {
    let (folder, name) = split(path);
    let ending = name
        .rfind('.')
        .filter(|&at| at > 0)
        .map_or("", |at| &name[at..]);
    format!("{folder}*{ending}")
}

fn split(path: &str) -> (&str, &str) {
    path.split_at(folder_of(path).len())
}

/// What several paths have in common, as a pattern.
pub fn in_common(files: &[String]) -> String {
    match files {
        [] => "nothing".to_owned(),
        [only] => only.clone(),
        [first, rest @ ..] => {
            if rest.iter().all(|file| file == first) {
                return first.clone();
            }
            let same_shape = rest.iter().all(|file| shape(file) == shape(first));
            if same_shape {
                return shape(first);
            }
            let mut folder = split(first).0;
            while !rest.iter().all(|file| file.starts_with(folder)) {
                folder = split(folder.trim_end_matches('/')).0;
            }
            format!("{folder}**")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::in_common;

    #[test]
    fn what_paths_have_in_common() {
        let of = |paths: &[&str]| {
            let paths: Vec<String> = paths.iter().map(|path| (*path).to_owned()).collect();
            in_common(&paths)
        };
        assert_eq!(of(&["a/b.c"]), "a/b.c");
        assert_eq!(of(&["a/b.c", "a/d.c"]), "a/*.c");
        assert_eq!(of(&["a/b.c", "a/d.h"]), "a/**");
        assert_eq!(of(&["a/b/c.h", "a/d/e.h"]), "a/**");
        assert_eq!(of(&["a", "b"]), "*");
        assert_eq!(of(&["a", "x/b"]), "**");
    }
}
