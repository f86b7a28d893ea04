//! What a description comes to while it is right: the values of its variables, the steps of its targets, and what a run would do
//! with each.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::collections::HashSet;

use handloom_core::graph;
use handloom_core::graph::Node;
use handloom_core::graph::NodeId;
use handloom_core::language::TargetSyntax;
use handloom_core::project::Project;
use handloom_core::project::StepId;
use handloom_core::project::pattern::Pattern;
use handloom_core::project::pattern::escape;
use handloom_core::project::secret;
use handloom_core::project::value::Value;
use handloom_core::project::values::Vars;
use handloom_core::project_cache;
use handloom_core::project_cache::AskedNodes;
use handloom_core::status::Decision;
use handloom_core::status::RecordingEnvironment;
use handloom_core::status::because;
use handloom_core::text::Sources;

/// So many steps of a target are told of one by one.
const MOST_STEPS: usize = 8;

/// So many characters of a value are shown.
const MOST_VALUE: usize = 60;

/// What a project holds and comes to.
#[derive(Clone, Debug, Default)]
pub struct Outlook {
    /// Targets and tasks, by their names from the root.
    pub names: Vec<String>,
    /// What variables come to, by their names from the root.
    pub values: HashMap<String, ShownValue>,
    /// Targets, by [`header_of`].
    pub targets: HashMap<String, TargetOutlook>,
    /// Steps that would be kept now.
    pub kept: HashSet<String>,
}

/// A value as it is shown.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShownValue {
    /// Its words, cut where they are many.
    pub text: String,
    /// How many words it has.
    pub count: usize,
}

/// What becomes of a target.
#[derive(Clone, Debug, Default)]
pub struct TargetOutlook {
    /// Names or patterns that stand for all of its steps, and for nothing else; none where there are no such.
    pub goals: Vec<String>,
    /// How many steps it has.
    pub steps: usize,
    /// How many of them would run, may run, and are kept.
    pub counts: [usize; 3],
    /// The first that would or may run, and why.
    pub open: Vec<String>,
}

/// What a target is known by from one state of a description to the next: the folder of its part, and the words that name it.
pub fn header_of(sources: &Sources, folder: &str, target: &TargetSyntax) -> String {
    let words = target.outputs.iter().flat_map(|group| &group.items);
    let spans = words.map(|item| item.word.span);
    let written = spans.reduce(handloom_core::text::Span::to);
    let written = written.map_or("", |span| sources.slice(span));
    format!("{folder}{written}")
}

impl Outlook {
    /// Works it out from a project without mistakes, with nothing asked and nothing written; of one target alone, by its header,
    /// where only that is asked for.
    pub fn of<'d>(
        project: &Project<'d>,
        vars: &Vars<'d>,
        environment: &RecordingEnvironment<'_>,
        only: Option<&str>,
    ) -> Self {
        if only.is_some() {
            let (targets, kept) = targets(project, vars, environment, only);
            return Self {
                targets,
                kept,
                ..Self::default()
            };
        }
        let values = values(vars);
        // What is wrong with one that nobody uses, no run tells either.
        drop(vars.take_diagnostics());
        let (targets, kept) = targets(project, vars, environment, None);
        let outputs = project.sorted_outputs.iter();
        let outputs = outputs.map(|&path| project.paths.get(path).to_owned());
        let tasks = project.tasks.iter().filter(|task| !task.is_called);
        let tasks = tasks.map(|task| task.decl.name.clone());
        Self {
            names: tasks.chain(outputs).collect(),
            values,
            targets,
            kept,
        }
    }
}

fn values(vars: &Vars<'_>) -> HashMap<String, ShownValue> {
    let parts = &vars.description.parts;
    let mut values = HashMap::new();
    let declared: Vec<_> = vars.declared().collect();
    for (part, name, _) in declared {
        if !vars.has_value(part, name) {
            continue;
        }
        if let Some(value) = vars.known_value(part, name) {
            let folder = &parts[part.index()].folder;
            values.insert(format!("{folder}{name}"), shown(&value));
        }
    }
    values
}

fn shown(value: &Value) -> ShownValue {
    let mut text = String::new();
    let mut count = 0;
    let mut is_cut = false;
    for word in value.texts() {
        count += 1;
        if is_cut {
            continue;
        }
        let word = secret::shown(word);
        if count > 1 && text.chars().count() + word.chars().count() > MOST_VALUE {
            is_cut = true;
            text.push_str(" …");
            continue;
        }
        if count > 1 {
            text.push(' ');
        }
        match word.chars().count() > MOST_VALUE {
            true => {
                text.extend(word.chars().take(MOST_VALUE));
                text.push('…');
                is_cut = true;
            }
            false if word.is_empty() || word.contains(char::is_whitespace) => {
                text.push_str(&format!("{word:?}"));
            }
            false => text.push_str(&word),
        }
    }
    ShownValue { text, count }
}

