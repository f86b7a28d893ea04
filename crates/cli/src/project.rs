//! Opening a project as a command does: with the options that were typed, and with words for what is noticed.

use std::path::Path;

use handloom_core::records::Runs;
use handloom_core::records::StandingFindings;
use handloom_core::scheduler::BuildError;
use handloom_core::scheduler::Recovered;
use handloom_core::text::Diagnostic;
use handloom_core::workspace::Access;
use handloom_core::workspace::Approach;
use handloom_core::workspace::Note;
use handloom_core::workspace::OpenOptions;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::UserFolders;
use handloom_core::workspace::Workspace;

use crate::arguments::Common;
use crate::command_line::command_names;
use crate::failure::CommandError;
use crate::ui::Ui;
use crate::ui::text;

/// The folders of the user's own files.
pub fn user() -> UserFolders {
    UserFolders::from_env()
}

/// Finds the project around the folder that the options name, or the current one.
pub fn locate(common: &Common) -> Result<ProjectLocation, CommandError> {
    let location = ProjectLocation::find(common.project.as_deref(), &user())?;
    Ok(location)
}

/// The numbers of the runs that are kept, oldest first.
pub fn kept_runs(runs: &Runs) -> Result<Vec<u64>, CommandError> {
    runs.numbers().map_err(|error| {
        CommandError::io("can't read the records of runs in `.handloom/runs`", error)
    })
}

/// There is no record of any run yet.
pub fn nothing_ran() -> CommandError {
    CommandError::usage(
        "nothing has run in this project yet",
        "`handloom` runs what has a reason to",
    )
}

/// What jobs said of sources when they ran last.
pub fn standing_findings(own_folder: &Path) -> Result<StandingFindings, CommandError> {
    StandingFindings::read(own_folder)
        .map_err(|error| CommandError::io("can't read the findings in `.handloom/findings`", error))
}

/// Opens a project.
pub fn open(
    location: ProjectLocation,
    common: &Common,
    ui: Ui,
    access: Access,
) -> Result<Workspace, CommandError> {
    let options = options(common, access)?;
    let workspace = Workspace::open(location, &user(), &options, &mut |note| say(ui, &note))?;
    Ok(workspace)
}

/// The way to a project that is not opened yet.
pub fn approach(location: ProjectLocation, common: &Common) -> Result<Approach, CommandError> {
    let approach = Approach::new(location, &user(), &options(common, Access::Read)?)?;
    Ok(approach)
}

/// Opens a folder that is no project, for tasks of the user's own.
pub fn open_without_project(
    location: ProjectLocation,
    common: &Common,
    ui: Ui,
    access: Access,
) -> Result<Workspace, CommandError> {
    let options = OpenOptions {
        personal: true,
        ..options(common, access)?
    };
    let workspace = Workspace::open(location, &user(), &options, &mut |note| say(ui, &note))?;
    Ok(workspace)
}

/// Opens a project that was approached.
pub fn open_after(
    approach: Approach,
    common: &Common,
    ui: Ui,
    access: Access,
) -> Result<Workspace, CommandError> {
    let options = options(common, access)?;
    let workspace = Workspace::open_after(approach, &user(), &options, &mut |note| say(ui, &note))?;
    Ok(workspace)
}

/// Finds and opens a project for a command that only reads.
pub fn read(common: &Common, ui: Ui) -> Result<Workspace, CommandError> {
    open(locate(common)?, common, ui, Access::Read)
}

/// The same project with the user's own tasks; gives it back as it is when the user has none.
pub fn personal(
    workspace: Workspace,
    common: &Common,
    ui: Ui,
) -> Result<Result<Workspace, Box<Workspace>>, CommandError> {
    let options = options(common, Access::Read)?;
    let personal = workspace.personal(&options, &mut |note| say(ui, &note))?;
    Ok(personal)
}

fn options(common: &Common, access: Access) -> Result<OpenOptions, CommandError> {
    let lets = common.lets.iter().map(|set| {
        let (name, words) = set.split_once('=').ok_or_else(|| {
            CommandError::usage(
                format!("`--let {set}` has no `=`"),
                "write `--let name=words`",
            )
        })?;
        Ok((name.trim().to_owned(), words.to_owned()))
    });
    Ok(OpenOptions {
        access,
        personal: false,
        lets: lets.collect::<Result<_, CommandError>>()?,
        commands: command_names,
    })
}

/// What is wrong with a project's description.
pub fn wrong(workspace: &Workspace, diagnostics: Vec<Diagnostic>) -> CommandError {
    let sources = Box::new(workspace.description.sources.clone());
    CommandError::Description(sources, diagnostics)
}

/// Why a build in a project could not be carried out.
pub fn build_failed(workspace: &Workspace, error: BuildError) -> CommandError {
    match error {
        BuildError::Description(diagnostics) => wrong(workspace, diagnostics),
        BuildError::Io { what, source } => CommandError::io(what, source),
    }
}

fn say(ui: Ui, note: &Note<'_>) {
    match note {
        Note::LedgerSetAside { to, reason } => {
            let moved = if to.is_empty() {
                String::new()
            } else {
                format!(" and was moved to `{to}`")
            };
            ui.say(&format!(
                "note: the ledger can't be used ({reason}){moved}; everything is made again\n"
            ));
        }
        Note::Recovered(recovered) => ui.say(&told(recovered)),
        Note::LikeACommand(name) => {
            let name = text::safe(name);
            ui.say(&format!(
                "note: `handloom {name}` is a command; the task is run with `handloom run {name}`\n"
            ));
        }
        Note::Warnings(sources, warnings) => ui.diagnostics(sources, warnings),
    }
}

fn told(recovered: &Recovered) -> String {
    let mut parts = Vec::new();
    let list = |names: &[String]| {
        let mut names: Vec<String> = names
            .iter()
            .map(|name| format!("`{}`", text::safe(name)))
            .collect();
        names.sort_unstable();
        names.dedup();
        let more = names.len().saturating_sub(6);
        names.truncate(6);
        let more = if more > 0 {
            format!(" and {more} more")
        } else {
            String::new()
        };
        format!("{}{more}", names.join(", "))
    };
    if !recovered.ended.is_empty() {
        parts.push(format!(
            "still running and ended now: {}",
            list(&recovered.ended)
        ));
    }
    if !recovered.put_back.is_empty() {
        parts.push(format!(
            "put back as before it: {}",
            list(&recovered.put_back)
        ));
    }
    if !recovered.moved.is_empty() {
        let moved: Vec<String> = recovered.moved.iter().map(|(_, to)| to.clone()).collect();
        parts.push(format!("what it left half done is now {}", list(&moved)));
    }
    format!("note: the last run was killed; {}\n", parts.join("; "))
}

/// Writes a description anew; `name` is for a message.
///
/// # Errors
/// When it can't be written; what was there is there still.
pub fn write_description(path: &Path, name: &str, text: &str) -> Result<(), CommandError> {
    // Beside and renamed, so that a full disk cannot cost the description.
    let beside = path.with_extension("loom.new");
    std::fs::write(&beside, text)
        .and_then(|()| std::fs::rename(&beside, path))
        .map_err(|error| CommandError::io(format!("can't write `{name}`"), error))
}
