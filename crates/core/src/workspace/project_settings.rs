//! Settings that a project gives for all who work on it: `setting KEY = WORDS` in its description.

use crate::findings::FindingPattern;
use crate::language::TopItem;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::project::Description;
use crate::scheduler::OnFailure;
use crate::scheduler::RecipeMode;
use crate::text::Diagnostic;
use crate::text::Sources;
use crate::text::Span;
use crate::text::duration;
use crate::text::mistakes;
use crate::text::nearest;
use crate::workspace::places::HERE;
use crate::workspace::places::OWN_PLACE_KEYS;
use crate::workspace::places::PLACE_KEYS;
use crate::workspace::settings::OutputMode;
use crate::workspace::settings::RecipeColors;
use crate::workspace::settings::SetBy;
use crate::workspace::settings::Settings;
use crate::workspace::store_settings::STORE_KEYS;
use crate::workspace::store_settings::StoreKeyword;

/// What a project may set, besides what it may say of the store.
const KEYS: [&str; 11] = [
    "jobs",
    "on-failure",
    "output",
    "runs",
    "set-by",
    "grace",
    "recipe-colors",
    "recipes",
    "sealed-read",
    "finding-patterns",
    "compile-commands",
];

/// What a setting may be, where that is one of a few words.
#[must_use]
pub fn setting_choices(name: &str) -> Vec<&'static str> {
    let wanted = match place_key(name) {
        Some((_, _, wanted)) => wanted,
        // No setting is a zero byte.
        None => match set(&mut Settings::default(), name, "\0", Vec::new()) {
            Err(wanted) => wanted,
            Ok(()) => "",
        },
    };
    let is_example = wanted.contains("such as");
    let quoted = wanted.split('`').skip(1).step_by(2);
    quoted.filter(|_| !is_example).collect()
}

/// All that a project may set.
#[must_use = "it only tells"]
pub fn setting_names() -> impl Iterator<Item = &'static str> {
    keys()
}

fn keys() -> impl Iterator<Item = &'static str> {
    let of_project = |key: &StoreKeyword| key.of_project;
    let store = STORE_KEYS.into_iter().filter(of_project);
    KEYS.into_iter().chain(store.map(|key| key.name))
}

/// What a project sets, each with its place.
#[derive(Debug, Default)]
pub struct ProjectSettings {
    /// The settings.
    pub settings: Settings,
    /// The names of those that count, and where they stand.
    pub places: Vec<(String, Span)>,
}

impl ProjectSettings {
    /// Reads what a description sets; what is wrong is added to `wrong`.
    pub fn read(description: &Description, wrong: &mut Vec<Diagnostic>) -> Self {
        let mut read = Self::default();
        for (index, part) in description.parts.iter().enumerate() {
            for item in &part.items {
                let TopItem::Setting(key, words) = item else {
                    continue;
                };
                if index > 0 {
                    wrong.push(
                        Diagnostic::warning(
                            &mistakes::SETTING_IN_PART,
                            key.span,
                            "a setting of a part does not count",
                        )
                        .help("settings stand in the project's own `hand.loom`"),
                    );
                    continue;
                }
                match read.take(&description.sources, key, words) {
                    Ok(()) => {}
                    Err(diagnostic) => wrong.push(*diagnostic),
                }
            }
        }
        read
    }

    fn take(
        &mut self,
        sources: &Sources,
        key: &Word,
        words: &[Word],
    ) -> Result<(), Box<Diagnostic>> {
        let name = sources.slice(key.span);
        let place = place_key(name);
        if place.is_none() && !keys().any(|known| known == name) {
            return Err(unknown(key.span, name));
        }
        if let Some((_, first)) = self.places.iter().find(|(set, _)| *set == *name) {
            return Err(Box::new(
                Diagnostic::error(
                    &mistakes::REPEATED_SETTING,
                    key.span,
                    format!("`{name}` is set twice"),
                )
                .also(*first, "first here")
                .help("remove one of them"),
            ));
        }
        let texts = words.iter().map(|word| literal(sources, word));
        let texts: Vec<String> = texts.collect::<Result<_, _>>()?;
        let text = texts.join(" ");
        let span = words
            .iter()
            .map(|word| word.span)
            .reduce(|first, last| Span {
                end: last.end,
                ..first
            });
        let span = span.unwrap_or(key.span);
        let wanted = match place {
            Some((place, key, wanted)) => {
                let place = self.settings.place.entry(place.to_owned()).or_default();
                place.set(key, &text, &texts).then_some(()).ok_or(wanted)
            }
            None => set(&mut self.settings, name, &text, texts),
        };
        wanted.map_err(|wanted| {
            Box::new(
                Diagnostic::error(
                    &mistakes::UNFIT_SETTING,
                    span,
                    format!("`{text}` is no value of the setting `{name}`"),
                )
                .help(format!("it is {wanted}")),
            )
        })?;
        self.places.push((name.to_owned(), key.span));
        Ok(())
    }

