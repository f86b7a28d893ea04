//! The line that is shown while a project is watched and nothing runs.
//!
//! ```text
//! watching  49 kept, 3 made at 12:04:31 · 31 sources · w weave now, s stop, q quit
//! ```

use std::cell::Cell;
use std::io;
use std::io::Write;

use handloom_core::scheduler::Summary;

use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::live::window;
use crate::ui::live_board::cut;
use crate::ui::style::Role;
use crate::ui::style::counts;
use crate::ui::text;

/// What became of the last run, and the line that tells it.
pub struct WatchStatus {
    ui: Ui,
    keys: bool,
    /// What became of the last run, in words, and whether it was good.
    state: (String, bool),
    shown: Cell<bool>,
    /// Without a terminal it is said once.
    said: Cell<bool>,
}

impl WatchStatus {
    /// Nothing ran yet. `keys` says whether keys are heard.
    pub fn new(ui: Ui, keys: bool) -> Self {
        Self {
            ui,
            keys,
            state: (String::new(), true),
            shown: Cell::new(false),
            said: Cell::new(false),
        }
    }

    /// A run is over.
    pub fn over(&mut self, summary: &Summary, causes: &[String]) {
        let bad: Vec<String> = counts(summary)
            .into_iter()
            .filter(|(_, role)| matches!(role, Role::Failed | Role::Held))
            .map(|(words, _)| words)
            .collect();
        let ran = summary.made + summary.same + summary.restored;
        let words = match (bad.is_empty(), ran, causes.first()) {
            (false, ..) => bad.join(", "),
            (true, 0, Some(path)) => format!("{} made no difference", text::safe(path)),
            (true, ..) => "up to date".to_owned(),
        };
        self.state = (format!("{words} at {}", text::clock()), bad.is_empty());
    }

    /// The description is wrong.
    pub fn broken(&mut self) {
        let words = format!("nothing can be woven since {}", text::clock());
        self.state = (words, false);
    }

    /// Shows the line; `sources` is how many files are watched.
    pub fn show(&self, sources: usize) {
        if self.ui.detail == Detail::Quiet {
            return;
        }
        let (words, good) = &self.state;
        let mut rest = match sources {
            0 => String::new(),
            _ => format!(" · {}", text::count(sources, "source")),
        };
        if self.keys {
            rest.push_str(" · w weave now, s stop, q quit");
        }
        if !self.ui.live {
            if !self.said.replace(true) {
                self.ui.say(&format!("watching{rest}\n"));
            }
            return;
        }
        let theme = self.ui.err;
        let width = window().0.saturating_sub(1);
        let role = if *good { Role::Made } else { Role::Failed };
        let words = cut(words, width.saturating_sub(10));
        let left = width.saturating_sub(10 + words.chars().count());
        let rest: String = rest.chars().take(left).collect();
        let line = format!(
            "\r\x1b[J{}  {}{}",
            theme.paint(Role::Name, "watching"),
            theme.paint(role, &words),
            theme.paint(Role::Faint, &rest)
        );
        self.shown.set(true);
        // That the terminal is gone is found by whoever prints a result.
        let _ = io::stderr().lock().write_all(line.as_bytes());
    }

    /// Takes the line away.
    pub fn clear(&self) {
        if self.shown.take() {
            let _ = io::stderr().lock().write_all(b"\r\x1b[J");
        }
    }
}
