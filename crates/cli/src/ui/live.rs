//! The block below a run's lines on a terminal: what runs now, how far it is, how long still.
//!
//! ```text
//!       ›  out/lights/skerry.svg       1.20s, usually 3.00s
//!       ›  out/almanac.html            0.40s
//!          ▚▚▚▚▚▚▚▚▚▚╎╎╎╎╎╎╎╎╎╎  12 of 24 · about 8s left
//! ```
//!
//! The cursor always rests at the block's first column and row, so taking it away is "clear to the end
//! of the screen", whatever happened to the window's size. A thread of its own redraws the block at most
//! ten times a second; what is printed meanwhile waits for the next drawing ([`Live::print`]), so that the
//! block never flickers.

use std::io;
use std::io::Write;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::PoisonError;
use std::thread::JoinHandle;
use std::time::Duration;
use std::time::Instant;

use handloom_core::scheduler::Event;
use handloom_core::world::lock;

use crate::ui::live_board::Board;
use crate::ui::style::Theme;

/// Time between two drawings.
const TICK: Duration = Duration::from_millis(100);

/// Nothing is shown of a run that is over sooner.
const FIRST: Duration = Duration::from_millis(250);

struct LiveState {
    board: Board,
    theme: Theme,
    /// Whether a block stands on the screen.
    drawn: bool,
    drawn_at: Option<Instant>,
    /// What waits to be printed above the block; `true` for standard error.
    waiting: Vec<(bool, String)>,
    /// Nobody reads standard output any more.
    closed: bool,
    /// A job has the terminal, or the run is paused.
    hidden: bool,
    ended: bool,
}

/// The block, and the thread that keeps it up to date.
pub struct Live {
    shared: Arc<(Mutex<LiveState>, Condvar)>,
    ticker: Option<JoinHandle<()>>,
}

/// Takes the block away and lets it come back, from another thread.
#[derive(Clone)]
pub struct ProgressGuard(Arc<(Mutex<LiveState>, Condvar)>);

impl ProgressGuard {
    /// Takes the block away until it is lifted.
    pub fn drop_down(&self) {
        let mut state = lock(&self.0.0);
        state.hidden = true;
        state.flush();
    }

    /// Lets the block come back.
    pub fn lift(&self) {
        lock(&self.0.0).hidden = false;
    }
}

impl Live {
    /// Starts the block of a run with so many jobs at once.
    pub fn start(theme: Theme, slots: usize) -> Self {
        let state = LiveState {
            board: Board::new(slots),
            theme,
            drawn: false,
            drawn_at: None,
            waiting: Vec::new(),
            closed: false,
            hidden: false,
            ended: false,
        };
        let shared = Arc::new((Mutex::new(state), Condvar::new()));
        let ticking = Arc::clone(&shared);
        let ticker = std::thread::spawn(move || {
            let mut state = lock(&ticking.0);
            while !state.ended {
                let waited = ticking.1.wait_timeout(state, TICK);
                state = waited.unwrap_or_else(PoisonError::into_inner).0;
                if !state.ended {
                    state.draw();
                }
            }
        });
        Self {
            shared,
            ticker: Some(ticker),
        }
    }

    /// For a signal's thread.
    pub fn progress_guard(&self) -> ProgressGuard {
        ProgressGuard(Arc::clone(&self.shared))
    }

    /// Takes note of an event.
    pub fn tell(&self, event: &Event) {
        let mut state = lock(&self.shared.0);
        state.board.tell(event, Instant::now());
        match event {
            Event::Began { terminal: true, .. } => {
                state.hidden = true;
                state.flush();
            }
            Event::Ended(_) => state.hidden = false,
            _ => {}
        }
    }

    /// Prints above the block. Whether anybody still reads.
    pub fn print(&self, text: &str, to_error: bool) -> bool {
        let mut state = lock(&self.shared.0);
        state.waiting.push((to_error, text.to_owned()));
        if !state.drawn {
            state.flush();
        }
        state.draw();
        !state.closed
    }

    /// Takes the block away for good.
    pub fn end(&mut self) {
        {
            let mut state = lock(&self.shared.0);
            state.flush();
            state.ended = true;
        }
        self.shared.1.notify_all();
        if let Some(ticker) = self.ticker.take() {
            // It does nothing that could panic, and has nothing to say.
            let _ = ticker.join();
        }
    }
}

impl Drop for Live {
    fn drop(&mut self) {
        self.end();
    }
}

impl LiveState {
    fn erase(&mut self) {
        if std::mem::replace(&mut self.drawn, false) {
            // That the terminal is gone is found by whoever prints a result.
            let _ = io::stderr().lock().write_all(b"\r\x1b[J");
        }
    }

    /// Takes the block away and prints what waits.
    fn flush(&mut self) {
        self.erase();
        for (to_error, text) in std::mem::take(&mut self.waiting) {
            let written = if to_error {
                io::stderr().lock().write_all(text.as_bytes())
            } else {
                let mut out = io::stdout().lock();
                out.write_all(text.as_bytes()).and_then(|()| out.flush())
            };
            self.closed |= written.is_err() && !to_error;
        }
    }

    fn draw(&mut self) {
        let now = Instant::now();
        let soon = self.drawn_at.is_some_and(|at| now - at < TICK);
        if self.hidden || self.ended || soon || now - self.board.start < FIRST {
            return;
        }
        if !self.waiting.is_empty() {
            self.flush();
        }
        let (columns, rows) = window();
        let lines = self.board.lines(now, columns, rows, self.theme);
        if lines.is_empty() {
            return;
        }
        // One write: the terminal never shows half a block.
        let mut block = String::from("\r\x1b[J");
        block.push_str(&lines.join("\n"));
        if lines.len() > 1 {
            block.push_str(&format!("\x1b[{}A", lines.len() - 1));
        }
        block.push('\r');
        let _ = io::stderr().lock().write_all(block.as_bytes());
        self.drawn = true;
        self.drawn_at = Some(now);
    }
}

/// The window's columns and rows.
pub fn window() -> (usize, usize) {
    match rustix::termios::tcgetwinsize(io::stderr()) {
        Ok(size) if size.ws_col > 0 => (usize::from(size.ws_col), usize::from(size.ws_row)),
        _ => (80, 24),
    }
}
