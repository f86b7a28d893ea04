//! `handloom findings`: what compilers, checkers and interpreters said of sources, when each step ran last.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::collections::HashSet;
use std::path::Path;
use std::process::ExitCode;

use handloom_core::findings::FindingLevel;
use handloom_core::graph::NodeId;
use handloom_core::records::Runs;
use handloom_core::status::Decision;

use crate::arguments::Asking;
use crate::arguments::Common;
use crate::arguments::FindingsArguments;
use crate::arguments::Format;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::project;
use crate::reporting::findings::FindingJson;
use crate::reporting::findings::sarif;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// Carries the command out.
pub fn run(
    common: &Common,
    arguments: &FindingsArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let write = arguments.to.as_deref().map(writer).transpose()?;
    ReadOnlyProject::at(common, Asking::default(), ui, |read_only| {
        let location = &read_only.workspace.location;
        let standing = project::standing_findings(&location.own())?;
        let last = project::kept_runs(&Runs::new(&location.own()))?
            .last()
            .copied();
        let project = read_only.project;
        let is_described = |step: &str| {
            // A task that was called with values stands behind its name.
            let task = step.split(' ').next().unwrap_or_default();
            project.maker_of(step).is_some() || project.task_named(task).is_some()
        };
        let places: Vec<String> = arguments
            .files
            .iter()
            .map(|name| location.from_root(name))
            .collect();
        let is_below = |file: &str, place: &str| {
            let folder = format!("{}/", place.trim_end_matches('/'));
            place.is_empty() || file == place || file.starts_with(&folder)
        };
        let is_asked =
            |file: &str| places.is_empty() || places.iter().any(|place| is_below(file, place));
        let failed: Vec<String> = standing
            .failed()
            .filter(|step| project.maker_of(step).is_some())
            .map(str::to_owned)
            .collect();
        let kept = kept(read_only, &failed)?;
        let steps = standing.steps(|step| kept.contains(step));
        let steps = steps.filter(|step| is_described(&step.step));
        let all = steps.flat_map(|step| {
            step.found.iter().map(move |one| FindingJson {
                finding: &one.finding,
                step: &step.step,
                run: step.run,
                since: one.since,
                new: Some(one.since) == last,
            })
        });
        let all: Vec<FindingJson<'_>> = all.collect();
        for (place, typed) in places.iter().zip(&arguments.files) {
            let is_known = || all.iter().any(|one| is_below(&one.finding.file, place));
            if !place.is_empty() && !read_only.is_there(place) && !is_known() {
                return Err(CommandError::usage(
                    format!("`{typed}` is not there, and nothing was said of it"),
                    "name sources or folders; `handloom findings` alone shows all",
                ));
            }
        }
        let mut found: Vec<FindingJson<'_>> = all
            .into_iter()
            .filter(|one| is_asked(&one.finding.file) && (one.new || !arguments.new))
            .collect();
        found.sort_by_key(|one| {
            let finding = one.finding;
            let place = (&finding.file, finding.line, finding.column);
            (place, Reverse(finding.level), &finding.message)
        });
        match (&arguments.to, write) {
            (Some(file), Some(write)) => {
                let text = write(&found, &location.root);
                std::fs::write(file, text).map_err(|error| {
                    CommandError::io(format!("can't write `{}`", file.display()), error)
                })?;
                ui.say(&format!("wrote {}\n", file.display()));
            }
            _ if arguments.format == Format::Json => ui.print_json(&found)?,
            _ => ui.print(&plain(&found, ui))?,
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// Which of some steps would be kept now.
fn kept(
    read_only: &ReadOnlyProject<'_, '_>,
    steps: &[String],
) -> Result<HashSet<String>, CommandError> {
    let project = read_only.project;
    let nodes: Vec<NodeId> = steps
        .iter()
        .filter_map(|step| project.maker_of(step).map(NodeId::step))
        .collect();
    if nodes.is_empty() {
        return Ok(HashSet::new());
    }
    let (order, predictions) = read_only.dry_run_of(&nodes)?;
    let kept = order.positions().filter_map(|position| {
        let prediction = &predictions[position];
        let is_kept = prediction.decision == Decision::Keep;
        is_kept.then(|| prediction.node.name(project))
    });
    Ok(kept.collect())
}

/// The text of a file of findings, for a project in a folder.
type Write = fn(&[FindingJson<'_>], &Path) -> String;

/// How a file is written, by its ending.
fn writer(file: &Path) -> Result<Write, CommandError> {
    let ending = file.extension().and_then(|ending| ending.to_str());
    match ending {
        Some("sarif") => Ok(sarif),
        Some("json") => {
            Ok(|found, _| serde_json::to_string_pretty(found).unwrap_or_default() + "\n")
        }
        _ => Err(CommandError::usage(
            format!(
                "`{}` is no form that findings can be written in",
                file.display()
            ),
            "name a file that ends with .sarif or .json",
        )),
    }
}

/// By file, each thing once with the steps that said it.
fn plain(found: &[FindingJson<'_>], ui: Ui) -> String {
    // What is worst comes first at its place.
    type Said<'a> = (
        u32,
        Option<u32>,
        Reverse<FindingLevel>,
        &'a str,
        Option<&'a str>,
    );
    let mut files: BTreeMap<&str, BTreeMap<Said<'_>, Vec<&FindingJson<'_>>>> = BTreeMap::new();
    for one in found {
        let finding = one.finding;
        let said = (
            finding.line,
            finding.column,
            Reverse(finding.level),
            finding.message.as_str(),
            finding.code.as_deref(),
        );
        let file = files.entry(&finding.file).or_default();
        file.entry(said).or_default().push(one);
    }
    let mut out = String::new();
    let mut counts = [0; 3];
    for (file, all) in &files {
        out.push_str(&format!(
            "{}\n",
            ui.out.paint(Role::Name, &text::safe(file))
        ));
        for ((line, column, Reverse(level), message, code), steps) in all {
            let column = column.map_or(String::new(), |column| format!(":{column}"));
            let place = format!("{line}{column}");
            let (role, number) = match level {
                FindingLevel::Error => (Role::Failed, 0),
                FindingLevel::Warning => (Role::Held, 1),
                FindingLevel::Note => (Role::Faint, 2),
            };
            counts[number] += 1;
            let code = code.map_or(String::new(), |code| format!("  [{}]", text::safe(code)));
            let more = match steps.len() - 1 {
                0 => String::new(),
                count => format!(" and {count} more"),
            };
            let is_new = if steps.iter().any(|one| one.new) {
                "  new"
            } else {
                ""
            };
            let by = format!("{}{more}{is_new}", text::safe(steps[0].step));
            out.push_str(&format!(
                "  {place:<8} {} {}{code}  {}\n",
                ui.out.paint(role, &format!("{:<7}", level.name())),
                text::safe(message),
                ui.out.paint(Role::Faint, &by),
            ));
        }
    }
    let [errors, warnings, notes] = counts;
    let counted = [(errors, "error"), (warnings, "warning"), (notes, "note")];
    let counted = counted.into_iter().filter(|(count, _)| *count > 0);
    let counted: Vec<String> = counted
        .map(|(count, what)| text::count(count, what))
        .collect();
    match counted.is_empty() {
        true => out.push_str("nothing was said\n"),
        false => out.push_str(&format!(
            "{} in {}\n",
            counted.join(", "),
            text::count(files.len(), "file")
        )),
    }
    out
}
