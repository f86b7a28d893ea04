//! What a task that only stands for others wants to be run whatever happened to them.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use crate::executor::ExecutionContext;
use crate::executor::Exit;
use crate::executor::Job;
use crate::executor::JobRoom;
use crate::executor::Notice;
use crate::executor::Outcome;
use crate::executor::Printed;
use crate::executor::SlotId;
use crate::executor::Submission;
use crate::graph::Order;
use crate::project::Project;
use crate::project::TaskId;
use crate::project::task_frame::task_frame;
use crate::project::values::Vars;
use crate::scheduler::build_state::BuildContext;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::job_builder::JobBuilder;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::sequence::Goal;
use crate::scheduler::sequence::Phase;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// Runs the `finally` of a task without a recipe; what it printed.
pub fn run_finally(
    state: &mut BuildState<'_>,
    view: &PassView<'_, '_>,
    task: TaskId,
) -> Result<Printed, BuildError> {
    let (project, vars) = (view.project, view.vars);
    let node = &project.tasks[task.index()];
    if node.decl.clauses.recipe.is_some() || !node.has_job() {
        return Ok(Printed::default());
    }
    let builder = JobBuilder {
        project,
        vars,
        is_to_run: true,
    };
    let room = JobRoom {
        slot: SlotId::default(),
        cores: 1,
        memory: None,
    };
    let prepared = task_frame(vars, project, node).and_then(|mut frame| {
        builder.set_cores(&mut frame, room);
        builder.task(task, &frame, room)
    });
    let (errors, warnings) = vars.take_errors();
    if !errors.is_empty() {
        return Err(BuildError::Description(
            errors.into_iter().chain(warnings).collect(),
        ));
    }
    warnings.into_iter().for_each(|warning| state.warn(warning));
    let Some(prepared) = prepared else {
        return Ok(Printed::default());
    };
    state.prepare_executor()?;
    // It tidies up also after an interruption.
    let job = Job {
        shielded: true,
        ..(*prepared.job).clone()
    };
    let outcome = run_alone(state.context, job, prepared.finally)?;
    if outcome.exit.code() != 0 {
        let how = outcome.exit.in_words();
        state.warn(Diagnostic::warning(
            &mistakes::FAILED_FINALLY,
            prepared.span,
            format!("the `finally` of `{}` failed: {how}", node.name),
        ));
    }
    Ok(outcome.output)
}

/// Runs one job, and those that come behind it whatever happened, with nothing beside them.
fn run_alone(
    context: BuildContext<'_>,
    job: Job,
    finally: Vec<Job>,
) -> Result<Outcome, BuildError> {
    let hold = AtomicBool::new(false);
    let execution = ExecutionContext {
        disk: context.disk,
        clock: context.clock,
        slots: 1,
        live: false,
        hold: &hold,
    };
    std::thread::scope(|scope| {
        let jobs = context.executor.start(scope, execution);
        let mut jobs = jobs.map_err(|error| BuildError::io("can't start a thread", error))?;
        jobs.submit(Submission {
            job: Arc::new(job),
            outputs: Vec::new(),
            finally,
            restore: None,
            twice: None,
            retries: 0,
            resumes: false,
            ahead: false,
        });
        while let Some(notice) = jobs.wait(None) {
            if let Notice::Ended(end) = notice {
                return Ok(end.outcome);
            }
        }
        Ok(Outcome::silent(Exit::NotStarted(
            "nobody tells of its end".to_owned(),
        )))
    })
}

/// Holds what a failure left of later phases.
pub fn hold_all<'d>(
    state: &mut BuildState<'_>,
    project: &Project<'d>,
    vars: &Vars<'d>,
    phases: Vec<Phase>,
) -> Result<(), BuildError> {
    let order = Order::default();
    let view = PassView {
        project,
        vars,
        order: &order,
        whole: &order,
    };
    for goal in phases.into_iter().flat_map(|phase| phase.goals) {
        if state.progress.ending(goal.name()).is_some() {
            continue;
        }
        let task = match &goal {
            Goal::Step(_) => None,
            Goal::Task(name) => project.task_named(name),
        };
        let output = match task {
            Some(task) => run_finally(state, &view, task)?,
            None => Printed::default(),
        };
        let step = goal.name().to_owned();
        state.progress.end(step.clone(), Ending::Held);
        let held = Ended::held(step.clone(), matches!(goal, Goal::Task(_)));
        state.events.tell(Event::Ended(Box::new(held)));
        if !output.is_empty() {
            state.events.tell(Event::Finally { step, output });
        }
    }
    Ok(())
}
