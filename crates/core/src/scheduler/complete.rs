//! When a step's job has ended: what it made, what it saw, what it left behind.

use crate::content::State;
use crate::content::changed_since;
use crate::executor::exit::Exit;
use crate::graph::Node;
use crate::language::LearnHow;
use crate::ledger::BadEnd;
use crate::ledger::Edge;
use crate::ledger::Entry;
use crate::ledger::Given;
use crate::ledger::LEGACY;
use crate::ledger::StepRecord;
use crate::ledger::task_key;
use crate::project::Need;
use crate::project::PathId;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::paths::from_root;
use crate::project::script::task_parameters;
use crate::project::script::task_recipe_text;
use crate::scheduler::dependency_listing;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::event::JobFailure;
use crate::scheduler::event::JobUsage;
use crate::scheduler::event::Problem;
use crate::scheduler::link_edges;
use crate::scheduler::pass::Pass;
use crate::scheduler::pass::PassError;
use crate::scheduler::pass::RunningJob;
use crate::scheduler::prepare_outputs;
use crate::scheduler::worker_pool::WorkDone;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::verdict::Reason;
use crate::verdict::is_as_left;
use crate::world::Disk;
use crate::world::names;
use crate::world::quarantine;

/// Takes stock of a job that has ended.
pub fn end(
    pass: &mut Pass<'_, '_, '_>,
    job: RunningJob,
    done: WorkDone,
) -> Result<Ended, PassError> {
    let task = matches!(
        pass.order.nodes[job.position].node(pass.project),
        Node::Task(_)
    );
    let mut problem = None;
    let mut ending = Ending::Made;
    let mut entries = Vec::new();
    if done.outcome.stopped {
        ending = Ending::Stopped;
    } else if done.outcome.exit != Exit::Status(0) {
        problem = Some(Problem::Recipe);
    } else if let Node::Step(step) = pass.order.nodes[job.position].node(pass.project) {
        match success(pass, step, &job, &done) {
            Ok((how, recorded)) => {
                ending = how;
                entries = recorded;
            }
            Err(found) => problem = Some(found),
        }
    } else if let Node::Task(task) = pass.order.nodes[job.position].node(pass.project)
        && pass.project.tasks[task.index()].decl.clauses.remember
    {
        match remembered(pass, task, &job, &done) {
            Ok(recorded) => entries = recorded,
            Err(found) => problem = Some(found),
        }
    }
    let bad = match (&problem, ending) {
        (_, Ending::Stopped) => Some(BadEnd::CutShort),
        (Some(_), _) => Some(BadEnd::Failed),
        (None, _) => None,
    };
    let mut moved = Vec::new();
    if let Some(how) = bad
        && let Some(key) = recorded_under(pass, job.position)
    {
        if let Node::Step(step) = pass.order.nodes[job.position].node(pass.project) {
            moved = move_outputs(pass, step)?;
            prepare_outputs::put_back(pass, &job.set_by)?;
            entries = pass.states.take_fresh();
        }
        entries.push(Entry::EndedBadly(key, how));
    }
    if let Node::Step(step) = pass.order.nodes[job.position].node(pass.project) {
        prepare_outputs::tell_aside(pass, step);
    }
    if let Some(learn) = &job.prepared.learn
        && learn.scratch
    {
        // It is of no use any more; what is left is overwritten by the next job of this slot.
        let _ = quarantine::remove(pass.session.disk, &learn.path);
    }
    pass.session.record(entries)?;
    if bad.is_none() {
        prepare_outputs::drop_old(pass, &job.set_by);
    }
    if let Exit::NoRoom(why) = &done.outcome.exit {
        let what = format!("can't start the recipe of `{}`", job.prepared.job.name);
        return Err(PassError::Io(what, std::io::Error::other(why.clone())));
    }
    tell_left_behind(pass, &job, &done);
    let took = JobUsage {
        began: seconds(done.began.saturating_sub(pass.session.began)),
        slot: done.slot,
        memory: done.outcome.memory,
        processor: seconds(done.outcome.processor),
    };
    let failure = problem.map(|problem| JobFailure {
        problem,
        exit: done.outcome.exit.clone(),
        script: job.prepared.job.script.clone(),
        interpreter: job.prepared.job.interpreter.clone(),
        folder: job.prepared.job.folder.clone(),
        span: job.prepared.span,
        moved,
        hint: hint(pass, job.position, &job.prepared.job.script),
    });
    if failure.is_some() {
        ending = Ending::Failed;
    }
    let way = &mut pass.ways[job.position];
    way.took = Some(seconds(done.took));
    let waited = seconds(done.began.saturating_sub(way.free_at));
    let described = match pass.order.nodes[job.position].node(pass.project) {
        Node::Step(step) => pass.project.decl(pass.project.step(step)).syntax.span,
        Node::Task(task) => pass.project.tasks[task.index()].decl.syntax.span,
        Node::Set(_) => Span::default(),
    };
    Ok(Ended {
        step: job.prepared.job.name.clone(),
        task,
        ending,
        reasons: job.reasons,
        seconds: seconds(done.took),
        exit: Some(done.outcome.exit),
        output: done.outcome.output,
        failure,
        took: Some(took),
        after: pass.after(job.position),
        waited,
        described,
    })
}

