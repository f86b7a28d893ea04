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

use unicode_width::UnicodeWidthChar;

use handloom_core::executor::OutputTail;
use handloom_core::scheduler::Event;
use handloom_core::world::lock;

use crate::ui::failure_report::INDENT;
use crate::ui::style::COLUMN;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// Time between two drawings.
const TICK: Duration = Duration::from_millis(100);

/// Nothing is shown of a run that is over sooner.
const FIRST: Duration = Duration::from_millis(250);

/// More jobs than this are only counted.
const MOST_JOBS: usize = 8;

/// What a job printed last is shown when it has run for so long, where there is room for so many columns.
const SAYS_AFTER: Duration = Duration::from_secs(1);
const SAYS_IN: usize = 12;

/// A job that never ran before is thought to take so long, until others of this run have ended.
const UNKNOWN: Duration = Duration::from_millis(500);

/// A job that runs.
struct LiveJob {
    /// The step or task.
    step: String,
    name: String,
    since: Instant,
    usual: Option<Duration>,
    /// Whether nobody waits for its end.
    stays: bool,
    /// The place that it runs at, when that is not here.
    place: Option<String>,
    tail: OutputTail,
}

/// What is shown.
pub struct Board {
    jobs: Vec<LiveJob>,
    start: Instant,
    /// Jobs that may run in all, and those that are over.
    planned: usize,
    over: usize,
    failed: usize,
    /// What jobs that ran before and are not over take; and how many never ran before.
    known: Duration,
    unknown: usize,
    /// What jobs that never ran before took in this run.
    learned: (Duration, u32),
    slots: usize,
}

impl Board {
    fn new(slots: usize) -> Self {
        Self {
            jobs: Vec::new(),
            start: Instant::now(),
            planned: 0,
            over: 0,
            failed: 0,
            known: Duration::ZERO,
            unknown: 0,
            learned: (Duration::ZERO, 0),
            slots: slots.max(1),
        }
    }

    fn tell(&mut self, event: &Event, now: Instant) {
        match event {
            Event::Planned {
                jobs,
                usual,
                unknown,
            } => {
                self.planned += jobs;
                self.known += *usual;
                self.unknown += unknown;
            }
            Event::Began {
                step,
                usual,
                stays,
                place,
                tail,
                ..
            } => {
                // It could not be restored after all.
                self.jobs.retain(|job| job.step != *step);
                self.jobs.push(LiveJob {
                    step: step.clone(),
                    name: text::safe(step),
                    since: now,
                    usual: *usual,
                    stays: *stays,
                    place: place.as_deref().map(text::safe),
                    tail: tail.clone(),
                });
                if *stays {
                    // It is over when the others are.
                    self.planned = self.planned.saturating_sub(1);
                    self.forget(*usual);
                }
            }
            Event::Restoring { step, usual } => self.jobs.push(LiveJob {
                step: step.clone(),
                name: format!("{} (from the store)", text::safe(step)),
                since: now,
                usual: *usual,
                stays: false,
                place: None,
                tail: OutputTail::default(),
            }),
            Event::Spared { usual, .. } => self.close(*usual, None),
            Event::Ended(ended) => {
                self.failed += usize::from(ended.failure.is_some());
                let at = self.jobs.iter().position(|job| job.step == ended.step);
                if let Some(at) = at.filter(|&at| self.jobs[at].stays) {
                    self.jobs.remove(at);
                } else if let Some(at) = at {
                    let job = self.jobs.remove(at);
                    let ran = ended.origin.is_none();
                    self.close(job.usual, ran.then_some(ended.took));
                }
            }
            _ => {}
        }
    }

    fn close(&mut self, usual: Option<Duration>, took: Option<Duration>) {
        self.over += 1;
        self.forget(usual);
        if let (None, Some(took)) = (usual, took) {
            self.learned = (self.learned.0 + took, self.learned.1 + 1);
        }
    }

    /// The end of one job is not waited for any more.
    fn forget(&mut self, usual: Option<Duration>) {
        match usual {
            Some(usual) => self.known = self.known.saturating_sub(usual),
            None => self.unknown = self.unknown.saturating_sub(1),
        }
    }

    /// How long the rest will take.
    fn left(&self, now: Instant) -> Duration {
        let each = match self.learned {
            (_, 0) => UNKNOWN,
            (time, count) => time / count,
        };
        let number = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let all = self.known + each.saturating_mul(number(self.unknown));
        let awaited = self.jobs.iter().filter(|job| !job.stays);
        let done: Duration = awaited
            .map(|job| (now - job.since).min(job.usual.unwrap_or(each)))
            .sum();
        let lanes = self
            .slots
            .min(self.planned.saturating_sub(self.over))
            .max(1);
        all.saturating_sub(done) / number(lanes)
    }

