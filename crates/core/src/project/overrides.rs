//! Values set from outside the description, as parsed words.

use std::collections::HashMap;

use crate::language::TopItem;
use crate::language::Word;
use crate::language::parse_words;
use crate::project::description::Description;
use crate::project::environment::Environment;
use crate::project::environment::Origin;
use crate::project::environment::OverrideText;
use crate::project::environment::Overrides;
use crate::text::Diagnostic;
use crate::text::SourceId;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::nearest;
use crate::world::Digest;

/// A value set from outside.
#[derive(Clone, Debug)]
pub struct Override {
    /// Who set it.
    pub origin: Origin,
    /// Whether they are added to what the description says.
    pub adds: bool,
    /// Its words.
    pub words: Vec<Word>,
    /// The whole text.
    pub span: Span,
}

/// All values set from outside, by the variable's name, or by its part's folder and name.
#[derive(Clone, Debug)]
pub struct SetOutside {
    by_name: HashMap<String, Override>,
    /// What tells whether the same is set in another run, also where it has not found its variable.
    pub digest: Digest,
}

impl Default for SetOutside {
    fn default() -> Self {
        Self {
            by_name: HashMap::new(),
            digest: Digest([0; 32]),
        }
    }
}

impl SetOutside {
    /// Finds and parses what is set for the variables that a description has; their texts become
    /// sources of it. A name on the command line that it does not have is an error.
    pub fn read(
        description: &mut Description,
        overrides: &Overrides,
        environment: &dyn Environment,
    ) -> (Self, Vec<Diagnostic>) {
        let mut names: Vec<String> = Vec::new();
        for part in &description.parts {
            for item in &part.items {
                if let TopItem::Let(definition) = item {
                    names.push(definition.name.text.to_string());
                    if !part.folder.is_empty() {
                        names.push(format!("{}{}", part.folder, definition.name.text));
                    }
                }
            }
        }
        names.sort_unstable();
        names.dedup();
        let mut set = Self::default();
        let mut diagnostics = Vec::new();
        for name in &names {
            if let Some(OverrideText { origin, text, adds }) = overrides.find(name, environment) {
                let shown = match origin {
                    Origin::CommandLine if adds => format!("--let {name}+"),
                    Origin::CommandLine => format!("--let {name}"),
                    Origin::Environment => format!("HANDLOOM_LET_{name}"),
                    Origin::UserSettings => format!("settings, let.{name}"),
                };
                let source = description.sources.add(shown, text);
                let (words, wrong) = parse_words(source, &description.sources.get(source).text);
                diagnostics.extend(wrong);
                let span = whole(description, source);
                set.by_name.insert(
                    name.clone(),
                    Override {
                        origin,
                        adds,
                        words,
                        span,
                    },
                );
            }
        }
        for (name, text) in &overrides.command_line {
            let name = &name.trim_end_matches('+').to_owned();
            if names.binary_search(name).is_err() {
                let source = description.sources.add("--let", format!("{name}={text}"));
                let mut span = whole(description, source);
                span.end = u32::try_from(name.len()).unwrap_or(0);
                let near = nearest(name, names.iter().map(String::as_str));
                diagnostics.push(
                    Diagnostic::error(
                        &mistakes::UNKNOWN_VARIABLE,
                        span,
                        format!("the project has no variable `{name}`"),
                    )
                    .help(near.map_or_else(
                        || "`handloom settings` lists the variables".to_owned(),
                        |near| format!("did you mean `--let {near}=…`?"),
                    )),
                );
            }
        }
        (set, diagnostics)
    }

    /// What is set for a variable of the part in `folder`.
    #[must_use]
    pub fn find(&self, folder: &str, name: &str) -> Option<&Override> {
        if !folder.is_empty()
            && let Some(set) = self.by_name.get(&format!("{folder}{name}"))
        {
            return Some(set);
        }
        self.by_name.get(name)
    }
}

fn whole(description: &Description, source: SourceId) -> Span {
    Span {
        source,
        start: 0,
        end: u32::try_from(description.sources.get(source).text.len()).unwrap_or(0),
    }
}
