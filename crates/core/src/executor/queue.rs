//! The seam between the scheduler and where jobs run: a job is submitted, and its end is learned of later.

use std::io;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::thread::Scope;
use std::time::Duration;

use crate::content::Look;
use crate::content::State;
use crate::executor::cancel::CancelToken;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::output_tail::OutputTail;
use crate::executor::twice::TwiceReport;
use crate::store::Restore;
use crate::world::Clock;
use crate::world::Disk;
use crate::world::Ticks;

/// A job that was submitted, until its end is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Ticket(pub u64);

/// A job, and what is done around it where it runs.
#[derive(Clone, Debug)]
pub struct Submission {
    /// The job.
    pub job: Arc<Job>,
    /// Paths to look at when it has ended.
    pub outputs: Vec<String>,
    /// Jobs to run afterwards, one after the other, whatever happened.
    pub finally: Vec<Job>,
    /// How often it may be tried again.
    pub retries: u32,
    /// Whether what a try left stays there for the next.
    pub resumes: bool,
    /// A stored result to put in place instead; when that can't be done, the job runs.
    pub restore: Option<Restore>,
    /// Whether it is run again and compared.
    pub twice: Option<Twice>,
    /// It was handed over while the job before it in its slot was running, and only begins when that went well
    /// and nobody wants the run to end.
    pub ahead: bool,
}

/// How a job is run again and compared.
#[derive(Clone, Debug)]
pub struct Twice {
    /// A stored result, which is compared with instead of running again.
    pub against: Option<Restore>,
    /// A file that the job writes besides its outputs.
    pub learn: Option<String>,
    /// A path below the folder of scratch files, which is free for this slot.
    pub scratch: String,
}

/// A job that goes on running beside the others.
pub struct HostedJob {
    /// The job; it has something that ends it.
    pub job: Arc<Job>,
    /// Succeeds once it is ready, and has something that ends it; none for one that is ready as soon as it runs.
    pub ready: Option<Job>,
    /// Run afterwards, one after another, whatever happened.
    pub finally: Vec<Job>,
    /// It must be ready within so long.
    pub within: Duration,
    /// What it printed last, and what asking whether it is ready printed.
    pub said: OutputTail,
    /// Whether what it prints is told as it comes.
    pub live: bool,
}

/// What an executor has to say of a job.
#[derive(Debug)]
pub enum Notice {
    /// The job began that was handed ahead, or was to be restored and could not be.
    Began(Ticket, Ticks),
    /// The job that was handed ahead did not begin, and will not.
    NotBegun(Ticket),
    /// Whoever runs the jobs has something to say that is of no single one.
    Remark(String),
    /// It printed something.
    Printed(Ticket, Vec<u8>),
    /// A job that goes on running beside the others is ready for them; or not, and why.
    Ready(Ticket, Result<(), String>),
    /// It has ended.
    Ended(Box<JobEnd>),
    /// A [`Waker`] was called.
    Answered(u64),
    /// Nothing happened for as long as was to be waited.
    Nothing,
}

/// The end of a job.
#[derive(Debug)]
pub struct JobEnd {
    /// Which job.
    pub ticket: Ticket,
    /// How it went.
    pub outcome: Outcome,
    /// Whether it did not run, since its stored result is in place.
    pub restored: bool,
    /// What came of running it again.
    pub twice: Option<TwiceReport>,
    /// What stands at its outputs now, in the order of the submission.
    pub outputs: Vec<Look>,
    /// When it began.
    pub began: Ticks,
    /// When it ended.
    pub ended: Ticks,
}

impl JobEnd {
    /// How long it took, from when it ran.
    #[must_use]
    pub fn took(&self) -> Duration {
        self.ended.since(self.began).saturating_sub(self.queued())
    }

    /// How long it waited until somewhere else there was room for it.
    #[must_use]
    pub fn queued(&self) -> Duration {
        let remote = self.outcome.remote.as_ref();
        remote.map_or(Duration::ZERO, |remote| remote.queued)
    }

    /// Whether it went well, as far as can be told where it ran.
    #[must_use]
    pub fn went_well(&self) -> bool {
        self.outcome.exit == Exit::Status(0)
            && !self.outcome.stopped
            && self
                .outputs
                .iter()
                .all(|look| matches!(look.state, State::Content(_)))
    }
}

/// What an executor needs to know of a pass.
#[derive(Clone, Copy)]
pub struct ExecutionContext<'a> {
    /// The file system.
    pub disk: &'a dyn Disk,
    /// The clock.
    pub clock: &'a dyn Clock,
    /// Jobs that may run at once.
    pub slots: usize,
    /// Whether what jobs print is told as it comes.
    pub live: bool,
    /// Whether jobs that were handed ahead are not begun any more.
    pub hold: &'a AtomicBool,
}

/// Somewhere jobs run. [`LocalExecutor`](crate::executor::LocalExecutor) is this machine.
pub trait Executor: Sync {
    /// The wish to end the run, which jobs that run heed.
    fn cancel(&self) -> &CancelToken;
    /// Is told before the first job of a run; after a kill, the next run finds out from what it notes.
    ///
    /// # Errors
    /// When that can't be noted.
    fn prepare(&self) -> io::Result<()>;
    /// Is told when all jobs of a run have ended and everything is where it belongs. Gives the names of
    /// programs that were still running.
    ///
    /// # Errors
    /// When the note can't be taken away.
    fn finish(&self) -> io::Result<Vec<String>>;
    /// Begins to take jobs; threads of its own live in the scope.
    ///
    /// # Errors
    /// When there is no room for a single slot.
    fn start<'scope, 'env: 'scope>(
        &'env self,
        scope: &'scope Scope<'scope, 'env>,
        context: ExecutionContext<'env>,
    ) -> io::Result<Box<dyn JobQueue + 'scope>>;
}

/// Lets [`JobQueue::wait`] give a [`Notice::Answered`] with this number; called on any thread.
pub type Waker = Arc<dyn Fn(u64) + Send + Sync>;

/// Takes jobs and tells what becomes of them, in the order in which it happens.
pub trait JobQueue {
    /// How many jobs may run at once: fewer than were asked for when there is no room for so many.
    fn slots(&self) -> usize;
    /// Takes a job, for the slot that it names.
    fn submit(&mut self, submission: Submission) -> Ticket;
    /// Takes a job that goes on running beside the others, in no slot; none where that is not possible. What it is
    /// ended by must be set before this value is dropped.
    fn host(&mut self, hosted: HostedJob) -> Option<Ticket> {
        let _ = hosted;
        None
    }
    /// Takes back a job that was handed ahead; whether that was in time. When it was, nothing more is told of
    /// it; when it was not, its notices come as they do.
    fn withdraw(&mut self, ticket: Ticket) -> bool;
    /// Lets others wake who waits; none when that is not possible.
    fn waker(&self) -> Option<Waker> {
        None
    }
    /// Waits for what happens next, so long at most when that is said; `None` when nothing can happen any more.
    fn wait(&mut self, longest: Option<Duration>) -> Option<Notice>;
}
