//! A project that is made to fit a description in which a few targets are others: it must be the one that is worked
//! out anew.

use std::cell::Cell;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::collections::HashMap;

use proptest::prelude::*;
use proptest::test_runner::TestRunner;

use handloom_core::graph;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::Node;
use handloom_core::graph::NodeId;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::LedgerGlance;
use handloom_core::ledger::MemoryStorage;
use handloom_core::project::Description;
use handloom_core::project::Project;
use handloom_core::project::StepId;
use handloom_core::project::What;
use handloom_core::project::folders::Folders;
use handloom_core::project::values::Vars;
use handloom_core::project_cache::CachedProject;
use handloom_core::project_cache::FrontLook;
use handloom_core::project_cache::LoadedProject;
use handloom_core::scheduler::BuildOptions;
use handloom_core::status::learned_edges::FoundEdges;
use handloom_core::world::Digest;

use crate::bed;
use crate::bed::Bed;
use crate::made_up::GRAIN;
use crate::made_up::Machine;

/// A piece of a description.
#[derive(Clone, Debug)]
struct Item {
    name: usize,
    outputs: usize,
    needs: Vec<usize>,
    after: Option<usize>,
    about: bool,
    salt: usize,
    /// What else it says.
    more: More,
}

/// What a target says beside its prerequisites.
#[derive(Clone, Copy, Debug)]
enum More {
    Nothing,
    /// A condition, and whether it holds.
    When(bool),
    /// Its prerequisites have a label.
    Label,
    Learns,
    /// It is made for values: several steps.
    Each,
}

impl Item {
    /// Its text, among targets of these names; a target that is not strict leaves out what is not there.
    fn text(&self, names: &BTreeSet<usize>) -> String {
        let is_there =
            |&number: &usize| number < 3 || self.salt == 2 || names.contains(&(number - 3));
        let hole = if matches!(self.more, More::Each) {
            ".<side>"
        } else {
            ""
        };
        let outputs: Vec<String> = (0..self.outputs)
            .map(|number| format!("out/{}.{number}{hole}", self.name))
            .collect();
        let mut text = format!("target {}\n", outputs.join(" "));
        if self.about {
            text += "  about: made up\n";
        }
        let needs = self.needs.iter().copied().filter(is_there);
        let needs: Vec<String> = needs.map(path).collect();
        if !needs.is_empty() {
            let label = if matches!(self.more, More::Label) {
                "\n    main: "
            } else {
                " "
            };
            text += &format!("  needs{label}{}\n", needs.join(" "));
        }
        text += match self.more {
            More::Nothing | More::Label => "",
            More::When(true) => "  when one is one\n",
            More::When(false) => "  when one is two\n",
            More::Learns => "  learn lines\n",
            More::Each => "  each side in left right\n",
        };
        if let Some(after) = self.after.filter(is_there) {
            text += &format!("  after {}\n", path(after));
        }
        text + &format!("  recipe: whole salt{}\n", self.salt)
    }
}

/// What a target may need: one of three sources, or what another makes.
fn path(number: usize) -> String {
    match number {
        0..3 => format!("src/{number}"),
        _ => format!("out/{}.0", number - 3),
    }
}

const NAMES: usize = 9;

fn item() -> impl Strategy<Value = Item> {
    (0..NAMES, 1usize..3, any::<bool>(), 0usize..3).prop_flat_map(|(name, outputs, about, salt)| {
        // What stands before in the alphabet of names: no circles.
        let needs = proptest::collection::btree_set(0..3 + name, 0..4);
        let after = proptest::option::weighted(0.2, 0..3 + name);
        let more = prop_oneof![
            8 => Just(More::Nothing),
            2 => any::<bool>().prop_map(More::When),
            1 => Just(More::Label),
            1 => Just(More::Learns),
            1 => Just(More::Each),
        ];
        (needs, after, more).prop_map(move |(needs, after, more)| Item {
            name,
            outputs,
            needs: needs.into_iter().collect(),
            after,
            about,
            salt,
            more,
        })
    })
}

#[derive(Clone, Debug)]
enum Change {
    Put(usize, Item),
    Take(usize),
    Move(usize, usize),
    Comment(usize),
}

fn change() -> impl Strategy<Value = Change> {
    prop_oneof![
        4 => (0usize..20, item()).prop_map(|(at, item)| Change::Put(at, item)),
        2 => (0usize..20).prop_map(Change::Take),
        1 => (0usize..20, 0usize..20).prop_map(|(from, to)| Change::Move(from, to)),
        1 => (0usize..20).prop_map(Change::Comment),
    ]
}

/// A description: pieces in order. Of each name there is one.
#[derive(Clone, Debug, Default)]
struct Text {
    items: Vec<(Item, bool)>,
    /// Other things among them: a variable, a task, targets of patterns over sources and over what others make, what
    /// is made by default.
    extras: [bool; 6],
    /// Behind how many targets another file is put in, which holds some of them.
    include: Option<usize>,
}

