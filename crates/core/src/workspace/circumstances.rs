//! What a run is carried out in: the machine, and the state that the version control has the project in.
//!
//! The version control is asked by its own program, once a run in which anything runs, while the jobs run. What it has not
//! said a moment after the last of them is left open: a run waits no longer for a note about itself.

use std::io::BufRead;
use std::io::BufReader;
use std::io::Read;
use std::path::Path;
use std::path::PathBuf;
use std::process::ChildStdout;
use std::process::Command;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::mpsc::Receiver;
use std::sync::mpsc::RecvTimeoutError;
use std::sync::mpsc::Sender;
use std::sync::mpsc::channel;
use std::time::Duration;
use std::time::Instant;

use crate::executor::LocalExecutor;
use crate::executor::local::beside::BesideProgram;
use crate::executor::local::beside::BesidePrograms;
use crate::ledger::CommitState;
use crate::ledger::RunCircumstances;
use crate::scheduler::CircumstanceFinder;
use crate::workspace::open::Workspace;
use crate::world::Clock;
use crate::world::lock;

/// A run that is over waits for what was asked for a tenth of the time that it took, within these bounds.
const PATIENCE: (Duration, Duration) = (Duration::from_millis(25), Duration::from_millis(100));

/// So many files that differ from the commit are named.
const MOST_CHANGED: usize = 8;

/// Lines of the version control that are longer than this are no names of files.
const LONGEST_LINE: u64 = 16 * 1024;

/// A run's circumstances, as far as they are known.
#[derive(Debug)]
pub struct FindCircumstances {
    known: RunCircumstances,
    root: PathBuf,
    programs: BesidePrograms,
    pending: Option<PendingCommit>,
    /// When the first job began.
    begun: Option<Instant>,
    /// Whether what is known at once was told.
    is_told: bool,
}

/// What is being asked, on a thread of its own.
#[derive(Debug)]
struct PendingCommit {
    /// First the commit alone, then with what differs from it.
    commit: Receiver<CommitState>,
    asking: Arc<Mutex<CommitQuestion>>,
}

/// The programs that run, unless it is over.
#[derive(Debug, Default)]
struct CommitQuestion {
    is_over: bool,
    running: Vec<BesideProgram>,
}

impl Workspace {
    /// What a run that begins now, for what was typed, is carried out in.
    #[must_use]
    pub fn circumstances(&self, command: String, executor: &LocalExecutor) -> FindCircumstances {
        let now = self.clock.now() / 1_000_000;
        FindCircumstances {
            known: RunCircumstances {
                run: u64::try_from(now).unwrap_or_default(),
                command,
                folder: self.location.root_text(),
                version: env!("CARGO_PKG_VERSION").to_owned(),
                ..RunCircumstances::default()
            },
            root: self.location.root.clone(),
            programs: executor.beside(),
            pending: None,
            begun: None,
            is_told: false,
        }
    }
}

/// The machine's name.
pub(super) fn machine() -> String {
    kernel("hostname")
}

fn kernel(what: &str) -> String {
    let text = std::fs::read_to_string(format!("/proc/sys/kernel/{what}")).unwrap_or_default();
    text.trim().to_owned()
}

impl CircumstanceFinder for FindCircumstances {
    fn run(&self) -> u64 {
        self.known.run
    }

    fn begin(&mut self) {
        self.begun = Some(Instant::now());
        self.known.machine = machine();
        self.known.system = format!(
            "{} {} {}",
            kernel("ostype"),
            kernel("osrelease"),
            std::env::consts::ARCH
        );
        self.pending = ask(&self.root, &self.programs);
    }

    fn found(&mut self, is_over: bool) -> Option<RunCircumstances> {
        let patience = match self.begun.filter(|_| is_over) {
            Some(begun) => (begun.elapsed() / 10).clamp(PATIENCE.0, PATIENCE.1),
            None => Duration::ZERO,
        };
        let mut has_news = !std::mem::replace(&mut self.is_told, true);
        // The commit comes first, and what differs from it later; without that when it takes too long.
        while let Some(pending) = &self.pending {
            match pending.commit.recv_timeout(patience) {
                Ok(commit) => {
                    has_news = true;
                    self.known.commit = Some(commit);
                }
                Err(RecvTimeoutError::Timeout) if !is_over => break,
                // All is said, or nothing more is waited for: what still runs is ended.
                Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {
                    self.pending = None;
                }
            }
        }
        has_news.then(|| self.known.clone())
    }