    /// The block's lines for a window of this size.
    pub fn lines(&self, now: Instant, columns: usize, rows: usize, theme: Theme) -> Vec<String> {
        if columns < 30 || rows < 6 || self.planned + self.jobs.len() == 0 {
            return Vec::new();
        }
        // The last column stays free: some terminals wrap behind it.
        let width = columns - 1;
        let room = (rows / 3).max(2) - 1;
        let most = room.min(MOST_JOBS);
        let shown = if self.jobs.len() > most {
            most.saturating_sub(1)
        } else {
            self.jobs.len()
        };
        let mut lines: Vec<String> = self.jobs[..shown]
            .iter()
            .map(|job| job_line(job, now, width, theme))
            .collect();
        if shown < self.jobs.len() {
            let more = format!("{INDENT}and {} more", self.jobs.len() - shown);
            lines.push(theme.paint(Role::Faint, &cut(&more, width)));
        }
        if self.over < self.planned {
            lines.push(self.bar(now, width, theme));
        } else if self.jobs.iter().any(|job| job.stays) {
            let words = format!("{INDENT}all else is done · Ctrl-C ends the run");
            lines.push(theme.paint(Role::Faint, &cut(&words, width)));
        }
        lines
    }

    fn bar(&self, now: Instant, width: usize, theme: Theme) -> String {
        let cells = (width / 3).clamp(6, 30);
        let woven = (self.over * cells)
            .checked_div(self.planned)
            .unwrap_or(0)
            .min(cells);
        let mut words = format!("{} of {}", self.over, self.planned);
        if self.failed > 0 {
            words.push_str(&format!(" · {} failed", self.failed));
        }
        if self.over > 0 || !self.known.is_zero() {
            words.push_str(&format!(" · about {} left", rough(self.left(now))));
        }
        let words = cut(&words, width.saturating_sub(INDENT.len() + cells + 2));
        format!(
            "{INDENT}{}{}  {words}",
            theme.paint(Role::Made, &"▚".repeat(woven)),
            theme.paint(Role::Faint, &"╎".repeat(cells - woven)),
        )
    }
}

/// Below the lines of jobs that have ended, in the same columns.
fn job_line(job: &LiveJob, now: Instant, width: usize, theme: Theme) -> String {
    let mut time = format!("{:>6}", text::seconds(now - job.since));
    if job.stays {
        time.push_str(", stays");
    } else if let Some(usual) = job.usual {
        time.push_str(&format!(", usually {}", text::seconds(usual)));
    }
    if let Some(place) = &job.place {
        time.push_str(&format!(", on {place}"));
    }
    let room = width.saturating_sub(INDENT.len() + time.len() + 2).max(8);
    let name = cut(&job.name, room);
    let pad = COLUMN.min(room).saturating_sub(columns_of(&name));
    let line = format!("      ›  {name}{:pad$}", "");
    let left = width.saturating_sub(columns_of(&line) + 2);
    let mut time: String = time.chars().take(left).collect();
    if now - job.since >= SAYS_AFTER {
        let left = left.saturating_sub(columns_of(&time) + 2);
        let said = text::safe_output(&job.tail.line(), false).replace('\t', " ");
        if left >= SAYS_IN && !said.is_empty() {
            time.push_str(&format!("  {}", beginning(said.trim(), left)));
        }
    }
    format!("{line}  {}", theme.paint(Role::Faint, &time))
}

/// The beginning of a text, in so many columns.
fn beginning(text: &str, columns: usize) -> String {
    if columns_of(text) <= columns {
        return text.to_owned();
    }
    let mut used = 1;
    let kept = text.chars().take_while(|c| {
        used += c.width().unwrap_or(0);
        used <= columns
    });
    kept.chain(['…']).collect()
}

/// A time that is only an estimate.
fn rough(time: Duration) -> String {
    let seconds = time.as_secs_f64();
    if seconds < 59.5 {
        format!("{:.0}s", seconds.ceil().max(1.0))
    } else {
        text::seconds(time)
    }
}

fn columns_of(text: &str) -> usize {
    text.chars().map(|c| c.width().unwrap_or(0)).sum()
}

/// A text cut to so many columns; the end of a path tells more than its beginning.
pub fn cut(text: &str, columns: usize) -> String {
    if columns_of(text) <= columns {
        return text.to_owned();
    }
    let mut kept = Vec::new();
    let mut used = 1;
    for c in text.chars().rev() {
        used += c.width().unwrap_or(0);
        if used > columns {
            break;
        }
        kept.push(c);
    }
    std::iter::once('…').chain(kept.into_iter().rev()).collect()
}

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

#[cfg(test)]
mod tests {
    use super::*;

    fn began(step: &str, usual: Option<Duration>) -> Event {
        Event::Began {
            step: step.to_owned(),
            task: false,
            reasons: Vec::new(),
            usual,
            script: String::new(),
            slot: handloom_core::executor::SlotId::default(),
            terminal: false,
            stays: false,
            place: None,
            tail: OutputTail::default(),
        }
    }

    fn board() -> (Board, Instant) {
        let mut board = Board::new(2);
        let now = Instant::now();
        board.tell(
            &Event::Planned {
                jobs: 10,
                usual: Duration::from_secs(8),
                unknown: 2,
            },
            now,
        );
        (board, now)
    }

