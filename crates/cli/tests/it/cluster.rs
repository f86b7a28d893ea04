//! Jobs on real clusters, as `tools/cluster` starts them on this machine: Slurm with two nodes of two cores, and Grid Engine with
//! one host of four slots.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use rustix::process::Pid;
use rustix::process::Signal;

use crate::bed::Bed;
use crate::bed::Run;
use crate::screen::wait_for;
use crate::screen::wait_for_long;

/// A cluster that runs until this is dropped.
struct Cluster {
    folder: tempfile::TempDir,
    /// What its own commands find it by.
    env: Vec<(String, String)>,
    /// What lists its queue, nothing when that is empty.
    list: &'static [&'static str],
}

impl Cluster {
    /// None where the scheduler is not installed, and nobody requires it.
    fn slurm() -> Option<Self> {
        let is_there = |program: &str| Command::new(program).arg("-V").output().is_ok();
        let is_installed = ["slurmctld", "slurmd", "sbatch", "munged"]
            .into_iter()
            .all(is_there);
        let is_wanted = is_installed || std::env::var_os("HANDLOOM_CLUSTER").is_some();
        let up = is_wanted.then(|| Self::up("slurm", &["squeue", "--noheader"]));
        up.map(|up| up.unwrap_or_else(|error| panic!("{error}")))
    }

    /// None where the scheduler is not installed or does not start, and nobody requires it.
    #[expect(clippy::print_stderr, reason = "a test that lacks something says so")]
    fn grid_engine() -> Option<Self> {
        let is_installed = Path::new("/usr/lib/gridengine/sge_qmaster").exists();
        let is_required = std::env::var_os("HANDLOOM_GRID_ENGINE").is_some();
        if !is_installed && !is_required {
            return None;
        }
        match Self::up("gridengine", &["qstat"]) {
            Ok(up) => Some(up),
            Err(error) if is_required => panic!("{error}"),
            Err(error) => {
                eprintln!("Grid Engine does not start here: {error}");
                None
            }
        }
    }

    fn up(kind: &str, list: &'static [&'static str]) -> Result<Self, String> {
        let mut cluster = Self {
            folder: tempfile::tempdir().unwrap(),
            env: Vec::new(),
            list,
        };
        let output = cluster.tool("up").arg(kind).output().unwrap();
        if !output.status.success() {
            return Err(String::from_utf8_lossy(&output.stderr).into_owned());
        }
        let output = Command::new("sh")
            .args(["-c", ". \"$1\"; env", "sh"])
            .arg(cluster.folder.path().join("env"))
            .output()
            .unwrap();
        let set = String::from_utf8(output.stdout).unwrap();
        let set = set.lines().filter_map(|line| line.split_once('='));
        let own = set.filter(|(name, _)| name.starts_with("S"));
        cluster.env = own
            .filter(|(name, _)| name.starts_with("SLURM_") || name.starts_with("SGE_"))
            .map(|(name, value)| (name.to_owned(), value.to_owned()))
            .collect();
        Ok(cluster)
    }

    fn tool(&self, what: &str) -> Command {
        let tool = concat!(env!("CARGO_MANIFEST_DIR"), "/../../tools/cluster");
        let mut command = Command::new(tool);
        command.arg(what).arg(self.folder.path());
        command
    }

    /// What one of the scheduler's commands prints.
    fn asks(&self, words: &[&str]) -> String {
        let output = Command::new(words[0])
            .args(&words[1..])
            .envs(self.env.iter().map(|(name, value)| (name, value)))
            .output()
            .unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    fn is_idle(&self) -> bool {
        self.asks(self.list).trim().is_empty()
    }

    fn command(&self, bed: &Bed, words: &[&str]) -> Command {
        let mut all = vec!["--on", "cluster"];
        all.extend(words);
        let mut command = bed.command(&all);
        command.env("XDG_CONFIG_HOME", self.folder.path());
        command.envs(self.env.iter().map(|(name, value)| (name, value)));
        command
    }

    fn run(&self, bed: &Bed, words: &[&str]) -> Run {
        bed.finish(self.command(bed, words), words)
    }

    /// With other settings for as long as `then` takes.
    fn with_settings(&self, from: &str, to: &str, then: impl FnOnce()) {
        let path = self.folder.path().join("handloom/settings.toml");
        let before = fs::read_to_string(&path).unwrap();
        assert!(before.contains(from), "{before}");
        fs::write(&path, before.replace(from, to)).unwrap();
        then();
        fs::write(&path, before).unwrap();
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        let _ = self.tool("down").status();
    }
}

