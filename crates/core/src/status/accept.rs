//! Taking what stands there as made from what is there now, without running anything.

use std::cell::RefCell;

use crate::content::State;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::ledger::Edge;
use crate::ledger::Entry;
use crate::ledger::Given;
use crate::ledger::Ledger;
use crate::ledger::StepRecord;
use crate::ledger::StepView;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::values::Vars;
use crate::status::environment::RecordingEnvironment;
use crate::status::file_states::FileStates;
use crate::status::step_inputs::StepInputs;
use crate::verdict::ACCEPTED;

/// Why a step can't be accepted.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AcceptError {
    /// It makes this, which is not there.
    #[error("`{0}` is not there")]
    NoOutput(String),
    /// It needs this, which is not there.
    #[error("`{0}`, which it is made from, is not there")]
    NoInput(String),
    /// What it is made by can't be worked out, which is reported.
    #[error("its description is wrong")]
    Description,
}

/// What a ledger is to be told so that a step counts as made from what is there now.
///
/// # Errors
/// When something is not there.
pub fn accept<'d>(
    project: &Project<'d>,
    vars: &Vars<'d>,
    environment: &RecordingEnvironment<'_>,
    step: StepId,
) -> Result<Vec<Entry>, AcceptError> {
    let ledger: &RefCell<Ledger> = environment.ledger;
    let mut states = FileStates::new(environment.disk, environment.clock, ledger);
    let order = Order::from_parts(vec![NodeId::step(step)], vec![0, 0], Vec::new());
    states.survey(project, &order, 1, None);
    let inputs = StepInputs::new(vars, project);
    let node = project.step(step);
    let text = |path: PathId| project.paths.get(path).to_owned();
    let mut outputs = Vec::new();
    for &(group, path) in project.step_outputs(node) {
        let digest = states.get(path).own_digest();
        let digest = Some(digest.ok_or_else(|| AcceptError::NoOutput(text(path)))?);
        let path = text(path);
        outputs.push(Edge {
            path,
            digest,
            group,
        });
    }
    let mut needs = Vec::new();
    for (group, path) in project.open_needs(project.step_needs(node)) {
        let digest = states.get(path).digest();
        let digest = Some(digest.ok_or_else(|| AcceptError::NoInput(text(path)))?);
        let path = text(path);
        needs.push(Edge {
            path,
            digest,
            group,
        });
    }
    let name = project.step_name(step);
    let learned = learned_now(project, &states, ledger.borrow().step(name));
    let wrong = || AcceptError::Description;
    let givens = inputs.givens(step).ok_or_else(wrong)?.iter();
    let mut entries = states.take_fresh();
    entries.push(Entry::Ended(Box::new(StepRecord {
        name: name.to_owned(),
        recipe_text: inputs.recipe_text(step).ok_or_else(wrong)?.to_owned(),
        parameters: inputs.parameters(step).ok_or_else(wrong)?,
        outputs,
        needs,
        learned,
        givens: givens
            .map(|given| Given {
                key: given.key.clone(),
                value: given.value.text().map(str::to_owned),
            })
            .collect(),
        reasons: ACCEPTED.to_owned(),
        ended_at: environment.clock.now(),
        ..StepRecord::default()
    })));
    Ok(entries)
}

/// What a step found out when it last ran, as it is now.
fn learned_now(
    project: &Project<'_>,
    states: &FileStates<'_>,
    last: Option<StepView<'_>>,
) -> Vec<Edge> {
    let learned = last.into_iter().flat_map(StepView::learned);
    let learned = learned.map(|edge| {
        let now = states.learned(project, edge.path);
        Edge {
            path: edge.path.to_owned(),
            digest: match now {
                State::Missing => None,
                now => now.digest(),
            },
            group: edge.raw_group(),
        }
    });
    learned.collect()
}
