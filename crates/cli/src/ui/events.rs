//! What happens, one JSON object a line.

use std::fs::File;
use std::io;
use std::io::Write;
use std::path::Path;

use serde::Serialize;

use handloom_core::scheduler::Event;
use handloom_core::scheduler::ReadReport;
use handloom_core::scheduler::Summary;
use handloom_core::text::Sources;
use handloom_core::verdict::Reason;
use handloom_core::verdict::ResultOrigin;
use handloom_core::world::ByteSize;
use handloom_core::world::rounded_seconds;

use crate::ui::text;
use crate::ui::twice::TwiceJson;

/// Writes events as they happen.
pub struct EventWriter {
    out: Box<dyn Write + Send>,
    /// The first error; later events are not tried.
    pub error: Option<io::Error>,
}

#[derive(Serialize)]
#[serde(tag = "event", rename_all = "lowercase")]
enum EventLine<'a> {
    Changed {
        paths: &'a [String],
    },
    Planned {
        jobs: usize,
    },
    Began {
        step: &'a str,
        reasons: Vec<&'static str>,
        task: bool,
        slot: usize,
    },
    Ended {
        step: &'a str,
        ending: &'static str,
        reasons: Vec<&'static str>,
        seconds: f64,
        exit: Option<i32>,
        task: bool,
        #[serde(skip_serializing_if = "Option::is_none")]
        took: Option<UsageJson>,
        #[serde(skip_serializing_if = "Option::is_none")]
        node: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        on: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        queued: Option<f64>,
        #[serde(skip_serializing_if = "Option::is_none")]
        log: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        from: Option<OriginJson<'a>>,
        #[serde(skip_serializing_if = "Option::is_none")]
        twice: Option<TwiceJson<'a>>,
    },
    Spared {
        step: &'a str,
    },
    Guarded {
        step: &'a str,
        reasons: Vec<&'static str>,
    },
    #[serde(rename = "taken-away")]
    TakenAway {
        path: &'a str,
    },
    Moved {
        path: &'a str,
        to: &'a str,
    },
    Read(&'a ReadReport),
    Warning {
        code: &'a str,
        title: &'a str,
        place: Option<String>,
    },
    Summary(Summary),
}

/// What a job took: seconds from the run's beginning, seconds of processor time, bytes.
#[derive(Serialize)]
struct UsageJson {
    began: f64,
    slot: usize,
    processor: f64,
    memory: ByteSize,
}

/// Where the result of a step came from that was restored; also in the answers of `why`.
#[derive(Serialize)]
pub struct OriginJson<'a> {
    store: &'static str,
    made: String,
    /// How long it took there.
    seconds: f64,
    /// A machine's name and a folder.
    place: &'a str,
}

impl<'a> OriginJson<'a> {
    /// As programs read it.
    pub fn of(origin: &'a ResultOrigin) -> Self {
        Self {
            store: if origin.shared { "shared" } else { "local" },
            made: text::started(origin.made_at).iso,
            seconds: rounded_seconds(origin.took()),
            place: &origin.made_in,
        }
    }
}

fn names(reasons: &[Reason]) -> Vec<&'static str> {
    let mut names: Vec<&'static str> = reasons.iter().map(|reason| reason.kind.name()).collect();
    names.dedup();
    names
}

impl EventWriter {
    /// Writes to a file, or to standard output for `-`.
    pub fn open(path: &Path) -> io::Result<Self> {
        let out: Box<dyn Write + Send> = if path == Path::new("-") {
            Box::new(io::stdout())
        } else {
            Box::new(File::create(path)?)
        };
        Ok(Self { out, error: None })
    }

    /// Writes down that another run begins, and what it begins for.
    pub fn changed(&mut self, paths: &[String]) {
        self.put(&EventLine::Changed { paths });
    }

    /// Writes an event down; `sources` are those of the description.
    pub fn tell(&mut self, event: &Event, sources: &Sources) {
        let line = match event {
            Event::Planned { jobs, .. } => EventLine::Planned { jobs: *jobs },
            Event::Began {
                step,
                reasons,
                task,
                slot,
                ..
            } => EventLine::Began {
                step,
                reasons: names(reasons),
                task: *task,
                slot: slot.index(),
            },
            Event::Ended(ended) => EventLine::Ended {
                step: &ended.step,
                ending: ended.ending.name(),
                reasons: names(&ended.reasons),
                seconds: rounded_seconds(ended.took),
                exit: ended.exit.as_ref().map(handloom_core::executor::Exit::code),
                task: ended.task,
                took: ended.usage.map(|usage| UsageJson {
                    began: rounded_seconds(usage.began),
                    slot: usage.slot.index(),
                    processor: rounded_seconds(usage.processor),
                    memory: usage.memory,
                }),
                node: ended.remote.as_ref().map(|remote| &*remote.node),
                on: ended.remote.as_ref().map(|remote| &*remote.place),
                queued: ended
                    .remote
                    .as_ref()
                    .map(|remote| rounded_seconds(remote.queued)),
                log: ended.output.log.as_deref(),
                from: ended.origin.as_ref().map(OriginJson::of),
                twice: ended.twice.as_ref().map(TwiceJson::of),
            },
            Event::Spared { step, .. } => EventLine::Spared { step },
            Event::Guarded { step, reasons } => EventLine::Guarded {
                step,
                reasons: reasons.iter().map(|reason| reason.kind.name()).collect(),
            },
            Event::TakenAway { path } => EventLine::TakenAway { path },
            Event::Aside { path, to } => EventLine::Moved { path, to },
            Event::Warning(warning) => EventLine::Warning {
                code: warning.mistake.code,
                title: &warning.title,
                place: warning
                    .primary
                    .as_ref()
                    .map(|label| sources.name_and_line(label.span)),
            },
            Event::Read(read) => EventLine::Read(read),
            Event::Summary(summary) => EventLine::Summary(*summary),
            Event::Printed { .. }
            | Event::Finally { .. }
            | Event::Said { .. }
            | Event::Restoring { .. } => return,
        };
        self.put(&line);
    }

    fn put(&mut self, line: &EventLine<'_>) {
        if self.error.is_none() {
            self.error = self.write(line).err();
        }
    }

    fn write(&mut self, line: &EventLine<'_>) -> io::Result<()> {
        let mut text = text::shown_json(&serde_json::to_string(line)?);
        text.push('\n');
        self.out.write_all(text.as_bytes())?;
        self.out.flush()
    }
}
