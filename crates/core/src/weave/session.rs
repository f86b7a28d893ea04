//! One call of Hand Loom: what was asked, cut into rounds.
//!
//! Most calls are one round. There are more when a task names `steps` that come strictly one after
//! another, and when a pattern looks into a folder that is made as a whole: the folder is then made
//! first, and the project worked out anew with what lies in it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::collections::HashSet;
use std::io;

use crate::graph;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::Build;
use crate::project::Description;
use crate::project::PartId;
use crate::project::Project;
use crate::project::What;
use crate::project::folders::Folders;
use crate::project::overrides::SetOutside;
use crate::project::pattern::is_pattern;
use crate::project::script::TaskCall;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::weave::around::Around;
use crate::weave::event::Ended;
use crate::weave::event::Ending;
use crate::weave::event::Event;
use crate::weave::event::Summary;
use crate::weave::place::Place;
use crate::weave::place::Stop;
use crate::weave::round::Round;
use crate::weave::round::RoundError;
use crate::world::Clock;
use crate::world::Disk;

/// How to run.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// Jobs that may run at once.
    pub jobs: usize,
    /// Threads that look at files.
    pub threads: usize,
    /// Go on with what does not depend on a failed step.
    pub keep_going: bool,
    /// Run the named steps, reason or not.
    pub remake: bool,
}

/// What was asked for.
#[derive(Clone, Debug, Default)]
pub struct Asked {
    /// Names as typed; none for the default.
    pub names: Vec<String>,
    /// The folder they were typed in, from the root: empty, or ending with a slash.
    pub folder: String,
    /// Arguments of tasks, by the task's name.
    pub calls: HashMap<String, TaskCall>,
}

/// Why a call could not be carried out.
#[derive(Debug)]
pub enum Stopped {
    /// The description or the names are wrong.
    Description(Vec<Diagnostic>),
    /// The ledger or the disk failed.
    Io(String, io::Error),
}

/// What lives as long as one call.
pub struct Session<'s> {
    /// The file system.
    pub disk: &'s dyn Disk,
    /// The clock.
    pub clock: &'s dyn Clock,
    /// Where jobs run.
    pub place: &'s dyn Place,
    /// The wish to end.
    pub stop: &'s Stop,
    /// What earlier runs saw.
    pub ledger: &'s RefCell<Ledger>,
    /// The surroundings.
    pub around: &'s Around<'s>,
    /// How to run.
    pub options: Options,
    /// Is told what happens.
    pub observer: &'s mut dyn FnMut(Event),
    pub(super) calls: HashMap<String, TaskCall>,
    pub(super) done: HashMap<String, Ending>,
    pub(super) summary: Summary,
    /// Whether no other round comes behind this one.
    pub(super) last_round: bool,
    /// Folders that are known to be there.
    pub(super) folders: HashSet<String>,
    syncing: Syncing,
}

/// When the ledger was last made durable.
#[derive(Default)]
struct Syncing {
    entries: usize,
    last: u64,
    worker: Option<std::thread::JoinHandle<io::Result<()>>>,
}

