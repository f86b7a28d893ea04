//! Projects that other programs build: their usual checks as tasks, with what they look at.

use std::fmt::Write;

use toml::Table;

use super::section::Names;
use super::section::Section;
use super::section::clause;
use super::section::word;
use super::survey::Survey;
use super::survey::is_installed;
use crate::ui::text;
use handloom_core::world::names::folder_of;

/// A task: its name, its help, its recipe, and whether it is remembered.
type Check = (&'static str, &'static str, &'static str, bool);

/// A project with Rust packages.
pub fn cargo(survey: &Survey, names: &mut Names) -> Option<Section> {
    const MANIFEST: &str = "Cargo.toml";
    const PLACES: [&str; 4] = ["src", "tests", "benches", "examples"];
    if !survey.has(MANIFEST) {
        return None;
    }
    let manifests: Vec<&str> = survey
        .files()
        .filter(|path| *path == MANIFEST || path.ends_with("/Cargo.toml"))
        .collect();
    let mut needs = Vec::new();
    for manifest in &manifests {
        let home = folder_of(manifest);
        needs.push(word(manifest));
        let places = PLACES.iter().map(|place| format!("{home}{place}"));
        needs.extend(
            places
                .filter(|place| survey.has_folder(place))
                .map(|place| word(&format!("{place}/"))),
        );
        let script = format!("{home}build.rs");
        if survey.has(&script) {
            needs.push(word(&script));
        }
    }
    let checks: [Check; 4] = [
        ("build", "Compile", "cargo build --release", false),
        ("check", "Run the tests", "cargo test", true),
        (
            "lint",
            "Look for what clippy knows to be wrong",
            "cargo clippy --all-targets",
            true,
        ),
        (
            "format",
            "See that all is formatted",
            "cargo fmt --all --check",
            true,
        ),
    ];
    let told = match text_of(survey, MANIFEST).contains_key("workspace") {
        true => format!(
            "a Cargo workspace of {}",
            text::count(manifests.len() - 1, "package")
        ),
        false => "a Cargo package".to_owned(),
    };
    let covers = manifests.iter().map(|path| (*path).to_owned());
    let rust = survey.ending(".rs").map(str::to_owned);
    Some(checked(
        told,
        "cargo",
        &checks,
        &needs,
        covers.chain(rust).collect(),
        names,
    ))
}

fn text_of(survey: &Survey, path: &str) -> Table {
    survey.text(path).parse().unwrap_or_default()
}

/// A Go module.
pub fn go(survey: &Survey, names: &mut Names) -> Option<Section> {
    if !survey.has("go.mod") {
        return None;
    }
    let mut needs = vec!["go.mod".to_owned()];
    if survey.has("go.sum") {
        needs.push("go.sum".to_owned());
    }
    needs.push("**/*.go".to_owned());
    // A program goes into the folder of what is made; packages without one are only compiled.
    let has_program = survey.ending(".go").any(|path| {
        let text = survey.text(path);
        text.lines().any(|line| line.trim() == "package main")
    });
    let build = match has_program {
        true => "mkdir -p out; go build -o out/ ./...",
        false => "go build ./...",
    };
    let checks: [Check; 4] = [
        ("build", "Compile", build, false),
        ("check", "Run the tests", "go test ./...", true),
        (
            "lint",
            "Look for what the compiler lets pass",
            "go vet ./...",
            true,
        ),
        (
            "format",
            "See that all is formatted",
            "unformatted=$(gofmt -l .); echo \"$unformatted\"; test -z \"$unformatted\"",
            true,
        ),
    ];
    let covers = survey
        .ending(".go")
        .chain(["go.mod"])
        .map(str::to_owned)
        .collect();
    Some(checked(
        "a Go module".to_owned(),
        "go",
        &checks,
        &needs,
        covers,
        names,
    ))
}

fn checked(
    told: String,
    program: &'static str,
    checks: &[Check],
    needs: &[String],
    covers: Vec<String>,
    names: &mut Names,
) -> Section {
    let mut section = Section {
        told,
        covers,
        ..Section::default()
    };
    let mut all = Vec::new();
    for (wanted, about, recipe, is_remembered) in checks {
        let task = names.task(wanted, program);
        let _ = write!(section.body, "\ntask {task}\n  about: {about}\n");
        if *is_remembered {
            section.body.push_str(&clause("needs", needs));
            section.body.push_str("  remember\n");
        }
        let _ = writeln!(section.body, "  recipe: {recipe}");
        all.push(task);
    }
    section.holds_back = true;
    if is_installed(program) {
        section.default.push(all[0].clone());
    } else {
        let tasks = all
            .iter()
            .map(|task| format!("`{task}`"))
            .collect::<Vec<_>>();
        section.missing.push(format!(
            "`{program}` is not on this machine; {} need it",
            tasks.join(", ")
        ));
    }
    section
}

/// A container file.
pub fn container(survey: &Survey, names: &mut Names) -> Option<Section> {
    let file = ["Containerfile", "Dockerfile"]
        .into_iter()
        .find(|file| survey.has(file))?;
    let engine = ["podman", "docker"]
        .into_iter()
        .find(|engine| is_installed(engine));
    let folder = survey.root.canonicalize().ok();
    let folder = folder
        .as_deref()
        .and_then(|folder| folder.file_name()?.to_str());
    let image: String = folder
        .unwrap_or("image")
        .to_lowercase()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
        .collect();
    let image = image.trim_matches('-');
    let image = if image.is_empty() { "image" } else { image };
    let task = names.task("image", "container");
    let mut section = Section {
        told: format!("a container image from `{file}`"),
        covers: vec![file.to_owned()],
        lets: vec![
            (
                "engine",
                format!("let engine = {}\n", engine.unwrap_or("docker")),
            ),
            ("image", format!("let image = {image}\n")),
            ("tag", "let tag = latest\n".to_owned()),
        ],
        ..Section::default()
    };
    let _ = write!(
        section.body,
        "
task {task}
  about: Build the container image
  needs {file}
  recipe: @{{engine}} build --file @{{needs}} --tag @{{image}}:@{{tag}} .
"
    );
    if engine.is_none() {
        section.missing.push(format!(
            "`docker` is not on this machine; `{task}` needs it, or another one by `let engine`"
        ));
    }
    Some(section)
}
