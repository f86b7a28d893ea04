//! Jobs side by side: what they may take, what they print, what is recorded of them.

use std::fs;
use std::process::Stdio;

use serde_json::Value;

use crate::bed::Bed;

/// Jobs that fail when more than so many of them run at once.
fn crowd(clause: &str, most: usize) -> String {
    format!(
        "supply lamp = 2
target out/<n>
  each n in 1 2 3 4 5 6 7 8
  {clause}
  recipe:
    mkdir -p here && touch here/@{{n}}
    test $(ls here | wc -l) -le {most}
    sleep 0.02
    test $(ls here | wc -l) -le {most}
    rm here/@{{n}}
    touch @{{target}}
"
    )
}

#[test]
fn jobs_take_no_more_than_there_is() {
    for (clause, jobs, most) in [
        ("takes lamp=1", "8", 2),
        ("takes lamp=2", "8", 1),
        ("takes cores=3", "8", 2),
        ("takes cores=99", "8", 1),
        ("takes memory=900000G", "8", 1),
        ("takes memory=1K", "3", 3),
        ("terminal-less", "2", 2),
    ] {
        let clause = if clause == "terminal-less" {
            ""
        } else {
            clause
        };
        let bed = Bed::new(&crowd(clause, most));
        let run = bed.weave(&["-j", jobs]).status(0).kept(0);
        assert_eq!(run.began().len(), 8, "{clause}: {}", run.shown());
    }
}

#[test]
fn more_than_there_is_of_an_own_supply_is_a_mistake() {
    let bed = Bed::new(&crowd("takes lamp=3", 1));
    let run = bed.weave(&[]).status(2).says(&[
        "3 of `lamp` are wanted, but there are only 2",
        "hand.loom:4",
    ]);
    assert_eq!(run.began(), [] as [&str; 0]);
}

#[test]
fn a_job_that_waits_for_a_supply_holds_no_other_up() {
    let bed = Bed::new(
        "supply lamp = 1
target a1
  takes lamp=1
  recipe: while [ ! -e free ]; do sleep 0.01; done; touch a1
target a2
  takes lamp=1
  recipe: touch a2
target free
  recipe: touch free
",
    );
    let run = bed.weave(&["-j2", "a1", "a2", "free"]).status(0);
    assert_eq!(run.began(), ["a1", "free", "a2"], "{}", run.shown());
}

#[test]
fn the_longest_way_to_go_comes_first() {
    let bed = Bed::new(
        "target short\n  recipe: touch short\n\
         target first\n  recipe: touch first\n\
         target second\n  needs first\n  recipe: touch second\n\
         target third\n  needs second\n  recipe: touch third\n\
         target slow\n  recipe: sleep 0.2; touch slow\n",
    );
    let all = ["-j1", "short", "third", "slow"];
    // Nothing is known: by the number of steps.
    let run = bed.weave(&all).status(0);
    assert_eq!(run.began()[0], "first", "{}", run.shown());
    for file in ["short", "first", "second", "third", "slow"] {
        bed.remove(file);
    }
    // Now it is known that one step takes longer than three.
    let run = bed.weave(&all).status(0);
    assert_eq!(run.began()[0], "slow", "{}", run.shown());
}

#[test]
fn much_output_is_kept_in_a_log_and_its_beginning_and_end_are_shown() {
    let bed = Bed::new("target out\n  recipe: seq 1000000; touch out\n");
    let run = bed.weave(&[]).status(0).says(&[
        "\n           1\n",
        "\n           1000000\n",
        "left out here; all of it is in .handloom/logs/1/1.log …",
    ]);
    assert!(run.out.len() < 1_200_000, "{}", run.out.len());
    let log = bed.read(".handloom/logs/1/1.log");
    assert_eq!(log.lines().count(), 1_000_000);
}

