//! How each source is compiled, as tools that read sources want to know it: a JSON compilation database, as Clang's
//! documentation describes it (JSONCompilationDatabase).
//!
//! Recipes for shells are read for calls of compilers; each gives an entry for each source that it names. What a shell would
//! only know when it runs (`$x`, patterns) is not worked out: such a call gives none.

use serde::Serialize;

use crate::executor::job::Job;
use crate::executor::job::JobRoom;
use crate::graph::Node;
use crate::graph::Order;
use crate::project::Project;
use crate::project::StepId;
use crate::project::secret;
use crate::project::values::Vars;
use crate::scheduler::JobBuilder;
use crate::scheduler::RecipeMode;

/// One source as one call compiles it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct CompileCommand {
    /// The folder that it is called in, absolute.
    pub directory: String,
    /// The source, as the call names it.
    pub file: String,
    /// The call's words.
    pub arguments: Vec<String>,
    /// What comes out, as the call names it; none when it says nothing of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub output: Option<String>,
}

/// The entries of all steps in an order, and how many calls of compilers could not be worked out.
#[must_use]
pub fn compile_commands<'d>(
    project: &Project<'d>,
    vars: &Vars<'d>,
    order: &Order,
) -> (Vec<CompileCommand>, usize) {
    let builder = JobBuilder {
        project,
        vars,
        is_to_run: false,
    };
    let root = vars.environment.root();
    let (mut found, mut unknown) = (Vec::new(), 0);
    for position in order.positions() {
        let Node::Step(step) = order.node(position).node(project) else {
            continue;
        };
        let Some(job) = compiling_job(&builder, step) else {
            continue;
        };
        let folder = format!("{root}/{}", job.folder);
        let directory = folder.trim_end_matches('/');
        for call in calls(&job.script) {
            match entries(&call, directory) {
                Some(entries) => found.extend(entries),
                None => unknown += 1,
            }
        }
    }
    (found, unknown)
}

/// A step's job, when its recipe is for a shell and may call a compiler.
fn compiling_job(builder: &JobBuilder<'_, '_>, step: StepId) -> Option<std::sync::Arc<Job>> {
    let job = builder.step(step, JobRoom::alone(), RecipeMode::Plain)?.job;
    let may_compile = job.shell
        && ["cc", "++", "clang"]
            .iter()
            .any(|part| job.script.contains(part));
    may_compile.then_some(job)
}

/// A word of a call.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct CallWord {
    text: String,
    /// Whether the shell would put something else in its place.
    is_open: bool,
}

/// The simple commands of a script, each as its words; what a here-document holds may be among them, and calls nothing.
fn calls(script: &str) -> Vec<Vec<CallWord>> {
    let mut calls = vec![Vec::new()];
    let mut word: Option<CallWord> = None;
    let mut chars = script.chars().peekable();
    let mut quote = None;
    while let Some(c) = chars.next() {
        match (quote, c) {
            (None, '\\') | (Some('"'), '\\') => match chars.next() {
                // The line goes on.
                Some('\n') | None => {}
                Some(escaped) => {
                    let kept = quote.is_some() && !matches!(escaped, '"' | '\\' | '$' | '`');
                    let word = word.get_or_insert_default();
                    word.text.extend(kept.then_some('\\'));
                    word.text.push(escaped);
                }
            },
            (Some(open), c) if c == open => quote = None,
            (None, '\'' | '"') => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (None | Some('"'), '$' | '`') | (None, '*' | '?' | '[' | '~') => {
                let word = word.get_or_insert_default();
                word.text.push(c);
                word.is_open = true;
            }
            (Some(_), c) => word.get_or_insert_default().text.push(c),
            (None, '#') if word.is_none() => while chars.next_if(|&c| c != '\n').is_some() {},
            (None, c) if c.is_whitespace() || ";&|()<>{}".contains(c) => {
                // `2>` speaks of a stream.
                let is_stream = |word: &CallWord| {
                    matches!(c, '<' | '>') && word.text.bytes().all(|byte| byte.is_ascii_digit())
                };
                if let Some(word) = word.take_if(|word| !is_stream(word))
                    && let Some(call) = calls.last_mut()
                {
                    call.push(word);
                }
                word = None;
                // What is written to a file or read from one is no word of the call.
                if matches!(c, '<' | '>') {
                    skip_target(&mut chars);
                } else if c == '\n' || ";&|(){}".contains(c) {
                    calls.push(Vec::new());
                }
            }
            (None, c) => word.get_or_insert_default().text.push(c),
        }
    }
    if let Some(word) = word
        && let Some(call) = calls.last_mut()
    {
        call.push(word);
    }
    calls.retain(|call| !call.is_empty());
    calls
}

