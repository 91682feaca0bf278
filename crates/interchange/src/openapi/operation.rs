//! Operations as requests.

use super::schema::Schemas;
use super::security::Security;
use super::{body, parameters, servers};
use crate::draft::ImportedRequest;
use serde_json::Value;
use yieldtray_description::Samples;
use yieldtray_description::{Documents, Node};
use yieldtray_source::names::slug;
use yieldtray_syntax::{ValuePiece, ValueText};

/// The context for operations.
pub(super) struct ImportContext<'d> {
    pub(super) documents: &'d Documents,
    pub(super) samples: Samples<'d>,
    pub(super) schemas: Schemas<'d>,
    pub(super) security: Security<'d>,
    /// True if responses are checked with schema files.
    pub(super) with_schemas: bool,
    /// The URL before paths.
    pub(super) base: String,
}

/// One operation.
pub(super) struct Operation<'d> {
    pub(super) path: &'d str,
    pub(super) item: Node<'d>,
    pub(super) method: &'static str,
    pub(super) node: Node<'d>,
}

impl<'d> Operation<'d> {
    /// The tag whose file it belongs to.
    pub(super) fn tag(&self) -> Option<&'d str> {
        self.node.get("tags").and_then(|tags| tags.list().next()).and_then(|tag| tag.value.as_str())
    }

    /// Whether somebody means it: by its id, its method and path, or its path.
    pub(super) fn is_called(&self, wanted: &str) -> bool {
        let own = format!("{} {}", self.method.to_uppercase(), self.path);
        self.node.text("operationId") == Some(wanted) || own.eq_ignore_ascii_case(wanted) || self.path == wanted
    }

    /// The request that it describes. What cannot be said comes in words.
    pub(super) fn draft(&self, making: &mut ImportContext<'d>) -> (ImportedRequest, Vec<String>) {
        let mut notes = Vec::new();
        let method = self.method.to_uppercase();
        let mut draft = ImportedRequest { method: Some(method.as_str().into()), ..ImportedRequest::default() };
        let id = self.node.text("operationId");
        let summary = self.node.text("summary").or_else(|| self.item.text("summary"));
        draft.title = summary.or(id).map_or_else(|| format!("{method} {}", self.path), str::to_owned);
        draft.title = draft.title.lines().next().unwrap_or_default().trim_end_matches('.').to_owned();
        // A title of marks alone would give no name.
        if slug(&draft.title).is_empty() {
            draft.title = format!("{method} {}", self.path);
        }
        draft.name = id.map(name).filter(|name| !name.is_empty());
        if let Some(description) = self.node.text("description").filter(|text| Some(*text) != summary) {
            draft.note(description.trim());
        }
        if self.node.is("deprecated") {
            draft.note("Deprecated.");
            draft.lines.push("% tag deprecated".to_owned());
        }
        let own_server = servers::of_operation([self.node, self.item], &making.base, &mut notes);
        draft.target = format!("{}{}", own_server.unwrap_or_default(), self.path).into();
        for parameter in yieldtray_description::parameters(making.documents, self.item, self.node) {
            parameters::add(parameter, &making.samples, &mut draft, &mut notes);
        }
        braces_without_parameter(&mut draft, &mut notes);
        body::add(making.documents, self.node, &making.samples, &mut draft, &mut notes);
        notes.extend(making.security.add(self.node, &mut draft));
        // Both would be the same field.
        if draft.has_header("authorization") && draft.auth.is_some() {
            draft
                .headers
                .retain(|(name, _)| !name.plain().is_some_and(|name| name.eq_ignore_ascii_case("authorization")));
            notes.push("its `Authorization` header is omitted: `% auth` sets it".to_owned());
        }
        self.checks(making, &mut draft);
        if self.node.value.get("callbacks").is_some() {
            notes.push("its `callbacks` are skipped".to_owned());
        }
        (draft, notes)
    }

    /// Checks of the successful response.
    fn checks(&self, making: &mut ImportContext<'d>, draft: &mut ImportedRequest) {
        let Some(responses) = self.node.get("responses") else { return };
        let all: Vec<(&str, Node<'d>)> = responses.members().collect();
        let good = all.iter().filter(|(status, _)| status.starts_with('2')).min_by_key(|(status, _)| *status);
        let Some((status, response)) = good.or_else(|| all.iter().find(|(status, _)| *status == "default")) else {
            return;
        };
        draft.tail.push(match status.parse::<u16>() {
            Ok(status) => format!("% check status == {status}"),
            Err(_) => "% check status >= 200 && status < 300".to_owned(),
        });
        let Some(response) = making.documents.resolve(*response) else { return };
        let content = response.get("content").into_iter().flat_map(Node::members);
        let json =
            content.filter(|(media, _)| media.contains("json") || *media == "*/*").map(|(_, holder)| holder).next();
        let Some(schema) = json.and_then(|holder| holder.get("schema")).filter(|_| making.with_schemas) else { return };
        let own = draft.name.clone().unwrap_or_else(|| slug(&draft.title));
        if let Some(file) = making.schemas.file(schema, &format!("{own}-{status}")) {
            draft.tail.push(format!("% check conforms(body, {})", Value::from(file)));
        }
    }
}

/// An id as a cell's name.
fn name(id: &str) -> String {
    let fits = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
    if id.chars().all(fits) { id.to_owned() } else { slug(id) }
}

/// Braces in a path that no parameter fills.
fn braces_without_parameter(draft: &mut ImportedRequest, notes: &mut Vec<String>) {
    let mut target = ValueText::default();
    let pieces = draft.target.pieces().to_vec();
    for piece in pieces {
        let ValuePiece::Literal(text) = &piece else {
            target.push_piece(piece);
            continue;
        };
        let mut rest = text.as_str();
        while let Some((before, name, after)) = braces(rest) {
            target.push_str(before);
            let own = parameters::value_name(name);
            notes.push(format!("the path parameter `{{{name}}}` is not described: `{own}` is set to `{name}`"));
            draft.lines.push(format!("% let {own} = {}", Value::from(name)));
            target.push_value(own);
            rest = after;
        }
        target.push_str(rest);
    }
    draft.target = target;
}

fn braces(text: &str) -> Option<(&str, &str, &str)> {
    let open = text.find('{')?;
    let close = open + text[open..].find('}')?;
    Some((&text[..open], &text[open + 1..close], &text[close + 1..]))
}
