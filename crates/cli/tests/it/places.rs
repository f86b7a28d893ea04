//! Places of the settings and of a description, without a cluster behind them.

use crate::bed::Bed;
use crate::bed::Run;

const FAR: &str = "setting place.far.scheduler = slurm
setting place.far.cores = 4
setting place.far.time = 2h
setting place.far.options = --partition=long --account=lights

target out
  on far
  recipe: touch out
target near
  recipe: touch near
";

fn with_settings(bed: &Bed, text: &str) {
    bed.write("../home/.config/handloom/settings.toml", text);
}

fn run(bed: &Bed, words: &[&str]) -> Run {
    // Where no scheduler's commands are.
    let mut command = bed.command(words);
    command.env("PATH", "/nowhere");
    bed.finish(command, words)
}

/// What the user says is stronger, key by key; and it is told where each comes from.
#[test]
fn a_description_may_describe_a_place() {
    let bed = Bed::new(FAR);
    with_settings(&bed, "[place.far]\ncores = 8\nworker = \"/opt/handloom\"\n");
    let said = bed.run(&["settings"]).status(0).out;
    let line = |name: &str| {
        let mut lines = said.lines().map(str::trim);
        let line = lines.find(|line| line.starts_with(&format!("{name} ")));
        let line = line.unwrap_or_else(|| panic!("no {name} in {said}"));
        line.split_whitespace().collect::<Vec<_>>().join(" ")
    };
    assert!(line("place.far").contains("4 x 8 cores"), "{said}");
    assert!(line("place.far.cores").ends_with("8 the user's settings"));
    assert!(line("place.far.time").ends_with("2h hand.loom:3"));
    let options = "place.far.options --partition=long --account=lights hand.loom:4";
    assert_eq!(line("place.far.options"), options);
    let says = [
        "no worker can be asked for at `far`: sbatch: it can't be run",
        "No such file",
    ];
    run(&bed, &["out"]).status(1).says(&says);
    run(&bed, &["near", "--on", "far"]).status(1).says(&says);
}

#[test]
fn what_a_place_may_not_be_is_said() {
    for (line, says) in [
        (
            "place.far.cores = 0",
            &[
                "`0` is no value of the setting `place.far.cores`",
                "it is a number from 1 to 4096",
            ][..],
        ),
        (
            "place.far.scheduler = cron",
            &["it is `slurm` or `gridengine`"],
        ),
        ("place.far.settle = soon", &["it is a time such as `30s`"]),
        ("place.far.memory = much", &["it is an amount such as `4G`"]),
        ("place.far.parallel = two words", &["it is a name"]),
        (
            "place.far.corse = 2",
            &[
                "there is no setting `place.far.corse`",
                "did you mean `cores`?",
            ],
        ),
        (
            "place.far = slurm",
            &["of a place there are: scheduler, cores"],
        ),
        (
            "place.far.worker = /opt/x",
            &["that is for each user to say: `worker` stands in your own settings"],
        ),
        (
            "place.here.cores = 2",
            &["`here` is the machine where it is typed"],
        ),
        (
            "place.far.most = 2\nsetting place.far.most = 3",
            &["`place.far.most` is set twice"],
        ),
    ] {
        let bed = Bed::new(&format!(
            "setting {line}\ntarget out\n  recipe: touch out\n"
        ));
        run(&bed, &[]).status(2).says(says);
    }
    let bed = Bed::new("target out\n  on far\n  recipe: touch out\n");
    let missing = "there is no place `far` in the settings";
    bed.run(&["preview"])
        .status(0)
        .says(&["out", missing, "hand.loom:2:6"]);
    with_settings(&bed, "[place.far]\ncores = 2\n");
    let preview = bed.run(&["preview"]).status(0);
    assert!(!preview.err.contains(missing), "{}", preview.shown());
    run(&bed, &[])
        .status(2)
        .says(&["nobody says which scheduler the place `far` has"]);
    with_settings(
        &bed,
        "[place.far]\nscheduler = \"slurm\"\nsettle = \"soon\"\n",
    );
    run(&bed, &[]).status(2).says(&[
        "says `settle = \"soon\"` in `[place.far]`",
        "it is a time such as `30s`",
    ]);
}

#[test]
fn places_are_completed() {
    let bed = Bed::new(FAR);
    with_settings(&bed, "[place.fast]\nscheduler = \"gridengine\"\n");
    let words = ["--", "handloom", "--on", "fa"];
    let mut command = bed.command(&words);
    command.env("HANDLOOM_COMPLETE", "fish");
    let said = bed.finish(command, &words).status(0).out;
    assert_eq!(said.lines().collect::<Vec<_>>(), ["far", "fast"]);
}
