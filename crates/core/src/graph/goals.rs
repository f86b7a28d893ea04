//! From the names on a command line to nodes.

use std::collections::HashSet;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::declared;
use crate::graph::node_count;
use crate::graph::order::order;
use crate::project::PathId;
use crate::project::Project;
use crate::project::What;
use crate::project::near_goal;
use crate::project::paths::from_known_root;
use crate::project::paths::relative;
use crate::project::pattern::Pattern;
use crate::project::pattern::is_pattern;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::world::names::folder_of;

/// What was asked for.
#[derive(Debug, Default)]
pub struct Goals {
    /// The nodes, each once, in the order in which they were named.
    pub nodes: Vec<NodeId>,
    /// Names that stand for nothing.
    pub unknown: Vec<Diagnostic>,
    seen: HashSet<NodeId>,
}

impl Goals {
    /// These nodes, each named once.
    #[must_use]
    pub fn of(nodes: Vec<NodeId>) -> Self {
        Self {
            nodes,
            ..Self::default()
        }
    }

    fn add(&mut self, node: NodeId) {
        if self.seen.insert(node) {
            self.nodes.push(node);
        }
    }
}

/// What is brought up to date when nothing is named, in the part whose folder is `folder`: its
/// `default`, or all targets that no other target needs.
#[must_use]
pub fn default_goals(
    project: &Project<'_>,
    part: crate::project::PartId,
    folder: &str,
) -> Vec<NodeId> {
    let mut goals = Goals::default();
    let mut any = false;
    for &(owner, what) in &project.defaults {
        if owner == part {
            any = true;
            add_what(project, what, &mut goals);
        }
    }
    if any {
        return goals.nodes;
    }
    let mut needed = vec![false; node_count(project)];
    for index in 0..node_count(project) {
        let id = NodeId(u32::try_from(index).unwrap_or(u32::MAX));
        let is_task = matches!(id.node(project), crate::graph::Node::Task(_));
        if !is_task {
            declared(project, id, &mut |node| needed[node.index()] = true);
        }
    }
    (0..project.steps.len())
        .filter(|&index| !needed[index])
        .map(|index| NodeId(u32::try_from(index).unwrap_or(u32::MAX)))
        .filter(|id| id.name(project).starts_with(folder))
        .collect()
}

/// Goals with what the `steps` of all tasks that they reach name in front of them, for whoever only looks at them.
#[must_use]
pub fn with_steps(project: &Project<'_>, goals: &[NodeId]) -> Vec<NodeId> {
    let mut all = goals.to_vec();
    let mut opened: HashSet<NodeId> = HashSet::new();
    loop {
        let Ok(order) = order(project, &all) else {
            // The circle is told by whoever orders them.
            return all;
        };
        let mut steps = Goals::default();
        for id in order.nodes {
            if let Node::Task(task) = id.node(project)
                && opened.insert(id)
            {
                let steps_of = &project.tasks[task.index()].steps;
                steps_of
                    .iter()
                    .for_each(|&what| add_what(project, what, &mut steps));
            }
        }
        if steps.nodes.is_empty() {
            return all;
        }
        steps.nodes.append(&mut all);
        all = steps.nodes;
    }
}

fn add_what(project: &Project<'_>, what: What, goals: &mut Goals) {
    match what {
        What::Task(task) => goals.add(NodeId::task(project, task)),
        What::Set(set) => {
            for &path in &project.sets[set.index()].paths {
                if let Some(step) = project.maker(path) {
                    goals.add(NodeId::step(step));
                }
            }
        }
        What::Path(path) => {
            if let Some(step) = project.maker(path) {
                goals.add(NodeId::step(step));
            }
        }
    }
}