impl Text {
    fn change(&mut self, change: &Change) {
        let count = self.items.len();
        match change {
            Change::Put(at, item) => {
                self.items.retain(|(known, _)| known.name != item.name);
                let at = at % (self.items.len() + 1);
                self.items.insert(at, (item.clone(), false));
            }
            Change::Take(at) if count > 0 => {
                self.items.remove(at % count);
            }
            Change::Move(from, to) if count > 0 => {
                let item = self.items.remove(from % count);
                self.items.insert(to % count, item);
            }
            Change::Comment(at) if count > 0 => {
                let comment = &mut self.items[at % count].1;
                *comment = !*comment;
            }
            Change::Take(_) | Change::Move(..) | Change::Comment(_) => {}
        }
    }

    /// The files that describe it.
    fn write(&self, machine: &Machine) -> String {
        let names: BTreeSet<usize> = self.items.iter().map(|(item, _)| item.name).collect();
        let written = |(item, comment): &(Item, bool)| {
            let comment = if *comment {
                "# said of what follows\n"
            } else {
                ""
            };
            format!("{comment}{}", item.text(&names))
        };
        let is_inside = |item: &&(Item, bool)| self.include.is_some() && item.0.name >= 6;
        let inside: String = self.items.iter().filter(is_inside).map(written).collect();
        let mut text = String::from("language 1\n");
        let outside = self.items.iter().filter(|item| !is_inside(item));
        let outside: Vec<String> = outside.map(written).collect();
        let include = self.include.map(|at| at.min(outside.len()));
        for (index, item) in outside.iter().enumerate() {
            text += &self.put_in(index, include);
            text += item;
        }
        text += &self.put_in(outside.len(), include);
        machine.write_now("more.loom", inside.as_bytes());
        machine.write_now("hand.loom", text.as_bytes());
        format!("{text}\nmore.loom:\n{inside}")
    }

    /// What stands in front of a target, beside it.
    fn put_in(&self, index: usize, include: Option<usize>) -> String {
        let is_first = index == 0;
        let extras = [
            (self.extras[0] && is_first, "let v = value\n"),
            (
                self.extras[1] && index == 2,
                "task check\n  needs out/0.0\n  recipe: whole check\n",
            ),
            (
                self.extras[2] && index == 1,
                "target made/<n>\n  needs each src/<n>\n  recipe: whole\n",
            ),
            (
                self.extras[3] && is_first,
                "target up/<n>\n  needs each out/<n>.1\n  recipe: whole\n",
            ),
            (
                self.extras[4] && index == 1,
                "target all\n  needs out/*.0\n  recipe: whole\n",
            ),
            (self.extras[5] && is_first, "default out/*\n"),
            (include == Some(index), "include more.loom\n"),
        ];
        let extras = extras.iter().filter(|(is_there, _)| *is_there);
        extras.map(|(_, text)| *text).collect()
    }
}

/// Everything that a project says, by name.
fn said(project: &Project<'_>) -> Vec<String> {
    let name = |id: NodeId| id.name(project);
    let what = |what: What| match what {
        What::Path(path) => project.paths.get(path).to_owned(),
        What::Set(set) => {
            let paths = project.sets[set.index()].paths.iter();
            let paths: Vec<&str> = paths.map(|&path| project.paths.get(path)).collect();
            format!("{paths:?}")
        }
        What::Task(task) => project.tasks[task.index()].decl.name.clone(),
    };
    let mut lines = Vec::new();
    for (index, step) in project.steps.iter().enumerate() {
        let outputs = project.step_outputs(step).iter();
        let outputs: Vec<(u16, &str)> = outputs
            .map(|&(group, path)| (group, project.paths.get(path)))
            .collect();
        let needs: Vec<(u16, String)> = project
            .step_needs(step)
            .iter()
            .map(|need| (need.group, what(need.what)))
            .collect();
        let after: Vec<String> = step
            .after
            .of(&project.needs)
            .iter()
            .map(|need| what(need.what))
            .collect();
        let decl = project.decl(step);
        let values = project.step_values(step);
        let makers = outputs.iter().all(|(_, path)| {
            let path = project.paths.find(path);
            path.and_then(|path| project.maker(path)) == Some(StepId::from_index(index))
        });
        lines.push(format!(
            "{outputs:?} {needs:?} {after:?} {values:?} {makers} {:?} {:?}",
            (decl.part, decl.item, decl.clauses.about),
            (step.decl, decl.syntax.outputs.len()),
        ));
    }
    let made = project.sorted_outputs.iter();
    let made: Vec<&str> = made.map(|&path| project.paths.get(path)).collect();
    lines.push(format!("{made:?}"));
    let makers = (0..project.paths.len()).filter_map(|path| {
        let path = handloom_core::project::PathId(u32::try_from(path).unwrap());
        let maker = project.maker(path)?;
        Some((project.paths.get(path), project.step_name(maker)))
    });
    lines.push(format!("{:?}", makers.collect::<BTreeMap<_, _>>()));
    let goals = graph::default_goals(project, handloom_core::project::PartId::ROOT, "");
    lines.push(format!(
        "{:?}",
        goals.iter().map(|&goal| name(goal)).collect::<Vec<_>>()
    ));
    let order = graph::order(project, &goals).expect("no circle");
    for position in order.positions() {
        let node = order.node(position);
        let before = order.waits_for(position).iter();
        let before: Vec<String> = before.map(|&before| name(order.node(before))).collect();
        let is_step = matches!(node.node(project), Node::Step(_));
        lines.push(format!("{} {is_step} {before:?}", name(node)));
    }
    for task in &project.tasks {
        let needs: Vec<String> = task.needs.iter().map(|need| what(need.what)).collect();
        lines.push(format!("{} {needs:?}", task.decl.name));
    }
    lines
}

