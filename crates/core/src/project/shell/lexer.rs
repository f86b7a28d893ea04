//! Where in a shell script one is: what a POSIX shell has open at each character (Shell Command Language,
//! POSIX.1-2024, sections 2.2 "Quoting", 2.6 "Word Expansions", 2.7.4 "Here-Document", 2.9.4 "Compound
//! Commands"), with what bash and zsh add to it.
//!
//! The lexer takes a script piece by piece and never looks ahead of what it was given, since words are put in
//! between. Where shells differ, or where it would have to know more than a lexer knows, it says so
//! ([`ShellLexer::doubt`]), and no word is put in there.

/// What is open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShellKind {
    /// The script itself.
    Top,
    /// Commands inside `$(…)` or `(…)`.
    Paren,
    /// Commands inside backquotes.
    Back,
    /// `"…"`
    Double,
    /// `'…'`
    Single,
    /// `$'…'`, which not all shells know.
    Ansi,
    /// `${…}`
    Brace,
    /// `$((…))`, `((…))`
    Arithmetic,
    /// `# …`
    Comment,
}

/// Where in a `case` one is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Case {
    /// Before its `in`.
    Head,
    /// In a pattern, so many brackets deep.
    Pattern(usize),
    /// In a pattern behind the bracket that may stand in front of it.
    Opened(usize),
    /// In the commands behind a pattern.
    Body,
}

#[derive(Clone, Debug)]
struct Level {
    kind: ShellKind,
    /// Whether a word here would be a command, or a word that begins or ends a compound one.
    at_command: bool,
    cases: Vec<Case>,
    /// Brackets that are open in arithmetic.
    brackets: usize,
    /// Whether one bracket of the two that end arithmetic was met.
    half_closed: bool,
    /// Whether a backslash stood in these backquotes: what is behind it is read twice.
    has_backslash: bool,
    /// Whether it is part of a word: `$(…)` and not `(…)`.
    in_word: bool,
    /// Whether nothing stood in it yet.
    is_fresh: bool,
}

impl Level {
    fn of(kind: ShellKind) -> Self {
        Self {
            kind,
            at_command: matches!(kind, ShellKind::Top | ShellKind::Paren | ShellKind::Back),
            cases: Vec::new(),
            brackets: 0,
            half_closed: false,
            has_backslash: false,
            in_word: false,
            is_fresh: true,
        }
    }
}

/// A here-document that is being read, or waits for its first line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HereDocument {
    /// The line that ends it.
    pub end: String,
    strip_tabs: bool,
    /// Whether nothing in it is expanded.
    pub quoted: bool,
}

impl HereDocument {
    /// Whether a line, without its end, ends it.
    pub fn is_ended_by(&self, line: &str) -> bool {
        let line = if self.strip_tabs {
            line.trim_start_matches('\t')
        } else {
            line
        };
        line == self.end
    }
}

/// Reads the word behind a `<<`.
#[derive(Clone, Debug)]
struct EndWord {
    text: String,
    strip_tabs: bool,
    quoted: bool,
    /// The quote that is open in it.
    quote: Option<char>,
    escaped: bool,
    begun: bool,
}

/// What the lexer did with a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShellStep {
    /// It belongs to a word.
    Word,
    /// It ends the word before it.
    Delimiter,
}

#[derive(Debug)]
pub struct ShellLexer {
    levels: Vec<Level>,
    waiting: Vec<HereDocument>,
    here: Option<HereDocument>,
    /// How many levels were open when the here-document began.
    here_depth: usize,
    /// The line of the here-document so far, as the shell will see it.
    here_line: String,
    end_word: Option<EndWord>,
    /// The plain text of the word so far; none when it has quotes or variables in it.
    word: Option<String>,
    /// Whether a word was begun.
    in_word: bool,
    /// Whether the word has a substitution in it, with words of its own.
    spans_substitution: bool,
    /// Whether a backslash stands in front of what comes next, or a `$` that none stands in front of.
    escaped: bool,
    dollar: bool,
    /// The last two characters.
    before: [char; 2],
    /// Why nothing can be told any more.
    lost: Option<&'static str>,
}

impl ShellLexer {
    pub fn new() -> Self {
        Self {
            levels: vec![Level::of(ShellKind::Top)],
            waiting: Vec::new(),
            here: None,
            here_depth: 0,
            here_line: String::new(),
            end_word: None,
            word: Some(String::new()),
            in_word: false,
            spans_substitution: false,
            escaped: false,
            dollar: false,
            before: ['\n'; 2],
            lost: None,
        }
    }

