//! Writing a snapshot: what the old one says, with what the journal says in its place.

use std::io;

use hashbrown::HashMap;
use hashbrown::HashSet;
use zerocopy::IntoBytes;
use zerocopy::little_endian::U32;

use crate::ledger::Ledger;
use crate::ledger::arrays;
use crate::ledger::circumstances::SpokenOf;
use crate::ledger::journal;
use crate::ledger::snapshot::GivenRec;
use crate::ledger::snapshot::LAYOUT;
use crate::ledger::snapshot::Snapshot;
use crate::ledger::tables::Tables;

/// Hands the bytes of a snapshot of all that a ledger holds to `write`, in pieces.
///
/// # Errors
/// When an entry cannot be encoded, or the pieces cannot be written.
pub fn snapshot(
    ledger: &mut Ledger,
    seed: &[u8; 32],
    write: impl FnOnce(&mut Ledger, &[&[u8]]) -> io::Result<()>,
) -> io::Result<()> {
    let is_first = ledger.snapshot.as_ref().is_none_or(Snapshot::is_empty);
    // What came since is written as it is where nothing was before.
    let is_whole = is_first && ledger.recent.is_clean();
    let mut tables = if is_whole {
        std::mem::take(&mut ledger.recent)
    } else {
        merged(ledger)
    };
    let commands = commands(ledger, &mut tables);
    let folders = ledger.folders().into_iter();
    let folders: Vec<U32> = folders.map(|folder| tables.intern(folder)).collect();
    let mut open = Vec::new();
    for entry in ledger.open_entries() {
        journal::encode(&entry, seed, &mut open)?;
    }
    let (texts, index) = tables.index();
    let [strings, paths, digests, steps, edges, givens] = tables.arrays();
    let arrays: [&[u8]; 11] = [
        strings,
        texts.as_bytes(),
        paths,
        index.as_bytes(),
        digests,
        steps,
        edges,
        givens,
        commands.as_bytes(),
        folders.as_bytes(),
        &open,
    ];
    let written = arrays::pieces(
        LAYOUT,
        seed,
        u64::from(tables.has_trees),
        &arrays,
        |pieces| write(ledger, pieces),
    );
    if is_whole {
        // Until the new snapshot is read these are what is known.
        ledger.recent = tables;
    }
    written
}

/// What both say, without what is not said any more.
fn merged(ledger: &Ledger) -> Tables {
    let mut tables = Tables::default();
    let mut names = ledger.step_names();
    names.sort_unstable();
    for name in &names {
        if let Some(step) = ledger.step(name) {
            tables.add_view(name, step);
        }
    }
    // Files that no step speaks of any more are dropped.
    tables.add_files(|path| ledger.file(path));
    // What is recorded of files in folders that steps make or need as a whole is kept.
    let paths = tables.files().map(|(path, _)| path);
    let folders = paths.filter(|path| path.ends_with('/'));
    let folders: HashSet<String> = folders.map(str::to_owned).collect();
    let is_inside = |path: &str| {
        let mut slashes = path.match_indices('/');
        slashes.any(|(at, _)| folders.contains(&path[..=at]))
    };
    if !folders.is_empty() {
        for (path, record) in ledger.known_files().filter(|(path, _)| is_inside(path)) {
            tables.add_file(path, &record);
        }
    }
    tables
}

fn commands(ledger: &Ledger, tables: &mut Tables) -> Vec<GivenRec> {
    let before = ledger.snapshot.iter().flat_map(Snapshot::commands);
    let mut commands: HashMap<&str, &str> = before.collect();
    let since = ledger.commands.iter();
    commands.extend(since.map(|(key, output)| (key.as_str(), output.as_str())));
    let runs = SpokenOf::of(tables.step_views().map(|(_, step)| step));
    let mut commands: Vec<_> = commands.into_iter().collect();
    commands.retain(|(key, _)| runs.wants(key));
    commands.sort_unstable();
    commands
        .into_iter()
        .map(|(key, output)| tables.given(key, Some(output)))
        .collect()
}
