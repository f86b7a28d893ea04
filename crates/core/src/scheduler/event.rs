//! What happens during a run, told while it happens. Who prints it is none of the core's business.

use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;

use crate::executor::OutputTail;
use crate::executor::RemoteRun;
use crate::executor::capture::Printed;
use crate::executor::exit::Exit;
use crate::executor::job::SlotId;
use crate::executor::twice::TwiceReport;
use crate::executor::watching::SealRefusal;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::verdict::Reason;
use crate::verdict::ResultOrigin;
use crate::world::ByteSize;
use crate::world::Ticks;
use crate::world::time::as_seconds;

/// What became of a step or task.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ending {
    /// It ran.
    Made,
    /// It ran, and its outputs came out byte for byte as before.
    Same,
    /// It had no reason to run.
    Kept,
    /// It was taken from the store of earlier results.
    Restored,
    /// Its recipe failed.
    Failed,
    /// It did not run, because a prerequisite failed.
    Held,
    /// It was interrupted.
    Stopped,
}

impl Ending {
    /// Its name in events and on the screen.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Made => "made",
            Self::Same => "same",
            Self::Kept => "kept",
            Self::Restored => "restored",
            Self::Failed => "failed",
            Self::Held => "held",
            Self::Stopped => "stopped",
        }
    }

    /// Whether what waits for it may go on.
    #[must_use]
    pub fn is_good(self) -> bool {
        matches!(self, Self::Made | Self::Same | Self::Kept | Self::Restored)
    }
}

/// Why a job counts as failed although its recipe may have ended well.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Problem {
    /// The recipe's own end says so.
    Recipe,
    /// It did not write these outputs.
    NotWritten(Vec<String>),
    /// It wrote something of another kind than described: a folder for a file, or a file for a folder.
    WrongKind(String),
    /// This prerequisite is not as it was when the recipe began.
    PrerequisiteChanged(String),
    /// What it told about its prerequisites cannot be read.
    Learned(String),
    /// Something around it went wrong: an output that cannot be read, a folder that cannot be made.
    Around(String),
}

/// A job that failed, with all that a message needs.
#[derive(Clone, Debug)]
pub struct JobFailure {
    /// What went wrong.
    pub problem: Problem,
    /// How the recipe ended.
    pub exit: Exit,
    /// The task whose recipe failed, when that is what comes behind the job whatever happened; the job's own name where it is its
    /// `finally:`.
    pub finally: Option<String>,
    /// The script as it was run.
    pub script: String,
    /// Its interpreter.
    pub interpreter: Vec<String>,
    /// The folder it ran in, from the root.
    pub folder: String,
    /// The place of its recipe.
    pub span: Span,
    /// Where what it left behind was moved.
    pub moved: Vec<(String, String)>,
    /// Of a recipe that printed nothing, an output that looks like its log, and the end of it.
    pub log: Option<(String, String)>,
    /// What may have been meant, when the script has something in it that looks like a variable.
    pub hint: Option<String>,
    /// What it was refused since it is sealed.
    pub refused: Vec<SealRefusal>,
}

/// A job that ended.
#[derive(Clone, Debug)]
pub struct Ended {
    /// The step's or task's name.
    pub step: String,
    /// Whether it is a task.
    pub task: bool,
    /// What became of it.
    pub ending: Ending,
    /// Why it ran.
    pub reasons: Vec<Reason>,
    /// How long it took.
    pub took: Duration,
    /// How its recipe ended; none when it did not run.
    pub exit: Option<Exit>,
    /// What it printed.
    pub output: Printed,
    /// When it failed.
    pub failure: Option<JobFailure>,
    /// Where its result came from, when it was restored.
    pub origin: Option<ResultOrigin>,
    /// What came of running it again.
    pub twice: Option<TwiceReport>,
    /// What it used; none when it did not run.
    pub usage: Option<JobUsage>,
    /// Of the jobs that it had to wait for, the last one of the longest way; none when it could begin at
    /// once.
    pub after: Option<String>,
    /// How long it waited for a free place when nothing else was in its way.
    pub waited: Duration,
    /// Where it ran, when that is not this machine.
    pub remote: Option<RemoteRun>,
    /// The place of the line that describes it.
    pub described: Span,
}

/// What a job used.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct JobUsage {
    /// When it began, from the run's beginning.
    pub began: Duration,
    /// Which of the jobs that may run at once it was, from 0.
    pub slot: SlotId,
    /// The largest amount of memory any of its processes held.
    pub memory: ByteSize,
    /// Processor time of all its processes.
    pub processor: Duration,
}

impl Ended {
    /// A step or task that was held.
    #[must_use]
    pub fn held(step: String, task: bool) -> Self {
        Self {
            step,
            task,
            ending: Ending::Held,
            reasons: Vec::new(),
            took: Duration::ZERO,
            exit: None,
            output: Printed::default(),
            failure: None,
            remote: None,
            origin: None,
            twice: None,
            usage: None,
            after: None,
            waited: Duration::ZERO,
            described: Span::default(),
        }
    }
}

