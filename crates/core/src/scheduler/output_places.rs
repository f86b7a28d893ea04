//! The places of a step's outputs: made free before its job begins, and put in order when that has ended.
//!
//! Old outputs are set by with a rename and not deleted: they are put back after every kind of bad end. What is
//! not as the step left it is somebody's work, and goes aside.

use std::cell::RefCell;
use std::io;

use hashbrown::HashSet;

use crate::content::State;
use crate::graph::Node;
use crate::graph::Position;
use crate::language::Manner;
use crate::ledger::Beginning;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::Project;
use crate::project::StepId;
use crate::scheduler::event::Event;
use crate::scheduler::event_hub::EventHub;
use crate::scheduler::ledger_writer::LedgerWriter;
use crate::scheduler::options::BuildError;
use crate::scheduler::options::OldOutputs;
use crate::scheduler::pass_view::PassView;
use crate::status::FileStates;
use crate::verdict;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::names::parent;
use crate::world::quarantine;

/// What was done to make way for a step's job.
#[derive(Debug, Default)]
pub struct PreparedOutputs {
    /// The paths to look at afterwards.
    pub outputs: Vec<String>,
    /// Those of them whose old content is set by.
    pub set_by: Vec<String>,
}

/// A file that was moved out of an output's way.
struct MovedAside {
    path: String,
    to: String,
    held: Option<Digest>,
}

/// Looks after the places of outputs during a build.
pub struct OutputPlaces<'s> {
    disk: &'s dyn Disk,
    ledger: &'s RefCell<Ledger>,
    old_outputs: OldOutputs,
    /// Folders that are known to be there.
    folders: HashSet<String>,
    /// Files that were moved out of the way of jobs that are running.
    moved_aside: Vec<MovedAside>,
}

fn failed(what: &str, path: &str, error: io::Error) -> BuildError {
    BuildError::io(format!("can't {what} `{path}`"), error)
}

impl<'s> OutputPlaces<'s> {
    /// Nothing was moved yet.
    pub fn new(disk: &'s dyn Disk, ledger: &'s RefCell<Ledger>, old_outputs: OldOutputs) -> Self {
        Self {
            disk,
            ledger,
            old_outputs,
            folders: HashSet::new(),
            moved_aside: Vec::new(),
        }
    }

