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
    /// Write a file: a page (.html), a trace for browsers' profilers (.json), or results for build
    /// servers (.xml).
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// How to answer without `--to`.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}
