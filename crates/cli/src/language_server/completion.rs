//! What may stand where somebody types.

use std::collections::BTreeMap;

use lsp_types::CompletionItem;
use lsp_types::CompletionItemKind;
use lsp_types::CompletionTextEdit;
use lsp_types::Documentation;
use lsp_types::MarkupContent;
use lsp_types::MarkupKind;
use lsp_types::TextEdit;

use handloom_core::language::CLAUSES;
use handloom_core::language::RESERVED;
use handloom_core::language::SELECTORS;
use handloom_core::language::TOP;
use handloom_core::text::Span;
use handloom_core::world::Disk;
use handloom_core::world::FileKind;

use crate::language_server::card;
use crate::language_server::names::NameIndex;
use crate::language_server::outlook::Outlook;
use crate::language_server::positions::range;

/// Clauses and items whose words are files, targets or tasks.
const NAMING: [&str; 8] = [
    "needs", "after", "steps", "default", "finally", "include", "in", "learn",
];

/// Keywords behind which raw text stands, on the same line or below.
const RAW: [&str; 4] = ["recipe", "ready", "finally", "about"];

/// No more is offered at once.
const MOST: usize = 500;

/// Where somebody types, and what is known there.
pub struct CompletionQuestion<'a> {
    /// The whole text.
    pub text: &'a str,
    /// The byte that the cursor is in front of.
    pub at: usize,
    /// The same in its source.
    pub place: Span,
    /// The names of the description.
    pub index: &'a NameIndex<'a>,
    /// What the last good state of the project holds.
    pub outlook: &'a Outlook,
    /// The project's files.
    pub disk: &'a dyn Disk,
    /// The folder of the part that is typed in, from the root.
    pub folder: &'a str,
}

/// What is offered.
pub fn offered(asked: &CompletionQuestion<'_>) -> Vec<CompletionItem> {
    let start = asked.text[..asked.at].rfind('\n').map_or(0, |at| at + 1);
    let line = &asked.text[start..asked.at];
    if let Some(open) = line.rfind("@{").filter(|&open| !line[open..].contains('}')) {
        return asked.variables(&line[open + 2..]);
    }
    let typed_from = line.rfind(char::is_whitespace).map_or(0, |at| {
        at + line[at..].chars().next().map_or(1, char::len_utf8)
    });
    let typed = &line[typed_from..];
    let before = line[..typed_from].trim_start();
    let is_indented = line.starts_with([' ', '\t']);
    if is_raw(asked.text, start, asked.at) {
        return Vec::new();
    }
    if before.is_empty() {
        let (keywords, kind) = match is_indented {
            true => (CLAUSES, CompletionItemKind::PROPERTY),
            false => (TOP, CompletionItemKind::KEYWORD),
        };
        let mut offered = asked.words(keywords, typed, kind);
        for one in &mut offered {
            let forms = card::forms(&one.label, is_indented);
            one.documentation = forms.map(|value| {
                Documentation::MarkupContent(MarkupContent {
                    kind: MarkupKind::Markdown,
                    value,
                })
            });
        }
        if is_indented && asked.is_below_naming(start) {
            // Words below a clause may go on with it.
            offered.extend(asked.names(typed));
        }
        return offered;
    }
    let first = before.split([' ', '\t', ':']).next().unwrap_or_default();
    let has_colon = before.contains(": ") || before.ends_with(':');
    if RAW.contains(&first) && has_colon {
        return Vec::new();
    }
    let line = asked.text[start..].lines().next().unwrap_or_default();
    let words: Vec<&str> = before.split_whitespace().collect();
    if let Some(offered) = asked.of_data(&words, typed, line) {
        return offered;
    }
    if let Some(offered) = asked.of_line(&words, typed) {
        return offered;
    }
    match NAMING.contains(&first) {
        true => asked.names(typed),
        false => Vec::new(),
    }
}

