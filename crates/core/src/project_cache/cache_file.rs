//! The file that a worked-out project is kept in: `.handloom/project`.
//!
//! It is laid out as [`crate::ledger::arrays`] says, with the magic `HLPROJ03` and the arrays of
//! [`CacheSection`]; the first is a [`CacheHeader`] in the postcard format, for all that is small. It is only
//! ever read by the program, on the kind of machine, that wrote it: both are part of its key.

use std::sync::Arc;

use serde::Deserialize;
use serde::Serialize;
use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::I64;
use zerocopy::little_endian::U32;
use zerocopy::little_endian::U64;

use crate::content::State;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::language::TopItem;
use crate::ledger::Bytes;
use crate::ledger::Mark;
use crate::ledger::arrays::ArrayLayout;
use crate::ledger::arrays::Arrays;
use crate::project::FileSet;
use crate::project::Need;
use crate::project::PartId;
use crate::project::PathId;
use crate::project::Paths;
use crate::project::Project;
use crate::project::SetId;
use crate::project::Step;
use crate::project::TaskId;
use crate::project::TaskNode;
use crate::project::What;
use crate::project::decl::Clauses;
use crate::project::decl::Decl;
use crate::project::decl::TaskDecl;
use crate::project::paths::from_root;
use crate::project::values::Vars;
use crate::project_cache::cached_project::CachedRequest;
use crate::project_cache::dependencies::CacheDependencies;
use crate::world::Digest;

/// The arrays, in the order of the table.
#[derive(Clone, Copy)]
pub enum CacheSection {
    /// [`CacheHeader`], postcard.
    CacheHeader,
    /// Bytes of all paths.
    Arena,
    /// Where each path begins and ends in `Arena`.
    Ranges,
    /// The XXH3 of each path.
    Hashes,
    Steps,
    /// Values of holes, as paths.
    Values,
    /// [`Pair`]: group, path
    Outputs,
    /// [`Pair`]: group and kind, number
    Needs,
    /// For each path the step that makes it.
    Makers,
    SortedOutputs,
    /// Where each set begins in `SetPaths`; one more at the end.
    SetStarts,
    SetPaths,
    /// The nodes that were reached, dependencies first.
    OrderNodes,
    /// Where in `OrderEdges` each position begins; one more at the end.
    OrderStarts,
    OrderEdges,
    /// Where each step begins in `LearnedPaths`; one more at the end. Empty when nothing learns.
    LearnedStarts,
    LearnedPaths,
    /// For each step whether it was judged to have no reason to run, given the contents below.
    Good,
    /// [`LookRec`], sorted by path.
    Looked,
    /// The digest of each of `Looked`.
    Digests,
}

pub const LAYOUT: ArrayLayout = ArrayLayout {
    magic: b"HLPROJ03",
    older: &[],
    older_arrays: 0,
    sizes: &[
        1,
        1,
        8,
        8,
        size_of::<Step>(),
        4,
        size_of::<Pair>(),
        size_of::<Pair>(),
        4,
        4,
        4,
        4,
        4,
        4,
        4,
        4,
        4,
        1,
        size_of::<LookRec>(),
        32,
    ],
};

/// A group with what is in it.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct Pair {
    /// The group's number; above it, for a need, what kind it is.
    pub group: U32,
    pub number: U32,
}

/// A file under whose stat its content is known.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct LookRec {
    pub path: U32,
    /// 1 when it is known that nothing is there.
    pub absent: U32,
    pub size: U64,
    pub modified: I64,
    pub changed: I64,
    pub inode: U64,
}

/// All that is small.
#[derive(Serialize, Deserialize)]
pub struct CacheHeader {
    pub key: Digest,
    pub request: CachedRequest,
    pub mark: Mark,
    pub dependencies: CacheDependencies,
    /// Whether every step that was reached was judged to have no reason to run, and nothing else
    /// was reached.
    pub all_good: bool,
    /// How many steps were reached.
    pub steps_in_order: usize,
    pub goals: Vec<u32>,
    pub has_default: bool,
    pub defaults: Vec<(u32, KeptWhat)>,
    /// For each declared target the number of its part, of its item there, and its holes.
    pub decls: Vec<(u32, u32, Vec<String>)>,
    pub tasks: Vec<KeptTask>,
    pub trees: Vec<u32>,
}