    fn is_done(&self) -> bool {
        self.is_told && self.pending.is_none()
    }
}

impl Drop for PendingCommit {
    fn drop(&mut self) {
        let mut asking = lock(&self.asking);
        asking.is_over = true;
        asking.running.clear();
    }
}

/// Asks git, where the project lies in a work tree of it.
fn ask(root: &Path, programs: &BesidePrograms) -> Option<PendingCommit> {
    let is_top = |folder: &&Path| folder.join(".git").symlink_metadata().is_ok();
    root.ancestors().find(is_top)?;
    let (sender, commit) = channel();
    let asking = Arc::<Mutex<CommitQuestion>>::default();
    let git = Git {
        root: root.to_owned(),
        programs: programs.clone(),
        asking: Arc::clone(&asking),
    };
    std::thread::Builder::new()
        .name("commit".to_owned())
        .spawn(move || git.tell(&sender))
        .ok()?;
    Some(PendingCommit { commit, asking })
}

/// The version control's program, in a project.
struct Git {
    root: PathBuf,
    programs: BesidePrograms,
    asking: Arc<Mutex<CommitQuestion>>,
}

impl Git {
    /// Tells of the commit, and of what differs from it.
    fn tell(&self, sender: &Sender<CommitState>) -> Option<()> {
        let differing = ["status", "--porcelain=v1", "-z", "--untracked-files=normal"];
        let differing = self.begin(&differing)?;
        let mut id = String::new();
        self.begin(&["rev-parse", "--verify", "--quiet", "HEAD"])?
            .take(LONGEST_LINE)
            .read_to_string(&mut id)
            .ok()?;
        let id = id.trim().to_owned();
        if id.is_empty() || !id.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return None;
        }
        let mut state = CommitState {
            id,
            ..CommitState::default()
        };
        sender.send(state.clone()).ok()?;
        let changed = changed(differing)?;
        if changed.is_empty() {
            // It was not ended, and can tell.
            let program = {
                let mut asking = lock(&self.asking);
                (!asking.running.is_empty()).then(|| asking.running.remove(0))
            };
            program?.did_well().then_some(())?;
        }
        state.clean = Some(changed.is_empty());
        state.changed = changed;
        sender.send(state).ok()
    }

    /// Begins a command that only reads and takes no lock that others may want; its output.
    fn begin(&self, arguments: &[&str]) -> Option<ChildStdout> {
        let mut asking = lock(&self.asking);
        if asking.is_over {
            return None;
        }
        let mut command = Command::new("git");
        command
            .arg("-C")
            .arg(&self.root)
            .args(["--no-optional-locks", "-c", "core.fsmonitor=false"])
            .args(arguments)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        let mut program = self.programs.begin(&mut command).ok()?;
        let output = program.stdout();
        asking.running.push(program);
        output
    }
}

/// The first few files that `git status` names; none when it was ended before it said anything.
fn changed(output: impl Read) -> Option<Vec<String>> {
    let mut lines = BufReader::new(output);
    let (mut changed, mut is_old_name) = (Vec::new(), false);
    while changed.len() < MOST_CHANGED {
        let mut line = Vec::new();
        lines
            .by_ref()
            .take(LONGEST_LINE)
            .read_until(0, &mut line)
            .ok()?;
        if line.pop() != Some(0) {
            break;
        }
        if std::mem::take(&mut is_old_name) {
            continue;
        }
        let Some((state, name)) = line.split_at_checked(3) else {
            break;
        };
        // A renamed file is followed by the name that it had.
        is_old_name = state.starts_with(b"R") || state.starts_with(b"C");
        changed.push(String::from_utf8_lossy(name).into_owned());
    }
    Some(changed)
}
