//! Reading a kept project, as [`cache_layout`](crate::project_cache::cache_layout) says. It is only ever read
//! by the program, on the kind of machine, that wrote it: both are part of its key.

use std::sync::Arc;

use zerocopy::little_endian::U32;

use crate::graph::NodeId;
use crate::graph::Order;
use crate::language::TopItem;
use crate::language::target_of;
use crate::ledger::Bytes;
use crate::ledger::arrays::Arrays;
use crate::project::FileSet;
use crate::project::Need;
use crate::project::PartId;
use crate::project::PathId;
use crate::project::Paths;
use crate::project::Project;
use crate::project::TaskNode;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::decl::TaskDecl;
use crate::project::decls::DeclPlace;
use crate::project::decls::Decls;
use crate::project::paths::from_root;
use crate::project::values::Vars;
use crate::project_cache::cache_check::is_sound;
use crate::project_cache::cache_layout::CacheHeader;
use crate::project_cache::cache_layout::CacheSection;
use crate::project_cache::cache_layout::DeclRec;
use crate::project_cache::cache_layout::ItemRec;
use crate::project_cache::cache_layout::KeptWhat;
use crate::project_cache::cache_layout::LAYOUT;
use crate::project_cache::cache_layout::Pair;
use crate::project_cache::front::Front;
use crate::project_cache::skeleton::Edit;

/// A kept project that is being read.
pub struct CacheFile {
    arrays: Arrays,
    pub header: CacheHeader,
}

/// What steps learned, as paths.
#[derive(Clone, Copy)]
pub struct Learned<'f> {
    starts: &'f [U32],
    paths: &'f [U32],
}

impl<'f> Learned<'f> {
    /// What one step learned.
    pub fn of(self, step: usize) -> impl Iterator<Item = PathId> + 'f {
        let paths: &[U32] = match (self.starts.get(step), self.starts.get(step + 1)) {
            (Some(start), Some(end)) => self
                .paths
                .get(start.get() as usize..end.get() as usize)
                .unwrap_or_default(),
            _ => &[],
        };
        paths.iter().map(|path| PathId(path.get()))
    }

    /// What all steps learned.
    pub fn all(self) -> impl Iterator<Item = PathId> + 'f {
        self.paths.iter().map(|path| PathId(path.get()))
    }
}

impl CacheFile {
    /// Reads one; `None` when it is damaged, of another kind, or was not written by this user.
    pub fn open(bytes: Bytes, key: &[u8; 32]) -> Option<Self> {
        let arrays = Arrays::open_sealed(bytes, LAYOUT, key).ok()?;
        let header = postcard::from_bytes(arrays.get::<u8>(CacheSection::Header as usize)).ok()?;
        is_sound(&arrays, &header).then_some(Self { arrays, header })
    }

    /// Reads the one that belongs to a front.
    pub fn of_front(front: &Front, bytes: Bytes, key: &[u8; 32]) -> Option<Self> {
        Self::open(bytes, key).filter(|file| file.seal() == front.header.body)
    }

