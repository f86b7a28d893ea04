//! Words from other habits, and what to write instead.

use crate::language::names::CLAUSES;
use crate::language::names::is_name;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::language::syntax::WordPart;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::nearest;

/// A line at the left edge that starts with no keyword.
pub fn unknown_top(span: Span, keyword: &str, line: &str, known: &[&str]) -> Diagnostic {
    let title = format!("`{}` is not a keyword", shorten(keyword));
    let error = Diagnostic::error(&mistakes::UNKNOWN_KEYWORD, span, title);
    let name = line
        .split(['=', '+', ':', ' ', '\t'])
        .next()
        .unwrap_or_default();
    let rest = line[name.len()..].trim_start();
    if let Some(value) = rest
        .strip_prefix("+=")
        .or_else(|| rest.strip_prefix(":="))
        .or_else(|| rest.strip_prefix('='))
        && is_name(name)
    {
        let operator = if rest.starts_with('+') { "+=" } else { "=" };
        let value = value.trim();
        let meant = format!("let {name} {operator} {value}");
        return error
            .help(format!("to set a variable write `{meant}`"))
            .instead(whole(span, line), meant);
    }
    if CLAUSES.contains(&keyword) {
        return error.here("a clause").help(format!(
            "indent the line, below the `target` or `task` that `{keyword}` belongs to"
        ));
    }
    if let Some(near) = nearest(keyword, known.iter().copied()) {
        let help = format!("did you mean `{near}`?");
        return error.help(help).instead(span.part(0, keyword.len()), near);
    }
    if let Some((files, needs)) = line.split_once(':') {
        let (files, needs) = (files.trim(), needs.trim());
        let meant = match needs {
            "" => format!("target {files}"),
            needs => format!("target {files}\n  needs {needs}"),
        };
        let clause = if needs.is_empty() {
            String::new()
        } else {
            format!(", and below it, indented, `needs {needs}`")
        };
        return error
            .help(format!("to describe a file write `target {files}`{clause}"))
            .perhaps(whole(span, line), meant);
    }
    error.help(format!(
        "a line at the left edge starts with one of: {}",
        known.join(", ")
    ))
}

/// The place of a line that begins with a word at this place.
fn whole(first: Span, line: &str) -> Span {
    let length = u32::try_from(line.trim_end().len()).unwrap_or(u32::MAX);
    Span {
        end: first.start.saturating_add(length),
        ..first
    }
}

/// An indented line in a `target` or `task` that starts with no clause's keyword.
pub fn unknown_clause(span: Span, keyword: &str, line: &str, owner: &str) -> Diagnostic {
    let error = Diagnostic::error(
        &mistakes::UNKNOWN_CLAUSE,
        span,
        format!("`{}` is not a clause", shorten(keyword)),
    );
    let bare = keyword.trim_end_matches(':');
    let value = line[keyword.len().min(line.len())..].trim();
    if bare == "uses" {
        return error
            .help(format!("it is called `takes` now: write `takes {value}`"))
            .instead(span.part(0, keyword.len()), "takes");
    }
    let supply = match bare {
        "cores" | "threads" | "cpus" => Some(("cores", value)),
        "memory" | "mem" | "ram" => Some(("memory", value)),
        "lock" | "mutex" => Some((value, "1")),
        _ => None,
    };
    if let Some((name, amount)) = supply
        && is_name(name)
    {
        let amount = amount.trim_start_matches('=').trim();
        let amount = if amount.is_empty() { "1" } else { amount };
        let say = if matches!(name, "cores" | "memory") {
            String::new()
        } else {
            format!(", and at the left edge `supply {name} = 1`")
        };
        let meant = format!("takes {name}={amount}");
        return error
            .help(format!("what a step takes is written `{meant}`{say}"))
            .perhaps(whole(span, line), meant);
    }
    if let Some(near) = nearest(bare, CLAUSES.iter().copied()) {
        let help = format!("did you mean `{near}`?");
        return error.help(help).instead(span.part(0, bare.len()), near);
    }
    let mut words = line.split_whitespace();
    let looks_like_files = words.clone().all(|word| word.contains(['/', '.', '*']))
        && words.next().is_some_and(|word| !word.starts_with('-'));
    if looks_like_files && owner == "target" {
        return error
            .help(format!("to list prerequisites write `needs {line}`"))
            .perhaps(span.part(0, 0), "needs ");
    }
    error
        .help(format!(
            "to run a command write `recipe: {line}`; the clauses are: {}",
            CLAUSES.join(", ")
        ))
        .perhaps(span.part(0, 0), "recipe: ")
}

/// `$NAME`, `${NAME}` or `$(NAME)` in a word, where nothing would ever put in its value.
pub fn dollar(word: &Word, written: &str) -> Option<Diagnostic> {
    if !written.contains('$') {
        return None;
    }
    let found = match &word.kind {
        WordKind::Plain => dollar_name(written),
        WordKind::Mixed(parts) => parts.iter().find_map(|part| match part {
            WordPart::Text {
                text,
                quoted: false,
            } => dollar_name(text),
            _ => None,
        }),
    };
    let (shown, name) = found?;
    Some(
        Diagnostic::error(&mistakes::DOLLAR_NAME, word.span, format!("`{shown}` is not put in here"))
            .help(format!("write `@{{{name}}}` for a variable of the description, `env {name} or …` in a `let` for one of the environment, or '…' for a literal `$`"))
            .perhaps(word.span.of(written, shown), format!("@{{{name}}}")),
    )
}

fn dollar_name(text: &str) -> Option<(&str, &str)> {
    let at = text.find('$')?;
    let rest = &text[at + 1..];
    let (open, close) = match rest.chars().next()? {
        '{' => (1, '}'),
        '(' => (1, ')'),
        c if c.is_alphabetic() || c == '_' => (0, '\0'),
        _ => return None,
    };
    let inner = &rest[open..];
    let length = if open == 1 {
        inner.find(close)?
    } else {
        inner
            .find(|c: char| !(c.is_alphanumeric() || c == '_'))
            .unwrap_or(inner.len())
    };
    let name = inner[..length].trim();
    is_name(name).then(|| (&text[at..at + 1 + open * 2 + length], name))
}

fn shorten(word: &str) -> String {
    if word.chars().count() <= 40 {
        return word.to_owned();
    }
    let start: String = word.chars().take(37).collect();
    format!("{start}…")
}
