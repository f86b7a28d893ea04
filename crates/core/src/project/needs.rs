//! What the words after `needs`, `after`, `steps` and `default` stand for.

use std::collections::HashMap;
use std::collections::HashSet;
use std::sync::Arc;

use crate::language::Word;
use crate::project::decl::Decl;
use crate::project::decl::TaskDecl;
use crate::project::decl::own_let;
use crate::project::frame::Frame;
use crate::project::model::IndexRange;
use crate::project::model::NOBODY;
use crate::project::model::Need;
use crate::project::model::Project;
use crate::project::model::SetId;
use crate::project::model::StepId;
use crate::project::model::TaskId;
use crate::project::model::What;
use crate::project::model::near_goal;
use crate::project::outputs::unfilled_hole;
use crate::project::paths::PathId;
use crate::project::pattern::fill_holes;
use crate::project::pattern::unescape;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;

/// A word after `needs`, as far as it can be known for all steps of a target.
enum PreparedNeeds {
    /// The same for every step.
    Fixed(Vec<What>),
    /// What the `each` with this number matched.
    Each(usize),
    /// Worked out step by step.
    Varying,
}

pub struct Resolver<'v, 'd> {
    pub(super) vars: &'v Vars<'d>,
    pub(super) materialized: Option<&'v HashSet<String>>,
    pub(super) sets: HashMap<String, SetId>,
    pub(super) tasks: HashMap<String, TaskId>,
    /// Paths that words after `after` and `default` named and that must be something, with their places.
    pub(super) named: Vec<(PathId, Span)>,
    /// The same for words that must be targets.
    pub(super) targets: Vec<(PathId, Span)>,
}

/// What a word may stand for.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Means {
    /// Files alone.
    Files,
    /// Files and tasks: patterns match the names of both, and one that matches nothing is a mistake.
    Both,
}

impl<'v, 'd> Resolver<'v, 'd> {
    pub fn new(vars: &'v Vars<'d>, materialized: Option<&'v HashSet<String>>) -> Self {
        Self {
            vars,
            materialized,
            sets: HashMap::new(),
            tasks: HashMap::new(),
            named: Vec::new(),
            targets: Vec::new(),
        }
    }

