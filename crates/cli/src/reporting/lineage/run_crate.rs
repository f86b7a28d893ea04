//! How a file came about as a Process Run Crate 0.5: a folder with `ro-crate-metadata.json` of the Research Object Crate
//! specification 1.1, in which each step is an action with the recipe for its instrument, and beside it the files.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::Path;

use serde_json::Value;
use serde_json::json;
use sha2::Digest;
use sha2::Sha256;

use handloom_core::lineage::FileVersion;
use handloom_core::lineage::HowMade;
use handloom_core::lineage::InputOrigin;
use handloom_core::lineage::Lineage;
use handloom_core::lineage::LineageStep;

use handloom_core::world::names;

use crate::reporting::lineage::json::hex;
use crate::reporting::lineage::made_between;
use crate::ui::text;
use crate::ui::text::uri_path;

/// The file that makes a folder a crate.
pub const METADATA: &str = "ro-crate-metadata.json";

const CRATE: &str = "https://w3id.org/ro/crate/1.1";
const PROFILE: &str = "https://w3id.org/ro/wfrun/process/0.5";

/// The files of a lineage that go with it, by what they hold.
#[derive(Debug, Default)]
pub struct CratePayload {
    /// Those that were copied, each with what is told of the copy.
    copied: BTreeMap<FileVersion, CopiedFile>,
}

/// What is told of a file in a crate.
#[derive(Debug)]
struct CopiedFile {
    bytes: u64,
    sha256: String,
}

impl CratePayload {
    /// Copies those files of a project into a crate's folder that hold what was recorded, as `is_as_recorded` tells.
    ///
    /// # Errors
    /// When one cannot be read or written.
    pub fn copy(
        lineage: &Lineage,
        root: &Path,
        to: &Path,
        mut is_as_recorded: impl FnMut(&FileVersion) -> bool,
    ) -> io::Result<Self> {
        let mut payload = Self::default();
        for file in versions(lineage) {
            // Whole folders, what lies outside of the project, and names that no identifier can have are described and not
            // handed on.
            let is_ours = !file.path.starts_with('/') && !file.path.ends_with('/');
            let goes = is_ours
                && names::is_plain(&file.path)
                && file.path != METADATA
                && is_as_recorded(&file);
            if !goes {
                continue;
            }
            let target = to.join(names::to_path(&file.path));
            if let Some(folder) = target.parent() {
                fs::create_dir_all(folder)?;
            }
            fs::copy(root.join(names::to_path(&file.path)), &target)?;
            let bytes = fs::read(&target)?;
            let copied = CopiedFile {
                bytes: bytes.len() as u64,
                sha256: Sha256::digest(&bytes)
                    .iter()
                    .map(|byte| format!("{byte:02x}"))
                    .collect(),
            };
            payload.copied.insert(file, copied);
        }
        Ok(payload)
    }

    /// How many files go with it.
    pub fn len(&self) -> usize {
        self.copied.len()
    }
}

/// Every content of a file in a lineage, once: those that were made, and sources.
fn versions(lineage: &Lineage) -> BTreeSet<FileVersion> {
    let made = lineage.steps.iter().flat_map(|step| &step.outputs);
    let mut all: BTreeSet<FileVersion> = made.chain(&lineage.sources).cloned().collect();
    for input in lineage.steps.iter().flat_map(LineageStep::inputs) {
        if matches!(input.from, InputOrigin::MadeAnewSince(_)) {
            all.insert(input.file.clone());
        }
    }
    all
}

/// The text of the metadata file.
pub fn metadata(lineage: &Lineage, payload: &CratePayload) -> String {
    let files: Vec<FileVersion> = versions(lineage).into_iter().collect();
    let ids: BTreeMap<&FileVersion, String> = files
        .iter()
        .enumerate()
        .map(|(number, file)| {
            let id = if payload.copied.contains_key(file) {
                uri_path(&names::to_bytes(&file.path))
            } else {
                format!("#file-{}", number + 1)
            };
            (file, id)
        })
        .collect();
    let mut entities = vec![
        json!({
            "@id": METADATA,
            "@type": "CreativeWork",
            "about": {"@id": "./"},
            "conformsTo": [{"@id": CRATE}],
        }),
        root(lineage, payload, &ids),
        json!({
            "@id": PROFILE,
            "@type": "CreativeWork",
            "name": "Process Run Crate",
            "version": "0.5",
        }),
        software(),
    ];
    entities.extend(ids.iter().map(|(file, id)| file_entity(file, id, payload)));
    for (number, step) in lineage.steps.iter().enumerate() {
        step_entities(number, step, lineage, &ids, &mut entities);
    }
    let crate_text = json!({
        "@context": [
            format!("{CRATE}/context"),
            // A term of the workflow run crates' own vocabulary.
            {"sha256": "https://w3id.org/ro/terms/workflow-run#sha256"},
        ],
        "@graph": entities,
    });
    text::shown_json(&serde_json::to_string_pretty(&crate_text).unwrap_or_default()) + "\n"
}

fn reference(id: &str) -> Value {
    json!({"@id": id})
}

