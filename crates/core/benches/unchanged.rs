//! A run in which nothing has changed, a look at what it would do, and one with a single edit, against the floor: a bare `lstat`
//! of the same files from two threads.
//!
//!     cargo bench -p handloom-core --bench unchanged [STEPS]
//!
//! Jobs are carried out in this process, so that only the first, cold run writes files. Runs with
//! nothing to do are also measured as whole processes: this program calls itself as `once FOLDER`.
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod shared;

use std::path::Path;
use std::path::PathBuf;
use std::time::Duration;
use std::time::Instant;

use handloom_core::graph;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::goals;
use handloom_core::ledger::RealStorage;
use handloom_core::project::folders::Folders;
use handloom_core::project::values::Vars;
use handloom_core::project_cache::AskedNodes;
use handloom_core::project_cache::CachedProject;
use handloom_core::project_cache::LoadedProject;
use handloom_core::project_cache::ResidentProject;
use handloom_core::project_cache::dry_run;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::Summary;
use handloom_core::scheduler::TimedEvent;
use handloom_core::status::Decision;
use handloom_core::status::RecordingEnvironment;
use handloom_core::status::learned_edges::FoundEdges;
use handloom_core::world::RealDisk;
use handloom_core::world::SystemClock;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    let words: Vec<String> = std::env::args().collect();
    if let [_, once, root] = &words[..]
        && once == "once"
    {
        weave(Path::new(root));
        println!("{}", shared::peak() / 1_000_000);
        return;
    }
    let steps = std::env::args()
        .filter_map(|word| word.parse().ok())
        .next()
        .unwrap_or(100_000);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let root = folder.path();
    for index in 0..steps {
        let folder = root.join(format!("src/{:03}", index / 1000));
        if index % 1000 == 0 {
            std::fs::create_dir_all(&folder).expect("a folder");
        }
        std::fs::write(folder.join(format!("f{index:06}.c")), index.to_string()).expect("a source");
    }
    let loom =
        "target out/<d>/<unit>.o\n  needs each src/<d>/<unit>.c\n  recipe: cp @{needs} @{target}\n";
    std::fs::write(root.join("hand.loom"), loom).expect("a description");
    std::fs::create_dir_all(root.join(".handloom/jobs")).expect("a folder");

    let start = Instant::now();
    assert_eq!(weave(root).made, steps);
    println!(
        "{steps} steps, cold, jobs in this process: {:.1} µs a step",
        start.elapsed().as_secs_f64() * 1e6 / count(steps)
    );
    // Outputs are read once more, when they are old enough that no change could hide behind their times.
    std::thread::sleep(Duration::from_millis(50));
    assert_eq!(weave(root).kept, steps);

    let paths: Vec<PathBuf> = (0..steps)
        .map(|index| root.join(format!("out/{:03}/f{index:06}.o", index / 1000)))
        .chain((0..steps).map(|index| root.join(format!("src/{:03}/f{index:06}.c", index / 1000))))
        .collect();
    let mut ratios = Vec::new();
    for _ in 0..7 {
        let floor = timed(|| floor(&paths));
        let run = timed(|| assert_eq!(weave(root).kept, steps));
        ratios.push((run.as_secs_f64() / floor.as_secs_f64(), run, floor));
    }
    ratios.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (ratio, run, floor) = ratios[ratios.len() / 2];
    println!("nothing changed: {run:.1?} against {floor:.1?} for the bare lstat, {ratio:.2} times");
    let mut looks = [Vec::new(), Vec::new()];
    for _ in 0..5 {
        for (taken_over, looks) in [false, true].into_iter().zip(&mut looks) {
            looks.push(timed(|| foresee(root, taken_over, steps)));
        }
    }
    let [anew, taken_over] = looks.map(|mut looks| {
        looks.sort_unstable();
        looks[looks.len() / 2]
    });
    println!(
        "foreseeing a run: {taken_over:.1?}, {:.2} times the run; worked out anew {anew:.1?}",
        taken_over.as_secs_f64() / run.as_secs_f64()
    );
    let mut more = Vec::new();
    for round in 0..5 {
        std::fs::write(root.join("src/000/f000007.c"), format!("edit {round}")).expect("an edit");
        let edited = timed(|| assert_eq!(weave(root).made, 1));
        more.push(edited.saturating_sub(run));
    }
    more.sort_unstable();
    println!("one edit: {:.1?} more", more[more.len() / 2]);
    assert_eq!(weave(root).kept, steps);
    resident(root, steps);
    let mut processes: Vec<(Duration, u64)> = (0..7).map(|_| process(root)).collect();
    processes.sort_unstable();
    let (took, memory) = processes[processes.len() / 2];
    println!("nothing changed, a whole process: {took:.1?}, {memory} MB at the peak");
}

