//! `handloom list`: what can be made and run.

use std::collections::HashMap;
use std::collections::HashSet;
use std::process::ExitCode;

use serde::Serialize;

use handloom_core::content::over_threads;
use handloom_core::language::TopItem;
use handloom_core::language::Word;
use handloom_core::language::parse_item;
use handloom_core::language::word_names;
use handloom_core::project::Description;
use handloom_core::project::PartId;
use handloom_core::project::Project;
use handloom_core::project::Step;
use handloom_core::project::TaskNode;
use handloom_core::project::clauses::Clauses;
use handloom_core::project::decl::Decl;
use handloom_core::project::task_call::choices;
use handloom_core::project::task_call::usage;
use handloom_core::project::values::Vars;
use handloom_core::workspace::Access;
use handloom_core::workspace::ProjectLocation;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::ListArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::read_only::threads;
use crate::commands::run::is_without_project;
use crate::commands::step_reads;
use crate::commands::unchanged::text_of_watch;
use crate::failure::CommandError;
use crate::project;
use crate::standing::StandingWish;
use crate::standing::TextStyle;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// A step or target, as programs read it.
#[derive(Serialize)]
struct TargetJson<'a> {
    outputs: Vec<&'a str>,
    about: Option<&'a str>,
    needs: Vec<&'a str>,
    part: &'a str,
}

#[derive(Serialize)]
struct ParameterJson<'a> {
    name: &'a str,
    default: Option<&'a str>,
    /// The words that it may be; none for any.
    choices: Vec<String>,
    /// Whether it takes all that is left.
    rest: bool,
}

#[derive(Serialize)]
struct TaskJson<'a> {
    name: &'a str,
    about: Option<&'a str>,
    parameters: Vec<ParameterJson<'a>>,
    part: &'a str,
}

#[derive(Serialize)]
struct ListJson<'a> {
    targets: Vec<TargetJson<'a>>,
    tasks: Vec<TaskJson<'a>>,
    /// Tasks of the user's own, which can be run in any project.
    own: Vec<OwnTaskJson>,
}

#[derive(Serialize)]
struct OwnTaskJson {
    name: String,
    about: Option<String>,
}

