//! Sealed recipes: what they do not name is not there for them, and it is said what that was.

#![expect(clippy::print_stderr, reason = "a test that is not tried says so")]

use std::process::Command;

use crate::bed::Bed;

/// Whether namespaces of users and mounts can be made here.
fn has_namespaces() -> bool {
    let tried = Command::new("unshare").args(["-Urmn", "true"]).output();
    let has = tried.is_ok_and(|tried| tried.status.success());
    if !has {
        eprintln!("no namespaces here: `sealed strictly` is not tried");
    }
    has
}

/// Both forms, as far as they can be had.
fn forms() -> Vec<&'static str> {
    if has_namespaces() {
        vec!["sealed", "sealed strictly"]
    } else {
        vec!["sealed"]
    }
}

fn furnished(loom: &str) -> Bed {
    let bed = Bed::new(loom);
    bed.write("data/named.csv", "named\n");
    bed.write("data/other.csv", "other\n");
    bed.write("tree/one/two.txt", "two\n");
    bed
}

#[test]
fn what_is_not_named_is_not_there_and_the_line_to_write_is_told() {
    for form in forms() {
        let bed = furnished(&format!(
            "target out/x\n  needs data/named.csv\n  {form}\n  recipe: cat data/named.csv data/other.csv > @{{target}}\n"
        ));
        bed.weave(&[])
            .status(1)
            .says(&[
                "No such file",
                "read data/other.csv   `needs data/other.csv` lets it",
            ])
            .ended(&["out/x failed never-made"]);
        bed.write(
            "hand.loom",
            &format!("target out/x\n  needs data/named.csv data/other.csv\n  {form}\n  recipe: cat data/named.csv data/other.csv > @{{target}}\n"),
        );
        let _ = bed.weave(&[]).status(0);
        assert_eq!(bed.read("out/x"), "named\nother\n");
        bed.weave(&[]).all_kept(1);
    }
}

#[test]
fn every_way_past_the_seal_is_shut() {
    // For each way what must come out: nothing of what is not named, and nothing changed.
    let ways = [
        ("reads", "cat data/other.csv || true"),
        ("asks", "test -e data/other.csv && echo there || true"),
        ("absolute", "cat \"$ROOT/data/other.csv\" || true"),
        ("changes folder", "cd data; cat other.csv || true; cd .."),
        ("follows a link", "cat link || true"),
        ("by proc", "cat /proc/self/cwd/data/other.csv || true"),
        (
            "links",
            "ln data/other.csv out/hard && cat out/hard || true",
        ),
        (
            "moves",
            "mv data/other.csv out/moved && cat out/moved || true",
        ),
        (
            "copies a folder",
            "cp -r data out/copied && cat out/copied/other.csv || true",
        ),
        ("in the background", "(cat data/other.csv || true) & wait"),
        (
            "python",
            "python3 -c 'print(open(\"data/other.csv\").read())' || true",
        ),
        ("writes", "echo changed > data/other.csv || true"),
        ("writes beside", "echo x > data/new.csv || true"),
        ("removes", "rm -f data/other.csv || true"),
        (
            "changes what it reads",
            "echo changed >> data/named.csv || true",
        ),
        ("makes a folder", "mkdir data/folder || true"),
        ("another's output", "cat out/earlier || true"),
        (
            "over another's output",
            "echo changed > out/earlier || true",
        ),
        ("a home", "cat ~/secret.txt || true"),
    ];
    for form in forms() {
        let mut loom = "target out/earlier\n  recipe: echo earlier > @{target}\n".to_owned();
        for (number, (_, script)) in ways.iter().enumerate() {
            loom.push_str(&format!(
                "target out/way{number}\n  needs data/named.csv\n  after out/earlier\n  {form}\n  env ROOT = @{{root}}\n  recipe:\n    exec > @{{target}}\n    {script}\n"
            ));
        }
        let bed = furnished(&loom);
        bed.link("data/other.csv", "link");
        bed.write("../home/secret.txt", "secret\n");
        let run = bed.weave(&["-j1"]).status(0);
        for (number, (way, _)) in ways.iter().enumerate() {
            let out = bed.read(&format!("out/way{number}"));
            assert_eq!(out, "", "{form} {way}: {}", run.shown());
        }
        assert_eq!(bed.read("data/other.csv"), "other\n", "{form}");
        assert_eq!(bed.read("data/named.csv"), "named\n", "{form}");
        assert_eq!(bed.read("out/earlier"), "earlier\n", "{form}");
        for name in ["data/new.csv", "data/folder", "out/hard", "out/moved"] {
            assert!(!bed.exists(name), "{form} {name}");
        }
    }
}

