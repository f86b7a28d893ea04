//! Runs on a made-up machine: what a run depends on as it is told before anything is looked at, and the
//! project as a picture.

use std::collections::BTreeMap;

use handloom_core::graph;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::NodeId;
use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewEdge;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewState;
use handloom_core::project::Project;
use handloom_core::project::StepId;
use handloom_core::project::TaskId;
use handloom_core::project::folders::Folders;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::OnFailure;
use handloom_core::scheduler::RunWatcher;
use handloom_core::status::ChangeImpact;
use handloom_core::status::RecordingEnvironment;
use handloom_core::status::WatchSet;

use crate::bed;
use crate::bed::Bed;
use crate::looking::with_vars;
use crate::made_up::Machine;
use crate::pictured;

/// A project on a machine of its own.
struct Bench {
    machine: Machine,
}

/// Who is told of what a run depends on.
struct Watcher<'w> {
    watch_set: WatchSet,
    shifted: Vec<bool>,
    begin: &'w dyn Fn(&mut WatchSet) -> bool,
}

impl RunWatcher for Watcher<'_> {
    fn watch_set(&mut self) -> &mut WatchSet {
        &mut self.watch_set
    }

    fn cover(&mut self) {
        self.shifted.push((self.begin)(&mut self.watch_set));
    }

    fn has_news(&mut self, _: &[&str]) -> bool {
        false
    }
}

/// What a run told.
struct Woven {
    ended: Vec<Ended>,
    watch_set: WatchSet,
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

    /// Weaves; `before_looking` happens after the project was worked out and before its files are looked at.
    fn weave(&self, names: &[&str], before_looking: &dyn Fn(&Machine)) -> Woven {
        let machine = &self.machine;
        let ledger = bed::ledger(machine, true);
        let environment = bed::environment(machine, &ledger);
        let (description, outside) = bed::describe(machine, &environment);
        let options = BuildOptions {
            jobs: 2,
            on_failure: OnFailure::Continue,
            ..BuildOptions::default()
        };
        let mut ended = Vec::new();
        let note = |event: &Event| {
            if let Event::Ended(job) = event {
                ended.push((**job).clone());
            }
        };
        let mut watcher = Watcher {
            watch_set: WatchSet::default(),
            shifted: Vec::new(),
            begin: &|watch_set| {
                before_looking(machine);
                watch_set.begin(machine, &description.sources)
            },
        };
        let asked = BuildRequest {
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..BuildRequest::default()
        };
        let bed = Bed::of(machine, options);
        let summary = bed.build(&ledger, &environment, Some(&mut watcher), note, |build| {
            build.run(&description, &outside, &asked)
        });
        summary.unwrap();
        let Watcher {
            mut watch_set,
            shifted,
            ..
        } = watcher;
        let ran: Vec<&str> = ended.iter().map(|job| job.step.as_str()).collect();
        watch_set.learned_since(ran.into_iter(), &ledger.borrow());
        Woven {
            ended,
            watch_set,
            shifted,
        }
    }

    /// Works the project out as it is now, without running anything.
    fn look<T>(&self, look: impl FnOnce(&Looked<'_, '_>) -> T) -> T {
        with_vars(&self.machine, |seen| {
            let loaded = seen.loaded(None);
            assert!(seen.vars.take_diagnostics().is_empty());
            let project = &loaded.project;
            let steps = (0..project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
            let tasks = (0..project.tasks.len())
                .map(|task| NodeId::task(project, TaskId::from_index(task)));
            let goals: Vec<NodeId> = steps.chain(tasks).collect();
            let order = graph::order(project, &goals).unwrap();
            look(&Looked {
                environment: seen.environment,
                folders: seen.folders,
                project: &loaded.project,
                order: &order,
            })
        })
    }

    fn view(&self, failed: &[&str]) -> GraphView {
        self.picture(None, failed)
    }

    /// The names of what lies around a file, so far.
    fn around(&self, name: &str, depth: usize) -> Vec<String> {
        let around = self.picture(Some((name, depth)), &[]);
        let mut names: Vec<String> = around.nodes.iter().map(|node| node.name.clone()).collect();
        names.sort();
        names
    }

    fn picture(&self, around: Option<(&str, usize)>, failed: &[&str]) -> GraphView {
        with_vars(&self.machine, |seen| {
            pictured::picture(&self.machine, seen, around, &|name| failed.contains(&name))
        })
    }
}

/// A project that was worked out, with all of it in order.
struct Looked<'l, 'd> {
    environment: &'l RecordingEnvironment<'d>,
    folders: &'l Folders<'l>,
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
    let watch_set = &woven.watch_set;
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
        assert_eq!(watch_set.touch(path), touch, "{path}");
    }
    assert!(watch_set.is_folder("out") && !watch_set.is_folder("prog"));
    assert!(
        ChangeImpact::Everything.is_cause()
            && !ChangeImpact::Made.is_cause()
            && !ChangeImpact::Names.is_cause()
    );
    let mut folders: Vec<&str> = watch_set.folders().collect();
    folders.sort_unstable();
    assert_eq!(folders, ["", "inc/", "notes/", "out/", "src/"]);
    assert_eq!(watch_set.sources(), 2 + 3 + 2);
}

