//! What may be a name.

/// The keywords at the top level.
pub const TOP: &[&str] = &[
    "let", "default", "target", "task", "include", "recipes", "env", "supply", "setting",
    "language",
];

/// The keywords of clauses.
pub const CLAUSES: &[&str] = &[
    "about", "needs", "after", "each", "learn", "given", "let", "env", "in", "when", "takes",
    "limit", "retry", "on", "terminal", "remember", "sealed", "store", "always", "resumes",
    "guarded", "fleeting", "stays", "ready", "steps", "finally", "recipe",
];

/// What may stand first behind the `=` of a `let`, and says what kind of value it is.
pub const VALUE_FORMS: &[&str] = &[
    "files", "env", "output", "secret", "match", "only", "value", "lines", "table",
];

/// The parts of a value that `@{name.part}` takes, besides numbers.
pub const SELECTORS: &[&str] = &[
    "dir", "name", "stem", "ext", "first", "rest", "count", "joined",
];

/// The names a recipe has without a `let`.
pub const RESERVED: &[&str] = &[
    "needs", "target", "learn", "extra", "here", "os", "arch", "root",
];

/// Whether a text is a name: letters, digits, `_`, `-`; first a letter or `_`.
pub fn is_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && text
            .chars()
            .all(|c| c.is_alphanumeric() || c == '_' || c == '-')
}

/// Length in bytes of the name at the start of a text, 0 if there is none.
pub fn name_length(text: &str) -> usize {
    // Nearly all names are ASCII.
    let plain = text
        .bytes()
        .position(|b| !(b.is_ascii_alphanumeric() || b == b'_' || b == b'-'))
        .unwrap_or(text.len());
    let begins_well = text
        .bytes()
        .next()
        .is_some_and(|b| b.is_ascii_alphabetic() || b == b'_');
    if begins_well && text.as_bytes().get(plain).is_none_or(u8::is_ascii) {
        return plain;
    }
    if !text.starts_with(|c: char| c.is_alphabetic() || c == '_') {
        return 0;
    }
    text.find(|c: char| !(c.is_alphanumeric() || c == '_' || c == '-'))
        .unwrap_or(text.len())
}
