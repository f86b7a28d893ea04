//! What the store costs and saves, as ratios in one run. `cargo bench -p handloom --bench stored [NAME…]`; the program that is
//! measured is the one that was built with it.
//!
//! - `almanac`: the demonstration to debug and back, each restored step beyond a run with nothing to do
//! - `branch`: the same for 300 C units and a header of which a branch has another version
//! - `clean`: 2,000 steps of 20 ms, made and then taken from the store
//! - `keeping`: steps of 100 ms with and without a store, and steps that are too short to be kept
//! - `fetching`: 1,000 objects of 10 kB from nginx
//! - `hanging`: a server that does not answer
//!
//! Each checks what ran from the events before it tells a time.

#![expect(clippy::print_stdout, reason = "a bench tells what it measured")]
#![expect(clippy::unwrap_used, reason = "a bench that cannot go on fails")]

use std::fmt::Write;
use std::fs;
use std::net::TcpListener;
use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

/// A project in a folder of its own, with a store.
struct Bench {
    folder: tempfile::TempDir,
    env: Vec<(&'static str, String)>,
}

/// A run: how long the whole process took, and how many steps came to each ending.
struct Timed {
    took: Duration,
    summary: serde_json::Value,
}

impl Timed {
    fn count(&self, ending: &str) -> u64 {
        self.summary[ending].as_u64().unwrap()
    }
}

impl Bench {
    fn new() -> Self {
        let bench = Self {
            folder: tempfile::tempdir().unwrap(),
            env: Vec::new(),
        };
        fs::create_dir(bench.root()).unwrap();
        bench
    }

    fn root(&self) -> PathBuf {
        self.folder.path().join("project")
    }

    fn write(&self, name: &str, text: &str) {
        let path = self.root().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_handloom"));
        command
            .args(arguments)
            .current_dir(self.root())
            .env("HOME", self.folder.path())
            .env("HANDLOOM_STORE_FOLDER", self.folder.path().join("store"))
            .stdin(Stdio::null())
            .stdout(Stdio::null());
        for (name, value) in &self.env {
            command.env(name, value);
        }
        command
    }

    fn run(&self, arguments: &[&str]) -> Timed {
        let events = self.folder.path().join("events");
        let mut all = vec!["-q", "--events", events.to_str().unwrap()];
        all.extend(arguments);
        let began = Instant::now();
        let status = self.command(&all).status().unwrap();
        let took = began.elapsed();
        assert!(status.success(), "{arguments:?}");
        let text = fs::read_to_string(&events).unwrap();
        let summary = serde_json::from_str(text.lines().next_back().unwrap()).unwrap();
        Timed { took, summary }
    }

    /// Files that were just written are looked at once more within a second. And ext4 does not give a new file the number
    /// of one that was deleted within the last five: where hundreds are, each new file takes it longer to find one.
    fn settle(&self, arguments: &[&str]) {
        std::thread::sleep(Duration::from_millis(6500));
        self.run(arguments);
    }

