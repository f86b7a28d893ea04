//! After a run that was killed: what of it still runs is ended, half outputs are moved out of the way, and
//! the outputs that were set by are put back, before anything is looked at.
//!
//! What has to be done is known from three places, so that it is also known when one of them is lost: the
//! ledger's steps that began, the facts of the jobs that were running, and the folder of what was set by.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::io;
use std::path::Path;

use serde::Deserialize;

use crate::content::Reader;
use crate::executor::local::job_markers;
use crate::executor::local::outliving;
use crate::ledger::BadEnd;
use crate::ledger::Beginning;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::paths::from_root;
use crate::world::Clock;
use crate::world::Disk;
use crate::world::own;
use crate::world::quarantine;

/// What had to be done.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recovered {
    /// Programs that were still running.
    pub ended: Vec<String>,
    /// Half outputs, and where they are now.
    pub moved: Vec<(String, String)>,
    /// Old outputs that are back in their place.
    pub put_back: Vec<String>,
}

impl Recovered {
    /// Whether there was nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// What could not be put in order. Nothing is lost then, and the next call goes on.
#[derive(Debug, thiserror::Error)]
#[error("{what}")]
pub struct RecoveryError {
    /// What could not be done.
    pub what: String,
    /// Why.
    pub source: io::Error,
}

/// Of the facts that a job was given, what it makes.
#[derive(Deserialize)]
struct ManifestOutputs {
    targets: Vec<String>,
    folder: String,
}

/// Puts a project in order whose last run was killed; to be called by whoever holds the project. `scratch`
/// is the folder of scratch files, `root` the project's, both absolute.
///
/// # Errors
/// What could not be done; nothing is lost then, and the next call goes on.
pub fn recover(
    disk: &dyn Disk,
    clock: &dyn Clock,
    ledger: &RefCell<Ledger>,
    scratch: &Path,
    root: &str,
) -> Result<Recovered, RecoveryError> {
    let broken = |what: &str, source| RecoveryError {
        what: what.to_owned(),
        source,
    };
    let mut left = outliving::end_left(scratch)
        .map_err(|error| broken("can't tell what the last run left behind", error))?;
    let killed = job_markers::end_killed(scratch)
        .map_err(|error| broken("can't tell what the last run left behind", error))?;
    let Unfinished {
        steps: mut unfinished,
        mut outputs,
        stay,
    } = Unfinished::of(&ledger.borrow());
    if killed.is_none() && unfinished.is_empty() {
        // Where the power failed, the marks and the journal's end may be gone, and the renames not.
        let set_by = quarantine::files_below(disk, quarantine::SET_BY);
        if set_by.is_ok_and(|paths| paths.is_empty()) {
            return Ok(Recovered {
                ended: left,
                ..Recovered::default()
            });
        }
    }
    let killed = killed.unwrap_or_default();
    left.extend(killed.ended);
    for slot in &killed.slots {
        outputs.extend(targets_of(scratch, *slot, root));
    }
    outputs.retain(|path| !stay.contains(path));
    let mut recovery = Recovery {
        disk,
        clock,
        ledger,
        done: Recovered {
            ended: left,
            ..Recovered::default()
        },
    };
    for path in &outputs {
        recovery
            .output(path)
            .map_err(|error| broken(&format!("can't put `{path}` in order"), error))?;
    }
    recovery.rest().map_err(|error| {
        broken(
            &format!("can't put back what is in `{}`", quarantine::SET_BY),
            error,
        )
    })?;
    let done = recovery.done;
    unfinished.sort_unstable();
    let ends = unfinished
        .into_iter()
        .map(|step| Entry::EndedBadly(step, BadEnd::CutShort));
    let ends: Vec<Entry> = ends.collect();
    if !ends.is_empty() {
        let mut ledger = ledger.borrow_mut();
        let written = ledger.add_all(ends).and_then(|()| ledger.sync());
        written.map_err(|error| broken("can't write the ledger", error))?;
    }
    job_markers::forget_killed(scratch)
        .map_err(|error| broken("can't take the marks of the last run away", error))?;
    Ok(done)
}

/// Steps that began and did not end.
#[derive(Default)]
struct Unfinished {
    steps: Vec<String>,
    /// What they were to make.
    outputs: BTreeSet<String>,
    /// What stays where it is, since the step goes on from it.
    stay: BTreeSet<String>,
}

impl Unfinished {
    fn of(ledger: &Ledger) -> Self {
        let mut found = Self::default();
        for beginning in ledger.unfinished() {
            found.steps.push(beginning.step.clone());
            let outputs = beginning.outputs.iter().cloned();
            if beginning
                .outputs
                .first()
                .is_some_and(|first| first == Beginning::STAYS)
            {
                found.stay.extend(outputs);
                continue;
            }
            found.outputs.extend(outputs);
            if beginning.outputs.is_empty() && !beginning.step.starts_with('\0') {
                // An older version wrote down no more than the name.
                found.outputs.insert(beginning.step.clone());
                let made = ledger.step(&beginning.step);
                let outputs = made.iter().flat_map(|step| step.outputs());
                found
                    .outputs
                    .extend(outputs.map(|output| output.path.to_owned()));
            }
        }
        found
    }
}

/// What the job that a slot was running was to make.
fn targets_of(scratch: &Path, slot: usize, root: &str) -> Vec<String> {
    let bytes = own::read(&scratch.join(format!("{slot}.json"))).unwrap_or_default();
    let Ok(manifest) = serde_json::from_slice::<ManifestOutputs>(&bytes) else {
        return Vec::new();
    };
    let Some(folder) = manifest.folder.strip_prefix(root) else {
        return Vec::new();
    };
    let folder = match folder.trim_matches('/') {
        "" => String::new(),
        folder => format!("{folder}/"),
    };
    let inside =
        |path: &String| !path.is_empty() && !path.starts_with('/') && !path.starts_with("../");
    let paths = manifest
        .targets
        .iter()
        .map(|target| from_root(&folder, target));
    paths.filter(inside).collect()
}

struct Recovery<'r> {
    disk: &'r dyn Disk,
    clock: &'r dyn Clock,
    ledger: &'r RefCell<Ledger>,
    done: Recovered,
}

