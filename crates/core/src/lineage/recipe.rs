//! A recorded recipe, and what of it can be told of how it was run.
//!
//! The ledger has a recipe as it is compared ([`crate::project::recipe_text`]): what is the same for all steps of a target is
//! put in, and what differs from step to step left as written. Where the description still says just that, the recipe as it was
//! run is what it would make of it now. Where it does not, names whose values are recorded are put in, and the others stay.

use crate::executor::job::JobRoom;
use crate::ledger::EdgeView;
use crate::ledger::StepView;
use crate::lineage::LineageStep;
use crate::project::Project;
use crate::project::StepId;
use crate::project::paths::from_root;
use crate::project::paths::relative;
use crate::project::secret;
use crate::project::shell;
use crate::project::values::Vars;
use crate::scheduler::JobBuilder;
use crate::scheduler::RecipeMode;
use crate::status::StepInputs;

/// Behind this line of a recorded recipe stands its script.
const SCRIPT: &str = "recipe:\n";
/// And behind this one what is run after it in any case.
const FINALLY: &str = "\nfinally:\n";

/// A recipe as it is recorded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RecordedRecipe {
    /// The program that reads the script, with its first arguments, quoted for a shell.
    pub interpreter: String,
    /// The folder that it runs in, as written; none of one that runs where its description stands.
    pub folder: Option<String>,
    /// Variables of the environment that the description sets, as `NAME = value`.
    pub env: Vec<String>,
    /// What else of the step is compared: how it learns, whether it is sealed, what it calls its files.
    pub clauses: Vec<String>,
    /// The script; names that differ from step to step stand in it as written.
    pub script: String,
    /// What is run after it in any case.
    pub finally: Option<String>,
    /// The folder of the description that it stands in, from the root, where the description still has the step: from there
    /// the recipe sees its files.
    pub home: Option<String>,
    /// All of it as it was run, where that is known for sure.
    pub as_run: Option<RecipeAsRun>,
}

/// A recipe with everything put in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RecipeAsRun {
    /// The program that reads the script, with its first arguments.
    pub interpreter: Vec<String>,
    /// The folder that it ran in, from the root; empty for the root itself.
    pub folder: String,
    /// Variables of the environment that it was given, besides those of the user.
    pub env: Vec<(String, String)>,
    /// The script.
    pub script: String,
}

impl RecordedRecipe {
    /// Reads what a ledger has.
    #[must_use]
    pub fn read(text: &str) -> Self {
        let (head, script) = text.split_once(SCRIPT).unwrap_or((text, ""));
        let (script, finally) = match script.split_once(FINALLY) {
            Some((script, finally)) => (script, Some(finally.to_owned())),
            None => (script, None),
        };
        let mut read = Self {
            script: script.to_owned(),
            finally,
            ..Self::default()
        };
        for line in head.lines() {
            match line.split_once(' ').unwrap_or((line, "")) {
                ("with", words) => words.clone_into(&mut read.interpreter),
                ("in", folder) => read.folder = Some(folder.to_owned()),
                ("env", variable) => read.env.push(variable.to_owned()),
                _ => read.clauses.push(line.to_owned()),
            }
        }
        read
    }
}

/// The recorded values that differ from step to step.
pub(super) fn parameters(text: &str) -> Vec<(String, String)> {
    let lines = text.lines().filter_map(|line| line.split_once(" = "));
    lines
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .collect()
}

