//! What the client asks, and who answers. One line a request.

mod acting;
mod commands;
mod convert;
mod knowing;
mod moving;
mod writing;

use crate::places::PositionEncoding;
use crate::server::Server;
use crate::wire::{Reply, ResponseError};
pub(crate) use convert::LEGEND;
use serde_json::{Value, json};

type Answer = Result<Value, ResponseError>;

/// Answers a request.
pub(crate) fn answer(server: &mut Server, method: &str, params: Value) -> Result<Reply, ResponseError> {
    let answered = match method {
        "textDocument/completion" => return writing::complete(server, params).map(Reply::Text),
        "textDocument/hover" => knowing::hover(server, params),
        "textDocument/inlayHint" => knowing::hints(server, params),
        "textDocument/semanticTokens/full" => knowing::tokens(server, params),
        "textDocument/signatureHelp" => writing::signature(server, params),
        "textDocument/formatting" => writing::format(server, params),
        "textDocument/rangeFormatting" => writing::format_range(server, params),
        "textDocument/documentSymbol" => moving::symbols(server, params),
        "workspace/symbol" => moving::workspace_symbols(server, params),
        "textDocument/definition" => moving::definition(server, params),
        "textDocument/references" => moving::references(server, params),
        "textDocument/documentHighlight" => moving::highlights(server, params),
        "textDocument/prepareRename" => moving::prepare_rename(server, params),
        "textDocument/rename" => moving::rename(server, params),
        "textDocument/foldingRange" => moving::folds(server, params),
        "textDocument/selectionRange" => moving::selections(server, params),
        "textDocument/documentLink" => moving::links(server, params),
        "textDocument/codeAction" => acting::actions(server, params),
        "textDocument/codeLens" => acting::lenses(server, params),
        "workspace/executeCommand" => commands::execute(server, params),
        _ => Err(ResponseError::new(ResponseError::METHOD, format!("`{method}` is not answered here"))),
    };
    answered.map(Reply::Value)
}

/// What `initialize` is answered with.
pub(crate) fn capabilities(columns: PositionEncoding) -> Value {
    let encoding = match columns {
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
                "legend": { "tokenTypes": LEGEND, "tokenModifiers": ["declaration"] },
                "full": true,
            },
            "executeCommandProvider": { "commands": commands::ALL },
            "workspace": { "workspaceFolders": { "supported": true, "changeNotifications": false } },
        },
    })
}