fn targets<'d>(
    project: &Project<'d>,
    vars: &Vars<'d>,
    environment: &RecordingEnvironment<'_>,
    only: Option<&str>,
) -> (HashMap<String, TargetOutlook>, HashSet<String>) {
    let sources = &vars.description.sources;
    let header = |decl: u32| {
        let decl = &project.decls[decl as usize];
        let folder = &vars.description.parts[decl.part.index()].folder;
        header_of(sources, folder, decl.syntax)
    };
    let mut wanted: HashMap<u32, bool> = HashMap::new();
    let mut of_decls: BTreeMap<u32, TargetOutlook> = BTreeMap::new();
    let mut names: BTreeMap<u32, Vec<&str>> = BTreeMap::new();
    let steps = (0..project.steps.len()).map(StepId::from_index);
    let steps: Vec<StepId> = steps
        .filter(|&step| {
            let decl = project.step(step).decl;
            *wanted
                .entry(decl)
                .or_insert_with(|| only.is_none_or(|only| header(decl) == only))
        })
        .collect();
    for &step in &steps {
        let decl = project.step(step).decl;
        of_decls.entry(decl).or_default().steps += 1;
        names.entry(decl).or_default().push(project.step_name(step));
    }
    let nodes: Vec<NodeId> = steps.into_iter().map(NodeId::step).collect();
    let mut kept = HashSet::new();
    if let Ok(order) = graph::order(project, &nodes) {
        let asked = AskedNodes::default();
        let predictions = project_cache::dry_run(
            project,
            None,
            vars,
            environment,
            &order,
            &asked,
            std::thread::available_parallelism().map_or(1, std::num::NonZero::get),
        );
        for position in predictions.iter().flat_map(|_| order.positions()) {
            let Some(predictions) = &predictions else {
                break;
            };
            let prediction = &predictions[position];
            let Node::Step(step) = prediction.node.node(project) else {
                continue;
            };
            if prediction.decision == Decision::Keep {
                kept.insert(project.step_name(step).to_owned());
            }
            // What is only waited for is not told of.
            let Some(target) = of_decls.get_mut(&project.step(step).decl) else {
                continue;
            };
            let (number, would) = match prediction.decision {
                Decision::Run => (0, "would run"),
                Decision::Maybe => (1, "may run"),
                Decision::Keep => (2, ""),
            };
            target.counts[number] += 1;
            if prediction.decision != Decision::Keep && target.open.len() < MOST_STEPS {
                let why = because(project, &order, predictions, prediction);
                let name = project.step_name(step);
                target.open.push(format!("{name} {would}: {why}"));
            }
        }
    }
    let found = of_decls.into_iter().filter_map(|(number, mut target)| {
        target.goals = goals(project, names.get(&number)?);
        Some((header(number), target))
    });
    (found.collect(), kept)
}

/// Names or a pattern for exactly these steps.
fn goals(project: &Project<'_>, names: &[&str]) -> Vec<String> {
    if let [one] = names {
        return vec![(*one).to_owned()];
    }
    let first = names[0];
    let all_begin = |length: usize| {
        names
            .iter()
            .all(|name| name.as_bytes().get(..length) == first.as_bytes().get(..length))
    };
    let all_end = |length: usize| {
        let end = &first[first.len() - length..];
        names.iter().all(|name| name.ends_with(end))
    };
    let bounds = |length: &usize| first.is_char_boundary(*length);
    let begins = (0..=first.len())
        .rev()
        .filter(bounds)
        .find(|&at| all_begin(at));
    let begins = begins.unwrap_or(0);
    let least = names.iter().map(|name| name.len()).min().unwrap_or(0);
    let ends = (0..=least - begins)
        .rev()
        .filter(|length| first.is_char_boundary(first.len() - length))
        .find(|&length| all_end(length));
    let ends = ends.unwrap_or(0);
    let crosses = names
        .iter()
        .any(|name| name[begins..name.len() - ends].contains('/'));
    let any = if crosses { "**" } else { "*" };
    let begin = escape(&first[..begins]);
    let end = escape(&first[first.len() - ends..]);
    let pattern = format!("{begin}{any}{end}");
    let outputs = project.sorted_outputs.iter();
    let outputs = outputs.filter(|&&path| {
        let name = project.paths.get(path);
        name.starts_with(&first[..begins])
    });
    let is_exact = Pattern::compile(&pattern).is_ok_and(|pattern| {
        let matched = outputs.filter(|&&path| pattern.matches(project.paths.get(path)));
        matched.count() == names.len()
    });
    match is_exact {
        true => vec![pattern],
        false if names.len() <= MOST_STEPS => names.iter().map(|&name| name.to_owned()).collect(),
        false => Vec::new(),
    }
}

/// What is said of a target, with what it would do now.
pub fn with_target(before: &str, target: Option<&TargetOutlook>) -> String {
    let Some(target) = target else {
        return format!("{before}\n\nWhat it would do is known once no mistake is left.");
    };
    let [run, may, kept] = target.counts;
    let steps = match target.steps {
        1 => "one step".to_owned(),
        count => format!("{count} steps"),
    };
    let counts: Vec<String> = [(run, "would run"), (may, "may run"), (kept, "kept")]
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, what)| format!("{count} {what}"))
        .collect();
    let mut text = format!("{before}\n\n{steps}: {}", counts.join(", "));
    if !target.open.is_empty() {
        let mut lines = target.open.clone();
        let more = (run + may).saturating_sub(lines.len());
        if more > 0 {
            lines.push(format!("… and {more} more"));
        }
        text.push_str(&format!("\n```\n{}\n```", lines.join("\n")));
    }
    text
}
