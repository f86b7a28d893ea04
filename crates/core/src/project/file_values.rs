//! Values that stand in files of the project: `value`, `lines`, `table`, and the rows that an `each` goes through.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::data_files::FileAnswer;
use crate::data_files::FileQuestion;
use crate::language::Comparison;
use crate::language::Condition;
use crate::language::Let;
use crate::language::RowCondition;
use crate::language::ValueSyntax;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::project::frame::Frame;
use crate::project::script::filled;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::project::words::compare;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// A condition over the cells of a row, all that is the same for each worked out.
enum RowTest {
    And(Box<RowTest>, Box<RowTest>),
    Or(Box<RowTest>, Box<RowTest>),
    Not(Box<RowTest>),
    Compare {
        /// Which of the columns that were asked for.
        column: usize,
        how: Comparison,
        with: Vec<String>,
        span: Span,
    },
}

/// Rows of a table, each with the cells of the columns that were asked for.
pub struct TableRows {
    answer: Arc<FileAnswer>,
    /// How many columns were asked for, and how many of them the row's conditions alone need.
    width: usize,
    wanted: usize,
    /// Which rows count.
    rows: Vec<usize>,
}

impl TableRows {
    /// The cells of each row that counts.
    pub fn iter(&self) -> impl Iterator<Item = &[String]> {
        self.rows.iter().map(|row| {
            let start = row * self.width;
            &self.answer.words[start..start + self.wanted]
        })
    }
}

/// The word that names the file that a value is taken from.
fn data_file(definition: &Let) -> Option<&Word> {
    match &definition.value {
        ValueSyntax::FileValue { file, .. }
        | ValueSyntax::FileLines(file)
        | ValueSyntax::Column { file, .. } => Some(file),
        _ => None,
    }
}

impl<'d> Vars<'d> {
    /// The files that values are taken from, each with a place that names it: those that were asked, and those that are
    /// named plainly and may only be asked when a recipe is put together.
    #[must_use]
    pub fn named_data_files(&self) -> BTreeMap<String, Span> {
        let mut files = self.data_files.borrow().clone();
        for (part, _, definitions) in self.declared() {
            let folder = &self.description.parts[part.index()].folder;
            for word in definitions
                .iter()
                .filter_map(|definition| data_file(definition))
            {
                if let Some(text) = self.literal(word) {
                    files.insert(self.from_root(folder, text), word.span);
                }
            }
        }
        for (part, env) in self.description.parts.iter().zip(&self.part_env) {
            for file in &env.files {
                if let Some(text) = self.literal(&file.file) {
                    files.insert(self.from_root(&part.folder, text), file.file.span);
                }
            }
        }
        files
    }

    /// `value FILE KEY`
    pub(super) fn file_value(&self, file: &Word, key: &[Word], frame: &Frame<'_>) -> Option<Value> {
        let mut way = Vec::new();
        for word in key {
            self.key_names(word, frame, &mut way)?;
        }
        let span = key.last().map_or(file.span, |last| file.span.to(last.span));
        let answer = self.ask_file(file, &FileQuestion::Value(way), span, frame)?;
        let value = Value::list(answer.words.iter().map(String::as_str));
        let list = answer.is_list;
        Some(Value { list, ..value })
    }

    /// The names in one word of a key: dots separate them, but for those in quotes and in variables.
    fn key_names(&self, word: &Word, frame: &Frame<'_>, way: &mut Vec<String>) -> Option<()> {
        let WordKind::Mixed(parts) = &word.kind else {
            way.extend(filled(self, word, frame)?.split('.').map(str::to_owned));
            return Some(());
        };
        let mut name = String::new();
        for part in parts {
            match part {
                WordPart::Text { text, quoted } => {
                    let mut pieces = text.split(if *quoted { '\0' } else { '.' });
                    name.push_str(pieces.next().unwrap_or_default());
                    for piece in pieces {
                        way.push(std::mem::replace(&mut name, piece.to_owned()));
                    }
                }
                WordPart::Var(reference) => {
                    let value = self.reference(reference, frame)?;
                    let texts: Vec<&str> = value.texts().collect();
                    name.push_str(&texts.join(" "));
                }
            }
        }
        way.push(name);
        Some(())
    }

    /// `lines FILE`
    pub(super) fn file_lines(&self, file: &Word, frame: &Frame<'_>) -> Option<Value> {
        let answer = self.ask_file(file, &FileQuestion::Lines, file.span, frame)?;
        Some(Value::list(answer.words.iter().map(String::as_str)))
    }

    /// `table FILE take COLUMN where CONDITION`
    pub(super) fn file_column(
        &self,
        file: &Word,
        take: &Word,
        rows: Option<&RowCondition>,
        frame: &Frame<'_>,
    ) -> Option<Value> {
        let column = filled(self, take, frame)?;
        let span = file.span.to(take.span);
        let rows = self.table_rows(file, vec![column], rows, span, frame)?;
        Some(Value::list(rows.iter().map(|cells| cells[0].as_str())))
    }

