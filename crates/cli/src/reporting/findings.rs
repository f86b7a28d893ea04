//! Findings as programs read them; also in the Static Analysis Results Interchange Format (SARIF) 2.1.0, an OASIS standard.

use std::path::Path;

use serde::Serialize;
use serde_json::Value;
use serde_json::json;

use handloom_core::findings::Finding;
use handloom_core::findings::FindingLevel;

use crate::ui::text::uri_path;

/// One finding of one step, as programs read it.
#[derive(Debug, Serialize)]
pub struct FindingJson<'a> {
    /// What was said.
    #[serde(flatten)]
    pub finding: &'a Finding,
    /// The step or task whose job said it.
    pub step: &'a str,
    /// The run in which that was.
    pub run: u64,
    /// The run in which it was said first.
    pub since: u64,
    /// Whether it came with the last run.
    pub new: bool,
}

/// All findings as one log with one run.
pub fn sarif(found: &[FindingJson<'_>], root: &Path) -> String {
    let results: Vec<Value> = found.iter().map(result).collect();
    let log = json!({
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": {"driver": {
                "name": "handloom",
                "version": env!("CARGO_PKG_VERSION"),
            }},
            // Columns are those of the tools, which count characters.
            "columnKind": "unicodeCodePoints",
            "originalUriBaseIds": {
                "PROJECT": {"uri": format!("file://{}/", uri_path(root.as_os_str().as_encoded_bytes()))},
            },
            "results": results,
        }],
    });
    serde_json::to_string_pretty(&log).unwrap_or_default() + "\n"
}

fn result(one: &FindingJson<'_>) -> Value {
    let finding = one.finding;
    let mut region = json!({"startLine": finding.line});
    if let Some(column) = finding.column {
        region["startColumn"] = json!(column);
    }
    json!({
        // Each result has one; what a tool has no name for is of one kind for us.
        "ruleId": finding.code.as_deref().unwrap_or("without-a-code"),
        "level": match finding.level {
            FindingLevel::Error => "error",
            FindingLevel::Warning => "warning",
            FindingLevel::Note => "note",
        },
        "message": {"text": finding.message},
        "locations": [{"physicalLocation": {
            "artifactLocation": {"uri": uri_path(finding.file.as_bytes()), "uriBaseId": "PROJECT"},
            "region": region,
        }}],
        "baselineState": if one.new { "new" } else { "unchanged" },
        "properties": {"step": one.step, "run": one.run, "since": one.since},
    })
}
