//! When a job has ended: what it made, what it saw, what is written down of it.

use std::collections::HashSet;

use crate::content::State;
use crate::content::changed_since;
use crate::executor::JobEnd;
use crate::ledger::Edge;
use crate::ledger::Entry;
use crate::ledger::Given;
use crate::ledger::LEGACY;
use crate::ledger::RanIn;
use crate::ledger::StepRecord;
use crate::ledger::task_key;
use crate::project::Need;
use crate::project::PathId;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::recipe_text::task_parameters;
use crate::project::recipe_text::task_recipe_text;
use crate::scheduler::build_state::BuildContext;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Problem;
use crate::scheduler::event::ReadReport;
use crate::scheduler::learned_inputs::LearnedInputs;
use crate::scheduler::options::RecipeMode;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::slot_table::RunningJob;
use crate::scheduler::stored_results::StoredResults;
use crate::scheduler::undeclared_edges::EdgeFinder;
use crate::status::FileStates;
use crate::status::StepInputs;
use crate::status::learned_edges::FoundEdges;
use crate::status::step_inputs::task_givens;
use crate::store::KeepRequest;
use crate::verdict::GivenState;
use crate::verdict::Reason;
use crate::verdict::ResultOrigin;
use crate::verdict::is_as_left;
use crate::world::Ticks;
use crate::world::nanoseconds;

/// Takes stock of a job whose recipe ended well.
pub struct Completion<'c, 's, 'p, 'd> {
    /// What the pass works on.
    pub view: PassView<'p, 'd>,
    /// What comes in from outside.
    pub context: BuildContext<'s>,
    /// What stands at every path.
    pub states: &'c mut FileStates<'s>,
    /// What of each step is compared.
    pub inputs: &'c StepInputs<'p, 'd>,
    /// Finds edges that nobody declared.
    pub edges: &'c EdgeFinder,
    /// Those that were found.
    pub found: &'c mut FoundEdges,
    /// What a watched step was seen to read.
    pub read: Option<ReadReport>,
    /// How recipes run that do not say it themselves.
    pub recipes: RecipeMode,
    /// What is to be kept of the step.
    pub keep: Option<KeepRequest>,
    /// The run as records of its steps speak of it.
    pub run: Option<u64>,
}

/// What a recipe told of, and what it was seen to read besides.
fn merged(told: Vec<Edge>, seen: Vec<Edge>) -> Vec<Edge> {
    if told.is_empty() {
        return seen;
    }
    let names: HashSet<String> = told.iter().map(|edge| edge.path.clone()).collect();
    let seen = seen.into_iter().filter(|edge| !names.contains(&edge.path));
    let mut all = told;
    all.extend(seen);
    all
}

fn given(state: &GivenState) -> Given {
    Given {
        key: state.key.clone(),
        value: state.value.text().map(str::to_owned),
    }
}

/// What a step that ended well is recorded with.
struct Seen {
    outputs: Vec<Edge>,
    needs: Vec<Edge>,
    learned: Vec<Edge>,
}

fn wrong_description() -> Problem {
    Problem::Around("its description is wrong".to_owned())
}

impl Completion<'_, '_, '_, '_> {
    /// Checks what a step made and that its prerequisites stayed as they were; gives what is to be recorded.
    pub fn step(
        &mut self,
        step: StepId,
        job: &RunningJob,
        end: &JobEnd,
    ) -> Result<(Ending, Vec<Entry>), Problem> {
        let project = self.view.project;
        let node = project.step(step);
        let outputs: Vec<(u16, PathId)> = project.step_outputs(node).to_vec();
        let (made, made_records) = self.outputs(&outputs, end)?;
        let by_luck =
            self.edges
                .behind_links(&self.view, self.states, self.context.disk, self.found, step);
        let needs = self.needs(project.step_needs(node), end.began, &by_luck)?;
        let began = began_at(&self.context, end.began);
        let mut inputs = LearnedInputs {
            view: self.view,
            context: self.context,
            states: self.states,
            edges: self.edges,
            found: self.found,
        };
        let mut learned = match job.hit.as_ref().filter(|_| end.restored) {
            Some(hit) => inputs.restored(step, &hit.learned),
            None => inputs.read(step, &job.prepared, began)?,
        };
        if let (Some(plan), Some(observed)) = (job.prepared.watch, &end.outcome.observed) {
            let (seen, mut report) = inputs.observed(step, plan, observed, began);
            // What the recipe tells of by itself needs no other word.
            let is_told = |path: &String| learned.iter().any(|edge| edge.path == *path);
            report.undeclared.retain(|path| !is_told(path));
            learned = merged(learned, seen);
            self.read = Some(report);
        }
        if let Some(observed) = &end.outcome.observed
            && !(observed.refused.is_empty() && observed.gaps.is_empty())
        {
            let name = project.step_name(step);
            let report = self.read.get_or_insert_with(|| ReadReport::new(name));
            report.add_refusals(observed);
        }
        for (&(_, path), look) in outputs.iter().zip(&end.outputs) {
            self.states.set(path, look.state.clone());
        }
        let states: Vec<&State> = end.outputs.iter().map(|look| &look.state).collect();
        let (ending, dropped) = self.compare_with_last(project.step_name(step), &made, &states);
        // What was read before it ran stands in front of what it made: the last record of a file counts.
        let mut entries = self.states.take_fresh();
        entries.extend(made_records);
        entries.extend(dropped);
        let seen = Seen {
            outputs: made,
            needs,
            learned,
        };
        let record = self.record(step, seen, job, end);
        let record = record.ok_or_else(wrong_description)?;
        if !end.restored {
            self.keep = self.keep_request(step, &record, end);
        }
        entries.push(Entry::Ended(Box::new(record)));
        let ending = if end.restored {
            Ending::Restored
        } else {
            ending
        };
        Ok((ending, entries))
    }

