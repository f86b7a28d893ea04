//! What a run would do now, without doing it and without writing anything.

use std::collections::HashSet;

use crate::content::State;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::language::Manner;
use crate::project::Project;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::values::Vars;
use crate::status::environment::RecordingEnvironment;
use crate::status::file_states::FileStates;
use crate::status::file_states::KnownStates;
use crate::status::step_inputs::InputBuffers;
use crate::status::step_inputs::StepInputs;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::verdict;
use crate::verdict::Reason;
use crate::verdict::ReasonKind;
use crate::verdict::StepState;
use crate::world::quarantine;

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
    pub open: Vec<Position>,
}

/// What is known of a project from the last run.
#[derive(Clone, Copy)]
pub struct KnownSince<'k> {
    /// Which positions can differ since; all others are kept.
    pub open: &'k PerPosition<bool>,
    /// Contents that are known without a look.
    pub states: KnownStates<'k>,
}

/// What a dry run looks at.
pub struct DryRun<'a, 'd> {
    /// The project.
    pub project: &'a Project<'d>,
    /// Its variables.
    pub vars: &'a Vars<'d>,
    /// Its environment.
    pub environment: &'a RecordingEnvironment<'a>,
    /// What is asked about.
    pub order: &'a Order,
    /// Steps that would run in any case.
    pub forced: &'a [NodeId],
    /// Threads that look at files.
    pub threads: usize,
    /// Fleeting steps that were asked for by name.
    pub wanted: HashSet<String>,
    /// What is known from the last run: only what can differ since is judged.
    pub known: Option<KnownSince<'a>>,
}

impl DryRun<'_, '_> {
    /// What would become of everything that the order holds; `None` when a description is wrong, which is
    /// reported.
    #[must_use]
    pub fn predict(&self) -> Option<PerPosition<Prediction>> {
        let environment = self.environment;
        let ledger = environment.ledger;
        let mut states = FileStates::new(environment.disk, environment.clock, ledger);
        match &self.known {
            Some(known) => {
                let part = self.order.part(known.open);
                states.survey(self.project, &part, self.threads, Some(known.states));
            }
            None => states.survey(self.project, self.order, self.threads, None),
        }
        // What is asked for by name is made, whatever becomes of it otherwise.
        let is_wanted = |name: &str| self.wanted.contains(name);
        states.stand_in_for_fleeting(self.project, &is_wanted);
        // Whatever can't be read here stops the run, which says so.
        let set_by = quarantine::files_below(environment.disk, quarantine::SET_BY);
        let mut predictor = Predictor {
            run: self,
            set_by: set_by.unwrap_or_default(),
            may_run: HashSet::new(),
            forced: self.forced.iter().copied().collect(),
            inputs: StepInputs::new(self.vars, self.project),
            states: &states,
            buffers: InputBuffers::default(),
            predictions: PerPosition::default(),
        };
        for position in self.order.positions() {
            let prediction = predictor.prediction(position)?;
            if prediction.decision != Decision::Keep
                && let Node::Step(step) = prediction.node.node(self.project)
            {
                predictor.may_run.insert(step);
            }
            predictor.predictions.push(prediction);
        }
        let mut predictions = predictor.predictions;
        self.bring_back(&states, &mut predictions);
        self.report_missing(&states, &predictions);
        Some(predictions)
    }
}

/// Predicts one position after the other.
struct Predictor<'p, 'a, 'd> {
    run: &'p DryRun<'a, 'd>,
    inputs: StepInputs<'a, 'd>,
    states: &'p FileStates<'a>,
    /// Old outputs that a killed run left set by: the next one may put them back before it looks.
    set_by: Vec<String>,
    /// Steps in front that would or may run.
    may_run: HashSet<StepId>,
    /// Steps that would run in any case.
    forced: HashSet<NodeId>,
    buffers: InputBuffers,
    /// Those of the positions in front.
    predictions: PerPosition<Prediction>,
}

