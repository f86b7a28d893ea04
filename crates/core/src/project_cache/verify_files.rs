//! Looking at every known file once, in the order in which the system finds them fastest.

use std::collections::HashMap;

use crate::content::Record;
use crate::content::over_threads;
use crate::project::folders::names_digest;
use crate::project::folders::sorted_names;
use crate::project_cache::cache_layout::number;
use crate::project_cache::front::Front;
use crate::project_cache::front::LookKind;
use crate::project_cache::front::LookRec;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::Stat;

/// What a look at a path says of what is known of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Found {
    /// It surely holds.
    Same,
    /// Its stat is as recorded, but proves nothing: it has to be read.
    Unsure,
    /// It may hold or not.
    Different,
    /// Nobody looked.
    Skipped,
}

/// Looks at all known files, or at those of the body's paths that are `wanted`. Newer records of the same
/// contents stand in `newer`, by the number of the look.
pub fn look(
    front: &Front,
    disk: &dyn Disk,
    threads: usize,
    wanted: Option<&[bool]>,
    newer: &HashMap<u32, Record>,
) -> Vec<Found> {
    let is_wanted = |look: &LookRec| {
        wanted.is_none_or(|wanted| wanted.get(look.path.get() as usize) == Some(&true))
    };
    let looked = front.looked();
    let chosen = (0..looked.len()).filter(|&look| is_wanted(&looked[look]));
    let chosen: Vec<u32> = chosen.map(number).collect();
    let found = over_threads(&chosen, threads, |chosen: &[u32]| {
        let mut found = Vec::with_capacity(chosen.len());
        let mut paths = chosen.iter().map(|&look| front.path(look as usize));
        disk.stat_all(&mut paths, &mut |stat| {
            let Some(&number) = chosen.get(found.len()) else {
                return;
            };
            let look = &looked[number as usize];
            found.push(match stat {
                Ok(stat) => compare(look, stat.as_ref(), || newer.get(&number)),
                Err(_) => Found::Different,
            });
        });
        for (found, &look) in found.iter_mut().zip(chosen) {
            let is_names = looked[look as usize].kind() == LookKind::Names;
            if is_names && *found != Found::Same {
                *found = names(front, disk, look as usize);
            }
        }
        found
    });
    if chosen.len() == looked.len() {
        return found;
    }
    let mut all = vec![Found::Skipped; looked.len()];
    for (look, found) in chosen.into_iter().zip(found) {
        all[look as usize] = found;
    }
    all
}

/// What a stat says of what is known; a newer record of the same content is looked for where the kept one does not do.
fn compare<'n>(
    look: &LookRec,
    stat: Option<&Stat>,
    newer: impl FnOnce() -> Option<&'n Record>,
) -> Found {
    let Some(stat) = stat else {
        return if look.kind() == LookKind::Absent {
            Found::Same
        } else {
            Found::Different
        };
    };
    let is_folder = stat.kind == FileKind::Folder;
    if look.kind() == LookKind::Folder {
        return if is_folder {
            Found::Same
        } else {
            Found::Different
        };
    }
    if look.kind() == LookKind::Absent || is_folder != (look.kind() == LookKind::Names) {
        return Found::Different;
    }
    let own = (look.same_stat(stat), !look.is_young());
    if own == (true, true) {
        return Found::Same;
    }
    let of_newer = |record: &Record| (record.same_stat(stat), record.settled());
    match newer().map_or(own, of_newer) {
        (true, true) => Found::Same,
        (true, false) => Found::Unsure,
        (false, _) => Found::Different,
    }
}

/// Whether a folder has the names that it had.
fn names(front: &Front, disk: &dyn Disk, look: usize) -> Found {
    let folder = front.path(look);
    let is_link = match disk.stat(folder.trim_end_matches('/')) {
        Ok(Some(stat)) => stat.link,
        _ => return Found::Different,
    };
    if !is_link && names_digest(&sorted_names(disk, folder), true) == front.digest(look) {
        Found::Same
    } else {
        Found::Different
    }
}
