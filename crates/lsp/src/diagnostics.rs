//! Problems as diagnostics of the protocol.

use crate::capabilities::ClientCapabilities;
use crate::host::Finding;
use crate::position::{LineIndex, PositionEncoding};
use crate::uri::address_of;
use crate::workspace_state::WorkspaceState;
use lsp_types::{
    Diagnostic, DiagnosticRelatedInformation, DiagnosticSeverity, DiagnosticTag, Location, NumberOrString, Range,
};
use std::str::FromStr;
use yieldtray_source::{Code, Problem, Severity, SourceId, Span};

/// Everything to draw in a text.
pub(crate) fn of(
    state: &WorkspaceState,
    source: SourceId,
    encoding: PositionEncoding,
    client: ClientCapabilities,
) -> Vec<Diagnostic> {
    let found = state.problems.get(&source).into_iter().flatten();
    let inside = &state.workspace.source(source).path;
    let findings = state.findings.iter().filter(|finding| finding.file == *inside);
    let text = text_of(state, source, encoding);
    found
        .map(|problem| drawn(state, source, problem, encoding, client))
        .chain(findings.filter_map(|finding| outcome(&text, finding)))
        .collect()
}

pub(crate) fn text_of(state: &WorkspaceState, source: SourceId, encoding: PositionEncoding) -> LineIndex<'_> {
    let own = state.workspace.source(source);
    LineIndex { text: &own.text, lines: own.lines(), encoding }
}

/// A problem as the client draws it.
pub(crate) fn drawn(
    state: &WorkspaceState,
    source: SourceId,
    problem: &Problem,
    encoding: PositionEncoding,
    client: ClientCapabilities,
) -> Diagnostic {
    let text = text_of(state, source, encoding);
    let hint = problem.hint.as_ref().map(|hint| format!("\n{hint}")).unwrap_or_default();
    let also = problem.related.as_ref().filter(|_| client.shows_related).and_then(|related| {
        let range = text_of(state, related.source, encoding).range(related.span);
        let path = state.root.join(&state.workspace.source(related.source).path);
        let uri = lsp_types::Uri::from_str(&address_of(&path)).ok()?;
        Some(vec![DiagnosticRelatedInformation { location: Location { uri, range }, message: related.message.clone() }])
    });
    let unused = matches!(problem.code, Code::UnusedYield | Code::UnusedVariable);
    Diagnostic {
        range: text.range(problem.span),
        severity: Some(match problem.severity {
            Severity::Error => DiagnosticSeverity::ERROR,
            Severity::Warning => DiagnosticSeverity::WARNING,
            Severity::Info => DiagnosticSeverity::INFORMATION,
        }),
        code: Some(NumberOrString::String(problem.code.as_str().to_owned())),
        source: Some("yieldtray".to_owned()),
        message: format!("{}{hint}", problem.message),
        related_information: also,
        tags: (unused && client.shows_tags).then(|| vec![DiagnosticTag::UNNECESSARY]),
        ..Diagnostic::default()
    }
}

/// A check that failed: at its line, wherever that is by now; nowhere if it is gone.
fn outcome(text: &LineIndex<'_>, finding: &Finding) -> Option<Diagnostic> {
    let at_line = |line: usize| {
        let span = text.lines.span(text.text, line)?;
        let at = span.of(text.text).find(&finding.text)?;
        Some(span.part(at, at + finding.text.len()))
    };
    let moved = || text.text.find(&finding.text).map(|at| Span::new(at, at + finding.text.len()));
    let range: Range = text.range(at_line(finding.line).or_else(moved)?);
    Some(Diagnostic {
        range,
        severity: Some(DiagnosticSeverity::ERROR),
        code: Some(NumberOrString::String("failed".to_owned())),
        source: Some("yieldtray".to_owned()),
        message: finding.message.clone(),
        ..Diagnostic::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use lsp_types::Position;
    use yieldtray_source::Lines;

    /// Where a failed check of line 3 is drawn in a text that was changed since.
    fn drawn_at(text: &str) -> Option<(Position, Position)> {
        let lines = Lines::new(text);
        let view = LineIndex { text, lines: &lines, encoding: PositionEncoding::Utf16 };
        let finding = Finding {
            file: "lots.http".into(),
            line: 3,
            text: "body.bins == 18".to_owned(),
            message: "it is 24".to_owned(),
        };
        let drawn = outcome(&view, &finding)?;
        assert_eq!((drawn.severity, &*drawn.message), (Some(DiagnosticSeverity::ERROR), "it is 24"));
        Some((drawn.range.start, drawn.range.end))
    }

    #[test]
    fn a_failed_check_is_drawn_where_its_text_is_now() {
        let at = |line, from| Some((Position::new(line, from), Position::new(line, from + 15)));
        assert_eq!(drawn_at("GET /lots/L-2039\n\n% check body.bins == 18\n"), at(2, 8));
        // Of two alike the one on its line.
        assert_eq!(drawn_at("# body.bins == 18\n\n% check  body.bins == 18\n"), at(2, 9));
        // Lines were inserted above it.
        assert_eq!(drawn_at("%% 🍏\nGET /lots/L-2039\n\n\n% check body.bins == 18\n"), at(4, 8));
        // It reads otherwise by now, or is gone with the end of the text.
        assert_eq!(drawn_at("GET /lots/L-2039\n\n% check body.bins == 24\n"), None);
        assert_eq!(drawn_at("GET /lots\n"), None);
    }
}