const KINDS: &str = r#"target exit
  recipe: echo bad on ${SLURMD_NODENAME:-$HOSTNAME}; exit 3
target signal
  recipe: kill -SEGV $$
target late
  limit 1s
  recipe: sleep 20
target memory
  recipe with python3:
    x = bytearray(900 * 1000 * 1000)
    import time; time.sleep(8)
target sealed
  needs hand.loom
  sealed
  recipe: test ! -e exit && cp hand.loom sealed
target seen
  learn watched
  recipe: cat in.txt > seen
target once
  recipe:
    echo $SLURM_JOB_ID > job; echo partial > once
    if [ -e again ]; then echo whole > once; else touch again; sleep 30; fi
target tried
  retry 1
  recipe:
    echo try >> tries; n=$(wc -l < tries)
    if [ $n = 1 ]; then exit 1; fi
    if [ $n = 2 ]; then echo $SLURM_JOB_ID > job; sleep 30; fi
    echo whole > tried
target stubborn
  recipe: trap '' TERM; touch begun; sleep 41.7; touch stubborn
target private
  recipe: env | grep -c HANDLOOM_WORKER > private || true
target facts
  let what = "a 'word'"
  env SAID = @{what}
  recipe: grep -c '"targets"' "$HANDLOOM_JOB" > facts; echo "$SAID" $HANDLOOM_CORES >> facts
task talk
  terminal
  recipe: echo talked on ${SLURMD_NODENAME:-this machine}
"#;

/// All that a job can come to is told as it is here.
fn ends_are_told_apart(cluster: &Cluster) {
    let bed = Bed::new(KINDS);
    bed.write("in.txt", "seen\n");
    for (target, status, says) in [
        ("exit", 1, &["exit status 3", "bad on n"][..]),
        ("signal", 1, &["ended by signal 11"]),
        ("late", 1, &["ran longer than its limit of 1.00s"]),
        (
            "memory",
            1,
            &["was lost: its jobs held more memory than it was given"],
        ),
        ("sealed", 0, &["made  sealed"]),
        ("seen", 0, &["in.txt"]),
        ("facts", 0, &["made  facts"]),
        ("private", 0, &["made  private"]),
        ("talk", 0, &["talked on this machine"]),
    ] {
        cluster.run(&bed, &[target]).status(status).says(says);
    }
    assert_eq!(bed.read("private"), "0\n", "a worker's token is its own");
    assert_eq!(bed.read("facts"), "1\na 'word' 1\n");
    cluster
        .run(&bed, &["seen", "sealed", "facts"])
        .status(0)
        .says(&["3 kept in"]);
    bed.write("in.txt", "other\n");
    cluster
        .run(&bed, &["seen"])
        .status(0)
        .says(&["in.txt, which it learned of, differs"]);
    wait_for("an empty queue", || cluster.is_idle());
}