    fn clean(&self) {
        assert!(self.command(&["clean", "-y"]).status().unwrap().success());
    }
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn ratio(of: Duration, to: Duration) -> f64 {
    of.as_secs_f64() / to.as_secs_f64()
}

/// Goes to and fro, and tells what each restored step takes beyond a run with nothing to do.
fn to_and_fro(name: &str, bench: &Bench, mut go: impl FnMut(usize) -> Timed) {
    let mut beyond = Vec::new();
    let mut restored = 0;
    for turn in 0..6 {
        let run = go(turn);
        let debug: &[&str] = &["--let", "mode=debug"];
        let now = if turn % 2 == 0 { debug } else { &[] };
        bench.settle(now);
        assert_eq!(
            run.count("made") + run.count("same"),
            0,
            "{name}: nothing runs"
        );
        restored = run.count("restored");
        assert!(restored > 0, "{name}");
        let nothing = (0..3).map(|_| bench.run(now));
        let nothing: Vec<Timed> = nothing.collect();
        assert!(
            nothing.iter().all(|run| run.count("restored") == 0),
            "{name}"
        );
        let nothing = median(nothing.iter().map(|run| run.took).collect());
        beyond.push(run.took.saturating_sub(nothing) / u32::try_from(restored).unwrap());
    }
    println!(
        "{name}: {restored} restored, nothing runs; {:?} a restored step beyond a run with nothing to do",
        median(beyond)
    );
}

fn almanac() {
    let bench = Bench::new();
    fs::remove_dir(bench.root()).unwrap();
    let demo = Command::new(env!("CARGO_BIN_EXE_handloom"))
        .args(["demo", "-q"])
        .arg(bench.root())
        .env("HOME", bench.folder.path())
        .env("HANDLOOM_STORE_FOLDER", bench.folder.path().join("store"))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    assert!(demo.unwrap().success());
    bench.run(&["--let", "mode=debug"]);
    bench.run(&[]);
    bench.settle(&[]);
    to_and_fro("almanac", &bench, |turn| {
        bench.run(if turn % 2 == 0 {
            &["--let", "mode=debug"]
        } else {
            &[]
        })
    });
}

/// 300 C units, each with a function of its own and a header that all share; a branch has another version of it.
fn branch() {
    let mut bench = Bench::new();
    bench.env.push(("HANDLOOM_STORE_LEAST", "0s".to_owned()));
    bench.write(
        "hand.loom",
        "let mode one of release debug\ntarget out/<unit>.o\n  needs each src/<unit>.c\n  learn\n  recipe: cc -O1 -MMD -MF @{learn} -c @{needs} -o @{target}\ntarget out/lights\n  needs out/*.o\n  recipe: cc @{needs} -o @{target}\n",
    );
    let header = |version: u32| {
        format!("#pragma once\nstatic inline int lamp(int x) {{ return x + {version}; }}\n")
    };
    bench.write("src/lamp.h", &header(1));
    for unit in 0..300 {
        let mut text = format!(
            "#include \"lamp.h\"\n#include <stdio.h>\nint light{unit}(int x) {{ return lamp(x) * {unit}; }}\n"
        );
        if unit == 0 {
            text.push_str("int main(void) { printf(\"%d\\n\", light0(1)); return 0; }\n");
        }
        bench.write(&format!("src/{unit}.c"), &text);
    }
    let cold = bench.run(&[]);
    bench.write("src/lamp.h", &header(2));
    bench.run(&[]);
    let mut last = Duration::ZERO;
    let mut beyond = Vec::new();
    for turn in 0..6 {
        bench.write("src/lamp.h", &header(1 + turn % 2));
        let run = bench.run(&[]);
        assert_eq!((run.count("made"), run.count("restored")), (0, 301));
        bench.settle(&[]);
        let nothing = median((0..3).map(|_| bench.run(&[]).took).collect());
        beyond.push(run.took.saturating_sub(nothing) / 301);
        last = run.took;
    }
    println!(
        "branch: 301 restored, nothing runs; {:?} a restored step beyond a run with nothing to do; {:.3} of the cold run",
        median(beyond),
        ratio(last, cold.took)
    );
}

fn clean() {
    let mut bench = Bench::new();
    bench.env.push(("HANDLOOM_STORE_LEAST", "0s".to_owned()));
    bench.write(
        "hand.loom",
        "target out/<n>\n  needs each src/<n>\n  recipe: sleep 0.02; cat @{needs} > @{target}\n",
    );
    for step in 0..2000 {
        bench.write(&format!("src/{step}"), &format!("{step}\n"));
    }
    let cold = bench.run(&[]);
    let mut warm = Vec::new();
    for _ in 0..3 {
        bench.clean();
        let run = bench.run(&[]);
        assert_eq!(run.count("restored"), 2000);
        warm.push(run.took);
    }
    let warm = median(warm);
    println!(
        "clean: 2000 steps of 20 ms, made in {:.1} s, restored in {:.3} s: {:.3}",
        cold.took.as_secs_f64(),
        warm.as_secs_f64(),
        ratio(warm, cold.took)
    );
}

fn keeping() {
    for (name, recipe, count, kept) in [
        (
            "100 ms",
            "i=0; while [ $i -lt 60000 ]; do i=$((i+1)); done; cat @{needs} > @{target}",
            60,
            true,
        ),
        ("below store.least", "cat @{needs} > @{target}", 1000, false),
    ] {
        let bench = Bench::new();
        bench.write(
            "hand.loom",
            &format!("target out/<n>\n  needs each src/<n>\n  recipe: {recipe}\n"),
        );
        for step in 0..count {
            bench.write(&format!("src/{step}"), &format!("{step}\n"));
        }
        let mut ratios = Vec::new();
        for _ in 0..9 {
            let mut times = [Duration::ZERO; 2];
            for (at, arguments) in [&["--no-store"][..], &[]].into_iter().enumerate() {
                let _ = fs::remove_dir_all(bench.root().join("out"));
                let _ = fs::remove_dir_all(bench.root().join(".handloom"));
                let _ = fs::remove_dir_all(bench.folder.path().join("store"));
                let run = bench.run(arguments);
                assert_eq!(run.count("made"), count);
                times[at] = run.took;
            }
            let is_kept = bench.folder.path().join("store/1/results").is_dir();
            assert_eq!(is_kept, kept, "{name}");
            ratios.push(ratio(times[1], times[0]));
        }
        ratios.sort_by(f64::total_cmp);
        println!(
            "keeping: {count} steps, {name}, with a store {:.3} times without (median of 9, {:.3} to {:.3})",
            ratios[4], ratios[0], ratios[8]
        );
    }
}

/// The program's own way: steps whose results are in a store that nginx gives out, and nowhere else.
fn fetching() {
    let installed = Command::new("nginx")
        .arg("-v")
        .stderr(Stdio::null())
        .status();
    if installed.is_err() {
        println!("fetching: nginx is not installed");
        return;
    }
    let mut bench = Bench::new();
    bench.env.push(("HANDLOOM_STORE_LEAST", "0s".to_owned()));
    let at = bench.folder.path().display().to_string();
    let port = TcpListener::bind("127.0.0.1:0")
        .unwrap()
        .local_addr()
        .unwrap()
        .port();
    let config = format!(
        "daemon off; master_process off; pid {at}/pid; error_log {at}/errors; events {{}}
http {{ access_log off; client_body_temp_path {at}; proxy_temp_path {at}; fastcgi_temp_path {at}; uwsgi_temp_path {at}; scgi_temp_path {at}; keepalive_requests 1000000;
  server {{ listen 127.0.0.1:{port}; root {at}/shared; }} }}
"
    );
    fs::write(bench.folder.path().join("nginx.conf"), config).unwrap();
    let mut loom = String::new();
    let _ = write!(
        loom,
        "target out/<n>\n  needs each src/<n>\n  recipe: cat @{{needs}} > @{{target}}\n"
    );
    bench.write("hand.loom", &loom);
    let mut state = 1u64;
    for step in 0..1000 {
        let mut text = String::new();
        while text.len() < 10_000 {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1);
            let _ = write!(text, "{state:x}");
        }
        bench.write(&format!("src/{step}"), &text);
    }
    bench
        .env
        .push(("HANDLOOM_STORE_SHARED", format!("file://{at}/shared")));
    bench.env.push(("HANDLOOM_STORE_SHARE", "true".to_owned()));
    bench.env.push(("HANDLOOM_STORE_WAIT", "5m".to_owned()));
    bench.run(&[]);
    Command::new("chmod")
        .args(["-R", "a+rX", &at])
        .status()
        .unwrap();
    let mut server = Command::new("nginx")
        .args(["-p", &at, "-c", "nginx.conf"])
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(500));
    bench
        .env
        .retain(|(name, _)| !name.starts_with("HANDLOOM_STORE_SHARE"));
    let local = |bench: &Bench| {
        bench.clean();
        bench.run(&[])
    };
    let restored = median((0..3).map(|_| local(&bench).took).collect());
    bench
        .env
        .push(("HANDLOOM_STORE_SHARED", format!("http://127.0.0.1:{port}")));
    let mut times = Vec::new();
    for _ in 0..5 {
        fs::remove_dir_all(bench.folder.path().join("store")).unwrap();
        let run = local(&bench);
        assert_eq!(run.count("restored"), 1000);
        times.push(run.took);
    }
    let _ = server.kill();
    let _ = server.wait();
    let whole = median(times);
    let fetched = whole.saturating_sub(restored).as_secs_f64();
    println!(
        "fetching: 1000 results of 10 kB from nginx: 3000 objects in {fetched:.2} s beyond taking them from the local store, {:.0} a second; the whole run {:.2} s",
        3000.0 / fetched,
        whole.as_secs_f64()
    );
}

