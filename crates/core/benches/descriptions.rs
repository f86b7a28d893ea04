//! From bytes to a checked project: a large plain description, and a pattern that gives many steps.
//!
//!     cargo bench -p handloom-core --bench descriptions
//!
//! Figures are best of several runs in one process: bytes a second against a mere copy of the same
//! bytes, and seconds against a mere walk of the same folders, since machines are noisy.

#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod shared;

use std::cell::RefCell;
use std::hint::black_box;
use std::path::Path;
use std::time::Duration;
use std::time::Instant;

use handloom_core::ledger::Ledger;
use handloom_core::ledger::MemoryStorage;
use handloom_core::project::Description;
use handloom_core::project::ProjectBuilder;
use handloom_core::project::environment::Overrides;
use handloom_core::project::folders::Folders;
use handloom_core::project::overrides::SetOutside;
use handloom_core::project::values::Vars;
use handloom_core::status::RecordingEnvironment;
use handloom_core::text::SourceId;
use handloom_core::world::RealDisk;
use handloom_core::world::SystemClock;

const COUNT: usize = 100_000;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let wanted = std::env::args()
        .nth(1)
        .filter(|word| !word.starts_with('-'));
    let wants = |name: &str| wanted.as_ref().is_none_or(|wanted| wanted == name);
    if wants("plain") {
        plain(&folder.path().join("plain"));
    }
    if wants("pattern") {
        pattern(&folder.path().join("pattern"));
    }
}

fn plain(root: &Path) {
    std::fs::create_dir_all(root).expect("a folder");
    let mut loom = String::new();
    for index in 0..COUNT {
        loom += &format!(
            "target out/plain/file-number-{index:06}.o\n  needs src/plain/file-number-{index:06}.c\n  recipe: cc -c @{{needs}} -o @{{target}}\n"
        );
    }
    std::fs::write(root.join("hand.loom"), &loom).expect("a description");
    #[expect(clippy::cast_precision_loss, reason = "megabytes for people")]
    let megabytes = loom.len() as f64 / 1e6;
    let copy = best(|| {
        black_box(std::fs::read(root.join("hand.loom")).expect("bytes"));
    });
    let before = shared::peak();
    project(root);
    let grown = peak_growth(before);
    let parse = best(|| {
        black_box(handloom_core::language::parse(SourceId(0), &loom));
    });
    let whole = (0..7).map(|_| project(root)).min().unwrap_or_default();
    println!("plain description of {COUNT} targets, {megabytes:.1} MB");
    println!(
        "  parse          {:7.1} MB/s",
        megabytes / parse.as_secs_f64()
    );
    println!(
        "  to a project   {:7.1} MB/s",
        megabytes / whole.as_secs_f64()
    );
    println!(
        "  against a read {:7.1} times",
        whole.as_secs_f64() / copy.as_secs_f64()
    );
    println!("  peak memory    {:7.0} bytes a step", grown);
}

fn pattern(root: &Path) {
    for index in 0..COUNT {
        let folder = root.join(format!("src/{:03}", index / 1000));
        if index % 1000 == 0 {
            std::fs::create_dir_all(&folder).expect("a folder");
        }
        std::fs::write(folder.join(format!("f{index:06}.c")), "").expect("a source");
    }
    let loom =
        "target out/<d>/<unit>.o\n  needs each src/<d>/<unit>.c\n  recipe: cp @{needs} @{target}\n";
    std::fs::write(root.join("hand.loom"), loom).expect("a description");
    let walk = best(|| {
        let disk = RealDisk::open(root).expect("a disk");
        let folders = Folders::new(&disk);
        let mut count = 0;
        for folder in folders.list("src/").iter() {
            count += folders.list(&format!("src/{}/", folder.name)).len();
        }
        assert_eq!(count, COUNT);
    });
    let whole = (0..7).map(|_| project(root)).min().unwrap_or_default();
    println!("one pattern that gives {COUNT} steps");
    println!("  to a project   {:7.3} s", whole.as_secs_f64());
    println!(
        "  against a walk {:7.1} times",
        whole.as_secs_f64() / walk.as_secs_f64()
    );
}

/// Reads and works out a project; the time until it is there, without taking it down again.
fn project(root: &Path) -> Duration {
    let start = Instant::now();
    let disk = RealDisk::open(root).expect("a disk");
    let clock = SystemClock::default();
    let (ledger, _) = Ledger::open(Box::new(MemoryStorage::default()), false).expect("a ledger");
    let ledger = RefCell::new(ledger);
    let env = |_: &str| None;
    let environment = RecordingEnvironment::new(&disk, &clock, &ledger, &env, None, String::new())
        .with_key(Some([7; 32]));
    let (mut description, wrong) = Description::read(&disk);
    assert!(wrong.is_empty());
    let (outside, _) = SetOutside::read(&mut description, &Overrides::default(), &environment);
    let folders = Folders::new(&disk);
    let vars = Vars::new(&description, &outside, &environment, &folders);
    let project = ProjectBuilder {
        vars: &vars,
        materialized: None,
        calls: &std::collections::HashMap::new(),
    }
    .project();
    assert!(vars.take_diagnostics().is_empty());
    let took = start.elapsed();
    assert_eq!(black_box(&project).steps.len(), COUNT);
    took
}

fn best(mut work: impl FnMut()) -> Duration {
    (0..5)
        .map(|_| {
            let start = Instant::now();
            work();
            start.elapsed()
        })
        .min()
        .unwrap_or_default()
}

#[expect(clippy::cast_precision_loss, reason = "bytes for people")]
fn peak_growth(before: u64) -> f64 {
    shared::peak().saturating_sub(before) as f64 / COUNT as f64
}
