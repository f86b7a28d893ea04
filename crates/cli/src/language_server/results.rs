//! How each step went when it ran last, as its project's records have it: failures and what compilers said, at their places in the
//! sources.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::collections::HashSet;
use std::path::Path;
use std::path::PathBuf;

use lsp_types::DiagnosticRelatedInformation;
use lsp_types::DiagnosticSeverity;
use lsp_types::Location;
use lsp_types::NumberOrString;
use lsp_types::Position;
use lsp_types::Range;
use lsp_types::Uri;

use handloom_core::findings::Finding;
use handloom_core::findings::FindingLevel;
use handloom_core::findings::findings;
use handloom_core::language::TopItem;
use handloom_core::language::target_of;
use handloom_core::project::Description;
use handloom_core::records::JobRecord;
use handloom_core::records::Runs;
use handloom_core::scheduler::Ending;
use handloom_core::text::Span;

use crate::language_server::answers::range_of;
use crate::language_server::outlook::Outlook;
use crate::language_server::positions::uri_of;
use crate::language_server::project_text::ProjectText;

/// Records are read back to so many bytes of them.
const MOST_RECORDS: u64 = 32 << 20;

/// Logs are read up to here; what a compiler says first counts most.
const MOST_LOG: u64 = 1 << 20;

/// No more logs are read at once.
const MOST_LOGS: usize = 2000;

/// No more findings of a step are told of.
const MOST_FINDINGS: usize = 200;

/// How a step or task went when it ran last.
#[derive(Clone, Debug)]
struct StepResult {
    run: u64,
    /// How its recipe ended, when it failed.
    failure: Option<String>,
    /// What it is described as.
    by: String,
    /// The place of its description then.
    place: String,
    log: Option<PathBuf>,
    findings: Vec<Finding>,
}

/// What is to be told of steps, by their names: of those that failed or of which something was said.
type Open = BTreeMap<String, StepResult>;

/// How all steps of a project went when they ran last.
#[derive(Debug, Default)]
pub struct LastResults {
    /// The last record, by its number and size.
    seen: Option<(u64, u64)>,
    /// The run that `before` is of the runs before.
    last: u64,
    before: Open,
    /// After the last run.
    steps: Open,
    /// Whether that run is over.
    pub is_over: bool,
}

impl LastResults {
    /// Reads what came since; whether there was something.
    pub fn refresh(&mut self, root: &Path) -> bool {
        let runs = Runs::new(&root.join(".handloom"));
        let numbers = runs.numbers();
        let newest = numbers.last().map(|&number| (number, runs.size(number)));
        if newest == self.seen {
            return false;
        }
        self.seen = newest;
        self.steps.clear();
        let Some((newest, older)) = numbers.split_last() else {
            self.before.clear();
            return true;
        };
        if self.last != *newest {
            // Once for each run: its own record grows while it goes on.
            self.last = *newest;
            self.before = Reading::of(root).all(&runs, older);
        }
        let mut reading = Reading::of(root);
        let mut open = reading.run(&runs, *newest);
        self.is_over = reading.is_over;
        let before = self.before.iter();
        let before = before.filter(|(step, _)| !reading.ended.contains(*step));
        open.extend(before.map(|(step, result)| (step.clone(), result.clone())));
        self.steps = open;
        true
    }

    /// Adds what is to be told to what is wrong in each file. Of steps that are not described any more nothing is told, once it
    /// is known which are.
    pub fn add_to(
        &self,
        project: &ProjectText,
        outlook: Option<&Outlook>,
        found: &mut BTreeMap<String, (Uri, Vec<lsp_types::Diagnostic>)>,
    ) {
        if self.steps.is_empty() {
            return;
        }
        let names: Option<HashSet<&str>> =
            outlook.map(|outlook| outlook.names.iter().map(String::as_str).collect());
        let (description, _) = project.description();
        let mut failures: BTreeMap<(&str, &str), Vec<(&str, &StepResult)>> = BTreeMap::new();
        let mut texts: HashMap<String, Option<String>> = HashMap::new();
        for (step, result) in &self.steps {
            // A task that was called with values stands behind its name.
            let task = step.split(' ').next().unwrap_or_default();
            let is_described = names
                .as_ref()
                .is_none_or(|names| names.contains(&**step) || names.contains(task));
            if !is_described {
                continue;
            }
            if result.failure.is_some() {
                let file = result.place.rsplit(':').nth(1).unwrap_or_default();
                failures
                    .entry((file, &result.by))
                    .or_default()
                    .push((step, result));
            }
            let findings = result.findings.iter();
            for finding in findings.filter(|one| one.level != FindingLevel::Note) {
                let text = texts.entry(finding.file.clone()).or_insert_with(|| {
                    std::fs::read_to_string(project.root.join(&finding.file)).ok()
                });
                let Some(uri) = uri_of(&project.root.join(&finding.file)) else {
                    continue;
                };
                let told = told(finding, step, result.run, text.as_deref());
                let list = &mut found
                    .entry(finding.file.clone())
                    .or_insert((uri, Vec::new()))
                    .1;
                // A header is compiled by many.
                let is_known = |known: &lsp_types::Diagnostic| {
                    known.range == told.range
                        && known.code == told.code
                        && known.message.split('\n').next() == told.message.split('\n').next()
                };
                if !list.iter().any(is_known) {
                    list.push(told);
                }
            }
        }
        // Of one target all steps may fail: that is told once.
        for steps in failures.values() {
            if let Some((name, told)) = failed(project, &description, steps)
                && let Some(uri) = uri_of(&project.root.join(&name))
            {
                found.entry(name).or_insert((uri, Vec::new())).1.push(told);
            }
        }
    }
}

