//! The language of `hand.loom`: from text to a syntax tree.
//!
//! [`parse`] never fails: it gives the tree of what it understood and a diagnostic for each mistake,
//! going on at the next line after one. The tree knows nothing of files or of values; it is as
//! written, with spans. What it means is worked out by [`crate::project`].
//!
//! The text is read in lines (`lines`), each line in words (`words`), except for raw text after
//! a keyword's colon (`raw`). Which lines belong to which is told by indentation alone.

mod clauses;
mod conditions;
mod foreign_syntax;
mod header;
mod lets;
mod lines;
mod names;
mod outline;
mod parameters;
mod parser;
mod raw;
mod references;
mod short_clauses;
mod syntax;
mod tidy;
mod unread;
mod value_syntax;
mod words;

pub use names::CLAUSES;
pub use names::RESERVED;
pub use names::SELECTORS;
pub use names::TOP;
pub use names::VALUE_FORMS;
pub use names::is_name;
pub use outline::OutlineItem;
pub use outline::item_digest;
pub use outline::outline;
pub use outline::structure_digest;
pub use parser::Parsed;
pub use parser::parse;
pub use parser::parse_item;
pub use parser::parse_item_strictly;
pub use parser::parse_words;
pub use references::condition_words;
pub use references::script_names;
pub use references::value_words;
pub use references::word_names;
pub use references::word_references;
pub use syntax::*;
pub use tidy::tidy;
pub use unread::target_of;
pub use value_syntax::*;

#[cfg(test)]
mod tests;
