//! A description on a made-up machine, worked out and checked without running anything.

use handloom_core::graph;
use handloom_core::graph::Order;
use handloom_core::graph::PerPosition;
use handloom_core::project::Description;
use handloom_core::project::Project;
use handloom_core::project::ProjectBuilder;
use handloom_core::project::folders::Folders;
use handloom_core::project::values::Vars;
use handloom_core::project_cache::AskedNodes;
use handloom_core::project_cache::CachedProject;
use handloom_core::project_cache::LoadedProject;
use handloom_core::project_cache::dry_run;
use handloom_core::status::Prediction;
use handloom_core::status::RecordingEnvironment;
use handloom_core::status::learned_edges::FoundEdges;
use handloom_core::text::Diagnostic;
use handloom_core::text::Sources;
use std::collections::HashMap;

use crate::bed;
use crate::made_up::Machine;

pub type Predictions = PerPosition<Prediction>;

/// A machine's description, read as far as its variables.
pub struct Seen<'l, 'd> {
    pub environment: &'l RecordingEnvironment<'d>,
    pub description: &'d Description,
    pub folders: &'l Folders<'d>,
    pub vars: &'l Vars<'d>,
}

impl<'d> Seen<'_, 'd> {
    /// The project with what the last run kept, if it kept any; or worked out anew.
    pub fn loaded(&self, cached: Option<CachedProject>) -> LoadedProject<'d> {
        let ledger = self.environment.ledger.borrow();
        LoadedProject::load(
            self.vars,
            cached,
            None,
            &FoundEdges::new(),
            &ledger,
            &HashMap::new(),
        )
    }

    /// What would become of all that an order holds.
    pub fn dry_run(&self, loaded: &mut LoadedProject<'d>, order: &Order) -> Predictions {
        let predictions = dry_run(
            &loaded.project,
            loaded.cached.as_mut(),
            self.vars,
            self.environment,
            order,
            &AskedNodes::default(),
            1,
        );
        predictions.expect("no mistake")
    }
}

/// Reads a description that is right, without running or writing anything.
pub fn with_vars<T>(machine: &Machine, see: impl FnOnce(&Seen<'_, '_>) -> T) -> T {
    let ledger = bed::ledger(machine, false);
    let environment = bed::environment(machine, &ledger);
    let (description, outside) = bed::describe(machine, &environment);
    let folders = Folders::new(machine);
    see(&Seen {
        environment: &environment,
        description: &description,
        folders: &folders,
        vars: &Vars::new(&description, &outside, &environment, &folders),
    })
}

/// Works a description out and hands the project over; gives what was found wrong.
pub fn look(
    machine: &Machine,
    see: impl FnOnce(&Project<'_>, &Sources),
) -> (Sources, Vec<Diagnostic>) {
    let ledger = bed::ledger(machine, false);
    let environment = bed::environment(machine, &ledger);
    let (description, outside, mut wrong) = bed::read(machine, &environment);
    if wrong.is_empty() {
        let folders = Folders::new(machine);
        let vars = Vars::new(&description, &outside, &environment, &folders);
        let project = ProjectBuilder {
            vars: &vars,
            materialized: None,
            calls: &HashMap::new(),
        }
        .project();
        wrong.extend(vars.take_diagnostics());
        if wrong.is_empty() {
            for decl in project.decls.iter() {
                let _ = decl.recipe_text(&vars);
            }
            wrong.extend(vars.take_diagnostics());
            wrong.extend(graph::find_cycle(&project));
        }
        see(&project, &description.sources);
    }
    (description.sources, wrong)
}

/// Diagnostics as short lines: place, title, help.
pub fn lines(sources: &Sources, diagnostics: &[Diagnostic]) -> String {
    let mut out = String::new();
    for diagnostic in diagnostics {
        let kind = if diagnostic.is_error() {
            "error"
        } else {
            "warning"
        };
        match &diagnostic.primary {
            Some(primary) => {
                let place = sources.place(primary.span);
                let name = &sources.get(primary.span.source).name;
                let marked = sources
                    .slice(primary.span)
                    .lines()
                    .next()
                    .unwrap_or_default();
                out += &format!(
                    "{name}:{}:{} {kind} {} at `{marked}`: {}\n",
                    place.line, place.column, diagnostic.mistake.code, diagnostic.title
                );
            }
            None => out += &format!("{kind} {}: {}\n", diagnostic.mistake.code, diagnostic.title),
        }
        for context in &diagnostic.context {
            out += &format!(
                "  also {}: {}\n",
                sources.name_and_line(context.span),
                context.text
            );
        }
        if let Some(help) = &diagnostic.help {
            out += &format!("  {help}\n");
        }
        if let Some(replacement) = &diagnostic.replacement {
            let how = if replacement.is_sure {
                "mend"
            } else {
                "perhaps"
            };
            let old = sources.slice(replacement.span);
            let new = replacement.text.replace('\n', "\\n");
            out += &format!("  {how}: `{old}` to `{new}`\n");
        }
    }
    out
}
