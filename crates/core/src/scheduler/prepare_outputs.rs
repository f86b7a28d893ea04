//! Before a step's job begins: its prerequisites are there, and its outputs' places are free.

use crate::content::State;
use crate::graph::Node;
use crate::ledger::Beginning;
use crate::ledger::Entry;
use crate::project::PathId;
use crate::project::StepId;
use crate::project::decl::Clauses;
use crate::project::frame::Frame;
use crate::project::values::Vars;
use crate::scheduler::event::Event;
use crate::scheduler::job_builder::PreparedJob;
use crate::scheduler::pass::Pass;
use crate::scheduler::pass::PassError;
use crate::text::Diagnostic;
use crate::text::nearest;
use crate::verdict;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::quarantine;

/// Looks again at prerequisites that jobs of this run may have changed without being their named
/// output: files in made folders, and folders that outputs lie in.
pub fn refresh_derived(pass: &mut Pass<'_, '_, '_>, step: StepId) {
    let project = pass.project;
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
        let behind_link = pass.states.linked.contains(&path);
        if behind_link || (!named && (text.ends_with('/') || project.maker(path).is_some())) {
            let state = pass.states.look(text);
            pass.states.set(path, state);
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
pub fn missing_source(pass: &Pass<'_, '_, '_>, position: usize, group: u16, path: PathId) -> bool {
    let project = pass.project;
    if project.maker(path).is_some() {
        return false;
    }
    let name = project.paths.get(path);
    let (title, help) = match pass.states.get(path) {
        state @ State::Linked(_) if state.is_dangling() => (
            format!("`{name}` is needed, but it is a link to something that is not there"),
            Some(match pass.session.disk.read_link(name) {
                Ok(end) => format!("it says `{end}`; mend the link, or make what it leads to"),
                Err(_) => "mend the link, or make what it leads to".to_owned(),
            }),
        ),
        State::Content(_) | State::Linked(_) => return false,
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
                near_file(pass, name),
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
    let span = match pass.order.nodes[position].node(project) {
        Node::Step(step) => need_word(pass, &project.decl(project.step(step)).clauses, group, path)
            .unwrap_or(project.decl(project.step(step)).syntax.span),
        Node::Task(task) => need_word(pass, &project.tasks[task.index()].decl.clauses, group, path)
            .unwrap_or(project.tasks[task.index()].decl.syntax.span),
        Node::Set(_) => return false,
    };
    let needed_by = format!("needed by `{}`", pass.order.nodes[position].name(project));
    let diagnostic = Diagnostic::error(span, title).here(needed_by);
    pass.vars.report(diagnostic.maybe_help(help.or_else(|| {
        Some("check the name; paths are seen from the folder of this hand.loom".to_owned())
    })));
    true
}

/// The word that a prerequisite was written with: the one that names it, or the first of its group.
fn need_word(
    pass: &Pass<'_, '_, '_>,
    clauses: &Clauses<'_>,
    group: u16,
    path: PathId,
) -> Option<crate::text::Span> {
    let sources = &pass.vars.description.sources;
    let items = &clauses.needs.get(group as usize)?.items;
    let name = pass.project.paths.get(path);
    let named = items
        .iter()
        .find(|item| name.ends_with(sources.slice(item.word.span).trim_start_matches("./")));
    named.or(items.first()).map(|item| item.word.span)
}

fn near_file(pass: &Pass<'_, '_, '_>, name: &str) -> Option<String> {
    let folder = &name[..name.trim_end_matches('/').rfind('/').map_or(0, |at| at + 1)];
    let listing = pass.vars.folders.list(folder);
    let here: Vec<String> = listing
        .iter()
        .map(|entry| format!("{folder}{}", entry.name))
        .collect();
    let outputs = pass
        .project
        .outputs_in(folder)
        .take(1000)
        .map(|path| pass.project.paths.get(path));
    // The file itself is there when it came, or came back, just now.
    let others = here.iter().map(String::as_str).chain(outputs);
    nearest(name, others.filter(|other| *other != name))
        .map(|near| format!("did you mean `{near}`?"))
}

/// Whether a step can be made ready without touching anything: nothing stands at its outputs' places,
/// its last run is not unfinished, and it has no scratch file.
pub fn is_free(pass: &Pass<'_, '_, '_>, position: usize) -> Result<bool, PassError> {
    let project = pass.project;
    let Node::Step(step) = pass.order.nodes[position].node(project) else {
        return Ok(false);
    };
    let node = project.step(step);
    let name = project.step_name(step);
    let learns = project.decl(node).clauses.learn.is_some();
    if learns || pass.session.ledger.borrow().is_unfinished(name) {
        return Ok(false);
    }
    for &(_, path) in project.step_outputs(node) {
        let text = project.paths.get(path).trim_end_matches('/');
        let free = pass
            .session
            .disk
            .is_free(text)
            .map_err(|error| PassError::Io(format!("can't look at `{text}`"), error))?;
        if !free {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What was done to make way for a step's job.
#[derive(Debug, Default)]
pub struct PreparedOutputs {
    /// The paths to look at afterwards.
    pub outputs: Vec<String>,
    /// Those of them whose old content is set by.
    pub set_by: Vec<String>,
}

/// Sets a step's old outputs by, moves what is somebody else's aside, writes down that the step begins, and
/// makes its folders.
pub fn clear_outputs(
    pass: &mut Pass<'_, '_, '_>,
    step: StepId,
    prepared: &PreparedJob,
) -> Result<PreparedOutputs, PassError> {
    let project = pass.project;
    let name = project.step_name(step).to_owned();
    let failed =
        |what: &str, path: &str, error| PassError::Io(format!("can't {what} `{path}`"), error);
    let mut cleared = PreparedOutputs::default();
    for &(_, path) in project.step_outputs(project.step(step)) {
        let text = project.paths.get(path).to_owned();
        // First what is not ours: a step that never begins must not have a right to it.
        if is_own_or_moved(pass, &text)? {
            cleared.set_by.push(text.clone());
        }
        cleared.outputs.push(text);
    }
    for path in &cleared.outputs {
        clear_folder(pass, path)?;
    }
    pass.session.record([Entry::Beginning(Box::new(Beginning {
        step: name.clone(),
        outputs: cleared.outputs.clone(),
        set_by: cleared.set_by.clone(),
    }))])?;
    if let Err((path, error)) = set_by(pass, &mut cleared.set_by) {
        // Whatever was set by already is put back; the next run does what could not be done now.
        let put_back = put_back(pass, &cleared.set_by);
        if put_back.is_ok() {
            pass.session.record([Entry::NotBegun(name)])?;
        }
        return Err(failed("set by", &path, error));
    }
    for text in &cleared.outputs {
        let folder = match text.strip_suffix('/') {
            Some(folder) => folder,
            None => &text[..text.rfind('/').unwrap_or(0)],
        };
        let is_tree = text.ends_with('/');
        if !folder.is_empty() && (is_tree || !pass.session.folders.contains(folder)) {
            make_folder(pass, folder)?;
            if !is_tree {
                pass.session.folders.insert(folder.to_owned());
            }
        }
    }
    if let Some(learn) = &prepared.learn {
        quarantine::remove(pass.session.disk, &learn.path)
            .map_err(|error| failed("remove", &learn.path, error))?;
        if let Some(at) = learn.path.rfind('/') {
            let folder = &learn.path[..at];
            pass.session
                .disk
                .create_folders(folder)
                .map_err(|error| failed("make the folder", folder, error))?;
        }
    }
    Ok(cleared)
}

/// Sets old outputs by. On failure the list holds those that are, and the error names the next.
fn set_by(
    pass: &mut Pass<'_, '_, '_>,
    paths: &mut Vec<String>,
) -> Result<(), (String, std::io::Error)> {
    for at in 0..paths.len() {
        let moved = if pass.session.options.keep_old {
            set_one_by(pass, &paths[at])
        } else {
            quarantine::remove(pass.session.disk, &paths[at])
        };
        if let Err(error) = moved {
            let path = paths[at].clone();
            paths.truncate(at);
            return Err((path, error));
        }
    }
    if !pass.session.options.keep_old {
        paths.clear();
    }
    Ok(())
}

fn set_one_by(pass: &mut Pass<'_, '_, '_>, path: &str) -> std::io::Result<()> {
    let disk = pass.session.disk;
    let (plain, by) = (path.trim_end_matches('/'), quarantine::set_by_path(path));
    if !disk.is_free(&by)? {
        // It could not be put back or dropped before; it may be the only copy.
        quarantine::move_failed(disk, &by)?;
    }
    let is_ready = pass.session.folders.contains(folder_of(&by));
    if is_ready && disk.rename(plain, &by).is_ok() {
        return Ok(());
    }
    quarantine::transfer(disk, plain, &by)?;
    pass.session.folders.insert(folder_of(&by).to_owned());
    Ok(())
}

fn folder_of(path: &str) -> &str {
    &path[..path.rfind('/').unwrap_or(0)]
}

/// Puts old outputs back in their places, which must be free.
pub fn put_back(pass: &mut Pass<'_, '_, '_>, paths: &[String]) -> Result<(), PassError> {
    for path in paths {
        quarantine::put_back(pass.session.disk, path)
            .map_err(|error| PassError::Io(format!("can't put `{path}` back"), error))?;
        let known = pass.session.ledger.borrow().file(path);
        let state = match known.filter(|known| pass.states.was_moved(path, known)) {
            Some(known) => State::Content(known.digest),
            None => pass.states.look(path),
        };
        if let Some(id) = pass.project.paths.find(path) {
            pass.states.set(id, state);
        }
    }
    Ok(())
}

/// Takes old outputs away for good: new ones are in their places.
pub fn drop_old(pass: &Pass<'_, '_, '_>, paths: &[String]) {
    for path in paths {
        // What can't be removed is found by whoever looks for what is set by.
        let _ = quarantine::remove(pass.session.disk, &quarantine::set_by_path(path));
    }
}

/// Makes a folder and those above it, and writes down which were not there, so that cleaning up can
/// take them away again.
fn make_folder(pass: &mut Pass<'_, '_, '_>, folder: &str) -> Result<(), PassError> {
    let disk = pass.session.disk;
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
        .map_err(|error| PassError::Io(format!("can't make the folder `{folder}`"), error))?;
    pass.session.record(new)
}

/// A file, or a link into nothing, that stands where an output's folder is to be goes aside.
fn clear_folder(pass: &mut Pass<'_, '_, '_>, output: &str) -> Result<(), PassError> {
    let folder = folder_of(output.trim_end_matches('/'));
    if folder.is_empty() || pass.session.folders.contains(folder) {
        return Ok(());
    }
    let disk = pass.session.disk;
    let failed = |error| PassError::Io(format!("can't make the folder `{folder}`"), error);
    if let Some(part) = quarantine::in_the_way(disk, folder).map_err(failed)? {
        let to = quarantine::move_aside(disk, part).map_err(failed)?;
        if let Some(to) = to {
            let path = part.to_owned();
            pass.session.tell(Event::Aside { path, to });
        }
    }
    Ok(())
}

/// Whether an output's place holds what the step that made it left there. Anything else is moved aside.
fn is_own_or_moved(pass: &mut Pass<'_, '_, '_>, path: &str) -> Result<bool, PassError> {
    let disk = pass.session.disk;
    let failed = |what: &str, error| PassError::Io(format!("can't {what} `{path}`"), error);
    let plain = path.trim_end_matches('/');
    if disk
        .is_free(plain)
        .map_err(|error| failed("look at", error))?
    {
        return Ok(false);
    }
    let made = {
        let ledger = pass.session.ledger.borrow();
        ledger
            .maker(path)
            .and_then(|maker| ledger.step(maker))
            .and_then(|record| record.outputs().find(|output| output.path == path))
            .is_some_and(|made| verdict::is_as_left(&made, &pass.states.look(path)))
    };
    if made {
        return Ok(true);
    }
    let held = pass.states.look(path).own_digest();
    let to = quarantine::move_aside(disk, path).map_err(|error| failed("move", error))?;
    pass.moved_aside.extend(to.map(|to| MovedAside {
        path: path.to_owned(),
        to,
        held,
    }));
    Ok(false)
}

/// A file that was moved out of an output's way.
pub struct MovedAside {
    path: String,
    to: String,
    held: Option<crate::world::Digest>,
}

/// Tells of files that were moved out of a step's way. One that held just what the step has made now
/// was no loss, as after a lost ledger: its copy is taken away again.
pub fn tell_aside(pass: &mut Pass<'_, '_, '_>, step: StepId) {
    let project = pass.project;
    for &(_, path) in project.step_outputs(project.step(step)) {
        let text = project.paths.get(path);
        let Some(at) = pass.moved_aside.iter().position(|moved| moved.path == text) else {
            continue;
        };
        let moved = pass.moved_aside.swap_remove(at);
        let same = moved.held.is_some() && pass.states.get(path).own_digest() == moved.held;
        if same && quarantine::remove(pass.session.disk, &moved.to).is_ok() {
            continue;
        }
        if text.ends_with('/') {
            drop_what_is_there_too(pass.session.disk, &moved.to, text.trim_end_matches('/'));
        }
        pass.session.tell(Event::Aside {
            path: text.trim_end_matches('/').to_owned(),
            to: moved.to,
        });
    }
}

/// Of a made folder that was changed by being used only what differs is kept, so that the same gigabytes
/// are not set aside again and again.
fn drop_what_is_there_too(disk: &dyn Disk, aside: &str, made: &str) {
    let Ok(files) = quarantine::files_below(disk, aside) else {
        return;
    };
    let mut buffer = Vec::new();
    for file in files {
        let (old, new) = (format!("{aside}/{file}"), format!("{made}/{file}"));
        let (Ok(Some(a)), Ok(Some(b))) = (disk.stat(&old), disk.stat(&new)) else {
            continue;
        };
        let alike = a.kind == b.kind
            && (a.link, a.size, a.executable) == (b.link, b.size, b.executable)
            && match a.link {
                true => disk.read_link(&old).ok() == disk.read_link(&new).ok(),
                false => {
                    a.kind == FileKind::File
                        && disk.digest(&old, &mut buffer).ok()
                            == disk.digest(&new, &mut buffer).ok()
                }
            };
        if alike {
            // What stays is only one more copy.
            let _ = disk.remove_file(&old);
        }
    }
}
