//! Which job runs in which slot, and which was handed ahead.

use hashbrown::HashMap;

use crate::executor::SlotId;
use crate::executor::Ticket;
use crate::graph::Position;
use crate::scheduler::event::Event;
use crate::scheduler::job_builder::PreparedJob;
use crate::store::Hit;
use crate::verdict::Reason;

/// A job that is running, or about to.
pub struct RunningJob {
    /// Where it stands in the order.
    pub position: Position,
    /// Why it runs.
    pub reasons: Vec<Reason>,
    /// What runs.
    pub prepared: PreparedJob,
    /// Its old outputs that are set by.
    pub set_by: Vec<String>,
    /// Its stored result, when it has one.
    pub hit: Option<Box<Hit>>,
}

/// A job that was handed ahead, and what is told when it begins.
struct Ahead {
    ticket: Ticket,
    job: RunningJob,
    event: Event,
}

#[derive(Default)]
struct Slot {
    running: Option<(Ticket, RunningJob)>,
    /// What is told when its executor says that it began what it was handed ahead.
    to_tell: Option<Event>,
    next: Option<Ahead>,
    /// It will not begin what it is handed ahead, since the job before did not go well.
    declines: bool,
}

/// A job that left its slot.
pub struct Freed {
    /// The job.
    pub job: RunningJob,
    /// Its slot.
    pub slot: SlotId,
    /// Whether the slot is free now: no job that was handed ahead takes what this one took.
    pub is_free: bool,
}

/// All slots.
pub struct SlotTable {
    slots: Vec<Slot>,
    idle: Vec<SlotId>,
    of_ticket: HashMap<Ticket, SlotId>,
}

impl SlotTable {
    /// So many slots, all idle.
    pub fn new(count: usize) -> Self {
        Self {
            slots: (0..count).map(|_| Slot::default()).collect(),
            idle: (0..count).rev().map(SlotId::at).collect(),
            of_ticket: HashMap::new(),
        }
    }

    /// A slot that is free.
    pub fn idle(&self) -> Option<SlotId> {
        self.idle.last().copied()
    }

    /// How many jobs are running.
    pub fn busy(&self) -> usize {
        self.slots.len() - self.idle.len()
    }

    /// A job begins in the slot that [`SlotTable::idle`] named; `to_tell` is told when it is said to have begun.
    pub fn begin(&mut self, ticket: Ticket, job: RunningJob, to_tell: Option<Event>) {
        if let Some(slot) = self.idle.pop() {
            self.of_ticket.insert(ticket, slot);
            let slot = &mut self.slots[slot.index()];
            slot.running = Some((ticket, job));
            slot.to_tell = to_tell;
            slot.declines = false;
        }
    }

    /// A slot that is busy, was handed nothing ahead yet, and would begin it; with the job that it runs.
    pub fn without_next(&self) -> Option<(SlotId, &RunningJob)> {
        let mut slots = self.slots.iter().enumerate();
        slots.find_map(|(index, slot)| {
            let (_, job) = slot.running.as_ref()?;
            let may = slot.next.is_none() && !slot.declines;
            may.then_some((SlotId::at(index), job))
        })
    }

    /// A busy slot is handed the job that it begins by itself when its own has ended; `event` is told then.
    pub fn hand_ahead(&mut self, slot: SlotId, ticket: Ticket, job: RunningJob, event: Event) {
        self.of_ticket.insert(ticket, slot);
        self.slots[slot.index()].next = Some(Ahead { ticket, job, event });
    }

    /// Jobs that were handed ahead.
    pub fn handed_ahead(&self) -> impl Iterator<Item = Ticket> {
        let slots = self.slots.iter();
        slots.filter_map(|slot| Some(slot.next.as_ref()?.ticket))
    }

    /// A job that was handed ahead and taken back in time.
    pub fn withdraw(&mut self, ticket: Ticket) -> Option<RunningJob> {
        let slot = self.of_ticket.remove(&ticket)?;
        Some(self.slots[slot.index()].next.take()?.job)
    }

    /// The job of a ticket, when it is running.
    pub fn running(&self, ticket: Ticket) -> Option<&RunningJob> {
        let slot = self.of_ticket.get(&ticket)?;
        let (running, job) = self.slots[slot.index()].running.as_ref()?;
        (*running == ticket).then_some(job)
    }

    /// A job that was handed ahead began; what is to be told.
    pub fn began(&mut self, ticket: Ticket) -> Option<Event> {
        let slot = self.of_ticket.get(&ticket)?;
        self.slots[slot.index()].to_tell.take()
    }

    /// A job has ended.
    pub fn ended(&mut self, ticket: Ticket, went_well: bool) -> Option<Freed> {
        let freed = self.free(ticket)?;
        self.slots[freed.slot.index()].declines = !went_well;
        Some(freed)
    }

    /// A job that was handed ahead did not begin, and will not.
    pub fn not_begun(&mut self, ticket: Ticket) -> Option<Freed> {
        self.free(ticket)
    }

    /// Takes a job out of its slot, and puts that in which was handed ahead behind it: it may have been handed
    /// that before it said so of the one in front.
    fn free(&mut self, ticket: Ticket) -> Option<Freed> {
        let slot = self.of_ticket.remove(&ticket)?;
        let place = &mut self.slots[slot.index()];
        place.to_tell = None;
        let (_, job) = place.running.take()?;
        let is_free = match place.next.take() {
            Some(next) => {
                place.running = Some((next.ticket, next.job));
                place.to_tell = Some(next.event);
                false
            }
            None => {
                self.idle.push(slot);
                true
            }
        };
        Some(Freed { job, slot, is_free })
    }
}
