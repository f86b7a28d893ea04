//! The rules of the house, read from the source itself: which room may use which, no circles, who touches the
//! system, one meaning a type name, and files and functions that one person holds in the head.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::path::Path;
use std::path::PathBuf;

/// The rooms of the core; each only uses those in front of it.
const ROOMS: [&str; 20] = [
    "text",
    "findings",
    "world",
    "data_files",
    "language",
    "project",
    "graph",
    "content",
    "ledger",
    "verdict",
    "status",
    "project_cache",
    "store",
    "executor",
    "scheduler",
    "records",
    "graph_view",
    "lineage",
    "export",
    "workspace",
];

/// Who may ask the system itself: for files, processes, the clock, the environment.
const TOUCH_THE_SYSTEM: [&str; 6] = [
    "world/",
    "ledger/storage.rs",
    "store/",
    "executor/",
    "records/",
    "workspace/",
];

/// What asking the system looks like.
const SYSTEM: [&str; 11] = [
    "std::fs",
    "std::env::var",
    "std::net",
    "std::process::Command",
    "std::os::unix::fs",
    "Instant::now",
    "SystemTime",
    "rustix::fs",
    "rustix::process",
    "rustix::event",
    "nix::",
];

const MOST_LINES: usize = 500;
const MOST_FUNCTION_LINES: usize = 80;

/// Files and functions that are longer, with the reason.
const LONGER: [(&str, &str); 1] = [(
    "crates/core/tests/it/shells.rs",
    "a table of cases for each shell",
)];

