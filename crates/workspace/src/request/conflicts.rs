//! Lines of one cell that cannot both hold.

use crate::{CellId, Workspace};
use yieldtray_source::{Code, Problem, Span};
use yieldtray_syntax::{Instruction, InstructionKind};

/// Where a cell gives one thing in two ways.
pub(crate) fn conflicts(workspace: &Workspace, cell: CellId) -> Vec<Problem> {
    let own = workspace.cell(cell);
    let text = &workspace.source(cell.source).text;
    let mut found = Vec::new();
    let mut clash = |first: Span, second: Span, message: &str, hint: &str| {
        let problem = Problem::error(Code::ConflictingLines, second, message).with_hint(hint);
        found.push(problem.with_related(cell.source, first, "the other one is here").in_source(cell.source));
    };
    // A body has one source.
    let mut bodies: Vec<(&str, Span)> = Vec::new();
    let mut once: Vec<(&str, Span)> = Vec::new();
    let [mut plays, mut streams, mut follows, mut waits, mut saves, mut speaks] = [None; 6];
    for line in own.instructions() {
        let first = match line.kind {
            InstructionKind::Play { .. } => Some(&mut plays),
            InstructionKind::Until(_) | InstructionKind::Take(_) => Some(&mut streams),
            InstructionKind::Follow { .. } => Some(&mut follows),
            InstructionKind::Wait { .. } => Some(&mut waits),
            InstructionKind::Save(_) => Some(&mut saves),
            _ if line.kind.is_of_conversation() => Some(&mut speaks),
            _ => None,
        };
        first.into_iter().for_each(|first| *first = first.or(Some(line.span)));
        // Parts of a GraphQL request are files for its variables.
        let word = body_word(line).filter(|word| !(own.is_graphql() && *word == "part"));
        if let Some(word) = word {
            match bodies.first() {
                Some((first, span)) if *first != word || word == "body" => {
                    clash(*span, line.span, "this request has two bodies", "keep `field`, `part` or `body` lines");
                }
                Some(_) => {}
                None => bodies.push((word, line.span)),
            }
        }
        if let Some(word) = single_word(line) {
            match once.iter().find(|(known, _)| *known == word) {
                Some((_, span)) => {
                    clash(
                        *span,
                        line.span,
                        &format!("duplicate `% {word}` for this request"),
                        "remove one of the two lines",
                    );
                }
                None => once.push((word, line.span)),
            }
        }
    }
    if let (Some(play), Some(request)) = (plays, &own.request) {
        let hint = "move the request to its own section: a sequence only plays others";
        clash(play, request.span, "a sequence cannot have a request of its own", hint);
    }
    for (one, other, message) in [
        (follows, waits, "a request that follows pages cannot be sent again until a condition holds"),
        (follows, saves, "pages that are followed have no single body to save"),
        (streams, waits, "a stream of events cannot be sent again until a condition holds"),
        (speaks, saves, "a conversation has no body to save"),
        (speaks, waits, "a conversation cannot be sent again until a condition holds"),
        (speaks, streams, "a conversation is no stream of events"),
        (speaks, follows, "a conversation has no pages"),
    ] {
        if let (Some(one), Some(other)) = (one, other) {
            clash(one, other, message, "remove one of the two lines");
        }
    }
    let body = bodies.first().map(|(_, span)| *span).or_else(|| (!own.body.is_empty()).then_some(own.body));
    if own.is_conversation(text)
        && let (Some(body), Some(request)) = (body, &own.request)
    {
        let hint = "use `% say` to send a message";
        clash(
            request.span,
            body.part(0, body.of(text).lines().next().map_or(0, str::len)),
            "a conversation has no body",
            hint,
        );
    }
    if let (Some((_, span)), false) = (bodies.first(), own.body.is_empty()) {
        let first_line = own.body.of(text).lines().next().map_or(own.body.len(), str::len);
        let body = own.body.part(0, first_line);
        clash(*span, body, "this request has two bodies", "keep the text below the headers or the lines above it");
    }
    let field = |name: &str| own.fields.iter().find(|field| field.name.of(text).eq_ignore_ascii_case(name));
    if let (Some((_, auth)), Some(field)) = (once.iter().find(|(word, _)| *word == "auth"), field("authorization")) {
        clash(*auth, field.span, "`% auth` and this header both set credentials", "remove one of the two lines");
    }
    if let (Some(("part", part)), Some(field)) = (bodies.first(), field("content-type")) {
        let hint = "remove the header: the boundary is generated when sending";
        clash(*part, field.span, "a multipart body sets its own Content-Type", hint);
    }
    found
}

fn body_word(line: &Instruction) -> Option<&'static str> {
    match line.kind {
        InstructionKind::Field { .. } => Some("field"),
        InstructionKind::Part { .. } => Some("part"),
        InstructionKind::BodyFrom { .. } => Some("body"),
        _ => None,
    }
}

fn single_word(line: &Instruction) -> Option<&'static str> {
    match line.kind {
        InstructionKind::Auth(_) => Some("auth"),
        InstructionKind::Sign(_) => Some("sign"),
        InstructionKind::Timeout(_) => Some("timeout"),
        InstructionKind::RetryAfter(_) => Some("retry"),
        InstructionKind::Until(_) => Some("until"),
        InstructionKind::Take(_) => Some("take"),
        InstructionKind::Reconnect(_) => Some("reconnect"),
        InstructionKind::Follow { .. } => Some("follow"),
        InstructionKind::Redirects(_) => Some("redirects"),
        InstructionKind::Cookies(_) => Some("cookies"),
        InstructionKind::Insecure(_) => Some("insecure"),
        InstructionKind::VerbatimPath => Some("path"),
        InstructionKind::Save(_) => Some("save"),
        _ => None,
    }
}
