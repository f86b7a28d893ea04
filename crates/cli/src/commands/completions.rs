//! `handloom completions`, and the answers to the Tab key.
//!
//! The script calls this program with what is typed so far. Names come from the project as it is
//! described now; nothing of it is run, and what is wrong with it is not the Tab key's to say.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::builder::StyledStr;
use clap_complete::engine::ArgValueCompleter;
use clap_complete::engine::CompletionCandidate;
use clap_complete::engine::PathCompleter;
use clap_complete::engine::ValueCompleter;
use clap_complete::env::CompleteEnv;
use clap_complete::env::Shells;

use handloom_core::language::LetHow;
use handloom_core::language::TopItem;
use handloom_core::language::ValueSyntax;
use handloom_core::project::frame::Frame;
use handloom_core::project::paths::relative;
use handloom_core::project::task_call::choices as call_choices;
use handloom_core::workspace::Access;
use handloom_core::workspace::places::HERE;

use crate::arguments::Arguments;
use crate::arguments::ColorChoice;
use crate::arguments::Common;
use crate::arguments::CompletionsArguments;
use crate::arguments::Shell;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use handloom_core::workspace::Workspace;

/// The environment variable by which a shell's script asks.
const ASKS: &str = "HANDLOOM_COMPLETE";

/// Carries the command out.
pub fn run(arguments: &CompletionsArguments, ui: Ui) -> Result<ExitCode, CommandError> {
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

/// The command for completion: at its own place too, names of files and tasks can stand.
fn for_completion() -> clap::Command {
    let command = <Arguments as clap::CommandFactory>::command();
    // Without a command, what a build takes can stand.
    let known: Vec<_> = command.get_arguments().map(clap::Arg::get_id).collect();
    let weave = command.find_subcommand("weave").into_iter();
    let options: Vec<clap::Arg> = weave
        .flat_map(clap::Command::get_arguments)
        .filter(|argument| !argument.is_positional() && !known.contains(&argument.get_id()))
        .cloned()
        .collect();
    let command = command.args(options);
    let any_name = clap::Arg::new("names").num_args(0..).add(names());
    command
        .subcommand_required(false)
        .mut_args(with_completer)
        .mut_subcommands(|sub| {
            // Help pages are long, and nobody completes towards them.
            sub.disable_help_flag(true).mut_args(with_completer)
        })
        .arg(any_name)
}

/// Arguments are completed by what they stand for.
fn with_completer(argument: clap::Arg) -> clap::Arg {
    let stands_for = argument.get_value_names().and_then(<[_]>::first);
    match stands_for.map(clap::builder::Str::as_str) {
        Some("NAME") => argument.add(names()),
        Some("TASK") => argument.add(tasks()),
        Some("VALUE") => argument.add(values()),
        Some("NAME=WORDS") => argument.add(variables()),
        Some("PLACE") => argument.add(places()),
        _ => argument,
    }
}

/// Completes files and tasks.
fn names() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        look(|read_only| {
            let mut found = files(read_only, &typed);
            found.extend(task_names(read_only, &typed));
            found
        })
        .into_iter()
        .chain(personal_names(&typed))
        .collect()
    })
}

/// Completes tasks.
fn tasks() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        let mut found = look(|read_only| task_names(read_only, &typed));
        found.extend(personal_names(&typed));
        found
    })
}

/// Completes variables, with the sign behind them.
fn variables() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| variable_names(&typed.to_string_lossy()))
}

/// Completes places of the settings.
fn places() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        let found = workspace().map(|(workspace, _)| workspace.settings.place);
        let names: BTreeSet<String> = found.into_iter().flatten().map(|(name, _)| name).collect();
        let all = names.into_iter().chain([HERE.to_owned()]);
        all.filter(|name| name.starts_with(&*typed))
            .map(CompletionCandidate::new)
            .collect()
    })
}

/// The project that the line is typed in, and how it was found.
fn workspace() -> Option<(Workspace, Common)> {
    let common = Common {
        project: typed_project(),
        color: ColorChoice::Never,
        quiet: true,
        ..Common::default()
    };
    let location = project::locate(&common).ok()?;
    let workspace = project::open(location, &common, Ui::silent(), Access::Read).ok()?;
    Some((workspace, common))
}

/// The project, without a word about what is wrong with it.
fn look<T: Default>(look: impl FnOnce(&ReadOnlyProject<'_, '_>) -> T) -> T {
    let Some((workspace, _)) = workspace() else {
        return T::default();
    };
    ReadOnlyProject::at_opened(&workspace, Ui::silent(), |read_only| Ok(look(read_only)))
        .unwrap_or_default()
}

