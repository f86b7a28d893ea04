//! The one way to the terminal: results to standard output, everything else to standard error.

pub mod diagnostics;
pub mod events;
pub mod failure_report;
mod folding;
pub mod keys;
pub mod live;
mod live_board;
pub mod reads;
pub mod report;
pub mod style;
pub mod text;
pub mod twice;
pub mod watch_status;

use std::io;
use std::io::IsTerminal;
use std::io::Write;

use handloom_core::text::Diagnostic;
use handloom_core::text::Sources;

use handloom_core::workspace::settings::RecipeColors;
use handloom_core::workspace::settings::Settings;

use crate::arguments::ColorChoice;
use crate::arguments::Common;
use crate::failure::CommandError;
use crate::ui::style::Role;
use crate::ui::style::Theme;

/// So far in stands what a job printed, in columns.
const INDENT: u16 = 12;

/// How much is said.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Detail {
    /// Nothing at all.
    Silent,
    /// Only what went wrong.
    Quiet,
    /// One line for each step that ran.
    Normal,
    /// Reasons and scripts too.
    Verbose,
}

/// How to speak to the user.
#[derive(Clone, Copy, Debug)]
pub struct Ui {
    /// How much is said.
    pub detail: Detail,
    /// Colours on standard output.
    pub out: Theme,
    /// Colours on standard error.
    pub err: Theme,
    /// Whether a run shows a block that changes, on standard error.
    pub live: bool,
}

impl Ui {
    /// Decides it all once, from the options and what the streams are.
    pub fn new(common: &Common) -> Self {
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
        let theme = |terminal: bool| Theme {
            colour: match common.color {
                ColorChoice::Always => true,
                ColorChoice::Never => false,
                ColorChoice::Auto => terminal && !no_color && !dumb,
            },
        };
        let in_ci = std::env::var_os("CI").is_some_and(|value| !value.is_empty());
        Self {
            live: io::stderr().is_terminal() && !dumb && !in_ci && !common.quiet,
            detail: match (common.quiet, common.verbose) {
                (true, _) => Detail::Quiet,
                (_, true) => Detail::Verbose,
                _ => Detail::Normal,
            },
            out: theme(io::stdout().is_terminal()),
            err: theme(io::stderr().is_terminal()),
        }
    }

    /// How wide the terminal is that recipes write to, so that they use their colours; none when they are to write to a
    /// pipe.
    pub fn recipe_columns(self, settings: &Settings) -> Option<u16> {
        let is_wanted = settings.recipe_colors.unwrap_or_default() == RecipeColors::Auto;
        let may_colour = is_wanted && self.out.colour && self.detail != Detail::Silent;
        // Some terminals do not know how wide they are.
        let columns = match rustix::termios::tcgetwinsize(io::stdout()).ok()?.ws_col {
            0 => 80,
            columns => columns,
        };
        // What is printed stands below the job's line, and further in.
        may_colour.then(|| columns.saturating_sub(INDENT).max(20))
    }

    /// Says nothing of its own accord.
    pub fn silent() -> Self {
        let plain = Theme { colour: false };
        Self {
            detail: Detail::Silent,
            out: plain,
            err: plain,
            live: false,
        }
    }

    /// Prints a result.
    pub fn print(self, text: &str) -> Result<(), CommandError> {
        let mut out = io::stdout().lock();
        out.write_all(text.as_bytes())?;
        Ok(out.flush()?)
    }

    /// The same with or without colours in what is printed.
    pub fn with_colour(self, colour: bool) -> Self {
        Self {
            out: Theme { colour },
            ..self
        }
    }

    /// Prints a value as JSON.
    pub fn print_json(self, value: &impl serde::Serialize) -> Result<(), CommandError> {
        self.print(&self.json(value)?)
    }

    /// A value as JSON, as it is printed.
    pub fn json(self, value: &impl serde::Serialize) -> Result<String, CommandError> {
        let text = serde_json::to_string_pretty(value)
            .map_err(|error| CommandError::io("can't write JSON", error.into()))?;
        Ok(format!("{}\n", text::shown_json(&text)))
    }

    /// Says something about the work on standard error. That nobody listens is no reason to stop.
    pub fn say(self, text: &str) {
        if self.detail == Detail::Silent {
            return;
        }
        let _ = io::stderr().lock().write_all(text.as_bytes());
    }

    /// Says what is wrong with a description.
    pub fn diagnostics(self, sources: &Sources, diagnostics: &[Diagnostic]) {
        self.say(&diagnostics::render(sources, diagnostics, self.err.colour));
    }

    /// Says why a command ended early.
    pub fn failure(self, failure: &CommandError) {
        self.say(&self.failure_text(failure));
    }

    /// Why a command ended early, as it is said.
    pub fn failure_text(self, failure: &CommandError) -> String {
        match failure {
            CommandError::Description(sources, diagnostics) => {
                diagnostics::render(sources, diagnostics, self.err.colour)
            }
            CommandError::Usage(what, None) | CommandError::Broken(what, None) => self.error(what),
            CommandError::Usage(what, Some(help)) => format!(
                "{}{} {}\n",
                self.error(what),
                self.err.paint(Role::Help, "help:"),
                text::safe_lines(help)
            ),
            CommandError::Broken(what, Some(error)) => {
                self.error(&format!("{what}: {}", plain_error(error)))
            }
            CommandError::OutputClosed => String::new(),
        }
    }

    fn error(self, what: &str) -> String {
        let error = self.err.paint(Role::Failed, "error:");
        format!("{error} {}\n", text::safe_lines(what))
    }
}

/// A system error without its number.
fn plain_error(error: &io::Error) -> String {
    let text = error.to_string();
    match text.rfind(" (os error ") {
        Some(at) => text[..at].to_lowercase(),
        None => text,
    }
}
