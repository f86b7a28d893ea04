//! What the store is asked for, and what it is given.

use std::cell::RefCell;
use std::time::Duration;

use crate::executor::JobEnd;
use crate::executor::Printed;
use crate::executor::control_codes::without_controls;
use crate::executor::watching::Gap;
use crate::graph::Node;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::language::Manner;
use crate::language::SealHow;
use crate::language::StoreHow;
use crate::ledger::Ledger;
use crate::ledger::StepRecord;
use crate::ledger::StepView;
use crate::project::Project;
use crate::project::StepId;
use crate::project::secret;
use crate::project::values::Vars;
use crate::scheduler::event::ReadReport;
use crate::scheduler::job_builder::seal_how;
use crate::scheduler::job_builder::watch_plan;
use crate::scheduler::options::RecipeMode;
use crate::scheduler::options::WatchPlan;
use crate::status::Decision;
use crate::status::FileStates;
use crate::status::InputBuffers;
use crate::status::Prediction;
use crate::status::RecordingEnvironment;
use crate::status::StepInputs;
use crate::store::DeclaredStep;
use crate::store::KeepRequest;
use crate::store::RecipeManner;
use crate::store::Store;
use crate::store::StoreAnswer;
use crate::store::StoreKey;
use crate::store::StoreLookup;
use crate::store::StoredResult;
use crate::verdict::Reason;
use crate::verdict::ReasonKind;
use crate::world::nanoseconds;

/// Speaks with the store for the steps of a project.
#[derive(Clone, Copy)]
pub struct StoredResults<'c, 'p, 'd> {
    /// The project.
    pub project: &'p Project<'d>,
    /// The store.
    pub store: &'c Store,
    /// How recipes run that do not say it themselves.
    pub recipes: RecipeMode,
}

/// Whether a step is to run whatever the store has. Who compares wants to know what it has in any case.
pub fn wants_run(reasons: &[Reason], twice: bool) -> bool {
    let is_asked = |reason: &Reason| reason.kind == ReasonKind::Asked;
    !twice && reasons.iter().any(is_asked)
}

/// Whether a secret goes into a recipe: what it makes may hold it.
fn has_secret(recipe_text: &str) -> bool {
    recipe_text.contains(secret::SHOWN) || secret::is_in(recipe_text)
}

