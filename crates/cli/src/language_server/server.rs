//! What the server knows between two messages, and what it does with those that ask for no answer.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::collections::HashSet;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use std::time::Instant;

use crossbeam_channel::Sender;
use lsp_server::ErrorCode;
use lsp_server::Message;
use lsp_server::Notification;
use lsp_server::Request;
use lsp_server::RequestId;
use lsp_server::Response;
use lsp_types::PublishDiagnosticsParams;
use lsp_types::Uri;
use serde::de::DeserializeOwned;
use serde_json::Value;

use handloom_core::language::parse;
use handloom_core::project::Description;
use handloom_core::project::description::FILE_NAME;
use handloom_core::project::description::Part;
use handloom_core::text::SourceId;
use handloom_core::text::Span;

use crate::language_server::capabilities::ClientAbilities;
use crate::language_server::checker::CheckQuestion;
use crate::language_server::checker::Checked;
use crate::language_server::checker::Told;
use crate::language_server::jobs::Jobs;
use crate::language_server::outlook::Outlook;
use crate::language_server::positions::offset;
use crate::language_server::positions::path_of;
use crate::language_server::project_text::ProjectText;

type ToldFiles = HashMap<String, (Uri, Vec<lsp_types::Diagnostic>)>;

/// The server.
pub struct Server {
    /// What the editor can do.
    client: ClientAbilities,
    /// To the editor.
    out: Sender<Message>,
    /// To the thread that works projects out.
    ask: Sender<CheckQuestion>,
    /// Texts that are open.
    pub(super) open: HashMap<PathBuf, Arc<str>>,
    /// Files that were changed since it was last told what is wrong with them.
    changed: HashSet<PathBuf>,
    /// When the last of them was.
    changed_at: Instant,
    /// What each project came to when it was last without a mistake.
    pub(super) outlooks: HashMap<PathBuf, Outlook>,
    /// Checks that are not over.
    under_way: usize,
    /// How long the last one took.
    pub last_check: Duration,
    /// What was told of the files of each project, to take it back.
    told: HashMap<PathBuf, ToldFiles>,
    /// Questions of the editor that are being worked on.
    pub(super) pending: HashSet<RequestId>,
    /// What runs for the editor.
    pub(super) jobs: Jobs,
    /// The last request that was sent to the editor.
    last_request: i32,
}

/// A file that is asked about, in its project.
pub struct Opened<'a> {
    /// The project.
    pub project: &'a ProjectText,
    /// Its description.
    pub description: &'a Description,
    /// The file.
    pub source: SourceId,
}

impl Opened<'_> {
    /// Its text.
    pub fn text(&self) -> &str {
        &self.description.sources.get(self.source).text
    }

    /// A byte of it as a place.
    pub fn span(&self, at: usize) -> Span {
        let at = u32::try_from(at).unwrap_or(u32::MAX);
        Span {
            source: self.source,
            start: at,
            end: at,
        }
    }
}

impl Server {
    /// A server to which nothing was told yet.
    pub fn new(client: ClientAbilities, out: Sender<Message>, ask: Sender<CheckQuestion>) -> Self {
        let jobs = Jobs::new(out.clone(), client.shows_progress);
        Self {
            client,
            out,
            ask,
            open: HashMap::new(),
            changed: HashSet::new(),
            changed_at: Instant::now(),
            outlooks: HashMap::new(),
            under_way: 0,
            last_check: Duration::ZERO,
            told: HashMap::new(),
            pending: HashSet::new(),
            jobs,
            last_request: 0,
        }
    }

    /// Sends a message; whether the editor is still there.
    pub(super) fn send(&self, message: Message) -> bool {
        self.out.send(message).is_ok()
    }

    /// Asks the thread that works projects out.
    pub(super) fn ask(&self, question: CheckQuestion) -> bool {
        self.ask.send(question).is_ok()
    }

