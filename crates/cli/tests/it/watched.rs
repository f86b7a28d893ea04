//! Watched recipes: whatever a process looks at is seen, in whichever way it looks.

#![expect(clippy::print_stderr, reason = "a test that is not tried says so")]

use std::collections::BTreeMap;
use std::process::Command;

use serde_json::Value;

use crate::bed::Bed;
use crate::bed::Run;

/// Each way to look, with what is to be seen of it: files, folders behind `|`, what was looked for in vain behind a
/// second one, what it left beside its outputs behind a third.
const WAYS: &[(&str, &str)] = &[
    ("open", "data/a.txt"),
    ("open-missing", "||data/none"),
    ("open-below-missing", "||nowhere/deep/none"),
    ("open-below-file", "||data/a.txt/none"),
    ("old-open", "data/a.txt"),
    ("openat", "data/a.txt"),
    ("openat-missing", "|data/|data/none"),
    ("openat2", "data/a.txt"),
    ("open-path", "data/a.txt"),
    ("stat", "data/a.txt"),
    ("lstat", "data/a.txt"),
    ("fstatat", "data/a.txt"),
    ("fstatat-named-empty", "data/a.txt"),
    ("fstat", "data/a.txt"),
    ("statx", "data/a.txt"),
    ("stat-folder", "|data/"),
    ("stat-missing", "||data/none"),
    ("access", "data/a.txt"),
    ("faccessat", "data/a.txt"),
    ("faccessat2", "data/a.txt"),
    ("readlink", "data/a.txt link.txt"),
    ("readlinkat", "data/a.txt link.txt"),
    ("getxattr", "data/a.txt"),
    ("listxattr", "data/a.txt"),
    ("inotify", "data/a.txt"),
    ("list", "|the names in data/"),
    ("list-root", "|the names in the project's folder"),
    ("list-old", "|the names in data/"),
    ("folder-not-listed", "|data/"),
    ("execute", "tools/run.sh"),
    ("execute-nested", "tools/nested.sh tools/run.sh"),
    ("execute-missing", "||tools/none.sh"),
    ("execveat", "tools/run.sh"),
    ("spawn", "tools/run.sh"),
    ("fork", "data/a.txt"),
    ("grandchild", "data/a.txt"),
    ("thread", "data/a.txt"),
    ("chdir", "data/a.txt"),
    ("fchdir", "data/a.txt"),
    ("chroot", "data/a.txt"),
    ("absolute", "data/a.txt"),
    ("dots", "data/a.txt"),
    ("dots-behind-link", "data/a.txt"),
    ("slashes", "data/a.txt"),
    ("link", "data/a.txt link.txt"),
    ("dangling", "dangling"),
    ("folder-link", "data/a.txt dirlink/a.txt"),
    ("outside-link", "data/a.txt"),
    ("outside-file-link", "data/a.txt"),
    ("proc-cwd", "data/a.txt"),
    ("proc-fd", "data/a.txt"),
    ("hard-link", "data/a.txt|||out/hard"),
    ("rename-missing", "||data/none"),
    ("unlink-missing", "||data/none"),
    ("write-new", "|||out/beside"),
    ("write-and-remove", ""),
    ("look-write-read", ""),
    ("write-old", "|||data/log.txt"),
    ("exclusive-old", "data/a.txt"),
    ("truncate", "|||data/log.txt"),
    ("own-folder", ""),
    ("own-folder-renamed", ""),
    ("old-folder-made", "|data/"),
    ("page-end", "data/a.txt"),
    ("two-pages", "data/a.txt"),
    ("bad-address", ""),
    ("newline", "data/new?line"),
    ("not-utf8", "data/\\xFF"),
    ("uring", ""),
    ("other-calls", ""),
    ("socket", ""),
];

/// Compiles the program with all ways to look; none where there is no compiler for it.
fn compiled(bed: &Bed, name: &str, options: &[&str]) -> Option<()> {
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/programs/looks.c");
    let done = Command::new("cc")
        .args(["-O1", "-pthread", "-w", "-o"])
        .arg(bed.path(&format!("../outside/{name}")))
        .arg(source)
        .args(options)
        .output();
    let done = done.ok().filter(|done| done.status.success());
    if done.is_none() && std::env::var_os("HANDLOOM_SHELLS").is_some() {
        panic!("there is no compiler for {name}");
    }
    done.map(|_| ())
}

