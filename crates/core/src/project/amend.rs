//! A project that was worked out before, made to fit a description in which a few targets are others.
//!
//! Working a project out looks at every target. Where a few of very many came, went, or need something else, only
//! these are looked at: the steps of all others are what they were. That is so as long as no pattern could see the
//! difference, so only targets are taken that come to one step each, and whatever could touch another target (a
//! pattern that may match a new name, a file that somebody needs and nobody makes any more, a name that stands
//! twice) makes the whole project be worked out anew. What comes out is what [`ProjectBuilder`] would give, but for
//! the numbers of paths.
//!
//! [`ProjectBuilder`]: crate::project::ProjectBuilder

use std::collections::HashSet;

use crate::language::target_of;
use crate::project::check::check_decl;
use crate::project::decls::Decls;
use crate::project::description::PartId;
use crate::project::expand::Expander;
use crate::project::model::IndexRange;
use crate::project::model::NOBODY;
use crate::project::model::Project;
use crate::project::model::Step;
use crate::project::model::StepId;
use crate::project::model::What;
use crate::project::needs::Resolver;
use crate::project::paths::PathId;
use crate::project::values::Vars;

/// In what a description differs from the one that a project was worked out from.
pub struct Amendment<'a> {
    /// For each target of the project whether it is described no more.
    pub gone: &'a [bool],
    /// Where the targets stand that were not described: a part, and the index of an item in it.
    pub fresh: &'a [(PartId, usize)],
    /// Whether a pattern looked for files in the folder of a path, or above it.
    pub is_listed: &'a dyn Fn(&str) -> bool,
    /// Whether a step learned of one of these when it last ran.
    pub learns_any: &'a dyn Fn(&HashSet<PathId>) -> bool,
}

/// Makes a project fit. For each step which one it was, [`NOBODY`] for those of fresh targets; none when the project
/// is to be worked out anew, and this one is of no use any more. What was found wrong until then would be found again,
/// so that it stays reported.
pub fn amend<'d>(
    project: &mut Project<'d>,
    vars: &Vars<'d>,
    amendment: &Amendment<'_>,
) -> Option<Vec<u32>> {
    if !vars.is_silent() {
        return None;
    }
    let (steps, sets, trees) = (project.steps.len(), project.sets.len(), project.trees.len());
    let mut lost = withdraw(project, amendment.gone)?;
    let mut expander = Expander::new(vars, None);
    for &(part, item) in amendment.fresh {
        let described = vars.description.parts.get(part.index())?;
        let target = target_of(described.items.get(item)?, &vars.description.sources)?;
        expander.declare(project, (part, item), target);
    }
    let is_plain = expander.eaches.is_empty() && project.trees.len() == trees;
    if !is_plain || !vars.is_silent() {
        return None;
    }
    let made = project.steps[steps..]
        .iter()
        .flat_map(|step| project.step_outputs(step));
    let mut gained: HashSet<PathId> = made.map(|&(_, path)| path).collect();
    let stays: HashSet<PathId> = gained.intersection(&lost).copied().collect();
    gained.retain(|path| !stays.contains(path));
    lost.retain(|path| !stays.contains(path));
    let origin = arrange(project, amendment.gone, steps);
    arrange_outputs(project, &gained, &lost);
    if !(gained.is_empty() && lost.is_empty()) && touches_others(project, amendment, &gained, &lost)
    {
        return None;
    }
    let fresh = (0..origin.len()).filter(|&step| origin[step] == NOBODY);
    let fresh: Vec<StepId> = fresh.map(StepId::from_index).collect();
    let mut needs = Resolver::new(vars, None);
    needs.run_some(project, &fresh);
    needs.finish(project);
    for &step in &fresh {
        check_decl(vars, project.decl(project.step(step)));
    }
    (project.sets.len() == sets && vars.is_silent()).then_some(origin)
}

/// Takes what the steps of targets that are gone make from them; these paths. None when one of them is of a kind
/// that others depend on.
fn withdraw(project: &mut Project<'_>, gone: &[bool]) -> Option<HashSet<PathId>> {
    let mut lost = HashSet::new();
    for step in &project.steps {
        if gone.get(step.decl as usize) != Some(&true) {
            continue;
        }
        let needs = step.needs.of(&project.needs).iter();
        let mut needs = needs.chain(step.after.of(&project.needs));
        if step.values.start != step.values.end
            || needs.any(|need| matches!(need.what, What::Set(_)))
        {
            return None;
        }
        for &(_, path) in project.step_outputs(step) {
            if project.paths.get(path).ends_with('/') {
                return None;
            }
            lost.insert(path);
        }
    }
    for path in &lost {
        *project.makers.get_mut(path.index())? = NOBODY;
    }
    Some(lost)
}

