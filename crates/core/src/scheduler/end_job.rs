//! When a job has ended: its outputs are taken or put back, its end is written down, and told.

use crate::executor::Exit;
use crate::executor::JobEnd;
use crate::executor::SlotId;
use crate::executor::TwiceReport;
use crate::graph::Node;
use crate::ledger::BadEnd;
use crate::ledger::Entry;
use crate::scheduler::build_state::BuildState;
use crate::scheduler::complete::Completion;
use crate::scheduler::complete::origin;
use crate::scheduler::critical_path::CriticalPath;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::event::JobFailure;
use crate::scheduler::event::JobUsage;
use crate::scheduler::event::Problem;
use crate::scheduler::event::ReadReport;
use crate::scheduler::failure_hint::hint;
use crate::scheduler::judge::Judge;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::slot_table::RunningJob;
use crate::scheduler::undeclared_edges::EdgeFinder;
use crate::store::KeepRequest;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::verdict::ResultOrigin;
use crate::world::FileKind;
use crate::world::quarantine;

/// An output that is larger is no log that is looked into, and of one that is so many lines and bytes are shown.
const MOST_LOG: u64 = 16 << 20;
const LOG_LINES: usize = 20;
const LOG_BYTES: usize = 4 << 10;

/// Takes stock of jobs that have ended.
pub struct JobEnder<'c, 's, 'p, 'd> {
    /// What the pass works on.
    pub view: PassView<'p, 'd>,
    /// What passes share.
    pub state: &'c mut BuildState<'s>,
    /// What stands at every path, and what of each step is compared.
    pub judge: &'c mut Judge<'s, 'p, 'd>,
    /// The longest way to each position.
    pub paths: &'c mut CriticalPath,
    /// Finds edges that nobody declared.
    pub edges: &'c EdgeFinder,
}

/// What became of a job, before anything is written down.
struct Verdict {
    ending: Ending,
    problem: Option<Problem>,
    entries: Vec<Entry>,
    /// What a watched step was seen to read.
    read: Option<ReadReport>,
    /// What is to be kept of it.
    keep: Option<KeepRequest>,
}

impl JobEnder<'_, '_, '_, '_> {
    /// Takes stock of a job that has ended in a slot.
    pub fn end(&mut self, job: RunningJob, slot: SlotId, end: JobEnd) -> Result<Ended, BuildError> {
        let verdict = self.verdict(&job, &end);
        let problem = verdict.problem;
        let bad = match (&problem, verdict.ending) {
            (_, Ending::Stopped) => Some(BadEnd::CutShort),
            (Some(_), _) => Some(BadEnd::Failed),
            (None, _) => None,
        };
        let moved = self.write_down(&job, bad, verdict.entries)?;
        if let Exit::NoRoom(why) = &end.outcome.exit {
            let what = format!("can't start the recipe of `{}`", job.prepared.job.name);
            return Err(BuildError::io(what, std::io::Error::other(why.clone())));
        }
        self.tell_left_behind(&job, &end);
        if let Some(read) = verdict.read {
            self.state.events.tell(Event::Read(Box::new(read)));
        }
        let origin = origin(&job, &end);
        self.tell_store(&job, verdict.keep, origin.as_ref(), &end);
        let usage = JobUsage {
            began: end.began.since(self.state.began) + end.queued(),
            slot,
            memory: end.outcome.memory,
            processor: end.outcome.processor,
        };
        let failure = problem.map(|problem| self.failure(problem, &job, &end, moved));
        let waited = self.paths.ended(job.position, &end);
        let after = self.paths.last_before(job.position);
        Ok(Ended {
            task: matches!(self.view.node(job.position), Node::Task(_)),
            ending: match failure {
                Some(_) => Ending::Failed,
                None => verdict.ending,
            },
            took: end.took(),
            remote: end.outcome.remote.clone(),
            reasons: job.reasons,
            exit: (!end.restored).then_some(end.outcome.exit),
            output: end.outcome.output,
            failure,
            origin,
            twice: end.twice,
            usage: Some(usage),
            after: after.map(|position| self.view.name(position)),
            waited,
            described: self.view.described(job.position),
            step: job.prepared.job.name.clone(),
        })
    }

    /// Tells the store what was made, or that what it had is in place.
    fn tell_store(
        &mut self,
        job: &RunningJob,
        keep: Option<KeepRequest>,
        origin: Option<&ResultOrigin>,
        end: &JobEnd,
    ) {
        let differs = end.twice.as_ref().map(TwiceReport::differs);
        let summary = &mut self.state.progress.summary;
        summary.twice += usize::from(differs.is_some());
        summary.differing += usize::from(differs == Some(true));
        let Some(store) = self.state.context.store else {
            return;
        };
        if let (Some(differs), Some(request)) = (differs, &keep) {
            store.note_difference(request.declared, differs);
        }
        if differs == Some(true)
            && let Some(hit) = &job.hit
        {
            hit.restore.forget();
        }
        if let Some(origin) = origin {
            store.note_restored(origin.took().saturating_sub(end.took()), origin.shared);
        }
        if let Some(request) = keep.filter(|_| differs != Some(true)) {
            store.keep(request);
        }
    }

