//! Pictures of random projects: whatever is put together or left out, nothing is lost or made up.

use std::collections::BTreeMap;
use std::collections::BTreeSet;

use proptest::prelude::*;

use handloom_core::graph;
use handloom_core::graph::NodeId;
use handloom_core::graph_view::GraphSource;
use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::Links;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewState;
use handloom_core::project::StepId;
use handloom_core::project::TaskId;
use handloom_core::world::Disk;

use crate::histories::steps;
use crate::looking::Seen;
use crate::looking::with_vars;
use crate::made_up::Machine;
use crate::model::Need;
use crate::model::StepModel;
use crate::model::World;
use crate::model::output;

/// The project as it is now: all of it, or what lies around a file, so far; `failed` says which steps failed last
/// time.
fn view(
    machine: &Machine,
    around: Option<(&str, usize)>,
    failed: &dyn Fn(&str) -> bool,
) -> GraphView {
    with_vars(machine, |seen| picture(machine, seen, around, failed))
}

/// The same of a project that is worked out.
pub fn picture(
    machine: &Machine,
    seen: &Seen<'_, '_>,
    around: Option<(&str, usize)>,
    failed: &dyn Fn(&str) -> bool,
) -> GraphView {
    let mut loaded = seen.loaded(None);
    let project = &loaded.project;
    let steps = (0..project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
    let tasks =
        (0..project.tasks.len()).map(|task| NodeId::task(project, TaskId::from_index(task)));
    let all: Vec<NodeId> = steps.chain(tasks).collect();
    let ledger = seen.environment.ledger.borrow();
    // What is near is found without an order.
    let near = |links: &Links<'_, '_>, (name, depth): (&str, usize)| {
        links.around(links.find(name).unwrap(), depth)
    };
    let goals = match around {
        None => all.clone(),
        Some(around) => near(&Links::among(project, &ledger, &all), around).goals(project),
    };
    let order = graph::order(project, &goals).unwrap();
    let predictions = seen.dry_run(&mut loaded, &order);
    let project = &loaded.project;
    let nodes = if around.is_some() { &all } else { &order.nodes };
    let links = Links::among(project, &ledger, nodes);
    GraphSource {
        restored: &|_| false,
        project,
        vars: seen.vars,
        links: &links,
        only: around.map(|around| near(&links, around)).as_ref(),
        order: &order,
        predictions: &predictions,
        is_there: &|path| matches!(machine.stat(path.trim_end_matches('/')), Ok(Some(_))),
        failed,
    }
    .view()
}

/// What lies around a node of a whole picture, worked out there.
fn near(whole: &GraphView, centre: usize, depth: usize) -> BTreeSet<usize> {
    let (before, behind) = whole.neighbours();
    let mut near = BTreeSet::from([centre]);
    for next in [&before, &behind] {
        // So far each is known to be; sets are no step.
        let mut far = vec![usize::MAX; whole.nodes.len()];
        far[centre] = 0;
        for _ in 0..2 * whole.nodes.len() {
            for at in 0..far.len() {
                for &to in &next[at] {
                    let step = usize::from(whole.nodes[to].kind != ViewKind::Set);
                    far[to] = far[to].min(far[at].saturating_add(step));
                }
            }
        }
        near.extend((0..far.len()).filter(|&at| far[at] <= depth));
    }
    near
}

/// Everything that leads to each node, also over others.
fn reached(view: &GraphView) -> Vec<BTreeSet<usize>> {
    let (before, _) = view.neighbours();
    let mut reached = vec![BTreeSet::new(); before.len()];
    // What is needed comes first.
    for at in 0..before.len() {
        for &from in &before[at] {
            let more = reached[from].clone();
            reached[at].extend(more);
            reached[at].insert(from);
        }
    }
    reached
}

/// What holds for every picture.
fn sound(view: &GraphView) -> Result<(), TestCaseError> {
    let nodes = view.nodes.len();
    let mut pairs = BTreeSet::new();
    for &(from, to, _) in &view.edges {
        prop_assert!(from < nodes && to < nodes && from != to);
        prop_assert!(pairs.insert((from, to)), "two ties between the same nodes");
    }
    for node in &view.nodes {
        let counted: usize = node.counts.iter().map(|(_, count)| count).sum();
        if node.kind == ViewKind::Step {
            prop_assert_eq!(counted, node.count, "{:?}", node);
            prop_assert!(node.counts.iter().any(|(state, _)| *state == node.state));
        }
        prop_assert!(!node.name.is_empty());
    }
    Ok(())
}

/// The steps that lead to a node directly.
fn steps_before(view: &GraphView, at: usize) -> BTreeSet<String> {
    let before = view.edges.iter().filter(|(_, to, _)| *to == at);
    let before = before.map(|(from, ..)| &view.nodes[*from]);
    let steps = before.filter(|node| node.kind == ViewKind::Step);
    steps.map(|node| node.name.clone()).collect()
}

fn files(view: &GraphView, kind: ViewKind) -> BTreeSet<String> {
    let nodes = view.nodes.iter().filter(|node| node.kind == kind);
    nodes.flat_map(|node| node.files.iter().cloned()).collect()
}

fn check(steps: &[StepModel], failing: usize, depth: usize) -> Result<(), TestCaseError> {
    let world = World::new(steps.to_vec(), false);
    world
        .machine
        .write_now("hand.loom", world.loom().as_bytes());
    let failed = output(failing, 0);
    let whole = view(&world.machine, None, &|name| name == failed);
    sound(&whole)?;
    prop_assert_eq!(whole.steps(), steps.len());
    // A step leads to another exactly where one needs the other.
    let reached = reached(&whole);
    let of: BTreeMap<usize, usize> = (0..steps.len())
        .map(|step| {
            (
                step,
                whole.find(&output(step, 0)).expect("each step is drawn"),
            )
        })
        .collect();
    for (number, step) in steps.iter().enumerate() {
        for other in 0..number {
            let direct = step.needs.contains(&Need::Step(other));
            let over = step.needs.iter().any(|need| match need {
                Need::Step(need) => reached[of[need]].contains(&of[&other]),
                _ => false,
            });
            let drawn = reached[of[&number]].contains(&of[&other]);
            prop_assert_eq!(drawn, direct || over, "{} and {}", number, other);
        }
        let state = whole.nodes[of[&number]].state;
        prop_assert_eq!(state == ViewState::Failed, number == failing, "{}", number);
    }
    // Put together, the same steps, files and states are there.
    let grouped = whole.clone().grouped();
    sound(&grouped)?;
    prop_assert_eq!(grouped.steps(), whole.steps());
    prop_assert_eq!(grouped.states(), whole.states());
    for kind in [ViewKind::Step, ViewKind::Source] {
        prop_assert_eq!(files(&grouped, kind), files(&whole, kind));
    }
    // Around one there is what leads to it or from it, and nothing else; far enough, all of that.
    let centre = of[&failing];
    for depth in [depth, usize::MAX - 1] {
        let around = Some((failed.as_str(), depth));
        let drawn = view(&world.machine, around, &|name| name == failed);
        sound(&drawn)?;
        let near = near(&whole, centre, depth);
        for kind in [ViewKind::Step, ViewKind::Source, ViewKind::Set] {
            let nodes = near.iter().map(|&at| &whole.nodes[at]);
            let nodes = nodes.filter(|node| node.kind == kind);
            let expected: BTreeSet<String> =
                nodes.flat_map(|node| node.files.iter().cloned()).collect();
            prop_assert_eq!(files(&drawn, kind), expected, "{:?}", kind);
        }
        // Each is in the state that it has in the whole picture, and led to by the same steps.
        for &at in &near {
            let node = &whole.nodes[at];
            if node.kind == ViewKind::Step {
                let own = drawn.find(&node.name).expect("it is drawn");
                let own_node = &drawn.nodes[own];
                prop_assert_eq!(&own_node.files, &node.files);
                prop_assert_eq!(own_node.state, node.state);
                prop_assert_eq!(&own_node.reason, &node.reason);
                prop_assert_eq!(steps_before(&drawn, own), {
                    let mut steps = steps_before(&whole, at);
                    steps.retain(|step| near.contains(&whole.find(step).unwrap()));
                    steps
                });
            }
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn pictures_lose_nothing(steps in steps(), failing in 0usize..6, depth in 0usize..4) {
        check(&steps, failing, depth)?;
    }
}