/// Where a job ran is told, in the events, in the history and in the report.
fn nodes_are_told(cluster: &Cluster) {
    let bed = Bed::new("");
    let mut command = bed.command(&["settings"]);
    command.env("XDG_CONFIG_HOME", cluster.folder.path());
    bed.finish(command, &["settings"])
        .status(0)
        .says(&["place.cluster", "2 x 2 cores"]);
    let bed = Bed::new(
        "target out/<n>\n  each n in 1 2 3 4 5 6 7 8\n  recipe: echo $SLURMD_NODENAME; sleep 0.2; touch @{target}\n",
    );
    let events = bed.path("events");
    let mut run = cluster
        .run(&bed, &["--events", events.to_str().unwrap()])
        .status(0);
    run.read_events(&events);
    let ended = run.events.iter().filter(|event| event["event"] == "ended");
    let nodes: std::collections::BTreeSet<&str> =
        ended.map(|event| event["node"].as_str().unwrap()).collect();
    assert_eq!(
        nodes.into_iter().collect::<Vec<_>>(),
        ["n1", "n2"],
        "{}",
        run.shown()
    );
    bed.run(&["history", "out/1"]).status(0).says(&[" · on n"]);
    bed.run(&["report"]).status(0).says(&[" · on n"]);
}

/// Small steps, and large ones at a place.
const MIXED: &str = "let where = cluster
target small/<n>
  each n in 1 2 3 4
  recipe: echo small on ${SLURMD_NODENAME:-here}; touch @{target}
target big/<n>
  each n in 1 2 3 4
  needs small/1
  on @{where}
  takes cores=2 memory=400M
  recipe: echo big on ${SLURMD_NODENAME:-here} with @{cores}; touch @{target}
