//! How a file came about, for people: back from it, steps that are alike in one.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::time::Duration;

use handloom_core::ledger::CommitState;
use handloom_core::lineage::FileVersion;
use handloom_core::lineage::HowMade;
use handloom_core::lineage::InputOrigin;
use handloom_core::lineage::Lineage;
use handloom_core::lineage::LineageStep;

use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// Longer lines of a script are cut, unless all is to be shown.
const WIDE: usize = 100;

/// So many files of one kind are named each.
const FEW: usize = 3;

/// Steps that came about alike.
struct Alike<'a> {
    steps: Vec<&'a LineageStep>,
    depth: usize,
}

/// The text of a lineage; `all` shows each step by itself, and each content.
pub fn plain(lineage: &Lineage, all: bool, ui: Ui) -> String {
    let mut out = head(lineage, ui);
    for group in groups(lineage, all) {
        out.push('\n');
        write_group(&group, all, ui, &mut out);
    }
    write_sources(lineage, all, ui, &mut out);
    out
}

fn head(lineage: &Lineage, ui: Ui) -> String {
    let made = lineage.made();
    let content = made.and_then(|made| made.content);
    let mut content = content.map_or(String::new(), |content| content.short());
    if let Some(folder) = made.filter(|made| made.path != lineage.file) {
        content = format!("in {} {content}", text::safe(&folder.path));
    }
    let mut out = format!(
        "{}  {}\n",
        ui.out.paint(Role::Name, &text::safe(&lineage.file)),
        ui.out.paint(Role::Faint, &content)
    );
    let inside = |file: &&FileVersion| !file.path.starts_with('/');
    let sources = lineage.sources.iter().filter(inside).count();
    out.push_str(&format!(
        "  {} from {}",
        text::count(lineage.steps.len(), "step"),
        text::count(sources, "source"),
    ));
    let outside = lineage.sources.len() - sources;
    if outside > 0 {
        let files = text::count(outside, "file");
        out.push_str(&format!(" and {files} outside of the project"));
    }
    out.push('\n');
    // By the run that they ran in; what is not recorded comes first.
    let mut runs: BTreeMap<Option<u64>, usize> = BTreeMap::new();
    for step in &lineage.steps {
        *runs
            .entry(step.ran_in.as_ref().map(|ran| ran.run))
            .or_default() += 1;
    }
    for (run, steps) in runs {
        let steps = text::count(steps, "step");
        let Some(run) = run.and_then(|run| lineage.runs.get(&run)) else {
            out.push_str(&format!("  {steps} of which no run is recorded\n"));
            continue;
        };
        let began = i64::try_from(run.run).unwrap_or_default();
        out.push_str(&format!(
            "  {}  {}, {steps}, on {}\n",
            text::started(began.saturating_mul(1_000_000)).plain,
            text::safe(&run.command),
            text::safe(&run.machine),
        ));
        if let Some(commit) = &run.commit {
            out.push_str(&format!("    {}\n", commit_text(commit)));
        }
    }
    out
}

fn commit_text(commit: &CommitState) -> String {
    let id = commit.id.get(..12).unwrap_or(&commit.id);
    let state = match commit.clean {
        Some(true) => ", clean".to_owned(),
        None => ", whether anything differed from it is not known".to_owned(),
        Some(false) => {
            let names = commit.changed.iter().take(FEW);
            let names: Vec<String> = names.map(|name| text::safe(name)).collect();
            let more = if commit.changed.len() > FEW {
                ", …"
            } else {
                ""
            };
            format!(", not clean: {}{more}", names.join(", "))
        }
    };
    format!("commit {id}{state}")
}

/// Steps whose recipes are recorded alike, nearest to the file first.
fn groups(lineage: &Lineage, all: bool) -> Vec<Alike<'_>> {
    let depths = lineage.depths();
    let mut groups: Vec<Alike<'_>> = Vec::new();
    let mut known: BTreeMap<String, usize> = BTreeMap::new();
    for (number, step) in lineage.steps.iter().enumerate() {
        let how = match step.how {
            HowMade::Made => "made",
            HowMade::Restored(_) => "restored",
            HowMade::Accepted => "accepted",
        };
        let recipe = &step.recipe;
        let key = match all {
            true => number.to_string(),
            // What was asked for stands in front, by itself.
            false if depths[number] == 0 => String::new(),
            false => format!(
                "{how}\0{}\0{:?}\0{:?}\0{}",
                recipe.interpreter, recipe.env, recipe.clauses, recipe.script
            ),
        };
        let next = groups.len();
        let at = *known.entry(key).or_insert(next);
        if at == next {
            groups.push(Alike {
                steps: Vec::new(),
                depth: 0,
            });
        }
        groups[at].steps.push(step);
        groups[at].depth = groups[at].depth.max(depths[number]);
    }
    groups.sort_by_key(|group| group.depth);
    groups
}

