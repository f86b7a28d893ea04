//! `handloom language-server`: answers an editor on standard input and output, in the Language Server Protocol 3.17. It reads what
//! is open and not saved, runs nothing and writes nothing.

mod answers;
mod capabilities;
mod completion;
mod names;
mod overlay;
mod positions;
mod project_text;
mod tokens;

pub use project_text::ProjectText;

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::collections::HashSet;
use std::path::Path;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::Receiver;
use crossbeam_channel::Sender;
use crossbeam_channel::after;
use crossbeam_channel::never;
use crossbeam_channel::select;
use crossbeam_channel::unbounded;
use lsp_server::Connection;
use lsp_server::ErrorCode;
use lsp_server::Message;
use lsp_server::Notification;
use lsp_server::Request;
use lsp_server::Response;
use lsp_types::CodeActionParams;
use lsp_types::DocumentSymbolResponse;
use lsp_types::Hover;
use lsp_types::HoverContents;
use lsp_types::MarkupContent;
use lsp_types::MarkupKind;
use lsp_types::PublishDiagnosticsParams;
use lsp_types::ReferenceParams;
use lsp_types::RenameParams;
use lsp_types::SemanticTokens;
use lsp_types::TextDocumentPositionParams;
use lsp_types::Uri;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use handloom_core::language::parse;
use handloom_core::project::Description;
use handloom_core::text::SourceId;
use handloom_core::text::Span;

use crate::failure::CommandError;
use crate::language_server::capabilities::capabilities;
use crate::language_server::completion::CompletionQuestion;
use crate::language_server::completion::offered;
use crate::language_server::names::NameIndex;
use crate::language_server::positions::offset;
use crate::language_server::positions::path_of;
use crate::language_server::project_text::Nameable;

/// What is wrong is told once nothing has been typed for so long.
const QUIET: Duration = Duration::from_millis(120);

/// What is known between two messages.
#[derive(Default)]
struct Server {
    /// Texts that are open.
    open: HashMap<PathBuf, Arc<str>>,
    /// Files that were changed since it was last told what is wrong with them.
    changed: HashSet<PathBuf>,
    /// What each project held when it was last without a mistake.
    nameable: HashMap<PathBuf, Nameable>,
    /// Checks that are not over.
    under_way: usize,
    /// Files of each project that something was told of, to take it back.
    told: HashMap<PathBuf, HashMap<String, Uri>>,
}

/// Serves until the editor says that it is over, or is gone.
pub fn run() -> Result<ExitCode, CommandError> {
    let (connection, threads) = Connection::stdio();
    let capabilities = serde_json::to_value(capabilities()).unwrap_or_default();
    let begun = connection.initialize(capabilities);
    let is_well = match begun {
        Ok(_) => serve(&connection),
        Err(_) => false,
    };
    drop(connection);
    // What can't be written any more has nobody who reads it.
    let _ = threads.join();
    Ok(ExitCode::from(u8::from(!is_well)))
}

/// A project that was checked.
struct Checked {
    root: PathBuf,
    /// For each of its files what is wrong there.
    found: BTreeMap<String, (Uri, Vec<lsp_types::Diagnostic>)>,
    /// What can be named, when nothing is wrong.
    nameable: Option<Nameable>,
}

/// Checks projects one after another: of a large one it takes longer than who types is to wait for an answer.
fn check(asked: &Receiver<ProjectText>, checked: &Sender<Checked>) {
    for project in asked {
        let (sources, wrong, nameable) = project.check();
        let told = checked.send(Checked {
            found: answers::diagnostics(&project, &sources, &wrong),
            root: project.root,
            nameable,
        });
        if told.is_err() {
            return;
        }
    }
}