/// How many steps came to each ending, and how long it took.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    /// Ran.
    pub made: usize,
    /// Ran, and came out the same.
    pub same: usize,
    /// Had no reason to run.
    pub kept: usize,
    /// Taken from the store.
    pub restored: usize,
    /// Failed.
    pub failed: usize,
    /// Not run, because a prerequisite failed.
    pub held: usize,
    /// Interrupted.
    pub stopped: usize,
    /// Not begun, because the run ended before.
    pub unstarted: usize,
    /// The whole run.
    #[serde(rename = "seconds", with = "as_seconds")]
    pub took: Duration,
    /// So many steps were run again and compared.
    #[serde(default, skip_serializing_if = "is_none")]
    pub twice: usize,
    /// So many of those came out differently.
    #[serde(default, skip_serializing_if = "is_none")]
    pub differing: usize,
    /// All jobs together.
    #[serde(skip)]
    pub job_time: Duration,
    /// Of those that ran, how many are tasks, which make nothing.
    #[serde(skip)]
    pub tasks: usize,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_none(count: &usize) -> bool {
    *count == 0
}

impl Summary {
    /// Counts one more.
    pub fn count(&mut self, ending: Ending) {
        *match ending {
            Ending::Made => &mut self.made,
            Ending::Same => &mut self.same,
            Ending::Kept => &mut self.kept,
            Ending::Restored => &mut self.restored,
            Ending::Failed => &mut self.failed,
            Ending::Held => &mut self.held,
            Ending::Stopped => &mut self.stopped,
        } += 1;
    }
}

/// What a watched step was seen to read, list, look for and write.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct ReadReport {
    /// The step's name.
    pub step: String,
    /// Whether it was watched for the first time.
    pub first: bool,
    /// Files that it read, executed or looked at and does not name.
    pub files: Vec<String>,
    /// Folders that it listed or looked at.
    pub folders: Vec<String>,
    /// What it looked for in vain.
    pub absent: Vec<String>,
    /// Sources among the files that were not known of it before.
    pub undeclared: Vec<String>,
    /// Files outside of the project, and not the system's own.
    pub outside: Vec<String>,
    /// Prerequisites that it names and did not read.
    pub unread: Vec<String>,
    /// What it left beside its outputs.
    pub written: Vec<String>,
    /// What it was refused to read since it is sealed, although it is there.
    pub refused: Vec<String>,
    /// What it was refused to write.
    pub refused_writes: Vec<String>,
    /// What may have gone past the watch, in words.
    pub gaps: Vec<String>,
}

impl ReadReport {
    /// Of a step of which nothing was seen yet.
    #[must_use]
    pub fn new(step: &str) -> Self {
        Self {
            step: step.to_owned(),
            ..Self::default()
        }
    }
}

/// One thing that happened.
#[derive(Clone, Debug)]
pub enum Event {
    /// It is known how many jobs may run, and how long they took last time.
    Planned {
        /// Jobs that run or may run.
        jobs: usize,
        /// What those of them that ran before took together when they last ran.
        usual: Duration,
        /// How many of them never ran before.
        unknown: usize,
    },
    /// A job began.
    Began {
        /// Its name.
        step: String,
        /// Whether it is a task.
        task: bool,
        /// Why.
        reasons: Vec<Reason>,
        /// How long it took last time.
        usual: Option<Duration>,
        /// The script as it is run.
        script: String,
        /// Which of the jobs that may run at once it is, from 0.
        slot: SlotId,
        /// Whether it has the terminal to itself until it ends.
        terminal: bool,
        /// Whether it goes on beside others, which do not wait for its end.
        stays: bool,
        /// The place that it runs at, when that is not where the run is.
        place: Option<String>,
        /// What it printed last, while it runs.
        tail: OutputTail,
    },
    /// A step's stored result is being put in place.
    Restoring {
        /// Its name.
        step: String,
        /// How long it took last time.
        usual: Option<Duration>,
    },
    /// A watched step that went well was seen to read this.
    Read(Box<ReadReport>),
    /// A job printed something; told only when that was asked for.
    Printed {
        /// Its name.
        step: String,
        /// The bytes, not cut at lines.
        text: Vec<u8>,
    },
    /// A job ended, or a step is held.
    Ended(Box<Ended>),
    /// A task that stands for others was held, and its `finally` printed something.
    Finally {
        /// Its name.
        step: String,
        /// What was printed.
        output: Printed,
    },
    /// A step that was waiting has no reason to run after all.
    Spared {
        /// Its name.
        step: String,
        /// How long it took last time.
        usual: Option<Duration>,
    },
    /// A job failed that needs a task that stays; this is what that one printed last.
    Said {
        /// The task that stays.
        step: String,
        /// What failed.
        needed_by: String,
        /// The bytes, not cut at lines.
        text: Vec<u8>,
    },
    /// A step has a reason to run, and is guarded: it is kept as it is.
    Guarded {
        /// Its name.
        step: String,
        /// Why it would run.
        reasons: Vec<Reason>,
    },
    /// What a fleeting step made was taken away: all that needs it is made.
    TakenAway {
        /// Where it stood.
        path: String,
    },
    /// A file that Hand Loom did not make stood in an output's place and was moved.
    Aside {
        /// Where it stood.
        path: String,
        /// Where it is now.
        to: String,
    },
    /// Something is likely not meant.
    Warning(Diagnostic),
    /// The run is over.
    Summary(Summary),
}

/// An event, and when it happened.
#[derive(Clone, Debug)]
pub struct TimedEvent {
    /// The moment on the run's clock.
    pub at: Ticks,
    /// What happened.
    pub event: Event,
}