    pub fn run(&mut self, project: &mut Project<'d>) {
        self.know_tasks(project);
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

    /// The same for these steps alone, each the only one of its target.
    pub fn run_some(&mut self, project: &mut Project<'d>, steps: &[StepId]) {
        self.know_tasks(project);
        for step in steps {
            self.steps_of(project, step.index(), step.index() + 1);
        }
    }

    fn know_tasks(&mut self, project: &Project<'d>) {
        let tasks = project.tasks.iter().enumerate();
        let named = tasks.map(|(index, task)| (task.decl.name.clone(), TaskId::from_index(index)));
        self.tasks = named.collect();
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
            let needs = IndexRange::behind(needs_at, &project.needs);
            let after_at = project.needs.len();
            self.step(project, index, step, &after, false);
            project.steps[step].needs = needs;
            project.steps[step].after = IndexRange::behind(after_at, &project.needs);
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
    ) -> Vec<(u16, &'d Word, PreparedNeeds)> {
        let mut prepared = Vec::new();
        let mut each = 0;
        let groups = project.decls[index].clauses.needs.clone();
        for (number, group) in groups.into_iter().enumerate() {
            let number = u16::try_from(number).unwrap_or(u16::MAX);
            for item in &group.items {
                let what = if item.each {
                    each += 1;
                    PreparedNeeds::Each(each - 1)
                } else {
                    self.prepare_word(project, index, &item.word, Means::Files)
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
    ) -> Vec<(u16, &'d Word, PreparedNeeds)> {
        let words = project.decls[index].clauses.after.clone();
        words
            .into_iter()
            .map(|word| {
                (
                    0,
                    word,
                    self.prepare_word(project, index, word, Means::Both),
                )
            })
            .collect()
    }

    fn prepare_word(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        word: &'d Word,
        means: Means,
    ) -> PreparedNeeds {
        if project.decls[index].word_varies(self.vars, word) {
            return PreparedNeeds::Varying;
        }
        let frame = project.decls[index].fixed_frame();
        PreparedNeeds::Fixed(self.word(project, word, &frame, None, means))
    }

    fn step(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        step: usize,
        prepared: &[(u16, &'d Word, PreparedNeeds)],
        needs: bool,
    ) {
        for (group, word, what) in prepared {
            let found = match what {
                PreparedNeeds::Fixed(found) => {
                    for &what in found {
                        self.push(project, index, *group, what, word.span, needs);
                    }
                    continue;
                }
                PreparedNeeds::Each(number) => {
                    let values = project.steps[step].values.of(&project.values);
                    vec![What::Path(
                        values[project.decls[index].holes.len() + number],
                    )]
                }
                PreparedNeeds::Varying => self.varying(project, index, step, word, needs),
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
        needs: bool,
    ) -> Vec<What> {
        // The values are copied, since looking words up may add paths.
        let values: Vec<String> = project
            .step_values(&project.steps[step])
            .into_iter()
            .map(str::to_owned)
            .collect();
        let values: Vec<&str> = values.iter().map(String::as_str).collect();
        let decl = project.decls.shared(index);
        let Some(frame) = decl.frame(self.vars, &values[..decl.holes.len()]) else {
            return Vec::new();
        };
        let fill = Fill {
            decl: index,
            holes: &decl.holes,
            values: &values,
        };
        let means = if needs { Means::Files } else { Means::Both };
        self.word(project, word, &frame, Some(&fill), means)
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
                for what in self.word(project, &item.word, &own, None, Means::Files) {
                    project.tasks[index].needs.push(Need { group, what });
                }
            }
        }
        for word in after {
            let found = self.word(project, word, &own, None, Means::Both);
            project.tasks[index].after.extend(found);
        }
        for word in steps {
            for what in self.word(project, word, &own, None, Means::Both) {
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
        means: Means,
    ) -> Vec<What> {
        let folder = &self.vars.description.parts[frame.part.index()].folder;
        if let Some(text) = self.vars.literal(word) {
            return vec![self.named_path(project, folder, text, word.span, means)];
        }
        let Some(value) = self.vars.word(word, frame) else {
            return Vec::new();
        };
        let mut found = Vec::with_capacity(value.atoms.len());
        for atom in value.atoms.iter() {
            let Some(source) = &atom.pattern else {
                found.push(self.named_path(project, folder, &atom.text, word.span, means));
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
                let tasks = match means {
                    Means::Files => Vec::new(),
                    Means::Both => self.tasks_matching(project, folder, &filled, word.span),
                };
                let set = self.set(
                    project,
                    folder,
                    &filled,
                    word.span,
                    means,
                    !tasks.is_empty(),
                );
                found.extend(tasks.into_iter().map(What::Task));
                found.extend(set.map(What::Set));
            } else {
                found.push(self.named_path(project, folder, &unescape(&filled), word.span, means));
            }
        }
        found
    }

    /// A name after `default` must be a target or a task: there is nothing to do for a source.
    pub fn expect_target(&mut self, path: PathId, span: Span) {
        self.named.retain(|named| *named != (path, span));
        self.targets.push((path, span));
    }

    /// Names that must be something, and are nothing.
    fn check_named(&self, project: &Project<'d>) {
        for &(path, span) in self.named.iter().chain(&self.targets) {
            let name = project.paths.get(path);
            let is_known = project.maker(path).is_some()
                || project
                    .outputs_in(if name.ends_with('/') { name } else { "\0" })
                    .next()
                    .is_some();
            let must_be_target = self.targets.contains(&(path, span));
            if is_known || (!must_be_target && self.is_there(name)) {
                continue;
            }
            let near = near_goal(project, name);
            self.vars.report(
                Diagnostic::error(
                    span,
                    if must_be_target {
                        format!("no target or task is called `{name}`")
                    } else {
                        format!("no target or task is called `{name}`, and no such file is there")
                    },
                )
                .help(match near {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => "`handloom list` shows what can be made and run".to_owned(),
                }),
            );
        }
    }

    /// Files that lie in a made folder are made by its step.
    pub fn finish(&self, project: &mut Project<'d>) {
        self.mark_trees(project);
        self.check_named(project);
    }

    fn mark_trees(&self, project: &mut Project<'d>) {
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
