//! Checks of every recipe's names, without working out a value: a misspelt variable is reported
//! before anything runs, also in a step that nobody asked for.

use crate::language::Name;
use crate::language::Piece;
use crate::language::Script;
use crate::language::TopItem;
use crate::language::VarRef;
use crate::language::Word;
use crate::language::script_names;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::description::PartId;
use crate::project::frame::Frame;
use crate::project::model::Project;
use crate::project::recipe_env::CORES;
use crate::project::script::interpreter;
use crate::project::shell::is_shell;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::duration;
use crate::text::mistakes;
use crate::text::nearest;

/// Reports unknown names in recipes, and variables in quotes of recipes that are no shell scripts.
pub fn check_names<'d>(vars: &Vars<'d>, project: &Project<'d>) {
    for decl in project.decls.iter() {
        check_decl(vars, decl);
    }
    check_tasks(vars, project);
    check_data_files(vars, project);
}

/// Refuses values from files that a step makes: they are taken before anything is made.
fn check_data_files(vars: &Vars<'_>, project: &Project<'_>) {
    let files = vars.named_data_files();
    for (file, &span) in &files {
        let path = project.paths.find(file);
        let Some(maker) = path.and_then(|path| project.maker(path)) else {
            continue;
        };
        let target = project.decl(project.step(maker)).syntax.span;
        vars.report(
            Diagnostic::error(&mistakes::VALUE_FROM_OUTPUT, span, format!("a value is taken from `{file}`, which a target makes"))
                .also(target, "makes it")
                .help("values are taken before anything is made: let the recipe read the file, which the target `needs`"),
        );
    }
}

/// The same for one target.
pub fn check_decl<'d>(vars: &Vars<'d>, decl: &Decl<'d>) {
    if !is_plain(&decl.clauses) {
        let labels = decl
            .syntax
            .outputs
            .iter()
            .chain(decl.clauses.needs.iter().copied())
            .filter_map(|group| group.label.as_ref())
            .map(|label| &*label.text);
        let mut names: Vec<&str> = vec!["needs", "target", CORES];
        names.extend(labels);
        names.extend(decl.holes.iter().map(String::as_str));
        names.extend(decl.clauses.learn.map(|_| "learn"));
        check(vars, decl.part, &names, &decl.clauses);
    }
}

fn check_tasks<'d>(vars: &Vars<'d>, project: &Project<'d>) {
    for task in project.tasks.iter().filter(|task| !task.is_called) {
        let mut names: Vec<&str> = vec!["needs", "extra", "here", CORES];
        names.extend(
            task.decl
                .clauses
                .needs
                .iter()
                .filter_map(|group| group.label.as_ref())
                .map(|label| &*label.text),
        );
        names.extend(
            task.decl
                .syntax
                .parameters
                .iter()
                .map(|parameter| &*parameter.name.text),
        );
        check(vars, task.decl.part, &names, &task.decl.clauses);
    }
}

/// Whether a target's only words with variables are a shell recipe with its own files: by far the most
/// are, in a large description.
fn is_plain(clauses: &Clauses<'_>) -> bool {
    let own = |script: &Script| {
        script.with.is_none()
            && script_names(script).all(|(name, _)| matches!(name, "needs" | "target"))
    };
    clauses.env.is_empty()
        && clauses.folder.is_none()
        && clauses.running.is_empty()
        && clauses.finally.is_none()
        && clauses.recipe.is_none_or(own)
}

fn check<'d>(vars: &Vars<'d>, part: PartId, names: &[&str], clauses: &Clauses<'d>) {
    let mut known = DeclaredNames {
        vars,
        frame: Frame::of(part),
        placeholders: names.to_vec(),
    };
    known
        .placeholders
        .extend(clauses.lets.iter().map(|own| &*own.name.text));
    known.running(clauses);
    for word in clauses
        .env
        .iter()
        .flat_map(|(_, words)| words.iter())
        .chain(clauses.folder)
    {
        known.word(word);
    }
    for script in clauses
        .recipe
        .iter()
        .chain(&clauses.finally)
        .chain(&clauses.ready)
    {
        known.script(script);
    }
}

/// An amount of a supply: a whole number from 1, or bytes for memory.
#[must_use]
pub fn amount_of(supply: &str, text: &str) -> Option<u64> {
    let (digits, unit) = match text.char_indices().next_back()? {
        (at, 'K') => (&text[..at], 1 << 10),
        (at, 'M') => (&text[..at], 1 << 20),
        (at, 'G') => (&text[..at], 1 << 30),
        _ => (text, 1),
    };
    if unit > 1 && supply != "memory" {
        return None;
    }
    digits
        .parse::<u64>()
        .ok()?
        .checked_mul(unit)
        .filter(|&amount| amount > 0)
}

