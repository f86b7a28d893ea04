//! File names that are hard on shells.

use crate::bed::Bed;

const HARD: [&str; 10] = [
    "with space",
    "it's",
    "dou\"ble",
    "dol$HOME",
    "back\\slash",
    "semi;colon & more",
    "über-ñ-灯",
    "-dash",
    "star[1]{a}",
    "new#hash`tick`",
];

#[test]
fn hard_names_work_from_end_to_end() {
    let bed = Bed::new(
        "target out/<name>.out\n  needs each in/<name>.in\n  recipe: cat ./@{needs} > ./@{target}\n\
         target all\n  needs out/*.out\n  recipe:\n    for f in @{needs}; do cat \"./$f\"; done > @{target}\n    printf '%s\\n' \"in quotes: @{needs.first.stem}\" >> @{target}\n    cat >> @{target} <<END\n    plain: @{needs.first.stem}\n    END\n",
    );
    for name in HARD {
        bed.write(&format!("in/{name}.in"), &format!("{name}\n"));
    }
    let expected: Vec<String> = HARD
        .iter()
        .map(|name| format!("out/{name}.out made never-made"))
        .collect();
    let mut expected: Vec<&str> = expected.iter().map(String::as_str).collect();
    expected.push("all made never-made");
    bed.weave(&[]).status(0).ended(&expected);
    let mut sorted = HARD.to_vec();
    sorted.sort_by_key(|name| format!("out/{name}.out"));
    let first = sorted[0];
    let mut lines: Vec<String> = sorted.iter().map(|name| (*name).to_owned()).collect();
    lines.push(format!("in quotes: {first}"));
    lines.push(format!("plain: {first}"));
    assert_eq!(bed.read("all"), lines.join("\n") + "\n");
    bed.weave(&[]).all_kept(HARD.len() + 1);
    for name in HARD {
        bed.write(&format!("in/{name}.in"), "changed\n");
        bed.weave(&["--", &format!("out/{name}.out")])
            .status(0)
            .ended(&[&format!("out/{name}.out made prerequisite-changed")]);
    }
}

#[test]
fn control_characters_in_names_do_not_reach_the_screen() {
    let bed =
        Bed::new("target out/<name>\n  needs each in/<name>\n  recipe: cat @{needs} > @{target}\n");
    bed.write("in/a\u{1b}[31mb", "x");
    bed.run(&[])
        .status(0)
        .says(&["out/a<U+001B>[31mb"])
        .says_not("\u{1b}");
    // Nor do lines that are none.
    bed.write("in/a\n failed  b", "x");
    for arguments in [
        &[][..],
        &["preview", "--again"],
        &["history", "out/a\n failed  b"],
    ] {
        bed.run(arguments)
            .status(0)
            .says(&["out/a\\n failed  b"])
            .says_not("out/a\n");
    }
}
