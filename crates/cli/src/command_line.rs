//! From what was typed to what is to be done.

use std::ffi::OsString;
use std::sync::OnceLock;

use clap::CommandFactory;
use clap::FromArgMatches;

use crate::arguments::Arguments;
use crate::arguments::definition;

/// The names of all commands, once they are known: to work them out takes as long as all else that opens a small project.
static NAMES: OnceLock<Vec<String>> = OnceLock::new();

/// The names of all commands.
pub fn command_names() -> Vec<String> {
    NAMES
        .get_or_init(|| names_of(&Arguments::command()))
        .clone()
}

fn names_of(command: &clap::Command) -> Vec<String> {
    let commands = command.get_subcommands();
    commands
        .flat_map(|command| {
            let aliases = command.get_all_aliases().map(str::to_owned);
            std::iter::once(command.get_name().to_owned()).chain(aliases)
        })
        .collect()
}

/// What was typed, program's name included; `weave` may be left out.
///
/// # Errors
/// What the parser says of it, also when that is help that was asked for.
pub fn parse(typed: Vec<OsString>) -> Result<Arguments, clap::Error> {
    if typed.len() <= 1 {
        // What is typed most often is not worth a parser, whose start takes longer than all else.
        return Ok(Arguments::bare());
    }
    // Examples are for who reads them.
    let is_asked = |word: &OsString| matches!(word.to_str(), Some("-h" | "--help" | "help"));
    let mut command = match typed.iter().any(is_asked) {
        true => definition(),
        false => Arguments::command(),
    };
    NAMES.get_or_init(|| names_of(&command));
    let words = with_command(&command, typed);
    let matches = command.try_get_matches_from_mut(words)?;
    Arguments::from_arg_matches(&matches).map_err(|error| error.format(&mut command))
}

/// Puts `weave` in front of names that are no command: `handloom out/a` means `handloom weave out/a`.
#[must_use]
fn with_command(command: &clap::Command, arguments: Vec<OsString>) -> Vec<OsString> {
    let takes_value = |written: &str| {
        let all = command.get_arguments().chain(
            command
                .get_subcommands()
                .filter(|sub| sub.get_name() == "weave")
                .flat_map(clap::Command::get_arguments),
        );
        let mut all = all;
        all.any(|argument| {
            let names = written == format!("--{}", argument.get_long().unwrap_or("\0"))
                || argument
                    .get_short()
                    .is_some_and(|short| written == format!("-{short}"));
            names && argument.get_action().takes_values()
        })
    };
    let mut at = 1;
    while at < arguments.len() {
        let text = arguments[at].to_string_lossy();
        if matches!(&*text, "-h" | "--help" | "-V" | "--version") {
            return arguments;
        }
        if text == "--" || !text.starts_with('-') || text == "-" {
            if command.get_subcommands().any(|sub| sub.get_name() == text) {
                return arguments;
            }
            if text == "help" {
                return as_help(arguments, at);
            }
            break;
        }
        at += if takes_value(&text) { 2 } else { 1 };
    }
    let mut with = arguments;
    with.insert(1.min(with.len()), OsString::from("weave"));
    with
}

/// `handloom help` and `handloom help COMMAND` are `--help`.
fn as_help(mut arguments: Vec<OsString>, at: usize) -> Vec<OsString> {
    arguments.remove(at);
    arguments.truncate(at + 1);
    arguments.push(OsString::from("--help"));
    arguments
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    fn typed(line: &str) -> String {
        let words = line.split(' ').map(OsString::from).collect();
        let words: Vec<String> = with_command(&Arguments::command(), words)
            .into_iter()
            .map(|word| word.into_string().unwrap())
            .collect();
        words.join(" ")
    }

    #[test]
    fn weave_is_put_in_front_of_names() {
        assert_eq!(typed("handloom"), "handloom weave");
        assert_eq!(typed("handloom out/a"), "handloom weave out/a");
        assert_eq!(typed("handloom -j 4 list"), "handloom -j 4 list");
        assert_eq!(typed("handloom -j 4 lists"), "handloom weave -j 4 lists");
        assert_eq!(
            typed("handloom --let a=b --quiet"),
            "handloom weave --let a=b --quiet"
        );
        assert_eq!(typed("handloom --help"), "handloom --help");
        assert_eq!(typed("handloom -- list"), "handloom weave -- list");
        assert_eq!(typed("handloom help"), "handloom --help");
        assert_eq!(typed("handloom help clean"), "handloom clean --help");
    }

    #[test]
    fn nothing_typed_means_what_the_parser_says() {
        let parsed = Arguments::try_parse_from(["handloom", "weave"]).unwrap();
        let bare = parse(vec!["handloom".into()]).unwrap();
        assert_eq!(format!("{bare:?}"), format!("{parsed:?}"));
    }

    #[test]
    fn the_definitions_are_consistent() {
        Arguments::command().debug_assert();
    }
}
