//! Arguments of the commands that tell of earlier runs.

use std::path::PathBuf;

use clap::Args;

use crate::arguments::Format;

/// `handloom history`
#[derive(Args, Debug)]
pub struct HistoryArguments {
    /// A file or a task: how long it took and why it ran, each time.
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom findings`
#[derive(Args, Debug)]
pub struct FindingsArguments {
    /// Only what was said of these files and folders.
    #[arg(value_name = "FILE")]
    pub files: Vec<String>,
    /// Only what came with the last run.
    #[arg(long)]
    pub new: bool,
    /// Write a file: SARIF (.sarif), or the same as `--format json` (.json).
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// How to answer without `--to`.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom lineage`
#[derive(Args, Debug)]
pub struct LineageArguments {
    /// A file or whole folder that a target makes.
    #[arg(value_name = "NAME")]
    pub file: String,
    /// Each step by itself, whole recipes, each source with its content.
    #[arg(long)]
    pub all: bool,
    /// Say only whether all of it still is as it was then.
    #[arg(long, conflicts_with = "to")]
    pub check: bool,
    /// Make the file anew from the recorded sources in this folder, which is empty or not there yet, and compare byte for byte.
    #[arg(long, value_name = "FOLDER", conflicts_with = "to")]
    pub again: Option<PathBuf>,
    /// Write PROV-JSON (.prov.json), the same as `--format json` (.json), or a Process Run Crate (a folder).
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Write the metadata of a Process Run Crate alone.
    #[arg(long, requires = "to")]
    pub without_files: bool,
    /// Jobs of `--again` that may run at once [default: the number of cores].
    #[arg(short, long, value_name = "N", requires = "again")]
    pub jobs: Option<usize>,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom log`
#[derive(Args, Debug)]
pub struct LogArguments {
    /// A file or a task.
    #[arg(value_name = "NAME")]
    pub name: String,
    /// While it runs, go on until it ends.
    #[arg(long)]
    pub follow: bool,
    /// Only what it printed in this run; `handloom history` shows their numbers.
    #[arg(long, value_name = "RUN")]
    pub run: Option<u64>,
}

/// `handloom report`
#[derive(Args, Debug)]
pub struct ReportArguments {
    /// The number of the run, as `handloom history` shows it [default: the last one].
    #[arg(value_name = "RUN")]
    pub run: Option<u64>,
    /// Put another run beside it, such as one before a change.
    #[arg(long, value_name = "RUN", conflicts_with = "history")]
    pub against: Option<u64>,
    /// All runs that are kept, instead of one: how long they took, what was restored, the slowest steps, what fails.
    #[arg(long, conflicts_with = "run")]
    pub history: bool,
    /// Write a file: a page (.html); of one run also a trace for browsers' profilers (.json), or results for build
    /// servers (.xml).
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// How to answer without `--to`.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}