impl Predictor<'_, '_, '_> {
    fn prediction(&mut self, position: Position) -> Option<Prediction> {
        let (project, order) = (self.run.project, self.run.order);
        let node = order.node(position);
        if self.run.known.is_some_and(|known| !known.open[position]) {
            return Some(Prediction::new(node, Decision::Keep));
        }
        let before = order.waits_for(position).iter().copied();
        let mut open: Vec<Position> = before
            .filter(|&before| self.predictions[before].decision != Decision::Keep)
            .filter(|&before| !matches!(order.node(before).node(project), Node::Task(_)))
            .collect();
        open.dedup();
        let (decision, reasons) = match node.node(project) {
            Node::Task(task) if project.tasks[task.index()].decl.clauses.remember => {
                let reasons = self.certain(self.task_reasons(task, node)?, None, &open);
                (decide(&reasons, &open), reasons)
            }
            Node::Task(_) => (Decision::Run, Vec::new()),
            Node::Set(_) if open.is_empty() => (Decision::Keep, Vec::new()),
            Node::Set(_) => (Decision::Maybe, Vec::new()),
            Node::Step(step) => {
                let reasons = self.step_reasons(step, node)?;
                let reasons = self.certain(reasons, Some(step), &open);
                match self.is_guarded(step, &reasons) {
                    true => (Decision::Keep, reasons),
                    false => self.decide_step(step, reasons, &open),
                }
            }
        };
        Some(Prediction {
            node,
            decision,
            reasons,
            open,
        })
    }

    /// Whether a step with these reasons is left as it is.
    fn is_guarded(&self, step: StepId, reasons: &[Reason]) -> bool {
        let project = self.run.project;
        let clauses = &project.decl(project.step(step)).clauses;
        let mut outputs = project.step_outputs(project.step(step)).iter();
        clauses.has(Manner::Guarded)
            && !reasons.iter().any(|reason| reason.kind.is_for_guarded())
            && outputs.all(|&(_, path)| *self.states.get(path) != State::Missing)
    }

    fn task_reasons(&self, task: TaskId, node: NodeId) -> Option<Vec<Reason>> {
        let asked = self.forced.contains(&node);
        let ledger = self.run.environment.ledger.borrow();
        let judge = |state: &StepState<'_>| verdict::reasons(state, &ledger);
        self.inputs.with_task(task, self.states, asked, judge)
    }

    fn step_reasons(&mut self, step: StepId, node: NodeId) -> Option<Vec<Reason>> {
        let asked = self.forced.contains(&node);
        let ledger = self.run.environment.ledger.borrow();
        self.inputs
            .reasons(step, self.states, asked, &ledger, &mut self.buffers)
    }

    /// The reasons that are certain: a difference in something that would itself be made before says nothing
    /// yet.
    fn certain(
        &self,
        mut reasons: Vec<Reason>,
        step: Option<StepId>,
        open: &[Position],
    ) -> Vec<Reason> {
        if !open.is_empty() {
            reasons.retain(|reason| self.is_certain(step, reason));
        }
        reasons
    }

    /// How a step ended is no reason of its own: its old outputs are put back, at the latest by the next run, and
    /// may then be as recorded. So what stands now in the place of one that is still set by says nothing.
    fn decide_step(
        &self,
        step: StepId,
        mut reasons: Vec<Reason>,
        open: &[Position],
    ) -> (Decision, Vec<Reason>) {
        let had_none = reasons.is_empty();
        if !had_none && self.has_set_by(step) {
            let of_outputs = [ReasonKind::OutputMissing, ReasonKind::OutputEdited];
            reasons.retain(|reason| !of_outputs.contains(&reason.kind));
        }
        let of_the_end = [ReasonKind::Unfinished, ReasonKind::FailedBefore];
        let no_other = reasons
            .iter()
            .all(|reason| of_the_end.contains(&reason.kind));
        let decision = if no_other && !had_none {
            Decision::Maybe
        } else {
            decide(&reasons, open)
        };
        (decision, reasons)
    }

    /// Whether an old output of a step is still set by.
    fn has_set_by(&self, step: StepId) -> bool {
        let project = self.run.project;
        let mut outputs = project.step_outputs(project.step(step)).iter();
        outputs.any(|(_, output)| {
            let output = project.paths.get(*output);
            let mut set_by = self.set_by.iter();
            set_by.any(|path| path == output || output.ends_with('/') && path.starts_with(output))
        })
    }

    fn is_certain(&self, step: Option<StepId>, reason: &Reason) -> bool {
        let by_content = matches!(
            reason.kind,
            ReasonKind::PrerequisiteChanged
                | ReasonKind::LearnedChanged
                | ReasonKind::LearnedMissing
        );
        let Some(path) = reason.path.as_deref().filter(|_| by_content) else {
            return true;
        };
        let project = self.run.project;
        let known = project.paths.find(path);
        let makers: Vec<StepId> = match known.and_then(|path| project.maker(path)) {
            Some(maker) => vec![maker],
            None if path.ends_with('/') => project
                .outputs_in(path)
                .filter_map(|inside| project.maker(inside))
                .collect(),
            None => return true,
        };
        let may_run = |maker: StepId| self.may_run.contains(&maker);
        !makers
            .iter()
            .any(|&maker| Some(maker) != step && may_run(maker))
    }
}