struct DeclaredNames<'a, 'd> {
    vars: &'a Vars<'d>,
    frame: Frame<'a>,
    placeholders: Vec<&'a str>,
}

impl<'d> DeclaredNames<'_, 'd> {
    /// Amounts, times and numbers that can be told now.
    fn running(&self, clauses: &Clauses<'d>) {
        let running = &clauses.running;
        let single = |word: &'d Word| Some((word, self.vars.literal(word)?));
        for (name, amount) in &running.takes {
            self.supply(name);
            if let Some((word, text)) = single(amount)
                && amount_of(&name.text, text).is_none()
            {
                let help = match &*name.text {
                    "memory" => "write a number with `K`, `M` or `G`, such as `memory=4G`",
                    _ => "write a whole number from 1, such as `cores=2`",
                };
                self.vars.report(
                    Diagnostic::error(
                        &mistakes::UNREADABLE_AMOUNT,
                        word.span,
                        format!("`{text}` is no amount of {}", name.text),
                    )
                    .help(help),
                );
            }
        }
        if let Some((word, text)) = running.limit.and_then(single)
            && duration(text).is_none()
        {
            self.vars.report(
                Diagnostic::error(
                    &mistakes::UNREADABLE_TIME,
                    word.span,
                    format!("`{text}` is no time"),
                )
                .help("write a number and `s`, `m` or `h`, such as `90s`"),
            );
        }
        if let Some((word, text)) = running.retry.and_then(single)
            && text.parse::<u32>().is_err()
        {
            self.vars.report(
                Diagnostic::error(
                    &mistakes::UNREADABLE_TRIES,
                    word.span,
                    format!("`{text}` is no number of tries"),
                )
                .help("write how often to try again, such as `retry 2`"),
            );
        }
    }

    fn supply(&self, name: &Name) {
        let mut known: Vec<&str> = vec!["cores", "memory"];
        for part in &self.vars.description.parts {
            known.extend(part.items.iter().filter_map(|item| match item {
                TopItem::Supply(name, _) => Some(&*name.text),
                _ => None,
            }));
        }
        if !known.contains(&&*name.text) {
            let near = nearest(&name.text, known.iter().copied());
            let help = match near {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!(
                    "say how much there is, at the left edge: `supply {} = 1`",
                    name.text
                ),
            };
            let wrong = Diagnostic::error(
                &mistakes::UNKNOWN_SUPPLY,
                name.span,
                format!("there is no supply called `{}`", name.text),
            );
            self.vars.report(match near {
                Some(near) => wrong.help(help).instead(name.span, near),
                None => wrong.help(help),
            });
        }
    }

    fn word(&self, word: &Word) {
        if let crate::language::WordKind::Mixed(parts) = &word.kind {
            for part in parts {
                if let crate::language::WordPart::Var(reference) = part {
                    self.reference(reference);
                }
            }
        }
    }

    fn reference(&self, reference: &VarRef) {
        let name = &*reference.name.text;
        if self.placeholders.contains(&name) || self.vars.is_known(self.frame.part, name) {
            return;
        }
        let mut frame = self.frame.clone();
        for name in &self.placeholders {
            frame.set(name, Value::word(""));
        }
        self.vars.unknown(reference, &frame);
    }

    fn script(&self, script: &Script) {
        let mut checks_quotes = None;
        let mut quote = None;
        for piece in &script.pieces {
            match piece {
                Piece::Text(text) => quote = open_quote(text, quote),
                Piece::Var(reference) => {
                    self.reference(reference);
                    let Some(mark) = quote else { continue };
                    let other = *checks_quotes.get_or_insert_with(|| {
                        script.with.is_some()
                            && interpreter(self.vars, script, &self.frame)
                                .is_some_and(|words| !is_shell(&words))
                    });
                    if other && !reference.raw {
                        self.vars.report(
                            Diagnostic::warning(&mistakes::REFERENCE_IN_QUOTES, reference.span, format!("this variable stands inside {mark}…{mark} of a script that is no shell script"))
                                .help(format!("it is put in with quotes of its own: leave yours out, or write `@{{raw {}}}`", reference.name.text))
                                .perhaps(reference.name.span.part(0, 0), "raw "),
                        );
                    }
                }
            }
        }
    }
}

/// The quote that is open behind a text, as most languages read it; line ends close it.
fn open_quote(text: &str, before: Option<char>) -> Option<char> {
    let mut open = before;
    let mut escaped = false;
    for c in text.chars() {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '\n' => open = None,
            '"' | '\'' if open == Some(c) => open = None,
            '"' | '\'' if open.is_none() => open = Some(c),
            _ => {}
        }
    }
    open
}
