//! The names that a task's clauses and its recipe know.

use crate::language::Group;
use crate::language::Let;
use crate::language::condition_words;
use crate::language::value_words;
use crate::language::word_names;
use crate::project::decl::TaskDecl;
use crate::project::decl::own_let;
use crate::project::frame::Frame;
use crate::project::model::Project;
use crate::project::model::TaskNode;
use crate::project::paths::relative;
use crate::project::script::run_folder;
use crate::project::script::set_groups;
use crate::project::task_call::TaskCall;
use crate::project::task_call::choices;
use crate::project::task_call::needs_value;
use crate::project::value::Value;
use crate::project::values::Vars;

/// The names of a task that its clauses know before anything of it is resolved: its parameters, where it was asked
/// for, and variables of its own. Parameters that must be given and are not are left out.
pub fn call_frame<'a, 'd: 'a>(
    vars: &Vars<'d>,
    decl: &'a TaskDecl<'d>,
    call: &TaskCall,
) -> Option<Frame<'a>> {
    let mut frame = Frame::of(decl.part);
    for parameter in &decl.syntax.parameters {
        let name = &*parameter.name.text;
        let value = match (call.values.get(name), &parameter.default) {
            (Some(values), _) => Value {
                list: parameter.rest,
                ..Value::list(values.iter().map(String::as_str))
            },
            (None, Some(default)) => vars.word(default, &frame)?,
            (None, None) if parameter.rest => Value::list::<&str>([]),
            (None, None) => match choices(vars, decl, parameter).first() {
                Some(first) => Value::word(first.as_str()),
                None => continue,
            },
        };
        frame.set(name, value);
    }
    frame.set("extra", Value::list(call.extra.iter().map(String::as_str)));
    frame.set("here", Value::word(vars.environment.here()));
    let missing = call.missing(decl);
    for definition in &decl.clauses.lets {
        if !missing.is_empty() && !knows_all(vars, definition, &frame) {
            continue;
        }
        own_let(vars, definition, &mut frame)?;
    }
    Some(frame)
}

/// Whether all names of a definition have a value.
fn knows_all(vars: &Vars<'_>, definition: &Let, frame: &Frame<'_>) -> bool {
    let when = definition.when.iter().flat_map(condition_words);
    let words = value_words(&definition.value);
    let mut names = words.into_iter().chain(when).flat_map(word_names);
    names.all(|name| frame.local(name).is_some() || vars.has_value(frame.part, name))
}

/// The names a task's recipe knows; a parameter that must be given and is not is reported.
pub fn task_frame<'a, 'd: 'a>(
    vars: &Vars<'d>,
    project: &Project<'d>,
    task: &'a TaskNode<'d>,
) -> Option<Frame<'a>> {
    let decl = &task.decl;
    if let Some(missing) = task.call.missing(decl).first() {
        vars.report(needs_value(vars, decl, missing));
        return None;
    }
    let mut frame = call_frame(vars, decl, &task.call)?;
    let folder = run_folder(vars, decl.clauses.folder, &frame)?;
    let needs: Vec<(u16, String)> = project
        .open_needs(&task.needs)
        .map(|(group, path)| (group, relative(project.paths.get(path), &folder)))
        .collect();
    let single = |group: &Group| match &group.items[..] {
        [item] => vars.word(&item.word, &frame).is_some_and(|value| {
            !value.list && value.atoms.iter().all(|atom| atom.pattern.is_none())
        }),
        _ => false,
    };
    let singles: Vec<bool> = decl
        .clauses
        .needs
        .iter()
        .map(|group| single(group))
        .collect();
    let one_word = |group: &Group| {
        let mut groups = decl.clauses.needs.iter();
        let at = groups.position(|known| std::ptr::eq(*known, group));
        at.is_some_and(|at| singles[at])
    };
    set_groups(
        &mut frame,
        "needs",
        &decl.clauses.needs,
        &needs,
        one_word,
        true,
    );
    Some(frame)
}
