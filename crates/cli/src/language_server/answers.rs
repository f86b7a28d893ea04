//! What is answered to an editor's questions, from the text alone: nothing is run, nothing is written.

use std::collections::BTreeMap;
use std::collections::HashMap;

use lsp_types::CodeAction;
use lsp_types::CodeActionKind;
use lsp_types::DiagnosticRelatedInformation;
use lsp_types::DiagnosticSeverity;
use lsp_types::DocumentSymbol;
use lsp_types::FoldingRange;
use lsp_types::Hover;
use lsp_types::HoverContents;
use lsp_types::Location;
use lsp_types::MarkupContent;
use lsp_types::MarkupKind;
use lsp_types::NumberOrString;
use lsp_types::OneOf;
use lsp_types::Position;
use lsp_types::Range;
use lsp_types::SymbolKind;
use lsp_types::TextEdit;
use lsp_types::Uri;
use lsp_types::WorkspaceEdit;
use lsp_types::WorkspaceSymbol;

use handloom_core::language::TopItem;
use handloom_core::language::is_name;
use handloom_core::language::target_of;
use handloom_core::language::tidy;
use handloom_core::project::Description;
use handloom_core::text::Diagnostic;
use handloom_core::text::Replacement;
use handloom_core::text::SourceId;
use handloom_core::text::Sources;
use handloom_core::text::Span;

use crate::language_server::names::NameIndex;
use crate::language_server::positions::range;
use crate::language_server::positions::uri_of;
use crate::language_server::project_text::ProjectText;

/// A pattern with more open places is not looked through.
const MOST_OPEN: usize = 6;

/// The place of a span in its text.
pub fn range_of(sources: &Sources, span: Span) -> Range {
    Range::new(
        position_of(sources, span.source, span.start),
        position_of(sources, span.source, span.end),
    )
}

/// The place of a byte, by the source's own table of lines: there may be thousands of places in one answer.
fn position_of(sources: &Sources, source: SourceId, at: u32) -> Position {
    let place = sources.place(Span {
        source,
        start: at,
        end: at,
    });
    let before = &sources.get(source).text[..at as usize];
    let start = before.rfind('\n').map_or(0, |at| at + 1);
    let number = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    Position::new(
        number(place.line - 1),
        number(before[start..].encode_utf16().count()),
    )
}

/// The file and place of a span.
pub fn location_of(project: &ProjectText, sources: &Sources, span: Span) -> Option<Location> {
    let uri = uri_of(&project.file_of(sources, span))?;
    Some(Location::new(uri, range_of(sources, span)))
}

/// What is wrong in each file of a project; of those without a mistake an empty list. What has no place stands at the top of the
/// project's own description.
pub fn diagnostics(
    project: &ProjectText,
    sources: &Sources,
    wrong: &[Diagnostic],
) -> BTreeMap<String, (Uri, Vec<lsp_types::Diagnostic>)> {
    let mut of_files = BTreeMap::new();
    for (_, source) in sources.iter() {
        if let Some(uri) = uri_of(&project.root.join(&source.name)) {
            of_files.insert(source.name.clone(), (uri, Vec::new()));
        }
    }
    for one in wrong {
        let span = one
            .primary
            .as_ref()
            .map_or(Span::default(), |label| label.span);
        if sources.iter().next().is_none() {
            continue;
        }
        let Some((_, list)) = of_files.get_mut(&sources.get(span.source).name) else {
            continue;
        };
        let related = one.context.iter().filter_map(|label| {
            Some(DiagnosticRelatedInformation {
                location: location_of(project, sources, label.span)?,
                message: label.text.clone(),
            })
        });
        let related: Vec<_> = related.collect();
        let here = one.primary.as_ref().map(|label| &*label.text);
        let more = [here, one.help.as_deref()].into_iter().flatten();
        let more = more.filter(|text| !text.is_empty());
        let lines: Vec<&str> = std::iter::once(&*one.title).chain(more).collect();
        list.push(lsp_types::Diagnostic {
            range: range_of(sources, span),
            severity: Some(match one.is_error() {
                true => DiagnosticSeverity::ERROR,
                false => DiagnosticSeverity::WARNING,
            }),
            code: Some(NumberOrString::String(one.mistake.code.to_owned())),
            source: Some("handloom".to_owned()),
            message: lines.join("\n"),
            related_information: (!related.is_empty()).then_some(related),
            ..lsp_types::Diagnostic::default()
        });
    }
    of_files
}

/// What an editor offers to do, in one line.
fn mend_title(replacement: &Replacement) -> String {
    let text = replacement.text.trim();
    match (text.split_once('\n'), replacement.span.is_empty()) {
        _ if text.is_empty() => "leave this out".to_owned(),
        (Some((first, _)), _) => format!("write `{} …`", first.trim_end()),
        (None, true) => format!("put `{text}` in"),
        (None, false) => format!("write `{text}`"),
    }
}

