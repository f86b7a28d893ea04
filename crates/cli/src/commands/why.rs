//! `handloom why`: every reason for one step, and the way to the source that caused it.

use std::process::ExitCode;
use std::time::Duration;

use serde::Serialize;
use similar::ChangeTag;
use similar::TextDiff;

use handloom_core::graph::Node;
use handloom_core::graph::Order;
use handloom_core::graph::PerPosition;
use handloom_core::graph::Position;
use handloom_core::ledger::StepView;
use handloom_core::ledger::task_key;
use handloom_core::project::Project;
use handloom_core::status::Decision;
use handloom_core::status::Prediction;
use handloom_core::status::because;
use handloom_core::status::open_steps;
use handloom_core::verdict::Reason;
use handloom_core::verdict::ReasonKind;
use handloom_core::verdict::ResultOrigin;
use handloom_core::verdict::is_accepted;
use handloom_core::workspace::Access;
use handloom_core::workspace::Workspace;
use handloom_core::world::share;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::WhyArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::commands::step_reads::StepReads;
use crate::commands::unchanged::text_of_watch;
use crate::failure::CommandError;
use crate::project;
use crate::standing::StandingWish;
use crate::standing::TextStyle;
use crate::ui::Ui;
use crate::ui::events::OriginJson;
use crate::ui::style::Role;
use crate::ui::text;

#[derive(Serialize)]
struct WhyJson<'a> {
    step: String,
    reasons: &'a [Reason],
    would: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<OriginJson<'a>>,
    /// Whether it was taken as made, and not made.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    accepted: bool,
}

/// Where what a step made last came from, when it was restored.
fn origin(workspace: &Workspace, key: &str) -> Option<ResultOrigin> {
    let ledger = workspace.ledger.borrow();
    ResultOrigin::among(ledger.step(key)?.reasons())
}

/// Whether what is there was taken as made.
fn accepted(workspace: &Workspace, key: &str) -> bool {
    let ledger = workspace.ledger.borrow();
    ledger
        .step(key)
        .is_some_and(|record| is_accepted(record.reasons()))
}

/// Carries the command out.
pub fn run(common: &Common, arguments: &WhyArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let approach = project::approach(project::locate(common)?, common)?;
    if !arguments.asking.ask {
        let last = arguments.last;
        let wish = |style| StandingWish::Why { last, style };
        let names = std::slice::from_ref(&arguments.name);
        if let Some(text) = text_of_watch(&approach, names, wish, arguments.format, ui) {
            ui.print(&text)?;
            return Ok(ExitCode::SUCCESS);
        }
    }
    let workspace = project::open_after(approach, common, ui, Access::Read)?;
    ReadOnlyProject::at_opened_asking(&workspace, arguments.asking, ui, |read_only| {
        let (order, predictions) =
            read_only.dry_run_of_names(std::slice::from_ref(&arguments.name))?;
        let project = read_only.project;
        // The goal comes last, behind all that it waits for.
        let Some(position) = order.positions().next_back() else {
            return Err(CommandError::usage(
                "that name stands for nothing",
                "`handloom list --all` shows every file",
            ));
        };
        let name = predictions[position].node.name(project);
        let key = match predictions[position].node.node(project) {
            Node::Task(task) if project.tasks[task.index()].decl.clauses.remember => {
                task_key(&name)
            }
            Node::Task(_) => {
                return Err(CommandError::usage(
                    format!("`{name}` is a task, which runs each time it is asked for"),
                    "name a file that a target makes, or a task with `remember`",
                ));
            }
            Node::Step(_) | Node::Set(_) => name.clone(),
        };
        let last = last_reasons(read_only.workspace, &key);
        let reasons = if arguments.last {
            &last
        } else {
            &predictions[position].reasons
        };
        if arguments.format == Format::Json {
            let would = predictions[position].decision.name();
            let origin = origin(read_only.workspace, &key);
            ui.print_json(&WhyJson {
                step: name,
                reasons,
                would,
                from: origin.as_ref().map(OriginJson::of),
                accepted: accepted(read_only.workspace, &key),
            })?;
            return Ok(ExitCode::SUCCESS);
        }
        read_only.warnings()?;
        let mut out = String::new();
        if arguments.last {
            explain_last(read_only.workspace, (&name, &key), &last, ui, &mut out);
        } else {
            explain(
                read_only,
                &order,
                &predictions,
                position,
                &key,
                ui,
                &mut out,
            );
        }
        ui.print(&out)?;
        Ok(ExitCode::SUCCESS)
    })
}

