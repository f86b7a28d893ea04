//! What a run would do now, without doing it and without writing anything.

use crate::content::State;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::project::Project;
use crate::project::StepId;
use crate::project::script::TaskCall;
use crate::project::values::Vars;
use crate::project_cache::cached_project::CachedProject;
use crate::status::environment::RecordingEnvironment;
use crate::status::file_states::FileStates;
use crate::status::step_inputs::InputBuffers;
use crate::status::step_inputs::StepInputs;
use crate::verdict;
use crate::verdict::Reason;
use crate::verdict::ReasonKind;
use crate::verdict::StepState;

/// What would become of a step or task.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decision {
    /// It would run.
    Run,
    /// It runs if something that would run before it comes out differently.
    Maybe,
    /// It would be kept.
    Keep,
}

impl Decision {
    /// Its name in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Run => "run",
            Self::Maybe => "maybe",
            Self::Keep => "keep",
        }
    }
}

/// What would become of the node at one position of an order.
#[derive(Clone, Debug)]
pub struct Prediction {
    /// The node.
    pub node: NodeId,
    /// What would become of it.
    pub decision: Decision,
    /// Its reasons, as far as they are certain.
    pub reasons: Vec<Reason>,
    /// Positions of those that it waits for and that would or may run.
    pub open: Vec<usize>,
}

/// What would become of everything that an order holds; `None` when a description is wrong, which is
/// reported. Steps in `asked` would run in any case. Where the project is `known` from the last run, only
/// what can differ since is judged.
#[must_use]
pub fn dry_run<'d>(
    project: &Project<'d>,
    vars: &Vars<'d>,
    environment: &RecordingEnvironment<'_>,
    order: &Order,
    asked: &[NodeId],
    threads: usize,
    mut known: Option<&mut CachedProject>,
) -> Option<Vec<Prediction>> {
    let mut states = FileStates::new(environment.disk, environment.clock, environment.ledger);
    let judged = known.as_mut().map(|known| {
        known.look_at(project, order, environment.disk, threads);
        known.open_positions(project, order, asked)
    });
    match (&judged, &known) {
        (Some(judged), Some(known)) => {
            let contents = known.contents();
            states.survey(project, &order.part(judged), threads, Some(&contents));
        }
        _ => states.survey(project, order, threads, None),
    }
    let step_inputs = StepInputs::new(vars, project);
    let mut scratch = InputBuffers::default();
    let mut predictions: Vec<Prediction> = Vec::with_capacity(order.nodes.len());
    for (position, &node) in order.nodes.iter().enumerate() {
        if judged.as_ref().is_some_and(|judged| !judged[position]) {
            predictions.push(prediction(node, false, Vec::new(), Vec::new()));
            continue;
        }
        let mut open: Vec<usize> = order
            .waits_for(position)
            .iter()
            .map(|&before| before as usize)
            .filter(|&before| predictions[before].decision != Decision::Keep)
            .filter(|&before| !matches!(order.nodes[before].node(project), Node::Task(_)))
            .collect();
        open.dedup();
        let prediction = match node.node(project) {
            Node::Task(task) if project.tasks[task.index()].decl.clauses.remember => {
                let call = TaskCall::default();
                let asked = asked.contains(&node);
                let all = {
                    let ledger = environment.ledger.borrow();
                    let judge = |facts: &StepState<'_>| verdict::reasons(facts, &ledger);
                    step_inputs.with_task(task, &call, &states, asked, judge)?
                };
                let reasons: Vec<Reason> = all
                    .into_iter()
                    .filter(|reason| {
                        open.is_empty() || is_certain(project, order, &predictions, None, reason)
                    })
                    .collect();
                prediction(node, false, reasons, open)
            }
            Node::Task(_) => Prediction {
                node,
                decision: Decision::Run,
                reasons: Vec::new(),
                open,
            },
            Node::Set(_) => Prediction {
                node,
                decision: if open.is_empty() {
                    Decision::Keep
                } else {
                    Decision::Maybe
                },
                reasons: Vec::new(),
                open,
            },
            Node::Step(step) => {
                let all = {
                    let ledger = environment.ledger.borrow();
                    step_inputs.reasons(
                        step,
                        &states,
                        asked.contains(&node),
                        &ledger,
                        &mut scratch,
                    )?
                };
                let reasons: Vec<Reason> = all
                    .into_iter()
                    .filter(|reason| {
                        open.is_empty()
                            || is_certain(project, order, &predictions, Some(step), reason)
                    })
                    .collect();
                prediction(node, true, reasons, open)
            }
        };
        predictions.push(prediction);
    }
    report_missing(project, vars, &states, order, &predictions);
    Some(predictions)
}

fn prediction(node: NodeId, is_step: bool, reasons: Vec<Reason>, open: Vec<usize>) -> Prediction {
    // How a step ended is no reason of its own: its old outputs are put back, at the latest by the next run,
    // and may then be as recorded.
    let of_the_end = |reason: &Reason| {
        matches!(
            reason.kind,
            ReasonKind::Unfinished | ReasonKind::FailedBefore
        )
    };
    let decision = match (reasons.is_empty(), open.is_empty()) {
        (false, _) if is_step && reasons.iter().all(of_the_end) => Decision::Maybe,
        (false, _) => Decision::Run,
        (true, false) => Decision::Maybe,
        (true, true) => Decision::Keep,
    };
    Prediction {
        node,
        decision,
        reasons,
        open,
    }
}

/// A difference in something that would itself be made before says nothing yet.
fn is_certain(
    project: &Project<'_>,
    order: &Order,
    predictions: &[Prediction],
    step: Option<StepId>,
    reason: &Reason,
) -> bool {
    let by_content = matches!(
        reason.kind,
        ReasonKind::PrerequisiteChanged | ReasonKind::LearnedChanged | ReasonKind::LearnedMissing
    );
    if !by_content {
        return true;
    }
    let Some(path) = reason.path.as_deref() else {
        return true;
    };
    let makers: Vec<StepId> = match project
        .paths
        .find(path)
        .and_then(|path| project.maker(path))
    {
        Some(maker) => vec![maker],
        None if path.ends_with('/') => project
            .outputs_in(path)
            .filter_map(|inside| project.maker(inside))
            .collect(),
        None => return true,
    };
    !makers.iter().any(|&maker| {
        Some(maker) != step
            && predictions
                .iter()
                .enumerate()
                .any(|(position, prediction)| {
                    order.nodes[position] == NodeId::step(maker)
                        && prediction.decision != Decision::Keep
                })
    })
}

/// Prerequisites that are neither there nor made would stop a run; they are told as warnings here.
fn report_missing(
    project: &Project<'_>,
    vars: &Vars<'_>,
    states: &FileStates<'_>,
    order: &Order,
    predictions: &[Prediction],
) {
    for (position, prediction) in predictions.iter().enumerate() {
        let Node::Step(step) = order.nodes[position].node(project) else {
            continue;
        };
        if prediction.decision == Decision::Keep {
            continue;
        }
        for (_, path) in project.open_needs(project.step_needs(project.step(step))) {
            let made = project.maker(path).is_some()
                || project.outputs_in(project.paths.get(path)).next().is_some();
            if !made && *states.get(path) == State::Missing {
                let span = project.decl(project.step(step)).syntax.span;
                vars.report(
                    crate::text::Diagnostic::warning(
                        span,
                        format!(
                            "`{}` is needed, but it is not there and no target makes it",
                            project.paths.get(path)
                        ),
                    )
                    .help("a run would stop here"),
                );
            }
        }
    }
}