/// `$cc` or `<unit>` in a script, where the description has a variable or a hole of that name: what may have
/// been meant.
fn hint(pass: &Pass<'_, '_, '_>, position: usize, script: &str) -> Option<String> {
    let (part, holes): (_, &[String]) = match pass.order.nodes[position].node(pass.project) {
        Node::Step(step) => {
            let decl = pass.project.decl(pass.project.step(step));
            (decl.part, &decl.holes)
        }
        Node::Task(task) => (pass.project.tasks[task.index()].decl.part, &[]),
        Node::Set(_) => return None,
    };
    let hole = holes
        .iter()
        .find(|hole| script.contains(&format!("<{hole}>")));
    if let Some(hole) = hole {
        return Some(format!(
            "in a recipe what `<{hole}>` stands for is written `@{{{hole}}}`"
        ));
    }
    for (at, _) in script.match_indices('$') {
        let rest = script[at + 1..].trim_start_matches('{');
        let length = rest
            .find(|c: char| !(c.is_alphanumeric() || c == '_' || c == '-'))
            .unwrap_or(rest.len());
        let name = &rest[..length];
        let is_set = script.contains(&format!("{name}="));
        if !name.is_empty()
            && !is_set
            && (pass.vars.is_known(part, name) || holes.iter().any(|hole| hole == name))
        {
            return Some(format!(
                "`${name}` is the shell's own; the variable of the description is written `@{{{name}}}`"
            ));
        }
    }
    None
}

/// What a position is recorded under; none for tasks that are not remembered.
fn recorded_under(pass: &Pass<'_, '_, '_>, position: usize) -> Option<String> {
    match pass.order.nodes[position].node(pass.project) {
        Node::Step(step) => Some(pass.project.step_name(step).to_owned()),
        Node::Task(task) if pass.is_remembered(task) => {
            Some(task_key(&pass.project.tasks[task.index()].decl.name))
        }
        Node::Task(_) | Node::Set(_) => None,
    }
}

/// Tells of programs that a recipe that ended well left running.
fn tell_left_behind(pass: &mut Pass<'_, '_, '_>, job: &RunningJob, done: &WorkDone) {
    let left = &done.outcome.left_behind;
    if left.is_empty() || done.outcome.exit != Exit::Status(0) {
        return;
    }
    let name = &job.prepared.job.name;
    let mut programs: Vec<String> = left.iter().map(|name| format!("`{name}`")).collect();
    programs.dedup();
    let warning = Diagnostic::warning(
        job.prepared.span,
        format!(
            "`{name}` left {} running in the background; it was ended",
            programs.join(", ")
        ),
    )
    .help(
        "let the recipe wait for it with `wait`; a server is a task of its own, marked `terminal`",
    );
    pass.session.tell(Event::Warning(warning));
}

