//! What is told of the place under the pointer.

use lsp_types::Range;

use handloom_core::language::ClauseKind;
use handloom_core::language::TopItem;
use handloom_core::language::ValueSyntax;
use handloom_core::language::Word;
use handloom_core::language::target_of;
use handloom_core::project::Description;
use handloom_core::project::pattern::Pattern;
use handloom_core::project::pattern::is_pattern;
use handloom_core::text::Span;

use crate::language_server::answers::range_of;
use crate::language_server::card;
use crate::language_server::completion::is_raw;
use crate::language_server::matched::PatternQuestion;
use crate::language_server::names::NameIndex;
use crate::language_server::names::Named;
use crate::language_server::outlook::Outlook;
use crate::language_server::outlook::header_of;
use crate::language_server::server::Opened;

/// What is said at once.
pub struct Said {
    /// As Markdown.
    pub text: String,
    /// The place that it is said of.
    pub range: Range,
    /// What more is to be worked out.
    pub more: Option<More>,
}

/// What takes longer than to read the description.
pub enum More {
    /// What a target would do, by its header.
    Target(String),
    /// What a pattern matches.
    Pattern(PatternQuestion),
}

/// What is known of a place.
pub fn at(
    opened: &Opened<'_>,
    index: &NameIndex<'_>,
    at: Span,
    outlook: Option<&Outlook>,
) -> Option<Said> {
    if index.at(at).is_some() {
        return name(opened, index, at, outlook);
    }
    path(opened, index, at, outlook).or_else(|| keyword(opened, at))
}

/// What the keyword that a line begins with is for; in a script's own text there is none.
fn keyword(opened: &Opened<'_>, at: Span) -> Option<Said> {
    let text = opened.text();
    let start = text[..at.start as usize]
        .rfind('\n')
        .map_or(0, |end| end + 1);
    let line = text[start..].lines().next().unwrap_or_default();
    let indent = line.len() - line.trim_start().len();
    let word = line[indent..].split(|character: char| !character.is_alphabetic());
    let word = word.into_iter().next().unwrap_or_default();
    let (from, to) = (start + indent, start + indent + word.len());
    let is_on_it = (from..=to).contains(&(at.start as usize));
    let is_raw = || is_raw(text, start, to);
    if !is_on_it || indent > 0 && is_raw() {
        return None;
    }
    Some(Said {
        text: card::forms(word, indent > 0)?,
        range: range_of(
            &opened.description.sources,
            opened.span(from).to(opened.span(to)),
        ),
        more: None,
    })
}

/// What is told of the name at a place: what it comes to, and the lines that give it.
fn name(
    opened: &Opened<'_>,
    index: &NameIndex<'_>,
    at: Span,
    outlook: Option<&Outlook>,
) -> Option<Said> {
    let description = opened.description;
    let sources = &description.sources;
    let found = index.at(at)?;
    let mut value = None;
    let title = match &found.named {
        Named::Variable(part, name) => {
            let folder = &description.parts[part.index()].folder;
            let name = format!("{folder}{name}");
            value = outlook.and_then(|outlook| outlook.values.get(&name));
            format!("variable `{name}`")
        }
        Named::Own(_, _, name) => format!("`{name}`, a name of this description alone"),
        Named::Task(name) => format!("task `{name}`"),
    };
    let mut lines = Vec::new();
    let given = index.places_of(&found.named);
    for one in given.filter(|one| one.is_definition) {
        let text = &sources.get(one.span.source).text;
        let start = text[..one.span.start as usize]
            .rfind('\n')
            .map_or(0, |at| at + 1);
        let line = text[start..].lines().next().unwrap_or_default();
        let place = sources.name_and_line(one.span);
        lines.push(format!("{}\n  # {place}", line.trim_end()));
    }
    let used = index.places_of(&found.named);
    let used = match used.filter(|one| !one.is_definition).count() {
        0 => "not used".to_owned(),
        1 => "used once".to_owned(),
        count => format!("used {count} times"),
    };
    let value = value.map_or(String::new(), |value| match value.count {
        0 => "It is empty.\n\n".to_owned(),
        1 => format!("It is `{}`.\n\n", value.text),
        count => format!("It has {count} words: `{}`.\n\n", value.text),
    });
    Some(Said {
        text: format!("{title}, {used}\n\n{value}```\n{}\n```", lines.join("\n")),
        range: range_of(sources, found.span),
        more: None,
    })
}

