//! The system's processes: which of them came from a job, wherever they went.
//!
//! A job is a process group, but a script can leave it (`setsid`, `set -m`, a daemon's double fork). So this
//! program asks the system to hand it every orphan among its descendants (a *sub-reaper*, prctl(2)). When a
//! job's own process has ended, whatever it left behind has either become a child of ours or hangs below
//! one, and one look at the list of our children says whether there is anything. Whose it is tell its group,
//! or `HANDLOOM_JOB` in its environment; one that has given up both is nobody's until no other job runs.

use std::collections::HashMap;
use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::process::Child;
use std::process::Command;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::time::Duration;

use rustix::process::Pid;
use rustix::process::PidfdFlags;
use rustix::process::Signal;
use rustix::process::WaitOptions;

use crate::world::lock;
use crate::world::names;

/// Processes that begin others faster than they can be ended are given up after so many rounds.
const ROUNDS: usize = 200;

/// A process, as `/proc/PID/stat` tells of it (proc_pid_stat(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Process {
    /// Its number.
    pub pid: i32,
    /// The name of its program, cut to 15 bytes by the system.
    pub name: String,
    /// `R` running, `S` sleeping, `T` stopped, `Z` ended and not yet reaped.
    pub state: u8,
    /// The process that began it, or whoever looks after it since.
    pub parent: i32,
    /// Its process group.
    pub group: i32,
    /// Its controlling terminal, 0 for none.
    pub terminal: i32,
    /// When it began, in ticks since the system did.
    pub began: u64,
}

impl Process {
    /// What `/proc` tells of a process; `None` when it is gone.
    pub fn read(pid: i32) -> Option<Self> {
        let text = std::fs::read(format!("/proc/{pid}/stat")).ok()?;
        Self::parse(&text)
    }

    fn parse(text: &[u8]) -> Option<Self> {
        // The name stands in brackets and may hold any character.
        let open = text.iter().position(|&byte| byte == b'(')?;
        let close = text.iter().rposition(|&byte| byte == b')')?;
        let rest = std::str::from_utf8(text.get(close + 2..)?).ok()?;
        let fields: Vec<&str> = rest.split_ascii_whitespace().collect();
        let number = |at: usize| fields.get(at)?.parse().ok();
        Some(Self {
            pid: std::str::from_utf8(&text[..open])
                .ok()?
                .trim()
                .parse()
                .ok()?,
            name: names::to_text(text.get(open + 1..close)?).into_owned(),
            state: *fields.first()?.as_bytes().first()?,
            parent: number(1)?,
            group: number(2)?,
            terminal: number(4)?,
            began: fields.get(19)?.parse().ok()?,
        })
    }

    /// Whether it has, and was perhaps not reaped yet.
    pub fn has_ended(&self) -> bool {
        matches!(self.state, b'Z' | b'X')
    }

    /// What it was given for `HANDLOOM_JOB`.
    pub fn job(&self) -> Option<String> {
        let text = std::fs::read(format!("/proc/{}/environ", self.pid)).ok()?;
        let value = text
            .split(|&byte| byte == 0)
            .find_map(|line| line.strip_prefix(b"HANDLOOM_JOB="))?;
        Some(names::to_text(value).into_owned())
    }

    /// Of a job of the project whose folder of scratch files this is, the name of its file without an ending.
    pub fn job_in(&self, scratch: &str) -> Option<String> {
        let job = self.job()?;
        let name = job.strip_prefix(scratch)?.strip_prefix('/')?;
        name.strip_suffix(".json").map(str::to_owned)
    }

    /// Sends it a signal, unless another process has its number by now.
    pub fn signal(&self, signal: Signal) {
        let Some(pid) = Pid::from_raw(self.pid) else {
            return;
        };
        let Ok(descriptor) = rustix::process::pidfd_open(pid, PidfdFlags::empty()) else {
            return;
        };
        if Self::read(self.pid).is_some_and(|now| now.began == self.began) {
            // It may be gone already.
            let _ = rustix::process::pidfd_send_signal(&descriptor, signal);
        }
    }
}

fn number(child: &Child) -> i32 {
    i32::try_from(child.id()).unwrap_or(0)
}

/// All processes there are.
pub fn all() -> Vec<Process> {
    let Ok(entries) = std::fs::read_dir("/proc") else {
        return Vec::new();
    };
    entries
        .filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok())
        .filter_map(Process::read)
        .collect()
}

/// Those of some processes that are among `roots`, or descend from one.
pub fn below(processes: &[Process], mut roots: HashSet<i32>) -> Vec<Process> {
    loop {
        let before = roots.len();
        for process in processes {
            if roots.contains(&process.parent) {
                roots.insert(process.pid);
            }
        }
        if roots.len() == before {
            break;
        }
    }
    let is_below = |process: &&Process| roots.contains(&process.pid) && !process.has_ended();
    processes.iter().filter(is_below).cloned().collect()
}

/// The jobs that are running, and what they left behind.
#[derive(Debug, Default)]
pub struct ProcessFamily {
    /// The list of our children, when orphans come to us.
    children: Option<File>,
    members: Mutex<Members>,
}

#[derive(Debug, Default)]
struct Members {
    /// The process of each running job, with what `HANDLOOM_JOB` says in it.
    jobs: HashMap<i32, String>,
}

impl ProcessFamily {
    /// Asks the system for orphans.
    pub fn new() -> Self {
        let own = rustix::process::getpid();
        let number = own.as_raw_nonzero();
        let adopts = rustix::process::set_child_subreaper(Some(own)).is_ok();
        let children = || File::open(format!("/proc/self/task/{number}/children")).ok();
        Self {
            children: adopts.then(children).flatten(),
            members: Mutex::default(),
        }
    }

