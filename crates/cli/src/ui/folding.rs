//! Lines of steps that had nothing to say: of very many of one description the rest is counted.

use std::collections::HashMap;
use std::time::Duration;

use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Ending;
use handloom_core::text::Sources;
use handloom_core::text::Span;

use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// So many lines of one description are printed.
pub const MOST: usize = 200;

/// What of a run is counted instead of printed.
#[derive(Default)]
pub struct FoldedLines {
    folds: Vec<Fold>,
    known: HashMap<Span, usize>,
}

/// The steps of one description.
struct Fold {
    described: Span,
    printed: usize,
    /// How many came to each ending without a line, and how long these took together.
    counted: Vec<(Ending, usize, Duration)>,
}

impl FoldedLines {
    /// Whether a step without a word is counted, and its line is not printed.
    pub fn takes(&mut self, ended: &Ended) -> bool {
        if ended.task || !ended.ending.is_good() || !ended.output.is_empty() {
            return false;
        }
        let next = self.folds.len();
        let at = *self.known.entry(ended.described).or_insert(next);
        if at == next {
            self.folds.push(Fold {
                described: ended.described,
                printed: 0,
                counted: Vec::new(),
            });
        }
        let fold = &mut self.folds[at];
        if fold.printed < MOST {
            fold.printed += 1;
            return false;
        }
        let known = fold
            .counted
            .iter_mut()
            .find(|(ending, ..)| *ending == ended.ending);
        match known {
            Some((_, count, took)) => {
                *count += 1;
                *took += ended.took;
            }
            None => fold.counted.push((ended.ending, 1, ended.took)),
        }
        true
    }

    /// A line for each description and ending of which steps were counted.
    pub fn lines(&self, sources: &Sources, theme: Theme) -> String {
        let mut lines = String::new();
        for fold in &self.folds {
            for &(ending, count, took) in &fold.counted {
                let mut words = sources.slice(fold.described).split_whitespace();
                // Its keyword.
                words.next();
                let name = words.collect::<Vec<_>>().join(" ");
                let rest = format!("  and {count} more, {} together", text::seconds(took));
                lines.push_str(&format!(
                    "{}{}{}\n",
                    theme.ending_word(ending, ending.name()),
                    theme.paint(Role::Name, &text::safe(&name)),
                    theme.paint(Role::Faint, &rest)
                ));
            }
        }
        lines
    }
}
