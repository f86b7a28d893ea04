//! What the server tells an editor that it answers.

use std::path::PathBuf;

use lsp_types::CodeActionProviderCapability;
use lsp_types::CodeLensOptions;
use lsp_types::CompletionOptions;
use lsp_types::ExecuteCommandOptions;
use lsp_types::FoldingRangeProviderCapability;
use lsp_types::HoverProviderCapability;
use lsp_types::OneOf;
use lsp_types::SemanticTokensFullOptions;
use lsp_types::SemanticTokensOptions;
use lsp_types::SemanticTokensServerCapabilities;
use lsp_types::ServerCapabilities;
use lsp_types::TextDocumentSyncCapability;
use lsp_types::TextDocumentSyncKind;

use serde_json::Value;

use crate::language_server::positions::path_of;
use crate::language_server::tokens;

/// What somebody can have done.
const COMMANDS: [&str; 3] = ["handloom.start", "handloom.stop", "handloom.goals"];

/// All that is answered.
pub fn capabilities() -> ServerCapabilities {
    ServerCapabilities {
        text_document_sync: Some(TextDocumentSyncCapability::Kind(
            TextDocumentSyncKind::INCREMENTAL,
        )),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some(["{", ".", "/", " "].map(str::to_owned).into()),
            ..CompletionOptions::default()
        }),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        definition_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        rename_provider: Some(OneOf::Left(true)),
        document_symbol_provider: Some(OneOf::Left(true)),
        folding_range_provider: Some(FoldingRangeProviderCapability::Simple(true)),
        semantic_tokens_provider: Some(SemanticTokensServerCapabilities::SemanticTokensOptions(
            SemanticTokensOptions {
                legend: tokens::legend(),
                full: Some(SemanticTokensFullOptions::Bool(true)),
                ..SemanticTokensOptions::default()
            },
        )),
        code_action_provider: Some(CodeActionProviderCapability::Simple(true)),
        document_formatting_provider: Some(OneOf::Left(true)),
        code_lens_provider: Some(CodeLensOptions {
            resolve_provider: Some(false),
        }),
        inlay_hint_provider: Some(OneOf::Left(true)),
        workspace_symbol_provider: Some(OneOf::Left(true)),
        execute_command_provider: Some(ExecuteCommandOptions {
            commands: COMMANDS.map(str::to_owned).into(),
            ..ExecuteCommandOptions::default()
        }),
        ..ServerCapabilities::default()
    }
}

/// What an editor can do, of what not all can.
#[derive(Clone, Debug, Default)]
pub struct ClientAbilities {
    /// The folder that it is open for.
    pub root: Option<PathBuf>,
    /// Shows what goes on.
    pub shows_progress: bool,
    /// Asks anew for values between the lines when it is told to.
    pub refreshes_hints: bool,
    /// The same for what can be done.
    pub refreshes_lenses: bool,
}

impl ClientAbilities {
    /// Those that it tells of when it begins.
    pub fn of(params: &Value) -> Self {
        let is_able = |path: &str| {
            let able = params.pointer(path);
            able.and_then(Value::as_bool).unwrap_or(false)
        };
        let root = params
            .pointer("/workspaceFolders/0/uri")
            .or_else(|| params.get("rootUri"));
        let root = root.and_then(|uri| serde_json::from_value(uri.clone()).ok());
        Self {
            root: root.as_ref().and_then(path_of),
            shows_progress: is_able("/capabilities/window/workDoneProgress"),
            refreshes_hints: is_able("/capabilities/workspace/inlayHint/refreshSupport"),
            refreshes_lenses: is_able("/capabilities/workspace/codeLens/refreshSupport"),
        }
    }
}