/// What is said of a step that would be kept.
pub fn of_kept(
    workspace: &Workspace,
    step: &str,
    last: bool,
    style: TextStyle,
) -> Result<String, CommandError> {
    let ui = Ui::silent().with_colour(style.colour);
    let reasons = if last {
        last_reasons(workspace, step)
    } else {
        Vec::new()
    };
    if style.json {
        let would = Decision::Keep.name();
        let origin = origin(workspace, step);
        return ui.json(&WhyJson {
            step: step.to_owned(),
            reasons: &reasons,
            would,
            from: origin.as_ref().map(OriginJson::of),
            accepted: accepted(workspace, step),
        });
    }
    let mut out = String::new();
    if last {
        explain_last(workspace, (step, step), &reasons, ui, &mut out);
    } else {
        let name = ui.out.paint(Role::Name, &text::safe(step));
        kept(workspace, step, &name, &mut out);
    }
    Ok(out)
}

fn last_reasons(workspace: &Workspace, name: &str) -> Vec<Reason> {
    let ledger = workspace.ledger.borrow();
    ledger
        .step(name)
        .map(|record| {
            record
                .reasons()
                .lines()
                .filter_map(Reason::from_line)
                .collect()
        })
        .unwrap_or_default()
}

fn explain_last(
    workspace: &Workspace,
    (name, key): (&str, &str),
    reasons: &[Reason],
    ui: Ui,
    out: &mut String,
) {
    let ledger = workspace.ledger.borrow();
    let Some(record) = ledger.step(key) else {
        out.push_str(&format!(
            "{} was never made\n",
            ui.out.paint(Role::Name, &text::safe(name))
        ));
        return;
    };
    let painted = ui.out.paint(Role::Name, &text::safe(name));
    if is_accepted(record.reasons()) {
        out.push_str(&format!(
            "{painted} was accepted {}: taken as made from what was there\n",
            when(record.ended_at())
        ));
        return;
    }
    match ResultOrigin::among(record.reasons()) {
        Some(origin) => out.push_str(&format!(
            "{painted} was restored {}, {}, because\n",
            when(record.ended_at()),
            text::safe(&text::origin(&origin))
        )),
        None => out.push_str(&format!(
            "{painted} ran {} and took {}, because\n",
            when(record.ended_at()),
            took(record)
        )),
    }
    for reason in reasons {
        if reason.kind == ReasonKind::RecipeChanged && reason.was.is_some() {
            let now = format!("{}{}", record.parameters(), record.recipe_text());
            let changed = Reason {
                now: Some(now),
                ..reason.clone()
            };
            tell(&changed, ui, out);
        } else {
            out.push_str(&format!("  {}\n", text::safe(&reason.brief())));
        }
    }
}

/// How long a step took when it last ran.
fn took(record: StepView<'_>) -> String {
    text::seconds(record.took())
}

const DAY: Duration = Duration::from_secs(86_400);

/// How long ago.
fn when(ended_at: i64) -> String {
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(0, |since| {
            i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
        });
    let age = u64::try_from(now.saturating_sub(ended_at)).unwrap_or(0);
    let age = Duration::from_nanos(age);
    if age < Duration::from_secs(1) {
        "just now".to_owned()
    } else if age < 2 * DAY {
        format!("{} ago", text::seconds(age))
    } else {
        format!("{:.0} days ago", share(age, DAY))
    }
}

fn explain(
    read_only: &ReadOnlyProject<'_, '_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
    position: Position,
    key: &str,
    ui: Ui,
    out: &mut String,
) {
    let project = read_only.project;
    let prediction = &predictions[position];
    let name = ui
        .out
        .paint(Role::Name, &text::safe(&prediction.node.name(project)));
    match prediction.decision {
        Decision::Keep if !prediction.reasons.is_empty() => {
            out.push_str(&format!("{name} would be kept, since it is guarded, although\n"));
            for reason in &prediction.reasons {
                tell(reason, ui, out);
            }
            out.push_str("`--again` with its name makes it anew\n");
        }
        Decision::Keep if !prediction.open.is_empty() => {
            out.push_str(&format!(
                "{name} would be kept, since it is guarded, although what it is made from may change\n"
            ));
            chain(project, order, predictions, prediction, ui, out);
            out.push_str("`--again` with its name makes it anew\n");
        }
        Decision::Keep => kept(read_only.workspace, key, &name, out),
        Decision::Run => {
            out.push_str(&format!("{name} would run, because\n"));
            for reason in &prediction.reasons {
                tell(reason, ui, out);
            }
            if !prediction.open.is_empty() {
                out.push_str("and what it is made from may change before:\n");
                chain(project, order, predictions, prediction, ui, out);
            }
        }
        Decision::Maybe if prediction.open.is_empty() => out.push_str(&format!(
            "{name} may run: its last run did not finish, and the next run first puts back what it made before\n"
        )),
        Decision::Maybe => {
            out.push_str(&format!(
                "{name} may run: it has no reason of its own, but what it is made from may change\n"
            ));
            chain(project, order, predictions, prediction, ui, out);
        }
    }
}

