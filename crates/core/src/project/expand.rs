//! From targets to steps: what each `each` matches, joined on shared holes.
//!
//! ```text
//! target out/<l>-<y>.csv          logs/a.csv  logs/b.csv        (slot 1: l = a | b)
//!   needs each logs/<l>.csv       2024 2025                     (slot 2: y = 2024 | 2025)
//!   each y in 2024 2025           -> a-2024 a-2025 b-2024 b-2025
//! ```
//!
//! Slots that share a hole are joined on its value; others are combined freely. Outputs that appear
//! are matched against all patterns again, round by round, so chains of any length come out.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::language::TargetSyntax;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::description::PartId;
use crate::project::each::each_words;
use crate::project::each::hole_names;
use crate::project::each_match::Each;
use crate::project::each_match::FileSlot;
use crate::project::each_match::HoleSlot;
use crate::project::model::IndexRange;
use crate::project::model::NOBODY;
use crate::project::model::Project;
use crate::project::model::Step;
use crate::project::model::StepId;
use crate::project::paths::PathId;
use crate::project::pattern::fill_holes;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// One target may not come to more steps than this.
pub(super) const MAX_STEPS: usize = 5_000_000;

pub struct Expander<'v, 'd> {
    pub(super) vars: &'v Vars<'d>,
    pub(super) materialized: Option<&'v HashSet<String>>,
    pub(super) eaches: Vec<Each>,
    /// Which patterns lie in a folder: indices of `eaches` and of their slots.
    pub(super) by_folder: HashMap<String, Vec<(usize, usize)>>,
    /// Outputs that have not been matched against the patterns yet.
    pub(super) fresh: Vec<PathId>,
}

impl<'v, 'd> Expander<'v, 'd> {
    pub fn new(vars: &'v Vars<'d>, materialized: Option<&'v HashSet<String>>) -> Self {
        Self {
            vars,
            materialized,
            eaches: Vec::new(),
            by_folder: HashMap::new(),
            fresh: Vec::new(),
        }
    }

    // ---- declarations --------------------------------------------------------------------------

    pub fn declare(
        &mut self,
        project: &mut Project<'d>,
        (part, item): (PartId, usize),
        target: &'d TargetSyntax,
    ) {
        let clauses = Clauses::sort(&target.clauses);
        if clauses.recipe.is_none() {
            self.vars.report(
                Diagnostic::error(&mistakes::MISSING_RECIPE, target.span, "this target has no `recipe:`")
                    .help("say how it is made: an indented line `recipe: COMMAND`; a name for several things is a `task`"),
            );
            return;
        }
        let holes = hole_names(self.vars, part, &clauses);
        let Some(decl) = Decl::new(self.vars, (part, item), target, clauses, holes) else {
            return;
        };
        if let Some(when) = decl.clauses.when
            && !decl.when_varies()
            && self.vars.condition(when, &decl.fixed_frame()) != Some(true)
        {
            return;
        }
        let index = project.decls.len();
        project.decls.push(decl);
        let Some(slots) = self.slots(project, index) else {
            return;
        };
        if slots.is_empty() {
            self.add_step(project, index, &[], &[]);
            return;
        }
        let each = self.eaches.len();
        for (number, slot) in slots.iter().enumerate() {
            if let HoleSlot::Files(files) = slot {
                self.by_folder
                    .entry(files.pattern.folder().to_owned())
                    .or_default()
                    .push((each, number));
            }
        }
        self.eaches.push(Each {
            decl: index,
            slots,
            emitted: HashSet::new(),
            done: 0,
            changed: true,
        });
    }

    // ---- rounds --------------------------------------------------------------------------------

    pub fn run(&mut self, project: &mut Project<'d>) {
        self.match_sources(project);
        loop {
            self.match_fresh(project);
            let mut grew = false;
            for each in 0..self.eaches.len() {
                if std::mem::take(&mut self.eaches[each].changed) {
                    grew = true;
                    self.emit(project, each);
                }
            }
            if project.steps.len() > MAX_STEPS {
                return;
            }
            if !grew && self.fresh.is_empty() {
                break;
            }
        }
        self.warn_empty(project);
        in_order_of_targets(project);
        project.sorted_outputs = project.outputs.iter().map(|&(_, path)| path).collect();
        let paths = &project.paths;
        project
            .sorted_outputs
            .sort_unstable_by(|&a, &b| paths.get(a).cmp(paths.get(b)));
        project.sorted_outputs.dedup();
        self.check_overlaps(project);
    }

    // ---- steps ---------------------------------------------------------------------------------

