//! Watched recipes: whatever a process looks at is seen, in whichever way it looks.

use std::collections::BTreeMap;
use std::path::Path;
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
    let odd = std::ffi::OsString::from(
        <std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(b"data/\xff".to_vec()),
    );
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
                    assert_eq!(gaps[0], "the path of a call could not be read", "{event}")
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
    assert!(Path::new(env!("CARGO_BIN_EXE_handloom")).exists());
}
