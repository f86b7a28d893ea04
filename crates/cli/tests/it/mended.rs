//! `tidy --mend`: what is likely meant, written where it is wrong.

use crate::bed::Bed;

const WRONG: &str = "let lamp = red
include part
targte out
  needs in.txt
  rceipe: echo @{lmap} @{raw part/onw.first} > out
task check
  takes coers=2
  recipe: true
";
const RIGHT: &str = "let lamp = red
include part
target out
  needs in.txt
  recipe: echo @{lamp} @{raw part/own.first} > out
task check
  takes cores=2
  recipe: true
";

fn wrong() -> Bed {
    let bed = Bed::new(WRONG);
    bed.write("in.txt", "");
    bed.write(
        "part/hand.loom",
        "let own = 1\ntarget made\n  recipe: echo @{lpam} @{own} > made\n",
    );
    bed
}

/// A mistake may stand in front of others, that are only seen once it is mended.
#[test]
fn all_that_is_likely_meant_is_written_and_shown_first() {
    let bed = wrong();
    let shown = [
        "hand.loom:3",
        "- targte out",
        "+ target out",
        "part/hand.loom:3",
        "- recipe: echo @{lpam} @{own} > made",
        "+ recipe: echo @{lamp} @{own} > made",
    ];
    let run = bed.run(&["tidy", "--mend"]).status(1).says(&shown);
    assert!(run.err.contains("`--yes` writes it"), "{}", run.shown());
    assert_eq!(bed.read("hand.loom"), WRONG, "nobody said yes");
    bed.run(&["tidy", "--mend", "--yes"])
        .status(0)
        .says(&shown)
        .says(&["mended 2 files"]);
    assert_eq!(bed.read("hand.loom"), RIGHT);
    bed.run(&["out", "part/made"]).status(0);
    assert_eq!(bed.read("out"), "red 1\n");
    bed.run(&["tidy", "--mend"])
        .status(0)
        .says(&["nothing is wrong"]);
    let tree = crate::bed::tree(&bed.root());
    let left: Vec<&str> = tree.lines().filter(|name| name.contains(".new")).collect();
    assert!(left.is_empty(), "{left:?}");
}

/// What nobody can guess is left, and told.
#[test]
fn what_can_not_be_guessed_is_left() {
    let bed = Bed::new("let lamp = red\ntarget out\n  recipe: echo @{lmap} @{something} > out\n");
    bed.run(&["tidy", "--mend", "-y"])
        .status(2)
        .says(&["mended 1 file", "there is no variable `something` here"]);
    assert_eq!(
        bed.read("hand.loom"),
        "let lamp = red\ntarget out\n  recipe: echo @{lamp} @{something} > out\n"
    );
    bed.run(&["tidy", "--mend"])
        .status(2)
        .says(&["none of it can be mended like this", "something"]);
    bed.run(&["tidy", "--yes"]).status(2);
    bed.run(&["tidy", "--mend", "--check"]).status(2);
}

/// What can be nothing else is written; what is a guess is left to who wrote it.
#[test]
fn what_is_sure_is_written_and_no_guess_is() {
    for (wrong, right) in [
        ("lamp = red\n", "let lamp = red\n"),
        ("let lamp=red\n", "let lamp = red\n"),
        (
            "target out:\n  recipe: true\n",
            "target out\n  recipe: true\n",
        ),
        ("task a\n  needs: in.txt\n", "task a\n  needs in.txt\n"),
        (
            "task a\n  recipe: |\n    true\n",
            "task a\n  recipe:\n    true\n",
        ),
        (
            "task a\n  about Lights it\n  recipe: true\n",
            "task a\n  about: Lights it\n  recipe: true\n",
        ),
        (
            "task a\n  uses cores=1\n  recipe: true\n",
            "task a\n  takes cores=1\n  recipe: true\n",
        ),
        (
            "let r = value p.toml rat\ntask a\n  recipe: echo @{r}\n",
            "let r = value p.toml rate\ntask a\n  recipe: echo @{r}\n",
        ),
        (
            "target out/<n>\n  each n in 1 2\n  needs in.txt @{n.ste}\n  recipe: true\n",
            "target out/<n>\n  each n in 1 2\n  needs in.txt @{n.stem}\n  recipe: true\n",
        ),
        (
            "setting place.attic.shedule = slurm\n",
            "setting place.attic.scheduler = slurm\n",
        ),
    ] {
        let bed = Bed::new(wrong);
        bed.write("in.txt", "");
        bed.write("p.toml", "rate = 1\n");
        let run = bed.run(&["tidy", "--mend", "--yes"]);
        assert_eq!(bed.read("hand.loom"), right, "{}", run.shown());
    }
    for guess in [
        "out: in.txt\n",
        "task a\n  gcc -c in.c\n",
        "task a\n  cores 4\n  recipe: true\n",
        "let lamp red\n",
        "target out\n  needs $(SOURCES)\n  recipe: true\n",
    ] {
        let bed = Bed::new(guess);
        bed.run(&["tidy", "--mend", "--yes"])
            .status(2)
            .says(&["none of it can be mended like this"]);
        assert_eq!(bed.read("hand.loom"), guess);
    }
}
