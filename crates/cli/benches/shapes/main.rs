//! The program on projects of every shape and size, against the floor: a bare process that looks at the same files.
//!
//!     cargo bench -p handloom --bench shapes -- [SHAPE…] [SIZE…] [COMMAND…]
//!     cargo bench -p handloom --bench shapes -- figure [SHAPE…] [SIZE…]    # docs/performance.svg
//!     cargo bench --profile counts -p handloom --bench shapes -- counts [write] [SHAPE…]    # instructions, against counts.tsv
//!     cargo bench -p handloom --bench shapes -- write SHAPE SIZE FOLDER    # a project to look at
//!     cargo bench -p handloom --bench shapes -- make FOLDER                # weaves it in this process
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod bed;
mod counts;
mod figure;
mod projects;

use std::path::Path;
use std::process::ExitCode;

use bed::Bed;
use bed::COMMANDS;
use projects::Shape;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args()
        .skip(1)
        .filter(|word| word != "--bench")
        .collect();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    match words[..] {
        ["make", root] => {
            projects::build(Path::new(root));
            println!("{} MB at the peak", peak() / 1_000_000);
            return ExitCode::SUCCESS;
        }
        ["files", root] => {
            projects::write_list(Path::new(root)).expect("a list of files");
            return ExitCode::SUCCESS;
        }
        ["write", shape, size, root] => {
            let mut shapes = Shape::ALL.into_iter();
            let shape = shapes.find(|known| known.name() == shape).expect("a shape");
            std::fs::create_dir_all(root).expect("a folder");
            shape
                .write(Path::new(root), size.parse().expect("a size"))
                .expect("a project");
            return ExitCode::SUCCESS;
        }
        _ => {}
    }
    let named = |shape: &Shape| words.contains(&shape.name());
    let mut shapes: Vec<Shape> = Shape::ALL.into_iter().filter(named).collect();
    if shapes.is_empty() {
        shapes = Shape::ALL.to_vec();
    }
    let sizes: Vec<usize> = words.iter().filter_map(|word| word.parse().ok()).collect();
    if words.contains(&"counts") {
        let is_well = counts::run(&shapes, words.contains(&"write"));
        return ExitCode::from(u8::from(!is_well));
    }
    if words.contains(&"figure") {
        grow(&shapes, &sizes);
    } else {
        table(&shapes, &sizes, &words);
    }
    ExitCode::SUCCESS
}

/// This process's peak of memory, bytes.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM"));
    let number = line.and_then(|line| line.split_whitespace().nth(1)?.parse::<u64>().ok());
    number.unwrap_or(0) * 1024
}

/// Measures commands, each against the floor.
fn table(shapes: &[Shape], sizes: &[usize], words: &[&str]) {
    let some = COMMANDS.iter().any(|(name, _)| words.contains(name));
    let sizes = if sizes.is_empty() {
        &[1_000, 20_000]
    } else {
        sizes
    };
    let bed = Bed::new();
    for &size in sizes {
        for &shape in shapes {
            let project = bed.woven(shape, size);
            for (name, words_of) in COMMANDS {
                if some && !words.contains(&name) {
                    continue;
                }
                let taken = project.measure(name, words_of);
                println!(
                    "    {name:10} {:>9.2?}  floor {:>9.2?}  {:.2} times, {} MB",
                    taken.took,
                    taken.floor,
                    taken.ratio(),
                    taken.memory / 1_000_000
                );
            }
        }
    }
}

/// Measures how an unchanged run grows, and draws it.
fn grow(shapes: &[Shape], sizes: &[usize]) {
    let sizes = if sizes.is_empty() {
        &[1_000, 10_000, 100_000]
    } else {
        sizes
    };
    let bed = Bed::new();
    let mut lines = Vec::new();
    for &shape in shapes {
        let mut points = Vec::new();
        // The largest take minutes to write: one shape of them is enough.
        let is_wanted = |size: &&usize| **size <= 100_000 || shape == Shape::Pattern;
        for &size in sizes.iter().filter(is_wanted) {
            let project = bed.woven(shape, size);
            let _ = project.measure("second", &[]);
            let taken = project.measure("unchanged", &[]);
            println!(
                "{} {size}: {:.2} times the floor",
                shape.name(),
                taken.ratio()
            );
            points.push((size, taken));
        }
        lines.push((shape, points));
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/performance.svg");
    figure::draw(Path::new(path), &lines);
}