/// What the events say of each step that was watched.
fn reads(run: &Run) -> BTreeMap<String, &Value> {
    let reads = run.events.iter().filter(|event| event["event"] == "read");
    reads
        .map(|event| (event["step"].as_str().unwrap().to_owned(), event))
        .collect()
}

fn seen(event: &Value) -> String {
    let of = |key: &str| -> Vec<String> {
        let all = event[key].as_array().unwrap().iter();
        all.map(|path| path.as_str().unwrap().replace('\n', "?"))
            .collect()
    };
    let parts = ["files", "folders", "absent", "written"].map(|key| of(key).join(" "));
    parts.join("|").trim_end_matches('|').to_owned()
}

fn furnish(bed: &Bed) {
    bed.write("data/a.txt", "a\n");
    bed.write("data/log.txt", "begun\n");
    bed.write("data/new\nline", "n\n");
    let odd =
        <std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(b"data/\xff".to_vec());
    std::fs::write(bed.root().join(odd), "o\n").unwrap();
    bed.write("tools/run.sh", "#!/bin/sh\n:\n");
    bed.write("tools/nested.sh", "#!tools/run.sh\n");
    bed.set_mode("tools/run.sh", 0o755);
    bed.set_mode("tools/nested.sh", 0o755);
    bed.link("data/a.txt", "link.txt");
    bed.link("nothing", "dangling");
    bed.link("data", "dirlink");
    std::fs::create_dir(bed.path("../outside")).unwrap();
    bed.link("../project/data", "../outside/inside");
    bed.link("../project/data/a.txt", "../outside/file");
}

#[test]
fn every_way_to_look_at_a_file_is_seen() {
    let bed = Bed::new("");
    furnish(&bed);
    let _socket = std::os::unix::net::UnixListener::bind(bed.path("../outside/socket")).unwrap();
    for (program, options) in [("looks", &[][..]), ("looks-static", &["-static"][..])] {
        if compiled(&bed, program, options).is_none() {
            eprintln!("no compiler for {program}: it is not tried");
            continue;
        }
        let ways: Vec<&str> = WAYS.iter().map(|(way, _)| *way).collect();
        let root = std::fs::canonicalize(bed.root()).unwrap();
        let outside = std::fs::canonicalize(bed.path("../outside")).unwrap();
        let (root, outside) = (root.to_str().unwrap(), outside.to_str().unwrap());
        bed.write(
            "hand.loom",
            &format!(
                "target out/{program}/<way>\n  each way in {}\n  learn watched\n  recipe: exec {outside}/{program} @{{way}} {root} {outside} > @{{target}}\n",
                ways.join(" ")
            ),
        );
        // One after the other: some write where others look.
        let run = bed.weave(&["-j1"]).status(0);
        let reads = reads(&run);
        let is = |way: &str| -> String {
            let printed = bed.read(&format!("out/{program}/{way}"));
            printed.trim().to_owned()
        };
        for (way, expected) in WAYS {
            let event = reads
                .get(&format!("out/{program}/{way}"))
                .unwrap_or_else(|| panic!("{program} {way} was not watched: {}", run.shown()));
            if *way == "chroot" && is(way) == "refused" {
                continue;
            }
            assert_eq!(&seen(event), expected, "{program} {way}: {event}");
            let gaps = event["gaps"].as_array().unwrap();
            match *way {
                "socket" => assert!(
                    gaps[0].as_str().unwrap().contains("/outside/socket"),
                    "{event}"
                ),
                "bad-address" => {
                    assert_eq!(gaps[0], "the path of a call could not be read", "{event}");
                }

                _ => assert!(gaps.is_empty(), "{event}"),
            }
        }
        assert_eq!(
            (is("uring"), is("other-calls")),
            ("missing".to_owned(), "missing".to_owned())
        );
        bed.write("data/log.txt", "begun\n");
    }
}

