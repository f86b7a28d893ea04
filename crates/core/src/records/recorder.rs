//! Writing a run's record from its events.

use std::collections::HashMap;
use std::fs;
use std::fs::File;
use std::io;
use std::io::BufWriter;
use std::io::Write;
use std::time::Duration;

use crate::executor::control_codes::without_controls;
use crate::executor::exit::Exit;
use crate::findings::FindingPattern;
use crate::records::JobRecord;
use crate::records::RecordLine;
use crate::records::RunHeader;
use crate::records::Runs;
use crate::records::standing_findings::EndedJob;
use crate::records::standing_findings::FindingsWriter;
use crate::scheduler::event::Ended;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Event;
use crate::scheduler::event::Summary;
use crate::text::Sources;
use crate::text::Span;
use crate::verdict::Reason;
use crate::world::ByteSize;
use crate::world::own;

/// Records are written after so many jobs, and at the end.
const GROUP: usize = 64;

/// Writes down what a run does.
pub struct Recorder<'a> {
    runs: Runs,
    head: RunHeader,
    keep: usize,
    sources: &'a Sources,
    /// What descriptions were called so far, and their places.
    described: HashMap<Span, (String, String)>,
    out: Option<BufWriter<File>>,
    findings: Option<FindingsWriter>,
    patterns: Vec<FindingPattern>,
    waiting: usize,
    /// The first error: the record is then given up, the run goes on.
    pub error: Option<io::Error>,
}

impl<'a> Recorder<'a> {
    /// A recorder of the run that is about to begin; the last `keep` runs are kept. The number in
    /// `head` is chosen here.
    #[must_use]
    pub fn new(runs: Runs, head: RunHeader, keep: usize, sources: &'a Sources) -> Self {
        let (last, error) = match runs.numbers() {
            Ok(numbers) => (numbers.last().copied(), None),
            Err(error) => (None, Some(error)),
        };
        let run = last.map_or(1, |last| last + 1);
        Self {
            runs,
            head: RunHeader { run, ..head },
            keep,
            sources,
            described: HashMap::new(),
            out: None,
            findings: None,
            patterns: Vec::new(),
            waiting: 0,
            error,
        }
    }

    /// What jobs say of sources is read by these patterns as well.
    #[must_use]
    pub fn reading_by(self, patterns: Vec<FindingPattern>) -> Self {
        Self { patterns, ..self }
    }

    /// The run's number.
    #[must_use]
    pub fn run(&self) -> u64 {
        self.head.run
    }

    /// Writes an event down. A run in which nothing runs leaves no record.
    pub fn tell(&mut self, event: &Event) {
        if self.error.is_some() || self.keep == 0 {
            return;
        }
        let written = match event {
            Event::Began { .. } | Event::Restoring { .. } if self.out.is_none() => self.begin(),
            Event::Ended(ended) => self.ended(ended),
            Event::Summary(summary) => self.end(summary),
            _ => Ok(()),
        };
        self.error = written.err();
    }

    fn begin(&mut self) -> io::Result<()> {
        own::create_folder(&self.runs.folder())?;
        let mut options = own::options();
        let options = options.write(true).create_new(true);
        let file = loop {
            match own::open(&self.runs.file(self.head.run), options) {
                // Another run began and ended while this one only had the terminal.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => self.head.run += 1,
                file => break file?,
            }
        };
        let logs = self.runs.own.join("logs").join(self.head.run.to_string());
        if logs.exists() {
            // Left by a run that was killed before it was written down.
            fs::remove_dir_all(logs)?;
        }
        self.out = Some(BufWriter::with_capacity(64 * 1024, file));
        self.findings = Some(FindingsWriter::new(&self.runs.own, self.patterns.clone())?);
        let head = self.head.clone();
        self.write(&RecordLine::Run(head))?;
        self.flush()
    }

