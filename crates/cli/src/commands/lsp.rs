//! `lsp`.

use crate::args::Common;
use crate::editor::EditorHost;
use crate::error::CommandError;
use std::io::{stdin, stdout};
use std::sync::Arc;
use yieldtray_engine::ExitCode;

/// Serves an editor until it goes.
pub(crate) fn lsp(common: &Common) -> Result<ExitCode, CommandError> {
    // The exit code is the protocol's: 1 if the editor left without a word (LSP 3.17, `exit`).
    let desk = EditorHost::of(common)?;
    Ok(ExitCode::failed_if(!yieldtray_lsp::serve(Arc::new(desk), stdin(), stdout())))
}