    fn members(&self) -> MutexGuard<'_, Members> {
        lock(&self.members)
    }

    /// A job's process runs.
    pub fn enter(&self, pid: Pid, job: &str) {
        let pid = pid.as_raw_nonzero().get();
        self.members().jobs.insert(pid, job.to_owned());
    }

    /// A job's process is about to be reaped.
    pub fn leave(&self, pid: Pid) {
        self.members().jobs.remove(&pid.as_raw_nonzero().get());
    }

    /// Begins a program that is no job, and that somebody waits for.
    pub fn spawn_beside(&self, command: &mut Command) -> io::Result<Child> {
        // Whoever looks for orphans meanwhile waits until this one is known.
        let mut members = self.members();
        let child = command.spawn()?;
        members.jobs.insert(number(&child), String::new());
        Ok(child)
    }

    /// A program that is no job has been reaped.
    pub fn leave_beside(&self, child: &Child) {
        self.members().jobs.remove(&number(child));
    }

    /// Children of this process that no thread waits for: orphans that came to it. Those that have ended
    /// are reaped.
    fn orphans(&self) -> Vec<i32> {
        let list = self.list();
        if list.is_empty() {
            return Vec::new();
        }
        let members = self.members();
        String::from_utf8_lossy(&list)
            .split_ascii_whitespace()
            .filter_map(|word| word.parse::<i32>().ok())
            .filter(|pid| !members.jobs.contains_key(pid))
            .filter(|&pid| {
                let reaped = Pid::from_raw(pid)
                    .map(|pid| rustix::process::waitpid(Some(pid), WaitOptions::NOHANG));
                !matches!(reaped, Some(Ok(Some(_))))
            })
            .collect()
    }

    /// The numbers of this process's children, as the system lists them (proc_pid_tid_children(5)).
    fn list(&self) -> Vec<u8> {
        let mut list = Vec::new();
        let mut part = [0; 4096];
        while let Some(children) = &self.children
            && let Ok(count @ 1..) = children.read_at(&mut part, list.len() as u64)
        {
            list.extend_from_slice(&part[..count]);
        }
        list
    }

    /// Whether anything came to us that still runs.
    pub fn has_orphans(&self) -> bool {
        !self.orphans().is_empty()
    }

    /// Processes of a job besides its own one: in its group, below it, or orphaned from it.
    pub fn rest_of(&self, leader: Pid, job: &str) -> Vec<Process> {
        let leader = leader.as_raw_nonzero().get();
        let orphans = self.orphans();
        let processes = all();
        let mut roots: HashSet<i32> = HashSet::from([leader]);
        let in_group = |process: &&Process| process.group == leader;
        roots.extend(processes.iter().filter(in_group).map(|process| process.pid));
        let others: HashSet<i32> = {
            let members = self.members();
            members
                .jobs
                .keys()
                .copied()
                .filter(|&pid| pid != leader)
                .collect()
        };
        for process in processes
            .iter()
            .filter(|process| orphans.contains(&process.pid))
        {
            let ours = match process.job() {
                _ if others.contains(&process.group) => false,
                Some(told) => told == job,
                None => others.is_empty(),
            };
            if ours {
                roots.insert(process.pid);
            }
        }
        let mut rest = below(&processes, roots);
        rest.retain(|process| process.pid != leader);
        rest
    }

    /// Ends whatever a job whose own process has ended left behind; the names of the programs.
    pub fn end_rest_of(&self, leader: Pid, job: &str) -> Vec<String> {
        let mut names = Vec::new();
        for round in 0..ROUNDS {
            if self.orphans().is_empty() {
                break;
            }
            let rest = self.rest_of(leader, job);
            if rest.is_empty() {
                break;
            }
            end(&rest, &mut names, round);
        }
        names
    }

    /// Ends every orphan; to be called when no job runs any more.
    pub fn end_all(&self) -> Vec<String> {
        let mut names = Vec::new();
        for round in 0..ROUNDS {
            let orphans = self.orphans();
            if orphans.is_empty() || !self.members().jobs.is_empty() {
                break;
            }
            let rest = below(&all(), orphans.into_iter().collect());
            if rest.is_empty() {
                break;
            }
            end(&rest, &mut names, round);
        }
        names
    }
}

/// Kills processes, and gives them a moment to be gone.
pub fn end(processes: &[Process], names: &mut Vec<String>, round: usize) {
    for process in processes {
        process.signal(Signal::KILL);
        if round == 0 {
            names.push(process.name.clone());
        }
    }
    std::thread::sleep(Duration::from_micros(500));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_with_brackets_and_spaces_is_read() {
        let line =
            b"4242 (a) R (b) S 1 4242 77 34816 99 4194304 1 0 0 0 0 0 0 0 20 0 1 0 123456 0 0";
        let process = Process::parse(line).unwrap();
        assert_eq!(process.name, "a) R (b");
        assert_eq!((process.pid, process.state), (4242, b'S'));
        assert_eq!((process.parent, process.group), (1, 4242));
        assert_eq!((process.terminal, process.began), (34816, 123_456));
        assert_eq!(Process::parse(b"1 (cut"), None);
    }

    #[test]
    fn descendants_are_found_in_any_order() {
        let process = |pid, parent, state| Process {
            pid,
            name: String::new(),
            state,
            parent,
            group: 0,
            terminal: 0,
            began: 0,
        };
        let all = [
            process(4, 3, b'S'),
            process(3, 2, b'Z'),
            process(2, 1, b'R'),
            process(9, 8, b'R'),
        ];
        let found = below(&all, HashSet::from([2]));
        assert_eq!(
            found.iter().map(|process| process.pid).collect::<Vec<_>>(),
            [4, 2]
        );
    }
}
