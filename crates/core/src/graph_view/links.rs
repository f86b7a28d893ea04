//! What leads to what in a project: steps, tasks, sets that several need, and the sources of all these.

use std::collections::HashMap;
use std::collections::HashSet;
use std::collections::VecDeque;

use crate::content::LearnedPath;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::node_count;
use crate::graph_view::ViewEdge;
use crate::ledger::Ledger;
use crate::project::PathId;
use crate::project::Project;
use crate::project::SetId;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::What;
use crate::status::learned_edges;

/// Something that is drawn: a node of the project's graph, or a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct DrawnId(u32);

impl DrawnId {
    /// The number as an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// What a [`DrawnId`] stands for.
pub enum Drawn<'l> {
    /// A step, a task or a set.
    Node(NodeId),
    /// A source.
    Source(&'l str),
}

/// What leads to each of a project's steps, tasks and shared sets.
///
/// Numbers are those of the graph's nodes, then those of paths, then those of learned files of which the project
/// has no path.
pub struct Links<'p, 'd> {
    project: &'p Project<'d>,
    /// Whether a node is among those that are looked at.
    present: Vec<bool>,
    /// Sets that are drawn, and not drawn through.
    shared: HashSet<SetId>,
    /// Of each node where its edges begin and end.
    ranges: Vec<(u32, u32)>,
    /// From where each edge comes.
    edges: Vec<(DrawnId, ViewEdge)>,
    others: Vec<String>,
    of_other: HashMap<String, u32>,
}

/// What lies around one of them.
pub struct Neighbourhood {
    centre: DrawnId,
    kept: Vec<bool>,
}

fn number(index: usize) -> u32 {
    u32::try_from(index).unwrap_or(u32::MAX)
}

impl<'p, 'd> Links<'p, 'd> {
    /// The links among these nodes.
    #[must_use]
    pub fn among(project: &'p Project<'d>, ledger: &Ledger, nodes: &[NodeId]) -> Self {
        let count = node_count(project);
        let mut links = Self {
            project,
            present: vec![false; count],
            shared: HashSet::new(),
            ranges: vec![(0, 0); count],
            edges: Vec::new(),
            others: Vec::new(),
            of_other: HashMap::new(),
        };
        for id in nodes {
            links.present[id.index()] = true;
        }
        links.shared = links.shared_sets(nodes);
        let mut sets: Vec<SetId> = links.shared.iter().copied().collect();
        sets.sort_unstable();
        for &set in &sets {
            links.present[NodeId::set(project, set).index()] = true;
        }
        let sets = sets.iter().map(|&set| NodeId::set(project, set));
        let others = nodes
            .iter()
            .copied()
            .filter(|id| !matches!(id.node(project), Node::Set(_)));
        let learned = ledger.has_learned().then_some(ledger);
        for id in others.chain(sets) {
            let start = number(links.edges.len());
            links.add(id, learned);
            links.ranges[id.index()] = (start, number(links.edges.len()));
        }
        links
    }

    /// Sets of several files that several nodes need: they are drawn, so that a hundred files needed by a
    /// hundred steps are two hundred lines and not ten thousand.
    fn shared_sets(&self, nodes: &[NodeId]) -> HashSet<SetId> {
        let mut uses: HashMap<SetId, usize> = HashMap::new();
        for id in nodes {
            self.needed(id.node(self.project), |what| {
                if let What::Set(set) = what {
                    *uses.entry(set).or_default() += 1;
                }
            });
        }
        let large = |set: SetId| self.project.sets[set.index()].paths.len() > 1;
        uses.into_iter()
            .filter(|&(set, uses)| uses > 1 && large(set))
            .map(|(set, _)| set)
            .collect()
    }

    fn needed(&self, node: Node, mut found: impl FnMut(What)) {
        let needs = match node {
            Node::Step(step) => self.project.step_needs(self.project.step(step)),
            Node::Task(task) => &self.project.tasks[task.index()].needs,
            Node::Set(_) => return,
        };
        needs.iter().for_each(|need| found(need.what));
    }

