//! A file that values come from, read when something is asked of it.

use std::cell::OnceCell;

use crate::data_files::answer::DataError;
use crate::data_files::answer::FileAnswer;
use crate::data_files::answer::FileQuestion;
use crate::data_files::assignments;
use crate::data_files::json;
use crate::data_files::node::DataNode;
use crate::data_files::table::Table;
use crate::data_files::toml;
use crate::data_files::yaml;

/// A file is at most so large, bytes.
pub const MAX_SIZE: u64 = 1 << 29;

/// A file that values come from.
pub struct DataFile {
    name: String,
    text: String,
    tree: OnceCell<Result<DataNode, DataError>>,
    table: OnceCell<Result<Table, DataError>>,
}

impl DataFile {
    /// A file by its name, of which the ending tells the format.
    ///
    /// # Errors
    /// When it is not UTF-8.
    pub fn new(name: &str, bytes: Vec<u8>) -> Result<Self, DataError> {
        let mut text = String::from_utf8(bytes).map_err(|error| {
            let bytes = error.as_bytes();
            let valid = error.utf8_error().valid_up_to();
            let line = bytes[..valid].iter().filter(|&&b| b == b'\n').count() + 1;
            DataError::new(
                format!(
                    "`{name}` is not UTF-8: line {line} has the byte 0x{:02X}",
                    bytes[valid]
                ),
                "save the file as UTF-8",
            )
        })?;
        if let Some(at) = text.find('\0') {
            let line = text[..at].matches('\n').count() + 1;
            return Err(DataError::new(
                format!("`{name}` line {line} has a zero byte, which no word can hold"),
                "is it a text?",
            ));
        }
        if text.starts_with('\u{feff}') {
            text.remove(0);
        }
        Ok(Self {
            name: name.to_owned(),
            text,
            tree: OnceCell::new(),
            table: OnceCell::new(),
        })
    }

    /// Answers a question.
    ///
    /// # Errors
    /// When the file is not written as its ending says, or has not what is asked for.
    pub fn answer(&self, question: &FileQuestion) -> Result<FileAnswer, DataError> {
        match question {
            FileQuestion::Value(key) => self.tree()?.value(&self.name, key),
            FileQuestion::Lines => Ok(self.lines()),
            FileQuestion::Assignments => assignments::read(&self.name, &self.text),
            FileQuestion::Columns(columns) => self.table()?.columns(&self.name, columns),
        }
    }

    /// The keys below a key, all the way from the top; of a list the numbers of what stands in it. Nothing where there are none.
    #[must_use]
    pub fn keys_below(&self, key: &[String]) -> Vec<String> {
        self.tree()
            .map(|tree| tree.keys_below(key))
            .unwrap_or_default()
    }

    /// The columns of a table, as they are named in a description; none of what is no table.
    #[must_use]
    pub fn column_names(&self) -> Vec<String> {
        self.table().map(Table::column_names).unwrap_or_default()
    }

    fn ending(&self) -> String {
        let name = &self.name[self.name.rfind('/').map_or(0, |at| at + 1)..];
        let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
        ending.to_ascii_lowercase()
    }

    fn tree(&self) -> Result<&DataNode, DataError> {
        let read = || match &*self.ending() {
            "json" => json::read(&self.name, &self.text),
            "toml" => toml::read(&self.name, &self.text),
            "yaml" | "yml" => yaml::read(&self.name, &self.text),
            _ => Err(DataError::new(
                format!("`{}` is no file that has keys", self.name),
                "a value stands in a file that ends with `.json`, `.toml`, `.yaml` or `.yml`",
            )),
        };
        self.tree.get_or_init(read).as_ref().map_err(Clone::clone)
    }

    fn table(&self) -> Result<&Table, DataError> {
        let read = || match &*self.ending() {
            "json" => Table::of_objects(&self.name, self.tree()?),
            "tsv" | "tab" => Table::read(&self.name, &self.text, b'\t'),
            _ => Table::read(&self.name, &self.text, b','),
        };
        self.table.get_or_init(read).as_ref().map_err(Clone::clone)
    }

    fn lines(&self) -> FileAnswer {
        let lines = self.text.lines();
        let words = lines.filter(|line| !line.trim().is_empty());
        FileAnswer {
            words: words.map(str::to_owned).collect(),
            is_list: true,
            places: Vec::new(),
        }
    }
}