/// Whether the editor said goodbye.
fn serve(connection: &Connection) -> bool {
    let (ask, asked) = unbounded();
    let (tell, told) = unbounded();
    let checker = std::thread::Builder::new().name("checks".to_owned());
    if checker.spawn(move || check(&asked, &tell)).is_err() {
        return false;
    }
    let mut server = Server::default();
    loop {
        let quiet = match server.changed.is_empty() || server.under_way > 0 {
            true => never(),
            false => after(QUIET),
        };
        select! {
            recv(connection.receiver) -> message => match message {
                Err(_) => return false,
                Ok(Message::Notification(notification)) => server.heed(notification),
                Ok(Message::Response(_)) => {}
                Ok(Message::Request(request)) => match connection.handle_shutdown(&request) {
                    Ok(true) => return true,
                    Ok(false) => {
                        let response = server.answer(request);
                        if connection.sender.send(response.into()).is_err() {
                            return false;
                        }
                    }
                    Err(_) => return false,
                },
            },
            recv(told) -> checked => {
                let Ok(checked) = checked else { return false };
                for params in server.take(checked) {
                    let method = "textDocument/publishDiagnostics".to_owned();
                    let told = Notification::new(method, params);
                    if connection.sender.send(told.into()).is_err() {
                        return false;
                    }
                }
            }
            recv(quiet) -> _ => {
                for project in server.take_changed() {
                    server.under_way += 1;
                    if ask.send(project).is_err() {
                        return false;
                    }
                }
            }
        }
    }
}

/// A file that is asked about, in its project.
struct Opened<'a> {
    project: &'a ProjectText,
    description: &'a Description,
    source: SourceId,
}

impl Opened<'_> {
    fn text(&self) -> &str {
        &self.description.sources.get(self.source).text
    }

    fn span(&self, at: usize) -> Span {
        let at = u32::try_from(at).unwrap_or(u32::MAX);
        Span {
            source: self.source,
            start: at,
            end: at,
        }
    }
}

