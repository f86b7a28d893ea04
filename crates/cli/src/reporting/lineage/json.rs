//! How a file came about, as programs read it.

use std::collections::BTreeMap;

use serde::Serialize;

use handloom_core::ledger::CommitState;
use handloom_core::ledger::RunCircumstances;
use handloom_core::lineage::FileVersion;
use handloom_core::lineage::HowMade;
use handloom_core::lineage::InputOrigin;
use handloom_core::lineage::Lineage;
use handloom_core::lineage::LineageInput;
use handloom_core::lineage::LineageStep;
use handloom_core::verdict::Reason;
use handloom_core::world::Digest;

use crate::reporting::lineage::made_between;
use crate::ui::events::OriginJson;
use crate::ui::text;

/// A lineage.
#[derive(Serialize)]
pub struct LineageJson<'a> {
    file: &'a str,
    /// The steps, each behind those that it needs.
    steps: Vec<StepJson<'a>>,
    sources: Vec<FileJson<'a>>,
    runs: Vec<LineageRunJson<'a>>,
}

/// A file in one of its contents.
#[derive(Serialize)]
struct FileJson<'a> {
    path: &'a str,
    content: Option<String>,
}

#[derive(Serialize)]
struct InputJson<'a> {
    path: &'a str,
    content: Option<String>,
    from: &'static str,
    /// The step that made it.
    #[serde(skip_serializing_if = "Option::is_none")]
    step: Option<&'a str>,
}

#[derive(Serialize)]
struct RecipeJson<'a> {
    /// Whether this is just how it was run; otherwise names whose values are not recorded stand in it as written.
    as_run: bool,
    interpreter: String,
    /// From the root; none where it is not known.
    folder: Option<String>,
    env: BTreeMap<&'a str, &'a str>,
    script: String,
}

#[derive(Serialize)]
struct StepJson<'a> {
    step: &'a str,
    how: &'static str,
    /// Where it was restored from.
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<OriginJson<'a>>,
    outputs: Vec<FileJson<'a>>,
    needs: Vec<InputJson<'a>>,
    learned: Vec<InputJson<'a>>,
    /// Folders and files that it looked at or for, and what it found.
    looked: Vec<FileJson<'a>>,
    given: BTreeMap<&'a str, Option<&'a str>>,
    parameters: BTreeMap<&'a str, &'a str>,
    recipe: RecipeJson<'a>,
    reasons: &'a [Reason],
    /// When its recipe began and ended.
    began: Option<String>,
    ended: Option<String>,
    /// When it was written down, which is later than its end for what was restored or accepted.
    recorded: String,
    seconds: f64,
    memory: u64,
    processor_seconds: f64,
    run: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    place: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    node: Option<&'a str>,
}

#[derive(Serialize)]
struct LineageRunJson<'a> {
    run: u64,
    began: String,
    command: &'a str,
    machine: &'a str,
    system: &'a str,
    folder: &'a str,
    version: &'a str,
    commit: Option<&'a CommitState>,
}

impl<'a> LineageJson<'a> {
    /// As programs read it.
    pub fn of(lineage: &'a Lineage) -> Self {
        Self {
            file: &lineage.file,
            steps: lineage
                .steps
                .iter()
                .map(|step| StepJson::of(step, lineage))
                .collect(),
            sources: lineage.sources.iter().map(FileJson::of).collect(),
            runs: lineage.runs.values().map(LineageRunJson::of).collect(),
        }
    }
}

/// All hexadecimal digits of a content's digest.
pub fn hex(digest: &Digest) -> String {
    digest.0.iter().map(|byte| format!("{byte:02x}")).collect()
}

impl<'a> FileJson<'a> {
    fn of(file: &'a FileVersion) -> Self {
        Self {
            path: &file.path,
            content: file.content.as_ref().map(hex),
        }
    }
}

impl<'a> InputJson<'a> {
    fn of(input: &'a LineageInput, lineage: &'a Lineage) -> Self {
        let name = |step: usize| lineage.steps.get(step).map(|step| step.name.as_str());
        let (from, step) = match input.from {
            InputOrigin::Source(_) => ("source", None),
            InputOrigin::Step(step) => ("step", name(step)),
            InputOrigin::MadeAnewSince(step) => ("made-anew-since", name(step)),
        };
        Self {
            path: &input.file.path,
            content: input.file.content.as_ref().map(hex),
            from,
            step,
        }
    }
}

#[expect(clippy::cast_precision_loss, reason = "a time, for reading")]
fn seconds(nanoseconds: u64) -> f64 {
    nanoseconds as f64 / 1e9
}

impl<'a> StepJson<'a> {
    fn of(step: &'a LineageStep, lineage: &'a Lineage) -> Self {
        let (how, from) = match &step.how {
            HowMade::Made => ("made", None),
            HowMade::Restored(origin) => ("restored", Some(OriginJson::of(origin))),
            HowMade::Accepted => ("accepted", None),
        };
        let inputs = |all: &'a [LineageInput]| {
            let all = all.iter().map(|input| InputJson::of(input, lineage));
            all.collect()
        };
        let between = made_between(step);
        let ran_in = step.ran_in.as_ref();
        Self {
            step: &step.name,
            how,
            from,
            outputs: step.outputs.iter().map(FileJson::of).collect(),
            needs: inputs(&step.needs),
            learned: inputs(&step.learned),
            looked: step
                .looks
                .iter()
                .map(|look| FileJson {
                    path: &look.path,
                    content: look.content.as_ref().map(hex),
                })
                .collect(),
            given: step
                .givens
                .iter()
                .map(|given| (given.key.as_str(), given.value.as_deref()))
                .collect(),
            parameters: step
                .parameters
                .iter()
                .map(|(name, value)| (name.as_str(), value.as_str()))
                .collect(),
            recipe: RecipeJson::of(step),
            reasons: &step.reasons,
            began: between.map(|(began, _)| text::started(began).iso),
            ended: between.map(|(_, ended)| text::started(ended).iso),
            recorded: text::started(step.ended_at).iso,
            seconds: seconds(step.took),
            memory: step.memory,
            processor_seconds: seconds(step.processor),
            run: ran_in.map(|ran| ran.run),
            place: ran_in.and_then(|ran| ran.place.as_deref()),
            node: ran_in.and_then(|ran| ran.node.as_deref()),
        }
    }
}

impl<'a> RecipeJson<'a> {
    fn of(step: &'a LineageStep) -> Self {
        let recipe = &step.recipe;
        let recorded = recipe.env.iter().map(|line| line.split_once(" = "));
        let env = match &recipe.as_run {
            Some(as_run) => {
                let env = as_run.env.iter();
                env.map(|(name, value)| (name.as_str(), value.as_str()))
                    .collect()
            }
            None => recorded.flatten().collect(),
        };
        Self {
            as_run: recipe.as_run.is_some(),
            interpreter: recipe.interpreter.clone(),
            folder: step.folder(),
            env,
            script: step.script(),
        }
    }
}

impl<'a> LineageRunJson<'a> {
    fn of(run: &'a RunCircumstances) -> Self {
        let milliseconds = i64::try_from(run.run).unwrap_or_default();
        Self {
            run: run.run,
            began: text::started(milliseconds.saturating_mul(1_000_000)).iso,
            command: &run.command,
            machine: &run.machine,
            system: &run.system,
            folder: &run.folder,
            version: &run.version,
            commit: run.commit.as_ref(),
        }
    }
}