target all
  needs big/* small/*
  recipe: touch @{target}
";

/// What names a place runs there, the rest here; where it runs is no reason to run again.
fn small_steps_stay_here(cluster: &Cluster) {
    let bed = Bed::new(MIXED);
    let run_with = |words: &[&str], configured: bool| {
        let mut command = bed.command(words);
        if configured {
            command.env("XDG_CONFIG_HOME", cluster.folder.path());
        }
        bed.finish(command, words)
    };
    let run = run_with(&["-j1"], true).status(0);
    let count = |run: &Run, what: &str| run.out.matches(what).count();
    assert_eq!(count(&run, "small on here"), 4, "{}", run.shown());
    assert_eq!(
        count(&run, "big on n1 with 2") + count(&run, "big on n2 with 2"),
        4,
        "{}",
        run.shown()
    );
    run_with(&["--on", "here"], true)
        .status(0)
        .says(&["9 kept in"]);
    run_with(&["--on", "cluster"], true)
        .status(0)
        .says(&["9 kept in"]);
    bed.run(&["clean", "--yes"]).status(0);
    let run = run_with(&["--on", "here"], false).status(0);
    assert_eq!(count(&run, "big on here with 2"), 4, "{}", run.shown());
    bed.run(&["clean", "--yes"]).status(0);
    let says = [
        "there is no place `cluster` in the settings",
        "hand.loom:8:6",
        "`--on here` runs all of it",
    ];
    run_with(&[], false).status(2).says(&says);
    // What needs no place is not kept from running.
    run_with(&["small/2"], false).status(0).says(&["1 made in"]);
    wait_for("an empty queue", || cluster.is_idle());
}

/// A worker that the scheduler takes away is no fault of its jobs.
fn a_lost_worker_is_replaced(cluster: &Cluster) {
    let bed = Bed::new(KINDS);
    let running = cluster.command(&bed, &["once"]).spawn().unwrap();
    bed.await_file("job");
    cluster.asks(&["scancel", bed.read("job").trim()]);
    let status = { running }.wait().unwrap();
    assert!(status.success());
    assert_eq!(bed.read("once"), "whole\n");
    // Nor is it one of the tries that a recipe may have.
    let bed = Bed::new(KINDS);
    let mut running = cluster.command(&bed, &["tried"]).spawn().unwrap();
    bed.await_file("job");
    cluster.asks(&["scancel", bed.read("job").trim()]);
    assert!(running.wait().unwrap().success());
    assert_eq!(bed.read("tried"), "whole\n");
    assert_eq!(bed.read("tries").lines().count(), 3);
    wait_for("an empty queue", || cluster.is_idle());
}

/// What runs in a folder or below it.
fn processes_in(folder: &Path) -> Vec<String> {
    let folder = folder.canonicalize().unwrap();
    let processes = fs::read_dir("/proc").unwrap();
    let processes = processes.filter_map(|entry| {
        let process = entry.unwrap().path();
        let at = fs::read_link(process.join("cwd")).ok()?;
        let words = fs::read_to_string(process.join("cmdline")).ok()?;
        at.starts_with(&folder)
            .then(|| words.replace('\0', " ").trim().to_owned())
    });
    processes.collect()
}

/// Whoever ends a run leaves nothing behind, by whichever way.
fn nothing_is_left(cluster: &Cluster) {
    for signal in [Signal::INT, Signal::KILL] {
        let bed = Bed::new(KINDS);
        let mut running = cluster.command(&bed, &["stubborn"]).spawn().unwrap();
        wait_for("the job", || bed.exists("begun"));
        assert!(!processes_in(&bed.root()).is_empty(), "they are found");
        rustix::process::kill_process(Pid::from_child(&running), signal).unwrap();
        running.wait().unwrap();
        wait_for("an empty queue", || cluster.is_idle());
        assert!(!bed.exists("stubborn"), "it was ended");
        let left = processes_in(&bed.root());
        assert!(left.is_empty(), "{left:?}");
        cluster.run(&bed, &["sealed"]).status(0);
        let marks = fs::read_dir(bed.path(".handloom/jobs")).unwrap();
        let marks = marks.map(|entry| entry.unwrap().file_name().into_string().unwrap());
        let left: Vec<String> = marks
            .filter(|name| name.starts_with("seen-") || name.starts_with("submitted"))
            .collect();
        assert!(left.is_empty(), "{left:?}");
    }
}

/// What can't be is said, and not waited for.
fn what_never_starts_is_said(cluster: &Cluster) {
    let bed = Bed::new(KINDS);
    let fails = |says: &[&str]| {
        let _ = cluster.run(&bed, &["exit"]).status(1).says(says);
    };
    cluster.with_settings("cores = 2", "cores = 9", || {
        fails(&["no worker will ever start at `cluster`: PartitionConfig"]);
    });
    cluster.with_settings("\"10m\"", "\"9h\"", || {
        // Which of its reasons it gives first differs.
        fails(&["no worker will ever start at `cluster`: Partition"]);
    });
    cluster.with_settings("\"600M\"", "\"80G\"", || {
        fails(&["no worker can be asked for at `cluster`: sbatch: "]);
    });
    cluster.with_settings(
        "cores = 2",
        "cores = 2\nworker = \"/nowhere/handloom\"",
        || {
            fails(&[
                "workers at `cluster` end before they can be reached",
                ".handloom/jobs/worker-",
                "/nowhere/handloom",
            ]);
        },
    );
    // Where this may mount, the nodes do not see what is mounted here.
    let mounts = |command: &mut Command| command.status().is_ok_and(|status| status.success());
    if mounts(Command::new("unshare").args(["-m", "true"])) {
        let unseen = Bed::new("");
        let command = cluster.command(&unseen, &[]);
        let mut all = Command::new("unshare");
        all.args(["-m", "sh", "-ec"])
            .arg("mount -t tmpfs none . && cd \"$PWD\" && printf 'target out\\n  recipe: touch out\\n' > hand.loom && exec \"$0\" --on cluster")
            .arg(command.get_program());
        for (name, value) in command.get_envs() {
            if let Some(value) = value {
                all.env(name, value);
            }
        }
        all.current_dir(unseen.root());
        let says = ["the node n", "does not see the project in `"];
        unseen
            .finish(all, &["--on", "cluster"])
            .status(1)
            .says(&says);
    }
    wait_for("an empty queue", || cluster.is_idle());
    for (from, to, says) in [
        ("cores = 2", "cores = 0", "it is a number from 1 to 4096"),
        ("\"10m\"", "\"soon\"", "it is a time such as `30m`"),
        ("\"600M\"", "\"much\"", "it is an amount such as `4G`"),
        ("\"slurm\"", "\"other\"", "can't be understood"),
        ("[place.cluster]", "[place.here]", "has a place `here`"),
    ] {
        cluster.with_settings(from, to, || {
            let _ = cluster.run(&bed, &["exit"]).status(2).says(&[says]);
        });
    }
    let mut command = bed.command(&["--on", "clusters", "exit"]);
    command.env("XDG_CONFIG_HOME", cluster.folder.path());
    let _ = bed
        .finish(command, &["--on", "clusters"])
        .status(2)
        .says(&["did you mean `cluster`?"]);
}

/// A controller that does not answer for a while holds up what is to be submitted, and nothing else.
fn a_controller_that_is_away_is_waited_for(cluster: &Cluster) {
    let bed =
        Bed::new("target out/<n>\n  each n in 1 2 3 4 5 6\n  recipe: sleep 0.3; touch @{target}\n");
    let pid = fs::read_to_string(cluster.folder.path().join("run/slurmctld.pid")).unwrap();
    let pid = Pid::from_raw(pid.trim().parse().unwrap()).unwrap();
    let mut running = cluster.command(&bed, &[]).spawn().unwrap();
    wait_for("a first step", || bed.exists("out/1"));
    rustix::process::kill_process(pid, Signal::STOP).unwrap();
    let status = running.wait().unwrap();
    rustix::process::kill_process(pid, Signal::CONT).unwrap();
    assert!(status.success(), "workers that run go on");
    wait_for("an empty queue", || cluster.is_idle());
    // Nor is what has no worker yet: it is said, and goes on when it is back. What runs meanwhile is not given up, for however
    // long the scheduler does not answer.
    let bed = Bed::new(
        "target first
  recipe: echo begun > begun; sleep 16; touch first
target wide/<n>
  each n in 1 2 3 4
  recipe: touch @{target}
target all
  needs first wide/*
  recipe: touch all
",
    );
    let events = bed.path("events");
    let mut running = cluster.command(&bed, &["first"]).spawn().unwrap();
    bed.await_file("begun");
    rustix::process::kill_process(pid, Signal::STOP).unwrap();
    let second = Bed::new("target out\n  recipe: touch out\n");
    let mut waits = cluster.command(&second, &["--events", events.to_str().unwrap()]);
    let mut waits = waits.spawn().unwrap();
    let title = |words: &str| fs::read_to_string(&events).is_ok_and(|text| text.contains(words));
    wait_for_long("what is said of it", Duration::from_secs(60), || {
        title("the scheduler of `cluster` does not answer (")
    });
    assert!(running.wait().unwrap().success(), "its worker went on");
    rustix::process::kill_process(pid, Signal::CONT).unwrap();
    assert!(waits.wait().unwrap().success());
    assert!(title("the scheduler of `cluster` answers again"));
    assert!(second.exists("out"));
    wait_for("an empty queue", || cluster.is_idle());
}

/// What one worker does not have.
const LARGE: &str = "target three
  takes cores=3
  recipe: echo $HANDLOOM_CORES > @{target}
target nine
  takes cores=9
  recipe: touch @{target}
target roomy
  takes memory=800M cores=2
  recipe: echo $SLURM_JOB_ID > @{target}; scontrol show job $SLURM_JOB_ID >> @{target}
target long
  limit 20m
  recipe: echo $SLURM_JOB_ID > @{target}; scontrol show job $SLURM_JOB_ID >> @{target}
target small/<n>
  each n in 1 2 3 4 5
  recipe: echo $SLURM_JOB_ID > @{target}
target all
  needs roomy long small/*
  recipe: cat @{needs} > @{target}
";

/// What is larger than a worker, or is to last longer, is asked for alone with what it takes, and its worker takes nothing else.
fn what_is_large_or_long_is_submitted_on_its_own(cluster: &Cluster) {
    let bed = Bed::new(LARGE);
    cluster.run(&bed, &["all"]).status(0);
    let number = |name: &str| bed.read(name).lines().next().unwrap().to_owned();
    let small: Vec<String> = (1..=5).map(|n| number(&format!("small/{n}"))).collect();
    for (name, says) in [
        ("roomy", &["NumCPUs=2", "mem=800M", "TimeLimit=00:10:00"]),
        ("long", &["NumCPUs=1", "mem=600M", "TimeLimit=00:21:00"]),
    ] {
        let told = bed.read(name);
        assert!(says.iter().all(|words| told.contains(words)), "{told}");
        assert!(!small.contains(&number(name)), "{name} {small:?}");
    }
    assert_ne!(number("roomy"), number("long"));
    let says = ["no worker will ever start at `cluster`: PartitionConfig"];
    cluster.run(&bed, &["nine"]).status(1).says(&says);
    wait_for("an empty queue", || cluster.is_idle());
}

/// A node of which everything is gone at once: its daemon, what it started, and the job.
fn a_node_that_dies_loses_no_job(cluster: &Cluster) {
    let bed = Bed::new(
        "target out
  recipe:
    echo $SLURMD_NODENAME $SLURM_JOB_ID >> nodes; echo partial > out
    if [ $(wc -l < nodes) = 2 ]; then echo whole > out; else echo begun > begun; exec sleep 43.9; fi
",
    );
    let mut running = cluster.command(&bed, &[]).spawn().unwrap();
    bed.await_file("begun");
    let first = bed.read("nodes");
    let mut words = first.split_whitespace();
    let (node, id) = (words.next().unwrap(), words.next().unwrap());
    let pid = cluster.folder.path().join(format!("run/slurmd-{node}.pid"));
    let daemon = fs::read_to_string(pid).unwrap();
    // The step's keeper first: it would tell of the end of the others. No pattern finds the shell that it stands in.
    let all = format!(
        "pkill -9 -f 'slurmstepd: .{id}.batc[h]'; kill -9 {}; pkill -9 -f 'sleep 43[.]9'; for p in $(pgrep -f 'handloom worke[r]'); do tr '\\0' '\\n' < /proc/$p/environ | grep -qx SLURM_JOB_ID={id} && kill -9 $p; done",
        daemon.trim()
    );
    cluster.asks(&["sh", "-c", &all]);
    assert!(running.wait().unwrap().success());
    assert_eq!(bed.read("out"), "whole\n");
    let nodes = bed.read("nodes");
    let nodes: Vec<&str> = nodes
        .lines()
        .filter_map(|line| line.split_once(' '))
        .map(|(node, _)| node)
        .collect();
    assert!(nodes[0] != nodes[1], "{nodes:?}");
    cluster.asks(&["scancel", id]);
    let configuration = cluster.folder.path().join("etc/slurm.conf");
    cluster.asks(&[
        "slurmd",
        "-f",
        configuration.to_str().unwrap(),
        "-N",
        node,
        "-c",
    ]);
    wait_for("the node", || {
        let idle = cluster.asks(&["sinfo", "--noheader", "--Node", "--format=%T"]);
        idle.matches("idle").count() == 2
    });
    wait_for("an empty queue", || cluster.is_idle());
}

/// The scheduler ends a worker whose time is over; what it was at runs again.
fn the_time_of_a_worker_is_no_fault_of_its_jobs(cluster: &Cluster) {
    let bed = Bed::new(
        "target out
  recipe: echo $SLURM_JOB_ID > job; if [ -e again ]; then echo whole > out; else echo again > again; sleep 90; fi
",
    );
    let mut running = cluster.command(&bed, &[]).spawn().unwrap();
    bed.await_file("again");
    let id = bed.read("job").trim().to_owned();
    cluster.asks(&[
        "scontrol",
        "update",
        &format!("JobId={id}"),
        "EndTime=now+1",
    ]);
    assert!(running.wait().unwrap().success());
    assert_eq!(bed.read("out"), "whole\n");
    assert_ne!(bed.read("job").trim(), id);
    let said = bed.read(&format!(".handloom/jobs/worker-{id}.out"));
    assert!(said.contains("DUE TO TIME LIMIT"), "{said}");
}

/// A node whose clock is ten minutes off gives its files such times. Nothing runs for that, and nothing is kept for it.
fn clocks_that_differ_make_nothing_stale(cluster: &Cluster) {
    for off in ["10 minutes ago", "+10 minutes"] {
        let bed = Bed::new(&format!(
            "target one
  needs in
  on cluster
  recipe: cp in one; touch -d '{off}' one
target two
  needs one
  recipe: cp one two
target three
  needs two
  on cluster
  recipe: cp two three; touch -d '{off}' three
"
        ));
        let run = |words: &[&str]| {
            let mut command = bed.command(words);
            command.env("XDG_CONFIG_HOME", cluster.folder.path());
            bed.finish(command, words)
        };
        for text in ["first", "other", "third"] {
            bed.write("in", text);
            run(&["three"]).status(0).says(&["3 made in"]);
            assert_eq!(bed.read("three"), text);
            run(&["three"]).status(0).says(&["3 kept in"]);
        }
    }
}

/// A C project of 300 units with headers that it learns of, woven there and here.
fn a_c_project_comes_out_the_same(cluster: &Cluster) {
    let describe = |bed: &Bed| {
        bed.write(
            "hand.loom",
            "target out/<unit>.o
  needs each src/<unit>.c
  learn
  recipe: cc -MD -MF @{learn} -c @{needs} -o @{target}
target out/all
  needs out/*.o
  recipe: cc @{needs} -o @{target}
",
        );
        let mut main = String::from("int printf(const char *, ...);\n");
        let mut calls = String::new();
        for unit in 0..299 {
            let header = format!("#define K{unit} {}\nint u{unit}(int);\n", unit % 7);
            bed.write(&format!("src/u{unit}.h"), &header);
            let next = (unit + 1) % 299;
            let body = format!(
                "#include \"u{unit}.h\"\n#include \"u{next}.h\"\nint u{unit}(int n) {{ return n * 3 + K{unit} - K{next}; }}\n"
            );
            bed.write(&format!("src/u{unit}.c"), &body);
            main.push_str(&format!("int u{unit}(int);\n"));
            calls.push_str(&format!("  n = u{unit}(n) % 10007;\n"));
        }
        let main =
            format!("{main}int main(void) {{\n  int n = 1;\n{calls}  printf(\"%d\\n\", n);\n}}\n");
        bed.write("src/main.c", &main);
    };
    let (here, there) = (Bed::new(""), Bed::new(""));
    describe(&here);
    describe(&there);
    here.run(&["-j4"]).status(0).says(&["301 made in"]);
    cluster.run(&there, &[]).status(0).says(&["301 made in"]);
    for name in (0..299).map(|unit| format!("out/u{unit}.o")) {
        assert!(
            fs::read(here.path(&name)).unwrap() == fs::read(there.path(&name)).unwrap(),
            "{name}"
        );
    }
    assert!(fs::read(here.path("out/all")).unwrap() == fs::read(there.path("out/all")).unwrap());
    // What was learned there is known here, and the other way round.
    there.run(&[]).status(0).says(&["301 kept in"]);
    there.write("src/u7.h", "#define K7 5\nint u7(int);\n");
    there
        .run(&["preview"])
        .status(0)
        .says(&["out/u6.o", "out/u7.o"]);
    cluster.run(&there, &[]).status(0).says(&["3 made"]);
}

/// What is made there is what is made here, byte for byte, also when workers are taken away in mid-run.
fn the_same_comes_out(cluster: &Cluster, rounds: u64) {
    let asked = std::env::var("HANDLOOM_KILLS").ok();
    let rounds = asked.and_then(|count| count.parse().ok()).unwrap_or(rounds);
    let bed = Bed::new("");
    bed.run(&["demo", "here"]).status(0);
    bed.run(&["demo", "there"]).status(0);
    let made = |folder: &str| -> Vec<(String, Vec<u8>)> {
        let root = bed.path(folder).join("out");
        let tree = crate::bed::tree(&root);
        let files = tree.lines().filter(|name| root.join(name).is_file());
        files
            .map(|name| (name.to_owned(), fs::read(root.join(name)).unwrap()))
            .collect()
    };
    let expected = made("here");
    assert!(expected.len() > 50, "{}", expected.len());
    for round in 0..rounds {
        bed.run(&["--project", "there", "clean", "--yes"]).status(0);
        let running = cluster
            .command(&bed, &["--project", "there"])
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        if round > 0 {
            // One or both workers, early or late.
            std::thread::sleep(Duration::from_millis(150 + 60 * (round % 12)));
            let all = cluster.asks(cluster.list);
            let first = |line: &str| line.split_whitespace().next().map(str::to_owned);
            let all = all.lines().filter_map(first);
            let numbers = all.filter(|word| word.bytes().all(|byte| byte.is_ascii_digit()));
            for id in numbers.take(1 + usize::try_from(round).unwrap() % 2) {
                let cancel = if cluster.list[0] == "qstat" {
                    "qdel"
                } else {
                    "scancel"
                };
                cluster.asks(&[cancel, &id]);
            }
        }
        let output = running.wait_with_output().unwrap();
        let said = String::from_utf8_lossy(&output.stdout);
        assert!(output.status.success(), "round {round}: {said}");
        assert!(made("there") == expected, "round {round}");
    }
    wait_for("an empty queue", || cluster.is_idle());
}

#[test]
fn a_real_cluster_runs_jobs_as_this_machine_does() {
    let Some(cluster) = Cluster::slurm() else {
        return;
    };
    ends_are_told_apart(&cluster);
    nodes_are_told(&cluster);
    small_steps_stay_here(&cluster);
    a_lost_worker_is_replaced(&cluster);
    nothing_is_left(&cluster);
    what_never_starts_is_said(&cluster);
    a_controller_that_is_away_is_waited_for(&cluster);
    what_is_large_or_long_is_submitted_on_its_own(&cluster);
    a_node_that_dies_loses_no_job(&cluster);
    the_time_of_a_worker_is_no_fault_of_its_jobs(&cluster);
    clocks_that_differ_make_nothing_stale(&cluster);
    the_same_comes_out(&cluster, 6);
    a_c_project_comes_out_the_same(&cluster);
}

/// The same behind another scheduler.
#[test]
fn another_scheduler_runs_jobs_as_well() {
    let Some(cluster) = Cluster::grid_engine() else {
        return;
    };
    let bed = Bed::new(KINDS);
    bed.write("in.txt", "seen\n");
    for (target, status, says) in [
        ("exit", 1, "exit status 3"),
        ("signal", 1, "ended by signal 11"),
        ("late", 1, "ran longer than its limit of 1.00s"),
        ("sealed", 0, "made  sealed"),
        ("seen", 0, "in.txt"),
        ("facts", 0, "made  facts"),
        ("private", 0, "made  private"),
        ("talk", 0, "talked on this machine"),
    ] {
        cluster.run(&bed, &[target]).status(status).says(&[says]);
    }
    assert_eq!(bed.read("private"), "0\n", "a worker's token is its own");
    wait_for("an empty queue", || cluster.is_idle());
    let bed = Bed::new(LARGE);
    cluster.run(&bed, &["three"]).status(0);
    assert_eq!(bed.read("three"), "3\n", "cores");
    let says = [
        "no worker can be asked for at `cluster`: qsub: ",
        "no suitable queues",
    ];
    cluster.run(&bed, &["nine"]).status(1).says(&says);
    for signal in [Signal::INT, Signal::KILL] {
        let bed = Bed::new(KINDS);
        let mut running = cluster.command(&bed, &["stubborn"]).spawn().unwrap();
        wait_for("the job", || bed.exists("begun"));
        rustix::process::kill_process(Pid::from_child(&running), signal).unwrap();
        running.wait().unwrap();
        wait_for("an empty queue", || cluster.is_idle());
    }
    the_same_comes_out(&cluster, 3);
}
