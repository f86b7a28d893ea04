//! The threads that jobs run on: one for each job that may run at once.

use std::io;
use std::panic::AssertUnwindSafe;
use std::panic::catch_unwind;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::sync::mpsc::Receiver;
use std::sync::mpsc::Sender;
use std::thread::Scope;

use crate::content::Look;
use crate::content::Reader;
use crate::content::State;
use crate::executor::cancel::CancelToken;
use crate::executor::exit::Exit;
use crate::executor::job::Executor;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::world::Clock;
use crate::world::Disk;
use crate::world::quarantine::remove;

/// A job handed to a slot.
pub struct WorkOrder {
    /// The job.
    pub job: Arc<Job>,
    /// Paths to look at when it has succeeded.
    pub outputs: Vec<String>,
    /// A job to run afterwards, whatever happened.
    pub finally: Option<Job>,
    /// How often it may be tried again.
    pub retries: u32,
    /// It was handed over while the job before it was running, and only begins when that went well
    /// and nobody wants the run to end.
    pub ahead: bool,
}

/// What a slot has to say.
pub enum WorkerMessage {
    /// It began the job that was handed ahead.
    Began(usize),
    /// It did not begin the job that was handed ahead, and is free again.
    NotBegun(usize),
    /// Its job printed something.
    Printed(usize, Vec<u8>),
    /// Its job has ended.
    WorkDone(WorkDone),
}

/// A job that a slot has ended.
pub struct WorkDone {
    /// The slot, which is free again.
    pub slot: usize,
    /// How it went.
    pub outcome: Outcome,
    /// What stands at its outputs now.
    pub outputs: Vec<Look>,
    /// Nanoseconds it took.
    pub took: u64,
    /// When it began, in the clock's ticks.
    pub began: u64,
}

impl WorkDone {
    /// As far as a slot can tell.
    fn went_well(&self) -> bool {
        self.outcome.exit == Exit::Status(0)
            && !self.outcome.stopped
            && self
                .outputs
                .iter()
                .all(|look| matches!(look.state, State::Content(_)))
    }
}

/// What slots share.
#[derive(Clone, Copy)]
pub struct WorkerContext<'a> {
    /// Where jobs run.
    pub place: &'a dyn Executor,
    /// The file system.
    pub disk: &'a dyn Disk,
    /// The clock.
    pub clock: &'a dyn Clock,
    /// The wish to end.
    pub stop: &'a CancelToken,
    /// Whether what jobs print is told as it comes.
    pub live: bool,
    /// Whether jobs that were handed ahead are not begun any more.
    pub hold: &'a AtomicBool,
}

/// Threads that wait for jobs.
pub struct WorkerPool {
    orders: Vec<Sender<WorkOrder>>,
    notes: Receiver<WorkerMessage>,
    idle: Vec<usize>,
    busy: usize,
    /// Which slots have a job that was handed ahead.
    has_next: Vec<bool>,
    /// Which of them will not begin it, since the job before did not go well.
    declines: Vec<bool>,
}

