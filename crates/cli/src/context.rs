//! Where the project is, and everything a command needs of it.

use std::cell::RefCell;
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::path::Component;
use std::path::Path;
use std::path::PathBuf;

use handloom_core::language::TopItem;
use handloom_core::ledger::Damage;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::RealStorage;
use handloom_core::project::Description;
use handloom_core::project::description::FILE_NAME;
use handloom_core::project::environment::Environment;
use handloom_core::project::environment::Overrides;
use handloom_core::project::overrides::SetOutside;
use handloom_core::status::CommandRunner;
use handloom_core::status::RecordingEnvironment;
use handloom_core::text::Diagnostic;
use handloom_core::text::nearest;
use handloom_core::world::RealDisk;
use handloom_core::world::SystemClock;
use handloom_core::world::names;
use handloom_core::world::own;

use crate::arguments::Arguments;
use crate::arguments::Common;
use crate::failure::CommandError;
use crate::settings;
use crate::trust::Trust;
use crate::ui::Ui;

/// The folder of Hand Loom's own files, below the root.
pub const OWN: &str = ".handloom";

/// A project that was found.
#[derive(Debug)]
pub struct Located {
    /// Its folder, absolute.
    pub root: PathBuf,
    /// The folder the user is in, from the root: empty, or ending with a slash.
    pub folder: String,
    /// The folder that was started from.
    pub start: PathBuf,
}

impl Located {
    /// Finds the project around the folder that the options name, or the current one.
    pub fn find(common: &Common) -> Result<Self, CommandError> {
        let start = match &common.project {
            Some(folder) => folder.canonicalize().map_err(|error| {
                CommandError::io(format!("can't enter `{}`", folder.display()), error)
            })?,
            None => std::env::current_dir()
                .map_err(|error| CommandError::io("can't tell the current folder", error))?,
        };
        let nearest = start
            .ancestors()
            .find(|folder| folder.join(FILE_NAME).symlink_metadata().is_ok())
            .ok_or_else(|| {
                CommandError::usage(
                    format!(
                        "there is no `{FILE_NAME}` in `{}` or in a folder above it",
                        start.display()
                    ),
                    "`handloom new` writes a first one that fits what is here; `handloom demo` writes a project to look at",
                )
            })?;
        let trust = Trust::new(&start, &settings::read()?);
        trust.check(&nearest.join(FILE_NAME))?;
        let root = outermost(nearest, &trust);
        let folder = start.strip_prefix(&root).unwrap_or(Path::new(""));
        let folder = names::os_to_text(folder.as_os_str()).into_owned();
        Ok(Self {
            folder: if folder.is_empty() {
                String::new()
            } else {
                format!("{folder}/")
            },
            root,
            start,
        })
    }

    /// The folder of Hand Loom's own files.
    pub fn own(&self) -> PathBuf {
        self.root.join(OWN)
    }

    /// Makes the folder of Hand Loom's own files, which tells version control to ignore it.
    pub fn make_own(&self) -> Result<(), CommandError> {
        let folder = self.own();
        let broken = |error| CommandError::io(format!("can't use the folder `{OWN}`"), error);
        if folder.symlink_metadata().is_ok_and(|found| !found.is_dir()) {
            return Err(CommandError::Broken(
                format!(
                    "`{OWN}` is no folder, or only a link to one: nothing is written through it; remove it, or make it a folder"
                ),
                None,
            ));
        }
        own::create_folder(&folder).map_err(broken)?;
        let rights = folder.metadata().map_err(broken)?.permissions().mode() & 0o777;
        if rights != own::FOLDER_MODE {
            close_to_others(&folder);
        }
        for name in ["jobs", "logs", "runs", "aside", "failed", "set-by"] {
            set_aside_unless_folder(&folder, name).map_err(broken)?;
        }
        own::create_folder(&folder.join("jobs")).map_err(broken)?;
        let ignore = folder.join(".gitignore");
        if ignore.symlink_metadata().is_err() {
            let options = &mut own::options();
            let mut file =
                own::open(&ignore, options.write(true).create_new(true)).map_err(broken)?;
            std::io::Write::write_all(&mut file, b"*\n").map_err(broken)?;
        }
        Ok(())
    }
}

/// What is not a folder, where one of ours is to be, gets another name.
fn set_aside_unless_folder(own: &Path, name: &str) -> std::io::Result<()> {
    let path = own.join(name);
    if !path.symlink_metadata().is_ok_and(|found| !found.is_dir()) {
        return Ok(());
    }
    let free = (1..)
        .map(|number| own.join(format!("{name}.not-ours-{number}")))
        .find(|free| free.symlink_metadata().is_err());
    std::fs::rename(&path, free.unwrap_or_default())
}

