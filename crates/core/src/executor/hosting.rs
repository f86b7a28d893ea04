//! Jobs that go on running beside the others: run to their end on threads of their own, and asked whether they are
//! ready.

use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::sync::mpsc::Sender;
use std::time::Duration;

use crate::executor::capture::Printed;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::queue::HostedJob;
use crate::executor::queue::JobEnd;
use crate::executor::queue::Notice;
use crate::executor::queue::Ticket;
use crate::executor::runner::JobRunner;
use crate::world::Clock;

/// How long is waited between two questions whether a job is ready, at first and at most.
const FIRST: Duration = Duration::from_millis(10);
const MOST: Duration = Duration::from_millis(250);

/// The thread of a hosted job.
pub struct JobHost<'a> {
    pub runner: &'a dyn JobRunner,
    pub clock: &'a dyn Clock,
    pub tell: Sender<Notice>,
    pub ticket: Ticket,
}

impl JobHost<'_> {
    /// Runs the job to its end, and tells when it is ready.
    pub fn run(self, hosted: &HostedJob) {
        let began = self.clock.ticks();
        let has_ended = AtomicBool::new(false);
        let outcome = std::thread::scope(|scope| {
            scope.spawn(|| {
                if let Some(ready) = self.await_ready(hosted, &has_ended) {
                    // Who waits no more has ended its run.
                    let _ = self.tell.send(Notice::Ready(self.ticket, ready));
                }
            });
            let outcome = self.runner.run(&hosted.job, &mut |text| {
                hosted.said.take(text);
                if hosted.live {
                    let _ = self.tell.send(Notice::Printed(self.ticket, text.to_vec()));
                }
            });
            has_ended.store(true, Ordering::SeqCst);
            // A question that still waits for an answer gets none any more.
            hosted.ready.iter().for_each(stop);
            outcome
        });
        let outcome = self.tidy_up(hosted, outcome);
        let end = JobEnd {
            ticket: self.ticket,
            outcome,
            restored: false,
            twice: None,
            outputs: Vec::new(),
            began,
            ended: self.clock.ticks(),
        };
        let _ = self.tell.send(Notice::Ended(Box::new(end)));
    }

    /// Runs what comes behind the job. That it was ended is what was wanted, and what it printed is in its log.
    fn tidy_up(&self, hosted: &HostedJob, mut outcome: Outcome) -> Outcome {
        if hosted
            .job
            .stop
            .as_ref()
            .is_some_and(|stop| stop.load(Ordering::SeqCst))
        {
            outcome.exit = Exit::Status(0);
            outcome.output = Printed::default();
        }
        for (number, job) in hosted.finally.iter().enumerate() {
            outcome.add_finally(number, self.runner.run(job, &mut |_| {}));
        }
        outcome
    }

    /// Asks until the job is ready, or that takes too long; none when it has ended or the run is to end.
    fn await_ready(
        &self,
        hosted: &HostedJob,
        has_ended: &AtomicBool,
    ) -> Option<Result<(), String>> {
        let Some(ready) = &hosted.ready else {
            return Some(Ok(()));
        };
        let began = self.clock.ticks();
        let mut wait = FIRST;
        loop {
            if has_ended.load(Ordering::SeqCst) || self.runner.cancel().is_raised() {
                return None;
            }
            let mut said = Vec::new();
            let outcome = self
                .runner
                .run(ready, &mut |text| said.extend_from_slice(text));
            if outcome.exit == Exit::Status(0) {
                // It may be another that answers, and this one has ended since.
                return (!has_ended.load(Ordering::SeqCst)).then_some(Ok(()));
            }
            if self.clock.ticks().since(began) >= hosted.within {
                hosted.said.take(&said);
                return Some(Err(format!("it was not ready within {:?}", hosted.within)));
            }
            std::thread::sleep(wait);
            wait = (wait * 2).min(MOST);
        }
    }
}

fn stop(job: &Job) {
    if let Some(stop) = &job.stop {
        stop.store(true, Ordering::SeqCst);
    }
}