impl WorkerPool {
    /// Starts `count` threads in a scope, which ends when this value is dropped; fewer when the system has no
    /// room for so many.
    ///
    /// # Errors
    /// When there is no room for a single one.
    pub fn start<'scope>(
        scope: &'scope Scope<'scope, '_>,
        context: WorkerContext<'scope>,
        count: usize,
    ) -> io::Result<Self> {
        let (finished, notes) = mpsc::channel();
        let mut orders = Vec::with_capacity(count);
        for slot in 0..count {
            let (sender, receiver) = mpsc::channel::<WorkOrder>();
            let finished = finished.clone();
            let thread = std::thread::Builder::new().name(format!("job slot {slot}"));
            let started = thread.spawn_scoped(scope, move || {
                let mut buffer = Vec::new();
                let mut went_well = true;
                for order in receiver {
                    if order.ahead {
                        let wanted = went_well
                            && !context.hold.load(Ordering::SeqCst)
                            && context.stop.level() == 0;
                        let note = if wanted {
                            WorkerMessage::Began(slot)
                        } else {
                            WorkerMessage::NotBegun(slot)
                        };
                        if finished.send(note).is_err() {
                            break;
                        }
                        if !wanted {
                            continue;
                        }
                    }
                    let mut heard = |text: &[u8]| {
                        if context.live {
                            // Who listens no more is about to drop this slot.
                            let _ = finished.send(WorkerMessage::Printed(slot, text.to_vec()));
                        }
                    };
                    let work = AssertUnwindSafe(|| {
                        carry_out(&context, &order, slot, &mut buffer, &mut heard)
                    });
                    // A slot that never answers would hang the run.
                    let done = catch_unwind(work).unwrap_or_else(|_| broken(slot));
                    went_well = done.went_well();
                    if finished.send(WorkerMessage::WorkDone(done)).is_err() {
                        break;
                    }
                }
            });
            match started {
                Ok(_) => orders.push(sender),
                Err(error) if orders.is_empty() => return Err(error),
                Err(_) => break,
            }
        }
        let count = orders.len();
        Ok(Self {
            orders,
            notes,
            idle: (0..count).rev().collect(),
            busy: 0,
            has_next: vec![false; count],
            declines: vec![false; count],
        })
    }

    /// A slot that is free.
    pub fn idle(&self) -> Option<usize> {
        self.idle.last().copied()
    }

    /// How many jobs are running.
    pub fn busy(&self) -> usize {
        self.busy
    }

    /// Hands a job to the slot that [`WorkerPool::idle`] named.
    pub fn hand(&mut self, order: WorkOrder) {
        if let Some(slot) = self.idle.pop() {
            self.busy += 1;
            self.declines[slot] = false;
            // A slot only stops listening when this value is gone.
            let _ = self.orders[slot].send(order);
        }
    }

    /// A slot that is busy, has no job handed ahead yet, and would begin one.
    pub fn without_next(&self) -> Option<usize> {
        let may = |slot: &usize| !self.has_next[*slot] && !self.declines[*slot];
        (0..self.has_next.len()).find(|slot| may(slot) && !self.idle.contains(slot))
    }

    /// Hands a busy slot the job that it begins by itself when its own has ended.
    pub fn hand_ahead(&mut self, slot: usize, order: WorkOrder) {
        self.has_next[slot] = true;
        // A slot only stops listening when this value is gone.
        let _ = self.orders[slot].send(order);
    }

    /// Waits until a slot has something to say; `None` when none can any more.
    pub fn wait(&mut self) -> Option<WorkerMessage> {
        let note = self.notes.recv().ok()?;
        if let WorkerMessage::WorkDone(done) = &note {
            self.declines[done.slot] = !done.went_well();
        }
        let freed = match &note {
            // It has one more to begin, or to say of that it does not begin it: it may have been handed that
            // before it said so of the one in front.
            WorkerMessage::WorkDone(WorkDone { slot, .. }) | WorkerMessage::NotBegun(slot)
                if std::mem::take(&mut self.has_next[*slot]) =>
            {
                None
            }
            WorkerMessage::WorkDone(WorkDone { slot, .. }) | WorkerMessage::NotBegun(slot) => {
                Some(*slot)
            }
            WorkerMessage::Began(_) | WorkerMessage::Printed(..) => None,
        };
        if let Some(slot) = freed {
            self.idle.push(slot);
            self.busy -= 1;
        }
        Some(note)
    }
}

fn broken(slot: usize) -> WorkDone {
    WorkDone {
        slot,
        outcome: Outcome::silent(Exit::NotStarted(
            "internal error in the thread of this job, please report".to_owned(),
        )),
        outputs: Vec::new(),
        took: 0,
        began: 0,
    }
}

fn carry_out(
    context: &WorkerContext<'_>,
    order: &WorkOrder,
    slot: usize,
    buffer: &mut Vec<u8>,
    heard: &mut dyn FnMut(&[u8]),
) -> WorkDone {
    let began = context.clock.ticks();
    let mut outcome = context.place.run(&order.job, context.stop, heard);
    let mut left = order.retries;
    while left > 0 && outcome.exit.code() != 0 && !outcome.stopped && context.stop.level() == 0 {
        left -= 1;
        for path in &order.outputs {
            // What a failed try left behind is no result; what can't be removed shows in the next.
            let _ = remove(context.disk, path);
        }
        let before = outcome.output;
        outcome = context.place.run(&order.job, context.stop, heard);
        outcome.output.put_behind(before);
    }
    if let Some(job) = &order.finally {
        // It tidies up also after an interruption, so the wish to stop does not reach it.
        let after = context.place.run(job, &CancelToken::default(), heard);
        let before = std::mem::replace(&mut outcome.output, after.output);
        outcome.output.put_behind(before);
        if outcome.exit.code() == 0 {
            outcome.exit = after.exit;
        }
    }
    let took = context.clock.ticks().saturating_sub(began);
    let nothing = |_: &str| None;
    let reader = Reader {
        disk: context.disk,
        clock: context.clock,
        record: &nothing,
    };
    let outputs = order
        .outputs
        .iter()
        .map(|path| reader.look(path, buffer))
        .collect();
    WorkDone {
        slot,
        outcome,
        outputs,
        took,
        began,
    }
}
