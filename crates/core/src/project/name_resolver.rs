//! What one word after `needs`, `after`, `steps` or `default` stands for: a path, a pattern's set, a task.

use crate::project::asked::Asked;
use crate::project::asked::Means;
use crate::project::each_match::looks_into;
use crate::project::excluded::Excluded;
use crate::project::excluded::FolderUse;
use crate::project::model::FileSet;
use crate::project::model::Project;
use crate::project::model::SetId;
use crate::project::model::TaskId;
use crate::project::model::What;
use crate::project::model::near_goal;
use crate::project::needs::Resolver;
use crate::project::paths::PathId;
use crate::project::paths::from_root;
use crate::project::pattern::Pattern;
use crate::project::pattern::escape;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::names::folder_of;

impl<'d> Resolver<'_, 'd> {
    /// The tasks whose names a pattern matches, in the order in which they stand.
    pub(super) fn tasks_matching(
        &self,
        project: &Project<'d>,
        folder: &str,
        source: &str,
        span: Span,
    ) -> Vec<TaskId> {
        let Some(pattern) = self.vars.pattern(&from_root(&escape(folder), source), span) else {
            return Vec::new();
        };
        let tasks = project.tasks.iter().enumerate();
        tasks
            .filter(|(_, task)| !task.is_called && pattern.matches(&task.name))
            .map(|(index, _)| TaskId::from_index(index))
            .collect()
    }

    /// What a name stands for. Whether it is anything is looked at when all targets are known.
    pub(super) fn named_path(
        &mut self,
        project: &mut Project<'d>,
        folder: &str,
        text: &str,
        span: Span,
        asked: Asked<'_>,
    ) -> What {
        let what = self.path(project, folder, text);
        if let What::Path(path) = what {
            if text.ends_with('/') {
                note_folder(project, path, span, asked.except);
            }
            match asked.means {
                Means::Both => self.named.push((path, span)),
                Means::Files if project.maker(path).is_none() => {
                    self.check_leftover(project, path, span);
                    self.check_links(project, path, (span, folder));
                }
                Means::Files => {}
            }
        }
        what
    }

    /// Reports a prerequisite that an earlier run made and that no target describes any more: nobody keeps it
    /// up to date.
    pub(super) fn check_leftover(&self, project: &Project<'d>, path: PathId, span: Span) {
        let name = project.paths.get(path);
        if name.ends_with('/')
            || project.tree_around(name).is_some()
            || !self.vars.environment.leftover(name)
        {
            return;
        }
        let near = near_goal(project, name);
        let meant = near.map_or_else(String::new, |near| format!("did you mean `{near}`? Else "));
        self.vars.report(
            Diagnostic::error(
                &mistakes::ORPHANED_FILE,
                span,
                format!("`{name}` was made by a target that is not described any more, so nothing keeps it up to date"),
            )
            .help(format!(
                "{meant}describe a target that makes it, or remove it with `handloom clean --leftovers`; a file of your own takes another name"
            )),
        );
    }

    pub(super) fn path(&self, project: &mut Project<'d>, folder: &str, text: &str) -> What {
        let path = self.vars.from_root(folder, text);
        // `./name` says that a file is meant.
        if !text.starts_with("./")
            && let Some(&task) = self.tasks.get(&path)
        {
            return What::Task(task);
        }
        What::Path(
            project
                .paths
                .intern(if path.is_empty() { "./" } else { &path }),
        )
    }

    /// The set of paths that a pattern matches; each pattern is matched once.
    pub(super) fn set(
        &mut self,
        project: &mut Project<'d>,
        folder: &str,
        source: &str,
        span: Span,
        asked: Asked<'_>,
        matched: bool,
    ) -> Option<SetId> {
        let means = asked.means;
        let source = self.vars.source_from_root(folder, source);
        let key = asked.except.map_or("", |except| &except.key);
        let key = format!("{source}{key}");
        if let Some(&known) = self.sets.get(&key) {
            return Some(known);
        }
        let pattern = self.vars.pattern(&source, span)?;
        let (set, complete) = match self.gathered.remove(&key) {
            Some(paths) => {
                let set = FileSet {
                    paths: paths.into(),
                    trees: Box::default(),
                    materialized: true,
                };
                (set, true)
            }
            None => self.matches(project, &pattern, span, asked.except),
        };
        let is_empty = set.paths.is_empty() && set.materialized && set.trees.is_empty() && complete;
        if is_empty && means == Means::Both {
            if !matched {
                self.vars.report(
                    Diagnostic::error(
                        &mistakes::PATTERN_MATCHES_NOTHING,
                        span,
                        "no task, target or file matches this pattern",
                    )
                    .help("`handloom list --all` shows all tasks and targets"),
                );
            }
            return None;
        }
        if is_empty && self.vars.environment.is_sure() {
            self.vars.report(
                Diagnostic::warning(&mistakes::PATTERN_MATCHES_NOTHING, span, "this pattern matches no file now")
                    .help("check the folder's name; a pattern matches sources and the targets now described"),
            );
        }
        if means == Means::Files {
            for &path in &set.paths {
                self.check_links(project, path, (span, folder));
            }
        }
        let id = SetId::from_index(project.sets.len());
        project.sets.push(set);
        self.sets.insert(key, id);
        Some(id)
    }

    pub(super) fn matches(
        &self,
        project: &mut Project<'d>,
        pattern: &Pattern,
        span: Span,
        except: Option<&Excluded>,
    ) -> (FileSet, bool) {
        let leaves_out = |path: &str| except.is_some_and(|except| except.leaves_out(path));
        let mut found: Vec<PathId> = project
            .outputs_in(pattern.prefix())
            .filter(|&path| pattern.matches(project.paths.get(path)))
            .filter(|&path| !leaves_out(project.paths.get(path)))
            .collect();
        let trees: Box<[PathId]> = project
            .trees
            .iter()
            .copied()
            .filter(|&tree| looks_into(pattern, project.paths.get(tree)))
            .collect();
        let open = |tree: PathId, project: &Project<'_>| {
            self.materialized
                .is_none_or(|materialized| materialized.contains(project.paths.get(tree)))
        };
        let mut on_disk = Vec::new();
        let walked = self.vars.folders.walk(pattern, &mut |path| {
            let known = project.paths.find(path);
            if known.is_some_and(|known| project.maker(known).is_some()) {
                return;
            }
            let take = match project.tree_around(path) {
                Some(tree) => open(tree, project),
                None => !self.vars.environment.leftover(path),
            };
            if take && !leaves_out(path) {
                on_disk.push(path.to_owned());
            }
        });
        let complete = self.vars.check_walk(walked, span).is_some();
        found.extend(on_disk.iter().map(|path| project.paths.intern(path)));
        let paths = &project.paths;
        found.sort_unstable_by(|&a, &b| paths.get(a).cmp(paths.get(b)));
        found.dedup();
        let materialized = trees.iter().all(|&tree| open(tree, project));
        let set = FileSet {
            paths: found.into(),
            trees,
            materialized,
        };
        (set, complete)
    }

    /// Whether a source has this name.
    pub(super) fn is_there(&self, name: &str) -> bool {
        let plain = name.trim_end_matches('/');
        let folder = folder_of(plain);
        let listing = self.vars.folders.list(folder);
        let own = &plain[folder.len()..];
        listing.iter().any(|entry| *entry.name == *own)
    }
}

/// Notes what does not count of a folder where it is needed, for all of them to be compared.
fn note_folder(project: &mut Project<'_>, path: PathId, span: Span, except: Option<&Excluded>) {
    let folder = project.paths.get(path);
    let excluded = except.map_or_else(Excluded::default, |except| except.below(folder));
    let last = project.folder_uses.last();
    let is_known = |last: &FolderUse| {
        last.path == path && last.span == span && last.excluded.key == excluded.key
    };
    if !last.is_some_and(is_known) {
        project.folder_uses.push(FolderUse {
            path,
            excluded,
            span,
            is_made: false,
        });
    }
}