/// [`What`] as it is kept.
#[derive(Clone, Copy, Serialize, Deserialize)]
pub enum KeptWhat {
    Path(u32),
    Set(u32),
    Task(u32),
}

impl KeptWhat {
    pub fn of(what: What) -> Self {
        match what {
            What::Path(path) => Self::Path(path.0),
            What::Set(set) => Self::Set(set.0),
            What::Task(task) => Self::Task(task.0),
        }
    }

    fn what(self) -> What {
        match self {
            Self::Path(path) => What::Path(PathId(path)),
            Self::Set(set) => What::Set(SetId(set)),
            Self::Task(task) => What::Task(TaskId(task)),
        }
    }

    /// As two numbers, the first below 4.
    pub fn numbers(self) -> (u32, u32) {
        match self {
            Self::Path(path) => (0, path),
            Self::Set(set) => (1, set),
            Self::Task(task) => (2, task),
        }
    }

    fn from_numbers(kind: u32, number: u32) -> Self {
        match kind {
            0 => Self::Path(number),
            1 => Self::Set(number),
            _ => Self::Task(number),
        }
    }
}

#[derive(Serialize, Deserialize)]
pub struct KeptTask {
    pub part: u32,
    pub item: u32,
    pub needs: Vec<(u16, KeptWhat)>,
    pub after: Vec<KeptWhat>,
    pub steps: Vec<KeptWhat>,
}

/// A kept project that is being read.
pub struct CacheFile {
    arrays: Arrays,
    pub header: CacheHeader,
}

/// What steps learned, as paths.
pub struct Learned {
    starts: Vec<u32>,
    paths: Vec<u32>,
}

impl Learned {
    /// What one step learned.
    pub fn of(&self, step: usize) -> &[u32] {
        match (self.starts.get(step), self.starts.get(step + 1)) {
            (Some(&start), Some(&end)) => self
                .paths
                .get(start as usize..end as usize)
                .unwrap_or_default(),
            _ => &[],
        }
    }
}

impl CacheFile {
    /// Reads one; `None` when it is damaged, of another kind, or was not written by this user.
    pub fn open(bytes: Bytes, key: &[u8; 32]) -> Option<Self> {
        let arrays = Arrays::open_sealed(bytes, LAYOUT, key).ok()?;
        let header =
            postcard::from_bytes(arrays.get::<u8>(CacheSection::CacheHeader as usize)).ok()?;
        let file = Self { arrays, header };
        let paths = file.path_count();
        let in_range = file
            .looked()
            .iter()
            .all(|look| (look.path.get() as usize) < paths);
        (in_range && file.is_sound()).then_some(file)
    }

