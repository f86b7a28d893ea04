//! What the words after `needs`, `after`, `steps` and `default` stand for.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::language::Word;
use crate::project::asked::Asked;
use crate::project::asked::Fill;
use crate::project::asked::Means;
use crate::project::behind_links::LinkedFolders;
use crate::project::decl::Decl;
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
use crate::text::mistakes;

/// A word after `needs`, as far as it can be known for all steps of a target.
enum PreparedNeeds {
    /// The same for every step.
    Fixed(Vec<What>),
    /// What the `each` with this number matched.
    Each(usize),
    /// Worked out step by step.
    Varying,
}

/// A word, and what it is worked out with.
struct PreparedWord<'d> {
    /// The number of its group.
    group: u16,
    word: &'d Word,
    /// What its group leaves out.
    except: &'d [Word],
    what: PreparedNeeds,
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
    /// What patterns with filled holes match, where that is known already.
    pub(super) gathered: HashMap<String, Vec<PathId>>,
    pub(super) linked_folders: LinkedFolders,
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
            gathered: HashMap::new(),
            linked_folders: LinkedFolders::default(),
        }
    }

    /// With what patterns with filled holes match.
    #[must_use]
    pub fn with_gathered(self, gathered: HashMap<String, Vec<PathId>>) -> Self {
        Self { gathered, ..self }
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
        self.all_tasks(project);
        let all = 0..project.steps.len();
        self.check_outputs(project, all.map(StepId::from_index));
    }

    /// The same for these steps alone, each the only one of its target.
    pub fn run_some(&mut self, project: &mut Project<'d>, steps: &[StepId]) {
        self.know_tasks(project);
        for step in steps {
            self.steps_of(project, step.index(), step.index() + 1);
        }
        self.check_outputs(project, steps.iter().copied());
    }

    pub(super) fn know_tasks(&mut self, project: &Project<'d>) {
        let tasks = project.tasks.iter().enumerate();
        let named = tasks.map(|(index, task)| (task.name.clone(), TaskId::from_index(index)));
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
                        &mistakes::REPEATED_LABEL,
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

    fn prepare(&mut self, project: &mut Project<'d>, index: usize) -> Vec<PreparedWord<'d>> {
        let mut prepared = Vec::new();
        let mut each = 0;
        let groups = project.decls[index].clauses.needs.clone();
        for (number, group) in groups.into_iter().enumerate() {
            let number = u16::try_from(number).unwrap_or(u16::MAX);
            for item in &group.items {
                let what = if item.each {
                    each += 1;
                    match project.decls[index].gathers(self.vars, &item.word) {
                        true => PreparedNeeds::Varying,
                        false => PreparedNeeds::Each(each - 1),
                    }
                } else {
                    self.prepare_word(project, index, &item.word, &group.except, Means::Files)
                };
                prepared.push(PreparedWord {
                    group: number,
                    word: &item.word,
                    except: &group.except,
                    what,
                });
            }
        }
        prepared
    }

    fn prepare_after(&mut self, project: &mut Project<'d>, index: usize) -> Vec<PreparedWord<'d>> {
        let words = project.decls[index].clauses.after.clone();
        let words = words.into_iter().map(|word| PreparedWord {
            group: 0,
            word,
            except: &[],
            what: self.prepare_word(project, index, word, &[], Means::Both),
        });
        words.collect()
    }

    fn prepare_word(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        word: &'d Word,
        except: &'d [Word],
        means: Means,
    ) -> PreparedNeeds {
        let decl = &project.decls[index];
        let varies = |word: &Word| decl.word_varies(self.vars, word);
        if varies(word) || except.iter().any(varies) {
            return PreparedNeeds::Varying;
        }
        let frame = decl.fixed_frame();
        let Some(except) = self.vars.excluded(except, &frame) else {
            return PreparedNeeds::Fixed(Vec::new());
        };
        let of = Asked::of(means).without(&except);
        PreparedNeeds::Fixed(self.word(project, word, &frame, None, of))
    }

    fn step(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        step: usize,
        prepared: &[PreparedWord<'d>],
        needs: bool,
    ) {
        for prepared in prepared {
            let (group, word) = (prepared.group, prepared.word);
            let found = match &prepared.what {
                PreparedNeeds::Fixed(found) => {
                    for &what in found {
                        self.push(project, index, group, what, word.span, needs);
                    }
                    continue;
                }
                PreparedNeeds::Each(number) => {
                    let decl = &project.decls[index];
                    let values = project.steps[step].values.of(&project.values);
                    let path = values[decl.holes.len() + number];
                    let folder = &self.vars.description.parts[decl.part.index()].folder;
                    self.check_links(project, path, (word.span, folder));
                    vec![What::Path(path)]
                }
                PreparedNeeds::Varying => self.varying(project, index, step, prepared, needs),
            };
            for what in found {
                self.push(project, index, group, what, word.span, needs);
            }
        }
    }

    fn varying(
        &mut self,
        project: &mut Project<'d>,
        index: usize,
        step: usize,
        prepared: &PreparedWord<'d>,
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
        let Some(except) = self.vars.excluded(prepared.except, &frame) else {
            return Vec::new();
        };
        let of = Asked::of(means).without(&except);
        self.word(project, prepared.word, &frame, Some(&fill), of)
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
                Diagnostic::error(&mistakes::NEEDED_TASK, span, format!("a target can't need the task `{name}`, which makes no file"))
                    .also(project.decls[index].syntax.span, "the target")
                    .help(format!("write `after {name}` if the task must be done before; for a file of that name write `./{name}`")),
            );
            return;
        }
        project.needs.push(Need { group, what });
    }

    // ---- one word ------------------------------------------------------------------------------

    /// What a word stands for, in order.
    pub fn word(
        &mut self,
        project: &mut Project<'d>,
        word: &Word,
        frame: &Frame<'_>,
        fill: Option<&Fill<'_>>,
        asked: Asked<'_>,
    ) -> Vec<What> {
        let means = asked.means;
        if means == Means::Both
            && let Some(called) = self.called(project, word, frame)
        {
            return called.into_iter().collect();
        }
        let folder = &self.vars.description.parts[frame.part.index()].folder;
        if let Some(text) = self.vars.literal(word) {
            if asked.leaves_out(self.vars, folder, text) {
                return Vec::new();
            }
            return vec![self.named_path(project, folder, text, word.span, asked)];
        }
        let Some(value) = self.vars.word(word, frame) else {
            return Vec::new();
        };
        let mut found = Vec::with_capacity(value.atoms.len());
        for atom in value.atoms.iter() {
            if asked.leaves_out(self.vars, folder, &atom.text) && atom.pattern.is_none() {
                continue;
            }
            let Some(source) = &atom.pattern else {
                found.push(self.named_path(project, folder, &atom.text, word.span, asked));
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
                        Diagnostic::error(&mistakes::UNFILLED_HOLE, word.span, format!("nothing fills the hole `<{name}>` here"))
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
                let has_tasks = !tasks.is_empty();
                let set = self.set(project, folder, &filled, word.span, asked, has_tasks);
                found.extend(tasks.into_iter().map(What::Task));
                found.extend(set.map(What::Set));
            } else if !asked.leaves_out(self.vars, folder, &unescape(&filled)) {
                found.push(self.named_path(project, folder, &unescape(&filled), word.span, asked));
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
            // What is written there may be seen from a part's folder, or hold a variable.
            let is_written = self.vars.description.sources.slice(span) == name;
            let wrong = Diagnostic::error(
                &mistakes::UNKNOWN_NEED,
                span,
                if must_be_target {
                    format!("no target or task is called `{name}`")
                } else {
                    format!("no target or task is called `{name}`, and no such file is there")
                },
            )
            .help(match &near {
                Some(near) => format!("did you mean `{near}`?"),
                None => "`handloom list` shows what can be made and run".to_owned(),
            });
            self.vars.report(match near {
                Some(near) if is_written => wrong.instead(span, near),
                _ => wrong,
            });
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
