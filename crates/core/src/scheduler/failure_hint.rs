//! What may have been meant, when a failed script has something in it that looks like a variable.

use crate::graph::Node;
use crate::graph::Position;
use crate::scheduler::pass_view::PassView;

/// `$cc` or `<unit>` in a script, where the description has a variable or a hole of that name.
pub fn hint(view: &PassView<'_, '_>, position: Position, script: &str) -> Option<String> {
    let (part, holes): (_, &[String]) = match view.node(position) {
        Node::Step(step) => {
            let decl = view.project.decl(view.project.step(step));
            (decl.part, &decl.holes)
        }
        Node::Task(task) => (view.project.tasks[task.index()].decl.part, &[]),
        Node::Set(_) => return None,
    };
    let hole = holes
        .iter()
        .find(|hole| script.contains(&format!("<{hole}>")));
    if let Some(hole) = hole {
        return Some(format!(
            "in a recipe what `<{hole}>` stands for is written `@{{{hole}}}`"
        ));
    }
    for (at, _) in script.match_indices('$') {
        let rest = script[at + 1..].trim_start_matches('{');
        let length = rest
            .find(|c: char| !(c.is_alphanumeric() || c == '_' || c == '-'))
            .unwrap_or(rest.len());
        let name = &rest[..length];
        let is_set = script.contains(&format!("{name}="));
        if !name.is_empty()
            && !is_set
            && (view.vars.is_known(part, name) || holes.iter().any(|hole| hole == name))
        {
            return Some(format!(
                "`${name}` is the shell's own; the variable of the description is written `@{{{name}}}`"
            ));
        }
    }
    None
}