/// A goal by name, since numbers change when the project is worked out anew.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Goal {
    Step(String),
    Task(String),
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
        place: &'s dyn Place,
        stop: &'s Stop,
        ledger: &'s RefCell<Ledger>,
        around: &'s Around<'s>,
        options: Options,
        observer: &'s mut dyn FnMut(Event),
    ) -> Self {
        Self {
            disk,
            clock,
            place,
            stop,
            ledger,
            around,
            options,
            observer,
            calls: HashMap::new(),
            done: HashMap::new(),
            summary: Summary::default(),
            last_round: false,
            folders: HashSet::new(),
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
        asked: &Asked,
    ) -> Result<Summary, Stopped> {
        let start = self.clock.ticks();
        self.calls.clone_from(&asked.calls);
        let mut settled = HashSet::new();
        let mut phases: Option<Vec<Vec<Goal>>> = None;
        while self.one_round(description, outside, asked, &mut settled, &mut phases)? {}
        self.hold_rest(phases.unwrap_or_default());
        let folded = self.ledger.borrow_mut().fold_if_large();
        folded.map_err(|error| Stopped::Io("can't write the ledger".to_owned(), error))?;
        #[expect(
            clippy::cast_precision_loss,
            reason = "nanoseconds of a run as seconds for people"
        )]
        let seconds = self.clock.ticks().saturating_sub(start) as f64 / 1e9;
        self.summary.seconds = seconds;
        self.tell(Event::Summary(self.summary));
        Ok(self.summary)
    }

    /// Works the project out and runs one round; whether there is more to do.
    fn one_round(
        &mut self,
        description: &Description,
        outside: &SetOutside,
        asked: &Asked,
        settled: &mut HashSet<String>,
        phases: &mut Option<Vec<Vec<Goal>>>,
    ) -> Result<bool, Stopped> {
        let folders = Folders::new(self.disk);
        let around = self.around;
        let vars = Vars::new(description, outside, around, &folders);
        let build = Build {
            vars: &vars,
            settled: Some(settled),
        };
        let project = build.project();
        self.pass_on(&vars)?;
        let unclear =
            |names: &[String]| names.is_empty() || names.iter().any(|name| is_pattern(name));
        let mut trees: Vec<crate::project::PathId> = Vec::new();
        if phases.is_none() {
            let found = goals(&project, asked);
            if !project.unsettled.is_empty() && (unclear(&asked.names) || !found.unknown.is_empty())
            {
                trees.clone_from(&project.unsettled);
            } else if !found.unknown.is_empty() {
                return Err(Stopped::Description(found.unknown));
            } else {
                *phases = Some(
                    cut(&project, &found.nodes)
                        .map_err(|wrong| Stopped::Description(vec![*wrong]))?,
                );
            }
        }
        let mut goals: Vec<NodeId> = Vec::new();
        let mut order = graph::Order::default();
        if let Some(phases) = phases {
            let Some(phase) = phases.first() else {
                return Ok(false);
            };
            goals.extend(phase.iter().filter_map(|goal| find(&project, goal)));
            order = self.order(&project, &goals)?;
            trees = unsettled_trees(&project, &order, settled);
        }
        let making_trees = !trees.is_empty();
        if making_trees {
            // A folder that is itself made from another made folder waits for the next round.
            goals = trees
                .iter()
                .filter_map(|&tree| project.maker(tree))
                .map(NodeId::step)
                .filter(|&goal| !cone_is_unsettled(&project, goal))
                .collect();
            order = self.order(&project, &goals)?;
        }
        self.last_round = !making_trees && phases.as_ref().is_some_and(|phases| phases.len() == 1);
        let bad_before = self.bad();
        let result = Round::new(self, &project, &vars, &order, &goals).run();
        self.pass_on(&vars)?;
        result.map_err(|error| match error {
            RoundError::Description => Stopped::Description(Vec::new()),
            RoundError::Io(what, error) => Stopped::Io(what, error),
        })?;
        let failed = self.bad() > bad_before || self.stop.level() > 0;
        if making_trees {
            let before = settled.len();
            settled.extend(
                trees
                    .iter()
                    .map(|&tree| project.paths.get(tree).to_owned())
                    .filter(|tree| {
                        let maker = project
                            .paths
                            .find(tree)
                            .and_then(|tree| project.maker(tree));
                        maker.is_some_and(|maker| {
                            self.done
                                .get(project.step_name(maker))
                                .is_some_and(|ending| ending.is_good())
                        })
                    }),
            );
            return Ok(settled.len() > before && !failed);
        }
        if let Some(phases) = phases {
            phases.remove(0);
            return Ok(!phases.is_empty() && !failed);
        }
        Ok(!failed)
    }

    fn bad(&self) -> usize {
        self.summary.failed + self.summary.held + self.summary.stopped
    }

    fn order(&self, project: &Project<'_>, goals: &[NodeId]) -> Result<graph::Order, Stopped> {
        graph::order(project, goals)
            .map_err(|cycle| Stopped::Description(vec![graph::describe_cycle(project, &cycle)]))
    }

    /// Tells warnings, and stops at mistakes.
    fn pass_on(&mut self, vars: &Vars<'_>) -> Result<(), Stopped> {
        let (errors, warnings): (Vec<_>, Vec<_>) = vars
            .take_diagnostics()
            .into_iter()
            .partition(Diagnostic::is_error);
        if !errors.is_empty() {
            return Err(Stopped::Description(
                errors.into_iter().chain(warnings).collect(),
            ));
        }
        for warning in warnings {
            self.tell(Event::Warning(warning));
        }
        Ok(())
    }

    /// What a failure left of later phases.
    fn hold_rest(&mut self, phases: Vec<Vec<Goal>>) {
        for goal in phases.into_iter().flatten() {
            let (step, task) = match goal {
                Goal::Step(name) => (name, false),
                Goal::Task(name) => (name, true),
            };
            if self.done.contains_key(&step) {
                continue;
            }
            self.done.insert(step.clone(), Ending::Held);
            self.summary.count(Ending::Held);
            self.tell(Event::Ended(Box::new(Ended {
                step,
                task,
                ending: Ending::Held,
                reasons: Vec::new(),
                seconds: 0.0,
                exit: None,
                output: Vec::new(),
                failure: None,
            })));
        }
    }

    pub(super) fn tell(&mut self, event: Event) {
        (self.observer)(event);
    }

    /// Writes entries to the ledger at once; makes them durable now and then, off this thread.
    pub(super) fn record(
        &mut self,
        entries: impl IntoIterator<Item = Entry>,
    ) -> Result<(), RoundError> {
        let mut ledger = self.ledger.borrow_mut();
        let broken = |error| RoundError::Io("can't write the ledger".to_owned(), error);
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
            self.syncing.worker = Some(std::thread::spawn(syncer));
        }
        Ok(())
    }

    /// Makes everything written so far durable.
    pub(super) fn sync(&mut self) -> Result<(), RoundError> {
        let broken = |error| RoundError::Io("can't write the ledger".to_owned(), error);
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
    pub(super) fn record_commands(&mut self) -> Result<(), RoundError> {
        let outputs = self.around.new_outputs();
        if outputs.is_empty() {
            Ok(())
        } else {
            self.record(outputs)
        }
    }
}

