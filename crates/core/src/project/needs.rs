//! What the words after `needs`, `after`, `steps` and `default` stand for.

use std::collections::HashMap;
use std::collections::HashSet;
use std::sync::Arc;

use crate::language::Word;
use crate::project::build::NOBODY;
use crate::project::build::Need;
use crate::project::build::Project;
use crate::project::build::Range;
use crate::project::build::Set;
use crate::project::build::SetId;
use crate::project::build::TaskId;
use crate::project::build::What;
use crate::project::decl::Decl;
use crate::project::decl::TaskDecl;
use crate::project::decl::own_let;
use crate::project::expand::looks_into;
use crate::project::frame::Frame;
use crate::project::outputs::unfilled_hole;
use crate::project::paths::PathId;
use crate::project::paths::from_root;
use crate::project::pattern::Pattern;
use crate::project::pattern::escape;
use crate::project::pattern::fill_holes;
use crate::project::pattern::unescape;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;

/// A word after `needs`, as far as it can be known for all steps of a target.
enum Prepared {
    /// The same for every step.
    Fixed(Vec<What>),
    /// What the `each` with this number matched.
    Each(usize),
    /// Worked out step by step.
    Varying,
}

pub struct Resolver<'v, 'd> {
    vars: &'v Vars<'d>,
    settled: Option<&'v HashSet<String>>,
    sets: HashMap<String, SetId>,
    tasks: HashMap<String, TaskId>,
}

impl<'v, 'd> Resolver<'v, 'd> {
    pub fn new(vars: &'v Vars<'d>, settled: Option<&'v HashSet<String>>) -> Self {
        Self {
            vars,
            settled,
            sets: HashMap::new(),
            tasks: HashMap::new(),
        }
    }

    pub fn run(&mut self, project: &mut Project<'d>) {
        self.tasks = project
            .tasks
            .iter()
            .enumerate()
            .map(|(index, task)| (task.decl.name.clone(), TaskId::from_index(index)))
            .collect();
        let mut first = 0;
        while first < project.steps.len() {
            let decl = project.steps[first].decl;
            let last = project.steps[first..]
                .iter()
                .position(|step| step.decl != decl)
                .map_or(project.steps.len(), |count| first + count);
            self.steps_of(project, first, last);
            first = last;
        }
        for index in 0..project.tasks.len() {
            self.task(project, index);
        }
    }

    /// Steps of one target that lie together.
    fn steps_of(&mut self, project: &mut Project<'d>, first: usize, last: usize) {
        let index = project.steps[first].decl as usize;
        let prepared = self.prepare(project, index);
        let after = self.prepare_after(project, index);
        self.check_labels(&project.decls[index]);
        for step in first..last {
            let needs_at = project.needs.len();
            self.step(project, index, step, &prepared, true);
            let needs = Range::behind(needs_at, &project.needs);
            let after_at = project.needs.len();
            self.step(project, index, step, &after, false);
            project.steps[step].needs = needs;
            project.steps[step].after = Range::behind(after_at, &project.needs);
        }
    }

    fn check_labels(&self, decl: &Decl<'d>) {
        let labels = decl
            .syntax
            .outputs
            .iter()
            .chain(decl.clauses.needs.iter().copied())
            .filter_map(|group| group.label.as_ref());
        let mut seen: Vec<&crate::language::Name> = Vec::new();
        for label in labels {
            if let Some(earlier) = seen.iter().find(|earlier| earlier.text == label.text) {
                self.vars.report(
                    Diagnostic::error(
                        label.span,
                        format!("the label `{}:` stands here twice", label.text),
                    )
                    .also(earlier.span, "first here")
                    .help("choose another name"),
                );
            }
            seen.push(label);
        }
    }

    fn prepare(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
    ) -> Vec<(u16, &'d Word, Prepared)> {
        let mut prepared = Vec::new();
        let mut each = 0;
        let groups = project.decls[index].clauses.needs.clone();
        for (number, group) in groups.into_iter().enumerate() {
            let number = u16::try_from(number).unwrap_or(u16::MAX);
            for item in &group.items {
                let what = if item.each {
                    each += 1;
                    Prepared::Each(each - 1)
                } else {
                    self.prepare_word(project, index, &item.word)
                };
                prepared.push((number, &item.word, what));
            }
        }
        prepared
    }

    fn prepare_after(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
    ) -> Vec<(u16, &'d Word, Prepared)> {
        let words = project.decls[index].clauses.after.clone();
        words
            .into_iter()
            .map(|word| (0, word, self.prepare_word(project, index, word)))
            .collect()
    }

