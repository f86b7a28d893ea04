//! Variables of a description as variables of a shell script.
//!
//! A single word is put in as secrets are: the shell looks it up where it stands, quoted as its place asks. A list is one
//! variable that the shell splits, which is only done where every word of it is plain and the script reads the same then.

use std::collections::BTreeMap;

use crate::executor::job::JobRoom;
use crate::project::StepId;
use crate::project::secret;
use crate::project::shell;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::scheduler::JobBuilder;

/// What lists are called while they are put in; no variable of a shell is.
const LIST: &str = "list of ";

/// What the script calls something of its own.
const OWN_NAMES: [&str; 4] = ["script_root", "script_folder", "made_now", "recipe_ended"];

/// The variables that a script has at its top.
#[derive(Default)]
pub struct ShellVariables {
    /// Their names in the script, in the order of their first use, each with its text for a shell.
    pub used: Vec<(String, String)>,
    /// The name that a value of a variable has in the script.
    names: BTreeMap<(String, String), String>,
    /// Names that recipes use for something of their own.
    taken: Vec<String>,
    /// The project's folder, which is another one where the script runs.
    root: String,
}

/// What a variable holds.
#[derive(Clone, Copy, PartialEq, Eq)]
enum VariableKind {
    Word,
    List,
}

/// A variable in a script that is being put together.
struct StandIn {
    name: String,
    text: String,
    is_list: bool,
}

impl ShellVariables {
    /// None yet, in the project in a folder; recipes have these scripts, whose own variables must stay theirs.
    pub fn beside(scripts: &[&str], root: String) -> Self {
        let mut taken: Vec<String> = scripts
            .iter()
            .flat_map(|script| own_names(script))
            .collect();
        taken.extend(OWN_NAMES.map(str::to_owned));
        taken.sort_unstable();
        taken.dedup();
        Self {
            taken,
            root,
            ..Self::default()
        }
    }

    /// A step's script with variables looked up by the shell where that comes to the same as `plain`, the script with all
    /// values put in.
    pub fn script(
        &mut self,
        builder: &JobBuilder<'_, '_>,
        step: StepId,
        plain: &str,
    ) -> Option<String> {
        let mut lists: Vec<StandIn> = Vec::new();
        let with_lists = self.rendered(builder, step, &mut lists, &[VariableKind::List]);
        let with_words = with_lists.map(|script| put_in(&script, &lists));
        // Where a list stands inside of a word, or of quotes, it comes to something else.
        // Where the script says what separates words, a list is split otherwise.
        let lists_fit = with_words.as_deref() == Some(plain) && !plain.contains("IFS");
        let kinds: &[VariableKind] = if lists_fit {
            &[VariableKind::List, VariableKind::Word]
        } else {
            &[VariableKind::Word]
        };
        let mut both: Vec<StandIn> = Vec::new();
        let script = self.rendered(builder, step, &mut both, kinds)?;
        let named: Vec<StandIn> = both
            .into_iter()
            .map(|one| StandIn {
                text: format!("${}", one.name),
                ..one
            })
            .collect();
        let mut script = put_in(&script, &named);
        for one in named.iter().filter(|one| !one.is_list) {
            // Nothing in it can be read otherwise, and it is easier on the eye.
            script = script.replace(
                &format!("\"${{{}}}\"", one.name),
                &format!("\"${}\"", one.name),
            );
        }
        Some(script)
    }

    /// A step's script with what stands for variables of these kinds.
    fn rendered(
        &mut self,
        builder: &JobBuilder<'_, '_>,
        step: StepId,
        stand_ins: &mut Vec<StandIn>,
        kinds: &[VariableKind],
    ) -> Option<String> {
        let mut stand_in = |name: &str, value: &Value| self.stand_in(name, value, kinds, stand_ins);
        checked(builder.vars, || {
            builder.step_script(step, JobRoom::alone(), &mut stand_in)
        })
    }

    /// What stands for a variable, when it is of one of the wanted kinds.
    fn stand_in(
        &mut self,
        name: &str,
        value: &Value,
        kinds: &[VariableKind],
        stand_ins: &mut Vec<StandIn>,
    ) -> Option<Value> {
        let words: Vec<&str> = value.texts().collect();
        let is_list = value.list || words.len() != 1;
        let kind = if is_list {
            VariableKind::List
        } else {
            VariableKind::Word
        };
        if !kinds.contains(&kind) || words.iter().any(|word| secret::is_in(word)) {
            return None;
        }
        let text = if is_list {
            let are_plain = words.iter().all(|word| is_plain(word));
            if words.is_empty() || !are_plain {
                return None;
            }
            words.join(" ")
        } else {
            (*words.first()?).to_owned()
        };
        let name = self.name(name, &text);
        let placeholder = if is_list {
            secret::placeholder(&format!("{LIST}{name}"))
        } else {
            secret::placeholder(&name)
        };
        stand_ins.push(StandIn {
            name,
            text,
            is_list,
        });
        Some(Value::word(placeholder))
    }