fn root(lineage: &Lineage, payload: &CratePayload, ids: &BTreeMap<&FileVersion, String>) -> Value {
    let with: Vec<Value> = ids
        .iter()
        .filter(|(file, _)| payload.copied.contains_key(**file))
        .map(|(_, id)| reference(id))
        .collect();
    let actions: Vec<Value> = (0..lineage.steps.len())
        .filter(|&step| lineage.steps[step].how != HowMade::Accepted)
        .map(|step| reference(&action_id(step)))
        .collect();
    let published = lineage.maker().map_or(0, |step| step.ended_at);
    let mut root = json!({
        "@id": "./",
        "@type": "Dataset",
        "name": format!("How {} came about", lineage.file),
        "description": format!(
            "The steps that made {}, with their recipes, and the files that they were made from",
            lineage.file
        ),
        "datePublished": text::started(published).iso,
        "license": "As each file says; the project that they are of sets the terms",
        "conformsTo": [{"@id": PROFILE}],
        "hasPart": with,
        "mentions": actions,
    });
    let main = lineage.maker().and_then(|step| {
        let mut made = step.outputs.iter();
        made.find(|output| output.path == lineage.file)
    });
    if let Some(id) = main.and_then(|main| ids.get(main)) {
        root["mainEntity"] = reference(id);
    }
    root
}

fn software() -> Value {
    json!({
        "@id": "#handloom",
        "@type": "SoftwareApplication",
        "name": "Hand Loom",
        "softwareVersion": env!("CARGO_PKG_VERSION"),
    })
}

fn file_entity(file: &FileVersion, id: &str, payload: &CratePayload) -> Value {
    let identifier = file.content.as_ref().map(hex);
    match payload.copied.get(file) {
        Some(copied) => json!({
            "@id": id,
            "@type": "File",
            "name": file.path,
            "contentSize": copied.bytes.to_string(),
            "encodingFormat": encoding(&file.path),
            "sha256": copied.sha256,
        }),
        None => json!({
            "@id": id,
            "@type": "CreativeWork",
            "name": file.path,
            "description": "Not part of this crate",
            "identifier": identifier,
        }),
    }
}

/// What a file is in, by its name, as the Internet's registry of media types calls it.
fn encoding(path: &str) -> &'static str {
    let name = path.rsplit('/').next().unwrap_or_default();
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
    match ending {
        "csv" => "text/csv",
        "tsv" => "text/tab-separated-values",
        "html" | "htm" => "text/html",
        "css" => "text/css",
        "md" => "text/markdown",
        "svg" => "image/svg+xml",
        "png" => "image/png",
        "jpg" | "jpeg" => "image/jpeg",
        "pdf" => "application/pdf",
        "json" => "application/json",
        "xml" => "application/xml",
        "yaml" | "yml" => "application/yaml",
        "gz" => "application/gzip",
        "zip" => "application/zip",
        "c" | "h" | "py" | "awk" | "sh" | "txt" | "toml" | "tex" | "rs" | "cpp" | "hpp" => {
            "text/plain"
        }
        _ => "application/octet-stream",
    }
}

fn action_id(step: usize) -> String {
    format!("#step-{}", step + 1)
}

/// The action that a step is, its recipe, and its parameters.
fn step_entities(
    number: usize,
    step: &LineageStep,
    lineage: &Lineage,
    ids: &BTreeMap<&FileVersion, String>,
    entities: &mut Vec<Value>,
) {
    // Nothing is known to have made what was accepted.
    let Some((began, ended)) = made_between(step) else {
        return;
    };
    let recipe = format!("#recipe-{}", number + 1);
    entities.push(json!({
        "@id": recipe,
        "@type": "SoftwareSourceCode",
        "name": format!("The recipe of {}", step.name),
        "programmingLanguage": step.recipe.interpreter,
        "text": step.script(),
    }));
    let id = |file: &FileVersion| ids.get(file).map(|id| reference(id));
    let mut objects: Vec<Value> = step
        .inputs()
        .filter_map(|input| match input.from {
            InputOrigin::Step(from) => {
                let mut made = lineage.steps[from].outputs.iter();
                let made = made.find(|output| output.path == input.file.path);
                made.and_then(id)
            }
            InputOrigin::Source(_) | InputOrigin::MadeAnewSince(_) => id(&input.file),
        })
        .collect();
    for (at, (name, value)) in step.parameters.iter().enumerate() {
        let parameter = format!("#parameter-{}-{}", number + 1, at + 1);
        objects.push(reference(&parameter));
        entities.push(json!({
            "@id": parameter,
            "@type": "PropertyValue",
            "name": name,
            "value": value,
        }));
    }
    let run = step
        .ran_in
        .as_ref()
        .and_then(|ran| lineage.runs.get(&ran.run));
    let mut description = match &step.how {
        HowMade::Restored(origin) => format!("Made in {}, and restored from there", origin.made_in),
        _ => run.map_or(String::new(), |run| {
            let node = step.ran_in.as_ref().and_then(|ran| ran.node.as_deref());
            format!(
                "Run by `{}` on {}",
                run.command,
                node.unwrap_or(&run.machine)
            )
        }),
    };
    if let Some(commit) = run.and_then(|run| run.commit.as_ref()) {
        let state = match commit.clean {
            Some(true) => ", clean",
            Some(false) => ", with changes",
            None => "",
        };
        description.push_str(&format!(", at commit {}{state}", commit.id));
    }
    entities.push(json!({
        "@id": action_id(number),
        "@type": "CreateAction",
        "name": format!("Made {}", step.name),
        "description": description,
        "instrument": reference(&recipe),
        "agent": reference("#handloom"),
        "actionStatus": "http://schema.org/CompletedActionStatus",
        "startTime": text::started(began).iso,
        "endTime": text::started(ended).iso,
        "object": objects,
        "result": step.outputs.iter().filter_map(id).collect::<Vec<_>>(),
    }));
}
