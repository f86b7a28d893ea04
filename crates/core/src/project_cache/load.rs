//! A project, taken over from the last run where that still holds, or else worked out: the one way to it for
//! runs, for commands that only read, and for what stays in memory.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::ledger::Ledger;
use crate::project::Project;
use crate::project::ProjectBuilder;
use crate::project::check::check_decl;
use crate::project::task_call::TaskCall;
use crate::project::values::Vars;
use crate::project_cache::cached_project::CachedProject;
use crate::project_cache::writer::has_odd_manner;
use crate::status::DryRun;
use crate::status::KnownSince;
use crate::status::Prediction;
use crate::status::RecordingEnvironment;
use crate::status::learned_edges;
use crate::status::learned_edges::FoundEdges;

/// A project, and what is known of its files when it was taken over.
pub struct LoadedProject<'d> {
    /// The project.
    pub project: Project<'d>,
    /// What the last run kept; none when the project was worked out.
    pub cached: Option<CachedProject>,
}

impl<'d> LoadedProject<'d> {
    /// Takes over what is `cached`, or works the project out. Whole folders that are not `materialized` are not
    /// looked into, where that is said; `found` are edges that this run found out.
    #[must_use]
    pub fn load(
        vars: &Vars<'d>,
        cached: Option<CachedProject>,
        materialized: Option<&HashSet<String>>,
        found: &FoundEdges,
        ledger: &Ledger,
        calls: &HashMap<String, TaskCall>,
    ) -> Self {
        let taken_over = cached.and_then(|mut cached| {
            let mut project = cached.project(vars)?;
            fit_calls(&mut project, calls)?;
            if has_odd_manner(&project) {
                return None;
            }
            // What a step learned since is an edge that the kept order does not have.
            if cached.has_new_edges(&project, ledger) {
                return None;
            }
            for decl in cached.reworded_decls() {
                let decl = &project.decls[decl];
                if vars.mentions_template(decl.part, &decl.syntax.clauses) {
                    return None;
                }
                check_decl(vars, decl);
            }
            Some((project, cached))
        });
        if let Some((project, cached)) = taken_over {
            let cached = Some(cached);
            return Self { project, cached };
        }
        let builder = ProjectBuilder {
            vars,
            materialized,
            calls,
        };
        let mut project = builder.project();
        learned_edges::add(&mut project, ledger, found);
        Self {
            project,
            cached: None,
        }
    }
}

/// Gives tasks the values that they are to be run with; none when a task would need something else with them.
fn fit_calls(project: &mut Project<'_>, calls: &HashMap<String, TaskCall>) -> Option<()> {
    let nothing = TaskCall::default();
    for task in project.tasks.iter_mut().filter(|task| !task.is_called) {
        let wanted = calls.get(&task.name).unwrap_or(&nothing);
        if task.call == *wanted {
            continue;
        }
        if task.decl.resolves_by_call() {
            return None;
        }
        task.call = wanted.clone();
    }
    Some(())
}

/// Nodes of which more is asked than what would become of them now.
#[derive(Clone, Copy, Debug, Default)]
pub struct AskedNodes<'n> {
    /// They are made when they were taken away, since they were asked for by their names.
    pub by_name: &'n [NodeId],
    /// They would run in any case.
    pub forced: &'n [NodeId],
}

/// What would become of everything that an order holds; `None` when a description is wrong, which is reported.
/// Some nodes are `asked` for. Steps that are forced would run in any case. Where the project was taken over, only what can differ since is
/// judged.
#[must_use]
pub fn dry_run<'d>(
    project: &Project<'d>,
    cached: Option<&mut CachedProject>,
    vars: &Vars<'d>,
    environment: &RecordingEnvironment<'_>,
    order: &Order,
    asked: &AskedNodes<'_>,
    threads: usize,
) -> Option<PerPosition<Prediction>> {
    let run = DryRun {
        project,
        vars,
        environment,
        order,
        forced: asked.forced,
        wanted: asked
            .forced
            .iter()
            .chain(asked.by_name)
            .map(|node| node.name(project))
            .collect(),
        threads,
        known: None,
    };
    let Some(cached) = cached else {
        return run.predict();
    };
    cached.look_at(project, order, environment.disk, threads);
    let open = cached.open_positions(project, order, asked.forced);
    let contents = cached.contents();
    let states = |path| contents.state(path);
    let known = Some(KnownSince {
        open: &open,
        states: &states,
    });
    DryRun { known, ..run }.predict()
}
