//! One call of Hand Loom: what was asked, cut into rounds.
//!
//! Most calls are one round. There are more when a task names `steps` that come strictly one after
//! another, and when a pattern looks into a folder that is made as a whole: the folder is then made
//! first, and the project worked out anew with what lies in it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::collections::HashSet;
use std::io;

use crate::executor::cancel::CancelToken;
use crate::executor::capture::Printed;
use crate::executor::job::Executor;
use crate::graph;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::request::BuildRequest;
use crate::graph::request::goals;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::Description;
use crate::project::Project;
use crate::project::ProjectBuilder;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::folders::Folders;
use crate::project::overrides::SetOutside;
use crate::project::pattern::is_pattern;
use crate::project::script::TaskCall;
use crate::project::script::task_frame;
use crate::project::values::Vars;
use crate::project_cache::cached_project;
use crate::project_cache::cached_project::CachedProject;
use crate::project_cache::cached_project::VerifiedContents;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::event::Summary;
use crate::scheduler::job_builder::JobBuilder;
use crate::scheduler::pass::Pass;
use crate::scheduler::pass::PassError;
use crate::scheduler::resident_build::kept_in;
use crate::scheduler::sequence::Goal;
use crate::scheduler::sequence::Phase;
use crate::scheduler::sequence::cut;
use crate::scheduler::sequence::find;
use crate::scheduler::sequence::reaches_unmaterialized;
use crate::scheduler::sequence::unmaterialized_trees;
use crate::status::environment::RecordingEnvironment;
use crate::status::file_states::FileStates;
use crate::status::learned_edges;
use crate::status::step_inputs::InputBuffers;
use crate::status::step_inputs::StepInputs;
use crate::status::watch_set::WatchSet;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::verdict;
use crate::world::Clock;
use crate::world::Digest;
use crate::world::Disk;

/// How to run.
#[derive(Clone, Copy, Debug)]
pub struct BuildOptions {
    /// Jobs that may run at once.
    pub jobs: usize,
    /// Threads that look at files.
    pub threads: usize,
    /// Go on with what does not depend on a failed step.
    pub keep_going: bool,
    /// Run the named steps, reason or not.
    pub remake: bool,
    /// Memory that jobs may use together, bytes.
    pub memory: u64,
    /// Tell what jobs print as it comes.
    pub live: bool,
    /// Keep old outputs until new ones are there: they are put back when the recipe fails.
    pub keep_old: bool,
    /// The number of this run, under which logs are written; none for no logs.
    pub run: Option<u64>,
}

/// Why a call could not be carried out.
#[derive(Debug)]
pub enum BuildError {
    /// The description or the names are wrong.
    Description(Vec<Diagnostic>),
    /// The ledger or the disk failed.
    Io(String, io::Error),
}

/// What is known of a run's files, and who is told before they are looked at.
pub type WatchHook<'a> = (&'a mut WatchSet, &'a mut dyn FnMut(&mut WatchSet));

/// What lives as long as one call.
pub struct Session<'s> {
    /// The file system.
    pub disk: &'s dyn Disk,
    /// The clock.
    pub clock: &'s dyn Clock,
    /// Where jobs run.
    pub place: &'s dyn Executor,
    /// The wish to end.
    pub stop: &'s CancelToken,
    /// What earlier runs saw.
    pub ledger: &'s RefCell<Ledger>,
    /// The surroundings.
    pub environment: &'s RecordingEnvironment<'s>,
    /// How to run.
    pub options: BuildOptions,
    /// Is told what happens.
    pub observer: &'s mut dyn FnMut(Event),
    pub(super) calls: HashMap<String, TaskCall>,
    pub(super) done: hashbrown::HashMap<String, Ending>,
    pub(super) summary: Summary,
    /// Whether no other round comes behind this one.
    pub(super) last_round: bool,
    /// Is told what each round depends on, before its files are looked at.
    pub watch_set: Option<WatchHook<'s>>,
    /// Folders that are known to be there.
    pub(super) folders: hashbrown::HashSet<String>,
    /// When the call began, in the clock's ticks.
    pub(super) began: u64,
    /// How many jobs were begun.
    pub(super) begun: usize,
    /// How many rounds there were.
    rounds: usize,
    /// Whether anything was warned of.
    warned: bool,
    /// Whether the place was told of the first job.
    prepared: bool,
    /// Warnings that were told.
    told: HashSet<(Option<Span>, String)>,
    /// Steps that read what others make, as this run found out, each with that other.
    pub(super) found_edges: learned_edges::FoundEdges,
    /// Whether steps that were done in an earlier round are judged once more.
    pub(super) rejudges: bool,
    /// Tasks' `steps` of which one failed.
    failed_sequences: HashSet<usize>,
    /// Gives the project free for others; see [`Session::let_project_go`].
    pub release: Option<&'s mut dyn FnMut()>,
    /// Whether that was done.
    pub(super) let_go: bool,
    syncing: Syncing,
}