/// One source file, without its unit tests.
struct SourceFile {
    /// From the root of its crate's `src`.
    path: String,
    text: String,
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
            } else if path.extension().is_some_and(|end| end == "rs") {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

fn sources(folder: &str) -> Vec<SourceFile> {
    let folder = root().join(folder);
    let files = rust_files(&folder).into_iter().map(|path| {
        let text = std::fs::read_to_string(&path).unwrap();
        let tests = text.find("#[cfg(test)]\nmod ").unwrap_or(text.len());
        SourceFile {
            path: path
                .strip_prefix(&folder)
                .unwrap()
                .to_str()
                .unwrap()
                .to_owned(),
            text: text[..tests].to_owned(),
        }
    });
    files.collect()
}

/// The text without comments and without what stands in quotes.
fn code(text: &str) -> String {
    let lines = text.lines().map(|line| {
        let mut out = String::new();
        let mut chars = line.chars().peekable();
        let mut quoted = false;
        while let Some(c) = chars.next() {
            match c {
                '\\' if quoted => {
                    chars.next();
                }
                '"' => quoted = !quoted,
                '/' if !quoted && chars.peek() == Some(&'/') => break,
                c if !quoted => out.push(c),
                _ => {}
            }
        }
        out
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// Every `crate::…` path in a text, as its segments.
fn crate_paths(code: &str) -> Vec<Vec<&str>> {
    let is_path = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
    code.match_indices("crate::")
        .filter(|(at, _)| !code[..*at].ends_with(|c: char| c.is_alphanumeric() || c == '_'))
        .map(|(at, found)| {
            let rest = &code[at + found.len()..];
            let end = rest.find(|c| !is_path(c)).unwrap_or(rest.len());
            rest[..end].trim_end_matches(':').split("::").collect()
        })
        .collect()
}

/// Which file each file uses. A name that a room's `mod.rs` hands on counts as the file that it comes from.
fn uses(files: &[SourceFile]) -> BTreeMap<&str, BTreeSet<String>> {
    let is_file = |path: &str| files.iter().any(|file| file.path == path);
    let text_of = |path: &str| {
        files
            .iter()
            .find(|file| file.path == path)
            .map(|file| &file.text)
    };
    let resolve = |segments: &[&str]| -> Option<String> {
        let mut folder = String::new();
        for (at, segment) in segments.iter().enumerate() {
            let file = format!("{folder}{segment}.rs");
            if is_file(&file) {
                return Some(file);
            }
            let inside = format!("{folder}{segment}/mod.rs");
            if is_file(&inside) {
                folder = format!("{folder}{segment}/");
                if at + 1 == segments.len() {
                    return Some(inside);
                }
                continue;
            }
            let room = format!("{folder}mod.rs");
            let handed_on = text_of(&room)?.lines().find_map(|line| {
                let path = line.strip_prefix("pub use ")?.strip_suffix(';')?;
                let (module, name) = path.rsplit_once("::")?;
                (name == *segment).then(|| format!("{folder}{}.rs", module.replace("::", "/")))
            });
            return handed_on.filter(|file| is_file(file)).or(Some(room));
        }
        None
    };
    let mut uses: BTreeMap<&str, BTreeSet<String>> = BTreeMap::new();
    for file in files {
        let code = code(&file.text);
        let own = uses.entry(file.path.as_str()).or_default();
        for segments in crate_paths(&code) {
            own.extend(resolve(&segments).filter(|used| *used != file.path));
        }
    }
    uses
}

fn room(path: &str) -> &str {
    path.split('/').next().unwrap_or_default()
}

#[test]
fn rooms_only_use_those_in_front_of_them() {
    let files = sources("crates/core/src");
    let mut wrong = Vec::new();
    for (file, used) in uses(&files) {
        let Some(own) = ROOMS.iter().position(|name| *name == room(file)) else {
            assert!(file == "lib.rs", "`{file}` lies in no room");
            continue;
        };
        for used in used {
            if ROOMS.iter().position(|name| *name == room(&used)) > Some(own) {
                wrong.push(format!("{file} uses {used}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn no_circles_between_rooms_and_none_of_more_than_two_files() {
    for folder in ["crates/core/src", "crates/cli/src"] {
        let files = sources(folder);
        let uses = uses(&files);
        let mut wrong = Vec::new();
        for circle in circles(&uses) {
            let rooms: BTreeSet<&str> = circle.iter().map(|file| room(file)).collect();
            if circle.len() > 2 || rooms.len() > 1 {
                wrong.push(circle);
            }
        }
        assert!(wrong.is_empty(), "{folder}: {wrong:#?}");
    }
}

/// Files that use each other, directly or through others.
fn circles<'f>(uses: &BTreeMap<&'f str, BTreeSet<String>>) -> Vec<Vec<&'f str>> {
    let reach = |from: &str| {
        let mut seen: BTreeSet<&str> = BTreeSet::new();
        let mut open: Vec<&str> = uses[from].iter().map(String::as_str).collect();
        while let Some(file) = open.pop() {
            if seen.insert(file) {
                open.extend(uses[file].iter().map(String::as_str));
            }
        }
        seen
    };
    let reached: BTreeMap<&str, BTreeSet<&str>> =
        uses.keys().map(|file| (*file, reach(file))).collect();
    let mut found: Vec<Vec<&str>> = Vec::new();
    for (&file, from_file) in &reached {
        let with: Vec<&str> = reached
            .iter()
            .filter(|(other, back)| from_file.contains(*other) && back.contains(file))
            .map(|(other, _)| *other)
            .collect();
        if with.len() > 1 && with.first() == Some(&file) {
            found.push(with);
        }
    }
    found
}

#[test]
fn only_four_rooms_and_the_ledgers_storage_touch_the_system() {
    let mut wrong = Vec::new();
    for file in sources("crates/core/src") {
        if TOUCH_THE_SYSTEM
            .iter()
            .any(|start| file.path.starts_with(start))
        {
            continue;
        }
        let code = code(&file.text);
        for what in SYSTEM.iter().filter(|what| code.contains(**what)) {
            wrong.push(format!("{} uses {what}", file.path));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn a_type_name_has_one_meaning() {
    let mut places: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for folder in ["crates/core/src", "crates/cli/src", "crates/core/benches"] {
        for file in sources(folder) {
            for line in file.text.lines() {
                let line = line.trim_start();
                let line = line.strip_prefix("pub(super) ").unwrap_or(line);
                let line = line.strip_prefix("pub(crate) ").unwrap_or(line);
                let line = line.strip_prefix("pub ").unwrap_or(line);
                let mut words = line.split(|c: char| !(c.is_alphanumeric() || c == '_'));
                if matches!(words.next(), Some("struct" | "enum" | "trait"))
                    && let Some(name) = words.next()
                {
                    let place = format!("{folder}/{}", file.path);
                    places.entry(name.to_owned()).or_default().push(place);
                }
            }
        }
    }
    places.retain(|_, places| places.len() > 1);
    assert!(places.is_empty(), "{places:#?}");
}

#[test]
fn files_and_functions_fit_into_one_head() {
    let mut wrong = Vec::new();
    let known = |place: &str| LONGER.iter().any(|(longer, _)| place.starts_with(longer));
    for folder in ["crates/core/src", "crates/cli/src", "crates/core/benches"] {
        for file in sources(folder) {
            let place = format!("{folder}/{}", file.path);
            let count = file.text.lines().count();
            if count > MOST_LINES && !known(&place) {
                wrong.push(format!("{place}: {count} lines"));
            }
            for (name, count) in long_functions(&file.text) {
                let place = format!("{place}, `{name}`");
                if !known(&place) {
                    wrong.push(format!("{place}: {count} lines"));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

/// Functions with too many lines, as they are laid out by the formatter.
fn long_functions(text: &str) -> Vec<(&str, usize)> {
    let lines: Vec<&str> = text.lines().collect();
    let mut found = Vec::new();
    for (start, line) in lines.iter().enumerate() {
        let plain = line.trim_start();
        let indent = &line[..line.len() - plain.len()];
        let Some(at) = plain.find("fn ") else {
            continue;
        };
        let before = plain[..at].split_whitespace();
        let mut words = before.filter(|word| !word.starts_with("pub"));
        if !words.all(|word| matches!(word, "const" | "unsafe" | "extern")) {
            continue;
        }
        let end = format!("{indent}}}");
        let length = lines[start..].iter().position(|line| *line == end);
        let name = plain[at + 3..].split(['(', '<']).next().unwrap_or_default();
        found.extend(length.map(|length| (name, length + 1)));
    }
    // A function without a body has no end of its own: the next one's is found, and is no longer.
    found.retain(|(_, length)| *length > MOST_FUNCTION_LINES);
    found
}

#[test]
fn documents_name_files_and_functions_that_are_there() {
    let mut wrong = Vec::new();
    let folders = [
        "",
        "crates/core/src/",
        "crates/cli/src/",
        "crates/cli/",
        "crates/core/",
    ];
    for document in [
        "ARCHITECTURE.md",
        "CONTRIBUTING.md",
        "docs/implementation.md",
        "docs/glossary.md",
    ] {
        let text = std::fs::read_to_string(root().join(document)).unwrap();
        for name in text.split('`').skip(1).step_by(2) {
            let is_file = [".rs", ".md", ".txt"].iter().any(|end| name.ends_with(end));
            let is_path = is_file
                && name
                    .chars()
                    .all(|c| c.is_ascii_alphanumeric() || "/._-".contains(c));
            let is_there = |folder: &&str| root().join(folder).join(name).exists();
            let in_a_room = || {
                let files = rust_files(&root().join("crates"));
                files.iter().any(|file| file.ends_with(name))
            };
            if is_path && !name.contains("NAME") && !folders.iter().any(is_there) && !in_a_room() {
                wrong.push(format!("{document}: `{name}`"));
            }
            // `Type::function` of the core or the program.
            if let Some((owner, function)) = name.split_once("::")
                && owner.starts_with(char::is_uppercase)
                && function.chars().all(|c| c.is_ascii_lowercase() || c == '_')
            {
                let wanted = format!("fn {function}");
                let sources = ["crates/core/src", "crates/cli/src"]
                    .into_iter()
                    .flat_map(sources);
                if !sources
                    .into_iter()
                    .any(|file| file.text.contains(&wanted) && file.text.contains(owner))
                {
                    wrong.push(format!("{document}: `{name}`"));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}