    /// Whether all numbers in it lie where they belong, so that nothing that reads it has to ask again.
    fn is_sound(&self) -> bool {
        let below = |section: CacheSection, limit: usize| {
            let numbers = self.arrays.get::<U32>(section as usize);
            numbers.iter().all(|number| (number.get() as usize) < limit)
        };
        let rising = |section: CacheSection, count: usize, end: usize| {
            let starts = self.arrays.get::<U32>(section as usize);
            starts.len() == count + 1
                && starts.windows(2).all(|pair| pair[0].get() <= pair[1].get())
                && starts.last().is_some_and(|last| last.get() as usize <= end)
        };
        let count = |section: CacheSection| self.arrays.count(section as usize);
        let paths = self.path_count();
        let arena = self.arrays.get::<u8>(CacheSection::Arena as usize);
        let ranges = self.arrays.get::<[U32; 2]>(CacheSection::Ranges as usize);
        let in_arena = |[start, end]: &[U32; 2]| {
            start.get() <= end.get()
                && end.get() as usize <= arena.len()
                && std::str::from_utf8(&arena[start.get() as usize..end.get() as usize]).is_ok()
        };
        let steps: Vec<Step> = self.arrays.copy(CacheSection::Steps as usize);
        let within = |range: crate::project::IndexRange, end: usize| {
            range.start <= range.end && range.end as usize <= end
        };
        let is_step = |step: &Step| {
            (step.decl as usize) < self.header.decls.len()
                && within(step.values, count(CacheSection::Values))
                && within(step.outputs, count(CacheSection::Outputs))
                && step.outputs.start < step.outputs.end
                && within(step.needs, count(CacheSection::Needs))
                && within(step.after, count(CacheSection::Needs))
        };
        let sets = count(CacheSection::SetStarts).saturating_sub(1);
        let tasks = self.header.tasks.len();
        let is_what = |what: &KeptWhat| match what {
            KeptWhat::Path(path) => (*path as usize) < paths,
            KeptWhat::Set(set) => (*set as usize) < sets,
            KeptWhat::Task(task) => (*task as usize) < tasks,
        };
        let is_need = |pair: &Pair| {
            is_what(&KeptWhat::from_numbers(
                pair.group.get() >> 16,
                pair.number.get(),
            ))
        };
        let is_task = |task: &KeptTask| {
            let needs = task.needs.iter().map(|(_, what)| what);
            needs.chain(&task.after).chain(&task.steps).all(is_what)
        };
        let nodes = count(CacheSection::OrderNodes);
        let all_nodes = steps.len() + tasks + sets;
        ranges.iter().all(in_arena)
            && count(CacheSection::Hashes) == paths
            && count(CacheSection::Digests) == count(CacheSection::Looked)
            && steps.iter().all(is_step)
            && below(CacheSection::Values, paths)
            && self
                .arrays
                .get::<Pair>(CacheSection::Outputs as usize)
                .iter()
                .all(|pair| (pair.number.get() as usize) < paths)
            && self
                .arrays
                .get::<Pair>(CacheSection::Needs as usize)
                .iter()
                .all(is_need)
            && self
                .arrays
                .get::<U32>(CacheSection::Makers as usize)
                .iter()
                .all(|maker| maker.get() == u32::MAX || (maker.get() as usize) < steps.len())
            && below(CacheSection::SortedOutputs, paths)
            && (sets == 0 || rising(CacheSection::SetStarts, sets, count(CacheSection::SetPaths)))
            && below(CacheSection::SetPaths, paths)
            && below(CacheSection::OrderNodes, all_nodes)
            && rising(
                CacheSection::OrderStarts,
                nodes,
                count(CacheSection::OrderEdges),
            )
            && below(CacheSection::OrderEdges, nodes.max(1))
            && below(CacheSection::LearnedPaths, paths)
            && count(CacheSection::Good) == steps.len()
            && self.header.tasks.iter().all(is_task)
            && self.header.defaults.iter().all(|(_, what)| is_what(what))
            && self
                .header
                .goals
                .iter()
                .all(|goal| (*goal as usize) < all_nodes)
            && self
                .header
                .trees
                .iter()
                .all(|tree| (*tree as usize) < paths)
    }

    fn numbers(&self, section: CacheSection) -> Vec<u32> {
        self.arrays.copy(section as usize)
    }

    /// How many paths there are.
    pub fn path_count(&self) -> usize {
        self.arrays
            .get::<[U32; 2]>(CacheSection::Ranges as usize)
            .len()
    }

    /// A path's text.
    pub fn path(&self, path: u32) -> &str {
        let ranges = self.arrays.get::<[U32; 2]>(CacheSection::Ranges as usize);
        let text = ranges.get(path as usize).and_then(|[start, end]| {
            self.arrays
                .get::<u8>(CacheSection::Arena as usize)
                .get(start.get() as usize..end.get() as usize)
        });
        text.and_then(|text| std::str::from_utf8(text).ok())
            .unwrap_or_default()
    }

    /// The files whose contents are known, sorted by path.
    pub fn looked(&self) -> &[LookRec] {
        self.arrays.get(CacheSection::Looked as usize)
    }

    /// For each path its index in [`CacheFile::looked`], or a number beyond.
    pub fn look_of_path(&self) -> Vec<u32> {
        let mut of = vec![u32::MAX; self.path_count()];
        for (index, look) in self.looked().iter().enumerate() {
            of[look.path.get() as usize] = number(index);
        }
        of
    }

    /// What stands at a file that is as recorded.
    pub fn state(&self, look: u32) -> Option<State> {
        let record = self.looked().get(look as usize)?;
        if record.absent.get() == 1 {
            return Some(State::Missing);
        }
        let digests = self.arrays.get::<[u8; 32]>(CacheSection::Digests as usize);
        digests
            .get(look as usize)
            .map(|digest| State::Content(Digest(*digest)))
    }

    /// For each step 1 when it had no reason to run.
    pub fn good(&self) -> Vec<u8> {
        self.arrays.copy(CacheSection::Good as usize)
    }

    /// What steps learned.
    pub fn learned(&self) -> Learned {
        Learned {
            starts: self.numbers(CacheSection::LearnedStarts),
            paths: self.numbers(CacheSection::LearnedPaths),
        }
    }

