//! What takes longer than who types is to wait: a thread of its own works projects out, one question after another.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::path::PathBuf;
use std::time::Duration;
use std::time::Instant;

use crossbeam_channel::Receiver;
use crossbeam_channel::Sender;
use lsp_server::ErrorCode;
use lsp_server::RequestId;
use lsp_server::Response;
use lsp_types::CodeActionParams;
use lsp_types::Range;
use lsp_types::Uri;

use crate::language_server::answers;
use crate::language_server::matched::PatternQuestion;
use crate::language_server::matched::matched;
use crate::language_server::outlook::Outlook;
use crate::language_server::outlook::with_target;
use crate::language_server::project_text::CheckDepth;
use crate::language_server::project_text::ProjectText;
use crate::language_server::results::LastResults;

/// While a run goes on, one part in so many of the time is taken to check.
const SHARE: u32 = 20;

/// What is asked.
pub enum CheckQuestion {
    /// What is wrong with a project.
    Check(ProjectText),
    /// The same, if a run has ended since.
    Look(ProjectText),
    /// What mends the mistakes in a range.
    Mends(RequestId, ProjectText, Box<CodeActionParams>),
    /// What a target would do now; by its header, behind what is said of it anyway.
    Target(RequestId, ProjectText, TargetQuestion),
    /// What a pattern matches, and the place that it is said of.
    Pattern(RequestId, ProjectText, PatternQuestion, Range),
}

/// A target that is asked about.
pub struct TargetQuestion {
    /// See [`crate::language_server::outlook::header_of`].
    pub header: String,
    /// What is said in front.
    pub before: String,
    /// The place that it is said of.
    pub range: Range,
}

/// What comes back.
pub enum Told {
    /// A project was checked.
    Checked(Box<Checked>),
    /// Nothing is new in it.
    Unchanged,
    /// The answer to a question of the editor.
    Answered(Response),
}

/// A project that was checked.
pub struct Checked {
    /// Its folder.
    pub root: PathBuf,
    /// For each of its files what is to be told there.
    pub found: BTreeMap<String, (Uri, Vec<lsp_types::Diagnostic>)>,
    /// What it comes to, when nothing is wrong.
    pub outlook: Option<Outlook>,
    /// How long it took.
    pub took: Duration,
}

/// Answers until nobody asks any more.
pub fn serve(asked: &Receiver<CheckQuestion>, tell: &Sender<Told>) {
    let mut known: HashMap<PathBuf, Known> = HashMap::new();
    for question in asked {
        let told = match question {
            CheckQuestion::Check(project) => {
                let known = known.entry(project.root.clone()).or_default();
                known.results.refresh(&project.root);
                known.check(project)
            }
            CheckQuestion::Look(project) => {
                let known = known.entry(project.root.clone()).or_default();
                known.is_new |= known.results.refresh(&project.root);
                match known.is_worth_it() {
                    true => known.check(project),
                    false => Told::Unchanged,
                }
            }
            CheckQuestion::Mends(id, project, asked) => {
                let (sources, wrong, _) = project.check(CheckDepth::Mistakes);
                let uri = asked.text_document.uri;
                answered(
                    id,
                    answers::mends(&project, &sources, &wrong, &uri, asked.range),
                )
            }
            CheckQuestion::Target(id, project, asked) => {
                let depth = CheckDepth::Target(&asked.header);
                let (_, _, outlook) = project.check(depth);
                let outlook = outlook.unwrap_or_default();
                let text = with_target(&asked.before, outlook.targets.get(&asked.header));
                answered(id, answers::markdown(text, asked.range))
            }
            CheckQuestion::Pattern(id, project, asked, range) => {
                let text = matched(&project, asked);
                answered(id, text.map(|text| answers::markdown(text, range)))
            }
        };
        if tell.send(told).is_err() {
            return;
        }
    }
}

/// What is known of a project.
#[derive(Default)]
struct Known {
    results: LastResults,
    /// Whether they are not told yet.
    is_new: bool,
    /// When it was checked last, and how long that took.
    checked: Option<(Instant, Duration)>,
}

impl Known {
    /// Whether what is new of runs is to be told now: while a run goes on, checks take no more than a small part of the time.
    fn is_worth_it(&self) -> bool {
        let rested = self
            .checked
            .is_none_or(|(at, took)| at.elapsed() > took * SHARE);
        self.is_new && (self.results.is_over || rested)
    }

    fn check(&mut self, project: ProjectText) -> Told {
        let began = Instant::now();
        let (sources, wrong, outlook) = project.check(CheckDepth::All);
        let mut found = answers::diagnostics(&project, &sources, &wrong);
        self.results.add_to(&project, outlook.as_ref(), &mut found);
        let took = began.elapsed();
        self.checked = Some((Instant::now(), took));
        self.is_new = false;
        Told::Checked(Box::new(Checked {
            found,
            root: project.root,
            outlook,
            took,
        }))
    }
}

fn answered(id: RequestId, answer: impl serde::Serialize) -> Told {
    Told::Answered(match serde_json::to_value(answer) {
        Ok(value) => Response::new_ok(id, value),
        Err(error) => Response::new_err(id, ErrorCode::InternalError as i32, error.to_string()),
    })
}
