//! The program on projects of every shape, against the floor: a bare process that looks at the same files.
//!
//!     cargo bench -p handloom --bench shapes -- [SHAPE…] [SIZE…] [COMMAND…]
//!     cargo bench -p handloom --bench shapes -- write SHAPE SIZE FOLDER    # a project to look at
//!     cargo bench -p handloom --bench shapes -- make FOLDER                # weaves it in this process
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod projects;

use std::path::Path;
use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use projects::Shape;

/// The allocator that the program has.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    let words: Vec<String> = std::env::args()
        .skip(1)
        .filter(|word| word != "--bench")
        .collect();
    if let [make, root] = &words[..]
        && make == "make"
    {
        let summary = projects::build(Path::new(root));
        println!("{} {} {}", summary.made, summary.kept, summary.failed);
        return;
    }
    if let [write, shape, size, root] = &words[..]
        && write == "write"
    {
        let shape = Shape::ALL.into_iter().find(|known| known.name() == shape);
        let (shape, size) = (shape.expect("a shape"), size.parse().expect("a size"));
        std::fs::create_dir_all(root).expect("a folder");
        shape.write(Path::new(root), size).expect("a project");
        return;
    }
    let sizes: Vec<usize> = words.iter().filter_map(|word| word.parse().ok()).collect();
    let sizes = if sizes.is_empty() {
        vec![1_000, 20_000]
    } else {
        sizes
    };
    let shapes = Shape::ALL
        .into_iter()
        .filter(|shape| words.iter().any(|word| word == shape.name()));
    let mut shapes: Vec<Shape> = shapes.collect();
    if shapes.is_empty() {
        shapes = Shape::ALL.to_vec();
    }
    let asked = |name: &str| {
        let known: Vec<&str> = COMMANDS.iter().map(|(name, _)| *name).collect();
        !words.iter().any(|word| known.contains(&&**word)) || words.iter().any(|word| word == name)
    };
    let bed = Bed::new();
    for &size in &sizes {
        for &shape in &shapes {
            let project = bed.project(shape, size);
            project.measure(&asked);
        }
    }
}

/// What is measured, with its words.
const COMMANDS: [(&str, &[&str]); 13] = [
    ("second", &[]),
    ("third", &[]),
    ("unchanged", &[]),
    ("described", &[]),
    ("edited", &[]),
    ("preview", &["preview"]),
    ("why", &["why", "OUTPUT"]),
    ("list", &["list"]),
    ("graph", &["graph", "--format", "json"]),
    (
        "around",
        &["graph", "--around", "OUTPUT", "--format", "json"],
    ),
    ("clean", &["clean", "--preview"]),
    ("complete", &["COMPLETE"]),
    ("history", &["history"]),
];

struct Bed {
    folder: PathBuf,
    floor: PathBuf,
    _own: tempfile::TempDir,
}

impl Bed {
    fn new() -> Self {
        let own = tempfile::tempdir().expect("a temporary folder");
        let folder = own.path().to_owned();
        let floor = folder.join("floor");
        let built = Command::new("cc")
            .args(["-O2", "-pthread", "-o"])
            .arg(&floor)
            .arg(concat!(
                env!("CARGO_MANIFEST_DIR"),
                "/benches/shapes/floor.c"
            ))
            .status();
        assert!(built.expect("a C compiler").success());
        Self {
            folder,
            floor,
            _own: own,
        }
    }

    fn project(&self, shape: Shape, size: usize) -> Project<'_> {
        let root = self.folder.join(format!("{}-{size}", shape.name()));
        std::fs::create_dir_all(&root).expect("a folder");
        shape.write(&root, size).expect("a project");
        // What is read so soon after it was written is read again by every run.
        std::thread::sleep(Duration::from_millis(1100));
        let start = Instant::now();
        let mut make = Command::new(std::env::current_exe().expect("this program"));
        make.arg("make").arg(&root).stdin(Stdio::null());
        let output = self
            .with_user(&mut make)
            .output()
            .expect("this program runs");
        let took = start.elapsed();
        assert!(
            output.status.success(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
        let files = projects::files(&root);
        let mut list = Vec::new();
        for file in &files {
            list.extend_from_slice(file.as_os_str().as_encoded_bytes());
            list.push(0);
        }
        std::fs::write(root.with_extension("list"), list).expect("a list");
        println!(
            "{} {size}: {} files, cold in this process {took:.2?} ({})",
            shape.name(),
            files.len(),
            String::from_utf8_lossy(&output.stdout).trim()
        );
        std::thread::sleep(Duration::from_millis(1100));
        Project {
            bed: self,
            shape,
            size,
            root,
        }
    }

    fn with_user<'c>(&self, command: &'c mut Command) -> &'c mut Command {
        command
            .env("XDG_CONFIG_HOME", self.folder.join("config"))
            .env("XDG_DATA_HOME", self.folder.join("data"))
    }
}

struct Project<'b> {
    bed: &'b Bed,
    shape: Shape,
    size: usize,
    root: PathBuf,
}

impl Project<'_> {
    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_handloom"));
        self.bed.with_user(&mut command).current_dir(&self.root);
        command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped());
        let output = self.shape.output(self.size);
        if words == ["COMPLETE"] {
            command
                .env("HANDLOOM_COMPLETE", "bash")
                .env("_CLAP_COMPLETE_INDEX", "1")
                .env("_CLAP_COMPLETE_COMP_TYPE", "9")
                .env("_CLAP_COMPLETE_SPACE", "true")
                .args(["--", "handloom", "out/0"]);
        } else {
            command.args(
                words
                    .iter()
                    .map(|&word| if word == "OUTPUT" { &*output } else { word }),
            );
        }
        command
    }

    fn time(&self, words: &[&str]) -> Duration {
        let mut command = self.command(words);
        let start = Instant::now();
        let output = command.output().expect("the program runs");
        let took = start.elapsed();
        assert!(
            output.status.success(),
            "{words:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
        took
    }

    fn floor(&self) -> Duration {
        let mut command = Command::new(&self.bed.floor);
        command.arg(self.root.with_extension("list"));
        let start = Instant::now();
        assert!(command.status().expect("the floor runs").success());
        start.elapsed()
    }

    /// What is changed before a command.
    fn edit(&self, name: &str, round: usize) {
        if name == "described" {
            let edited = self.shape.edit_description(&self.root, self.size, round);
            edited.expect("an edit");
        }
        if name == "edited" {
            let source = self.root.join(self.shape.source(self.size));
            std::fs::write(source, format!("edit {round}")).expect("an edit");
        }
    }

    fn measure(&self, asked: &dyn Fn(&str) -> bool) {
        let mut rest = 7;
        for (name, words) in COMMANDS {
            if !asked(name) {
                continue;
            }
            let rounds = if matches!(name, "second" | "third") {
                1
            } else {
                rest
            };
            let mut taken: Vec<(f64, Duration, Duration)> = (0..rounds)
                .map(|round| {
                    self.edit(name, round);
                    let floor = self.floor();
                    let took = self.time(words);
                    (took.as_secs_f64() / floor.as_secs_f64(), took, floor)
                })
                .collect();
            taken.sort_by(|a, b| a.0.total_cmp(&b.0));
            let (ratio, took, floor) = taken[taken.len() / 2];
            if took > Duration::from_secs(2) {
                rest = 3;
            }
            println!("    {name:10} {took:>9.2?}  floor {floor:>9.2?}  {ratio:.2}");
        }
    }
}
