//! `handloom preview`: what would run now, and the first reason for each.

use std::process::ExitCode;

use serde::Serialize;

use handloom_core::executor::JobRoom;
use handloom_core::executor::SlotId;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::Node;
use handloom_core::graph::Order;
use handloom_core::graph::PerPosition;
use handloom_core::project::Project;
use handloom_core::project::frame::Frame;
use handloom_core::project::values::Vars;
use handloom_core::scheduler::JobBuilder;
use handloom_core::scheduler::RecipeMode;
use handloom_core::scheduler::StoredResults;
use handloom_core::scheduler::cores_taken;
use handloom_core::scheduler::foresee_restored;
use handloom_core::scheduler::missing_place;
use handloom_core::status::Decision;
use handloom_core::status::Prediction;
use handloom_core::status::because;
use handloom_core::workspace::Access;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::PreviewArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::run_options::cores;
use crate::commands::unchanged::ask_watch;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

#[derive(Serialize)]
struct PredictedStep<'a> {
    step: String,
    outputs: Vec<&'a str>,
    would: &'static str,
    reasons: Vec<&'static str>,
    /// It would not run, but be taken from the store.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    stored: bool,
}

#[derive(Serialize)]
struct PreviewJson<'a> {
    steps: Vec<PredictedStep<'a>>,
}

