//! Patterns of one's own, for tools that speak as no other does.

use regex_lite::Regex;
use serde::Deserialize;

use crate::findings::Finding;
use crate::findings::FindingLevel;

/// What a line of a tool looks like: a regular expression with groups that are called `file`, `line` and `message`, and that may
/// have `column`, `level` and `code`.
#[derive(Clone, Debug, Deserialize)]
#[serde(try_from = "String")]
pub struct FindingPattern {
    text: String,
    expression: Regex,
}

/// Why a text is no pattern of findings.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FindingPatternError {
    /// It is no regular expression.
    #[error("`{0}` is no regular expression: {1}")]
    Expression(String, String),
    /// It has no group of this name.
    #[error("`{0}` has no group `(?<{1}>…)`")]
    Group(String, &'static str),
}

impl TryFrom<String> for FindingPattern {
    type Error = FindingPatternError;

    fn try_from(text: String) -> Result<Self, FindingPatternError> {
        let expression = match Regex::new(&text) {
            Ok(expression) => expression,
            Err(error) => return Err(FindingPatternError::Expression(text, error.to_string())),
        };
        for wanted in ["file", "line", "message"] {
            let mut names = expression.capture_names().flatten();
            if !names.any(|name| name == wanted) {
                return Err(FindingPatternError::Group(text, wanted));
            }
        }
        Ok(Self { text, expression })
    }
}

impl FindingPattern {
    /// The pattern as it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// What a line says of a file that counts.
    pub(super) fn read(
        &self,
        line: &str,
        file: &dyn Fn(&str) -> Option<String>,
    ) -> Option<Finding> {
        let groups = self.expression.captures(line)?;
        let group = |name| {
            let group = groups.name(name)?.as_str().trim();
            (!group.is_empty()).then_some(group)
        };
        let level = group("level").unwrap_or_default().to_lowercase();
        Some(Finding {
            level: match level.chars().next() {
                Some('w') => FindingLevel::Warning,
                Some('n' | 'i' | 'h') => FindingLevel::Note,
                _ => FindingLevel::Error,
            },
            file: file(group("file")?)?,
            line: group("line")?.parse().ok()?,
            column: group("column").and_then(|column| column.parse().ok()),
            code: group("code").map(str::to_owned),
            message: group("message")?.to_owned(),
        })
    }
}
