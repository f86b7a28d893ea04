//! One small theme. The colours are the terminal's own sixteen, which its user has chosen to be
//! readable on their ground; no meaning rests on colour alone.

use anstyle::AnsiColor;
use anstyle::Style;

use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Summary;

/// Times of steps stand below each other behind names of up to so many characters.
pub const COLUMN: usize = 32;

/// What a text is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Went well.
    Made,
    /// Went well and changed nothing.
    Same,
    /// Went wrong.
    Failed,
    /// Could not be done, or was ended.
    Held,
    /// The name of a thing.
    Name,
    /// Less important.
    Faint,
    /// A title.
    Title,
    /// What to do.
    Help,
}

/// Whether and how to colour.
#[derive(Clone, Copy, Debug)]
pub struct Theme {
    /// Whether to use colours.
    pub colour: bool,
}

impl Theme {
    /// A text in the style of its role.
    pub fn paint(self, role: Role, text: &str) -> String {
        if !self.colour || text.is_empty() {
            return text.to_owned();
        }
        let style = match role {
            Role::Made => AnsiColor::Green.on_default().bold(),
            Role::Same => AnsiColor::Cyan.on_default(),
            Role::Failed => AnsiColor::Red.on_default().bold(),
            Role::Held => AnsiColor::Yellow.on_default(),
            Role::Name => Style::new().bold(),
            Role::Faint => Style::new().dimmed(),
            Role::Title => Style::new().bold().underline(),
            Role::Help => AnsiColor::Cyan.on_default().bold(),
        };
        format!("{}{text}{}", style.render(), style.render_reset())
    }

    /// The word of an ending in front of a step's name, in its style.
    pub fn ending_word(self, ending: Ending, word: &str) -> String {
        // The longest one takes one of the two columns behind it.
        let gap = if word.len() > 7 { " " } else { "  " };
        format!("{}{gap}", self.ending(ending, &format!("{word:>7}")))
    }

    /// The style of an ending.
    pub fn ending(self, ending: Ending, text: &str) -> String {
        let role = match ending {
            Ending::Made => Role::Made,
            Ending::Same | Ending::Restored => Role::Same,
            Ending::Kept => Role::Faint,
            Ending::Failed => Role::Failed,
            Ending::Held | Ending::Stopped => Role::Held,
        };
        self.paint(role, text)
    }
}

/// What an ending is called.
pub fn ending_name(ending: Ending, is_task: bool) -> &'static str {
    match ending {
        // A task makes nothing.
        Ending::Made if is_task => "done",
        ending => ending.name(),
    }
}

/// How many steps came to each ending, in words with their role; those that none came to are left out.
pub fn counts(summary: &Summary) -> Vec<(String, Role)> {
    let counts = [
        (summary.failed, "failed", Role::Failed),
        (summary.held, "held", Role::Held),
        (summary.stopped, "stopped", Role::Held),
        (summary.unstarted, "not begun", Role::Held),
        (
            summary.made - summary.tasks.min(summary.made),
            "made",
            Role::Made,
        ),
        (summary.tasks, "done", Role::Made),
        (summary.same, "same", Role::Same),
        (summary.restored, "restored", Role::Same),
        (summary.kept, "kept", Role::Faint),
    ];
    counts
        .into_iter()
        .filter(|(count, ..)| *count > 0)
        .map(|(count, word, role)| (format!("{count} {word}"), role))
        .collect()
}
