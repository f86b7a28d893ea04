//! Edges that nobody declared: from what steps told of when they ran, and from links.

use std::collections::BTreeSet;
use std::collections::HashMap;

use crate::graph::Undeclared;
use crate::ledger::EdgeView;
use crate::ledger::Ledger;
use crate::ledger::StepView;
use crate::project::Project;
use crate::project::StepId;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// Pairs of a step and a maker, by name, that this run found out.
pub type FoundEdges = BTreeSet<(String, String)>;

/// Puts the edges of a project in it that the ledger knows of.
pub fn add_learned(project: &mut Project<'_>, ledger: &Ledger) {
    add(project, ledger, &FoundEdges::new());
}

/// Puts the edges of a project in it that the ledger and this run know of.
pub fn add(project: &mut Project<'_>, ledger: &Ledger, found: &FoundEdges) {
    let mut edges: BTreeSet<(StepId, StepId)> = BTreeSet::new();
    let steps = if ledger.has_learned() {
        project.steps.len()
    } else {
        0
    };
    for index in 0..steps {
        let step = StepId::from_index(index);
        for edge in of(project, step, ledger) {
            let maker = project.maker_of(edge.path).filter(|maker| *maker != step);
            edges.extend(maker.map(|maker| (step, maker)));
        }
    }
    for (step, maker) in found {
        if let (Some(step), Some(maker)) = (project.maker_of(step), project.maker_of(maker))
            && step != maker
        {
            edges.insert((step, maker));
        }
    }
    project.learned = edges.into_iter().collect();
}

/// What a step learned when it last ran, as far as it counts.
pub fn of<'l>(
    project: &Project<'_>,
    step: StepId,
    ledger: &'l Ledger,
) -> impl Iterator<Item = EdgeView<'l>> {
    let record = ledger.step(project.step_name(step));
    let record = record.filter(|record| record.learned().len() > 0);
    // The description is only read for those that learned something.
    let says_learn = record.is_some() && project.decl(project.step(step)).clauses.learn.is_some();
    let learned = record.into_iter().flat_map(StepView::learned);
    learned.filter(move |edge| edge.counts(says_learn))
}

/// Whether a step told of something that another step makes.
pub fn has_any<'n>(
    project: &Project<'_>,
    ledger: &Ledger,
    mut steps: impl Iterator<Item = &'n str>,
) -> bool {
    steps.any(|name| {
        let own = project.maker_of(name);
        let mut learned = ledger.step(name).into_iter().flat_map(StepView::learned);
        learned.any(|edge| {
            project
                .maker_of(edge.path)
                .is_some_and(|maker| Some(maker) != own)
        })
    })
}

/// Warnings of steps that read what others make and do not say so; one for each pair of targets.
pub fn warnings(project: &Project<'_>, ledger: &Ledger, edges: &[Undeclared]) -> Vec<Diagnostic> {
    let mut of_decls: HashMap<(u32, u32), usize> = HashMap::new();
    for edge in edges {
        let decls = (project.step(edge.step).decl, project.step(edge.maker).decl);
        *of_decls.entry(decls).or_default() += 1;
    }
    let mut warnings = Vec::new();
    for edge in edges {
        let decls = (project.step(edge.step).decl, project.step(edge.maker).decl);
        let Some(count) = of_decls.remove(&decls) else {
            continue;
        };
        let name = project.step_name(edge.step);
        let learned = ledger.step(name).into_iter().flat_map(StepView::learned);
        let path = learned
            .map(|learned| learned.path)
            .find(|path| project.maker_of(path) == Some(edge.maker))
            .unwrap_or_else(|| project.step_name(edge.maker));
        warnings.push(warning(project, edge, path, count - 1));
    }
    warnings
}

/// The warning of one step that reads what another makes.
fn warning(project: &Project<'_>, edge: &Undeclared, path: &str, more: usize) -> Diagnostic {
    let span = |step: StepId| -> Span { project.decl(project.step(step)).syntax.span };
    let name = project.step_name(edge.step);
    let others = match more {
        0 => String::new(),
        1 => ", and so does another step of this target".to_owned(),
        more => format!(", and so do {more} other steps of this target"),
    };
    Diagnostic::warning(
        &mistakes::UNDECLARED_NEED,
        span(edge.step),
        format!(
            "`{name}` reads `{path}`, which another target makes, but does not need it{others}"
        ),
    )
    .also(span(edge.maker), "makes it")
    .help(format!(
        "only luck puts it first when nothing was learned yet: add `after {path}`, or `needs {path}`"
    ))
}