/// Carries the command out.
pub fn run(
    common: &Common,
    arguments: &PreviewArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let mut approach = project::approach(project::locate(common)?, common)?;
    if arguments.format == Format::Text && !arguments.again && !arguments.asking.ask {
        let request = BuildRequest {
            names: arguments.names.clone(),
            folder: approach.location.folder.clone(),
            ..BuildRequest::default()
        };
        let asked = ask_watch(&approach, &arguments.names);
        if let Some(kept) = asked.or_else(|| approach.unchanged(&request, cores(), None)) {
            ui.print(&total(0, 0, 0, kept))?;
            return Ok(ExitCode::SUCCESS);
        }
    }
    let workspace = project::open_after(approach, common, ui, Access::Read)?;
    ReadOnlyProject::at_opened_asking(&workspace, arguments.asking, ui, |read_only| {
        let (order, predictions) = read_only.dry_run(&arguments.names, arguments.again)?;
        let project = read_only.project;
        let stored = stored(read_only, &order, &predictions);
        match arguments.format {
            Format::Json => ui.print_json(&json(project, &order, &predictions, &stored))?,
            Format::Text => {
                read_only.warnings()?;
                let foreseen = Foreseen {
                    order: &order,
                    predictions: &predictions,
                    stored: &stored,
                };
                ui.print(&render(read_only.vars, project, &foreseen, ui))?;
                tell_missing_place(read_only, &foreseen, ui);
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// What a preview tells of.
struct Foreseen<'f> {
    order: &'f Order,
    predictions: &'f PerPosition<Prediction>,
    /// Which of those that would run would be restored instead.
    stored: &'f PerPosition<bool>,
}

/// Says of the first that would run at a place which the settings do not have, since a run would not begin.
fn tell_missing_place(read_only: &ReadOnlyProject<'_, '_>, foreseen: &Foreseen<'_>, ui: Ui) {
    let (project, vars) = (read_only.project, read_only.vars);
    let missing = foreseen.order.positions().find_map(|position| {
        let prediction = &foreseen.predictions[position];
        if prediction.decision == Decision::Keep {
            return None;
        }
        let (clauses, frame) = match foreseen.order.node(position).node(project) {
            Node::Set(_) => return None,
            Node::Task(task) => {
                let decl = &project.tasks[task.index()].decl;
                (&decl.clauses, Frame::of(decl.part))
            }
            Node::Step(step) => {
                let decl = project.decl(project.step(step));
                (&decl.clauses, decl.fixed_frame())
            }
        };
        let word = clauses.running.on?;
        let place = vars.single(word, &frame)?.text;
        let is_there = read_only.workspace.settings.place.contains_key(&*place);
        (!is_there).then(|| missing_place(word.span, &place, false))
    });
    if let Some(missing) = missing {
        let sources = &read_only.workspace.description.sources;
        ui.diagnostics(sources, &[missing]);
    }
}

/// Which steps that would run would be restored instead.
fn stored(
    read_only: &ReadOnlyProject<'_, '_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
) -> PerPosition<bool> {
    let Some(store) = read_only.workspace.store() else {
        return PerPosition::filled(order, false);
    };
    let stored = StoredResults {
        project: read_only.project,
        store: &store,
        recipes: read_only.workspace.settings.recipes.unwrap_or_default(),
    };
    let (vars, environment) = (read_only.vars, read_only.environment);
    foresee_restored(&stored, vars, environment, order, predictions, cores())
}

fn json<'p>(
    project: &'p Project<'_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
    stored: &PerPosition<bool>,
) -> PreviewJson<'p> {
    let steps = order
        .positions()
        .filter(|&position| !matches!(order.node(position).node(project), Node::Set(_)))
        .map(|position| {
            let prediction = &predictions[position];
            let mut reasons: Vec<&'static str> = prediction
                .reasons
                .iter()
                .map(|reason| reason.kind.name())
                .collect();
            reasons.dedup();
            PredictedStep {
                step: prediction.node.name(project),
                outputs: match prediction.node.node(project) {
                    Node::Step(step) => project
                        .step_outputs(project.step(step))
                        .iter()
                        .map(|&(_, path)| project.paths.get(path))
                        .collect(),
                    _ => Vec::new(),
                },
                would: prediction.decision.name(),
                reasons,
                stored: stored[position],
            }
        })
        .collect();
    PreviewJson { steps }
}

fn render<'d>(vars: &Vars<'d>, project: &Project<'d>, foreseen: &Foreseen<'_>, ui: Ui) -> String {
    let (order, predictions) = (foreseen.order, foreseen.predictions);
    let mut out = String::new();
    let (mut run, mut maybe, mut keep, mut restore) = (0, 0, 0, 0);
    for position in order.positions() {
        let prediction = &predictions[position];
        let node = prediction.node.node(project);
        if matches!(node, Node::Set(_)) {
            continue;
        }
        let (word, role) = match prediction.decision {
            Decision::Keep => {
                keep += 1;
                if prediction.reasons.is_empty() && prediction.open.is_empty() {
                    continue;
                }
                ("guarded", Role::Held)
            }
            Decision::Run if foreseen.stored[position] => {
                restore += 1;
                ("restore", Role::Same)
            }
            Decision::Run => {
                run += 1;
                ("run", Role::Made)
            }
            Decision::Maybe => {
                maybe += 1;
                ("maybe", Role::Held)
            }
        };
        let name = text::safe(&prediction.node.name(project));
        let pad = 32usize.saturating_sub(text::columns(&name));
        let why = because(project, order, predictions, prediction);
        let mark = ui.out.paint(role, &format!("{word:>7}"));
        let line = format!(
            "{mark}  {}{:pad$}  {}",
            ui.out.paint(Role::Name, &name),
            "",
            ui.out.paint(Role::Faint, &text::safe(&why))
        );
        out.push_str(line.trim_end());
        out.push('\n');
        if ui.detail == Detail::Verbose {
            script(vars, project, prediction, &mut out);
        }
    }
    out.push_str(&total(restore, run, maybe, keep));
    out
}

/// The line below: how many of each there are.
fn total(restore: usize, run: usize, maybe: usize, keep: usize) -> String {
    let counts = [
        (restore, "would be restored"),
        (run, "would run"),
        (maybe, "may run"),
        (keep, "would be kept"),
    ];
    let parts: Vec<String> = counts
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, what)| format!("{count} {what}"))
        .collect();
    let all = if parts.is_empty() {
        "nothing is asked for".to_owned()
    } else {
        parts.join(", ")
    };
    format!("{all}\n")
}

fn script<'d>(vars: &Vars<'d>, project: &Project<'d>, prediction: &Prediction, out: &mut String) {
    let Node::Step(step) = prediction.node.node(project) else {
        return;
    };
    let there = u64::try_from(cores()).unwrap_or(u64::MAX);
    let room = JobRoom {
        slot: SlotId::default(),
        cores: cores_taken(vars, project.decl(project.step(step)), there),
        memory: None,
    };
    let builder = JobBuilder {
        project,
        vars,
        is_to_run: false,
    };
    if let Some(prepared) = builder.step(step, room, RecipeMode::Plain) {
        for line in prepared.job.script.trim_end().lines() {
            out.push_str(&format!("           {}\n", text::safe(line)));
        }
    }
}