/// When the ledger was last made durable.
#[derive(Default)]
struct Syncing {
    entries: usize,
    last: u64,
    worker: Option<std::thread::JoinHandle<io::Result<()>>>,
}

/// One call, as it came in.
struct Call<'c> {
    description: &'c Description,
    outside: &'c SetOutside,
    asked: &'c BuildRequest,
    /// The digest of what the project is worked out from.
    key: Digest,
}

/// The ledger is made durable after so many finished jobs, or so many nanoseconds.
const SYNC_ENTRIES: usize = 64;
const SYNC_AFTER: u64 = 100_000_000;

impl<'s> Session<'s> {
    /// A session in which nothing has happened yet.
    #[expect(
        clippy::too_many_arguments,
        reason = "everything that comes in from outside"
    )]
    pub fn new(
        disk: &'s dyn Disk,
        clock: &'s dyn Clock,
        place: &'s dyn Executor,
        stop: &'s CancelToken,
        ledger: &'s RefCell<Ledger>,
        environment: &'s RecordingEnvironment<'s>,
        options: BuildOptions,
        observer: &'s mut dyn FnMut(Event),
    ) -> Self {
        Self {
            disk,
            clock,
            place,
            stop,
            ledger,
            environment,
            options,
            observer,
            calls: HashMap::new(),
            done: hashbrown::HashMap::new(),
            summary: Summary::default(),
            last_round: false,
            watch_set: None,
            folders: hashbrown::HashSet::new(),
            began: clock.ticks(),
            begun: 0,
            rounds: 0,
            warned: false,
            prepared: false,
            told: HashSet::new(),
            found_edges: learned_edges::FoundEdges::new(),
            rejudges: false,
            failed_sequences: HashSet::new(),
            release: None,
            let_go: false,
            syncing: Syncing::default(),
        }
    }

    /// Brings what was asked for up to date.
    ///
    /// # Errors
    /// When the description is wrong, or the ledger or the disk fails. A recipe that fails is no
    /// error: the summary counts it.
    pub fn weave(
        &mut self,
        description: &Description,
        outside: &SetOutside,
        asked: &BuildRequest,
    ) -> Result<Summary, BuildError> {
        let result = self.weave_all(description, outside, asked);
        let result = self.leave_place(result);
        if result.is_err() && self.begun > 0 {
            // Something ran: that is told also when it could not go on.
            self.sum_up(self.began);
        }
        result
    }

    /// Tells the place that the first job is about to begin.
    pub(super) fn prepare_place(&mut self) -> Result<(), PassError> {
        if !self.prepared {
            let prepared = self.place.prepare();
            prepared
                .map_err(|error| PassError::Io("can't note that jobs run".to_owned(), error))?;
            self.prepared = true;
        }
        Ok(())
    }

    /// Tells the place that all jobs have ended. After a failure of the disk its notes stay: what could not be
    /// put in order now is put in order by the next run.
    pub(super) fn leave_place<T>(
        &mut self,
        result: Result<T, BuildError>,
    ) -> Result<T, BuildError> {
        if !std::mem::take(&mut self.prepared) || matches!(result, Err(BuildError::Io(..))) {
            return result;
        }
        match self.place.finish() {
            Ok(mut left) => {
                left.dedup();
                if !left.is_empty() {
                    let names: Vec<String> = left.iter().map(|name| format!("`{name}`")).collect();
                    self.tell(Event::Warning(Diagnostic::placeless_warning(format!(
                        "a recipe left {} running in the background; it was ended",
                        names.join(", ")
                    ))));
                }
                result
            }
            Err(error) => result.and(Err(BuildError::Io(
                "can't note that jobs have ended".to_owned(),
                error,
            ))),
        }
    }

    fn weave_all(
        &mut self,
        description: &Description,
        outside: &SetOutside,
        asked: &BuildRequest,
    ) -> Result<Summary, BuildError> {
        let start = self.begin(asked);
        let key = cached_project::key(description, self.environment);
        let mut known = CachedProject::open(&key, asked, &self.ledger.borrow(), self.environment);
        if let Some(known) = &mut known
            && known.answers(asked)
            && self.watch_set.is_none()
        {
            known.look(self.disk, self.options.threads, None);
            if let Some(kept) = known.all_kept().filter(|_| !self.options.remake) {
                self.summary.kept = kept;
                return Ok(self.sum_up(start));
            }
        }
        let call = Call {
            description,
            outside,
            asked,
            key,
        };
        let mut materialized = HashSet::new();
        let mut phases: Option<Vec<Phase>> = None;
        while self.one_round(&call, known.take(), &mut materialized, &mut phases)? {}
        if !self.let_go {
            let folded = self.ledger.borrow_mut().fold_if_large();
            folded.map_err(|error| BuildError::Io("can't write the ledger".to_owned(), error))?;
        }
        Ok(self.sum_up(start))
    }

    /// Notes when a call begins, and what its tasks are called with.
    pub(super) fn begin(&mut self, asked: &BuildRequest) -> u64 {
        self.began = self.clock.ticks();
        self.calls.clone_from(&asked.calls);
        self.began
    }

    pub(super) fn sum_up(&mut self, start: u64) -> Summary {
        #[expect(
            clippy::cast_precision_loss,
            reason = "nanoseconds of a run as seconds for people"
        )]
        let seconds = self.clock.ticks().saturating_sub(start) as f64 / 1e9;
        self.summary.seconds = seconds;
        self.tell(Event::Summary(self.summary));
        self.summary
    }

    /// Works the project out and runs one round; whether there is more to do.
    fn one_round(
        &mut self,
        call: &Call<'_>,
        known: Option<CachedProject>,
        materialized: &mut HashSet<String>,
        phases: &mut Option<Vec<Phase>>,
    ) -> Result<bool, BuildError> {
        let folders = Folders::new(self.disk);
        let environment = self.environment;
        let vars = Vars::new(call.description, call.outside, environment, &folders);
        let taken_over = known.and_then(|known| {
            let project = known.project(&vars)?;
            // What a step learned since is an edge that the kept order does not have.
            (!known.has_new_edges(&project, &self.ledger.borrow())).then_some((project, known))
        });
        let (mut project, mut known) = match taken_over {
            Some((project, known)) => (project, Some(known)),
            None => {
                let build = ProjectBuilder {
                    vars: &vars,
                    materialized: Some(materialized),
                };
                let mut project = build.project();
                learned_edges::add(&mut project, &self.ledger.borrow(), &self.found_edges);
                (project, None)
            }
        };
        if let Some((watch_set, _)) = &mut self.watch_set {
            let worked_out = || (folders.seen(), folders.told());
            watch_set.add_description(&call.description.sources);
            watch_set.add_folders(
                known
                    .as_ref()
                    .map_or_else(worked_out, CachedProject::folders),
            );
        }
        self.pass_on(&vars)?;
        let asked = call.asked;
        let mut trees: Vec<crate::project::PathId> = Vec::new();
        let mut goals: Vec<NodeId> = Vec::new();
        let mut order = graph::Order::default();
        if let Some(known) = known.as_ref().filter(|known| known.answers(asked)) {
            (goals, order) = known.order();
            *phases = Some(vec![Phase {
                goals: Vec::new(),
                sequence: None,
            }]);
        } else {
            if phases.is_none() {
                *phases = self.phases(&project, asked)?;
            }
            match phases {
                None => trees.clone_from(&project.unmaterialized),
                Some(phases) => {
                    self.skip_held(&project, &vars, phases)?;
                    let Some(phase) = phases.first() else {
                        return Ok(false);
                    };
                    goals.extend(phase.goals.iter().filter_map(|goal| find(&project, goal)));
                    order = self.order(&mut project, &vars, &goals)?;
                    trees = unmaterialized_trees(&project, &order, materialized);
                }
            }
        }
        let making_trees = !trees.is_empty();
        if making_trees {
            // A folder that is itself made from another made folder waits for the next round.
            goals = trees
                .iter()
                .filter_map(|&tree| project.maker(tree))
                .map(NodeId::step)
                .filter(|&goal| !reaches_unmaterialized(&project, goal))
                .collect();
            order = self.order(&mut project, &vars, &goals)?;
        }
        self.warn_of_luck(&project, &order);
        self.last_round = !making_trees && phases.as_ref().is_some_and(|phases| phases.len() == 1);
        let bad_before = self.bad();
        let found_before = self.found_edges.len();
        self.rounds += 1;
        if let Some((watch_set, tell)) = &mut self.watch_set {
            watch_set.add(&project, &order, &self.ledger.borrow());
            tell(watch_set);
        }
        let open = known
            .as_mut()
            .filter(|_| self.last_round)
            .map(|known| self.open_positions(known, &project, &order, &goals, asked));
        let part = open.as_ref().map(|open| order.part(open));
        let contents = known
            .as_ref()
            .filter(|_| part.is_some())
            .map(CachedProject::contents);
        let orders = (part.as_ref().unwrap_or(&order), &order);
        let judged = self.pass(&project, &vars, orders, &goals, contents)?;
        let stopped = self.stop.level() > 0;
        let failed = self.bad() > bad_before || stopped;
        let goes_on = !stopped && (!failed || self.options.keep_going);
        if self.found_edges.len() > found_before && goes_on {
            // What was read in the wrong order is judged once more, behind what it read.
            self.rejudges = true;
            return Ok(true);
        }
        self.rejudges = false;
        if making_trees {
            let before = materialized.len();
            materialized.extend(
                trees
                    .iter()
                    .filter(|&&tree| {
                        let ending = project
                            .maker(tree)
                            .and_then(|maker| self.done.get(project.step_name(maker)).copied());
                        // One that failed is looked into as it is; what needs it is held.
                        ending.is_some_and(|ending| ending.is_good() || self.options.keep_going)
                    })
                    .map(|&tree| project.paths.get(tree).to_owned()),
            );
            return Ok(materialized.len() > before && goes_on);
        }
        if self.last_round && self.rounds == 1 && !failed && !self.warned && !self.let_go {
            let kept = kept_in(&judged, open.as_deref());
            let ran = cached_project::BuildOutcome {
                key: call.key,
                asked,
                goals: &goals,
                order: &order,
                kept: &kept,
                vars: &vars,
                folders: &folders,
            };
            let judged = judged.iter().filter(|kept| **kept).count();
            self.keep_for_next(&mut project, &ran, known.as_ref(), judged)?;
        }
        let Some(phases) = phases else {
            return Ok(goes_on);
        };
        let phase = phases.remove(0);
        let is_bad = |goal: &Goal| {
            self.done
                .get(goal.name())
                .is_some_and(|ending| !ending.is_good())
        };
        if failed || phase.goals.iter().any(is_bad) {
            self.failed_sequences.extend(phase.sequence);
            if !goes_on {
                self.hold_all(&project, &vars, std::mem::take(phases))?;
            }
        }
        Ok(!phases.is_empty() && goes_on)
    }

    /// Holds the phases in front that belong to `steps` of which one failed.
    fn skip_held<'d>(
        &mut self,
        project: &Project<'d>,
        vars: &Vars<'d>,
        phases: &mut Vec<Phase>,
    ) -> Result<(), BuildError> {
        let is_held = |phase: &Phase| {
            let sequence = phase.sequence;
            sequence.is_some_and(|sequence| self.failed_sequences.contains(&sequence))
        };
        let count = phases.iter().take_while(|phase| is_held(phase)).count();
        let held: Vec<Phase> = phases.drain(..count).collect();
        self.hold_all(project, vars, held)
    }

    /// Warns of steps that read what others make and do not say so.
    fn warn_of_luck(&mut self, project: &Project<'_>, order: &graph::Order) {
        if project.learned.is_empty() {
            return;
        }
        let undeclared = graph::undeclared(project, order);
        let warnings = learned_edges::warnings(project, &self.ledger.borrow(), &undeclared);
        for warning in warnings {
            self.tell(Event::Warning(warning));
        }
    }

    /// Everything but one task that has the terminal is done: the project is free for others, and nothing of
    /// it is written any more.
    pub(super) fn let_project_go(&mut self) -> Result<(), PassError> {
        let Some(release) = self.release.take() else {
            return Ok(());
        };
        self.sync()?;
        if std::mem::take(&mut self.prepared) {
            self.place.finish().map_err(|error| {
                PassError::Io("can't note that jobs have ended".to_owned(), error)
            })?;
        }
        self.let_go = true;
        release();
        Ok(())
    }

    /// Carries one round out; for each position that was judged whether it is kept.
    pub(super) fn pass<'d>(
        &mut self,
        project: &Project<'d>,
        vars: &Vars<'d>,
        orders: (&graph::Order, &graph::Order),
        goals: &[NodeId],
        contents: Option<VerifiedContents<'_>>,
    ) -> Result<Vec<bool>, BuildError> {
        let result = Pass::new(self, project, vars, orders, goals, contents).run();
        self.pass_on(vars)?;
        result.map_err(|error| match error {
            PassError::Description => BuildError::Description(Vec::new()),
            PassError::Io(what, error) => BuildError::Io(what, error),
        })
    }

    /// Whether nothing of this call is a reason to look closer the next time.
    pub(super) fn is_calm(&self) -> bool {
        self.bad() == 0 && self.stop.level() == 0 && !self.warned
    }

    /// What was asked for, cut into phases; `None` when whole folders have to be made first to know
    /// what that is.
    fn phases(
        &self,
        project: &Project<'_>,
        asked: &BuildRequest,
    ) -> Result<Option<Vec<Phase>>, BuildError> {
        let unclear = asked.names.is_empty() || asked.names.iter().any(|name| is_pattern(name));
        let found = goals(project, asked);
        if !project.unmaterialized.is_empty() && (unclear || !found.unknown.is_empty()) {
            return Ok(None);
        }
        if !found.unknown.is_empty() {
            return Err(BuildError::Description(found.unknown));
        }
        cut(project, &found.nodes)
            .map(Some)
            .map_err(|wrong| BuildError::Description(vec![*wrong]))
    }

    /// Which positions have to be judged although the last run is known; counts the others as kept.
    pub(super) fn open_positions(
        &mut self,
        known: &mut CachedProject,
        project: &Project<'_>,
        order: &graph::Order,
        goals: &[NodeId],
        asked: &BuildRequest,
    ) -> Vec<bool> {
        if known.answers(asked) && !known.was_looked_at() {
            known.look(self.disk, self.options.threads, None);
        }
        known.look_at(project, order, self.disk, self.options.threads);
        let asked: &[NodeId] = if self.options.remake { goals } else { &[] };
        let open = known.open_positions(project, order, asked);
        self.summary.kept += order
            .nodes
            .iter()
            .zip(&open)
            .filter(|(id, open)| !**open && matches!(id.node(project), Node::Step(_)))
            .count();
        open
    }

    /// Keeps the project for the next run when that will spare it much.
    pub(super) fn keep_for_next<'d>(
        &mut self,
        project: &mut Project<'d>,
        ran: &cached_project::BuildOutcome<'_, 'd>,
        known: Option<&CachedProject>,
        judged: usize,
    ) -> Result<(), BuildError> {
        let folded = self.ledger.borrow_mut().fold_if_large();
        let folded =
            folded.map_err(|error| BuildError::Io("can't write the ledger".to_owned(), error))?;
        let kept = ran.kept.iter().filter(|kept| **kept).count();
        // What is kept already serves until many steps have to be judged beside it.
        let stale = known.is_none() || judged > 64 + ran.order.nodes.len() / 32;
        if (folded || stale) && kept * 2 > ran.order.nodes.len() {
            let environment = self.environment;
            cached_project::keep(
                project,
                ran,
                known,
                &mut self.ledger.borrow_mut(),
                environment,
            );
        }
        Ok(())
    }

    fn bad(&self) -> usize {
        self.summary.failed + self.summary.held + self.summary.stopped
    }

    /// Puts what goals reach in order. A circle that only learning shows is none when the step that learned
    /// has to run anyway: it may learn something else then.
    fn order<'d>(
        &self,
        project: &mut Project<'d>,
        vars: &Vars<'d>,
        goals: &[NodeId],
    ) -> Result<graph::Order, BuildError> {
        loop {
            let cycle = match graph::order(project, goals) {
                Ok(order) => return Ok(order),
                Err(cycle) => cycle,
            };
            let before = project.learned.len();
            let stale: Vec<StepId> = cycle
                .0
                .iter()
                .filter_map(|id| match id.node(project) {
                    Node::Step(step) => Some(step),
                    _ => None,
                })
                .filter(|&step| project.learned_makers(step).next().is_some())
                .filter(|&step| self.has_other_reasons(project, vars, step))
                .collect();
            project.learned.retain(|(step, _)| !stale.contains(step));
            if project.learned.len() == before {
                let circle = graph::describe_cycle(project, &cycle);
                return Err(BuildError::Description(vec![circle]));
            }
        }
    }

    /// Whether a step has to run for something else than what it learned.
    fn has_other_reasons<'d>(&self, project: &Project<'d>, vars: &Vars<'d>, step: StepId) -> bool {
        let mut states = FileStates::new(self.disk, self.clock, self.ledger);
        let node = project.step(step);
        let outputs = project.step_outputs(node).iter().copied();
        for (_, path) in outputs.chain(project.open_needs(project.step_needs(node))) {
            let state = states.look(project.paths.get(path));
            states.set(path, state);
        }
        let ledger = self.ledger.borrow();
        let step_inputs = StepInputs::new(vars, project);
        let kept = step_inputs.with(
            step,
            &states,
            false,
            &mut InputBuffers::default(),
            |facts| {
                let facts = verdict::StepState {
                    learned: None,
                    ..*facts
                };
                verdict::is_kept(&facts, &ledger)
            },
        );
        kept == Some(false)
    }

    /// Tells warnings, and stops at mistakes.
    fn pass_on(&mut self, vars: &Vars<'_>) -> Result<(), BuildError> {
        let (errors, warnings): (Vec<_>, Vec<_>) = vars
            .take_diagnostics()
            .into_iter()
            .partition(Diagnostic::is_error);
        if !errors.is_empty() {
            return Err(BuildError::Description(
                errors.into_iter().chain(warnings).collect(),
            ));
        }
        for warning in warnings {
            self.tell(Event::Warning(warning));
        }
        Ok(())
    }

    /// What a failure left of later phases.
    fn hold_all<'d>(
        &mut self,
        project: &Project<'d>,
        vars: &Vars<'d>,
        phases: Vec<Phase>,
    ) -> Result<(), BuildError> {
        for goal in phases.into_iter().flat_map(|phase| phase.goals) {
            if self.done.contains_key(goal.name()) {
                continue;
            }
            let task = match &goal {
                Goal::Step(_) => None,
                Goal::Task(name) => project.task_named(name),
            };
            let output = match task {
                Some(task) => self.run_finally(project, vars, task)?,
                None => Printed::default(),
            };
            let name = goal.name().to_owned();
            self.done.insert(name.clone(), Ending::Held);
            self.summary.count(Ending::Held);
            let held = Ended::held(name.clone(), matches!(goal, Goal::Task(_)));
            self.tell(Event::Ended(Box::new(held)));
            if !output.is_empty() {
                self.tell(Event::Finally { step: name, output });
            }
        }
        Ok(())
    }

    /// Runs what a task that only stands for others wants to be run whatever happened to them; what it
    /// printed.
    pub(super) fn run_finally<'d>(
        &mut self,
        project: &Project<'d>,
        vars: &Vars<'d>,
        task: TaskId,
    ) -> Result<Printed, BuildError> {
        let node = &project.tasks[task.index()];
        if node.decl.clauses.recipe.is_some() || node.decl.clauses.finally.is_none() {
            return Ok(Printed::default());
        }
        let broken = |error: PassError| match error {
            PassError::Description => BuildError::Description(Vec::new()),
            PassError::Io(what, error) => BuildError::Io(what, error),
        };
        let call = self.calls.get(&node.decl.name).cloned().unwrap_or_default();
        let job_builder = JobBuilder { project, vars };
        let prepared = task_frame(vars, project, node, &call)
            .and_then(|frame| job_builder.task(task, &frame, 0));
        self.pass_on(vars)?;
        let Some(prepared) = prepared else {
            return Ok(Printed::default());
        };
        self.prepare_place().map_err(broken)?;
        // It tidies up also after an interruption, so the wish to stop does not reach it.
        let outcome = self
            .place
            .run(&prepared.job, &CancelToken::default(), &mut |_| {});
        if outcome.exit.code() != 0 {
            let how = outcome.exit.in_words();
            self.tell(Event::Warning(Diagnostic::warning(
                prepared.span,
                format!("the `finally` of `{}` failed: {how}", node.decl.name),
            )));
        }
        Ok(outcome.output)
    }

    pub(super) fn tell(&mut self, event: Event) {
        if let Event::Warning(warning) = &event {
            self.warned = true;
            // The project may be worked out more than once in a call; what is wrong is said once.
            let place = warning.primary.as_ref().map(|label| label.span);
            if !self.told.insert((place, warning.title.clone())) {
                return;
            }
        }
        (self.observer)(event);
    }

    /// Writes entries to the ledger at once; makes them durable now and then, off this thread.
    pub(super) fn record(
        &mut self,
        entries: impl IntoIterator<Item = Entry>,
    ) -> Result<(), PassError> {
        if self.let_go {
            return Ok(());
        }
        let mut ledger = self.ledger.borrow_mut();
        let broken = |error| PassError::Io("can't write the ledger".to_owned(), error);
        ledger.add_all(entries).map_err(broken)?;
        self.syncing.entries += 1;
        let now = self.clock.ticks();
        let due = self.syncing.entries >= SYNC_ENTRIES
            || now.saturating_sub(self.syncing.last) > SYNC_AFTER;
        let idle = self
            .syncing
            .worker
            .as_ref()
            .is_none_or(std::thread::JoinHandle::is_finished);
        if due
            && idle
            && let Some(syncer) = ledger.syncer()
        {
            self.syncing.entries = 0;
            self.syncing.last = now;
            if let Some(Ok(result)) = self
                .syncing
                .worker
                .take()
                .map(std::thread::JoinHandle::join)
            {
                result.map_err(broken)?;
            }
            let thread = std::thread::Builder::new().name("sync".to_owned());
            // Without room for a thread the end of the run does it.
            self.syncing.worker = thread.spawn(syncer).ok();
        }
        Ok(())
    }

    /// Makes everything written so far durable.
    pub(super) fn sync(&mut self) -> Result<(), PassError> {
        if self.let_go {
            return Ok(());
        }
        let broken = |error| PassError::Io("can't write the ledger".to_owned(), error);
        if let Some(Ok(result)) = self
            .syncing
            .worker
            .take()
            .map(std::thread::JoinHandle::join)
        {
            result.map_err(broken)?;
        }
        self.syncing.entries = 0;
        self.ledger.borrow_mut().sync().map_err(broken)
    }

    /// Writes down what commands printed whose output is a value.
    pub(super) fn record_commands(&mut self) -> Result<(), PassError> {
        let outputs = self.environment.new_outputs();
        if outputs.is_empty() {
            Ok(())
        } else {
            self.record(outputs)
        }
    }
}
