//! The one standard layout of a description.
//!
//! Laying out works on lines, not on the tree, so that comments stay where they are. The parser
//! tells what each line is ([`LineRole`]); this module only gives each its indentation and spacing:
//!
//! ```text
//! let cc      = cc                  # neighbouring `let`s share their columns
//! let cflags += -g   when @{mode} is debug
//!
//! target out/x.o                    # an empty line before each target and task
//!   needs                           # clauses: two spaces
//!     log: a.csv                    # what continues them: two more for each depth
//!   recipe:
//!     raw text keeps its own indentation below this one
//! ```

use crate::language::lines::SourceLine;
use crate::language::names::is_name;
use crate::language::parser::Parser;
use crate::language::raw::common_indent;
use crate::language::words::WordLexer;
use crate::text::SourceId;

/// What a line is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub(super) enum LineRole {
    /// Blank, a comment, or not understood.
    #[default]
    Other,
    /// The first line of a statement at the left edge.
    Top,
    /// The first line of a clause.
    Clause,
    /// A clause whose keyword ends with a colon, at this offset.
    RawHead {
        /// Offset of the colon.
        colon: usize,
    },
    /// A line that continues a statement's words.
    Continued,
    /// A line of raw text.
    Raw,
}

/// The same description in the standard layout, or nothing when the text has mistakes.
#[must_use]
pub fn tidy(text: &str) -> Option<String> {
    let mut parser = Parser::new(SourceId(0), text);
    parser.roles = Some(vec![LineRole::Other; parser.lines.len()]);
    parser.file();
    if parser
        .lexer
        .diagnostics
        .iter()
        .any(crate::text::Diagnostic::is_error)
    {
        return None;
    }
    let roles = parser.roles.take().unwrap_or_default();
    let layout = TidyPrinter {
        text,
        lines: &parser.lines,
        roles: &roles,
    };
    Some(layout.render())
}

struct TidyPrinter<'a> {
    text: &'a str,
    lines: &'a [SourceLine],
    roles: &'a [LineRole],
}

/// A laid-out line; `None` is an empty one.
type Out = Vec<Option<String>>;