    fn verdict(&mut self, job: &RunningJob, end: &JobEnd) -> Verdict {
        let mut verdict = Verdict {
            ending: Ending::Made,
            problem: None,
            entries: Vec::new(),
            read: None,
            keep: None,
        };
        if end.outcome.stopped {
            verdict.ending = Ending::Stopped;
            return verdict;
        }
        if end.outcome.exit != Exit::Status(0) {
            verdict.problem = Some(Problem::Recipe);
            return verdict;
        }
        let view = self.view;
        let mut completion = Completion {
            view,
            context: self.state.context,
            states: &mut self.judge.states,
            inputs: &self.judge.inputs,
            edges: self.edges,
            found: &mut self.state.progress.found_edges,
            read: None,
            recipes: self.state.options.recipes,
            keep: None,
            run: self.state.run,
        };
        let seen = match view.node(job.position) {
            Node::Step(step) => completion.step(step, job, end),
            Node::Task(task) if view.project.tasks[task.index()].decl.clauses.remember => {
                let entries = completion.task(task, job, end);
                entries.map(|entries| (Ending::Made, entries))
            }
            Node::Task(_) | Node::Set(_) => Ok((Ending::Made, Vec::new())),
        };
        match seen {
            Ok((ending, entries)) => {
                verdict.ending = ending;
                verdict.entries = entries;
            }
            Err(problem) => verdict.problem = Some(problem),
        }
        verdict.read = completion.read.take();
        verdict.keep = completion.keep.take();
        verdict
    }

    /// The end of what a recipe left in an output, when it failed without a word: tests and tools are run with such logs.
    fn output_as_log(
        &self,
        problem: &Problem,
        moved: &[(String, String)],
        end: &JobEnd,
    ) -> Option<(String, String)> {
        if !matches!(problem, Problem::Recipe) || !end.outcome.output.is_empty() {
            return None;
        }
        let disk = self.state.context.disk;
        moved.iter().find_map(|(from, to)| {
            let stat = disk.stat(to).ok()??;
            if stat.kind != FileKind::File || !(1..=MOST_LOG).contains(&stat.size) {
                return None;
            }
            let text = String::from_utf8(disk.read(to).ok()?).ok()?;
            let is_text = !text.trim().is_empty() && !text.contains('\0');
            is_text.then(|| (from.clone(), last_lines(&text).to_owned()))
        })
    }

    /// Writes a job's end down and puts its outputs in order; what was moved out of the way, and where to.
    fn write_down(
        &mut self,
        job: &RunningJob,
        bad: Option<BadEnd>,
        mut entries: Vec<Entry>,
    ) -> Result<Vec<(String, String)>, BuildError> {
        self.state.note_circumstances(false)?;
        let (project, node) = (self.view.project, self.view.node(job.position));
        let (state, states) = (&mut *self.state, &mut self.judge.states);
        let mut moved = Vec::new();
        if let Some(how) = bad
            && let Some(key) = self.view.recorded_under(job.position)
        {
            if let Node::Step(step) = node {
                moved = state.places.move_failed(project, step, states)?;
                state.places.put_back(&job.set_by, project, states)?;
                entries = states.take_fresh();
            }
            entries.push(Entry::EndedBadly(key, how));
        }
        if let Node::Step(step) = node {
            let events = &mut state.events;
            state.places.tell_aside(project, step, states, events);
        }
        if let Some(learn) = &job.prepared.learn
            && learn.scratch
        {
            // It is of no use any more; what is left is overwritten by the next job of this slot.
            let _ = quarantine::remove(state.context.disk, &learn.path);
        }
        state.writer.record(entries)?;
        if bad.is_none() {
            state.places.drop_old(&job.set_by);
        }
        Ok(moved)
    }

    fn failure(
        &self,
        problem: Problem,
        job: &RunningJob,
        end: &JobEnd,
        moved: Vec<(String, String)>,
    ) -> JobFailure {
        let prepared = &job.prepared;
        let finally = end.outcome.finally;
        let finally = finally.and_then(|number| prepared.finally.get(number));
        let failed = finally.unwrap_or(&prepared.job);
        JobFailure {
            log: self.output_as_log(&problem, &moved, end),
            problem,
            exit: end.outcome.exit.clone(),
            finally: finally.map(|job| job.name.clone()),
            script: failed.script.clone(),
            interpreter: failed.interpreter.clone(),
            folder: failed.folder.clone(),
            span: prepared.span,
            moved,
            refused: end
                .outcome
                .observed
                .as_ref()
                .map(|observed| observed.refused.clone())
                .unwrap_or_default(),
            hint: hint(&self.view, job.position, &failed.script),
        }
    }

    /// Tells of programs that a recipe that ended well left running.
    fn tell_left_behind(&mut self, job: &RunningJob, end: &JobEnd) {
        let left = &end.outcome.left_behind;
        if left.is_empty() || end.outcome.exit != Exit::Status(0) {
            return;
        }
        let name = &job.prepared.job.name;
        let mut programs: Vec<String> = left.iter().map(|name| format!("`{name}`")).collect();
        programs.dedup();
        self.state.warn(
            Diagnostic::warning(
                &mistakes::LEFT_RUNNING,
                job.prepared.span,
                format!(
                    "`{name}` left {} running in the background; it was ended",
                    programs.join(", ")
                ),
            )
            .help("let the recipe wait for it with `wait`; a server is a task of its own, marked `stays` or `terminal`"),
        );
    }
}

/// The last lines of a text.
fn last_lines(text: &str) -> &str {
    let text = text.trim_end();
    let mut starts = text.rmatch_indices('\n').map(|(at, _)| at + 1);
    let start = starts.nth(LOG_LINES - 1).unwrap_or(0);
    // Of very long lines only as much as fits.
    let fits = text.len().saturating_sub(LOG_BYTES);
    let fits = (fits..=text.len()).find(|&at| text.is_char_boundary(at));
    &text[start.max(fits.unwrap_or(0))..]
}
