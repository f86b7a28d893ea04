//! The names that are known in one place: those of a step or a task, then those of its part.

use crate::project::description::PartId;
use crate::project::value::Value;

/// Names of a target, task or step, in front of its part's variables.
#[derive(Clone, Debug)]
pub struct Frame<'a> {
    /// The part whose variables are seen.
    pub part: PartId,
    /// Own names; a later one hides an earlier one.
    pub locals: Vec<(&'a str, Value)>,
}

impl<'a> Frame<'a> {
    /// No names but the part's.
    #[must_use]
    pub fn of(part: PartId) -> Self {
        Self {
            part,
            locals: Vec::new(),
        }
    }

    /// A name's own value.
    #[must_use]
    pub fn local(&self, name: &str) -> Option<&Value> {
        self.locals
            .iter()
            .rev()
            .find(|(known, _)| *known == name)
            .map(|(_, value)| value)
    }

    /// Adds a name.
    pub fn set(&mut self, name: &'a str, value: Value) {
        self.locals.push((name, value));
    }
}