/// Passes over the name behind a `<` or `>`.
fn skip_target(chars: &mut std::iter::Peekable<std::str::Chars<'_>>) {
    while chars
        .next_if(|&c| matches!(c, '<' | '>' | '&' | ' ' | '\t'))
        .is_some()
    {}
    while chars
        .next_if(|&c| !c.is_whitespace() && !";&|()<>".contains(c))
        .is_some()
    {}
}

/// The entries of a call of a compiler; none when it can't be worked out, and an empty list when it is none.
fn entries(call: &[CallWord], directory: &str) -> Option<Vec<CompileCommand>> {
    let Some(at) = call.iter().position(|word| is_compiler(&word.text)) else {
        return Some(Vec::new());
    };
    // In front of it stand variables of its environment, and programs that call it.
    let is_before = |word: &CallWord| {
        word.text.contains('=')
            || CALLERS.contains(&name_of(&word.text))
            || word.text.starts_with('-')
    };
    if !call[..at].iter().all(is_before) {
        return Some(Vec::new());
    }
    let words = &call[at..];
    let mut sources = Vec::new();
    let mut output = None;
    let mut words_left = words[1..].iter();
    while let Some(word) = words_left.next() {
        let text = word.text.as_str();
        if text == "-o" {
            output = words_left.next().map(|word| word.text.clone());
        } else if WITH_A_WORD.contains(&text) {
            words_left.next();
        } else if is_source(text) {
            sources.push(text.to_owned());
        }
    }
    if sources.is_empty() {
        return Some(Vec::new());
    }
    if words
        .iter()
        .any(|word| word.is_open || secret::is_in(&word.text))
    {
        return None;
    }
    let arguments: Vec<String> = words.iter().map(|word| word.text.clone()).collect();
    let entry = |file: String| CompileCommand {
        directory: directory.to_owned(),
        file,
        arguments: arguments.clone(),
        output: output.clone(),
    };
    Some(sources.into_iter().map(entry).collect())
}

/// Programs that call the one that is named behind them.
const CALLERS: [&str; 8] = [
    "env", "nice", "time", "exec", "command", "ccache", "distcc", "sccache",
];

/// Options of compilers behind which a word of their own stands.
const WITH_A_WORD: [&str; 12] = [
    "-MF",
    "-MT",
    "-MQ",
    "-include",
    "-imacros",
    "-isystem",
    "-iquote",
    "-idirafter",
    "-I",
    "-D",
    "-U",
    "-x",
];

fn name_of(word: &str) -> &str {
    word.rsplit('/').next().unwrap_or(word)
}

/// Whether a word names a compiler of C, C++ or Objective-C: also a cross-compiler, or one with its version.
fn is_compiler(word: &str) -> bool {
    let name = name_of(word);
    let name = name.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
    let name = name.strip_suffix('-').unwrap_or(name);
    ["cc", "gcc", "g++", "c++", "clang", "clang++"]
        .iter()
        .any(|known| {
            name == *known
                || name
                    .strip_suffix(known)
                    .is_some_and(|target| target.ends_with('-'))
        })
}

fn is_source(word: &str) -> bool {
    const ENDINGS: [&str; 12] = [
        "c", "cc", "cp", "cpp", "cxx", "c++", "C", "m", "mm", "cu", "S", "s",
    ];
    let ending = name_of(word).rsplit_once('.');
    !word.starts_with('-')
        && ending.is_some_and(|(stem, ending)| !stem.is_empty() && ENDINGS.contains(&ending))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(script: &str) -> Vec<(String, Option<String>, usize)> {
        let calls = calls(script);
        let entries = calls.iter().filter_map(|call| entries(call, "/p"));
        let entries = entries.flatten();
        entries
            .map(|entry| (entry.file, entry.output, entry.arguments.len()))
            .collect()
    }

    #[test]
    fn calls_of_compilers_are_found_in_scripts() {
        let one = |file: &str, output: &str, words| {
            vec![(file.to_owned(), Some(output.to_owned()), words)]
        };
        assert_eq!(of("cc -O2 -c a.c -o a.o"), one("a.c", "a.o", 6));
        assert_eq!(
            of(
                "mkdir -p x && LC_ALL=C ccache avr-gcc-12.2 '-DNAME=\"a b\"' -MF x.d -c \\\n  'a b.c' -o x/a.o 2>log; size x/a.o"
            ),
            one("a b.c", "x/a.o", 8)
        );
        assert_eq!(
            of("(cd sub; clang++-19 -std=c++20 -c -x c++ up.cpp -o up.o) > /dev/null").len(),
            1
        );
        // No compiler, no source, or what only the shell knows.
        for script in [
            "echo cc a.c",
            "cc a.o b.o -o ab",
            "cc -c $SOURCES -o a.o",
            "ccache --version",
            "# cc -c a.c",
        ] {
            assert_eq!(of(script), [], "{script}");
        }
        assert_eq!(entries(&calls("cc -c \"$x\" b.c")[0], "/p"), None);
    }
}
