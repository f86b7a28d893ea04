//! A watched project that can't be read: what is wrong is shown, and mending it is waited for.

use handloom_core::status::WatchSet;
use handloom_core::text::Diagnostic;
use handloom_core::text::Sources;
use handloom_core::world::RealDisk;

use crate::commands::watch::Watch;
use crate::failure::CommandError;
use crate::watching::RebuildRequest;

impl Watch<'_> {
    /// Whether something changed between reading and watching. Twice in a row is a sign that it always
    /// seems so: a third look at once would change nothing.
    pub(super) fn is_news(&mut self, shifted: bool) -> bool {
        self.shifts = if shifted { self.shifts + 1 } else { 0 };
        (1..=2).contains(&self.shifts)
    }

    /// Shows what is wrong with the project, and waits until it may have been mended.
    pub(super) fn mend(
        &mut self,
        failure: CommandError,
        mut watch_set: WatchSet,
    ) -> Result<RebuildRequest, CommandError> {
        let none = Sources::default();
        let sources: &Sources = match &failure {
            CommandError::Description(sources, wrong)
                if self.waited || in_files(sources, wrong) =>
            {
                sources
            }
            // The description is gone for a moment, while it is written anew.
            CommandError::Usage(..) if self.waited => &none,
            _ => return Err(failure),
        };
        self.watch_status.clear();
        let text = self.ui.failure_text(&failure);
        if self.broken.as_ref() != Some(&text) {
            self.ui.say(&text);
            self.watch_status.broken();
            self.broken = Some(text);
        }
        watch_set.add_description(sources);
        self.notices.cover(&watch_set);
        let root = self.notices.root().to_owned();
        let disk = RealDisk::open(&root)
            .map_err(|error| CommandError::io(format!("can't open `{}`", root.display()), error))?;
        let shifted = watch_set.begin(&disk, sources);
        let rebuild = if self.is_news(shifted) {
            RebuildRequest {
                now: true,
                ..RebuildRequest::default()
            }
        } else {
            self.wait(RebuildRequest::default(), &watch_set, &disk, true, None)
        };
        self.forget_folders(&rebuild, &watch_set);
        Ok(rebuild)
    }
}

/// Whether a mistake stands in a file of the project: what was typed does not get better by waiting.
fn in_files(sources: &Sources, wrong: &[Diagnostic]) -> bool {
    wrong.iter().any(|wrong| {
        let place = wrong.primary.as_ref().map(|label| label.span.source);
        place.is_some_and(|source| sources.get(source).name.ends_with(".loom"))
    })
}
