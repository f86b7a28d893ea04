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
