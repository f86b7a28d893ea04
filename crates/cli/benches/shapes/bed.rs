//! Projects to measure the program on, and one measurement.

use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use wait4::Wait4;

use crate::projects::Shape;

/// What is read so soon after it was written is read again by every run; so long must lie between.
pub const SETTLING: Duration = Duration::from_millis(1_100);

/// What is measured, with its words.
pub const COMMANDS: [(&str, &[&str]); 14] = [
    ("second", &[]),
    ("third", &[]),
    ("unchanged", &[]),
    ("described", &[]),
    ("rewired", &[]),
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

/// Where projects stand, and the yardstick.
pub struct Bed {
    folder: PathBuf,
    floor: PathBuf,
    _own: tempfile::TempDir,
}

/// One project.
pub struct BenchProject<'b> {
    bed: &'b Bed,
    pub shape: Shape,
    pub size: usize,
    pub root: PathBuf,
}

/// How long a command took, and the floor just before it; medians of several rounds, by their ratio.
#[derive(Clone, Copy)]
pub struct Taken {
    pub took: Duration,
    pub floor: Duration,
    /// The most memory that it held, bytes.
    pub memory: u64,
}

impl Taken {
    /// How many times the floor it took.
    pub fn ratio(&self) -> f64 {
        self.took.as_secs_f64() / self.floor.as_secs_f64()
    }
}

impl Bed {
    /// An empty one.
    pub fn new() -> Self {
        let own = tempfile::Builder::new()
            .prefix("shapes-")
            .tempdir()
            .expect("a temporary folder");
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

    /// A project that is written and not woven; `name` tells several of one shape apart.
    pub fn write(&self, shape: Shape, size: usize, name: &str) -> BenchProject<'_> {
        let root = self.folder.join(format!("{}-{size}{name}", shape.name()));
        std::fs::create_dir_all(&root).expect("a folder");
        // In a process of its own: a child's peak of memory begins with its parent's.
        let mut write = this();
        write.args(["write", shape.name(), &size.to_string()]);
        assert!(
            write
                .arg(&root)
                .status()
                .expect("this program runs")
                .success()
        );
        BenchProject {
            bed: self,
            shape,
            size,
            root,
        }
    }

    /// A project that is woven.
    pub fn woven(&self, shape: Shape, size: usize) -> BenchProject<'_> {
        let project = self.write(shape, size, "");
        std::thread::sleep(SETTLING);
        let (took, memory) = project.weave();
        std::thread::sleep(SETTLING);
        println!(
            "{} {size}: cold, jobs in this process {took:.2?}, {memory}",
            shape.name()
        );
        project
    }

    fn with_user<'c>(&self, command: &'c mut Command) -> &'c mut Command {
        command
            .env("XDG_CONFIG_HOME", self.folder.join("config"))
            .env("XDG_CACHE_HOME", self.folder.join("cache"))
            .env("XDG_DATA_HOME", self.folder.join("data"))
    }
}

/// This program, to be run again.
fn this() -> Command {
    Command::new(std::env::current_exe().expect("this program"))
}

impl BenchProject<'_> {
    /// Weaves it in a process of its own, without recipes' processes; how long it took, and what that process said
    /// of its memory. Writes down which files there are.
    pub fn weave(&self) -> (Duration, String) {
        let start = Instant::now();
        let output = self.weaving().output().expect("this program runs");
        let took = start.elapsed();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{said}");
        let mut list = this();
        list.arg("files").arg(&self.root);
        assert!(list.status().expect("this program runs").success());
        let memory = String::from_utf8_lossy(&output.stdout).trim().to_owned();
        (took, memory)
    }

    /// The command that does so.
    pub fn weaving(&self) -> Command {
        let mut make = this();
        make.arg("make").arg(&self.root).stdin(Stdio::null());
        self.bed.with_user(&mut make);
        make
    }

    /// A command of the program.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_handloom"));
        self.set_up(&mut command, words);
        command
    }

    /// Gives a command the program's words and surroundings.
    pub fn set_up(&self, command: &mut Command, words: &[&str]) {
        self.bed.with_user(command).current_dir(&self.root);
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
            let word = |&word: &&str| match word {
                "OUTPUT" => output.clone(),
                word => word.to_owned(),
            };
            command.args(words.iter().map(word));
        }
    }

    fn once(&self, words: &[&str]) -> (Duration, u64) {
        let mut command = self.command(words);
        command.stderr(Stdio::null());
        let start = Instant::now();
        let mut child = command.spawn().expect("the program runs");
        let ended = child.wait4().expect("it ends");
        let took = start.elapsed();
        assert!(ended.status.success(), "{words:?}");
        (took, ended.rusage.maxrss)
    }

    fn floor(&self) -> Duration {
        let mut command = Command::new(&self.bed.floor);
        command.arg(self.root.with_extension("list"));
        let start = Instant::now();
        assert!(command.status().expect("the floor runs").success());
        start.elapsed()
    }

    /// Measures one command.
    pub fn measure(&self, name: &str, words: &[&str]) -> Taken {
        let mut rounds = if matches!(name, "second" | "third") {
            1
        } else {
            7
        };
        let mut taken: Vec<Taken> = Vec::new();
        while taken.len() < rounds {
            self.edit(name, taken.len());
            let floor = self.floor();
            let (took, memory) = self.once(words);
            if took > Duration::from_secs(2) {
                rounds = rounds.min(3);
            }
            taken.push(Taken {
                took,
                floor,
                memory,
            });
        }
        taken.sort_by(|one, other| one.ratio().total_cmp(&other.ratio()));
        taken[taken.len() / 2]
    }

    /// What is changed before a command.
    fn edit(&self, name: &str, round: usize) {
        if name == "described" {
            let edited = self.shape.edit_description(&self.root, self.size, round);
            edited.expect("an edit");
        }
        if name == "rewired" {
            let _ = self.shape.rewire(&self.root, self.size).expect("an edit");
            // What is younger than the clock's grain is read again.
            std::thread::sleep(SETTLING);
        }
        if name == "edited" {
            let source = self.root.join(self.shape.source(self.size));
            std::fs::write(source, format!("edit {round}")).expect("an edit");
        }
    }
}