    /// The goals and the order of what was asked for.
    pub fn order(&self) -> (Vec<NodeId>, Order) {
        let goals = self.header.goals.iter().copied().map(NodeId).collect();
        let nodes = self.numbers(CacheSection::OrderNodes);
        let order = Order::from_parts(
            nodes.into_iter().map(NodeId).collect(),
            self.numbers(CacheSection::OrderStarts),
            self.numbers(CacheSection::OrderEdges),
        );
        (goals, order)
    }

    /// The project; `None` when the description does not fit after all.
    pub fn project<'d>(&self, vars: &Vars<'d>) -> Option<Project<'d>> {
        let parts = &vars.description.parts;
        let item = |part: u32, item: u32| parts.get(part as usize)?.items.get(item as usize);
        let mut decls = Vec::with_capacity(self.header.decls.len());
        for (part, at, holes) in &self.header.decls {
            let TopItem::Target(syntax) = item(*part, *at)? else {
                return None;
            };
            let clauses = Clauses::sort(&syntax.clauses);
            let decl = Decl::new(vars, PartId(*part), syntax, clauses, holes.clone())?;
            decls.push(Arc::new(decl));
        }
        let mut tasks = Vec::with_capacity(self.header.tasks.len());
        for task in &self.header.tasks {
            let TopItem::Task(syntax) = item(task.part, task.item)? else {
                return None;
            };
            let whats = |kept: &[KeptWhat]| kept.iter().map(|what| what.what()).collect();
            tasks.push(TaskNode {
                decl: Arc::new(TaskDecl {
                    syntax,
                    part: PartId(task.part),
                    clauses: Clauses::sort(&syntax.clauses),
                    name: from_root(&parts[task.part as usize].folder, &syntax.name.text),
                }),
                needs: task
                    .needs
                    .iter()
                    .map(|&(group, what)| Need {
                        group,
                        what: what.what(),
                    })
                    .collect(),
                after: whats(&task.after),
                steps: whats(&task.steps),
            });
        }
        let ids = |numbers: Vec<u32>| numbers.into_iter().map(PathId).collect::<Vec<_>>();
        let arena = String::from_utf8(self.arrays.copy(CacheSection::Arena as usize)).ok()?;
        Some(Project {
            parts: parts.iter().map(|part| part.folder.clone()).collect(),
            paths: Paths::from_parts(
                arena,
                self.arrays.copy(CacheSection::Ranges as usize),
                self.arrays.copy(CacheSection::Hashes as usize),
            ),
            decls,
            steps: self.arrays.copy(CacheSection::Steps as usize),
            tasks,
            values: ids(self.numbers(CacheSection::Values)),
            outputs: self
                .arrays
                .get::<Pair>(CacheSection::Outputs as usize)
                .iter()
                .map(|pair| (group(pair), PathId(pair.number.get())))
                .collect(),
            needs: self
                .arrays
                .get::<Pair>(CacheSection::Needs as usize)
                .iter()
                .map(|pair| Need {
                    group: group(pair),
                    what: KeptWhat::from_numbers(pair.group.get() >> 16, pair.number.get()).what(),
                })
                .collect(),
            sets: self.sets(),
            makers: self.numbers(CacheSection::Makers),
            sorted_outputs: ids(self.numbers(CacheSection::SortedOutputs)),
            trees: ids(self.header.trees.clone()),
            unmaterialized: Vec::new(),
            // Edges that are not declared are warned of, and what is warned of is not kept.
            learned: Vec::new(),
            defaults: self
                .header
                .defaults
                .iter()
                .map(|&(part, what)| (PartId(part), what.what()))
                .collect(),
            has_default: self.header.has_default,
        })
    }

    fn sets(&self) -> Vec<FileSet> {
        let paths = self.numbers(CacheSection::SetPaths);
        self.numbers(CacheSection::SetStarts)
            .windows(2)
            .map(|range| FileSet {
                paths: paths
                    .get(range[0] as usize..range[1] as usize)
                    .unwrap_or_default()
                    .iter()
                    .copied()
                    .map(PathId)
                    .collect(),
                trees: Box::default(),
                materialized: true,
            })
            .collect()
    }
}

fn group(pair: &Pair) -> u16 {
    u16::try_from(pair.group.get() & 0xffff).unwrap_or(u16::MAX)
}

pub fn number(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}
