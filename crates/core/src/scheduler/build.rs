//! One build: what was asked, cut into passes.
//!
//! Most builds are one pass. There are more when a task names `steps` that come strictly one after
//! another, when a pattern looks into a folder that is made as a whole (the folder is then made first, and the
//! project worked out anew with what lies in it), and when a step read what nobody had put first.

use std::collections::HashSet;

use crate::graph;
use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::language::Manner;
use crate::project::Description;
use crate::project::PathId;
use crate::project::Project;
use crate::project::folders::Folders;
use crate::project::overrides::SetOutside;
use crate::project::values::Vars;
use crate::project_cache;
use crate::project_cache::BuildOutcome;
use crate::project_cache::CachedProject;
use crate::project_cache::FrontLook;
use crate::project_cache::LoadedProject;
use crate::scheduler::build_state::BuildContext;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::build_state::CircumstanceFinder;
use crate::scheduler::build_state::RunWatcher;
use crate::scheduler::event::Summary;
use crate::scheduler::event_hub::EventHub;
use crate::scheduler::finally::hold_all;
use crate::scheduler::fleeting::take_away;
use crate::scheduler::options::BuildError;
use crate::scheduler::options::BuildOptions;
use crate::scheduler::options::OnFailure;
use crate::scheduler::ordering::order_goals;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::run_pass::PassPlan;
use crate::scheduler::run_pass::PassResult;
use crate::scheduler::run_pass::keep_for_next;
use crate::scheduler::run_pass::kept_in;
use crate::scheduler::run_pass::open_positions;
use crate::scheduler::run_pass::report;
use crate::scheduler::run_pass::run_pass;
use crate::scheduler::sequence::Goal;
use crate::scheduler::sequence::Phase;
use crate::scheduler::sequence::find;
use crate::scheduler::sequence::phases;
use crate::scheduler::sequence::reaches_unmaterialized;
use crate::scheduler::sequence::unmaterialized_trees;
use crate::status::learned_edges;
use crate::world::Digest;

/// One build.
pub struct Build<'s> {
    pub(super) state: BuildState<'s>,
    /// What was seen of the kept project already.
    front: Option<FrontLook>,
    /// How many passes there were.
    passes: usize,
    /// Whole folders that are made.
    materialized: HashSet<String>,
    /// What is still to be done; none until it is known.
    phases: Option<Vec<Phase>>,
    /// Tasks' `steps` of which one failed.
    failed_sequences: HashSet<usize>,
}

/// What is built, as it came in.
struct Inputs<'c> {
    description: &'c Description,
    outside: &'c SetOutside,
    request: &'c BuildRequest,
    /// The digest of what the project is worked out from.
    key: Digest,
}

impl<'s> Build<'s> {
    /// A build in which nothing has happened yet.
    #[must_use]
    pub fn new(context: BuildContext<'s>, options: BuildOptions, events: EventHub<'s>) -> Self {
        Self {
            state: BuildState::new(context, options, events),
            front: None,
            passes: 0,
            materialized: HashSet::new(),
            phases: None,
            failed_sequences: HashSet::new(),
        }
    }

    /// With somebody who wants to know what the run depends on.
    #[must_use]
    pub fn watched(mut self, watcher: Option<&'s mut dyn RunWatcher>) -> Self {
        self.state.watcher = watcher;
        self
    }

    /// With somebody who finds out what the run is carried out in, which is kept with what it makes.
    #[must_use]
    pub fn noting(mut self, circumstances: Option<&'s mut dyn CircumstanceFinder>) -> Self {
        self.state.circumstances = circumstances;
        self
    }

    /// With what was seen of the kept project already.
    pub fn with_front(&mut self, front: Option<FrontLook>) {
        self.front = front;
    }

    /// With somebody who gives the project free for others, when only a job is left that has the terminal.
    #[must_use]
    pub fn releasing(mut self, release: Option<&'s mut dyn FnMut()>) -> Self {
        self.state.release = release;
        self
    }