/// Carries the command out.
pub fn run(common: &Common, arguments: &ListArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    if let Some(name) = &arguments.reads {
        return step_reads::run(common, arguments, name, ui);
    }
    if is_without_project(common) {
        return without_project(common, arguments, ui);
    }
    let approach = project::approach(project::locate(common)?, common)?;
    // Whoever watches a project knows nothing of the user's own tasks.
    if !arguments.asking.ask && project::user().own_tasks().is_none() {
        let all = arguments.all;
        let wish = |style| StandingWish::List { all, style };
        if let Some(text) = text_of_watch(&approach, &[], wish, arguments.format, ui) {
            ui.print(&text)?;
            return Ok(ExitCode::SUCCESS);
        }
    }
    let workspace = project::open_after(approach, common, ui, Access::Read)?;
    let own = own_tasks(common, ui)?;
    ReadOnlyProject::at_opened_asking(&workspace, arguments.asking, ui, |read_only| {
        match arguments.format {
            Format::Json => {
                let mut list = json(read_only.vars, read_only.project);
                list.own = own_json(&own);
                ui.print_json(&list)?;
            }
            Format::Text => {
                let rows = rows(read_only.vars, read_only.project, arguments.all);
                let mut out = render(&rows, ui);
                if !own.is_empty() {
                    out.push('\n');
                    own_text(&own, ui, &mut out);
                }
                ui.print(&out)?;
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

fn own_json(own: &[Row]) -> Vec<OwnTaskJson> {
    let own = own.iter().map(|row| OwnTaskJson {
        name: row.name.clone(),
        about: (!row.about.is_empty()).then(|| row.about.clone()),
    });
    own.collect()
}

fn own_text(own: &[Row], ui: Ui, out: &mut String) {
    let title = "your own tasks, in any project";
    out.push_str(&format!("{}\n", ui.out.paint(Role::Title, title)));
    block_rows(&own.iter().collect::<Vec<_>>(), ui, out);
}

/// The user's own tasks alone, in a folder that is no project.
fn without_project(
    common: &Common,
    arguments: &ListArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let own = own_tasks(common, ui)?;
    match arguments.format {
        Format::Json => ui.print_json(&ListJson {
            targets: Vec::new(),
            tasks: Vec::new(),
            own: own_json(&own),
        })?,
        Format::Text => {
            let mut out = String::new();
            own_text(&own, ui, &mut out);
            ui.print(&out)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What is said of a project without tasks of the user's own.
pub fn of_project(
    vars: &Vars<'_>,
    project: &Project<'_>,
    all: bool,
    style: TextStyle,
) -> Result<String, CommandError> {
    let ui = Ui::silent().with_colour(style.colour);
    if style.json {
        return ui.json(&json(vars, project));
    }
    Ok(render(&rows(vars, project, all), ui))
}

/// The tasks of the user's own description.
fn own_tasks(common: &Common, ui: Ui) -> Result<Vec<Row>, CommandError> {
    if project::user().own_tasks().is_none() {
        return Ok(Vec::new());
    }
    let silent = Ui::silent();
    let workspace = match is_without_project(common) {
        true => {
            let location = ProjectLocation::without_project(common.project.as_deref())?;
            project::open_without_project(location, common, silent, Access::Read)?
        }
        false => project::read(common, silent)?,
    };
    match project::personal(workspace, common, ui)? {
        Ok(own) => ReadOnlyProject::at_opened(&own, ui, |read_only| {
            Ok(rows(read_only.vars, read_only.project, false))
        }),
        Err(_) => Ok(Vec::new()),
    }
}

fn json<'p>(vars: &'p Vars<'_>, project: &'p Project<'_>) -> ListJson<'p> {
    let part =
        |part: handloom_core::project::PartId| vars.description.parts[part.index()].folder.as_str();
    ListJson {
        targets: project
            .steps
            .iter()
            .map(|step| TargetJson {
                outputs: outputs(project, step),
                about: project.decl(step).clauses.about,
                needs: project
                    .open_needs(project.step_needs(step))
                    .map(|(_, path)| project.paths.get(path))
                    .collect(),
                part: part(project.decl(step).part),
            })
            .collect(),
        tasks: project
            .tasks
            .iter()
            .filter(|task| !task.is_called)
            .map(|task| TaskJson {
                name: &task.decl.name,
                about: task.decl.clauses.about,
                parameters: parameters(vars, task),
                part: part(task.decl.part),
            })
            .collect(),
        own: Vec::new(),
    }
}

fn parameters<'p>(vars: &'p Vars<'_>, task: &'p TaskNode<'_>) -> Vec<ParameterJson<'p>> {
    task.decl
        .syntax
        .parameters
        .iter()
        .map(|parameter| ParameterJson {
            name: &parameter.name.text,
            default: parameter
                .default
                .as_ref()
                .map(|word| vars.description.sources.slice(word.span)),
            choices: choices(vars, &task.decl, parameter),
            rest: parameter.rest,
        })
        .collect()
}

fn outputs<'p>(project: &'p Project<'_>, step: &Step) -> Vec<&'p str> {
    project
        .step_outputs(step)
        .iter()
        .map(|&(_, path)| project.paths.get(path))
        .collect()
}

/// A line of the list.
struct Row {
    part: String,
    task: bool,
    name: String,
    /// How many steps it stands for, when it is not just one.
    steps: Option<usize>,
    about: String,
    is_default: bool,
}

fn rows(vars: &Vars<'_>, project: &Project<'_>, all: bool) -> Vec<Row> {
    let mut rows = Vec::new();
    let part =
        |part: handloom_core::project::PartId| vars.description.parts[part.index()].folder.clone();
    let defaults: HashSet<u32> = project
        .defaults
        .iter()
        .filter_map(|(_, what)| match what {
            handloom_core::project::What::Path(path) => project.maker(*path).map(|step| step.0),
            _ => None,
        })
        .collect();
    let mut counts = vec![0usize; project.decls.len()];
    for step in &project.steps {
        counts[step.decl as usize] += 1;
    }
    let headings = headings(vars, project);
    if all {
        for (index, step) in project.steps.iter().enumerate() {
            let heading = &headings[step.decl as usize];
            rows.push(Row {
                part: part(heading.part),
                task: false,
                name: outputs(project, step).join(" "),
                steps: None,
                about: heading.about.clone(),
                is_default: u32::try_from(index).is_ok_and(|step| defaults.contains(&step)),
            });
        }
    } else {
        let steps = defaults.iter().map(|&step| &project.steps[step as usize]);
        let default_decls: HashSet<u32> = steps.map(|step| step.decl).collect();
        for (index, heading) in (0..).zip(headings) {
            let folder = part(heading.part);
            let words = heading.words.iter();
            let name: Vec<String> = words.map(|word| format!("{folder}{word}")).collect();
            rows.push(Row {
                part: folder,
                task: false,
                name: name.join(" "),
                steps: heading.varies.then_some(counts[index as usize]),
                about: heading.about,
                is_default: default_decls.contains(&index),
            });
        }
    }
    for task in project.tasks.iter().filter(|task| !task.is_called) {
        rows.push(Row {
            part: part(task.decl.part),
            task: true,
            name: usage(vars, &task.decl),
            steps: None,
            about: task.decl.clauses.about.unwrap_or_default().to_owned(),
            is_default: false,
        });
    }
    rows
}

/// What a target says of itself.
struct Heading {
    part: PartId,
    /// The words of its name, with what is the same for all its steps put in.
    words: Vec<String>,
    about: String,
    /// Whether it is made for several values.
    varies: bool,
}

/// What each target says of itself. Those of a description that was taken over are read for it on all cores, and not
/// kept: most of what 100,000 of them hold is of no interest here.
fn headings(vars: &Vars<'_>, project: &Project<'_>) -> Vec<Heading> {
    let description = vars.description;
    let decls = 0..project.decls.len();
    let unread = decls.clone().map(|index| {
        let is_read = project.decls.read_already(index).is_some();
        (!is_read).then(|| project.decls.place(index).0)
    });
    let unread: Vec<Option<(PartId, usize)>> = unread.collect();
    let read = |place: &Option<(PartId, usize)>| place.and_then(|place| plain(description, place));
    let plain = over_threads(&unread, threads(), |places| {
        places.iter().map(read).collect()
    });
    let heading = |(index, plain): (usize, Option<(Vec<String>, String)>)| match plain {
        Some((words, about)) => {
            let (place, holes) = project.decls.place(index);
            Heading {
                part: place.0,
                words,
                about,
                varies: !holes.is_empty(),
            }
        }
        None => {
            let decl = &project.decls[index];
            let groups = decl.syntax.outputs.iter();
            let items = groups.flat_map(|group| &group.items);
            Heading {
                part: decl.part,
                words: items.map(|item| written(vars, decl, &item.word)).collect(),
                about: decl.clauses.about.unwrap_or_default().to_owned(),
                varies: !decl.holes.is_empty(),
            }
        }
    };
    decls.zip(plain).map(heading).collect()
}

/// The words of the name and the description of a target that was not read, when no variable is in its name.
fn plain(
    description: &Description,
    (part, item): (PartId, usize),
) -> Option<(Vec<String>, String)> {
    let part = description.parts.get(part.index())?;
    let extent = *part.extents.get(item)?;
    let text = &description.sources.get(extent.source).text;
    let TopItem::Target(target) = parse_item(text, extent)? else {
        return None;
    };
    let items = target.outputs.iter().flat_map(|group| &group.items);
    let words: Vec<&str> = items
        .map(|item| description.sources.slice(item.word.span))
        .collect();
    if words.iter().any(|word| word.contains("@{")) {
        return None;
    }
    let about = Clauses::sort(&target.clauses).about.unwrap_or_default();
    let words = words.into_iter().map(str::to_owned);
    Some((words.collect(), about.to_owned()))
}

/// A target's name as it is written, with what is the same for all its steps put in.
fn written(vars: &Vars<'_>, decl: &Decl<'_>, word: &Word) -> String {
    let source = vars.description.sources.slice(word.span);
    if !source.contains("@{") || word_names(word).any(|name| decl.name_varies(name)) {
        return source.to_owned();
    }
    match vars.word(word, &decl.fixed_frame()) {
        Some(value) => {
            let texts: Vec<&str> = value.texts().collect();
            texts.join(" ")
        }
        None => source.to_owned(),
    }
}

fn render(rows: &[Row], ui: Ui) -> String {
    let mut out = String::new();
    // Parts in the order in which they stand; of each its targets, then its tasks.
    let mut number: HashMap<&str, usize> = HashMap::new();
    let mut parts: Vec<(&str, [Vec<&Row>; 2])> = Vec::new();
    for row in rows {
        let at = *number.entry(&row.part).or_insert(parts.len());
        if at == parts.len() {
            parts.push((&row.part, Default::default()));
        }
        parts[at].1[usize::from(row.task)].push(row);
    }
    let titles = ["files that can be made", "tasks that can be run"];
    for (part, blocks) in &parts {
        for (title, block) in titles.iter().zip(blocks) {
            if block.is_empty() {
                continue;
            }
            let title = if part.is_empty() {
                (*title).to_owned()
            } else {
                format!("{title} in {part}")
            };
            if !out.is_empty() {
                out.push('\n');
            }
            let title = ui.out.paint(Role::Title, &text::safe(&title));
            out.push_str(&format!("{title}\n"));
            block_rows(block, ui, &mut out);
        }
    }
    if rows.is_empty() {
        out.push_str("the description has no target and no task yet\n");
    }
    out
}

fn block_rows(block: &[&Row], ui: Ui, out: &mut String) {
    const WIDEST: usize = 48;
    let names = block.iter().map(|row| text::safe(&row.name));
    let names: Vec<String> = names.collect();
    let width = names
        .iter()
        .map(|name| text::columns(name))
        .filter(|&width| width <= WIDEST)
        .max()
        .unwrap_or(0);
    for (row, name) in block.iter().zip(names) {
        let mut line = format!("  {}", ui.out.paint(Role::Name, &name));
        let mut notes = row.about.lines().next().unwrap_or_default().to_owned();
        if let Some(steps) = row.steps {
            let count = text::count(steps, "step");
            notes = if notes.is_empty() {
                format!("({count})")
            } else {
                format!("{notes} ({count})")
            };
        }
        if row.is_default {
            notes = format!("{notes} [default]").trim_start().to_owned();
        }
        if !notes.is_empty() {
            let length = text::columns(&name);
            if length > width {
                line.push_str(&format!("\n  {:width$}", ""));
            } else {
                line.push_str(&" ".repeat(width - length));
            }
            line.push_str(&format!("  {}", text::safe(&notes)));
        }
        out.push_str(&line);
        out.push('\n');
    }
}
