//! The first lines of a `target` and a `task`, and words in labelled groups.

use std::cmp::Ordering;

use crate::language::lines::compare_indent;
use crate::language::names::RESERVED;
use crate::language::names::is_name;
use crate::language::parser::Parser;
use crate::language::parser::SourceRange;
use crate::language::syntax::Group;
use crate::language::syntax::Item;
use crate::language::syntax::Name;
use crate::language::syntax::TargetSyntax;
use crate::language::syntax::Task;
use crate::language::syntax::TopItem;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

impl<'a> Parser<'a> {
    /// Where a block's own words end and its clauses begin: lines before the first clause that are
    /// indented deeper than the clauses continue the first line.
    fn block(&mut self, range: SourceRange) -> (SourceRange, &'a str) {
        let indent = self
            .shallowest(range.first + 1, range.end)
            .unwrap_or_default();
        let text = self.lexer.text;
        let mut first_clause = range.first + 1;
        while first_clause < range.end {
            let line = self.lines[first_clause];
            let deeper = compare_indent(line.indent(text), indent) == Some(Ordering::Greater);
            if !(line.is_blank() || line.is_comment(text) || deeper) {
                break;
            }
            first_clause += 1;
        }
        let head = SourceRange {
            first: range.first,
            end: first_clause,
        };
        (head, indent)
    }

