//! Matching what an `each` says: against sources on disk, against outputs, and in folders that are made as a
//! whole.

use crate::project::each::each_words;
use crate::project::excluded::Excluded;
use crate::project::expand::Expander;
use crate::project::model::Project;
use crate::project::paths::PathId;
use crate::project::pattern::Pattern;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use std::collections::HashMap;
use std::collections::HashSet;

/// One file that an `each` pattern matched, and what the pattern's holes took.
pub(super) struct Match {
    pub(super) path: PathId,
    pub(super) values: Vec<PathId>,
}

/// What a pattern goes through.
pub(super) struct FileSlot {
    pub(super) pattern: Pattern,
    /// The place of its word.
    pub(super) span: Span,
    /// For each of the pattern's holes its number among the target's.
    pub(super) holes: Vec<usize>,
    /// What it leaves out.
    pub(super) except: Excluded,
    /// The files that have the same in their holes make one step; none where each file makes one.
    pub(super) gathered: Option<GatheredFiles>,
    pub(super) matches: Vec<Match>,
    pub(super) seen: HashSet<PathId>,
}

pub(super) enum HoleSlot {
    Files(Box<FileSlot>),
    /// Rows of values, or words one by one.
    Rows {
        /// For each column its number among the target's holes.
        holes: Vec<usize>,
        /// Each different row once, in their order.
        rows: Vec<Vec<PathId>>,
    },
}

/// The files that a pattern with wildcards matches, by what its holes took.
pub(super) struct GatheredFiles {
    /// The pattern's source, seen from the root.
    pub(super) source: String,
    pub(super) of_values: HashMap<Vec<PathId>, Vec<PathId>>,
}

/// The `each`s of one target.
pub(super) struct Each {
    pub(super) decl: usize,
    pub(super) slots: Vec<HoleSlot>,
    /// Combinations that are steps already.
    pub(super) emitted: HashSet<Vec<PathId>>,
    /// How many matches of a single slot are steps already.
    pub(super) done: usize,
    pub(super) changed: bool,
}

impl<'d> Expander<'_, 'd> {
    pub(super) fn match_sources(&mut self, project: &mut Project<'d>) {
        let vars = self.vars;
        for each in &mut self.eaches {
            for slot in &mut each.slots {
                let HoleSlot::Files(slot) = slot else {
                    continue;
                };
                let (pattern, span) = (slot.pattern.clone(), slot.span);
                let walked = vars.folders.walk(&pattern, &mut |path| {
                    if !vars.environment.leftover(path) {
                        add_match(slot, &mut project.paths, path);
                    }
                });
                // Reported; the target then has no steps for what lies there.
                let _ = vars.check_walk(walked, span);
            }
        }
    }

    /// Matches outputs that are new against every pattern whose folder they may lie in.
    pub(super) fn match_fresh(&mut self, project: &mut Project<'d>) {
        for output in std::mem::take(&mut self.fresh) {
            let path = project.paths.get(output).to_owned();
            if path.ends_with('/') {
                self.match_tree(project, output, &path);
                continue;
            }
            let ends = std::iter::once(0).chain(path.match_indices('/').map(|(at, _)| at + 1));
            for end in ends {
                let Some(patterns) = self.by_folder.get(&path[..end]) else {
                    continue;
                };
                for &(each, slot) in patterns {
                    if let HoleSlot::Files(slot) = &mut self.eaches[each].slots[slot]
                        && add_match(slot, &mut project.paths, &path)
                    {
                        self.eaches[each].changed = true;
                    }
                }
            }
        }
    }

    /// A made folder: its files match once it is known to be up to date.
    pub(super) fn match_tree(&mut self, project: &mut Project<'d>, tree: PathId, path: &str) {
        let materialized = self
            .materialized
            .is_none_or(|materialized| materialized.contains(path));
        for each in &mut self.eaches {
            for slot in &mut each.slots {
                let HoleSlot::Files(slot) = slot else {
                    continue;
                };
                if !looks_into(&slot.pattern, path) {
                    continue;
                }
                if !materialized {
                    if !project.unmaterialized.contains(&tree) {
                        project.unmaterialized.push(tree);
                    }
                    continue;
                }
                let (pattern, span) = (slot.pattern.clone(), slot.span);
                let paths = &mut project.paths;
                let walked = self.vars.folders.walk(&pattern, &mut |found| {
                    if found.starts_with(path) && add_match(slot, paths, found) {
                        each.changed = true;
                    }
                });
                let _ = self.vars.check_walk(walked, span);
            }
        }
    }

    pub(super) fn warn_empty(&self, project: &Project<'d>) {
        for each in &self.eaches {
            let decl = &project.decls[each.decl];
            for (slot, (word, _)) in each.slots.iter().zip(each_words(&decl.clauses)) {
                if let HoleSlot::Files(slot) = slot
                    && slot.matches.is_empty()
                    && project.unmaterialized.is_empty()
                    && self.vars.environment.is_sure()
                {
                    self.vars.report(
                        Diagnostic::warning(&mistakes::PATTERN_MATCHES_NOTHING, word.span, "this pattern matches no file now, so the target has no steps")
                            .help("check the folder's name; paths are seen from the folder of this hand.loom"),
                    );
                }
            }
        }
    }
}

/// Whether a pattern may match files in a folder that is made as a whole.
pub fn looks_into(pattern: &Pattern, tree: &str) -> bool {
    pattern.folder().starts_with(tree) || pattern.may_hold(tree)
}

fn add_match(slot: &mut FileSlot, paths: &mut crate::project::paths::Paths, path: &str) -> bool {
    let FileSlot {
        pattern,
        except,
        gathered,
        matches,
        seen,
        ..
    } = slot;
    let Some(captures) = pattern.captures(path) else {
        return false;
    };
    if except.leaves_out(path) {
        return false;
    }
    let id = paths.intern(path);
    if !seen.insert(id) {
        return false;
    }
    let values = captures.iter();
    let values = values.map(|&(start, end)| paths.intern(&path[start..end]));
    let values: Vec<PathId> = values.collect();
    if let Some(gathered) = gathered {
        match gathered.of_values.get_mut(&values) {
            Some(known) => {
                known.push(id);
                return false;
            }
            None => gathered.of_values.insert(values.clone(), vec![id]),
        };
    }
    matches.push(Match { path: id, values });
    true
}
