//! Whether a step runs, and every reason for it.
//!
//! A step is compared with what it saw when it last ran, never with the newest known state of the
//! world. [`is_kept`] answers quickly for the many steps that have no reason; [`reasons`] takes its
//! time and names each reason with what was recorded and what is there now.

mod given;
mod origin;
mod reason;

/// The line of a record whose result was not made, but taken as made; no reason is called so.
pub const ACCEPTED: &str = "accepted-as-it-was \n";

/// Whether a record's reasons say that its result was taken as made.
#[must_use]
pub fn is_accepted(reasons: &str) -> bool {
    reasons == ACCEPTED
}

pub use given::GivenState;
pub use given::GivenValue;
pub use origin::ResultOrigin;
pub use reason::Reason;
pub use reason::ReasonKind;

use std::collections::HashMap;

use crate::content::LearnedPath;
use crate::content::State;
use crate::content::as_executable;
use crate::ledger::BadEnd;
use crate::ledger::EdgeView;
use crate::ledger::Ledger;
use crate::ledger::StepView;

/// An input of a step as it is now: its group, its path, what stands there.
#[derive(Clone, Copy, Debug)]
pub struct Input<'a> {
    /// The number of its group.
    pub group: u16,
    /// From the project's root.
    pub path: &'a str,
    /// What stands there.
    pub state: &'a State,
}

/// Everything about a step that is compared.
#[derive(Clone, Copy)]
pub struct StepState<'a> {
    /// What it is recorded under.
    pub key: &'a str,
    /// The recipe as compared.
    pub recipe_text: &'a str,
    /// The values of its holes, as text.
    pub parameters: &'a str,
    /// What it makes.
    pub outputs: &'a [Input<'a>],
    /// Its prerequisites, in order.
    pub needs: &'a [Input<'a>],
    /// Inputs that are no files.
    pub givens: &'a [GivenState],
    /// Whether it was asked for, reason or not.
    pub asked: bool,
    /// Whether it runs whenever it is reached.
    pub always: bool,
    /// What stands at a path that the step found out itself; none when that is not to be compared.
    pub learned: Option<&'a dyn Fn(&str) -> State>,
    /// Whether its description says that it finds anything out.
    pub says_learn: bool,
}

/// Whether a step has no reason to run.
#[must_use]
pub fn is_kept(state: &StepState<'_>, ledger: &Ledger) -> bool {
    if state.asked || state.always || ledger.is_unfinished(state.key) || ended_badly(state, ledger)
    {
        return false;
    }
    let Some(record) = ledger.step(state.key) else {
        return false;
    };
    same_recipe(record, state)
        && same_edges(record.outputs(), state.outputs, is_as_left)
        && same_edges(record.needs(), state.needs, is_as_seen)
        && state.learned.is_none_or(|now| {
            let learned = record.learned();
            let mut learned = learned.filter(|edge| edge.counts(state.says_learn));
            learned.all(|edge| is_as_learned(&edge, &now(edge.path)))
        })
        && same_givens(record, state.givens)
}

/// Whether the recipe and the values that it uses are as recorded.
fn same_recipe(record: StepView<'_>, state: &StepState<'_>) -> bool {
    let same = record.recipe_text() == state.recipe_text && record.parameters() == state.parameters;
    if same || !record.outputs().any(|output| output.legacy) {
        return same;
    }
    // Before version 02 the recipe had all own variables in front, and the values of all holes beside it.
    let (head, recipe) = match record.recipe_text().split_once("recipe:\n") {
        Some((head, recipe)) => (head, recipe),
        None => (record.recipe_text(), ""),
    };
    let head: String = head
        .split_inclusive('\n')
        .filter(|line| !line.starts_with("let "))
        .collect();
    let uses = |line: &&str| {
        let name = line.split(" = ").next().unwrap_or_default();
        let mut used = state.parameters.lines();
        used.any(|used| used.split(" = ").next() == Some(name))
    };
    let parameters: String = record
        .parameters()
        .split_inclusive('\n')
        .filter(uses)
        .collect();
    format!("{head}recipe:\n{recipe}") == state.recipe_text && parameters == state.parameters
}

/// Whether a bad end alone is a reason: a step's old outputs were put back, so its record says all; what a
/// task did before it ended badly nobody knows.
fn ended_badly(state: &StepState<'_>, ledger: &Ledger) -> bool {
    state.outputs.is_empty() && ledger.bad_end(state.key).is_some()
}

/// Whether what stands there is what the step read.
fn is_as_seen(edge: &EdgeView<'_>, now: &State) -> bool {
    edge.digest == now.digest() || (edge.legacy && is_as_of_old(edge, now))
}

