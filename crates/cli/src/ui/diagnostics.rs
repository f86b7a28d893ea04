//! Diagnostics drawn: the line, the place marked, what to do.

use annotate_snippets::AnnotationKind;
use annotate_snippets::Group;
use annotate_snippets::Level;
use annotate_snippets::Renderer;
use annotate_snippets::Snippet;

use handloom_core::text::Diagnostic;
use handloom_core::text::Label;
use handloom_core::text::Severity;
use handloom_core::text::SourceId;
use handloom_core::text::Sources;

use crate::ui::text::safe;
use crate::ui::text::safe_lines;

/// More than this is cut off: the first mistakes are those to mend first.
const MOST: usize = 20;

/// All diagnostics, one below the other.
pub fn render(sources: &Sources, diagnostics: &[Diagnostic], colour: bool) -> String {
    let mut out = String::new();
    for diagnostic in diagnostics.iter().take(MOST) {
        out.push_str(&one(sources, diagnostic, colour));
        out.push_str("\n\n");
    }
    if diagnostics.len() > MOST {
        out.push_str(&format!("… and {} more\n\n", diagnostics.len() - MOST));
    }
    out
}

fn one(sources: &Sources, diagnostic: &Diagnostic, colour: bool) -> String {
    let level = match diagnostic.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
    };
    let title = level
        .primary_title(safe(&diagnostic.title))
        .id(diagnostic.mistake.code);
    let help = diagnostic
        .help
        .as_deref()
        .map(|help| Level::HELP.message(safe_lines(help)));
    let group = match &diagnostic.primary {
        None => Group::with_title(title),
        Some(primary) => title.elements(snippets(sources, primary, &diagnostic.context)),
    };
    let group = match help {
        Some(help) => group.element(help),
        None => group,
    };
    let renderer = if colour {
        Renderer::styled()
    } else {
        Renderer::plain()
    };
    renderer.render(&[group])
}

/// One snippet for each source that has a label; the primary's comes first.
fn snippets<'s>(
    sources: &'s Sources,
    primary: &'s Label,
    context: &'s [Label],
) -> Vec<Snippet<'s, annotate_snippets::Annotation<'s>>> {
    let mut files: Vec<SourceId> = vec![primary.span.source];
    for label in context {
        if !files.contains(&label.span.source) {
            files.push(label.span.source);
        }
    }
    files
        .into_iter()
        .map(|file| {
            let labels: Vec<(AnnotationKind, &Label)> =
                std::iter::once((AnnotationKind::Primary, primary))
                    .chain(context.iter().map(|label| (AnnotationKind::Context, label)))
                    .filter(|(_, label)| label.span.source == file)
                    .collect();
            snippet(sources, file, &labels)
        })
        .collect()
}

fn snippet<'s>(
    sources: &'s Sources,
    file: SourceId,
    labels: &[(AnnotationKind, &'s Label)],
) -> Snippet<'s, annotate_snippets::Annotation<'s>> {
    let source = sources.get(file);
    // Only the lines around the labels are handed over: a description may have millions.
    let first = labels
        .iter()
        .map(|(_, label)| label.span.start as usize)
        .min()
        .unwrap_or(0);
    let last = labels
        .iter()
        .map(|(_, label)| label.span.end as usize)
        .max()
        .unwrap_or(0);
    let start = source.text[..first].rfind('\n').map_or(0, |at| at + 1);
    let end = source.text[last..]
        .find('\n')
        .map_or(source.text.len(), |at| last + at);
    let line = source.text[..start].bytes().filter(|&b| b == b'\n').count() + 1;
    let mut snippet = Snippet::source(&source.text[start..end])
        .line_start(line)
        .path(safe(&source.name));
    for (kind, label) in labels {
        let range = label.span.start as usize - start..label.span.end as usize - start;
        let text = (!label.text.is_empty()).then(|| safe_lines(&label.text));
        snippet = snippet.annotation(kind.span(range).label(text));
    }
    snippet
}
