//! What stands behind `except`: patterns of what is left out.

use crate::language::Word;
use crate::project::frame::Frame;
use crate::project::paths::from_root;
use crate::project::pattern::Pattern;
use crate::project::pattern::escape;
use crate::project::pattern::fill_holes;
use crate::project::values::Vars;

/// Patterns of what is left out; none for nothing.
#[derive(Clone, Debug, Default)]
pub struct Excluded {
    patterns: Vec<Pattern>,
    /// Their sources, for telling one from another.
    pub key: String,
    /// Whether one of them is that of a folder.
    has_folders: bool,
}

impl Excluded {
    /// Whether nothing is left out.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.patterns.is_empty()
    }

    /// Whether a path is left out: itself, or with a folder around it.
    #[must_use]
    pub fn leaves_out(&self, path: &str) -> bool {
        let matches = |path: &str| self.patterns.iter().any(|pattern| pattern.matches(path));
        if self.patterns.is_empty() {
            return false;
        }
        let mut folders = path.match_indices('/').map(|(at, _)| &path[..=at]);
        matches(path) || self.has_folders && folders.any(matches)
    }
}

impl Vars<'_> {
    /// The patterns behind `except`. Holes that a frame knows are filled, others take whatever stands there.
    pub(super) fn excluded(&self, words: &[Word], frame: &Frame<'_>) -> Option<Excluded> {
        let mut excluded = Excluded::default();
        let folder = escape(&self.description.parts[frame.part.index()].folder);
        for word in words {
            for atom in self.word(word, frame)?.atoms.iter() {
                let source = atom.source();
                let local = |name: &str| {
                    let value = frame.local(name)?;
                    value.atoms.first().map(|atom| &*atom.text)
                };
                let (filled, _) = fill_holes(&source, local);
                let source = from_root(&folder, &filled);
                excluded.patterns.push(self.pattern(&source, word.span)?);
                excluded.has_folders |= source.ends_with('/');
                excluded.key.push('\0');
                excluded.key.push_str(&source);
            }
        }
        Some(excluded)
    }
}
