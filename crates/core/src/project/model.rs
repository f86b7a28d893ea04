//! The project as data: every step and task that a description comes to.

use crate::project::decl::Decl;
use crate::project::decl::TaskDecl;
use crate::project::decls::Decls;
use crate::project::description::PartId;
use crate::project::excluded::FolderUse;
use crate::project::paths::PathId;
use crate::project::paths::Paths;
use crate::project::task_call::TaskCall;
use crate::text::nearest;
use std::sync::Arc;

/// A stretch of one of the project's lists.
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    zerocopy::FromBytes,
    zerocopy::Immutable,
    zerocopy::IntoBytes,
)]
#[repr(C)]
pub struct IndexRange {
    /// First index.
    pub start: u32,
    /// Index behind the last.
    pub end: u32,
}

impl IndexRange {
    /// The stretch of `list` that lies behind `start`.
    #[must_use]
    pub fn behind<T>(start: usize, list: &[T]) -> Self {
        let number = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Self {
            start: number(start),
            end: number(list.len()),
        }
    }

    /// What it covers.
    #[must_use]
    pub fn of<T>(self, list: &[T]) -> &[T] {
        &list[self.start as usize..self.end as usize]
    }
}

/// Which step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct StepId(pub u32);

/// Which task.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TaskId(pub u32);

/// Which set of matched paths.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SetId(pub u32);

macro_rules! index {
    ($($name:ident),*) => {$(
        impl $name {
            /// The number as an index.
            #[must_use]
            pub fn index(self) -> usize {
                self.0 as usize
            }

            /// The number of an index.
            #[must_use]
            pub fn from_index(index: usize) -> Self {
                Self(u32::try_from(index).unwrap_or(u32::MAX))
            }
        }
    )*};
}

index!(StepId, TaskId, SetId);

/// What a word after `needs` or `after` stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    /// One file, or a folder when its path ends with a slash.
    Path(PathId),
    /// All paths that a pattern matches.
    Set(SetId),
    /// A task.
    Task(TaskId),
}

/// A prerequisite with the number of its group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Need {
    /// Index into the groups of all its `needs`.
    pub group: u16,
    /// What is needed.
    pub what: What,
}

/// What a pattern after `needs` matches.
#[derive(Clone, Debug)]
pub struct FileSet {
    /// The paths, sorted.
    pub paths: Box<[PathId]>,
    /// Whole-folder targets that it looks into, whether or not that could be done yet.
    pub trees: Box<[PathId]>,
    /// Whether all of these were looked into.
    pub materialized: bool,
}

/// One target with its prerequisites, all variables put in.
#[derive(Clone, Copy, Debug, zerocopy::FromBytes, zerocopy::Immutable, zerocopy::IntoBytes)]
#[repr(C)]
pub struct Step {
    /// Index into [`Project::decls`].
    pub decl: u32,
    /// The values of the holes, in [`Project::values`].
    pub values: IndexRange,
    /// In [`Project::outputs`].
    pub outputs: IndexRange,
    /// In [`Project::needs`].
    pub needs: IndexRange,
    /// In [`Project::needs`].
    pub after: IndexRange,
}

/// A task with its prerequisites.
#[derive(Debug)]
pub struct TaskNode<'d> {
    /// What it is known by: its name, and of one that is called with values these behind it.
    pub name: String,
    /// As described.
    pub decl: Arc<TaskDecl<'d>>,
    /// The values that it is run with.
    pub call: TaskCall,
    /// Whether another task or target calls it with values.
    pub is_called: bool,
    /// `needs`
    pub needs: Vec<Need>,
    /// `after`
    pub after: Vec<What>,
    /// `steps`
    pub steps: Vec<What>,
    /// The tasks of `finally TASKS`.
    pub finally: Vec<TaskId>,
}

impl<'d> TaskNode<'d> {
    /// A task of which nothing is resolved.
    #[must_use]
    pub fn new(decl: Arc<TaskDecl<'d>>, call: TaskCall, is_called: bool) -> Self {
        let name = match is_called {
            true => format!("{}{}", decl.name, call.written(&decl)),
            false => decl.name.clone(),
        };
        Self {
            name,
            decl,
            call,
            is_called,
            needs: Vec::new(),
            after: Vec::new(),
            steps: Vec::new(),
            finally: Vec::new(),
        }
    }
}

impl TaskNode<'_> {
    /// Whether anything is run for it: a recipe, or what is done in the end.
    #[must_use]
    pub fn has_job(&self) -> bool {
        let clauses = &self.decl.clauses;
        clauses.recipe.is_some() || clauses.finally.is_some() || !self.finally.is_empty()
    }
}

/// No step makes this path.
pub const NOBODY: u32 = u32::MAX;