impl TidyPrinter<'_> {
    fn render(&self) -> String {
        let mut out: Out = Vec::new();
        let mut at = 0;
        while at < self.lines.len() {
            at = match self.roles[at] {
                LineRole::Other => self.other(at, &mut out),
                LineRole::Top if self.is_let(at) => self.lets(at, &mut out),
                LineRole::Top => {
                    self.space_before_block(at, &mut out);
                    out.push(Some(self.words_of(at)));
                    at + 1
                }
                LineRole::Clause => {
                    out.push(Some(format!("  {}", self.words_of(at))));
                    at + 1
                }
                LineRole::Continued => self.continued(at, &mut out),
                LineRole::RawHead { colon } => self.raw(at, colon, &mut out),
                LineRole::Raw => at + 1,
            };
        }
        while out.last().is_some_and(Option::is_none) {
            out.pop();
        }
        let mut text = String::new();
        for line in out {
            text.push_str(line.as_deref().unwrap_or_default());
            text.push('\n');
        }
        text
    }

    fn blank(out: &mut Out) {
        if out.last().is_some_and(Option::is_some) {
            out.push(None);
        }
    }

    fn other(&self, at: usize, out: &mut Out) -> usize {
        let line = self.lines[at];
        if line.is_blank() {
            Self::blank(out);
            return at + 1;
        }
        let next = self.roles[at..]
            .iter()
            .find(|&&role| role != LineRole::Other);
        let indented = line.start != line.text;
        let depth = match next {
            Some(LineRole::Clause | LineRole::RawHead { .. }) => 2,
            Some(LineRole::Continued | LineRole::Raw) => 4,
            _ if indented => 2,
            _ => 0,
        };
        let opens_block =
            depth == 0 && matches!(out.last(), Some(Some(line)) if line.starts_with(' '));
        if opens_block {
            Self::blank(out);
        }
        let comment = self.text[line.text as usize..line.end as usize].trim_end();
        out.push(Some(format!("{:depth$}{comment}", "")));
        at + 1
    }

    /// Targets and tasks stand apart from what is above them, but not from their own comment.
    fn space_before_block(&self, at: usize, out: &mut Out) {
        let line = self.lines[at];
        let text = &self.text[line.text as usize..line.end as usize];
        let block = text.starts_with("target") || text.starts_with("task");
        let below_block = matches!(out.last(), Some(Some(line)) if line.starts_with(' '));
        let below_comment = matches!(out.last(), Some(Some(line)) if line.starts_with('#'));
        if below_block || (block && !below_comment) {
            Self::blank(out);
        }
    }

    /// The words of a line, and its comment.
    fn cut(&self, at: usize) -> (Vec<&str>, Option<&str>) {
        let line = self.lines[at];
        self.cut_range(line.text as usize, line.end as usize)
    }

    fn cut_range(&self, start: usize, end: usize) -> (Vec<&str>, Option<&str>) {
        let mut lexer = WordLexer {
            source: SourceId(0),
            text: self.text,
            diagnostics: Vec::new(),
            piece_buffer: Vec::new(),
        };
        let mut tokens = Vec::new();
        let comment = lexer.words(start, end, &mut tokens);
        let words = tokens.iter().map(|token| lexer.slice(token.span)).collect();
        (words, comment.map(|at| self.text[at..end].trim_end()))
    }

    fn words_of(&self, at: usize) -> String {
        let (words, comment) = self.cut(at);
        let mut line = String::new();
        for (number, word) in words.iter().enumerate() {
            // A label in the middle of a line stands a little apart.
            let label = number > 1 && word.strip_suffix(':').is_some_and(is_name);
            line.push_str(match number {
                0 => "",
                _ if label => "  ",
                _ => " ",
            });
            line.push_str(word);
        }
        with_comment(line, comment)
    }

    fn continued(&self, first: usize, out: &mut Out) -> usize {
        let below_clause = matches!(
            self.roles[..first]
                .iter()
                .rev()
                .find(|&&role| role != LineRole::Other),
            Some(LineRole::Clause)
        );
        let in_block = below_clause
            || self.roles[first..]
                .iter()
                .find(|&&role| !matches!(role, LineRole::Other | LineRole::Continued))
                .is_some_and(|role| matches!(role, LineRole::Clause | LineRole::RawHead { .. }));
        let base = if in_block { 4 } else { 2 };
        let mut open: Vec<&str> = Vec::new();
        let mut at = first;
        while at < self.lines.len() {
            match self.roles[at] {
                LineRole::Continued => {
                    let indent = self.lines[at].indent(self.text);
                    while open.last().is_some_and(|last| last.len() >= indent.len()) {
                        open.pop();
                    }
                    let depth = base + 2 * open.len();
                    open.push(indent);
                    out.push(Some(format!("{:depth$}{}", "", self.words_of(at))));
                }
                LineRole::Other if self.more_continued(at) => {
                    let line = self.lines[at];
                    if !line.is_blank() {
                        let text = self.text[line.text as usize..line.end as usize].trim_end();
                        out.push(Some(format!("{:base$}{text}", "")));
                    }
                }
                _ => break,
            }
            at += 1;
        }
        at
    }

    fn more_continued(&self, at: usize) -> bool {
        self.roles[at..]
            .iter()
            .find(|&&role| role != LineRole::Other)
            == Some(&LineRole::Continued)
    }

    fn raw(&self, head: usize, colon: usize, out: &mut Out) -> usize {
        let line = self.lines[head];
        let (words, _) = self.cut_range(line.text as usize, colon);
        let behind = self.text[colon + 1..line.end as usize].trim();
        let space = if behind.is_empty() { "" } else { " " };
        out.push(Some(format!("  {}:{space}{behind}", words.join(" "))));
        let mut end = head + 1;
        let mut below = Vec::new();
        while end < self.lines.len() && matches!(self.roles[end], LineRole::Raw | LineRole::Other) {
            if self.roles[end] == LineRole::Raw {
                below.push(self.lines[end]);
            } else if !self.roles[end..].contains(&LineRole::Raw) || !self.raw_goes_on(end) {
                break;
            } else {
                let line = self.lines[end];
                let text = self.text[line.text as usize..line.end as usize].trim_end();
                out.push(Some(format!("  {text}")));
            }
            end += 1;
        }
        let common = common_indent(self.text, &below);
        for line in below {
            out.push((!line.is_blank()).then(|| {
                let text = &self.text[line.start as usize + common..line.end as usize];
                format!("    {text}")
            }));
        }
        end
    }

    fn raw_goes_on(&self, at: usize) -> bool {
        self.roles[at..]
            .iter()
            .find(|&&role| role != LineRole::Other)
            == Some(&LineRole::Raw)
    }

    // ---- columns of neighbouring `let`s --------------------------------------------------------

    fn is_let(&self, at: usize) -> bool {
        let line = self.lines[at];
        let text = &self.text[line.text as usize..line.end as usize];
        text.strip_prefix("let")
            .is_some_and(|rest| rest.starts_with([' ', '\t']))
    }

    fn lets(&self, first: usize, out: &mut Out) -> usize {
        self.space_before_block(first, out);
        let end = (first..self.lines.len())
            .find(|&at| self.roles[at] != LineRole::Top || !self.is_let(at))
            .unwrap_or(self.lines.len());
        let rows: Vec<LetRow<'_>> = (first..end).map(|at| self.let_row(at)).collect();
        let name = rows.iter().map(|row| width(row.name)).max().unwrap_or(0);
        let operator = rows.iter().map(LetRow::operator_width).max().unwrap_or(1);
        let lines: Vec<String> = rows.iter().map(|row| row.head(name, operator)).collect();
        let conditional = rows
            .iter()
            .zip(&lines)
            .filter(|(row, _)| row.when.is_some())
            .map(|(_, line)| width(line))
            .max()
            .unwrap_or(0);
        for (row, line) in rows.iter().zip(lines) {
            let line = match &row.when {
                Some(when) => {
                    let pad = conditional - width(&line);
                    format!("{line}{:pad$}   {when}", "")
                }
                None => line,
            };
            out.push(Some(with_comment(line, row.comment)));
        }
        end
    }

    fn let_row(&self, at: usize) -> LetRow<'_> {
        let (words, comment) = self.cut(at);
        let name = words.get(1).copied().unwrap_or_default();
        let operator = words.get(2).copied().unwrap_or_default();
        let value = words.get(3..).unwrap_or_default();
        let when = value.iter().position(|&word| word == "when");
        LetRow {
            name,
            operator,
            value: value[..when.unwrap_or(value.len())].join(" "),
            when: when.map(|at| value[at..].join(" ")),
            comment,
        }
    }
}

struct LetRow<'a> {
    name: &'a str,
    operator: &'a str,
    value: String,
    when: Option<String>,
    comment: Option<&'a str>,
}

impl LetRow<'_> {
    fn operator_width(&self) -> usize {
        // `one of` begins where the `=` of the others would.
        if self.operator == "one" {
            1
        } else {
            self.operator.len()
        }
    }

    fn head(&self, name: usize, operator: usize) -> String {
        let pad = name - width(self.name) + 1 + operator - self.operator_width();
        format!(
            "let {}{:pad$}{} {}",
            self.name, "", self.operator, self.value
        )
        .trim_end()
        .to_owned()
    }
}

fn width(text: &str) -> usize {
    text.chars().count()
}

fn with_comment(words: String, comment: Option<&str>) -> String {
    match comment {
        Some(comment) => format!("{words}  {comment}"),
        None => words,
    }
}