/// What names stand for in a project; without names, what is made by default.
#[must_use]
pub fn goals(project: &Project<'_>, asked: &Asked) -> graph::Goals {
    if asked.names.is_empty() {
        let part = part_of(project, &asked.folder);
        return graph::Goals::of(graph::default_goals(project, part.0, &part.1));
    }
    graph::resolve(project, &asked.names, &asked.folder)
}

/// The innermost part around a folder, and its folder.
fn part_of(project: &Project<'_>, folder: &str) -> (PartId, String) {
    project
        .parts
        .iter()
        .enumerate()
        .filter(|(_, part)| folder.starts_with(part.as_str()))
        .max_by_key(|(_, part)| part.len())
        .map(|(index, part)| (PartId(u32::try_from(index).unwrap_or(0)), part.clone()))
        .unwrap_or((PartId::ROOT, String::new()))
}

fn find(project: &Project<'_>, goal: &Goal) -> Option<NodeId> {
    match goal {
        Goal::Step(name) => {
            let path = project.paths.find(name)?;
            project.maker(path).map(NodeId::step)
        }
        Goal::Task(name) => project
            .task_named(name)
            .map(|task| NodeId::task(project, task)),
    }
}

fn goal(project: &Project<'_>, id: NodeId) -> Option<Goal> {
    match id.node(project) {
        Node::Step(step) => Some(Goal::Step(project.step_name(step).to_owned())),
        Node::Task(task) => Some(Goal::Task(project.tasks[task.index()].decl.name.clone())),
        Node::Set(_) => None,
    }
}

