//! `handloom lineage`: how a file came about, and whether all of it still is as it was.

use std::cell::Cell;
use std::fs;
use std::path::Path;
use std::process::ExitCode;

use serde::Serialize;

use handloom_core::graph::NodeId;
use handloom_core::language::Manner;
use handloom_core::lineage::Difference;
use handloom_core::lineage::DifferenceKind;
use handloom_core::lineage::Lineage;
use handloom_core::lineage::differences;
use handloom_core::lineage::recipe::as_run;
use handloom_core::lineage::trace;
use handloom_core::project::near_goal;
use handloom_core::status::Decision;
use handloom_core::status::FileStates;
use handloom_core::status::StepInputs;
use handloom_core::verdict::Reason;
use handloom_core::verdict::ReasonKind;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::LineageArguments;
use crate::commands::lineage_again;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::failure::RECIPE;
use crate::project;
use crate::reporting::lineage::json::LineageJson;
use crate::reporting::lineage::json::hex;
use crate::reporting::lineage::plain::plain;
use crate::reporting::lineage::prov::prov_json;
use crate::reporting::lineage::run_crate;
use crate::reporting::lineage::run_crate::CratePayload;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// Carries the command out.
pub fn run(
    common: &Common,
    arguments: &LineageArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let workspace = project::read(common, ui)?;
    let form = arguments.to.as_deref().map(FileForm::of).transpose()?;
    if arguments.without_files && form != Some(FileForm::RunCrate) {
        return Err(CommandError::usage(
            "`--without-files` is for a Process Run Crate",
            "name a folder after `--to`",
        ));
    }
    let done = ReadOnlyProject::at_opened(&workspace, ui, |read_only| {
        let lineage = traced(read_only, &arguments.file)?;
        if arguments.check || arguments.again.is_some() {
            let found = CheckResult::of(read_only, &lineage)?;
            if let Some(folder) = &arguments.again {
                let copied = lineage_again::prepare(read_only, &lineage, &found, folder)?;
                return Ok(Done::Again(lineage, copied));
            }
            if arguments.format == Format::Json {
                ui.print_json(&CheckJson::of(&lineage, &found))?;
            } else {
                ui.print(&check_text(&lineage, &found, ui))?;
            }
            return Ok(Done::Checked(found.is_empty()));
        }
        match (&arguments.to, form) {
            (Some(to), Some(form)) => {
                write(read_only, &lineage, to, form, arguments.without_files, ui)?;
            }
            _ if arguments.format == Format::Json => ui.print_json(&LineageJson::of(&lineage))?,
            _ => {
                let mut out = plain(&lineage, arguments.all, ui);
                let found = file_differences(read_only, &lineage);
                if !found.is_empty() {
                    let what = format!(
                        "\n{} not as then; `--check` names them\n",
                        match found.len() {
                            1 => "1 file is".to_owned(),
                            count => format!("{count} files are"),
                        }
                    );
                    out.push_str(&ui.out.paint(Role::Held, &what));
                }
                ui.print(&out)?;
            }
        }
        Ok(Done::Told)
    })?;
    match done {
        Done::Told | Done::Checked(true) => Ok(ExitCode::SUCCESS),
        Done::Checked(false) => Ok(ExitCode::from(RECIPE)),
        Done::Again(lineage, copied) => {
            lineage_again::make_and_compare(common, arguments, &lineage, copied, ui)
        }
    }
}

/// What is left to do, or to say.
enum Done {
    Told,
    /// Whether nothing differs.
    Checked(bool),
    Again(Lineage, usize),
}

/// How a file is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum FileForm {
    Prov,
    Json,
    RunCrate,
}

impl FileForm {
    /// By a file's ending; what has none is a folder.
    fn of(file: &Path) -> Result<Self, CommandError> {
        let name = file.file_name().unwrap_or_default().to_string_lossy();
        let ending = file.extension();
        match ending {
            _ if name.ends_with(".prov.json") => Ok(Self::Prov),
            Some(ending) if ending == "json" => Ok(Self::Json),
            _ if file.is_dir() || ending.is_none() => Ok(Self::RunCrate),
            _ => Err(CommandError::usage(
                format!(
                    "`{}` is no form that a lineage can be written in",
                    file.display()
                ),
                "name a file that ends with .prov.json or .json, or a folder for a Process Run Crate",
            )),
        }
    }
}

