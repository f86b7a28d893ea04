//! Commands for a project that is new.

use std::path::PathBuf;

use clap::Args;
use clap::ValueEnum;

use crate::arguments::RunningArguments;

/// `handloom new`
#[derive(Args, Debug)]
pub struct NewArguments {
    /// The folder of the new project.
    #[arg(value_name = "FOLDER", default_value = ".")]
    pub folder: PathBuf,
    /// Write nothing: print what could be described of what is there, also beside a description.
    #[arg(long)]
    pub show: bool,
}

/// `handloom sketch`
#[derive(Args, Debug)]
pub struct SketchArguments {
    /// Only these scripts [default: all that are missing].
    #[arg(value_name = "FILE")]
    pub files: Vec<String>,
}

/// A demonstration project.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Example {
    /// A C program, the logs of a year, and a page: the almanac of the Vellan lights.
    Almanac,
    /// A study with samples, a sweep of parameters, figures and a text: the lights in fog. It needs only Python and awk.
    Fog,
}

/// `handloom demo`
#[derive(Args, Debug)]
pub struct DemoArguments {
    /// The folder to write to; it must not hold anything [default: named after the project].
    #[arg(value_name = "FOLDER")]
    pub folder: Option<PathBuf>,
    /// Which project.
    #[arg(long, value_name = "NAME", default_value = "almanac")]
    pub example: Example,
    /// How to run.
    #[command(flatten)]
    pub running: RunningArguments,
}

/// `handloom export`
#[derive(Args, Debug)]
pub struct ExportArguments {
    /// What is written.
    #[arg(value_name = "WHAT")]
    pub form: ExportForm,
    /// Files that the script makes, or whose sources are told of [default: the default targets; of sources, all].
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// Where it is written; `-` is standard output [default: `-` for a script, `compile_commands.json` for sources].
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
}

/// What is written for others.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ExportForm {
    /// A script for any POSIX shell that makes everything, in order.
    Script,
    /// A JSON compilation database: how each source of C, C++ or Objective-C is compiled.
    CompileCommands,
}
