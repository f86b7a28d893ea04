//! `handloom settings`: each setting and variable, its value, and where the value comes from.

use std::process::ExitCode;

use serde::Serialize;

use handloom_core::project::description::FILE_NAME;
use handloom_core::project::environment::Origin;
use handloom_core::project::frame::Frame;
use handloom_core::store::shared::without_credentials;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::Output;
use crate::arguments::SettingsArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;
use handloom_core::workspace::Workspace;
use handloom_core::workspace::places::PLACE_KEYS;
use handloom_core::workspace::settings::RUNS;
use handloom_core::workspace::settings::SetBy;
use handloom_core::workspace::settings::Settings;
use handloom_core::workspace::store_settings::LEAST;
use handloom_core::workspace::store_settings::STORE_KEYS;
use handloom_core::workspace::store_settings::StoreKeyword;
use handloom_core::workspace::store_settings::StoreSettings;
use handloom_core::workspace::store_settings::WAIT;

#[derive(Serialize)]
struct SettingJson {
    name: String,
    value: Vec<String>,
    from: String,
}

#[derive(Serialize)]
struct SettingsJson {
    settings: Vec<SettingJson>,
    variables: Vec<SettingJson>,
}

/// Carries the command out.
pub fn run(
    common: &Common,
    arguments: &SettingsArguments,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    ReadOnlyProject::at(common, arguments.asking, ui, |read_only| {
        let json = SettingsJson {
            settings: general(read_only),
            variables: variables(read_only)?,
        };
        match arguments.format {
            Format::Json => ui.print_json(&json)?,
            Format::Text => {
                let mut out = String::new();
                block("settings", &json.settings, ui, &mut out);
                block("variables", &json.variables, ui, &mut out);
                ui.print(&out)?;
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

fn general(read_only: &ReadOnlyProject<'_, '_>) -> Vec<SettingJson> {
    let file = project::user()
        .settings()
        .map_or_else(|| "nowhere".to_owned(), |path| path.display().to_string());
    let own = project::user().own_tasks().map_or_else(
        || "none".to_owned(),
        |folder| folder.join(FILE_NAME).display().to_string(),
    );
    let place = |name: &str, value: String, from: &str| SettingJson {
        name: name.to_owned(),
        value: vec![value],
        from: from.to_owned(),
    };
    let root = read_only.workspace.location.root_text();
    let mut settings = vec![
        place("project", root, "the nearest hand.loom"),
        place("settings file", file, "XDG_CONFIG_HOME, or ~/.config"),
        place("own tasks", own, "beside the settings file"),
    ];
    settings.extend(set(read_only.workspace));
    settings
}

/// Who set a setting: the environment, the project or the user; `otherwise` when nobody did.
fn set_by_whom(workspace: &Workspace, name: &str, is_set: bool, otherwise: &str) -> String {
    let mut places = workspace.from_project.places.iter();
    let variable = STORE_KEYS.iter().find(|key| key.name == name);
    let variable = variable.map(StoreKeyword::variable);
    let variable =
        variable.filter(|name| std::env::var_os(name).is_some_and(|set| !set.is_empty()));
    match places.find(|(known, _)| known == name) {
        _ if variable.is_some() => format!("{} in the environment", variable.unwrap_or_default()),
        Some((_, span)) => workspace.description.sources.name_and_line(*span),
        None if is_set => "the user's settings".to_owned(),
        None => otherwise.to_owned(),
    }
}

/// What can be set, by the user or by the project.
fn set(workspace: &Workspace) -> Vec<SettingJson> {
    let settings = &workspace.settings;
    let setting = |name: &str, value: Vec<String>, is_set: bool, otherwise: &str| SettingJson {
        name: name.to_owned(),
        value,
        from: set_by_whom(workspace, name, is_set, otherwise),
    };
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let without = "as it is without a setting";
    let word = |word: &str| vec![word.to_owned()];
    let number = |number: usize| vec![number.to_string()];
    let output = settings.output.map_or(Output::Grouped, Output::from);
    let set_by = settings.set_by.unwrap_or(SetBy::Always);
    let (reads, trust) = (&settings.sealed_read, &settings.trust);
    let patterns = settings.finding_patterns.iter();
    let patterns: Vec<String> = patterns.map(|pattern| pattern.text().to_owned()).collect();
    let commands: Vec<String> = settings.compile_commands.iter().cloned().collect();
    let jobs = number(settings.jobs.unwrap_or(cores));
    let runs = number(settings.runs.unwrap_or(RUNS));
    let grace = vec![text::seconds(settings.grace())];
    let recipes = word(settings.recipes.unwrap_or_default().name());
    let mut all = vec![
        setting("jobs", jobs, settings.jobs.is_some(), "the number of cores"),
        setting(
            "on-failure",
            word(settings.on_failure.unwrap_or_default().name()),
            settings.on_failure.is_some(),
            without,
        ),
        setting(
            "output",
            word(output.name()),
            settings.output.is_some(),
            without,
        ),
        setting(
            "recipe-colors",
            word(settings.recipe_colors.unwrap_or_default().name()),
            settings.recipe_colors.is_some(),
            without,
        ),
        setting("runs", runs, settings.runs.is_some(), without),
        setting(
            "set-by",
            word(set_by.name()),
            settings.set_by.is_some(),
            without,
        ),
        setting("grace", grace, settings.grace.is_some(), without),
        setting("recipes", recipes, settings.recipes.is_some(), without),
        setting("sealed-read", or_none(reads), !reads.is_empty(), without),
        setting(
            "finding-patterns",
            or_none(&patterns),
            !patterns.is_empty(),
            without,
        ),
        setting(
            "compile-commands",
            or_none(&commands),
            !commands.is_empty(),
            without,
        ),
        setting("trust", or_none(trust), !trust.is_empty(), without),
    ];
    all.extend(STORE_KEYS.iter().map(|key| {
        let set = settings.store.text(key.name);
        let is_set = set.is_some();
        let value = set.unwrap_or_else(|| store_default(key.name, workspace));
        setting(key.name, vec![without_credentials(&value)], is_set, without)
    }));
    all.extend(places(settings, |name, value| {
        setting(name, value, true, without)
    }));
    all
}

/// The places, each with what is said of it.
fn places(
    settings: &Settings,
    setting: impl Fn(&str, Vec<String>) -> SettingJson,
) -> Vec<SettingJson> {
    let mut all = Vec::new();
    let mut places: Vec<_> = settings.place.iter().collect();
    places.sort_by_key(|(name, _)| *name);
    for (name, place) in places {
        let size = format!("{} x {} cores", place.most(), place.cores());
        let name = format!("place.{name}");
        let from = "what follows, and what is not said";
        all.push(SettingJson {
            name: name.clone(),
            value: vec![size],
            from: from.to_owned(),
        });
        all.extend(PLACE_KEYS.into_iter().filter_map(|(key, _)| {
            let text = place.text(key)?;
            let value = match key {
                "options" => place.allocation().options,
                _ => vec![text],
            };
            Some(setting(&format!("{name}.{key}"), value))
        }));
    }
    all
}

/// A setting of the store as it is when nobody sets it.
fn store_default(key: &str, workspace: &Workspace) -> String {
    let nothing = StoreSettings::default();
    match key {
        "store.use" => "always".to_owned(),
        "store.folder" => workspace
            .user
            .store()
            .map_or_else(|| "none".to_owned(), |folder| folder.display().to_string()),
        "store.size" => nothing.size_text().to_owned(),
        "store.least" => LEAST.to_owned(),
        "store.share" => "false".to_owned(),
        "store.wait" => WAIT.to_owned(),
        _ => "none".to_owned(),
    }
}

fn or_none(words: &[String]) -> Vec<String> {
    match words {
        [] => vec!["none".to_owned()],
        words => words.to_vec(),
    }
}

fn variables(read_only: &ReadOnlyProject<'_, '_>) -> Result<Vec<SettingJson>, CommandError> {
    let description = &read_only.workspace.description;
    let mut found = Vec::new();
    for (part, name, definitions) in read_only.vars.declared() {
        let folder = &description.parts[part.index()].folder;
        let value = read_only.vars.known_value(Frame::of(part).part, name);
        let from = match read_only
            .workspace
            .outside
            .find(folder, name)
            .map(|set| set.origin)
        {
            Some(Origin::CommandLine) => "the command line".to_owned(),
            Some(Origin::Environment) => format!("HANDLOOM_LET_{name} in the environment"),
            Some(Origin::UserSettings) => "the user's settings".to_owned(),
            None => definitions
                .last()
                .map(|definition| description.sources.name_and_line(definition.span))
                .unwrap_or_default(),
        };
        found.push(SettingJson {
            name: format!("{folder}{name}"),
            value: value
                .map(|value| value.texts().map(str::to_owned).collect())
                .unwrap_or_default(),
            from,
        });
    }
    read_only.warnings()?;
    found.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(found)
}

fn block(title: &str, rows: &[SettingJson], ui: Ui, out: &mut String) {
    if rows.is_empty() {
        return;
    }
    if !out.is_empty() {
        out.push('\n');
    }
    out.push_str(&format!("{}\n", ui.out.paint(Role::Title, title)));
    let shown: Vec<(String, String, &str)> = rows
        .iter()
        .map(|row| {
            let value =
                handloom_core::project::shell::quote_all(row.value.iter().map(String::as_str));
            (text::safe(&row.name), text::safe(&value), row.from.as_str())
        })
        .collect();
    let width = |column: fn(&(String, String, &str)) -> usize| {
        shown.iter().map(column).max().unwrap_or(0).min(44)
    };
    let (names, values) = (
        width(|row| text::columns(&row.0)),
        width(|row| text::columns(&row.1)),
    );
    for (name, value, from) in &shown {
        let line = format!(
            "  {}{:pad$}  {value:values$}  {}",
            ui.out.paint(Role::Name, name),
            "",
            ui.out.paint(Role::Faint, &text::safe(from)),
            pad = names.saturating_sub(text::columns(name)),
        );
        out.push_str(line.trim_end());
        out.push('\n');
    }
}