#[test]
fn names_count_where_patterns_look_and_targets_do_not() {
    let bench = project();
    let watch_set = bench.weave(&[], &nothing).watch_set;
    let machine = &bench.machine;
    assert!(!watch_set.names_differ(machine, "src/one.c"));
    // The run itself filled the folder of the targets.
    assert!(!watch_set.names_differ(machine, "out"));
    assert!(!watch_set.names_differ(machine, "out/one.o"));
    machine.write_now("src/one.c~", b"a");
    assert!(watch_set.names_differ(machine, "src/one.c~"));
    machine.remove_now("src/one.c~");
    assert!(!watch_set.names_differ(machine, "src/one.c~"));
    machine.write_now("src/.one.c.swp", b"a");
    assert!(
        !watch_set.names_differ(machine, "src/.one.c.swp"),
        "no pattern asks for hidden names"
    );
    machine.remove_now("out/one.o");
    assert!(!watch_set.names_differ(machine, "out/one.o"));
    machine.write_now("out/strange.o", b"a");
    assert!(watch_set.names_differ(machine, "out/strange.o"));
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
    let watch_set = project().weave(&["out/one.o"], &nothing).watch_set;
    assert_eq!(watch_set.touch("src/one.c"), ChangeImpact::Source);
    assert_eq!(watch_set.touch("src/two.c"), ChangeImpact::Names);
    assert_eq!(watch_set.touch("notes/x.txt"), ChangeImpact::Names);
    assert_eq!(watch_set.touch("inc/2"), ChangeImpact::Nothing);
    assert_eq!(watch_set.sources(), 2);
}

#[test]
fn whole_folders_are_ground() {
    let bench = Bench::new(
        "target sum\n  needs data/\n  recipe: whole 1\n",
        &[("data/a", "a"), ("data/deep/b", "b"), ("datum", "d")],
    );
    // The made-up jobs read no folders: only what the run would depend on is asked.
    let watch_set = bench.look(|looked| {
        let mut watch_set = WatchSet::default();
        watch_set.add_folders((looked.folders.seen(), looked.folders.told()));
        watch_set.add(
            looked.project,
            looked.order,
            &looked.environment.ledger.borrow(),
        );
        watch_set
    });
    for (path, touch) in [
        ("data/a", ChangeImpact::Source),
        ("data/new", ChangeImpact::Source),
        ("data/deep/b", ChangeImpact::Source),
        ("data/deep/er/c", ChangeImpact::Source),
        ("datum", ChangeImpact::Nothing),
        ("sum", ChangeImpact::Made),
    ] {
        assert_eq!(watch_set.touch(path), touch, "{path}");
    }
    assert_eq!(watch_set.trees().into_iter().collect::<Vec<_>>(), ["data/"]);
}

/// Ties as text: `from -> to`, with what kind when it is not needed.
fn edges(view: &GraphView) -> Vec<String> {
    let name = |at: usize| view.nodes[at].name.clone();
    let mut edges: Vec<String> = view
        .edges
        .iter()
        .map(|&(from, to, edge)| match edge {
            ViewEdge::Needs => format!("{} -> {}", name(from), name(to)),
            other => format!("{} -> {} {}", name(from), name(to), other.name()),
        })
        .collect();
    edges.sort();
    edges
}

