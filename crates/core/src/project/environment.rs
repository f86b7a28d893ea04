//! What evaluating a description asks of the world around it.

use std::collections::HashMap;
use std::sync::Arc;

use crate::data_files::DataError;
use crate::data_files::FileAnswer;
use crate::data_files::FileQuestion;

/// Why a command's output is not there; as text it stands behind the command's name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum OutputError {
    /// This run only reads: it starts nothing from the project, and nothing is recorded.
    #[error("may not be asked")]
    NotAsked,
    /// It names nothing that could be run.
    #[error("has no words")]
    NoWords,
    /// A secret in it is not set.
    #[error("needs a secret that is not set")]
    NoSecret,
    /// There is no such program.
    #[error("was not found")]
    NotFound,
    /// The system could not start it: why.
    #[error("could not be started: {0}")]
    NotStarted(String),
    /// The run is to end.
    #[error("was interrupted")]
    Interrupted,
    /// It printed more than so many MiB.
    #[error("printed more than {0} MiB")]
    TooLong(usize),
    /// It ended with this status, and what it said on its second stream.
    #[error("ended with exit status {0}{said}", said = saying(.1))]
    Status(i32, String),
    /// A signal ended it, and what it said on its second stream.
    #[error("was ended by a signal{said}", said = saying(.0))]
    Signal(String),
}

fn saying(said: &str) -> String {
    match said.trim() {
        "" => String::new(),
        said => format!(", saying: {said}"),
    }
}

/// The environment, the settings and the commands that values may come from.
pub trait Environment {
    /// An environment variable.
    fn env(&self, name: &str) -> Option<String>;
    /// The value of a secret: an environment variable that is not written down as having been read.
    fn secret(&self, name: &str) -> Option<String> {
        self.env(name)
    }
    /// A key that only this user has, for digests of secrets.
    fn secret_key(&self) -> [u8; 32] {
        [0; 32]
    }
    /// What a command prints when run in a folder of the project.
    ///
    /// # Errors
    /// When it may not be run, or did not succeed.
    fn output(&self, command: &[String], folder: &str) -> Result<String, OutputError>;
    /// Whether a file is there that values are taken from; its path from the root.
    fn has_file(&self, path: &str) -> bool {
        let _ = path;
        false
    }
    /// What a file answers; its path from the root.
    ///
    /// # Errors
    /// When it can't be read, or has not what is asked for.
    fn ask_file(&self, path: &str, question: &FileQuestion) -> Result<Arc<FileAnswer>, DataError> {
        let _ = question;
        Err(DataError::unreadable(path, "there are no files here"))
    }
    /// Whether every command that was asked for has told what it prints; else what is not there may only be
    /// unknown.
    fn is_sure(&self) -> bool {
        true
    }
    /// Whether a file that no target describes was made by an earlier run and is as it was left.
    fn leftover(&self, path: &str) -> bool;
    /// The operating system: `linux`, `macos`.
    fn os(&self) -> String {
        std::env::consts::OS.to_owned()
    }
    /// The processor: `x86_64`, `aarch64`.
    fn arch(&self) -> String {
        std::env::consts::ARCH.to_owned()
    }
    /// The project's folder, absolute.
    fn root(&self) -> String;
    /// The folder that the command was typed in, absolute.
    fn here(&self) -> String {
        self.root()
    }
}

/// Where a variable's value was set for one run, strongest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Origin {
    /// `--let` on the command line.
    CommandLine,
    /// `HANDLOOM_LET_name` in the environment.
    Environment,
    /// `[let]` in the user's settings.
    UserSettings,
}

/// Variables set from outside the description.
#[derive(Clone, Debug, Default)]
pub struct Overrides {
    /// From the command line: name and text; a `+` at a name's end says that the text is added.
    pub command_line: Vec<(String, String)>,
    /// From the user's settings.
    pub user: HashMap<String, String>,
}

impl Overrides {
    /// What is set for a variable from outside: by the strongest, with what the command line adds behind it.
    #[must_use]
    pub fn find(&self, name: &str, environment: &dyn Environment) -> Option<OverrideText> {
        let mut set: Option<&str> = None;
        let mut added: Vec<&str> = Vec::new();
        for (known, text) in &self.command_line {
            if known == name {
                // The last of several counts, and what is added behind it.
                set = Some(text);
                added.clear();
            } else if known.strip_suffix('+') == Some(name) {
                added.push(text);
            }
        }
        let weaker = || {
            let variable = format!("HANDLOOM_LET_{name}");
            let from_env = environment
                .env(&variable)
                .or_else(|| environment.env(&variable.replace('-', "_")));
            let from_env = from_env.map(|text| (Origin::Environment, text));
            let user = || Some((Origin::UserSettings, self.user.get(name)?.clone()));
            from_env.or_else(user)
        };
        let base = match set {
            Some(text) => Some((Origin::CommandLine, text.to_owned())),
            None => weaker(),
        };
        if added.is_empty() {
            let (origin, text) = base?;
            let adds = false;
            return Some(OverrideText { origin, text, adds });
        }
        let adds = base.is_none();
        let mut text = base.map_or_else(String::new, |(_, text)| text);
        for more in added {
            // Line ends separate words, whatever quotes are open.
            text.push('\n');
            text.push_str(more);
        }
        let origin = Origin::CommandLine;
        Some(OverrideText { origin, text, adds })
    }
}

/// What is set for a variable from outside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OverrideText {
    /// The strongest of those who set it.
    pub origin: Origin,
    /// Its words, as typed.
    pub text: String,
    /// Whether they are added to what the description says.
    pub adds: bool,
}
