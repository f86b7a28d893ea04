//! What of a step is compared, gathered for a verdict.

use std::cell::OnceCell;

use crate::content::State;
use crate::language::Manner;
use crate::ledger::Ledger;
use crate::ledger::task_key;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::TaskNode;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::environment::OutputError;
use crate::project::frame::Frame;
use crate::project::recipe_text::task_parameters;
use crate::project::recipe_text::task_recipe_text;
use crate::project::task_frame::task_frame;
use crate::project::values::Vars;
use crate::status::file_states::FileStates;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::verdict;
use crate::verdict::GivenState;
use crate::verdict::GivenValue;
use crate::verdict::Input;
use crate::verdict::Reason;
use crate::verdict::StepState;

/// The parts of facts that are the same for all steps of a target, worked out when first needed.
pub struct StepInputs<'p, 'd> {
    vars: &'p Vars<'d>,
    project: &'p Project<'d>,
    step_inputs: Vec<OnceCell<Option<String>>>,
    givens: Vec<OnceCell<Option<Vec<GivenState>>>>,
}

/// A step's paths, kept between steps to spare allocations.
#[derive(Default)]
pub struct InputBuffers {
    outputs: Vec<(u16, PathId)>,
    needs: Vec<(u16, PathId)>,
    parameters: String,
}

impl<'p, 'd> StepInputs<'p, 'd> {
    /// Nothing is worked out yet.
    pub fn new(vars: &'p Vars<'d>, project: &'p Project<'d>) -> Self {
        let count = project.decls.len();
        Self {
            vars,
            project,
            step_inputs: (0..count).map(|_| OnceCell::new()).collect(),
            givens: (0..count).map(|_| OnceCell::new()).collect(),
        }
    }

    /// A step's recipe as compared; `None` when something in it is wrong, which is reported.
    pub fn recipe_text(&self, step: StepId) -> Option<&str> {
        let index = self.project.step(step).decl as usize;
        self.step_inputs[index]
            .get_or_init(|| self.project.decls[index].recipe_text(self.vars))
            .as_deref()
    }

    /// The values of a step's holes, as text.
    pub fn parameters(&self, step: StepId) -> Option<String> {
        let mut text = String::new();
        self.write_parameters(step, &mut text)?;
        Some(text)
    }

    fn write_parameters(&self, step: StepId, out: &mut String) -> Option<()> {
        let step = self.project.step(step);
        let decl = self.project.decl(step);
        let values = step
            .values
            .of(&self.project.values)
            .iter()
            .map(|&id| self.project.paths.get(id));
        decl.parameters(self.vars, values.take(decl.holes.len()), out)
    }

    /// A step's inputs that are no files.
    pub fn givens(&self, step: StepId) -> Option<&Vec<GivenState>> {
        let index = self.project.step(step).decl as usize;
        self.givens[index]
            .get_or_init(|| givens(self.vars, &self.project.decls[index]))
            .as_ref()
    }