fn write_group(group: &Alike<'_>, all: bool, ui: Ui, out: &mut String) {
    let Some(&first) = group.steps.first() else {
        return;
    };
    let outputs = group.steps.iter().flat_map(|step| &step.outputs);
    let outputs: BTreeSet<&str> = outputs.map(|output| output.path.as_str()).collect();
    let outputs: Vec<&str> = outputs.into_iter().collect();
    let count = match group.steps.len() {
        1 => String::new(),
        count => format!("  {count} steps"),
    };
    out.push_str(&format!(
        "{}{}\n  {}\n",
        ui.out.paint(Role::Name, &folded(&outputs, all).join(", ")),
        ui.out.paint(Role::Faint, &count),
        ui.out.paint(Role::Faint, &how(&group.steps)),
    ));
    // Of several the recipe as written, of one as it was run.
    let script = match group.steps.len() {
        1 => first.script(),
        _ => first.recipe.script.clone(),
    };
    if first.how != HowMade::Accepted {
        write_script(first, &script, all, ui, out);
    }
    let inputs = || group.steps.iter().flat_map(|step| step.inputs());
    let named = |wanted: fn(&InputOrigin) -> bool| {
        let inputs = inputs().filter(|input| wanted(&input.from));
        let inputs = inputs.map(|input| input.file.path.as_str());
        let inside = inputs.filter(|path| !path.starts_with('/'));
        let names: BTreeSet<&str> = inside.collect();
        names.into_iter().collect::<Vec<_>>()
    };
    let lists = [
        ("from", named(|from| matches!(from, InputOrigin::Step(_)))),
        (
            "sources",
            named(|from| matches!(from, InputOrigin::Source(_))),
        ),
    ];
    for (title, names) in lists {
        write_list(title, &folded(&names, all), ui, out);
    }
    let outside: BTreeSet<&str> = inputs()
        .map(|input| input.file.path.as_str())
        .filter(|path| path.starts_with('/'))
        .collect();
    let outside: Vec<&str> = outside.into_iter().collect();
    write_list("outside", &folded(&outside, all), ui, out);
    if let [step] = group.steps[..] {
        let values = step.parameters.iter().map(|(name, value)| {
            let value = text::safe(value);
            format!("{} = {value}", text::safe(name))
        });
        write_list("values", &values.collect::<Vec<_>>(), ui, out);
        let given = step.givens.iter().map(|given| {
            let value = given.value.as_deref().unwrap_or("not set");
            format!("{} = {}", text::safe(&given.key), text::safe(value))
        });
        write_list("given", &given.collect::<Vec<_>>(), ui, out);
    }
    for name in named(|from| matches!(from, InputOrigin::MadeAnewSince(_))) {
        let path = text::safe(name);
        let what = format!(
            "  {path} was made anew since: how what was seen of it then came about is not recorded any more\n"
        );
        out.push_str(&ui.out.paint(Role::Held, &what));
    }
}

/// How outputs came to be there, and when.
fn how(steps: &[&LineageStep]) -> String {
    let first = steps.iter().map(|step| step.ended_at).min().unwrap_or(0);
    let last = steps.iter().map(|step| step.ended_at).max().unwrap_or(0);
    let (first, last) = (text::started(first).plain, text::started(last).plain);
    let when = if first == last {
        first
    } else {
        // On the same day its name stands there once.
        let shared = first.get(..11).filter(|day| last.starts_with(day));
        let last = last.get(shared.map_or(0, str::len)..).unwrap_or(&last);
        format!("{first} to {last}")
    };
    let took: u64 = steps.iter().map(|step| step.took).sum();
    let took = text::seconds(Duration::from_nanos(took));
    let nodes: BTreeSet<&str> = steps
        .iter()
        .filter_map(|step| step.ran_in.as_ref()?.node.as_deref())
        .collect();
    let on = match nodes.len() {
        0 => String::new(),
        _ => {
            let nodes: Vec<String> = nodes.into_iter().map(text::safe).collect();
            format!(" on {}", nodes.join(", "))
        }
    };
    match steps.first().map(|step| &step.how) {
        Some(HowMade::Accepted) => format!("accepted {when}: nothing is known to have made it"),
        Some(HowMade::Restored(_)) => format!("restored {when}, {}", origins(steps)),
        _ => format!("made {when} in {took}{on}"),
    }
}

/// Where results came from that were restored.
fn origins(steps: &[&LineageStep]) -> String {
    let origins = steps.iter().filter_map(|step| match &step.how {
        HowMade::Restored(origin) => Some(origin),
        HowMade::Made | HowMade::Accepted => None,
    });
    let origins: Vec<_> = origins.collect();
    let places: BTreeSet<&str> = origins
        .iter()
        .map(|origin| origin.made_in.as_str())
        .collect();
    match origins[..] {
        [origin] => text::safe(&text::origin(origin)),
        [] => String::new(),
        [first, ..] => {
            let places: Vec<String> = places.into_iter().map(text::safe).collect();
            let made = text::started(first.made_at).plain;
            let took: u64 = origins.iter().map(|origin| origin.took).sum();
            let took = text::seconds(Duration::from_nanos(took));
            let places = places.join(" and ");
            format!("the first made {made} in {places}, where they took {took} together")
        }
    }
}

