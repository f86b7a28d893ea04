//! What an editor shows between the lines: what can be done with a target or task, and what words come to.

use lsp_types::CodeLens;
use lsp_types::Command;
use lsp_types::InlayHint;
use lsp_types::InlayHintLabel;
use lsp_types::Range;
use serde_json::json;

use handloom_core::language::Let;
use handloom_core::language::TopItem;
use handloom_core::language::ValueSyntax;
use handloom_core::language::WordKind;
use handloom_core::language::target_of;
use handloom_core::text::Span;

use crate::language_server::answers::range_of;
use crate::language_server::goals;
use crate::language_server::outlook::Outlook;
use crate::language_server::outlook::header_of;
use crate::language_server::server::Opened;

/// What can be done with each target and task of a file: `weave` and `why`, `run`.
pub fn lenses(opened: &Opened<'_>, outlook: Option<&Outlook>) -> Vec<CodeLens> {
    let sources = &opened.description.sources;
    let folder = opened.project.root.to_string_lossy();
    let mut lenses = Vec::new();
    let mut add = |span: Span, title: &str, words: Vec<String>, asks: Vec<String>| {
        let command = Command {
            title: title.to_owned(),
            command: "handloom.start".to_owned(),
            arguments: Some(vec![
                json!({"folder": folder, "words": words, "asks": asks}),
            ]),
        };
        let start = range_of(sources, span).start;
        lenses.push(CodeLens {
            range: Range::new(start, start),
            command: Some(command),
            data: None,
        });
    };
    for part in &opened.description.parts {
        let items = part.items.iter().zip(&part.extents);
        for (item, extent) in items.filter(|(_, extent)| extent.source == opened.source) {
            if let TopItem::Task(task) = item {
                let name = format!("{}{}", part.folder, task.name.text);
                let parameters = goals::parameters(task).into_iter();
                let asks = parameters.filter(|one| one.required).map(|one| one.name);
                let asks: Vec<String> = asks.collect();
                let title = if asks.is_empty() { "run" } else { "run …" };
                add(*extent, title, vec!["run".to_owned(), name], asks);
                continue;
            }
            let Some(target) = target_of(item, sources) else {
                continue;
            };
            let header = header_of(sources, &part.folder, target);
            let known = outlook.and_then(|outlook| outlook.targets.get(&header));
            let goals = match known {
                Some(known) => known.goals.clone(),
                None if is_plain(&header) => vec![header],
                None => Vec::new(),
            };
            if goals.is_empty() {
                continue;
            }
            let words = |verb: &str| {
                let verb = std::iter::once(verb.to_owned());
                verb.chain(goals.iter().cloned()).collect()
            };
            add(*extent, "weave", words("weave"), Vec::new());
            // Of one step all reasons, of several what would become of each.
            let one = known.is_none_or(|known| known.steps == 1) && goals.len() == 1;
            let ask = if one { "why" } else { "preview" };
            add(*extent, ask, words(ask), Vec::new());
        }
    }
    lenses
}

/// Whether words are a path as they stand.
fn is_plain(words: &str) -> bool {
    !words.contains(['<', '@', '*', '?', '[', '{', '"', '\'', ' '])
}

/// What variables come to, behind the lines that give them, and how many steps a target has.
pub fn values(opened: &Opened<'_>, outlook: Option<&Outlook>) -> Vec<InlayHint> {
    let Some(outlook) = outlook else {
        return Vec::new();
    };
    let sources = &opened.description.sources;
    let mut hints = Vec::new();
    for part in &opened.description.parts {
        let items = part.items.iter().zip(&part.extents);
        for (item, extent) in items.filter(|(_, extent)| extent.source == opened.source) {
            let text = match item {
                TopItem::Let(given) if !is_literal(given) => {
                    let name = format!("{}{}", part.folder, given.name.text);
                    let value = outlook.values.get(&name);
                    value.map(|value| match value.count {
                        0 => "= nothing".to_owned(),
                        1 => format!("= {}", value.text),
                        count => format!("= {} ({count})", value.text),
                    })
                }
                _ => target_of(item, sources).and_then(|target| {
                    let known = outlook
                        .targets
                        .get(&header_of(sources, &part.folder, target))?;
                    (known.steps != 1).then(|| format!("{} steps", known.steps))
                }),
            };
            let Some(text) = text else { continue };
            let start = extent.start as usize;
            let first = opened.text()[start..].lines().next().unwrap_or_default();
            let end = start + first.trim_end().len();
            hints.push(InlayHint {
                position: range_of(sources, opened.span(end)).start,
                label: InlayHintLabel::String(text),
                kind: None,
                text_edits: None,
                tooltip: None,
                padding_left: Some(true),
                padding_right: None,
                data: None,
            });
        }
    }
    hints
}

/// Whether a variable is given the words that stand there.
fn is_literal(given: &Let) -> bool {
    match &given.value {
        ValueSyntax::Words(words) => {
            given.when.is_none() && words.iter().all(|word| word.kind == WordKind::Plain)
        }
        ValueSyntax::Secret(_) => true,
        _ => false,
    }
}
