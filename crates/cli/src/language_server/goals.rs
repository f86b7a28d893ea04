//! What can be asked for in a project, to be picked from: its targets and tasks, and the tasks that the user has everywhere.

use serde::Serialize;

use handloom_core::language::ClauseKind;
use handloom_core::language::Parameter;
use handloom_core::language::Task;
use handloom_core::language::TopItem;
use handloom_core::language::target_of;
use handloom_core::project::Description;
use handloom_core::world::RealDisk;

use crate::language_server::outlook::Outlook;
use crate::language_server::outlook::header_of;
use crate::language_server::project_text::ProjectText;
use crate::project;

/// Something that can be asked for.
#[derive(Debug, Serialize)]
pub struct OfferedGoal {
    /// How it is called.
    pub name: String,
    /// `target`, `task`, or `own task`.
    pub kind: &'static str,
    /// What stands for it on the command line; none of a target whose steps are not known.
    pub words: Vec<String>,
    /// The folder that it is asked for in.
    pub folder: String,
    /// What it is about.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// The values that it takes, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<GoalParameter>,
}

/// A value that a task takes.
#[derive(Debug, Serialize)]
pub struct GoalParameter {
    /// Its name.
    pub name: String,
    /// Whether there is none without it.
    pub required: bool,
}

/// All of them: tasks first.
pub fn of(project: &ProjectText, outlook: Option<&Outlook>) -> Vec<OfferedGoal> {
    let (description, _) = project.description();
    let folder = project.root.to_string_lossy().into_owned();
    let mut goals = tasks(&description, "task", &folder);
    if let Some(own) = project::user().own_tasks()
        && own != project.root
        && let Ok(disk) = RealDisk::open(&own)
    {
        let (own, _) = Description::read(&disk);
        goals.extend(tasks(&own, "own task", &folder));
    }
    for part in &description.parts {
        for item in &part.items {
            let Some(target) = target_of(item, &description.sources) else {
                continue;
            };
            let name = header_of(&description.sources, &part.folder, target);
            let known = outlook.and_then(|outlook| outlook.targets.get(&name));
            goals.push(OfferedGoal {
                kind: "target",
                words: known.map(|known| known.goals.clone()).unwrap_or_default(),
                folder: folder.clone(),
                about: about(&target.clauses),
                parameters: Vec::new(),
                name,
            });
        }
    }
    goals
}

fn tasks(description: &Description, kind: &'static str, folder: &str) -> Vec<OfferedGoal> {
    let parts = description.parts.iter();
    let tasks = parts.flat_map(|part| {
        part.items.iter().filter_map(|item| match item {
            TopItem::Task(task) => Some((format!("{}{}", part.folder, task.name.text), task)),
            _ => None,
        })
    });
    let tasks = tasks.map(|(name, task)| OfferedGoal {
        kind,
        words: vec!["run".to_owned(), name.clone()],
        folder: folder.to_owned(),
        about: about(&task.clauses),
        parameters: parameters(task),
        name,
    });
    tasks.collect()
}

/// The values that a task takes.
pub fn parameters(task: &Task) -> Vec<GoalParameter> {
    let parameters = task.parameters.iter();
    let parameters = parameters.map(|parameter| GoalParameter {
        name: parameter.name.text.to_string(),
        required: is_required(parameter),
    });
    parameters.collect()
}

fn is_required(parameter: &Parameter) -> bool {
    parameter.default.is_none() && parameter.choices.is_empty() && !parameter.rest
}

fn about(clauses: &[handloom_core::language::Clause]) -> String {
    let found = clauses.iter().find_map(|clause| match &clause.kind {
        ClauseKind::About(text) => text.lines().next(),
        _ => None,
    });
    found.unwrap_or_default().trim().to_owned()
}