    /// When the last of what is to be checked next was changed; none while nothing waits, or something is being checked.
    pub fn unchecked_since(&self) -> Option<Instant> {
        let waits = !self.changed.is_empty() && self.under_way == 0;
        waits.then_some(self.changed_at)
    }

    /// Checks the projects of what was changed.
    pub fn check_changed(&mut self) -> bool {
        let changed = std::mem::take(&mut self.changed);
        let projects = self.projects_of(changed);
        projects.into_values().all(|project| {
            self.under_way += 1;
            self.ask(CheckQuestion::Check(project))
        })
    }

    /// Looks whether a run has ended in the projects that something was told of.
    pub fn look_for_runs(&mut self) -> bool {
        if self.under_way > 0 {
            return true;
        }
        // The editor's own folder counts also while no description is open in it.
        let root = self.client.root.iter().map(|root| root.join(FILE_NAME));
        let root = root.filter(|file| file.is_file());
        let projects = self.projects_of(self.open.keys().cloned().chain(root));
        projects.into_values().all(|project| {
            self.under_way += 1;
            self.ask(CheckQuestion::Look(project))
        })
    }

    /// Takes in what the editor tells; whether it is still there.
    pub fn heed(&mut self, notification: Notification) -> bool {
        if notification.method.starts_with("textDocument/") {
            self.changed_at = Instant::now();
        }
        self.take_in(notification);
        true
    }

    fn take_in(&mut self, notification: Notification) {
        let params = notification.params;
        match &*notification.method {
            "textDocument/didOpen" => {
                let Some(opened) = read::<lsp_types::DidOpenTextDocumentParams>(params) else {
                    return;
                };
                let document = opened.text_document;
                if let Some(path) = path_of(&document.uri) {
                    self.open.insert(path.clone(), document.text.into());
                    self.changed.insert(path);
                }
            }
            "textDocument/didChange" => {
                let Some(changed) = read::<lsp_types::DidChangeTextDocumentParams>(params) else {
                    return;
                };
                let Some(path) = path_of(&changed.text_document.uri) else {
                    return;
                };
                let before = self.open.get(&path).map_or("", |text| text);
                let mut text = before.to_owned();
                for change in changed.content_changes {
                    match change.range {
                        None => text = change.text,
                        Some(range) => {
                            let start = offset(&text, range.start);
                            let end = offset(&text, range.end).max(start);
                            text.replace_range(start..end, &change.text);
                        }
                    }
                }
                self.open.insert(path.clone(), text.into());
                self.changed.insert(path);
            }
            "textDocument/didClose" => {
                let Some(closed) = read::<lsp_types::DidCloseTextDocumentParams>(params) else {
                    return;
                };
                if let Some(path) = path_of(&closed.text_document.uri) {
                    self.open.remove(&path);
                    self.changed.insert(path);
                }
            }
            "textDocument/didSave" => {
                let Some(saved) = read::<lsp_types::DidSaveTextDocumentParams>(params) else {
                    return;
                };
                self.changed.extend(path_of(&saved.text_document.uri));
            }
            "$/cancelRequest" => {
                let id = params.get("id").cloned().and_then(read::<RequestId>);
                if let Some(id) = id.filter(|id| self.pending.remove(id)) {
                    let code = ErrorCode::RequestCanceled as i32;
                    let response = Response::new_err(id, code, "cancelled".to_owned());
                    self.send(response.into());
                }
            }
            "window/workDoneProgress/cancel" => {
                let token = params.get("token").and_then(Value::as_str);
                self.jobs.stop(token);
            }
            _ => {}
        }
    }

    /// The projects of some files, as they are now, by their folders.
    pub(super) fn projects_of(
        &self,
        files: impl IntoIterator<Item = PathBuf>,
    ) -> BTreeMap<PathBuf, ProjectText> {
        let projects = files
            .into_iter()
            .filter_map(|file| ProjectText::around(&file, &self.open));
        projects
            .map(|project| (project.root.clone(), project))
            .collect()
    }

