//! Nothing is silent: names that are nothing, circles, commands that were not asked, secrets, the lock.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::process::Stdio;

use crate::bed::Bed;

#[test]
fn circles_are_told_also_where_nobody_would_miss_them() {
    let circle = "target a\n  needs b\n  recipe: true\ntarget b\n  needs a\n  recipe: true\n";
    let bed = Bed::new(&format!("{circle}target c\n  recipe: echo > c\n"));
    bed.weave(&[]).status(2).says(&["in a circle"]);
    let bed = Bed::new("let a = @{b}\nlet b = x @{a}\ntarget c\n  recipe: echo > c\n");
    bed.weave(&[])
        .status(2)
        .says(&["the value of `a` needs itself", "through `b`"]);
    // Conditions may keep a circle from ever closing.
    let bed = Bed::new(
        "let m = x\nlet a = @{b} when @{m} is y\nlet a = 1 when @{m} is x\nlet b = @{a} when @{m} is x\nlet b = 2 when @{m} is y\ntarget c\n  recipe: echo @{a} @{b} > c\n",
    );
    bed.weave(&[]).status(0);
    assert_eq!(bed.read("c"), "1 1\n");
}

#[test]
fn names_longer_than_the_system_takes_are_mistakes_in_the_description() {
    for name in ["x".repeat(300), "long/".repeat(900)] {
        let bed = Bed::new(&format!("target out/{}y\n  recipe: true\n", name));
        bed.weave(&[])
            .status(2)
            .says(&["a longer name than the system takes"]);
    }
}

#[test]
fn names_that_are_nothing_are_told_with_the_nearest() {
    for (loom, what, near) in [
        (
            "task check\n  after lnt\n  recipe: true\ntask lint\n  recipe: true\n",
            "`lnt`",
            "`lint`",
        ),
        (
            "target a\n  after b/gne.h\n  recipe: true\ntarget b/gen.h\n  recipe: true\n",
            "`b/gne.h`",
            "`b/gen.h`",
        ),
        (
            "task all\n  steps tst\ntask test\n  recipe: true\n",
            "`tst`",
            "`test`",
        ),
        (
            "default otu\ntarget out\n  recipe: true\n",
            "`otu`",
            "`out`",
        ),
        (
            "task all\n  after */nothing\n  recipe: true\n",
            "no task, target or file matches",
            "list --all",
        ),
        (
            "default nothing/*\ntarget out\n  recipe: true\n",
            "no task, target or file matches",
            "list --all",
        ),
    ] {
        Bed::new(loom).weave(&[]).status(2).says(&[what, near]);
    }
    // What is there may be named, and patterns mean tasks as well.
    let bed = Bed::new("target x\n  after README\n  recipe: echo > x\n");
    bed.write("README", "");
    bed.weave(&[]).status(0);
    let bed = Bed::new("include part\ntask all\n  after */lint\n  recipe: echo all >> log\n");
    bed.write(
        "part/hand.loom",
        "task lint\n  recipe: echo lint >> ../log\n",
    );
    bed.weave(&["all"])
        .status(0)
        .ended(&["part/lint made", "all made"]);
}

#[test]
fn a_pattern_never_runs_a_task() {
    let bed =
        Bed::new("target out\n  recipe: echo > out\ntask deploy\n  recipe: echo > deployed\n");
    bed.weave(&["*"]).status(0).ended(&["out made never-made"]);
    assert!(!bed.exists("deployed"));
    bed.run(&["run", "dep*"]).status(0);
    assert!(bed.exists("deployed"));
    bed.run(&["run", "no*"])
        .status(2)
        .says(&["no task matches"]);
}

#[test]
fn wrong_parameters_and_variables_are_told() {
    let bed = Bed::new(
        "let mode one of fast slow\ntask count from count=1\n  recipe: echo @{from} @{count}\n",
    );
    bed.run(&["run", "count", "1", "coutn=2"]).status(2).says(&[
        "`count` has no parameter `coutn`",
        "did you mean `count=…`?",
    ]);
    bed.run(&["run", "count", "a=b"]).status(0).says(&["a=b 1"]);
    let mut command = bed.command(&["list"]);
    command.env("HANDLOOM_LET_modes", "x");
    bed.finish(command, &["list"]).status(0).says(&[
        "`HANDLOOM_LET_modes` is set, but",
        "did you mean `HANDLOOM_LET_mode`?",
    ]);
}

#[test]
fn commands_that_were_not_asked_are_named_and_no_false_reason() {
    let bed = Bed::new(
        "let version = output cat version\ntarget out\n  recipe: echo @{version} > @{target}\n",
    );
    bed.write("version", "1\n");
    bed.run(&["preview"])
        .status(0)
        .says(&["what `cat version` would print is not known"]);
    bed.weave(&[]).status(0);
    bed.write("version", "2\n");
    for command in [&["preview"][..], &["why", "out"], &["graph"], &["settings"]] {
        bed.run(command)
            .status(0)
            .says(&["as far as `cat version` still prints what it did; `--ask` asks"]);
    }
    bed.run(&["why", "out"]).says_not("would run");
    bed.run(&["why", "out", "--ask"])
        .status(0)
        .says(&["would run"])
        .says_not("as far as");
    bed.run(&["preview", "--ask"]).status(0).says(&["out"]);
}

