//! `handloom graph`: the picture of what is made from what.

use std::collections::HashMap;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::graph_view::GraphSource;
use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::Links;
use handloom_core::graph_view::Neighbourhood;
use handloom_core::records::Runs;
use handloom_core::scheduler::Ending;
use handloom_core::text::nearest;
use handloom_core::verdict::ResultOrigin;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::GraphArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::drawing;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;

/// A project with more steps than this is drawn by its descriptions; as text, of fewer.
const MANY: usize = 64;
const MANY_LINES: usize = 20;

/// More nodes than this cannot be placed in a time that anybody waits, nor be read.
const MOST: usize = 2000;

/// So many jobs of the last runs are looked at for what failed.
const JOBS: usize = 20_000;

/// How a picture is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Svg,
    Dot,
    Mermaid,
    Json,
}

/// Carries the command out.
pub fn run(common: &Common, arguments: &GraphArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let to = arguments.to.as_deref().map(form).transpose()?;
    ReadOnlyProject::at(common, arguments.asking, ui, |read_only| {
        let view = view(read_only, arguments)?;
        read_only.warnings()?;
        let Some((form, file)) = to else {
            match arguments.format {
                Format::Json => ui.print_json(&drawing::json(&view))?,
                Format::Text if view.nodes.is_empty() => {
                    ui.print("the description has no target and no task yet\n")?;
                }
                Format::Text => ui.print(&drawing::tree::write(&view, ui.out))?,
            }
            return Ok(ExitCode::SUCCESS);
        };
        let text = written(form, &view, &read_only.workspace.location.root_text())?;
        match file {
            None => ui.print(&text)?,
            Some(file) => {
                std::fs::write(file, &text).map_err(|error| {
                    CommandError::io(format!("can't write `{}`", file.display()), error)
                })?;
                ui.say(&format!("wrote {}\n", file.display()));
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// What to write, and to which file: a form's name is for standard output.
fn form(to: &str) -> Result<(Form, Option<&Path>), CommandError> {
    let named = |name: &str| match name {
        "svg" => Some(Form::Svg),
        "dot" | "gv" => Some(Form::Dot),
        "mermaid" | "mmd" => Some(Form::Mermaid),
        "json" => Some(Form::Json),
        _ => None,
    };
    if let Some(form) = named(to) {
        return Ok((form, None));
    }
    let path = Path::new(to);
    let ending = path.extension().and_then(|ending| ending.to_str());
    match ending.and_then(named) {
        Some(form) => Ok((form, Some(path))),
        None => Err(CommandError::usage(
            format!("`{to}` is no picture that can be written"),
            "write svg, dot, mermaid or json, or a file that ends so, such as `project.svg`",
        )),
    }
}

fn view(
    read_only: &ReadOnlyProject<'_, '_>,
    arguments: &GraphArguments,
) -> Result<GraphView, CommandError> {
    let project = read_only.project;
    let ledger = read_only.workspace.ledger.borrow();
    let named = match &arguments.names[..] {
        [] => None,
        names => Some(read_only.dry_run(names, false)?),
    };
    let nodes = match &named {
        Some((order, _)) => order.nodes.clone(),
        None => read_only.all_nodes(),
    };
    let links = Links::among(project, &ledger, &nodes);
    let only = match &arguments.around {
        Some(name) => Some(neighbourhood(read_only, &links, name, arguments.depth)?),
        None => None,
    };
    let (order, predictions) = match (named, &only) {
        (Some(named), _) => named,
        // Only what is near is foreseen.
        (None, Some(only)) => read_only.dry_run_of(&only.goals(project))?,
        (None, None) => {
            read_only.read_targets();
            read_only.dry_run_of(&nodes)?
        }
    };
    let last = last_endings(&Runs::new(&read_only.workspace.location.own()))?;
    let failed = |name: &str| {
        last.get(name)
            .is_some_and(|ending| *ending == Ending::Failed)
    };
    let view = GraphSource {
        project,
        vars: read_only.vars,
        links: &links,
        only: only.as_ref(),
        order: &order,
        predictions: &predictions,
        is_there: &|path| read_only.is_there(path),
        failed: &failed,
        restored: &|name| {
            let record = ledger.step(name);
            record.is_some_and(|record| ResultOrigin::among(record.reasons()).is_some())
        },
    }
    .view();
    let most = if arguments.to.is_some() || arguments.format == Format::Json {
        MANY
    } else {
        MANY_LINES
    };
    Ok(if view.steps() > most && !arguments.all {
        view.grouped()
    } else {
        view
    })
}

/// What lies around a file or task.
fn neighbourhood(
    read_only: &ReadOnlyProject<'_, '_>,
    links: &Links<'_, '_>,
    name: &str,
    depth: usize,
) -> Result<Neighbourhood, CommandError> {
    let location = &read_only.workspace.location;
    let centre = links
        .find(&location.from_root(name))
        .or_else(|| links.find(name));
    let centre = centre.ok_or_else(|| {
        let help = match nearest(name, links.names()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => "`handloom list --all` shows every file that can be made".to_owned(),
        };
        CommandError::usage(format!("`{name}` is not in the picture"), help)
    })?;
    Ok(links.around(centre, depth))
}

/// How each step or task ended when it was last run, as far as the records reach.
fn last_endings(runs: &Runs) -> Result<HashMap<String, Ending>, CommandError> {
    let mut last = HashMap::new();
    let mut jobs = 0;
    for number in project::kept_runs(runs)?.into_iter().rev() {
        // A record that can't be read is told of by `handloom history`.
        let Ok(run) = runs.read(number) else { continue };
        jobs += run.jobs.len();
        for job in run.jobs.into_iter().rev() {
            if job.ending != Ending::Held {
                last.entry(job.step).or_insert(job.ending);
            }
        }
        if jobs > JOBS {
            break;
        }
    }
    Ok(last)
}

fn written(form: Form, view: &GraphView, root: &str) -> Result<String, CommandError> {
    if form == Form::Svg && view.nodes.len() > MOST {
        return Err(CommandError::usage(
            format!(
                "a drawing of {} files, steps and tasks can't be read",
                view.nodes.len()
            ),
            "leave `--all` away, or give `--around NAME`; dot and json have no limit",
        ));
    }
    Ok(match form {
        Form::Svg => drawing::svg::write(view, root.rsplit('/').next().unwrap_or_default()),
        Form::Dot => drawing::dot::write(view),
        Form::Mermaid => drawing::mermaid::write(view),
        Form::Json => {
            let text = serde_json::to_string_pretty(&drawing::json(view))
                .map_err(|error| CommandError::io("can't write JSON", error.into()))?;
            format!("{text}\n")
        }
    })
}
