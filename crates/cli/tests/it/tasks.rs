//! Tasks: arguments, orders, what they wait for.

use crate::bed::Bed;

#[test]
fn a_task_runs_each_time_and_makes_what_it_needs_first() {
    let bed = Bed::new(
        "target out\n  recipe: echo x > @{target}\ntask show\n  needs out\n  recipe: cat @{needs} >> log\n",
    );
    bed.weave(&["show"])
        .status(0)
        .ended(&["out made never-made", "show made"]);
    bed.weave(&["show"]).status(0).ended(&["show made"]).kept(1);
    assert_eq!(bed.read("log"), "x\nx\n");
}

#[test]
fn arguments_are_checked_and_quoted() {
    let bed = Bed::new(
        "task publish edition channel=draft\n  recipe: printf '[%s]' @{edition} @{channel} @{extra} > log\n",
    );
    bed.run(&["run", "publish", "the 1st", "--", "-x", "y z"])
        .status(0);
    assert_eq!(bed.read("log"), "[the 1st][draft][-x][y z]");
    bed.run(&["run", "publish", "channel=final", "2nd"])
        .status(0);
    assert_eq!(bed.read("log"), "[2nd][final]");
    let usage = "handloom run publish EDITION [channel=draft]";
    bed.run(&["run", "publish"])
        .status(2)
        .says(&["`publish` needs a value for `edition`", usage]);
    bed.run(&["run", "publish", "a", "b", "c"])
        .status(2)
        .says(&["`c` is one value too many", usage]);
    bed.run(&["run", "publish", "a", "edition=b"])
        .status(2)
        .says(&["`edition` is given twice", usage]);
    bed.run(&["run", "publich"])
        .status(2)
        .says(&["did you mean `handloom run publish`?"]);
    bed.write("hand.loom", "task plain\n  recipe: true\n");
    bed.run(&["run", "plain", "--", "x"])
        .status(2)
        .says(&["`plain` takes no extra words"]);
}

#[test]
fn steps_come_strictly_one_after_another() {
    let bed = Bed::new(
        "task all\n  steps generate out/use second\n  recipe: echo all >> log\n\
         task generate\n  recipe: echo generate >> log; echo made > source\n\
         target out/use\n  needs source\n  recipe: echo use >> log; cp @{needs} @{target}\n\
         task second\n  recipe: echo second >> log\n",
    );
    bed.write("source", "old");
    bed.weave(&["-j8", "all"]).status(0).ended(&[
        "generate made",
        "out/use made never-made",
        "second made",
        "all made",
    ]);
    assert_eq!(bed.read("log"), "generate\nuse\nsecond\nall\n");
    assert_eq!(
        bed.read("out/use"),
        "made\n",
        "it saw what the step before it wrote"
    );
    bed.weave(&["all"])
        .status(0)
        .ended(&["generate made", "second made", "all made"])
        .kept(1);
}

#[test]
fn a_failed_step_holds_the_rest() {
    let bed = Bed::new(
        "task all\n  steps bad good\ntask bad\n  recipe: exit 3\ntask good\n  recipe: echo >> log\n",
    );
    bed.weave(&["all"])
        .status(1)
        .ended(&["bad failed", "good held", "all held"]);
    assert!(!bed.exists("log"));
}

