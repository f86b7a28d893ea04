//! A recipe as a text to be compared: what is the same for all steps of a target is put in, and what differs
//! is left as written, so that a target with 100,000 steps has one text.

use crate::language::LearnHow;
use crate::language::Piece;
use crate::language::Script;
use crate::language::SealHow;
use crate::language::VarRef;
use crate::language::Word;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::frame::Frame;
use crate::project::model::Project;
use crate::project::model::TaskNode;
use crate::project::script::interpreter;
use crate::project::script::render;
use crate::project::script::run_folder;
use crate::project::shell;
use crate::project::task_call::TaskCall;
use crate::project::task_frame::task_frame;
use crate::project::value::Value;
use crate::project::values::Vars;
use std::fmt::Write;

impl<'d> Decl<'d> {
    /// Whether a name stands for something else in each step.
    fn is_left(&self, name: &str) -> bool {
        matches!(name, "needs" | "target" | "learn")
            || self.name_varies(name)
            || self.is_label(name)
    }

    fn is_label(&self, name: &str) -> bool {
        self.labels().any(|label| label == name)
    }

    fn labels(&self) -> impl Iterator<Item = &str> {
        self.syntax
            .outputs
            .iter()
            .chain(self.clauses.needs.iter().copied())
            .filter_map(|group| group.label.as_ref())
            .map(|label| &*label.text)
    }

    /// The text that is compared with the last run's; `None` when something in it is wrong.
    pub fn recipe_text(&self, vars: &Vars<'d>) -> Option<String> {
        let mut frame = self.fixed_frame();
        vars.set_cores_left(&mut frame);
        let script = self.clauses.recipe?;
        let mut recipe_text = begin_recipe_text(&interpreter(vars, script, &frame)?);
        if let Some(word) = self.clauses.folder {
            line(
                &mut recipe_text,
                "in",
                &self.words_text(vars, std::slice::from_ref(word), &frame)?,
            );
        }
        let mut inherited = vars.inherited_env(&frame)?;
        let own = |name: &str| self.clauses.env.iter().any(|(own, _)| &*own.text == name);
        inherited.retain(|variable| !own(&variable.name));
        for variable in vars.env_lines(&inherited) {
            line(&mut recipe_text, "env", &variable);
        }
        if !self.clauses.env_files.is_empty() {
            self.file_env_text(vars, &mut recipe_text)?;
        }
        for (name, words) in &self.clauses.env {
            let words = self.words_text(vars, words, &frame)?;
            line(&mut recipe_text, "env", &format!("{} = {words}", name.text));
        }
        if let Some((how, file)) = self.clauses.learn {
            let how = match how {
                LearnHow::Listing => "listing",
                LearnHow::Lines => "lines",
                LearnHow::Watched => "watched",
                LearnHow::WatchedEverywhere => "watched everywhere",
            };
            let file = match file {
                Some(word) => self.words_text(vars, std::slice::from_ref(word), &frame)?,
                None => String::new(),
            };
            line(
                &mut recipe_text,
                "learn",
                format!("{how} {file}").trim_end(),
            );
        }
        match self.clauses.sealed {
            Some(SealHow::Plainly) => line(&mut recipe_text, "sealed", "plainly"),
            Some(SealHow::Strictly) => line(&mut recipe_text, "sealed", "strictly"),
            None => {}
        }
        let labels: Vec<&str> = self.labels().collect();
        if !labels.is_empty() {
            line(&mut recipe_text, "labels", &labels.join(" "));
        }
        recipe_text.push_str("recipe:\n");
        recipe_text.push_str(&self.script_text(vars, script, &frame)?);
        if let Some(finally) = self.clauses.finally {
            recipe_text.push_str("\nfinally:\n");
            recipe_text.push_str(&self.script_text(vars, finally, &frame)?);
        }
        vars.compared(recipe_text, script.span)
    }

    /// What its own files of variables say.
    fn file_env_text(&self, vars: &Vars<'d>, recipe_text: &mut String) -> Option<()> {
        let mut only_files = Clauses::default();
        only_files.env_files.clone_from(&self.clauses.env_files);
        let mut frame = self.fixed_frame();
        vars.set_cores_left(&mut frame);
        let mut all = vars.recipe_env(&only_files, &frame)?;
        all.retain(|variable| variable.is_private);
        for variable in vars.env_lines(&all) {
            line(recipe_text, "env", &variable);
        }
        Some(())
    }

    fn script_text(&self, vars: &Vars<'d>, script: &Script, frame: &Frame<'_>) -> Option<String> {
        let mut text = String::new();
        for piece in &script.pieces {
            match piece {
                Piece::Text(piece) => text.push_str(piece),
                Piece::Var(reference) => text.push_str(&self.var_text(vars, reference, frame)?),
            }
        }
        Some(text)
    }

    fn var_text(&self, vars: &Vars<'d>, reference: &VarRef, frame: &Frame<'_>) -> Option<String> {
        if self.is_left(&reference.name.text) {
            return Some(vars.description.sources.slice(reference.span).to_owned());
        }
        let value = vars.reference(reference, frame)?;
        Some(shell::quote_all(value.texts()))
    }