#[test]
fn leftovers_of_lists_that_commands_give_are_found() {
    let bed = Bed::new(
        "let names = output cat names\ntarget out/<n>\n  each n in @{names}\n  recipe: echo > @{target}\n",
    );
    bed.write("names", "a b\n");
    bed.weave(&[]).status(0);
    bed.write("names", "a\n");
    bed.run(&["clean", "--leftovers"])
        .status(0)
        .says(&["1 file removed"]);
    assert!(bed.exists("out/a") && !bed.exists("out/b"));
}

#[test]
fn a_conditional_variable_without_a_value_is_found_before_anything_runs() {
    let bed = Bed::new(
        "target early\n  recipe: echo > early\ntarget out/<u>\n  each u in lamp bulb\n  let opt = -O when @{u} is lamp\n  after early\n  recipe: echo @{opt} > @{target}\n",
    );
    bed.weave(&[])
        .status(2)
        .says(&["no definition of `opt` holds in the step with <u> = bulb"]);
    assert!(!bed.exists("early"));
}

#[test]
fn the_finally_of_a_task_that_stands_for_others_runs() {
    let loom = |how: &str| {
        format!(
            "task all\n  steps up {how}\n  finally: echo down >> log\ntask up\n  recipe: echo up >> log\ntask good\n  recipe: echo good >> log\ntask bad\n  recipe: exit 1\n"
        )
    };
    let bed = Bed::new(&loom("good"));
    bed.weave(&["all"]).status(0);
    assert_eq!(bed.read("log"), "up\ngood\ndown\n");
    let bed = Bed::new(&loom("bad"));
    bed.weave(&["all"])
        .status(1)
        .ended(&["up made", "bad failed", "all held"]);
    assert_eq!(bed.read("log"), "up\ndown\n");
}

#[test]
fn one_wrong_each_is_told_once() {
    let bed = Bed::new("target out/same\n  needs each in/<n>.txt\n  recipe: true\n");
    for n in 0..9 {
        bed.write(&format!("in/{n}.txt"), "");
    }
    let run = bed
        .weave(&[])
        .status(2)
        .says(&["with `<n> = 0`, and with `<n> = 1`"]);
    assert_eq!(run.err.matches("error").count(), 1, "{}", run.shown());
}

#[test]
fn a_running_terminal_task_does_not_block_the_project() {
    let bed = Bed::new(
        "task serve\n  terminal\n  needs out\n  recipe: echo $$ > pid; while ! test -e stop; do sleep 0.02; done\ntarget out\n  needs in\n  recipe: cp in @{target}\ntask inner\n  terminal\n  recipe: \"$PROGRAM\" out\n",
    );
    bed.write("in", "1\n");
    let mut child = bed.start(&["serve"]);
    bed.await_file("pid");
    bed.write("in", "2\n");
    bed.weave(&["--no-wait"])
        .status(0)
        .ended(&["out made prerequisite-changed"]);
    bed.write("in", "3\n");
    bed.weave(&["--no-wait"])
        .status(0)
        .ended(&["out made prerequisite-changed"]);
    assert_eq!(child.try_wait().unwrap(), None, "the server goes on");
    bed.write("stop", "");
    assert!(child.wait().unwrap().success());
    // From within a task that has the terminal, its project can be woven.
    bed.write("in", "4\n");
    let mut command = bed.command(&["inner"]);
    let program = command.get_program().to_owned();
    command.env("PROGRAM", program);
    bed.finish(command, &["inner"]).status(0);
    assert_eq!(bed.read("out"), "4\n");
}

#[test]
fn a_recipe_that_calls_hand_loom_in_its_own_project_is_told_at_once() {
    let bed =
        Bed::new("target a\n  recipe: \"$PROGRAM\" b; echo > a\ntarget b\n  recipe: echo > b\n");
    let mut command = bed.command(&["a"]);
    let program = command.get_program().to_owned();
    command.env("PROGRAM", program);
    bed.finish(command, &["a"]).status(1).says(&[
        "a recipe of this project calls Hand Loom",
        "after `needs` or `after`",
    ]);
    // In another project it may.
    let other = Bed::new("target b\n  recipe: echo > b\n");
    bed.write(
        "hand.loom",
        "target a\n  recipe: \"$PROGRAM\" --project \"$OTHER\"; echo > a\n",
    );
    let mut command = bed.command(&["a"]);
    let program = command.get_program().to_owned();
    command.env("PROGRAM", program).env("OTHER", other.root());
    bed.finish(command, &["a"]).status(0);
    assert!(other.exists("b"));
}