    fn add(&mut self, id: NodeId, learned: Option<&Ledger>) {
        let project = self.project;
        let node = id.node(project);
        let mut needed = Vec::new();
        self.needed(node, |what| needed.push(what));
        for what in needed {
            self.lead(what, ViewEdge::Needs);
        }
        match node {
            Node::Step(step) => {
                let after = project.step(step).after.of(&project.needs);
                for need in after {
                    self.lead(need.what, ViewEdge::After);
                }
                if let Some(ledger) = learned {
                    self.learned(step, ledger);
                }
            }
            Node::Task(task) => {
                let task = &project.tasks[task.index()];
                for &what in task.after.iter().chain(&task.steps) {
                    self.lead(what, ViewEdge::After);
                }
            }
            Node::Set(set) => {
                for &path in &project.sets[set.index()].paths {
                    self.lead_path(path, ViewEdge::Needs);
                }
            }
        }
    }

    fn node(&mut self, from: NodeId, edge: ViewEdge) {
        if self.present[from.index()] {
            self.edges.push((DrawnId(from.0), edge));
        }
    }

    fn lead(&mut self, what: What, edge: ViewEdge) {
        match what {
            What::Task(task) => self.node(NodeId::task(self.project, task), edge),
            What::Path(path) => self.lead_path(path, edge),
            What::Set(set) if self.shared.contains(&set) => {
                self.node(NodeId::set(self.project, set), edge);
            }
            What::Set(set) => {
                for &path in &self.project.sets[set.index()].paths {
                    self.lead_path(path, edge);
                }
            }
        }
    }

    fn lead_path(&mut self, path: PathId, edge: ViewEdge) {
        let project = self.project;
        if let Some(maker) = project.maker(path) {
            self.node(NodeId::step(maker), edge);
            return;
        }
        let text = project.paths.get(path);
        if text.ends_with('/') {
            for inside in project.outputs_in(text) {
                if let Some(maker) = project.maker(inside) {
                    self.node(NodeId::step(maker), edge);
                }
            }
        }
        let source = self.source(path);
        self.edges.push((source, edge));
    }

    fn source(&self, path: PathId) -> DrawnId {
        DrawnId(number(self.present.len() + path.index()))
    }

    /// What a step found out itself when it last ran.
    fn learned(&mut self, step: StepId, ledger: &Ledger) {
        let project = self.project;
        for edge in learned_edges::of(project, step, ledger) {
            if edge.is_in_vain() || !matches!(LearnedPath::of(edge.path), LearnedPath::File(_)) {
                continue;
            }
            match project.paths.find(edge.path) {
                Some(path) if project.maker(path).is_some() => {
                    self.lead_path(path, ViewEdge::Learned);
                }
                _ if edge.path.starts_with('/') => {}
                Some(path) => {
                    let source = self.source(path);
                    self.edges.push((source, ViewEdge::Learned));
                }
                None => {
                    let other = self.other(edge.path);
                    self.edges.push((other, ViewEdge::Learned));
                }
            }
        }
    }

    fn other(&mut self, path: &str) -> DrawnId {
        let first = self.present.len() + self.project.paths.len();
        if let Some(&known) = self.of_other.get(path) {
            return DrawnId(number(first) + known);
        }
        let index = number(self.others.len());
        self.others.push(path.to_owned());
        self.of_other.insert(path.to_owned(), index);
        DrawnId(number(first) + index)
    }

    /// How many numbers there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.present.len() + self.project.paths.len() + self.others.len()
    }

    /// Whether there is nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Whether a set is drawn.
    #[must_use]
    pub fn is_shared(&self, set: SetId) -> bool {
        self.shared.contains(&set)
    }

