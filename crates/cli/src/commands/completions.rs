//! `handloom completions`, and the answers to the Tab key.
//!
//! The script calls this program with what is typed so far. Names come from the project as it is
//! described now; nothing of it is run, and what is wrong with it is not the Tab key's to say.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::process::ExitCode;

use clap::builder::StyledStr;
use clap_complete::engine::ArgValueCompleter;
use clap_complete::engine::CompletionCandidate;
use clap_complete::env::CompleteEnv;
use clap_complete::env::Shells;

use handloom_core::language::TopItem;
use handloom_core::project::script::relative;

use crate::arguments::ColorChoice;
use crate::arguments::Common;
use crate::arguments::CompletionsArguments;
use crate::arguments::Shell;
use crate::arguments::for_completion;
use crate::commands::looking::Looking;
use crate::context::Located;
use crate::context::Opened;
use crate::failure::Failure;
use crate::ui::Ui;

/// The environment variable by which a shell's script asks.
const ASKS: &str = "HANDLOOM_COMPLETE";

/// Carries the command out.
pub fn run(arguments: &CompletionsArguments, ui: Ui) -> Result<ExitCode, Failure> {
    let name = match arguments.shell {
        Shell::Bash => "bash",
        Shell::Zsh => "zsh",
        Shell::Fish => "fish",
    };
    let shells = Shells::builtins();
    let mut script = Vec::new();
    if let Some(shell) = shells.completer(name) {
        shell.write_registration(ASKS, "handloom", "handloom", "handloom", &mut script)?;
    }
    ui.print(&String::from_utf8_lossy(&script))?;
    Ok(ExitCode::SUCCESS)
}

/// Answers a shell and ends, when it was a shell that asked.
pub fn answer() {
    CompleteEnv::with_factory(for_completion)
        .var(ASKS)
        .complete();
}

/// Completes files and tasks.
pub fn names() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        look(|looking| {
            let mut found = files(looking, &typed);
            found.extend(task_names(looking, &typed));
            found
        })
    })
}

/// Completes tasks.
pub fn tasks() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        look(|looking| task_names(looking, &typed.to_string_lossy()))
    })
}

/// Completes variables, with the sign behind them.
pub fn variables() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| variable_names(&typed.to_string_lossy()))
}

/// The project, without a word about what is wrong with it.
fn look<T: Default>(look: impl FnOnce(&Looking<'_, '_>) -> T) -> T {
    let common = Common {
        project: None,
        lets: Vec::new(),
        color: ColorChoice::Never,
        quiet: true,
        verbose: false,
    };
    let ui = Ui::silent();
    let opened =
        Located::find(&common).and_then(|located| Opened::open(located, &common, ui, false));
    let Ok(opened) = opened else {
        return T::default();
    };
    Looking::at_opened(&opened, ui, |looking| Ok(look(looking))).unwrap_or_default()
}

/// Files that can be made, up to the next folder: of a large project nobody reads all names.
fn files(looking: &Looking<'_, '_>, typed: &str) -> Vec<CompletionCandidate> {
    let folder = &looking.opened.located.folder;
    let mut found: BTreeSet<String> = BTreeSet::new();
    for &path in &looking.project.sorted_outputs {
        let name = relative(looking.project.paths.get(path), folder);
        let Some(rest) = name.strip_prefix(typed) else {
            continue;
        };
        let end = rest.find('/').map_or(name.len(), |at| typed.len() + at + 1);
        if !found.contains(&name[..end]) {
            found.insert(name[..end].to_owned());
        }
    }
    found.into_iter().map(CompletionCandidate::new).collect()
}

fn task_names(looking: &Looking<'_, '_>, typed: &str) -> Vec<CompletionCandidate> {
    looking
        .project
        .tasks
        .iter()
        .map(|task| (&task.decl.name, task.decl.clauses.about))
        .filter(|(name, _)| name.starts_with(typed))
        .map(|(name, about)| {
            let about = about.and_then(|about| about.lines().next());
            CompletionCandidate::new(name)
                .help(about.map(|about| StyledStr::from(about.to_owned())))
        })
        .collect()
}

fn variable_names(typed: &str) -> Vec<CompletionCandidate> {
    look(|looking| {
        let mut names: Vec<String> = Vec::new();
        for part in &looking.vars.description.parts {
            for item in &part.items {
                if let TopItem::Let(definition) = item {
                    names.push(format!("{}{}=", part.folder, definition.name.text));
                }
            }
        }
        names.sort_unstable();
        names.dedup();
        names
            .into_iter()
            .filter(|name| name.starts_with(typed))
            .map(CompletionCandidate::new)
            .collect()
    })
}
