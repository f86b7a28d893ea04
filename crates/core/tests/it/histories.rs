//! The promise, on random projects and random histories: after any edits, touches, tampering, kills
//! and runs, the outputs are those of a fresh copy built from nothing, and the steps that ran are
//! exactly those whose recorded inputs differ.
//!
//! What should run is worked out a second time, from a plain model of what each step saw ([`crate::model`]).

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::path::Path;
use std::rc::Rc;

use handloom_core::world::Digest;
use proptest::prelude::*;

use handloom_core::graph;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::Node;
use handloom_core::graph::goals;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::LedgerGlance;
use handloom_core::ledger::MemoryStorage;
use handloom_core::project::folders::Folders;
use handloom_core::project::values::Vars;
use handloom_core::project_cache::CachedProject;
use handloom_core::project_cache::FrontLook;
use handloom_core::project_cache::LoadedProject;
use handloom_core::project_cache::Question;
use handloom_core::project_cache::ResidentProject;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::recover;
use handloom_core::status::Decision;
use handloom_core::text::Diagnostic;

use crate::bed;
use crate::bed::Bed;
use crate::looking::Seen;
use crate::looking::with_vars;
use crate::made_up::GRAIN;
use crate::made_up::Machine;
use crate::model::Expected;
use crate::model::Need;
use crate::model::SOURCES;
use crate::model::StepModel;
use crate::model::World;
use crate::model::output;

#[derive(Clone, Debug)]
enum Act {
    Edit(usize, u8),
    /// Within the clock's grain of the last thing that happened.
    EditAtOnce(usize, u8),
    Touch(usize),
    Include(usize, u8),
    RemoveInclude(usize),
    AddMore(usize, u8),
    DropMore(usize),
    Tamper(usize, u8),
    Delete(usize),
    /// The user writes where an output belongs, whether one is there or not.
    Intrude(usize),
    Executable(usize, bool),
    ExecutableInclude(usize, bool),
    Variable(usize),
    /// What stands beside the variable in its file.
    Beside(usize),
    Always(usize, bool),
    But(usize, Option<usize>),
    Salt(usize, usize),
    ToggleNeed(usize, usize),
    DropStep(usize),
    /// A step is described, whether or not it was before.
    Describe(usize, StepModel),
    TurnClockBack,
    DamageJournal(usize),
    Weave(Option<usize>, usize),
    Kill(usize, usize),
    /// A run in which a step fails, if it has to run.
    Fail(usize, usize),
    /// Edits, each followed by a run of a project that stays in memory.
    Stand(Vec<Act>, usize),
}

