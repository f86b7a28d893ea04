//! The commands, one file each, and what they have in common.

mod accept;
mod clean;
pub mod completions;
mod demo;
mod export;
mod findings;
mod graph;
mod history;
mod lineage;
mod lineage_again;
mod list;
mod log;
mod manual;
mod mend;
mod new;
mod places;
mod preview;
mod read_only;
mod report;
mod run;
mod run_options;
mod running;
mod settings;
mod sketch;
mod step_reads;
mod store;
mod tidy;
mod unchanged;
mod watch;
mod watch_answers;
mod watch_mend;
mod watch_run;
mod weave;
mod why;
mod worker;

use std::ffi::OsString;
use std::process::ExitCode;

use clap::Parser;

use crate::arguments::Arguments;
use crate::arguments::Command;
use crate::arguments::Common;
use crate::command_line::parse;
use crate::failure::CommandError;
use crate::language_server;
use crate::ui::Ui;

/// Does what was typed; gives the exit status.
pub fn run(arguments: impl Iterator<Item = OsString>) -> ExitCode {
    // A file that may not grow any more is told of by the write; it must not end us.
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, std::sync::Arc::default());
    completions::answer();
    let typed: Vec<OsString> = arguments.collect();
    if let Some(ended) = worker::run(&typed) {
        return ended;
    }
    if let Some((common, task)) = help_of_task(&typed) {
        let ui = Ui::new(&common);
        return run::help(&common, &task, ui).unwrap_or_else(|failure| {
            ui.failure(&failure);
            failure.code()
        });
    }
    let arguments = match parse(typed.clone()) {
        Ok(arguments) => arguments,
        Err(error) => {
            // Help that nobody reads to its end is no failure.
            let _ = error.print();
            if let Some(hint) = hint_for(&error, &typed) {
                Ui::new(&Common::default()).say(&format!("help: {hint}\n"));
            }
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

/// `handloom run TASK … --help` asks for the help of that task.
fn help_of_task(typed: &[OsString]) -> Option<(Common, String)> {
    let words: Vec<&str> = typed.iter().filter_map(|word| word.to_str()).collect();
    let end = words
        .iter()
        .position(|word| *word == "--")
        .unwrap_or(words.len());
    let words = &words[..end];
    let run = words
        .iter()
        .skip(1)
        .position(|word| !word.starts_with('-'))?
        + 1;
    let asks = |word: &&&str| matches!(**word, "--help" | "-h");
    if words[run] != "run" || !words[run + 1..].iter().any(|word| asks(&word)) {
        return None;
    }
    // Without `--help` it is a whole line, or has no task.
    let without = words.iter().filter(|word| !asks(word));
    let arguments = Arguments::try_parse_from(without).ok()?;
    match arguments.command {
        Command::Run(run) => Some((arguments.common, run.task)),
        _ => None,
    }
}

/// Options that have another name now.
const RENAMED: [(&str, &str); 1] = [("--remake", "--again")];

/// What may have been meant by an option that no command has: `handloom tests -x` hands nothing to a task.
fn hint_for(error: &clap::Error, typed: &[OsString]) -> Option<String> {
    if error.kind() != clap::error::ErrorKind::UnknownArgument {
        return None;
    }
    let words: Vec<&str> = typed
        .iter()
        .skip(1)
        .filter_map(|word| word.to_str())
        .collect();
    let renamed = RENAMED.iter().find(|(was, _)| words.contains(was));
    if let Some((was, now)) = renamed {
        return Some(format!("`{was}` is called `{now}` now"));
    }
    let (first, rest) = words.split_first()?;
    let command = <Arguments as clap::CommandFactory>::command();
    let task = match *first {
        "run" => *rest.first().filter(|word| !word.starts_with('-'))?,
        first if first.starts_with('-') || command.find_subcommand(first).is_some() => return None,
        first => first,
    };
    let from = words.iter().position(|word| word.starts_with('-'))?;
    Some(format!(
        "words for a task stand behind `--`: `handloom run {task} -- {}`",
        words[from..].join(" ")
    ))
}

fn dispatch(arguments: &Arguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let common = &arguments.common;
    match &arguments.command {
        Command::Weave(weave) => weave::run(common, weave, ui),
        Command::Run(run) => run::run(common, run, ui),
        Command::List(list) => list::run(common, list, ui),
        Command::Preview(preview) => preview::run(common, preview, ui),
        Command::Why(why) => why::run(common, why, ui),
        Command::Graph(graph) => graph::run(common, graph, ui),
        Command::History(history) => history::run(common, history, ui),
        Command::Log(log) => log::run(common, log, ui),
        Command::Findings(findings) => findings::run(common, findings, ui),
        Command::Lineage(lineage) => lineage::run(common, lineage, ui),
        Command::Report(report) => report::run(common, report, ui),
        Command::Export(export) => export::run(common, export, ui),
        Command::Watch(watch) => watch::run(common, watch, ui),
        Command::Accept(accept) => accept::run(common, accept, ui),
        Command::Clean(clean) => clean::run(common, clean, ui),
        Command::Store(store) => store::run(store, ui),
        Command::New(new) => new::run(common, new, ui),
        Command::Sketch(sketch) => sketch::run(common, sketch, ui),
        Command::Tidy(tidy) => tidy::run(common, tidy, ui),
        Command::Settings(settings) => settings::run(common, settings, ui),
        Command::Demo(demo) => demo::run(common, demo, ui),
        Command::Manual(manual) => manual::run(manual, ui),
        Command::Completions(arguments) => completions::run(arguments, ui),
        Command::LanguageServer => language_server::run(),
    }
}
