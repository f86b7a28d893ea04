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
use handloom_core::language::TopItem;
use handloom_core::language::target_of;
use handloom_core::project::Description;
use handloom_core::records::Runs;
use handloom_core::records::StandingFindings;
use handloom_core::scheduler::Ending;
use handloom_core::text::Span;

use crate::language_server::answers::range_of;
use crate::language_server::outlook::Outlook;
use crate::language_server::positions::uri_of;
use crate::language_server::project_text::ProjectText;

/// Records are read back to so many bytes of them.
const MOST_RECORDS: u64 = 32 << 20;

/// How a step or task failed when it ran last.
#[derive(Clone, Debug)]
struct StepResult {
    run: u64,
    /// How its recipe ended.
    how: String,
    /// What it is described as.
    by: String,
    /// The place of its description then.
    place: String,
    log: Option<PathBuf>,
}

/// Steps that failed, by their names.
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
    failed: Open,
    /// What was said of sources when each step ran last.
    said: StandingFindings,
    /// Whether that run is over.
    pub is_over: bool,
}

impl LastResults {
    /// Reads what came since; whether there was something.
    pub fn refresh(&mut self, root: &Path) -> bool {
        let own = root.join(".handloom");
        let runs = Runs::new(&own);
        // What can't be read is told of by the commands.
        let numbers = runs.numbers().unwrap_or_default();
        let newest = numbers.last().map(|&number| (number, runs.size(number)));
        if newest == self.seen {
            return false;
        }
        self.seen = newest;
        self.failed.clear();
        self.said = StandingFindings::read(&own).unwrap_or_default();
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
        self.failed = open;
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
        let names: Option<HashSet<&str>> =
            outlook.map(|outlook| outlook.names.iter().map(String::as_str).collect());
        // A task that was called with values stands behind its name.
        let is_described = |step: &str| {
            let task = step.split(' ').next().unwrap_or_default();
            let known = names.as_ref();
            known.is_none_or(|names| names.contains(step) || names.contains(task))
        };
        let mut texts: HashMap<String, Option<String>> = HashMap::new();
        // A source may be put right without anything to run.
        let is_kept = |step: &str| outlook.is_some_and(|outlook| outlook.kept.contains(step));
        let said = self.said.steps(is_kept);
        let said = said.filter(|step| is_described(&step.step));
        for (step, one) in said.flat_map(|step| step.found.iter().map(move |one| (step, one))) {
            let finding = &one.finding;
            let path = project.root.join(&finding.file);
            let Some(uri) = uri_of(&path).filter(|_| finding.level != FindingLevel::Note) else {
                continue;
            };
            let text = texts
                .entry(finding.file.clone())
                .or_insert_with(|| std::fs::read_to_string(&path).ok());
            let told = told(finding, &step.step, step.run, text.as_deref());
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
        let failed = self.failed.iter();
        let failed = failed.filter(|(step, _)| is_described(step) && !is_kept(step));
        let described = |result: &StepResult| {
            let file = result.place.rsplit(':').nth(1).unwrap_or_default();
            (file.to_owned(), result.by.clone())
        };
        let mut failures: BTreeMap<_, Vec<(&str, &StepResult)>> = BTreeMap::new();
        for (step, result) in failed {
            failures
                .entry(described(result))
                .or_default()
                .push((step, result));
        }
        if failures.is_empty() {
            return;
        }
        let (description, _) = project.description();
        // Of one target all steps may fail: that is told once.
        for steps in failures.values() {
            let first = steps.first().and_then(|(step, _)| self.first_error(step));
            if let Some((name, told)) = failed_steps(project, &description, steps, first)
                && let Some(uri) = uri_of(&project.root.join(&name))
            {
                found.entry(name).or_insert((uri, Vec::new())).1.push(told);
            }
        }
    }

    /// What was said first of what went wrong in a step.
    fn first_error(&self, step: &str) -> Option<&Finding> {
        let mut steps = self.said.steps(|_| false);
        let said = steps.find(|said| said.step == step)?;
        let mut found = said.found.iter().map(|one| &one.finding);
        found.find(|one| one.level == FindingLevel::Error)
    }
}

/// Records that are being read, the newest first.
struct Reading<'r> {
    root: &'r Path,
    /// Steps of which a later run told already.
    ended: HashSet<String>,
    /// Whether the run that was read last is over.
    is_over: bool,
}

impl<'r> Reading<'r> {
    fn of(root: &'r Path) -> Self {
        Self {
            root,
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
            let is_last = has_ended && self.ended.insert(job.step.clone());
            if is_last && job.ending == Ending::Failed {
                open.insert(
                    job.step,
                    StepResult {
                        run: number,
                        how: job.exit.unwrap_or_else(|| "failed".to_owned()),
                        by: job.by,
                        place: job.place,
                        log: job.log.map(|log| self.root.join(log)),
                    },
                );
            }
        }
        open
    }
}

/// That steps of one target or task failed, at what describes it now, or where that was then; and the file that it is told in.
fn failed_steps(
    project: &ProjectText,
    description: &Description,
    steps: &[(&str, &StepResult)],
    first: Option<&Finding>,
) -> Option<(String, lsp_types::Diagnostic)> {
    let &(step, result) = steps.first()?;
    let how = &result.how;
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
    let first = first.map_or(String::new(), |first| {
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
    // Whatever stands in the file: lines and columns count from 1.
    let line = finding.line.saturating_sub(1);
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
        .nth((column as usize).saturating_sub(1))
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
