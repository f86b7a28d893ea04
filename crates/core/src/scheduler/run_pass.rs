//! What one pass is to do, has done, and leaves for the next run.

use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::ledger::Entry;
use crate::project::PathId;
use crate::project::values::Vars;
use crate::project_cache;
use crate::project_cache::BuildOutcome;
use crate::project_cache::CachedProject;
use crate::project_cache::LoadedProject;
use crate::project_cache::cached_project;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass::Judged;
use crate::scheduler::pass::Pass;
use crate::scheduler::pass_view::PassView;

/// What one pass is to do.
pub struct PassPlan {
    pub goals: Vec<NodeId>,
    pub order: Order,
    /// Whole folders that are made first, when there are any.
    pub trees: Vec<PathId>,
}

/// What a pass has done.
pub struct PassResult {
    /// Whether something went wrong, or the run is to end.
    pub failed: bool,
    /// Whether another pass may begin.
    pub goes_on: bool,
    /// What was found of each position that was judged.
    pub judged: Judged,
    /// Which positions were judged; all of them when that is not said.
    pub open: Option<PerPosition<bool>>,
}

/// Tells warnings, and stops at mistakes.
pub fn report(state: &mut BuildState<'_>, vars: &Vars<'_>) -> Result<(), BuildError> {
    let (errors, warnings) = vars.take_errors();
    if !errors.is_empty() {
        let all = errors.into_iter().chain(warnings);
        return Err(BuildError::Description(all.collect()));
    }
    warnings.into_iter().for_each(|warning| state.warn(warning));
    Ok(())
}

/// Carries one pass out. Contents that are known from the last run are not looked at.
pub fn run_pass(
    state: &mut BuildState<'_>,
    view: PassView<'_, '_>,
    goals: &[NodeId],
    cached: Option<&CachedProject>,
) -> Result<Judged, BuildError> {
    let contents = cached.map(CachedProject::contents);
    let known = |path: PathId| contents.as_ref()?.state(path);
    let known: Option<&dyn Fn(PathId) -> _> = match contents {
        Some(_) => Some(&known),
        None => None,
    };
    let result = Pass::new(view, goals, state).run(known);
    report(state, view.vars)?;
    result
}

/// Which positions have to be judged although the last run is known; counts the others as kept.
pub fn open_positions(
    state: &mut BuildState<'_>,
    loaded: &mut LoadedProject<'_>,
    plan: &PassPlan,
    request: &BuildRequest,
) -> Option<PerPosition<bool>> {
    let cached = loaded.cached.as_mut()?;
    let (disk, threads) = (state.context.disk, state.options.threads);
    if cached.answers(request) && !cached.was_looked_at() {
        cached.look(disk, threads, None);
    }
    cached.look_at(&loaded.project, &plan.order, disk, threads);
    let forced: &[NodeId] = if state.options.again {
        &plan.goals
    } else {
        &[]
    };
    let open = cached.open_positions(&loaded.project, &plan.order, forced);
    state.progress.summary.kept += cached_project::kept_steps(&loaded.project, &plan.order, &open);
    Some(open)
}

/// What a run leaves for the next one.
#[derive(Debug, PartialEq, Eq)]
enum Keeping {
    /// What is kept serves the next run as it is.
    Nothing,
    /// The project, as it is now.
    Anew,
    /// The project with the description's texts as they are now; all that it reaches is up to date.
    Patched,
    /// That all that the kept project reaches is up to date; the seal of its front.
    UpToDate([u8; 32]),
}

/// Leaves for the next run what this one knows.
pub fn keep_for_next<'d>(
    state: &mut BuildState<'_>,
    loaded: &mut LoadedProject<'d>,
    outcome: &BuildOutcome<'_, 'd>,
    judged: &Judged,
) -> Result<(), BuildError> {
    match keeping(state, loaded, outcome, judged) {
        Keeping::Nothing => Ok(()),
        Keeping::UpToDate(seal) => state.writer.record([Entry::UpToDate(seal)]),
        Keeping::Patched => {
            let mut ledger = state.context.ledger.borrow_mut();
            let environment = state.context.environment;
            let seal = project_cache::keep_patched(loaded, outcome, &mut ledger, environment);
            drop(ledger);
            match seal {
                Some(seal) => state.writer.record([Entry::UpToDate(seal)]),
                None => keep_anew(state, loaded, outcome),
            }
        }
        Keeping::Anew => keep_anew(state, loaded, outcome),
    }
}

fn keep_anew<'d>(
    state: &BuildState<'_>,
    loaded: &mut LoadedProject<'d>,
    outcome: &BuildOutcome<'_, 'd>,
) -> Result<(), BuildError> {
    let mut ledger = state.context.ledger.borrow_mut();
    project_cache::keep(loaded, outcome, &mut ledger, state.context.environment)
        .map_err(|error| BuildError::io("can't write the ledger", error))
}

fn keeping(
    state: &BuildState<'_>,
    loaded: &LoadedProject<'_>,
    outcome: &BuildOutcome<'_, '_>,
    judged: &Judged,
) -> Keeping {
    let ledger = state.context.ledger.borrow();
    let all = outcome.order.nodes.len();
    let Some(cached) = &loaded.cached else {
        return Keeping::Anew;
    };
    if !cached.answers(outcome.request) {
        // The larger request is the one that it takes longest to answer.
        return if all > cached.order_length() {
            Keeping::Anew
        } else {
            Keeping::Nothing
        };
    }
    let is_outgrown = cached.is_outgrown(&ledger);
    let told_nothing = cached.is_all_said(&ledger);
    if !is_outgrown && told_nothing && cached.is_unsure() {
        // It would be the same again.
        return Keeping::Nothing;
    }
    // What differs and makes no step run would be judged by each run. What was only judged for what it waits for is
    // known to the next one.
    let judged_in_vain = judged.kept.set().count().min(cached.own_open());
    // A journal that is folded is not the one that was marked.
    if is_outgrown || ledger.is_large() || judged_in_vain > 64 + all / 32 {
        return Keeping::Anew;
    }
    let is_task = |id: &NodeId| matches!(id.node(&loaded.project), Node::Task(_));
    let is_remarkable = outcome.vars.description.is_remarkable;
    if !state.is_calm() || is_remarkable || outcome.order.nodes.iter().any(is_task) {
        return Keeping::Nothing;
    }
    match cached.was_all_good() {
        true if cached.has_other_texts() => {
            match cached.to_be_said_up_to_date(&loaded.project, &ledger) {
                Some(_) => Keeping::Patched,
                None if told_nothing => Keeping::Patched,
                // With an order in which what was learned stands behind what makes it.
                None => Keeping::Anew,
            }
        }
        true if told_nothing => Keeping::Anew,
        true => cached
            .to_be_said_up_to_date(&loaded.project, &ledger)
            .map_or(Keeping::Nothing, Keeping::UpToDate),
        false if cached.is_unsure() => Keeping::Nothing,
        false => Keeping::Anew,
    }
}

/// For each position of a whole order whether its step is kept; only `open` ones were judged.
pub fn kept_in(judged: &PerPosition<bool>, open: Option<&PerPosition<bool>>) -> PerPosition<bool> {
    let Some(open) = open else {
        return judged.clone();
    };
    let mut judged = judged.values();
    open.values()
        .map(|open| !open || judged.next() == Some(&true))
        .collect()
}
