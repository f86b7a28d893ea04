//! Whether all numbers in a kept project lie where they belong, so that nothing that reads it has to ask again.

use zerocopy::little_endian::U32;

use crate::ledger::arrays::Arrays;
use crate::project::IndexRange;
use crate::project::Step;
use crate::project_cache::cache_layout::CacheHeader;
use crate::project_cache::cache_layout::CacheSection;
use crate::project_cache::cache_layout::DeclRec;
use crate::project_cache::cache_layout::ItemRec;
use crate::project_cache::cache_layout::KeptTask;
use crate::project_cache::cache_layout::KeptWhat;
use crate::project_cache::cache_layout::Pair;

/// Whether a kept project is sound.
pub fn is_sound(arrays: &Arrays, header: &CacheHeader) -> bool {
    let check = Check {
        arrays,
        header,
        paths: arrays.count(CacheSection::Ranges as usize),
        steps: arrays.count(CacheSection::Steps as usize),
        sets: arrays
            .count(CacheSection::SetStarts as usize)
            .saturating_sub(1),
        tasks: header.tasks.len(),
    };
    check.paths()
        && check.decls()
        && check.steps()
        && check.sets()
        && check.order()
        && check.header()
}

/// A kept project, and how much there is of everything in it.
struct Check<'a> {
    arrays: &'a Arrays,
    header: &'a CacheHeader,
    paths: usize,
    steps: usize,
    sets: usize,
    tasks: usize,
}

impl Check<'_> {
    fn count(&self, section: CacheSection) -> usize {
        self.arrays.count(section as usize)
    }

    /// Whether all numbers of an array are below this.
    fn below(&self, section: CacheSection, limit: usize) -> bool {
        let numbers = self.arrays.get::<U32>(section as usize);
        numbers.iter().all(|number| (number.get() as usize) < limit)
    }

    /// Whether an array holds where `count` lists begin in another array of this length, and one more.
    fn rising(&self, section: CacheSection, count: usize, end: usize) -> bool {
        let starts = self.arrays.get::<U32>(section as usize);
        starts.len() == count + 1
            && starts.windows(2).all(|pair| pair[0].get() <= pair[1].get())
            && starts.last().is_some_and(|last| last.get() as usize <= end)
    }

    fn is_what(&self, what: &KeptWhat) -> bool {
        match what {
            KeptWhat::Path(path) => (*path as usize) < self.paths,
            KeptWhat::Set(set) => (*set as usize) < self.sets,
            KeptWhat::Task(task) => (*task as usize) < self.tasks,
        }
    }

    fn paths(&self) -> bool {
        let arena = self.arrays.get::<u8>(CacheSection::Arena as usize);
        let in_arena = |[start, end]: &[U32; 2]| {
            let text = arena.get(start.get() as usize..end.get() as usize);
            text.is_some_and(|text| std::str::from_utf8(text).is_ok())
        };
        let ranges = self.arrays.get::<[U32; 2]>(CacheSection::Ranges as usize);
        ranges.iter().all(in_arena) && self.count(CacheSection::Hashes) == self.paths
    }

    fn decls(&self) -> bool {
        let decls = self.arrays.get::<DeclRec>(CacheSection::Decls as usize);
        let parts = &self.header.parts;
        let is_decl = |decl: &DeclRec| {
            let part = parts.get(decl.part.get() as usize);
            part.is_some_and(|(.., items)| decl.item.get() < *items)
                && (decl.holes.get() as usize) < self.header.holes.len()
        };
        let items = self.arrays.get::<ItemRec>(CacheSection::Items as usize);
        let count: usize = parts.iter().map(|(.., items)| *items as usize).sum();
        decls.iter().all(is_decl)
            && items.len() == count
            && items.iter().all(|item| item.start.get() <= item.end.get())
    }

    fn steps(&self) -> bool {
        let steps: Vec<Step> = self.arrays.copy(CacheSection::Steps as usize);
        let within = |range: IndexRange, section: CacheSection| {
            range.start <= range.end && range.end as usize <= self.count(section)
        };
        let is_step = |step: &Step| {
            (step.decl as usize) < self.count(CacheSection::Decls)
                && within(step.values, CacheSection::Values)
                && within(step.outputs, CacheSection::Outputs)
                && step.outputs.start < step.outputs.end
                && within(step.needs, CacheSection::Needs)
                && within(step.after, CacheSection::Needs)
        };
        let outputs = self.arrays.get::<Pair>(CacheSection::Outputs as usize);
        let needs = self.arrays.get::<Pair>(CacheSection::Needs as usize);
        let makers = self.arrays.get::<U32>(CacheSection::Makers as usize);
        let is_need = |pair: &Pair| {
            let what = KeptWhat::from_numbers(pair.group.get() >> 16, pair.number.get());
            self.is_what(&what)
        };
        steps.iter().all(is_step)
            && self.below(CacheSection::Values, self.paths)
            && outputs
                .iter()
                .all(|pair| (pair.number.get() as usize) < self.paths)
            && needs.iter().all(is_need)
            && makers
                .iter()
                .all(|maker| maker.get() == u32::MAX || (maker.get() as usize) < self.steps)
            && self.below(CacheSection::SortedOutputs, self.paths)
            && self.below(CacheSection::LearnedPaths, self.paths)
            && self.count(CacheSection::Good) == self.steps
    }

    fn sets(&self) -> bool {
        let paths = self.count(CacheSection::SetPaths);
        (self.sets == 0 || self.rising(CacheSection::SetStarts, self.sets, paths))
            && self.below(CacheSection::SetPaths, self.paths)
    }

    /// How many nodes the project has.
    fn nodes(&self) -> usize {
        self.steps + self.tasks + self.sets
    }

    fn order(&self) -> bool {
        let positions = self.count(CacheSection::OrderNodes);
        let edges = self.count(CacheSection::OrderEdges);
        self.below(CacheSection::OrderNodes, self.nodes())
            && self.rising(CacheSection::OrderStarts, positions, edges)
            && self.below(CacheSection::OrderEdges, positions.max(1))
    }

    fn header(&self) -> bool {
        let header = self.header;
        let is_task = |task: &KeptTask| {
            let needs = task.needs.iter().map(|(_, what)| what);
            let mut all = needs.chain(&task.after).chain(&task.steps);
            all.all(|what| self.is_what(what))
        };
        header.tasks.iter().all(is_task)
            && header.defaults.iter().all(|(_, what)| self.is_what(what))
            && header
                .goals
                .iter()
                .all(|goal| (*goal as usize) < self.nodes())
            && header
                .trees
                .iter()
                .all(|tree| (*tree as usize) < self.paths)
    }
}
