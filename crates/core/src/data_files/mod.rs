//! Values out of files: a key of a JSON, TOML or YAML file, the lines of a text, the columns of a table.
//!
//! What is asked of a file is a [`FileQuestion`]. Whoever keeps the digest of an answer can ask again later and tell
//! whether the same is answered, whatever else of the file is another now: so a parameter that nobody uses, or a
//! column that nobody names, is no reason for anything.

mod answer;
mod assignments;
mod file;
mod json;
mod node;
mod table;
mod toml;
mod yaml;

pub use answer::DataError;
pub use answer::FileAnswer;
pub use answer::FileQuestion;
pub use file::DataFile;
pub use file::MAX_SIZE;
