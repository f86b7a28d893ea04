//! `handloom graph`: the picture of what is made from what.

use std::collections::HashMap;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::records::Runs;
use handloom_core::graph_view::Picture;
use handloom_core::graph_view::Source;
use handloom_core::project::paths::from_root;
use handloom_core::text::nearest;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::GraphArguments;
use crate::commands::looking::Looking;
use crate::drawing;
use crate::failure::Failure;
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
pub fn run(common: &Common, arguments: &GraphArguments, ui: Ui) -> Result<ExitCode, Failure> {
    let to = arguments.to.as_deref().map(form).transpose()?;
    Looking::at(common, arguments.asking, ui, |looking| {
        let picture = picture(looking, arguments)?;
        looking.warnings()?;
        let Some((form, file)) = to else {
            match arguments.format {
                Format::Json => ui.print_json(&drawing::json(&picture))?,
                Format::Text if picture.knots.is_empty() => {
                    ui.print("the description has no target and no task yet\n")?;
                }
                Format::Text => ui.print(&drawing::tree::write(&picture, ui.out))?,
            }
            return Ok(ExitCode::SUCCESS);
        };
        let text = written(form, &picture, &looking.opened.root_text())?;
        match file {
            None => ui.print(&text)?,
            Some(file) => {
                std::fs::write(file, &text).map_err(|error| {
                    Failure::io(format!("can't write `{}`", file.display()), error)
                })?;
                ui.say(&format!("wrote {}\n", file.display()));
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// What to write, and to which file: a form's name is for standard output.
fn form(to: &str) -> Result<(Form, Option<&Path>), Failure> {
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
        None => Err(Failure::usage(
            format!("`{to}` is no picture that can be written"),
            "write svg, dot, mermaid or json, or a file that ends so, such as `project.svg`",
        )),
    }
}

fn picture(looking: &Looking<'_, '_>, arguments: &GraphArguments) -> Result<Picture, Failure> {
    let (order, prospects) = if arguments.names.is_empty() {
        looking.outlook_of_all()?
    } else {
        looking.dry_run(&arguments.names, false)?
    };
    let last = last_endings(&Runs::new(&looking.opened.located.own()));
    let failed = |name: &str| last.get(name).is_some_and(|ending| ending == "failed");
    let ledger = looking.opened.ledger.borrow();
    let whole = Source {
        project: looking.project,
        vars: looking.vars,
        order: &order,
        prospects: &prospects,
        disk: &looking.opened.disk,
        ledger: &ledger,
        failed: &failed,
    }
    .picture();
    let picture = match &arguments.around {
        Some(name) => {
            let folder = &looking.opened.located.folder;
            let knot = whole
                .find(&from_root(folder, name))
                .or_else(|| whole.find(name));
            let knot = knot.ok_or_else(|| unknown(&whole, name))?;
            whole.around(knot, arguments.depth)
        }
        None => whole,
    };
    let most = if arguments.to.is_some() || arguments.format == Format::Json {
        MANY
    } else {
        MANY_LINES
    };
    Ok(if picture.steps() > most && !arguments.all {
        picture.grouped()
    } else {
        picture
    })
}

fn unknown(picture: &Picture, name: &str) -> Failure {
    let names = picture.knots.iter().map(|knot| knot.name.as_str());
    let help = match nearest(name, names) {
        Some(near) => format!("did you mean `{near}`?"),
        None => "`handloom list --all` shows every file that can be made".to_owned(),
    };
    Failure::usage(format!("`{name}` is not in the picture"), help)
}

/// How each step or task ended when it was last run, as far as the records reach.
fn last_endings(runs: &Runs) -> HashMap<String, String> {
    let mut last = HashMap::new();
    let mut jobs = 0;
    for number in runs.numbers().into_iter().rev() {
        // A record that can't be read is told of by `handloom history`.
        let Ok(run) = runs.read(number) else { continue };
        jobs += run.jobs.len();
        for job in run.jobs.into_iter().rev() {
            if job.ending != "held" {
                last.entry(job.step).or_insert(job.ending);
            }
        }
        if jobs > JOBS {
            break;
        }
    }
    last
}

fn written(form: Form, picture: &Picture, root: &str) -> Result<String, Failure> {
    if form == Form::Svg && picture.knots.len() > MOST {
        return Err(Failure::usage(
            format!(
                "a drawing of {} files, steps and tasks can't be read",
                picture.knots.len()
            ),
            "leave `--all` away, or give `--around NAME`; dot and json have no limit",
        ));
    }
    Ok(match form {
        Form::Svg => drawing::svg::write(picture, root.rsplit('/').next().unwrap_or_default()),
        Form::Dot => drawing::dot::write(picture),
        Form::Mermaid => drawing::mermaid::write(picture),
        Form::Json => {
            let text = serde_json::to_string_pretty(&drawing::json(picture))
                .map_err(|error| Failure::io("can't write JSON", error.into()))?;
            format!("{text}\n")
        }
    })
}
