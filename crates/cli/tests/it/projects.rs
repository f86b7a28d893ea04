//! Whole small projects, as people have them: each folder of `tests/projects` has a description, its files, and in
//! `edits` what is done to them, with exactly what runs after it.

use std::path::Path;
use std::path::PathBuf;

use crate::bed::Bed;
use crate::bed::brief;

const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/projects");

/// Copies a project's files, without its edits.
fn project(name: &str) -> Bed {
    let bed = Bed::new("");
    let from = Path::new(FOLDER).join(name);
    let mut open: Vec<PathBuf> = vec![from.clone()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
                continue;
            }
            let own = path.strip_prefix(&from).unwrap().to_str().unwrap();
            if own != "edits" {
                bed.write(own, &std::fs::read_to_string(&path).unwrap());
            }
        }
    }
    bed
}

/// Carries out what `edits` says.
fn play(name: &str) {
    let bed = project(name);
    let text = std::fs::read_to_string(Path::new(FOLDER).join(name).join("edits")).unwrap();
    let mut lines = text.lines().enumerate().peekable();
    let mut weaves = 0;
    while let Some((number, line)) = lines.next() {
        let place = format!("{name}/edits:{}", number + 1);
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        if let Some(arguments) = line.strip_prefix("$ weave") {
            let mut expected: Vec<&str> = Vec::new();
            while let Some((_, more)) = lines.next_if(|(_, line)| line.starts_with("  ")) {
                expected.push(more.trim());
            }
            let status = expected.iter().position(|line| line.starts_with("status "));
            let status = status.map_or(0, |at| {
                expected.remove(at)["status ".len()..].parse().unwrap()
            });
            let arguments: Vec<&str> = arguments.split_whitespace().collect();
            let run = bed.weave(&arguments);
            let ended = run.events.iter().filter(|event| event["event"] == "ended");
            let mut ended: Vec<String> = ended.map(|event| brief(event, "ending")).collect();
            ended.sort();
            expected.sort_unstable();
            assert_eq!(ended, expected, "{place}\n{}", run.shown());
            assert_eq!(run.status, Some(status), "{place}\n{}", run.shown());
            weaves += 1;
            continue;
        }
        if line == "wait" {
            // What is read so soon after it was written is read again by every run.
            std::thread::sleep(std::time::Duration::from_millis(1100));
            continue;
        }
        let (verb, rest) = line.split_once(' ').unwrap_or_else(|| panic!("{place}"));
        let (file, text) = rest.split_once(": ").unwrap_or((rest, ""));
        match verb {
            "write" => bed.write(file, &text.replace("\\n", "\n")),
            "edit" => {
                let (from, to) = text.split_once(" => ").unwrap_or_else(|| panic!("{place}"));
                let before = bed.read(file);
                assert!(before.contains(from), "{place}: `{from}` is not in {file}");
                bed.write(file, &before.replace(from, to));
            }
            "remove" => bed.remove(file),
            "holds" => assert!(bed.read(file).contains(text), "{place}: {}", bed.read(file)),
            "absent" => assert!(!bed.exists(file), "{place}"),
            other => panic!("{place}: {other}"),
        }
    }
    assert!(weaves > 2, "{name}");
    // What is there is what a fresh copy makes, and it is laid out in the one way.
    bed.run(&["tidy", "--check"]).status(0);
}

#[test]
fn a_library_with_its_links() {
    play("library");
}

#[test]
fn three_parts() {
    play("parts");
}

#[test]
fn a_sweep_from_a_parameter_file() {
    play("sweep");
}

#[test]
fn a_sheet_of_samples() {
    play("samples");
}

#[test]
fn pieces_scattered_and_gathered() {
    play("scatter");
}

#[test]
fn pages_tried_through_a_server() {
    play("site");
}

#[test]
fn a_paper_with_figures() {
    play("paper");
}

/// Cross-compiled: skipped with a word where there is no such compiler, unless that is required.
#[test]
fn firmware_for_two_boards() {
    let has_compiler = std::process::Command::new("avr-gcc")
        .arg("--version")
        .output()
        .is_ok();
    if !has_compiler && std::env::var_os("HANDLOOM_COMPILERS").is_none() {
        use std::io::Write;
        let _ = writeln!(std::io::stderr(), "no avr-gcc: the firmware is not made");
        return;
    }
    play("firmware");
}

/// Every project is played above.
#[test]
fn no_project_is_forgotten() {
    let this =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it/projects.rs"));
    let this = this.unwrap();
    for entry in std::fs::read_dir(FOLDER).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        assert!(this.contains(&format!("play(\"{name}\")")), "{name}");
    }
}