const SECRET: &str = "s3cr3t-Vellan";

#[test]
fn a_secret_is_written_nowhere() {
    let bed = Bed::new(
        "let token = secret VELLAN_TOKEN\ntarget out\n  recipe:\n    printf '%s' \"[@{token}]\" @{token} '@{token}' | cksum > @{target}\n    echo \"the token is $VELLAN_TOKEN\" @{token}; exit ${FAIL:-0}\ntarget env-out\n  env GIVEN = x@{token}y\n  recipe with python3:\n    import os\n    print(os.environ['GIVEN'])\n    open(@{target}, 'w').write(str(len(os.environ['GIVEN'])))\n",
    );
    let run = |token: &str, fail: &str, arguments: &[&str]| {
        let file = bed.path("../events");
        let mut all = vec!["--events", file.to_str().unwrap(), "-v"];
        all.extend(arguments);
        let mut command = bed.command(&all);
        command.env("VELLAN_TOKEN", token).env("FAIL", fail);
        let mut run = bed.finish(command, arguments);
        run.read_events(&file);
        run
    };
    let first = run(SECRET, "1", &["--on-failure", "continue"])
        .status(1)
        .says(&["the token is •••"]);
    run(SECRET, "0", &[]).status(0);
    assert_eq!(bed.read("env-out"), (SECRET.len() + 2).to_string());
    let expected = Command::new("sh")
        .args([
            "-c",
            &format!("printf '%s' '[{SECRET}]' {SECRET} {SECRET} | cksum"),
        ])
        .output()
        .unwrap();
    assert_eq!(bed.read("out").as_bytes(), expected.stdout);
    assert!(!first.shown().contains(SECRET), "{}", first.shown());
    let found = Command::new("grep")
        .args(["-rlF", SECRET, ".handloom", "../events"])
        .current_dir(bed.root())
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&found.stdout), "");
    run(SECRET, "0", &[]).all_kept(2);
    // Another value is a reason.
    run("other", "0", &[])
        .status(0)
        .ended(&["out made recipe-changed", "env-out made recipe-changed"]);
    bed.run(&["settings"]).status(0).says(&["•••"]);
    bed.run(&[])
        .status(2)
        .says(&["`VELLAN_TOKEN`, which holds a secret, is not set"]);
    bed.write(
        "hand.loom",
        "let token = secret VELLAN_TOKEN\ntarget out\n  recipe with python3: print(@{token})\n",
    );
    run("x", "0", &[])
        .status(2)
        .says(&["a secret can't be put into a script of `python3`"]);
}

#[test]
fn own_files_are_for_their_owner_alone() {
    let bed = Bed::new("target out\n  recipe: echo said; echo > out\n");
    fs::create_dir_all(bed.path(".handloom/logs/9")).unwrap();
    bed.write(".handloom/logs/9/1.log", "old\n");
    bed.set_mode(".handloom/logs/9/1.log", 0o644);
    bed.set_mode(".handloom", 0o755);
    bed.run(&[]).status(0);
    let mut open = vec![bed.path(".handloom")];
    while let Some(path) = open.pop() {
        let found = fs::symlink_metadata(&path).unwrap();
        let rights = found.permissions().mode() & 0o777;
        let expected = if found.is_dir() { 0o700 } else { 0o600 };
        assert_eq!(rights, expected, "{}", path.display());
        if found.is_dir() {
            open.extend(
                fs::read_dir(&path)
                    .unwrap()
                    .map(|entry| entry.unwrap().path()),
            );
        }
    }
}

/// A recipe that reads the terminal fails, and is not stopped for ever.
#[test]
fn a_recipe_that_reads_the_terminal_fails() {
    let bed = Bed::new("target out\n  recipe: read line < /dev/tty; echo > out\n");
    let program = bed.command(&[]).get_program().to_owned();
    let mut command = Command::new("script");
    command
        .args(["-qec", program.to_str().unwrap(), "/dev/null"])
        .current_dir(bed.root())
        .env("HOME", bed.path("../home"))
        .stdin(Stdio::null());
    let Ok(output) = command.output() else { return };
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        said.contains("reads the terminal: mark the task `terminal`"),
        "{said}"
    );
    assert_eq!(output.status.code(), Some(1), "{said}");
}

#[test]
fn an_interruption_ends_commands_for_values() {
    let bed = Bed::new(
        "target out\n  given output sh -c \"echo > began; echo x > began; sleep 600\"\n  recipe: echo > out\n",
    );
    let mut child = bed.start(&[]);
    bed.await_file("began");
    let sent = Command::new("kill")
        .args(["-INT", &child.id().to_string()])
        .status();
    assert!(sent.unwrap().success());
    assert_eq!(child.wait().unwrap().code(), Some(130));
}
