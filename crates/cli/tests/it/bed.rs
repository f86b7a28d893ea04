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
    /// The store that results are kept in, when there is one.
    store: Option<PathBuf>,
    /// The folder that is shared with others.
    shared: Option<PathBuf>,
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
            store: None,
            shared: None,
        };
        fs::create_dir(bed.folder.path().join("project")).unwrap();
        bed.write("hand.loom", loom);
        bed
    }

    /// With a store of its own, in which everything is kept.
    pub fn with_store(self) -> Self {
        let store = self.folder.path().join("store");
        self.with_store_at(store)
    }

    /// With a store that others may have as well.
    pub fn with_store_at(mut self, store: PathBuf) -> Self {
        self.store = Some(store);
        self
    }

    /// With a shared store behind its own: a folder.
    pub fn sharing(mut self, folder: PathBuf) -> Self {
        self.shared = Some(folder);
        self
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

    /// Makes a link.
    pub fn link(&self, to: &str, name: &str) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::os::unix::fs::symlink(to, path).unwrap();
    }

    /// What a link says.
    pub fn says_link(&self, name: &str) -> String {
        let to = fs::read_link(self.path(name)).unwrap();
        to.to_str().unwrap().to_owned()
    }

    /// Whether it may be run.
    pub fn set_mode(&self, name: &str, mode: u32) {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(self.path(name), fs::Permissions::from_mode(mode)).unwrap();
    }

    /// The same command for a user without rights, who can enter the project; none where this one has none to
    /// give up.
    pub fn as_nobody(&self, command: &mut Command) -> Option<Command> {
        use std::os::unix::process::CommandExt;
        let give = "chmod 755 \"$1\" && chown -R 65534:65534 \"$1/project\" && mkdir -p \"$1/nobody\" && chown 65534 \"$1/nobody\"";
        let given = Command::new("sh")
            .args(["-c", give, "sh"])
            .arg(self.folder.path())
            .stderr(Stdio::null())
            .status();
        if !given.is_ok_and(|status| status.success()) {
            return None;
        }
        let mut other = Command::new(command.get_program());
        other
            .args(command.get_args())
            .current_dir(self.root())
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("HOME", self.folder.path().join("nobody"))
            .env("HANDLOOM_STORE_LEAST", "1h")
            .stdin(Stdio::null())
            .uid(65534)
            .gid(65534);
        Some(other)
    }

    /// Starts the program in the background.
    pub fn start(&self, arguments: &[&str]) -> std::process::Child {
        let mut command = self.command(arguments);
        let said = fs::File::create(self.path("../said")).unwrap();
        command
            .stdout(said.try_clone().unwrap())
            .stderr(said)
            .spawn()
            .unwrap()
    }

    /// Waits until a file is there and holds something.
    #[track_caller]
    pub fn await_file(&self, name: &str) {
        let start = std::time::Instant::now();
        while !fs::metadata(self.path(name)).is_ok_and(|file| file.len() > 0) {
            assert!(
                start.elapsed().as_secs() < 120,
                "{name} does not come\n{}--- said\n{}",
                tree(&self.root()),
                fs::read_to_string(self.path("../said")).unwrap_or_default()
            );
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
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
        // Where the Rust that a project is built with was installed, when that is below the home of who tests.
        let rustup = std::env::var_os("RUSTUP_HOME").map(PathBuf::from);
        let rustup = rustup.or_else(|| Some(std::env::home_dir()?.join(".rustup")));
        if let Some(rustup) = rustup.filter(|folder| folder.is_dir()) {
            command.env("RUSTUP_HOME", rustup);
        }
        if let Some(shared) = &self.shared {
            let address = format!("file://{}", shared.display());
            command
                .env("HANDLOOM_STORE_SHARED", address)
                .env("HANDLOOM_STORE_SHARE", "true");
        }
        match &self.store {
            Some(store) => command
                .env("HANDLOOM_STORE_FOLDER", store)
                .env("HANDLOOM_STORE_LEAST", "0s"),
            // What comes from there depends on how long recipes took.
            None => command.env("HANDLOOM_STORE_USE", "never"),
        };
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
            if ended["ending"] == "held" || ended["ending"] == "restored" {
                continue;
            }
            // A step may run twice: what it read in the wrong order is read once more.
            let began = of("began").into_iter().any(|began| {
                began["step"] == ended["step"] && began["reasons"] == ended["reasons"]
            });
            assert!(began, "{ended}\n{}", self.shown());
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

/// A text without how long ago things were, and how long they took.
pub fn without_times(text: &str) -> String {
    let text = text.replace("just now", "0s ago");
    let is_time = |word: &str| {
        let word = word.trim_end();
        word.starts_with(|c: char| c.is_ascii_digit()) && word.ends_with(['s', 'm', 'h'])
    };
    let mut words: Vec<&str> = text
        .split(' ')
        .map(|word| if is_time(word) { "TIME" } else { word })
        .collect();
    words.dedup_by(|one, other| *one == "TIME" && *other == "TIME");
    words.join(" ")
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
        if path.is_dir() && !path.is_symlink() {
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