    /// Takes in what was worked out, and tells the editor; whether it is still there.
    pub fn take(&mut self, told: Told) -> bool {
        match told {
            Told::Unchanged => {
                self.under_way = self.under_way.saturating_sub(1);
                true
            }
            Told::Answered(response) => {
                // Nobody waits any more for what was cancelled.
                !self.pending.remove(&response.id) || self.send(response.into())
            }
            Told::Checked(checked) => {
                self.under_way = self.under_way.saturating_sub(1);
                self.last_check = checked.took;
                self.tell(*checked)
            }
        }
    }

    /// Tells what was found. Places in it are those of the text that was checked: what was changed meanwhile is checked next.
    fn tell(&mut self, checked: Checked) -> bool {
        let Checked {
            root,
            found,
            outlook,
            ..
        } = checked;
        let is_right = outlook.is_some();
        if let Some(outlook) = outlook {
            self.outlooks.insert(root.clone(), outlook);
        }
        let before = self.told.remove(&root).unwrap_or_default();
        let gone = before.iter().filter(|(name, _)| !found.contains_key(*name));
        let gone = gone.map(|(_, (uri, _))| (uri.clone(), Vec::new()));
        let mut all: Vec<_> = gone.collect();
        for (name, (uri, list)) in &found {
            // An editor moves what stands in a text as that is edited; of a description that is open it is told anew.
            let is_open = self.open.contains_key(&root.join(name));
            let is_same = before.get(name).is_some_and(|(_, known)| known == list);
            if is_open || !is_same {
                all.push((uri.clone(), list.clone()));
            }
        }
        self.told.insert(root, found.into_iter().collect());
        let is_alive = all.into_iter().all(|(uri, list)| {
            let params = PublishDiagnosticsParams::new(uri, list, None);
            let method = "textDocument/publishDiagnostics".to_owned();
            self.send(Notification::new(method, params).into())
        });
        is_alive && (!is_right || self.refresh())
    }

    /// Lets the editor ask anew for what stands between the lines.
    fn refresh(&mut self) -> bool {
        let wishes = [
            (self.client.refreshes_hints, "workspace/inlayHint/refresh"),
            (self.client.refreshes_lenses, "workspace/codeLens/refresh"),
        ];
        wishes
            .into_iter()
            .filter(|(is_able, _)| *is_able)
            .all(|(_, method)| {
                self.last_request += 1;
                let id = RequestId::from(format!("refresh-{}", self.last_request));
                self.send(Request::new(id, method.to_owned(), Value::Null).into())
            })
    }

    /// A file in its project; by itself where it is no part of one.
    pub(super) fn opened(
        &self,
        uri: &Uri,
        look: impl FnOnce(&Opened<'_>) -> Result<Value, String>,
    ) -> Result<Value, String> {
        let path = path_of(uri).ok_or("only files are answered for")?;
        let project = ProjectText::around(&path, &self.open).ok_or("its folder can't be read")?;
        let (mut description, _) = project.description();
        let source = match project.source_of(&description, &path) {
            Some(source) => source,
            None => {
                description = self.alone(&project, &path)?;
                SourceId(0)
            }
        };
        look(&Opened {
            project: &project,
            description: &description,
            source,
        })
    }

    /// A description that nobody includes.
    fn alone(&self, project: &ProjectText, path: &Path) -> Result<Description, String> {
        let text = match self.open.get(path) {
            Some(text) => text.to_string(),
            None => std::fs::read_to_string(path).map_err(|error| error.to_string())?,
        };
        let mut description = Description::default();
        let name = path.strip_prefix(&project.root).unwrap_or(path);
        let source = description.sources.add(name.to_string_lossy(), text);
        let parsed = parse(source, &description.sources.get(source).text);
        description.parts.push(Part {
            folder: String::new(),
            parent: None,
            items: parsed.file.items,
            extents: parsed.file.extents,
        });
        Ok(description)
    }
}

/// A message's content; none when it is not what it should be.
pub(super) fn read<T: DeserializeOwned>(params: Value) -> Option<T> {
    serde_json::from_value(params).ok()
}
