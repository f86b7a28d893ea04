//! Which words of a text are keywords, and what its names stand for: an editor colours them so, above what its own grammar gives.

use lsp_types::Position;
use lsp_types::SemanticToken;
use lsp_types::SemanticTokenModifier;
use lsp_types::SemanticTokenType;
use lsp_types::SemanticTokensLegend;

use handloom_core::language::Clause;
use handloom_core::language::TopItem;
use handloom_core::language::target_of;
use handloom_core::project::Description;
use handloom_core::text::SourceId;
use handloom_core::text::Span;

use crate::language_server::answers::range_of;
use crate::language_server::names::NameIndex;
use crate::language_server::names::Named;

/// The kinds, in the order of the legend.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum TokenKind {
    Keyword,
    Variable,
    Own,
    Task,
}

/// What the numbers in the answer mean.
pub fn legend() -> SemanticTokensLegend {
    SemanticTokensLegend {
        token_types: vec![
            SemanticTokenType::KEYWORD,
            SemanticTokenType::VARIABLE,
            SemanticTokenType::PARAMETER,
            SemanticTokenType::FUNCTION,
        ],
        token_modifiers: vec![SemanticTokenModifier::DECLARATION],
    }
}

/// The tokens of a file, each by how far it is behind the one before it.
pub fn tokens(
    description: &Description,
    index: &NameIndex<'_>,
    source: SourceId,
) -> Vec<SemanticToken> {
    let mut found: Vec<(Span, TokenKind, bool)> = Vec::new();
    for part in &description.parts {
        let items = part.items.iter().zip(&part.extents);
        for (item, extent) in items.filter(|(_, extent)| extent.source == source) {
            let text = description.sources.slice(*extent);
            let keyword = text.split([' ', '\t', '\n']).next().unwrap_or_default();
            found.push((beginning(*extent, keyword.len()), TokenKind::Keyword, false));
            let clauses: &[Clause] = match item {
                TopItem::Task(task) => &task.clauses,
                _ => match target_of(item, &description.sources) {
                    Some(target) => &target.clauses,
                    None => &[],
                },
            };
            let keywords = clauses.iter().map(|clause| clause.span);
            found.extend(keywords.map(|span| (span, TokenKind::Keyword, false)));
        }
    }
    let names = index.occurrences.iter();
    for one in names.filter(|one| one.span.source == source) {
        let kind = match one.named {
            Named::Variable(..) => TokenKind::Variable,
            Named::Own(..) => TokenKind::Own,
            Named::Task(_) => TokenKind::Task,
        };
        found.push((one.span, kind, one.is_definition));
    }
    // One that is given in several ways at one place is told once, and none lies in another.
    found.sort_by_key(|(span, kind, is_definition)| (span.start, *kind, !is_definition));
    found.dedup_by(|next, before| next.0.start < before.0.end);
    let mut last = Position::new(0, 0);
    let placed = found.iter().map(|(span, kind, is_definition)| {
        let range = range_of(&description.sources, *span);
        let is_same_line = range.start.line == last.line;
        let token = SemanticToken {
            delta_line: range.start.line - last.line,
            delta_start: match is_same_line {
                true => range.start.character - last.character,
                false => range.start.character,
            },
            length: range.end.character.saturating_sub(range.start.character),
            token_type: *kind as u32,
            token_modifiers_bitset: u32::from(*is_definition),
        };
        last = range.start;
        token
    });
    placed.collect()
}

fn beginning(span: Span, length: usize) -> Span {
    let length = u32::try_from(length).unwrap_or(0);
    Span {
        end: span.start + length.min(span.end - span.start),
        ..span
    }
}
