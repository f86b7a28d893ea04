//! Counted instructions: exact where times are not.
//!
//! Each command is run at two sizes of each shape under `valgrind --tool=callgrind`. It must not grow by more than
//! [`MOST_GROWTH`] times what the size does, and must not take more than [`MOST_CHANGE`] beyond what is written down
//! in `counts.tsv`, which is changed together with the reason for it.

use std::collections::BTreeMap;
use std::path::Path;
use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;
use std::sync::Mutex;
use std::time::SystemTime;

use crate::bed::Bed;
use crate::bed::BenchProject;
use crate::bed::COMMANDS;
use crate::bed::SETTLING;
use crate::projects::Shape;

/// In front of the machine on which counts were written down.
const MACHINE: &str = "# on ";

/// The two sizes; the second is so many times the first.
const SIZES: [usize; 2] = [1_000, 2_000];
const FACTOR: f64 = 2.0;

/// How much more than the size a command's instructions may grow.
const MOST_GROWTH: f64 = 1.15;

/// How much more than what is written down a command may take.
const MOST_CHANGE: f64 = 1.05;

/// Counts of a shape's command at both sizes.
type Counts = BTreeMap<(String, String), [u64; 2]>;

/// What was counted of a project: the command, and its instructions.
type Found = Vec<(&'static str, u64)>;

/// How much these take also depends on how old files were when they were read last: only growth is compared.
const BY_TIME: [&str; 3] = [COLD, ANEW, "clean"];

/// What is counted beside the commands that are measured: a first run, and a project worked out anew.
const COLD: &str = "cold";
const ANEW: &str = "anew";

/// Commands that are not counted: they start recipes, which can't be counted.
const NOT_COUNTED: [&str; 5] = ["second", "third", "described", "rewired", "edited"];

/// Counts everything and compares; with `write` what was counted is written down instead. Whether all is well.
pub fn run(shapes: &[Shape], write: bool) -> bool {
    if Command::new("valgrind").arg("--version").output().is_err() {
        println!("no valgrind: nothing is counted");
        return std::env::var_os("HANDLOOM_COUNTS").is_none();
    }
    let counts = count(shapes);
    if write {
        let mut all = written();
        all.extend(counts);
        store(&all);
        return true;
    }
    let known = written();
    // Which instructions libraries choose is for the processor to say.
    let is_same_machine = machine_written().as_deref() == Some(&*machine());
    if !is_same_machine {
        println!("written down on another machine: only growth is compared");
    }
    let mut wrong = Vec::new();
    for ((shape, command), [small, large]) in &counts {
        let growth = ratio(*large, *small) / FACTOR;
        println!("{shape:15} {command:10} {small:>12} {large:>12}  {growth:.2} times linear");
        if growth > MOST_GROWTH {
            wrong.push(format!(
                "{shape} {command}: grows {growth:.2} times as fast as the project"
            ));
        }
        let Some(was) = known.get(&(shape.clone(), command.clone())) else {
            wrong.push(format!("{shape} {command}: nothing is written down of it"));
            continue;
        };
        for (now, was) in [(small, was[0]), (large, was[1])] {
            let is_exact = is_same_machine && !BY_TIME.contains(&&**command);
            if is_exact && ratio(*now, was) > MOST_CHANGE {
                wrong.push(format!(
                    "{shape} {command}: {now} instructions, and {was} are written down"
                ));
            }
        }
    }
    for line in &wrong {
        println!("WRONG {line}");
    }
    if !wrong.is_empty() {
        println!(
            "a figure that is meant to change: cargo bench --profile counts -p handloom --bench shapes -- counts write"
        );
    }
    wrong.is_empty()
}

#[expect(clippy::cast_precision_loss, reason = "counts for a ratio")]
fn ratio(one: u64, other: u64) -> f64 {
    one as f64 / other.max(1) as f64
}

fn count(shapes: &[Shape]) -> Counts {
    let bed = Bed::new();
    let mut counts = Counts::new();
    let projects: Vec<(usize, BenchProject<'_>)> = shapes
        .iter()
        .flat_map(|&shape| {
            SIZES
                .into_iter()
                .enumerate()
                .map(move |(at, size)| (at, shape, size))
        })
        .map(|(at, shape, size)| (at, bed.write(shape, size, "")))
        .collect();
    std::thread::sleep(SETTLING);
    on_each_core(&projects, &mut counts, |project, core| {
        let count = callgrind_of(&project.weaving(), core);
        // How many of them the first run could surely recognise depends on how long it took: now it is none.
        touch(&project.root).expect("files can be touched");
        vec![(COLD, count)]
    });
    std::thread::sleep(SETTLING);
    on_each_core(&projects, &mut counts, |project, core| {
        // What is young is read once more, and noted.
        assert!(project.command(&[]).status().expect("it runs").success());
        let counted = COMMANDS.into_iter();
        let counted = counted.filter(|(name, _)| !NOT_COUNTED.contains(name));
        let mut found: Found = counted
            .map(|(name, words)| (name, callgrind(project, words, core)))
            .collect();
        for file in ["project", "project-front"] {
            let _ = std::fs::remove_file(project.root.join(".handloom").join(file));
        }
        found.push((ANEW, callgrind(project, &["preview"], core)));
        found
    });
    counts
}

/// Counts something of each project, of one on each core at a time. Nothing of one has to do with another.
fn on_each_core(
    projects: &[(usize, BenchProject<'_>)],
    counts: &mut Counts,
    count: impl Fn(&BenchProject<'_>, &str) -> Found + Sync,
) {
    let (queue, counts) = (Mutex::new(projects.iter()), Mutex::new(counts));
    std::thread::scope(|scope| {
        for core in cores() {
            let (queue, counts, count) = (&queue, &counts, &count);
            scope.spawn(move || {
                loop {
                    let next = queue.lock().expect("no thread panics").next();
                    let Some((at, project)) = next else { break };
                    let found = count(project, &core);
                    let mut counts = counts.lock().expect("no thread panics");
                    for (name, found) in found {
                        let key = (project.shape.name().to_owned(), name.to_owned());
                        counts.entry(key).or_default()[*at] = found;
                    }
                }
            });
        }
    });
}

/// Gives all files below a folder but descriptions and the program's own the present time.
fn touch(folder: &Path) -> std::io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            if !path.ends_with(".handloom") {
                touch(&path)?;
            }
        } else if path.extension().is_none_or(|ending| ending != "loom") {
            std::fs::File::open(&path)?.set_modified(SystemTime::now())?;
        }
    }
    Ok(())
}

/// The instructions of a command of the program.
fn callgrind(project: &BenchProject<'_>, words: &[&str], core: &str) -> u64 {
    let mut command = Command::new(env!("CARGO_BIN_EXE_handloom"));
    project.set_up(&mut command, words);
    callgrind_of(&command, core)
}

/// The instructions of a command.
fn callgrind_of(of: &Command, core: &str) -> u64 {
    // On one core nothing is spread over threads: whether a second one finds something left to do is up to the system.
    let mut command = Command::new("taskset");
    // Whoever calls the bench must not count: each variable, and each folder of libraries, takes its time at the start.
    command.env_clear();
    for name in ["PATH", "HOME"] {
        command.envs(std::env::var_os(name).map(|value| (name, value)));
    }
    command.args(["--cpu-list", core, "valgrind"]);
    command
        .args(["--tool=callgrind", "--callgrind-out-file=/dev/null"])
        .arg(of.get_program())
        .args(of.get_args());
    for (name, value) in of.get_envs() {
        match value {
            Some(value) => command.env(name, value),
            None => command.env_remove(name),
        };
    }
    if let Some(folder) = of.get_current_dir() {
        command.current_dir(folder);
    }
    command.stdin(Stdio::null()).stdout(Stdio::null());
    let output = command
        .stderr(Stdio::piped())
        .output()
        .expect("valgrind runs");
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
    let collected = said
        .lines()
        .find_map(|line| line.split_once("Collected : "));
    let (_, count) = collected.expect("valgrind tells the count");
    count.trim().parse().expect("a number")
}

/// The cores that this process may use.
fn cores() -> Vec<String> {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let allowed = status
        .lines()
        .find_map(|line| line.strip_prefix("Cpus_allowed_list:"))
        .unwrap_or("0");
    let ranges = allowed.trim().split(',').filter_map(|range| {
        let (first, last) = range.split_once('-').unwrap_or((range, range));
        Some(first.parse::<usize>().ok()?..=last.parse().ok()?)
    });
    ranges.flatten().map(|core| core.to_string()).collect()
}

/// The kind of processor, and the system.
fn machine() -> String {
    let line_of = |file: &str, key: &str| {
        let text = std::fs::read_to_string(file).unwrap_or_default();
        let line = text.lines().find(|line| line.starts_with(key));
        let value = line.and_then(|line| line.split_once([':', '=']));
        value.map_or_else(String::new, |(_, value)| {
            value.trim().trim_matches('"').to_owned()
        })
    };
    let processor = line_of("/proc/cpuinfo", "model name");
    format!("{processor}, {}", line_of("/etc/os-release", "PRETTY_NAME"))
}

/// The machine on which the counts were written down.
fn machine_written() -> Option<String> {
    let text = std::fs::read_to_string(file()).ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix(MACHINE));
    line.map(str::to_owned)
}

fn file() -> PathBuf {
    PathBuf::from(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/benches/shapes/counts.tsv"
    ))
}

fn written() -> Counts {
    let text = std::fs::read_to_string(file()).unwrap_or_default();
    let lines = text.lines().filter(|line| !line.starts_with('#'));
    let line = |line: &str| {
        let mut words = line.split('\t');
        let (shape, command) = (words.next()?.to_owned(), words.next()?.to_owned());
        let (small, large) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
        Some(((shape, command), [small, large]))
    };
    lines.filter_map(line).collect()
}

fn store(counts: &Counts) {
    let mut text =
        "# Instructions of each command, by shape, at 1,000 and 2,000 steps; see counts.rs.\n"
            .to_owned();
    text.push_str(&format!("{MACHINE}{}\n", machine()));
    for ((shape, command), [small, large]) in counts {
        text.push_str(&format!("{shape}\t{command}\t{small}\t{large}\n"));
    }
    std::fs::write(file(), text).expect("the file can be written");
}
