//! What the block below a run's lines says: which jobs run, how far the run is, how long still.

use std::time::Duration;
use std::time::Instant;

use unicode_width::UnicodeWidthChar;

use handloom_core::executor::JobWait;
use handloom_core::executor::OutputTail;
use handloom_core::scheduler::Event;

use crate::ui::failure_report::INDENT;
use crate::ui::style::COLUMN;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

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

impl LiveJob {
    /// How long it has run; not what it waited in a queue.
    fn has_run(&self, now: Instant) -> Duration {
        match self.tail.waits() {
            JobWait::Never => now.saturating_duration_since(self.since),
            JobWait::Waits => Duration::ZERO,
            JobWait::RunsSince(since) => now.saturating_duration_since(since),
        }
    }
}

/// What is shown.
pub struct Board {
    jobs: Vec<LiveJob>,
    pub start: Instant,
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
    pub fn new(slots: usize) -> Self {
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

    pub fn tell(&mut self, event: &Event, now: Instant) {
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
            .map(|job| job.has_run(now).min(job.usual.unwrap_or(each)))
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
            let waits = |job: &LiveJob| job.tail.waits() == JobWait::Waits;
            if !self.jobs.is_empty() && self.jobs.iter().all(waits) {
                // How long a queue is, nobody knows.
                words.push_str(" once a worker is there");
            }
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
    let mut time = match job.tail.waits() {
        JobWait::Waits => "     –".to_owned(),
        _ => format!("{:>6}", text::seconds(job.has_run(now))),
    };
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

    /// What waits in a queue makes no headway, and says what it waits for.
    #[test]
    fn a_job_that_waits_for_a_worker_is_told_apart() {
        let mut board = Board::new(2);
        let now = Instant::now();
        let usual = Duration::from_secs(60);
        let planned = Event::Planned {
            jobs: 1,
            usual,
            unknown: 0,
        };
        board.tell(&planned, now);
        let mut fit = began("fit", Some(usual));
        let Event::Began { place, tail, .. } = &mut fit else {
            return;
        };
        *place = Some("cluster".to_owned());
        let tail = tail.clone();
        board.tell(&fit, now);
        tail.wait_for(Some("waits for a worker (Resources)"));
        let later = now + Duration::from_secs(40);
        assert_eq!(
            board.lines(later, 110, 24, PLAIN),
            [
                "      ›  fit                                    –, usually 1m 00s, on cluster  waits for a worker (Resources)",
                "         ╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎╎  0 of 1 · about 1m 00s left once a worker is there",
            ]
        );
        tail.wait_for(None);
        let lines = board.lines(Instant::now() + Duration::from_secs(20), 110, 24, PLAIN);
        let starts = "      ›  fit                                20.0";
        assert!(lines[0].starts_with(starts), "{lines:?}");
        assert!(lines[1].ends_with("about 40s left"), "{lines:?}");
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
