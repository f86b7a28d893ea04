//! What evaluating a description asks of the world around it.

use std::collections::HashMap;

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
    /// From the command line: name and text.
    pub command_line: Vec<(String, String)>,
    /// From the user's settings.
    pub user: HashMap<String, String>,
}

impl Overrides {
    /// The strongest value set for a variable from outside.
    #[must_use]
    pub fn find(&self, name: &str, environment: &dyn Environment) -> Option<(Origin, String)> {
        // The last of several on one command line counts.
        if let Some((_, text)) = self
            .command_line
            .iter()
            .rev()
            .find(|(known, _)| known == name)
        {
            return Some((Origin::CommandLine, text.clone()));
        }
        let variable = format!("HANDLOOM_LET_{name}");
        let from_env = environment
            .env(&variable)
            .or_else(|| environment.env(&variable.replace('-', "_")));
        if let Some(text) = from_env {
            return Some((Origin::Environment, text));
        }
        self.user
            .get(name)
            .map(|text| (Origin::UserSettings, text.clone()))
    }
}
