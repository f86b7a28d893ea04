//! The project as a picture: files, steps and tasks, what each would do now, and what leads to what.
//!
//! A [`Picture`] is data; how it is drawn or written down is none of its business. It is made from a
//! project and its outlook ([`Source::picture`]), then made smaller where it is large:
//! [`Picture::grouped`] puts all steps of one description into one node, [`Picture::around`] keeps the
//! neighbourhood of one node. Sources that are read by the same nodes, lie in one folder and end alike are
//! one node wherever there are several.

mod group;
mod source;

use std::collections::VecDeque;

pub use source::Source;

/// What a node stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Kind {
    /// Files that no step makes.
    Source,
    /// Steps: targets with how they are made.
    Step,
    /// A task.
    Task,
    /// Files that are needed together by several: what a pattern after `needs` matches.
    Set,
}

impl Kind {
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
pub enum State {
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

impl State {
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
pub enum Tie {
    /// It is needed.
    Needs,
    /// It comes before, and is no reason.
    After,
    /// It is needed, as an earlier run found out.
    Learned,
}

impl Tie {
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
pub struct Knot {
    /// What it stands for.
    pub kind: Kind,
    /// How it is named: a path, a task's name, or as a description has it, with holes.
    pub name: String,
    /// One line of help.
    pub about: String,
    /// What would become of it; of several the most urgent.
    pub state: State,
    /// How many steps or files it stands for.
    pub count: usize,
    /// How many of them are in each state, the most urgent first, without those that are in none.
    pub counts: Vec<(State, usize)>,
    /// The first certain reason, in brief.
    pub reason: String,
    /// All files that it makes, or that it stands for.
    pub files: Vec<String>,
    /// What it is described by, for [`Picture::grouped`].
    group: Option<usize>,
}

/// Nodes, and what leads to what.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Picture {
    /// What is needed comes first.
    pub knots: Vec<Knot>,
    /// From what is needed to what needs it, each once, sorted.
    pub ties: Vec<(usize, usize, Tie)>,
    /// How each description is named as a whole, with its help.
    groups: Vec<(String, String)>,
}

impl Picture {
    /// How many steps it shows.
    #[must_use]
    pub fn steps(&self) -> usize {
        let steps = self.knots.iter().filter(|knot| knot.kind == Kind::Step);
        steps.map(|knot| knot.count).sum()
    }

    /// How many steps are in each state, the most urgent first.
    #[must_use]
    pub fn states(&self) -> Vec<(State, usize)> {
        let steps = self.knots.iter().filter(|knot| knot.kind == Kind::Step);
        counted(steps.flat_map(|knot| knot.counts.iter().copied()))
    }

    /// The node of a file or a task.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<usize> {
        let named = |knot: &Knot| knot.name == name || knot.files.iter().any(|file| file == name);
        self.knots.iter().position(named)
    }

    /// The nodes from which `knot` is reached, or that it reaches, over at most `depth` others; sets are
    /// not counted.
    #[must_use]
    pub fn around(&self, knot: usize, depth: usize) -> Self {
        let (before, behind) = self.neighbours();
        let mut keep = vec![false; self.knots.len()];
        keep[knot] = true;
        for next in [&before, &behind] {
            let mut far = vec![usize::MAX; self.knots.len()];
            far[knot] = 0;
            let mut open = VecDeque::from([knot]);
            while let Some(at) = open.pop_front() {
                for &to in &next[at] {
                    let step = usize::from(self.knots[to].kind != Kind::Set);
                    if far[to] > far[at] + step && far[at] + step <= depth {
                        far[to] = far[at] + step;
                        keep[to] = true;
                        if step == 0 {
                            open.push_front(to);
                        } else {
                            open.push_back(to);
                        }
                    }
                }
            }
        }
        self.kept(&keep)
    }

    /// For each node those before it, and those behind it.
    #[must_use]
    pub fn neighbours(&self) -> (Vec<Vec<usize>>, Vec<Vec<usize>>) {
        let mut before = vec![Vec::new(); self.knots.len()];
        let mut behind = vec![Vec::new(); self.knots.len()];
        for &(from, to, _) in &self.ties {
            before[to].push(from);
            behind[from].push(to);
        }
        (before, behind)
    }

    /// These nodes alone, with what leads from one to another of them.
    fn kept(&self, keep: &[bool]) -> Self {
        let mut numbers = vec![usize::MAX; self.knots.len()];
        let mut picture = Self {
            groups: self.groups.clone(),
            ..Self::default()
        };
        for (at, knot) in self.knots.iter().enumerate().filter(|(at, _)| keep[*at]) {
            numbers[at] = picture.knots.len();
            picture.knots.push(knot.clone());
        }
        let both = |&&(from, to, _): &&(usize, usize, Tie)| keep[from] && keep[to];
        let ties = self.ties.iter().filter(both);
        picture.ties = ties
            .map(|&(from, to, tie)| (numbers[from], numbers[to], tie))
            .collect();
        picture
    }

    /// Sorts what leads to what; of two between the same nodes the stronger stays.
    fn tidy(&mut self) {
        self.ties.sort_unstable();
        self.ties.dedup_by_key(|&mut (from, to, _)| (from, to));
    }
}

/// Counts of states put together, the most urgent first.
fn counted(counts: impl Iterator<Item = (State, usize)>) -> Vec<(State, usize)> {
    let mut all: Vec<(State, usize)> = Vec::new();
    for (state, count) in counts.filter(|(state, _)| *state != State::None) {
        match all.iter_mut().find(|(known, _)| *known == state) {
            Some((_, known)) => *known += count,
            None => all.push((state, count)),
        }
    }
    all.sort_unstable_by_key(|(state, _)| std::cmp::Reverse(*state));
    all
}