    /// Gathers what is compared and hands it to `judge`; `None` when the description is wrong there.
    pub fn with<T>(
        &self,
        step: StepId,
        states: &FileStates<'_>,
        asked: bool,
        buffers: &mut InputBuffers,
        judge: impl FnOnce(&StepState<'_>) -> T,
    ) -> Option<T> {
        let project = self.project;
        let node = project.step(step);
        buffers.outputs.clear();
        buffers
            .outputs
            .extend_from_slice(project.step_outputs(node));
        buffers.needs.clear();
        buffers
            .needs
            .extend(project.open_needs(project.step_needs(node)));
        let input = |&(group, path): &(u16, PathId)| Input {
            group,
            path: project.paths.get(path),
            state: states.get(path),
        };
        let outputs: Vec<Input<'_>> = buffers.outputs.iter().map(input).collect();
        let needs: Vec<Input<'_>> = buffers.needs.iter().map(input).collect();
        // What it learned while its description said `learn` is not looked at any more.
        let learns = project.decl(node).clauses.learn.is_some();
        let learned = |path: &str| -> State { states.learned(project, path) };
        buffers.parameters.clear();
        self.write_parameters(step, &mut buffers.parameters)?;
        Some(judge(&StepState {
            key: project.step_name(step),
            recipe_text: self.recipe_text(step)?,
            parameters: &buffers.parameters,
            outputs: &outputs,
            needs: &needs,
            givens: self.givens(step)?,
            asked,
            always: project.decl(node).clauses.has(Manner::Always),
            learned: Some(&learned),
            says_learn: learns,
        }))
    }

    /// Gathers what is compared of a task that is remembered.
    pub fn with_task<T>(
        &self,
        task: TaskId,
        states: &FileStates<'_>,
        asked: bool,
        judge: impl FnOnce(&StepState<'_>) -> T,
    ) -> Option<T> {
        let project = self.project;
        let node = &project.tasks[task.index()];
        let needs: Vec<Input<'_>> = project
            .open_needs(&node.needs)
            .map(|(group, path)| Input {
                group,
                path: project.paths.get(path),
                state: states.get(path),
            })
            .collect();
        Some(judge(&StepState {
            key: &task_key(&node.name),
            recipe_text: &task_recipe_text(self.vars, project, node)?,
            parameters: &task_parameters(&node.call),
            outputs: &[],
            needs: &needs,
            givens: &task_givens(self.vars, project, node)?,
            asked,
            always: false,
            learned: None,
            says_learn: false,
        }))
    }

    /// Every reason for a step to run.
    pub fn reasons(
        &self,
        step: StepId,
        states: &FileStates<'_>,
        asked: bool,
        ledger: &Ledger,
        buffers: &mut InputBuffers,
    ) -> Option<Vec<Reason>> {
        self.with(step, states, asked, buffers, |state| {
            verdict::reasons(state, ledger)
        })
    }
}

/// A target's inputs that are no files.
fn givens<'d>(vars: &Vars<'d>, decl: &Decl<'d>) -> Option<Vec<GivenState>> {
    givens_of(vars, &decl.clauses, &decl.fixed_frame())
}

/// A remembered task's inputs that are no files.
pub fn task_givens<'d>(
    vars: &Vars<'d>,
    project: &Project<'d>,
    task: &TaskNode<'d>,
) -> Option<Vec<GivenState>> {
    let clauses = &task.decl.clauses;
    if clauses.given_env.is_empty() && clauses.given_output.is_empty() {
        return Some(Vec::new());
    }
    givens_of(vars, clauses, &task_frame(vars, project, task)?)
}

fn givens_of(vars: &Vars<'_>, clauses: &Clauses<'_>, frame: &Frame<'_>) -> Option<Vec<GivenState>> {
    let mut givens = Vec::new();
    for words in &clauses.given_env {
        for name in vars.words(words, frame)?.texts() {
            givens.push(GivenState {
                key: format!("env {name}"),
                value: vars.environment.env(name).into(),
            });
        }
    }
    for words in &clauses.given_output {
        givens.push(given_output(vars, words, frame)?);
    }
    Some(givens)
}

fn given_output(
    vars: &Vars<'_>,
    words: &[crate::language::Word],
    frame: &Frame<'_>,
) -> Option<GivenState> {
    let command: Vec<String> = vars
        .words(words, frame)?
        .texts()
        .map(str::to_owned)
        .collect();
    let folder = &vars.description.parts[frame.part.index()].folder;
    let key = format!("output {}", command.join(" "));
    match vars.environment.output(&command, folder) {
        Ok(text) => Some(GivenState {
            key,
            value: GivenValue::Text(text),
        }),
        Err(OutputError::NotAsked) => Some(GivenState {
            key,
            value: GivenValue::Unknown,
        }),
        Err(how) => {
            let span = words.first().map(|word| word.span).unwrap_or_default();
            vars.report(
                Diagnostic::error(
                    &mistakes::FAILED_COMMAND_VALUE,
                    span,
                    format!("`{}` {how}", command.join(" ")),
                )
                .help("what this command prints is an input of the target; see that it runs"),
            );
            None
        }
    }
}