/// What is told of a path or a pattern.
fn path(
    opened: &Opened<'_>,
    index: &NameIndex<'_>,
    at: Span,
    outlook: Option<&Outlook>,
) -> Option<Said> {
    let description = opened.description;
    let sources = &description.sources;
    let part = &description.parts[index.part_at(at).index()];
    let items = part.items.iter().zip(&part.extents);
    let holds =
        |span: Span| span.source == at.source && span.start <= at.start && at.start <= span.end;
    let mut items = items.filter(|(_, extent)| holds(**extent));
    let (item, _) = items.next()?;
    let mut words: Vec<&Word> = Vec::new();
    if let Some(target) = target_of(item, sources) {
        let mut made = target.outputs.iter().flat_map(|group| &group.items);
        if let Some(item) = made.find(|item| holds(item.word.span)) {
            let written = sources.slice(item.word.span);
            return Some(Said {
                text: format!("target `{}{written}`", part.folder),
                range: range_of(sources, item.word.span),
                more: Some(More::Target(header_of(sources, &part.folder, target))),
            });
        }
        needed(&target.clauses, &mut words);
    }
    match item {
        TopItem::Task(task) => needed(&task.clauses, &mut words),
        TopItem::Default(named) => words.extend(named),
        TopItem::Let(given) => {
            if let ValueSyntax::Files { patterns, .. } = &given.value {
                words.extend(patterns);
            }
        }
        _ => {}
    }
    let word = words.into_iter().find(|word| holds(word.span))?;
    let written = sources.slice(word.span);
    if written.contains("@{") || written.starts_with(['"', '\'']) {
        return None;
    }
    let path = format!("{}{written}", part.folder);
    let range = range_of(sources, word.span);
    let said = |text: String, more: Option<More>| Some(Said { text, range, more });
    if is_pattern(&path) || written.contains('<') {
        let compiled = Pattern::compile(&path).ok()?;
        let made = outlook.iter().flat_map(|outlook| &outlook.names);
        let made = made.filter(|name| compiled.matches(name)).cloned();
        let made = made.collect();
        let pattern = path;
        let more = More::Pattern(PatternQuestion { pattern, made });
        return said(String::new(), Some(more));
    }
    let made = made_by(description, &path);
    if let Some((place, header)) = made {
        return said(
            format!("`{path}`, made by the target at {place}"),
            Some(More::Target(header)),
        );
    }
    let is_made = outlook.is_some_and(|outlook| outlook.names.contains(&path));
    let is_there = matches!(opened.project.disk().stat(&path), Ok(Some(_)));
    let what = match (is_made, is_there) {
        (true, _) => "made by a target",
        (false, true) => "a source",
        (false, false) => "not there, and no target makes it",
    };
    said(format!("`{path}`, {what}"), None)
}

fn needed<'w>(clauses: &'w [handloom_core::language::Clause], words: &mut Vec<&'w Word>) {
    for clause in clauses {
        match &clause.kind {
            ClauseKind::Needs(groups) => {
                let items = groups.iter().flat_map(|group| &group.items);
                words.extend(items.map(|item| &item.word));
            }
            ClauseKind::After(named) | ClauseKind::Steps(named) => words.extend(named),
            _ => {}
        }
    }
}

/// The target that names a path as it is: its place and its header.
fn made_by(description: &Description, path: &str) -> Option<(String, String)> {
    let sources = &description.sources;
    description.parts.iter().find_map(|part| {
        let items = part.items.iter();
        let mut targets = items.filter_map(|item| target_of(item, sources));
        let target = targets.find(|target| {
            let mut words = target.outputs.iter().flat_map(|group| &group.items);
            words.any(|item| format!("{}{}", part.folder, sources.slice(item.word.span)) == path)
        })?;
        let place = sources.name_and_line(target.span);
        Some((place, header_of(sources, &part.folder, target)))
    })
}
