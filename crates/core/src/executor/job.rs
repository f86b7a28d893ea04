//! A job, and how it went.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;

use crate::executor::capture::Printed;
use crate::executor::exit::Exit;
use crate::executor::output_tail::OutputTail;
use crate::executor::sealing::Seal;
use crate::executor::watching::Observed;
use crate::executor::watching::WatchReach;
use crate::world::ByteSize;

/// Which of the jobs that may run at once, from 0.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
pub struct SlotId(usize);

impl SlotId {
    /// The slot with this index.
    #[must_use]
    pub fn at(index: usize) -> Self {
        Self(index)
    }

    /// The slot as an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0
    }
}

/// Where a job runs, and with how much.
#[derive(Clone, Copy, Debug)]
pub struct JobRoom {
    /// Which of the jobs that may run at once it is.
    pub slot: SlotId,
    /// How many cores it may use.
    pub cores: u64,
    /// How much memory it said that it takes.
    pub memory: Option<ByteSize>,
}

impl JobRoom {
    /// That of a recipe that is only told or written down: in the first slot, with one core.
    #[must_use]
    pub fn alone() -> Self {
        Self {
            slot: SlotId::default(),
            cores: 1,
            memory: None,
        }
    }
}

/// What a job that runs on another machine needs there.
#[derive(Clone, Debug, Default)]
pub struct RemoteNeeds {
    /// How much memory it said that it takes.
    pub memory: Option<ByteSize>,
    /// How long it took when it ran last.
    pub usual: Option<Duration>,
    /// Paths, from the root, that must be there as they are here before it begins.
    pub reads: Vec<String>,
    /// Paths that must be here as they are there when it has ended.
    pub writes: Vec<String>,
}

/// Where a job ran that did not run on this machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RemoteRun {
    /// The place.
    pub place: String,
    /// The node there.
    pub node: String,
    /// How long it waited until there was a worker for it.
    pub queued: Duration,
}

/// A script to run, with everything it needs.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Job {
    /// The step's or task's name.
    pub name: String,
    /// The interpreter's words.
    pub interpreter: Vec<String>,
    /// Whether the interpreter is a shell, which takes a short script as an argument.
    pub shell: bool,
    /// The script.
    pub script: String,
    /// A shell's positional parameters: the prerequisites.
    pub arguments: Vec<String>,
    /// The folder to run in, from the root.
    pub folder: String,
    /// Environment variables to set; secrets in them are filled in when it is started.
    pub env: Vec<(String, String)>,
    /// Values of secrets, by the environment variable that holds them: taken out of what it prints.
    pub secrets: Vec<(String, String)>,
    /// What `HANDLOOM_JOB` names, as JSON.
    pub manifest: String,
    /// Which slot it runs in.
    pub slot: SlotId,
    /// How many cores it may use.
    pub cores: u64,
    /// The place that it is to run at, when that is not where the run is.
    pub place: Option<String>,
    /// What it needs there.
    #[serde(skip)]
    pub remote: Option<Arc<RemoteNeeds>>,
    /// Stopped after so long.
    pub limit: Option<Duration>,
    /// Whether it has the terminal to itself.
    pub terminal: bool,
    /// Whether it may outlive the run's hold on the project.
    pub stays: bool,
    /// Whether it goes on when the run is to end: it tidies up.
    pub shielded: bool,
    /// Ended when this is set, as it is asked to when the run is to end.
    #[serde(skip)]
    pub stop: Option<Arc<AtomicBool>>,
    /// What it printed last, while it runs.
    #[serde(skip)]
    pub tail: OutputTail,
    /// Where all that it prints is written, from the root.
    pub log: Option<String>,
    /// Whether it is noted what its processes look at, and how far.
    pub watched: Option<WatchReach>,
    /// What it may read and write, when it may not all.
    #[serde(skip)]
    pub seal: Option<Arc<Seal>>,
}

/// How a job went.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Outcome {
    /// How it ended.
    pub exit: Exit,
    /// What it printed, both streams in order.
    pub output: Printed,
    /// Whether it was ended because the run is to end.
    pub stopped: bool,
    /// The largest amount of memory any of its processes held.
    pub memory: ByteSize,
    /// Processor time.
    pub processor: Duration,
    /// The names of programs that were still running when it had ended, and were ended then.
    pub left_behind: Vec<String>,
    /// Where it ran, when that is not this machine.
    pub remote: Option<RemoteRun>,
    /// What was seen of what its processes looked at; none of a job that is not watched.
    pub observed: Option<Box<Observed>>,
    /// Which of the jobs that came behind it whatever happened `exit` is of; none when it is its own.
    #[serde(default)]
    pub finally: Option<usize>,
}

impl Outcome {
    /// Adds how the `number`th of the jobs went that come behind this one whatever happened: its end counts where all before it
    /// ended well.
    pub fn add_finally(&mut self, number: usize, after: Self) {
        let before = std::mem::replace(&mut self.output, after.output);
        self.output.put_behind(before);
        if self.exit.code() == 0 {
            self.exit = after.exit;
            self.finally = Some(number);
        }
    }

    /// A job that ended so, without a word.
    #[must_use]
    pub fn silent(exit: Exit) -> Self {
        Self {
            exit,
            output: Printed::default(),
            stopped: false,
            memory: ByteSize::default(),
            processor: Duration::ZERO,
            left_behind: Vec::new(),
            remote: None,
            observed: None,
            finally: None,
        }
    }
}