    fn level(&mut self) -> &mut Level {
        let last = self.levels.len() - 1;
        &mut self.levels[last]
    }

    /// What is open innermost.
    pub fn kind(&self) -> ShellKind {
        self.levels
            .last()
            .map_or(ShellKind::Top, |level| level.kind)
    }

    /// The here-document whose text comes next.
    pub fn here_text(&self) -> Option<&HereDocument> {
        self.here
            .as_ref()
            .filter(|_| self.levels.len() == self.here_depth)
    }

    /// Whether a here-document is open, also when a substitution in it is.
    pub fn here(&self) -> Option<&HereDocument> {
        self.here.as_ref()
    }

    /// Whether a text stands inside `"…"`, also through `${…}`.
    pub fn is_in_double(&self) -> bool {
        let outer = self
            .levels
            .iter()
            .rev()
            .find(|level| level.kind != ShellKind::Brace);
        self.kind() == ShellKind::Double
            || (self.kind() == ShellKind::Brace
                && outer.is_some_and(|outer| outer.kind == ShellKind::Double))
    }

    /// The backquotes around: for each, from the inside, whether it stands in `"…"`.
    pub fn backquotes(&self) -> Vec<bool> {
        let mut found = Vec::new();
        for (at, level) in self.levels.iter().enumerate().rev() {
            if level.kind == ShellKind::Back {
                found.push(
                    self.levels[..at]
                        .iter()
                        .any(|outer| outer.kind == ShellKind::Double),
                );
            }
        }
        found
    }