    /// The user's own settings, and what the project sets where the user does not; only that keeps its place.
    #[must_use]
    pub fn below(&mut self, user: Settings) -> Settings {
        self.places.retain(|(key, _)| match &**key {
            "jobs" => user.jobs.is_none(),
            "on-failure" => user.on_failure.is_none(),
            "output" => user.output.is_none(),
            "recipe-colors" => user.recipe_colors.is_none(),
            "runs" => user.runs.is_none(),
            "set-by" => user.set_by.is_none(),
            "grace" => user.grace.is_none(),
            "recipes" => user.recipes.is_none(),
            "sealed-read" | "finding-patterns" => true,
            "compile-commands" => user.compile_commands.is_none(),
            key => match place_key(key) {
                Some((place, key, _)) => {
                    let place = user.place.get(place);
                    place.and_then(|place| place.text(key)).is_none()
                }
                None => user.store.text(key).is_none(),
            },
        });
        let mut place = user.place;
        for (name, project) in &self.settings.place {
            let own = place.remove(name).unwrap_or_default();
            place.insert(name.clone(), own.or(project.clone()));
        }
        let mut sealed_read = self.settings.sealed_read.clone();
        sealed_read.extend(user.sealed_read);
        let mut finding_patterns = self.settings.finding_patterns.clone();
        finding_patterns.extend(user.finding_patterns);
        Settings {
            jobs: user.jobs.or(self.settings.jobs),
            on_failure: user.on_failure.or(self.settings.on_failure),
            output: user.output.or(self.settings.output),
            recipe_colors: user.recipe_colors.or(self.settings.recipe_colors),
            runs: user.runs.or(self.settings.runs),
            set_by: user.set_by.or(self.settings.set_by),
            grace: user.grace.or_else(|| self.settings.grace.clone()),
            recipes: user.recipes.or(self.settings.recipes),
            sealed_read,
            finding_patterns,
            compile_commands: user
                .compile_commands
                .or_else(|| self.settings.compile_commands.clone()),
            store: user.store.clone().or(&self.settings.store),
            place,
            ..user
        }
    }
}

/// Sets one setting; what it may be when it may not be this.
fn set(
    settings: &mut Settings,
    key: &str,
    text: &str,
    words: Vec<String>,
) -> Result<(), &'static str> {
    let (is_set, wanted) = match key {
        "jobs" => {
            settings.jobs = text.parse().ok().filter(|jobs| (1..=4096).contains(jobs));
            (settings.jobs.is_some(), "a number from 1 to 4096")
        }
        "on-failure" => {
            settings.on_failure = OnFailure::ALL.into_iter().find(|what| what.name() == text);
            (settings.on_failure.is_some(), "`stop` or `continue`")
        }
        "runs" => {
            settings.runs = text.parse().ok();
            (settings.runs.is_some(), "a number")
        }
        "output" => {
            let modes = [OutputMode::Grouped, OutputMode::Live, OutputMode::Failures];
            settings.output = modes.into_iter().find(|mode| mode.name() == text);
            (settings.output.is_some(), "`grouped`, `live` or `failures`")
        }
        "recipe-colors" => {
            let ways = [RecipeColors::Auto, RecipeColors::Never];
            settings.recipe_colors = ways.into_iter().find(|way| way.name() == text);
            (settings.recipe_colors.is_some(), "`auto` or `never`")
        }
        "set-by" => {
            let ways = [SetBy::Always, SetBy::Never];
            settings.set_by = ways.into_iter().find(|way| way.name() == text);
            (settings.set_by.is_some(), "`always` or `never`")
        }
        "grace" => {
            settings.grace = duration(text).map(|_| text.to_owned());
            (settings.grace.is_some(), "a time such as `5s`")
        }
        "recipes" => {
            settings.recipes = RecipeMode::ALL.into_iter().find(|mode| mode.name() == text);
            let wanted = "`plain`, `watched`, `sealed` or `sealed strictly`";
            (settings.recipes.is_some(), wanted)
        }
        "sealed-read" => {
            settings.sealed_read = words;
            (true, "")
        }
        "finding-patterns" => {
            let patterns = words.into_iter().map(FindingPattern::try_from);
            let patterns: Result<Vec<_>, _> = patterns.collect();
            let is_right = patterns.is_ok();
            settings.finding_patterns = patterns.unwrap_or_default();
            let wanted = "regular expressions with groups for the file, the line and the message, such as '^(?<file>[^ ]+) line (?<line>\\d+) (?<message>.+)'";
            (is_right, wanted)
        }
        "compile-commands" => {
            let is_inside = !text.is_empty()
                && !text.starts_with('/')
                && text.split('/').all(|name| !matches!(name, "" | "." | ".."));
            settings.compile_commands = Some(text.to_owned());
            (
                is_inside && !text.contains('\0'),
                "a file of the project, such as `compile_commands.json`",
            )
        }
        store => {
            let mut known = STORE_KEYS.into_iter().filter(|known| known.name == store);
            let wanted = known.next().map_or("", |known| known.wanted);
            (settings.store.set(store, text), wanted)
        }
    };
    if is_set { Ok(()) } else { Err(wanted) }
}