fn hanging() {
    let mut bench = Bench::new();
    bench.write(
        "hand.loom",
        "target out/<n>\n  needs each src/<n>\n  recipe: cat @{needs} > @{target}\n",
    );
    for step in 0..200 {
        bench.write(&format!("src/{step}"), &format!("{step}\n"));
    }
    let plain = bench.run(&[]);
    // It takes connections, and never says a word.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = silent.local_addr().unwrap().port();
    bench
        .env
        .push(("HANDLOOM_STORE_SHARED", format!("http://127.0.0.1:{port}")));
    bench.env.push(("HANDLOOM_STORE_SHARE", "true".to_owned()));
    bench.clean();
    let hung = bench.run(&[]);
    println!(
        "hanging: {:.2} s more than without a shared store",
        (hung.took.saturating_sub(plain.took)).as_secs_f64()
    );
}

fn main() {
    let asked: Vec<String> = std::env::args()
        .skip(1)
        .filter(|word| !word.starts_with('-'))
        .collect();
    let all: [(&str, fn()); 6] = [
        ("almanac", almanac),
        ("branch", branch),
        ("clean", clean),
        ("keeping", keeping),
        ("fetching", fetching),
        ("hanging", hanging),
    ];
    for (name, bench) in all {
        if asked.is_empty() || asked.iter().any(|word| word == name) {
            bench();
        }
    }
}
