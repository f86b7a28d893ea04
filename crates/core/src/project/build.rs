//! Working out the project.
//!
//! 1. Each target's `each` patterns are matched against the sources on disk, then again against
//!    every output found so, until no new step appears ([`crate::project::expand`]).
//! 2. With all outputs known, the words after `needs` and `after` become paths, and patterns become
//!    sets of paths ([`crate::project::needs`]).
//!
//! Recipes are not put together here: a step that has no reason to run never needs its script.

use std::collections::HashMap;
use std::collections::HashSet;
use std::sync::Arc;

use crate::language::TopItem;
use crate::language::Word;
use crate::language::target_of;
use crate::project::asked::Asked;
use crate::project::asked::Means;
use crate::project::check;
use crate::project::clauses::Clauses;
use crate::project::decl::TaskDecl;
use crate::project::decl::when_depends_on_call;
use crate::project::description::PartId;
use crate::project::excluded::left_out;
use crate::project::expand::Expander;
use crate::project::model::Project;
use crate::project::model::TaskNode;
use crate::project::model::What;
use crate::project::needs;
use crate::project::paths::from_root;
use crate::project::task_call::TaskCall;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// Works a project out.
pub struct ProjectBuilder<'v, 'd> {
    /// The variables.
    pub vars: &'v Vars<'d>,
    /// Whole-folder targets that may be looked into; `None` for all, as they are now.
    pub materialized: Option<&'v HashSet<String>>,
    /// The values that tasks are run with, by their names.
    pub calls: &'v HashMap<String, TaskCall>,
}

impl<'d> ProjectBuilder<'_, 'd> {
    /// The project; mistakes go to the variables' diagnostics.
    #[must_use]
    pub fn project(&self) -> Project<'d> {
        let mut project = Project {
            root: self.vars.environment.root(),
            parts: self
                .vars
                .description
                .parts
                .iter()
                .map(|part| part.folder.clone())
                .collect(),
            ..Project::default()
        };
        let mut expander = Expander::new(self.vars, self.materialized);
        for (index, part) in self.vars.description.parts.iter().enumerate() {
            let part_id = PartId(u32::try_from(index).unwrap_or(u32::MAX));
            for (at, item) in part.items.iter().enumerate() {
                if let TopItem::Task(task) = item {
                    self.task(&mut project, (part_id, at), task);
                } else if let Some(target) = target_of(item, &self.vars.description.sources) {
                    expander.declare(&mut project, (part_id, at), target);
                }
            }
        }
        expander.run(&mut project);
        self.check_tasks(&project);
        let gathered = expander.gathered(&project);
        let needs = needs::Resolver::new(self.vars, self.materialized);
        let mut needs = needs.with_gathered(gathered);
        needs.run(&mut project);
        for (index, part) in self.vars.description.parts.iter().enumerate() {
            let part_id = PartId(u32::try_from(index).unwrap_or(u32::MAX));
            for item in &part.items {
                if let TopItem::Default(words) = item {
                    self.defaults(&mut project, &mut needs, part_id, words);
                }
            }
        }
        needs.finish(&mut project);
        let left_out = left_out(&project, self.vars);
        self.vars.folders.set_left_out(left_out);
        check::check_names(self.vars, &project);
        project
    }

    fn task(
        &self,
        project: &mut Project<'d>,
        (part, item): (PartId, usize),
        syntax: &'d crate::language::Task,
    ) {
        let Some(clauses) = Clauses::of_task(self.vars, part, syntax) else {
            return;
        };
        let folder = &self.vars.description.parts[part.index()].folder;
        let frame = crate::project::frame::Frame::of(part);
        if let Some(when) = clauses.when
            && !when_depends_on_call(syntax, &clauses)
            && self.vars.condition(when, &frame) != Some(true)
        {
            return;
        }
        if clauses.recipe.is_none()
            && clauses.needs.is_empty()
            && clauses.steps.is_empty()
            && clauses.after.is_empty()
        {
            self.vars.report(
                Diagnostic::error(
                    &mistakes::IDLE_TASK,
                    syntax.name.span,
                    format!("the task `{}` does nothing", syntax.name.text),
                )
                .help("give it a `recipe:`, or `needs` or `steps` that it stands for"),
            );
        }
        self.check_stays(syntax, &clauses);
        let name = from_root(folder, &syntax.name.text);
        if let Some(earlier) = project.task_named(&name) {
            let earlier = project.tasks[earlier.index()].decl.syntax.name.span;
            self.vars.report(
                Diagnostic::error(
                    &mistakes::REPEATED_TASK,
                    syntax.name.span,
                    format!("there are two tasks `{name}`"),
                )
                .also(earlier, "first here")
                .help("choose another name for one of them"),
            );
            return;
        }
        let call = self.calls.get(&name).cloned().unwrap_or_default();
        let decl = Arc::new(TaskDecl {
            syntax,
            part,
            item,
            clauses,
            name,
        });
        project.tasks.push(TaskNode::new(decl, call, false));
    }

    /// What goes on running while others need it can't be what ends.
    fn check_stays(&self, syntax: &crate::language::Task, clauses: &Clauses<'d>) {
        let wrong = if !clauses.stays {
            clauses.ready.map(|script| {
                (
                    script.span,
                    "`ready:` tells when a task that `stays` is ready, and this one does not stay",
                )
            })
        } else if clauses.recipe.is_none() {
            Some((
                syntax.name.span,
                "a task that `stays` has no `recipe:`, so nothing can go on running",
            ))
        } else if clauses.remember || clauses.terminal || !clauses.steps.is_empty() {
            Some((
                syntax.name.span,
                "a task that `stays` has no `remember`, `terminal` or `steps`",
            ))
        } else if clauses.running.retry.is_some() {
            Some((syntax.name.span, "a task that `stays` is not tried again"))
        } else {
            None
        };
        if let Some((span, title)) = wrong {
            self.vars.report(Diagnostic::error(&mistakes::UNFIT_STAYS, span, title).help(
                "write `stays` and, if it takes a while to be there, `ready:` with a script that succeeds then; others name it after `after`",
            ));
        }
    }

    /// A name must not be both a file and a task.
    fn check_tasks(&self, project: &Project<'d>) {
        for task in &project.tasks {
            let Some(path) = project.paths.find(&task.name) else {
                continue;
            };
            if let Some(step) = project.maker(path) {
                let target = project.decl(project.step(step)).syntax.span;
                self.vars.report(
                    Diagnostic::error(
                        &mistakes::TASK_AND_TARGET,
                        task.decl.syntax.name.span,
                        format!("`{}` is the name of a task and of a target", task.decl.name),
                    )
                    .also(target, "the target")
                    .help("rename one of them: a name stands for one thing"),
                );
            }
        }
    }

    fn defaults(
        &self,
        project: &mut Project<'d>,
        needs: &mut needs::Resolver<'_, 'd>,
        part: PartId,
        words: &'d [Word],
    ) {
        project.has_default |= part == PartId::ROOT;
        let frame = crate::project::frame::Frame::of(part);
        for word in words {
            for what in needs.word(project, word, &frame, None, Asked::of(Means::Both)) {
                let known = match what {
                    What::Path(path) => project.maker(path).is_some(),
                    What::Set(_) | What::Task(_) => true,
                };
                if known {
                    project.defaults.push((part, what));
                } else if let What::Path(path) = what {
                    needs.expect_target(path, word.span);
                }
            }
        }
    }
}