/// What mends the mistakes of a file in a range, each by itself.
pub fn mends(
    project: &ProjectText,
    sources: &Sources,
    wrong: &[Diagnostic],
    file: &Uri,
    asked: Range,
) -> Vec<CodeAction> {
    let mends = wrong.iter().filter_map(|one| {
        let replacement = one.replacement.as_ref()?;
        let place = location_of(project, sources, one.primary.as_ref()?.span)?;
        let edited = location_of(project, sources, replacement.span)?;
        let is_there = place.range.start <= asked.end && asked.start <= place.range.end;
        if place.uri != *file || edited.uri != *file || !is_there {
            return None;
        }
        let edit = TextEdit::new(edited.range, replacement.text.clone());
        // The protocol's type has its URIs as keys.
        #[expect(clippy::mutable_key_type, reason = "nothing in it changes")]
        let changes = HashMap::from([(file.clone(), vec![edit])]);
        Some(CodeAction {
            title: mend_title(replacement),
            kind: Some(CodeActionKind::QUICKFIX),
            is_preferred: Some(replacement.is_sure),
            edit: Some(WorkspaceEdit {
                changes: Some(changes),
                ..WorkspaceEdit::default()
            }),
            ..CodeAction::default()
        })
    });
    mends.collect()
}

/// What a file describes, in order: variables, targets, tasks and the parts that it includes.
pub fn symbols(description: &Description, source: SourceId) -> Vec<DocumentSymbol> {
    let sources = &description.sources;
    let items = description
        .parts
        .iter()
        .flat_map(|part| part.items.iter().zip(&part.extents))
        .filter(|(_, extent)| extent.source == source);
    let symbols = items.filter_map(|(item, extent)| {
        let (name, kind, at, detail) = match item {
            TopItem::Let(definition) => (
                definition.name.text.to_string(),
                SymbolKind::VARIABLE,
                definition.name.span,
                None,
            ),
            TopItem::Task(task) => {
                let names = task.parameters.iter();
                let names: Vec<&str> = names.map(|one| &*one.name.text).collect();
                (
                    task.name.text.to_string(),
                    SymbolKind::FUNCTION,
                    task.name.span,
                    (!names.is_empty()).then(|| names.join(" ")),
                )
            }
            TopItem::Target(_) | TopItem::Unread(_) => {
                let target = target_of(item, sources)?;
                let words = target.outputs.iter().flat_map(|group| &group.items);
                let mut spans = words.map(|item| item.word.span);
                let first = spans.next()?;
                let name = sources.slice(first).to_owned();
                let more = spans.count();
                let detail = (more > 0).then(|| format!("and {more} more"));
                (name, SymbolKind::FILE, first, detail)
            }
            _ => return None,
        };
        #[expect(deprecated, reason = "the protocol's type has the field")]
        Some(DocumentSymbol {
            name,
            detail,
            kind,
            tags: None,
            deprecated: None,
            range: range_of(sources, extent.to(at)),
            selection_range: range_of(sources, at),
            children: None,
        })
    });
    let mut symbols: Vec<DocumentSymbol> = symbols.collect();
    symbols.sort_by_key(|symbol| symbol.range.start);
    symbols
}

/// All that a project describes under a name that has these letters in it.
pub fn all_symbols(
    project: &ProjectText,
    description: &Description,
    asked: &str,
) -> Vec<WorkspaceSymbol> {
    let asked = asked.to_lowercase();
    let mut found = Vec::new();
    for (source, _) in description.sources.iter() {
        let Some(uri) = uri_of(&project.file_of(
            &description.sources,
            Span {
                source,
                ..Span::default()
            },
        )) else {
            continue;
        };
        let symbols = symbols(description, source).into_iter();
        let symbols = symbols.filter(|symbol| symbol.name.to_lowercase().contains(&asked));
        found.extend(symbols.map(|symbol| WorkspaceSymbol {
            name: symbol.name,
            kind: symbol.kind,
            tags: None,
            container_name: None,
            location: OneOf::Left(Location::new(uri.clone(), symbol.selection_range)),
            data: None,
        }));
    }
    found
}

/// What can be folded: each item of more than a line.
pub fn folds(description: &Description, source: SourceId) -> Vec<FoldingRange> {
    let extents = description.parts.iter().flat_map(|part| &part.extents);
    let ranges = extents.filter(|extent| extent.source == source);
    let ranges = ranges.map(|extent| range_of(&description.sources, *extent));
    let mut folds: Vec<FoldingRange> = ranges
        .filter(|range| range.end.line > range.start.line)
        .map(|range| FoldingRange {
            start_line: range.start.line,
            end_line: range.end.line,
            ..FoldingRange::default()
        })
        .collect();
    folds.sort_by_key(|fold| fold.start_line);
    folds
}

/// The whole text in the standard layout; no change when it is there already, or has mistakes.
pub fn formatted(text: &str) -> Vec<TextEdit> {
    match tidy(text) {
        Some(new_text) if new_text != text => vec![TextEdit {
            range: range(text, 0, text.len()),
            new_text,
        }],
        _ => Vec::new(),
    }
}

