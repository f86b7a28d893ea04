//! Every kind of mistake that a description or a run can be told of: its code, what it is, and how to mend it.
//!
//! The constructors of [`Diagnostic`](crate::text::Diagnostic) take one of these, so that no message is without, and
//! `docs/mistakes.md` is written from them. A code stays what it is once it has been released.

mod meaning;
mod running;
mod writing;

pub use meaning::*;
pub use running::*;
pub use writing::*;

/// What the messages of one kind have in common.
#[derive(Debug, PartialEq, Eq)]
pub struct Mistake {
    /// Its stable name, in small letters with `-` between the words.
    pub code: &'static str,
    /// What it is, and why it is one.
    pub what: &'static str,
    /// How it is mended.
    pub mend: &'static str,
}

/// All of them with the heading that they stand under in the documents, in the order that they are read in.
pub const ALL: [(&str, &[&Mistake]); 3] = [
    ("How it is written", writing::ALL),
    ("What it means", meaning::ALL),
    ("Settings and runs", running::ALL),
];

/// Declares mistakes, and `ALL` of a file.
macro_rules! mistakes {
    ($($name:ident $code:literal: $what:literal; $mend:literal)*) => {
        $(
            #[doc = $what]
            pub static $name: $crate::text::mistakes::Mistake = $crate::text::mistakes::Mistake {
                code: $code,
                what: $what,
                mend: $mend,
            };
        )*

        /// All that stand in this file.
        pub(super) const ALL: &[&$crate::text::mistakes::Mistake] = &[$(&$name),*];
    };
}
use mistakes;
