//! Before a step's job begins: its prerequisites are there, and its outputs' places are free.

use crate::content::State;
use crate::graph::Node;
use crate::ledger::Entry;
use crate::project::PathId;
use crate::project::StepId;
use crate::project::decl::Clauses;
use crate::project::frame::Frame;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::nearest;
use crate::weave::event::Event;
use crate::weave::keep;
use crate::weave::prepare::Prepared;
use crate::weave::round::Round;
use crate::weave::round::RoundError;

/// Looks again at prerequisites that jobs of this run may have changed without being their named
/// output: files in made folders, and folders that outputs lie in.
pub fn refresh_derived(round: &mut Round<'_, '_, '_>, step: StepId) {
    let project = round.project;
    let needs: Vec<PathId> = project
        .open_needs(project.step_needs(project.step(step)))
        .map(|(_, path)| path)
        .collect();
    for path in needs {
        let text = project.paths.get(path);
        let named = project.maker(path).is_some_and(|maker| {
            project
                .step_outputs(project.step(maker))
                .iter()
                .any(|&(_, output)| output == path)
        });
        if !named && (text.ends_with('/') || project.maker(path).is_some()) {
            let state = round.states.look(text);
            round.states.set(path, state);
        }
    }
}

/// How often a job may be tried again.
pub fn retries(vars: &Vars<'_>, clauses: &Clauses<'_>, frame: &Frame<'_>) -> Option<u32> {
    let Some(word) = clauses.running.retry else {
        return Some(0);
    };
    let text = vars.single(word, frame)?;
    let number = text.text.parse().ok();
    if number.is_none() {
        vars.report(
            Diagnostic::error(word.span, format!("`{}` is no number of tries", text.text))
                .help("write how often to try again, such as `retry 2`"),
        );
    }
    number
}

/// Reports a prerequisite that is neither there nor made by anybody; whether it is so.
pub fn missing_source(
    round: &Round<'_, '_, '_>,
    position: usize,
    group: u16,
    path: PathId,
) -> bool {
    let project = round.project;
    if project.maker(path).is_some() {
        return false;
    }
    let name = project.paths.get(path);
    let (title, help) = match round.states.get(path) {
        State::Content(_) => return false,
        State::Missing => {
            let makes = project
                .outputs_in(if name.ends_with('/') { name } else { "\0" })
                .next()
                .is_some();
            if makes {
                return false;
            }
            (
                format!("`{name}` is needed, but it is not there and no target makes it"),
                near_file(round, name),
            )
        }
        State::WrongKind if name.ends_with('/') => (
            format!("`{name}` is needed as a folder, but it is a file"),
            Some(format!("write `{}`", name.trim_end_matches('/'))),
        ),
        State::WrongKind => (
            format!("`{name}` is needed as a file, but it is a folder"),
            Some(format!("write `{name}/` for the whole folder")),
        ),
        State::Unreadable(why) => (format!("`{name}` can't be read: {why}"), None),
    };
    let span = match round.order.nodes[position].node(project) {
        Node::Step(step) => need_word(
            round,
            &project.decl(project.step(step)).clauses,
            group,
            path,
        )
        .unwrap_or(project.decl(project.step(step)).syntax.span),
        Node::Task(task) => need_word(
            round,
            &project.tasks[task.index()].decl.clauses,
            group,
            path,
        )
        .unwrap_or(project.tasks[task.index()].decl.syntax.span),
        Node::Set(_) => return false,
    };
    round
        .vars
        .report(Diagnostic::error(span, title).maybe_help(help.or_else(|| {
            Some("check the name; paths are seen from the folder of this hand.loom".to_owned())
        })));
    true
}

/// The word that a prerequisite was written with: the one that names it, or the first of its group.
fn need_word(
    round: &Round<'_, '_, '_>,
    clauses: &Clauses<'_>,
    group: u16,
    path: PathId,
) -> Option<crate::text::Span> {
    let sources = &round.vars.description.sources;
    let items = &clauses.needs.get(group as usize)?.items;
    let name = round.project.paths.get(path);
    let named = items
        .iter()
        .find(|item| name.ends_with(sources.slice(item.word.span).trim_start_matches("./")));
    named.or(items.first()).map(|item| item.word.span)
}

fn near_file(round: &Round<'_, '_, '_>, name: &str) -> Option<String> {
    let folder = &name[..name.trim_end_matches('/').rfind('/').map_or(0, |at| at + 1)];
    let listing = round.vars.folders.list(folder);
    let here: Vec<String> = listing
        .iter()
        .map(|entry| format!("{folder}{}", entry.name))
        .collect();
    let outputs = round
        .project
        .outputs_in(folder)
        .take(1000)
        .map(|path| round.project.paths.get(path));
    // The file itself is there when it came, or came back, just now.
    let others = here.iter().map(String::as_str).chain(outputs);
    nearest(name, others.filter(|other| *other != name))
        .map(|near| format!("did you mean `{near}`?"))
}

