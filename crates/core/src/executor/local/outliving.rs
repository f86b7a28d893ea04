//! Jobs that may outlive their run's hold on the project: tasks that stay.
//!
//! Another run has the slots then, so what such a job is given to know lies in files named after the process that
//! began it: `.handloom/jobs/stays-PID-BEGAN-SLOT.json`. While that process lives they are its own; when it is gone, it
//! was killed, and what still carries one of these names is ended by the next run.

use std::collections::HashSet;
use std::io;
use std::path::Path;

use crate::executor::local::owner::Owner;
use crate::executor::local::processes;
use crate::executor::local::processes::Process;
use crate::world::names;

/// What the names of their files begin with.
const STAYS: &str = "stays-";

/// Rounds of looking for what is left of them.
const ROUNDS: usize = 100;

/// The name of a slot's files, without an ending.
pub fn stem(slot: usize) -> String {
    format!("{STAYS}{}-{slot}", Owner::current())
}

/// Whether a file or folder of this name belongs to such a job.
pub fn is_one(name: &str) -> bool {
    name.starts_with(STAYS)
}

/// Ends jobs whose run was killed, and takes their files away; the names of their programs.
///
/// # Errors
/// When the folder of scratch files cannot be read.
pub fn end_left(scratch: &Path) -> io::Result<Vec<String>> {
    let mut stems = HashSet::new();
    let mut files = Vec::new();
    let entries = match std::fs::read_dir(scratch) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries?,
    };
    for entry in entries {
        let entry = entry?;
        let name = entry.file_name();
        let stem = name.to_str().and_then(|name| name.split('.').next());
        if let Some(stem) = stem.filter(|stem| is_one(stem) && !has_owner(stem)) {
            stems.insert(stem.to_owned());
            files.push(entry.path());
        }
    }
    let mut ended = Vec::new();
    if stems.is_empty() {
        return Ok(ended);
    }
    let scratch = names::os_to_text(scratch.as_os_str());
    for round in 0..ROUNDS {
        let all = processes::all();
        let carries = |process: &&Process| {
            let name = process.job_in(&scratch);
            name.is_some_and(|name| stems.contains(&name))
        };
        let roots = all.iter().filter(carries).map(|process| process.pid);
        let left = processes::below(&all, roots.collect());
        if left.is_empty() {
            break;
        }
        processes::end(&left, &mut ended, round);
    }
    for file in files {
        // What does not let itself be taken away is found again by the next run.
        let _ = match file.is_dir() {
            true => std::fs::remove_dir_all(&file),
            false => std::fs::remove_file(&file),
        };
    }
    Ok(ended)
}

/// Whether the process that such a name names is alive.
fn has_owner(stem: &str) -> bool {
    let owner = stem[STAYS.len()..].rsplit_once('-');
    let owner = owner.and_then(|(owner, _)| Owner::parse(owner));
    owner.is_some_and(Owner::is_alive)
}