impl Prediction {
    fn new(node: NodeId, decision: Decision) -> Self {
        Self {
            node,
            decision,
            reasons: Vec::new(),
            open: Vec::new(),
        }
    }
}

fn decide(reasons: &[Reason], open: &[Position]) -> Decision {
    match (reasons.is_empty(), open.is_empty()) {
        (false, _) => Decision::Run,
        (true, false) => Decision::Maybe,
        (true, true) => Decision::Keep,
    }
}

impl DryRun<'_, '_> {
    /// What was taken away, and is needed by something that would run, would be made first.
    fn bring_back(&self, states: &FileStates<'_>, predictions: &mut PerPosition<Prediction>) {
        let project = self.project;
        let mut wanted: HashSet<StepId> = HashSet::new();
        let positions: Vec<Position> = self.order.positions().collect();
        for &position in positions.iter().rev() {
            let node = self.order.node(position).node(project);
            let is_wanted = matches!(node, Node::Step(step) if wanted.contains(&step));
            if is_wanted && predictions[position].decision == Decision::Keep {
                predictions[position].decision = Decision::Run;
                predictions[position].reasons = vec![Reason {
                    path: Some(self.order.node(position).name(project)),
                    ..Reason::of(ReasonKind::OutputMissing)
                }];
            }
            if predictions[position].decision == Decision::Keep {
                continue;
            }
            let needs = match node {
                Node::Step(step) => project.step_needs(project.step(step)),
                Node::Task(task) => &project.tasks[task.index()].needs,
                Node::Set(_) => continue,
            };
            let needs = project.open_needs(needs).map(|(_, path)| path);
            let missing = needs.filter(|&path| states.is_taken_away(path));
            wanted.extend(missing.filter_map(|path| project.maker(path)));
        }
    }

    /// Prerequisites that are neither there nor made would stop a run; they are told as warnings here.
    fn report_missing(&self, states: &FileStates<'_>, predictions: &PerPosition<Prediction>) {
        let project = self.project;
        for prediction in predictions.values() {
            let Node::Step(step) = prediction.node.node(project) else {
                continue;
            };
            if prediction.decision == Decision::Keep {
                continue;
            }
            for (_, path) in project.open_needs(project.step_needs(project.step(step))) {
                let name = project.paths.get(path);
                let made =
                    project.maker(path).is_some() || project.outputs_in(name).next().is_some();
                if !made && *states.get(path) == State::Missing {
                    let span = project.decl(project.step(step)).syntax.span;
                    let title =
                        format!("`{name}` is needed, but it is not there and no target makes it");
                    let warning = Diagnostic::warning(&mistakes::MISSING_SOURCE, span, title);
                    self.vars.report(warning.help("a run would stop here"));
                }
            }
        }
    }
}
