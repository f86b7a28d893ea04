//! One thread for each job that may run at once: for executors that run a job to its end where they are called.
//!
//! A spawn blocks its thread until the exec; with a thread a slot, spawns overlap. A thread looks at its job's
//! outputs itself, so that reading them overlaps too. While jobs are short it is handed its next one before its
//! own has ended, and says of each whether it begins it.

use std::io;
use std::panic::AssertUnwindSafe;
use std::panic::catch_unwind;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::sync::mpsc::Receiver;
use std::sync::mpsc::RecvTimeoutError;
use std::sync::mpsc::SendError;
use std::sync::mpsc::Sender;
use std::thread::Scope;
use std::time::Duration;

use crate::content::Look;
use crate::content::NoRecords;
use crate::content::Reader;
use crate::executor::cancel::CancelToken;
use crate::executor::capture::Capture;
use crate::executor::exit::Exit;
use crate::executor::hosting::JobHost;
use crate::executor::job::Outcome;
use crate::executor::queue::ExecutionContext;
use crate::executor::queue::Executor;
use crate::executor::queue::HostedJob;
use crate::executor::queue::JobEnd;
use crate::executor::queue::JobQueue;
use crate::executor::queue::Notice;
use crate::executor::queue::Submission;
use crate::executor::queue::Ticket;
use crate::executor::queue::Twice;
use crate::executor::queue::Waker;
use crate::executor::runner::JobRunner;
use crate::executor::twice::FirstOutputs;
use crate::executor::twice::TwiceAgainst;
use crate::executor::twice::TwiceReport;
use crate::executor::twice::compare;
use crate::executor::twice::same_states;
use crate::store::Restore;
use crate::world::names::parent;
use crate::world::quarantine::remove;

/// A job is run again so often when where it ran was lost.
const LOST: usize = 3;

impl<R: JobRunner> Executor for R {
    fn cancel(&self) -> &CancelToken {
        JobRunner::cancel(self)
    }

    fn prepare(&self) -> io::Result<()> {
        JobRunner::prepare(self)
    }

    fn finish(&self) -> io::Result<Vec<String>> {
        JobRunner::finish(self)
    }

    fn start<'scope, 'env: 'scope>(
        &'env self,
        scope: &'scope Scope<'scope, 'env>,
        context: ExecutionContext<'env>,
    ) -> io::Result<Box<dyn JobQueue + 'scope>> {
        Ok(Box::new(ThreadPool::start(scope, self, context)?))
    }
}

/// A submission on its way to a thread.
struct Assignment {
    ticket: Ticket,
    submission: Submission,
    /// Whoever sets this first has it: the thread, which then carries it out, or whoever takes it back.
    claimed: Arc<AtomicBool>,
}

/// Threads that wait for jobs.
struct ThreadPool<'scope, 'env> {
    scope: &'scope Scope<'scope, 'env>,
    runner: &'scope dyn JobRunner,
    context: ExecutionContext<'scope>,
    workers: Vec<Sender<Assignment>>,
    /// Of each slot, what it was handed ahead last.
    ahead: Vec<Option<(Ticket, Arc<AtomicBool>)>>,
    notices: Receiver<Notice>,
    /// For others than the threads.
    tell: Sender<Notice>,
    submitted: u64,
}

