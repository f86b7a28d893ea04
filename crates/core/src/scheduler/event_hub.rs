//! Events on their way to their readers.
//!
//! A reader that never blocks is told at once ([`EventHub::direct`]). One that may block, as a terminal or a
//! pipe does, reads from a channel of bounded size on a thread of its own ([`event_channel`]): while it does not
//! read, jobs go on. What does not fit any more is left out, and the reader is told how much that was; all of
//! it is in the records and in the logs.

use std::collections::HashSet;
use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::time::Duration;

use crate::scheduler::event::Event;
use crate::scheduler::event::TimedEvent;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::Clock;
use crate::world::Ticks;
use crate::world::lock;

/// So many events, and so many bytes of what jobs printed, wait for a reader at most.
const MOST_EVENTS: usize = 1 << 16;
const MOST_BYTES: usize = 64 << 20;

/// A reader that was just told something waits so long for more: who runs thousands of short jobs should not
/// have a thread woken for each.
const GATHER: Duration = Duration::from_millis(4);

/// Whoever may block has so long to show what it was told, before a job takes the terminal over.
const CATCH_UP: Duration = Duration::from_secs(2);

/// What waits for a reader.
#[derive(Default)]
struct Waiting {
    events: VecDeque<Arc<TimedEvent>>,
    bytes: usize,
    left_out: usize,
    /// Whether the reader is busy with what it took last.
    reading: bool,
    /// Whether the reader lets more come before it takes it.
    gathering: bool,
    /// Whether somebody waits for the reader.
    hurried: bool,
    closed: bool,
}

#[derive(Default)]
struct Shared {
    waiting: Mutex<Waiting>,
    changed: Condvar,
}

/// Where events for one reader go in.
pub struct EventSender(Arc<Shared>);

/// Where one reader takes them out.
pub struct EventReceiver(Arc<Shared>);

/// A channel of bounded size for one reader.
#[must_use]
pub fn event_channel() -> (EventSender, EventReceiver) {
    let shared = Arc::<Shared>::default();
    (EventSender(Arc::clone(&shared)), EventReceiver(shared))
}

/// How much an event holds of what a job printed.
fn size(event: &Event) -> usize {
    match event {
        Event::Printed { text, .. } => text.len(),
        Event::Ended(ended) => ended.output.start.len() + ended.output.end.len(),
        Event::Finally { output, .. } => output.start.len() + output.end.len(),
        _ => 0,
    }
}

impl EventSender {
    /// Never waits.
    fn send(&self, event: &Arc<TimedEvent>) {
        let mut waiting = lock(&self.0.waiting);
        let bytes = waiting.bytes + size(&event.event);
        let full = waiting.events.len() >= MOST_EVENTS || bytes > MOST_BYTES;
        // The summary is the last, and fits always.
        if full && !matches!(event.event, Event::Summary(_)) {
            waiting.left_out += 1;
            return;
        }
        let sleeps = waiting.events.is_empty() && !waiting.gathering;
        waiting.bytes = bytes;
        waiting.events.push_back(Arc::clone(event));
        drop(waiting);
        if sleeps {
            self.0.changed.notify_all();
        }
    }

    /// Waits until the reader is done with all that it was sent, but not longer than this.
    fn catch_up(&self, longest: Duration) {
        let is_behind = |waiting: &mut Waiting| {
            (waiting.reading || !waiting.events.is_empty()) && !waiting.closed
        };
        let mut waiting = lock(&self.0.waiting);
        waiting.hurried = true;
        self.0.changed.notify_all();
        let waited = self
            .0
            .changed
            .wait_timeout_while(waiting, longest, is_behind);
        let (mut waiting, _) = waited.unwrap_or_else(PoisonError::into_inner);
        waiting.hurried = false;
    }
}

impl Drop for EventSender {
    fn drop(&mut self) {
        lock(&self.0.waiting).closed = true;
        self.0.changed.notify_all();
    }
}