impl<'p, 'd> StoredResults<'_, 'p, 'd> {
    /// What a step's target says of the store.
    fn says(&self, step: StepId) -> Option<StoreHow> {
        let clauses = &self.project.decl(self.project.step(step)).clauses;
        if clauses.has(Manner::Always) || clauses.has(Manner::Resumes) {
            // What comes out depends on more than what it names.
            return Some(StoreHow::Never);
        }
        clauses.store
    }

    /// Whether somebody may have shared what a step makes that usually takes so long: what is quicker nobody keeps, unless
    /// its target says so, and asking would take longer than running it.
    pub fn is_worth_asking(&self, step: StepId, usual: Option<Duration>) -> bool {
        let is_short = usual.is_some_and(|usual| usual < self.store.least());
        !is_short || self.says(step) == Some(StoreHow::Always)
    }

    /// How a step runs, as far as it matters to whoever uses its result.
    fn manner(&self, step: StepId) -> RecipeManner {
        let clauses = &self.project.decl(self.project.step(step)).clauses;
        let reach = match watch_plan(clauses, self.recipes) {
            None => 0,
            Some(WatchPlan { everywhere, .. }) => 1 + u8::from(everywhere),
        };
        let seal = match seal_how(clauses, self.recipes) {
            None => 0,
            Some(SealHow::Plainly) => 1,
            Some(SealHow::Strictly) => 2,
        };
        RecipeManner { reach, seal }
    }

    /// The key of what a step is declared with now; none of one that has no business with the store, or whose inputs
    /// are not all known.
    pub fn declared(
        &self,
        step: StepId,
        inputs: &StepInputs<'p, 'd>,
        states: &FileStates<'_>,
    ) -> Option<StoreKey> {
        if self.says(step) == Some(StoreHow::Never) {
            return None;
        }
        let mut buffers = InputBuffers::default();
        inputs.with(step, states, false, &mut buffers, |state| {
            let declared = DeclaredStep::now(state)?;
            let is_open = !has_secret(declared.recipe_text);
            is_open.then(|| self.store.scope().declared(&declared))
        })?
    }

    /// What a step would be looked up with.
    pub fn lookup(
        &self,
        step: StepId,
        inputs: &StepInputs<'p, 'd>,
        states: &FileStates<'_>,
        ledger: &RefCell<Ledger>,
    ) -> Option<StoreLookup> {
        let declared = self.declared(step, inputs, states)?;
        let mut wanted = self.manner(step);
        let ledger = ledger.borrow();
        let mut learned = ledger
            .step(self.project.step_name(step))
            .into_iter()
            .flat_map(StepView::learned);
        // What its last run was seen to read counts for the verdict, and so it does here.
        if learned.any(|edge| edge.counts(false)) {
            wanted.reach = wanted.reach.max(1);
        }
        Some(StoreLookup { declared, wanted })
    }

    /// Looks for the stored result of a step.
    pub fn find(&self, lookup: StoreLookup, states: &mut FileStates<'_>) -> StoreAnswer {
        let project = self.project;
        self.store.look(lookup, &mut |path| {
            if let Some(known) = states.known(project, path) {
                return known;
            }
            let state = states.look_at_learned(project, path);
            states.set_learned(project, path, state.clone());
            state
        })
    }

    /// What of a step that ended well is kept; none when it is not worth it, or can't be used again.
    pub fn keep_request(
        &self,
        step: StepId,
        record: &StepRecord,
        end: &JobEnd,
        read: Option<&ReadReport>,
    ) -> Option<KeepRequest> {
        let says = self.says(step);
        let is_short = end.took() < self.store.least();
        // What was to be watched and was not: a list that says nothing would pass for all that it read.
        let observed = end.outcome.observed.as_deref();
        let is_unseen = self.manner(step).reach > 0 && observed.is_none();
        // That the network is open to it says nothing of files.
        let has_gaps =
            observed.is_some_and(|seen| seen.gaps.iter().any(|gap| *gap != Gap::Network));
        if says == Some(StoreHow::Never)
            || (is_short && says != Some(StoreHow::Always))
            || has_secret(&record.recipe_text)
            || is_unseen
            || has_gaps
            || read.is_some_and(is_incomplete)
        {
            return None;
        }
        let says_learn = self
            .project
            .decl(self.project.step(step))
            .clauses
            .learn
            .is_some();
        let declared = DeclaredStep::seen(record, says_learn)?;
        let outputs = record.outputs.iter();
        Some(KeepRequest {
            step: record.name.clone(),
            declared: self.store.scope().declared(&declared),
            learned: record.learned.clone(),
            manner: self.manner(step),
            outputs: outputs
                .map(|edge| Some((edge.path.clone(), edge.digest?)))
                .collect::<Option<_>>()?,
            result: StoredResult {
                outputs: Vec::new(),
                took: nanoseconds(end.took()),
                memory: record.memory,
                processor: record.processor,
                made_at: record.ended_at,
                made_in: self.store.made_in().to_owned(),
                ..printed(&end.outcome.output)
            },
        })
    }
}

/// Whether a step is known to have made more than its outputs, or to have been kept from reading: putting its outputs in
/// place would not be the same as running it.
fn is_incomplete(read: &ReadReport) -> bool {
    !(read.written.is_empty() && read.refused.is_empty())
}

/// What a job printed, as it is kept.
fn printed(output: &Printed) -> StoredResult {
    StoredResult {
        printed: without_controls(&output.start).into_owned(),
        left_out: output.left_out,
        printed_end: without_controls(&output.end).into_owned(),
        ..StoredResult::default()
    }
}

/// Which steps of an order that would run would be taken from the store instead, as far as can be told now: of those that
/// nothing in front may change. Only the local store is asked.
#[must_use]
pub fn foresee_restored<'p, 'd>(
    stored: &StoredResults<'_, 'p, 'd>,
    vars: &'p Vars<'d>,
    environment: &RecordingEnvironment<'_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
    threads: usize,
) -> PerPosition<bool> {
    let may_be = |prediction: &Prediction| {
        prediction.decision == Decision::Run
            && prediction.open.is_empty()
            && !wants_run(&prediction.reasons, false)
    };
    let wanted: PerPosition<bool> = predictions.values().map(may_be).collect();
    let ledger = environment.ledger;
    let mut states = FileStates::new(environment.disk, environment.clock, ledger);
    if stored.store.is_worth_a_look() {
        states.survey(stored.project, &order.part(&wanted), threads, None);
    }
    let inputs = StepInputs::new(vars, stored.project);
    PerPosition::from_fn(order, |position| {
        let Node::Step(step) = order.node(position).node(stored.project) else {
            return false;
        };
        let lookup = || stored.lookup(step, &inputs, &states, ledger);
        let lookup = if wanted[position] { lookup() } else { None };
        lookup.is_some_and(|lookup| stored.find(lookup, &mut states).found().is_some())
    })
}