impl<'scope, 'env> ThreadPool<'scope, 'env> {
    /// Starts a thread for each slot, which ends when this value is dropped; fewer when the system has no room
    /// for so many.
    fn start(
        scope: &'scope Scope<'scope, 'env>,
        runner: &'scope dyn JobRunner,
        context: ExecutionContext<'scope>,
    ) -> io::Result<Self> {
        let (tell, notices) = mpsc::channel();
        let remarks: Sender<Notice> = tell.clone();
        runner.tell_to(Arc::new(move |remark| {
            // Who listens no more has ended its run.
            let _ = remarks.send(Notice::Remark(remark));
        }));
        let mut workers = Vec::with_capacity(context.slots);
        for slot in 0..context.slots {
            let (sender, assignments) = mpsc::channel();
            let tell = tell.clone();
            let thread = std::thread::Builder::new().name(format!("job slot {slot}"));
            let worker = Worker {
                runner,
                context,
                tell,
                buffer: Vec::new(),
            };
            let started = thread.spawn_scoped(scope, move || worker.work(assignments));
            match started {
                Ok(_) => workers.push(sender),
                Err(error) if workers.is_empty() => return Err(error),
                Err(_) => break,
            }
        }
        Ok(Self {
            scope,
            runner,
            context,
            ahead: vec![None; workers.len()],
            workers,
            notices,
            tell,
            submitted: 0,
        })
    }
}

impl JobQueue for ThreadPool<'_, '_> {
    fn slots(&self) -> usize {
        self.workers.len()
    }

    fn submit(&mut self, submission: Submission) -> Ticket {
        let ticket = Ticket(self.submitted);
        self.submitted += 1;
        let slot = submission.job.slot.index();
        let claimed = Arc::<AtomicBool>::default();
        if let (true, Some(ahead)) = (submission.ahead, self.ahead.get_mut(slot)) {
            *ahead = Some((ticket, Arc::clone(&claimed)));
        }
        if let Some(worker) = self.workers.get(slot) {
            // A worker only stops listening when this value is gone.
            let _ = worker.send(Assignment {
                ticket,
                submission,
                claimed,
            });
        }
        ticket
    }

    fn host(&mut self, hosted: HostedJob) -> Option<Ticket> {
        let ticket = Ticket(self.submitted);
        self.submitted += 1;
        let host = JobHost {
            runner: self.runner,
            clock: self.context.clock,
            tell: self.tell.clone(),
            ticket,
        };
        let thread = std::thread::Builder::new().name(format!("hosted job {}", ticket.0));
        thread
            .spawn_scoped(self.scope, move || host.run(&hosted))
            .ok()?;
        Some(ticket)
    }

    fn withdraw(&mut self, ticket: Ticket) -> bool {
        let mut ahead = self.ahead.iter().flatten();
        ahead
            .find(|(handed, _)| *handed == ticket)
            .is_some_and(|(_, claimed)| !claimed.swap(true, Ordering::AcqRel))
    }

    fn waker(&self) -> Option<Waker> {
        let tell = self.tell.clone();
        Some(Arc::new(move |number| {
            // Who waits no more has ended its run.
            let _ = tell.send(Notice::Answered(number));
        }))
    }

    fn wait(&mut self, longest: Option<Duration>) -> Option<Notice> {
        let Some(longest) = longest else {
            return self.notices.recv().ok();
        };
        match self.notices.recv_timeout(longest) {
            Err(RecvTimeoutError::Timeout) => Some(Notice::Nothing),
            notice => notice.ok(),
        }
    }
}

/// What one thread has.
struct Worker<'a> {
    runner: &'a dyn JobRunner,
    context: ExecutionContext<'a>,
    tell: Sender<Notice>,
    buffer: Vec<u8>,
}