/// What ended how, with the reasons, in order.
type Told = Vec<(String, Ending, Vec<&'static str>)>;

/// What each step would do, and its certain reasons.
type Foreseen = BTreeMap<String, (Decision, Vec<&'static str>)>;

fn foreseen<'d>(
    seen: &Seen<'_, 'd>,
    loaded: &mut LoadedProject<'d>,
    asked: &BuildRequest,
) -> Foreseen {
    let goals = goals(&loaded.project, asked).nodes;
    let order = graph::order(&loaded.project, &goals).expect("no circle");
    let predictions = seen.dry_run(loaded, &order);
    let project = &loaded.project;
    let of_steps = predictions
        .values()
        .filter(|prediction| matches!(prediction.node.node(project), Node::Step(_)));
    of_steps
        .map(|prediction| {
            let reasons = prediction.reasons.iter().map(|reason| reason.kind.name());
            let reasons = reasons.collect();
            (
                prediction.node.name(project),
                (prediction.decision, reasons),
            )
        })
        .collect()
}

fn note(event: &Event, ended: &mut Told) {
    if let Event::Ended(job) = event {
        let reasons = job.reasons.iter().map(|reason| reason.kind.name());
        ended.push((job.step.clone(), job.ending, reasons.collect()));
    }
}

fn options(jobs: usize) -> BuildOptions {
    BuildOptions {
        jobs,
        ..BuildOptions::default()
    }
}

/// What a run does first; whether it could.
fn put_in_order(machine: &Machine, ledger: &RefCell<Ledger>) -> bool {
    // Jobs of this machine do not outlive a kill, and so leave no marks.
    let scratch = Path::new("/nowhere");
    recover(machine, machine, ledger, scratch, "/project").is_ok()
}

impl World {
    /// What the next run does before it looks at anything.
    fn put_in_order(&self) {
        assert!(put_in_order(
            &self.machine,
            &bed::ledger(&self.machine, true)
        ));
    }

    /// Runs the program's core; what ended how, in order, and whether all went well.
    fn weave(machine: &Machine, loom: &str, goal: Option<usize>, jobs: usize) -> (Told, bool) {
        machine.write_now("hand.loom", loom.as_bytes());
        let Ok((ledger, _)) = Ledger::open(machine.storage(), true) else {
            return (Vec::new(), false);
        };
        let ledger = RefCell::new(ledger);
        if !put_in_order(machine, &ledger) {
            return (Vec::new(), false);
        }
        let environment = bed::environment(machine, &ledger);
        let asked = BuildRequest {
            names: goal.map(|goal| output(goal, 0)).into_iter().collect(),
            ..BuildRequest::default()
        };
        let mut front = match Self::glance(machine, &asked) {
            Ok(()) => return (Vec::new(), true),
            Err(front) => front,
        };
        let (described, outside) = bed::describe(machine, &environment);
        let glance = LedgerGlance::at(machine.storage());
        let kept = front
            .as_mut()
            .and_then(|front| front.description(&glance, machine, &[7; 32]));
        let description = kept.unwrap_or(described);
        let mut ended = Vec::new();
        let bed = Bed::of(machine, options(jobs));
        let note = |event: &Event| note(event, &mut ended);
        let result = bed.build(&ledger, &environment, None, note, |build| {
            build.with_front(front.map(|front| *front));
            build.run(&description, &outside, &asked)
        });
        let good = match &result {
            Ok(summary) => summary.failed + summary.held == 0,
            Err(_) => false,
        };
        (ended, good)
    }

    /// What the program does before it opens a project: nothing more when nothing changed; and else what it saw.
    fn glance(machine: &Machine, asked: &BuildRequest) -> Result<(), Option<Box<FrontLook>>> {
        let nothing = RefCell::new(Ledger::empty(Box::new(MemoryStorage::default())));
        let environment = bed::environment(machine, &nothing);
        let mut glance = LedgerGlance::at(machine.storage());
        let front = FrontLook::open(&glance, &environment, &Digest([0; 32]));
        let Some(mut front) = front else {
            return Err(None);
        };
        let question = Question {
            request: asked,
            threads: 1,
        };
        match front.unchanged(&question, &glance, &environment) {
            Some(unchanged) if !front.is_outgrown() => {
                unchanged.note(&mut glance);
                Ok(())
            }
            _ => Err(Some(Box::new(front))),
        }
    }

    /// What a run would do, by step: worked out anew, and with what the last run kept, which must not differ.
    fn foresee(&self, goal: Option<usize>) -> Result<Foreseen, TestCaseError> {
        let machine = &*self.machine;
        machine.write_now("hand.loom", self.loom().as_bytes());
        let files = machine.files();
        let asked = BuildRequest {
            names: goal.map(|goal| output(goal, 0)).into_iter().collect(),
            ..BuildRequest::default()
        };
        let anew = with_vars(machine, |seen| {
            let anew = foreseen(seen, &mut seen.loaded(None), &asked);
            let cached =
                CachedProject::of_last_run(None, seen.description, &asked, seen.environment);
            if cached.is_some() {
                let mut loaded = seen.loaded(cached);
                prop_assert!(loaded.cached.is_some(), "the same description");
                prop_assert_eq!(&foreseen(seen, &mut loaded, &asked), &anew);
            }
            let mistakes = seen.vars.take_diagnostics();
            prop_assert!(!mistakes.iter().any(Diagnostic::is_error), "{mistakes:?}");
            Ok(anew)
        })?;
        prop_assert_eq!(machine.files(), files, "a look changes nothing");
        Ok(anew)
    }

    /// Weaves, and compares what ran and what came out with what was foreseen, and with the model.
    fn weave_and_check(&mut self, goal: Option<usize>, jobs: usize) -> Result<(), TestCaseError> {
        let goal = goal.filter(|&goal| self.steps[goal].is_some());
        if self.steps.iter().all(Option::is_none) {
            return Ok(());
        }
        let files = self.machine.files();
        let mut foreseen = self.foresee(goal)?;
        if self.forgot
            && files
                .keys()
                .any(|path| path.starts_with(".handloom/set-by/"))
        {
            // Nothing says any more which steps a kill cut short.
            foreseen.clear();
        }
        self.put_in_order();
        let expected = self.expectation(goal);
        let loom = self.loom();
        let (ended, good) = Self::weave(&self.machine, &loom, goal, jobs);
        for (step, (would, certain)) in &foreseen {
            let ran = ended.iter().find(|(name, ..)| name == step);
            match would {
                Decision::Run => prop_assert!(ran.is_some(), "{step} should run: {certain:?}"),
                Decision::Keep => prop_assert!(ran.is_none(), "{step} should be kept: {ran:?}"),
                Decision::Maybe => {}
            }
            if let Some((.., reasons)) = ran {
                // How the last run of a step ended whose outputs were put back is no reason beside that one.
                let put_back = |reason: &str| {
                    ["unfinished", "failed-before"].contains(&reason) && reasons.contains(&"always")
                };
                let told = certain
                    .iter()
                    .all(|reason| reasons.contains(reason) || put_back(reason));
                prop_assert!(told, "{step} ran for {reasons:?}, not {certain:?}");
            }
        }
        self.check(goal, expected, &ended, good)
    }

    /// Compares what ran and what came out with the model.
    fn check(
        &mut self,
        goal: Option<usize>,
        (expected, contents, saw): Expected,
        ended: &Told,
        good: bool,
    ) -> Result<(), TestCaseError> {
        let loom = self.loom();
        prop_assert!(good, "it failed: {ended:?}\n{loom}");
        let mut ran: BTreeMap<String, Ending> = BTreeMap::new();
        for (step, ending, reasons) in ended {
            // A kill may have left a mark that the model cannot know of; then the step says so.
            let only_unfinished =
                *reasons == ["unfinished"] || (reasons.contains(&"never-made") && self.forgot);
            if !expected.contains_key(step)
                && only_unfinished
                && (self.maybe_unfinished.contains(step) || self.forgot)
            {
                continue;
            }
            let both = ran.insert(step.clone(), *ending);
            prop_assert!(both.is_none(), "{step} ran twice");
        }
        // Where the journal was cut short, an older record may be right again: where what was made is the same, and
        // where a kill left old outputs to be put back. What stands there is compared in any case.
        if !self.forgot {
            prop_assert_eq!(&ran, &expected, "{:?}\n{}", ended, loom);
        }
        for (path, content) in &contents {
            let found = self.machine.content(path);
            prop_assert_eq!(found.as_ref(), Some(content), "{}\n{}", path, loom);
        }
        let files = self.machine.files();
        for text in &self.foreign {
            let is_there = files.values().any(|content| content == text);
            prop_assert!(is_there, "{} is lost", String::from_utf8_lossy(text));
        }
        self.check_fresh(&loom, goal, &contents)?;
        for (name, now) in saw {
            self.maybe_unfinished.remove(&name);
            self.seen.insert(name, now);
        }
        if goal.is_none() {
            self.forgot = false;
        }
        Ok(())
    }

    /// Edits, each followed by a run of a project that stays in memory and is only told of what changed.
    fn stand(&mut self, edits: &[Act], jobs: usize) -> Result<(), TestCaseError> {
        if self.steps.iter().all(Option::is_none) {
            return Ok(());
        }
        self.weave_and_check(None, jobs)?;
        let machine = Rc::clone(&self.machine);
        let machine = &*machine;
        let ledger = bed::ledger(machine, true);
        let own = bed::environment(machine, &ledger);
        let (description, outside) = bed::describe(machine, &own);
        let folders = Folders::new(machine);
        let vars = Vars::new(&description, &outside, &own, &folders);
        let asked = BuildRequest::default();
        let open = || ResidentProject::open(&vars, &folders, &asked, &ledger.borrow(), &own, 1);
        let mut resident = open();
        machine.take_notices();
        for edit in edits {
            self.act(edit)?;
            let changed = machine.take_notices();
            let expected = self.expectation(None);
            let mut ended = Told::new();
            let fresh = bed::environment(machine, &ledger);
            let bed = Bed::of(machine, options(jobs));
            let mut stood = false;
            let mut good = true;
            if let Some(resident) = &mut resident {
                changed.iter().for_each(|path| resident.invalidate(path));
                let note = |event: &Event| note(event, &mut ended);
                let summary = bed.build(&ledger, &fresh, None, note, |build| {
                    build.run_resident(resident, &description, &asked)
                });
                let summary = summary.expect("no mistake");
                stood = summary.is_some();
                good = summary.is_none_or(|summary| summary.failed + summary.held == 0);
            }
            if !stood {
                prop_assert!(ended.is_empty());
                let note = |event: &Event| note(event, &mut ended);
                let summary = bed.build(&ledger, &fresh, None, note, |build| {
                    build.run(&description, &outside, &asked)
                });
                good = summary.is_ok_and(|summary| summary.failed + summary.held == 0);
                resident = open();
            }
            self.check(None, expected, &ended, good)?;
        }
        Ok(())
    }

    /// A fresh copy, built from nothing, holds the same outputs.
    fn check_fresh(
        &self,
        loom: &str,
        goal: Option<usize>,
        contents: &BTreeMap<String, Vec<u8>>,
    ) -> Result<(), TestCaseError> {
        let sources = self
            .machine
            .files()
            .into_iter()
            .filter(|(path, _)| {
                path.starts_with("src/") || path.starts_with("inc/") || path.starts_with("more/")
            })
            .collect();
        let fresh = Machine::with(&sources);
        let (_, good) = Self::weave(&fresh, loom, goal, 1);
        prop_assert!(good);
        for path in contents.keys() {
            prop_assert_eq!(self.machine.content(path), fresh.content(path), "{}", path);
        }
        Ok(())
    }

    /// A run that is killed after so many changes of files or of the ledger.
    fn kill(&mut self, changes: usize, jobs: usize) {
        if self.steps.iter().all(Option::is_none) {
            return;
        }
        let (_, _, saw) = self.expectation(None);
        let loom = self.loom();
        self.machine.freeze_after(changes);
        let (ended, good) = Self::weave(&self.machine, &loom, None, jobs);
        let frozen = self.machine.thaw();
        if good && !frozen {
            for (name, now) in saw {
                self.maybe_unfinished.remove(&name);
                self.seen.insert(name, now);
            }
            return;
        }
        let done: BTreeSet<&String> = ended
            .iter()
            .filter(|(_, ending, _)| ending.is_good())
            .map(|(step, ..)| step)
            .collect();
        for (name, now) in saw {
            if done.contains(&name) {
                self.maybe_unfinished.remove(&name);
                self.seen.insert(name, now);
            } else {
                self.maybe_unfinished.insert(name);
            }
        }
    }

    /// A run in which a step fails: what was there before is there again.
    fn fail(&mut self, step: usize, jobs: usize) -> Result<(), TestCaseError> {
        let index = step % self.steps.len();
        if self.steps[index].is_none() {
            return Ok(());
        }
        let name = output(index, 0);
        self.put_in_order();
        let (expected, _, saw) = self.expectation(None);
        let before = self.seen.get(&name).map(|seen| seen.outputs.clone());
        let before = before.filter(|outputs| {
            // Of a lost ledger nobody knows what is the user's.
            !self.forgot
                && outputs
                    .iter()
                    .all(|(path, content)| self.machine.content(path).as_ref() == Some(content))
        });
        self.machine.let_fail(Some(name.clone()));
        let (ended, _) = Self::weave(&self.machine, &self.loom(), None, jobs);
        self.machine.let_fail(None);
        let failed = ended
            .iter()
            .any(|(step, ending, _)| *step == name && !ending.is_good());
        prop_assert!(
            // Of a damaged ledger an older record may still fit, and then what is there is right.
            failed || self.forgot || !expected.contains_key(&name),
            "{name} should have failed"
        );
        for (path, content) in before.into_iter().flatten() {
            prop_assert_eq!(
                self.machine.content(&path),
                Some(content),
                "{} is put back",
                path
            );
        }
        for (step, now) in saw {
            let is_done =
                |(name, ending, _): &(String, Ending, _)| *name == step && ending.is_good();
            if ended.iter().any(is_done) {
                self.maybe_unfinished.remove(&step);
                self.seen.insert(step, now);
            }
        }
        Ok(())
    }

    fn write_parameters(&self) {
        if self.from_file {
            let text = self.parameters();
            self.machine.write_now("src/params.json", text.as_bytes());
        }
    }

    /// The user takes what stands at a path for no longer needed.
    fn give_up(&mut self, path: &str) {
        let content = self.machine.content(path);
        self.foreign.retain(|text| Some(text) != content.as_ref());
    }

    fn act(&mut self, act: &Act) -> Result<(), TestCaseError> {
        let settle = |machine: &Machine| machine.pass(5 * GRAIN);
        match act {
            Act::Edit(source, content) => {
                settle(&self.machine);
                self.machine
                    .write_now(&format!("src/{source}"), &[*content]);
            }
            Act::EditAtOnce(source, content) => self
                .machine
                .write_now(&format!("src/{source}"), &[*content]),
            Act::Touch(source) => {
                settle(&self.machine);
                let path = format!("src/{source}");
                let content = self.machine.content(&path).unwrap_or_default();
                self.machine.write_now(&path, &content);
            }
            Act::Include(include, content) => self
                .machine
                .write_now(&format!("inc/{include}"), &[*content]),
            Act::RemoveInclude(include) => self.machine.remove_now(&format!("inc/{include}")),
            Act::AddMore(more, content) => {
                self.machine.write_now(&format!("more/{more}"), &[*content]);
            }
            Act::DropMore(more) => self.machine.remove_now(&format!("more/{more}")),
            Act::Tamper(step, content) => {
                let path = output(step % self.steps.len(), 0);
                if self.machine.content(&path).is_some() {
                    self.give_up(&path);
                    self.machine.write_now(&path, &[*content]);
                }
            }
            Act::Delete(step) => {
                let path = output(step % self.steps.len(), 0);
                self.give_up(&path);
                self.machine.remove_now(&path);
            }
            Act::Intrude(step) => {
                let path = output(step % self.steps.len(), 0);
                self.give_up(&path);
                self.intrusions += 1;
                let text = format!("the user's {}", self.intrusions).into_bytes();
                self.machine.write_now(&path, &text);
                self.foreign.push(text);
            }
            Act::Executable(source, executable) => self
                .machine
                .set_executable(&format!("src/{source}"), *executable),
            Act::ExecutableInclude(include, executable) => self
                .machine
                .set_executable(&format!("inc/{include}"), *executable),
            Act::Variable(value) => {
                self.variable = *value;
                self.write_parameters();
            }
            Act::Beside(value) => {
                self.beside = *value;
                self.write_parameters();
            }
            Act::Always(step, always) => {
                let index = step % self.steps.len();
                if let Some(step) = &mut self.steps[index] {
                    step.always = *always;
                }
            }
            Act::But(step, but) => {
                let index = step % self.steps.len();
                if let Some(step) = &mut self.steps[index] {
                    step.but = *but;
                }
            }
            Act::Salt(step, salt) => {
                let index = step % self.steps.len();
                if let Some(step) = &mut self.steps[index] {
                    step.salt = *salt;
                }
            }
            Act::ToggleNeed(step, source) => {
                let index = step % self.steps.len();
                if let Some(step) = &mut self.steps[index] {
                    let need = Need::Source(*source);
                    match step.needs.iter().position(|known| *known == need) {
                        Some(at) => {
                            step.needs.remove(at);
                        }
                        None => step.needs.push(need),
                    }
                }
            }
            Act::DropStep(step) => {
                let index = step % self.steps.len();
                self.steps[index] = None;
            }
            Act::Describe(index, step) => self.steps[*index] = Some(step.clone()),
            Act::TurnClockBack => self.machine.pass(-7 * GRAIN),
            Act::DamageJournal(keep) => {
                self.machine
                    .ledger()
                    .damage(|_, journal| journal.truncate(journal.len().saturating_sub(*keep)));
                self.forgot = true;
            }
            Act::Weave(goal, jobs) => {
                let goal = goal.map(|goal| goal % self.steps.len());
                self.weave_and_check(goal, *jobs)?;
            }
            Act::Fail(step, jobs) => self.fail(*step, *jobs)?,
            Act::Kill(changes, jobs) => self.kill(*changes, *jobs),
            Act::Stand(edits, jobs) => self.stand(edits, *jobs)?,
        }
        Ok(())
    }
}

fn step(index: usize) -> impl Strategy<Value = StepModel> {
    let need = prop_oneof![
        3 => (0..SOURCES).prop_map(Need::Source),
        4 => (0..index.max(1)).prop_map(move |step| if index == 0 { Need::Source(0) } else { Need::Step(step) }),
        1 => Just(Need::Pattern),
    ];
    (
        proptest::collection::vec(need, 1..4),
        0usize..3,
        any::<bool>(),
        proptest::bool::weighted(0.4),
        1usize..3,
        proptest::bool::weighted(0.05),
        proptest::option::weighted(0.3, 0usize..3),
    )
        .prop_map(|(mut needs, salt, coarse, learns, outputs, always, but)| {
            let mut unique = Vec::new();
            needs.retain(|need| {
                let fresh = !unique.contains(need);
                unique.push(*need);
                fresh
            });
            StepModel {
                needs,
                salt,
                coarse,
                learns,
                outputs,
                always,
                but,
            }
        })
}

pub fn steps() -> impl Strategy<Value = Vec<StepModel>> {
    (step(0), step(1), step(2), step(3), step(4), step(5))
        .prop_map(|(a, b, c, d, e, f)| vec![a, b, c, d, e, f])
}

/// Changes of files alone.
fn edit() -> impl Strategy<Value = Act> {
    let content = b'a'..b'g';
    prop_oneof![
        4 => (0..SOURCES, content.clone()).prop_map(|(source, content)| Act::Edit(source, content)),
        3 => (0..SOURCES, content.clone()).prop_map(|(source, content)| Act::EditAtOnce(source, content)),
        1 => (0..SOURCES).prop_map(Act::Touch),
        2 => (0usize..3, content.clone()).prop_map(|(include, content)| Act::Include(include, content)),
        1 => (0usize..3).prop_map(Act::RemoveInclude),
        1 => (0usize..3, content.clone()).prop_map(|(more, content)| Act::AddMore(more, content)),
        1 => (0usize..3).prop_map(Act::DropMore),
        1 => (0usize..6, content).prop_map(|(step, content)| Act::Tamper(step, content)),
        1 => (0usize..6).prop_map(Act::Delete),
        1 => (0usize..6).prop_map(Act::Intrude),
        1 => (0..SOURCES, any::<bool>()).prop_map(|(source, bit)| Act::Executable(source, bit)),
        1 => (0usize..3, any::<bool>()).prop_map(|(include, bit)| Act::ExecutableInclude(include, bit)),
    ]
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        15 => edit(),
        1 => (0usize..3).prop_map(Act::Variable),
        1 => (0usize..3).prop_map(Act::Beside),
        1 => (0usize..6, proptest::bool::weighted(0.3)).prop_map(|(step, always)| Act::Always(step, always)),
        1 => (0usize..6, proptest::option::of(0usize..3)).prop_map(|(step, but)| Act::But(step, but)),
        1 => (0usize..6, 0usize..3).prop_map(|(step, salt)| Act::Salt(step, salt)),
        2 => (0usize..6, 0..SOURCES).prop_map(|(step, source)| Act::ToggleNeed(step, source)),
        1 => (0usize..6).prop_map(Act::DropStep),
        2 => (0usize..6).prop_flat_map(|index| step(index).prop_map(move |step| Act::Describe(index, step))),
        1 => Just(Act::TurnClockBack),
        1 => (0usize..200).prop_map(Act::DamageJournal),
        7 => (proptest::option::weighted(0.3, 0usize..6), 1usize..4).prop_map(|(goal, jobs)| Act::Weave(goal, jobs)),
        3 => (0usize..40, 1usize..4).prop_map(|(changes, jobs)| Act::Kill(changes, jobs)),
        2 => (0usize..6, 1usize..4).prop_map(|(step, jobs)| Act::Fail(step, jobs)),
        2 => (proptest::collection::vec(edit(), 1..8), 1usize..4).prop_map(|(edits, jobs)| Act::Stand(edits, jobs)),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig {
        // HANDLOOM_HISTORIES asks for more than a test run's share.
        cases: std::env::var("HANDLOOM_HISTORIES").ok().and_then(|n| n.parse().ok()).unwrap_or(1200),
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn any_history_leaves_what_a_fresh_build_makes(steps in steps(), from_file in any::<bool>(), acts in proptest::collection::vec(act(), 1..25)) {
        let mut world = World::new(steps, from_file);
        for act in &acts {
            world.act(act)?;
        }
        world.weave_and_check(None, 2)?;
        let (ended, good) = World::weave(&world.machine, &world.loom(), None, 1);
        let ended: Vec<_> = ended.iter().filter(|(.., reasons)| *reasons != ["always"]).collect();
        prop_assert!(good && ended.is_empty(), "a second run has nothing to do: {ended:?}");
    }
}
