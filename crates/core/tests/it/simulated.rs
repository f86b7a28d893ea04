//! A made-up place for jobs with a clock of its own: time goes by only when a job ends, so that order and
//! times are exact and nothing waits.

use std::collections::VecDeque;
use std::io;
use std::sync::Mutex;
use std::sync::atomic::Ordering;
use std::thread::Scope;
use std::time::Duration;

use handloom_core::content::NoRecords;
use handloom_core::content::Reader;
use handloom_core::executor::CancelToken;
use handloom_core::executor::ExecutionContext;
use handloom_core::executor::Executor;
use handloom_core::executor::Job;
use handloom_core::executor::JobEnd;
use handloom_core::executor::JobQueue;
use handloom_core::executor::Notice;
use handloom_core::executor::Outcome;
use handloom_core::executor::Submission;
use handloom_core::executor::Ticket;
use handloom_core::world::Clock;
use handloom_core::world::Ticks;
use handloom_core::world::lock;

/// A clock that goes on when it is told to.
#[derive(Default)]
pub struct VirtualClock(Mutex<Duration>);

impl VirtualClock {
    fn elapsed(&self) -> Duration {
        *lock(&self.0)
    }

    fn go_to(&self, time: Duration) {
        let mut now = lock(&self.0);
        *now = time.max(*now);
    }
}

impl Clock for VirtualClock {
    fn now(&self) -> i64 {
        1_000_000_000_000 + i64::try_from(self.elapsed().as_nanos()).unwrap_or(i64::MAX)
    }

    fn ticks(&self) -> Ticks {
        Ticks::after(self.elapsed())
    }
}

/// What jobs do in a made-up place.
pub trait Jobs: Sync {
    /// A job begins; how long it will take.
    fn begin(&self, job: &Job) -> Duration;
    /// Its time is over: what it does, and how it ends.
    fn end(&self, job: &Job) -> Outcome;
    /// Everything that may begin now has begun: the next thing is that a job ends.
    fn full(&self) {}
}

/// A made-up place.
pub struct Simulated<'j> {
    pub jobs: &'j dyn Jobs,
    pub clock: &'j VirtualClock,
    pub cancel: &'j CancelToken,
}

impl Executor for Simulated<'_> {
    fn cancel(&self) -> &CancelToken {
        self.cancel
    }

    fn prepare(&self) -> io::Result<()> {
        Ok(())
    }

    fn finish(&self) -> io::Result<Vec<String>> {
        Ok(Vec::new())
    }

    fn start<'scope, 'env: 'scope>(
        &'env self,
        _: &'scope Scope<'scope, 'env>,
        context: ExecutionContext<'env>,
    ) -> io::Result<Box<dyn JobQueue + 'scope>> {
        Ok(Box::new(Queue {
            executor: self,
            context,
            slots: (0..context.slots).map(|_| Slot::default()).collect(),
            notices: VecDeque::new(),
            submitted: 0,
        }))
    }
}

struct Running {
    ticket: Ticket,
    submission: Submission,
    began: Duration,
    ends: Duration,
}

#[derive(Default)]
struct Slot {
    running: Option<Running>,
    ahead: VecDeque<(Ticket, Submission)>,
}

struct Queue<'q> {
    executor: &'q Simulated<'q>,
    context: ExecutionContext<'q>,
    slots: Vec<Slot>,
    notices: VecDeque<Notice>,
    submitted: u64,
}

impl Queue<'_> {
    fn begin(&mut self, slot: usize, ticket: Ticket, submission: Submission) {
        let began = self.executor.clock.elapsed();
        let ends = began + self.executor.jobs.begin(&submission.job);
        self.slots[slot].running = Some(Running {
            ticket,
            submission,
            began,
            ends,
        });
    }

    /// The job that ends first, and of those that end at once the one in the first slot.
    fn end_first(&mut self) -> Option<()> {
        self.executor.jobs.full();
        let running = self.slots.iter().enumerate();
        let (_, slot) = running
            .filter_map(|(number, slot)| Some((slot.running.as_ref()?.ends, number)))
            .min()?;
        let running = self.slots[slot].running.take()?;
        self.executor.clock.go_to(running.ends);
        let outcome = self.executor.jobs.end(&running.submission.job);
        let reader = Reader {
            disk: self.context.disk,
            clock: self.context.clock,
            records: &NoRecords,
        };
        let outputs = running.submission.outputs.iter();
        let end = JobEnd {
            restored: false,
            twice: None,
            ticket: running.ticket,
            outcome,
            outputs: outputs
                .map(|path| reader.look(path, &mut Vec::new()))
                .collect(),
            began: Ticks::after(running.began),
            ended: Ticks::after(running.ends),
        };
        let mut went_well = end.went_well();
        self.notices.push_back(Notice::Ended(Box::new(end)));
        while self.slots[slot].running.is_none()
            && let Some((ticket, submission)) = self.slots[slot].ahead.pop_front()
        {
            went_well &= !self.context.hold.load(Ordering::SeqCst);
            if went_well && !self.executor.cancel.is_raised() {
                let now = self.context.clock.ticks();
                self.notices.push_back(Notice::Began(ticket, now));
                self.begin(slot, ticket, submission);
            } else {
                self.notices.push_back(Notice::NotBegun(ticket));
            }
        }
        Some(())
    }
}

impl JobQueue for Queue<'_> {
    fn slots(&self) -> usize {
        self.slots.len()
    }

    fn submit(&mut self, submission: Submission) -> Ticket {
        let ticket = Ticket(self.submitted);
        self.submitted += 1;
        let slot = submission.job.slot.index();
        if submission.ahead {
            self.slots[slot].ahead.push_back((ticket, submission));
        } else {
            self.begin(slot, ticket, submission);
        }
        ticket
    }

    fn withdraw(&mut self, ticket: Ticket) -> bool {
        self.slots.iter_mut().any(|slot| {
            let before = slot.ahead.len();
            slot.ahead.retain(|(ahead, _)| *ahead != ticket);
            slot.ahead.len() < before
        })
    }

    fn wait(&mut self, _longest: Option<Duration>) -> Option<Notice> {
        if self.notices.is_empty() {
            self.end_first();
        }
        self.notices.pop_front()
    }
}
