//! Which jobs are running, for whoever comes after a kill: `.handloom/jobs/running`.
//!
//! The file is there from before the first job of a run until all of them have ended. It has a stretch of 96
//! bytes for each slot: blank, `starting`, or the process that runs there, when it began (nanoseconds since the system
//! did, a little before and a little after), and which start of the system that was. The next run ends those
//! that are still there, with all that descends from them and all that still carries their `HANDLOOM_JOB`,
//! before it looks at a single file: an old recipe must not write into the outputs of a new one.

use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Mutex;

use rustix::process::Pid;

use crate::executor::local::processes;
use crate::executor::local::processes::Process;
use crate::world::lock;
use crate::world::names;
use crate::world::own;

/// The file's name in the folder of scratch files.
const NAME: &str = "running";

/// The stretch of a slot.
const STRETCH: usize = 96;

/// Rounds of looking for what is left of a killed run.
const ROUNDS: usize = 100;

/// The marks of a run.
#[derive(Debug)]
pub struct JobMarkers {
    path: PathBuf,
    file: Mutex<Option<File>>,
}

/// Which start of the system this is.
fn boot() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id")
        .map(|text| text.trim().to_owned())
        .unwrap_or_default()
}

/// Nanoseconds since the system was started.
fn since_start() -> u64 {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
    let seconds = u64::try_from(time.tv_sec).unwrap_or(0);
    seconds * 1_000_000_000 + u64::try_from(time.tv_nsec).unwrap_or(0)
}

impl JobMarkers {
    /// JobMarkers in a folder of scratch files; nothing is marked yet.
    pub fn new(scratch: &Path) -> Self {
        Self {
            path: scratch.join(NAME),
            file: Mutex::new(None),
        }
    }

    /// To be called before the first job's outputs are cleared.
    pub fn begin(&self) -> io::Result<()> {
        let mut file = lock(&self.file);
        if file.is_none() {
            let options = &mut own::options();
            let options = options.create(true).write(true).truncate(true);
            *file = Some(own::open(&self.path, options)?);
        }
        Ok(())
    }

    /// A slot's job is about to be started, and may have begun to write before its process is known. What
    /// is returned is to be handed to [`JobMarkers::started`].
    pub fn starting(&self, slot: usize) -> u64 {
        self.put(slot, "starting");
        since_start()
    }

    /// A slot's job was started.
    pub fn started(&self, slot: usize, pid: Pid, before: u64) {
        thread_local! {
            static BOOT: String = boot();
        }
        let number = pid.as_raw_nonzero();
        let text = BOOT.with(|boot| format!("{number} {before} {} {boot}", since_start()));
        self.put(slot, &text);
    }

    /// A slot's job has ended with all that it had started.
    pub fn ended(&self, slot: usize) {
        self.put(slot, "");
    }

    fn put(&self, slot: usize, text: &str) {
        let file = lock(&self.file);
        if let Some(file) = &*file {
            let line = format!("{text:width$}\n", width = STRETCH - 1);
            // A full disk is told of by the ledger.
            let _ = file.write_all_at(line.as_bytes(), (slot * STRETCH) as u64);
        }
    }

    /// All jobs have ended, and whatever was set by for them is where it belongs.
    pub fn end(&self) -> io::Result<()> {
        let mut file = lock(&self.file);
        match file.take() {
            Some(_) => std::fs::remove_file(&self.path),
            None => Ok(()),
        }
    }
}

/// What a run that was killed left behind.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Killed {
    /// Names of programs that were still running, and are ended now.
    pub ended: Vec<String>,
    /// Slots whose jobs had not ended.
    pub slots: Vec<usize>,
}

impl Killed {
    /// Whether marks are left of a run that may have been killed.
    #[must_use]
    pub fn is_marked(scratch: &Path) -> bool {
        scratch.join(NAME).symlink_metadata().is_ok()
    }
}

/// Ends what is left of a run that was killed; `None` when the last run came to its end.
///
/// # Errors
/// When the marks cannot be read.
pub fn end_killed(scratch: &Path) -> io::Result<Option<Killed>> {
    let bytes = match own::read(&scratch.join(NAME)) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error),
    };
    let mut killed = Killed::default();
    let mut marked = Vec::new();
    for (slot, stretch) in bytes.chunks(STRETCH).enumerate() {
        let line = String::from_utf8_lossy(stretch);
        let line = line.trim_matches(['\0', ' ', '\n']);
        if !line.is_empty() {
            killed.slots.push(slot);
            marked.extend(Marked::parse(line));
        }
    }
    let scratch = names::os_to_text(scratch.as_os_str()).into_owned();
    for round in 0..ROUNDS {
        let all = processes::all();
        let own = std::process::id().cast_signed();
        let is_marked = |process: &&Process| marked.iter().any(|marked| marked.is(process));
        // A group's number alone says nothing once its leader is gone: it may be another's by now.
        let groups: HashSet<i32> = all
            .iter()
            .filter(is_marked)
            .map(|process| process.pid)
            .collect();
        let is_left = |process: &&Process| {
            groups.contains(&process.group)
                || groups.contains(&process.pid)
                || carries(process, &scratch)
        };
        let others = all.iter().filter(|process| process.pid != own);
        let roots: HashSet<i32> = others.filter(is_left).map(|process| process.pid).collect();
        // Nothing that began after us is of an earlier run: a job of this one has no mark yet.
        let began = Process::read(own).map_or(0, |process| process.began);
        let mut rest = processes::below(&all, roots);
        rest.retain(|process| process.pid != own && process.began <= began);
        if rest.is_empty() {
            break;
        }
        processes::end(&rest, &mut killed.ended, round);
    }
    Ok(Some(killed))
}

/// Forgets a run that was killed, when all that it left is in order.
///
/// # Errors
/// When the marks cannot be removed.
pub fn forget_killed(scratch: &Path) -> io::Result<()> {
    match std::fs::remove_file(scratch.join(NAME)) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Whether a process was given a job of a slot in this folder, and not of a task that had the terminal.
fn carries(process: &Process, scratch: &str) -> bool {
    let slot = process.job_in(scratch);
    slot.is_some_and(|slot| slot.parse::<usize>().is_ok())
}

struct Marked {
    pid: i32,
    before: u64,
    after: u64,
    boot: String,
}

impl Marked {
    fn parse(line: &str) -> Option<Self> {
        let mut words = line.split_ascii_whitespace();
        let marked = Self {
            pid: words.next()?.parse().ok()?,
            before: words.next()?.parse().ok()?,
            after: words.next()?.parse().ok()?,
            boot: words.next().unwrap_or_default().to_owned(),
        };
        (marked.boot == boot()).then_some(marked)
    }

    /// Whether a process is the one that was marked.
    fn is(&self, process: &Process) -> bool {
        let ticks = rustix::param::clock_ticks_per_second();
        let tick = 1_000_000_000 / ticks.max(1);
        let began = process.began.saturating_mul(tick);
        // The system rounds down to whole ticks.
        process.pid == self.pid
            && began.saturating_add(2 * tick) >= self.before
            && began <= self.after.saturating_add(tick)
    }
}