    pub fn target(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<TopItem> {
        let (head, indent) = self.block(range);
        self.read_tokens(head, behind);
        let written = std::mem::take(&mut self.tokens);
        let before = self.lexer.diagnostics.len();
        if let Some(colon) = self.colon_habit(&written) {
            self.lexer.diagnostics.push(colon);
        }
        let outputs = self.groups(written, false);
        if self.lexer.diagnostics.len() == before && outputs.iter().all(|g| g.items.is_empty()) {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::NAMELESS_TARGET,
                    span,
                    "`target` is not followed by a file",
                )
                .help("write the file that the recipe makes: `target out/name`"),
            );
        }
        let clauses = self.clauses(head.end, range.end, indent, "target");
        let line = self.lines[range.first];
        Some(TopItem::Target(Box::new(TargetSyntax {
            span: self.lexer.span(line.text as usize, line.end as usize),
            outputs,
            clauses,
        })))
    }

    /// `target out/x: src/x`, as other tools write it.
    fn colon_habit(&self, tokens: &[Word]) -> Option<Diagnostic> {
        let first = tokens.first()?;
        let written = self.lexer.slice(first.span);
        let file = written.strip_suffix(':')?;
        let label = is_name(file) && tokens.len() > 1;
        if label || first.kind != WordKind::Plain {
            return None;
        }
        let needs: Vec<&str> = tokens[1..]
            .iter()
            .map(|token| self.lexer.slice(token.span))
            .collect();
        let below = if needs.is_empty() {
            String::new()
        } else {
            format!(", and below it, indented, `needs {}`", needs.join(" "))
        };
        let wrong = Diagnostic::error(
            &mistakes::SURPLUS_COLON,
            first.span,
            "a target's name is not followed by a colon",
        )
        .help(format!("write `target {file}`{below}"));
        let colon = first.span.part(file.len(), 1);
        Some(match tokens.last() {
            Some(last) if tokens.len() > 1 => {
                let below = format!("\n  needs {}", needs.join(" "));
                wrong.perhaps(colon.to(last.span), below)
            }
            _ => wrong.instead(colon, ""),
        })
    }

    /// Cuts words into groups at each `label:`, takes `each` as a mark where it is allowed, and what stands behind
    /// `except` apart.
    pub fn groups(&mut self, words: Vec<Word>, each_allowed: bool) -> Vec<Group> {
        // By far the most have one group.
        let mut groups: Vec<Group> = Vec::with_capacity(1);
        let mut each: Option<Span> = None;
        let mut words = words.into_iter().peekable();
        while let Some(word) = words.next() {
            if let Some(label) = self.label(&word) {
                self.new_group(label, &mut groups);
                continue;
            }
            if self.is(&word, "except") && each.is_none() {
                let mut except = Vec::new();
                while let Some(word) =
                    words.next_if(|word| self.label(word).is_none() && !self.is(word, "except"))
                {
                    self.check_foreign_syntax(&word);
                    except.push(word);
                }
                self.leave_out(word.span, except, &mut groups);
                continue;
            }
            if self.is(&word, "each") && each_allowed && each.is_none() {
                each = Some(word.span);
                continue;
            }
            self.check_foreign_syntax(&word);
            let item = Item {
                each: each.take().is_some(),
                word,
            };
            match groups.last_mut() {
                Some(group) => group.items.push(item),
                None => groups.push(Group {
                    label: None,
                    items: vec![item],
                    except: Box::default(),
                }),
            }
        }
        if let Some(span) = each {
            self.lexer.diagnostics.push(
                Diagnostic::error(&mistakes::INCOMPLETE_CLAUSE, span, "`each` is not followed by a pattern")
                    .help("write for example `needs each src/<unit>.c`; a file of that name goes in quotes"),
            );
        }
        for group in groups.iter().filter(|group| group.items.is_empty()) {
            if let Some(label) = &group.label {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::EMPTY_LABEL,
                        label.span,
                        format!("nothing stands under the label `{}:`", label.text),
                    )
                    .help("write the words behind the label, or leave the label out"),
                );
            }
        }
        groups
    }

    /// Takes patterns of what is left out of the last group.
    fn leave_out(&mut self, span: Span, except: Vec<Word>, groups: &mut [Group]) {
        let group = groups.last_mut().filter(|group| !group.items.is_empty());
        let wrong = match (&group, except.is_empty()) {
            (None, _) => "`except` does not stand behind what it leaves out of",
            (_, true) => "`except` is not followed by a pattern",
            (Some(group), false) if !group.except.is_empty() => "`except` stands here twice",
            (Some(_), false) => {
                if let Some(group) = group {
                    group.except = except.into();
                }
                return;
            }
        };
        self.lexer.diagnostics.push(
            Diagnostic::error(&mistakes::UNREADABLE_EXCEPT, span, wrong)
                .help("write for example `needs src/*.c except src/old-*.c`; a file of that name goes in quotes"),
        );
    }

    fn label(&self, word: &Word) -> Option<Name> {
        let name = self.lexer.slice(word.span).strip_suffix(':')?;
        (word.kind == WordKind::Plain && is_name(name)).then(|| Name {
            text: name.into(),
            span: word.span,
        })
    }

    fn new_group(&mut self, label: Name, groups: &mut Vec<Group>) {
        let earlier = groups
            .iter()
            .filter_map(|group| group.label.as_ref())
            .find(|earlier| earlier.text == label.text);
        if let Some(earlier) = earlier {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::REPEATED_LABEL,
                    label.span,
                    format!("the label `{}:` stands here twice", label.text),
                )
                .also(earlier.span, "first here")
                .help("put all its words under one label, or choose another name"),
            );
        } else if RESERVED.contains(&&*label.text) {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::RESERVED_NAME,
                    label.span,
                    format!("`{}` has a meaning of its own", label.text),
                )
                .help("choose another name for the label"),
            );
        }
        groups.push(Group {
            label: Some(label),
            items: Vec::new(),
            except: Box::default(),
        });
    }

    pub fn task(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<TopItem> {
        let (head, indent) = self.block(range);
        let words = self.words(head, behind);
        let head_end = head.end;
        let Some(first) = words.first() else {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::NAMELESS_TASK,
                    span,
                    "`task` is not followed by a name",
                )
                .help("write `task name`"),
            );
            return None;
        };
        let written = self.lexer.slice(first.span);
        let clauses = self.clauses(head_end, range.end, indent, "task");
        let Some(name) = self.name_of(first) else {
            let bare = written.trim_end_matches(':');
            let help = if is_name(bare) && bare != written {
                format!("write `task {bare}`, without a colon")
            } else {
                "a name has letters, digits, `_` and `-`, and starts with a letter or `_`"
                    .to_owned()
            };
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::INVALID_NAME,
                    first.span,
                    format!("`{written}` can't be a task's name"),
                )
                .help(help),
            );
            return None;
        };
        let parameters = self.parameters(&words[1..]);
        let line = self.lines[range.first];
        Some(TopItem::Task(Box::new(Task {
            span: self.lexer.span(line.text as usize, line.end as usize),
            name,
            parameters,
            clauses,
        })))
    }
}
