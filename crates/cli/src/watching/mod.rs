//! Being told of changed files, keys and signals, and making one wish of them.

mod notices;
mod poller;

use std::collections::BTreeSet;
use std::collections::HashMap;
use std::collections::HashSet;
use std::path::Path;
use std::sync::mpsc::Receiver;
use std::sync::mpsc::RecvTimeoutError;
use std::time::Duration;
use std::time::Instant;

use handloom_core::status::ChangeImpact;
use handloom_core::status::WatchSet;
use handloom_core::world::Disk;

use crate::standing::ASKED;

pub use notices::Notices;
use poller::FilePoller;

/// Something that may be a cause to do something.
#[derive(Debug)]
pub enum WatchEvent {
    /// Paths, seen from the root, at which something changed.
    Changed(Vec<String>),
    /// Folders in which names came or went, or were renamed.
    Names(Vec<String>),
    /// More changed than the system could tell of.
    Overflow,
    /// A key.
    Key(char),
    /// A signal asks for an end.
    End,
    /// The program was paused and goes on.
    Resumed,
}

/// Changes that come within this time belong together: an editor writes, renames and removes.
const QUIET: Duration = Duration::from_millis(6);

/// The same after many changes, as when another branch is checked out; and how long at most.
const QUIET_AFTER_MANY: Duration = Duration::from_millis(100);
const LONGEST: Duration = Duration::from_secs(2);
const MANY: usize = 24;

/// What to do.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct RebuildRequest {
    /// The files that are the cause of a run.
    pub causes: Vec<String>,
    /// Files that may hold something else than is known; some are no cause.
    pub invalidated: Vec<String>,
    /// Names that came or went, for now perhaps, where that may matter.
    pub names: BTreeSet<String>,
    /// The same as `causes`, to be searched.
    pub caused: HashSet<String>,
    /// Everything has to be looked at.
    pub everything: bool,
    /// More changed than the system could tell of.
    pub lost: bool,
    /// A run is wanted, whatever changed.
    pub now: bool,
    /// To end: by a key, or by a signal.
    pub quit: bool,
    pub interrupted: bool,
    /// Whether the events say already what it is for.
    pub told: bool,
    /// Tasks that stay and were ended for it.
    pub ended: Vec<String>,
    /// Questions of others that are to be answered.
    pub asked: Vec<u64>,
    /// Whether another run wrote down what it knows.
    pub others_wrote: bool,
}

impl RebuildRequest {
    /// Whether anything is to be done.
    pub fn is_one(&self) -> bool {
        self.now || self.lost || self.ends() || !self.causes.is_empty()
    }

    /// Whether nothing at all was noticed.
    pub fn is_calm(&self) -> bool {
        !self.is_one() && self.invalidated.is_empty() && self.names.is_empty() && !self.everything
    }

    /// Whether this is the end.
    pub fn ends(&self) -> bool {
        self.quit || self.interrupted
    }

    /// A file is the cause of a run; each is named once.
    pub fn cause(&mut self, path: String) {
        if self.caused.insert(path.clone()) {
            self.causes.push(path);
        }
    }

    /// Leaves out files that are no cause after all.
    pub fn forget_causes(&mut self, is_none: impl Fn(&str) -> bool) {
        self.causes.retain(|path| !is_none(path));
        let caused = &mut self.caused;
        caused.retain(|path| self.causes.contains(path));
    }

    /// What is still open once everything else was looked at: names that came or went after that look, and questions.
    pub fn left(self) -> Self {
        Self {
            names: self.names,
            asked: self.asked,
            ..Self::default()
        }
    }

    /// Looks which names came or went for good.
    fn settle(&mut self, watch_set: &WatchSet, disk: &dyn Disk) {
        let mut asked: HashMap<String, bool> = HashMap::new();
        for path in std::mem::take(&mut self.names) {
            let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
            let folder = if watch_set.is_folder(&path) {
                &path
            } else {
                folder
            };
            let differs = asked
                .entry(folder.to_owned())
                .or_insert_with(|| watch_set.names_differ(disk, &path));
            if *differs {
                self.everything = true;
                self.cause(path);
            }
        }
    }

    /// Takes one thing in; gives how many files it says were changed.
    fn take(&mut self, events_in: WatchEvent, watch_set: &WatchSet, broken: bool) -> usize {
        match events_in {
            WatchEvent::Changed(paths) => {
                let count = paths.len();
                for path in paths {
                    if let Some(own) = path.strip_prefix(".handloom/") {
                        self.own_file(own);
                    }
                    self.touched(path, watch_set, broken);
                }
                return count;
            }
            WatchEvent::Names(folders) => {
                for folder in folders {
                    if watch_set.is_listed(&folder) && !broken {
                        self.names.insert(folder);
                    } else {
                        self.touched(folder, watch_set, broken);
                    }
                }
            }
            WatchEvent::Overflow => {
                self.everything = true;
                self.lost = true;
            }
            WatchEvent::Key('w') => {
                // Whatever the notices say.
                self.everything = true;
                self.now = true;
            }
            WatchEvent::Key('q') => self.quit = true,
            WatchEvent::End => self.interrupted = true,
            WatchEvent::Key(_) | WatchEvent::Resumed => {}
        }
        0
    }

