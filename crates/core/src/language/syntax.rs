//! The syntax tree: what was written, with places, before any value is known.

use std::sync::OnceLock;

use crate::language::value_syntax::Condition;
use crate::language::value_syntax::Let;
use crate::language::value_syntax::RowCondition;
use crate::text::SourceId;
use crate::text::Span;

/// A name with its place: letters, digits, `_` and `-`, not starting with a digit or `-`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Name {
    /// The name.
    pub text: Box<str>,
    /// Where it stands.
    pub span: Span,
}

/// One word of a value or a clause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Word {
    /// Where it stands.
    pub span: Span,
    /// What it is made of.
    pub kind: WordKind,
}

/// What a word is made of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WordKind {
    /// The text of the span as it stands: no quotes, no variables, no escapes.
    Plain,
    /// Several parts, or text that is not literally what the source has.
    Mixed(Vec<WordPart>),
}

/// A part of a word.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WordPart {
    /// Text; inside quotes its pattern characters are literal.
    Text {
        /// The text, escapes resolved.
        text: String,
        /// Whether it stood in quotes.
        quoted: bool,
    },
    /// A variable put in.
    Var(VarRef),
}

/// `@{raw name.select…}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VarRef {
    /// From `@` to `}`.
    pub span: Span,
    /// Put in as plain text, not quoted for the recipe's language.
    pub raw: bool,
    /// The variable.
    pub name: Name,
    /// Applied from left to right.
    pub select: Vec<Select>,
}

/// A part of a value: `.dir`, `.first`, `.joined(",")`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Select {
    /// Each word's folder, `.` when it has none.
    Dir,
    /// Each word's last component.
    Name,
    /// Each word's last component without its extension.
    Stem,
    /// Each word's extension, without the dot.
    Ext,
    /// The first word.
    First,
    /// All words but the first.
    Rest,
    /// How many words there are.
    Count,
    /// The word with this number, from 1.
    Nth(u32),
    /// All words in one, with this between them.
    Joined(String),
}

/// Words under a label, or before any label.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Group {
    /// The label, where there is one.
    pub label: Option<Name>,
    /// The words.
    pub items: Vec<Item>,
    /// Patterns of what is left out: the words behind `except`.
    pub except: Box<[Word]>,
}

/// A word that `each` may stand before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    /// One step for each match of this pattern.
    pub each: bool,
    /// The word.
    pub word: Word,
}

/// A whole description file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct File {
    /// In the order in which they stand.
    pub items: Vec<TopItem>,
    /// The lines of each.
    pub extents: Vec<Span>,
}

/// What stands at the top level.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TopItem {
    /// `language 1`
    Language(Word),
    /// `let …`
    Let(Box<Let>),
    /// `default WORDS`
    Default(Vec<Word>),
    /// `include PATH`
    Include(IncludeSyntax),
    /// `env NAME = WORDS`
    Env(Name, Vec<Word>),
    /// `env file FILE`
    EnvFile(EnvFile),
    /// `recipes with INTERPRETER…`
    Recipes(Vec<Word>),
    /// `supply NAME = N`
    Supply(Name, Word),
    /// `setting KEY = WORDS`
    Setting(Word, Vec<Word>),
    /// `target …`
    Target(Box<TargetSyntax>),
    /// A target that is not read before it is asked for.
    Unread(UnreadTarget),
    /// `task …`
    Task(Box<Task>),
}

/// `include PATH`, or `include PATH if there`
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IncludeSyntax {
    /// The folder or the file.
    pub path: Word,
    /// Whether it may be missing.
    pub if_there: bool,
}

/// `env file FILE`, or `env file FILE if there`
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EnvFile {
    /// The file: a line each, `NAME=value`.
    pub file: Word,
    /// Whether it may be missing.
    pub if_there: bool,
}

/// A target of a description that was read before, with the same text and without a mistake: its lines are known,
/// and read when it is first asked for ([`target_of`](crate::language::target_of)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnreadTarget {
    /// Its lines.
    pub(super) extent: Span,
    /// What they say, when they were read.
    pub(super) target: OnceLock<Option<Box<TargetSyntax>>>,
}

impl UnreadTarget {
    /// The target on these lines.
    #[must_use]
    pub fn on(extent: Span) -> Self {
        Self {
            extent,
            target: OnceLock::new(),
        }
    }
}

/// `target …` with its clauses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TargetSyntax {
    /// The first line.
    pub span: Span,
    /// What it makes.
    pub outputs: Vec<Group>,
    /// The clauses, in order.
    pub clauses: Vec<Clause>,
}

impl TargetSyntax {
    /// A target that says nothing.
    pub const NONE: Self = Self {
        span: Span {
            source: SourceId(0),
            start: 0,
            end: 0,
        },
        outputs: Vec::new(),
        clauses: Vec::new(),
    };
}