impl Server {
    /// Takes in what the editor tells.
    fn heed(&mut self, notification: Notification) {
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
            _ => {}
        }
    }

    /// The projects of what was changed, as they are now.
    fn take_changed(&mut self) -> Vec<ProjectText> {
        let mut projects: BTreeMap<PathBuf, ProjectText> = BTreeMap::new();
        for path in std::mem::take(&mut self.changed) {
            if let Some(project) = ProjectText::around(&path, &self.open) {
                projects.insert(project.root.clone(), project);
            }
        }
        projects.into_values().collect()
    }

    /// What is to be told of a project that was checked. Places in it are those of the text that was checked: what was changed
    /// meanwhile is checked next.
    fn take(&mut self, checked: Checked) -> Vec<PublishDiagnosticsParams> {
        self.under_way = self.under_way.saturating_sub(1);
        if let Some(nameable) = checked.nameable {
            self.nameable.insert(checked.root.clone(), nameable);
        }
        let before = self.told.remove(&checked.root).unwrap_or_default();
        let found = checked.found;
        let gone = before
            .into_iter()
            .filter(|(name, _)| !found.contains_key(name));
        let gone = gone.map(|(_, uri)| PublishDiagnosticsParams::new(uri, Vec::new(), None));
        let mut all: Vec<PublishDiagnosticsParams> = gone.collect();
        let mut told = HashMap::new();
        for (name, (uri, list)) in found {
            told.insert(name, uri.clone());
            all.push(PublishDiagnosticsParams::new(uri, list, None));
        }
        self.told.insert(checked.root, told);
        all
    }

    /// Answers a question.
    fn answer(&self, request: Request) -> Response {
        let Request { id, method, params } = request;
        let answered = match &*method {
            "textDocument/completion" => self.at(&params, |opened, index, at| {
                Ok(Some(self.complete(opened, index, at)))
            }),
            "textDocument/hover" => self.at(&params, |opened, index, at| {
                let found = answers::hover(opened.description, index, opened.span(at));
                Ok(found.map(|(value, range)| Hover {
                    contents: HoverContents::Markup(MarkupContent {
                        kind: MarkupKind::Markdown,
                        value,
                    }),
                    range: Some(range),
                }))
            }),
            "textDocument/definition" => self.at(&params, |opened, index, at| {
                let (project, description) = (opened.project, opened.description);
                Ok(Some(answers::definitions(
                    project,
                    description,
                    index,
                    opened.span(at),
                )))
            }),
            "textDocument/references" => {
                let with_definitions = read::<ReferenceParams>(params.clone())
                    .is_none_or(|params| params.context.include_declaration);
                self.at(&params, |opened, index, at| {
                    Ok(Some(answers::references(
                        opened.project,
                        opened.description,
                        index,
                        opened.span(at),
                        with_definitions,
                    )))
                })
            }
            "textDocument/rename" => {
                let new_name = read::<RenameParams>(params.clone()).map(|params| params.new_name);
                let new_name = new_name.unwrap_or_default();
                self.at(&params, |opened, index, at| {
                    let (project, description) = (opened.project, opened.description);
                    let span = opened.span(at);
                    answers::renamed(project, description, index, span, &new_name).map(Some)
                })
            }
            "textDocument/documentSymbol" => self.of_file(&params, |opened| {
                DocumentSymbolResponse::Nested(answers::symbols(opened.description, opened.source))
            }),
            "textDocument/foldingRange" => self.of_file(&params, |opened| {
                answers::folds(opened.description, opened.source)
            }),
            "textDocument/semanticTokens/full" => self.of_file(&params, |opened| {
                let index = NameIndex::of(opened.description);
                SemanticTokens {
                    result_id: None,
                    data: tokens::tokens(opened.description, &index, opened.source),
                }
            }),
            "textDocument/codeAction" => self.mends(params),
            "textDocument/formatting" => {
                self.of_file(&params, |opened| answers::formatted(opened.text()))
            }
            _ => {
                let message = format!("`{method}` is not answered here");
                return Response::new_err(id, ErrorCode::MethodNotFound as i32, message);
            }
        };
        match answered {
            Ok(value) => Response::new_ok(id, value),
            Err(why) => Response::new_err(id, ErrorCode::RequestFailed as i32, why),
        }
    }

    /// What mends mistakes, as they are now.
    fn mends(&self, params: Value) -> Result<Value, String> {
        let asked = read::<CodeActionParams>(params).ok_or("no range was named")?;
        let uri = asked.text_document.uri;
        let path = path_of(&uri).ok_or("only files are answered for")?;
        let project = ProjectText::around(&path, &self.open).ok_or("its folder can't be read")?;
        let (sources, wrong, _) = project.check();
        let mends = answers::mends(&project, &sources, &wrong, &uri, asked.range);
        Ok(serde_json::to_value(mends).unwrap_or_default())
    }

    /// Answers what is asked about a place.
    fn at<T: Serialize>(
        &self,
        params: &Value,
        answer: impl FnOnce(&Opened<'_>, &NameIndex<'_>, usize) -> Result<Option<T>, String>,
    ) -> Result<Value, String> {
        let asked =
            read::<TextDocumentPositionParams>(params.clone()).ok_or("no place was named")?;
        self.opened(&asked.text_document.uri, |opened| {
            let at = offset(opened.text(), asked.position);
            let index = NameIndex::of(opened.description);
            let found = answer(opened, &index, at)?;
            Ok(serde_json::to_value(found).unwrap_or_default())
        })
    }

    /// Answers what is asked about a file as a whole.
    fn of_file<T: Serialize>(
        &self,
        params: &Value,
        answer: impl FnOnce(&Opened<'_>) -> T,
    ) -> Result<Value, String> {
        let asked = params.pointer("/textDocument/uri").cloned();
        let uri = asked.and_then(read::<Uri>).ok_or("no file was named")?;
        self.opened(&uri, |opened| {
            Ok(serde_json::to_value(answer(opened)).unwrap_or_default())
        })
    }

    /// A file in its project; by itself where it is no part of one.
    fn opened(
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
        description
            .parts
            .push(handloom_core::project::description::Part {
                folder: String::new(),
                parent: None,
                items: parsed.file.items,
                extents: parsed.file.extents,
            });
        Ok(description)
    }

    fn complete(
        &self,
        opened: &Opened<'_>,
        index: &NameIndex<'_>,
        at: usize,
    ) -> Vec<lsp_types::CompletionItem> {
        let nothing = Nameable::default();
        let place = opened.span(at);
        let folder = &opened.description.parts[index.part_at(place).index()].folder;
        offered(&CompletionQuestion {
            text: opened.text(),
            at,
            place,
            index,
            nameable: self.nameable.get(&opened.project.root).unwrap_or(&nothing),
            disk: opened.project.disk(),
            folder,
        })
    }
}

/// A message's content; none when it is not what it should be.
fn read<T: DeserializeOwned>(params: Value) -> Option<T> {
    serde_json::from_value(params).ok()
}
