//! The values that a task is run with: what is typed, bound to its parameters, and what recipes see of it.

use std::collections::BTreeMap;
use std::fmt::Write;

use crate::language::Parameter;
use crate::language::is_name;
use crate::project::decl::TaskDecl;
use crate::project::frame::Frame;
use crate::project::shell;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;
use crate::text::nearest;

/// The arguments that a task is run with.
#[derive(
    Clone,
    Debug,
    Default,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    serde::Serialize,
    serde::Deserialize,
)]
pub struct TaskCall {
    /// Values of parameters, by name; the one that takes the rest may have several, or none.
    pub values: BTreeMap<String, Vec<String>>,
    /// Words after `--`.
    pub extra: Vec<String>,
}

/// Why words can't be bound to a task's parameters.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{title}")]
pub struct CallError {
    /// What is wrong.
    pub title: String,
    /// What was meant perhaps.
    pub near: Option<String>,
}

impl CallError {
    fn new(title: String) -> Self {
        let near = None;
        Self { title, near }
    }
}

impl TaskCall {
    /// Binds words to a task's parameters, in order or as `name=value`.
    ///
    /// # Errors
    /// When there are too many or too few, or one may not be what it is.
    pub fn bind(vars: &Vars<'_>, decl: &TaskDecl<'_>, words: &[String]) -> Result<Self, CallError> {
        let parameters = &decl.syntax.parameters;
        let mut call = Self::default();
        for word in words {
            let (name, value) = call.parameter_of(decl, word)?;
            if let Some(parameter) = parameters.iter().find(|known| *known.name.text == *name) {
                check_choice(vars, decl, parameter, &value)?;
                if parameter.rest {
                    call.values.entry(name).or_default().push(value);
                    continue;
                }
            }
            if call.values.insert(name.clone(), vec![value]).is_some() {
                return Err(CallError::new(format!("`{name}` is given twice")));
            }
        }
        match call.missing(decl).first() {
            None => Ok(call),
            Some(missing) => Err(CallError::new(format!(
                "`{}` needs a value for `{missing}`",
                decl.name
            ))),
        }
    }

    /// The parameter that a word is for, and its value.
    fn parameter_of(&self, decl: &TaskDecl<'_>, word: &str) -> Result<(String, String), CallError> {
        let parameters = &decl.syntax.parameters;
        let names = || parameters.iter().map(|parameter| &*parameter.name.text);
        if let Some((name, value)) = word.split_once('=')
            && names().any(|known| known == name)
        {
            return Ok((name.to_owned(), value.to_owned()));
        }
        if let Some((name, _)) = word.split_once('=')
            && is_name(name)
            && let Some(near) = nearest(name, names())
        {
            return Err(CallError {
                title: format!("`{}` has no parameter `{name}`", decl.name),
                near: Some(format!("{near}=…")),
            });
        }
        let is_free = |parameter: &&Parameter| {
            parameter.rest || !self.values.contains_key(&*parameter.name.text)
        };
        match parameters.iter().find(is_free) {
            Some(next) => Ok((next.name.text.to_string(), word.to_owned())),
            None => Err(CallError::new(format!(
                "`{word}` is one value too many for `{}`",
                decl.name
            ))),
        }
    }

    /// The parameters that must be given and are not.
    #[must_use]
    pub fn missing<'d>(&self, decl: &TaskDecl<'d>) -> Vec<&'d str> {
        let parameters = decl.syntax.parameters.iter();
        let missing = parameters
            .filter(|parameter| parameter.is_required())
            .map(|parameter| &*parameter.name.text)
            .filter(|name| !self.values.contains_key(*name));
        missing.collect()
    }

    /// A call as it is typed behind a task's name: `spring channel=final`.
    #[must_use]
    pub fn written(&self, decl: &TaskDecl<'_>) -> String {
        let mut out = String::new();
        let mut in_order = true;
        for parameter in &decl.syntax.parameters {
            let name = &*parameter.name.text;
            let Some(values) = self.values.get(name) else {
                in_order = false;
                continue;
            };
            for value in values {
                let named = match in_order && !value.contains('=') {
                    true => shell::quote(value).clone(),
                    false => format!("{name}={}", shell::quote(value)),
                };
                let _ = write!(out, " {named}");
            }
        }
        out
    }
}

/// Refuses a value that is none of a parameter's words.
fn check_choice(
    vars: &Vars<'_>,
    decl: &TaskDecl<'_>,
    parameter: &Parameter,
    value: &str,
) -> Result<(), CallError> {
    let choices = choices(vars, decl, parameter);
    if choices.is_empty() || choices.iter().any(|choice| choice == value) {
        return Ok(());
    }
    let name = &parameter.name.text;
    let near = nearest(value, choices.iter().map(String::as_str));
    Err(CallError {
        title: format!(
            "`{name}` is one of {}, and not `{value}`",
            choices.join(", ")
        ),
        near: near.map(|near| format!("{name}={near}")),
    })
}

/// The words that a parameter may be; none when it may be any.
#[must_use]
pub fn choices(vars: &Vars<'_>, decl: &TaskDecl<'_>, parameter: &Parameter) -> Vec<String> {
    let frame = Frame::of(decl.part);
    let words = vars
        .words(&parameter.choices, &frame)
        .filter(|_| !parameter.choices.is_empty());
    words.map_or_else(Vec::new, |words| words.texts().map(str::to_owned).collect())
}

/// What is said of a task that is to run without a value that it needs.
#[must_use]
pub fn needs_value(vars: &Vars<'_>, decl: &TaskDecl<'_>, missing: &str) -> Diagnostic {
    let parameters = decl.syntax.parameters.iter();
    let mut parameters = parameters.filter(|parameter| &*parameter.name.text == missing);
    let span = parameters
        .next()
        .map_or(decl.syntax.span, |parameter| parameter.name.span);
    Diagnostic::error(
        &mistakes::UNFIT_CALL,
        span,
        format!("the task `{}` needs a value for `{missing}`", decl.name),
    )
    .help(format!("give it: `handloom run {}`", usage(vars, decl)))
}

/// A task's name and parameters as they are typed: `publish EDITION [channel=draft]`.
#[must_use]
pub fn usage(vars: &Vars<'_>, decl: &TaskDecl<'_>) -> String {
    let mut usage = decl.name.clone();
    for parameter in &decl.syntax.parameters {
        let name = &parameter.name.text;
        let choices = choices(vars, decl, parameter);
        match &parameter.default {
            Some(default) => {
                let value = vars.word(default, &Frame::of(decl.part));
                let value = match &value {
                    Some(value) => shell::quote_all(value.texts()),
                    None => vars.description.sources.slice(default.span).to_owned(),
                };
                let _ = write!(usage, " [{name}={value}]");
            }
            None if parameter.rest => {
                let _ = write!(usage, " [{}…]", name.to_uppercase());
            }
            None if !choices.is_empty() => {
                let _ = write!(usage, " [{name}={}]", choices.join("|"));
            }
            None => {
                let _ = write!(usage, " {}", name.to_uppercase());
            }
        }
    }
    usage
}