/// A step's recipe as it was run, if what is recorded is what the description says now.
#[must_use]
pub fn as_run<'d>(
    vars: &Vars<'d>,
    project: &Project<'d>,
    inputs: &StepInputs<'_, 'd>,
    step: StepId,
    record: StepView<'_>,
) -> Option<RecipeAsRun> {
    let node = project.step(step);
    let text = inputs.recipe_text(step)?;
    // How many cores it was given is not recorded.
    let is_known = text == record.recipe_text() && !text.contains("@{cores}");
    let same = |recorded: EdgeView<'_>, now: &str| recorded.path == now;
    let paths = |number| project.paths.get(number);
    let mut outputs = project.step_outputs(node).iter().map(|&(_, path)| path);
    let mut needs = project.open_needs(project.step_needs(node));
    let is_same = is_known
        && inputs.parameters(step)? == record.parameters()
        && outputs.len() == record.outputs().len()
        && record
            .outputs()
            .all(|edge| outputs.next().is_some_and(|now| same(edge, paths(now))))
        && record
            .needs()
            .all(|edge| needs.next().is_some_and(|(_, now)| same(edge, paths(now))))
        && needs.next().is_none();
    if !is_same {
        return None;
    }
    let room = JobRoom::alone();
    let job = JobBuilder {
        project,
        vars,
        is_to_run: false,
    }
    .step(step, room, RecipeMode::Plain)?
    .job;
    Some(RecipeAsRun {
        interpreter: job.interpreter.clone(),
        folder: job.folder.clone(),
        env: job
            .env
            .iter()
            .map(|(name, value)| (name.clone(), secret::shown(value).into_owned()))
            .collect(),
        script: secret::shown(&job.script).into_owned(),
    })
}

impl LineageStep {
    /// The script as it was run; where that is not known for sure, as it is recorded, with the names put in whose values are.
    #[must_use]
    pub fn script(&self) -> String {
        match &self.recipe.as_run {
            Some(as_run) => as_run.script.clone(),
            None => self.filled(&self.recipe.script),
        }
    }

    /// The folder that its recipe ran in, from the root, empty or with a slash at its end; none where that is not known.
    #[must_use]
    pub fn folder(&self) -> Option<String> {
        if let Some(as_run) = &self.recipe.as_run {
            return Some(as_run.folder.clone());
        }
        let home = self.recipe.home.as_ref()?;
        match &self.recipe.folder {
            // It differs from step to step.
            Some(folder) if folder.contains('@') => None,
            Some(folder) => {
                let folder = from_root(home, folder);
                Some(format!("{}/", folder.trim_end_matches('/')))
            }
            None => Some(home.clone()),
        }
    }

    fn filled(&self, script: &str) -> String {
        let interpreter: Vec<String> = self
            .recipe
            .interpreter
            .split(' ')
            .map(str::to_owned)
            .collect();
        if !shell::is_shell(&interpreter) {
            return script.to_owned();
        }
        let folder = self.folder();
        let mut out = String::with_capacity(script.len());
        let mut rest = script;
        while let Some(at) = rest.find("@{") {
            let (before, behind) = rest.split_at(at);
            out.push_str(before);
            let end = behind.find('}').map_or(behind.len(), |end| end + 1);
            let (written, behind) = behind.split_at(end);
            rest = behind;
            let name = written.trim_start_matches("@{").trim_end_matches('}');
            match self.value(name, folder.as_deref()) {
                Some(value) => out.push_str(&value),
                None => out.push_str(written),
            }
        }
        out + rest
    }

    /// What stands for a name in a script, when that is recorded.
    fn value(&self, name: &str, folder: Option<&str>) -> Option<String> {
        let words = |paths: &mut dyn Iterator<Item = &str>| {
            let folder = folder?;
            let seen: Vec<String> = paths.map(|path| relative(path, folder)).collect();
            Some(shell::quote_all(seen.iter().map(String::as_str)))
        };
        match name {
            "needs" => words(&mut self.needs.iter().map(|one| &*one.file.path)),
            "target" => words(&mut self.outputs.iter().map(|one| &*one.path)),
            name => {
                let mut known = self.parameters.iter();
                let (_, value) = known.find(|(known, _)| known == name)?;
                Some(shell::quote(value))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recorded_recipe_is_read() {
        let read = RecordedRecipe::read(
            "with sh -eu\nin sub\nenv LC_ALL = C\nlearn listing @{learn}\nlabels tool table\nrecipe:\nfirst\nsecond\nfinally:\nlast",
        );
        let expected = RecordedRecipe {
            interpreter: "sh -eu".to_owned(),
            folder: Some("sub".to_owned()),
            env: vec!["LC_ALL = C".to_owned()],
            clauses: vec![
                "learn listing @{learn}".to_owned(),
                "labels tool table".to_owned(),
            ],
            script: "first\nsecond".to_owned(),
            finally: Some("last".to_owned()),
            home: None,
            as_run: None,
        };
        assert_eq!(read, expected);
    }
}
