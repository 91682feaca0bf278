use crate::editor::EditorDesk;
use std::io::{stdin, stdout};
use std::sync::Arc;

/// Serves an editor until it goes.
pub(crate) fn lsp() -> u8 {
    // The exit code is the protocol's: 1 if the editor left without a word (LSP 3.17, `exit`).
    u8::from(!yieldtray_lsp::serve(Arc::new(EditorDesk), stdin(), stdout()))
}