/// What names on a command line stand for, typed in a folder of the project (empty for the root, or
/// ending with a slash): files, tasks, folders, quoted patterns.
#[must_use]
pub fn resolve(project: &Project<'_>, names: &[String], folder: &str) -> Goals {
    let mut goals = Goals::default();
    for name in names {
        let before = goals.nodes.len();
        let mut known = false;
        // A name is looked for where it was typed, then upwards to the root.
        for base in upwards(folder) {
            known = one(project, &seen_from_root(project, base, name), &mut goals);
            if known || goals.nodes.len() > before {
                break;
            }
        }
        if !known && goals.nodes.len() == before {
            let last = goals.nodes.last();
            let called = last.and_then(|last| match last.node(project) {
                Node::Task(task) => Some(&project.tasks[task.index()]),
                Node::Step(_) | Node::Set(_) => None,
            });
            let mut diagnostic = unknown(project, name, folder);
            if let Some(task) = called.filter(|task| !task.decl.syntax.parameters.is_empty()) {
                let task = relative(&task.name, folder);
                diagnostic = diagnostic.help(format!(
                    "if it is a value of the task `{task}`: `handloom run {task} {name}`"
                ));
            }
            goals.unknown.push(diagnostic);
        }
    }
    goals
}

fn seen_from_root(project: &Project<'_>, folder: &str, name: &str) -> String {
    from_known_root(|| project.root.clone(), folder, name)
}

/// A folder and all above it.
fn upwards(folder: &str) -> impl Iterator<Item = &str> {
    let mut next = Some(folder);
    std::iter::from_fn(move || {
        let current = next?;
        next = (!current.is_empty()).then(|| folder_of(current));
        Some(current)
    })
}

fn one(project: &Project<'_>, path: &str, goals: &mut Goals) -> bool {
    if let Some(task) = project.task_named(path) {
        goals.add(NodeId::task(project, task));
        return true;
    }
    if let Some(step) = find_maker(project, path) {
        goals.add(step);
        return true;
    }
    let folder = format!("{}/", path.trim_end_matches('/'));
    if let Some(step) = find_maker(project, &folder) {
        goals.add(step);
        return true;
    }
    if is_pattern(path) {
        return by_pattern(project, path, goals);
    }
    let inside: Vec<PathId> = if path.is_empty() {
        Vec::new()
    } else {
        project.outputs_in(&folder).collect()
    };
    for &output in &inside {
        add_what(project, What::Path(output), goals);
    }
    !inside.is_empty()
}

fn find_maker(project: &Project<'_>, path: &str) -> Option<NodeId> {
    let id = project.paths.find(path)?;
    project.maker(id).map(NodeId::step)
}

fn by_pattern(project: &Project<'_>, source: &str, goals: &mut Goals) -> bool {
    let Ok(pattern) = Pattern::compile(source) else {
        return false;
    };
    let mut any = false;
    for output in project.outputs_in(pattern.prefix()) {
        if pattern.matches(project.paths.get(output))
            && let Some(step) = project.maker(output)
        {
            any = true;
            goals.add(NodeId::step(step));
        }
    }
    any
}

fn unknown(project: &Project<'_>, name: &str, folder: &str) -> Diagnostic {
    let path = seen_from_root(project, folder, name);
    if is_pattern(name) {
        let tasks = Pattern::compile(&path).is_ok_and(|pattern| {
            let mut tasks = project.tasks.iter();
            tasks.any(|task| pattern.matches(&task.name))
        });
        let help = if tasks {
            format!(
                "a pattern means files here; `handloom run '{name}'` runs the tasks that it matches"
            )
        } else {
            "`handloom list --all` shows every file that can be made".to_owned()
        };
        return Diagnostic::placeless(
            &mistakes::UNKNOWN_GOAL,
            format!("no target matches `{name}`"),
        )
        .help(help);
    }
    // Values of holes are among the paths as well.
    let is_need = project.paths.find(&path).is_some_and(|path| {
        let mut needs = project.needs.iter().map(|need| need.what);
        let mut sets = project.sets.iter();
        needs.any(|what| matches!(what, What::Path(need) if need == path))
            || sets.any(|set| set.paths.contains(&path))
    });
    let help = match near_goal(project, &path) {
        Some(near) => format!("did you mean `{near}`?"),
        None if is_need => "it is a source: other files are made from it".to_owned(),
        None => "`handloom list` shows what can be made and run".to_owned(),
    };
    Diagnostic::placeless(
        &mistakes::UNKNOWN_GOAL,
        format!("no target or task is called `{name}`"),
    )
    .help(help)
}
