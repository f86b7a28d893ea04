//! Hand Loom, the command-line program.

mod arguments;
mod commands;
mod context;
mod failure;
mod lock;
mod settings;
mod ui;

use std::process::ExitCode;

fn main() -> ExitCode {
    commands::run(std::env::args_os())
}