    fn words_text(&self, vars: &Vars<'d>, words: &[Word], frame: &Frame<'_>) -> Option<String> {
        let mut out = Vec::new();
        for word in words {
            if crate::language::word_names(word).any(|name| self.is_left(name)) {
                out.push(vars.description.sources.slice(word.span).to_owned());
            } else {
                let value = vars.word(word, frame)?;
                out.extend(value.atoms.iter().map(|atom| shell::quote(&atom.text)));
            }
        }
        Some(out.join(" "))
    }

    /// Whether what is compared depends on a hole's value: outputs and prerequisites are compared on their
    /// own.
    pub(crate) fn uses_hole(&self, vars: &Vars<'d>, hole: &str) -> bool {
        if self.uses(hole) {
            return true;
        }
        let written = format!("<{hole}");
        let learn = self.clauses.learn.and_then(|(_, file)| file);
        let mut words = self.clauses.folder.into_iter().chain(learn);
        words.any(|word| vars.description.sources.slice(word.span).contains(&written))
    }

    /// Whether a hole is part of an output's name, so that another value is another step.
    pub(crate) fn names_output(&self, vars: &Vars<'d>, hole: &str) -> bool {
        let (plain, put_in) = (format!("<{hole}"), format!("@{{{hole}"));
        let mut words = self.syntax.outputs.iter().flat_map(|group| &group.items);
        words.any(|item| {
            let written = vars.description.sources.slice(item.word.span);
            written.contains(&plain) || written.contains(&put_in)
        })
    }

    /// Writes down the values that differ from step to step: part of what is compared.
    pub fn parameters<'v>(
        &self,
        vars: &Vars<'d>,
        values: impl Iterator<Item = &'v str> + Clone,
        out: &mut String,
    ) -> Option<()> {
        let used = self.used_holes.get_or_init(|| {
            let used = self.holes.iter().map(|hole| self.uses_hole(vars, hole));
            used.collect()
        });
        for ((hole, value), used) in self.holes.iter().zip(values.clone()).zip(used) {
            if !used {
                continue;
            }
            for piece in [hole.as_str(), " = ", value, "\n"] {
                out.push_str(piece);
            }
        }
        if !self.varying.is_empty() {
            let values: Vec<&str> = values.collect();
            let frame = self.frame(vars, &values)?;
            let used = self.varying.iter().filter(|own| self.uses(&own.name.text));
            for definition in used {
                let name = &*definition.name.text;
                if let Some(value) = frame.local(name) {
                    let value = shell::quote_all(value.texts());
                    let value = vars.compared(value, definition.span)?;
                    line(out, name, &format!("= {value}"));
                }
            }
        }
        Some(())
    }
}

/// The first line of a recipe text: the interpreter.
fn begin_recipe_text(interpreter: &[String]) -> String {
    let mut recipe_text = String::new();
    let words = shell::quote_all(interpreter.iter().map(String::as_str));
    line(&mut recipe_text, "with", &words);
    recipe_text
}

fn line(recipe_text: &mut String, keyword: &str, rest: &str) {
    let _ = writeln!(recipe_text, "{keyword} {rest}");
}

/// What of a remembered task is compared with the last run: its script with variables and arguments
/// put in, prerequisites left as written.
pub fn task_recipe_text<'d>(
    vars: &Vars<'d>,
    project: &Project<'d>,
    task: &TaskNode<'d>,
) -> Option<String> {
    let decl = &task.decl;
    let script = decl.clauses.recipe?;
    let mut frame = task_frame(vars, project, task)?;
    let labels = decl
        .clauses
        .needs
        .iter()
        .filter_map(|group| group.label.as_ref());
    for name in labels.map(|label| &*label.text).chain(["needs"]) {
        frame.set(name, Value::word(format!("@{{{name}}}")));
    }
    vars.set_cores_left(&mut frame);
    let interpreter = interpreter(vars, script, &frame)?;
    let mut recipe_text = begin_recipe_text(&interpreter);
    line(
        &mut recipe_text,
        "in",
        &run_folder(vars, decl.clauses.folder, &frame)?,
    );
    let env = vars.recipe_env(&decl.clauses, &frame)?;
    for variable in vars.env_lines(&env) {
        line(&mut recipe_text, "env", &variable);
    }
    recipe_text.push_str("recipe:\n");
    recipe_text.push_str(&render(vars, script, &frame, &interpreter)?);
    if let Some(finally) = decl.clauses.finally {
        recipe_text.push_str("\nfinally:\n");
        recipe_text.push_str(&render(vars, finally, &frame, &interpreter)?);
    }
    vars.compared(recipe_text, script.span)
}

/// The arguments of a task, as text: part of what is compared.
#[must_use]
pub fn task_parameters(call: &TaskCall) -> String {
    let mut text = String::new();
    for (name, value) in &call.values {
        let value = shell::quote_all(value.iter().map(String::as_str));
        line(&mut text, name, &format!("= {value}"));
    }
    if !call.extra.is_empty() {
        let extra = shell::quote_all(call.extra.iter().map(String::as_str));
        line(&mut text, "extra", &format!("= {extra}"));
    }
    text
}