    /// Brings what was asked for up to date.
    ///
    /// # Errors
    /// When the description is wrong, or the ledger or the disk fails.
    pub fn run(
        &mut self,
        description: &Description,
        outside: &SetOutside,
        request: &BuildRequest,
    ) -> Result<Summary, BuildError> {
        let inputs = Inputs {
            description,
            outside,
            request,
            key: project_cache::key(description, self.state.context.environment),
        };
        self.begin();
        let result = self.run_passes(&inputs);
        let result = self.state.finish_executor(result);
        if result.is_err() && self.state.progress.begun > 0 {
            // Something ran: that is told also when it could not go on.
            self.state.sum_up();
        }
        result
    }

    /// Notes when the build begins.
    pub(super) fn begin(&mut self) {
        self.state.began = self.state.context.clock.ticks();
    }

    fn run_passes(&mut self, inputs: &Inputs<'_>) -> Result<Summary, BuildError> {
        let context = self.state.context;
        let ledger = context.ledger.borrow();
        let environment = context.environment;
        let mut cached = CachedProject::open(
            self.front.take(),
            &inputs.key,
            inputs.request,
            &ledger,
            environment,
        );
        drop(ledger);
        if let Some(cached) = &mut cached
            && cached.answers(inputs.request)
            && self.state.watcher.is_none()
        {
            cached.look(context.disk, self.state.options.threads, None);
            let is_enough =
                !self.state.options.again && !cached.is_outgrown(&context.ledger.borrow());
            if let Some(kept) = cached.all_kept().filter(|_| is_enough) {
                self.state.progress.summary.kept = kept;
                return Ok(self.state.sum_up());
            }
        }
        while self.one_pass(inputs, cached.take())? {}
        if !self.state.writer.is_closed() {
            self.state.writer.fold_if_large()?;
        }
        Ok(self.state.sum_up())
    }

    /// Works the project out and runs one pass; whether there is more to do.
    fn one_pass(
        &mut self,
        inputs: &Inputs<'_>,
        cached: Option<CachedProject>,
    ) -> Result<bool, BuildError> {
        let context = self.state.context;
        let folders = Folders::new(context.disk);
        let environment = context.environment;
        let vars = Vars::new(inputs.description, inputs.outside, environment, &folders);
        let mut loaded = LoadedProject::load(
            &vars,
            cached,
            Some(&self.materialized),
            &self.state.progress.found_edges,
            &context.ledger.borrow(),
            &inputs.request.calls,
        );
        self.watch_description(inputs, &loaded, &vars);
        report(&mut self.state, &vars)?;
        let Some(plan) = self.plan(inputs, &mut loaded, &vars)? else {
            return Ok(false);
        };
        self.warn_of_luck(&loaded.project, &plan.order);
        let found_before = self.state.progress.found_edges.len();
        self.want_goals(&loaded.project, &plan);
        let wanted_before = self.state.progress.wanted.len();
        let result = self.carry_out(inputs, &mut loaded, &vars, &plan)?;
        self.watch_data_files();
        if self.state.progress.found_edges.len() > found_before && result.goes_on {
            // What was read in the wrong order is judged once more, behind what it read.
            self.state.progress.rejudges = true;
            let cached = loaded.cached.as_ref();
            if cached.is_some_and(|cached| cached.answers(inputs.request)) {
                // The order that was taken over is not the one that is needed now.
                self.phases = None;
            }
            return Ok(true);
        }
        self.state.progress.rejudges = false;
        if self.state.progress.wanted.len() > wanted_before && result.goes_on {
            // What was taken away is made first; what needs it was put off.
            self.state.progress.forget_kept();
            return Ok(true);
        }
        // Once the project was given free, others may be at work with what is there.
        let is_ours = !self.state.writer.is_closed();
        if is_ours && self.state.progress.is_last_pass && result.goes_on && !result.failed {
            let good = kept_in(&result.judged.good, result.open.as_ref());
            take_away(&mut self.state, &loaded.project, &plan, &good)?;
        }
        if !plan.trees.is_empty() {
            return Ok(self.note_materialized(&loaded.project, &plan.trees) && result.goes_on);
        }
        let is_only_pass = self.state.progress.is_last_pass && self.passes == 1;
        if is_only_pass && !self.state.events.has_warned() && !self.state.writer.is_closed() {
            let outcome = BuildOutcome {
                key: inputs.key,
                request: inputs.request,
                goals: &plan.goals,
                order: &plan.order,
                kept: &kept_in(&result.judged.good, result.open.as_ref()),
                vars: &vars,
                folders: &folders,
                threads: self.state.options.threads,
            };
            keep_for_next(&mut self.state, &mut loaded, &outcome, &result.judged)?;
        }
        self.end_phase(&loaded.project, &vars, &result)
    }

