//! The user's own settings: `handloom/settings.toml` in the XDG configuration folder.

use std::collections::HashMap;
use std::path::PathBuf;

use serde::Deserialize;

use handloom_core::project::description::FILE_NAME;

use crate::arguments::Output;
use crate::failure::Failure;

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
    /// Variables: a text that is read as words, or a list of words.
    #[serde(default, rename = "let")]
    pub lets: HashMap<String, Words>,
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

/// Where the settings are.
pub fn path() -> Option<PathBuf> {
    Some(folder()?.join("settings.toml"))
}

/// Reads the settings; none when there is no file.
pub fn read() -> Result<Settings, Failure> {
    let Some(path) = path() else {
        return Ok(Settings::default());
    };
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Ok(Settings::default());
        }
        Err(error) => {
            return Err(Failure::io(
                format!("can't read `{}`", path.display()),
                error,
            ));
        }
    };
    toml::from_str(&text).map_err(|error| {
        Failure::usage(
            format!(
                "`{}` can't be understood: {}",
                path.display(),
                error.to_string().trim_end()
            ),
            "it holds `jobs = N`, `output = \"grouped\"`, `runs = N`, and a table `[let]` with a text or a list for each variable",
        )
    })
}
