//! The store as a run has it: asked before a job begins, given what jobs have made.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::sync::mpsc::Receiver;
use std::sync::mpsc::Sender;
use std::thread::JoinHandle;
use std::time::Duration;

use crate::content::State;
use crate::ledger::Edge;
use crate::ledger::LOOKED_IN_VAIN;
use crate::store::collect::trim;
use crate::store::copying::KeepError;
use crate::store::counts;
use crate::store::counts::Counts;
use crate::store::folder::ObjectFolder;
use crate::store::keep::KeepRequest;
use crate::store::keep::ResultKeeper;
use crate::store::key::KeyScope;
use crate::store::key::StoreKey;
use crate::store::object::LearnedList;
use crate::store::object::Lists;
use crate::store::object::ObjectKind;
use crate::store::object::RecipeManner;
use crate::store::object::StoredResult;
use crate::store::restore::Restore;
use crate::store::shared::ObjectServer;
use crate::store::shared::SharedStore;
use crate::store::shared::Upload;
use crate::world::ByteSize;
use crate::world::RealDisk;
use crate::world::lock;

/// How a store is used.
#[derive(Clone, Debug)]
pub struct StoreOptions {
    /// The folder of the local store.
    pub folder: PathBuf,
    /// It is trimmed when it holds more.
    pub size: ByteSize,
    /// Results of steps that took less are not kept, unless their target says otherwise.
    pub least: Duration,
    /// What else results depend on, in words.
    pub platform: String,
    /// Where results are made: a machine's name and the project's folder.
    pub made_in: String,
}

/// What is looked for.
#[derive(Clone, Copy, Debug)]
pub struct StoreLookup {
    /// The step's declared key.
    pub declared: StoreKey,
    /// How it would run.
    pub wanted: RecipeManner,
}

/// A result that was found.
#[derive(Clone, Debug)]
pub struct Hit {
    /// Puts it in place.
    pub restore: Restore,
    /// What the step found out, with what stands there now.
    pub learned: Vec<Edge>,
    /// Whether a shared store had it.
    pub is_shared: bool,
}

/// What came of a look.
#[derive(Debug)]
pub enum StoreAnswer {
    /// A result that can be put in place.
    Found(Box<Hit>),
    /// Nothing is kept under these full keys, which are all that are known of; none when nothing may be used.
    Absent(Vec<StoreKey>),
}

impl StoreAnswer {
    /// The result, when one was found.
    #[must_use]
    pub fn found(self) -> Option<Box<Hit>> {
        match self {
            Self::Found(hit) => Some(hit),
            Self::Absent(_) => None,
        }
    }
}

/// What went wrong with a store, which cost nobody a result.
#[derive(Debug)]
pub enum StoreTrouble {
    /// Not all could be kept.
    Local(io::Error),
    /// The shared store was given up, or can't be used; why, in words.
    Shared(String),
}

/// The shared store behind the local one.
struct SharedSide {
    store: Arc<SharedStore>,
    /// Whether results are put there.
    is_shared_to: bool,
    /// So long is waited for that at the end.
    wait: Duration,
}

/// What a run has of the store.
pub struct Store {
    folder: Arc<ObjectFolder>,
    scope: KeyScope,
    root: PathBuf,
    options: StoreOptions,
    /// Whether anything was there when it was opened, or was kept since: else nobody has to be asked.
    is_there: AtomicBool,
    keeper: Mutex<Option<Keeper>>,
    counts: Mutex<Counts>,
    shared: Option<SharedSide>,
    /// Why there is no shared store although one was wanted.
    no_shared: Option<String>,
}

/// The thread that puts results into the store.
struct Keeper {
    requests: Sender<KeeperTask>,
    thread: JoinHandle<KeeperEnd>,
}

/// What the thread is asked to do.
enum KeeperTask {
    Keep(Box<KeepRequest>),
    /// What lies under this key came out differently when it was run again, or did not after all.
    Differs(StoreKey, bool),
}

/// What the thread did.
#[derive(Default)]
struct KeeperEnd {
    counts: Counts,
    /// The first error, after which nothing is kept any more.
    error: Option<io::Error>,
}

impl Store {
    /// The store for a project. Nothing is written before there is something to keep.
    #[must_use]
    pub fn new(options: StoreOptions, root: PathBuf, root_text: &str) -> Self {
        let folder = ObjectFolder::below(&options.folder);
        Self {
            is_there: AtomicBool::new(folder.is_there()),
            folder: Arc::new(folder),
            scope: KeyScope::new(root_text, &options.platform),
            root,
            options,
            keeper: Mutex::new(None),
            counts: Mutex::new(Counts::default()),
            shared: None,
            no_shared: None,
        }
    }

