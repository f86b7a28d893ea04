//! Opening a project: its ledger, its description with what is set from outside, the user's settings. Whoever
//! wants to do anything with a project does it in this one way.

use std::cell::RefCell;

use crate::executor::LocalExecutor;
use crate::language::TopItem;
use crate::ledger::Damage;
use crate::ledger::Ledger;
use crate::ledger::RealStorage;
use crate::project::Description;
use crate::project::environment::Environment;
use crate::project::environment::Overrides;
use crate::project::folders::Folders;
use crate::project::overrides::SetOutside;
use crate::project::values::Vars;
use crate::project_cache::FrontLook;
use crate::scheduler::Recovered;
use crate::scheduler::recover;
use crate::status::CommandRunner;
use crate::status::RecordingEnvironment;
use crate::store::Store;
use crate::store::StoreOptions;
use crate::store::shared::SharedAddress;
use crate::text::Diagnostic;
use crate::text::Sources;
use crate::text::mistakes;
use crate::workspace::approach::Approach;
use crate::workspace::approach::env;
use crate::workspace::approach::outside_digest;
use crate::workspace::circumstances::machine;
use crate::workspace::error::WorkspaceError;
use crate::workspace::location::ProjectLocation;
use crate::workspace::options::Access;
use crate::workspace::options::OpenOptions;
use crate::workspace::outside::named_like_commands;
use crate::workspace::outside::set_for_nobody;
use crate::workspace::project_settings::ProjectSettings;
use crate::workspace::settings::Settings;
use crate::workspace::user::UserFolders;
use crate::world::Digest;
use crate::world::RealDisk;
use crate::world::SystemClock;

/// What is worth a word while a project is opened.
#[derive(Debug)]
pub enum Note<'n> {
    /// The ledger can't be used: why, and where it is now, if it was moved.
    LedgerSetAside {
        /// Where it is now; empty when it was not moved.
        to: String,
        /// What is wrong with it.
        reason: String,
    },
    /// The last run was killed, and what it left behind was put in order.
    Recovered(Recovered),
    /// A task that can't be run by its name alone, since a command is called so.
    LikeACommand(&'n str),
    /// What is likely not meant.
    Warnings(&'n Sources, &'n [Diagnostic]),
}

/// A project that was read, with its ledger.
pub struct Workspace {
    /// Where it is.
    pub location: ProjectLocation,
    /// The file system.
    pub disk: RealDisk,
    /// The clock.
    pub clock: SystemClock,
    /// What earlier runs saw.
    pub ledger: RefCell<Ledger>,
    /// What was read.
    pub description: Description,
    /// Variables set from outside.
    pub outside: SetOutside,
    /// The user's settings, and the project's where the user has none.
    pub settings: Settings,
    /// What the project sets.
    pub from_project: ProjectSettings,
    /// The user's own files.
    pub user: UserFolders,
    front: RefCell<Option<FrontLook>>,
    /// Whether these are the user's own tasks, which can be run in any project.
    pub is_personal: bool,
    /// A key that only this user has.
    key: Option<[u8; 32]>,
}

