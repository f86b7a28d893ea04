//! The demonstration project, as `handloom demo` writes it.

use crate::bed::Bed;

fn demo() -> Bed {
    let bed = Bed::new("");
    bed.run(&["demo", "almanac"]).status(0).says(&[
        "wrote the demonstration project",
        "49 made",
        "Try next",
    ]);
    bed
}

fn in_demo(bed: &Bed, arguments: &[&str]) -> crate::bed::Run {
    let mut all = vec!["--project", "almanac"];
    all.extend(arguments);
    bed.weave(&all)
}

#[test]
fn the_demonstration_does_what_it_promises() {
    let bed = demo();
    assert!(bed.read("almanac/out/almanac.html").contains("Vellan Head"));
    in_demo(&bed, &[]).all_kept(49);
    let log = bed.read("almanac/logs/dunmarrow.csv");
    bed.write("almanac/logs/dunmarrow.csv", &format!("{log}# seen\n"));
    in_demo(&bed, &[])
        .status(0)
        .ended(&["out/clean/dunmarrow.csv same prerequisite-changed"])
        .kept(48);
    bed.write(
        "almanac/logs/dunmarrow.csv",
        &format!("{log}2031-12-31,24\n"),
    );
    in_demo(&bed, &[]).status(0).ended(&[
        "out/clean/dunmarrow.csv made prerequisite-changed",
        "out/months/dunmarrow.csv made prerequisite-changed",
        "out/lights/dunmarrow.svg made prerequisite-changed",
        "out/summary.csv made prerequisite-changed",
        "out/almanac.html made prerequisite-changed",
    ]);
    let header = bed.read("almanac/src/months.h");
    bed.write(
        "almanac/src/months.h",
        &header.replace("Lamp hours", "Hours of the lamp"),
    );
    in_demo(&bed, &["out/bin/lightrange"]).status(0).ended(&[
        "out/obj/main.o same learned-changed",
        "out/obj/months.o same learned-changed",
        "out/obj/draw.o same learned-changed",
    ]);
    in_demo(&bed, &["check"]).status(0).ended(&["check made"]);
    bed.run(&["--project", "almanac", "run", "publish", "spring"])
        .status(0)
        .says(&["put edition spring on the draft board"]);
}

#[test]
fn it_is_never_written_over_something() {
    let bed = Bed::new("");
    bed.write("full/file", "x");
    bed.run(&["demo", "full"])
        .status(2)
        .says(&["`full` is not empty"]);
    let mut command = bed.command(&["demo", "almanac"]);
    command.env("PATH", "/nonexistent");
    bed.finish(command, &["demo without tools"])
        .status(2)
        .says(&["programs that are not on this machine: cc, sh, awk, sort"]);
}

/// The study runs on little, and of an edit only what depends on it.
#[test]
fn the_study_does_what_it_promises() {
    let bed = Bed::new("");
    bed.run(&["demo", "--example", "fog", "fog"])
        .status(0)
        .says(&[
            "wrote the demonstration project to `fog`",
            "75 made in ",
            "The study is in fog/out/report.html. Try next:",
            "handloom demo  the other one",
        ]);
    let text = bed.read("fog/out/report.html");
    assert!(
        !text.contains("[number") && !text.contains("[figure"),
        "{text}"
    );
    assert!(text.contains("books of 18 nights") && text.matches("<svg").count() == 2);
    let weave = |words: &[&str]| {
        let mut all = vec!["--project", "fog"];
        all.extend(words);
        bed.weave(&all).status(0)
    };
    weave(&[]).all_kept(75);
    assert!(
        !bed.exists("fog/out/clean/n01.csv"),
        "it is only there while it is needed"
    );
    // One value of the sweep: five lights, and what shows them.
    let params = bed.read("fog/params.toml");
    bed.write("fog/params.toml", &params.replace("0.7", "0.8"));
    let lights = ["dunmarrow", "holm", "orrick", "sele", "tarn"];
    let mut expected: Vec<String> = lights
        .iter()
        .map(|light| format!("out/sweep/{light}/0.8.csv made never-made"))
        .collect();
    expected.extend([
        "out/sweep.csv made prerequisite-added,prerequisite-dropped".to_owned(),
        "out/figures/ranges.svg made prerequisite-changed".to_owned(),
        "out/numbers.json same prerequisite-changed".to_owned(),
        "out/report.html made prerequisite-changed".to_owned(),
    ]);
    let expected: Vec<&str> = expected.iter().map(String::as_str).collect();
    weave(&[]).ended(&expected);
    // The same values, written otherwise: nothing.
    bed.write(
        "fog/params.toml",
        &params
            .replace("0.7", "0.8")
            .replace("draws = 400", "draws  =  400 # as before"),
    );
    weave(&[]).kept(75);
    // A night belongs to another weather: its book is cleaned once more, since nothing kept it.
    let samples = bed.read("fog/samples.csv");
    bed.write(
        "fog/samples.csv",
        &samples.replace("n18.csv,fog", "n18.csv,haze"),
    );
    let run = weave(&[]);
    let began = run.began();
    for step in [
        "out/clean/n18.csv",
        "out/nights/haze/n18.csv",
        "out/weather/fog.csv",
        "out/weather/haze.csv",
        "out/report.html",
    ] {
        assert!(began.contains(&step), "{}", run.shown());
    }
    assert_eq!(began.len(), 9, "{}", run.shown());
    weave(&["check"]).ended(&["check made never-made"]);
    weave(&["check"]).kept(1);
    bed.run(&["--project", "fog", "run", "night", "n03"])
        .status(0)
        .says(&["n03,clear,"]);
    // A number that the text cites and nobody has.
    bed.write("fog/text/report.html", "[number moon]\n");
    bed.run(&["--project", "fog"])
        .status(1)
        .says(&["cites moon, which is no number: best_in_fog"]);
}