/// Every step and task of a description.
#[derive(Debug, Default)]
pub struct Project<'d> {
    /// Its own folder, absolute.
    pub root: String,
    /// The folders of the parts.
    pub parts: Vec<String>,
    /// All paths, and the values of holes.
    pub paths: Paths,
    /// The targets as described.
    pub decls: Decls<'d>,
    /// The steps, in the order of their targets.
    pub steps: Vec<Step>,
    /// The tasks, in the order in which they stand.
    pub tasks: Vec<TaskNode<'d>>,
    /// Values of holes.
    pub values: Vec<PathId>,
    /// Outputs with their group's number.
    pub outputs: Vec<(u16, PathId)>,
    /// Prerequisites.
    pub needs: Vec<Need>,
    /// What patterns after `needs` match.
    pub sets: Vec<FileSet>,
    /// For each path the step that makes it, or `NOBODY`. A file in a made folder is made by the
    /// folder's step. May be shorter than the list of paths.
    pub makers: Vec<u32>,
    /// All outputs, sorted by path.
    pub sorted_outputs: Vec<PathId>,
    /// Whole-folder outputs.
    pub trees: Vec<PathId>,
    /// Folders that are compared as wholes and from which something may be left out, where they are named: outputs with
    /// `except`, and all prerequisites.
    pub folder_uses: Vec<FolderUse>,
    /// Whole-folder outputs that an `each` looks into and that are not known to be up to date: there
    /// may be more steps once they are.
    pub unmaterialized: Vec<PathId>,
    /// Which steps make what a step learned of when it last ran: pairs of a step and a maker, sorted.
    pub learned: Vec<(StepId, StepId)>,
    /// What `default` names.
    pub defaults: Vec<(PartId, What)>,
    /// Whether there is a `default`.
    pub has_default: bool,
}

impl<'d> Project<'d> {
    /// The step that makes a path.
    #[must_use]
    pub fn maker(&self, path: PathId) -> Option<StepId> {
        self.makers
            .get(path.index())
            .filter(|&&step| step != NOBODY)
            .map(|&step| StepId(step))
    }

    /// A step.
    #[must_use]
    pub fn step(&self, id: StepId) -> &Step {
        &self.steps[id.index()]
    }

    /// What a step was described by.
    #[must_use]
    pub fn decl(&self, step: &Step) -> &Decl<'d> {
        &self.decls[step.decl as usize]
    }

    /// A step's outputs with their groups.
    #[must_use]
    pub fn step_outputs(&self, step: &Step) -> &[(u16, PathId)] {
        step.outputs.of(&self.outputs)
    }

    /// A step's prerequisites, sets not opened.
    #[must_use]
    pub fn step_needs(&self, step: &Step) -> &[Need] {
        step.needs.of(&self.needs)
    }

    /// The values of a step's holes.
    #[must_use]
    pub fn step_values(&self, step: &Step) -> Vec<&str> {
        step.values
            .of(&self.values)
            .iter()
            .map(|&id| self.paths.get(id))
            .collect()
    }

    /// A step's name: its first output.
    #[must_use]
    pub fn step_name(&self, step: StepId) -> &str {
        let first = self.step(step).outputs.start as usize;
        self.paths.get(self.outputs[first].1)
    }

    /// The paths that needs stand for, sets opened, with their groups, in order.
    pub fn open_needs<'a>(&'a self, needs: &'a [Need]) -> impl Iterator<Item = (u16, PathId)> + 'a {
        needs.iter().flat_map(move |need| {
            let paths: &[PathId] = match &need.what {
                What::Path(path) => std::slice::from_ref(path),
                What::Set(set) => &self.sets[set.index()].paths,
                What::Task(_) => &[],
            };
            paths.iter().map(move |&path| (need.group, path))
        })
    }

    /// The outputs that lie in a folder, whose path ends with a slash.
    pub fn outputs_in<'a>(&'a self, folder: &'a str) -> impl Iterator<Item = PathId> + 'a {
        let start = self
            .sorted_outputs
            .partition_point(|&path| self.paths.get(path) < folder);
        self.sorted_outputs[start..]
            .iter()
            .copied()
            .take_while(move |&path| self.paths.get(path).starts_with(folder))
    }

    /// The whole-folder target that a path lies in.
    #[must_use]
    pub fn tree_around(&self, path: &str) -> Option<PathId> {
        self.trees.iter().copied().find(|&tree| {
            path.starts_with(self.paths.get(tree)) && path.len() > self.paths.get(tree).len()
        })
    }

    /// The steps that make what a step learned of.
    pub fn learned_makers(&self, step: StepId) -> impl Iterator<Item = StepId> + '_ {
        let start = self.learned.partition_point(|&(learner, _)| learner < step);
        self.learned[start..]
            .iter()
            .take_while(move |(learner, _)| *learner == step)
            .map(|&(_, maker)| maker)
    }

    /// The step that makes a path, or the folder as a whole that it lies in.
    #[must_use]
    pub fn maker_of(&self, path: &str) -> Option<StepId> {
        let named = self.paths.find(path).and_then(|path| self.maker(path));
        named.or_else(|| self.maker(self.tree_around(path)?))
    }

    /// The task with this name, seen from the root.
    #[must_use]
    pub fn task_named(&self, name: &str) -> Option<TaskId> {
        self.tasks
            .iter()
            .position(|task| task.name == name)
            .map(TaskId::from_index)
    }
}

/// The output or task most like a name.
#[must_use]
pub fn near_goal(project: &Project<'_>, name: &str) -> Option<String> {
    let outputs = project
        .sorted_outputs
        .iter()
        .take(20_000)
        .map(|&path| project.paths.get(path));
    let tasks = project.tasks.iter().filter(|task| !task.is_called);
    let tasks = tasks.map(|task| task.decl.name.as_str());
    nearest(name, outputs.chain(tasks)).map(str::to_owned)
}
