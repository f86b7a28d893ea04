//! The ledger, the lock, and what a run does to files around it.

use std::fs;

use crate::bed::Bed;

const ONE: &str = "target out\n  needs in\n  recipe: cp @{needs} @{target}\n";

fn woven() -> Bed {
    let bed = Bed::new(ONE);
    bed.write("in", "x");
    bed.weave(&[]).status(0).ended(&["out made never-made"]);
    bed
}

#[test]
fn the_own_folder_ignores_itself() {
    let bed = woven();
    assert_eq!(bed.read(".handloom/.gitignore"), "*\n");
}

#[test]
fn a_damaged_ledger_is_set_aside_and_costs_a_rebuild() {
    for damage in [&b""[..], b"HLSNAP99 of the future", b"rubbish", &[0; 500]] {
        let bed = woven();
        fs::write(bed.path(".handloom/ledger"), damage).unwrap();
        bed.weave(&[])
            .status(0)
            .ended(&["out made never-made"])
            .says(&[
                "the ledger can't be used",
                "moved to `.handloom/ledger.unreadable-",
            ]);
        bed.weave(&[]).all_kept(1);
    }
}

#[test]
fn every_flipped_byte_and_every_cut_of_the_ledger_is_noticed_or_harmless() {
    let bed = woven();
    let files = ["ledger", "journal"].map(|name| bed.path(&format!(".handloom/{name}")));
    let good = files.each_ref().map(|file| fs::read(file).unwrap());
    for (file, bytes) in files.iter().zip(&good) {
        for at in (0..bytes.len()).step_by(bytes.len() / 12 + 1) {
            for (file, bytes) in files.iter().zip(&good) {
                fs::write(file, bytes).unwrap();
            }
            let mut broken = bytes.clone();
            broken[at] ^= 0x11;
            fs::write(file, &broken).unwrap();
            bed.run(&["-q"]).status(0);
            fs::write(file, &bytes[..at]).unwrap();
            bed.run(&["-q"]).status(0);
            assert_eq!(bed.read("out"), "x");
        }
    }
}

#[test]
fn an_own_folder_that_cannot_be_made_is_a_clear_failure() {
    let bed = Bed::new(ONE);
    bed.write("in", "x");
    bed.write(".handloom", "a file in the way");
    bed.run(&[]).status(3).says(&["`.handloom` is no folder"]);
    assert!(!bed.exists("out"));
}

#[test]
fn a_second_run_in_one_project_fails_at_once_when_it_may_not_wait() {
    let bed = Bed::new(
        "target out\n  recipe:\n    mkfifo gate.new && mv gate.new gate\n    read line < gate\n    echo $line > @{target}\n",
    );
    let mut first = bed
        .command(&[])
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    while !bed.exists("gate") {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    bed.run(&["--no-wait"])
        .status(3)
        .says(&["another run works in this project: process"]);
    let second = bed
        .command(&[])
        .stderr(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    fs::write(bed.path("gate"), "through\n").unwrap();
    assert!(first.wait().unwrap().success());
    let second = second.wait_with_output().unwrap();
    assert!(second.status.success());
    assert!(String::from_utf8_lossy(&second.stdout).contains("1 kept"));
}

#[test]
fn a_closed_standard_output_does_not_end_the_work() {
    let bed = Bed::new("target out\n  recipe: echo x > @{target}\n");
    let mut command = bed.command(&[]);
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    let status = command.stdout(writer).status().unwrap();
    assert!(status.success());
    assert_eq!(bed.read("out"), "x\n");
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    assert!(
        bed.command(&["list"])
            .stdout(writer)
            .status()
            .unwrap()
            .success()
    );
}

#[test]
fn recipes_have_no_input_and_no_terminal_escapes_are_printed() {
    let bed = Bed::new("target out\n  recipe: cat > @{target}; echo plain\n");
    let run = bed.run(&["--color", "auto"]).status(0);
    assert!(!run.out.contains('\u{1b}'), "{}", run.shown());
    assert_eq!(bed.read("out"), "");
    let run = bed.run(&["--color", "always", "--again"]).status(0);
    assert!(run.out.contains('\u{1b}'), "{}", run.shown());
}

#[test]
fn listing_runs_nothing_and_writes_nothing() {
    let bed = Bed::new(
        "let trap = output sh -c 'touch sprung; echo x'\ntarget out-@{trap}\n  given output touch sprung\n  recipe: touch sprung @{trap}\ntask t\n  let x = output touch sprung\n  recipe: touch sprung\n",
    );
    bed.run(&["list"]).status(0).says(&["out-"]);
    bed.run(&["list", "--all", "--format", "json"]).status(0);
    assert!(!bed.exists("sprung"));
    assert!(!bed.exists(".handloom"));
}

/// A limit on the size of files stands for a full disk: the system refuses the write either way.
#[test]
fn a_disk_without_room_ends_the_run_and_the_ledger_stays_good() {
    let bed = woven();
    bed.write("in", "y");
    let program = env!("CARGO_BIN_EXE_handloom");
    let script =
        format!("export HANDLOOM_STORE_USE=never; ulimit -f 0; trap '' XFSZ; exec {program} -q");
    let mut full = std::process::Command::new("sh");
    full.args(["-c", &script]).current_dir(bed.root());
    bed.finish(full, &["-q"])
        .status(3)
        .says(&["can't write the ledger: file too large"]);
    bed.weave(&[])
        .status(0)
        .ended(&["out made prerequisite-changed"]);
    assert_eq!(bed.read("out"), "y");
}
