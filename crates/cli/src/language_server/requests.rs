//! What the server answers when it is asked.

use std::path::PathBuf;

use lsp_server::ErrorCode;
use lsp_server::Request;
use lsp_server::RequestId;
use lsp_server::Response;
use lsp_types::CodeActionParams;
use lsp_types::DocumentSymbolResponse;
use lsp_types::ExecuteCommandParams;
use lsp_types::Range;
use lsp_types::ReferenceParams;
use lsp_types::RenameParams;
use lsp_types::SemanticTokens;
use lsp_types::TextDocumentPositionParams;
use lsp_types::Uri;
use lsp_types::WorkspaceSymbolParams;
use serde::Serialize;
use serde_json::Value;

use crate::language_server::answers;
use crate::language_server::checker::CheckQuestion;
use crate::language_server::checker::TargetQuestion;
use crate::language_server::completion::CompletionQuestion;
use crate::language_server::completion::offered;
use crate::language_server::goals;
use crate::language_server::hints;
use crate::language_server::hover;
use crate::language_server::hover::More;
use crate::language_server::jobs::JobWish;
use crate::language_server::names::NameIndex;
use crate::language_server::outlook::Outlook;
use crate::language_server::positions::offset;
use crate::language_server::positions::path_of;
use crate::language_server::project_text::ProjectText;
use crate::language_server::server::Opened;
use crate::language_server::server::Server;
use crate::language_server::server::read;
use crate::language_server::tokens;

/// An answer; none when it comes later.
type Later = Result<Option<Value>, String>;

impl Server {
    /// Answers a question, at once or when it is worked out; whether the editor is still there.
    pub fn answer(&mut self, request: Request) -> bool {
        let Request { id, method, params } = request;
        let later = match &*method {
            "textDocument/codeAction" => Some(self.mends(&id, params.clone())),
            "textDocument/hover" => Some(self.hover(&id, &params)),
            _ => None,
        };
        let response = match later {
            Some(Ok(None)) => {
                self.pending.insert(id);
                return true;
            }
            Some(Ok(Some(value))) => Response::new_ok(id, value),
            Some(Err(why)) => Response::new_err(id, ErrorCode::RequestFailed as i32, why),
            None => self.answer_now(id, &method, params),
        };
        self.send(response.into())
    }

    fn answer_now(&mut self, id: RequestId, method: &str, params: Value) -> Response {
        let answered = match method {
            "textDocument/completion" => self.at(&params, |opened, index, at| {
                Ok(Some(self.complete(opened, index, at)))
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
            "textDocument/formatting" => {
                self.of_file(&params, |opened| answers::formatted(opened.text()))
            }
            "textDocument/codeLens" => self.of_file(&params, |opened| {
                hints::lenses(opened, self.outlooks.get(&opened.project.root))
            }),
            "textDocument/inlayHint" => {
                let range = params.get("range").cloned().and_then(read::<Range>);
                self.of_file(&params, |opened| {
                    let mut hints = hints::values(opened, self.outlooks.get(&opened.project.root));
                    hints.retain(|hint| {
                        range.is_none_or(|range| {
                            range.start <= hint.position && hint.position <= range.end
                        })
                    });
                    hints
                })
            }
            "workspace/symbol" => self.symbols(params),
            "workspace/executeCommand" => self.execute(params),
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
    fn mends(&self, id: &RequestId, params: Value) -> Later {
        let asked = read::<CodeActionParams>(params).ok_or("no range was named")?;
        let path = path_of(&asked.text_document.uri).ok_or("only files are answered for")?;
        let project = ProjectText::around(&path, &self.open).ok_or("its folder can't be read")?;
        self.ask(CheckQuestion::Mends(id.clone(), project, Box::new(asked)));
        Ok(None)
    }

    /// What is told of a place; of a target also what it would do now, which takes longer.
    fn hover(&self, id: &RequestId, params: &Value) -> Later {
        let mut asked = None;
        let said = self.at(params, |opened, index, at| {
            let outlook = self.outlooks.get(&opened.project.root);
            let found = hover::at(opened, index, opened.span(at), outlook);
            let Some(found) = found else { return Ok(None) };
            if let Some(more) = found.more {
                asked = Some((more, found.text, found.range));
                return Ok(None);
            }
            Ok(Some(answers::markdown(found.text, found.range)))
        })?;
        let Some((more, before, range)) = asked else {
            return Ok(Some(said));
        };
        let uri = params.pointer("/textDocument/uri").cloned();
        let path = uri.and_then(read::<Uri>).as_ref().and_then(path_of);
        let project = path.and_then(|path| ProjectText::around(&path, &self.open));
        let project = project.ok_or("its folder can't be read")?;
        let id = id.clone();
        self.ask(match more {
            More::Pattern(asked) => CheckQuestion::Pattern(id, project, asked, range),
            More::Target(header) => {
                let asked = TargetQuestion {
                    header,
                    before,
                    range,
                };
                CheckQuestion::Target(id, project, asked)
            }
        });
        Ok(None)
    }

    /// Targets, tasks and variables of all projects that are open.
    fn symbols(&self, params: Value) -> Result<Value, String> {
        let asked = read::<WorkspaceSymbolParams>(params).ok_or("nothing was asked for")?;
        let mut found = Vec::new();
        for project in self.projects_of(self.open.keys().cloned()).values() {
            let (description, _) = project.description();
            found.extend(answers::all_symbols(project, &description, &asked.query));
        }
        Ok(serde_json::to_value(found).unwrap_or_default())
    }

    /// Carries out what somebody asked for.
    fn execute(&mut self, params: Value) -> Result<Value, String> {
        let asked = read::<ExecuteCommandParams>(params).ok_or("no command was named")?;
        let argument = asked.arguments.into_iter().next().unwrap_or_default();
        match &*asked.command {
            "handloom.start" => {
                let wish = read::<JobWish>(argument).ok_or(
                    "it takes `{folder, words}`: where, and what stands behind `handloom`",
                )?;
                let token = self.jobs.start(&wish)?;
                Ok(Value::String(token))
            }
            "handloom.stop" => {
                self.jobs.stop(argument.as_str());
                Ok(Value::Null)
            }
            "handloom.goals" => {
                let file = argument.get("file").and_then(Value::as_str);
                let file = PathBuf::from(file.ok_or("it takes `{file}`: a file of the project")?);
                let project =
                    ProjectText::around(&file, &self.open).ok_or("its folder can't be read")?;
                let outlook = self.outlooks.get(&project.root);
                let goals = goals::of(&project, outlook);
                Ok(serde_json::to_value(goals).unwrap_or_default())
            }
            other => Err(format!("there is no command `{other}`")),
        }
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

    fn complete(
        &self,
        opened: &Opened<'_>,
        index: &NameIndex<'_>,
        at: usize,
    ) -> Vec<lsp_types::CompletionItem> {
        let nothing = Outlook::default();
        let place = opened.span(at);
        let folder = &opened.description.parts[index.part_at(place).index()].folder;
        offered(&CompletionQuestion {
            text: opened.text(),
            at,
            place,
            index,
            outlook: self.outlooks.get(&opened.project.root).unwrap_or(&nothing),
            disk: opened.project.disk(),
            folder,
        })
    }
}