    /// What of the step is put into the store.
    fn keep_request(&self, step: StepId, record: &StepRecord, end: &JobEnd) -> Option<KeepRequest> {
        let stored = StoredResults {
            project: self.view.project,
            store: self.context.store?,
            recipes: self.recipes,
        };
        stored.keep_request(step, record, end, self.read.as_ref())
    }

    /// What stands at the outputs now, and the records of files that were read for it.
    fn outputs(
        &self,
        outputs: &[(u16, PathId)],
        end: &JobEnd,
    ) -> Result<(Vec<Edge>, Vec<Entry>), Problem> {
        let mut missing = Vec::new();
        let mut edges = Vec::with_capacity(outputs.len());
        let mut entries = Vec::new();
        for (&(group, path), look) in outputs.iter().zip(&end.outputs) {
            let text = self.view.project.paths.get(path);
            match &look.state {
                state @ (State::Content(_) | State::Linked(_)) => edges.push(Edge {
                    path: text.to_owned(),
                    digest: state.own_digest(),
                    group,
                }),
                State::Missing => missing.push(text.to_owned()),
                State::WrongKind => return Err(Problem::WrongKind(text.to_owned())),
                State::Unreadable(why) => {
                    return Err(Problem::Around(format!("`{text}` can't be read: {why}")));
                }
            }
            entries.extend(
                look.read
                    .iter()
                    .map(|(path, record)| Entry::File(path.clone(), *record)),
            );
        }
        if !missing.is_empty() {
            return Err(Problem::NotWritten(missing));
        }
        Ok((edges, entries))
    }

    /// A task that is remembered and ended well: what it saw.
    pub fn task(
        &mut self,
        task: TaskId,
        job: &RunningJob,
        end: &JobEnd,
    ) -> Result<Vec<Entry>, Problem> {
        let project = self.view.project;
        let node = &project.tasks[task.index()];
        let needs = self.needs(&node.needs, end.began, &[])?;
        let recipe_text = task_recipe_text(self.view.vars, project, node);
        let mut entries = self.states.take_fresh();
        entries.push(Entry::Ended(Box::new(StepRecord {
            name: task_key(&node.name),
            recipe_text: recipe_text.ok_or_else(wrong_description)?,
            parameters: task_parameters(&node.call),
            needs,
            givens: task_givens(self.view.vars, project, node)
                .ok_or_else(wrong_description)?
                .iter()
                .map(given)
                .collect(),
            ..self.usage(job, end)
        })));
        Ok(entries)
    }

    fn record(
        &self,
        step: StepId,
        seen: Seen,
        job: &RunningJob,
        end: &JobEnd,
    ) -> Option<StepRecord> {
        let givens = self.inputs.givens(step)?.iter();
        Some(StepRecord {
            name: self.view.project.step_name(step).to_owned(),
            recipe_text: self.inputs.recipe_text(step)?.to_owned(),
            parameters: self.inputs.parameters(step)?,
            outputs: seen.outputs,
            needs: seen.needs,
            learned: seen.learned,
            givens: givens.map(given).collect(),
            ..self.usage(job, end)
        })
    }

