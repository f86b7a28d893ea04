//! The commands, one file each, and what they have in common.

mod clean;
pub mod completions;
mod demo;
mod graph;
mod history;
mod list;
mod looking;
mod manual;
mod new;
mod preview;
mod report;
mod run;
mod running;
mod settings;
mod tidy;
mod watch;
mod weave;
mod why;

pub use running::put_in_order;

use std::ffi::OsString;
use std::process::ExitCode;

use clap::Parser;

use crate::arguments::Arguments;
use crate::arguments::Command;
use crate::arguments::with_command;
use crate::failure::Failure;
use crate::ui::Ui;

/// Does what was typed; gives the exit status.
pub fn run(arguments: impl Iterator<Item = OsString>) -> ExitCode {
    // A file that may not grow any more is told of by the write; it must not end us.
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, std::sync::Arc::default());
    completions::answer();
    let arguments = match Arguments::try_parse_from(with_command(arguments.collect())) {
        Ok(arguments) => arguments,
        Err(error) => {
            // Help that nobody reads to its end is no failure.
            let _ = error.print();
            return ExitCode::from(if error.use_stderr() {
                crate::failure::DESCRIPTION
            } else {
                crate::failure::DONE
            });
        }
    };
    let ui = Ui::new(&arguments.common);
    let result = dispatch(&arguments, ui);
    result.unwrap_or_else(|failure| {
        ui.failure(&failure);
        failure.code()
    })
}

fn dispatch(arguments: &Arguments, ui: Ui) -> Result<ExitCode, Failure> {
    let common = &arguments.common;
    match &arguments.command {
        Command::Weave(weave) => weave::run(common, weave, ui),
        Command::Run(run) => run::run(common, run, ui),
        Command::List(list) => list::run(common, list, ui),
        Command::Preview(preview) => preview::run(common, preview, ui),
        Command::Why(why) => why::run(common, why, ui),
        Command::Graph(graph) => graph::run(common, graph, ui),
        Command::History(history) => history::run(common, history, ui),
        Command::Report(report) => report::run(common, report, ui),
        Command::Watch(watch) => watch::run(common, watch, ui),
        Command::Clean(clean) => clean::run(common, clean, ui),
        Command::New(new) => new::run(new, ui),
        Command::Tidy(tidy) => tidy::run(common, tidy, ui),
        Command::Settings(settings) => settings::run(common, settings, ui),
        Command::Demo(demo) => demo::run(common, demo, ui),
        Command::Manual(manual) => manual::run(manual, ui),
        Command::Completions(arguments) => completions::run(arguments, ui),
    }
}