/// The folder behind `--project` in the line that is being typed.
fn typed_project() -> Option<PathBuf> {
    let mut words = std::env::args_os().skip_while(|word| word != "--").skip(1);
    while let Some(word) = words.next() {
        if word == "--project" {
            return words.next().map(PathBuf::from);
        }
        if let Some(folder) = word
            .to_str()
            .and_then(|word| word.strip_prefix("--project="))
        {
            return Some(PathBuf::from(folder));
        }
    }
    None
}

/// The words of the line that is being typed, without options.
fn typed_words() -> Vec<String> {
    let words = std::env::args_os().skip_while(|word| word != "--").skip(2);
    let words = words.filter_map(|word| word.into_string().ok());
    words.filter(|word| !word.starts_with('-')).collect()
}

/// The values that a task's parameters take: `name=`, and files.
fn values() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        let words = typed_words();
        let task = words
            .iter()
            .position(|word| word == "run")
            .and_then(|at| words.get(at + 1));
        let mut found = look(|read_only| {
            let tasks = &read_only.project.tasks;
            let task = task.and_then(|name| tasks.iter().find(|task| task.decl.name == *name));
            let parameters = task.map(|task| task.decl.syntax.parameters.as_slice());
            let names = parameters.unwrap_or_default().iter();
            let names = names.flat_map(|parameter| {
                let name = &parameter.name.text;
                let choices = task.map(|task| call_choices(read_only.vars, &task.decl, parameter));
                let choices = choices.unwrap_or_default();
                match choices.is_empty() {
                    true => vec![format!("{name}=")],
                    // As they are, and behind the name.
                    false => choices
                        .iter()
                        .map(|choice| format!("{name}={choice}"))
                        .chain(choices.clone())
                        .collect(),
                }
            });
            names
                .filter(|name| name.starts_with(&*typed))
                .map(CompletionCandidate::new)
                .collect::<Vec<_>>()
        });
        let typed: &OsStr = typed.as_ref().as_ref();
        found.extend(PathCompleter::any().complete(typed));
        found
    })
}

/// Files that can be made, up to the next folder: of a large project nobody reads all names.
fn files(read_only: &ReadOnlyProject<'_, '_>, typed: &str) -> Vec<CompletionCandidate> {
    let folder = &read_only.workspace.location.folder;
    let mut found: BTreeSet<String> = BTreeSet::new();
    for &path in &read_only.project.sorted_outputs {
        let name = relative(read_only.project.paths.get(path), folder);
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

fn task_names(read_only: &ReadOnlyProject<'_, '_>, typed: &str) -> Vec<CompletionCandidate> {
    read_only
        .project
        .tasks
        .iter()
        .filter(|task| !task.is_called)
        .map(|task| (&task.decl.name, task.decl.clauses.about))
        .filter(|(name, _)| name.starts_with(typed))
        .map(|(name, about)| {
            let about = about.and_then(|about| about.lines().next());
            CompletionCandidate::new(name)
                .help(about.map(|about| StyledStr::from(about.to_owned())))
        })
        .collect()
}

/// The choices of a variable that has some, behind its sign.
fn choices(read_only: &ReadOnlyProject<'_, '_>, typed: &str) -> Vec<CompletionCandidate> {
    let Some((name, _)) = typed.split_once('=') else {
        return Vec::new();
    };
    let mut found = Vec::new();
    for (part, declared, definitions) in read_only.vars.declared() {
        let folder = &read_only.vars.description.parts[part.index()].folder;
        if format!("{folder}{declared}") != name {
            continue;
        }
        for definition in definitions {
            if definition.how == LetHow::OneOf
                && let ValueSyntax::Words(words) = &definition.value
                && let Some(value) = read_only.vars.words(words, &Frame::of(part))
            {
                found.extend(value.texts().map(|choice| format!("{name}={choice}")));
            }
        }
    }
    found.retain(|candidate| candidate.starts_with(typed));
    found.into_iter().map(CompletionCandidate::new).collect()
}

/// The user's own tasks, which can be run in any project.
fn personal_names(typed: &str) -> Vec<CompletionCandidate> {
    let ui = Ui::silent();
    let own = workspace().map(|(workspace, common)| project::personal(workspace, &common, ui));
    match own {
        Some(Ok(Ok(own))) => {
            ReadOnlyProject::at_opened(&own, ui, |read_only| Ok(task_names(read_only, typed)))
                .unwrap_or_default()
        }
        _ => Vec::new(),
    }
}

fn variable_names(typed: &str) -> Vec<CompletionCandidate> {
    look(|read_only| {
        if typed.contains('=') {
            return choices(read_only, typed);
        }
        let mut names: Vec<String> = Vec::new();
        for part in &read_only.vars.description.parts {
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