    /// What a number stands for.
    #[must_use]
    pub fn drawn(&self, id: DrawnId) -> Drawn<'_> {
        let nodes = self.present.len();
        let paths = self.project.paths.len();
        match id.index() {
            index if index < nodes => Drawn::Node(NodeId(id.0)),
            index if index < nodes + paths => {
                let path = PathId(number(index - nodes));
                Drawn::Source(self.project.paths.get(path))
            }
            index => Drawn::Source(&self.others[index - nodes - paths]),
        }
    }

    /// A node's number.
    #[must_use]
    pub fn of_node(&self, id: NodeId) -> DrawnId {
        DrawnId(id.0)
    }

    /// What leads to a node.
    #[must_use]
    pub fn to(&self, id: NodeId) -> &[(DrawnId, ViewEdge)] {
        let (start, end) = self.ranges[id.index()];
        &self.edges[start as usize..end as usize]
    }

    /// The file or task of a name: the step that makes it, or the source that is read.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<DrawnId> {
        let project = self.project;
        let path = project.paths.find(name);
        let maker = path.and_then(|path| project.maker(path));
        let tasks = project.tasks.iter().enumerate();
        let task = || {
            let mut tasks = tasks.filter(|(_, task)| task.name == name);
            let (index, _) = tasks.next()?;
            Some(NodeId::task(project, TaskId::from_index(index)))
        };
        if let Some(node) = maker.map(NodeId::step).or_else(task) {
            return self.present[node.index()].then_some(DrawnId(node.0));
        }
        let first = number(self.present.len() + project.paths.len());
        let source = match path {
            Some(path) => self.source(path),
            None => DrawnId(first + self.of_other.get(name)?),
        };
        let mut edges = self.edges.iter();
        edges.any(|(from, _)| *from == source).then_some(source)
    }

    /// The names of all that could be found.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let project = self.project;
        let mut is_read = vec![false; self.len()];
        for (from, _) in &self.edges {
            is_read[from.index()] = true;
        }
        let paths = (0..project.paths.len()).map(|path| PathId(number(path)));
        let paths = paths.filter(move |&path| match project.maker(path) {
            Some(maker) => self.present[NodeId::step(maker).index()],
            None => is_read[self.source(path).index()],
        });
        let tasks = project.tasks.iter().map(|task| task.name.as_str());
        paths
            .map(|path| project.paths.get(path))
            .chain(tasks)
            .chain(self.others.iter().map(String::as_str))
    }

    /// All from which `centre` is reached, or that it reaches, over at most `depth` others; sets are not counted.
    #[must_use]
    pub fn around(&self, centre: DrawnId, depth: usize) -> Neighbourhood {
        let mut kept = vec![false; self.len()];
        kept[centre.index()] = true;
        self.spread(centre, depth, &mut kept, |at, found| {
            if let Some(&(start, end)) = self.ranges.get(at.index()) {
                let edges = &self.edges[start as usize..end as usize];
                edges.iter().for_each(|(from, _)| found(*from));
            }
        });
        let (starts, behind) = self.behind();
        self.spread(centre, depth, &mut kept, |at, found| {
            let (start, end) = (starts[at.index()], starts[at.index() + 1]);
            let behind = &behind[start as usize..end as usize];
            behind.iter().for_each(|to| found(*to));
        });
        Neighbourhood { centre, kept }
    }

    fn spread(
        &self,
        centre: DrawnId,
        depth: usize,
        kept: &mut [bool],
        next: impl Fn(DrawnId, &mut dyn FnMut(DrawnId)),
    ) {
        let mut far: HashMap<DrawnId, usize> = HashMap::from([(centre, 0)]);
        let mut open = VecDeque::from([centre]);
        while let Some(at) = open.pop_front() {
            let own = far[&at];
            next(at, &mut |to| {
                let step = usize::from(!self.is_set(to));
                let known = far.get(&to).copied().unwrap_or(usize::MAX);
                if own + step <= depth && known > own + step {
                    far.insert(to, own + step);
                    kept[to.index()] = true;
                    if step == 0 {
                        open.push_front(to);
                    } else {
                        open.push_back(to);
                    }
                }
            });
        }
    }

    fn is_set(&self, id: DrawnId) -> bool {
        id.index() < self.present.len() && matches!(NodeId(id.0).node(self.project), Node::Set(_))
    }

    /// What each leads to: where its part begins, and all parts.
    fn behind(&self) -> (Vec<u32>, Vec<DrawnId>) {
        let mut starts = vec![0u32; self.len() + 1];
        for (from, _) in &self.edges {
            starts[from.index() + 1] += 1;
        }
        for index in 1..starts.len() {
            starts[index] += starts[index - 1];
        }
        let mut next = starts.clone();
        let mut behind = vec![DrawnId(0); self.edges.len()];
        for (to, &(start, end)) in (0..).zip(&self.ranges) {
            for (from, _) in &self.edges[start as usize..end as usize] {
                let at = &mut next[from.index()];
                behind[*at as usize] = DrawnId(to);
                *at += 1;
            }
        }
        (starts, behind)
    }
}

impl Neighbourhood {
    /// What it is around.
    #[must_use]
    pub fn centre(&self) -> DrawnId {
        self.centre
    }

    /// Its steps and tasks.
    #[must_use]
    pub fn goals(&self, project: &Project<'_>) -> Vec<NodeId> {
        let nodes = project.steps.len() + project.tasks.len();
        let kept = (0..).zip(&self.kept[..nodes]);
        kept.filter(|(_, kept)| **kept)
            .map(|(index, _)| NodeId(index))
            .collect()
    }

    /// Whether it holds something.
    #[must_use]
    pub fn holds(&self, id: DrawnId) -> bool {
        self.kept[id.index()]
    }
}