/// The way from a step down to the first that would run for a reason of its own.
fn chain(
    project: &Project<'_>,
    order: &Order,
    predictions: &PerPosition<Prediction>,
    prediction: &Prediction,
    ui: Ui,
    out: &mut String,
) {
    let mut current = prediction;
    let mut depth = 1;
    loop {
        let open = open_steps(project, order, predictions, current);
        let next = open
            .iter()
            .map(|&at| &predictions[at])
            .find(|before| !before.reasons.is_empty())
            .or_else(|| open.first().map(|&at| &predictions[at]));
        let Some(next) = next else { break };
        let name = ui
            .out
            .paint(Role::Name, &text::safe(&next.node.name(project)));
        let why = text::safe(&because(project, order, predictions, next));
        let word = if next.decision == Decision::Run {
            "would run"
        } else {
            "may run"
        };
        out.push_str(&format!(
            "{:indent$}{name} {word}: {why}\n",
            "",
            indent = depth * 2
        ));
        if next.decision == Decision::Run && next.open.is_empty() {
            break;
        }
        current = next;
        depth += 1;
        if depth > 40 {
            out.push_str(&format!("{:indent$}…\n", "", indent = depth * 2));
            break;
        }
    }
}

fn tell(reason: &Reason, ui: Ui, out: &mut String) {
    out.push_str(&format!("  {}\n", text::safe(&reason.brief())));
    let (was, now) = (reason.was.as_deref(), reason.now.as_deref());
    if reason.kind == ReasonKind::RecipeChanged {
        difference(was.unwrap_or_default(), now.unwrap_or_default(), ui, out);
        return;
    }
    let line = match (was, now) {
        (Some(was), Some(now)) => format!("was {was}, is {now}"),
        (Some(was), None) => format!("was {was}"),
        (None, Some(now)) => format!("is {now}"),
        (None, None) => return,
    };
    out.push_str(&format!(
        "    {}\n",
        ui.out.paint(Role::Faint, &text::safe_lines(&line))
    ));
}

/// Two recipes, line by line: what went, what came.
fn difference(was: &str, now: &str, ui: Ui, out: &mut String) {
    let diff = TextDiff::from_lines(was, now);
    for change in diff.iter_all_changes() {
        let line = text::safe_lines(change.value().trim_end_matches('\n'));
        let (mark, role) = match change.tag() {
            ChangeTag::Delete => ("was", Role::Failed),
            ChangeTag::Insert => ("now", Role::Made),
            ChangeTag::Equal => ("   ", Role::Faint),
        };
        out.push_str(&format!(
            "    {}\n",
            ui.out.paint(role, format!("{mark} {line}").trim_end())
        ));
    }
}

fn kept(workspace: &Workspace, key: &str, name: &str, out: &mut String) {
    out.push_str(&format!(
        "{name} would be kept: nothing it was made from differs\n"
    ));
    let ledger = workspace.ledger.borrow();
    let Some(record) = ledger.step(key) else {
        return;
    };
    match ResultOrigin::among(record.reasons()) {
        _ if is_accepted(record.reasons()) => out.push_str(&format!(
            "  it was accepted {}: taken as made from what was there\n",
            when(record.ended_at())
        )),
        Some(origin) => out.push_str(&format!(
            "  it was restored {}, {}\n",
            when(record.ended_at()),
            text::safe(&text::origin(&origin))
        )),
        None => out.push_str(&format!(
            "  it last ran {} and took {}\n",
            when(record.ended_at()),
            took(record)
        )),
    }
    StepReads::of(record).write(false, out);
}
