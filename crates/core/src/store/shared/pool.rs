//! Threads that speak with a shared store, so that nobody else waits for it.
//!
//! What is asked for is answered in any case: when it is here, when it is known not to be, or when the store is given up.
//! A watcher gives it up when a request that was begun has had no sign of life for a second; whoever hangs in the
//! system then hangs on a thread that nobody waits for.

use std::collections::HashMap;
use std::collections::HashSet;
use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::time::Duration;
use std::time::Instant;

use crate::store::folder::ObjectFolder;
use crate::store::key::StoreKey;
use crate::store::shared::ObjectServer;
use crate::store::shared::SharedError;
use crate::store::shared::activity::Activity;
use crate::store::shared::fetch::Exchange;
use crate::store::shared::upload::Upload;
use crate::world::lock;

/// Requests that are made at once, for each of fetching and putting.
const THREADS: usize = 8;
/// A request without a sign of life for so long ends all; one that puts something, where others were answered before,
/// may take longer: a server may have to write it down.
const SILENCE: Duration = Duration::from_secs(1);
const PUT_SILENCE: Duration = Duration::from_secs(5);
/// The watcher looks so often.
const LOOK: Duration = Duration::from_millis(50);

/// Is called when what was asked for is here, or will not come.
pub type Answered = Box<dyn FnOnce() + Send>;

/// What is fetched.
enum Fetch {
    Lists(StoreKey),
    Result(Vec<StoreKey>),
}

#[derive(Default)]
struct PoolState {
    fetches: VecDeque<(u64, Fetch)>,
    uploads: VecDeque<Upload>,
    /// Whoever waits for an answer.
    waiting: HashMap<u64, Answered>,
    /// Requests that were begun, and whether they put something.
    begun: HashMap<u64, (Activity, bool)>,
    next: u64,
    fetchers: [usize; 2],
    putters: [usize; 2],
    is_watched: bool,
    closed: bool,
    /// Why the store was given up.
    trouble: Option<String>,
    /// Whether it answered anything.
    has_answered: bool,
    /// Results that came from it.
    fetched: HashSet<StoreKey>,
    /// How many bytes they hold.
    bytes: u64,
}

/// A shared store, as a run has it.
pub struct SharedStore {
    pool: Arc<Pool>,
}

struct Pool {
    server: Box<dyn ObjectServer>,
    folder: Arc<ObjectFolder>,
    began: Instant,
    state: Mutex<PoolState>,
    /// There is something to fetch, something to put, a first request to watch, less that is being put.
    fetches: Condvar,
    uploads: Condvar,
    requests: Condvar,
    ends: Condvar,
}

impl SharedStore {
    /// Nobody was asked yet.
    pub fn new(server: Box<dyn ObjectServer>, folder: Arc<ObjectFolder>) -> Self {
        let pool = Pool {
            server,
            folder,
            began: Instant::now(),
            state: Mutex::new(PoolState::default()),
            fetches: Condvar::new(),
            uploads: Condvar::new(),
            requests: Condvar::new(),
            ends: Condvar::new(),
        };
        Self {
            pool: Arc::new(pool),
        }
    }

    /// Whether it is worth asking.
    pub fn is_open(&self) -> bool {
        lock(&self.pool.state).trouble.is_none()
    }

    /// Asks what was found out by recipes that are declared so.
    pub fn ask_lists(&self, declared: StoreKey, answered: Answered) {
        self.pool.ask(Fetch::Lists(declared), answered);
    }

    /// Asks for the first of these results.
    pub fn ask_result(&self, candidates: Vec<StoreKey>, answered: Answered) {
        self.pool.ask(Fetch::Result(candidates), answered);
    }

    /// Puts something there, behind everything else.
    pub fn put(&self, upload: Upload) {
        Pool::put(&self.pool, upload);
    }

    /// Whether a result came from there.
    pub fn was_fetched(&self, key: StoreKey) -> bool {
        lock(&self.pool.state).fetched.contains(&key)
    }

