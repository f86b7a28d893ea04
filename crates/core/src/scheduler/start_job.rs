//! From a position that is to run to a job that can be submitted.

use std::sync::Arc;
use std::time::Duration;

use crate::executor::JobRoom;
use crate::executor::RemoteNeeds;
use crate::executor::Submission;
use crate::executor::queue::Twice;
use crate::graph::Node;
use crate::graph::Position;
use crate::language::Manner;
use crate::ledger::Entry;
use crate::ledger::StepView;
use crate::ledger::task_key;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::clauses::Clauses;
use crate::project::frame::Frame;
use crate::project::task_frame::task_frame;
use crate::project::values::Vars;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::event::Event;
use crate::scheduler::job_builder::JobBuilder;
use crate::scheduler::job_builder::PreparedJob;
use crate::scheduler::step_frame::SCRATCH;

use crate::scheduler::options::BuildError;
use crate::scheduler::options::Placing;
use crate::scheduler::output_places::PreparedOutputs;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::slot_table::RunningJob;
use crate::scheduler::stored_results::StoredResults;
use crate::scheduler::stored_results::wants_run;
use crate::status::FileStates;
use crate::status::StepInputs;
use crate::store::Hit;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::verdict::Reason;

/// The folder of what jobs printed in the last runs.
pub const LOGS: &str = ".handloom/logs";

/// A job that is ready to be submitted.
pub struct StartedJob {
    /// What the executor is handed.
    pub submission: Submission,
    /// What is told when it begins.
    pub event: Event,
    /// What is known of it while it runs.
    pub job: RunningJob,
}

/// A job, its outputs' places, and how often it may be tried again.
struct ReadyJob {
    prepared: PreparedJob,
    outputs: PreparedOutputs,
    retries: u32,
    /// Whether it goes on from what an earlier try left.
    resumes: bool,
    /// Its stored result.
    hit: Option<Box<Hit>>,
    /// How it is run again and compared.
    twice: Option<Twice>,
}

/// Makes jobs ready.
pub struct JobStarter<'c, 's, 'p, 'd> {
    /// What the pass works on.
    pub view: PassView<'p, 'd>,
    /// What passes share.
    pub state: &'c mut BuildState<'s>,
    /// What stands at every path.
    pub states: &'c mut FileStates<'s>,
    /// What of each step is compared.
    pub inputs: &'c StepInputs<'p, 'd>,
}

impl JobStarter<'_, '_, '_, '_> {
    /// Makes the job of a position ready for a slot; `None` when there is nothing to run after all: a set, or a
    /// task that only stands for others.
    ///
    /// `alone` says that nothing else is running or to be run.
    pub fn start(
        &mut self,
        position: Position,
        room: JobRoom,
        reasons: Vec<Reason>,
        alone: bool,
    ) -> Result<Option<StartedJob>, BuildError> {
        let ready = match self.view.node(position) {
            Node::Set(_) => None,
            Node::Step(step) => Some(self.step(step, room, &reasons)?),
            Node::Task(task) => self.task(task, room)?,
        };
        let Some(mut ready) = ready else {
            return Ok(None);
        };
        let prepared = &mut ready.prepared;
        if prepared.job.terminal && prepared.finally.is_empty() && alone {
            self.state.release_project()?;
        }
        self.name_log(prepared);
        let usual = self.usual(position, prepared);
        if self.goes_elsewhere(prepared) {
            let outputs = ready.outputs.outputs.iter();
            let learned = prepared.learn.iter().map(|learn| &learn.path);
            let remote = RemoteNeeds {
                memory: room.memory,
                usual,
                reads: self.reads(position),
                writes: outputs.chain(learned).cloned().collect(),
            };
            Arc::make_mut(&mut prepared.job).remote = Some(Arc::new(remote));
        }
        let event = self.event(position, &reasons, prepared, usual);
        let restore = ready.hit.as_ref().map(|hit| hit.restore.clone());
        Ok(Some(StartedJob {
            submission: Submission {
                job: Arc::clone(&prepared.job),
                outputs: ready.outputs.outputs,
                finally: prepared.finally.clone(),
                retries: ready.retries,
                resumes: ready.resumes,
                restore: restore.filter(|_| ready.twice.is_none()),
                twice: ready.twice,
                ahead: false,
            },
            event,
            job: RunningJob {
                position,
                reasons,
                prepared: ready.prepared,
                set_by: ready.outputs.set_by,
                hit: ready.hit,
            },
        }))
    }

    fn step(
        &mut self,
        step: StepId,
        room: JobRoom,
        reasons: &[Reason],
    ) -> Result<ReadyJob, BuildError> {
        let project = self.view.project;
        let decl = project.decl(project.step(step));
        let retries = retries(self.view.vars, &decl.clauses, &decl.fixed_frame());
        let builder = JobBuilder {
            project,
            vars: self.view.vars,
            is_to_run: true,
        };
        let retries = retries.ok_or_else(BuildError::reported)?;
        let prepared = builder
            .step(step, room, self.state.options.recipes)
            .ok_or_else(BuildError::reported)?;
        let hit = self.stored(step, reasons);
        self.state.prepare_executor()?;
        let resumes = decl.clauses.has(Manner::Resumes);
        let learns = prepared.learn.as_ref().map(|learn| &*learn.path);
        let outputs = self.state.places.prepare(
            project,
            step,
            learns,
            self.states,
            &mut self.state.writer,
            &mut self.state.events,
        )?;
        Ok(ReadyJob {
            outputs,
            retries,
            resumes,
            twice: (self.state.options.twice && !resumes).then(|| Twice {
                against: hit.as_ref().map(|hit| hit.restore.clone()),
                learn: prepared.learn.as_ref().map(|learn| learn.path.clone()),
                scratch: format!("{SCRATCH}/{}", room.slot.index()),
            }),
            prepared,
            hit,
        })
    }

