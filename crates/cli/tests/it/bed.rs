//! A project in a folder of its own, and runs of the program in it.

use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;

use serde_json::Value;

/// A project's folder, away from the user's settings.
pub struct Bed {
    folder: tempfile::TempDir,
}

/// How a run went. Its assertions show all of it when they fail.
pub struct Run {
    pub status: Option<i32>,
    pub out: String,
    pub err: String,
    pub events: Vec<Value>,
    command: String,
    tree: String,
}

impl Bed {
    /// A project with this description.
    pub fn new(loom: &str) -> Self {
        Self::below(&std::env::temp_dir(), loom)
    }

    /// The same in memory where that is possible: for a great many files.
    pub fn in_memory(loom: &str) -> Self {
        let memory = Path::new("/dev/shm");
        if memory.is_dir() {
            return Self::below(memory, loom);
        }
        Self::new(loom)
    }

    fn below(folder: &Path, loom: &str) -> Self {
        let bed = Self {
            folder: tempfile::tempdir_in(folder).unwrap(),
        };
        fs::create_dir(bed.folder.path().join("project")).unwrap();
        bed.write("hand.loom", loom);
        bed
    }

    pub fn root(&self) -> PathBuf {
        self.folder.path().join("project")
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.root().join(name)
    }

    pub fn write(&self, name: &str, text: &str) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name))
            .unwrap_or_else(|error| panic!("{name}: {error}\n{}", tree(&self.root())))
    }

    pub fn exists(&self, name: &str) -> bool {
        self.path(name).symlink_metadata().is_ok()
    }

    pub fn remove(&self, name: &str) {
        fs::remove_file(self.path(name)).unwrap();
    }

    /// A command of the program, in the project's folder, with an environment of its own.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_handloom"));
        command
            .args(arguments)
            .current_dir(self.root())
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("HOME", self.folder.path().join("home"))
            .env("LC_ALL", "C.UTF-8")
            .stdin(Stdio::null());
        command
    }

    /// Runs the program.
    #[must_use = "a run is only worth something when it is looked at"]
    pub fn run(&self, arguments: &[&str]) -> Run {
        self.finish(self.command(arguments), arguments)
    }

    /// Runs a command of [`Bed::command`].
    #[must_use = "a run is only worth something when it is looked at"]
    pub fn finish(&self, mut command: Command, arguments: &[&str]) -> Run {
        let output = command.output().unwrap();
        Run {
            status: output.status.code(),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
            events: Vec::new(),
            command: format!("handloom {}", arguments.join(" ")),
            tree: tree(&self.root()),
        }
    }

    /// Weaves, with what happened read back from the events.
    #[must_use = "a run is only worth something when it is looked at"]
    pub fn weave(&self, arguments: &[&str]) -> Run {
        let file = self.folder.path().join("events");
        let file = file.to_str().unwrap();
        let mut all = vec!["--events", file];
        all.extend(arguments);
        let _ = fs::remove_file(file);
        let mut run = self.run(&all);
        run.read_events(Path::new(file));
        run
    }
}

impl Run {
    pub fn read_events(&mut self, file: &Path) {
        let text = fs::read_to_string(file).unwrap_or_default();
        self.events = text
            .lines()
            .map(|line| serde_json::from_str(line).unwrap())
            .collect();
    }

    /// The status must be this.
    #[track_caller]
    pub fn status(self, status: i32) -> Self {
        assert_eq!(self.status, Some(status), "{}", self.shown());
        self
    }

    /// Exactly these steps ended so, for these reasons, in any order: `out/a made never-made`.
    #[track_caller]
    pub fn ended(self, expected: &[&str]) -> Self {
        let mut found: Vec<String> = self
            .events
            .iter()
            .filter(|event| event["event"] == "ended")
            .map(|event| brief(event, "ending"))
            .collect();
        found.sort();
        let mut expected: Vec<&str> = expected.to_vec();
        expected.sort_unstable();
        assert_eq!(found, expected, "{}", self.shown());
        self.events_agree();
        self
    }