/// Records that are being read, the newest first.
struct Reading<'r> {
    root: &'r Path,
    /// Logs that were read.
    logs: usize,
    /// Steps of which a later run told already.
    ended: HashSet<String>,
    /// Whether the run that was read last is over.
    is_over: bool,
}

impl<'r> Reading<'r> {
    fn of(root: &'r Path) -> Self {
        Self {
            root,
            logs: 0,
            ended: HashSet::new(),
            is_over: false,
        }
    }

    /// What is open after some runs, as far back as is worth the time.
    fn all(&mut self, runs: &Runs, numbers: &[u64]) -> Open {
        let mut open = Open::new();
        let mut read = 0;
        for &number in numbers.iter().rev() {
            read += runs.size(number);
            if read > MOST_RECORDS {
                break;
            }
            open.append(&mut self.run(runs, number));
        }
        open
    }

    /// What a run left open of steps of which no later one told.
    fn run(&mut self, runs: &Runs, number: u64) -> Open {
        let mut open = Open::new();
        // One that can't be read tells nothing.
        let run = runs.read(number).ok();
        self.is_over = run.as_ref().is_some_and(|run| run.tail.is_some());
        let jobs = run.map(|run| run.jobs).unwrap_or_default();
        for job in jobs.into_iter().rev() {
            let has_ended = matches!(
                job.ending,
                Ending::Made | Ending::Same | Ending::Restored | Ending::Failed
            );
            if has_ended && self.ended.insert(job.step.clone()) {
                let step = job.step.clone();
                let result = self.result(number, job);
                if result.failure.is_some() || !result.findings.is_empty() {
                    open.insert(step, result);
                }
            }
        }
        open
    }

    fn result(&mut self, run: u64, job: JobRecord) -> StepResult {
        let log = job.log.map(|log| self.root.join(log));
        let mut found = Vec::new();
        if let Some(log) = log.as_ref().filter(|_| self.logs < MOST_LOGS) {
            self.logs += 1;
            let folder = job.place.rsplit_once('/').map_or("", |(folder, _)| folder);
            let file = |name: &str| file_of(self.root, folder, name);
            found = read_log(log)
                .map(|text| findings(&text, &file))
                .unwrap_or_default();
            found.truncate(MOST_FINDINGS);
        }
        let failed = job.ending == Ending::Failed;
        StepResult {
            run,
            failure: failed.then(|| job.exit.unwrap_or_else(|| "failed".to_owned())),
            by: job.by,
            place: job.place,
            log,
            findings: found,
        }
    }
}

/// The file of the project that a path in a log is of: seen from the root, or from the folder of the part.
fn file_of(root: &Path, folder: &str, name: &str) -> Option<String> {
    if name.len() > 4096 || name.contains('\0') {
        return None;
    }
    let name = name.trim_start_matches("./");
    let candidates = [root.join(name), root.join(folder).join(name)];
    let found = candidates.iter().find(|path| path.is_file())?;
    let relative = found.strip_prefix(root).ok()?;
    let is_below = relative
        .components()
        .all(|part| matches!(part, std::path::Component::Normal(_)));
    is_below.then(|| relative.to_str().map(str::to_owned))?
}

fn read_log(path: &Path) -> Option<String> {
    use std::io::Read;
    let mut bytes = Vec::new();
    let file = std::fs::File::open(path).ok()?;
    file.take(MOST_LOG).read_to_end(&mut bytes).ok()?;
    Some(String::from_utf8_lossy(&bytes).into_owned())
}

