//! docs/guide.md: every command in it is run, in order, on the demonstration projects, and prints what is
//! shown. `HANDLOOM_GOLDEN=write` writes what they print now into the page.

use std::process::Command;

use fancy_regex::Regex;

use crate::bed::Bed;

/// What differs from run to run and from machine to machine is not compared: times, dates, how busy cores
/// were, memory, and the order in which jobs ended.
fn comparable(text: &str) -> Vec<String> {
    let times =
        Regex::new(r#"(\d+m )?\d+(\.\d+)?(ms|s)\b|"(seconds|began|processor|memory|slot)":[\d.]+"#)
            .unwrap();
    let ago = Regex::new(r"ran .* and took").unwrap();
    let busy = Regex::new(r", \d+ cores? \d+% busy").unwrap();
    let dates = Regex::new(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d( to [-\d: ]*\d\d:\d\d:\d\d)?").unwrap();
    // Contents, commits, machines and folders.
    let digests = Regex::new(r"\b[0-9a-f]{12}\b").unwrap();
    let machines = Regex::new(r", on \S+$").unwrap();
    let places = Regex::new(r"in [\w.-]+: /.*?(, |$)").unwrap();
    let spaces = Regex::new(r" +").unwrap();
    let mut lines: Vec<String> = text
        .lines()
        .map(|line| {
            let line = busy.replace_all(line, "");
            let line = ago.replace_all(&line, "ran A and took");
            let line = digests.replace_all(&line, "C");
            let line = machines.replace_all(&line, ", on M");
            let line = places.replace_all(&line, "in P, ");
            let line = times.replace_all(&line, "T");
            let line = dates.replace_all(&line, "D");
            spaces.replace_all(line.trim(), " ").into_owned()
        })
        .filter(|line| !line.is_empty())
        .collect();
    lines.sort();
    lines
}

struct Walk {
    bed: Bed,
    path: String,
}

impl Walk {
    /// What a command prints in one of the folders that the page names.
    fn run(&self, folder: &str, command: &str) -> String {
        let template = self.bed.command(&[]);
        let mut shell = Command::new("sh");
        shell
            .args(["-c", &format!("{{ {command}\n}} 2>&1")])
            .current_dir(self.bed.path(folder))
            .env_clear()
            .stdin(std::process::Stdio::null());
        for (name, value) in template.get_envs() {
            if let Some(value) = value {
                shell.env(name, value);
            }
        }
        let output = shell.env("PATH", &self.path).output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        // Where it is tried is of no interest to whoever reads it.
        let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        let machine = machine.trim();
        let root = self.bed.root().canonicalize().unwrap();
        let text = text.replace(&root.display().to_string(), "/home/lookout");
        let text = text.replace(&format!("in {machine}: /"), "in harbour: /");
        let text = text.replace(&format!(", on {machine}\n"), ", on harbour\n");
        text.lines()
            .map(|line| format!("{}\n", line.trim_end()))
            .collect()
    }
}

#[test]
fn the_guide_does_what_it_says() {
    let page = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide.md");
    let text = std::fs::read_to_string(page).unwrap();
    let bed = Bed::new("").with_store();
    let _ = bed.run(&["demo", "almanac"]).status(0);
    let _ = bed.run(&["demo", "--example", "fog", "fog"]).status(0);
    std::fs::create_dir(bed.path("own")).unwrap();
    // Outputs are old enough that no change could hide behind their times.
    std::thread::sleep(std::time::Duration::from_millis(50));
    let folder = std::path::Path::new(env!("CARGO_BIN_EXE_handloom"))
        .parent()
        .unwrap();
    let path = format!(
        "{}:{}",
        folder.display(),
        std::env::var("PATH").unwrap_or_default()
    );
    let walk = Walk { bed, path };
    let mut folder = "almanac";
    let _ = walk.run(folder, "handloom");
    let (mut now, mut wrong, mut count) = (String::new(), Vec::new(), 0);
    let mut lines = text.lines().peekable();
    while let Some(line) = lines.next() {
        now.push_str(&format!("{line}\n"));
        if let Some(named) = line.strip_prefix("<!-- in ") {
            folder = named.trim_end_matches(" -->");
        }
        if line != "```console" {
            continue;
        }
        while let Some(line) = lines.next() {
            now.push_str(&format!("{line}\n"));
            let Some(command) = line.strip_prefix("$ ") else {
                assert_eq!(line, "```", "a command begins with `$ `");
                break;
            };
            let mut shown = String::new();
            while let Some(output) = lines.next_if(|next| *next != "```" && !next.starts_with("$ "))
            {
                shown.push_str(&format!("{output}\n"));
            }
            let printed = walk.run(folder, command);
            count += 1;
            if comparable(&shown) == comparable(&printed) {
                now.push_str(&shown);
            } else {
                wrong.push(format!(
                    "$ {command}\n--- shown\n{shown}--- printed\n{printed}"
                ));
                now.push_str(&printed);
            }
        }
    }
    assert!(count > 20, "{count}");
    if std::env::var_os("HANDLOOM_GOLDEN").is_some_and(|value| value == "write") {
        std::fs::write(page, now).unwrap();
        return;
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