#[test]
fn what_a_recipe_needs_to_work_is_there() {
    let recipes = [
        ("temporary", "f=$(mktemp); echo x > \"$f\"; cat \"$f\""),
        ("home", "echo x > ~/file; cat ~/file"),
        ("nothing", "echo gone > /dev/null; echo x"),
        ("random", "head -c 1 /dev/urandom | wc -c | sed 's/1/x/'"),
        ("folder", "ls tree/one | grep -q two && echo x"),
        ("here-document", "cat <<END\n    x\n    END"),
        (
            "own file",
            "echo x > out/own.tmp; cat out/own.tmp; rm out/own.tmp",
        ),
        (
            "own folder",
            "mkdir out/own.d; echo x > out/own.d/f; cat out/own.d/f; rm -r out/own.d",
        ),
        ("facts", "grep -q named.csv \"$HANDLOOM_JOB\" && echo x"),
        (
            "compiler",
            "printf 'int main(void){return 0;}' > out/p.c; cc out/p.c -o out/p; out/p && echo x; rm out/p out/p.c",
        ),
        (
            "threads",
            "python3 -c 'import threading; t = threading.Thread(target=lambda: print(\"x\")); t.start(); t.join()'",
        ),
        (
            "modules",
            "python3 -c 'import json, pip; print(json.loads(\"\\\"x\\\"\"))'",
        ),
        (
            "processes",
            "for i in 1 2 3; do (true) & done; wait; echo x",
        ),
        ("sort", "printf 'x\\n' | sort | uniq"),
        ("perl", "perl -e 'use strict; use POSIX; print \"x\\n\"'"),
    ];
    for form in forms() {
        let mut loom = String::new();
        for (number, (_, script)) in recipes.iter().enumerate() {
            loom.push_str(&format!(
                "target out/r{number}\n  needs data/named.csv tree/\n  {form}\n  recipe:\n    exec > @{{target}}\n    {script}\n"
            ));
        }
        let bed = furnished(&loom);
        let run = bed.weave(&["--on-failure", "continue"]).status(0);
        for (number, (what, _)) in recipes.iter().enumerate() {
            assert_eq!(
                bed.read(&format!("out/r{number}")),
                "x\n",
                "{form} {what}: {}",
                run.shown()
            );
        }
        let own = std::fs::read_dir(bed.path(".handloom/jobs"))
            .unwrap()
            .flatten();
        let left: Vec<_> = own.filter(|entry| entry.path().is_dir()).collect();
        assert!(left.is_empty(), "{left:?}");
    }
}

#[test]
fn version_control_works_in_a_sealed_recipe_that_names_it() {
    for form in forms() {
        let bed = furnished(&format!(
            "target out/commit\n  needs .git/ data/named.csv\n  {form}\n  recipe: git log --format=%s > @{{target}}\n"
        ));
        let commit = "git init -q . && git add data && git -c user.name=v -c user.email=v@example.invalid commit -qm first";
        let made = Command::new("sh")
            .args(["-c", commit])
            .current_dir(bed.root())
            .env("HOME", bed.path("../home"))
            .status();
        if !made.is_ok_and(|made| made.success()) {
            eprintln!("no git: it is not tried");
            return;
        }
        let run = bed.weave(&[]).status(0);
        assert_eq!(bed.read("out/commit"), "first\n", "{}", run.shown());
    }
}

#[test]
fn there_is_no_network() {
    for form in forms() {
        let bed = Bed::new(&format!(
            "target out/x\n  {form}\n  recipe with python3:\n    import socket\n    out = open('out/x', 'w')\n    def tried(what):\n        try:\n            what()\n            print('reached', file=out)\n        except OSError as error:\n            print('refused', file=out)\n    tried(lambda: socket.create_connection(('127.0.0.1', PORT), 2))\n    tried(lambda: socket.socket().bind(('127.0.0.1', 0)))\n"
        ));
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port().to_string();
        let loom = bed.read("hand.loom").replace("PORT", &port);
        bed.write("hand.loom", &loom);
        let run = bed.weave(&[]).status(0);
        assert_eq!(
            bed.read("out/x"),
            "refused\nrefused\n",
            "{form} {}",
            run.shown()
        );
    }
}

#[test]
fn a_task_can_be_sealed_and_a_run_can_seal_all() {
    let bed = furnished(
        "task look\n  needs data/named.csv\n  sealed\n  recipe: cat data/named.csv; cat data/other.csv\n\ntarget out/x\n  recipe: cat data/other.csv > @{target}\n",
    );
    bed.run(&["run", "look"])
        .status(1)
        .says(&["needs data/other.csv"]);
    bed.weave(&["out/x", "--sealed"])
        .status(1)
        .says(&["needs data/other.csv"]);
    let _ = bed.weave(&["out/x"]).status(0);
    bed.write("hand.loom", "setting recipes = sealed strictly\nsetting sealed-read = /nowhere\ntarget out/y\n  recipe: cat data/other.csv > @{target}\n");
    if has_namespaces() {
        bed.weave(&[]).status(1).says(&["needs data/other.csv"]);
    }
}