fn write_script(step: &LineageStep, script: &str, all: bool, ui: Ui, out: &mut String) {
    let recipe = &step.recipe;
    let mut around = Vec::new();
    if recipe.interpreter != "sh -eu" {
        around.push(format!("with {}", recipe.interpreter));
    }
    if let Some(folder) = &recipe.folder {
        around.push(format!("in {folder}"));
    }
    around.extend(recipe.env.iter().map(|variable| format!("env {variable}")));
    if !around.is_empty() {
        let around = text::safe(&around.join(", "));
        out.push_str(&format!("    {}\n", ui.out.paint(Role::Faint, &around)));
    }
    let most = if all { usize::MAX } else { 12 };
    let lines: Vec<&str> = script.lines().collect();
    for line in lines.iter().take(most) {
        let line = text::safe(line);
        let shown = match line.char_indices().nth(WIDE) {
            Some((at, _)) if !all => format!("{}…", &line[..at]),
            _ => line,
        };
        out.push_str(&format!("    {shown}\n"));
    }
    if lines.len() > most {
        let more = format!("… {} more", text::count(lines.len() - most, "line"));
        out.push_str(&format!("    {}\n", ui.out.paint(Role::Faint, &more)));
    }
}

fn write_list(title: &str, names: &[String], ui: Ui, out: &mut String) {
    if names.is_empty() {
        return;
    }
    for (at, line) in text::paragraph(names, 84).iter().enumerate() {
        let title = if at == 0 { title } else { "" };
        let title = ui.out.paint(Role::Faint, &format!("{title:<8}"));
        out.push_str(&format!("  {title}  {line}\n"));
    }
}

/// Names of files; many with one ending in one folder, or in the folders of one folder, as one with their number.
fn folded(names: &[&str], all: bool) -> Vec<String> {
    let ending = |name: &str| {
        let file = name.rsplit('/').next().unwrap_or_default();
        file.rsplit_once('.')
            .map_or(String::new(), |(_, ending)| format!(".{ending}"))
    };
    let folder = |name: &str| {
        name.rsplit_once('/')
            .map_or("", |(folder, _)| folder)
            .to_owned()
    };
    let plain = names
        .iter()
        .map(|name| (folder(name), "*", ending(name), vec![*name]));
    let mut kinds = merged(plain.collect());
    if !all && kinds.len() > FEW {
        let above =
            kinds.into_iter().map(
                |(place, star, ending, names)| match place.rsplit_once('/') {
                    Some((above, _)) => (above.to_owned(), "**/*", ending, names),
                    None => (place, star, ending, names),
                },
            );
        kinds = merged(above.collect());
    }
    let mut shown = Vec::new();
    for (folder, star, ending, names) in kinds {
        if all || names.len() <= FEW {
            shown.extend(names.into_iter().map(text::safe));
            continue;
        }
        let slash = if folder.is_empty() { "" } else { "/" };
        let kind = text::safe(&format!("{folder}{slash}{star}{ending}"));
        shown.push(format!("{kind} ({})", names.len()));
    }
    shown
}

/// Files of one kind: a folder, how their names go on, their ending, and the names.
type FileKind<'a> = (String, &'static str, String, Vec<&'a str>);

/// Puts those of one kind together.
fn merged(kinds: Vec<FileKind<'_>>) -> Vec<FileKind<'_>> {
    let mut merged: Vec<FileKind<'_>> = Vec::new();
    for (folder, star, ending, names) in kinds {
        let same = merged
            .iter_mut()
            .find(|known| (&known.0, known.1, &known.2) == (&folder, star, &ending));
        match same {
            Some((.., known)) => known.extend(names),
            None => merged.push((folder, star, ending, names)),
        }
    }
    merged
}

fn write_sources(lineage: &Lineage, all: bool, ui: Ui, out: &mut String) {
    let inside: Vec<&FileVersion> = lineage
        .sources
        .iter()
        .filter(|file| all || !file.path.starts_with('/'))
        .collect();
    if inside.is_empty() {
        return;
    }
    out.push_str(&format!("\n{}\n", ui.out.paint(Role::Name, "sources")));
    if all {
        for file in inside {
            let content = file
                .content
                .map_or("-".to_owned(), |content| content.short());
            let content = ui.out.paint(Role::Faint, &format!("{content:<12}"));
            out.push_str(&format!("  {content}  {}\n", text::safe(&file.path)));
        }
        return;
    }
    let mut names: Vec<&str> = inside.iter().map(|file| file.path.as_str()).collect();
    let mut shown = Vec::new();
    // Steps may have seen different contents of one.
    for with in names.chunk_by(|a, b| a == b).filter(|with| with.len() > 1) {
        shown.push(format!(
            "{} in {} contents",
            text::safe(with[0]),
            with.len()
        ));
    }
    let several: BTreeSet<&str> = names
        .windows(2)
        .filter(|pair| pair[0] == pair[1])
        .map(|pair| pair[0])
        .collect();
    names.retain(|name| !several.contains(name));
    shown.extend(folded(&names, false));
    for line in text::paragraph(&shown, 92) {
        out.push_str(&format!("  {line}\n"));
    }
}
