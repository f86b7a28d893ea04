//! Recipes: what a step's script says, where it runs, and what of it is compared.
//!
//! Two texts are made of a recipe. The *recipe text* is compared with that of the last run: the script
//! with all variables of the project put in, but with what differs from step to step of one target
//! left as written (`@{needs}`, `@{target}`, holes), since outputs, prerequisites and the values of
//! holes are compared on their own. So it is one text for all steps of a target, made once. The
//! *script* has everything put in, and is made only for a step that runs.

use crate::language::LearnHow;
use crate::language::Piece;
use crate::language::Script;
use crate::language::Word;
use crate::project::decl::Decl;
use crate::project::description::PartId;
use crate::project::frame::Frame;
use crate::project::model::Project;
use crate::project::model::Step;
use crate::project::paths::PathId;
use crate::project::paths::relative;
use crate::project::pattern::Pattern;
use crate::project::pattern::fill_holes;
use crate::project::pattern::unescape;
use crate::project::secret;
use crate::project::shell;
use crate::project::value::Atom;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// A part's interpreter: its own `recipes with`, or that of a part above, or `sh -eu`.
pub fn default_interpreter(vars: &Vars<'_>, part: PartId) -> Option<Vec<String>> {
    let mut at = Some(part);
    while let Some(id) = at {
        if let Some(words) = vars.own_interpreter(id) {
            let value = vars.words(words, &Frame::of(id))?;
            return Some(value.texts().map(str::to_owned).collect());
        }
        at = vars.description.parts[id.index()].parent;
    }
    Some(vec!["sh".to_owned(), "-eu".to_owned()])
}

/// A script's interpreter.
pub fn interpreter(vars: &Vars<'_>, script: &Script, frame: &Frame<'_>) -> Option<Vec<String>> {
    match &script.with {
        Some(words) => Some(
            vars.words(words, frame)?
                .texts()
                .map(str::to_owned)
                .collect(),
        ),
        None => default_interpreter(vars, frame.part),
    }
}

/// The folder a script runs in, from the root, ending with a slash unless it is the root itself.
pub fn run_folder(vars: &Vars<'_>, folder: Option<&Word>, frame: &Frame<'_>) -> Option<String> {
    let own = &vars.description.parts[frame.part.index()].folder;
    let Some(word) = folder else {
        return Some(own.clone());
    };
    let text = filled(vars, word, frame)?;
    // `@{here}` and `@{root}` are absolute; recipes see paths from where they run.
    let path = vars.from_root(own, &text);
    Some(if path.is_empty() || path.ends_with('/') {
        path
    } else {
        format!("{path}/")
    })
}

/// A single word with the holes in it filled from the frame.
pub fn filled(vars: &Vars<'_>, word: &Word, frame: &Frame<'_>) -> Option<String> {
    let atom = vars.single(word, frame)?;
    Some(fill_atom(&atom, frame))
}

fn fill_atom(atom: &Atom, frame: &Frame<'_>) -> String {
    match &atom.pattern {
        None => atom.text.to_string(),
        Some(source) => {
            let (filled, _) = fill_holes(source, |name| {
                frame
                    .local(name)
                    .and_then(|value| value.atoms.first())
                    .map(|atom| &*atom.text)
            });
            unescape(&filled)
        }
    }
}

/// Where a step's `learn` file is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LearnFile {
    /// How it is read.
    pub how: LearnHow,
    /// Its path from the root.
    pub path: String,
    /// Whether Hand Loom named it, and takes it away again.
    pub scratch: bool,
}

/// Groups of paths put into a frame: `all` under one name, and each label under its own.
pub(super) fn set_groups<'a>(
    frame: &mut Frame<'a>,
    all: &'a str,
    groups: &[&'a crate::language::Group],
    paths: &[(u16, String)],
    one_word: impl Fn(&crate::language::Group) -> bool,
    list: bool,
) {
    let value = |group: Option<usize>, list: bool| Value {
        list,
        ..Value::list(
            paths
                .iter()
                .filter(|(number, _)| group.is_none_or(|group| usize::from(*number) == group))
                .map(|(_, path)| path.as_str()),
        )
    };
    for (number, group) in groups.iter().enumerate() {
        if let Some(label) = &group.label {
            let value = value(Some(number), true);
            let list = !(one_word(group) && value.atoms.len() == 1);
            frame.set(&label.text, Value { list, ..value });
        }
    }
    frame.set(all, value(None, list));
}

