//! What was asked for, and the goals that it comes to in a project.

use std::collections::HashMap;

use crate::graph;
use crate::graph::NodeId;
use crate::project::PartId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::task_call::TaskCall;

/// What was asked for.
#[derive(Clone, Debug, Default)]
pub struct BuildRequest {
    /// Names as typed; none for the default.
    pub names: Vec<String>,
    /// The folder they were typed in, from the root: empty, or ending with a slash.
    pub folder: String,
    /// Arguments of tasks, by the task's name.
    pub calls: HashMap<String, TaskCall>,
}

/// What names stand for in a project; without names, what is made by default.
#[must_use]
pub fn goals(project: &Project<'_>, asked: &BuildRequest) -> graph::Goals {
    if asked.names.is_empty() {
        let part = part_of(project, &asked.folder);
        let mut goals = graph::Goals::of(graph::default_goals(project, part.0, &part.1));
        let has_default = project.defaults.iter().any(|(owner, _)| *owner == part.0);
        if !has_default {
            // Steps that need each other in a circle are none that nothing needs: nobody would ever miss them.
            let all = (0..project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
            if let Err(cycle) = graph::declared_order(project, &all.collect::<Vec<_>>()) {
                goals.unknown.push(graph::describe_cycle(project, &cycle));
            }
        }
        return goals;
    }
    graph::resolve(project, &asked.names, &asked.folder)
}

/// The innermost part around a folder, and its folder.
fn part_of(project: &Project<'_>, folder: &str) -> (PartId, String) {
    project
        .parts
        .iter()
        .enumerate()
        .filter(|(_, part)| folder.starts_with(part.as_str()))
        .max_by_key(|(_, part)| part.len())
        .map(|(index, part)| (PartId(u32::try_from(index).unwrap_or(0)), part.clone()))
        .unwrap_or((PartId::ROOT, String::new()))
}