/// Takes the rights of others away from what earlier versions made. What is kept of the user's files stays as
/// it is: nobody gets at it through a folder that is closed.
fn close_to_others(own: &Path) {
    fn close(folder: &Path, files: bool) {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            let Ok(kind) = entry.file_type() else {
                continue;
            };
            let path = entry.path();
            if kind.is_dir() && files {
                close(
                    &path,
                    !path.ends_with("aside")
                        && !path.ends_with("failed")
                        && !path.ends_with("set-by"),
                );
            } else if kind.is_file() && files {
                // What can't be changed belongs to another, who is asked for elsewhere.
                let _ = std::fs::set_permissions(&path, Permissions::from_mode(own::FILE_MODE));
            }
        }
        let _ = std::fs::set_permissions(folder, Permissions::from_mode(own::FOLDER_MODE));
    }
    close(own, true);
}

/// The project that a description belongs to: itself, or the outermost one above whose includes lead
/// to it.
fn outermost(nearest: &Path, trust: &Trust) -> PathBuf {
    let mut root = nearest.to_owned();
    for above in nearest.ancestors().skip(1) {
        let file = above.join(FILE_NAME);
        if file.is_file() && trust.takes(&file) && includes(above, &root) {
            above.clone_into(&mut root);
        }
    }
    root
}

/// Whether the description in a folder includes another folder, directly or through others.
fn includes(above: &Path, part: &Path) -> bool {
    let Ok(disk) = RealDisk::open(above) else {
        return false;
    };
    // A look at the includes alone, to spare reading all of a large project.
    let Ok(text) = std::fs::read_to_string(above.join(FILE_NAME)) else {
        return false;
    };
    let mut sources = handloom_core::text::Sources::default();
    let id = sources.add(FILE_NAME, text);
    let parsed = handloom_core::language::parse(id, &sources.get(id).text);
    if !parsed
        .file
        .items
        .iter()
        .any(|item| matches!(item, TopItem::Include(_)))
    {
        return false;
    }
    let (description, _) = Description::read(&disk);
    let Ok(wanted) = part.strip_prefix(above) else {
        return false;
    };
    let wanted = plain(wanted);
    description
        .parts
        .iter()
        .any(|part| part.folder.trim_end_matches('/') == wanted)
}

fn plain(path: &Path) -> String {
    path.components()
        .filter_map(|component| match component {
            Component::Normal(name) => name.to_str(),
            _ => None,
        })
        .collect::<Vec<_>>()
        .join("/")
}

/// A project that was read, with its ledger.
pub struct Opened {
    /// Where it is.
    pub located: Located,
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
    /// The user's settings.
    pub settings: settings::Settings,
    /// Whether these are the user's own tasks, which can be run in any project.
    pub is_personal: bool,
    /// A key that only this user has.
    key: Option<[u8; 32]>,
}

/// An environment variable.
pub fn env(name: &str) -> Option<String> {
    std::env::var_os(name).map(|value| names::os_to_text(&value).into_owned())
}

impl Opened {
    /// Reads a project. `writable` is for runs, which may change the ledger.
    pub fn open(
        located: Located,
        common: &Common,
        ui: Ui,
        writable: bool,
    ) -> Result<Self, CommandError> {
        let disk = RealDisk::open(&located.root).map_err(|error| {
            CommandError::io(format!("can't open `{}`", located.root.display()), error)
        })?;
        let settings = settings::read()?;
        let trust = Trust::new(&located.start, &settings);
        if located.own().symlink_metadata().is_ok() {
            trust.check(&located.own())?;
        }
        let storage = Box::new(RealStorage::new(&located.own()));
        let (ledger, damage) = Ledger::open(storage, writable)
            .map_err(|error| CommandError::io("can't read the ledger", error))?;
        if let Some(Damage::SetAside { to, reason }) = damage {
            let moved = if to.is_empty() {
                String::new()
            } else {
                format!(" and was moved to `{to}`")
            };
            ui.say(&format!(
                "note: the ledger can't be used ({reason}){moved}; everything is made again\n"
            ));
        }
        let clock = SystemClock::default();
        let ledger = RefCell::new(ledger);
        let (description, wrong) = Description::read(&disk);
        for file in &description.files {
            trust.check(&located.root.join(file))?;
        }
        let mut opened = Self {
            located,
            disk,
            clock,
            ledger,
            description: Description::default(),
            outside: SetOutside::default(),
            settings,
            is_personal: false,
            key: settings::key(),
        };
        if writable {
            // Also when the description is wrong: an old recipe may still be at work.
            crate::commands::put_in_order(&opened, ui)?;
        }
        opened.describe(description, wrong, common, ui)?;
        Ok(opened)
    }

