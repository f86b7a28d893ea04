//! The user's own settings: `handloom/settings.toml` in the XDG configuration folder.

use std::collections::HashMap;
use std::io::Read;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

use serde::Deserialize;

use handloom_core::executor::GRACE;
use handloom_core::project::description::FILE_NAME;
use handloom_core::text::duration;
use handloom_core::world::own;

use crate::arguments::Output;
use crate::failure::CommandError;

/// What the user has set for all projects.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Jobs that may run at once.
    pub jobs: Option<usize>,
    /// How what jobs print is shown.
    pub output: Option<Output>,
    /// So many of the last runs are remembered.
    pub runs: Option<usize>,
    /// Whether old outputs are kept until new ones are there.
    #[serde(rename = "set-by")]
    pub set_by: Option<SetBy>,
    /// How long jobs have that are asked to end, such as `5s`.
    pub grace: Option<String>,
    /// Folders whose descriptions are taken whoever they belong to.
    #[serde(default)]
    pub trust: Vec<String>,
    /// Variables: a text that is read as words, or a list of words.
    #[serde(default, rename = "let")]
    pub lets: HashMap<String, Words>,
}

/// Whether old outputs are kept until new ones are there.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum SetBy {
    /// They are put back when the recipe fails.
    Always,
    /// They are removed before the recipe runs: there is no room for both.
    Never,
}

impl SetBy {
    /// As it is written in the settings.
    pub fn name(self) -> &'static str {
        match self {
            Self::Always => "always",
            Self::Never => "never",
        }
    }
}

/// A variable's value in the settings.
#[derive(Debug, Deserialize)]
#[serde(untagged)]
pub enum Words {
    /// Read as words, as in a `let`.
    Text(String),
    /// Each one word.
    List(Vec<String>),
}

/// So many of the last runs are remembered unless the settings say otherwise.
pub const RUNS: usize = 30;

impl Words {
    /// As a `let` would have it.
    pub fn text(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::List(words) => {
                let quoted: Vec<String> = words
                    .iter()
                    .map(|word| {
                        format!(
                            "\"{}\"",
                            word.replace('\\', "\\\\")
                                .replace('"', "\\\"")
                                .replace('@', "\\@")
                        )
                    })
                    .collect();
                quoted.join(" ")
            }
        }
    }
}

/// The folder of the user's own files for Hand Loom.
pub fn folder() -> Option<PathBuf> {
    let folder = match std::env::var_os("XDG_CONFIG_HOME") {
        Some(folder) if !folder.is_empty() => PathBuf::from(folder),
        _ => PathBuf::from(std::env::var_os("HOME")?).join(".config"),
    };
    Some(folder.join("handloom"))
}

/// The folder of the user's own `hand.loom`, when there is one.
pub fn own_tasks() -> Option<PathBuf> {
    folder().filter(|folder| folder.join(FILE_NAME).is_file())
}

/// A key that only this user has: for what a run keeps for the next one, and for digests of secrets. It is
/// made when it is first needed; none where that is not possible.
pub fn key() -> Option<[u8; 32]> {
    let folder = match std::env::var_os("XDG_DATA_HOME") {
        Some(folder) if !folder.is_empty() => PathBuf::from(folder),
        _ => PathBuf::from(std::env::var_os("HOME")?).join(".local/share"),
    };
    let folder = folder.join("handloom");
    let path = folder.join("key");
    let known = || -> Option<[u8; 32]> { own::read(&path).ok()?.try_into().ok() };
    if let Some(key) = known() {
        return Some(key);
    }
    let mut key = [0; 32];
    std::fs::File::open("/dev/urandom")
        .and_then(|mut random| random.read_exact(&mut key))
        .ok()?;
    own::create_folders(&folder).ok()?;
    // Written beside and linked, so that of two that make it at once both take the same.
    let beside = folder.join(format!("key.{}", std::process::id()));
    let options = &mut own::options();
    let mut file = own::open(&beside, options.write(true).create(true).truncate(true)).ok()?;
    let written = file.write_all(&key);
    if written.is_ok() && std::fs::hard_link(&beside, &path).is_err() && known().is_none() {
        // What stands there is cut short; it would keep this user from having a key for ever.
        let _ = std::fs::rename(&beside, &path);
    }
    let _ = std::fs::remove_file(&beside);
    known()
}

/// Where the settings are.
pub fn path() -> Option<PathBuf> {
    Some(folder()?.join("settings.toml"))
}

/// Reads the settings; none when there is no file.
pub fn read() -> Result<Settings, CommandError> {
    let Some(path) = path() else {
        return Ok(Settings::default());
    };
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Ok(Settings::default());
        }
        Err(error) => {
            return Err(CommandError::io(
                format!("can't read `{}`", path.display()),
                error,
            ));
        }
    };
    let settings: Settings = toml::from_str(&text).map_err(|error| {
        CommandError::usage(
            format!(
                "`{}` can't be understood: {}",
                path.display(),
                error.to_string().trim_end()
            ),
            "it holds `jobs = N`, `output = \"grouped\"`, `runs = N`, `set-by = \"always\"`, `grace = \"5s\"`, `trust = [\"/folder\"]`, and a table `[let]` with a text or a list for each variable",
        )
    })?;
    if let Some(grace) = &settings.grace
        && duration(grace).is_none()
    {
        return Err(CommandError::usage(
            format!(
                "`{}` says `grace = \"{grace}\"`, which is no time",
                path.display()
            ),
            "write a number and `s`, `m` or `h`, such as `grace = \"5s\"`",
        ));
    }
    Ok(settings)
}

impl Settings {
    /// How long jobs have that are asked to end.
    pub fn grace(&self) -> Duration {
        self.grace.as_deref().and_then(duration).unwrap_or(GRACE)
    }
}
