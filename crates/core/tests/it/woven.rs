//! Runs on a made-up machine: what a run depends on as it is told before anything is looked at, and the
//! project as a picture.

use std::cell::RefCell;
use std::collections::BTreeMap;

use handloom_core::graph;
use handloom_core::graph::NodeId;
use handloom_core::ledger::Ledger;
use handloom_core::graph_view::Kind;
use handloom_core::graph_view::Picture;
use handloom_core::graph_view::Source;
use handloom_core::graph_view::State;
use handloom_core::graph_view::Tie;
use handloom_core::project::Description;
use handloom_core::project::Project;
use handloom_core::project::StepId;
use handloom_core::project::TaskId;
use handloom_core::project::folders::Folders;
use handloom_core::project::overrides::SetOutside;
use handloom_core::project::environment::Overrides;
use handloom_core::project::values::Vars;
use handloom_core::status::RecordingEnvironment;
use handloom_core::graph::BuildRequest;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Event;
use handloom_core::status::WatchSet;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Session;
use handloom_core::executor::CancelToken;
use handloom_core::status::ChangeImpact;
use handloom_core::status::dry_run;

use crate::looking::with_vars;
use crate::made_up::Machine;

/// A project on a machine of its own.
struct Bench {
    machine: Machine,
}

/// What a run told.
struct Woven {
    ended: Vec<Ended>,
    ground: WatchSet,
    /// Whether anything was found changed between reading and watching, in each round.
    shifted: Vec<bool>,
}

impl Bench {
    fn new(loom: &str, files: &[(&str, &str)]) -> Self {
        let files: BTreeMap<String, Vec<u8>> = files
            .iter()
            .chain([&("hand.loom", loom)])
            .map(|(path, text)| ((*path).to_owned(), text.as_bytes().to_vec()))
            .collect();
        Self {
            machine: Machine::with(&files),
        }
    }

    fn describe(&self, around: &RecordingEnvironment<'_>) -> (Description, SetOutside) {
        let (mut description, wrong) = Description::read(&self.machine);
        assert!(wrong.is_empty(), "{wrong:?}");
        let (outside, wrong) = SetOutside::read(&mut description, &Overrides::default(), around);
        assert!(wrong.is_empty(), "{wrong:?}");
        (description, outside)
    }

    /// Weaves; `before_looking` happens after the project was worked out and before its files are looked at.
    fn weave(&self, names: &[&str], before_looking: &dyn Fn(&Machine)) -> Woven {
        let machine = &self.machine;
        let (ledger, _) = Ledger::open(machine.storage(), true).unwrap();
        let ledger = RefCell::new(ledger);
        let env = |_: &str| None;
        let around = RecordingEnvironment::new(machine, machine, &ledger, &env, None, "/project".to_owned())
            .with_key(Some([7; 32]));
        let (description, outside) = self.describe(&around);
        let options = BuildOptions {
            jobs: 2,
            threads: 1,
            keep_going: true,
            remake: false,
            memory: u64::MAX,
            live: false,
            keep_old: true,
            run: None,
        };
        let stop = CancelToken::default();
        let mut ended = Vec::new();
        let mut observer = |event: Event| {
            if let Event::Ended(job) = event {
                ended.push(*job);
            }
        };
        let (mut ground, mut shifted) = (WatchSet::default(), Vec::new());
        let mut told = |ground: &mut WatchSet| {
            before_looking(machine);
            shifted.push(ground.begin(machine, &description.sources));
        };
        let mut session = Session::new(
            machine,
            machine,
            machine,
            &stop,
            &ledger,
            &around,
            options,
            &mut observer,
        );
        session.ground = Some((&mut ground, &mut told));
        let asked = BuildRequest {
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..BuildRequest::default()
        };
        session.weave(&description, &outside, &asked).unwrap();
        drop(session);
        let ran: Vec<&str> = ended.iter().map(|job| job.step.as_str()).collect();
        ground.learned_since(ran.into_iter(), &ledger.borrow());
        Woven {
            ended,
            ground,
            shifted,
        }
    }