    /// A step's stored result, unless it was asked for that it runs.
    fn stored(&mut self, step: StepId, reasons: &[Reason]) -> Option<Box<Hit>> {
        let store = self.state.context.store?;
        if !store.is_worth_a_look() || wants_run(reasons, self.state.options.twice) {
            return None;
        }
        let stored = StoredResults {
            project: self.view.project,
            store,
            recipes: self.state.options.recipes,
        };
        let ledger = self.state.context.ledger;
        let lookup = stored.lookup(step, self.inputs, self.states, ledger)?;
        stored.find(lookup, self.states).found()
    }

    fn task(&mut self, task: TaskId, room: JobRoom) -> Result<Option<ReadyJob>, BuildError> {
        let (project, vars) = (self.view.project, self.view.vars);
        let node = &project.tasks[task.index()];
        if !node.has_job() {
            return Ok(None);
        }
        let mut frame = task_frame(vars, project, node).ok_or_else(BuildError::reported)?;
        let builder = JobBuilder {
            project,
            vars,
            is_to_run: true,
        };
        builder.set_cores(&mut frame, room);
        let retries = retries(vars, &node.decl.clauses, &frame);
        let retries = retries.ok_or_else(BuildError::reported)?;
        self.state.prepare_executor()?;
        if node.decl.clauses.remember {
            let began = Entry::Began(task_key(&node.name));
            self.state.writer.record([began])?;
        }
        let prepared = builder.task(task, &frame, room);
        Ok(Some(ReadyJob {
            prepared: prepared.ok_or_else(BuildError::reported)?,
            outputs: PreparedOutputs::default(),
            retries,
            resumes: false,
            hit: None,
            twice: None,
        }))
    }

    /// Gives a job the log of what it prints.
    fn name_log(&mut self, prepared: &mut PreparedJob) {
        let begun = &mut self.state.progress.begun;
        *begun += 1;
        let run = self.state.options.run;
        let log = run.map(|run| format!("{LOGS}/{run}/{begun}.log"));
        for finally in &mut prepared.finally {
            finally.log.clone_from(&log);
        }
        Arc::make_mut(&mut prepared.job).log = log;
    }

    /// How long a job took when it ran last.
    fn usual(&self, position: Position, prepared: &PreparedJob) -> Option<Duration> {
        let name = &prepared.job.name;
        let ledger = self.state.context.ledger.borrow();
        let step = match self.view.node(position) {
            Node::Task(_) => ledger.step(&task_key(name)),
            _ => ledger.step(name),
        };
        step.map(StepView::took)
    }

    /// Whether a job is for another machine.
    fn goes_elsewhere(&self, prepared: &PreparedJob) -> bool {
        match self.state.options.placing {
            Placing::AsDescribed => prepared.job.place.is_some(),
            Placing::AllHere => false,
            Placing::AllElsewhere => true,
        }
    }

    /// The prerequisites of a position that are named.
    fn reads(&self, position: Position) -> Vec<String> {
        let project = self.view.project;
        let needs = match self.view.node(position) {
            Node::Step(step) => project.step_needs(project.step(step)),
            Node::Task(task) => &project.tasks[task.index()].needs,
            Node::Set(_) => &[],
        };
        let needs = project.open_needs(needs);
        needs
            .map(|(_, path)| project.paths.get(path).to_owned())
            .collect()
    }

    fn event(
        &self,
        position: Position,
        reasons: &[Reason],
        prepared: &PreparedJob,
        usual: Option<Duration>,
    ) -> Event {
        Event::Began {
            usual,
            step: prepared.job.name.clone(),
            task: matches!(self.view.node(position), Node::Task(_)),
            reasons: reasons.to_vec(),
            script: prepared.job.script.clone(),
            slot: prepared.job.slot,
            terminal: prepared.job.terminal,
            stays: prepared.job.stays,
            place: prepared
                .job
                .place
                .clone()
                .filter(|_| self.state.options.placing == Placing::AsDescribed),
            tail: prepared.job.tail.clone(),
        }
    }
}

/// How often a job may be tried again; `None` when what is written there is wrong, which is reported.
fn retries(vars: &Vars<'_>, clauses: &Clauses<'_>, frame: &Frame<'_>) -> Option<u32> {
    let Some(word) = clauses.running.retry else {
        return Some(0);
    };
    let text = vars.single(word, frame)?;
    let number = text.text.parse().ok();
    if number.is_none() {
        vars.report(
            Diagnostic::error(
                &mistakes::UNREADABLE_TRIES,
                word.span,
                format!("`{}` is no number of tries", text.text),
            )
            .help("write how often to try again, such as `retry 2`"),
        );
    }
    number
}
