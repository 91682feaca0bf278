//! Routes each request of the client to its handler.

mod actions;
mod commands;
mod completion;
mod convert;
mod hover;
mod jobs;
mod navigation;

use crate::server::Server;
use crate::wire::{Reply, ResponseError};
pub(crate) use commands::ALL as COMMANDS;
pub(crate) use convert::LEGEND as TOKEN_TYPES;
use serde_json::Value;

type Answer = Result<Value, ResponseError>;

/// Answers a request.
pub(crate) fn handle(server: &mut Server, method: &str, params: Value) -> Result<Reply, ResponseError> {
    let answered = match method {
        "textDocument/completion" => return completion::complete(server, params).map(Reply::Text),
        "textDocument/hover" => hover::hover(server, params),
        "textDocument/inlayHint" => hover::hints(server, params),
        "textDocument/semanticTokens/full" => hover::tokens(server, params),
        "textDocument/signatureHelp" => completion::signature(server, params),
        "textDocument/formatting" => completion::format(server, params),
        "textDocument/rangeFormatting" => completion::format_range(server, params),
        "textDocument/documentSymbol" => navigation::symbols(server, params),
        "workspace/symbol" => navigation::workspace_symbols(server, params),
        "textDocument/definition" => navigation::definition(server, params),
        "textDocument/references" => navigation::references(server, params),
        "textDocument/documentHighlight" => navigation::highlights(server, params),
        "textDocument/prepareRename" => navigation::prepare_rename(server, params),
        "textDocument/rename" => navigation::rename(server, params),
        "textDocument/foldingRange" => navigation::folds(server, params),
        "textDocument/selectionRange" => navigation::selections(server, params),
        "textDocument/documentLink" => navigation::links(server, params),
        "textDocument/codeAction" => actions::actions(server, params),
        "textDocument/codeLens" => actions::lenses(server, params),
        "workspace/executeCommand" => commands::execute(server, params),
        _ => Err(ResponseError::new(ResponseError::METHOD, format!("unsupported method `{method}`"))),
    };
    answered.map(Reply::Value)
}