    /// What this pass is to do; nothing when all is done.
    fn plan<'d>(
        &mut self,
        inputs: &Inputs<'_>,
        loaded: &mut LoadedProject<'d>,
        vars: &Vars<'d>,
    ) -> Result<Option<PassPlan>, BuildError> {
        let cached = loaded.cached.as_ref();
        let has_order =
            |cached: &&CachedProject| cached.answers(inputs.request) && !cached.is_amended();
        if let Some(cached) = cached.filter(has_order) {
            let (goals, order) = cached.order();
            self.phases = Some(vec![Phase::whole()]);
            let trees = Vec::new();
            return Ok(Some(PassPlan {
                goals,
                order,
                trees,
            }));
        }
        let project = &mut loaded.project;
        if self.phases.is_none() {
            self.phases = phases(project, vars, inputs.request)?;
        }
        let mut plan = PassPlan {
            goals: Vec::new(),
            order: Order::default(),
            trees: Vec::new(),
        };
        self.skip_held(project, vars)?;
        match &self.phases {
            None => plan.trees.clone_from(&project.unmaterialized),
            Some(phases) => {
                let Some(phase) = phases.first() else {
                    return Ok(None);
                };
                let goals = phase.goals.iter();
                plan.goals = goals.filter_map(|goal| find(project, goal)).collect();
                plan.order = order_goals(&self.state.context, project, vars, &plan.goals)?;
                plan.trees = unmaterialized_trees(project, &plan.order, &self.materialized);
            }
        }
        if !plan.trees.is_empty() {
            // A folder that is itself made from another made folder waits for the next pass.
            let makers = plan.trees.iter().filter_map(|&tree| project.maker(tree));
            plan.goals = makers
                .map(NodeId::step)
                .filter(|&goal| !reaches_unmaterialized(project, goal))
                .collect();
            plan.order = order_goals(&self.state.context, project, vars, &plan.goals)?;
        }
        Ok(Some(plan))
    }

    /// Runs a pass.
    fn carry_out<'d>(
        &mut self,
        inputs: &Inputs<'_>,
        loaded: &mut LoadedProject<'d>,
        vars: &Vars<'d>,
        plan: &PassPlan,
    ) -> Result<PassResult, BuildError> {
        let phases = self.phases.as_ref();
        self.state.progress.is_last_pass =
            plan.trees.is_empty() && phases.is_some_and(|phases| phases.len() == 1);
        let bad_before = self.state.progress.bad();
        self.passes += 1;
        if let Some(watcher) = &mut self.state.watcher {
            let ledger = self.state.context.ledger.borrow();
            let watch_set = watcher.watch_set();
            watch_set.add(&loaded.project, &plan.order, &ledger);
            drop(ledger);
            watcher.cover();
        }
        let open = if self.state.progress.is_last_pass {
            open_positions(&mut self.state, loaded, plan, inputs.request)
        } else {
            None
        };
        let part = open.as_ref().map(|open| plan.order.part(open));
        let view = PassView {
            project: &loaded.project,
            vars,
            order: part.as_ref().unwrap_or(&plan.order),
            whole: &plan.order,
        };
        let cached = loaded.cached.as_ref().filter(|_| part.is_some());
        let judged = run_pass(&mut self.state, view, &plan.goals, cached)?;
        let stopped = self.state.is_cancelled();
        let failed = self.state.progress.bad() > bad_before || stopped;
        let goes_on = !stopped && (!failed || self.state.options.on_failure == OnFailure::Continue);
        Ok(PassResult {
            failed,
            goes_on,
            judged,
            open,
        })
    }

    /// What was asked for by name is made, whatever becomes of it otherwise.
    fn want_goals(&mut self, project: &Project<'_>, plan: &PassPlan) {
        for goal in &plan.goals {
            if let Node::Step(step) = goal.node(project)
                && let Some(decl) = project.decls.read_already(project.step(step).decl as usize)
                && decl.clauses.has(Manner::Fleeting)
            {
                let wanted = &mut self.state.progress.wanted;
                wanted.insert(project.step_name(step).to_owned());
            }
        }
    }

    /// Notes which whole folders are made now; whether there are any.
    fn note_materialized(&mut self, project: &Project<'_>, trees: &[PathId]) -> bool {
        let before = self.materialized.len();
        let goes_on = self.state.options.on_failure == OnFailure::Continue;
        for &tree in trees {
            let maker = project.maker(tree);
            let ending =
                maker.and_then(|maker| self.state.progress.ending(project.step_name(maker)));
            // One that failed is looked into as it is; what needs it is held.
            if ending.is_some_and(|ending| ending.is_good() || goes_on) {
                self.materialized.insert(project.paths.get(tree).to_owned());
            }
        }
        self.materialized.len() > before
    }

    /// A phase is over; whether there is another.
    fn end_phase<'d>(
        &mut self,
        project: &Project<'d>,
        vars: &Vars<'d>,
        result: &PassResult,
    ) -> Result<bool, BuildError> {
        let Some(phases) = &mut self.phases else {
            return Ok(result.goes_on);
        };
        let phase = phases.remove(0);
        let progress = &self.state.progress;
        let is_bad = |goal: &Goal| {
            let ending = progress.ending(goal.name());
            ending.is_some_and(|ending| !ending.is_good())
        };
        if result.failed || phase.goals.iter().any(is_bad) {
            self.failed_sequences.extend(phase.sequence);
            if !result.goes_on {
                let rest = std::mem::take(phases);
                hold_all(&mut self.state, project, vars, rest)?;
            }
        }
        let is_more = self
            .phases
            .as_ref()
            .is_some_and(|phases| !phases.is_empty());
        Ok(is_more && result.goes_on)
    }

    /// Holds the phases in front that belong to `steps` of which one failed.
    fn skip_held<'d>(&mut self, project: &Project<'d>, vars: &Vars<'d>) -> Result<(), BuildError> {
        let Some(phases) = &mut self.phases else {
            return Ok(());
        };
        let failed = &self.failed_sequences;
        let is_held = |phase: &Phase| {
            let sequence = phase.sequence;
            sequence.is_some_and(|sequence| failed.contains(&sequence))
        };
        let count = phases.iter().take_while(|phase| is_held(phase)).count();
        let held: Vec<Phase> = phases.drain(..count).collect();
        hold_all(&mut self.state, project, vars, held)
    }

    /// Tells the watcher of what the project is worked out from.
    fn watch_description(
        &mut self,
        inputs: &Inputs<'_>,
        loaded: &LoadedProject<'_>,
        vars: &Vars<'_>,
    ) {
        let folders = vars.folders;
        if let Some(watcher) = &mut self.state.watcher {
            let watch_set = watcher.watch_set();
            watch_set.add_description(&inputs.description.sources);
            let (mut seen, mut told) = match &loaded.cached {
                Some(cached) => cached.folders(),
                None => (Vec::new(), Vec::new()),
            };
            seen.extend(folders.seen());
            told.extend(folders.told());
            watch_set.add_folders((seen, told));
            let cached = loaded.cached.as_ref();
            watch_set.add_data_files(cached.into_iter().flat_map(CachedProject::data_files));
            watch_set.add_data_files(inputs.description.absent.iter().map(String::as_str));
            watch_set.add_data_files(vars.named_data_files().keys().map(String::as_str));
        }
    }

    /// Tells the watcher of files that values were taken from while recipes were put together.
    fn watch_data_files(&mut self) {
        let environment = self.state.context.environment;
        if let Some(watcher) = &mut self.state.watcher {
            let watch_set = watcher.watch_set();
            let answered = environment.answered_files();
            let mut is_new =
                watch_set.add_data_files(answered.iter().map(|file| file.path.as_str()));
            let absent = environment.absent_files();
            is_new |= watch_set.add_data_files(absent.iter().map(String::as_str));
            if is_new {
                watcher.cover();
            }
        }
    }

    /// Warns of steps that read what others make and do not say so.
    fn warn_of_luck(&mut self, project: &Project<'_>, order: &Order) {
        if project.learned.is_empty() {
            return;
        }
        let undeclared = graph::undeclared(project, order);
        let ledger = self.state.context.ledger;
        let warnings = learned_edges::warnings(project, &ledger.borrow(), &undeclared);
        warnings
            .into_iter()
            .for_each(|warning| self.state.warn(warning));
    }
}
