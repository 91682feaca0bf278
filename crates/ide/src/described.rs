//! What the description of the API says of a cell's request, and the JSON of a body with the places of its parts.

use serde_json::Value;
use serde_json::value::RawValue;
use std::collections::HashMap;
use std::sync::Arc;
use yieldtray_description::{Api, Contract, Operation};
use yieldtray_source::{Span, scan};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::{CellId, Workspace, operation_of};

/// An operation of OpenAPI, and what the request of a cell sends for it.
pub(crate) struct Described<'w> {
    pub(crate) api: &'w Arc<Api>,
    pub(crate) contract: &'w Contract,
    pub(crate) operation: Arc<Operation>,
    /// The names of query parameters, with their places.
    pub(crate) query: Vec<(String, Span)>,
    /// The names of header fields, with their places; those of preambles are at the request line.
    pub(crate) headers: Vec<(String, Span)>,
}

impl<'w> Described<'w> {
    /// What is known of a cell; `None` if its request is no operation of a description.
    pub(crate) fn of(workspace: &'w Workspace, cell: CellId) -> Option<Self> {
        let (api, operation) = operation_of(workspace, cell)?;
        let own = workspace.cell(cell);
        let text = &workspace.source(cell.source).text;
        let line = own.request.as_ref()?;
        let mut query = Vec::new();
        if let Some(question) = line.target.of(text).find('?') {
            let mut at = line.target.start() + question + 1;
            for pair in text[at..line.target.end()].split('&') {
                let name = pair.split('=').next().unwrap_or_default();
                query.push((name.to_owned(), Span::new(at, at + name.len())));
                at += pair.len() + 1;
            }
        }
        let mut headers: Vec<(String, Span)> =
            own.fields.iter().map(|field| (field.name.of(text).to_owned(), field.name)).collect();
        for (origin, line_above) in workspace.preambles(cell.source) {
            if let InstructionKind::Header { name, .. } = line_above.kind {
                headers.push((name.of(&workspace.source(origin).text).to_owned(), line.target));
            }
        }
        for instruction in own.instructions() {
            if let InstructionKind::Query { name, .. } = instruction.kind {
                query.push((name.of(text).to_owned(), name));
            }
        }
        let contract = api.contract.as_ref().ok()?;
        Some(Self { api: contract.api(), contract, operation, query, headers })
    }
}

/// The JSON of a body, with stand-ins for placeholders.
pub(crate) struct BodyJson {
    pub(crate) value: Value,
    /// The text with stand-ins, as long as the body.
    text: String,
    start: usize,
    placeholders: Vec<Span>,
}

/// Reads the JSON body at `span`; `None` if it is none.
pub(crate) fn body_json(text: &str, span: Span) -> Option<BodyJson> {
    let body = span.of(text);
    if !body.trim_start().starts_with(['{', '[']) {
        return None;
    }
    let (mut plain, mut placeholders) = (String::with_capacity(body.len()), Vec::new());
    let (mut at, mut in_string) = (0, false);
    while at < body.len() {
        let rest = &body[at..];
        if rest.starts_with("{{")
            && let Some(end) = scan::mark_end(body, at + 2)
        {
            let length = end + 2 - at;
            // Outside a string, one stands for any value: the same number of bytes keeps the places.
            match in_string {
                true => plain.push_str(&"_".repeat(length)),
                false => plain.push_str(&format!("\"{}\"", "_".repeat(length - 2))),
            }
            placeholders.push(Span::new(span.start() + at, span.start() + at + length));
            at += length;
            continue;
        }
        let c = rest.chars().next()?;
        match c {
            '\\' if in_string => {
                let next = rest[1..].chars().next().map_or(0, char::len_utf8);
                plain.push_str(&rest[..1 + next]);
                at += 1 + next;
                continue;
            }
            '"' => in_string = !in_string,
            _ => {}
        }
        plain.push(c);
        at += c.len_utf8();
    }
    let value = serde_json::from_str(&plain).ok()?;
    Some(BodyJson { value, text: plain, start: span.start(), placeholders })
}

impl BodyJson {
    /// The place of the value at a JSON Pointer (RFC 6901).
    pub(crate) fn place(&self, pointer: &str) -> Option<Span> {
        let mut raw: &RawValue = serde_json::from_str(&self.text).ok()?;
        for token in pointer.split('/').skip(1) {
            let token = token.replace("~1", "/").replace("~0", "~");
            raw = match raw.get().trim_start().starts_with('{') {
                true => {
                    let mut members: HashMap<String, &RawValue> = serde_json::from_str(raw.get()).ok()?;
                    members.remove(&token)?
                }
                false => {
                    let items: Vec<&RawValue> = serde_json::from_str(raw.get()).ok()?;
                    items.get(token.parse::<usize>().ok()?).copied()?
                }
            };
        }
        // The part is borrowed from the text: the distance between them is its place.
        let offset = (raw.get().as_ptr() as usize).checked_sub(self.text.as_ptr() as usize)?;
        Some(Span::new(self.start + offset, self.start + offset + raw.get().len()))
    }

    /// Whether a scalar at a place is written with a placeholder: what it will be is not known.
    pub(crate) fn has_placeholder(&self, span: Span) -> bool {
        let is_scalar = !self.text[span.start() - self.start..span.end() - self.start].starts_with(['{', '[']);
        is_scalar && self.placeholders.iter().any(|own| span.start() <= own.start() && own.end() <= span.end())
    }
}
