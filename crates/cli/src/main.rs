//! Hand Loom, the command-line program.

mod arguments;
mod command_line;
mod commands;
mod drawing;
mod failure;
mod project;
mod reporting;
mod signals;
mod standing;
mod ui;
mod watching;

use std::process::ExitCode;

use handloom_core::executor::watching::launcher;

/// Descriptions are many small values; this allocator halves the time they take.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    if let Some(status) = launcher::run_if_called(std::env::args_os()) {
        return ExitCode::from(status);
    }
    commands::run(std::env::args_os())
}