    /// How many positions the order has.
    pub fn order_length(&self) -> usize {
        self.arrays.count(CacheSection::OrderNodes as usize)
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

    /// For each step 1 when it had no reason to run.
    pub fn good(&self) -> Vec<u8> {
        self.arrays.copy(CacheSection::Good as usize)
    }

    /// What it is sealed with.
    pub fn seal(&self) -> [u8; 32] {
        self.arrays.seed
    }

    /// For each target whether that holds for the part and the item at which it stands.
    pub fn decls_at(&self, holds: impl Fn(u32, u32) -> bool) -> Vec<bool> {
        let records: &[DeclRec] = self.arrays.get(CacheSection::Decls as usize);
        let records = records.iter();
        records
            .map(|record| holds(record.part.get(), record.item.get()))
            .collect()
    }

    /// The lines of each item, part by part.
    pub fn items(&self) -> &[ItemRec] {
        self.arrays.get(CacheSection::Items as usize)
    }

    /// What steps learned.
    pub fn learned(&self) -> Learned<'_> {
        Learned {
            starts: self.arrays.get(CacheSection::LearnedStarts as usize),
            paths: self.arrays.get(CacheSection::LearnedPaths as usize),
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

    /// The project; `None` when the description does not fit after all. Where the description differs, its items stand
    /// where `edit` says, and targets that are gone are not to be asked for.
    pub fn project<'d>(&self, vars: &Vars<'d>, edit: Option<&Edit>) -> Option<Project<'d>> {
        let (decls, tasks) = (self.decls(vars, edit)?, self.tasks(vars, edit)?);
        let parts = &vars.description.parts;
        let ids = |numbers: Vec<u32>| numbers.into_iter().map(PathId).collect::<Vec<_>>();
        let arena = String::from_utf8(self.arrays.copy(CacheSection::Arena as usize)).ok()?;
        Some(Project {
            root: vars.environment.root(),
            parts: parts.iter().map(|part| part.folder.clone()).collect(),
            paths: Paths::from_parts(
                arena,
                self.arrays.copy(CacheSection::Ranges as usize),
                self.arrays.copy(CacheSection::Hashes as usize),
            ),
            folder_uses: Vec::new(),
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

    fn decls<'d>(&self, vars: &Vars<'d>, edit: Option<&Edit>) -> Option<Decls<'d>> {
        let records: &[DeclRec] = self.arrays.get(CacheSection::Decls as usize);
        let place = |record: &DeclRec| DeclPlace {
            part: PartId(record.part.get()),
            item: place_now(edit, record.part.get(), record.item.get()).unwrap_or(u32::MAX)
                as usize,
            holes: record.holes.get() as usize,
        };
        let places = records.iter().map(place).collect();
        let mut decls = Decls::unread(vars.description, places, self.header.holes.clone());
        for (index, record) in records.iter().enumerate() {
            if record.has_lets.get() == 0 {
                continue;
            }
            let DeclPlace { part, item, holes } = place(record);
            let described = vars.description.parts.get(part.index())?;
            let syntax = target_of(described.items.get(item)?, &vars.description.sources)?;
            let clauses = Clauses::sort(&syntax.clauses);
            let holes = self.header.holes.get(holes)?.clone();
            decls.set(
                index,
                Decl::new(vars, (part, item), syntax, clauses, holes)?,
            );
        }
        Some(decls)
    }

    fn tasks<'d>(&self, vars: &Vars<'d>, edit: Option<&Edit>) -> Option<Vec<TaskNode<'d>>> {
        let whats = |kept: &[KeptWhat]| kept.iter().map(|what| what.what()).collect();
        let tasks = self.header.tasks.iter().map(|task| {
            let place = place_now(edit, task.part, task.item)?;
            let TopItem::Task(syntax) = item(vars, task.part, place)? else {
                return None;
            };
            let folder = &vars.description.parts[task.part as usize].folder;
            let needs = task.needs.iter().map(|&(group, what)| Need {
                group,
                what: what.what(),
            });
            let decl = Arc::new(TaskDecl {
                syntax,
                part: PartId(task.part),
                item: place as usize,
                clauses: Clauses::of_task(vars, PartId(task.part), syntax)?,
                name: from_root(folder, &syntax.name.text),
            });
            Some(TaskNode {
                needs: needs.collect(),
                after: whats(&task.after),
                steps: whats(&task.steps),
                finally: task
                    .finally
                    .iter()
                    .copied()
                    .map(crate::project::TaskId)
                    .collect(),
                ..TaskNode::new(decl, task.call.clone(), task.is_called)
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

/// Where an item of a part stands now.
fn place_now(edit: Option<&Edit>, part: u32, item: u32) -> Option<u32> {
    match edit {
        Some(edit) => edit.place(part, item),
        None => Some(item),
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
