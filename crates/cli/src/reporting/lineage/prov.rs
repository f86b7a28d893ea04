//! How a file came about in PROV-JSON, the W3C's interchange form of its provenance data model (the member submission of
//! 24 April 2013; PROV-DM, the recommendation of 30 April 2013).
//!
//! Contents of files are entities, steps activities that used some and generated others, recipes the plans that they were
//! carried out by, and the runs of Hand Loom the agents. Names are numbers: a path may hold what no name of PROV does.

use std::collections::BTreeMap;
use std::collections::HashMap;

use serde_json::Map;
use serde_json::Value;
use serde_json::json;

use handloom_core::lineage::FileVersion;
use handloom_core::lineage::HowMade;
use handloom_core::lineage::InputOrigin;
use handloom_core::lineage::Lineage;
use handloom_core::lineage::LineageStep;

use crate::reporting::lineage::json::hex;
use crate::reporting::lineage::made_between;
use crate::ui::text;

/// The name space of what is ours.
const OURS: &str = "urn:handloom:lineage:";

/// The text of a PROV-JSON document.
pub fn prov_json(lineage: &Lineage) -> String {
    let mut document = ProvDocument::default();
    for step in &lineage.steps {
        for output in &step.outputs {
            document.file(output);
        }
    }
    for source in &lineage.sources {
        document.file(source);
    }
    for (number, step) in lineage.steps.iter().enumerate() {
        document.step(number, step, lineage);
    }
    document.runs(lineage);
    let ProvDocument {
        parts, relations, ..
    } = document;
    let mut all = Map::new();
    let prefixes = json!({"loom": OURS, "xsd": "http://www.w3.org/2001/XMLSchema#"});
    all.insert("prefix".to_owned(), prefixes);
    for (kind, members) in parts.into_iter().chain(relations) {
        all.insert(kind.to_owned(), Value::Object(members));
    }
    text::shown_json(&serde_json::to_string_pretty(&all).unwrap_or_default()) + "\n"
}

#[derive(Default)]
struct ProvDocument<'a> {
    /// Entities, activities and agents, by their kinds.
    parts: BTreeMap<&'static str, Map<String, Value>>,
    relations: BTreeMap<&'static str, Map<String, Value>>,
    files: HashMap<&'a FileVersion, String>,
}

fn typed(kind: &str) -> Value {
    json!({"$": kind, "type": "prov:QUALIFIED_NAME"})
}

fn time(nanoseconds: i64) -> String {
    text::started(nanoseconds).iso
}

impl<'a> ProvDocument<'a> {
    fn part(&mut self, kind: &'static str, name: String, value: Value) {
        self.parts.entry(kind).or_default().insert(name, value);
    }

    fn relation(&mut self, kind: &'static str, value: Value) {
        let known = self.relations.entry(kind).or_default();
        known.insert(format!("_:{kind}{}", known.len() + 1), value);
    }

    /// The name of a content of a file.
    fn file(&mut self, file: &'a FileVersion) -> String {
        if let Some(known) = self.files.get(file) {
            return known.clone();
        }
        let name = format!("loom:file-{}", self.files.len() + 1);
        let mut entity = json!({
            "prov:label": file.path,
            "prov:type": typed("loom:File"),
            "loom:path": file.path,
        });
        if let Some(content) = &file.content {
            entity["loom:content"] = json!(hex(content));
        }
        self.part("entity", name.clone(), entity);
        self.files.insert(file, name.clone());
        name
    }

