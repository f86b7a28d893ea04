//! Tables: CSV as RFC 4180 has it, the same with tabs, and JSON arrays of objects.

use crate::data_files::answer::DataError;
use crate::data_files::answer::FileAnswer;
use crate::data_files::answer::listed;
use crate::data_files::node::DataNode;
use crate::text::nearest;

/// A table that was read.
pub struct Table {
    header: Vec<String>,
    rows: Vec<TableRow>,
    /// What a row's place is called: `line` or `row`.
    place: &'static str,
}

struct TableRow {
    place: u64,
    cells: Cells,
}

enum Cells {
    Written(csv::StringRecord),
    /// Of an object; none where it has not this key.
    Named(Vec<Option<String>>),
}

impl Table {
    /// Reads a table whose cells stand between these bytes; its first line is the header.
    pub fn read(name: &str, text: &str, between: u8) -> Result<Self, DataError> {
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(between)
            .flexible(true)
            .from_reader(text.as_bytes());
        let wrong = |error: &csv::Error| {
            let line = error.position().map_or(0, csv::Position::line);
            DataError::new(
                format!("`{name}` line {line} can't be read as a table"),
                "cells stand between commas, or tabs in a file that ends with `.tsv`; one that has a comma or a line end in it goes in quotes",
            )
        };
        let header = reader.headers().map_err(|error| wrong(&error))?;
        let header: Vec<String> = header.iter().map(str::to_owned).collect();
        let mut rows = Vec::new();
        for record in reader.into_records() {
            let record = record.map_err(|error| wrong(&error))?;
            let place = record.position().map_or(0, csv::Position::line);
            if record.len() != header.len() {
                let cells = |count: usize| match count {
                    1 => "one cell".to_owned(),
                    count => format!("{count} cells"),
                };
                return Err(DataError::new(
                    format!(
                        "`{name}` line {place} has {}, and the header has {}",
                        cells(record.len()),
                        cells(header.len())
                    ),
                    "give each row as many cells as the header has; one that has a comma in it goes in quotes",
                ));
            }
            let cells = Cells::Written(record);
            rows.push(TableRow { place, cells });
        }
        let place = "line";
        Ok(Self {
            header,
            rows,
            place,
        })
    }

    /// The objects of a JSON array, each a row.
    pub fn of_objects(name: &str, node: &DataNode) -> Result<Self, DataError> {
        let no_table = |what: &str| {
            DataError::new(
                format!("`{name}` is no table: {what}"),
                "a table in JSON is an array of objects, each a row with its cells under the columns' names",
            )
        };
        let DataNode::List(items) = node else {
            return Err(no_table("it does not begin with `[`"));
        };
        let mut header: Vec<String> = Vec::new();
        let mut objects = Vec::with_capacity(items.len());
        for (number, item) in (1u64..).zip(items) {
            let DataNode::Object(entries) = &**item else {
                return Err(no_table(&format!("its item {number} is no object")));
            };
            for (key, _) in entries {
                if !header.contains(key) {
                    header.push(key.clone());
                }
            }
            objects.push((number, entries));
        }
        let cell = |entries: &[(String, std::sync::Arc<DataNode>)], column: &String| {
            let found = entries.iter().find(|(key, _)| key == column)?;
            match &*found.1 {
                DataNode::Scalar(text) => Some(text.clone()),
                DataNode::Null | DataNode::List(_) | DataNode::Object(_) => None,
            }
        };
        let rows = objects.into_iter().map(|(place, entries)| TableRow {
            place,
            cells: Cells::Named(header.iter().map(|column| cell(entries, column)).collect()),
        });
        let rows = rows.collect();
        let place = "row";
        Ok(Self {
            header,
            rows,
            place,
        })
    }

    /// How its columns are named: as they are, or with `_` where no name can be like that.
    pub fn column_names(&self) -> Vec<String> {
        let names = self.header.iter().map(|name| plain_name(name));
        names.filter(|name| !name.is_empty()).collect()
    }

    /// These columns of each row.
    pub fn columns(&self, name: &str, columns: &[String]) -> Result<FileAnswer, DataError> {
        let numbers: Result<Vec<usize>, DataError> = columns
            .iter()
            .map(|column| self.column(name, column))
            .collect();
        let numbers = numbers?;
        let mut answer = FileAnswer {
            words: Vec::with_capacity(self.rows.len() * numbers.len()),
            is_list: true,
            places: Vec::with_capacity(self.rows.len()),
        };
        for row in &self.rows {
            for (&number, column) in numbers.iter().zip(columns) {
                let cell = match &row.cells {
                    Cells::Written(record) => record.get(number),
                    Cells::Named(cells) => cells[number].as_deref(),
                };
                let cell = cell.ok_or_else(|| {
                    DataError::new(
                        format!(
                            "`{name}` {} {} has no plain value for `{column}`",
                            self.place, row.place
                        ),
                        "give each row a text or a number there",
                    )
                })?;
                answer.words.push(cell.to_owned());
            }
            answer.places.push(row.place);
        }
        Ok(answer)
    }

    /// The number of a column: by its name, or by its name with `_` in place of what no name has.
    fn column(&self, name: &str, column: &str) -> Result<usize, DataError> {
        let exact = positions(&self.header, |known| known == column);
        let found = match exact.is_empty() {
            true => positions(&self.header, |known| plain_name(known) == column),
            false => exact,
        };
        match found[..] {
            [number] => Ok(number),
            [] => {
                let known = || self.header.iter().map(String::as_str);
                let near = nearest(column, known());
                let meant =
                    near.map_or_else(String::new, |near| format!("did you mean `{near}`? "));
                let between = match self.header.as_slice() {
                    [one] if one.contains([';', '\t', '|']) => {
                        " Cells stand between commas, or tabs in a file that ends with `.tsv`."
                    }
                    _ => "",
                };
                let title = format!("`{name}` has no column `{column}`");
                let help = format!("{meant}The columns: {}.{between}", listed(known()));
                Err(DataError::new(title, help).meant(column, near))
            }
            _ => Err(DataError::new(
                format!("`{name}` has more than one column `{column}`"),
                "give each column a name of its own",
            )),
        }
    }
}

fn positions(header: &[String], is: impl Fn(&str) -> bool) -> Vec<usize> {
    let known = header.iter().enumerate();
    known
        .filter(|(_, known)| is(known))
        .map(|(at, _)| at)
        .collect()
}

/// A column's name as a name of the language.
fn plain_name(column: &str) -> String {
    let plain = |c: char| {
        if c.is_alphanumeric() || c == '-' {
            c
        } else {
            '_'
        }
    };
    column.trim().chars().map(plain).collect()
}