impl EventReceiver {
    /// Lets more events come, unless somebody waits for the reader or none can come.
    fn gather<'w>(&self, mut waiting: MutexGuard<'w, Waiting>) -> MutexGuard<'w, Waiting> {
        waiting.gathering = true;
        let more_may_come = |waiting: &mut Waiting| !waiting.closed && !waiting.hurried;
        let changed = &self.0.changed;
        let waited = changed.wait_timeout_while(waiting, GATHER, more_may_come);
        let (mut waiting, _) = waited.unwrap_or_else(PoisonError::into_inner);
        waiting.gathering = false;
        waiting
    }

    /// Hands each event to `read`, until no more can come.
    pub fn read_all(self, mut read: impl FnMut(&TimedEvent)) {
        let mut batch = VecDeque::new();
        let mut is_first = true;
        loop {
            let mut waiting = lock(&self.0.waiting);
            waiting.reading = false;
            self.0.changed.notify_all();
            if !std::mem::take(&mut is_first) {
                waiting = self.gather(waiting);
            }
            let is_idle = |waiting: &mut Waiting| waiting.events.is_empty() && !waiting.closed;
            let waited = self.0.changed.wait_while(waiting, is_idle);
            waiting = waited.unwrap_or_else(PoisonError::into_inner);
            if waiting.events.is_empty() {
                return;
            }
            waiting.reading = true;
            waiting.bytes = 0;
            std::mem::swap(&mut waiting.events, &mut batch);
            let mut left_out = std::mem::take(&mut waiting.left_out);
            drop(waiting);
            let last = batch.back().map(|event| event.at).unwrap_or_default();
            for event in batch.drain(..) {
                // What was left out came behind all that waited, but for the summary.
                if matches!(event.event, Event::Summary(_)) {
                    tell_left_out(&mut left_out, event.at, &mut read);
                }
                read(&event);
            }
            tell_left_out(&mut left_out, last, &mut read);
        }
    }
}

fn tell_left_out(left_out: &mut usize, at: Ticks, read: &mut impl FnMut(&TimedEvent)) {
    let count = std::mem::take(left_out);
    if count > 0 {
        let event = Event::Warning(Diagnostic::placeless_warning(
            &mistakes::EVENTS_LEFT_OUT,
            format!("{count} events are left out here, since they were not read in time"),
        ));
        read(&TimedEvent { at, event });
    }
}

/// Is told at once, and never blocks.
type DirectReader<'s> = Box<dyn FnMut(&TimedEvent) + 's>;

/// Hands events to all readers.
pub struct EventHub<'s> {
    clock: &'s dyn Clock,
    direct: Vec<DirectReader<'s>>,
    channels: Vec<EventSender>,
    /// Warnings that were told: the project may be worked out more than once in a call; what is wrong is said
    /// once.
    told: HashSet<(Option<Span>, String)>,
    warned: bool,
}

impl<'s> EventHub<'s> {
    /// Nobody listens yet; time stamps are those of this clock.
    #[must_use]
    pub fn new(clock: &'s dyn Clock) -> Self {
        Self {
            clock,
            direct: Vec::new(),
            channels: Vec::new(),
            told: HashSet::new(),
            warned: false,
        }
    }

    /// With a reader that never blocks and is told at once.
    #[must_use]
    pub fn direct(mut self, reader: impl FnMut(&TimedEvent) + 's) -> Self {
        self.direct.push(Box::new(reader));
        self
    }

    /// With a reader behind a channel.
    #[must_use]
    pub fn channel(mut self, sender: EventSender) -> Self {
        self.channels.push(sender);
        self
    }

    /// Whether anything was warned of.
    #[must_use]
    pub fn has_warned(&self) -> bool {
        self.warned
    }

    /// Tells all readers.
    pub fn tell(&mut self, event: Event) {
        if let Event::Warning(warning) = &event {
            self.warned = true;
            let place = warning.primary.as_ref().map(|label| label.span);
            if !self.told.insert((place, warning.title.clone())) {
                return;
            }
        }
        let takes_terminal = matches!(event, Event::Began { terminal: true, .. });
        let at = self.clock.ticks();
        let event = TimedEvent { at, event };
        for reader in &mut self.direct {
            reader(&event);
        }
        if self.channels.is_empty() {
            return;
        }
        let event = Arc::new(event);
        for channel in &self.channels {
            channel.send(&event);
        }
        if takes_terminal {
            // Nothing else may be written there once the job begins.
            self.channels
                .iter()
                .for_each(|channel| channel.catch_up(CATCH_UP));
        }
    }
}
