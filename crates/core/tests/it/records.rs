//! The records of runs: what is written is read again, whatever happened to the files.

use std::fs;
use std::time::Duration;

use handloom_core::executor::Exit;
use handloom_core::executor::OutputTail;
use handloom_core::executor::SlotId;
use handloom_core::records::Recorder;
use handloom_core::records::RunHeader;
use handloom_core::records::Runs;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::JobUsage;
use handloom_core::scheduler::Summary;
use handloom_core::text::SourceId;
use handloom_core::text::Sources;
use handloom_core::text::Span;
use handloom_core::world::ByteSize;

fn head(command: &str) -> RunHeader {
    RunHeader {
        run: 0,
        started: 1_900_000_000_000_000_000,
        command: command.to_owned(),
        jobs: 2,
    }
}

fn began(step: &str) -> Event {
    Event::Began {
        step: step.to_owned(),
        task: false,
        reasons: Vec::new(),
        usual: None,
        script: String::new(),
        slot: SlotId::default(),
        terminal: false,
        stays: false,
        place: None,
        tail: OutputTail::default(),
    }
}

fn ended(step: &str, described: Span) -> Event {
    let usage = JobUsage {
        began: Duration::from_millis(250),
        slot: SlotId::at(1),
        memory: ByteSize(4096),
        processor: Duration::from_millis(125),
    };
    let mut ended = Ended::held(step.to_owned(), false);
    ended.ending = Ending::Made;
    ended.exit = Some(Exit::Status(0));
    ended.usage = Some(usage);
    ended.took = Duration::from_micros(1_234_567);
    ended.after = Some("before".to_owned());
    ended.waited = Duration::from_millis(500);
    ended.described = described;
    Event::Ended(Box::new(ended))
}

fn sources() -> (Sources, SourceId) {
    let mut sources = Sources::default();
    let id = sources.add(
        "hand.loom",
        "let a = b\ntarget out/<n>   other\n".to_owned(),
    );
    (sources, id)
}

/// Records a run of one job.
fn record(own: &std::path::Path, keep: usize, command: &str) -> u64 {
    let (sources, id) = sources();
    let span = Span {
        source: id,
        start: 10,
        end: 32,
    };
    let mut recorder = Recorder::new(Runs::new(own), head(command), keep, &sources);
    recorder.tell(&began("out/a"));
    recorder.tell(&ended("out/a", span));
    let mut summary = Summary::default();
    summary.count(Ending::Made);
    recorder.tell(&Event::Summary(summary));
    assert!(recorder.error.is_none());
    recorder.run()
}

#[test]
fn what_is_written_is_read_again() {
    let own = tempfile::tempdir().unwrap();
    let number = record(own.path(), 5, "handloom out/a");
    let run = Runs::new(own.path()).read(number).unwrap();
    assert_eq!(
        run.head,
        RunHeader {
            run: number,
            ..head("handloom out/a")
        }
    );
    assert_eq!(run.tail.map(|tail| tail.made), Some(1));
    let [job] = &run.jobs[..] else {
        panic!("{run:?}");
    };
    assert_eq!(job.by, "out/<n> other");
    assert_eq!(job.place, "hand.loom:2");
    assert_eq!(job.after.as_deref(), Some("before"));
    let milliseconds = Duration::from_millis;
    assert_eq!(job.took, Duration::from_micros(1_234_600));
    assert_eq!(
        (job.began, job.waited),
        (milliseconds(250), milliseconds(500))
    );
    assert_eq!((job.slot, job.memory), (1, ByteSize(4096)));
    assert_eq!(job.processor, milliseconds(125));
    assert_eq!(job.exit.as_deref(), Some("exit status 0"));
}

#[test]
fn runs_in_which_nothing_ran_leave_nothing() {
    let own = tempfile::tempdir().unwrap();
    let (sources, _) = sources();
    let mut recorder = Recorder::new(Runs::new(own.path()), head("handloom"), 5, &sources);
    recorder.tell(&Event::Summary(Summary::default()));
    assert!(Runs::new(own.path()).numbers().unwrap().is_empty());
    let mut recorder = Recorder::new(Runs::new(own.path()), head("handloom"), 0, &sources);
    recorder.tell(&began("out/a"));
    assert!(
        Runs::new(own.path()).numbers().unwrap().is_empty(),
        "none are to be kept"
    );
}

#[test]
fn old_runs_go_with_their_logs_and_numbers_go_on() {
    let own = tempfile::tempdir().unwrap();
    for round in 1..=6 {
        let logs = own.path().join(format!("logs/{round}"));
        assert_eq!(record(own.path(), 3, "handloom"), round);
        fs::create_dir_all(logs).unwrap();
    }
    assert_eq!(Runs::new(own.path()).numbers().unwrap(), [4, 5, 6]);
    let _ = record(own.path(), 3, "handloom");
    let mut logs: Vec<String> = fs::read_dir(own.path().join("logs"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    logs.sort();
    assert_eq!(logs, ["5", "6"], "what was forgotten has no logs");
}

#[test]
fn damaged_lines_are_left_out_and_a_killed_run_has_no_end() {
    let own = tempfile::tempdir().unwrap();
    let number = record(own.path(), 5, "handloom");
    let file = own.path().join(format!("runs/{number}.jsonl"));
    let text = fs::read_to_string(&file).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.len(), 3);
    let runs = Runs::new(own.path());
    // Killed in the middle of a line.
    let cut = &text[..text.len() - lines[2].len() / 2];
    fs::write(&file, cut).unwrap();
    let run = runs.read(number).unwrap();
    assert_eq!((run.jobs.len(), run.tail), (1, None));
    fs::write(&file, format!("{}\nnonsense\n{}\n", lines[0], lines[2])).unwrap();
    let run = runs.read(number).unwrap();
    assert!(run.jobs.is_empty() && run.tail.is_some());
    for not_a_run in ["", "nonsense\n", lines[2]] {
        fs::write(&file, not_a_run).unwrap();
        assert!(runs.read(number).is_err(), "{not_a_run}");
    }
    assert!(runs.read(number + 1).is_err());
}

/// Records of the time before jobs told what they are described as.
#[test]
fn earlier_records_are_still_read() {
    let own = tempfile::tempdir().unwrap();
    fs::create_dir_all(own.path().join("runs")).unwrap();
    let text = "{\"line\":\"run\",\"run\":3,\"started\":1,\"command\":\"handloom\",\"jobs\":2}\n{\"line\":\"job\",\"step\":\"a\",\"task\":false,\"ending\":\"made\",\"reasons\":[\"never made\"],\"began\":0.0,\"seconds\":1.0,\"slot\":0,\"exit\":null,\"memory\":0,\"processor\":0.0,\"log\":null,\"place\":\"\"}\n";
    fs::write(own.path().join("runs/3.jsonl"), text).unwrap();
    let run = Runs::new(own.path()).read(3).unwrap();
    assert_eq!(run.jobs[0].by, "");
    assert_eq!(run.jobs[0].after, None);
    let digest = handloom_core::records::run_analysis::RunAnalysis::of(&run, &[]);
    assert_eq!(
        (digest.longest, digest.whole),
        (vec![0], Duration::from_secs(1))
    );
}
