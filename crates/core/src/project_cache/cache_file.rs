//! Reading a kept project, as [`cache_layout`](crate::project_cache::cache_layout) says. It is only ever read
//! by the program, on the kind of machine, that wrote it: both are part of its key.

use std::sync::Arc;

use zerocopy::little_endian::U32;

use crate::content::State;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::language::TopItem;
use crate::ledger::Bytes;
use crate::ledger::arrays::Arrays;
use crate::project::FileSet;
use crate::project::Need;
use crate::project::PartId;
use crate::project::PathId;
use crate::project::Paths;
use crate::project::Project;
use crate::project::TaskNode;
use crate::project::decl::Clauses;
use crate::project::decl::Decl;
use crate::project::decl::TaskDecl;
use crate::project::paths::from_root;
use crate::project::values::Vars;
use crate::project_cache::cache_check::is_sound;
use crate::project_cache::cache_layout::CacheHeader;
use crate::project_cache::cache_layout::CacheSection;
use crate::project_cache::cache_layout::KeptWhat;
use crate::project_cache::cache_layout::LAYOUT;
use crate::project_cache::cache_layout::LookRec;
use crate::project_cache::cache_layout::Pair;
use crate::project_cache::cache_layout::number;
use crate::world::Digest;

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
        let header = postcard::from_bytes(arrays.get::<u8>(CacheSection::Header as usize)).ok()?;
        is_sound(&arrays, &header).then_some(Self { arrays, header })
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
            self.arrays.copy(CacheSection::OrderEdges as usize),
        );
        (goals, order)
    }

    /// The project; `None` when the description does not fit after all.
    pub fn project<'d>(&self, vars: &Vars<'d>) -> Option<Project<'d>> {
        let (decls, tasks) = (self.decls(vars)?, self.tasks(vars)?);
        let parts = &vars.description.parts;
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

    fn decls<'d>(&self, vars: &Vars<'d>) -> Option<Vec<Arc<Decl<'d>>>> {
        let decls = self.header.decls.iter().map(|(part, at, holes)| {
            let TopItem::Target(syntax) = item(vars, *part, *at)? else {
                return None;
            };
            let clauses = Clauses::sort(&syntax.clauses);
            let decl = Decl::new(vars, PartId(*part), syntax, clauses, holes.clone())?;
            Some(Arc::new(decl))
        });
        decls.collect()
    }

    fn tasks<'d>(&self, vars: &Vars<'d>) -> Option<Vec<TaskNode<'d>>> {
        let whats = |kept: &[KeptWhat]| kept.iter().map(|what| what.what()).collect();
        let tasks = self.header.tasks.iter().map(|task| {
            let TopItem::Task(syntax) = item(vars, task.part, task.item)? else {
                return None;
            };
            let folder = &vars.description.parts[task.part as usize].folder;
            let needs = task.needs.iter().map(|&(group, what)| Need {
                group,
                what: what.what(),
            });
            Some(TaskNode {
                decl: Arc::new(TaskDecl {
                    syntax,
                    part: PartId(task.part),
                    clauses: Clauses::sort(&syntax.clauses),
                    name: from_root(folder, &syntax.name.text),
                }),
                needs: needs.collect(),
                after: whats(&task.after),
                steps: whats(&task.steps),
            })
        });
        tasks.collect()
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

/// An item of a part, by the numbers of both.
fn item<'d>(vars: &Vars<'d>, part: u32, item: u32) -> Option<&'d TopItem> {
    let part = vars.description.parts.get(part as usize)?;
    part.items.get(item as usize)
}

fn group(pair: &Pair) -> u16 {
    u16::try_from(pair.group.get() & 0xffff).unwrap_or(u16::MAX)
}