/// Puts targets and steps in the order of the description, without those that are gone; for each step which of the
/// first `known` it was.
fn arrange(project: &mut Project<'_>, gone: &[bool], known: usize) -> Vec<u32> {
    let is_gone = |decl: usize| gone.get(decl) == Some(&true);
    let place = |decls: &Decls<'_>, index: usize| match decls.read_already(index) {
        Some(decl) => (decl.part, decl.item),
        None => decls.place(index).0,
    };
    let mut order: Vec<usize> = (0..project.decls.len())
        .filter(|&at| !is_gone(at))
        .collect();
    order.sort_by_key(|&index| place(&project.decls, index));
    let mut now = vec![NOBODY; project.decls.len()];
    for (index, &before) in (0..).zip(&order) {
        now[before] = index;
    }
    project.decls.rearrange(&order);

    let mut steps: Vec<usize> = (0..project.steps.len()).collect();
    steps.retain(|&step| !is_gone(project.steps[step].decl as usize));
    steps.sort_by_key(|&step| now[project.steps[step].decl as usize]);
    let mut moved = vec![NOBODY; project.steps.len()];
    let (mut values, mut outputs, mut needs) = (Vec::new(), Vec::new(), Vec::new());
    let mut arranged = Vec::with_capacity(steps.len());
    for (index, &before) in (0..).zip(&steps) {
        moved[before] = index;
        let step = &project.steps[before];
        arranged.push(Step {
            decl: now[step.decl as usize],
            values: copied(step.values, &project.values, &mut values),
            outputs: copied(step.outputs, &project.outputs, &mut outputs),
            needs: copied(step.needs, &project.needs, &mut needs),
            after: copied(step.after, &project.needs, &mut needs),
        });
    }
    project.steps = arranged;
    (project.values, project.outputs, project.needs) = (values, outputs, needs);
    for maker in project.makers.iter_mut().filter(|maker| **maker != NOBODY) {
        *maker = moved[*maker as usize];
    }
    let number = |step: usize| u32::try_from(step).unwrap_or(NOBODY);
    let origin = |step: usize| if step < known { number(step) } else { NOBODY };
    steps.into_iter().map(origin).collect()
}

/// Copies a stretch of one list to the end of another.
fn copied<T: Copy>(range: IndexRange, from: &[T], to: &mut Vec<T>) -> IndexRange {
    let start = to.len();
    to.extend_from_slice(range.of(from));
    IndexRange::behind(start, to)
}

fn arrange_outputs(project: &mut Project<'_>, gained: &HashSet<PathId>, lost: &HashSet<PathId>) {
    let paths = &project.paths;
    project.sorted_outputs.retain(|path| !lost.contains(path));
    project.sorted_outputs.extend(gained);
    // Stable: what is sorted already is one run.
    project
        .sorted_outputs
        .sort_by(|&a, &b| paths.get(a).cmp(paths.get(b)));
}

/// Whether it makes a difference to other targets that some paths are made now, and others no more.
fn touches_others(
    project: &Project<'_>,
    amendment: &Amendment<'_>,
    gained: &HashSet<PathId>,
    lost: &HashSet<PathId>,
) -> bool {
    let differing = || gained.iter().chain(lost);
    let overlaps = |path: PathId| {
        let name = project.paths.get(path);
        let mut above = name.match_indices('/').map(|(at, _)| &name[..at]);
        above.any(|above| {
            let above = project.paths.find(above);
            above.is_some_and(|above| project.maker(above).is_some())
        }) || project.outputs_in(&format!("{name}/")).next().is_some()
    };
    let is_lost = |what: &What| matches!(what, What::Path(path) if lost.contains(path));
    let is_missed = || {
        let tasks = project.tasks.iter().flat_map(|task| {
            let needs = task.needs.iter().map(|need| &need.what);
            needs.chain(&task.after).chain(&task.steps)
        });
        let needs = project.needs.iter().map(|need| &need.what);
        let defaults = project.defaults.iter().map(|(_, what)| what);
        needs.chain(tasks).chain(defaults).any(is_lost)
    };
    let is_listed = |&path: &PathId| (amendment.is_listed)(project.paths.get(path));
    let is_task = |&path: &PathId| project.task_named(project.paths.get(path)).is_some();
    !project.trees.is_empty()
        || differing().any(is_listed)
        || gained.iter().any(is_task)
        || gained.iter().any(|&path| overlaps(path))
        || !lost.is_empty() && is_missed()
        || (amendment.learns_any)(&differing().copied().collect())
}
