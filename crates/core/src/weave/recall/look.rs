//! Looking at every known file once, in the order in which the system finds them fastest.

use crate::weave::recall::image::Image;
use crate::weave::recall::image::LookRec;
use crate::world::Disk;
use crate::world::Kind;
use crate::world::Stat;

/// Fewer files than this are looked at by one thread: starting a second costs more.
const WORTH_A_THREAD: usize = 512;

/// For each path whether what stands there is as recorded.
pub fn look(image: &Image, disk: &dyn Disk, threads: usize, wanted: Option<&[bool]>) -> Vec<bool> {
    let mut verified = vec![false; image.path_count()];
    let looked: Vec<&LookRec> = image
        .looked()
        .iter()
        .filter(|look| wanted.is_none_or(|wanted| wanted[look.path.get() as usize]))
        .collect();
    let threads = threads.clamp(1, looked.len().div_ceil(WORTH_A_THREAD).max(1));
    let share = looked.len().div_ceil(threads).max(1);
    let part = |looks: &[&LookRec]| -> Vec<bool> {
        let mut found = Vec::with_capacity(looks.len());
        let mut paths = looks.iter().map(|look| image.path(look.path.get()));
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
    };
    let parts: Vec<Vec<bool>> = if threads == 1 {
        vec![part(&looked)]
    } else {
        std::thread::scope(|scope| {
            let workers: Vec<_> = looked
                .chunks(share)
                .map(|chunk| scope.spawn(move || part(chunk)))
                .collect();
            workers
                .into_iter()
                .map(|worker| match worker.join() {
                    Ok(found) => found,
                    Err(panic) => std::panic::resume_unwind(panic),
                })
                .collect()
        })
    };
    for (look, same) in looked.iter().zip(parts.into_iter().flatten()) {
        verified[look.path.get() as usize] = same;
    }
    verified
}

fn is_as_recorded(look: &LookRec, stat: Option<&Stat>) -> bool {
    match stat {
        None => look.absent.get() == 1,
        Some(stat) => {
            look.absent.get() == 0
                && stat.kind != Kind::Folder
                && look.size.get() == stat.size
                && look.modified.get() == stat.modified
                && look.changed.get() == stat.changed
                && look.inode.get() == stat.inode
        }
    }
}
