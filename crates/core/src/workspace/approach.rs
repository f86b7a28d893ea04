//! The way to a project before it is opened: what is needed to tell whether anything has to be done in it at all.

use std::cell::RefCell;

use crate::executor::local::job_markers::Killed;
use crate::graph::BuildRequest;
use crate::ledger::Ledger;
use crate::ledger::LedgerGlance;
use crate::ledger::MemoryStorage;
use crate::ledger::RealStorage;
use crate::project::Description;
use crate::project_cache::FrontLook;
use crate::project_cache::Question;
use crate::project_cache::Unchanged;
use crate::status::CommandRunner;
use crate::status::RecordingEnvironment;
use crate::store::shared::without_credentials;
use crate::workspace::error::WorkspaceError;
use crate::workspace::location::ProjectLocation;
use crate::workspace::options::OpenOptions;
use crate::workspace::settings;
use crate::workspace::settings::Settings;
use crate::workspace::store_settings::STORE_KEYS;
use crate::workspace::store_settings::StoreSettings;
use crate::workspace::trust::Trust;
use crate::workspace::user::UserFolders;
use crate::world::Digest;
use crate::world::RealDisk;
use crate::world::SystemClock;
use crate::world::names;
use crate::world::quarantine;

/// A project that is not opened yet.
pub struct Approach {
    /// Where it is.
    pub location: ProjectLocation,
    /// The file system.
    pub disk: RealDisk,
    /// The clock.
    pub clock: SystemClock,
    /// The user's settings.
    pub settings: Settings,
    /// Whose files are taken.
    pub(super) trust: Trust,
    /// A key that only this user has.
    pub(super) key: Option<[u8; 32]>,
    /// What tells whether the same is set from outside.
    pub(super) outside: Digest,
    glance: LedgerGlance,
    /// What was seen of the kept project.
    pub(super) front: Option<FrontLook>,
    is_front_read: bool,
    /// What was read when nothing had to be done.
    noted: Option<Unchanged>,
}

impl Approach {
    /// The way to the project there.
    ///
    /// # Errors
    /// When something belongs to somebody who is not trusted, or when the disk fails.
    pub fn new(
        location: ProjectLocation,
        user: &UserFolders,
        options: &OpenOptions,
    ) -> Result<Self, WorkspaceError> {
        let disk = RealDisk::open(&location.root).map_err(|error| {
            WorkspaceError::io(format!("can't open `{}`", location.root.display()), error)
        })?;
        let mut settings = settings::read(user)?;
        settings.store = store_from_env()?.or(&settings.store);
        let trust = Trust::new(&location.start, &settings, user);
        if location.own().symlink_metadata().is_ok() {
            trust.check(&location.own())?;
        }
        let glance = LedgerGlance::at(Box::new(RealStorage::new(&location.own())));
        Ok(Self {
            outside: outside_digest(&settings, options),
            key: user.key(),
            clock: SystemClock::default(),
            location,
            disk,
            settings,
            trust,
            glance,
            front: None,
            is_front_read: false,
            noted: None,
        })
    }

    /// Reads the front, once: when it is first asked for, so that whoever waits for the project before sees what
    /// was written meanwhile.
    fn read_front(&mut self) {
        if std::mem::replace(&mut self.is_front_read, true) {
            return;
        }
        let ledger = nothing_known();
        let environment = self.environment(&ledger, None);
        let front = FrontLook::open(&self.glance, &environment, &self.outside);
        drop(environment);
        self.front = front;
    }