#[test]
fn output_is_shown_as_wished() {
    let loom = "target good\n  recipe: echo from good; touch good\ntarget bad\n  needs good\n  recipe: echo from bad; printf unended; exit 3\n";
    let bed = Bed::new(loom);
    let run = bed.run(&["--output", "live"]).status(1);
    assert!(run.out.starts_with("good │ from good\n"), "{}", run.shown());
    assert!(
        run.out.contains("bad │ from bad\nbad │ unended\n"),
        "{}",
        run.shown()
    );
    assert_eq!(
        run.out.matches("from bad").count(),
        2,
        "as run, and as printed: {}",
        run.shown()
    );
    let bed = Bed::new(loom);
    bed.run(&["--output", "failures"])
        .status(1)
        .says(&["from bad", "1 failed, 1 made"])
        .says_not("from good");
    let bed = Bed::new(loom);
    fs::create_dir_all(bed.root().join("../home/.config/handloom")).unwrap();
    bed.write(
        "../home/.config/handloom/settings.toml",
        "output = \"failures\"\n",
    );
    bed.run(&[]).status(1).says_not("from good");
}

#[test]
fn a_failure_tells_how_to_run_only_that() {
    let bed = Bed::new(
        "task ship where=\"the harbour\"\n  recipe: exit 3\ntarget sub/out\n  recipe: exit 4\n",
    );
    bed.run(&["run", "ship", "a b"])
        .status(1)
        .says(&["to run only what failed:\n  handloom run ship 'where=a b'\n"]);
    fs::create_dir(bed.path("sub")).unwrap();
    let mut command = bed.command(&["out"]);
    command.current_dir(bed.path("sub"));
    bed.finish(command, &["out"])
        .status(1)
        .says(&["to run only what failed:\n  handloom out\n"]);
}

#[test]
fn a_reader_that_does_not_read_holds_no_job_up() {
    const STEPS: usize = 800;
    let numbers: Vec<String> = (0..STEPS).map(|n| n.to_string()).collect();
    let bed = Bed::new(&format!(
        "target all\n  needs out/*\n  recipe: echo all > @{{target}}\n\n\
         target out/<n>\n  each n in {}\n  recipe: echo a line that is told of @{{n}}; touch @{{target}}\n",
        numbers.join(" ")
    ));
    for (arguments, told, times) in [
        (["--events", "-"], "\"ended\"", STEPS + 1),
        (["--output", "live"], "a line that is told of", STEPS),
    ] {
        let _ = fs::remove_file(bed.path("all"));
        let _ = fs::remove_dir_all(bed.path("out"));
        let mut command = bed.command(&arguments);
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        // More than a pipe takes, and nobody reads until the last output is there.
        bed.await_file("all");
        assert!(child.try_wait().unwrap().is_none(), "{told}: all was read");
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(0), "{told}");
        let text = String::from_utf8(output.stdout).unwrap();
        let found = text.lines().filter(|line| line.contains(told)).count();
        assert_eq!(found, times, "{told}: {text}");
    }
}

