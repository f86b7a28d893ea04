//! What stands behind `except`: patterns of what is left out.

use std::collections::HashMap;
use std::sync::Arc;

use crate::language::Word;
use crate::project::frame::Frame;
use crate::project::model::Project;
use crate::project::paths::PathId;
use crate::project::pattern::Pattern;
use crate::project::pattern::fill_holes;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::LeaveOut;

/// Patterns of what is left out; none for nothing.
#[derive(Clone, Debug, Default)]
pub struct Excluded {
    patterns: Vec<(String, Pattern)>,
    /// Their sources, for telling one from another.
    pub key: String,
    /// Whether one of them is that of a folder.
    has_folders: bool,
}

/// A folder that is compared as a whole, where it is named.
#[derive(Debug)]
pub struct FolderUse {
    /// The folder.
    pub path: PathId,
    /// What does not count of it.
    pub excluded: Excluded,
    /// The word that names it.
    pub span: Span,
    /// Whether that is the target that makes it.
    pub is_made: bool,
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
        let matches = |path: &str| {
            self.patterns
                .iter()
                .any(|(_, pattern)| pattern.matches(path))
        };
        if self.patterns.is_empty() {
            return false;
        }
        let mut folders = path.match_indices('/').map(|(at, _)| &path[..=at]);
        matches(path) || self.has_folders && folders.any(matches)
    }
}

impl Excluded {
    /// What of it may lie below a folder, whose path ends with a slash.
    #[must_use]
    pub fn below(&self, folder: &str) -> Self {
        let may_lie = |(_, pattern): &&(String, Pattern)| {
            let prefix = pattern.prefix();
            prefix.starts_with(folder) || folder.starts_with(prefix)
        };
        let patterns: Vec<_> = self.patterns.iter().filter(may_lie).cloned().collect();
        let sources = patterns.iter().map(|(source, _)| source.as_str());
        Self {
            key: sources.flat_map(|source| ["\0", source]).collect(),
            has_folders: self.has_folders,
            patterns,
        }
    }
}

/// Looks whether the same is left out of a folder wherever it is named; what is left out, by folders.
///
/// What a target leaves out of its folder counts for all that need it.
pub fn left_out(project: &Project<'_>, vars: &Vars<'_>) -> HashMap<String, LeaveOut> {
    if project
        .folder_uses
        .iter()
        .all(|used| used.excluded.is_empty())
    {
        return HashMap::new();
    }
    // Targets stand first.
    let mut rules: HashMap<PathId, &FolderUse> = HashMap::new();
    for used in &project.folder_uses {
        let first = *rules.entry(used.path).or_insert(used);
        let name = project.paths.get(used.path);
        let maker = project.maker(used.path);
        if used.is_made || maker.is_some() && used.excluded.is_empty() {
            continue;
        }
        if first.excluded.key == used.excluded.key && first.is_made == maker.is_some() {
            continue;
        }
        let wrong = match maker {
            Some(maker) => {
                let decl = project.step(maker).decl as usize;
                let target = project.decls[decl].syntax.span;
                let wrong =
                    format!("what is left out of `{name}` stands behind the target that makes it");
                Diagnostic::error(&mistakes::UNFIT_EXCEPT, used.span, wrong)
                    .also(target, "the target")
                    .help("leave `except` out here; what the target leaves out counts for all that need it")
            }
            None => {
                let wrong = format!(
                    "something else is left out of `{name}` here than where it is named first"
                );
                Diagnostic::error(&mistakes::UNFIT_EXCEPT, used.span, wrong)
                    .also(first.span, "first here")
                    .help("a folder is compared as one thing: leave the same out of it everywhere, or name the files in it")
            }
        };
        vars.report(wrong);
    }
    rules
        .into_iter()
        .filter(|(_, used)| !used.excluded.is_empty())
        .map(|(path, used)| {
            let excluded = used.excluded.clone();
            let rule: LeaveOut = Arc::new(move |path| excluded.leaves_out(path));
            (project.paths.get(path).to_owned(), rule)
        })
        .collect()
}

impl Vars<'_> {
    /// The patterns behind `except`. Holes that a frame knows are filled, others take whatever stands there.
    pub(super) fn excluded(&self, words: &[Word], frame: &Frame<'_>) -> Option<Excluded> {
        let mut excluded = Excluded::default();
        let folder = &self.description.parts[frame.part.index()].folder;
        for word in words {
            for atom in self.word(word, frame)?.atoms.iter() {
                let source = atom.source();
                let local = |name: &str| {
                    let value = frame.local(name)?;
                    value.atoms.first().map(|atom| &*atom.text)
                };
                let (filled, _) = fill_holes(&source, local);
                let source = self.source_from_root(folder, &filled);
                let pattern = self.pattern(&source, word.span)?;
                excluded.has_folders |= source.ends_with('/');
                excluded.key.push('\0');
                excluded.key.push_str(&source);
                excluded.patterns.push((source, pattern));
            }
        }
        Some(excluded)
    }
}