#[test]
fn a_picture_holds_what_leads_to_what() {
    let bench = project();
    bench.weave(&[], &nothing);
    let view = bench.view(&[]);
    assert_eq!(
        edges(&view),
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
    let notes = &view.nodes[view.find("notes/*.txt").unwrap()];
    assert_eq!((notes.kind, notes.count), (ViewKind::Source, 3));
    assert_eq!(view.find("notes/y.txt"), view.find("notes/*.txt"));
    assert_eq!(view.states(), [(ViewState::Kept, 4)]);
    assert_eq!(view.steps(), 4);
}

#[test]
fn states_are_those_of_now() {
    let bench = project();
    bench.weave(&[], &nothing);
    bench.machine.pass(1_000_000_000);
    bench.machine.write_now("inc/1", b"other");
    bench.machine.remove_now("src/two.c");
    let view = bench.view(&["prog", "out/one.o"]);
    let state = |name: &str| view.find(name).map(|at| view.nodes[at].state);
    assert_eq!(state("out/one.o"), Some(ViewState::Failed));
    // Its list of prerequisites is another, and it failed last.
    assert_eq!(state("prog"), Some(ViewState::Failed));
    assert_eq!(state("pages"), Some(ViewState::Maybe));
    assert_eq!(state("out/two.o"), None);
    assert_eq!(state("check"), Some(ViewState::None));
    let view = bench.view(&[]);
    let reason = |name: &str| view.nodes[view.find(name).unwrap()].reason.clone();
    assert_eq!(reason("out/one.o"), "inc/1, which it learned of, differs");
    assert_eq!(reason("prog"), "out/two.o is no longer among its needs");
    assert_eq!(view.states(), [(ViewState::Run, 2), (ViewState::Maybe, 1)]);
}

#[test]
fn a_source_that_is_not_there_is_told() {
    let bench = Bench::new(
        "target a\n  needs gone here\n  recipe: whole 1\n",
        &[("here", "x")],
    );
    let view = bench.view(&[]);
    let state = |name: &str| view.nodes[view.find(name).unwrap()].state;
    assert_eq!(state("gone"), ViewState::Missing);
    assert_eq!(state("here"), ViewState::None);
}

#[test]
fn groups_stand_for_all_steps_of_a_description() {
    let bench = project();
    bench.weave(&[], &nothing);
    bench.machine.pass(1_000_000_000);
    bench.machine.write_now("src/two.c", b"e");
    let view = bench.view(&[]).grouped();
    assert_eq!(
        edges(&view),
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
    let units = &view.nodes[view.find("out/<unit>.o").unwrap()];
    assert_eq!(units.count, 2);
    assert_eq!(units.counts, [(ViewState::Run, 1), (ViewState::Kept, 1)]);
    assert_eq!(units.state, ViewState::Run);
    assert_eq!(units.reason, "src/two.c differs");
    assert_eq!(units.files, ["out/one.o", "out/two.o"]);
    assert_eq!(view.steps(), 4);
}

#[test]
fn sets_that_several_need_are_nodes_until_they_are_grouped() {
    let bench = Bench::new(
        "target a/<n>\n  needs each in/<n>\n  recipe: whole 1\ntarget b/<n>\n  needs\n    each in/<n>\n    all: a/*\n  recipe: whole 2\n",
        &[("in/1", "1"), ("in/2", "2"), ("in/3", "3")],
    );
    let view = bench.view(&[]);
    let set = view.find("a/*").unwrap();
    assert_eq!(
        (view.nodes[set].kind, view.nodes[set].count),
        (ViewKind::Set, 3)
    );
    // Three lead to it and it leads to three; without it there were nine.
    let through = view
        .edges
        .iter()
        .filter(|(from, to, _)| *from == set || *to == set);
    assert_eq!(through.count(), 6);
    assert_eq!(
        edges(&view.grouped()),
        ["a/<n> -> b/<n>", "in/* -> a/<n>", "in/* -> b/<n>"]
    );
    // A set does not count on the way to a neighbour.
    assert_eq!(
        bench.around("a/1", 1),
        ["a/*", "a/1", "b/1", "b/2", "b/3", "in/1"]
    );
}

#[test]
fn neighbours_are_before_or_behind_and_not_beside() {
    let bench = project();
    bench.weave(&[], &nothing);
    let view = bench.view(&[]);
    let names = |name: &str, depth: usize| bench.around(name, depth);
    assert_eq!(names("src/one.c", 0), ["src/one.c"]);
    assert_eq!(names("src/one.c", 1), ["out/one.o", "src/one.c"]);
    // Not `out/two.o`: it is before what is behind, and neither before nor behind itself.
    assert_eq!(names("src/one.c", 2), ["out/one.o", "prog", "src/one.c"]);
    assert_eq!(
        names("prog", 1),
        ["check", "out/one.o", "out/two.o", "pages", "prog"]
    );
    assert_eq!(names("pages", 99).len(), view.nodes.len());
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