    /// Works the project out as it is now, without running anything.
    fn look<T>(&self, look: impl FnOnce(&Looked<'_, '_>) -> T) -> T {
        with_vars(&self.machine, |seen| {
            let project = seen.project();
            assert!(seen.vars.take_diagnostics().is_empty());
            let steps = (0..project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
            let tasks = (0..project.tasks.len())
                .map(|task| NodeId::task(&project, TaskId::from_index(task)));
            let goals: Vec<NodeId> = steps.chain(tasks).collect();
            let order = graph::order(&project, &goals).unwrap();
            look(&Looked {
                around: seen.around,
                folders: seen.folders,
                vars: seen.vars,
                project: &project,
                order: &order,
            })
        })
    }

    fn picture(&self, failed: &[&str]) -> Picture {
        self.look(|looked| {
            let prospects = dry_run(
                looked.project,
                looked.vars,
                looked.around,
                looked.order,
                &[],
                1,
                None,
            );
            Source {
                project: looked.project,
                vars: looked.vars,
                order: looked.order,
                prospects: &prospects.unwrap(),
                disk: &self.machine,
                ledger: &looked.around.ledger.borrow(),
                failed: &|name| failed.contains(&name),
            }
            .picture()
        })
    }
}

/// A project that was worked out, with all of it in order.
struct Looked<'l, 'd> {
    around: &'l RecordingEnvironment<'d>,
    folders: &'l Folders<'l>,
    vars: &'l Vars<'d>,
    project: &'l Project<'d>,
    order: &'l graph::Order,
}

/// Two units that learn of what they include, a folder of notes, a task.
const LOOM: &str = "target out/<unit>.o
  needs each src/<unit>.c
  learn lines
  recipe: whole 1 tells @{learn}
target prog
  needs out/*.o
  recipe: whole 2
target pages
  needs prog notes/*
  after check
  recipe: whole 3
task check
  needs prog
  recipe: whole 4
";

fn project() -> Bench {
    // `named_in` of a content: its first byte, of three.
    let files = [
        ("src/one.c", "a"),
        ("src/two.c", "b"),
        ("inc/1", "included"),
        ("inc/2", "too"),
        ("notes/x.txt", "x"),
        ("notes/y.txt", "y"),
        ("notes/z.txt", "z"),
        ("other/file", "o"),
    ];
    Bench::new(LOOM, &files)
}

fn nothing(_: &Machine) {}

#[test]
fn what_a_change_means() {
    let woven = project().weave(&[], &nothing);
    assert_eq!(woven.shifted, [false]);
    let ground = &woven.ground;
    for (path, touch) in [
        ("src/one.c", ChangeImpact::Source),
        ("notes/x.txt", ChangeImpact::Source),
        // Told by the steps when they ran.
        ("inc/1", ChangeImpact::Source),
        ("inc/2", ChangeImpact::Source),
        ("inc/0", ChangeImpact::Nothing),
        ("out/one.o", ChangeImpact::Made),
        ("prog", ChangeImpact::Made),
        ("pages", ChangeImpact::Made),
        ("hand.loom", ChangeImpact::Everything),
        // They may match a pattern.
        ("src/three.c", ChangeImpact::Names),
        ("src/one.c~", ChangeImpact::Names),
        ("notes/new", ChangeImpact::Names),
        ("out/three.o", ChangeImpact::Names),
        // Folders of sources, and of targets.
        ("src", ChangeImpact::Everything),
        ("notes", ChangeImpact::Everything),
        ("inc", ChangeImpact::Everything),
        ("other/file", ChangeImpact::Nothing),
        ("other", ChangeImpact::Nothing),
        (".handloom", ChangeImpact::Nothing),
        (".handloom/jobs/0.learn", ChangeImpact::Nothing),
    ] {
        assert_eq!(ground.touch(path), touch, "{path}");
    }
    assert!(ground.is_folder("out") && !ground.is_folder("prog"));
    assert!(ChangeImpact::Everything.is_cause() && !ChangeImpact::Made.is_cause() && !ChangeImpact::Names.is_cause());
    let mut folders: Vec<&str> = ground.folders().collect();
    folders.sort_unstable();
    assert_eq!(folders, ["", "inc/", "notes/", "out/", "src/"]);
    assert_eq!(ground.sources(), 2 + 3 + 2);
}

#[test]
fn names_count_where_patterns_look_and_targets_do_not() {
    let bench = project();
    let ground = bench.weave(&[], &nothing).ground;
    let machine = &bench.machine;
    assert!(!ground.names_differ(machine, "src/one.c"));
    // The run itself filled the folder of the targets.
    assert!(!ground.names_differ(machine, "out"));
    assert!(!ground.names_differ(machine, "out/one.o"));
    machine.write_now("src/one.c~", b"a");
    assert!(ground.names_differ(machine, "src/one.c~"));
    machine.remove_now("src/one.c~");
    assert!(!ground.names_differ(machine, "src/one.c~"));
    machine.write_now("src/.one.c.swp", b"a");
    assert!(
        !ground.names_differ(machine, "src/.one.c.swp"),
        "no pattern asks for hidden names"
    );
    machine.remove_now("out/one.o");
    assert!(!ground.names_differ(machine, "out/one.o"));
    machine.write_now("out/strange.o", b"a");
    assert!(ground.names_differ(machine, "out/strange.o"));
}

#[test]
fn what_changes_before_it_is_watched_is_noticed() {
    let add = |machine: &Machine| machine.write_now("src/three.c", b"c");
    assert_eq!(project().weave(&[], &add).shifted, [true]);
    let describe = |machine: &Machine| {
        machine.write_now("hand.loom", format!("{LOOM}# more\n").as_bytes());
    };
    assert_eq!(project().weave(&[], &describe).shifted, [true]);
    // A content is looked at after that, so it is in the run.
    let edit = |machine: &Machine| machine.write_now("src/one.c", b"d");
    let bench = project();
    assert_eq!(bench.weave(&[], &edit).shifted, [false]);
    assert_eq!(bench.weave(&[], &nothing).ended.len(), 0);
    // The same with a project that is taken over.
    assert_eq!(bench.weave(&[], &add).shifted, [true]);
}

#[test]
fn only_what_is_asked_for_is_ground() {
    let ground = project().weave(&["out/one.o"], &nothing).ground;
    assert_eq!(ground.touch("src/one.c"), ChangeImpact::Source);
    assert_eq!(ground.touch("src/two.c"), ChangeImpact::Names);
    assert_eq!(ground.touch("notes/x.txt"), ChangeImpact::Names);
    assert_eq!(ground.touch("inc/2"), ChangeImpact::Nothing);
    assert_eq!(ground.sources(), 2);
}

#[test]
fn whole_folders_are_ground() {
    let bench = Bench::new(
        "target sum\n  needs data/\n  recipe: whole 1\n",
        &[("data/a", "a"), ("data/deep/b", "b"), ("datum", "d")],
    );
    // The made-up jobs read no folders: only what the run would depend on is asked.
    let ground = bench.look(|looked| {
        let mut ground = WatchSet::default();
        ground.add_folders((looked.folders.seen(), looked.folders.told()));
        ground.add(looked.project, looked.order, &looked.around.ledger.borrow());
        ground
    });
    for (path, touch) in [
        ("data/a", ChangeImpact::Source),
        ("data/new", ChangeImpact::Source),
        ("data/deep/b", ChangeImpact::Source),
        ("data/deep/er/c", ChangeImpact::Source),
        ("datum", ChangeImpact::Nothing),
        ("sum", ChangeImpact::Made),
    ] {
        assert_eq!(ground.touch(path), touch, "{path}");
    }
    assert_eq!(ground.trees().into_iter().collect::<Vec<_>>(), ["data/"]);
}

/// Ties as text: `from -> to`, with what kind when it is not needed.
fn ties(picture: &Picture) -> Vec<String> {
    let name = |at: usize| picture.knots[at].name.clone();
    let mut ties: Vec<String> = picture
        .ties
        .iter()
        .map(|&(from, to, tie)| match tie {
            Tie::Needs => format!("{} -> {}", name(from), name(to)),
            other => format!("{} -> {} {}", name(from), name(to), other.name()),
        })
        .collect();
    ties.sort();
    ties
}

#[test]
fn a_picture_holds_what_leads_to_what() {
    let bench = project();
    bench.weave(&[], &nothing);
    let picture = bench.picture(&[]);
    assert_eq!(
        ties(&picture),
        [
            "check -> pages after",
            "inc/1 -> out/one.o learned",
            "inc/2 -> out/two.o learned",
            "notes/*.txt -> pages",
            "out/one.o -> prog",
            "out/two.o -> prog",
            "prog -> check",
            "prog -> pages",
            "src/one.c -> out/one.o",
            "src/two.c -> out/two.o",
        ]
    );
    let notes = &picture.knots[picture.find("notes/*.txt").unwrap()];
    assert_eq!((notes.kind, notes.count), (Kind::Source, 3));
    assert_eq!(picture.find("notes/y.txt"), picture.find("notes/*.txt"));
    assert_eq!(picture.states(), [(State::Kept, 4)]);
    assert_eq!(picture.steps(), 4);
}

#[test]
fn states_are_those_of_now() {
    let bench = project();
    bench.weave(&[], &nothing);
    bench.machine.pass(1_000_000_000);
    bench.machine.write_now("inc/1", b"other");
    bench.machine.remove_now("src/two.c");
    let picture = bench.picture(&["prog", "out/one.o"]);
    let state = |name: &str| picture.find(name).map(|at| picture.knots[at].state);
    assert_eq!(state("out/one.o"), Some(State::Failed));
    // Its list of prerequisites is another, and it failed last.
    assert_eq!(state("prog"), Some(State::Failed));
    assert_eq!(state("pages"), Some(State::Maybe));
    assert_eq!(state("out/two.o"), None);
    assert_eq!(state("check"), Some(State::None));
    let picture = bench.picture(&[]);
    let reason = |name: &str| picture.knots[picture.find(name).unwrap()].reason.clone();
    assert_eq!(reason("out/one.o"), "inc/1, which it learned of, differs");
    assert_eq!(reason("prog"), "out/two.o is no longer among its needs");
    assert_eq!(picture.states(), [(State::Run, 2), (State::Maybe, 1)]);
}

#[test]
fn a_source_that_is_not_there_is_told() {
    let bench = Bench::new(
        "target a\n  needs gone here\n  recipe: whole 1\n",
        &[("here", "x")],
    );
    let picture = bench.picture(&[]);
    let state = |name: &str| picture.knots[picture.find(name).unwrap()].state;
    assert_eq!(state("gone"), State::Missing);
    assert_eq!(state("here"), State::None);
}

#[test]
fn groups_stand_for_all_steps_of_a_description() {
    let bench = project();
    bench.weave(&[], &nothing);
    bench.machine.pass(1_000_000_000);
    bench.machine.write_now("src/two.c", b"e");
    let picture = bench.picture(&[]).grouped();
    assert_eq!(
        ties(&picture),
        [
            "check -> pages after",
            "inc/* -> out/<unit>.o learned",
            "notes/*.txt -> pages",
            "out/<unit>.o -> prog",
            "prog -> check",
            "prog -> pages",
            "src/*.c -> out/<unit>.o",
        ]
    );
    let units = &picture.knots[picture.find("out/<unit>.o").unwrap()];
    assert_eq!(units.count, 2);
    assert_eq!(units.counts, [(State::Run, 1), (State::Kept, 1)]);
    assert_eq!(units.state, State::Run);
    assert_eq!(units.reason, "src/two.c differs");
    assert_eq!(units.files, ["out/one.o", "out/two.o"]);
    assert_eq!(picture.steps(), 4);
}

#[test]
fn sets_that_several_need_are_nodes_until_they_are_grouped() {
    let bench = Bench::new(
        "target a/<n>\n  needs each in/<n>\n  recipe: whole 1\ntarget b/<n>\n  needs\n    each in/<n>\n    all: a/*\n  recipe: whole 2\n",
        &[("in/1", "1"), ("in/2", "2"), ("in/3", "3")],
    );
    let picture = bench.picture(&[]);
    let set = picture.find("a/*").unwrap();
    assert_eq!(
        (picture.knots[set].kind, picture.knots[set].count),
        (Kind::Set, 3)
    );
    // Three lead to it and it leads to three; without it there were nine.
    let through = picture
        .ties
        .iter()
        .filter(|(from, to, _)| *from == set || *to == set);
    assert_eq!(through.count(), 6);
    assert_eq!(
        ties(&picture.grouped()),
        ["a/<n> -> b/<n>", "in/* -> a/<n>", "in/* -> b/<n>"]
    );
    // A set does not count on the way to a neighbour.
    let around = picture.around(picture.find("a/1").unwrap(), 1);
    let mut names: Vec<&str> = around.knots.iter().map(|knot| knot.name.as_str()).collect();
    names.sort_unstable();
    assert_eq!(names, ["a/*", "a/1", "b/1", "b/2", "b/3", "in/1"]);
}

#[test]
fn neighbours_are_before_or_behind_and_not_beside() {
    let bench = project();
    bench.weave(&[], &nothing);
    let picture = bench.picture(&[]);
    let names = |name: &str, depth: usize| {
        let around = picture.around(picture.find(name).unwrap(), depth);
        let mut names: Vec<String> = around.knots.iter().map(|knot| knot.name.clone()).collect();
        names.sort();
        names
    };
    assert_eq!(names("src/one.c", 0), ["src/one.c"]);
    assert_eq!(names("src/one.c", 1), ["out/one.o", "src/one.c"]);
    // Not `out/two.o`: it is before what is behind, and neither before nor behind itself.
    assert_eq!(names("src/one.c", 2), ["out/one.o", "prog", "src/one.c"]);
    assert_eq!(
        names("prog", 1),
        ["check", "out/one.o", "out/two.o", "pages", "prog"]
    );
    assert_eq!(names("pages", 99).len(), picture.knots.len());
}

#[test]
fn jobs_tell_the_longest_way_to_them() {
    let bench = project();
    let woven = bench.weave(&["pages"], &nothing);
    let after = |name: &str| {
        let ended = woven.ended.iter().find(|ended| ended.step == name);
        ended.unwrap().after.clone()
    };
    assert_eq!(after("out/one.o"), None);
    assert!(after("prog").unwrap().starts_with("out/"), "through a set");
    assert_eq!(after("check").as_deref(), Some("prog"));
    // Behind `prog` and behind `check`, which is behind `prog` itself.
    assert!(matches!(after("pages").as_deref(), Some("check" | "prog")));
    let described: Vec<bool> = woven
        .ended
        .iter()
        .map(|ended| ended.described != handloom_core::text::Span::default())
        .collect();
    assert_eq!(described, [true; 5]);
}
