//! The built program, driven on files in temporary folders. One binary; each file a topic.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod bed;
mod changes;
mod cluster;
mod commands;
mod demo;
mod documents;
mod editor;
mod editors;
mod export;
mod failures;
mod findings;
mod friction;
mod guide;
mod histories;
mod jobs;
mod killed;
mod language;
mod language_server;
mod language_server_fuzz;
mod language_server_runs;
mod lineage;
mod links;
mod logs;
mod lost;
mod machines;
mod manners;
mod mended;
mod mistakes;
mod names;
mod newcomers;
mod others;
mod pictures;
mod places;
mod projects;
mod reports;
mod safety;
mod screen;
mod sealed;
mod seen;
mod services;
mod shared;
mod silent;
mod stale;
mod standing;
mod stored;
mod taken_over;
mod tasks;
mod terminal;
mod undeclared;
mod values;
mod watched;
mod watching;

/// Every test file must be listed above, or its tests would silently not run.
#[test]
fn no_test_file_is_forgotten() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it");
    let this = std::fs::read_to_string(format!("{folder}/main.rs")).unwrap();
    for entry in std::fs::read_dir(folder).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let module = name.trim_end_matches(".rs");
        assert!(
            module == "main" || this.contains(&format!("mod {module};")),
            "{name} is not listed"
        );
    }
}