#[test]
fn a_second_run_knows_all_without_asking_again() {
    let bed = Bed::new(
        "target out/x\n  learn watched\n  recipe: ls data > @{target}; cat data/one >> @{target}; cat data/none >> @{target} 2>/dev/null || true\ntarget data/made\n  after out/x\n  recipe: echo made > @{target}\n",
    );
    bed.write("data/one", "one\n");
    bed.weave(&[]).status(0);
    // What a target makes in the folder is no reason, now and later.
    bed.weave(&[]).all_kept(2);
    std::thread::sleep(std::time::Duration::from_millis(1200));
    bed.weave(&[]).all_kept(2);
    bed.weave(&[]).all_kept(2);
    assert_eq!(bed.read("out/x"), "one\none\n");
    bed.write("data/none", "there\n");
    bed.run(&["preview"]).status(0).says(&["data/none"]);
    let run = bed.run(&["why", "out/x"]).status(0);
    assert!(
        run.out
            .contains("data/none, which it looked for in vain, is there now"),
        "{}",
        run.shown()
    );
    bed.weave(&[])
        .status(0)
        .ended(&["out/x made learned-appeared,learned-listing"]);
    let run = bed
        .run(&["list", "--reads", "out/x", "--format", "json"])
        .status(0);
    let read: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(
        read["read"],
        serde_json::json!(["data/none", "data/one"]),
        "{read}"
    );
    assert_eq!(read["listed"], serde_json::json!(["data/"]), "{read}");
}

#[test]
fn what_is_read_of_other_targets_is_an_edge_from_then_on() {
    let bed = Bed::new(
        "target out/late\n  needs a.txt\n  recipe: sleep 0.2; cp a.txt @{target}\ntarget out/user\n  learn watched\n  recipe: cat out/late > @{target} 2>/dev/null || echo nothing > @{target}\n",
    );
    bed.write("a.txt", "1\n");
    let run = bed.weave(&["-j2"]).status(0);
    let _ = run.says(&["reads `out/late`, which another target makes"]);
    let _ = bed.weave(&["-j2"]).status(0);
    assert_eq!(bed.read("out/user"), "1\n");
    bed.write("a.txt", "2\n");
    let run = bed.weave(&["-j2", "out/user"]).status(0);
    assert_eq!(bed.read("out/user"), "2\n", "{}", run.shown());
    let _ = bed.weave(&["-j2"]).all_kept(2);
}

#[test]
fn everywhere_also_counts_what_belongs_to_no_project() {
    // Not in a temporary folder: what is there changes by itself.
    let homes = [
        env!("CARGO_TARGET_TMPDIR").to_owned(),
        std::env::var("HOME").unwrap_or_default(),
    ];
    let mut homes = homes
        .iter()
        .filter(|home| !home.starts_with("/tmp") && !home.starts_with("/var"));
    let Some(outside) = homes.find_map(|home| tempfile::tempdir_in(home).ok()) else {
        eprintln!("no folder that is not a temporary one: it is not tried");
        return;
    };
    let tool = outside.path().join("tool");
    let write = |says: &str| {
        use std::os::unix::fs::PermissionsExt;
        std::fs::write(&tool, format!("#!/bin/sh\necho {says}\n")).unwrap();
        std::fs::set_permissions(&tool, std::fs::Permissions::from_mode(0o755)).unwrap();
    };
    write("one");
    let tool = tool.to_str().unwrap();
    let bed = Bed::new(&format!(
        "target out/far\n  learn watched everywhere\n  recipe: {tool} > @{{target}}\ntarget out/near\n  learn watched\n  recipe: {tool} > @{{target}}\n"
    ));
    bed.weave(&[])
        .status(0)
        .says(&["read outside of the project"]);
    bed.weave(&[]).all_kept(2);
    write("two");
    bed.weave(&[])
        .status(0)
        .ended(&["out/far made learned-changed"]);
    assert_eq!(
        (bed.read("out/far"), bed.read("out/near")),
        ("two\n".to_owned(), "one\n".to_owned())
    );
    bed.weave(&[]).all_kept(2);
}

#[test]
fn a_run_can_watch_what_does_not_say_so() {
    let bed = Bed::new("target out/x\n  recipe: cat data/a > @{target}\n");
    bed.write("data/a", "1\n");
    bed.weave(&["--watched"]).status(0).says(&["needs data/a"]);
    // What was seen counts in every run, until the step runs unwatched.
    bed.weave(&[]).all_kept(1);
    bed.write("data/a", "2\n");
    bed.weave(&["--watched"])
        .status(0)
        .says_not("needs data/a")
        .ended(&["out/x made learned-changed"]);
    bed.write("data/a", "3\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/x made learned-changed"]);
    bed.write("data/a", "4\n");
    bed.weave(&[]).all_kept(1);
}