/// That steps of one target or task failed, at what describes it now, or where that was then; and the file that it is told in.
fn failed(
    project: &ProjectText,
    description: &Description,
    steps: &[(&str, &StepResult)],
) -> Option<(String, lsp_types::Diagnostic)> {
    let &(step, result) = steps.first()?;
    let how = result.failure.as_ref()?;
    let sources = &description.sources;
    let described = described(description, result);
    let (file, range) = match described {
        Some(span) => (
            sources.get(span.source).name.clone(),
            range_of(sources, span),
        ),
        None => {
            let (file, line) = result.place.rsplit_once(':')?;
            let line = line.parse::<u32>().ok()?.saturating_sub(1);
            let start = Position::new(line, 0);
            (file.to_owned(), Range::new(start, start))
        }
    };
    let errors = result.findings.iter();
    let mut errors = errors.filter(|one| one.level == FindingLevel::Error);
    let first = errors.next().map_or(String::new(), |first| {
        format!("\n{}:{}: {}", first.file, first.line, first.message)
    });
    let more = match steps.len() - 1 {
        0 => String::new(),
        count => format!(", and {count} more of it failed"),
    };
    let log = result.log.as_ref().and_then(|log| uri_of(log));
    let related = log.map(|uri| {
        vec![DiagnosticRelatedInformation {
            location: Location::new(uri, Range::default()),
            message: "what it printed".to_owned(),
        }]
    });
    // A description outside of the project, such as one's own, is told of where the project's stands.
    let is_there = project.root.join(&file).is_file();
    is_there.then(|| {
        let told = lsp_types::Diagnostic {
            range,
            severity: Some(DiagnosticSeverity::ERROR),
            code: Some(NumberOrString::String("failed-step".to_owned())),
            source: Some("handloom run".to_owned()),
            message: format!("`{step}` failed in run {}: {how}{more}{first}", result.run),
            related_information: related,
            ..lsp_types::Diagnostic::default()
        };
        (file, told)
    })
}

/// The place of the target or task whose first line says this, in the file that it stood in.
fn described(description: &Description, result: &StepResult) -> Option<Span> {
    let sources = &description.sources;
    let (file, _) = result.place.rsplit_once(':')?;
    let items = description.parts.iter().flat_map(|part| &part.items);
    let mut spans = items.filter_map(|item| match item {
        TopItem::Task(task) => Some((task.span, task.name.span)),
        _ => {
            let target = target_of(item, sources)?;
            let words = target.outputs.iter().flat_map(|group| &group.items);
            let words = words.map(|item| item.word.span).reduce(Span::to);
            Some((target.span, words.unwrap_or(target.span)))
        }
    });
    // As the records have it: the words behind the keyword.
    let is_it = |line: Span| {
        let mut words = sources.slice(line).split_whitespace().skip(1);
        sources.get(line.source).name == file
            && result.by.split(' ').all(|word| words.next() == Some(word))
            && words.next().is_none()
    };
    spans.find(|(line, _)| is_it(*line)).map(|(_, name)| name)
}

/// A finding as the protocol has it.
fn told(finding: &Finding, step: &str, run: u64, text: Option<&str>) -> lsp_types::Diagnostic {
    let line = finding.line - 1;
    let written = text.and_then(|text| text.lines().nth(line as usize));
    let (start, end) = columns(written.unwrap_or_default(), finding.column);
    lsp_types::Diagnostic {
        range: Range::new(Position::new(line, start), Position::new(line, end)),
        severity: Some(match finding.level {
            FindingLevel::Error => DiagnosticSeverity::ERROR,
            FindingLevel::Warning => DiagnosticSeverity::WARNING,
            FindingLevel::Note => DiagnosticSeverity::HINT,
        }),
        code: finding.code.clone().map(NumberOrString::String),
        source: Some("handloom run".to_owned()),
        message: format!("{}\n`{step}`, run {run}", finding.message),
        ..lsp_types::Diagnostic::default()
    }
}

/// The word at a column of a line, in units of UTF-16; the whole line without one.
fn columns(line: &str, column: Option<u32>) -> (u32, u32) {
    let units = |text: &str| u32::try_from(text.encode_utf16().count()).unwrap_or(u32::MAX);
    let Some(column) = column else {
        let indent = &line[..line.len() - line.trim_start().len()];
        return (units(indent), units(line.trim_end()));
    };
    let start = line
        .char_indices()
        .nth(column as usize - 1)
        .map_or(line.len(), |(at, _)| at);
    let is_word = |character: char| character.is_alphanumeric() || character == '_';
    let length: usize = line[start..]
        .chars()
        .take_while(|&character| is_word(character))
        .map(char::len_utf8)
        .sum();
    let length = match length {
        0 => line[start..].chars().next().map_or(0, char::len_utf8),
        length => length,
    };
    (units(&line[..start]), units(&line[..start + length]))
}