    /// A file of Hand Loom's own was made or changed.
    fn own_file(&mut self, path: &str) {
        let number = path
            .strip_prefix(ASKED)
            .and_then(|rest| rest.strip_prefix('/'));
        match number.and_then(|number| number.parse().ok()) {
            // It is told of when it comes and when it goes.
            Some(number) if self.asked.last() != Some(&number) => self.asked.push(number),
            Some(_) => {}
            None => self.others_wrote |= matches!(path, "project-front" | "journal"),
        }
    }

    fn touched(&mut self, path: String, watch_set: &WatchSet, broken: bool) {
        let mut touch = watch_set.touch(&path);
        if broken && touch < ChangeImpact::Source && !path.starts_with(".handloom") {
            // Anything may be what the description waits for, also a file that was gone for a moment and
            // is back under the same name.
            touch = ChangeImpact::Everything;
        }
        if touch == ChangeImpact::Names {
            if watch_set.is_folder(&path) {
                self.everything = true;
                self.invalidated.push(path.clone());
            }
            // An editor's file beside the real one is gone in a moment.
            self.names.insert(path);
            return;
        }
        self.everything |= matches!(touch, ChangeImpact::Everything | ChangeImpact::MadeFolder);
        if touch.is_cause() {
            self.cause(path.clone());
        }
        if touch == ChangeImpact::Nothing {
            return;
        }
        match watch_set.made_tree(&path) {
            // It is known as a whole.
            Some(tree) if self.invalidated.last().is_none_or(|last| last != tree) => {
                self.invalidated.push(tree.to_owned());
            }
            Some(_) => {}
            None => self.invalidated.push(path),
        }
    }
}

/// Takes in what came so far, without waiting.
pub fn drain(events_in: &Receiver<WatchEvent>, rebuild: &mut RebuildRequest, watch_set: &WatchSet) {
    while let Ok(one) = events_in.try_recv() {
        rebuild.take(one, watch_set, false);
    }
}

/// Takes in what came so far, and what belongs to it.
pub fn glance(
    events_in: &Receiver<WatchEvent>,
    rebuild: &mut RebuildRequest,
    watch_set: &WatchSet,
    disk: &dyn Disk,
) {
    if let Ok(one) = events_in.try_recv() {
        let count = rebuild.take(one, watch_set, false);
        gather(events_in, rebuild, count, watch_set, false);
        rebuild.settle(watch_set, disk);
    }
}

/// Who is called while changes are waited for.
pub struct WaitHooks<'h> {
    /// The screen may have changed.
    pub refresh: &'h dyn Fn(),
    /// Others ask; what was noticed so far is known.
    pub answer: &'h mut dyn FnMut(&mut RebuildRequest),
    /// Whether this is all there is to wait for.
    pub is_enough: &'h dyn Fn(&RebuildRequest) -> bool,
}

/// Waits until there is something to do, and until the changes that belong together have come.
pub fn wait(
    events_in: &Receiver<WatchEvent>,
    mut rebuild: RebuildRequest,
    watch_set: &WatchSet,
    disk: &dyn Disk,
    broken: bool,
    hooks: &mut WaitHooks<'_>,
) -> RebuildRequest {
    if !rebuild.asked.is_empty() {
        // They came before everything was looked at.
        (hooks.answer)(&mut rebuild);
    }
    while !rebuild.is_one() && !(hooks.is_enough)(&rebuild) {
        if rebuild.names.is_empty() {
            match events_in.recv() {
                Ok(WatchEvent::Resumed) => (hooks.refresh)(),
                Ok(one) => {
                    let count = rebuild.take(one, watch_set, broken);
                    if !rebuild.asked.is_empty() {
                        // All that happened before the question was told before it.
                        (hooks.answer)(&mut rebuild);
                        continue;
                    }
                    gather(events_in, &mut rebuild, count, watch_set, broken);
                }
                Err(_) => rebuild.quit = true,
            }
        }
        if !rebuild.asked.is_empty() {
            (hooks.answer)(&mut rebuild);
        }
        rebuild.settle(watch_set, disk);
    }
    rebuild
}

/// Takes in what follows at once.
fn gather(
    events_in: &Receiver<WatchEvent>,
    rebuild: &mut RebuildRequest,
    mut count: usize,
    watch_set: &WatchSet,
    broken: bool,
) {
    let first = Instant::now();
    // Whoever asks has little patience.
    while !rebuild.ends() && rebuild.asked.is_empty() && first.elapsed() < LONGEST {
        let quiet = if count > MANY {
            QUIET_AFTER_MANY
        } else {
            QUIET
        };
        match events_in.recv_timeout(quiet) {
            Ok(one) => count += rebuild.take(one, watch_set, broken),
            Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => break,
        }
    }
}

/// A path as seen from the root; none when it is not text.
fn from_root(root: &Path, path: &Path) -> Option<String> {
    let seen = path.strip_prefix(root).unwrap_or(path);
    seen.to_str().map(str::to_owned)
}