#[test]
fn a_watch_within_a_watch_says_that_it_sees_nothing() {
    let inner = Bed::new("target out/inner\n  learn watched\n  recipe: cat data > @{target}\n");
    inner.write("data", "inner\n");
    let program = env!("CARGO_BIN_EXE_handloom");
    let bed = Bed::new(&format!(
        "target out/outer\n  learn watched\n  recipe: {program} --project {} > @{{target}} 2>&1\n",
        inner.root().display()
    ));
    bed.weave(&[]).status(0);
    assert!(
        bed.read("out/outer").contains("it was not watched"),
        "{}",
        bed.read("out/outer")
    );
    assert_eq!(inner.read("out/inner"), "inner\n");
}

#[test]
fn after_a_kill_nothing_hangs() {
    let bed = Bed::new(
        "target out/x\n  learn watched\n  recipe: echo $$ > pid; while :; do cat data > /dev/null; done\n",
    );
    bed.write("data", "x\n");
    let mut run = bed.start(&[]);
    bed.await_file("pid");
    run.kill().unwrap();
    run.wait().unwrap();
    // Calls that nobody answers any more fail, so that the recipe ends by itself or goes on unwatched until the next
    // run ends it.
    bed.write(
        "hand.loom",
        "target out/x\n  learn watched\n  recipe: cat data > @{target}\n",
    );
    let _ = bed.weave(&[]).status(0);
    let pid = bed.read("pid");
    let still = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    assert!(still.is_empty() || still.contains(") Z "), "{still}");
    assert_eq!(bed.read("out/x"), "x\n");
}

#[test]
fn a_limit_and_an_interruption_end_a_watched_recipe() {
    let bed = Bed::new(
        "target out/x\n  learn watched\n  limit 1s\n  recipe: while :; do cat data > /dev/null; done\n",
    );
    bed.write("data", "x\n");
    bed.weave(&[])
        .status(1)
        .says(&["ran longer than its limit"]);
    bed.write("hand.loom", "target out/y\n  learn watched\n  recipe: no-such-program\ntarget out/z\n  learn watched\n  recipe with nowhere/interpreter: x\n");
    bed.weave(&["--on-failure", "continue"])
        .status(1)
        .says(&["not found", "`nowhere/interpreter` was not found"]);
}

#[test]
fn interpreters_look_in_the_same_ways() {
    let bed = Bed::new(
        "target out/perl\n  learn watched\n  recipe with perl:\n    open(my $in, '<', 'data/a.txt'); -e 'data/none'; opendir(my $folder, 'data'); readdir $folder; stat 'data/b.txt';\n    open(my $out, '>', 'out/perl');\ntarget out/python\n  learn watched\n  recipe with python3 -I:\n    import os, glob\n    open('data/a.txt').read(); os.path.exists('data/none'); os.listdir('data'); os.stat('data/b.txt')\n    open('out/python', 'w')\n",
    );
    bed.write("data/a.txt", "a\n");
    bed.write("data/b.txt", "b\n");
    let run = bed.weave(&[]).status(0);
    let reads = reads(&run);
    for step in ["out/perl", "out/python"] {
        let expected = "data/a.txt data/b.txt|the names in data/|data/none";
        // Some machines choose their Python by a file of that name, which is looked for too.
        let found = seen(reads[step]).replace(".python-version ", "");
        assert_eq!(found, expected, "{}", run.shown());
    }
}

/// A link to a folder is what it says: nothing is read of what lies there and nobody read, and another end is a reason.
#[test]
fn a_link_to_a_folder_is_what_it_says() {
    let bed = Bed::new(
        "target out/x\n  learn watched\n  recipe: { readlink data; cat data/a; } > @{target}\n",
    );
    for folder in ["one", "two"] {
        bed.write(&format!("../{folder}/a"), "a\n");
        bed.write(&format!("../{folder}/large/b"), "b\n");
    }
    bed.link("../one", "data");
    bed.weave(&[]).status(0).ended(&["out/x made never-made"]);
    bed.weave(&[]).all_kept(1);
    bed.write("../one/large/b", "another\n");
    bed.write("../one/more", "more\n");
    bed.weave(&[]).all_kept(1);
    bed.remove("data");
    bed.link("../two", "data");
    bed.weave(&[])
        .status(0)
        .ended(&["out/x made learned-changed"]);
    assert_eq!(bed.read("out/x"), "../two\na\n");
    bed.write("../two/a", "changed\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/x made learned-changed"]);
    bed.weave(&[]).all_kept(1);
    bed.remove("data");
    bed.write("data/a", "changed\n");
    bed.weave(&[]).ended(&["out/x failed learned-changed"]);
}
