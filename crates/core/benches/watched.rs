//! What watching and sealing cost: the same recipes plain, watched, sealed and strictly sealed, in one run.
//!
//!     cargo bench -p handloom-core --bench watched
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod shared;

use std::fmt::Write as _;
use std::path::Path;
use std::time::Duration;
use std::time::Instant;

use tempfile::TempDir;

use handloom_core::executor::LocalExecutor;
use handloom_core::ledger::RealStorage;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::RecipeMode;
use handloom_core::world::RealDisk;
use handloom_core::world::SystemClock;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROUNDS: usize = 3;

/// A kind of recipe: its name, how many, and one of them by its number.
type Kind = (&'static str, usize, fn(&Path, usize) -> String);

const KINDS: [Kind; 4] = [
    ("C units", 12, unit),
    ("Python scripts", 16, script),
    ("300 commands in a shell", 4, commands),
    ("shell recipes of one command", 200, small),
];

/// A unit that takes a compiler about half a second, with 60 headers.
fn unit(root: &Path, number: usize) -> String {
    let mut text = String::new();
    for header in 0..60 {
        let name = root.join(format!("include/h{header}.h"));
        if number == 0 {
            let mut body = "#pragma once\n#include <stdio.h>\n#include <stdlib.h>\n".to_owned();
            for line in 0..20 {
                writeln!(
                    body,
                    "static inline int f{header}_{line}(int x) {{ return x * {line} + {header}; }}"
                )
                .expect("memory");
            }
            std::fs::write(name, body).expect("a file");
        }
        writeln!(text, "#include \"h{header}.h\"").expect("memory");
    }
    for line in 0..60 {
        writeln!(text, "int g{line}(int a, int b) {{ int s = 0; for (int i = 0; i < b; i++) s += f{}_{}(a + i) ^ s; return s; }}", line % 60, line % 20).expect("memory");
    }
    std::fs::write(root.join(format!("src/{number}.c")), text).expect("a file");
    format!("cc -O2 -Iinclude -c src/{number}.c -o @{{target}}")
}

fn script(root: &Path, number: usize) -> String {
    let text = "import json, csv, argparse, subprocess, email, http.client, unittest\nprint(sum(i * i for i in range(300000)))\n";
    std::fs::write(root.join(format!("src/{number}.py")), text).expect("a file");
    format!("python3 src/{number}.py > @{{target}}")
}

fn commands(_: &Path, _: usize) -> String {
    "i=0; while [ $i -lt 300 ]; do cat /dev/null; i=$((i+1)); done; echo done > @{target}"
        .to_owned()
}

fn small(root: &Path, number: usize) -> String {
    std::fs::write(root.join(format!("src/{number}.txt")), "x").expect("a file");
    format!("cat src/{number}.txt > @{{target}}")
}

fn main() {
    for (name, count, recipe) in KINDS {
        let modes = [
            RecipeMode::Watched,
            RecipeMode::Sealed,
            RecipeMode::SealedStrictly,
        ];
        let mut ratios: Vec<Vec<(f64, Duration)>> = vec![Vec::new(); modes.len()];
        let mut plain = Vec::new();
        for _ in 0..ROUNDS {
            let floor = run(count, recipe, RecipeMode::Plain);
            plain.push(floor);
            for (mode, ratios) in modes.into_iter().zip(&mut ratios) {
                let took = run(count, recipe, mode);
                ratios.push((took.as_secs_f64() / floor.as_secs_f64(), took));
            }
        }
        plain.sort_unstable();
        print!(
            "{name}: {:.2?} each",
            plain[ROUNDS / 2] * 2 / u32::try_from(count).unwrap_or(1)
        );
        for (mode, ratios) in modes.into_iter().zip(&mut ratios) {
            ratios.sort_by(|one, other| one.0.total_cmp(&other.0));
            print!(", {} {:.2} times", mode.name(), ratios[ROUNDS / 2].0);
        }
        println!();
    }
}

/// How long a cold run over so many such recipes takes.
fn run(count: usize, recipe: fn(&Path, usize) -> String, mode: RecipeMode) -> Duration {
    let folder = TempDir::new().expect("a temporary folder");
    let root = folder.path();
    for name in ["src", "include", ".handloom/jobs"] {
        std::fs::create_dir_all(root.join(name)).expect("a folder");
    }
    let mut loom = String::new();
    for number in 0..count {
        let recipe = recipe(root, number);
        // All that a sealed recipe reads is named.
        write!(
            loom,
            "target out/{number}\n  needs src/ include/\n  recipe: {recipe}\n"
        )
        .expect("memory");
    }
    std::fs::write(root.join("hand.loom"), loom).expect("a description");
    let disk = RealDisk::open(root).expect("a disk");
    let clock = SystemClock::default();
    let executor = LocalExecutor::new(root.to_owned(), root.join(".handloom/jobs"));
    let storage = Box::new(RealStorage::new(&root.join(".handloom")));
    let options = BuildOptions {
        recipes: mode,
        ..shared::options()
    };
    let start = Instant::now();
    let summary = shared::weave_with(
        options,
        &disk,
        &clock,
        &executor,
        storage,
        &root.to_string_lossy(),
        |_| {},
    );
    let took = start.elapsed();
    assert_eq!(summary.made, count, "{mode:?}");
    took
}