    fn environment<'a>(
        &'a self,
        ledger: &'a RefCell<Ledger>,
        ask: Option<&'a CommandRunner<'a>>,
    ) -> RecordingEnvironment<'a> {
        RecordingEnvironment::new(
            &self.disk,
            &self.clock,
            ledger,
            &env,
            ask,
            self.location.root_text(),
        )
        .with_key(self.key)
    }

    /// The number of steps, when there is nothing to do for a request, and nothing has to be said; none when that
    /// can only be told by whoever opens the project. `ask` runs commands whose output is a value.
    pub fn unchanged(
        &mut self,
        request: &BuildRequest,
        threads: usize,
        ask: Option<&CommandRunner<'_>>,
    ) -> Option<usize> {
        self.read_front();
        let mut front = self.front.take()?;
        let root = &self.location.root;
        let is_trusted = front.files().all(|file| self.trust.takes(&root.join(file)));
        if !is_trusted || !self.is_in_order() {
            self.front = Some(front);
            return None;
        }
        let ledger = nothing_known();
        let question = Question { request, threads };
        let environment = self.environment(&ledger, ask);
        let unchanged = front.unchanged(&question, &self.glance, &environment);
        drop(environment);
        self.front = Some(front);
        let unchanged = unchanged?;
        let kept = unchanged.kept;
        self.noted = unchanged.has_news().then_some(unchanged);
        Some(kept)
    }

    /// Whether so much was written since the project was kept that a run which has nothing to do had better keep it anew.
    #[must_use]
    pub fn is_outgrown(&self) -> bool {
        self.front.as_ref().is_some_and(FrontLook::is_outgrown)
    }

    /// Whether files were read of which the next run should know.
    #[must_use]
    pub fn has_news(&self) -> bool {
        self.noted.is_some()
    }

    /// Notes what was read for the next run; to be called by whoever holds the project and has signed for it.
    pub fn note(&mut self) {
        if let Some(unchanged) = self.noted.take() {
            unchanged.note(&mut self.glance);
        }
    }

    /// What tells what is set from outside.
    #[must_use]
    pub fn outside(&self) -> Digest {
        self.outside
    }

    /// A value of the environment, told so that only who has the user's key can compare it.
    #[must_use]
    pub fn environment_digest(&self, name: &str) -> Option<Digest> {
        self.environment(&nothing_known(), None).secret_digest(name)
    }

    /// Whether commands have to be run to tell whether there is anything to do.
    #[must_use]
    pub fn asks(&mut self) -> bool {
        self.read_front();
        self.front.as_ref().is_some_and(FrontLook::asks)
    }

    /// Whether no run was killed that left something behind.
    fn is_in_order(&self) -> bool {
        let set_by = quarantine::files_below(&self.disk, quarantine::SET_BY);
        !Killed::is_marked(&self.location.scratch()) && set_by.is_ok_and(|paths| paths.is_empty())
    }

    /// The description, when it is the one that was kept; and else as it is read.
    pub(super) fn description(&mut self) -> Option<Description> {
        let key = self.key?;
        self.read_front();
        let front = self.front.as_mut()?;
        let description = front.description(&self.glance, &self.disk, &key);
        if description.is_none() {
            self.front = None;
        }
        description
    }
}

/// A ledger in which nothing is recorded.
fn nothing_known() -> RefCell<Ledger> {
    RefCell::new(Ledger::empty(Box::new(MemoryStorage::default())))
}

/// An environment variable of this process.
pub(super) fn env(name: &str) -> Option<String> {
    std::env::var_os(name).map(|value| names::os_to_text(&value).into_owned())
}

/// What tells whether the same is set from outside: by the settings, on the command line, in the environment.
/// What a user has set of the store, in the environment or the settings.
///
/// # Errors
/// When it can't be understood.
pub fn user_store(user: &UserFolders) -> Result<StoreSettings, WorkspaceError> {
    Ok(store_from_env()?.or(&settings::read(user)?.store))
}

/// What the environment says of the store.
fn store_from_env() -> Result<StoreSettings, WorkspaceError> {
    let mut set = StoreSettings::default();
    for key in STORE_KEYS {
        let variable = key.variable();
        let Some(value) = env(&variable).filter(|value| !value.is_empty()) else {
            continue;
        };
        if !set.set(key.name, &value) {
            return Err(WorkspaceError::usage(
                format!(
                    "`{variable}` is `{}` in the environment",
                    without_credentials(&value)
                ),
                format!("it is {}", key.wanted),
            ));
        }
    }
    Ok(set)
}

pub(super) fn outside_digest(settings: &Settings, options: &OpenOptions) -> Digest {
    let mut hasher = blake3::Hasher::new();
    let mut add = |text: &[u8]| {
        hasher.update(&(text.len() as u64).to_le_bytes());
        hasher.update(text);
    };
    let mut lets: Vec<_> = settings.lets.iter().collect();
    lets.sort_unstable_by_key(|(name, _)| *name);
    for (name, words) in lets {
        add(name.as_bytes());
        add(words.text().as_bytes());
    }
    add(b"");
    for (name, words) in &options.lets {
        add(name.as_bytes());
        add(words.as_bytes());
    }
    add(b"");
    let mut set: Vec<_> = std::env::vars_os()
        .filter(|(name, _)| name.as_encoded_bytes().starts_with(b"HANDLOOM_LET_"))
        .collect();
    set.sort_unstable();
    for (name, words) in &set {
        add(name.as_encoded_bytes());
        add(words.as_encoded_bytes());
    }
    Digest(*hasher.finalize().as_bytes())
}
