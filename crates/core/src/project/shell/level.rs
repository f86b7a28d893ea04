//! What a shell has open at a place in a script, one inside the other.

/// What is open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShellKind {
    /// The script itself.
    Top,
    /// Commands inside `$(…)` or `(…)`.
    Paren,
    /// Commands inside backquotes.
    Back,
    /// `"…"`
    Double,
    /// `'…'`
    Single,
    /// `$'…'`, which not all shells know.
    Ansi,
    /// `${…}`
    Brace,
    /// `$((…))`, `((…))`
    Arithmetic,
    /// `# …`
    Comment,
}

/// Where in a `case` one is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum CasePart {
    /// Before its `in`.
    Head,
    /// In a pattern, so many brackets deep.
    Pattern(usize),
    /// In a pattern behind the bracket that may stand in front of it.
    Opened(usize),
    /// In the commands behind a pattern.
    Body,
}

#[derive(Clone, Debug)]
pub(super) struct Level {
    pub(super) kind: ShellKind,
    /// Whether a word here would be a command, or a word that begins or ends a compound one.
    pub(super) at_command: bool,
    pub(super) cases: Vec<CasePart>,
    /// Brackets that are open in arithmetic.
    pub(super) brackets: usize,
    /// Whether one bracket of the two that end arithmetic was met.
    pub(super) half_closed: bool,
    /// Whether a backslash stood in these backquotes: what is behind it is read twice.
    pub(super) has_backslash: bool,
    /// Whether it is part of a word: `$(…)` and not `(…)`.
    pub(super) in_word: bool,
    /// Whether nothing stood in it yet.
    pub(super) is_fresh: bool,
}

impl Level {
    pub(super) fn of(kind: ShellKind) -> Self {
        Self {
            kind,
            at_command: matches!(kind, ShellKind::Top | ShellKind::Paren | ShellKind::Back),
            cases: Vec::new(),
            brackets: 0,
            half_closed: false,
            has_backslash: false,
            in_word: false,
            is_fresh: true,
        }
    }
}
