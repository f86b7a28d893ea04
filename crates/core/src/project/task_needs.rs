//! What tasks need, do before, do in order and do in the end; and tasks that are called with values.

use std::sync::Arc;

use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::language::word_names;
use crate::project::asked::Asked;
use crate::project::asked::Means;
use crate::project::decl::TaskDecl;
use crate::project::frame::Frame;
use crate::project::model::Need;
use crate::project::model::Project;
use crate::project::model::TaskId;
use crate::project::model::TaskNode;
use crate::project::model::What;
use crate::project::needs::Resolver;
use crate::project::paths::from_root;
use crate::project::task_call::TaskCall;
use crate::project::task_call::usage;
use crate::project::task_frame::call_frame;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// More tasks than this that others call with values lead in a circle.
const MAX_CALLED: usize = 10_000;

/// Which words of a task can be told: those that put in no parameter that must be given and is not, as in a task that
/// nobody runs.
struct ClearWords<'c> {
    unclear: Vec<&'c str>,
}

impl<'c> ClearWords<'c> {
    fn of(decl: &'c TaskDecl<'_>, call: &TaskCall, frame: &Frame<'_>) -> Self {
        let mut unclear: Vec<&'c str> = call.missing(decl);
        if !unclear.is_empty() {
            let own = decl.clauses.lets.iter().map(|own| &*own.name.text);
            unclear.extend(own.filter(|name| frame.local(name).is_none()));
        }
        Self { unclear }
    }

    fn is(&self, word: &Word) -> bool {
        word_names(word).all(|name| !self.unclear.contains(&name))
    }
}

