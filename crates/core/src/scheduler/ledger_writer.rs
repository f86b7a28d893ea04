//! Writing to the ledger while jobs run: at once, and durable now and then, off the scheduler's thread.

use std::cell::RefCell;
use std::io;
use std::thread::JoinHandle;
use std::time::Duration;

use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::scheduler::options::BuildError;
use crate::world::Clock;
use crate::world::Ticks;

/// The ledger is made durable after so many writes, or after so long.
const SYNC_WRITES: usize = 512;
const SYNC_AFTER: Duration = Duration::from_millis(100);

/// The one who writes to the ledger during a build.
pub struct LedgerWriter<'s> {
    ledger: &'s RefCell<Ledger>,
    clock: &'s dyn Clock,
    /// Writes since it was last made durable.
    writes: usize,
    synced: Ticks,
    worker: Option<JoinHandle<io::Result<()>>>,
    /// Another run may have the project: nothing is written any more.
    closed: bool,
}

fn broken(error: io::Error) -> BuildError {
    BuildError::io("can't write the ledger", error)
}

impl<'s> LedgerWriter<'s> {
    /// Nothing was written yet.
    pub fn new(ledger: &'s RefCell<Ledger>, clock: &'s dyn Clock) -> Self {
        Self {
            ledger,
            clock,
            writes: 0,
            synced: Ticks::default(),
            worker: None,
            closed: false,
        }
    }

    /// Writes entries at once; makes them durable now and then.
    pub fn record(&mut self, entries: impl IntoIterator<Item = Entry>) -> Result<(), BuildError> {
        if self.closed {
            return Ok(());
        }
        let mut ledger = self.ledger.borrow_mut();
        ledger.add_all(entries).map_err(broken)?;
        self.writes += 1;
        let now = self.clock.ticks();
        let due = self.writes >= SYNC_WRITES || now.since(self.synced) > SYNC_AFTER;
        let idle = self.worker.as_ref().is_none_or(JoinHandle::is_finished);
        if due
            && idle
            && let Some(syncer) = ledger.syncer()
        {
            self.writes = 0;
            self.synced = now;
            drop(ledger);
            self.join()?;
            let thread = std::thread::Builder::new().name("sync".to_owned());
            // Without room for a thread the end of the run does it.
            self.worker = thread.spawn(syncer).ok();
        }
        Ok(())
    }

    /// Makes everything written so far durable.
    pub fn sync(&mut self) -> Result<(), BuildError> {
        if self.closed {
            return Ok(());
        }
        self.join()?;
        self.writes = 0;
        self.ledger.borrow_mut().sync().map_err(broken)
    }

    /// Writes no more.
    pub fn close(&mut self) {
        self.closed = true;
    }

    /// Whether it writes no more.
    pub fn is_closed(&self) -> bool {
        self.closed
    }

    /// Folds the journal into a new snapshot when it is large; whether it did.
    pub fn fold_if_large(&mut self) -> Result<bool, BuildError> {
        self.ledger.borrow_mut().fold_if_large().map_err(broken)
    }

    fn join(&mut self) -> Result<(), BuildError> {
        match self.worker.take().map(JoinHandle::join) {
            Some(Ok(result)) => result.map_err(broken),
            Some(Err(_)) | None => Ok(()),
        }
    }
}