    /// Whether a step can be made ready without touching anything: nothing stands at its outputs' places, its
    /// last run is not unfinished, and it has no scratch file.
    pub fn are_free(
        &self,
        view: &PassView<'_, '_>,
        position: Position,
    ) -> Result<bool, BuildError> {
        let project = view.project;
        let Node::Step(step) = view.node(position) else {
            return Ok(false);
        };
        let node = project.step(step);
        let learns = project.decl(node).clauses.learn.is_some();
        if learns || self.ledger.borrow().is_unfinished(project.step_name(step)) {
            return Ok(false);
        }
        for &(_, path) in project.step_outputs(node) {
            let text = project.paths.get(path).trim_end_matches('/');
            let free = self.disk.is_free(text);
            if !free.map_err(|error| failed("look at", text, error))? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Sets a step's old outputs by, moves what is somebody else's aside, writes down that the step begins, and
    /// makes its folders, and that of the file that it `learns` from.
    pub fn prepare(
        &mut self,
        project: &Project<'_>,
        step: StepId,
        learns: Option<&str>,
        states: &mut FileStates<'_>,
        writer: &mut LedgerWriter<'_>,
        events: &mut EventHub<'_>,
    ) -> Result<PreparedOutputs, BuildError> {
        let name = project.step_name(step).to_owned();
        let mut prepared = PreparedOutputs::default();
        let resumes = self.resumes(project, step);
        for &(_, path) in project.step_outputs(project.step(step)) {
            let text = project.paths.get(path).to_owned();
            // First what is not ours: a step that never begins must not have a right to it.
            if !resumes && self.is_own_or_moved(&text, states)? {
                prepared.set_by.push(text.clone());
            }
            prepared.outputs.push(text);
        }
        for path in &prepared.outputs {
            self.clear_folder(path, events)?;
        }
        let stays = project
            .decl(project.step(step))
            .clauses
            .has(Manner::Resumes);
        let mark = stays.then(|| Beginning::STAYS.to_owned());
        writer.record([Entry::Beginning(Box::new(Beginning {
            step: name.clone(),
            outputs: mark
                .into_iter()
                .chain(prepared.outputs.iter().cloned())
                .collect(),
            set_by: prepared.set_by.clone(),
        }))])?;
        if let Err(error) = self.set_by(&mut prepared.set_by) {
            // Whatever was set by already is put back; the next run does what could not be done now.
            if self.put_back(&prepared.set_by, project, states).is_ok() {
                writer.record([Entry::NotBegun(name)])?;
            }
            return Err(error);
        }
        for text in &prepared.outputs {
            self.make_folder_of(text, writer)?;
        }
        if let Some(learns) = learns {
            self.clear_learned(learns)?;
        }
        Ok(prepared)
    }

    /// Whether a step goes on from what an earlier run of it left, finished or not. What stood there before its first
    /// run is somebody else's.
    fn resumes(&self, project: &Project<'_>, step: StepId) -> bool {
        let ledger = self.ledger.borrow();
        let name = project.step_name(step);
        let ran_before = || {
            ledger.step(name).is_some()
                || ledger.bad_end(name).is_some()
                || ledger.is_unfinished(name)
        };
        project
            .decl(project.step(step))
            .clauses
            .has(Manner::Resumes)
            && ran_before()
    }

    /// Sets old outputs by. On failure the list holds those that are, and the error names the next.
    fn set_by(&mut self, paths: &mut Vec<String>) -> Result<(), BuildError> {
        for at in 0..paths.len() {
            let moved = match self.old_outputs {
                OldOutputs::SetBy => self.set_one_by(&paths[at]),
                OldOutputs::Remove => quarantine::remove(self.disk, &paths[at]),
            };
            if let Err(error) = moved {
                let failed = failed("set by", &paths[at], error);
                paths.truncate(at);
                return Err(failed);
            }
        }
        if self.old_outputs == OldOutputs::Remove {
            paths.clear();
        }
        Ok(())
    }

    fn set_one_by(&mut self, path: &str) -> io::Result<()> {
        let (plain, by) = (path.trim_end_matches('/'), quarantine::set_by_path(path));
        if !self.disk.is_free(&by)? {
            // It could not be put back or dropped before; it may be the only copy.
            quarantine::move_failed(self.disk, &by)?;
        }
        let is_ready = self.folders.contains(parent(&by));
        if is_ready && self.disk.rename(plain, &by).is_ok() {
            return Ok(());
        }
        quarantine::transfer(self.disk, plain, &by)?;
        self.folders.insert(parent(&by).to_owned());
        Ok(())
    }

    /// Puts old outputs back in their places, which must be free.
    pub fn put_back(
        &self,
        paths: &[String],
        project: &Project<'_>,
        states: &mut FileStates<'_>,
    ) -> Result<(), BuildError> {
        for path in paths {
            quarantine::put_back(self.disk, path)
                .map_err(|error| BuildError::io(format!("can't put `{path}` back"), error))?;
            let known = self.ledger.borrow().file(path);
            let state = match known.filter(|known| states.was_moved(path, known)) {
                Some(known) => State::Content(known.digest),
                None => states.look(path),
            };
            if let Some(id) = project.paths.find(path) {
                states.set(id, state);
            }
        }
        Ok(())
    }

    /// Takes old outputs away for good: new ones are in their places.
    pub fn drop_old(&self, paths: &[String]) {
        for path in paths {
            // What can't be removed is found by whoever looks for what is set by.
            let _ = quarantine::remove(self.disk, &quarantine::set_by_path(path));
        }
    }

    /// Moves what a failed recipe left behind out of the way; what, and where it is now.
    pub fn move_failed(
        &self,
        project: &Project<'_>,
        step: StepId,
        states: &mut FileStates<'_>,
    ) -> Result<Vec<(String, String)>, BuildError> {
        let mut moved = Vec::new();
        let stays = project
            .decl(project.step(step))
            .clauses
            .has(Manner::Resumes);
        for &(_, path) in project.step_outputs(project.step(step)) {
            let text = project.paths.get(path);
            if stays {
                // The next run goes on from it.
                let state = states.look(text);
                states.set(path, state);
                continue;
            }
            let plain = text.trim_end_matches('/');
            let cannot = |error| failed("move", plain, error);
            if self.is_empty_folder(text) {
                // It was made for the recipe, which put nothing into it.
                quarantine::remove(self.disk, text).map_err(cannot)?;
            } else if !self.disk.is_free(plain).map_err(cannot)? {
                let to = quarantine::move_failed(self.disk, text).map_err(cannot)?;
                moved.extend(to.map(|to| (plain.to_owned(), to)));
            }
            states.set(path, State::Missing);
        }
        Ok(moved)
    }

    fn is_empty_folder(&self, path: &str) -> bool {
        path.ends_with('/') && self.disk.list(path).is_ok_and(|names| names.is_empty())
    }

    /// The folder that an output lies in, or that it is.
    fn make_folder_of(
        &mut self,
        output: &str,
        writer: &mut LedgerWriter<'_>,
    ) -> Result<(), BuildError> {
        let is_tree = output.ends_with('/');
        let folder = match output.strip_suffix('/') {
            Some(folder) => folder,
            None => parent(output),
        };
        if folder.is_empty() || (!is_tree && self.folders.contains(folder)) {
            return Ok(());
        }
        self.make_folder(folder, writer)?;
        if !is_tree {
            self.folders.insert(folder.to_owned());
        }
        Ok(())
    }

    /// Makes a folder and those above it, and writes down which were not there, so that cleaning up can
    /// take them away again.
    fn make_folder(&self, folder: &str, writer: &mut LedgerWriter<'_>) -> Result<(), BuildError> {
        let ends = folder
            .match_indices('/')
            .map(|(at, _)| at)
            .chain([folder.len()]);
        let new: Vec<Entry> = ends
            .map(|end| &folder[..end])
            .filter(|above| matches!(self.disk.stat(above), Ok(None)))
            .map(|above| Entry::Folder(above.to_owned()))
            .collect();
        self.disk
            .create_folders(folder)
            .map_err(|error| failed("make the folder", folder, error))?;
        writer.record(new)
    }

    /// A file, or a link into nothing, that stands where an output's folder is to be goes aside.
    fn clear_folder(&self, output: &str, events: &mut EventHub<'_>) -> Result<(), BuildError> {
        let folder = parent(output.trim_end_matches('/'));
        if folder.is_empty() || self.folders.contains(folder) {
            return Ok(());
        }
        let cannot = |error| failed("make the folder", folder, error);
        if let Some(part) = quarantine::in_the_way(self.disk, folder).map_err(cannot)? {
            let to = quarantine::move_aside(self.disk, part).map_err(cannot)?;
            if let Some(to) = to {
                let path = part.to_owned();
                events.tell(Event::Aside { path, to });
            }
        }
        Ok(())
    }

    /// The file that a job is to write what it learned to.
    fn clear_learned(&self, path: &str) -> Result<(), BuildError> {
        quarantine::remove(self.disk, path).map_err(|error| failed("remove", path, error))?;
        let folder = parent(path);
        if folder.is_empty() {
            return Ok(());
        }
        self.disk
            .create_folders(folder)
            .map_err(|error| failed("make the folder", folder, error))
    }

    /// Whether an output's place holds what the step that made it left there. Anything else is moved aside.
    fn is_own_or_moved(
        &mut self,
        path: &str,
        states: &mut FileStates<'_>,
    ) -> Result<bool, BuildError> {
        let free = self.disk.is_free(path.trim_end_matches('/'));
        if free.map_err(|error| failed("look at", path, error))? {
            return Ok(false);
        }
        let made = {
            let ledger = self.ledger.borrow();
            ledger
                .maker(path)
                .and_then(|maker| ledger.step(maker))
                .and_then(|record| record.outputs().find(|output| output.path == path))
                .is_some_and(|made| verdict::is_as_left(&made, &states.look(path)))
        };
        if made {
            return Ok(true);
        }
        let held = states.look(path).own_digest();
        let to = quarantine::move_aside(self.disk, path);
        let to = to.map_err(|error| failed("move", path, error))?;
        self.moved_aside.extend(to.map(|to| MovedAside {
            path: path.to_owned(),
            to,
            held,
        }));
        Ok(false)
    }

    /// Tells of files that were moved out of a step's way. One that held just what the step has made now
    /// was no loss, as after a lost ledger: its copy is taken away again.
    pub fn tell_aside(
        &mut self,
        project: &Project<'_>,
        step: StepId,
        states: &FileStates<'_>,
        events: &mut EventHub<'_>,
    ) {
        for &(_, path) in project.step_outputs(project.step(step)) {
            let text = project.paths.get(path);
            let known = self.moved_aside.iter().position(|moved| moved.path == text);
            let Some(moved) = known.map(|at| self.moved_aside.swap_remove(at)) else {
                continue;
            };
            let same = moved.held.is_some() && states.get(path).own_digest() == moved.held;
            if same && quarantine::remove(self.disk, &moved.to).is_ok() {
                continue;
            }
            if text.ends_with('/') {
                drop_what_is_there_too(self.disk, &moved.to, text.trim_end_matches('/'));
            }
            events.tell(Event::Aside {
                path: text.trim_end_matches('/').to_owned(),
                to: moved.to,
            });
        }
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
