//! What is set from outside of a description, and for nobody in it.

use crate::language::TopItem;
use crate::project::Description;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::text::nearest;

/// Variables set in the environment that the project does not have.
pub fn set_for_nobody(description: &Description) -> Vec<Diagnostic> {
    const PREFIX: &str = "HANDLOOM_LET_";
    let lets = description.parts.iter().flat_map(|part| &part.items);
    let known: Vec<String> = lets
        .filter_map(|item| match item {
            TopItem::Let(definition) => Some(definition.name.text.to_string()),
            _ => None,
        })
        .collect();
    let set = std::env::vars_os().filter_map(|(name, _)| {
        let name = name.into_string().ok()?;
        Some(name.strip_prefix(PREFIX)?.to_owned())
    });
    let mut unknown: Vec<String> = set
        .filter(|name| {
            !known
                .iter()
                .any(|known| known == name || known.replace('-', "_") == *name)
        })
        .collect();
    unknown.sort_unstable();
    unknown
        .iter()
        .map(|name| {
            let near = nearest(name, known.iter().map(String::as_str));
            Diagnostic::placeless_warning(
                &mistakes::UNKNOWN_VARIABLE,
                format!("`{PREFIX}{name}` is set, but the project has no variable `{name}`"),
            )
            .help(match near {
                Some(near) => format!("did you mean `{PREFIX}{}`?", near.replace('-', "_")),
                None => "`handloom settings` lists the variables".to_owned(),
            })
        })
        .collect()
}

/// Tasks at the root that can't be run by their name alone, since a command is called so.
pub fn named_like_commands<'d>(
    description: &'d Description,
    commands: &'d [String],
) -> impl Iterator<Item = &'d str> {
    let at_root = description
        .parts
        .iter()
        .filter(|part| part.folder.is_empty());
    let tasks = at_root
        .flat_map(|part| &part.items)
        .filter_map(|item| match item {
            TopItem::Task(task) => Some(&*task.name.text),
            _ => None,
        });
    tasks.filter(|name| commands.iter().any(|command| command == name))
}
