//! Capabilities of the client and of the server.

use crate::position::PositionEncoding;
use serde_json::{Value, json};

/// The client's capabilities (LSP 3.17, `ClientCapabilities`, and our own initialization options).
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct ClientCapabilities {
    /// `window/showDocument`.
    pub(crate) shows_documents: bool,
    /// `window/workDoneProgress/create`.
    pub(crate) shows_progress: bool,
    /// `documentChanges` in a `WorkspaceEdit`.
    pub(crate) edits_documents: bool,
    /// `create` in a `WorkspaceEdit`.
    pub(crate) makes_files: bool,
    /// `workspace/applyEdit`.
    pub(crate) applies_edits: bool,
    /// Snippets in completion items.
    pub(crate) takes_snippets: bool,
    pub(crate) shows_markdown: bool,
    pub(crate) shows_symbol_trees: bool,
    /// Tags of diagnostics.
    pub(crate) shows_tags: bool,
    /// Related information of diagnostics.
    pub(crate) shows_related: bool,
    /// Answers `yieldtray/ask`.
    pub(crate) asks: bool,
    pub(crate) refreshes_lenses: bool,
    pub(crate) refreshes_tokens: bool,
    pub(crate) refreshes_hints: bool,
    /// Dynamic registration of `workspace/didChangeWatchedFiles`.
    pub(crate) watches: bool,
    /// Whether inlay hints are wanted.
    pub(crate) hints: bool,
}

impl ClientCapabilities {
    /// Reads them from the parameters of `initialize`.
    pub(crate) fn read(params: &Value) -> Self {
        let can = |pointer: &str| params.pointer(pointer).and_then(Value::as_bool) == Some(true);
        let is_there = |pointer: &str| params.pointer(pointer).is_some_and(|value| !value.is_null());
        let list = |pointer: &str| params.pointer(pointer).and_then(Value::as_array);
        let operations = list("/capabilities/workspace/workspaceEdit/resourceOperations");
        let formats = list("/capabilities/textDocument/hover/contentFormat");
        Self {
            shows_documents: can("/capabilities/window/showDocument/support"),
            shows_progress: can("/capabilities/window/workDoneProgress"),
            edits_documents: can("/capabilities/workspace/workspaceEdit/documentChanges"),
            makes_files: operations.is_some_and(|list| list.iter().any(|kind| kind == "create")),
            applies_edits: can("/capabilities/workspace/applyEdit"),
            takes_snippets: can("/capabilities/textDocument/completion/completionItem/snippetSupport"),
            shows_markdown: formats.is_some_and(|list| list.iter().any(|format| format == "markdown")),
            shows_symbol_trees: can("/capabilities/textDocument/documentSymbol/hierarchicalDocumentSymbolSupport"),
            shows_tags: is_there("/capabilities/textDocument/publishDiagnostics/tagSupport"),
            shows_related: can("/capabilities/textDocument/publishDiagnostics/relatedInformation"),
            asks: can("/initializationOptions/asks"),
            refreshes_lenses: can("/capabilities/workspace/codeLens/refreshSupport"),
            refreshes_tokens: can("/capabilities/workspace/semanticTokens/refreshSupport"),
            refreshes_hints: can("/capabilities/workspace/inlayHint/refreshSupport"),
            watches: can("/capabilities/workspace/didChangeWatchedFiles/dynamicRegistration"),
            hints: !is_there("/initializationOptions/hints") || can("/initializationOptions/hints"),
        }
    }
}

/// The encoding of positions: UTF-8 if the client offers it, else UTF-16, which every client can do.
pub(crate) fn position_encoding(params: &Value) -> PositionEncoding {
    let offered = params.pointer("/capabilities/general/positionEncodings").and_then(Value::as_array);
    match offered.is_some_and(|list| list.iter().any(|encoding| encoding == "utf-8")) {
        true => PositionEncoding::Utf8,
        false => PositionEncoding::Utf16,
    }
}

/// The result of `initialize`. `commands` are those of `workspace/executeCommand`, `tokens` the types of semantic tokens.
pub(crate) fn server_capabilities(encoding: PositionEncoding, commands: &[&str], tokens: &[&str]) -> Value {
    let encoding = match encoding {
        PositionEncoding::Utf8 => "utf-8",
        PositionEncoding::Utf16 => "utf-16",
    };
    json!({
        "serverInfo": { "name": "yieldtray", "version": env!("CARGO_PKG_VERSION") },
        "capabilities": {
            "positionEncoding": encoding,
            // Changes come as ranges.
            "textDocumentSync": { "openClose": true, "change": 2, "save": true },
            "hoverProvider": true,
            "completionProvider": { "triggerCharacters": ["{", ".", "%", " ", "#", "\"", "/", ":"] },
            "signatureHelpProvider": { "triggerCharacters": ["(", ","] },
            "definitionProvider": true,
            "referencesProvider": true,
            "documentHighlightProvider": true,
            "documentSymbolProvider": true,
            "workspaceSymbolProvider": true,
            "codeActionProvider": { "codeActionKinds": ["quickfix", "refactor", "source"] },
            "codeLensProvider": {},
            "documentFormattingProvider": true,
            "documentRangeFormattingProvider": true,
            "renameProvider": { "prepareProvider": true },
            "documentLinkProvider": {},
            "foldingRangeProvider": true,
            "selectionRangeProvider": true,
            "inlayHintProvider": true,
            "semanticTokensProvider": {
                "legend": { "tokenTypes": tokens, "tokenModifiers": ["declaration"] },
                "full": true,
            },
            "executeCommandProvider": { "commands": commands },
            "workspace": { "workspaceFolders": { "supported": true, "changeNotifications": false } },
        },
    })
}