    /// How many results came from there, and how many bytes they hold; once.
    pub fn take_fetched(&self) -> (usize, u64) {
        let mut state = lock(&self.pool.state);
        let count = state.fetched.len();
        (count, std::mem::take(&mut state.bytes))
    }

    /// Waits so long for what is still being put there; what went wrong, in words.
    pub fn finish(&self, most: Duration) -> Option<String> {
        let pool = &self.pool;
        let until = Instant::now() + most;
        let mut state = lock(&pool.state);
        let is_busy = |state: &PoolState| {
            state.trouble.is_none()
                && !(state.uploads.is_empty() && state.begun.values().all(|(_, puts)| !puts))
        };
        while is_busy(&state) {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            state = wait(&pool.ends, state, left);
        }
        let left = state.uploads.len() + state.begun.values().filter(|(_, puts)| *puts).count();
        state.closed = true;
        state.uploads.clear();
        state.fetches.clear();
        pool.wake_all();
        let trouble = state.trouble.clone();
        trouble.or_else(|| {
            (left > 0).then(|| {
                format!("{left} results were not put there in time (`store.wait` says how long)")
            })
        })
    }
}

impl Drop for SharedStore {
    fn drop(&mut self) {
        lock(&self.pool.state).closed = true;
        self.pool.wake_all();
    }
}

fn wait<'s>(
    condition: &Condvar,
    state: MutexGuard<'s, PoolState>,
    most: Duration,
) -> MutexGuard<'s, PoolState> {
    let waited = condition.wait_timeout(state, most);
    waited.unwrap_or_else(PoisonError::into_inner).0
}

/// So long sleeps who has nothing to do.
const LONG: Duration = Duration::from_secs(3600);

impl Pool {
    fn wake_all(&self) {
        for condition in [&self.fetches, &self.uploads, &self.requests, &self.ends] {
            condition.notify_all();
        }
    }

    fn ask(self: &Arc<Self>, fetch: Fetch, answered: Answered) {
        let mut state = lock(&self.state);
        if state.trouble.is_some() {
            drop(state);
            answered();
            return;
        }
        let number = state.next;
        state.next += 1;
        state.waiting.insert(number, answered);
        state.fetches.push_back((number, fetch));
        self.watch(&mut state);
        let [idle, all] = state.fetchers;
        if state.fetches.len() > idle && all < THREADS {
            let pool = Arc::clone(self);
            let started = start("fetch", move || pool.fetch_all());
            state.fetchers[1] += usize::from(started);
        }
        if state.fetchers[1] == 0 {
            // No room for a single thread: nobody is to wait for ever.
            self.give_up(&mut state, "there is no room for a thread".to_owned());
            let answers = std::mem::take(&mut state.waiting);
            drop(state);
            answers.into_values().for_each(|answered| answered());
            return;
        }
        drop(state);
        self.fetches.notify_one();
    }

    fn put(self: &Arc<Self>, upload: Upload) {
        let mut state = lock(&self.state);
        if state.trouble.is_some() {
            return;
        }
        state.uploads.push_back(upload);
        self.watch(&mut state);
        let [idle, all] = state.putters;
        if state.uploads.len() > idle && all < THREADS {
            let pool = Arc::clone(self);
            let started = start("share", move || pool.put_all());
            state.putters[1] += usize::from(started);
        }
        drop(state);
        self.uploads.notify_one();
    }

    /// Starts the watcher, once.
    fn watch(self: &Arc<Self>, state: &mut PoolState) {
        if !std::mem::replace(&mut state.is_watched, true) {
            let pool = Arc::clone(self);
            // Without it, requests end by their own limits.
            start("store watch", move || pool.watch_silence());
        }
    }