/// The place and the key of `place.NAME.KEY`, and what that may be.
fn place_key(name: &str) -> Option<(&str, &str, &'static str)> {
    let (place, key) = name.strip_prefix("place.")?.rsplit_once('.')?;
    let mut known = PLACE_KEYS.into_iter().filter(|(known, _)| *known == key);
    let (_, wanted) = known.next()?;
    (!place.is_empty() && place != HERE).then_some((place, key, wanted))
}

fn unknown(span: Span, name: &str) -> Box<Diagnostic> {
    let wrong = Diagnostic::error(
        &mistakes::UNKNOWN_SETTING,
        span,
        format!("there is no setting `{name}`"),
    );
    let of_place = name.strip_prefix("place.").map(|rest| {
        let key = rest.rsplit_once('.').map_or("", |(_, key)| key);
        if OWN_PLACE_KEYS.contains(&key) {
            return wrong.clone().help(format!(
                "that is for each user to say: `{key}` stands in your own settings"
            ));
        }
        let known = PLACE_KEYS.map(|(known, _)| known);
        match nearest(key, known) {
            _ if rest.starts_with("here.") => wrong
                .clone()
                .help("`here` is the machine where it is typed; give the place another name"),
            Some(near) => wrong
                .clone()
                .help(format!("did you mean `{near}`?"))
                .instead(span.part(name.len() - key.len(), key.len()), near),
            None => wrong
                .clone()
                .help(format!("of a place there are: {}", known.join(", "))),
        }
    });
    if let Some(wrong) = of_place {
        return Box::new(wrong);
    }
    let is_users = STORE_KEYS.iter().any(|key| key.name == name);
    let help = match (name, nearest(name, keys())) {
        ("trust", _) => {
            "whom to trust is for each user to say: `trust` stands in your own settings".to_owned()
        }
        _ if is_users => {
            format!("that is for each user to say: `{name}` stands in your own settings")
        }
        (_, Some(near)) => format!("did you mean `{near}`?"),
        (_, None) => format!("there are: {}", keys().collect::<Vec<_>>().join(", ")),
    };
    let near = nearest(name, keys()).filter(|near| help.contains(near));
    Box::new(match near {
        Some(near) => wrong.help(help).instead(span, near),
        None => wrong.help(help),
    })
}

/// A word's text, without variables.
fn literal(sources: &Sources, word: &Word) -> Result<String, Box<Diagnostic>> {
    let with_variable = || {
        Box::new(
            Diagnostic::error(
                &mistakes::UNFIT_SETTING,
                word.span,
                "a setting has no variables in it",
            )
            .help("write the value itself"),
        )
    };
    match &word.kind {
        WordKind::Plain => Ok(sources.slice(word.span).to_owned()),
        WordKind::Mixed(parts) => parts
            .iter()
            .map(|part| match part {
                WordPart::Text { text, .. } => Ok(text.as_str()),
                WordPart::Var(_) => Err(with_variable()),
            })
            .collect(),
    }
}