/// What a run would do, with the project that the last one kept or without.
fn foresee(root: &Path, taken_over: bool, steps: usize) {
    let disk = RealDisk::open(root).expect("a disk");
    let clock = SystemClock::default();
    let ledger = shared::ledger(Box::new(RealStorage::new(&root.join(".handloom"))));
    let text = root.to_string_lossy().into_owned();
    let environment = RecordingEnvironment::new(&disk, &clock, &ledger, &|_| None, None, text)
        .with_key(Some([7; 32]));
    let (description, outside) = shared::description(&disk, &environment);
    let folders = Folders::new(&disk);
    let vars = Vars::new(&description, &outside, &environment, &folders);
    let asked = BuildRequest::default();
    let cached = taken_over.then(|| {
        CachedProject::of_last_run(None, &description, &asked, &environment).expect("it is kept")
    });
    let found = FoundEdges::new();
    let mut loaded = LoadedProject::load(
        &vars,
        cached,
        None,
        &found,
        &ledger.borrow(),
        &std::collections::HashMap::new(),
    );
    assert_eq!(loaded.cached.is_some(), taken_over);
    let goals = goals(&loaded.project, &asked).nodes;
    let order = graph::order(&loaded.project, &goals).expect("no circle");
    let predictions = dry_run(
        &loaded.project,
        loaded.cached.as_mut(),
        &vars,
        &environment,
        &order,
        &AskedNodes::default(),
        2,
    );
    let predictions = predictions.expect("no mistake");
    let kept = predictions
        .values()
        .filter(|prediction| prediction.decision == Decision::Keep);
    assert_eq!(kept.count(), steps);
}

/// A project that stays in memory: from being told of a saved file to the beginning of its step's job.
fn resident(root: &Path, steps: usize) {
    let disk = RealDisk::open(root).expect("a disk");
    let clock = SystemClock::default();
    let ledger = shared::ledger(Box::new(RealStorage::new(&root.join(".handloom"))));
    let place = shared::copying(root.to_owned());
    let text = root.to_string_lossy().into_owned();
    let environment = || {
        RecordingEnvironment::new(&disk, &clock, &ledger, &|_| None, None, text.clone())
            .with_key(Some([7; 32]))
    };
    let own = environment();
    let (description, outside) = shared::description(&disk, &own);
    let folders = Folders::new(&disk);
    let vars = Vars::new(&description, &outside, &own, &folders);
    let asked = BuildRequest::default();
    let mut resident = ResidentProject::open(&vars, &folders, &asked, &ledger.borrow(), &own, 2)
        .expect("it is kept");
    let mut took = Vec::new();
    for round in 0..9 {
        let name = format!("src/000/f{:06}.c", 10 + round);
        std::fs::write(root.join(&name), format!("standing {round}")).expect("an edit");
        let start = Instant::now();
        let mut began = None;
        let observer = |told: &TimedEvent| {
            if matches!(told.event, Event::Began { .. }) {
                began.get_or_insert_with(|| start.elapsed());
            }
        };
        let fresh = environment();
        let context = BuildContext {
            store: None,
            disk: &disk,
            clock: &clock,
            executor: &place,
            ledger: &ledger,
            environment: &fresh,
        };
        let events = EventHub::new(&clock).direct(observer);
        let mut build = Build::new(context, shared::options(), events);
        resident.invalidate(&name);
        let summary = build.run_resident(&mut resident, &description, &asked);
        let summary = summary.expect("a run").expect("it stands");
        drop(build);
        assert_eq!((summary.made, summary.kept), (1, steps - 1));
        took.push(began.expect("a job began"));
    }
    took.sort_unstable();
    println!(
        "one edit of a standing project: its job begins after {:.1?}",
        took[took.len() / 2]
    );
}

/// How long a whole process with nothing to do takes, and its largest memory, MB.
fn process(root: &Path) -> (Duration, u64) {
    let program = std::env::current_exe().expect("this program");
    let start = Instant::now();
    let output = std::process::Command::new(program)
        .arg("once")
        .arg(root)
        .output()
        .expect("this program runs");
    let took = start.elapsed();
    assert!(output.status.success());
    let memory = String::from_utf8_lossy(&output.stdout).trim().parse();
    (took, memory.expect("a number"))
}

#[expect(clippy::cast_precision_loss, reason = "a number of steps")]
fn count(steps: usize) -> f64 {
    steps as f64
}

fn timed(work: impl FnOnce()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn floor(paths: &[PathBuf]) {
    std::thread::scope(|scope| {
        for half in paths.chunks(paths.len().div_ceil(2)) {
            scope.spawn(move || {
                for path in half {
                    assert!(path.symlink_metadata().is_ok());
                }
            });
        }
    });
}

/// One whole run, from opening the project to the summary.
fn weave(root: &Path) -> Summary {
    let disk = RealDisk::open(root).expect("a disk");
    let clock = SystemClock::default();
    let storage = Box::new(RealStorage::new(&root.join(".handloom")));
    let place = shared::copying(root.to_owned());
    let root = root.to_string_lossy();
    shared::weave(&disk, &clock, &place, storage, &root, |_| {})
}
