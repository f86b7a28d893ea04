//! What words, operators and brackets mean where a shell reads commands.

use crate::project::shell::here_document::EndWord;
use crate::project::shell::level::CasePart;
use crate::project::shell::level::Level;
use crate::project::shell::level::ShellKind;
use crate::project::shell::lexer::ShellLexer;
use crate::project::shell::lexer::ShellStep;

impl ShellLexer {
    pub(super) fn arithmetic(&mut self, c: char) {
        match c {
            ')' if self.level().half_closed => self.close(),
            c if self.level().half_closed => {
                // A single one says that these were two brackets: `$( (…) … )`.
                let in_word = self.level().in_word;
                *self.level() = Level::of(ShellKind::Paren);
                self.level().in_word = in_word;
                self.level().at_command = false;
                self.commands(c);
            }
            '(' if self.dollar => self.open_substitution(),
            '(' => self.level().brackets += 1,
            ')' if self.level().brackets > 0 => self.level().brackets -= 1,
            ')' => self.level().half_closed = true,
            c => {
                self.substitution(c);
            }
        }
    }

    pub(super) fn commands(&mut self, c: char) -> ShellStep {
        let level = self.level();
        if c == '(' && level.kind == ShellKind::Paren && level.in_word && level.is_fresh {
            // `$((`: the first bracket opened commands.
            *level = Level::of(ShellKind::Arithmetic);
            level.in_word = true;
            return ShellStep::Word;
        }
        if self.substitution(c) {
            if !matches!(
                self.kind(),
                ShellKind::Paren | ShellKind::Brace | ShellKind::Back
            ) {
                self.word = None;
            }
            self.in_word |= self.escaped;
            return ShellStep::Word;
        }
        match c {
            '\'' if self.dollar => self.open_quote(ShellKind::Ansi),
            '\'' => self.open_quote(ShellKind::Single),
            '"' => self.open_quote(ShellKind::Double),
            '#' if !self.in_word => {
                self.levels.push(Level::of(ShellKind::Comment));
            }
            '\n' => return self.newline(),
            '<' if self.before[1] == '<' && self.before[0] != '<' => {
                self.end_of_word();
                self.end_word = Some(EndWord {
                    text: String::new(),
                    strip_tabs: false,
                    quoted: false,
                    quote: None,
                    escaped: false,
                    begun: false,
                });
                return ShellStep::Delimiter;
            }
            '(' | ')' => return self.bracket(c),
            ' ' | '\t' => {
                self.end_of_word();
                return ShellStep::Delimiter;
            }
            ';' | '&' | '|' => {
                self.end_of_word();
                self.separator(c);
                return ShellStep::Delimiter;
            }
            '<' | '>' => {
                self.end_of_word();
                return ShellStep::Delimiter;
            }
            c => {
                if let Some(word) = &mut self.word {
                    word.push(c);
                }
                self.in_word = true;
            }
        }
        ShellStep::Word
    }

    pub(super) fn separator(&mut self, c: char) {
        let ends_item = matches!(c, ';' | '&') && self.before[1] == ';';
        let level = self.level();
        match level.cases.last_mut() {
            Some(case @ CasePart::Body) if ends_item => *case = CasePart::Pattern(0),
            Some(CasePart::Pattern(_) | CasePart::Opened(_)) if c == '|' => return,
            _ => {}
        }
        level.at_command = true;
    }

    pub(super) fn bracket(&mut self, c: char) -> ShellStep {
        let begun = self.in_word;
        let at_command = self.level().at_command;
        if let Some(case @ (CasePart::Pattern(_) | CasePart::Opened(_))) =
            self.level().cases.last_mut()
        {
            let (CasePart::Pattern(depth) | CasePart::Opened(depth)) = case else {
                return ShellStep::Delimiter;
            };
            match c {
                '(' if begun || *depth > 0 => {
                    *depth += 1;
                    return ShellStep::Word;
                }
                ')' if *depth > 0 => {
                    *depth -= 1;
                    return ShellStep::Word;
                }
                // One may stand in front of a pattern.
                '(' => {
                    *case = CasePart::Opened(0);
                    return ShellStep::Delimiter;
                }
                _ => {}
            }
            self.end_of_word();
            if let Some(case) = self.level().cases.last_mut()
                && matches!(case, CasePart::Pattern(_) | CasePart::Opened(_))
            {
                *case = CasePart::Body;
                self.level().at_command = true;
                return ShellStep::Delimiter;
            }
        }
        self.end_of_word();
        if c == '(' {
            if self.kind() == ShellKind::Paren && self.level().is_fresh && at_command {
                // `((`: bash's arithmetic, or two subshells.
                *self.level() = Level::of(ShellKind::Arithmetic);
                return ShellStep::Delimiter;
            }
            self.open(ShellKind::Paren);
        } else if self.kind() == ShellKind::Paren && self.level().in_word {
            self.close();
            return ShellStep::Word;
        } else if self.kind() == ShellKind::Paren {
            self.close();
            self.in_word = false;
            self.word = Some(String::new());
            // Behind a subshell, and behind the brackets of a function, commands may follow.
            self.level().at_command = true;
        } else {
            self.level().at_command = true;
        }
        ShellStep::Delimiter
    }

    pub(super) fn newline(&mut self) -> ShellStep {
        self.end_of_word();
        let level = self.level();
        if !matches!(
            level.cases.last(),
            Some(CasePart::Head | CasePart::Pattern(_) | CasePart::Opened(_))
        ) {
            level.at_command = true;
        }
        if self.here.is_some() {
            if !self.waiting.is_empty() {
                self.lost = Some("a here-document begins inside another one");
            }
        } else {
            self.begin_here();
        }
        ShellStep::Delimiter
    }

    /// A word has ended: it may be one that shells give a meaning.
    pub(super) fn end_of_word(&mut self) {
        self.spans_substitution = false;
        if !std::mem::take(&mut self.in_word) {
            return;
        }
        let word = self.word.replace(String::new());
        let word = word.as_deref().unwrap_or("\0");
        let level = self.level();
        let at_command = level.at_command;
        match level.cases.last_mut() {
            Some(case @ CasePart::Head) => {
                if word == "in" {
                    *case = CasePart::Pattern(0);
                }
                return;
            }
            Some(CasePart::Pattern(0)) if word == "esac" => {
                level.cases.pop();
                level.at_command = true;
                return;
            }
            Some(CasePart::Pattern(_) | CasePart::Opened(_)) => return,
            Some(CasePart::Body) if at_command && word == "esac" => {
                level.cases.pop();
                return;
            }
            _ => {}
        }
        if at_command && word == "case" {
            level.cases.push(CasePart::Head);
            level.at_command = false;
            return;
        }
        let goes_on = [
            "if", "then", "else", "elif", "do", "while", "until", "{", "!", "time", "fi", "done",
            "}",
        ];
        let is_assignment = word.split_once('=').is_some_and(|(name, _)| {
            !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        });
        level.at_command = at_command && (goes_on.contains(&word) || is_assignment);
    }
}