    /// Why it can't be told how a word that comes next is read.
    pub fn doubt(&self) -> Option<&'static str> {
        if let Some(why) = self.lost {
            return Some(why);
        }
        if self.end_word.is_some() {
            return Some("it would be the end word of a here-document");
        }
        let literal = matches!(self.kind(), ShellKind::Single | ShellKind::Comment)
            || self.here_text().is_some_and(|here| here.quoted);
        if literal {
            return None;
        }
        if self.escaped {
            return Some("a backslash stands in front of it");
        }
        if self.dollar {
            return Some("a `$` stands in front of it");
        }
        if self.kind() == ShellKind::Ansi {
            return Some("not all shells know `$'…'`");
        }
        let backs = self.backquotes();
        if backs.len() > 1 || self.levels.iter().any(|level| level.has_backslash) {
            return Some(
                "it stands in backquotes in which something is escaped, and is read twice",
            );
        }
        if !backs.is_empty() && self.here.is_some() {
            return Some("it stands in backquotes in a here-document");
        }
        None
    }

    /// A variable's words stand here now.
    pub fn passed_variable(&mut self, text: &str) {
        if self.here.is_some() {
            self.here_line.push_str(text);
        }
        self.word = None;
        self.in_word = true;
        self.escaped = false;
        self.dollar = false;
        self.before = ['x'; 2];
        self.level().is_fresh = false;
        if self.kind() == ShellKind::Brace || self.kind() == ShellKind::Double {
            return;
        }
        if self.here.is_none() {
            self.level().at_command = false;
        }
    }

    /// Text of a here-document was put in.
    pub fn passed_here_text(&mut self, text: &str) {
        match text.rfind('\n') {
            Some(at) => self.here_line = text[at + 1..].to_owned(),
            None => self.here_line.push_str(text),
        }
        self.before = ['x'; 2];
        self.dollar = false;
    }

    /// How many things are open.
    pub fn depth(&self) -> usize {
        self.levels.len()
    }

    /// Whether the word so far has a substitution in it, which has words of its own.
    pub fn spans_substitution(&self) -> bool {
        self.spans_substitution
    }

    /// The line of a here-document so far.
    pub fn here_line(&self) -> &str {
        &self.here_line
    }

    /// Takes the next character of the script.
    pub fn take(&mut self, c: char) -> ShellStep {
        let is_dollar = c == '$' && !self.escaped;
        let depth = self.levels.len();
        let step = if self.end_word.is_some() {
            self.take_end_word(c)
        } else if self.here_text().is_some() {
            self.take_here(c);
            ShellStep::Word
        } else {
            self.track_here_line(c);
            self.take_plain(c)
        };
        self.before = [self.before[1], c];
        self.dollar = is_dollar;
        if self.levels.len() == depth {
            self.level().is_fresh = false;
        }
        step
    }

    /// In a substitution inside a here-document its lines still count.
    fn track_here_line(&mut self, c: char) {
        let Some(here) = &self.here else { return };
        if c != '\n' {
            self.here_line.push(c);
            return;
        }
        let ended = here.is_ended_by(&std::mem::take(&mut self.here_line));
        if ended {
            // The shell ends it there, whatever is open.
            self.lost = Some("a here-document ends in the middle of a substitution");
        }
    }

    fn take_here(&mut self, c: char) {
        let Some(here) = &self.here else { return };
        let quoted = here.quoted;
        if c == '\n' {
            let ended = here.is_ended_by(&std::mem::take(&mut self.here_line));
            self.escaped = false;
            if ended {
                self.here = None;
                self.begin_here();
            }
            return;
        }
        self.here_line.push(c);
        if quoted {
            return;
        }
        if std::mem::take(&mut self.escaped) {
            return;
        }
        match c {
            '\\' => self.escaped = true,
            '`' => self.open(ShellKind::Back),
            '(' if self.dollar => self.open_substitution(),
            '{' if self.dollar => self.open(ShellKind::Brace),
            _ => {}
        }
    }

    fn open_substitution(&mut self) {
        self.open(ShellKind::Paren);
        self.level().in_word = true;
    }

    fn begin_here(&mut self) {
        if !self.waiting.is_empty() {
            self.here = Some(self.waiting.remove(0));
            self.here_depth = self.levels.len();
            self.here_line.clear();
        }
    }

    fn open(&mut self, kind: ShellKind) {
        self.levels.push(Level::of(kind));
        self.word = Some(String::new());
        self.in_word = false;
    }

    fn close(&mut self) {
        if self.levels.len() > 1
            && let Some(level) = self.levels.pop()
        {
            self.spans_substitution |= matches!(
                level.kind,
                ShellKind::Paren | ShellKind::Back | ShellKind::Arithmetic
            );
        }
        // What was closed is part of a word.
        self.word = None;
        self.in_word = true;
    }

    fn take_plain(&mut self, c: char) -> ShellStep {
        if std::mem::take(&mut self.escaped) {
            if self.kind() == ShellKind::Ansi && c == '\'' {
                self.lost = Some("shells read `\\'` in `$'…'` differently");
            }
            self.word = None;
            self.in_word = true;
            return ShellStep::Word;
        }
        match self.kind() {
            ShellKind::Comment => {
                if c == '\n' {
                    self.levels.pop();
                    return self.newline();
                }
                ShellStep::Word
            }
            ShellKind::Single => {
                if c == '\'' {
                    self.close();
                }
                ShellStep::Word
            }
            ShellKind::Ansi => {
                match c {
                    '\\' => self.escaped = true,
                    '\'' => self.close(),
                    _ => {}
                }
                ShellStep::Word
            }
            ShellKind::Double => {
                if c == '"' {
                    self.close();
                } else {
                    self.substitution(c);
                }
                ShellStep::Word
            }
            ShellKind::Brace => {
                match c {
                    '}' => self.close(),
                    '\'' if !self.is_in_double() => self.open(ShellKind::Single),
                    '"' if !self.is_in_double() => self.open(ShellKind::Double),
                    '"' => {
                        self.lost =
                            Some("a quote stands in `\"${…}\"`, which shells read differently");
                    }
                    c => {
                        self.substitution(c);
                    }
                }
                ShellStep::Word
            }
            ShellKind::Arithmetic => {
                self.arithmetic(c);
                ShellStep::Word
            }
            ShellKind::Top | ShellKind::Paren | ShellKind::Back => self.commands(c),
        }
    }

    /// What opens something inside `"…"` too. Whether it did.
    fn substitution(&mut self, c: char) -> bool {
        match c {
            '\\' => {
                self.escaped = true;
                if let Some(back) = self
                    .levels
                    .iter_mut()
                    .rev()
                    .find(|level| level.kind == ShellKind::Back)
                {
                    back.has_backslash = true;
                }
            }
            '`' => self.backquote(),
            '(' if self.dollar => self.open_substitution(),
            '{' if self.dollar => self.open(ShellKind::Brace),
            _ => return false,
        }
        true
    }

    fn backquote(&mut self) {
        match self
            .levels
            .iter()
            .rposition(|level| level.kind == ShellKind::Back)
        {
            // Whatever is open in it ends there too: a shell looks for the backquote first.
            Some(at) => {
                if at + 1 != self.levels.len() {
                    self.lost = Some("a backquote ends in the middle of something else");
                }
                self.levels.truncate(at + 1);
                self.close();
            }
            None => self.open(ShellKind::Back),
        }
    }

    fn arithmetic(&mut self, c: char) {
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

    fn commands(&mut self, c: char) -> ShellStep {
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

    fn open_quote(&mut self, kind: ShellKind) {
        self.word = None;
        self.levels.push(Level::of(kind));
        self.in_word = true;
    }

    fn separator(&mut self, c: char) {
        let ends_item = matches!(c, ';' | '&') && self.before[1] == ';';
        let level = self.level();
        match level.cases.last_mut() {
            Some(case @ Case::Body) if ends_item => *case = Case::Pattern(0),
            Some(Case::Pattern(_) | Case::Opened(_)) if c == '|' => return,
            _ => {}
        }
        level.at_command = true;
    }

    fn bracket(&mut self, c: char) -> ShellStep {
        let begun = self.in_word;
        let at_command = self.level().at_command;
        if let Some(case @ (Case::Pattern(_) | Case::Opened(_))) = self.level().cases.last_mut() {
            let (Case::Pattern(depth) | Case::Opened(depth)) = case else {
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
                    *case = Case::Opened(0);
                    return ShellStep::Delimiter;
                }
                _ => {}
            }
            self.end_of_word();
            if let Some(case) = self.level().cases.last_mut()
                && matches!(case, Case::Pattern(_) | Case::Opened(_))
            {
                *case = Case::Body;
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

    fn newline(&mut self) -> ShellStep {
        self.end_of_word();
        let level = self.level();
        if !matches!(
            level.cases.last(),
            Some(Case::Head | Case::Pattern(_) | Case::Opened(_))
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
    fn end_of_word(&mut self) {
        self.spans_substitution = false;
        if !std::mem::take(&mut self.in_word) {
            return;
        }
        let word = self.word.replace(String::new());
        let word = word.as_deref().unwrap_or("\0");
        let level = self.level();
        let at_command = level.at_command;
        match level.cases.last_mut() {
            Some(case @ Case::Head) => {
                if word == "in" {
                    *case = Case::Pattern(0);
                }
                return;
            }
            Some(Case::Pattern(0)) if word == "esac" => {
                level.cases.pop();
                level.at_command = true;
                return;
            }
            Some(Case::Pattern(_) | Case::Opened(_)) => return,
            Some(Case::Body) if at_command && word == "esac" => {
                level.cases.pop();
                return;
            }
            _ => {}
        }
        if at_command && word == "case" {
            level.cases.push(Case::Head);
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

    /// The word behind `<<`.
    fn take_end_word(&mut self, c: char) -> ShellStep {
        let Some(word) = &mut self.end_word else {
            return ShellStep::Word;
        };
        if std::mem::take(&mut word.escaped) {
            word.text.push(c);
            return ShellStep::Word;
        }
        match (word.quote, c) {
            (Some(quote), c) if c == quote => word.quote = None,
            (Some('"'), '\\') => word.escaped = true,
            (Some(_), c) => word.text.push(c),
            (None, '<') if !word.begun => {
                // `<<<`: a word follows, and no document.
                self.end_word = None;
                self.in_word = false;
                return ShellStep::Delimiter;
            }
            (None, '-') if !word.begun && !word.strip_tabs => word.strip_tabs = true,
            (None, ' ' | '\t') if !word.begun => {}
            (None, '\'' | '"') => {
                word.quoted = true;
                word.begun = true;
                word.quote = Some(c);
            }
            (None, '\\') => {
                word.quoted = true;
                word.begun = true;
                word.escaped = true;
            }
            (None, c)
                if c.is_whitespace() || matches!(c, ';' | '&' | '|' | '<' | '>' | '(' | ')') =>
            {
                let document = HereDocument {
                    end: std::mem::take(&mut word.text),
                    strip_tabs: word.strip_tabs,
                    quoted: word.quoted,
                };
                if document.end.contains(['$', '`', '\n']) {
                    self.lost = Some("the end word of a here-document is more than a word");
                }
                self.end_word = None;
                self.waiting.push(document);
                self.in_word = false;
                self.word = Some(String::new());
                return self.take_plain(c);
            }
            (None, c) => {
                word.begun = true;
                word.text.push(c);
            }
        }
        ShellStep::Word
    }
}
