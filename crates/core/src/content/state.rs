//! What stands at a path, as those who read it and as the step that made it see it.
//!
//! For a plain file both are the same: its content, and whether it may be run. They differ where
//! symbolic links are: whoever reads a link sees what it says and what stands at its end; the step that
//! made it only made what it says, and a change at its end is none of its business.

use crate::world::Digest;

/// What stands at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// Nothing.
    Missing,
    /// A file, or a whole folder where the path ends with a slash.
    Content(Digest),
    /// A link, or a folder with links in it.
    Linked(Box<Linked>),
    /// Something else than the path says: a folder where a file is named, or the other way round.
    WrongKind,
    /// It is there, but cannot be read.
    Unreadable(String),
}

/// A link, or a folder with links in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Linked {
    /// With what stands at the ends of links: what a reader sees.
    pub seen: Digest,
    /// With links as what they say: what its step made.
    pub own: Digest,
    /// What stands at a link's end, where that is known: what ledgers before version 02 recorded.
    pub end: Option<Digest>,
    /// Whether it is a link that leads to nothing.
    pub dangling: bool,
}

impl State {
    /// The content's digest, as a reader sees it.
    #[must_use]
    pub fn digest(&self) -> Option<Digest> {
        match self {
            Self::Content(digest) => Some(*digest),
            Self::Linked(linked) => Some(linked.seen),
            _ => None,
        }
    }

    /// The content's digest, as the step that makes it left it.
    #[must_use]
    pub fn own_digest(&self) -> Option<Digest> {
        match self {
            Self::Linked(linked) => Some(linked.own),
            _ => self.digest(),
        }
    }

    /// Whether something is there that a reader finds nothing behind.
    #[must_use]
    pub fn is_dangling(&self) -> bool {
        matches!(self, Self::Linked(linked) if linked.dangling)
    }
}

/// The digest of a file that may be run, from that of its bytes, and back again: what a file may be used
/// for belongs to its content.
#[must_use]
pub fn as_executable(digest: Digest) -> Digest {
    // Any fixed mask does: that two files' digests differ by just it is as unlikely as that they are equal.
    const MASK: [u8; 32] = *b"may be run: part of the content.";
    let mut mixed = digest.0;
    for (byte, mask) in mixed.iter_mut().zip(MASK) {
        *byte ^= mask;
    }
    Digest(mixed)
}
