//! What is asked of a word after `needs`, `after`, `steps` or `default`.

use crate::project::excluded::Excluded;
use crate::project::values::Vars;

/// What a word may stand for.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Means {
    /// Files alone.
    Files,
    /// Files and tasks: patterns match the names of both, and one that matches nothing is a mistake.
    Both,
}

/// What is asked of a word.
#[derive(Clone, Copy)]
pub struct Asked<'e> {
    /// What it may stand for.
    pub means: Means,
    /// What is left out; none for nothing.
    pub except: Option<&'e Excluded>,
}

impl<'e> Asked<'e> {
    /// With nothing left out.
    pub fn of(means: Means) -> Self {
        let except = None;
        Self { means, except }
    }

    pub fn without(self, except: &'e Excluded) -> Self {
        let except = (!except.is_empty()).then_some(except);
        Self { except, ..self }
    }

    pub fn leaves_out(&self, vars: &Vars<'_>, folder: &str, text: &str) -> bool {
        let leaves_out = |except: &Excluded| except.leaves_out(&vars.from_root(folder, text));
        self.except.is_some_and(leaves_out)
    }
}

/// The values that fill holes.
pub struct Fill<'a> {
    pub decl: usize,
    pub holes: &'a [String],
    pub values: &'a [&'a str],
}