impl<'d> Resolver<'_, 'd> {
    /// Resolves all tasks, also those that come to be called meanwhile.
    pub(super) fn all_tasks(&mut self, project: &mut Project<'d>) {
        let mut index = 0;
        while index < project.tasks.len() {
            self.task(project, index);
            index += 1;
        }
    }

    fn task(&mut self, project: &mut Project<'d>, index: usize) {
        let decl = Arc::clone(&project.tasks[index].decl);
        let call = project.tasks[index].call.clone();
        // What is wrong is reported; the task then lacks the names, which is never run.
        let Some(frame) = call_frame(self.vars, &decl, &call) else {
            return;
        };
        if let Some(when) = decl.clauses.when
            && decl.when_depends_on_call()
            && call.missing(&decl).is_empty()
            && self.vars.condition(when, &frame) == Some(false)
        {
            if project.tasks[index].is_called || call != TaskCall::default() {
                self.vars.report(
                    Diagnostic::error(
                        &mistakes::UNDESCRIBED_CALL,
                        decl.syntax.span,
                        format!(
                            "`{}` is not described for these values:{}",
                            decl.name,
                            call.written(&decl)
                        ),
                    )
                    .help("its `when` does not hold"),
                );
            }
            return;
        }
        let clear = ClearWords::of(&decl, &call, &frame);
        for (number, group) in decl.clauses.needs.iter().enumerate() {
            let Some(except) = self.vars.excluded(&group.except, &frame) else {
                continue;
            };
            let of = Asked::of(Means::Files).without(&except);
            let group_number = u16::try_from(number).unwrap_or(u16::MAX);
            for item in group.items.iter().filter(|item| clear.is(&item.word)) {
                for what in self.word(project, &item.word, &frame, None, of) {
                    let group = group_number;
                    project.tasks[index].needs.push(Need { group, what });
                }
            }
        }
        for word in &decl.clauses.after {
            let found = self.tasks_and_files(project, word, &frame, &clear);
            project.tasks[index].after.extend(found);
        }
        for word in decl.clauses.steps {
            let found = self.tasks_and_files(project, word, &frame, &clear);
            for what in found {
                if let What::Task(task) = what
                    && project.tasks[task.index()].decl.clauses.stays
                {
                    self.never_ends(&project.tasks[task.index()], word);
                } else {
                    project.tasks[index].steps.push(what);
                }
            }
        }
        for word in decl.clauses.finally_tasks {
            for what in self.tasks_and_files(project, word, &frame, &clear) {
                self.finally(project, index, what, word);
            }
        }
    }

    /// What a word after `after`, `steps` or `finally` of a task stands for.
    fn tasks_and_files(
        &mut self,
        project: &mut Project<'d>,
        word: &Word,
        frame: &Frame<'_>,
        clear: &ClearWords<'_>,
    ) -> Vec<What> {
        if !clear.is(word) {
            return Vec::new();
        }
        self.word(project, word, frame, None, Asked::of(Means::Both))
    }

    /// Reports a task that stays in a place where it would have to end.
    fn never_ends(&self, task: &TaskNode<'_>, word: &Word) {
        self.vars.report(
            Diagnostic::error(
                &mistakes::STAYING_STEP,
                word.span,
                format!(
                    "`{}` stays, and can't be one of the steps, which end one after another",
                    task.name
                ),
            )
            .help(format!(
                "write `after {}` in the tasks that need it",
                task.name
            )),
        );
    }

    fn finally(&self, project: &mut Project<'d>, index: usize, what: What, word: &Word) {
        let wrong = match what {
            What::Task(task) => {
                let node = &project.tasks[task.index()];
                let clauses = &node.decl.clauses;
                let is_plain = clauses.recipe.is_some()
                    && clauses.after.is_empty()
                    && clauses.steps.is_empty()
                    && clauses.finally_tasks.is_empty()
                    && !clauses.stays;
                if is_plain {
                    project.tasks[index].finally.push(task);
                    return;
                }
                format!(
                    "the task `{}` can't be done in the end: it is more than a recipe",
                    node.name
                )
            }
            What::Path(path) => format!("`{}` is a file, and no task", project.paths.get(path)),
            What::Set(_) => "this pattern matches files, and not tasks alone".to_owned(),
        };
        self.vars.report(
            Diagnostic::error(&mistakes::UNFIT_FINALLY, word.span, wrong).help(
                "what is done whatever happened can't wait for anything: name tasks that have a `recipe:` and neither `after`, `steps` nor `finally` of their own",
            ),
        );
    }

    /// The task that a quoted word with spaces calls with values; none when its first word is no task.
    pub(super) fn called(
        &mut self,
        project: &mut Project<'d>,
        word: &Word,
        frame: &Frame<'_>,
    ) -> Option<Option<What>> {
        let words = self.call_words(word, frame)?;
        let (name, values) = words.split_first()?;
        let folder = &self.vars.description.parts[frame.part.index()].folder;
        let &task = self.tasks.get(&from_root(folder, name))?;
        let decl = Arc::clone(&project.tasks[task.index()].decl);
        match TaskCall::bind(self.vars, &decl, values) {
            Ok(call) => Some(self.instance(project, &decl, call, word)),
            Err(wrong) => {
                let usage = usage(self.vars, &decl);
                let meant = wrong
                    .near
                    .map_or_else(String::new, |near| format!("did you mean `{near}`? "));
                self.vars.report(
                    Diagnostic::error(&mistakes::UNFIT_CALL, word.span, wrong.title)
                        .also(decl.syntax.span, "the task")
                        .help(format!("{meant}The task is called as: '{usage}'")),
                );
                Some(None)
            }
        }
    }

    /// A task with these values: one for all who call it so.
    fn instance(
        &mut self,
        project: &mut Project<'d>,
        decl: &Arc<TaskDecl<'d>>,
        call: TaskCall,
        word: &Word,
    ) -> Option<What> {
        let node = TaskNode::new(Arc::clone(decl), call, true);
        if let Some(&known) = self.tasks.get(&node.name) {
            return Some(What::Task(known));
        }
        if project.tasks.len() > MAX_CALLED {
            self.vars.report(
                Diagnostic::error(
                    &mistakes::ENDLESS_CALLS,
                    word.span,
                    format!("more than {MAX_CALLED} tasks are called with values"),
                )
                .help("does a task call itself, each time with another value?"),
            );
            return None;
        }
        let id = TaskId::from_index(project.tasks.len());
        self.tasks.insert(node.name.clone(), id);
        project.tasks.push(node);
        Some(What::Task(id))
    }

    /// The words of a call: those of a quoted word that has spaces in it. A variable that stands alone between spaces
    /// gives each of its words.
    fn call_words(&self, word: &Word, frame: &Frame<'_>) -> Option<Vec<String>> {
        let WordKind::Mixed(parts) = &word.kind else {
            return None;
        };
        let has_space = |part: &WordPart| matches!(part, WordPart::Text { text, quoted: true } if text.contains(' '));
        if !parts.iter().any(has_space) {
            return None;
        }
        let mut splitter = CallSplitter::default();
        for part in parts {
            match part {
                WordPart::Text { text, .. } => splitter.text(text),
                WordPart::Var(reference) => {
                    let value = self.vars.reference(reference, frame)?;
                    splitter.value(value.texts().map(str::to_owned).collect());
                }
            }
        }
        Some(splitter.end())
    }
}

/// Cuts a call into words: at spaces, but for those in quotes, and for those of values that are put in.
#[derive(Default)]
struct CallSplitter {
    words: Vec<String>,
    /// The word that is not at its end.
    open: Option<String>,
    quote: Option<char>,
}

impl CallSplitter {
    fn text(&mut self, text: &str) {
        for c in text.chars() {
            match (self.quote, c) {
                (Some(quote), c) if c == quote => self.quote = None,
                (None, '\'' | '"') => {
                    self.quote = Some(c);
                    self.open.get_or_insert_default();
                }
                (None, c) if c.is_whitespace() => self.words.extend(self.open.take()),
                (_, c) => self.open.get_or_insert_default().push(c),
            }
        }
    }

    fn value(&mut self, mut words: Vec<String>) {
        match (&mut self.open, words.len()) {
            // What stands alone gives each of its words; the last may go on.
            (None, _) => {
                self.open = words.pop();
                self.words.append(&mut words);
            }
            (Some(open), _) => open.push_str(&words.join(" ")),
        }
    }

    fn end(mut self) -> Vec<String> {
        self.words.extend(self.open.take());
        self.words
    }
}