    fn prepare_word(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        word: &'d Word,
    ) -> Prepared {
        if project.decls[index].word_varies(self.vars, word) {
            return Prepared::Varying;
        }
        let frame = project.decls[index].fixed_frame();
        Prepared::Fixed(self.word(project, word, &frame, None))
    }

    fn step(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        step: usize,
        prepared: &[(u16, &'d Word, Prepared)],
        needs: bool,
    ) {
        for (group, word, what) in prepared {
            let found = match what {
                Prepared::Fixed(found) => {
                    for &what in found {
                        self.push(project, index, *group, what, word.span, needs);
                    }
                    continue;
                }
                Prepared::Each(number) => {
                    let values = project.steps[step].values.of(&project.values);
                    vec![What::Path(
                        values[project.decls[index].holes.len() + number],
                    )]
                }
                Prepared::Varying => self.varying(project, index, step, word),
            };
            for what in found {
                self.push(project, index, *group, what, word.span, needs);
            }
        }
    }

    fn varying(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        step: usize,
        word: &'d Word,
    ) -> Vec<What> {
        // The values are copied, since looking words up may add paths.
        let values: Vec<String> = project
            .step_values(&project.steps[step])
            .into_iter()
            .map(str::to_owned)
            .collect();
        let values: Vec<&str> = values.iter().map(String::as_str).collect();
        let decl = Arc::clone(&project.decls[index]);
        let Some(frame) = decl.frame(self.vars, &values[..decl.holes.len()]) else {
            return Vec::new();
        };
        let fill = Fill {
            decl: index,
            holes: &decl.holes,
            values: &values,
        };
        self.word(project, word, &frame, Some(&fill))
    }

    fn push(
        &self,
        project: &mut Project<'d>,
        index: usize,
        group: u16,
        what: What,
        span: Span,
        needs: bool,
    ) {
        if let (What::Task(task), true) = (what, needs) {
            let name = &project.tasks[task.index()].decl.name;
            self.vars.report(
                Diagnostic::error(span, format!("a target can't need the task `{name}`, which makes no file"))
                    .also(project.decls[index].syntax.span, "the target")
                    .help(format!("write `after {name}` if the task must be done before; for a file of that name write `./{name}`")),
            );
            return;
        }
        project.needs.push(Need { group, what });
    }

    fn task(&mut self, project: &mut Project<'d>, index: usize) {
        let decl = Arc::clone(&project.tasks[index].decl);
        let frame = Frame::of(decl.part);
        let needs = decl.clauses.needs.clone();
        let after = decl.clauses.after.clone();
        let steps = decl.clauses.steps;
        let own = task_frame(self.vars, &decl, frame);
        for (number, group) in needs.into_iter().enumerate() {
            for item in &group.items {
                let group = u16::try_from(number).unwrap_or(u16::MAX);
                for what in self.word(project, &item.word, &own, None) {
                    project.tasks[index].needs.push(Need { group, what });
                }
            }
        }
        for word in after {
            let found = self.word(project, word, &own, None);
            project.tasks[index].after.extend(found);
        }
        for word in steps {
            for what in self.word(project, word, &own, None) {
                if let What::Path(path) = what
                    && project.maker(path).is_none()
                {
                    let name = project.paths.get(path);
                    let near = crate::project::build::near_goal(project, name);
                    self.vars.report(
                        Diagnostic::error(
                            word.span,
                            format!("no target or task is called `{name}`"),
                        )
                        .maybe_help(near.map(|near| format!("did you mean `{near}`?"))),
                    );
                }
                project.tasks[index].steps.push(what);
            }
        }
    }

    // ---- one word ------------------------------------------------------------------------------

    /// What a word stands for, in order.
    pub fn word(
        &mut self,
        project: &mut Project<'d>,
        word: &Word,
        frame: &Frame<'_>,
        fill: Option<&Fill<'_>>,
    ) -> Vec<What> {
        let folder = &self.vars.description.parts[frame.part.index()].folder;
        if let Some(text) = self.vars.literal(word) {
            return vec![self.path(project, folder, text)];
        }
        let Some(value) = self.vars.word(word, frame) else {
            return Vec::new();
        };
        let mut found = Vec::with_capacity(value.atoms.len());
        for atom in value.atoms.iter() {
            let Some(source) = &atom.pattern else {
                found.push(self.path(project, folder, &atom.text));
                continue;
            };
            let mut missing: Option<String> = None;
            let (filled, left) = fill_holes(source, |name| {
                let at = fill.and_then(|fill| fill.holes.iter().position(|hole| hole == name));
                if at.is_none() {
                    missing.get_or_insert_with(|| name.to_owned());
                }
                at.and_then(|at| fill.map(|fill| fill.values[at]))
            });
            if let Some(name) = missing {
                match fill {
                    Some(fill) => unfilled_hole(self.vars, &project.decls[fill.decl], &name, word.span),
                    None => self.vars.report(
                        Diagnostic::error(word.span, format!("nothing fills the hole `<{name}>` here"))
                            .help("holes are filled in targets that have an `each`; write `*` to match any name"),
                    ),
                }
                continue;
            }
            if left {
                found.extend(self.set(project, folder, &filled, word.span).map(What::Set));
            } else {
                found.push(self.path(project, folder, &unescape(&filled)));
            }
        }
        found
    }

    fn path(&self, project: &mut Project<'d>, folder: &str, text: &str) -> What {
        let path = from_root(folder, text);
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
    fn set(
        &mut self,
        project: &mut Project<'d>,
        folder: &str,
        source: &str,
        span: Span,
    ) -> Option<SetId> {
        let source = from_root(&escape(folder), source);
        if let Some(&known) = self.sets.get(&source) {
            return Some(known);
        }
        let pattern = self.vars.pattern(&source, span)?;
        let (set, complete) = self.matches(project, &pattern, span);
        if set.paths.is_empty() && set.settled && set.trees.is_empty() && complete {
            self.vars.report(
                Diagnostic::warning(span, "this pattern matches no file now")
                    .help("check the folder's name; a pattern matches sources and the targets now described"),
            );
        }
        let id = SetId::from_index(project.sets.len());
        project.sets.push(set);
        self.sets.insert(source, id);
        Some(id)
    }

    fn matches(&self, project: &mut Project<'d>, pattern: &Pattern, span: Span) -> (Set, bool) {
        let mut found: Vec<PathId> = project
            .outputs_in(pattern.prefix())
            .filter(|&path| pattern.matches(project.paths.get(path)))
            .collect();
        let trees: Box<[PathId]> = project
            .trees
            .iter()
            .copied()
            .filter(|&tree| looks_into(pattern, project.paths.get(tree)))
            .collect();
        let open = |tree: PathId, project: &Project<'_>| {
            self.settled
                .is_none_or(|settled| settled.contains(project.paths.get(tree)))
        };
        let mut on_disk = Vec::new();
        let walked = self.vars.folders.walk(pattern, &mut |path| {
            let known = project.paths.find(path);
            if known.is_some_and(|known| project.maker(known).is_some()) {
                return;
            }
            let take = match project.tree_around(path) {
                Some(tree) => open(tree, project),
                None => !self.vars.around.leftover(path),
            };
            if take {
                on_disk.push(path.to_owned());
            }
        });
        let complete = self.vars.check_walk(walked, span).is_some();
        found.extend(on_disk.iter().map(|path| project.paths.intern(path)));
        let paths = &project.paths;
        found.sort_unstable_by(|&a, &b| paths.get(a).cmp(paths.get(b)));
        found.dedup();
        let settled = trees.iter().all(|&tree| open(tree, project));
        let set = Set {
            paths: found.into(),
            trees,
            settled,
        };
        (set, complete)
    }

    /// Files that lie in a made folder are made by its step.
    pub fn finish(&self, project: &mut Project<'d>) {
        project.makers.resize(project.paths.len(), NOBODY);
        if project.trees.is_empty() {
            return;
        }
        for index in 0..project.paths.len() {
            let path = PathId(u32::try_from(index).unwrap_or(u32::MAX));
            if project.maker(path).is_none()
                && let Some(tree) = project.tree_around(project.paths.get(path))
            {
                project.makers[index] = project.makers[tree.index()];
            }
        }
    }
}

/// The names of a task that hold whatever its arguments are.
pub fn task_frame<'a, 'd: 'a>(
    vars: &Vars<'d>,
    decl: &TaskDecl<'d>,
    mut frame: Frame<'a>,
) -> Frame<'a> {
    for definition in &decl.clauses.lets {
        // What is wrong is reported; the task then lacks the name, which is never run.
        let _ = own_let(vars, definition, &mut frame);
    }
    frame
}

/// The values that fill holes.
pub struct Fill<'a> {
    decl: usize,
    holes: &'a [String],
    values: &'a [&'a str],
}