    /// Takes a description in, with the variables that are set from outside.
    fn describe(
        &mut self,
        mut description: Description,
        mut wrong: Vec<Diagnostic>,
        common: &Common,
        ui: Ui,
    ) -> Result<(), CommandError> {
        let overrides = overrides(common, &self.settings)?;
        let (outside, more) = SetOutside::read(
            &mut description,
            &overrides,
            &self.environment() as &dyn Environment,
        );
        wrong.extend(more);
        for name in named_like_commands(&description) {
            let name = crate::ui::text::safe(&name);
            ui.say(&format!(
                "note: `handloom {name}` is a command; the task is run with `handloom run {name}`\n"
            ));
        }
        wrong.extend(set_for_nobody(&description));
        if wrong.iter().any(Diagnostic::is_error) {
            return Err(CommandError::Description(
                Box::new(description.sources),
                wrong,
            ));
        }
        ui.diagnostics(&description.sources, &wrong);
        self.description = description;
        self.outside = outside;
        Ok(())
    }

    /// The same project with the user's own tasks instead of its description; gives it back when the
    /// user has none.
    pub fn personal(mut self, common: &Common, ui: Ui) -> Result<Result<Self, Self>, CommandError> {
        let Some(folder) = settings::own_tasks() else {
            return Ok(Err(self));
        };
        let disk = RealDisk::open(&folder).map_err(|error| {
            CommandError::io(format!("can't open `{}`", folder.display()), error)
        })?;
        let (mut description, mut wrong) = Description::read(&disk);
        description
            .sources
            .put_in_front(&format!("{}/", folder.display()));
        for item in description.parts.iter().flat_map(|part| &part.items) {
            if let TopItem::Target(target) = item {
                wrong.push(
                    Diagnostic::error(target.span, "your own description holds tasks alone").help(
                        "describe files in the `hand.loom` of the project that they belong to",
                    ),
                );
            }
        }
        self.describe(description, wrong, common, ui)?;
        self.is_personal = true;
        Ok(Ok(self))
    }

    /// The project's folder as text.
    pub fn root_text(&self) -> String {
        root_text(&self.located)
    }

    /// The project's surroundings for a command that starts nothing from the project.
    pub fn environment(&self) -> RecordingEnvironment<'_> {
        self.environment_asking(None)
    }

    /// The project's surroundings; `ask` runs commands whose output is a value.
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
            self.root_text(),
        )
        .with_key(self.key)
    }

    /// The errors of a description, as a failure that owns its sources.
    pub fn wrong(&self, diagnostics: Vec<Diagnostic>) -> CommandError {
        CommandError::Description(Box::new(self.description.sources.clone()), diagnostics)
    }
}

/// Variables set in the environment that the project does not have.
fn set_for_nobody(description: &Description) -> Vec<Diagnostic> {
    const PREFIX: &str = "HANDLOOM_LET_";
    let lets = description.parts.iter().flat_map(|part| &part.items);
    let known: Vec<String> = lets
        .filter_map(|item| match item {
            TopItem::Let(definition) => Some(definition.name.text.to_string()),
            _ => None,
        })
        .collect();
    let set = std::env::vars_os().filter_map(|(name, _)| {
        let name = name.into_string().ok()?;
        Some(name.strip_prefix(PREFIX)?.to_owned())
    });
    let mut unknown: Vec<String> = set
        .filter(|name| {
            !known
                .iter()
                .any(|known| known == name || known.replace('-', "_") == *name)
        })
        .collect();
    unknown.sort_unstable();
    unknown
        .iter()
        .map(|name| {
            let near = nearest(name, known.iter().map(String::as_str));
            Diagnostic::placeless_warning(format!(
                "`{PREFIX}{name}` is set, but the project has no variable `{name}`"
            ))
            .help(match near {
                Some(near) => format!("did you mean `{PREFIX}{}`?", near.replace('-', "_")),
                None => "`handloom settings` lists the variables".to_owned(),
            })
        })
        .collect()
}

/// Tasks that can't be run by their name alone, since a command is called so.
fn named_like_commands(description: &Description) -> Vec<String> {
    let command = <Arguments as clap::CommandFactory>::command();
    let tasks = description.parts.iter().flat_map(|part| {
        let tasks = part.items.iter().filter_map(|item| match item {
            TopItem::Task(task) => Some(task.name.text.to_string()),
            _ => None,
        });
        tasks.filter(|_| part.folder.is_empty())
    });
    tasks
        .filter(|name| command.find_subcommand(name).is_some())
        .collect()
}

fn root_text(located: &Located) -> String {
    names::os_to_text(located.root.as_os_str()).into_owned()
}

fn overrides(common: &Common, settings: &settings::Settings) -> Result<Overrides, CommandError> {
    let mut overrides = Overrides {
        user: settings
            .lets
            .iter()
            .map(|(name, words)| (name.clone(), words.text()))
            .collect(),
        ..Overrides::default()
    };
    for set in &common.lets {
        let (name, words) = set.split_once('=').ok_or_else(|| {
            CommandError::usage(
                format!("`--let {set}` has no `=`"),
                "write `--let name=words`",
            )
        })?;
        overrides
            .command_line
            .push((name.trim().to_owned(), words.to_owned()));
    }
    Ok(overrides)
}
