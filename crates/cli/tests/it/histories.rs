//! Random histories of a small real project on the built program: edits, tampering, changed flags,
//! new and deleted sources, runs that are killed. After each, the outputs are byte for byte those of a
//! fresh copy, and another run has nothing to do.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::process::Stdio;

use crate::bed::Bed;
use crate::bed::tree;

const LOOM: &str = "let mark = one
target out/<n>.up
  needs each src/<n>.txt
  learn lines
  recipe:
    { tr a-z A-Z < @{needs}; cat inc/common; echo @{mark}; } > @{target}
    echo inc/common > @{learn}
target out/all
  needs out/*.up
  recipe: cat @{needs} > @{target}
target out/size
  needs out/all
  recipe: wc -c < @{needs} > @{target}
target tree/
  needs out/size
  recipe:
    cp @{needs} @{target}/size
    for n in 1 2 3; do echo $n > @{target}/$n; done
target last
  needs tree/*
  recipe: cat @{needs} > @{target}
";

/// A small generator of numbers; the seed makes each history repeatable.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }
}

fn act(bed: &Bed, dice: &mut Dice) {
    let name = format!(
        "src/{}.txt",
        ["a", "b", "c d", "e"][usize::try_from(dice.roll(4)).unwrap()]
    );
    let text = format!("text {}\n", dice.roll(3));
    match dice.roll(10) {
        0..=3 => bed.write(&name, &text),
        4 => {
            let _ = fs::remove_file(bed.path(&name));
            bed.write("src/a.txt", "always\n");
        }
        5 => bed.write("inc/common", &text),
        6 => bed.write(
            "hand.loom",
            &LOOM.replace(
                "= one",
                &format!(
                    "= {}",
                    ["one", "two"][usize::try_from(dice.roll(2)).unwrap()]
                ),
            ),
        ),
        7 => {
            for output in ["out/all", "tree/2", "out/a.up"] {
                if bed.exists(output) && dice.roll(2) == 0 {
                    bed.write(output, "tampered\n");
                }
            }
        }
        8 => {
            let _ = fs::remove_file(bed.path("out/size"));
        }
        _ => kill(bed, dice),
    }
}

/// Starts a run and kills it after a random number of its own outputs' first bytes can be there.
fn kill(bed: &Bed, dice: &mut Dice) {
    let mut child = bed
        .command(&["-j2"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    for _ in 0..dice.roll(40) {
        std::thread::sleep(std::time::Duration::from_micros(300));
    }
    let _ = child.kill();
    child.wait().unwrap();
}

/// All made files with their contents.
fn made(root: &Path) -> Vec<(String, String)> {
    tree(root)
        .lines()
        .filter(|path| {
            !path.starts_with("src/") && !path.starts_with("inc/") && *path != "hand.loom"
        })
        .map(|path| {
            (
                path.to_owned(),
                fs::read_to_string(root.join(path)).unwrap(),
            )
        })
        .collect()
}

#[test]
fn any_history_leaves_what_a_fresh_copy_makes() {
    for seed in 0..40 {
        let mut dice = Dice(seed * 7919 + 1);
        let bed = Bed::new(LOOM);
        bed.write("src/a.txt", "a\n");
        bed.write("src/c d.txt", "c\n");
        bed.write("inc/common", "common\n");
        for _ in 0..dice.roll(6) + 1 {
            for _ in 0..dice.roll(4) {
                act(&bed, &mut dice);
            }
            bed.run(&["-j2"]).status(0);
        }
        bed.run(&["clean", "--leftovers"]).status(0);
        let steps = bed
            .read("out/all")
            .lines()
            .filter(|line| *line == "one" || *line == "two")
            .count()
            + 4;
        bed.weave(&[]).all_kept(steps);
        let fresh = bed.root().with_file_name("fresh");
        fs::create_dir(&fresh).unwrap();
        for part in ["src", "inc", "hand.loom"] {
            assert!(
                Command::new("cp")
                    .arg("-r")
                    .arg(bed.path(part))
                    .arg(&fresh)
                    .status()
                    .unwrap()
                    .success()
            );
        }
        let mut command = bed.command(&["-j1"]);
        command.current_dir(&fresh);
        bed.finish(command, &["fresh"]).status(0);
        assert_eq!(made(&bed.root()), made(&fresh), "seed {seed}");
    }
}
