//! What others wrote: descriptions of other users, own files that are none, values without end, small limits.

use std::fs;
use std::process::Command;

use crate::bed::Bed;

const ONE: &str = "target out\n  needs in\n  recipe: cp in @{target}\n";

#[test]
fn a_description_of_another_user_is_not_taken() {
    let bed = Bed::new(ONE);
    bed.write("in", "1\n");
    let mut command = bed.command(&["list"]);
    let Some(mut other) = bed.as_nobody(&mut command) else {
        return;
    };
    // The same user's, and that of whoever owns the folder one stands in.
    assert_eq!(other.output().unwrap().status.code(), Some(0));
    bed.run(&[]).status(0);
    let third = |path: &str| {
        let given = Command::new("chown")
            .args(["4321", path])
            .current_dir(bed.root())
            .status();
        assert!(given.unwrap().success());
    };
    third("hand.loom");
    bed.run(&["list"]).status(2).says(&[
        "belongs to the user with number 4321, and is not taken",
        "write `trust = [",
    ]);
    let root = bed.root();
    bed.write(
        "../home/.config/handloom/settings.toml",
        &format!("trust = [\"{}\"]\n", root.display()),
    );
    bed.run(&["list"]).status(0);
    bed.write("../home/.config/handloom/settings.toml", "");
    bed.remove("hand.loom");
    bed.write("hand.loom", "include more.loom\n");
    bed.write("more.loom", ONE);
    third("more.loom");
    bed.run(&[]).status(2).says(&["more.loom", "is not taken"]);
}

/// What can't be read is not taken for something that never was.
#[test]
fn records_of_another_user_are_not_taken_for_none() {
    let bed = Bed::new(ONE);
    bed.write("in", "1\n");
    bed.run(&[]).status(0);
    for arguments in [
        &["history"][..],
        &["history", "out"],
        &["report"],
        &["report", "--history"],
        &["log", "out"],
        &["findings"],
        &["lineage", "out"],
        &["export", "script"],
        &["why", "out"],
        &["list"],
    ] {
        let mut command = bed.command(arguments);
        let Some(other) = bed.as_nobody(&mut command) else {
            return;
        };
        let theirs = Command::new("chown")
            .args(["-R", "0", ".handloom"])
            .current_dir(bed.root())
            .status();
        assert!(theirs.unwrap().success());
        bed.finish(other, arguments).status(3).says(&[
            "can't read the ",
            "in `.handloom",
            "permission denied",
        ]);
    }
    fs::remove_dir_all(bed.path(".handloom/runs")).unwrap();
    bed.write(".handloom/runs", "none\n");
    bed.run(&["history"])
        .status(3)
        .says(&["can't read the records of runs in `.handloom/runs`"]);
}

#[test]
fn own_files_that_are_none_are_set_aside_and_not_followed() {
    for name in [
        "lock", "journal", "ledger", "project", "jobs", "logs", "runs", "aside", "failed", "set-by",
    ] {
        let bed = Bed::new("target out\n  needs in\n  recipe: echo said; cp in @{target}\n");
        bed.write("in", "1\n");
        bed.write("out", "mine\n");
        bed.write("../precious/file", "precious\n");
        let path = format!(".handloom/{name}");
        bed.run(&["-q"]).status(0);
        bed.write("in", "2\n");
        let _ = fs::remove_file(bed.path(&path));
        let _ = fs::remove_dir_all(bed.path(&path));
        let target = if name.contains(['l', 'p']) && !["logs", "failed"].contains(&name) {
            "../../precious/file"
        } else {
            "../../precious"
        };
        bed.link(target, &path);
        bed.run(&[]).status(0);
        assert_eq!(bed.read("out"), "2\n", "{name}");
        assert_eq!(bed.read("../precious/file"), "precious\n", "{name}");
        assert_eq!(
            fs::read_dir(bed.path("../precious")).unwrap().count(),
            1,
            "{name}"
        );
    }
    let bed = Bed::new(ONE);
    bed.write("in", "1\n");
    fs::create_dir_all(bed.path("../elsewhere")).unwrap();
    bed.link("../elsewhere", ".handloom");
    bed.run(&[])
        .status(3)
        .says(&["`.handloom` is no folder, or only a link to one"]);
    assert_eq!(fs::read_dir(bed.path("../elsewhere")).unwrap().count(), 0);
}

#[test]
fn pipes_and_devices_in_own_places_do_not_hang() {
    for name in ["lock", "journal", "ledger", "project"] {
        let bed = Bed::new(ONE);
        bed.write("in", "1\n");
        bed.run(&["-q"]).status(0);
        let _ = fs::remove_file(bed.path(&format!(".handloom/{name}")));
        let made = Command::new("mkfifo")
            .arg(bed.path(&format!(".handloom/{name}")))
            .status();
        assert!(made.unwrap().success());
        bed.write("in", "2\n");
        bed.run(&[]).status(0);
        assert_eq!(bed.read("out"), "2\n", "{name}");
    }
    // What a recipe left as its listing.
    let bed =
        Bed::new("target out\n  learn lines listing\n  recipe: mkfifo listing; echo > @{target}\n");
    bed.run(&[]).status(1).says(&["can't be read"]);
    // A description that never ends, or is a link out of the project.
    let bed = Bed::new("include more.loom\n");
    bed.link("/dev/zero", "more.loom");
    bed.run(&["list"]).status(2);
    bed.remove("more.loom");
    bed.write("../outside", "secret line\n");
    bed.link("../outside", "more.loom");
    bed.run(&["list"])
        .status(2)
        .says(&["leads out of the project"])
        .says_not("secret line");
}