impl CompletionQuestion<'_> {
    /// Offers each in place of what was typed.
    pub(super) fn items<'l>(
        &self,
        typed: &str,
        offered: impl Iterator<Item = (&'l str, CompletionItemKind)>,
    ) -> Vec<CompletionItem> {
        // Found once: a text is long, and many may be offered.
        let range = range(self.text, self.at - typed.len(), self.at);
        let item = |(label, kind): (&str, CompletionItemKind)| CompletionItem {
            label: label.to_owned(),
            kind: Some(kind),
            text_edit: Some(CompletionTextEdit::Edit(TextEdit {
                range,
                new_text: label.to_owned(),
            })),
            ..CompletionItem::default()
        };
        offered.map(item).collect()
    }

    pub(super) fn words(
        &self,
        words: &[&str],
        typed: &str,
        kind: CompletionItemKind,
    ) -> Vec<CompletionItem> {
        let words = words.iter().filter(|word| word.starts_with(typed));
        self.items(typed, words.map(|word| (*word, kind)))
    }

    /// What may stand behind `@{`.
    fn variables(&self, typed: &str) -> Vec<CompletionItem> {
        let typed = typed.strip_prefix("raw ").unwrap_or(typed);
        if let Some((_, part)) = typed.rsplit_once('.') {
            return self.words(SELECTORS, part, CompletionItemKind::METHOD);
        }
        let seen = self.index.seen_from(self.place);
        let own = seen.iter().map(String::as_str);
        let all = own.chain(RESERVED.iter().copied());
        let all = all.filter(|name| name.starts_with(typed));
        self.items(typed, all.map(|name| (name, CompletionItemKind::VARIABLE)))
    }

    /// Targets, tasks and files, up to the next folder, as they are seen from the part's folder.
    pub(super) fn names(&self, typed: &str) -> Vec<CompletionItem> {
        let mut found: BTreeMap<String, CompletionItemKind> = BTreeMap::new();
        let own = self.outlook.names.iter();
        let tasks = self.index.tasks();
        for (name, kind) in own
            .map(|name| (name.as_str(), CompletionItemKind::FILE))
            .chain(tasks.map(|name| (name, CompletionItemKind::FUNCTION)))
        {
            let Some(name) = name.strip_prefix(self.folder) else {
                continue;
            };
            let Some(rest) = name.strip_prefix(typed) else {
                continue;
            };
            match rest.find('/') {
                Some(at) if at + 1 < rest.len() => {
                    let folder = name[..typed.len() + at + 1].to_owned();
                    found.insert(folder, CompletionItemKind::FOLDER);
                }
                _ => {
                    found.insert(name.to_owned(), kind);
                }
            }
        }
        let (folder, begun) = typed.rsplit_once('/').unwrap_or(("", typed));
        let folder = if folder.is_empty() {
            String::new()
        } else {
            format!("{folder}/")
        };
        let is_above = typed.starts_with('/') || folder.split('/').any(|name| name == "..");
        let listed = match is_above {
            true => Vec::new(),
            false => self
                .disk
                .list(&format!("{}{folder}", self.folder))
                .unwrap_or_default(),
        };
        for entry in listed {
            let name = &*entry.name;
            // Hidden files are somebody's own, until one is begun to be typed.
            if !name.starts_with(begun) || name.starts_with('.') && begun.is_empty() {
                continue;
            }
            let (name, kind) = match entry.kind {
                FileKind::Folder => (format!("{folder}{name}/"), CompletionItemKind::FOLDER),
                _ => (format!("{folder}{name}"), CompletionItemKind::FILE),
            };
            found.entry(name).or_insert(kind);
        }
        let found = found.iter().take(MOST);
        self.items(typed, found.map(|(name, kind)| (name.as_str(), *kind)))
    }

    /// Whether the line above that is indented less begins with a clause that names files.
    fn is_below_naming(&self, start: usize) -> bool {
        let line = self.text[start..].split('\n').next().unwrap_or_default();
        let own = line.len() - line.trim_start().len();
        let mut above = above(self.text, start);
        above
            .find(|(indent, _)| *indent < own)
            .is_some_and(|(indent, line)| {
                let first = line.split([' ', ':']).next().unwrap_or_default();
                indent > 0 && NAMING.contains(&first)
            })
    }
}

/// The lines above a byte, from the nearest, with how far each is indented; blank ones left out.
fn above(text: &str, start: usize) -> impl Iterator<Item = (usize, &str)> {
    let lines = text[..start].lines().rev();
    lines
        .filter(|line| !line.trim().is_empty())
        .map(|line| (line.len() - line.trim_start().len(), line.trim()))
}

/// Whether the line that begins at a byte lies in the raw text of a recipe; an empty one as far in as the cursor is.
pub fn is_raw(text: &str, start: usize, at: usize) -> bool {
    let line = text[start..].split('\n').next().unwrap_or_default();
    let mut least = match line.trim().is_empty() {
        true => at - start,
        false => line.len() - line.trim_start().len(),
    };
    for (indent, above) in above(text, start) {
        if indent >= least {
            continue;
        }
        least = indent;
        let first = above.split([' ', ':']).next().unwrap_or_default();
        if RAW.contains(&first) && above.ends_with(':') {
            return true;
        }
        if indent == 0 {
            return false;
        }
    }
    false
}