/// The lineage of a file as typed, with recipes as they were run where that is known.
fn traced(read_only: &ReadOnlyProject<'_, '_>, typed: &str) -> Result<Lineage, CommandError> {
    let workspace = read_only.workspace;
    let path = workspace.location.from_root(typed);
    let project = read_only.project;
    let mut states = FileStates::new(&workspace.disk, &workspace.clock, &workspace.ledger);
    let ledger = workspace.ledger.borrow();
    // A whole folder may be typed without its slash.
    let folder = format!("{path}/");
    let mut found = trace(&ledger, &mut states, &path);
    if found.is_none() {
        found = trace(&ledger, &mut states, &folder);
    }
    let Some(mut lineage) = found else {
        return Err(not_made(read_only, typed, &path));
    };
    if let Some(folder) = lineage.made().filter(|made| made.path != lineage.file)
        && !read_only.is_there(&lineage.file)
    {
        return Err(CommandError::usage(
            format!("`{typed}` is not in `{}`", folder.path),
            format!(
                "what is there was made as a whole: `handloom lineage {}`",
                folder.path
            ),
        ));
    }
    let inputs = StepInputs::new(read_only.vars, project);
    for step in &mut lineage.steps {
        if let Some(id) = project.maker_of(&step.name)
            && let Some(record) = ledger.step(&step.name)
            && project.step_name(id) == step.name
        {
            let part = project.decl(project.step(id)).part;
            let home = &workspace.description.parts[part.index()].folder;
            step.recipe.home = Some(home.clone());
            step.recipe.as_run = as_run(read_only.vars, project, &inputs, id, record);
        }
    }
    Ok(lineage)
}

fn not_made(read_only: &ReadOnlyProject<'_, '_>, typed: &str, path: &str) -> CommandError {
    let project = read_only.project;
    if project.maker_of(path).is_some() {
        return CommandError::usage(
            format!("`{typed}` was never made here"),
            format!("make it: `handloom {typed}`"),
        );
    }
    if let Some(task) = project.task_named(path) {
        let task = &project.tasks[task.index()].name;
        return CommandError::usage(
            format!("`{task}` is a task: it makes no file"),
            "name a file that a target makes; `handloom list --all` shows them",
        );
    }
    if path.is_empty() || path.starts_with('/') || path.starts_with("../") {
        return CommandError::usage(
            format!("`{typed}` lies outside of what is made here"),
            "name a file that a target makes; `handloom list --all` shows them",
        );
    }
    if read_only.is_there(path) {
        return CommandError::usage(
            format!("`{typed}` is a source: no step made it"),
            "name a file that a target makes; `handloom list --all` shows them",
        );
    }
    let near = near_goal(project, path);
    let help = near.map_or_else(
        || "`handloom list --all` shows every file that can be made".to_owned(),
        |near| format!("did you mean `{near}`?"),
    );
    CommandError::usage(format!("nothing is known of `{typed}`"), help)
}

/// What is not as it was.
#[derive(Default)]
pub struct CheckResult {
    /// Files.
    pub files: Vec<Difference>,
    /// Steps of which the description says something else now, or that a run would make for another reason than a file.
    pub steps: Vec<(String, Vec<Reason>)>,
}

impl CheckResult {
    fn of(read_only: &ReadOnlyProject<'_, '_>, lineage: &Lineage) -> Result<Self, CommandError> {
        let project = read_only.project;
        let mut steps = Vec::new();
        let mut nodes = Vec::new();
        for step in &lineage.steps {
            match project.maker_of(&step.name) {
                Some(id) => nodes.push(NodeId::step(id)),
                // Nothing in the description makes it any more.
                None => steps.push((step.name.clone(), Vec::new())),
            }
        }
        let (order, predictions) = read_only.dry_run_of(&nodes)?;
        for position in order.positions() {
            let prediction = &predictions[position];
            if matches!(prediction.decision, Decision::Keep) {
                continue;
            }
            let reasons = prediction
                .reasons
                .iter()
                .filter(|reason| is_of_step(reason.kind));
            let reasons: Vec<Reason> = reasons.cloned().collect();
            let name = prediction.node.name(project);
            let is_ours = lineage.steps.iter().any(|step| step.name == name);
            if is_ours && !reasons.is_empty() {
                steps.push((name, reasons));
            }
        }
        Ok(Self {
            files: file_differences(read_only, lineage),
            steps,
        })
    }

    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty() && self.steps.is_empty()
    }
}

/// Whether a reason is none that a file is in the way it is, which is told of the file.
fn is_of_step(kind: ReasonKind) -> bool {
    matches!(
        kind,
        ReasonKind::NeverMade
            | ReasonKind::Unfinished
            | ReasonKind::RecipeChanged
            | ReasonKind::PrerequisiteAdded
            | ReasonKind::PrerequisiteDropped
            | ReasonKind::GivenChanged
            | ReasonKind::FailedBefore
    )
}

fn file_differences(read_only: &ReadOnlyProject<'_, '_>, lineage: &Lineage) -> Vec<Difference> {
    let workspace = read_only.workspace;
    let project = read_only.project;
    let mut states = FileStates::new(&workspace.disk, &workspace.clock, &workspace.ledger);
    let is_fleeting = |path: &str| {
        let maker = project.maker_of(path);
        maker.is_some_and(|step| {
            project
                .decl(project.step(step))
                .clauses
                .has(Manner::Fleeting)
        })
    };
    differences(lineage, project, &mut states, is_fleeting)
}