/// Whether a step can be made ready without touching anything: nothing stands at its outputs' places,
/// its last run is not unfinished, and it has no scratch file.
pub fn is_free(round: &Round<'_, '_, '_>, position: usize) -> Result<bool, RoundError> {
    let project = round.project;
    let Node::Step(step) = round.order.nodes[position].node(project) else {
        return Ok(false);
    };
    let node = project.step(step);
    let name = project.step_name(step);
    let learns = project.decl(node).clauses.learn.is_some();
    if learns || round.session.ledger.borrow().is_unfinished(name) {
        return Ok(false);
    }
    for &(_, path) in project.step_outputs(node) {
        let text = project.paths.get(path).trim_end_matches('/');
        let free = round
            .session
            .disk
            .is_free(text)
            .map_err(|error| RoundError::Io(format!("can't look at `{text}`"), error))?;
        if !free {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Takes a step's old outputs away, makes its folders, and writes down that it begins. Gives the
/// paths to look at afterwards.
pub fn clear_outputs(
    round: &mut Round<'_, '_, '_>,
    step: StepId,
    prepared: &Prepared,
) -> Result<Vec<String>, RoundError> {
    let project = round.project;
    let name = project.step_name(step).to_owned();
    let failed =
        |what: &str, path: &str, error| RoundError::Io(format!("can't {what} `{path}`"), error);
    let unfinished = round.session.ledger.borrow().is_unfinished(&name);
    if !unfinished {
        round.session.record([Entry::Began(name)])?;
    }
    let outputs: Vec<(u16, PathId)> = project.step_outputs(project.step(step)).to_vec();
    let mut paths = Vec::with_capacity(outputs.len());
    for (_, path) in outputs {
        let text = project.paths.get(path).to_owned();
        clear_output(round, &text, unfinished)?;
        let folder = match text.strip_suffix('/') {
            Some(folder) => folder,
            None => &text[..text.rfind('/').unwrap_or(0)],
        };
        let is_tree = text.ends_with('/');
        if !folder.is_empty() && (is_tree || !round.session.folders.contains(folder)) {
            make_folder(round, folder)?;
            if !is_tree {
                round.session.folders.insert(folder.to_owned());
            }
        }
        paths.push(text);
    }
    if let Some(learn) = &prepared.learn {
        keep::remove(round.session.disk, &learn.path)
            .map_err(|error| failed("remove", &learn.path, error))?;
        if let Some(at) = learn.path.rfind('/') {
            let folder = &learn.path[..at];
            round
                .session
                .disk
                .create_folders(folder)
                .map_err(|error| failed("make the folder", folder, error))?;
        }
    }
    Ok(paths)
}

/// Makes a folder and those above it, and writes down which were not there, so that cleaning up can
/// take them away again.
fn make_folder(round: &mut Round<'_, '_, '_>, folder: &str) -> Result<(), RoundError> {
    let disk = round.session.disk;
    let ends = folder
        .match_indices('/')
        .map(|(at, _)| at)
        .chain([folder.len()]);
    let new: Vec<Entry> = ends
        .map(|end| &folder[..end])
        .filter(|above| matches!(disk.stat(above), Ok(None)))
        .map(|above| Entry::Folder(above.to_owned()))
        .collect();
    disk.create_folders(folder)
        .map_err(|error| RoundError::Io(format!("can't make the folder `{folder}`"), error))?;
    round.session.record(new)
}

/// Removes an old output, or moves it out of the way when it is not as Hand Loom left it.
fn clear_output(
    round: &mut Round<'_, '_, '_>,
    path: &str,
    unfinished: bool,
) -> Result<(), RoundError> {
    let disk = round.session.disk;
    let failed = |what: &str, error| RoundError::Io(format!("can't {what} `{path}`"), error);
    let plain = path.trim_end_matches('/');
    if disk
        .is_free(plain)
        .map_err(|error| failed("look at", error))?
    {
        return Ok(());
    }
    let there = disk.stat(plain).map_err(|error| failed("look at", error))?;
    if there.is_none() {
        // A link into nothing still stands in the way.
        return keep::remove(disk, path).map_err(|error| failed("remove", error));
    }
    let own = {
        let ledger = round.session.ledger.borrow();
        let made = ledger
            .maker(path)
            .and_then(|maker| ledger.step(maker))
            .and_then(|record| record.outputs().find(|output| output.path == path))
            .and_then(|output| output.digest);
        drop(ledger);
        made.is_some() && round.states.look(path).digest() == made
    };
    if own {
        return keep::remove(disk, path).map_err(|error| failed("remove", error));
    }
    if unfinished {
        keep::move_failed(disk, path).map_err(|error| failed("move", error))?;
        return Ok(());
    }
    let held = round.states.look(path).digest();
    let to = keep::move_aside(disk, path).map_err(|error| failed("move", error))?;
    round.moved_aside.extend(to.map(|to| MovedAside {
        path: path.to_owned(),
        to,
        held,
    }));
    Ok(())
}

/// A file that was moved out of an output's way.
pub struct MovedAside {
    path: String,
    to: String,
    held: Option<crate::world::Digest>,
}

/// Tells of files that were moved out of a step's way. One that held just what the step has made now
/// was no loss, as after a lost ledger: its copy is taken away again.
pub fn tell_aside(round: &mut Round<'_, '_, '_>, step: StepId) {
    let project = round.project;
    for &(_, path) in project.step_outputs(project.step(step)) {
        let text = project.paths.get(path);
        let Some(at) = round
            .moved_aside
            .iter()
            .position(|moved| moved.path == text)
        else {
            continue;
        };
        let moved = round.moved_aside.swap_remove(at);
        let same = moved.held.is_some() && round.states.get(path).digest() == moved.held;
        if same && keep::remove(round.session.disk, &moved.to).is_ok() {
            continue;
        }
        round.session.tell(Event::Aside {
            path: text.trim_end_matches('/').to_owned(),
            to: moved.to,
        });
    }
}