#[test]
fn each_run_is_recorded_and_only_the_last_are_kept() {
    let bed = Bed::new("target out\n  needs in\n  recipe: echo said; cp @{needs} @{target}\n");
    let settings = "../home/.config/handloom/settings.toml";
    fs::create_dir_all(bed.root().join("../home/.config/handloom")).unwrap();
    bed.write(settings, "runs = 3\n");
    for round in 0..5 {
        bed.write("in", &round.to_string());
        let _ = bed.run(&["--let", "none=x"]).status(2);
        let _ = bed.run(&[]).status(0);
        // Nothing runs, and nothing is recorded.
        let _ = bed.run(&[]).status(0);
    }
    let mut runs: Vec<String> = fs::read_dir(bed.path(".handloom/runs"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    runs.sort();
    assert_eq!(runs, ["3.jsonl", "4.jsonl", "5.jsonl"]);
    assert!(!bed.exists(".handloom/logs/2"));
    let lines: Vec<Value> = bed
        .read(".handloom/runs/5.jsonl")
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    assert_eq!(lines[0]["line"], "run");
    assert_eq!(lines[1]["step"], "out");
    assert_eq!(lines[1]["reasons"][0], "in differs");
    assert_eq!(lines[1]["log"], ".handloom/logs/5/1.log");
    assert_eq!(lines[2]["made"], 1);
    assert_eq!(bed.read(".handloom/logs/5/1.log"), "said\n");
}

const REMEMBERED: &str = "
let strict = no
task lint level=low
  about: Looks at the sources
  needs src/*.txt
  remember
  recipe: echo @{level} @{strict} >> log; ! grep -q wrong @{needs}
";

#[test]
fn a_remembered_task_runs_when_it_has_a_reason() {
    let bed = Bed::new(REMEMBERED);
    bed.write("src/a.txt", "a\n");
    bed.weave(&["lint"])
        .status(0)
        .ended(&["lint made never-made"]);
    bed.weave(&["lint"]).all_kept(1);
    bed.run(&["why", "lint"])
        .status(0)
        .says(&["lint would be kept", "src/a.txt"]);
    bed.write("src/b.txt", "b\n");
    bed.run(&["why", "lint"])
        .status(0)
        .says(&["lint would run, because", "src/b.txt"]);
    bed.weave(&["lint"])
        .ended(&["lint made prerequisite-added"]);
    bed.weave(&["--let", "strict=yes", "lint"])
        .ended(&["lint made recipe-changed"]);
    bed.weave(&["lint"]).ended(&["lint made recipe-changed"]);
    bed.write("src/a.txt", "wrong\n");
    bed.weave(&["lint"])
        .status(1)
        .ended(&["lint failed prerequisite-changed"]);
    bed.weave(&["lint"])
        .status(1)
        .ended(&["lint failed prerequisite-changed,failed-before"]);
    bed.write("src/a.txt", "a\n");
    bed.weave(&["lint"]).ended(&["lint made failed-before"]);
    bed.weave(&["--again", "lint"]).ended(&["lint made asked"]);
    let run = bed.run(&["run", "lint", "high"]).status(0);
    assert!(run.out.contains("done  lint"), "{}", run.shown());
    bed.run(&["run", "lint", "high"])
        .status(0)
        .says(&["1 kept"]);
    bed.run(&["preview", "lint"])
        .status(0)
        .says(&["1 would run"]);
}

#[test]
fn a_task_called_like_a_command_is_warned_of() {
    let bed = Bed::new("task clean\n  recipe: echo from the task\n");
    let run = bed.run(&["list"]).status(0);
    assert_eq!(
        run.err,
        "note: `handloom clean` is a command; the task is run with `handloom run clean`\n"
    );
    bed.run(&["clean"]).status(0).says_not("from the task");
    bed.run(&["run", "clean"])
        .status(0)
        .says(&["from the task"]);
}

#[test]
fn own_tasks_are_listed_apart_and_run_in_any_project() {
    let bed = Bed::new("task shared\n  recipe: echo the project\\'s\n");
    fs::create_dir_all(bed.root().join("../home/.config/handloom")).unwrap();
    let own = "../home/.config/handloom/hand.loom";
    bed.write(
        own,
        "task where\n  about: Tells the folder\n  recipe: pwd; ls\ntask shared\n  recipe: echo mine\n",
    );
    bed.run(&["list"])
        .status(0)
        .says(&["your own tasks, in any project", "Tells the folder"]);
    bed.run(&["where"]).status(0).says(&["hand.loom"]);
    bed.run(&["run", "where"]).status(0).says(&["hand.loom"]);
    bed.run(&["shared"]).status(0).says(&["the project's"]);
    bed.run(&["wherever"]).status(2).says(&["`wherever`"]);
    bed.write(own, "target x\n  recipe: touch x\n");
    bed.run(&["list"]).status(2).says(&[
        "your own description holds tasks alone",
        ".config/handloom/hand.loom:1",
    ]);
}

/// What a shell is offered for a line that is typed so far.
fn offered(bed: &Bed, typed: &[&str]) -> Vec<String> {
    let mut arguments = vec!["--", "handloom"];
    arguments.extend(typed);
    let mut command = bed.command(&arguments);
    command.env("HANDLOOM_COMPLETE", "fish");
    let run = bed.finish(command, &arguments).status(0);
    run.out
        .lines()
        .map(|line| line.split('\t').next().unwrap_or_default().to_owned())
        .filter(|line| !line.starts_with('-'))
        .collect()
}

#[test]
fn names_are_completed_and_nothing_is_run() {
    let bed = Bed::new(
        "let trap = output touch sprung\nlet cc = cc\ntarget out/a/1 out/a/2 out/b\n  recipe: touch @{target}\ntask check\n  recipe: true\ntask other\n  recipe: true\n",
    );
    assert_eq!(offered(&bed, &["out/"]), ["out/a/", "out/b"]);
    assert_eq!(offered(&bed, &["why", "out/a/"]), ["out/a/1", "out/a/2"]);
    assert_eq!(offered(&bed, &["run", ""]), ["check", "other"]);
    assert_eq!(offered(&bed, &["--let", "c"]), ["cc="]);
    assert!(offered(&bed, &["ch"]).contains(&"check".to_owned()));
    assert!(offered(&bed, &["cl"]).contains(&"clean".to_owned()));
    bed.write("hand.loom", "target\n");
    assert_eq!(offered(&bed, &["out/"]), [] as [&str; 0]);
    assert!(!bed.exists("sprung") && !bed.exists(".handloom"));
    for shell in ["bash", "zsh", "fish"] {
        bed.run(&["completions", shell])
            .status(0)
            .says(&["HANDLOOM_COMPLETE"]);
    }
}

#[test]
fn what_was_learned_and_only_luck_put_first_is_told() {
    let bed = Bed::new(
        "target gen\n  recipe: echo gen > gen\ntarget use\n  learn lines\n  recipe: cat gen > use; echo gen > @{learn}\n",
    );
    bed.run(&["-j1", "gen", "use"]).status(0).says(&[
        "`use` reads `gen`, which another target makes, but does not need it",
        "add `after gen`",
    ]);
}

/// Many short jobs are handed over ahead of time; a failure among them still begins nothing new.
#[test]
fn a_failure_among_many_short_jobs_leaves_no_mark_on_what_never_began() {
    let bed = Bed::new(
        "target out/<n>\n  each n in 01 02 03 04 05 06 07 08 09 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30\n  recipe: echo @{n} >> log; test @{n} != 20; touch @{target}\n",
    );
    let run = bed.weave(&["-j1"]).status(1);
    let began = run.began().len();
    assert_eq!(began, 20, "{}", run.shown());
    assert_eq!(bed.read("log").lines().count(), 20);
    let run = run.says(&["1 failed, 10 not begun, 19 made"]);
    assert_eq!(run.began().last(), Some(&"out/20"), "{}", run.shown());
    bed.write(
        "hand.loom",
        &bed.read("hand.loom").replace("!= 20", "!= 99"),
    );
    let run = bed.weave(&["-j1"]).status(0);
    for event in &run.events {
        if event["event"] == "ended" && event["step"].as_str() > Some("out/20") {
            assert_eq!(
                event["reasons"],
                serde_json::json!(["never-made"]),
                "{}",
                run.shown()
            );
        }
    }
}

#[test]
fn the_history_tells_of_runs_and_of_one_step_through_them() {
    let bed = Bed::new(
        "target out\n  needs in\n  recipe: grep -v wrong @{needs} > @{target}\ntarget other\n  needs in\n  recipe: cp @{needs} @{target}\n",
    );
    bed.run(&["history"])
        .status(0)
        .says(&["nothing has run in this project yet"]);
    bed.write("in", "a\n");
    let _ = bed.run(&["-j1"]).status(0);
    bed.write("in", "wrong\n");
    let _ = bed.run(&["-j1", "out"]).status(1);
    bed.run(&["history"]).status(0).says(&[
        "    1  ",
        "handloom -j1      ",
        "2 made",
        "    2  ",
        "handloom -j1 out  ",
        "1 failed",
    ]);
    bed.run(&["history", "out"]).status(0).says(&[
        "made",
        "never made",
        "failed",
        "exit status 1; in differs",
    ]);
    bed.run(&["history", "nothing"])
        .status(2)
        .says(&["`nothing` did not run in the last 2 runs"]);
    let run = bed.run(&["history", "--format", "json"]).status(0);
    let runs: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(runs[1]["failed"], 1);
    assert_eq!(runs[1]["killed"], false);
    let run = bed.run(&["history", "out", "--format", "json"]).status(0);
    let steps: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(steps[0]["ending"], "made");
    assert_eq!(steps[1]["run"], 2);
    // A run that was killed has no end.
    let record = bed.read(".handloom/runs/2.jsonl");
    let lines: Vec<&str> = record.lines().collect();
    bed.write(".handloom/runs/2.jsonl", &format!("{}\n", lines[0]));
    bed.run(&["history"])
        .status(0)
        .says(&["killed, after 0 jobs"]);
}

/// A folder that is a target is there for each try, as it is for the first.
#[test]
fn a_folder_is_made_anew_for_each_try() {
    let bed = Bed::new(
        "target tree/\n  retry 2\n  recipe: echo > tree/x; test -e mark || { touch mark; exit 1; }\n",
    );
    bed.weave(&[]).status(0).ended(&["tree/ made never-made"]);
    assert_eq!(bed.read("tree/x"), "\n");
}

#[test]
fn a_job_knows_how_many_cores_it_may_use_and_is_not_made_again_for_it() {
    let bed = Bed::new(
        "env ALL = -j@{cores}
target plain
  recipe: echo @{cores} \"@{cores}x\" $HANDLOOM_CORES $ALL > @{target}
target wide
  takes cores=3
  env OWN = @{cores}.@{cores}
  recipe: echo @{cores} $HANDLOOM_CORES $ALL $OWN > @{target}
target python
  takes cores=2
  recipe with python3:
    import os
    open(@{target}, \"w\").write(@{cores} + os.environ[\"HANDLOOM_CORES\"] + \"\\n\")
target swept-<cores>
  each cores in 7
  recipe: echo @{cores} $HANDLOOM_CORES > @{target}
task count
  takes cores=99
  remember
  recipe: echo @{cores} $HANDLOOM_CORES > counted
  finally: echo @{cores} >> counted
",
    );
    bed.weave(&["-j8", "count", "plain", "wide", "python", "swept-7"])
        .status(0);
    assert_eq!(bed.read("plain"), "1 1x 1 -j1\n");
    assert_eq!(bed.read("wide"), "3 3 -j3 3.3\n");
    assert_eq!(bed.read("python"), "22\n");
    assert_eq!(bed.read("swept-7"), "7 1\n");
    assert_eq!(bed.read("counted"), "8 8\n8\n");
    bed.weave(&["-j2", "count", "plain", "wide", "python", "swept-7"])
        .status(0)
        .kept(5);
    // What it takes is no reason either.
    bed.write(
        "hand.loom",
        &bed.read("hand.loom").replace("cores=3", "cores=2"),
    );
    bed.weave(&["-j2", "wide"]).status(0).kept(1);
    bed.remove("wide");
    bed.run(&["preview", "wide", "-v"])
        .status(0)
        .says(&["echo 2 $HANDLOOM_CORES $ALL $OWN"]);
    bed.weave(&["-j2", "wide"]).status(0);
    assert_eq!(bed.read("wide"), "2 2 -j2 2.2\n");
    // With a name of its own it is what the description says.
    bed.write(
        "hand.loom",
        "let cores = many\ntarget out\n  recipe: echo @{cores} > @{target}\n",
    );
    bed.weave(&["out"]).status(0);
    assert_eq!(bed.read("out"), "many\n");
    for wrong in [
        "  needs a@{cores}\n  recipe: true\n",
        "  let n = @{cores}\n  recipe: echo @{n}\n",
    ] {
        bed.write("hand.loom", &format!("target out\n{wrong}"));
        bed.run(&["out"]).status(2).says(&[
            "there is no variable `cores` here",
            "only recipes and their `env` know it",
        ]);
    }
}

#[test]
fn a_job_that_holds_more_memory_than_it_takes_is_remarked_on() {
    let recipe = |size: &str| {
        format!(
            "  recipe with python3:\n    held = bytearray({size})\n    for at in range(0, len(held), 4096): held[at] = 1\n    open(@{{target}}, \"w\").close()\n"
        )
    };
    let bed = Bed::new(&format!(
        "target big-<n>\n  each n in 1 2\n  takes memory=50M\n{}target enough\n  takes memory=1G\n{}target silent\n{}",
        recipe("200_000_000"),
        recipe("200_000_000"),
        recipe("200_000_000"),
    ));
    let run = bed.run(&["-j1"]).status(0).says(&[
        "warning[memory-exceeded]: `big-1` held ",
        "M of memory, and `takes` says 50M",
        "say as much as it needs",
    ]);
    assert_eq!(run.err.matches("warning").count(), 1, "{}", run.err);
    bed.run(&["history", "enough"]).status(0).says(&[" MB"]);
    bed.run(&["report"])
        .status(0)
        .says(&["never made · 2", " MB"]);
    bed.run(&[]).status(0).says_not("warning");
}
