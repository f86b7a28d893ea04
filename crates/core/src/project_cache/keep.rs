//! Keeping a project for the next run.

use crate::ledger::Ledger;
use crate::ledger::Mark;
use crate::ledger::arrays;
use crate::project_cache::dependencies::CacheDependencies;
use crate::project_cache::load::LoadedProject;
use crate::project_cache::writer;
use crate::project_cache::writer::BuildOutcome;
use crate::status::RecordingEnvironment;

/// Keeps a project for the next run.
pub fn keep<'d>(
    loaded: &mut LoadedProject<'d>,
    outcome: &BuildOutcome<'_, 'd>,
    ledger: &mut Ledger,
    environment: &RecordingEnvironment<'_>,
) {
    let dependencies = CacheDependencies::of(environment, outcome.folders, ledger);
    let earlier = loaded.cached.as_ref();
    let earlier = earlier.map(|cached| &cached.file.header.dependencies);
    let project = &mut loaded.project;
    let bytes = dependencies.and_then(|mut dependencies| {
        dependencies.extend(earlier);
        let mark: Mark = ledger.mark().ok()??;
        let mut bytes: Vec<u8> = writer::write(project, outcome, dependencies, mark, ledger)?;
        arrays::seal(&mut bytes, &environment.key?);
        Some(bytes)
    });
    if let Some(bytes) = bytes {
        // It spares time and nothing else; a disk that is full is told of by the ledger.
        let _ = ledger.keep_worked_out(&bytes);
    }
}
