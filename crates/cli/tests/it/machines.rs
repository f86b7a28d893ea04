//! What programs read: the keys of every answer in JSON, of the events, and of the job file. Keys may be
//! added, never renamed: each one that was there once is listed here.

use std::collections::BTreeSet;

use serde_json::Value;

use crate::bed::Bed;

const LOOM: &str = "let tool = cp
default out/all
target out/<name>
  about: A copy
  needs each in/<name>
  given env PLACE
  recipe:
    echo copying
    @{tool} @{needs} @{target}
target copy: out/all  list: out/list
  about: All copies together
  needs
    parts: out/a out/b
    also: more
  let local = x y
  recipe:
    cp \"$HANDLOOM_JOB\" job.json
    cat @{parts} > @{copy}
    echo @{local} > @{list}
target broken
  needs out/all
  recipe: echo no; exit 4
target behind
  needs broken
  recipe: true
task show word=one
  about: Shows a word
  needs out/all
  recipe: echo @{word}
";

fn project() -> Bed {
    let bed = Bed::new(LOOM);
    for name in ["in/a", "in/b", "more"] {
        bed.write(name, name);
    }
    let _ = bed.run(&[]).status(0);
    let _ = bed.run(&["behind"]).status(1);
    bed.write("in/a", "other");
    bed
}

/// Every key with the way to it: `steps[].would`.
fn keys(value: &Value, way: &str, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(object) => {
            for (key, value) in object {
                let way = if way.is_empty() {
                    key.clone()
                } else {
                    format!("{way}.{key}")
                };
                keys(value, &way, found);
                found.insert(way);
            }
        }
        Value::Array(values) => {
            for value in values {
                keys(value, &format!("{way}[]"), found);
            }
        }
        _ => {}
    }
}

#[track_caller]
fn has_keys(value: &Value, expected: &str) {
    let mut found = BTreeSet::new();
    keys(value, "", &mut found);
    for key in expected.split_whitespace() {
        assert!(found.contains(key), "{key} is gone: {found:#?}");
    }
}

fn answer(bed: &Bed, arguments: &[&str]) -> Value {
    let mut all = arguments.to_vec();
    all.extend(["--format", "json"]);
    let run = bed.run(&all).status(0);
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}\n{}", run.shown()))
}

#[test]
fn answers_keep_their_keys() {
    let bed = project();
    has_keys(
        &answer(&bed, &["list"]),
        "targets[].outputs targets[].about targets[].needs targets[].part tasks[].name tasks[].about
         tasks[].parameters[].name tasks[].parameters[].default tasks[].part own",
    );
    has_keys(
        &answer(&bed, &["preview"]),
        "steps[].step steps[].outputs steps[].would steps[].reasons",
    );
    has_keys(
        &answer(&bed, &["why", "out/a"]),
        "step reasons[].kind reasons[].path reasons[].was reasons[].now",
    );
    has_keys(
        &answer(&bed, &["graph"]),
        "nodes[].id nodes[].kind nodes[].name nodes[].about nodes[].would nodes[].count nodes[].counts.run
         nodes[].counts.keep nodes[].counts.failed nodes[].reason nodes[].files edges[].from edges[].to edges[].kind",
    );
    has_keys(
        &answer(&bed, &["history"]),
        "[].run [].started [].command [].killed [].made [].same [].kept [].restored [].failed [].held
         [].stopped [].seconds",
    );
    has_keys(
        &answer(&bed, &["history", "out/all"]),
        "[].run [].started [].step [].task [].ending [].reasons [].began [].seconds [].slot [].exit [].memory
         [].processor [].log [].place [].by [].after [].waited",
    );
    has_keys(
        &answer(&bed, &["report"]),
        "run started command jobs killed seconds summary.failed summary.held job_seconds processor
         longest[].step longest[].seconds longest[].waited least groups[].by groups[].place groups[].jobs
         groups[].seconds groups[].processor groups[].longest steps[].step steps[].ending steps[].reasons
         steps[].before steps[].printed before.run before.started before.command before.seconds
         before.summary.made",
    );
    has_keys(
        &answer(&bed, &["settings"]),
        "settings[].name settings[].value settings[].from variables[].name variables[].value
         variables[].from",
    );
}

#[test]
fn answers_use_the_words_of_the_design() {
    let bed = project();
    let preview = answer(&bed, &["preview", "behind"]);
    let words = |key: &str| -> BTreeSet<String> {
        let steps = preview["steps"].as_array().unwrap().iter();
        steps
            .map(|step| step[key].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!(
        words("would"),
        ["keep", "maybe", "run"].map(str::to_owned).into()
    );
    let why = answer(&bed, &["why", "out/a"]);
    assert_eq!(why["reasons"][0]["kind"], "prerequisite-changed");
    assert_eq!(why["reasons"][0]["path"], "in/a");
}

#[test]
fn events_keep_their_keys() {
    let bed = project();
    bed.write("out/b", "edited");
    let run = bed.weave(&["behind"]).status(1);
    let of = |kind: &str| {
        let found = run.events.iter().find(|event| event["event"] == kind);
        found.unwrap_or_else(|| panic!("{kind}\n{}", run.shown()))
    };
    has_keys(of("planned"), "event jobs");
    has_keys(of("began"), "event step reasons task slot");
    has_keys(
        of("ended"),
        "event step ending reasons seconds exit task took.began took.slot took.processor took.memory log",
    );
    has_keys(of("moved"), "event path to");
    has_keys(
        of("summary"),
        "event made same kept restored failed held stopped unstarted seconds",
    );
    assert_eq!(run.events.last().unwrap()["event"], "summary");
}

#[test]
fn recipes_read_their_facts() {
    let bed = project();
    let facts: Value = serde_json::from_str(&bed.read("job.json")).unwrap();
    assert_eq!(facts["targets"], serde_json::json!(["out/all", "out/list"]));
    assert_eq!(
        facts["target_groups"]["copy"],
        serde_json::json!(["out/all"])
    );
    assert_eq!(
        facts["target_groups"]["list"],
        serde_json::json!(["out/list"])
    );
    assert_eq!(
        facts["needs"],
        serde_json::json!(["out/a", "out/b", "more"])
    );
    assert_eq!(facts["need_groups"]["also"], serde_json::json!(["more"]));
    assert_eq!(facts["variables"]["local"], serde_json::json!(["x", "y"]));
    let root = bed.root().canonicalize().unwrap();
    assert_eq!(facts["folder"], root.to_str().unwrap());
}

/// What only reads runs nothing, writes nothing, and takes no lock.
#[test]
fn answers_run_nothing_and_write_nothing() {
    let bed = project();
    let files = |bed: &Bed| {
        let own = crate::bed::tree(&bed.path(".handloom"));
        let ledger = std::fs::read(bed.path(".handloom/ledger")).unwrap_or_default();
        (crate::bed::tree(&bed.root()), own, ledger)
    };
    let before = files(&bed);
    let lock = std::fs::File::open(bed.path(".handloom/lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    for arguments in [
        &["list"][..],
        &["list", "--all"],
        &["preview"],
        &["preview", "--again", "broken"],
        &["why", "out/a"],
        &["why", "out/a", "--last"],
        &["graph"],
        &["graph", "--to", "svg"],
        &["history"],
        &["history", "out/a"],
        &["report"],
        &["settings"],
    ] {
        let _ = bed.run(arguments).status(0);
    }
    assert_eq!(files(&bed), before);
}