/// Where a name is given: all places, since several lines may add to a variable. Of a word that is a path, the targets that make
/// it.
pub fn definitions(
    project: &ProjectText,
    description: &Description,
    index: &NameIndex<'_>,
    at: Span,
) -> Vec<Location> {
    let sources = &description.sources;
    if let Some(found) = index.at(at) {
        let named = found.named.clone();
        let places = index.places_of(&named).filter(|one| one.is_definition);
        return places
            .filter_map(|one| location_of(project, sources, one.span))
            .collect();
    }
    let text = &sources.get(at.source).text;
    let Some(word) = word_around(text, at.start as usize) else {
        return Vec::new();
    };
    let folder = &description.parts[index.part_at(at).index()].folder;
    let word = format!("{folder}{word}");
    let makers = description.parts.iter().flat_map(|part| {
        let targets = part
            .items
            .iter()
            .filter_map(|item| target_of(item, sources));
        let words = targets.flat_map(|target| target.outputs.iter().flat_map(|group| &group.items));
        words.filter(|item| {
            let pattern = format!("{}{}", part.folder, sources.slice(item.word.span));
            matches(&pattern, &word)
        })
    });
    makers
        .filter_map(|item| location_of(project, sources, item.word.span))
        .collect()
}

/// Whether a path is one of those that a pattern stands for, as far as that can be told without values: holes and `*` are any text
/// without a slash, variables any text.
fn matches(pattern: &str, path: &str) -> bool {
    // Each may be tried with each length of the others.
    if pattern.matches(['<', '*', '@']).count() > MOST_OPEN {
        return false;
    }
    let Some(open) = pattern.find(['<', '*', '@']) else {
        return pattern == path;
    };
    let Some(rest) = path.strip_prefix(&pattern[..open]) else {
        return false;
    };
    let (end, crosses) = match pattern.as_bytes()[open] {
        b'<' => ('>', false),
        b'@' => ('}', true),
        _ => ('*', false),
    };
    let behind = pattern[open..]
        .find(end)
        .map(|at| &pattern[open + at + 1..]);
    let Some(behind) = behind else { return false };
    let longest = match crosses {
        true => rest.len(),
        false => rest.find('/').unwrap_or(rest.len()),
    };
    let lengths = (0..=longest).filter(|&length| rest.is_char_boundary(length));
    lengths
        .into_iter()
        .any(|length| matches(behind, &rest[length..]))
}

/// The word around a byte of a line.
fn word_around(text: &str, at: usize) -> Option<&str> {
    let ends = |character: char| character.is_whitespace() || matches!(character, '"' | '=' | ':');
    let start = text[..at].rfind(ends).map_or(0, |found| {
        found + text[found..].chars().next().map_or(1, char::len_utf8)
    });
    let end = text[at..].find(ends).map_or(text.len(), |found| at + found);
    (start < end).then(|| &text[start..end])
}

/// All places of the name at a place.
pub fn references(
    project: &ProjectText,
    description: &Description,
    index: &NameIndex<'_>,
    at: Span,
    with_definitions: bool,
) -> Vec<Location> {
    let Some(found) = index.at(at) else {
        return Vec::new();
    };
    let named = found.named.clone();
    let places = index.places_of(&named);
    let places = places.filter(|one| with_definitions || !one.is_definition);
    let mut all: Vec<Location> = places
        .filter_map(|one| location_of(project, &description.sources, one.span))
        .collect();
    all.sort_by(|one, other| {
        let key = |place: &Location| (place.uri.as_str().to_owned(), place.range.start);
        key(one).cmp(&key(other))
    });
    all.dedup();
    all
}

/// Gives the name at a place another one, wherever it stands.
///
/// # Errors
/// Why that can't be.
pub fn renamed(
    project: &ProjectText,
    description: &Description,
    index: &NameIndex<'_>,
    at: Span,
    new_name: &str,
) -> Result<WorkspaceEdit, String> {
    let found = index.at(at).ok_or("here is no name that can be changed")?;
    if !is_name(new_name) {
        return Err(format!(
            "`{new_name}` is no name: letters, digits, `_` and `-`, not a digit or `-` first"
        ));
    }
    if handloom_core::language::RESERVED.contains(&new_name) {
        return Err(format!("`{new_name}` is built in"));
    }
    let named = found.named.clone();
    if let Some(taken) = index.taken(&named, new_name) {
        let place = description.sources.name_and_line(taken);
        return Err(format!("there is a `{new_name}` already, at {place}"));
    }
    // The protocol's type has its URIs as keys.
    #[expect(clippy::mutable_key_type, reason = "nothing in it changes")]
    let mut changes: HashMap<Uri, Vec<TextEdit>> = HashMap::new();
    for place in references(project, description, index, at, true) {
        let edits = changes.entry(place.uri).or_default();
        edits.push(TextEdit::new(place.range, new_name.to_owned()));
    }
    Ok(WorkspaceEdit {
        changes: Some(changes),
        ..WorkspaceEdit::default()
    })
}

/// A text about a place, as the protocol has it.
pub fn markdown(value: String, range: Range) -> Hover {
    Hover {
        contents: HoverContents::Markup(MarkupContent {
            kind: MarkupKind::Markdown,
            value,
        }),
        range: Some(range),
    }
}