    fn watch_silence(&self) {
        let mut state = lock(&self.state);
        while !state.closed {
            let has_answered = state.has_answered;
            let limit = |puts: bool| {
                if puts && has_answered {
                    PUT_SILENCE
                } else {
                    SILENCE
                }
            };
            let is_silent = |(activity, puts): &(Activity, bool)| activity.silence() > limit(*puts);
            if state.trouble.is_none() && state.begun.values().any(is_silent) {
                self.give_up(&mut state, "it does not answer".to_owned());
                let answers = std::mem::take(&mut state.waiting);
                drop(state);
                answers.into_values().for_each(|answered| answered());
                state = lock(&self.state);
            }
            state = match state.begun.is_empty() {
                true => wait(&self.requests, state, LONG),
                false => wait(&self.requests, state, LOOK),
            };
        }
    }

    /// From now on nobody is asked.
    fn give_up(&self, state: &mut PoolState, why: String) {
        state.trouble.get_or_insert(why);
        state.fetches.clear();
        state.uploads.clear();
        self.wake_all();
    }

    /// Begins a request, with a number and its signs of life.
    fn begin(&self, state: &mut PoolState, number: u64, puts: bool) -> Activity {
        let activity = Activity::new(self.began);
        if state.begun.is_empty() {
            self.requests.notify_one();
        }
        state.begun.insert(number, (activity.clone(), puts));
        activity
    }

    fn fetch_all(&self) {
        let mut state = lock(&self.state);
        loop {
            let Some((number, fetch)) = state.fetches.pop_front() else {
                if state.closed {
                    return;
                }
                state.fetchers[0] += 1;
                state = wait(&self.fetches, state, LONG);
                state.fetchers[0] -= 1;
                continue;
            };
            let activity = self.begin(&mut state, number, false);
            drop(state);
            let fetched = self.fetch(&fetch, &activity);
            state = lock(&self.state);
            state.begun.remove(&number);
            match fetched {
                Ok(found) => {
                    state.has_answered = true;
                    if let Some((key, bytes)) = found {
                        state.fetched.insert(key);
                        state.bytes += bytes;
                    }
                }
                Err(error) => self.give_up(&mut state, error.to_string()),
            }
            let mut answers: Vec<Answered> = state.waiting.remove(&number).into_iter().collect();
            if state.trouble.is_some() {
                answers.extend(state.waiting.drain().map(|(_, answered)| answered));
            }
            drop(state);
            answers.into_iter().for_each(|answered| answered());
            state = lock(&self.state);
        }
    }

    fn fetch(
        &self,
        fetch: &Fetch,
        activity: &Activity,
    ) -> Result<Option<(StoreKey, u64)>, SharedError> {
        let exchange = self.exchange(activity);
        match fetch {
            Fetch::Lists(declared) => exchange.fetch_lists(*declared).map(|_| None),
            Fetch::Result(candidates) => exchange.fetch_result(candidates),
        }
    }

    fn exchange<'x>(&'x self, activity: &'x Activity) -> Exchange<'x> {
        Exchange {
            server: &*self.server,
            folder: &self.folder,
            activity,
        }
    }

    fn put_all(&self) {
        let mut state = lock(&self.state);
        loop {
            let Some(upload) = state.uploads.pop_front() else {
                if state.closed {
                    return;
                }
                state.putters[0] += 1;
                state = wait(&self.uploads, state, LONG);
                state.putters[0] -= 1;
                continue;
            };
            let number = state.next;
            state.next += 1;
            let activity = self.begin(&mut state, number, true);
            drop(state);
            let put = upload.carry_out(&self.exchange(&activity));
            state = lock(&self.state);
            state.begun.remove(&number);
            match put {
                Ok(()) => state.has_answered = true,
                Err(error) => self.give_up(&mut state, error.to_string()),
            }
            self.ends.notify_all();
        }
    }
}

/// Whether there was room for a thread.
fn start(name: &str, work: impl FnOnce() + Send + 'static) -> bool {
    let thread = std::thread::Builder::new().name(name.to_owned());
    thread.spawn(work).is_ok()
}