#[test]
fn after_orders_without_giving_a_reason() {
    let bed = Bed::new(
        "task before\n  recipe: echo before >> log\ntarget out\n  after before other\n  recipe: echo out >> log; echo > @{target}\ntarget other\n  needs in\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("in", "1");
    bed.weave(&["-j4", "out"]).status(0).ended(&[
        "before made",
        "other made never-made",
        "out made never-made",
    ]);
    assert_eq!(bed.read("log"), "before\nout\n");
    bed.write("in", "2");
    bed.weave(&["out"]).status(0).says_not("out made").kept(1);
    bed.weave(&["out"]).all_kept(2);
}

#[test]
fn a_task_without_a_recipe_is_a_name_for_what_it_needs() {
    let bed = Bed::new(
        "task both\n  needs a b\ntarget a\n  recipe: echo > a\ntarget b\n  recipe: echo > b\n",
    );
    let run = bed.weave(&["both"]).status(0);
    assert!(bed.exists("a") && bed.exists("b"), "{}", run.shown());
}

const CALLS: &str = "let base = out/@{board}

target out/<b>.hex
  each b in uno mega nano
  recipe: echo @{b} > @{target}

task flash board one of uno mega speed=9600
  about: Write a board
  needs @{base}.hex
  limit @{wait}s
  let wait = 5
  env SPEED = @{speed}
  recipe: echo flash @{needs} $SPEED @{board} >> log

task both
  steps 'flash uno' 'flash mega speed=300'

task each-board
  after \"flash @{one}\"
  let one = mega
  recipe: echo after >> log

task pack files…
  in sub
  needs sub/<here>.txt
  recipe: echo pack @{files.count} @{files} >> ../log
";

#[test]
fn values_of_a_task_stand_in_every_clause() {
    let loom = CALLS.replace("  needs sub/<here>.txt\n", "");
    let bed = Bed::new(&loom);
    bed.write("sub/x", "");
    let log = || {
        let text = bed.read("log");
        bed.remove("log");
        text
    };
    bed.weave(&["run", "flash", "mega"]).status(2);
    let run = |words: &[&str]| bed.run(words).status(0);
    let _ = run(&["run", "flash", "mega"]);
    assert_eq!(log(), "flash out/mega.hex 9600 mega\n");
    assert!(
        !bed.exists("out/uno.hex"),
        "only what it needs for this value"
    );
    let _ = run(&["run", "flash"]);
    assert_eq!(log(), "flash out/uno.hex 9600 uno\n");
    let _ = run(&["run", "flash", "speed=1", "uno"]);
    assert_eq!(log(), "flash out/uno.hex 1 uno\n");
    let _ = run(&["both"]);
    assert_eq!(
        log(),
        "flash out/uno.hex 9600 uno\nflash out/mega.hex 300 mega\n"
    );
    let _ = run(&["each-board"]);
    assert_eq!(log(), "flash out/mega.hex 9600 mega\nafter\n");
    let _ = run(&["run", "pack", "a b", "c"]);
    assert_eq!(log(), "pack 2 a b c\n");
    let _ = run(&["run", "pack"]);
    assert_eq!(log(), "pack 0\n");
    bed.run(&["run", "flash", "nano"]).status(2).says(&[
        "`board` is one of uno, mega, and not `nano`",
        "handloom run flash [board=uno|mega] [speed=9600]",
    ]);
    bed.run(&["run", "flash", "mga"])
        .status(2)
        .says(&["did you mean `board=mega`?"]);
    bed.run(&["run", "flash", "--help"])
        .says(&["handloom run flash [board=uno|mega] [speed=9600]"]);
    bed.run(&["list"])
        .status(0)
        .says(&["flash [board=uno|mega] [speed=9600]", "pack [FILES…]"])
        .says_not("flash uno");
    let list = bed.run(&["list", "--format", "json"]).status(0).out;
    assert!(list.contains("\"choices\""), "{list}");
    bed.run(&["graph", "both"]).status(0);
    bed.run(&["preview", "both"])
        .status(0)
        .says(&["flash uno", "flash mega 300"]);
    let made = bed.weave(&["both"]).status(0);
    let ran: Vec<_> = made.began();
    assert_eq!(ran, ["flash uno", "flash mega 300"]);
    bed.run(&["history"]).status(0);
}

#[test]
fn a_call_that_does_not_fit_is_told_at_its_place() {
    for (steps, says) in [
        (
            "'flash nano'",
            "`board` is one of uno, mega, and not `nano`",
        ),
        ("'flash uno 1 2'", "`2` is one value too many for `flash`"),
        ("'flash sped=1'", "`flash` has no parameter `sped`"),
        ("'publish'", "no task or target is called"),
        ("publish", "the task `publish` needs a value for `edition`"),
        ("'publish spring '", ""),
    ] {
        let bed = Bed::new(&format!(
            "task flash board one of uno mega speed=9600\n  recipe: true\ntask publish edition\n  recipe: true\ntask all\n  steps {steps}\n"
        ));
        let run = bed.run(&["all"]);
        match says {
            "" => run.status(0),
            "no task or target is called" => run.status(2).says(&["needs a value"]),
            says => run.status(2).says(&[says]),
        };
    }
    for (line, says) in [
        (
            "task t a… b\n  recipe: true\n",
            "`b` stands behind one that takes all the rest",
        ),
        (
            "task t a one of\n  recipe: true\n",
            "`one of` is not followed by words",
        ),
        ("task t a one of x y b\n  recipe: true\n", ""),
        (
            "task t a=1 one of x y\n  recipe: true\n",
            "`one of` stands behind a plain name",
        ),
        (
            "task t n\n  steps 't @{n}x'\n  recipe: true\ntask u\n  steps 't a'\n",
            "",
        ),
    ] {
        let run = Bed::new(line).run(&["list"]);
        match says {
            "" => run.status(0),
            says => run.status(2).says(&[says]),
        };
    }
    let bed = Bed::new("task t n\n  steps \"t @{n}x\"\n  recipe: true\ntask u\n  steps 't a'\n");
    bed.run(&["u"]).status(2).says(&["does a task call itself"]);
}

#[test]
fn what_comes_in_the_end_comes_whatever_happened() {
    let bed = Bed::new(
        "task try how
  recipe: echo try >> log; @{how}
  finally: echo script >> log
  finally close 'say done'
task close
  recipe: echo close >> log
task say word
  recipe: echo @{word} >> log
task group
  steps 'try false' close
  finally close
task wrong
  recipe: true
  finally group
",
    );
    bed.run(&["list"])
        .status(2)
        .says(&["`finally` stands here twice"]);
    let loom = bed
        .read("hand.loom")
        .replace("  finally: echo script >> log\n", "");
    bed.write("hand.loom", &loom);
    bed.run(&["list"])
        .status(2)
        .says(&["the task `group` can't be done in the end"]);
    let loom = loom.split("task wrong").next().unwrap().to_owned();
    bed.write("hand.loom", &loom);
    let log = || {
        let text = bed.read("log");
        bed.remove("log");
        text
    };
    bed.run(&["run", "try", "true"]).status(0);
    assert_eq!(log(), "try\nclose\ndone\n");
    bed.run(&["run", "try", "false"]).status(1);
    assert_eq!(log(), "try\nclose\ndone\n");
    bed.run(&["group"]).status(1);
    assert_eq!(log(), "try\nclose\ndone\nclose\n");
    // Also when it is interrupted.
    let mut child = bed.start(&["run", "try", "sleep 60"]);
    bed.write("hand.loom", &loom.replace("@{how}", "@{raw how}"));
    let _ = child.kill();
    let _ = child.wait();
}

#[test]
fn what_is_done_in_the_end_is_done_after_an_interruption_too() {
    let bed = Bed::new(
        "task wait\n  recipe: echo began > began; exec sleep 60\n  finally close\ntask close\n  recipe: echo closed > closed\n",
    );
    let mut child = bed.start(&["wait"]);
    bed.await_file("began");
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert_eq!(bed.read("closed"), "closed\n");
}

#[test]
fn the_environment_of_all_recipes_is_set_at_the_left_edge() {
    let bed = Bed::new(
        "env LAMP = lit @{shade}
env file .env
env file local.env if there
let shade = red
include part
target out
  recipe: echo $LAMP $TOKEN ${MORE-none} > @{target}
target own
  env LAMP = own
  recipe: echo $LAMP > @{target}
task show
  recipe: echo $LAMP $TOKEN
",
    );
    bed.write(
        ".env",
        "# all\nexport TOKEN='se cret' # x\n\nEMPTY=\nQUOTED=\"a\\nb\"\n",
    );
    bed.write(
        "part/hand.loom",
        "env LAMP = part\ntarget out\n  recipe: echo $LAMP $EMPTY. \"$QUOTED\" > @{target}\n",
    );
    bed.weave(&[]).status(0).ended(&[
        "out made never-made",
        "own made never-made",
        "part/out made never-made",
    ]);
    assert_eq!(bed.read("out"), "lit red se cret none\n");
    assert_eq!(bed.read("own"), "own\n");
    assert_eq!(bed.read("part/out"), "part . a\nb\n");
    bed.run(&["show"]).status(0).says(&["lit red se cret"]);
    std::thread::sleep(std::time::Duration::from_millis(1100));
    bed.weave(&[]).all_kept(3);
    // Which of them a recipe looks at nobody knows.
    bed.write(".env", "TOKEN=other\nEMPTY=\nQUOTED=\"a\\nb\"\n");
    bed.weave(&[]).status(0).ended(&[
        "out made recipe-changed",
        "own same recipe-changed",
        "part/out same recipe-changed",
    ]);
    bed.write("local.env", "MORE=1\n");
    bed.weave(&["out"])
        .status(0)
        .ended(&["out made recipe-changed"]);
    assert_eq!(bed.read("out"), "lit red other 1\n");
    // What stands in such a file is nowhere written down.
    let why = bed.run(&["why", "out", "--last"]).status(0);
    let _ = why.says_not("other");
    let ledger = std::process::Command::new("grep")
        .args(["-rl", "se cret", ".handloom"])
        .current_dir(bed.root())
        .output()
        .unwrap();
    // The log of a task that printed it is all.
    let found = String::from_utf8_lossy(&ledger.stdout).into_owned();
    assert!(found.lines().all(|line| line.contains("/logs/")), "{found}");
    bed.write(".env", "TOKEN\n");
    bed.run(&[])
        .status(2)
        .says(&["`.env` line 1: there is no `=`"]);
}

#[test]
fn what_may_be_missing_counts_when_it_comes() {
    let bed = Bed::new(
        "include local.loom if there\ninclude part if there\ntarget out\n  recipe: echo @{mode} > @{target}\nlet mode = release\n",
    );
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    std::thread::sleep(std::time::Duration::from_millis(1100));
    bed.weave(&[]).all_kept(1);
    bed.weave(&[]).all_kept(1);
    bed.write("local.loom", "let mode = debug when @{os} is not plan9\n");
    let loom = bed
        .read("hand.loom")
        .replace("include local.loom if there\n", "")
        + "include local.loom if there\n";
    bed.write("hand.loom", &loom);
    bed.weave(&[]).status(0).ended(&["out made recipe-changed"]);
    std::thread::sleep(std::time::Duration::from_millis(1100));
    bed.weave(&[]).all_kept(1);
    bed.weave(&[]).all_kept(1);
    bed.write("part/hand.loom", "target x\n  recipe: echo x > @{target}\n");
    bed.weave(&[]).status(0).ended(&["part/x made never-made"]);
    bed.remove("local.loom");
    bed.weave(&[]).status(0).ended(&["out made recipe-changed"]);
    bed.run(&["tidy"]).status(0);
}

#[test]
fn tasks_know_where_they_were_typed() {
    let bed = Bed::new("task where file\n  in @{here}\n  recipe: pwd; cat @{file}\n");
    bed.write("deep/er/x", "text\n");
    let mut command = bed.command(&["run", "where", "x"]);
    command.current_dir(bed.path("deep/er"));
    let folder = bed.path("deep/er");
    bed.finish(command, &[])
        .status(0)
        .says(&[folder.to_str().unwrap(), "text"]);
    bed.write(
        "hand.loom",
        "target out\n  recipe: echo @{here} > @{target}\n",
    );
    bed.run(&[])
        .status(2)
        .says(&["there is no variable `here` here", "only tasks know it"]);
}

#[test]
fn own_tasks_run_where_there_is_no_project() {
    let bed = Bed::new("");
    let own = "task count file\n  about: Count the lines of a file\n  in @{here}\n  recipe: wc -l < @{file}\n";
    bed.write("../home/.config/handloom/hand.loom", own);
    let folder = bed.root().with_file_name("nowhere");
    std::fs::create_dir_all(folder.join("sub")).unwrap();
    std::fs::write(folder.join("sub/notes.txt"), "1\n2\n3\n").unwrap();
    let run = |words: &[&str]| {
        let mut command = bed.command(words);
        command.current_dir(folder.join("sub"));
        bed.finish(command, words)
    };
    run(&["run", "count", "notes.txt"]).status(0).says(&["3"]);
    run(&["count", "notes.txt"]).status(0).says(&["3"]);
    run(&["list"])
        .status(0)
        .says(&["count FILE", "Count the lines of a file"]);
    run(&["cuont", "notes.txt"])
        .status(2)
        .says(&["did you mean `handloom run count`?"]);
    run(&["preview"])
        .status(2)
        .says(&["there is no `hand.loom`"]);
    assert_eq!(
        std::fs::read_dir(folder.join("sub")).unwrap().count(),
        1,
        "nothing is left there"
    );
}

#[test]
fn a_project_says_what_a_failure_stops() {
    let bed = Bed::new(
        "setting on-failure = continue\nsetting jobs = 1\ntarget a\n  recipe: false\ntarget b\n  recipe: echo b > @{target}\n",
    );
    bed.weave(&[])
        .status(1)
        .ended(&["a failed never-made", "b made never-made"]);
    bed.run(&["settings"])
        .status(0)
        .says(&["on-failure", "continue", "hand.loom:1"]);
    bed.write("b", "");
    bed.run(&["clean", "-y"]).status(0);
    bed.weave(&["--on-failure", "stop"])
        .status(1)
        .ended(&["a failed never-made,failed-before"]);
    bed.write("hand.loom", "setting on-failure = maybe\n");
    bed.run(&["list"]).status(2).says(&[
        "`maybe` is no value of the setting `on-failure`",
        "it is `stop` or `continue`",
    ]);
}

#[test]
fn a_value_that_is_typed_as_a_name_is_told_from_a_source() {
    let bed = Bed::new(
        "task start program one of day night\n  needs out/@{program}\n  recipe: true\n\
         target out/<program>\n  each program in day night\n  needs source\n  recipe: touch @{target}\n",
    );
    bed.write("source", "");
    bed.run(&["start", "night"])
        .status(2)
        .says(&["if it is a value of the task `start`: `handloom run start night`"]);
    bed.run(&["source"])
        .status(2)
        .says(&["it is a source: other files are made from it"]);
    bed.run(&["night"]).status(2).says_not("it is a source");
}
