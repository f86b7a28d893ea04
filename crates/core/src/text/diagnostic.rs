//! What is wrong with a description, as data.

use crate::text::Span;
use crate::text::mistakes::Mistake;

/// Whether work can go on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Severity {
    /// The description cannot be used.
    Error,
    /// It can be used, but something is likely not meant.
    Warning,
}

/// A marked place with a short text at it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// The place.
    pub span: Span,
    /// What is there; may be empty.
    pub text: String,
}

/// What is most likely meant, and in place of what it is to be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Replacement {
    /// The place.
    pub span: Span,
    /// What is meant.
    pub text: String,
    /// Whether nothing else can well be meant: it may be written without looking at each.
    pub is_sure: bool,
}

/// One mistake: what is wrong, where, what else matters, and what to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// Its kind, which has a code and a paragraph in the documents.
    pub mistake: &'static Mistake,
    /// Error or warning.
    pub severity: Severity,
    /// What is wrong, in one line, with the value in backticks.
    pub title: String,
    /// The place that has to change.
    pub primary: Option<Label>,
    /// Other places that explain it: an earlier definition, the place of use.
    pub context: Vec<Label>,
    /// What to do, or what to type instead.
    pub help: Option<String>,
    /// The same for who can carry it out.
    pub replacement: Option<Replacement>,
}

impl Diagnostic {
    /// An error at a place.
    #[must_use]
    pub fn error(mistake: &'static Mistake, span: Span, title: impl Into<String>) -> Self {
        Self {
            mistake,
            severity: Severity::Error,
            title: title.into(),
            primary: Some(Label {
                span,
                text: String::new(),
            }),
            context: Vec::new(),
            help: None,
            replacement: None,
        }
    }

    /// An error that has no place in a text, such as one about a command line.
    #[must_use]
    pub fn placeless(mistake: &'static Mistake, title: impl Into<String>) -> Self {
        Self {
            mistake,
            severity: Severity::Error,
            title: title.into(),
            primary: None,
            context: Vec::new(),
            help: None,
            replacement: None,
        }
    }

    /// A warning at a place.
    #[must_use]
    pub fn warning(mistake: &'static Mistake, span: Span, title: impl Into<String>) -> Self {
        Self {
            severity: Severity::Warning,
            ..Self::error(mistake, span, title)
        }
    }

    /// A warning that has no place in a text.
    #[must_use]
    pub fn placeless_warning(mistake: &'static Mistake, title: impl Into<String>) -> Self {
        Self {
            severity: Severity::Warning,
            ..Self::placeless(mistake, title)
        }
    }

    /// Puts a text at the primary place.
    #[must_use]
    pub fn here(mut self, text: impl Into<String>) -> Self {
        if let Some(primary) = &mut self.primary {
            primary.text = text.into();
        }
        self
    }

    /// Adds another place.
    #[must_use]
    pub fn also(mut self, span: Span, text: impl Into<String>) -> Self {
        self.context.push(Label {
            span,
            text: text.into(),
        });
        self
    }

    /// Says what to do.
    #[must_use]
    pub fn help(mut self, text: impl Into<String>) -> Self {
        self.help = Some(text.into());
        self
    }

    /// Says what to do, where there is something to say.
    #[must_use]
    pub fn maybe_help(mut self, text: Option<String>) -> Self {
        if text.is_some() {
            self.help = text;
        }
        self
    }

    /// Says what is to be written in place of what stands there.
    #[must_use]
    pub fn instead(mut self, span: Span, text: impl Into<String>) -> Self {
        self.replacement = Some(Replacement {
            span,
            text: text.into(),
            is_sure: true,
        });
        self
    }

    /// Says what may be meant by what stands there, for somebody to choose.
    #[must_use]
    pub fn perhaps(self, span: Span, text: impl Into<String>) -> Self {
        let mut said = self.instead(span, text);
        if let Some(replacement) = &mut said.replacement {
            replacement.is_sure = false;
        }
        said
    }

    /// Whether it is an error.
    #[must_use]
    pub fn is_error(&self) -> bool {
        self.severity == Severity::Error
    }
}
