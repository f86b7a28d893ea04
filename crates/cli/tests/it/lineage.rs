//! How files came about: the way back, what is told of what has changed since, made anew elsewhere, and as others read it.

use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

use crate::bed::Bed;

/// Two kinds of alike steps, labels, a header that is learned, values, and a step that needs a made one twice.
const LOOM: &str = "let flags = -O1
let title = 'of a year'
target out/<u>.o
  needs each src/<u>.c
  learn
  recipe: cc @{flags} -MMD -MF @{learn} -c @{needs} -o @{target}
target out/lamp
  needs out/*.o
  recipe: cc @{needs} -o @{target}
target out/<night>.txt
  needs
    log: each logs/<night>.log
    tool: out/lamp
  recipe: @{tool} @{night} < @{log} > @{target}
target out/all.txt
  env LC_ALL = C
  given env VELLAN_EDITION
  needs out/n?.txt
  recipe: echo \"${VELLAN_EDITION-}\" @{title} > @{target}; cat @{needs} >> @{target}
";

fn bed() -> Bed {
    let bed = Bed::new(LOOM);
    bed.write(
        "src/lamp.c",
        "#include <stdio.h>\n#include \"lamp.h\"\nint main(int count, char **words) { int lit = 0; while (getchar() != EOF) lit += LIT; printf(\"%s %d\\n\", words[count - 1], lit); return 0; }\n",
    );
    bed.write("src/lamp.h", "#define LIT 1\n");
    bed.write("logs/n1.log", "seen\n");
    bed.write("logs/n2.log", "seen well\n");
    bed
}

fn json(bed: &Bed, words: &[&str]) -> Value {
    let mut arguments = vec!["lineage", "--format", "json"];
    arguments.extend(words);
    let run = bed.run(&arguments);
    serde_json::from_str(&run.out).unwrap_or_else(|_| panic!("{}", run.shown()))
}

/// `STEP <- INPUT:ORIGIN, …` of each, from the sources on.
fn ways(lineage: &Value) -> Vec<String> {
    let steps = lineage["steps"].as_array().unwrap().iter();
    let steps = steps.map(|step| {
        let inputs = ["needs", "learned"].map(|kind| step[kind].as_array().unwrap().clone());
        let inputs = inputs.iter().flatten().map(|input| {
            let (path, from) = (&input["path"], &input["from"]);
            format!("{}:{}", path.as_str().unwrap(), from.as_str().unwrap())
        });
        let inputs: Vec<String> = inputs.collect();
        format!(
            "{} <- {}",
            step["step"].as_str().unwrap(),
            inputs.join(", ")
        )
    });
    steps.collect()
}

fn step<'v>(lineage: &'v Value, name: &str) -> &'v Value {
    let mut steps = lineage["steps"].as_array().unwrap().iter();
    steps.find(|step| step["step"] == name).unwrap()
}

fn script<'v>(lineage: &'v Value, name: &str) -> (&'v str, bool) {
    let recipe = &step(lineage, name)["recipe"];
    let script = recipe["script"].as_str().unwrap();
    (script, recipe["as_run"].as_bool().unwrap())
}

#[test]
fn the_whole_way_back_is_told_as_it_was_run() {
    let bed = bed();
    let mut command = bed.command(&["out/all.txt"]);
    command.env("VELLAN_EDITION", "spring");
    let _ = bed.finish(command, &[]).status(0);
    let lineage = json(&bed, &["out/all.txt"]);
    assert_eq!(
        ways(&lineage),
        [
            "out/lamp.o <- src/lamp.c:source, src/lamp.h:source",
            "out/lamp <- out/lamp.o:step",
            "out/n2.txt <- logs/n2.log:source, out/lamp:step",
            "out/n1.txt <- logs/n1.log:source, out/lamp:step",
            "out/all.txt <- out/n1.txt:step, out/n2.txt:step",
        ]
    );
    assert_eq!(
        script(&lineage, "out/lamp.o"),
        (
            "cc -O1 -MMD -MF .handloom/jobs/0.learn -c src/lamp.c -o out/lamp.o",
            true
        )
    );
    assert_eq!(
        script(&lineage, "out/n1.txt"),
        ("out/lamp n1 < logs/n1.log > out/n1.txt", true)
    );
    let all = step(&lineage, "out/all.txt");
    assert_eq!(all["recipe"]["env"]["LC_ALL"], "C");
    assert_eq!(all["given"]["env VELLAN_EDITION"], "spring");
    assert_eq!(all["how"], "made");
    let sources = lineage["sources"].as_array().unwrap().iter();
    let sources: Vec<&str> = sources.map(|one| one["path"].as_str().unwrap()).collect();
    assert_eq!(
        sources,
        ["logs/n1.log", "logs/n2.log", "src/lamp.c", "src/lamp.h"]
    );
    // The content of a file that may not be run is the digest of its bytes.
    let digest = |file: &str| blake3_of(&fs::read(bed.path(file)).unwrap());
    assert_eq!(all["outputs"][0]["content"], digest("out/all.txt"));
    assert_eq!(lineage["sources"][0]["content"], digest("logs/n1.log"));
    let run = &lineage["runs"][0];
    assert_eq!(
        (&run["run"], lineage["runs"].as_array().unwrap().len()),
        (&all["run"], 1)
    );
    assert_eq!(run["command"], "handloom out/all.txt");
    assert_eq!(run["commit"], Value::Null);

    let text = bed.run(&["lineage", "out/all.txt"]).status(0);
    text.says(&[
        "5 steps from 4 sources\n",
        "out/n1.txt, out/n2.txt  2 steps\n",
        "    @{tool} @{night} < @{log} > @{target}\n",
        "from      out/lamp\n  sources   logs/n1.log, logs/n2.log\n",
        "given     env VELLAN_EDITION = spring\n",
    ]);
    // Of a file on the way no more than its own way.
    assert_eq!(ways(&json(&bed, &["out/lamp"])).len(), 2);
}

fn blake3_of(bytes: &[u8]) -> String {
    let digest = handloom_core::world::Digest::of(bytes);
    digest.0.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[test]
fn what_has_changed_since_does_not_change_what_was() {
    let bed = bed();
    let _ = bed.run(&["out/all.txt"]).status(0);
    let checked = |words: &[&str]| {
        let mut arguments = vec!["out/all.txt", "--check"];
        arguments.extend(words);
        let found = json(&bed, &arguments);
        let files = found["differences"].as_array().unwrap().iter();
        let files = files.map(|one| format!("{} {}", one["path"], one["what"]).replace('"', ""));
        let steps = found["steps"].as_array().unwrap().iter();
        let steps = steps.map(|one| {
            let reasons = one["reasons"].as_array().unwrap().iter();
            let reasons: Vec<&str> = reasons.map(|one| one["kind"].as_str().unwrap()).collect();
            format!("{} {}", one["step"].as_str().unwrap(), reasons.join(" "))
        });
        let all: Vec<String> = files.chain(steps).collect();
        assert_eq!(found["same"], all.is_empty());
        all
    };
    assert_eq!(checked(&[]), [""; 0]);
    bed.run(&["lineage", "out/all.txt", "--check"])
        .status(0)
        .says(&["all is as it was when it was made: 5 steps, 4 sources"]);

    // The recipes of then are told, with what is recorded put in.
    let loom = bed
        .read("hand.loom")
        .replace("-O1", "-O2")
        .replace("cat @{needs}", "sort @{needs}");
    bed.write("hand.loom", &loom);
    bed.write("logs/n1.log", "seen again\n");
    bed.remove("out/n2.txt");
    let lineage = json(&bed, &["out/all.txt"]);
    assert_eq!(
        script(&lineage, "out/all.txt"),
        (
            "echo \"${VELLAN_EDITION-}\" 'of a year' > out/all.txt; cat out/n1.txt out/n2.txt >> out/all.txt",
            false
        )
    );
    assert_eq!(
        script(&lineage, "out/lamp.o").0,
        "cc -O1 -MMD -MF @{learn} -c src/lamp.c -o out/lamp.o"
    );
    assert_eq!(
        checked(&[]),
        [
            "logs/n1.log input-changed",
            "out/n2.txt output-missing",
            "out/lamp.o recipe-changed",
            "out/all.txt recipe-changed",
        ]
    );
    bed.run(&["lineage", "out/all.txt", "--check"])
        .status(1)
        .says(&[
            "logs/n1.log holds something else than out/n1.txt was made from\n",
            "out/lamp.o: its recipe differs\n",
        ]);
    bed.run(&["lineage", "out/all.txt", "--again", "proof"])
        .status(2)
        .says(&[
            "what it was made from is not there any more as it was",
            "logs/n1.log",
        ]);
    assert!(!bed.exists("proof"));

    // A step on the way is made anew: how what was seen of it came about is not known any more, and that is said.
    bed.write("logs/n1.log", "seen again and again\n");
    let _ = bed.run(&["out/n1.txt"]).status(0);
    let lineage = json(&bed, &["out/all.txt"]);
    assert!(
        ways(&lineage)
            .contains(&"out/all.txt <- out/n1.txt:made-anew-since, out/n2.txt:step".to_owned())
    );
    bed.run(&["lineage", "out/all.txt"])
        .status(0)
        .says(&["out/n1.txt was made anew since: how what was seen of it then came about"]);
    // Nothing describes it any more.
    bed.write("hand.loom", "target other\n  recipe: touch @{target}\n");
    let left = checked(&[]);
    assert!(left.contains(&"out/all.txt ".to_owned()), "{left:?}");
}

#[test]
fn it_is_kept_longer_than_the_records_of_runs_and_says_where_results_came_from() {
    let bed = Bed::new(
        "setting runs = 1\nsetting store.least = 0s\ntarget a\n  needs s\n  recipe: cp @{needs} @{target}\ntarget b\n  needs a t\n  recipe: cat @{needs} > @{target}\n",
    )
    .with_store();
    bed.write("s", "first\n");
    bed.write("t", "0\n");
    let _ = bed.run(&["b"]).status(0);
    let first = json(&bed, &["a"])["steps"][0].clone();
    for edition in 1..5 {
        bed.write("t", &format!("{edition}\n"));
        let _ = bed.run(&["b"]).status(0);
    }
    let lineage = json(&bed, &["b"]);
    assert_eq!(*step(&lineage, "a"), first);
    // Runs of which nothing stands any more are not told of.
    let runs = lineage["runs"].as_array().unwrap();
    let numbers: Vec<&Value> = runs.iter().map(|run| &run["run"]).collect();
    assert_eq!(numbers, [&first["run"], &step(&lineage, "b")["run"]]);
    // And back again, from the store.
    bed.write("t", "0\n");
    let _ = bed.run(&["b"]).status(0);
    let restored = json(&bed, &["b"]);
    let restored = step(&restored, "b");
    assert_eq!(restored["how"], "restored");
    let folder = bed.root().canonicalize().unwrap();
    let place = restored["from"]["place"].as_str().unwrap();
    assert!(
        place.ends_with(&format!(": {}", folder.display())),
        "{place}"
    );
    assert!(restored["ended"].as_str() < restored["recorded"].as_str());
    // What is taken as made has no beginning.
    bed.write("b", "by hand\n");
    let _ = bed.run(&["accept", "b"]).status(0);
    let accepted = json(&bed, &["b"]);
    let accepted = step(&accepted, "b");
    assert_eq!(
        (&accepted["how"], &accepted["began"]),
        (&"accepted".into(), &Value::Null)
    );
    bed.run(&["lineage", "b"])
        .status(0)
        .says(&["nothing is known to have made it"]);
}

fn git(bed: &Bed, words: &[&str]) {
    let mut command = Command::new("git");
    command.args([
        "-c",
        "user.name=lookout",
        "-c",
        "user.email=lookout@vellan.test",
    ]);
    let status = command
        .args(words)
        .current_dir(bed.root())
        .output()
        .unwrap();
    assert!(status.status.success(), "{words:?}: {status:?}");
}

#[test]
fn the_commit_is_told_and_whether_the_tree_was_clean() {
    // Long enough for a slow version control to have answered.
    let bed = Bed::new("target out\n  needs in\n  recipe: sleep 1; cp @{needs} @{target}\n");
    bed.write("in", "1\n");
    bed.write(".gitignore", "/out\n");
    let commit = |bed: &Bed| {
        let run = bed.weave(&["out"]).status(0);
        // Its program is nothing that a recipe left behind.
        let run = run.says_not("background");
        assert_eq!(run.began(), ["out"]);
        json(bed, &["out"])["runs"][0]["commit"].clone()
    };
    assert_eq!(commit(&bed), Value::Null);
    git(&bed, &["init", "-q"]);
    bed.remove("out");
    // Nothing is committed yet.
    assert_eq!(commit(&bed), Value::Null);
    git(&bed, &["add", "-A"]);
    git(&bed, &["commit", "-qm", "one"]);
    bed.remove("out");
    let clean = commit(&bed);
    assert_eq!(clean["clean"], true);
    assert_eq!(clean["id"].as_str().unwrap().len(), 40);
    bed.write("in", "2\n");
    bed.write("a new file", "");
    let dirty = commit(&bed);
    assert_eq!(dirty["clean"], false);
    assert_eq!(dirty["changed"], serde_json::json!(["in", "a new file"]));
    bed.run(&["lineage", "out"])
        .status(0)
        .says(&[", not clean: in, a new file\n"]);
    // A version control that can't tell says nothing, and nothing is made up.
    fs::write(bed.path(".git/index"), "no index").unwrap();
    bed.write("in", "3\n");
    let unknown = commit(&bed);
    assert_eq!(
        (&unknown["id"], &unknown["clean"]),
        (&dirty["id"], &Value::Null)
    );
}

#[test]
fn what_was_made_before_a_kill_knows_its_run() {
    let bed = Bed::new(
        "target first\n  recipe: echo x > @{target}\ntarget last\n  needs first\n  recipe: touch begun; sleep 30; cp @{needs} @{target}\n",
    );
    let mut run = bed.start(&["last"]);
    let begun = std::time::Instant::now();
    while !bed.exists("begun") {
        assert!(begun.elapsed().as_secs() < 60, "it did not begin");
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    run.kill().unwrap();
    run.wait().unwrap();
    let lineage = json(&bed, &["first"]);
    assert_eq!(lineage["runs"][0]["command"], "handloom last");
    assert_eq!(lineage["runs"][0]["run"], lineage["steps"][0]["run"]);
    bed.run(&["lineage", "last"])
        .status(2)
        .says(&["`last` was never made here"]);
}

#[test]
fn a_file_is_made_anew_elsewhere_and_compared() {
    let bed = bed();
    let _ = bed.run(&["out/all.txt"]).status(0);
    // What was edited on the way does not matter, and the project stays as it is.
    bed.write("out/n1.txt", "by hand\n");
    let before = crate::bed::tree(&bed.root());
    bed.run(&["lineage", "out/all.txt", "--again", "../proof"])
        .status(0)
        .says(&[
            "making out/all.txt anew in ../proof from 5 files\n",
            "out/all.txt came out the same, byte for byte, and so did all on the way: 5 files of 5 steps",
        ]);
    assert_eq!(crate::bed::tree(&bed.root()), before);
    let proof = bed.root().parent().unwrap().join("proof");
    let there = fs::read_to_string(proof.join("out/all.txt")).unwrap();
    assert_eq!(there, bed.read("out/all.txt"));
    bed.run(&["lineage", "out/all.txt", "--again", "../proof"])
        .status(2)
        .says(&["`../proof` is not empty"]);
}

#[test]
fn what_does_not_come_out_the_same_is_named() {
    let bed = Bed::new(
        "target dice\n  needs in\n  recipe: cat @{needs} /proc/sys/kernel/random/uuid > @{target}\ntarget length\n  needs dice\n  recipe: wc -l < @{needs} > @{target}\ntarget twice\n  needs dice\n  recipe: cat @{needs} @{needs} > @{target}\ntarget luck\n  needs in\n  recipe: cat @{needs} hidden > @{target}\ntarget place\n  needs in\n  recipe: pwd > @{target}\n",
    );
    bed.write("in", "x\n");
    bed.write("hidden", "y\n");
    let _ = bed.run(&["length", "twice", "luck", "place"]).status(0);
    bed.run(&["lineage", "twice", "--again", "../twice"])
        .status(1)
        .says(&[
            "twice came out differently\n",
            "dice differs, although it was made from the same\n",
            "twice differs, as does something that it was made from\n",
        ]);
    bed.run(&["lineage", "length", "--again", "../length"])
        .status(1)
        .says(&[
            "length came out the same, byte for byte, but not all on the way did\n",
            "dice differs, although it was made from the same\n",
        ]);
    bed.run(&["lineage", "place", "--again", "../place"])
        .status(1)
        .says(&["place differs: it holds the name of the folder that it was made in\n"]);
    // What a recipe reads without naming it is not there.
    bed.run(&["lineage", "luck", "--again", "../luck"])
        .status(1)
        .says(&["hidden: No such file or directory"]);
}

#[test]
fn a_recipe_of_a_part_is_told_as_it_sees_its_files() {
    let bed = Bed::new(
        "include lib\ntarget all\n  needs lib/out lib/deep\n  recipe: cat @{needs} > @{target}\n",
    );
    bed.write(
        "lib/hand.loom",
        "let word = first\ntarget out\n  needs src/a\n  recipe: cat @{needs} > @{target}; echo @{word} >> @{target}\ntarget deep\n  needs src/a\n  in src\n  recipe: cat @{needs} > @{target}; echo @{word} >> @{target}\n",
    );
    bed.write("lib/src/a", "x\n");
    let _ = bed.run(&[]).status(0);
    let told = |as_run: bool, word: &str| {
        let lineage = json(&bed, &["all"]);
        let out = format!("cat src/a > out; echo {word} >> out");
        assert_eq!(script(&lineage, "lib/out"), (out.as_str(), as_run));
        let deep = format!("cat a > ../deep; echo {word} >> ../deep");
        assert_eq!(script(&lineage, "lib/deep"), (deep.as_str(), as_run));
    };
    told(true, "first");
    let loom = bed
        .read("lib/hand.loom")
        .replace("word = first", "word = second");
    bed.write("lib/hand.loom", &loom);
    told(false, "first");
    // Where nothing describes it any more, it is not known from where it saw its files.
    bed.write("hand.loom", "include lib\n");
    bed.write(
        "lib/hand.loom",
        &loom
            .replace("target out", "target other")
            .replace("  needs src/a\n  recipe: cat @{needs}", "  recipe: echo"),
    );
    let lineage = json(&bed, &["lib/out"]);
    assert_eq!(
        script(&lineage, "lib/out"),
        ("cat @{needs} > @{target}; echo first >> @{target}", false)
    );
}

#[test]
fn links_whole_folders_and_odd_names_are_told_of() {
    let bed = Bed::new(
        "target 'out/a b.txt'\n  needs link\n  recipe: cat @{needs} > @{target}\ntarget out/copy\n  needs 'out/a b.txt'\n  recipe: ln -s 'a b.txt' @{target}\ntarget tree/\n  needs out/copy\n  recipe: mkdir -p @{target}/sub; cat @{needs} > @{target}/sub/one; touch @{target}/two\ntarget last\n  needs tree/\n  recipe: cat @{needs}sub/one > @{target}\n",
    );
    bed.write("real", "light\n");
    bed.link("real", "link");
    let _ = bed.run(&["last"]).status(0);
    let lineage = json(&bed, &["last"]);
    assert_eq!(
        ways(&lineage),
        [
            "out/a b.txt <- link:source",
            "out/copy <- out/a b.txt:step",
            "tree/ <- out/copy:step",
            "last <- tree/:step",
        ]
    );
    let check = |file: &str| bed.run(&["lineage", file, "--check"]);
    check("last").status(0).says(&["4 steps, 1 source"]);
    // A file in a whole folder came about as the folder did; the folder may be typed without its slash.
    assert_eq!(ways(&json(&bed, &["tree/sub/one"])).len(), 3);
    assert_eq!(ways(&json(&bed, &["tree"])).len(), 3);
    bed.run(&["lineage", "last", "--again", "../proof"])
        .status(0)
        .says(&["came out the same"]);
    // What a link leads to is what was read.
    bed.write("real", "dark\n");
    check("last")
        .status(1)
        .says(&["link holds something else than out/a b.txt was made from"]);
    bed.write("real", "light\n");
    check("last").status(0).says(&["all is as it was"]);
    bed.write("tree/two", "more\n");
    check("last")
        .status(1)
        .says(&["tree/ is not as it was made"]);
}

#[test]
fn what_was_seen_to_be_read_is_part_of_it_also_outside_of_the_project() {
    let bed = Bed::new(
        "target a.o\n  needs a.c\n  learn watched everywhere\n  recipe: cc -c @{needs} -o @{target}\n",
    );
    bed.write("a.c", "#include \"a.h\"\nint a = A;\n");
    bed.write("a.h", "#define A 1\n");
    let _ = bed.run(&["a.o"]).status(0);
    let lineage = json(&bed, &["a.o"]);
    let learned = lineage["steps"][0]["learned"].as_array().unwrap().iter();
    let learned: Vec<&str> = learned.map(|one| one["path"].as_str().unwrap()).collect();
    assert!(learned.contains(&"a.h"), "{learned:?}");
    // The compiler itself, with its content.
    let tool = learned.iter().find(|path| path.ends_with("/cc1")).unwrap();
    let sources = lineage["sources"].as_array().unwrap().iter();
    let tool = sources.clone().find(|one| one["path"] == **tool).unwrap();
    assert_eq!(tool["content"].as_str().unwrap().len(), 64);
    bed.run(&["lineage", "a.o"]).status(0).says(&[
        "1 step from 2 sources and ",
        " files outside of the project\n",
        "  outside   ",
    ]);
    bed.run(&["lineage", "a.o", "--check"])
        .status(0)
        .says(&["all is as it was"]);
    bed.run(&["lineage", "a.o", "--again", "../proof"])
        .status(0)
        .says(&["came out the same"]);
    // What it looked for in vain, and found in the next folder.
    bed.write("a.h", "#define A 2\n");
    bed.run(&["lineage", "a.o", "--check"])
        .status(1)
        .says(&["a.h holds something else than a.o was made from"]);
}

#[test]
fn what_came_about_in_no_step_is_said_to_have() {
    let bed = bed();
    let _ = bed.run(&["out/lamp"]).status(0);
    for (file, says) in [
        ("src/lamp.c", "`src/lamp.c` is a source: no step made it"),
        ("out/n1.txt", "`out/n1.txt` was never made here"),
        ("out/lam", "did you mean `out/lamp`?"),
        ("none", "nothing is known of `none`"),
    ] {
        bed.run(&["lineage", file]).status(2).says(&[says]);
    }
    let folder = Bed::new(
        "target out/\n  recipe: mkdir -p out/sub; echo > out/sub/a\ntask t\n  recipe: true\n",
    );
    folder.run(&[]).status(0);
    let run = folder.run(&["lineage", "out/sub/a"]).status(0);
    assert!(run.out.starts_with("out/sub/a  in out/ "), "{}", run.out);
    folder.run(&["t"]).status(0);
    folder.run(&["history", "t"]).status(0).says(&["  done  "]);
    for (file, says) in [
        ("out/sub/b", "`out/sub/b` is not in `out/`"),
        ("t", "`t` is a task: it makes no file"),
        (".", "`.` lies outside of what is made here"),
        (
            "/etc/passwd",
            "`/etc/passwd` lies outside of what is made here",
        ),
    ] {
        folder.run(&["lineage", file]).status(2).says(&[says]);
    }
    // The asked file stands in front by itself, also when a step far behind it has the same recipe.
    let cat = "  recipe: cat @{needs} > @{target}\n";
    let chain = Bed::new(&format!(
        "target a\n  needs in\n{cat}target b\n  needs a\n  recipe: cp a b\ntarget c\n  needs b\n{cat}"
    ));
    chain.write("in", "1\n");
    chain.run(&["c"]).status(0);
    let text = chain.run(&["lineage", "c"]).status(0).out;
    let heads = text.lines().filter(|line| ["a", "b", "c"].contains(line));
    assert_eq!(heads.collect::<Vec<_>>(), ["c", "b", "a"], "{text}");
    bed.run(&["lineage", "out/lamp", "--to", "lamp.xml"])
        .status(2)
        .says(&["`lamp.xml` is no form that a lineage can be written in"]);
    bed.run(&[
        "lineage",
        "out/lamp",
        "--to",
        "lamp.json",
        "--without-files",
    ])
    .status(2)
    .says(&["`--without-files` is for a Process Run Crate"]);
    bed.run(&["lineage", "out/lamp", "--to", "src"])
        .status(2)
        .says(&["`src` is not empty"]);
    let text = bed
        .run(&["lineage", "out/lamp", "--to", "lamp.json"])
        .status(0);
    text.says(&["wrote lamp.json"]);
    let written: Value = serde_json::from_str(&bed.read("lamp.json")).unwrap();
    assert_eq!(written, json(&bed, &["out/lamp"]));
}

#[expect(clippy::print_stderr, reason = "a test that lacks something says so")]
/// What a program of the environment says, where CI has one.
fn said(variable: &str, arguments: &[&Path]) -> Option<(bool, String)> {
    let Some(words) = std::env::var(variable).ok() else {
        eprintln!("no {variable}: not read back by others");
        return None;
    };
    let mut words = words.split(' ');
    let mut command = Command::new(words.next().unwrap());
    let output = command.args(words).args(arguments).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let errors = String::from_utf8_lossy(&output.stderr);
    Some((output.status.success(), format!("{text}{errors}")))
}

#[test]
fn prov_is_read_by_others_as_it_is_told() {
    let bed = bed();
    let _ = bed.run(&["out/all.txt"]).status(0);
    bed.write("out/n1.txt", "by hand\n");
    let _ = bed.run(&["accept", "out/n1.txt"]).status(0);
    let _ = bed.run(&["out/all.txt"]).status(0);
    let file = bed.path("all.prov.json");
    bed.run(&["lineage", "out/all.txt", "--to", "all.prov.json"])
        .status(0)
        .says(&["wrote all.prov.json"]);
    let document: Value = serde_json::from_str(&bed.read("all.prov.json")).unwrap();
    let count = |kind: &str| document[kind].as_object().map_or(0, serde_json::Map::len);
    // Five steps made five files of four sources; one of them is accepted, and derived from what it needs.
    assert_eq!(
        ["entity", "activity", "wasGeneratedBy", "wasDerivedFrom"].map(count),
        [13, 4, 4, 2]
    );
    let Some((done, text)) = said("HANDLOOM_PROV", &[&file]) else {
        return;
    };
    assert!(done, "{text}");
    assert_eq!(
        text,
        "out/all.txt: out/n1.txt, out/n2.txt -> out/all.txt\nout/lamp.o: src/lamp.c, src/lamp.h -> out/lamp.o\nout/lamp: out/lamp.o -> out/lamp\nout/n2.txt: logs/n2.log, out/lamp -> out/n2.txt\nderived: out/n1.txt from logs/n1.log\nderived: out/n1.txt from out/lamp\n"
    );
}

#[test]
fn a_process_run_crate_is_complete_and_checked_by_others() {
    let bed = bed();
    let _ = bed.run(&["out/all.txt"]).status(0);
    bed.run(&["lineage", "out/all.txt", "--to", "crate"])
        .status(0)
        .says(&["wrote crate with 9 files\n"]);
    bed.run(&["lineage", "out/all.txt", "--to", "alone", "--without-files"])
        .status(0)
        .says(&["wrote alone with 0 files\n"]);
    let of = |folder: &str| -> Vec<Value> {
        let text = bed.read(&format!("{folder}/ro-crate-metadata.json"));
        let all: Value = serde_json::from_str(&text).unwrap();
        all["@graph"].as_array().unwrap().clone()
    };
    let files = of("crate").into_iter().filter(|one| one["@type"] == "File");
    let files: Vec<Value> = files.collect();
    assert_eq!(files.len(), 9);
    for file in &files {
        let name = file["name"].as_str().unwrap();
        let bytes = fs::read(bed.path(&format!("crate/{name}"))).unwrap();
        assert_eq!(bytes, fs::read(bed.path(name)).unwrap());
        assert_eq!(file["contentSize"], bytes.len().to_string());
        let sum = Command::new("sha256sum")
            .arg(bed.path(name))
            .output()
            .unwrap();
        let sum = String::from_utf8(sum.stdout).unwrap();
        assert!(sum.starts_with(file["sha256"].as_str().unwrap()), "{sum}");
    }
    assert!(of("alone").iter().all(|one| one["@type"] != "File"));
    assert_eq!(bed.path("alone").read_dir().unwrap().count(), 1);
    for folder in ["crate", "alone"] {
        if let Some((done, text)) = said("HANDLOOM_CRATE", &[&bed.path(folder)]) {
            assert!(done, "{folder}: {text}");
            let passed = text.lines().last().unwrap_or_default();
            assert!(passed.ends_with(" required checks passed"), "{text}");
            // The checker can fail: of a crate whose file is gone.
            if folder == "crate" {
                bed.remove("crate/src/lamp.c");
                let (done, text) = said("HANDLOOM_CRATE", &[&bed.path(folder)]).unwrap();
                assert!(!done, "{text}");
            }
        }
    }
    // What is not there as it was recorded is described alone.
    bed.write("logs/n1.log", "other\n");
    bed.run(&["lineage", "out/all.txt", "--to", "later"])
        .status(0)
        .says(&["wrote later with 8 files; 1 is not there as recorded, and described alone\n"]);
}