    /// With a shared store behind it, or with what is wrong with it. `is_shared_to` says whether results are put there,
    /// `wait` how long that is waited for at the end of a run.
    #[must_use]
    pub fn with_shared(
        mut self,
        server: Result<Box<dyn ObjectServer>, String>,
        is_shared_to: bool,
        wait: Duration,
    ) -> Self {
        match server {
            Ok(server) => {
                let store = SharedStore::new(server, Arc::clone(&self.folder));
                self.shared = Some(SharedSide {
                    store: Arc::new(store),
                    is_shared_to,
                    wait,
                });
            }
            Err(why) => self.no_shared = Some(why),
        }
        self
    }

    /// The shared store, as long as it answers.
    #[must_use]
    pub fn shared(&self) -> Option<&SharedStore> {
        let shared = self.shared.as_ref().map(|shared| &*shared.store);
        shared.filter(|shared| shared.is_open())
    }

    /// Where results may be used.
    #[must_use]
    pub fn scope(&self) -> &KeyScope {
        &self.scope
    }

    /// Where results are made.
    #[must_use]
    pub fn made_in(&self) -> &str {
        &self.options.made_in
    }

    /// Results of steps that took less are not kept.
    #[must_use]
    pub fn least(&self) -> Duration {
        self.options.least
    }

    /// Whether a look can find anything.
    #[must_use]
    pub fn is_worth_a_look(&self) -> bool {
        self.is_there.load(Ordering::Relaxed) || self.shared.is_some()
    }

    /// Looks for a result. `now` tells what stands at a path that a recipe found out.
    pub fn look(&self, lookup: StoreLookup, now: &mut dyn FnMut(&str) -> State) -> StoreAnswer {
        let mut absent = Vec::new();
        if !self.is_worth_a_look() {
            return StoreAnswer::Absent(absent);
        }
        let lists: Option<Lists> = self.folder.read(ObjectKind::Lists, lookup.declared);
        let lists = lists.filter(|lists| !lists.differs).unwrap_or_default();
        // Once a watch has told what such a step reads, what was made without one says too little.
        let was_watched = lists.lists.iter().any(|list| list.manner.reach > 0);
        let wanted = RecipeManner {
            reach: lookup.wanted.reach.max(u8::from(was_watched)),
            ..lookup.wanted
        };
        for list in lists.lists.iter().filter(|list| list.manner.serves(wanted)) {
            let Some(key) = self.scope.full(lookup.declared, list, now) else {
                continue;
            };
            match self.hit(key, list, now) {
                Some(hit) => return StoreAnswer::Found(Box::new(hit)),
                None => absent.push(key),
            }
        }
        StoreAnswer::Absent(absent)
    }

    fn hit(
        &self,
        key: StoreKey,
        list: &LearnedList,
        now: &mut dyn FnMut(&str) -> State,
    ) -> Option<Hit> {
        let result: StoredResult = self.folder.read(ObjectKind::Result, key)?;
        let is_shared = self
            .shared
            .as_ref()
            .is_some_and(|shared| shared.store.was_fetched(key));
        let names = list.names.iter();
        Some(Hit {
            learned: names
                .map(|(path, group)| Edge {
                    path: path.clone(),
                    digest: match group & LOOKED_IN_VAIN {
                        0 => now(path).digest(),
                        _ => None,
                    },
                    group: *group,
                })
                .collect(),
            is_shared,
            restore: Restore {
                store: Arc::clone(&self.folder),
                key,
                result: Arc::new(result),
                root: self.root.clone(),
            },
        })
    }

    /// Keeps a result, behind the jobs.
    pub fn keep(&self, request: KeepRequest) {
        self.send(KeeperTask::Keep(Box::new(request)));
    }

    /// Notes whether what is declared so came out differently when it was run again: nothing is kept of it then.
    pub fn note_difference(&self, declared: StoreKey, differs: bool) {
        self.send(KeeperTask::Differs(declared, differs));
    }

    /// Notes that a result was put in place.
    pub fn note_restored(&self, saved: Duration, is_shared: bool) {
        lock(&self.counts).add_restored(saved, is_shared);
    }

