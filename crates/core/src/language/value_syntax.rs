//! The syntax tree of values and conditions.

use crate::language::syntax::Name;
use crate::language::syntax::Word;
use crate::text::Span;

/// `let name …`
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Let {
    /// The variable.
    pub name: Name,
    /// `=`, `+=` or `one of`.
    pub how: LetHow,
    /// The value.
    pub value: ValueSyntax,
    /// Counts only when this holds.
    pub when: Option<Condition>,
    /// The whole definition.
    pub span: Span,
}

/// How a definition sets its variable.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LetHow {
    /// `=`: in place of what was before.
    Set,
    /// `+=`: behind what was before.
    Add,
    /// `one of`: the first word, and no other than these.
    OneOf,
}

/// The right side of a `let`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ValueSyntax {
    /// Words.
    Words(Vec<Word>),
    /// `files PATTERN… except PATTERN…`
    Files {
        /// What to look for.
        patterns: Vec<Word>,
        /// What to leave out.
        except: Vec<Word>,
    },
    /// `env NAME or words`
    Env {
        /// The environment variable.
        name: Word,
        /// Its value when it is not set; none makes that an error.
        or: Option<Vec<Word>>,
    },
    /// `output COMMAND…`
    Output(Vec<Word>),
    /// `secret NAME`: an environment variable whose value is never written down.
    Secret(Word),
    /// `match PATTERN into PATTERN : words`
    Match {
        /// What a word must match.
        from: Word,
        /// What it becomes.
        into: Word,
        /// The words.
        words: Vec<Word>,
    },
    /// `only PATTERN… : words`
    Only {
        /// What a word must match one of.
        patterns: Vec<Word>,
        /// The words.
        words: Vec<Word>,
    },
    /// `value FILE KEY`
    FileValue {
        /// The file.
        file: Word,
        /// The way to the value: each word is cut at its dots, unless it stands in quotes.
        key: Vec<Word>,
    },
    /// `lines FILE`
    FileLines(Word),
    /// `table FILE take COLUMN where CONDITION`
    Column {
        /// The file.
        file: Word,
        /// The column.
        take: Word,
        /// Which rows; none for all.
        rows: Option<RowCondition>,
    },
}

/// Which rows of a table count: a condition that has columns on its left sides.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowCondition {
    /// The place of `where`.
    pub span: Span,
    /// What must hold.
    pub condition: Condition,
}

/// A condition after `when`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Condition {
    /// Both hold.
    And(Box<Condition>, Box<Condition>),
    /// At least one holds.
    Or(Box<Condition>, Box<Condition>),
    /// It does not hold.
    Not(Box<Condition>),
    /// Two values compared.
    Compare(Vec<Word>, Comparison, Vec<Word>),
}

/// How a condition compares two values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    /// `A is B`: the same words in the same order.
    Is,
    /// `A is not B`
    IsNot,
    /// `A has B`: every word of B is one of A.
    Has,
    /// `A before B`: A comes first in the order of words, which is that of their bytes in UTF-8.
    Before,
    /// `A above B`: both are numbers, and A is the larger one.
    Above,
    /// `A below B`: both are numbers, and A is the smaller one.
    Below,
}

impl Comparison {
    /// All of them.
    pub const ALL: [Self; 6] = [
        Self::Is,
        Self::IsNot,
        Self::Has,
        Self::Before,
        Self::Above,
        Self::Below,
    ];

    /// The words between the two values.
    #[must_use]
    pub fn written(self) -> &'static str {
        match self {
            Self::Is => "is",
            Self::IsNot => "is not",
            Self::Has => "has",
            Self::Before => "before",
            Self::Above => "above",
            Self::Below => "below",
        }
    }
}