/// The same for what it found out itself, which may be that nothing is there.
fn is_as_learned(edge: &EdgeView<'_>, now: &State) -> bool {
    if edge.is_in_vain() {
        *now == State::Missing
    } else {
        is_as_seen(edge, now)
    }
}

/// Whether what stands there is what the step made.
#[must_use]
pub fn is_as_left(edge: &EdgeView<'_>, now: &State) -> bool {
    edge.digest == now.own_digest() || (edge.legacy && is_as_of_old(edge, now))
}

/// The same for a digest that leaves out whether a file may be run, and what links say.
fn is_as_of_old(edge: &EdgeView<'_>, now: &State) -> bool {
    let Some(was) = edge.digest else { return false };
    match now {
        State::Content(now) => *now == as_executable(was),
        State::Linked(linked) => {
            linked.own == was
                || linked
                    .end
                    .is_some_and(|end| end == was || end == as_executable(was))
        }
        _ => false,
    }
}

fn same_edges<'l>(
    recorded: impl ExactSizeIterator<Item = EdgeView<'l>>,
    now: &[Input<'_>],
    same: impl Fn(&EdgeView<'_>, &State) -> bool,
) -> bool {
    recorded.len() == now.len()
        && recorded.zip(now).all(|(edge, input)| {
            edge.digest.is_some()
                && same(&edge, input.state)
                && edge.group == input.group
                && edge.path == input.path
        })
}

fn same_givens(record: StepView<'_>, now: &[GivenState]) -> bool {
    let recorded = record.givens();
    recorded.len() == now.len()
        && recorded
            .iter()
            .zip(now)
            .all(|((key, was), now)| *key == now.key && now.value.may_be(*was))
}

/// Every reason for a step to run, in the order of [`ReasonKind`]; none when it is kept.
#[must_use]
pub fn reasons(state: &StepState<'_>, ledger: &Ledger) -> Vec<Reason> {
    let mut reasons = Vec::new();
    let bad = match ledger.bad_end(state.key) {
        _ if ledger.is_unfinished(state.key) => Some(ReasonKind::Unfinished),
        Some(BadEnd::CutShort) => Some(ReasonKind::Unfinished),
        Some(BadEnd::Failed) => Some(ReasonKind::FailedBefore),
        None => None,
    };
    match ledger.step(state.key) {
        None => reasons.push(Reason::of(ReasonKind::NeverMade)),
        Some(record) => {
            // What a killed run left is put in order before it is judged.
            if !ledger.is_unfinished(state.key) {
                outputs(record, state, &mut reasons);
            }
            let order_differs = needs_order(record, state);
            recipe(record, state, order_differs, &mut reasons);
            needs(record, state, &mut reasons);
            learned(record, state, &mut reasons);
            givens(record, state, &mut reasons);
        }
    }
    let alone = ledger.is_unfinished(state.key) || ended_badly(state, ledger);
    if alone || !reasons.is_empty() {
        reasons.extend(bad.map(Reason::of));
    }
    if state.always {
        reasons.push(Reason::of(ReasonKind::Always));
    }
    if state.asked {
        reasons.push(Reason::of(ReasonKind::Asked));
    }
    reasons.sort_by_key(|reason| reason.kind);
    // In a run from cold each of very many steps has one, until it begins.
    reasons.shrink_to_fit();
    reasons
}

fn outputs(record: StepView<'_>, state: &StepState<'_>, reasons: &mut Vec<Reason>) {
    for edge in record.outputs() {
        let Some(now) = state.outputs.iter().find(|input| input.path == edge.path) else {
            continue;
        };
        match now.state {
            State::Missing => {
                reasons.push(
                    Reason::of(ReasonKind::OutputMissing)
                        .at(edge.path)
                        .was(edge.digest),
                );
            }
            state if !is_as_left(&edge, state) => {
                reasons.push(
                    Reason::of(ReasonKind::OutputEdited)
                        .at(edge.path)
                        .was(edge.digest)
                        .now(state.own_digest()),
                );
            }
            _ => {}
        }
    }
}

/// Whether the same prerequisites are there in another order or under other labels.
fn needs_order(record: StepView<'_>, state: &StepState<'_>) -> bool {
    let mut was: Vec<(&str, u16)> = record.needs().map(|edge| (edge.path, edge.group)).collect();
    let mut now: Vec<(&str, u16)> = state
        .needs
        .iter()
        .map(|input| (input.path, input.group))
        .collect();
    if was == now {
        return false;
    }
    let paths = |edges: &[(&str, u16)]| {
        let mut paths: Vec<String> = edges.iter().map(|(path, _)| (*path).to_owned()).collect();
        paths.sort_unstable();
        paths
    };
    let same_files = paths(&was) == paths(&now);
    was.sort_unstable();
    now.sort_unstable();
    same_files
}

fn recipe(
    record: StepView<'_>,
    state: &StepState<'_>,
    order_differs: bool,
    reasons: &mut Vec<Reason>,
) {
    let outputs_differ = record.outputs().len() != state.outputs.len()
        || record
            .outputs()
            .zip(state.outputs)
            .any(|(edge, input)| edge.path != input.path || edge.group != input.group);
    if !same_recipe(record, state) {
        let text = |recipe_text: &str, parameters: &str| format!("{parameters}{recipe_text}");
        reasons.push(
            Reason::of(ReasonKind::RecipeChanged)
                .was_text(text(record.recipe_text(), record.parameters()))
                .now_text(text(state.recipe_text, state.parameters)),
        );
    } else if outputs_differ {
        let lines = |paths: Vec<&str>| {
            paths
                .iter()
                .map(|path| format!("target {path}\n"))
                .collect::<String>()
        };
        reasons.push(
            Reason::of(ReasonKind::RecipeChanged)
                .was_text(lines(record.outputs().map(|edge| edge.path).collect()))
                .now_text(lines(
                    state.outputs.iter().map(|input| input.path).collect(),
                )),
        );
    } else if order_differs {
        let lines = |paths: Vec<&str>| {
            paths
                .iter()
                .map(|path| format!("needs {path}\n"))
                .collect::<String>()
        };
        reasons.push(
            Reason::of(ReasonKind::RecipeChanged)
                .was_text(lines(record.needs().map(|edge| edge.path).collect()))
                .now_text(lines(state.needs.iter().map(|input| input.path).collect())),
        );
    }
}

fn needs(record: StepView<'_>, state: &StepState<'_>, reasons: &mut Vec<Reason>) {
    if same_edges(record.needs(), state.needs, is_as_seen) {
        return;
    }
    let was: HashMap<&str, EdgeView<'_>> = record.needs().map(|edge| (edge.path, edge)).collect();
    let mut seen: HashMap<&str, ()> = HashMap::new();
    for input in state.needs {
        if seen.insert(input.path, ()).is_some() {
            continue;
        }
        let now = input.state.digest();
        match was.get(input.path) {
            None => reasons.push(
                Reason::of(ReasonKind::PrerequisiteAdded)
                    .at(input.path)
                    .now(now),
            ),
            Some(was) if !is_as_seen(was, input.state) => reasons.push(
                Reason::of(ReasonKind::PrerequisiteChanged)
                    .at(input.path)
                    .was(was.digest)
                    .now(now),
            ),
            Some(_) => {}
        }
    }
    let mut dropped: HashMap<&str, ()> = HashMap::new();
    for edge in record.needs() {
        if !seen.contains_key(edge.path) && dropped.insert(edge.path, ()).is_none() {
            reasons.push(
                Reason::of(ReasonKind::PrerequisiteDropped)
                    .at(edge.path)
                    .was(edge.digest),
            );
        }
    }
}

fn learned(record: StepView<'_>, state: &StepState<'_>, reasons: &mut Vec<Reason>) {
    let Some(now) = state.learned else { return };
    for edge in record.learned() {
        let now = now(edge.path);
        if !edge.counts(state.says_learn) || is_as_learned(&edge, &now) {
            continue;
        }
        let path = LearnedPath::of(edge.path);
        let (kind, path) = match (path, &now) {
            _ if edge.is_in_vain() => (ReasonKind::LearnedAppeared, edge.path),
            (LearnedPath::Names(folder), State::Content(_)) => (ReasonKind::LearnedListing, folder),
            (path, State::Missing) => (ReasonKind::LearnedMissing, path.place()),
            (path, _) => (ReasonKind::LearnedChanged, path.place()),
        };
        reasons.push(Reason::of(kind).at(path).was(edge.digest).now(now.digest()));
    }
}

fn givens(record: StepView<'_>, state: &StepState<'_>, reasons: &mut Vec<Reason>) {
    let was: HashMap<&str, Option<&str>> = record.givens().into_iter().collect();
    let shown = |value: Option<&str>| value.unwrap_or("(not set)").trim_end().to_owned();
    for given in state.givens {
        let was = was.get(given.key.as_str());
        if was.is_some_and(|was| given.value.may_be(*was)) || given.value == GivenValue::Unknown {
            continue;
        }
        reasons.push(Reason {
            was: was.map(|was| shown(*was)),
            now: Some(shown(given.value.text())),
            ..Reason::of(ReasonKind::GivenChanged).at(&given.key)
        });
    }
    for (key, value) in was {
        if !state.givens.iter().any(|given| given.key == key) {
            reasons.push(Reason {
                was: Some(shown(value)),
                ..Reason::of(ReasonKind::GivenChanged).at(key)
            });
        }
    }
}
