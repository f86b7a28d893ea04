//! What the path of a learned prerequisite speaks of.
//!
//! Most are files. Three forms that no file's path has stand for what a watched recipe sees besides: `src//` is the
//! names in the folder `src` (`.//` those in the root), `src/.` that the folder is there at all, and `src/./.` what `src`
//! says, which is a link to a folder. They lead the system to the folder itself, so that one look tells whether anything
//! came or went in it.

use crate::content::State;
use crate::world::Digest;

/// What a learned prerequisite is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LearnedPath<'p> {
    /// A file, by its path.
    File(&'p str),
    /// The names in a folder; empty for the root, others end with a slash.
    Names(&'p str),
    /// That a folder is there; without a slash at its end.
    Folder(&'p str),
    /// What a link to a folder says, and nothing of what lies there.
    Link(&'p str),
}

impl<'p> LearnedPath<'p> {
    /// What a path speaks of.
    #[must_use]
    pub fn of(path: &'p str) -> Self {
        if path == ".//" {
            Self::Names("")
        } else if let Some(folder) = path.strip_suffix('/').filter(|rest| rest.ends_with('/')) {
            Self::Names(folder)
        } else if let Some(link) = path.strip_suffix("/./.") {
            Self::Link(link)
        } else if let Some(folder) = path.strip_suffix("/.") {
            Self::Folder(folder)
        } else {
            Self::File(path)
        }
    }

    /// The path that speaks of the names in a folder, which has no slash at its end.
    #[must_use]
    pub fn names_in(folder: &str) -> String {
        let folder = if folder.is_empty() { "." } else { folder };
        format!("{folder}//")
    }

    /// The path that speaks of a folder being there.
    #[must_use]
    pub fn folder(folder: &str) -> String {
        format!("{folder}/.")
    }

    /// The path that speaks of what a link says.
    #[must_use]
    pub fn link(link: &str) -> String {
        format!("{link}/./.")
    }

    /// For people.
    #[must_use]
    pub fn shown(&self) -> String {
        match self {
            Self::File(path) | Self::Link(path) => (*path).to_owned(),
            Self::Names("") => "the names in the project's folder".to_owned(),
            Self::Names(folder) => format!("the names in {folder}"),
            Self::Folder(folder) => format!("{folder}/"),
        }
    }

    /// The file or folder itself, as a path without a slash at its end; empty for the root.
    #[must_use]
    pub fn place(&self) -> &'p str {
        match self {
            Self::File(path) | Self::Folder(path) | Self::Link(path) => path,
            Self::Names(folder) => folder.trim_end_matches('/'),
        }
    }
}

/// That a folder is there.
#[must_use]
pub fn folder_is_there() -> State {
    State::Content(Digest(*b"a folder is there, and no more. "))
}