impl Recovery<'_> {
    fn output(&mut self, path: &str) -> io::Result<()> {
        let plain = path.trim_end_matches('/');
        let was_set_by = !self.disk.is_free(&quarantine::set_by_path(path))?;
        // Without anything set by, the job may never have begun: then the old output stands in its place.
        if !self.disk.is_free(plain)? && (was_set_by || !self.is_as_made(path)) {
            let to = quarantine::move_failed(self.disk, path)?;
            self.done.moved.extend(to.map(|to| (plain.to_owned(), to)));
        }
        if was_set_by && quarantine::put_back(self.disk, path)? {
            self.done.put_back.push(plain.to_owned());
        }
        Ok(())
    }

    /// Whether what stands at a path is as the ledger says that it was made.
    fn is_as_made(&self, path: &str) -> bool {
        let ledger = self.ledger.borrow();
        let made = ledger
            .maker(path)
            .and_then(|maker| ledger.step(maker))
            .and_then(|step| step.outputs().find(|output| output.path == path))
            .and_then(|output| output.digest);
        let reader = Reader {
            disk: self.disk,
            clock: self.clock,
            records: &*ledger,
        };
        made.is_some() && reader.look(path, &mut Vec::new()).state.own_digest() == made
    }

    /// Whatever else was set by: of steps that had ended well and whose old outputs were not yet dropped, or
    /// that no ledger knows of.
    fn rest(&mut self) -> io::Result<()> {
        for path in quarantine::files_below(self.disk, quarantine::SET_BY)? {
            let by = format!("{}/{path}", quarantine::SET_BY);
            let known = self.ledger.borrow().maker(&path).is_some();
            if self.disk.is_free(&path)? {
                if quarantine::put_back(self.disk, &path)? {
                    self.done.put_back.push(path);
                }
            } else if known && self.is_as_made(&path) {
                quarantine::remove(self.disk, &by)?;
            } else {
                let to = quarantine::move_aside(self.disk, &path)?;
                self.done.moved.extend(to.map(|to| (path.clone(), to)));
                if quarantine::put_back(self.disk, &path)? {
                    self.done.put_back.push(path);
                }
            }
        }
        Ok(())
    }
}