    fn ended(&mut self, ended: &Ended) -> io::Result<()> {
        if self.out.is_none() {
            self.begin()?;
        }
        let (by, place) = self.described(ended.described);
        let place = match &ended.failure {
            Some(failure) => self.sources.name_and_line(failure.span),
            None => place,
        };
        self.note_findings(ended, &place)?;
        let usage = ended.usage.as_ref();
        self.write(&RecordLine::Job(Box::new(JobRecord {
            step: ended.step.clone(),
            task: ended.task,
            ending: ended.ending,
            reasons: ended.reasons.iter().map(Reason::brief).collect(),
            began: usage.map_or(Duration::ZERO, |usage| usage.began),
            took: ended.took,
            slot: usage.map_or(0, |usage| usage.slot.index()),
            exit: ended.exit.as_ref().map(Exit::in_words),
            memory: usage.map_or(ByteSize::default(), |usage| usage.memory),
            processor: usage.map_or(Duration::ZERO, |usage| usage.processor),
            node: ended.remote.as_ref().map(|remote| remote.node.clone()),
            on: ended.remote.as_ref().map(|remote| remote.place.clone()),
            queued: ended
                .remote
                .as_ref()
                .map_or(Duration::ZERO, |remote| remote.queued),
            log: ended.output.log.clone(),
            place,
            by,
            after: ended.after.clone(),
            waited: ended.waited,
            from: ended.origin.clone(),
        })))?;
        self.waiting += 1;
        if self.waiting >= GROUP {
            self.flush()?;
        }
        Ok(())
    }

    /// Notes what a job said of sources: also of one that went well, and of one whose output was restored with it.
    fn note_findings(&mut self, ended: &Ended, place: &str) -> io::Result<()> {
        let has_ended = matches!(
            ended.ending,
            Ending::Made | Ending::Same | Ending::Restored | Ending::Failed
        );
        let Some(writer) = self.findings.as_mut().filter(|_| has_ended) else {
            return Ok(());
        };
        let output = &ended.output;
        // On a terminal messages come in colours.
        let start = without_controls(&output.start);
        let mut printed = String::from_utf8_lossy(&start).into_owned();
        if !output.end.is_empty() {
            printed.push('\n');
            printed.push_str(&String::from_utf8_lossy(&without_controls(&output.end)));
        }
        let folder = place.rsplit_once('/').map_or("", |(folder, _)| folder);
        writer.ended(&EndedJob {
            step: &ended.step,
            run: self.head.run,
            failed: ended.ending == Ending::Failed,
            printed: &printed,
            folder,
        })
    }

    /// What the line at a place describes, and the place's name.
    fn described(&mut self, span: Span) -> (String, String) {
        if span == Span::default() {
            return Default::default();
        }
        let sources = self.sources;
        let known = self.described.entry(span).or_insert_with(|| {
            let mut words = sources.slice(span).split_whitespace();
            // Its keyword.
            words.next();
            let by = words.collect::<Vec<_>>().join(" ");
            (by, sources.name_and_line(span))
        });
        known.clone()
    }

    fn end(&mut self, summary: &Summary) -> io::Result<()> {
        if self.out.is_none() {
            return Ok(());
        }
        self.write(&RecordLine::End(*summary))?;
        self.flush()?;
        if let Some(findings) = &mut self.findings {
            findings.finish()?;
        }
        self.runs.forget_old(self.keep);
        Ok(())
    }

    fn write(&mut self, line: &RecordLine) -> io::Result<()> {
        let Some(out) = &mut self.out else {
            return Ok(());
        };
        serde_json::to_writer(&mut *out, line)?;
        out.write_all(b"\n")
    }

    fn flush(&mut self) -> io::Result<()> {
        self.waiting = 0;
        if let Some(findings) = &mut self.findings {
            findings.flush()?;
        }
        match &mut self.out {
            Some(out) => out.flush(),
            None => Ok(()),
        }
    }
}