    fn send(&self, work: KeeperTask) {
        let mut keeper = lock(&self.keeper);
        if keeper.is_none() {
            *keeper = self.start();
        }
        if let Some(keeper) = &*keeper {
            // A thread that ended early has said why.
            let _ = keeper.requests.send(work);
        }
    }

    /// Starts the thread; without room for one nothing is kept.
    fn start(&self) -> Option<Keeper> {
        let (requests, work) = mpsc::channel();
        let (folder, scope) = (Arc::clone(&self.folder), self.scope.clone());
        let root = self.root.clone();
        let thread = std::thread::Builder::new().name("store".to_owned());
        let shared = self.shared.as_ref().filter(|shared| shared.is_shared_to);
        let shared = shared.map(|shared| Arc::clone(&shared.store));
        let thread =
            thread.spawn(move || keep_all(&folder, &scope, &root, shared.as_deref(), &work));
        Some(Keeper {
            requests,
            thread: thread.ok()?,
        })
    }

    /// Waits until everything is kept, and for a while until it is shared; counts, and trims the store when it has
    /// grown too large. Gives what went wrong.
    pub fn finish(&self, now: i64) -> Vec<StoreTrouble> {
        let mut counts = std::mem::take(&mut *lock(&self.counts));
        let keeper = lock(&self.keeper).take();
        let mut trouble = Vec::new();
        if let Some(keeper) = keeper {
            drop(keeper.requests);
            let end = keeper.thread.join().unwrap_or_default();
            counts.add_all(&end.counts);
            trouble.extend(end.error.map(StoreTrouble::Local));
        }
        trouble.extend(self.no_shared.clone().map(StoreTrouble::Shared));
        if let Some(shared) = &self.shared {
            trouble.extend(shared.store.finish(shared.wait).map(StoreTrouble::Shared));
            counts.add_fetched(shared.store.take_fetched());
        }
        if counts != Counts::default() {
            self.is_there.store(true, Ordering::Relaxed);
            let most = self.options.size;
            let counted = counts::add(&self.folder, &counts, |all| {
                if all.size() > most {
                    // Some room, so that not each run has to.
                    let most = ByteSize(most.0 / 10 * 9);
                    all.set_size(trim(&self.folder, most, now).left);
                }
            });
            // Sums that can't be written cost nobody a result.
            let _ = counted;
        }
        trouble
    }
}

/// Keeps what comes until nobody sends any more.
fn keep_all(
    folder: &ObjectFolder,
    scope: &KeyScope,
    root: &std::path::Path,
    shared: Option<&SharedStore>,
    work: &Receiver<KeeperTask>,
) -> KeeperEnd {
    let mut end = KeeperEnd::default();
    let disk = match RealDisk::open(root) {
        Ok(disk) => disk,
        Err(error) => {
            end.error = Some(error);
            return end;
        }
    };
    let mut keeper = ResultKeeper {
        store: folder,
        disk: &disk,
        scope,
        buffer: Vec::new(),
    };
    for work in work {
        let done = match work {
            KeeperTask::Keep(request) => {
                let declared = request.declared;
                keeper.keep(*request).map(|kept| {
                    let Some((key, result)) = kept else { return };
                    end.counts.add_kept(result.size());
                    if let Some(shared) = shared {
                        let result = Box::new(result);
                        shared.put(Upload::Result {
                            declared,
                            key,
                            result,
                        });
                    }
                })
            }
            KeeperTask::Differs(declared, differs) => {
                let noted = note_difference(folder, declared, differs);
                noted.map_err(KeepError::Store).map(|is_news| {
                    if let Some(shared) = shared.filter(|_| is_news) {
                        shared.put(Upload::Lists(declared));
                    }
                })
            }
        };
        match done {
            Ok(()) | Err(KeepError::Source(_)) => {}
            // Somebody empties the store meanwhile: only this one is lost.
            Err(KeepError::Store(error)) if error.kind() == io::ErrorKind::NotFound => {}
            Err(KeepError::Store(error)) => {
                end.error = Some(error);
                break;
            }
        }
    }
    end
}

/// Notes whether what is declared so came out differently; whether that is news.
fn note_difference(folder: &ObjectFolder, declared: StoreKey, differs: bool) -> io::Result<bool> {
    let lists: Lists = folder.read(ObjectKind::Lists, declared).unwrap_or_default();
    if lists.differs == differs {
        return Ok(false);
    }
    let lists = Lists { differs, ..lists };
    folder.write(ObjectKind::Lists, declared, &lists)?;
    Ok(true)
}