    fn step(&mut self, number: usize, step: &'a LineageStep, lineage: &'a Lineage) {
        let inputs: Vec<String> = step
            .inputs()
            .map(|input| match input.from {
                // The content as its step left it, which differs from what is seen of it where links are.
                InputOrigin::Step(from) => {
                    let mut made = lineage.steps[from].outputs.iter();
                    let made = made.find(|output| output.path == input.file.path);
                    self.file(made.unwrap_or(&input.file))
                }
                InputOrigin::Source(_) | InputOrigin::MadeAnewSince(_) => self.file(&input.file),
            })
            .collect();
        let Some((began, ended)) = made_between(step) else {
            self.accepted(step, &inputs);
            return;
        };
        let activity = format!("loom:step-{}", number + 1);
        let mut described = json!({
            "prov:label": step.name,
            "prov:startTime": time(began),
            "prov:endTime": time(ended),
            "prov:type": typed("loom:Step"),
            "loom:seconds": {"$": format!("{:.6}", std::time::Duration::from_nanos(step.took).as_secs_f64()), "type": "xsd:double"},
            "loom:reasons": step.reasons.iter().map(|reason| json!(reason.brief())).collect::<Vec<_>>(),
        });
        if let HowMade::Restored(origin) = &step.how {
            described["loom:restoredFrom"] = json!(origin.made_in);
            described["loom:restoredAt"] = json!(time(step.ended_at));
        }
        for (name, value) in &step.parameters {
            described[format!("loom:parameter-{}", plain_name(name))] = json!(value);
        }
        let node = step.ran_in.as_ref().and_then(|ran| ran.node.as_ref());
        if let Some(node) = node {
            described["prov:location"] = json!(node);
        }
        self.part("activity", activity.clone(), described);
        let plan = format!("loom:recipe-{}", number + 1);
        self.part(
            "entity",
            plan.clone(),
            json!({
                "prov:label": format!("the recipe of {}", step.name),
                "prov:type": typed("prov:Plan"),
                "prov:value": step.script(),
                "loom:interpreter": step.recipe.interpreter,
                "loom:asRun": step.recipe.as_run.is_some(),
            }),
        );
        let agent = match (&step.how, &step.ran_in) {
            // Whatever run made it was another one, perhaps elsewhere.
            (HowMade::Made, Some(ran)) if lineage.runs.contains_key(&ran.run) => {
                format!("loom:run-{}", ran.run)
            }
            _ => "loom:handloom".to_owned(),
        };
        self.relation(
            "wasAssociatedWith",
            json!({"prov:activity": activity, "prov:agent": agent, "prov:plan": plan}),
        );
        for input in inputs {
            self.relation(
                "used",
                json!({"prov:activity": activity, "prov:entity": input, "prov:time": time(began)}),
            );
        }
        for output in &step.outputs {
            let output = self.file(output);
            self.relation(
                "wasGeneratedBy",
                json!({"prov:entity": output, "prov:activity": activity, "prov:time": time(ended)}),
            );
        }
    }

    /// Nothing is known to have made it; it was taken as made from these.
    fn accepted(&mut self, step: &'a LineageStep, inputs: &[String]) {
        for output in &step.outputs {
            let output = self.file(output);
            if let Some(entities) = self.parts.get_mut("entity")
                && let Some(entity) = entities.get_mut(&output)
            {
                entity["loom:acceptedAt"] = json!(time(step.ended_at));
            }
            for input in inputs {
                let derived = json!({"prov:generatedEntity": output, "prov:usedEntity": input});
                self.relation("wasDerivedFrom", derived);
            }
        }
    }

    fn runs(&mut self, lineage: &'a Lineage) {
        let software = || typed("prov:SoftwareAgent");
        let version = env!("CARGO_PKG_VERSION");
        self.part(
            "agent",
            "loom:handloom".to_owned(),
            json!({"prov:label": "Hand Loom", "prov:type": software(), "loom:version": version}),
        );
        for run in lineage.runs.values() {
            let mut agent = json!({
                "prov:label": run.command,
                "prov:type": software(),
                "prov:location": run.machine,
                "loom:system": run.system,
                "loom:folder": run.folder,
                "loom:version": run.version,
            });
            if let Some(commit) = &run.commit {
                agent["loom:commit"] = json!(commit.id);
                if let Some(clean) = commit.clean {
                    agent["loom:clean"] = json!(clean);
                }
            }
            self.part("agent", format!("loom:run-{}", run.run), agent);
        }
    }
}

/// A name of ours as the end of a name of PROV.
fn plain_name(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
    name.chars().map(plain).collect()
}