#[test]
fn files_outside_of_the_project_can_be_let_in() {
    // Not in a temporary folder: those are nobody's.
    let outside = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let file = outside.path().join("reference.txt");
    std::fs::write(&file, "reference\n").unwrap();
    let file = file.to_str().unwrap();
    for form in forms() {
        let rest = format!("target out/x\n  {form}\n  recipe: cat {file} > @{{target}}\n");
        let bed = Bed::new(&rest);
        bed.weave(&[])
            .status(1)
            .says(&[&format!("`setting sealed-read = {file}` lets it")]);
        bed.write(
            "hand.loom",
            &format!("setting sealed-read = {file}\n{rest}"),
        );
        let _ = bed.weave(&[]).status(0);
        assert_eq!(bed.read("out/x"), "reference\n");
    }
}

#[test]
fn settings_of_a_project_count_below_the_users_own() {
    let rest = "target out/x\n  recipe: cat data/other.csv > @{target}\n";
    for (line, says) in [
        ("setting recipe = watched", "did you mean `recipes`?"),
        (
            "setting recipes = seen",
            "it is `plain`, `watched`, `sealed` or `sealed strictly`",
        ),
        ("setting jobs = many", "it is a number from 1 to 4096"),
        ("setting trust = /", "whom to trust is for each user to say"),
        ("setting jobs = 2\nsetting jobs = 3", "`jobs` is set twice"),
        (
            "let n = 2\nsetting jobs = @{n}",
            "a setting has no variables in it",
        ),
        (
            "setting jobs",
            "write for example `setting recipes = watched`",
        ),
    ] {
        let bed = furnished(&format!("{line}\n{rest}"));
        bed.weave(&[]).status(2).says(&[says]);
    }
    let bed = furnished(&format!(
        "setting grace = 9s\nsetting recipes = watched\nsetting output = failures\n{rest}"
    ));
    bed.weave(&[]).status(0).says_not("made  out/x");
    let run = bed.run(&["settings"]).status(0);
    for line in ["grace", "recipes", "output"] {
        let shown = run
            .out
            .lines()
            .find(|shown| shown.trim_start().starts_with(line))
            .unwrap();
        assert!(shown.contains("hand.loom"), "{}", run.shown());
    }
    // It was watched.
    bed.write("data/other.csv", "changed\n");
    bed.weave(&[])
        .status(0)
        .ended(&["out/x made learned-changed"]);
    bed.write(
        "../home/.config/handloom/settings.toml",
        "recipes = \"plain\"\noutput = \"grouped\"\n",
    );
    bed.write("data/other.csv", "changed again\n");
    bed.weave(&[]).status(0).says(&["made  out/x"]);
    bed.write("data/other.csv", "and again\n");
    bed.weave(&[]).all_kept(1);
    bed.run(&["settings"])
        .status(0)
        .says(&["recipes           plain", "the user's settings"]);
    // A part's own do not count, and that is said.
    bed.write("part/hand.loom", "setting jobs = 1\n");
    bed.write("hand.loom", &format!("include part\n{rest}"));
    bed.weave(&[]).says(&["a setting of a part does not count"]);
}

#[test]
fn what_cannot_be_sealed_is_told() {
    let bed = furnished("task serve\n  terminal\n  sealed\n  recipe: true\n");
    bed.run(&["run", "serve"])
        .status(2)
        .says(&["can't be sealed"]);
    let bed = furnished("target out/x\n  sealed loosely\n  recipe: true\n");
    bed.weave(&[])
        .status(2)
        .says(&["write `sealed` alone, or `sealed strictly`"]);
}

#[test]
fn a_link_in_the_place_of_a_jobs_own_folder_leads_nowhere() {
    let bed = furnished(
        "target out/a\n  recipe: ln -s ../../data .handloom/jobs/0.own; echo a > @{target}\ntarget out/b\n  after out/a\n  sealed\n  recipe: echo b > ~/file; mkdir -p $TMPDIR/left/in; ln -s / $TMPDIR/link; echo b > @{target}\ntarget out/c\n  after out/b\n  sealed\n  recipe: ls -A ~ $TMPDIR > @{target}\n",
    );
    let run = bed.weave(&["-j1"]).status(0);
    assert_eq!(bed.read("data/named.csv"), "named\n", "{}", run.shown());
    let listed = bed.read("out/c");
    assert!(
        !listed.contains("left") && !listed.contains("file"),
        "{listed}"
    );
    let jobs = std::fs::read_dir(bed.path(".handloom/jobs"))
        .unwrap()
        .flatten();
    assert!(jobs.into_iter().all(|entry| !entry.path().is_dir()));
}