impl Worker<'_> {
    /// Carries out what is submitted, until nobody submits or listens any more.
    fn work(mut self, assignments: Receiver<Assignment>) {
        let mut went_well = true;
        for assignment in assignments {
            if assignment.claimed.swap(true, Ordering::AcqRel) {
                continue;
            }
            let (ticket, submission) = (assignment.ticket, assignment.submission);
            if submission.ahead {
                let wanted = went_well
                    && !self.context.hold.load(Ordering::SeqCst)
                    && !self.runner.cancel().is_raised();
                let told = match (wanted, &submission.restore) {
                    (true, None) => self.tell_begin(ticket),
                    (true, Some(_)) => Ok(()),
                    (false, _) => self.tell.send(Notice::NotBegun(ticket)),
                };
                if told.is_err() {
                    break;
                }
                if !wanted {
                    continue;
                }
            }
            let work = AssertUnwindSafe(|| match self.restore(ticket, &submission) {
                Some(end) => end,
                None => self.carry_out(ticket, &submission),
            });
            // A worker that never answers would hang the run.
            let end = catch_unwind(work).unwrap_or_else(|_| self.broken(ticket));
            went_well = end.went_well();
            if self.tell.send(Notice::Ended(Box::new(end))).is_err() {
                break;
            }
        }
    }

    fn tell_begin(&self, ticket: Ticket) -> Result<(), SendError<Notice>> {
        let now = self.context.clock.ticks();
        self.tell.send(Notice::Began(ticket, now))
    }

    /// Puts a job's stored result in place, when it has one; `None` when the job has to run after all.
    fn restore(&mut self, ticket: Ticket, submission: &Submission) -> Option<JobEnd> {
        let restore = submission.restore.as_ref()?;
        let began = self.context.clock.ticks();
        let is_in_place = restore.put_in_place().is_ok();
        let outputs = self.looks(submission);
        let found = outputs.iter().map(|look| look.state.own_digest());
        if is_in_place && found.eq(restore.expected().map(Some)) {
            let mut capture = Capture::new(
                &restore.root,
                submission.job.log.as_deref(),
                &submission.job.name,
                &submission.job.tail,
            );
            for printed in restore.printed() {
                capture.take(printed);
            }
            let mut outcome = Outcome::silent(Exit::Status(0));
            outcome.output = capture.finish();
            outcome.output.left_out += restore.result.left_out;
            return Some(JobEnd {
                ticket,
                outcome,
                restored: true,
                twice: None,
                outputs,
                began,
                ended: self.context.clock.ticks(),
            });
        }
        restore.forget();
        self.clear(submission);
        // Who listens no more is about to end this thread.
        let _ = self.tell_begin(ticket);
        None
    }

    /// Removes what a try left that brought nothing.
    fn clear(&self, submission: &Submission) {
        let disk = self.context.disk;
        for path in &submission.outputs {
            // What can't be removed shows in what comes next.
            let _ = remove(disk, path);
            if path.ends_with('/') {
                let _ = disk.create_folders(path.trim_end_matches('/'));
            }
        }
    }

    /// What stands at a job's outputs.
    fn looks(&mut self, submission: &Submission) -> Vec<Look> {
        let reader = Reader {
            disk: self.context.disk,
            clock: self.context.clock,
            records: &NoRecords,
        };
        let buffer = &mut self.buffer;
        let outputs = submission.outputs.iter();
        outputs.map(|path| reader.look(path, buffer)).collect()
    }

    fn carry_out(&mut self, ticket: Ticket, submission: &Submission) -> JobEnd {
        let began = self.context.clock.ticks();
        let live = self.context.live;
        let tell = &self.tell;
        let mut heard = |text: &[u8]| {
            if live {
                // Who listens no more is about to end this thread.
                let _ = tell.send(Notice::Printed(ticket, text.to_vec()));
            }
        };
        let outcome = self.run(submission, &mut heard);
        let ended = self.context.clock.ticks();
        let outputs = self.looks(submission);
        let twice = submission.twice.as_ref();
        let twice = twice.filter(|_| outcome.exit == Exit::Status(0) && !outcome.stopped);
        let twice = twice.and_then(|twice| match &twice.against {
            Some(stored) => self.compare_with_stored(submission, twice, stored, &outputs),
            None => self.run_again(submission, twice, &outputs),
        });
        JobEnd {
            ticket,
            outcome,
            restored: false,
            twice,
            outputs,
            began,
            ended,
        }
    }

    /// Runs a job again, and compares what came out; none when its outputs can't be moved, or the run is to end.
    fn run_again(
        &mut self,
        submission: &Submission,
        twice: &Twice,
        outputs: &[Look],
    ) -> Option<TwiceReport> {
        let disk = self.context.disk;
        let written = submission.outputs.iter().chain(&twice.learn).cloned();
        let first = FirstOutputs::set_by(disk, &twice.scratch, written).ok()?;
        self.clear(submission);
        let mut job = (*submission.job).clone();
        job.log = None;
        let outcome = self.runner.run(&job, &mut |_| {});
        let again = self.looks(submission);
        let differences = if same_states(outputs, &again) {
            Vec::new()
        } else {
            first.differences(&submission.outputs)
        };
        if first.put_back().is_err() || outcome.stopped {
            return None;
        }
        let has_failed = outcome.exit != Exit::Status(0);
        Some(TwiceReport {
            against: TwiceAgainst::SecondRun,
            differences: if has_failed { Vec::new() } else { differences },
            failed: has_failed.then_some(outcome.exit),
        })
    }

    /// Compares what came out with what the store has.
    fn compare_with_stored(
        &self,
        submission: &Submission,
        twice: &Twice,
        stored: &Restore,
        outputs: &[Look],
    ) -> Option<TwiceReport> {
        let mut report = TwiceReport {
            against: TwiceAgainst::Store(stored.result.made_at),
            failed: None,
            differences: Vec::new(),
        };
        let found = outputs.iter().map(|look| look.state.own_digest());
        if found.eq(stored.expected().map(Some)) {
            return Some(report);
        }
        let disk = self.context.disk;
        let folder = format!("{}.stored", twice.scratch);
        remove(disk, &folder).ok()?;
        for path in &submission.outputs {
            let place = format!("{folder}/{}", path.trim_end_matches('/'));
            disk.create_folders(parent(&place)).ok()?;
        }
        let is_in_place = stored.below(&folder).put_in_place().is_ok();
        for path in &submission.outputs {
            let plain = path.trim_end_matches('/');
            let kept = format!("{folder}/{plain}");
            compare(disk, (&kept, plain), plain, &mut report.differences);
        }
        // What is left there is overwritten by the next.
        let _ = remove(disk, &folder);
        is_in_place.then_some(report)
    }

    /// The job, as often as it may be tried, and what is run afterwards.
    fn run(&self, submission: &Submission, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let mut outcome = self.run_where_it_stays(submission, heard);
        let mut left = submission.retries;
        while left > 0
            && outcome.exit.code() != 0
            && !outcome.stopped
            && !self.runner.cancel().is_raised()
        {
            left -= 1;
            if !submission.resumes {
                self.clear(submission);
            }
            let before = outcome.output;
            outcome = self.run_where_it_stays(submission, heard);
            outcome.output.put_behind(before);
        }
        for (number, job) in submission.finally.iter().enumerate() {
            outcome.add_finally(number, self.runner.run(job, heard));
        }
        outcome
    }

    /// Runs a job; again when where it ran was lost, which is no fault of its recipe. One that may have brought it about is
    /// tried only once more: it takes others with it.
    fn run_where_it_stays(&self, submission: &Submission, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let mut tries = 0;
        let mut queued = Duration::ZERO;
        loop {
            let mut outcome = self.runner.run(&submission.job, heard);
            if let Some(remote) = &mut outcome.remote {
                remote.queued += queued;
                queued = remote.queued;
            }
            let Exit::Lost { is_suspect, .. } = &outcome.exit else {
                return outcome;
            };
            tries += if *is_suspect { LOST } else { 1 };
            if tries > LOST || self.runner.cancel().is_raised() {
                return outcome;
            }
            if !submission.resumes {
                self.clear(submission);
            }
        }
    }

    fn broken(&self, ticket: Ticket) -> JobEnd {
        let now = self.context.clock.ticks();
        JobEnd {
            ticket,
            outcome: Outcome::silent(Exit::NotStarted(
                "internal error in the thread of this job, please report".to_owned(),
            )),
            restored: false,
            twice: None,
            outputs: Vec::new(),
            began: now,
            ended: now,
        }
    }
}
