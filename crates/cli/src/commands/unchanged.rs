//! Telling that nothing has to be done before a project is opened: by asking whoever watches it, or by a look at its
//! files.

use std::path::Path;
use std::process::ExitCode;
use std::time::Instant;

use handloom_core::executor::LocalExecutor;
use handloom_core::graph::BuildRequest;
use handloom_core::project_cache::BUILD;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::Summary;
use handloom_core::text::Sources;
use handloom_core::workspace::Approach;
use handloom_core::world::Digest;

use crate::arguments::Format;
use crate::commands::run_options::cores;
use crate::commands::running;
use crate::commands::running::Work;
use crate::failure;
use crate::failure::CommandError;
use crate::signals::Signals;
use crate::standing;
use crate::standing::StandingAnswer;
use crate::standing::StandingQuery;
use crate::standing::StandingWish;
use crate::standing::TextStyle;
use crate::ui::Ui;
use crate::ui::report;

/// Tells that nothing had to be done.
pub fn tell(
    work: &Work<'_>,
    kept: usize,
    began: Instant,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let summary = Summary {
        kept,
        took: began.elapsed(),
        ..Summary::default()
    };
    let to_error = work.running.events.as_deref() == Some(Path::new("-"));
    report::say_unchanged(ui, &summary, to_error);
    if let Some(mut events) = running::event_writer(work)? {
        events.tell(&Event::Summary(summary), &Sources::default());
        if let Some(error) = events.error.take() {
            return Err(CommandError::io("can't write events", error));
        }
    }
    Ok(ExitCode::from(failure::DONE))
}

/// What whoever watches the project says, when nothing has to be done.
pub fn asked_of_watch(approach: &Approach, work: &Work<'_>) -> Option<usize> {
    if work.again || work.call.is_some() {
        return None;
    }
    ask_watch(approach, &work.names)
}

/// What whoever watches the project says of names, when nothing has to be done for them.
pub fn ask_watch(approach: &Approach, names: &[String]) -> Option<usize> {
    match ask(approach, names, StandingWish::Unchanged)? {
        StandingAnswer::Unchanged { kept, .. } => Some(kept),
        StandingAnswer::Alone | StandingAnswer::Text { .. } => None,
    }
}

/// The text that whoever watches the project has for a command that only reads.
pub fn text_of_watch(
    approach: &Approach,
    names: &[String],
    wish: impl FnOnce(TextStyle) -> StandingWish,
    format: Format,
    ui: Ui,
) -> Option<String> {
    let wish = wish(TextStyle {
        json: format == Format::Json,
        colour: ui.out.colour,
    });
    match ask(approach, names, wish)? {
        StandingAnswer::Text { text, .. } => Some(text),
        StandingAnswer::Alone | StandingAnswer::Unchanged { .. } => None,
    }
}

fn ask(approach: &Approach, names: &[String], wish: StandingWish) -> Option<StandingAnswer> {
    let query = StandingQuery {
        wish,
        build: BUILD.to_owned(),
        outside: hex(&approach.outside()),
        names: names.to_vec(),
        folder: approach.location.folder.clone(),
    };
    let digest = |name: &str| approach.environment_digest(name).map(|digest| hex(&digest));
    standing::ask(&approach.location.own(), &query, &digest)
}

/// A digest as text.
pub fn hex(digest: &Digest) -> String {
    digest.0.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The user wished for an end.
pub struct Interrupted;

/// How many steps there are, when none of them has to be looked at closer.
pub fn look(approach: &mut Approach, work: &Work<'_>) -> Result<Option<usize>, Interrupted> {
    if work.again || work.call.is_some() {
        return Ok(None);
    }
    let request = BuildRequest {
        names: work.names.clone(),
        folder: approach.location.folder.clone(),
        ..BuildRequest::default()
    };
    if !approach.asks() {
        return Ok(approach.unchanged(&request, cores(), None));
    }
    let executor = LocalExecutor::new(approach.location.root.clone(), approach.location.scratch());
    let executor = executor.with_grace(approach.settings.grace());
    let signals = Signals::heed();
    let _aim = signals.aim(executor.control(), None);
    let asker = |command: &[String], folder: &str| executor.ask(command, folder);
    let kept = approach.unchanged(&request, cores(), Some(&asker));
    if executor.control().token().is_raised() {
        return Err(Interrupted);
    }
    Ok(kept)
}