    /// The rows of a table for which a condition holds, with the cells of these columns.
    pub(super) fn table_rows(
        &self,
        file: &Word,
        mut columns: Vec<String>,
        rows: Option<&RowCondition>,
        span: Span,
        frame: &Frame<'_>,
    ) -> Option<TableRows> {
        let wanted = columns.len();
        let test = match rows {
            Some(rows) => Some(self.row_test(&rows.condition, &mut columns, frame)?),
            None => None,
        };
        let width = columns.len();
        let answer = self.ask_file(file, &FileQuestion::Columns(columns), span, frame)?;
        let mut counting = Vec::with_capacity(answer.places.len());
        for (row, cells) in answer.words.chunks_exact(width).enumerate() {
            let holds = match &test {
                None => Ok(true),
                Some(test) => test.holds(cells),
            };
            match holds {
                Ok(true) => counting.push(row),
                Ok(false) => {}
                Err(wrong) => {
                    let name = self.description.sources.slice(file.span);
                    let place = answer.places[row];
                    self.report(wrong.also(
                        file.span,
                        format!("`{name}`, the row that begins at {place}"),
                    ));
                    return None;
                }
            }
        }
        Some(TableRows {
            answer,
            width,
            wanted,
            rows: counting,
        })
    }

    /// Works out what is the same for all rows; columns that are not among those asked for are added.
    fn row_test(
        &self,
        condition: &Condition,
        columns: &mut Vec<String>,
        frame: &Frame<'_>,
    ) -> Option<RowTest> {
        let mut inner = |condition: &Condition| -> Option<Box<RowTest>> {
            self.row_test(condition, columns, frame).map(Box::new)
        };
        Some(match condition {
            Condition::And(left, right) => RowTest::And(inner(left)?, inner(right)?),
            Condition::Or(left, right) => RowTest::Or(inner(left)?, inner(right)?),
            Condition::Not(condition) => RowTest::Not(inner(condition)?),
            Condition::Compare(left, how, right) => {
                let [column] = &left[..] else {
                    let span = left.first().map_or(Span::default(), |first| {
                        left.last()
                            .map_or(first.span, |last| first.span.to(last.span))
                    });
                    self.report(
                        Diagnostic::error(&mistakes::COMPARISON_THE_WRONG_WAY, span, "a column stands in front of the comparison here")
                            .help("write for example `where group is control`; a column with spaces in its name goes in quotes"),
                    );
                    return None;
                };
                let span = column.span;
                let column = filled(self, column, frame)?;
                let with = self.words(right, frame)?;
                let known = columns.iter().position(|known| *known == column);
                let column = known.unwrap_or_else(|| {
                    columns.push(column);
                    columns.len() - 1
                });
                RowTest::Compare {
                    column,
                    how: *how,
                    with: with.texts().map(str::to_owned).collect(),
                    span,
                }
            }
        })
    }

    /// Whether a file is there that may be missing.
    pub(super) fn data_file_is_there(&self, file: &Word, frame: &Frame<'_>) -> Option<bool> {
        let folder = &self.description.parts[frame.part.index()].folder;
        let path = self.from_root(folder, &filled(self, file, frame)?);
        Some(self.environment.has_file(&path))
    }

    /// Asks a file; what is wrong is reported at `span`.
    pub(super) fn ask_file(
        &self,
        file: &Word,
        question: &FileQuestion,
        span: Span,
        frame: &Frame<'_>,
    ) -> Option<Arc<FileAnswer>> {
        let folder = &self.description.parts[frame.part.index()].folder;
        let path = self.from_root(folder, &filled(self, file, frame)?);
        self.data_files
            .borrow_mut()
            .entry(path.clone())
            .or_insert(file.span);
        match self.environment.ask_file(&path, question) {
            Ok(answer) => Some(answer),
            Err(wrong) => {
                let said = Diagnostic::error(&mistakes::UNREADABLE_VALUE, span, wrong.title)
                    .help(wrong.help);
                let written = self.description.sources.slice(span);
                self.report(match wrong.meant {
                    Some((asked, near)) if written.ends_with(&asked) => {
                        let at = written.len() - asked.len();
                        said.instead(span.part(at, asked.len()), near)
                    }
                    _ => said,
                });
                None
            }
        }
    }
}

impl RowTest {
    fn holds(&self, cells: &[String]) -> Result<bool, Box<Diagnostic>> {
        Ok(match self {
            Self::And(left, right) => left.holds(cells)? && right.holds(cells)?,
            Self::Or(left, right) => left.holds(cells)? || right.holds(cells)?,
            Self::Not(inner) => !inner.holds(cells)?,
            Self::Compare {
                column,
                how,
                with,
                span,
            } => compare(*how, &cells[*column..=*column], with)
                .map_err(|no_number| Box::new(no_number.at(*span)))?,
        })
    }
}
