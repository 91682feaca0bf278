//! How a request is sent: by its cell, the preambles over it, and the configuration.

use crate::config::SendSettings;
use crate::{CellId, Workspace, effective_instructions};
use yieldtray_http::SendOptions;
use yieldtray_syntax::InstructionKind;

/// The send options of the configuration, with defaults.
pub fn configured(settings: &SendSettings) -> SendOptions {
    let usual = SendOptions::default();
    SendOptions {
        timeout: settings.timeout.unwrap_or(usual.timeout),
        retry_after: settings.retry_after,
        redirects: settings.redirects.unwrap_or(usual.redirects),
        cookies: settings.cookies.unwrap_or(usual.cookies),
        insecure: settings.insecure.as_ref().map_or(usual.insecure, |setting| setting.value),
        certificate: usual.certificate,
        verbatim_path: usual.verbatim_path,
    }
}

/// `sending` with what the lines over a cell and its own say, the nearest winning.
pub(super) fn of_cell(mut sending: SendOptions, workspace: &Workspace, cell: CellId) -> SendOptions {
    for (_, line) in effective_instructions(workspace, cell) {
        match line.kind {
            InstructionKind::Timeout(timeout) => sending.timeout = timeout,
            InstructionKind::RetryAfter(most) => sending.retry_after = most,
            InstructionKind::Redirects(redirects) => sending.redirects = redirects,
            InstructionKind::Cookies(cookies) => sending.cookies = cookies,
            InstructionKind::Insecure(insecure) => sending.insecure = insecure,
            InstructionKind::VerbatimPath => sending.verbatim_path = true,
            _ => {}
        }
    }
    sending
}