    /// What a variable with this value is called in the script. Two parts may have one of the same name.
    fn name(&mut self, name: &str, text: &str) -> String {
        let key = (name.to_owned(), text.to_owned());
        if let Some(known) = self.names.get(&key) {
            return known.clone();
        }
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '_' };
        let mut own: String = name.chars().map(plain).collect();
        // Others may be set in the environment of whoever runs it, and would be changed there.
        let is_own = own.starts_with(|c: char| c.is_ascii_lowercase()) && !own.ends_with("_proxy");
        if !is_own {
            own = format!("loom_{own}");
        }
        let is_free = |name: &String| {
            !self.taken.contains(name) && self.used.iter().all(|(used, _)| used != name)
        };
        let mut candidates =
            std::iter::once(own.clone()).chain((2..).map(|number| format!("loom_{own}_{number}")));
        let free = candidates.find(is_free).unwrap_or(own);
        self.used.push((free.clone(), below(&self.root, text)));
        self.names.insert(key, free.clone());
        free
    }

    /// Leaves those out that no script came to use.
    pub fn retain_used(&mut self, scripts: &str) {
        self.used.retain(|(name, _)| {
            scripts.contains(&format!("${name}")) || scripts.contains(&format!("${{{name}}}"))
        });
    }
}

/// A value for a shell that is called in the project's folder, wherever that is.
pub fn below(root: &str, text: &str) -> String {
    match text.strip_prefix(root) {
        Some("") => "\"$PWD\"".to_owned(),
        Some(rest) if rest.starts_with('/') => format!("\"$PWD\"{}", shell::quote(rest)),
        _ => shell::quote(text),
    }
}

/// A script that is tried: what is wrong with it is no mistake of the description.
fn checked(vars: &Vars<'_>, render: impl FnOnce() -> Option<String>) -> Option<String> {
    let before = vars.take_diagnostics();
    let script = render();
    drop(vars.take_diagnostics());
    for diagnostic in before {
        vars.report(diagnostic);
    }
    script
}

/// Puts the text of each list where it stands, in whichever quotes.
fn put_in(script: &str, stand_ins: &[StandIn]) -> String {
    let mut script = script.to_owned();
    for list in stand_ins.iter().filter(|one| one.is_list) {
        let looked_up = format!("${{{LIST}{}}}", list.name);
        script = script.replace(&format!("\"{looked_up}\""), &list.text);
        script = script.replace(&looked_up, &list.text);
    }
    script
}

/// Whether a shell leaves a word as it is that it splits a variable into.
fn is_plain(word: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-./:@%+=,^".contains(c);
    !word.is_empty() && word.chars().all(plain)
}

/// The names of variables that a script has of its own, as far as they are written plainly.
fn own_names(script: &str) -> Vec<String> {
    let is_part = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let mut names = Vec::new();
    let mut rest = script;
    while let Some(at) = rest.find(|c: char| c.is_ascii_alphabetic() || c == '_') {
        let before = rest[..at].chars().next_back();
        let word = &rest[at..];
        let end = word.find(|c| !is_part(c)).unwrap_or(word.len());
        let (word, behind) = word.split_at(end);
        let is_looked_up = matches!(before, Some('$' | '{'));
        let is_set = behind.starts_with('=') || behind.starts_with("+=");
        if is_looked_up || is_set {
            names.push(word.to_owned());
        }
        // What `read`, `for` and `getopts` name, wherever it stands behind them.
        if ["for", "read", "getopts", "export", "local", "unset"].contains(&word) {
            let line = behind.split(['\n', ';', '&', '|', '<', '>']).next();
            let line = line.unwrap_or_default();
            let words = line.split(|c| !is_part(c)).filter(|word| !word.is_empty());
            names.extend(words.map(str::to_owned));
        }
        rest = behind;
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_scripts_own_names_are_found() {
        let found =
            own_names("for f in a; do x=1; echo $y ${z-} \"$f\"; done; read -r line rest; cc -o x");
        for name in ["f", "x", "y", "z", "line", "rest"] {
            assert!(found.contains(&name.to_owned()), "{name}: {found:?}");
        }
        assert!(!found.contains(&"cc".to_owned()));
    }
}