#[expect(
    clippy::cast_precision_loss,
    reason = "nanoseconds of a job as seconds for people"
)]
fn seconds(nanoseconds: u64) -> f64 {
    nanoseconds as f64 / 1e9
}

/// A recipe that ended well: checks what it made and that its prerequisites stayed as they were.
fn success(
    pass: &mut Pass<'_, '_, '_>,
    step: StepId,
    job: &RunningJob,
    done: &WorkDone,
) -> Result<(Ending, Vec<Entry>), Problem> {
    let project = pass.project;
    let node = project.step(step);
    let outputs: Vec<(u16, PathId)> = project.step_outputs(node).to_vec();
    let mut missing = Vec::new();
    let mut edges = Vec::with_capacity(outputs.len());
    let mut entries = Vec::new();
    for (&(group, path), look) in outputs.iter().zip(&done.outputs) {
        let text = project.paths.get(path);
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
    let by_luck = if pass.states.linked.is_empty() {
        Vec::new()
    } else {
        link_edges::find_edges(pass, step)
    };
    let needs = check_needs(pass, project.step_needs(node), done.began, &by_luck)?;
    let learned = learned(pass, step, job, done)?;
    for (&(_, path), look) in outputs.iter().zip(&done.outputs) {
        pass.states.set(path, look.state.clone());
    }
    let name = project.step_name(step).to_owned();
    let states: Vec<&State> = done.outputs.iter().map(|look| &look.state).collect();
    let (ending, dropped) = compare_with_last(pass, &name, &edges, &states);
    entries.extend(pass.states.take_fresh());
    entries.extend(dropped);
    let why = job.reasons.iter().map(Reason::line).collect();
    let seen = (edges, needs, learned);
    let record = record(pass, step, name, seen, why, done)
        .ok_or_else(|| Problem::Around("its description is wrong".to_owned()))?;
    entries.push(Entry::Ended(Box::new(record)));
    Ok((ending, entries))
}

/// A task that is remembered and ended well: what it saw.
fn remembered(
    pass: &mut Pass<'_, '_, '_>,
    task: TaskId,
    job: &RunningJob,
    done: &WorkDone,
) -> Result<Vec<Entry>, Problem> {
    let project = pass.project;
    let node = &project.tasks[task.index()];
    let needs = check_needs(pass, &node.needs, done.began, &[])?;
    let call = pass.call(task);
    let recipe_text = task_recipe_text(pass.vars, project, node, &call)
        .ok_or_else(|| Problem::Around("its description is wrong".to_owned()))?;
    let mut entries = pass.states.take_fresh();
    entries.push(Entry::Ended(Box::new(StepRecord {
        name: task_key(&node.decl.name),
        recipe_text,
        parameters: task_parameters(&call),
        needs,
        reasons: job.reasons.iter().map(Reason::line).collect(),
        ended_at: pass.session.clock.now(),
        took: done.took,
        memory: done.outcome.memory,
        processor: done.outcome.processor,
        ..StepRecord::default()
    })));
    Ok(entries)
}

fn record(
    pass: &Pass<'_, '_, '_>,
    step: StepId,
    name: String,
    (outputs, needs, learned): (Vec<Edge>, Vec<Edge>, Vec<Edge>),
    reasons: String,
    done: &WorkDone,
) -> Option<StepRecord> {
    let givens = pass.step_inputs.givens(step)?;
    Some(StepRecord {
        name,
        recipe_text: pass.step_inputs.recipe_text(step)?.to_owned(),
        parameters: pass.step_inputs.parameters(step)?,
        outputs,
        needs,
        learned,
        givens: givens
            .iter()
            .map(|(key, value)| Given {
                key: key.clone(),
                value: value.clone().flatten(),
            })
            .collect(),
        reasons,
        ended_at: pass.session.clock.now(),
        took: done.took,
        memory: done.outcome.memory,
        processor: done.outcome.processor,
    })
}

/// Whether the outputs came out as before, and records that keep track of outputs that the step no
/// longer has.
fn compare_with_last(
    pass: &Pass<'_, '_, '_>,
    name: &str,
    edges: &[Edge],
    states: &[&State],
) -> (Ending, Vec<Entry>) {
    let ledger = pass.session.ledger.borrow();
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

/// The prerequisites as the recipe saw them; they must still be so. What was made meanwhile behind a link, and
/// in the wrong order, is recorded as not there, so that the step is judged anew.
fn check_needs(
    pass: &mut Pass<'_, '_, '_>,
    needs: &[Need],
    began: u64,
    by_luck: &[PathId],
) -> Result<Vec<Edge>, Problem> {
    let project = pass.project;
    let needs: Vec<(u16, PathId)> = project.open_needs(needs).collect();
    let mut edges = Vec::with_capacity(needs.len());
    for (group, path) in needs {
        let before = pass.states.get(path).clone();
        let source = project.maker(path).is_none();
        let now = pass.states.refresh(project, path, source).digest();
        if now != before.digest() && by_luck.contains(&path) {
            edges.push(Edge {
                path: project.paths.get(path).to_owned(),
                digest: None,
                group,
            });
            continue;
        }
        if now != before.digest() {
            // Others that run now may have read it before it changed: for them too it must still be what
            // it was when this run looked at it.
            pass.states.set(path, before);
            let name = project.paths.get(path);
            return Err(Problem::PrerequisiteChanged(changed_in(pass, name, began)));
        }
        edges.push(Edge {
            path: project.paths.get(path).to_owned(),
            digest: now,
            group,
        });
    }
    Ok(edges)
}

/// The file that was changed since a job began: of a whole folder, which one in it.
fn changed_in(pass: &Pass<'_, '_, '_>, name: &str, began: u64) -> String {
    let inner = name
        .ends_with('/')
        .then(|| changed_since(pass.session.disk, name, began_at(pass, began)))
        .flatten();
    inner.unwrap_or_else(|| name.to_owned())
}

/// When a job began, nanoseconds since 1970.
fn began_at(pass: &Pass<'_, '_, '_>, began: u64) -> i64 {
    let clock = pass.session.clock;
    let ago = i64::try_from(clock.ticks().saturating_sub(began)).unwrap_or(i64::MAX);
    clock.now().saturating_sub(ago)
}

/// What the recipe found out itself, with the contents as they are now.
fn learned(
    pass: &mut Pass<'_, '_, '_>,
    step: StepId,
    job: &RunningJob,
    done: &WorkDone,
) -> Result<Vec<Edge>, Problem> {
    let Some(file) = &job.prepared.learn else {
        return Ok(Vec::new());
    };
    let bytes = match pass.session.disk.read(&file.path) {
        Ok(bytes) => bytes,
        Err(error) => {
            return Err(Problem::Learned(format!(
                "`{}`, which the recipe was to write, can't be read: {error}",
                file.path
            )));
        }
    };
    let text = names::to_text(&bytes);
    let found = match file.how {
        LearnHow::Listing => dependency_listing::listing(&text),
        LearnHow::Lines | LearnHow::Watched => dependency_listing::lines(&text),
    };
    let project = pass.project;
    let own: Vec<&str> = project
        .open_needs(project.step_needs(project.step(step)))
        .map(|(_, path)| project.paths.get(path))
        .chain(
            project
                .step_outputs(project.step(step))
                .iter()
                .map(|&(_, path)| project.paths.get(path)),
        )
        .collect();
    let mut edges = Vec::new();
    for written in found {
        let path = below_root(pass, &job.prepared.job.folder, &written);
        if own.contains(&path.as_str()) {
            continue;
        }
        let is_luck = is_luck(pass, step, &path);
        let before = pass.states.known(project, &path);
        let state = pass.states.look(&path);
        let changed = match before {
            Some(before) => before.digest() != state.digest(),
            None => was_written_since(pass, step, done.began, &path),
        };
        if changed && !is_luck {
            return Err(Problem::PrerequisiteChanged(path));
        }
        // What was made meanwhile and in the wrong order is recorded as not there, so that the step is judged
        // anew behind what makes it.
        let digest = state.digest().filter(|_| !changed);
        if let State::Unreadable(why) = &state {
            return Err(Problem::Learned(format!(
                "`{path}`, which the recipe told of, can't be read: {why}"
            )));
        }
        pass.states.set_learned(project, &path, state);
        edges.push(Edge {
            path,
            digest,
            group: 0,
        });
    }
    Ok(edges)
}

/// Whether another step makes what a step read, and nothing puts that one first. The run then goes on with
/// the edge that is missing.
fn is_luck(pass: &mut Pass<'_, '_, '_>, step: StepId, path: &str) -> bool {
    let project = pass.project;
    let Some(maker) = project.maker_of(path) else {
        return false;
    };
    if maker == step || pass.waits_for(step, maker) {
        return false;
    }
    let names = (
        project.step_name(step).to_owned(),
        project.step_name(maker).to_owned(),
    );
    pass.session.found_edges.insert(names);
    true
}

/// Whether a file that nobody had looked at was written after a job began: which of its contents the
/// recipe read is not known then, unless what makes it comes first. A time in the future says nothing.
fn was_written_since(pass: &Pass<'_, '_, '_>, step: StepId, began: u64, path: &str) -> bool {
    let project = pass.project;
    let maker = project.paths.find(path).and_then(|id| project.maker(id));
    if path.ends_with('/') || maker.is_some_and(|maker| pass.waits_for(step, maker)) {
        return false;
    }
    let (now, began) = (pass.session.clock.now(), began_at(pass, began));
    let stat = pass.session.disk.stat(path);
    matches!(stat, Ok(Some(stat)) if stat.modified > began && stat.modified <= now)
}

/// A path that a recipe wrote down, from the root.
fn below_root(pass: &Pass<'_, '_, '_>, folder: &str, written: &str) -> String {
    let root = pass.vars.environment.root();
    let inside = written
        .strip_prefix(root.as_str())
        .and_then(|rest| rest.strip_prefix('/'));
    match inside {
        Some(inside) => from_root("", inside),
        None => from_root(folder, written),
    }
}

/// Moves what a failed recipe left behind out of the way.
fn move_outputs(
    pass: &mut Pass<'_, '_, '_>,
    step: StepId,
) -> Result<Vec<(String, String)>, PassError> {
    let project = pass.project;
    let mut moved = Vec::new();
    for &(_, path) in project.step_outputs(project.step(step)) {
        let text = project.paths.get(path);
        let plain = text.trim_end_matches('/');
        let failed = |error| PassError::Io(format!("can't move `{plain}`"), error);
        let disk = pass.session.disk;
        if is_empty_folder(disk, text) {
            // It was made for the recipe, which put nothing into it.
            quarantine::remove(disk, text).map_err(failed)?;
        } else if !disk.is_free(plain).map_err(failed)? {
            let to = quarantine::move_failed(disk, text).map_err(failed)?;
            moved.extend(to.map(|to| (plain.to_owned(), to)));
        }
        pass.states.set(path, State::Missing);
    }
    Ok(moved)
}

fn is_empty_folder(disk: &dyn Disk, path: &str) -> bool {
    path.ends_with('/') && disk.list(path).is_ok_and(|names| names.is_empty())
}
