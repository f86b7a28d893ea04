//! The user's own settings: `handloom/settings.toml` in the XDG configuration folder.

use std::collections::HashMap;
use std::time::Duration;

use serde::Deserialize;

use crate::executor::GRACE;
use crate::findings::FindingPattern;
use crate::scheduler::OnFailure;
use crate::scheduler::RecipeMode;
use crate::store::shared::without_credentials;
use crate::text::duration;
use crate::workspace::error::WorkspaceError;
use crate::workspace::places::HERE;
use crate::workspace::places::PlaceSettings;
use crate::workspace::store_settings::StoreSettings;
use crate::workspace::user::UserFolders;

/// What the user has set for all projects.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Jobs that may run at once.
    pub jobs: Option<usize>,
    /// What becomes of independent steps when one fails.
    #[serde(rename = "on-failure")]
    pub on_failure: Option<OnFailure>,
    /// How what jobs print is shown.
    pub output: Option<OutputMode>,
    /// Whether recipes may colour what they print.
    #[serde(rename = "recipe-colors")]
    pub recipe_colors: Option<RecipeColors>,
    /// So many of the last runs are remembered.
    pub runs: Option<usize>,
    /// Whether old outputs are kept until new ones are there.
    #[serde(rename = "set-by")]
    pub set_by: Option<SetBy>,
    /// How long jobs have that are asked to end, such as `5s`.
    pub grace: Option<String>,
    /// How recipes run that do not say it themselves.
    pub recipes: Option<RecipeMode>,
    /// Files and folders outside of the project that sealed recipes may read.
    #[serde(default, rename = "sealed-read")]
    pub sealed_read: Vec<String>,
    /// How tools of one's own say that something is wrong with a source.
    #[serde(default, rename = "finding-patterns")]
    pub finding_patterns: Vec<FindingPattern>,
    /// The file in which runs write down how sources are compiled, from the root.
    #[serde(rename = "compile-commands")]
    pub compile_commands: Option<String>,
    /// Folders whose descriptions are taken whoever they belong to.
    #[serde(default)]
    pub trust: Vec<String>,
    /// The store of results.
    #[serde(default)]
    pub store: StoreSettings,
    /// Places where jobs can run, by their names.
    #[serde(default)]
    pub place: HashMap<String, PlaceSettings>,
    /// Variables: a text that is read as words, or a list of words.
    #[serde(default, rename = "let")]
    pub lets: HashMap<String, Words>,
}

/// How what jobs print is shown.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum OutputMode {
    /// In one piece when a job has ended.
    Grouped,
    /// Line by line as it comes, with the job's name in front.
    Live,
    /// Only of jobs that failed.
    Failures,
}

impl OutputMode {
    /// As it is written in the settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Grouped => "grouped",
            Self::Live => "live",
            Self::Failures => "failures",
        }
    }
}

/// Whether recipes may colour what they print.
#[derive(Clone, Copy, Debug, Default, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum RecipeColors {
    /// On a terminal they write to a pseudo-terminal, so that compilers and others use their colours.
    #[default]
    Auto,
    /// They always write to a pipe.
    Never,
}

impl RecipeColors {
    /// As it is written in the settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Auto => "auto",
            Self::Never => "never",
        }
    }
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
#[derive(Clone, Debug, Deserialize)]
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

/// Reads the settings; none when there is no file.
pub fn read(user: &UserFolders) -> Result<Settings, WorkspaceError> {
    let Some(path) = user.settings() else {
        return Ok(Settings::default());
    };
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Ok(Settings::default());
        }
        Err(error) => {
            return Err(WorkspaceError::io(
                format!("can't read `{}`", path.display()),
                error,
            ));
        }
    };
    let settings: Settings = toml::from_str(&text).map_err(|error| {
        WorkspaceError::usage(
            format!(
                "`{}` can't be understood: {}",
                path.display(),
                error.to_string().trim_end()
            ),
            "it holds `jobs = N`, `output = \"grouped\"`, `recipe-colors = \"never\"`, `runs = N`, `set-by = \"always\"`, `grace = \"5s\"`, `recipes = \"watched\"`, `sealed-read = [\"/folder\"]`, `finding-patterns = [\"…\"]`, `compile-commands = \"compile_commands.json\"`, `trust = [\"/folder\"]`, tables `[store]` (docs/sharing.md) and `[place.NAME]` (docs/cluster.md), and a table `[let]` with a text or a list for each variable",
        )
    })?;
    if let Some(grace) = &settings.grace
        && duration(grace).is_none()
    {
        return Err(WorkspaceError::usage(
            format!(
                "`{}` says `grace = \"{grace}\"`, which is no time",
                path.display()
            ),
            "write a number and `s`, `m` or `h`, such as `grace = \"5s\"`",
        ));
    }
    let wrong = settings
        .place
        .iter()
        .find_map(|(name, place)| Some((name, place.wrong()?)));
    if settings.place.contains_key(HERE) {
        return Err(WorkspaceError::usage(
            format!("`{}` has a place `{HERE}`", path.display()),
            "that is the machine where it is typed; give it another name",
        ));
    }
    if let Some((name, (text, wanted))) = wrong {
        return Err(WorkspaceError::usage(
            format!("`{}` says `{text}` in `[place.{name}]`", path.display()),
            format!("it is {wanted}"),
        ));
    }
    if let Some((key, text)) = settings.store.wrong() {
        return Err(WorkspaceError::usage(
            format!(
                "`{}` says `{} = \"{}\"`",
                path.display(),
                key.name,
                without_credentials(&text)
            ),
            format!("it is {}", key.wanted),
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
