//! Hand Loom, the command-line program.

mod arguments;
mod command_line;
mod commands;
mod drawing;
mod failure;
mod language_server;
mod project;
mod reporting;
mod signals;
mod standing;
mod ui;
mod watching;

use std::process::ExitCode;

/// Descriptions are many small values; this allocator halves the time they take.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    commands::run(std::env::args_os())
}
