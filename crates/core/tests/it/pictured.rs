//! Pictures of random projects: whatever is put together or left out, nothing is lost or made up.

use std::collections::BTreeMap;
use std::collections::BTreeSet;

use proptest::prelude::*;

use handloom_core::graph;
use handloom_core::graph::NodeId;
use handloom_core::graph_view::GraphSource;
use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewState;
use handloom_core::project::StepId;

use crate::histories::steps;
use crate::looking::with_vars;
use crate::made_up::Machine;
use crate::model::Need;
use crate::model::StepModel;
use crate::model::World;
use crate::model::output;

/// The whole project as it is now; `failed` says which steps failed last time.
fn view(machine: &Machine, failed: &dyn Fn(&str) -> bool) -> GraphView {
    with_vars(machine, |seen| {
        let mut loaded = seen.loaded(None);
        let project = &loaded.project;
        let steps = (0..project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
        let order = graph::order(project, &steps.collect::<Vec<_>>()).unwrap();
        let predictions = seen.dry_run(&mut loaded, &order);
        GraphSource {
            project: &loaded.project,
            vars: seen.vars,
            order: &order,
            predictions: &predictions,
            disk: machine,
            ledger: &seen.environment.ledger.borrow(),
            failed,
        }
        .view()
    })
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

fn files(view: &GraphView, kind: ViewKind) -> BTreeSet<String> {
    let nodes = view.nodes.iter().filter(|node| node.kind == kind);
    nodes.flat_map(|node| node.files.iter().cloned()).collect()
}

fn check(steps: &[StepModel], failing: usize, depth: usize) -> Result<(), TestCaseError> {
    let world = World::new(steps.to_vec());
    world
        .machine
        .write_now("hand.loom", world.loom().as_bytes());
    let failed = output(failing, 0);
    let whole = view(&world.machine, &|name| name == failed);
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
    let grouped = whole.grouped();
    sound(&grouped)?;
    prop_assert_eq!(grouped.steps(), whole.steps());
    prop_assert_eq!(grouped.states(), whole.states());
    for kind in [ViewKind::Step, ViewKind::Source] {
        prop_assert_eq!(files(&grouped, kind), files(&whole, kind));
    }
    // Around one there is what leads to it or from it, and nothing else; far enough, all of that.
    let centre = of[&failing];
    let near = whole.around(centre, depth);
    sound(&near)?;
    let names = |view: &GraphView| -> BTreeSet<String> {
        view.nodes.iter().map(|node| node.name.clone()).collect()
    };
    let far = names(&whole.around(centre, usize::MAX - 1));
    let related = whole.nodes.iter().enumerate().filter(|(at, _)| {
        *at == centre || reached[centre].contains(at) || reached[*at].contains(&centre)
    });
    let related: BTreeSet<String> = related.map(|(_, node)| node.name.clone()).collect();
    prop_assert_eq!(&far, &related);
    prop_assert!(names(&near).is_subset(&far));
    prop_assert!(names(&near).contains(&whole.nodes[centre].name));
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn pictures_lose_nothing(steps in steps(), failing in 0usize..6, depth in 0usize..4) {
        check(&steps, failing, depth)?;
    }
}