    /// Each job that ended also began, with the same reasons, and the summary counts them.
    #[track_caller]
    fn events_agree(&self) {
        let of = |kind: &str| -> Vec<&Value> {
            self.events
                .iter()
                .filter(|event| event["event"] == kind)
                .collect()
        };
        for ended in of("ended") {
            if ended["ending"] == "held" {
                continue;
            }
            let began = of("began")
                .into_iter()
                .find(|began| began["step"] == ended["step"]);
            assert_eq!(
                began.map(|began| &began["reasons"]),
                Some(&ended["reasons"]),
                "{}",
                self.shown()
            );
        }
        let summary = of("summary");
        assert_eq!(summary.len(), 1, "{}", self.shown());
        for ending in ["made", "same", "restored", "failed", "held", "stopped"] {
            let count = of("ended")
                .iter()
                .filter(|event| event["ending"] == ending)
                .count();
            assert_eq!(summary[0][ending], count, "{ending}: {}", self.shown());
        }
    }

    /// So many steps were kept.
    #[track_caller]
    pub fn kept(self, count: usize) -> Self {
        let summary = self.events.iter().find(|event| event["event"] == "summary");
        assert_eq!(
            summary.map(|summary| &summary["kept"]),
            Some(&Value::from(count)),
            "{}",
            self.shown()
        );
        self
    }

    /// Nothing ran, and so many steps were kept.
    #[track_caller]
    pub fn all_kept(self, count: usize) -> Self {
        self.status(0).ended(&[]).kept(count)
    }

    /// The order in which jobs began.
    pub fn began(&self) -> Vec<&str> {
        self.events
            .iter()
            .filter(|event| event["event"] == "began")
            .map(|event| event["step"].as_str().unwrap())
            .collect()
    }

    /// Standard output and standard error hold these texts.
    #[track_caller]
    pub fn says(self, texts: &[&str]) -> Self {
        for text in texts {
            assert!(
                self.out.contains(text) || self.err.contains(text),
                "`{text}` is not said\n{}",
                self.shown()
            );
        }
        self
    }

    /// Neither stream holds this text.
    #[track_caller]
    pub fn says_not(self, text: &str) -> Self {
        assert!(
            !self.out.contains(text) && !self.err.contains(text),
            "`{text}` is said\n{}",
            self.shown()
        );
        self
    }

    pub fn shown(&self) -> String {
        let events: String = self
            .events
            .iter()
            .map(|event| format!("{event}\n"))
            .collect();
        format!(
            "command: {}\nstatus: {:?}\n--- out\n{}--- err\n{}--- events\n{events}--- files\n{}",
            self.command, self.status, self.out, self.err, self.tree
        )
    }
}

/// A step with what became or would become of it, and why: `out/a made never-made`.
pub fn brief(step: &Value, what: &str) -> String {
    let reasons: Vec<&str> = step["reasons"]
        .as_array()
        .unwrap()
        .iter()
        .map(|reason| reason.as_str().unwrap())
        .collect();
    let words = [&step["step"], &step[what]].map(|word| word.as_str().unwrap());
    let line = format!("{} {}", words.join(" "), reasons.join(","));
    line.trim_end().to_owned()
}

/// The files below a folder, without Hand Loom's own.
pub fn tree(folder: &Path) -> String {
    let mut out = String::new();
    let mut names: Vec<PathBuf> = fs::read_dir(folder)
        .map(|entries| entries.map(|entry| entry.unwrap().path()).collect())
        .unwrap_or_default();
    names.sort();
    for path in names {
        if path.ends_with(".handloom") {
            continue;
        }
        if path.is_dir() {
            for line in tree(&path).lines() {
                let _ = writeln!(
                    out,
                    "{}/{line}",
                    path.file_name().unwrap().to_string_lossy()
                );
            }
        } else {
            let _ = writeln!(out, "{}", path.file_name().unwrap().to_string_lossy());
        }
    }
    out
}

/// Compares a text with the one that was looked at; `HANDLOOM_GOLDEN=write` writes it anew.
#[track_caller]
pub fn golden(name: &str, text: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("tests/golden")
        .join(name);
    if std::env::var_os("HANDLOOM_GOLDEN").is_some_and(|value| value == "write") {
        fs::write(&path, text).unwrap();
    }
    let expected = fs::read_to_string(&path).unwrap_or_default();
    assert!(
        expected == text,
        "{name} is not as it was looked at; HANDLOOM_GOLDEN=write writes it anew. Now:\n{text}"
    );
}
