//! Putting goals in order although what steps learned goes round in a circle.

use crate::graph;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::project::Project;
use crate::project::StepId;
use crate::project::values::Vars;
use crate::scheduler::build_state::BuildContext;
use crate::scheduler::options::BuildError;
use crate::status::FileStates;
use crate::status::InputBuffers;
use crate::status::StepInputs;
use crate::verdict;
use crate::verdict::StepState;

/// Puts what goals reach in order. A circle that only learning shows is none when the step that learned
/// has to run anyway: it may learn something else then.
pub fn order_goals<'d>(
    context: &BuildContext<'_>,
    project: &mut Project<'d>,
    vars: &Vars<'d>,
    goals: &[NodeId],
) -> Result<Order, BuildError> {
    loop {
        let cycle = match graph::order(project, goals) {
            Ok(order) => return Ok(order),
            Err(cycle) => cycle,
        };
        let before = project.learned.len();
        let steps = cycle.0.iter().filter_map(|id| match id.node(project) {
            Node::Step(step) => Some(step),
            _ => None,
        });
        let stale: Vec<StepId> = steps
            .filter(|&step| project.learned_makers(step).next().is_some())
            .filter(|&step| has_other_reasons(context, project, vars, step))
            .collect();
        project.learned.retain(|(step, _)| !stale.contains(step));
        if project.learned.len() == before {
            let circle = graph::describe_cycle(project, &cycle);
            return Err(BuildError::Description(vec![circle]));
        }
    }
}

/// Whether a step has to run for something else than what it learned.
fn has_other_reasons<'d>(
    context: &BuildContext<'_>,
    project: &Project<'d>,
    vars: &Vars<'d>,
    step: StepId,
) -> bool {
    let mut states = FileStates::new(context.disk, context.clock, context.ledger);
    let node = project.step(step);
    let outputs = project.step_outputs(node).iter().copied();
    for (_, path) in outputs.chain(project.open_needs(project.step_needs(node))) {
        let state = states.look(project.paths.get(path));
        states.set(path, state);
    }
    let ledger = context.ledger.borrow();
    let inputs = StepInputs::new(vars, project);
    let mut buffers = InputBuffers::default();
    let kept = inputs.with(step, &states, false, &mut buffers, |state| {
        let state = StepState {
            learned: None,
            ..*state
        };
        verdict::is_kept(&state, &ledger)
    });
    kept == Some(false)
}