#[derive(Serialize)]
struct CheckJson<'a> {
    file: &'a str,
    same: bool,
    differences: Vec<ChangedFileJson<'a>>,
    steps: Vec<ChangedStepJson<'a>>,
}

#[derive(Serialize)]
struct ChangedFileJson<'a> {
    path: &'a str,
    what: &'static str,
    step: &'a str,
    was: Option<String>,
    now: Option<String>,
}

#[derive(Serialize)]
struct ChangedStepJson<'a> {
    step: &'a str,
    /// None when nothing in the description makes it any more.
    reasons: &'a [Reason],
}

impl<'a> CheckJson<'a> {
    fn of(lineage: &'a Lineage, found: &'a CheckResult) -> Self {
        let files = found.files.iter().map(|one| ChangedFileJson {
            path: &one.path,
            what: one.kind.name(),
            step: &one.step,
            was: one.was.as_ref().map(hex),
            now: one.now.as_ref().map(hex),
        });
        let steps = found
            .steps
            .iter()
            .map(|(step, reasons)| ChangedStepJson { step, reasons });
        Self {
            file: &lineage.file,
            same: found.is_empty(),
            differences: files.collect(),
            steps: steps.collect(),
        }
    }
}

/// What is not as it was, for people.
pub fn check_text(lineage: &Lineage, found: &CheckResult, ui: Ui) -> String {
    let file = ui.out.paint(Role::Name, &text::safe(&lineage.file));
    if found.is_empty() {
        return format!(
            "{file}: all is as it was when it was made: {}, {}\n",
            text::count(lineage.steps.len(), "step"),
            text::count(lineage.sources.len(), "source"),
        );
    }
    let mut out = format!("{file}: not all is as it was when it was made\n");
    for one in &found.files {
        let path = ui.out.paint(Role::Name, &text::safe(&one.path));
        let step = text::safe(&one.step);
        let what = match one.kind {
            DifferenceKind::InputChanged => {
                format!("holds something else than {step} was made from")
            }
            DifferenceKind::InputMissing => format!("is gone, which {step} was made from"),
            DifferenceKind::LookChanged => format!("is not as {step} found it"),
            DifferenceKind::MadeAnewSince => format!("was made anew since {step} was made from it"),
            DifferenceKind::OutputChanged => "is not as it was made".to_owned(),
            DifferenceKind::OutputMissing => "is gone".to_owned(),
        };
        out.push_str(&format!("  {path} {what}\n"));
    }
    for (step, reasons) in &found.steps {
        let name = ui.out.paint(Role::Name, &text::safe(step));
        if reasons.is_empty() {
            out.push_str(&format!(
                "  {name}: nothing in the description makes it any more\n"
            ));
        }
        for reason in reasons {
            let reason = text::safe(&reason.brief());
            out.push_str(&format!("  {name}: {reason}\n"));
        }
    }
    out
}

fn write(
    read_only: &ReadOnlyProject<'_, '_>,
    lineage: &Lineage,
    to: &Path,
    form: FileForm,
    without_files: bool,
    ui: Ui,
) -> Result<(), CommandError> {
    let failed = |error| CommandError::io(format!("can't write `{}`", to.display()), error);
    match form {
        FileForm::Prov => fs::write(to, prov_json(lineage)).map_err(failed)?,
        FileForm::Json => {
            let text = ui.json(&LineageJson::of(lineage))?;
            fs::write(to, text).map_err(failed)?;
        }
        FileForm::RunCrate => return write_crate(read_only, lineage, to, without_files, ui),
    }
    ui.say(&format!("wrote {}\n", to.display()));
    Ok(())
}

fn write_crate(
    read_only: &ReadOnlyProject<'_, '_>,
    lineage: &Lineage,
    to: &Path,
    without_files: bool,
    ui: Ui,
) -> Result<(), CommandError> {
    let failed = |error| CommandError::io(format!("can't write `{}`", to.display()), error);
    lineage_again::make_empty(to)?;
    let workspace = read_only.workspace;
    let mut states = FileStates::new(&workspace.disk, &workspace.clock, &workspace.ledger);
    let left = Cell::new(0);
    let payload = if without_files {
        CratePayload::default()
    } else {
        CratePayload::copy(lineage, &workspace.location.root, to, |file| {
            let now = states.look(&file.path);
            let is = [now.digest(), now.own_digest()].contains(&file.content);
            let is = is && file.content.is_some();
            left.set(left.get() + usize::from(!is));
            is
        })
        .map_err(failed)?
    };
    let metadata = run_crate::metadata(lineage, &payload);
    fs::write(to.join(run_crate::METADATA), metadata).map_err(failed)?;
    let left = match left.get() {
        0 => String::new(),
        count => format!(
            "; {} not there as recorded, and described alone",
            match count {
                1 => "1 is".to_owned(),
                count => format!("{count} are"),
            }
        ),
    };
    ui.say(&format!(
        "wrote {} with {}{left}\n",
        to.display(),
        text::count(payload.len(), "file")
    ));
    Ok(())
}
