//! What happens, one JSON object a line.

use std::fs::File;
use std::io;
use std::io::Write;
use std::path::Path;

use serde::Serialize;

use handloom_core::verdict::Reason;
use handloom_core::weave::Event;

/// Writes events as they happen.
pub struct EventWriter {
    out: Box<dyn Write>,
    /// The first error; later events are not tried.
    pub error: Option<io::Error>,
}

#[derive(Serialize)]
#[serde(tag = "event", rename_all = "lowercase")]
enum Line<'a> {
    Began {
        step: &'a str,
        reasons: Vec<&'static str>,
    },
    Ended {
        step: &'a str,
        ending: &'static str,
        reasons: Vec<&'static str>,
        seconds: f64,
        exit: Option<i32>,
    },
    Summary {
        made: usize,
        same: usize,
        kept: usize,
        restored: usize,
        failed: usize,
        held: usize,
        stopped: usize,
        seconds: f64,
        unstarted: usize,
    },
}

fn names(reasons: &[Reason]) -> Vec<&'static str> {
    let mut names: Vec<&'static str> = reasons.iter().map(|reason| reason.kind.name()).collect();
    names.dedup();
    names
}

impl EventWriter {
    /// Writes to a file, or to standard output for `-`.
    pub fn open(path: &Path) -> io::Result<Self> {
        let out: Box<dyn Write> = if path == Path::new("-") {
            Box::new(io::stdout())
        } else {
            Box::new(File::create(path)?)
        };
        Ok(Self { out, error: None })
    }

    /// Writes an event down.
    pub fn tell(&mut self, event: &Event) {
        let line = match event {
            Event::Began { step, reasons, .. } => Line::Began {
                step,
                reasons: names(reasons),
            },
            Event::Ended(ended) => Line::Ended {
                step: &ended.step,
                ending: ended.ending.name(),
                reasons: names(&ended.reasons),
                seconds: rounded(ended.seconds),
                exit: ended.exit.as_ref().map(handloom_core::weave::Exit::code),
            },
            Event::Summary(summary) => Line::Summary {
                made: summary.made,
                same: summary.same,
                kept: summary.kept,
                restored: summary.restored,
                failed: summary.failed,
                held: summary.held,
                stopped: summary.stopped,
                seconds: rounded(summary.seconds),
                unstarted: summary.unstarted,
            },
            Event::Planned { .. }
            | Event::Spared { .. }
            | Event::Aside { .. }
            | Event::Warning(_) => return,
        };
        if self.error.is_none() {
            self.error = self.write(&line).err();
        }
    }

    fn write(&mut self, line: &Line<'_>) -> io::Result<()> {
        let mut text = serde_json::to_vec(line)?;
        text.push(b'\n');
        self.out.write_all(&text)?;
        self.out.flush()
    }
}

/// To a tenth of a millisecond.
fn rounded(seconds: f64) -> f64 {
    (seconds * 10_000.0).round() / 10_000.0
}