/// Whole folders that sets in this order look into and that are not known to be up to date.
fn unsettled_trees(
    project: &Project<'_>,
    order: &graph::Order,
    settled: &HashSet<String>,
) -> Vec<crate::project::PathId> {
    let mut trees = Vec::new();
    let mut any_set = false;
    for id in &order.nodes {
        if let Node::Set(set) = id.node(project) {
            any_set = true;
            for &tree in &project.sets[set.index()].trees {
                if !settled.contains(project.paths.get(tree)) && !trees.contains(&tree) {
                    trees.push(tree);
                }
            }
        }
    }
    if any_set {
        for &tree in &project.unsettled {
            if !trees.contains(&tree) {
                trees.push(tree);
            }
        }
    }
    trees
}

fn needs_unsettled(project: &Project<'_>, id: NodeId) -> bool {
    matches!(id.node(project), Node::Set(set) if !project.sets[set.index()].settled)
}

fn cone_is_unsettled(project: &Project<'_>, goal: NodeId) -> bool {
    graph::order(project, &[goal])
        .is_ok_and(|order| order.nodes.iter().any(|&id| needs_unsettled(project, id)))
}

/// Cuts goals into phases: each item of a task's `steps` in a phase of its own.
fn cut(project: &Project<'_>, goals: &[NodeId]) -> Result<Vec<Vec<Goal>>, Box<Diagnostic>> {
    let mut cutter = Cutter {
        project,
        phases: Vec::new(),
        open: Vec::new(),
        done: HashSet::new(),
    };
    cutter.visit(goals)?;
    cutter.push(goals.iter().copied());
    Ok(cutter.phases)
}

struct Cutter<'p, 'd> {
    project: &'p Project<'d>,
    phases: Vec<Vec<Goal>>,
    open: Vec<NodeId>,
    done: HashSet<NodeId>,
}

impl Cutter<'_, '_> {
    fn push(&mut self, nodes: impl Iterator<Item = NodeId>) {
        let goals: Vec<Goal> = nodes.filter_map(|id| goal(self.project, id)).collect();
        if !goals.is_empty() {
            self.phases.push(goals);
        }
    }

    /// Puts the phases of all tasks with `steps` that nodes reach in front.
    fn visit(&mut self, ids: &[NodeId]) -> Result<(), Box<Diagnostic>> {
        if self.project.tasks.iter().all(|task| task.steps.is_empty()) {
            return Ok(());
        }
        let order = match graph::order(self.project, ids) {
            Ok(order) => order,
            Err(cycle) => return Err(Box::new(graph::describe_cycle(self.project, &cycle))),
        };
        for id in order.nodes {
            if let Node::Task(task) = id.node(self.project)
                && !self.project.tasks[task.index()].steps.is_empty()
                && !self.done.contains(&id)
            {
                self.sequence(id)?;
            }
        }
        Ok(())
    }

    fn sequence(&mut self, id: NodeId) -> Result<(), Box<Diagnostic>> {
        let Node::Task(task) = id.node(self.project) else {
            return Ok(());
        };
        let node = &self.project.tasks[task.index()];
        if self.open.contains(&id) {
            return Err(Box::new(
                Diagnostic::error(
                    node.decl.syntax.span,
                    format!("the steps of `{}` lead back to itself", node.decl.name),
                )
                .help("take one of these steps away"),
            ));
        }
        self.open.push(id);
        let mut needs = Vec::new();
        graph::dependencies(self.project, id, &mut |needed| needs.push(needed));
        self.push(needs.into_iter());
        for &what in &node.steps {
            let items = self.nodes(what);
            self.visit(&items)?;
            self.push(items.into_iter());
        }
        self.push(std::iter::once(id));
        self.open.pop();
        self.done.insert(id);
        Ok(())
    }

    fn nodes(&self, what: What) -> Vec<NodeId> {
        let mut nodes = Vec::new();
        let mut path = |path| nodes.extend(self.project.maker(path).map(NodeId::step));
        match what {
            What::Task(task) => nodes.push(NodeId::task(self.project, task)),
            What::Path(one) => path(one),
            What::Set(set) => self.project.sets[set.index()]
                .paths
                .iter()
                .for_each(|&one| path(one)),
        }
        nodes
    }
}