/// `task …` with its clauses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Task {
    /// The first line.
    pub span: Span,
    /// Its name.
    pub name: Name,
    /// Its parameters.
    pub parameters: Vec<Parameter>,
    /// The clauses, in order.
    pub clauses: Vec<Clause>,
}

/// A task's parameter: `edition`, `channel=draft`, `board one of uno mega`, or `files…`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Parameter {
    /// Its name.
    pub name: Name,
    /// Its value when none is given; without one it must be given.
    pub default: Option<Word>,
    /// The words that it may be, of which the first is its value when none is given; none for any.
    pub choices: Vec<Word>,
    /// Whether it takes all that is left, which may be nothing.
    pub rest: bool,
}

impl Parameter {
    /// Whether it must be given.
    #[must_use]
    pub fn is_required(&self) -> bool {
        self.default.is_none() && self.choices.is_empty() && !self.rest
    }
}

/// A clause with the place of its keyword.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clause {
    /// The keyword's place.
    pub span: Span,
    /// What it says.
    pub kind: ClauseKind,
}

/// What a clause says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ClauseKind {
    /// `about: text`
    About(String),
    /// `needs …`
    Needs(Vec<Group>),
    /// `after WORDS`
    After(Vec<Word>),
    /// `each name in WORDS`, or `each names in table FILE`
    Each(Box<EachClause>),
    /// `learn …`
    Learn(LearnHow, Option<Box<Word>>),
    /// `given env NAMES`
    GivenEnv(Vec<Word>),
    /// `given output COMMAND…`
    GivenOutput(Vec<Word>),
    /// `let …`
    Let(Box<Let>),
    /// `env NAME = WORDS`
    Env(Name, Vec<Word>),
    /// `in FOLDER`
    In(Word),
    /// `when CONDITION`
    When(Box<Condition>),
    /// `takes NAME=N …`
    Takes(Vec<(Name, Word)>),
    /// `limit 90s`
    Limit(Word),
    /// `retry 2`
    Retry(Word),
    /// `on PLACE`
    On(Word),
    /// `terminal`
    Terminal,
    /// `remember`
    Remember,
    /// `stays`
    Stays,
    /// `ready:`
    Ready(Box<Script>),
    /// `always`, `resumes`, `guarded` or `fleeting`
    Manner(Manner),
    /// `steps WORDS`
    Steps(Vec<Word>),
    /// `sealed`, or `sealed strictly`
    Sealed(SealHow),
    /// `store always`, or `store never`
    Store(StoreHow),
    /// `finally:`
    Finally(Box<Script>),
    /// `finally TASKS`
    FinallyTasks(Vec<Word>),
    /// `env file FILE`
    EnvFile(EnvFile),
    /// `recipe:`
    Recipe(Box<Script>),
}

/// A clause that gives a step for each of some values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EachClause {
    /// The names that the values get.
    pub names: Vec<Name>,
    /// Where they come from.
    pub from: EachSource,
}

/// Where the values of an `each` come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EachSource {
    /// `each name in WORDS`: one name.
    Words(Vec<Word>),
    /// `each names in table FILE where CONDITION`: each name is that of a column.
    Table {
        /// The file.
        file: Word,
        /// Which rows; none for all.
        rows: Option<RowCondition>,
    },
}

/// When a target is made again, and what becomes of what is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Manner {
    /// It runs whenever it is reached.
    Always,
    /// Its old outputs stay in place while it runs, also after a failure.
    Resumes,
    /// Once it is there it is made again only when that is asked for by name.
    Guarded,
    /// It is taken away when all that needs it is made, and made again only for what has to run.
    Fleeting,
}

impl Manner {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Always, Self::Resumes, Self::Guarded, Self::Fleeting];

    /// Its keyword.
    #[must_use]
    pub fn keyword(self) -> &'static str {
        match self {
            Self::Always => "always",
            Self::Resumes => "resumes",
            Self::Guarded => "guarded",
            Self::Fleeting => "fleeting",
        }
    }
}

/// Whether results are kept in the store.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum StoreHow {
    /// Also of a step that took little time.
    Always,
    /// Neither kept nor taken from it.
    Never,
}

/// How a recipe tells what it found out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum LearnHow {
    /// A compiler's dependency listing.
    Listing,
    /// A path a line.
    Lines,
    /// By watching what the recipe's processes read.
    Watched,
    /// The same, also outside of the project.
    WatchedEverywhere,
}

/// How far a recipe is shut off from what it does not name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum SealHow {
    /// What it does not name can't be read or written.
    Plainly,
    /// It does not even exist, and there is no network.
    Strictly,
}

/// The raw text of a `recipe:` or a `finally:`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Script {
    /// `with INTERPRETER…`
    pub with: Option<Vec<Word>>,
    /// The whole text's place.
    pub span: Span,
    /// Text and variables, in order.
    pub pieces: Vec<Piece>,
}

/// A piece of raw text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// As it stands, the common indentation taken off.
    Text(String),
    /// A variable put in.
    Var(VarRef),
}