/// The names a step's recipe knows.
pub fn step_frame<'a, 'd>(
    vars: &Vars<'d>,
    project: &Project<'d>,
    decl: &'a Decl<'d>,
    step: &Step,
    needs: &[(u16, PathId)],
    learn: Option<&LearnFile>,
) -> Option<(Frame<'a>, String)> {
    let values = project.step_values(step);
    let mut frame = decl.frame(vars, &values[..decl.holes.len().min(values.len())])?;
    let folder = run_folder(vars, decl.clauses.folder, &frame)?;
    let seen = |paths: &mut dyn Iterator<Item = (u16, PathId)>| -> Vec<(u16, String)> {
        paths
            .map(|(group, path)| (group, relative(project.paths.get(path), &folder)))
            .collect()
    };
    let outputs = seen(&mut project.step_outputs(step).iter().copied());
    let prerequisites = seen(&mut needs.iter().copied());
    let output_groups: Vec<_> = decl.syntax.outputs.iter().collect();
    let single = |group: &crate::language::Group| match &group.items[..] {
        [item] if item.each => !decl.gathers(vars, &item.word),
        [item] => !decl.word_is_list(vars, &item.word),
        _ => false,
    };
    let several = outputs.len() != 1;
    set_groups(
        &mut frame,
        "target",
        &output_groups,
        &outputs,
        single,
        several,
    );
    set_groups(
        &mut frame,
        "needs",
        &decl.clauses.needs,
        &prerequisites,
        single,
        true,
    );
    if let Some(learn) = learn {
        frame.set("learn", Value::word(relative(&learn.path, &folder)));
    }
    Some((frame, folder))
}

impl<'d> Decl<'d> {
    /// Whether the pattern behind an `each` has wildcards beside its holes, so that a step may need several files.
    pub(super) fn gathers(&self, vars: &Vars<'d>, word: &Word) -> bool {
        let atom = vars.single(word, &self.fixed_frame());
        let pattern = atom.and_then(|atom| Pattern::compile(&atom.source()).ok());
        pattern.is_some_and(|pattern| pattern.gathers())
    }

    /// Whether a word is written so that it may come to several.
    fn word_is_list(&self, vars: &Vars<'d>, word: &Word) -> bool {
        if self.word_varies(vars, word) {
            let source = vars.description.sources.slice(word.span);
            return source.contains(['*', '?', '[', '{']) && !source.contains("@{");
        }
        vars.word(word, &self.fixed_frame())
            .is_none_or(|value| value.list || value.atoms.iter().any(|atom| atom.pattern.is_some()))
    }
}

/// A script with everything put in, for an interpreter.
pub fn render(
    vars: &Vars<'_>,
    script: &Script,
    frame: &Frame<'_>,
    interpreter: &[String],
) -> Option<String> {
    if shell::is_shell(interpreter) {
        let filled = shell::fill(&script.pieces, |reference| vars.reference(reference, frame))?;
        return match filled {
            Ok(text) => Some(text),
            Err(shell::Refusal::SecondList(second)) => {
                vars.report(
                    Diagnostic::error(
                        &mistakes::TWO_LISTS,
                        second.span,
                        "two lists stand in one word",
                    )
                    .help("make one of them a single word, with `.first` or `.joined(\"…\")`"),
                );
                None
            }
            Err(shell::Refusal::Unsure(reference, why)) => {
                let written = vars.description.sources.slice(reference.span);
                vars.report(
                    Diagnostic::error(
                        &mistakes::UNCLEAR_QUOTING,
                        reference.span,
                        format!("how a shell reads `{written}` here can't be told for sure: {why}"),
                    )
                    .help(format!(
                        "put it into a variable of the shell first, `x={written}`, and use `\"$x\"` here; the prerequisites are `\"$@\"` of the script, the outputs stand in `$HANDLOOM_TARGET`"
                    )),
                );
                None
            }
        };
    }
    let mut text = String::new();
    for piece in &script.pieces {
        match piece {
            Piece::Text(piece) => text.push_str(piece),
            Piece::Var(reference) => {
                let value = vars.reference(reference, frame)?;
                if value.texts().any(secret::is_in) {
                    let program = interpreter.first().map_or("", String::as_str);
                    vars.report(
                        Diagnostic::error(
                            &mistakes::SECRET_IN_SCRIPT,
                            reference.span,
                            format!("a secret can't be put into a script of `{program}`, which is written down"),
                        )
                        .help(format!(
                            "give it through the environment: `env NAME = @{{{}}}` above the recipe",
                            reference.name.text
                        )),
                    );
                    return None;
                }
                text.push_str(&as_json(&value, reference.raw));
            }
        }
    }
    Some(text)
}

/// A word as a JSON string, a list as a JSON array; plain text when it is wanted raw.
fn as_json(value: &Value, raw: bool) -> String {
    let texts: Vec<&str> = value.texts().collect();
    if raw {
        return texts.join(" ");
    }
    let json = if value.list || texts.len() != 1 {
        serde_json::to_string(&texts)
    } else {
        serde_json::to_string(texts[0])
    };
    json.unwrap_or_default()
}