    const PLAIN: Theme = Theme { colour: false };

    #[test]
    fn jobs_are_shown_with_their_time_and_the_rest_is_estimated() {
        let (mut board, now) = board();
        board.tell(&began("out/a", Some(Duration::from_secs(2))), now);
        board.tell(&began("out/b", None), now);
        let later = now + Duration::from_secs(1);
        assert_eq!(
            board.lines(later, 80, 24, PLAIN),
            [
                "      ›  out/a                              1.00s, usually 2.00s",
                "      ›  out/b                              1.00s",
                "         ╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎  0 of 10 · about 4s left",
            ]
        );
        for _ in 0..5 {
            let event = Event::Spared {
                step: "x".to_owned(),
                usual: Some(Duration::from_secs(1)),
            };
            board.tell(&event, later);
        }
        let lines = board.lines(later, 80, 24, PLAIN);
        assert_eq!(
            lines.last().unwrap(),
            "         ▚▚▚▚▚▚▚▚▚▚▚▚▚╎╎╎╎╎╎╎╎╎╎╎╎╎  5 of 10 · about 2s left"
        );
    }

    #[test]
    fn nobody_waits_for_the_end_of_what_stays() {
        let now = Instant::now();
        let mut board = Board::new(2);
        let planned = Event::Planned {
            jobs: 2,
            usual: Duration::from_secs(3),
            unknown: 1,
        };
        board.tell(&planned, now);
        let mut sky = began("sky", None);
        if let Event::Began { stays, .. } = &mut sky {
            *stays = true;
        }
        board.tell(&sky, now);
        let usual = Some(Duration::from_secs(3));
        board.tell(&began("check", usual), now);
        let later = now + Duration::from_secs(1);
        assert_eq!(
            board.lines(later, 80, 24, PLAIN),
            [
                "      ›  sky                                1.00s, stays",
                "      ›  check                              1.00s, usually 3.00s",
                "         ╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎  0 of 1 · about 2s left",
            ]
        );
        let step = "check".to_owned();
        board.jobs.retain(|job| job.stays);
        board.tell(&Event::Spared { step, usual }, later);
        assert_eq!(
            board.lines(later, 80, 24, PLAIN),
            [
                "      ›  sky                                1.00s, stays",
                "         all else is done · Ctrl-C ends the run",
            ]
        );
    }

    #[test]
    fn the_block_never_takes_more_than_a_third_of_the_window_nor_its_last_column() {
        let (mut board, now) = board();
        for number in 0..40 {
            board.tell(
                &began(&format!("out/{}/{number}", "long".repeat(30)), None),
                now,
            );
        }
        for rows in 0..60 {
            for columns in (0..140).step_by(7) {
                let lines = board.lines(now, columns, rows, PLAIN);
                assert!(lines.len() <= (rows / 3).max(2), "{rows}");
                for line in &lines {
                    assert!(columns_of(line) < columns, "{columns}: {line}");
                }
            }
        }
        let lines = board.lines(now, 80, 24, PLAIN);
        assert_eq!(lines[6], "         and 34 more");
    }

    #[test]
    fn what_a_job_printed_last_stands_behind_it_when_there_is_room() {
        let now = Instant::now();
        let mut board = Board::new(2);
        let event = began("out/a", None);
        let Event::Began { tail, .. } = &event else {
            unreachable!("it is one");
        };
        board.tell(&event, now);
        tail.take("first\nreading \u{1b}[31m東京東京東京東京東京東京東京\u{1b}[0m\n".as_bytes());
        let shown = |after: u64, columns: usize| {
            let lines = board.lines(now + Duration::from_millis(after), columns, 24, PLAIN);
            lines[0].clone()
        };
        assert!(!shown(999, 80).contains("reading"));
        assert_eq!(
            shown(1000, 80),
            "      ›  out/a                              1.00s  reading 東京東京東京東京東…"
        );
        assert!(shown(1000, 200).ends_with("reading 東京東京東京東京東京東京東京"));
        assert!(!shown(1000, 60).contains("rea"));
        for columns in 0..140 {
            for line in board.lines(now + Duration::from_secs(2), columns, 24, PLAIN) {
                assert!(columns_of(&line) < columns, "{columns}: {line}");
            }
        }
    }

    #[test]
    fn what_is_restored_is_told_from_what_runs() {
        let (mut board, now) = board();
        let step = "out/a".to_owned();
        board.tell(&Event::Restoring { step, usual: None }, now);
        let shown = |board: &Board| board.lines(now, 80, 24, PLAIN).join("\n");
        assert!(shown(&board).contains("out/a (from the store)"));
        // It could not be put in place, and runs after all.
        board.tell(&began("out/a", None), now);
        assert!(shown(&board).contains("out/a") && !shown(&board).contains("from the store"));
        assert_eq!(shown(&board).matches("out/a").count(), 1);
    }
}