    /// What every record has: why it ran, in which run, when, and what it took.
    fn usage(&self, job: &RunningJob, end: &JobEnd) -> StepRecord {
        let origin = origin(job, end);
        let mut reasons: String = job.reasons.iter().map(Reason::line).collect();
        if let Some(origin) = &origin {
            reasons.push_str(&origin.line());
        }
        if let Some(run) = self.run {
            let remote = end.outcome.remote.as_ref();
            let ran_in = RanIn {
                run,
                place: remote.map(|remote| remote.place.clone()),
                node: remote.map(|remote| remote.node.clone()),
            };
            reasons.push_str(&ran_in.line());
        }
        let ended_at = self.context.clock.now();
        if let Some(origin) = origin {
            let result = job.hit.as_ref().map(|hit| &hit.restore.result);
            return StepRecord {
                reasons,
                ended_at,
                took: origin.took,
                memory: result.map_or(0, |result| result.memory),
                processor: result.map_or(0, |result| result.processor),
                ..StepRecord::default()
            };
        }
        StepRecord {
            reasons,
            ended_at,
            took: nanoseconds(end.took()),
            memory: end.outcome.memory.bytes(),
            processor: nanoseconds(end.outcome.processor),
            ..StepRecord::default()
        }
    }

    /// Whether the outputs came out as before, and records that keep track of outputs that the step no
    /// longer has.
    fn compare_with_last(
        &self,
        name: &str,
        edges: &[Edge],
        states: &[&State],
    ) -> (Ending, Vec<Entry>) {
        let ledger = self.context.ledger.borrow();
        let Some(last) = ledger.step(name) else {
            return (Ending::Made, Vec::new());
        };
        let same = last.outputs().len() == edges.len()
            && last
                .outputs()
                .zip(edges)
                .zip(states)
                .all(|((was, now), state)| was.path == now.path && is_as_left(&was, state));
        let dropped = last
            .outputs()
            .filter(|was| edges.iter().all(|edge| edge.path != was.path))
            .map(|was| {
                Entry::Ended(Box::new(StepRecord {
                    name: was.path.to_owned(),
                    outputs: vec![Edge {
                        path: was.path.to_owned(),
                        digest: was.digest,
                        group: was.raw_group() & LEGACY,
                    }],
                    ended_at: last.ended_at(),
                    ..StepRecord::default()
                }))
            })
            .collect();
        (if same { Ending::Same } else { Ending::Made }, dropped)
    }

    /// The prerequisites as the recipe saw them; they must still be so. What was made meanwhile behind a link,
    /// and in the wrong order, is recorded as not there, so that the step is judged anew.
    fn needs(
        &mut self,
        needs: &[Need],
        began: Ticks,
        by_luck: &[PathId],
    ) -> Result<Vec<Edge>, Problem> {
        let project = self.view.project;
        let needs: Vec<(u16, PathId)> = project.open_needs(needs).collect();
        let mut edges = Vec::with_capacity(needs.len());
        for (group, path) in needs {
            let before = self.states.get(path).clone();
            let source = project.maker(path).is_none();
            let now = self.states.refresh(project, path, source).digest();
            let differs = now != before.digest();
            if differs && !by_luck.contains(&path) {
                // Others that run now may have read it before it changed: for them too it must still be what
                // it was when this run looked at it.
                self.states.set(path, before);
                let changed = self.changed_in(project.paths.get(path), began);
                return Err(Problem::PrerequisiteChanged(changed));
            }
            edges.push(Edge {
                path: project.paths.get(path).to_owned(),
                digest: now.filter(|_| !differs),
                group,
            });
        }
        Ok(edges)
    }

    /// The file that was changed since a job began: of a whole folder, which one in it.
    fn changed_in(&self, name: &str, began: Ticks) -> String {
        let began = began_at(&self.context, began);
        let inner = name
            .ends_with('/')
            .then(|| changed_since(self.context.disk, name, began))
            .flatten();
        inner.unwrap_or_else(|| name.to_owned())
    }
}

/// Where the result of a job came from that was restored.
pub fn origin(job: &RunningJob, end: &JobEnd) -> Option<ResultOrigin> {
    let hit = job.hit.as_ref().filter(|_| end.restored)?;
    let result = &hit.restore.result;
    Some(ResultOrigin {
        shared: hit.is_shared,
        made_at: result.made_at,
        took: result.took,
        made_in: result.made_in.clone(),
    })
}

/// When a job began, nanoseconds since 1970.
pub fn began_at(context: &BuildContext<'_>, began: Ticks) -> i64 {
    let ago = nanoseconds(context.clock.ticks().since(began));
    let ago = i64::try_from(ago).unwrap_or(i64::MAX);
    context.clock.now().saturating_sub(ago)
}