    fn emit(&mut self, project: &mut Project<'d>, each: usize) {
        let decl = self.eaches[each].decl;
        let holes = project.decls[decl].holes.len();
        if let [HoleSlot::Files(files)] = &self.eaches[each].slots[..] {
            // By far the most frequent case: each match is one step.
            let (numbers, matches) = (&files.holes, &files.matches);
            let mut fresh: Vec<(Vec<PathId>, PathId)> = matches[self.eaches[each].done..]
                .iter()
                .map(|found| {
                    let mut values = vec![PathId(0); holes];
                    for (&number, &value) in numbers.iter().zip(&found.values) {
                        values[number] = value;
                    }
                    (values, found.path)
                })
                .collect();
            self.eaches[each].done = matches.len();
            let paths = &project.paths;
            fresh.sort_by(|(_, a), (_, b)| paths.get(*a).cmp(paths.get(*b)));
            for (values, path) in fresh {
                self.add_step(project, decl, &values, &[path]);
            }
            return;
        }
        if let [
            HoleSlot::Rows {
                holes: numbers,
                rows,
            },
        ] = &self.eaches[each].slots[..]
        {
            // No step of a table has anything to be joined with.
            let rows = rows[self.eaches[each].done..].iter().map(|row| {
                let mut values = vec![PathId(0); holes];
                for (&number, &value) in numbers.iter().zip(row) {
                    values[number] = value;
                }
                values
            });
            let rows: Vec<Vec<PathId>> = rows.collect();
            self.eaches[each].done += rows.len();
            for values in rows {
                self.add_step(project, decl, &values, &[]);
            }
            return;
        }
        for (values, matched) in self.join(project, each, holes) {
            let key: Vec<PathId> = values.iter().chain(&matched).copied().collect();
            if self.eaches[each].emitted.insert(key) {
                self.add_step(project, decl, &values, &matched);
            }
        }
    }

    /// The files that patterns with holes and wildcards match, by the pattern with its holes filled. Made folders are
    /// looked into by whoever asks for such a set.
    pub fn gathered(&mut self, project: &Project<'d>) -> HashMap<String, Vec<PathId>> {
        let mut sets = HashMap::new();
        if !project.trees.is_empty() {
            return sets;
        }
        for slot in self.eaches.iter_mut().flat_map(|each| &mut each.slots) {
            let HoleSlot::Files(files) = slot else {
                continue;
            };
            let FileSlot {
                pattern,
                except,
                gathered: Some(gathered),
                ..
            } = &mut **files
            else {
                continue;
            };
            if !except.is_empty() {
                continue;
            }
            for (values, mut paths) in gathered.of_values.drain() {
                let value = |name: &str| {
                    let at = pattern.holes().iter().position(|hole| hole == name)?;
                    Some(project.paths.get(values[at]))
                };
                let (source, _) = fill_holes(&gathered.source, value);
                let paths_of = &project.paths;
                paths.sort_unstable_by(|&a, &b| paths_of.get(a).cmp(paths_of.get(b)));
                sets.insert(source, paths);
            }
        }
        sets
    }

    fn add_step(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        values: &[PathId],
        matched: &[PathId],
    ) {
        let step = StepId::from_index(project.steps.len());
        let Some(outputs) = self.step_outputs(project, index, values) else {
            return;
        };
        if !project.decls[index].conditional.is_empty() {
            let texts: Vec<&str> = values.iter().map(|&id| project.paths.get(id)).collect();
            if project.decls[index]
                .check_conditional(self.vars, &texts)
                .is_none()
            {
                return;
            }
        }
        let values_at = project.values.len();
        project.values.extend_from_slice(values);
        project.values.extend_from_slice(matched);
        if !matched.is_empty() && !self.check_lineage(project, index, matched) {
            return;
        }
        let outputs_at = project.outputs.len();
        for (group, path, span) in outputs {
            self.claim(project, step, (index, values), path, span);
            project.outputs.push((group, path));
        }
        project.steps.push(Step {
            decl: u32::try_from(index).unwrap_or(u32::MAX),
            values: IndexRange::behind(values_at, &project.values),
            outputs: IndexRange::behind(outputs_at, &project.outputs),
            needs: IndexRange::default(),
            after: IndexRange::default(),
        });
    }

    /// Refuses a step whose `each` matched something that the same target made before it.
    fn check_lineage(&self, project: &Project<'d>, index: usize, matched: &[PathId]) -> bool {
        let mut open: Vec<PathId> = matched.to_vec();
        let mut visited = 0;
        while let Some(path) = open.pop() {
            let Some(maker) = project.maker(path) else {
                continue;
            };
            let step = project.step(maker);
            visited += 1;
            if step.decl as usize == index {
                let word = each_words(&project.decls[index].clauses).next();
                self.vars.report(
                    Diagnostic::error(
                        &mistakes::EACH_MATCHES_OUTPUT,
                        word.map_or(project.decls[index].syntax.span, |(word, _)| word.span),
                        format!(
                            "this `each` matches `{}`, which the same target makes",
                            project.paths.get(path)
                        ),
                    )
                    .also(project.decls[index].syntax.span, "makes it")
                    .help("let the target write to another folder, or make the pattern narrower"),
                );
                return false;
            }
            let holes = project.decls[step.decl as usize].holes.len();
            let all = step.values.of(&project.values);
            if visited < 10_000 {
                open.extend(&all[holes.min(all.len())..]);
            }
        }
        true
    }
}

/// Puts the steps of each target together, in the order in which the targets stand.
fn in_order_of_targets(project: &mut Project<'_>) {
    if project.steps.is_sorted_by_key(|step| step.decl) {
        return;
    }
    let mut order: Vec<usize> = (0..project.steps.len()).collect();
    order.sort_by_key(|&index| project.steps[index].decl);
    let mut moved = vec![NOBODY; order.len()];
    for (now, &before) in order.iter().enumerate() {
        moved[before] = u32::try_from(now).unwrap_or(NOBODY);
    }
    project.steps = order
        .into_iter()
        .map(|before| project.steps[before])
        .collect();
    for maker in project.makers.iter_mut().filter(|maker| **maker != NOBODY) {
        *maker = moved[*maker as usize];
    }
}