impl Workspace {
    /// Opens a project. `note` is told what is worth a word.
    ///
    /// # Errors
    /// When the description is wrong, when something belongs to somebody who is not trusted, or when the disk
    /// fails.
    pub fn open(
        location: ProjectLocation,
        user: &UserFolders,
        options: &OpenOptions,
        note: &mut dyn FnMut(Note<'_>),
    ) -> Result<Self, WorkspaceError> {
        Self::open_after(Approach::new(location, user, options)?, user, options, note)
    }

    /// The same for one that was approached.
    ///
    /// # Errors
    /// As [`Workspace::open`].
    pub fn open_after(
        mut approach: Approach,
        user: &UserFolders,
        options: &OpenOptions,
        note: &mut dyn FnMut(Note<'_>),
    ) -> Result<Self, WorkspaceError> {
        let location = &approach.location;
        let storage = Box::new(RealStorage::new(&location.own()));
        let (ledger, damage) = Ledger::open(storage, options.access == Access::Run)
            .map_err(|error| WorkspaceError::io("can't read the ledger in `.handloom`", error))?;
        if let Some(Damage::SetAside { to, reason }) = damage {
            note(Note::LedgerSetAside { to, reason });
        }
        let has_project = location.has_project();
        let (description, wrong) = match approach.description() {
            Some(description) => (description, Vec::new()),
            None if !has_project && options.personal => (Description::default(), Vec::new()),
            None => Description::read(&approach.disk),
        };
        let Approach {
            location,
            disk,
            clock,
            settings,
            trust,
            key,
            front,
            ..
        } = approach;
        for file in &description.files {
            trust.check(&location.root.join(file))?;
        }
        let mut workspace = Self {
            location,
            disk,
            clock,
            front: RefCell::new(front),
            ledger: RefCell::new(ledger),
            description: Description::default(),
            outside: SetOutside::default(),
            settings,
            from_project: ProjectSettings::default(),
            user: user.clone(),
            is_personal: false,
            key,
        };
        if options.access == Access::Run {
            // Also when the description is wrong: an old recipe may still be at work.
            workspace.put_in_order(note)?;
        }
        workspace.describe(description, wrong, options, note)?;
        Ok(workspace)
    }

    /// Puts in order what a run that was killed left behind.
    fn put_in_order(&self, note: &mut dyn FnMut(Note<'_>)) -> Result<(), WorkspaceError> {
        let recovered = recover(
            &self.disk,
            &self.clock,
            &self.ledger,
            &self.location.scratch(),
            &self.location.root_text(),
        )
        .map_err(|error| WorkspaceError::io(error.what, error.source))?;
        if !recovered.is_empty() {
            note(Note::Recovered(recovered));
        }
        Ok(())
    }

    /// Takes a description in, with the variables that are set from outside.
    fn describe(
        &mut self,
        mut description: Description,
        mut wrong: Vec<Diagnostic>,
        options: &OpenOptions,
        note: &mut dyn FnMut(Note<'_>),
    ) -> Result<(), WorkspaceError> {
        let lets = self.settings.lets.iter();
        let overrides = Overrides {
            user: lets
                .map(|(name, words)| (name.clone(), words.text()))
                .collect(),
            command_line: options.lets.clone(),
        };
        let (outside, more) = SetOutside::read(
            &mut description,
            &overrides,
            &self.environment() as &dyn Environment,
        );
        wrong.extend(more);
        let mut is_remarkable = false;
        for name in named_like_commands(&description, &(options.commands)()) {
            note(Note::LikeACommand(name));
            is_remarkable = true;
        }
        wrong.extend(set_for_nobody(&description));
        let mut from_project = ProjectSettings::read(&description, &mut wrong);
        if wrong.iter().any(Diagnostic::is_error) {
            let sources = Box::new(description.sources);
            return Err(WorkspaceError::Description(sources, wrong));
        }
        note(Note::Warnings(&description.sources, &wrong));
        description.is_remarkable = is_remarkable || !wrong.is_empty();
        self.settings = from_project.below(std::mem::take(&mut self.settings));
        self.from_project = from_project;
        self.description = description;
        self.outside = outside;
        self.outside.digest = outside_digest(&self.settings, options);
        Ok(())
    }

    /// The same project with the user's own tasks instead of its description; gives it back as it is when the
    /// user has none.
    ///
    /// # Errors
    /// When the user's own description is wrong.
    pub fn personal(
        mut self,
        options: &OpenOptions,
        note: &mut dyn FnMut(Note<'_>),
    ) -> Result<Result<Self, Box<Self>>, WorkspaceError> {
        let Some(folder) = self.user.own_tasks() else {
            return Ok(Err(Box::new(self)));
        };
        let disk = RealDisk::open(&folder).map_err(|error| {
            WorkspaceError::io(format!("can't open `{}`", folder.display()), error)
        })?;
        let (mut description, mut wrong) = Description::read(&disk);
        description
            .sources
            .put_in_front(&format!("{}/", folder.display()));
        for item in description.parts.iter().flat_map(|part| &part.items) {
            if let TopItem::Target(target) = item {
                wrong.push(
                    Diagnostic::error(
                        &mistakes::TARGET_IN_OWN_DESCRIPTION,
                        target.span,
                        "your own description holds tasks alone",
                    )
                    .help("describe files in the `hand.loom` of the project that they belong to"),
                );
            }
        }
        self.describe(description, wrong, options, note)?;
        self.description.is_personal = true;
        self.front.take();
        self.is_personal = true;
        Ok(Ok(self))
    }

    /// What tells what is set from outside.
    #[must_use]
    pub fn outside_digest(&self) -> Digest {
        self.outside.digest
    }

    /// What was seen of the kept project already, once.
    #[must_use]
    pub fn take_front(&self) -> Option<FrontLook> {
        self.front.take()
    }

    /// The project's environment for whoever starts nothing from the project.
    #[must_use]
    pub fn environment(&self) -> RecordingEnvironment<'_> {
        self.environment_asking(None)
    }

    /// The project's variables, worked out as they are asked for.
    #[must_use]
    pub fn vars<'a>(
        &'a self,
        environment: &'a RecordingEnvironment<'a>,
        folders: &'a Folders<'a>,
    ) -> Vars<'a> {
        Vars::new(&self.description, &self.outside, environment, folders)
    }

    /// The project's environment; `ask` runs commands whose output is a value.
    #[must_use]
    pub fn environment_asking<'a>(
        &'a self,
        ask: Option<&'a CommandRunner<'a>>,
    ) -> RecordingEnvironment<'a> {
        RecordingEnvironment::new(
            &self.disk,
            &self.clock,
            &self.ledger,
            &env,
            ask,
            self.location.root_text(),
        )
        .typed_in(&self.location.folder)
        .with_key(self.key)
    }

    /// The store of results, when it is to be used.
    #[must_use]
    pub fn store(&self) -> Option<Store> {
        let settings = &self.settings.store;
        if self.is_personal || !settings.is_used() {
            return None;
        }
        let root = self.location.root_text();
        let options = StoreOptions {
            folder: settings.folder(self.user.store())?,
            size: settings.size(),
            least: settings.least(),
            platform: settings.platform.clone().unwrap_or_default(),
            made_in: format!("{}: {root}", machine()),
        };
        let store = Store::new(options, self.location.root.clone(), &root);
        let Some(address) = settings.shared.as_deref().and_then(SharedAddress::parse) else {
            return Some(store);
        };
        Some(store.with_shared(
            address.server(&env),
            settings.is_shared_to(),
            settings.wait(),
        ))
    }

    /// Where the project's jobs run.
    #[must_use]
    pub fn executor(&self) -> LocalExecutor {
        LocalExecutor::new(self.location.root.clone(), self.location.scratch())
            .with_grace(self.settings.grace())
            .with_sealed_reads(self.settings.sealed_read.clone())
    }
}
