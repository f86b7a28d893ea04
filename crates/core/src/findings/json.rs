//! Messages that compilers print as JSON: one object a line, as rustc and Cargo do (the rustc book, "JSON output"; the Cargo
//! reference, "External tools"), or a list of them, as GCC does with `-fdiagnostics-format=json` (GCC's manual, "Options to
//! Control Diagnostic Messages Formatting").

use serde::Deserialize;

use crate::findings::Finding;
use crate::findings::FindingLevel;

/// A message of rustc.
#[derive(Deserialize)]
struct RustMessage {
    message: String,
    level: String,
    #[serde(default)]
    code: Option<RustCode>,
    #[serde(default)]
    spans: Vec<RustSpan>,
}

#[derive(Deserialize)]
struct RustCode {
    code: String,
}

#[derive(Deserialize)]
struct RustSpan {
    file_name: String,
    line_start: u32,
    column_start: u32,
    is_primary: bool,
}

/// What Cargo puts around it.
#[derive(Deserialize)]
struct CargoMessage {
    reason: String,
    message: RustMessage,
}

/// A message of GCC.
#[derive(Deserialize)]
struct GccMessage {
    kind: String,
    message: String,
    #[serde(default)]
    option: Option<String>,
    #[serde(default)]
    locations: Vec<GccLocation>,
    #[serde(default)]
    children: Vec<GccMessage>,
}

#[derive(Deserialize)]
struct GccLocation {
    caret: GccPlace,
}

#[derive(Deserialize)]
struct GccPlace {
    file: String,
    line: u32,
    #[serde(default)]
    column: Option<u32>,
}

type Named<'f> = &'f dyn Fn(&str) -> Option<String>;

/// What a line of JSON says of files that count; none of any other line.
pub(super) fn read(line: &str, file: Named<'_>) -> Option<Vec<Finding>> {
    let found = match line.bytes().next()? {
        b'{' => {
            let cargo = serde_json::from_str::<CargoMessage>(line).ok();
            let message = match cargo.filter(|cargo| cargo.reason == "compiler-message") {
                Some(cargo) => cargo.message,
                None => serde_json::from_str(line).ok()?,
            };
            of_rust(message, file).into_iter().collect()
        }
        b'[' => {
            let messages: Vec<GccMessage> = serde_json::from_str(line).ok()?;
            let mut found = Vec::new();
            for message in messages {
                of_gcc(message, file, &mut found);
            }
            found
        }
        _ => return None,
    };
    Some(found)
}

fn level(name: &str) -> Option<FindingLevel> {
    match name {
        "error" | "fatal error" | "error: internal compiler error" | "ice" => {
            Some(FindingLevel::Error)
        }
        "warning" => Some(FindingLevel::Warning),
        "note" | "help" => Some(FindingLevel::Note),
        _ => None,
    }
}

fn of_rust(message: RustMessage, file: Named<'_>) -> Option<Finding> {
    let level = level(&message.level)?;
    let place = message.spans.iter().find(|span| span.is_primary)?;
    Some(Finding {
        level,
        file: file(&place.file_name)?,
        line: place.line_start,
        column: Some(place.column_start),
        code: message.code.map(|code| code.code),
        message: message.message,
    })
}

fn of_gcc(message: GccMessage, file: Named<'_>, found: &mut Vec<Finding>) {
    let place = message.locations.into_iter().next();
    if let Some(GccLocation { caret }) = place
        && let Some(level) = level(&message.kind)
        && let Some(file) = file(&caret.file)
    {
        found.push(Finding {
            level,
            file,
            line: caret.line,
            column: caret.column,
            code: message.option,
            message: message.message,
        });
    }
    for child in message.children {
        of_gcc(child, file, found);
    }
}
