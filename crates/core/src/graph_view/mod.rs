//! The project as a picture: files, steps and tasks, what each would do now, and what leads to what.
//!
//! A [`GraphView`] is data; how it is drawn or written down is none of its business. It is made from a
//! project and what would become of it ([`GraphSource::view`]): of all of it, or of the neighbourhood of one node
//! ([`Links::around`]). Where it is large, it is made smaller: [`GraphView::grouped`] puts all steps of one
//! description into one node. Sources that are read by the same nodes, lie in one folder and end alike are
//! one node wherever there are several.

mod group;
mod links;
mod source;

pub use links::Links;
pub use links::Neighbourhood;
pub use source::GraphSource;

/// What a node stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ViewKind {
    /// Files that no step makes.
    Source,
    /// Steps: targets with how they are made.
    Step,
    /// A task.
    Task,
    /// Files that are needed together by several: what a pattern after `needs` matches.
    Set,
}

impl ViewKind {
    /// Its name in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Step => "step",
            Self::Task => "task",
            Self::Set => "set",
        }
    }
}

/// What would become of a node now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ViewState {
    /// Nothing becomes of sources and sets; a task runs whenever it is asked for.
    None,
    /// It would be kept.
    Kept,
    /// It runs if something before it comes out differently.
    Maybe,
    /// It would run.
    Run,
    /// It would run, and failed when it last did.
    Failed,
    /// A source that is not there.
    Missing,
}

impl ViewState {
    /// Its name in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Kept => "keep",
            Self::Maybe => "maybe",
            Self::Run => "run",
            Self::Failed => "failed",
            Self::Missing => "missing",
        }
    }

    /// What is said of it; nothing for what is as it should be.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::None => "",
            Self::Kept => "kept",
            Self::Maybe => "may run",
            Self::Run => "would run",
            Self::Failed => "failed last time",
            Self::Missing => "is missing",
        }
    }
}

/// How one node leads to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ViewEdge {
    /// It is needed.
    Needs,
    /// It comes before, and is no reason.
    After,
    /// It is needed, as an earlier run found out.
    Learned,
}

impl ViewEdge {
    /// Its name in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Needs => "needs",
            Self::After => "after",
            Self::Learned => "learned",
        }
    }
}

/// A node.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ViewNode {
    /// Whether what it made last came from the store; of one step alone.
    pub restored: bool,
    /// What it stands for.
    pub kind: ViewKind,
    /// How it is named: a path, a task's name, or as a description has it, with holes.
    pub name: String,
    /// One line of help.
    pub about: String,
    /// What would become of it; of several the most urgent.
    pub state: ViewState,
    /// How many steps or files it stands for.
    pub count: usize,
    /// How many of them are in each state, the most urgent first, without those that are in none.
    pub counts: Vec<(ViewState, usize)>,
    /// The first certain reason, in brief.
    pub reason: String,
    /// All files that it makes, or that it stands for.
    pub files: Vec<String>,
    /// What it is described by, for [`GraphView::grouped`].
    group: Option<usize>,
}

/// Nodes, and what leads to what.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct GraphView {
    /// What is needed comes first.
    pub nodes: Vec<ViewNode>,
    /// From what is needed to what needs it, each once, sorted.
    pub edges: Vec<(usize, usize, ViewEdge)>,
    /// How each description is named as a whole, with its help.
    groups: Vec<(String, String)>,
}

impl GraphView {
    /// How many steps it shows.
    #[must_use]
    pub fn steps(&self) -> usize {
        let steps = self.nodes.iter().filter(|node| node.kind == ViewKind::Step);
        steps.map(|node| node.count).sum()
    }

    /// How many steps are in each state, the most urgent first.
    #[must_use]
    pub fn states(&self) -> Vec<(ViewState, usize)> {
        let steps = self.nodes.iter().filter(|node| node.kind == ViewKind::Step);
        counted(steps.flat_map(|node| node.counts.iter().copied()))
    }

    /// The node of a file or a task.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<usize> {
        let named =
            |node: &ViewNode| node.name == name || node.files.iter().any(|file| file == name);
        self.nodes.iter().position(named)
    }

    /// For each node those before it, and those behind it.
    #[must_use]
    pub fn neighbours(&self) -> (Vec<Vec<usize>>, Vec<Vec<usize>>) {
        let mut before = vec![Vec::new(); self.nodes.len()];
        for &(from, to, _) in &self.edges {
            before[to].push(from);
        }
        (before, self.behind())
    }

    /// For each node those behind it.
    fn behind(&self) -> Vec<Vec<usize>> {
        let mut behind = vec![Vec::new(); self.nodes.len()];
        for &(from, to, _) in &self.edges {
            behind[from].push(to);
        }
        behind
    }

    /// These nodes alone, with what leads from one to another of them.
    fn kept(self, keep: &[bool]) -> Self {
        let mut numbers = vec![usize::MAX; self.nodes.len()];
        let mut nodes = Vec::new();
        for (at, node) in self.nodes.into_iter().enumerate() {
            if keep[at] {
                numbers[at] = nodes.len();
                nodes.push(node);
            }
        }
        let edges = self.edges.into_iter();
        let edges = edges.filter(|&(from, to, _)| keep[from] && keep[to]);
        Self {
            nodes,
            edges: edges
                .map(|(from, to, edge)| (numbers[from], numbers[to], edge))
                .collect(),
            groups: self.groups,
        }
    }

    /// Sorts what leads to what; of two between the same nodes the stronger stays.
    fn tidy(&mut self) {
        self.edges.sort_unstable();
        self.edges.dedup_by_key(|&mut (from, to, _)| (from, to));
    }
}

/// Counts of states put together, the most urgent first.
fn counted(counts: impl Iterator<Item = (ViewState, usize)>) -> Vec<(ViewState, usize)> {
    let mut all: Vec<(ViewState, usize)> = Vec::new();
    for (state, count) in counts.filter(|(state, _)| *state != ViewState::None) {
        match all.iter_mut().find(|(known, _)| *known == state) {
            Some((_, known)) => *known += count,
            None => all.push((state, count)),
        }
    }
    all.sort_unstable_by_key(|(state, _)| std::cmp::Reverse(*state));
    all
}