/// How a project was come by: whether it was taken over, and with other steps; and what it says, or what is wrong.
type Seen = (Option<bool>, Vec<String>);

/// The project as the last run left it and as the description is now; and worked out anew.
fn both(machine: &Machine) -> (Seen, Seen) {
    let nothing = RefCell::new(Ledger::empty(Box::new(MemoryStorage::default())));
    let before = bed::environment(machine, &nothing);
    let glance = LedgerGlance::at(machine.storage());
    let mut front = FrontLook::open(&glance, &before, &Digest([0; 32]));
    let kept = front
        .as_mut()
        .and_then(|front| front.description(&glance, machine, &[7; 32]));
    let taken_over = kept.map(|kept| seen(machine, &kept, front));
    let (read, wrong) = Description::read(machine);
    let anew = match wrong.is_empty() {
        true => seen(machine, &read, None),
        false => (None, vec![format!("{wrong:?}")]),
    };
    (taken_over.unwrap_or_else(|| anew.clone()), anew)
}

fn seen(machine: &Machine, description: &Description, front: Option<FrontLook>) -> Seen {
    let ledger = bed::ledger(machine, false);
    let environment = bed::environment(machine, &ledger);
    let outside = Default::default();
    let folders = Folders::new(machine);
    let vars = Vars::new(description, &outside, &environment, &folders);
    let asked = BuildRequest::default();
    let cached = front.and_then(|front| {
        CachedProject::of_last_run(Some(front), description, &asked, &environment)
    });
    let loaded = LoadedProject::load(
        &vars,
        cached,
        None,
        &FoundEdges::new(),
        &ledger.borrow(),
        &HashMap::new(),
    );
    let how = loaded.cached.as_ref().map(CachedProject::is_amended);
    let wrong = vars.take_diagnostics();
    if !wrong.is_empty() {
        let titles = wrong.iter().map(|wrong| wrong.title.clone()).collect();
        return (how, titles);
    }
    (how, said(&loaded.project))
}

/// Weaves the description as it stands; whether all went well.
fn weave(machine: &Machine) -> bool {
    let ledger = bed::ledger(machine, true);
    let environment = bed::environment(machine, &ledger);
    let (description, outside, wrong) = bed::read(machine, &environment);
    if !wrong.is_empty() {
        return false;
    }
    let bed = Bed::of(machine, BuildOptions::default());
    let asked = BuildRequest::default();
    let result = bed.build(
        &ledger,
        &environment,
        None,
        |_| {},
        |build| build.run(&description, &outside, &asked),
    );
    machine.pass(5 * GRAIN);
    result.is_ok_and(|summary| summary.failed + summary.held == 0)
}

/// Any change of any description: what is taken over says what is worked out anew, or it is worked out anew.
#[test]
fn a_project_is_amended_to_what_it_would_be_anew() {
    let cases = std::env::var("HANDLOOM_HISTORIES").ok();
    let cases = cases.and_then(|count| count.parse().ok()).unwrap_or(400);
    let config = ProptestConfig {
        cases,
        failure_persistence: None,
        ..ProptestConfig::default()
    };
    let texts = (
        proptest::collection::vec(item(), 3..9),
        [proptest::bool::weighted(0.2); 6],
        proptest::option::weighted(0.3, 0usize..6),
        proptest::collection::vec(change(), 1..8),
    );
    let (compared, amended) = (Cell::new(0), Cell::new(0));
    let result = TestRunner::new(config).run(&texts, |(items, extras, include, changes)| {
        let sources = (0..3).map(|source| (format!("src/{source}"), vec![b'a']));
        let machine = Machine::with(&sources.collect());
        let mut text = Text {
            extras,
            include,
            ..Text::default()
        };
        for item in items {
            text.change(&Change::Put(usize::MAX, item));
        }
        let _ = text.write(&machine);
        for change in changes {
            let is_kept = weave(&machine);
            text.change(&change);
            let text = text.write(&machine);
            let ((how, taken_over), (_, anew)) = both(&machine);
            prop_assert_eq!(taken_over, anew, "{}", text);
            compared.set(compared.get() + u32::from(is_kept));
            amended.set(amended.get() + u32::from(how == Some(true)));
        }
        Ok(())
    });
    result.unwrap_or_else(|wrong| panic!("{wrong}"));
    let (compared, amended) = (compared.get(), amended.get());
    assert!(
        amended * 4 > compared,
        "{amended} of {compared} were amended"
    );
}
