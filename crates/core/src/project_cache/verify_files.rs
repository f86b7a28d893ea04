//! Looking at every known file once, in the order in which the system finds them fastest.

use crate::content::over_threads;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::cache_layout::LookRec;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::Stat;

/// For each path whether what stands there is as recorded.
pub fn look(
    file: &CacheFile,
    disk: &dyn Disk,
    threads: usize,
    wanted: Option<&[bool]>,
) -> Vec<bool> {
    let mut verified = vec![false; file.path_count()];
    let looked: Vec<&LookRec> = file
        .looked()
        .iter()
        .filter(|look| wanted.is_none_or(|wanted| wanted[look.path.get() as usize]))
        .collect();
    let same = over_threads(&looked, threads, |looks: &[&LookRec]| {
        let mut found = Vec::with_capacity(looks.len());
        let mut paths = looks.iter().map(|look| file.path(look.path.get()));
        disk.stat_all(&mut paths, &mut |stat| {
            let same = match stat {
                Ok(stat) => looks
                    .get(found.len())
                    .is_some_and(|look| is_as_recorded(look, stat.as_ref())),
                Err(_) => false,
            };
            found.push(same);
        });
        found
    });
    for (look, same) in looked.iter().zip(same) {
        verified[look.path.get() as usize] = same;
    }
    verified
}

fn is_as_recorded(look: &LookRec, stat: Option<&Stat>) -> bool {
    match stat {
        None => look.absent.get() == 1,
        Some(stat) => {
            look.absent.get() == 0
                && stat.kind != FileKind::Folder
                && look.size.get() == stat.size
                && look.modified.get() == stat.modified
                && look.changed.get() == stat.changed
                && look.inode.get() == stat.inode
        }
    }
}