#[test]
fn values_without_end_are_refused_before_they_take_memory() {
    let mut loom = "let a0 = x y\n".to_owned();
    let mut word = "let w0 = xy\n".to_owned();
    for n in 1..=40 {
        loom += &format!("let a{n} = @{{a{}}} @{{a{}}}\n", n - 1, n - 1);
        word += &format!("let w{n} = @{{w{}}}@{{w{}}}\n", n - 1, n - 1);
    }
    let bed = Bed::new(&format!(
        "{loom}target out\n  recipe: echo @{{a40.count}} > out\n"
    ));
    bed.run(&[])
        .status(2)
        .says(&["this comes to more than 5000000 words"]);
    let bed = Bed::new(&format!(
        "{word}target out\n  recipe: echo @{{w40}} > out\n"
    ));
    bed.run(&[])
        .status(2)
        .says(&["this comes to a word of more than 1024 KiB"]);
    let list: Vec<String> = (0..1000).map(|n| n.to_string()).collect();
    let bed = Bed::new(&format!(
        "let l = {}\ntarget out/<a>-<b>-<c>\n  each a in @{{l}}\n  each b in @{{l}}\n  each c in @{{l}}\n  recipe: true\n",
        list.join(" ")
    ));
    bed.run(&[])
        .status(2)
        .says(&["this target comes to more than 5000000 steps"]);
}

/// Too little of something is no fault of the recipe.
#[test]
fn small_limits_of_the_system_are_told() {
    let bed = Bed::new("target out/<n>\n  each n in 1 2 3 4 5 6\n  recipe: echo > @{target}\n");
    bed.write("filler", "");
    for (limit, why) in [
        ("-n 14", "too many open files"),
        ("-u 1", "temporarily unavailable"),
    ] {
        let mut command = bed.command(&["-j6"]);
        let Some(other) = bed.as_nobody(&mut command) else {
            return;
        };
        let mut limited = Command::new("bash");
        limited
            .args(["-c", &format!("ulimit {limit}; exec \"$0\" -j6")])
            .arg(other.get_program())
            .current_dir(bed.root())
            .env("HOME", bed.path("../nobody"));
        std::os::unix::process::CommandExt::uid(&mut limited, 65534);
        let output = limited.output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr).to_lowercase();
        assert_eq!(output.status.code(), Some(3), "{limit}: {said}");
        assert!(said.contains(why), "{limit}: {said}");
    }
    let mut limited = Command::new("sh");
    limited
        .args(["-c", "ulimit -f 0; exec \"$0\""])
        .arg(bed.command(&[]).get_program())
        .current_dir(bed.root())
        .env("HOME", bed.path("../home"));
    let output = limited.output().unwrap();
    assert_eq!(output.status.code(), Some(3), "{output:?}");
}

#[test]
fn forged_records_of_runs_do_no_harm() {
    let bed = Bed::new(ONE);
    bed.write("in", "1\n");
    bed.run(&[]).status(0);
    let runs = fs::read_dir(bed.path(".handloom/runs")).unwrap();
    let file = runs.map(|entry| entry.unwrap().path()).next().unwrap();
    let good = fs::read_to_string(&file).unwrap();
    for (was, now) in [
        ("\"slot\":0", "\"slot\":18446744073709551615"),
        ("\"slot\":0", "\"slot\":4000000000"),
        ("\"step\":\"out\"", "\"step\":\"a\\u001b[2Jb\\ufffe\""),
        ("handloom", "hand\\u001b]0;title\\u0007loom"),
    ] {
        assert!(good.contains(was), "{was} is not in {good}");
        fs::write(&file, good.replace(was, now)).unwrap();
        for command in [
            &["history"][..],
            &["history", "out"],
            &["report"],
            &["report", "--to", "run.html"],
            &["report", "--to", "run.xml"],
            &["report", "--to", "run.json"],
        ] {
            let run = bed.run(command);
            assert!(matches!(run.status, Some(0 | 2)), "{}", run.shown());
            assert!(
                !run.out.contains('\u{1b}') && !run.err.contains('\u{1b}'),
                "{}",
                run.shown()
            );
        }
        for name in ["run.html", "run.xml"] {
            let text = fs::read_to_string(bed.path(name)).unwrap_or_default();
            assert!(!text.contains(['\u{1b}', '\u{fffe}']), "{name} for {now}");
        }
    }
}

#[test]
fn very_deep_projects_are_drawn_and_told() {
    let mut loom = "target t0\n  recipe: echo > t0\n".to_owned();
    for n in 1..3000 {
        loom += &format!("target t{n}\n  needs t{}\n  recipe: echo > t{n}\n", n - 1);
    }
    let bed = Bed::in_memory(&loom);
    for command in [
        &["graph"][..],
        &["graph", "--to", "g.svg"],
        &["graph", "--to", "g.json"],
        &["graph", "--all", "--to", "g.dot"],
        &["preview", "-q"],
        &["why", "t2999"],
    ] {
        let run = bed.run(command);
        assert!(matches!(run.status, Some(0 | 2)), "{}", run.shown());
    }
}
