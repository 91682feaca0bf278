//! Where responses that were received and their description differ.

use crate::api::{Api, Matched};
use crate::index::IndexError;
use crate::schema_walk::{Shape, json_type, value_members};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// How deep bodies are compared.
const MAX_DEPTH: usize = 16;

/// Members of a list that are compared: those after them are of the same kind.
const MAX_ITEMS: usize = 200;

/// An exchange of the log, as far as a description is about it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Observation {
    /// Its number in the log.
    pub number: i64,
    /// The method.
    pub method: String,
    /// The path, as the description counts it.
    pub path: String,
    /// The names of the query parameters.
    pub query: Vec<String>,
    /// The names of the header fields, in lower case.
    pub headers: Vec<String>,
    /// The body that was sent, if it is JSON.
    pub request_body: Option<Value>,
    /// The status.
    pub status: u16,
    /// The media type of the response, without parameters; `None` if only the status is known.
    pub media_type: Option<String>,
    /// The body that was received, if it is JSON.
    pub response_body: Option<Value>,
}

/// A kind of difference.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DriftKind {
    /// A request to a path or with a method that is not described.
    UndocumentedOperation,
    /// A response with a status that is not documented.
    UndocumentedStatus,
    /// A response with a media type that is not documented.
    UndocumentedContentType,
    /// A response with a member that is not documented.
    UndocumentedMember,
    /// A member of another type than documented.
    OtherType,
    /// A documented status that was never received.
    UnseenStatus,
    /// A documented member that was never received.
    UnseenMember,
}

impl DriftKind {
    /// Whether responses have what the description has not: the description is wrong, or the server.
    pub fn is_undocumented(self) -> bool {
        !matches!(self, DriftKind::UnseenStatus | DriftKind::UnseenMember)
    }

    /// Words for it.
    pub fn describe(self) -> &'static str {
        match self {
            DriftKind::UndocumentedOperation => "undocumented operation",
            DriftKind::UndocumentedStatus => "undocumented status",
            DriftKind::UndocumentedContentType => "undocumented content type",
            DriftKind::UndocumentedMember => "undocumented member",
            DriftKind::OtherType => "other type",
            DriftKind::UnseenStatus => "status never received",
            DriftKind::UnseenMember => "member never received",
        }
    }
}

/// A difference, and how often it was found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drift {
    /// Its kind.
    pub kind: DriftKind,
    /// The operation: `GET /lots/{id}`, or the request where there is none.
    pub operation: String,
    /// What differs: a status, a member with its status, a type.
    pub subject: String,
    /// How many exchanges have it; of what was never received, how many might have.
    pub exchanges: usize,
    /// The number of one of them in the log.
    pub example: Option<i64>,
}

/// What responses contain that the description does not, and the reverse, for the operations that were requested.
///
/// # Errors
/// If the index cannot be read.
pub fn drift(api: &Api, observations: &[Observation]) -> Result<Vec<Drift>, IndexError> {
    let mut found = Findings::default();
    let mut by_operation: BTreeMap<(String, String), Vec<&Observation>> = BTreeMap::new();
    for seen in observations {
        match api.matched(&seen.method, &seen.path)? {
            Matched::Operation(path) => by_operation.entry((path, seen.method.clone())).or_default().push(seen),
            // What does not exist has no description.
            _ if matches!(seen.status, 404 | 405) => {}
            _ => found.add(DriftKind::UndocumentedOperation, &format!("{} {}", seen.method, seen.path), "", seen),
        }
    }
    for ((path, method), seen) in by_operation {
        let Some(operation) = api.operation(&method, &path)? else { continue };
        let title = operation.summary.title();
        for own in &seen {
            let Some(response) = operation.response(own.status) else {
                found.add(DriftKind::UndocumentedStatus, &title, &own.status.to_string(), own);
                continue;
            };
            let Some(media_type) = &own.media_type else { continue };
            if response.content.is_empty() || matches!(own.status, 204 | 304) || own.method == "HEAD" {
                continue;
            }
            let Some(content) = response.content.iter().find(|content| content.matches(media_type)) else {
                let subject = format!("{} {media_type}", own.status);
                found.add(DriftKind::UndocumentedContentType, &title, &subject, own);
                continue;
            };
            if let (Some(schema), Some(body)) = (&content.schema, &own.response_body) {
                let mut walk = Walk { api, title: &title, seen: own, found: &mut found };
                walk.compare(body, std::slice::from_ref(schema), "", 0);
            }
        }
        for response in &operation.responses {
            let own: Vec<_> = seen
                .iter()
                .filter(|seen| operation.response(seen.status).is_some_and(|found| found.status == response.status))
                .collect();
            if own.is_empty() {
                found.unseen(DriftKind::UnseenStatus, &title, &response.status, seen.len());
                continue;
            }
            let bodies = own.iter().filter_map(|seen| seen.response_body.as_ref());
            let received: BTreeSet<String> = bodies.flat_map(|body| value_members(body).into_keys()).collect();
            let schemas = response.content.iter().filter(|content| content.is_json());
            for member in schemas.filter_map(|content| content.schema.as_ref()).flat_map(|schema| api.members(schema)) {
                // What is inside a member that is missing is missing too.
                let parent = member.path.rsplit_once('.').map(|(parent, _)| parent.trim_end_matches("[]"));
                let has_parent = parent.is_none_or(|parent| parent.is_empty() || received.contains(parent));
                if has_parent && !received.contains(&member.path) {
                    let subject = format!("{} {}", response.status, member.path);
                    found.unseen(DriftKind::UnseenMember, &title, &subject, own.len());
                }
            }
        }
    }
    Ok(found.list())
}

#[derive(Default)]
struct Findings(BTreeMap<(DriftKind, String, String), (BTreeSet<i64>, usize)>);

impl Findings {
    fn add(&mut self, kind: DriftKind, operation: &str, subject: &str, seen: &Observation) {
        let key = (kind, operation.to_owned(), subject.to_owned());
        self.0.entry(key).or_default().0.insert(seen.number);
    }

    fn unseen(&mut self, kind: DriftKind, operation: &str, subject: &str, exchanges: usize) {
        self.0.entry((kind, operation.to_owned(), subject.to_owned())).or_default().1 = exchanges;
    }

    fn list(self) -> Vec<Drift> {
        let list = self.0.into_iter().map(|((kind, operation, subject), (numbers, unseen))| Drift {
            kind,
            operation,
            subject,
            exchanges: numbers.len().max(unseen),
            example: numbers.last().copied(),
        });
        list.collect()
    }
}

/// Compares a body with its schema.
struct Walk<'a> {
    api: &'a Api,
    title: &'a str,
    seen: &'a Observation,
    found: &'a mut Findings,
}

impl Walk<'_> {
    fn compare(&mut self, value: &Value, schemas: &[Value], path: &str, depth: usize) {
        if depth > MAX_DEPTH {
            return;
        }
        let shape = Shape::of(self.api, schemas);
        let own = json_type(value);
        let fits = shape.types.is_empty()
            || shape.types.contains(own)
            || own == "integer" && shape.types.contains("number")
            || own == "number"
                && value.as_f64().is_some_and(|number| number.fract() == 0.0)
                && shape.types.contains("integer");
        if !fits {
            let place = if path.is_empty() { "the body" } else { path };
            let subject = format!("{} {place} is {own}, documented as {}", self.seen.status, shape.type_words());
            return self.found.add(DriftKind::OtherType, self.title, &subject, self.seen);
        }
        match value {
            Value::Array(list) if !shape.items.is_empty() => {
                for one in list.iter().take(MAX_ITEMS) {
                    self.compare(one, &shape.items, &format!("{path}[]"), depth + 1);
                }
            }
            Value::Object(members) if !shape.members.is_empty() => {
                for (name, value) in members {
                    let inner = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                    match shape.members.get(name) {
                        Some(schemas) => self.compare(value, schemas, &inner, depth + 1),
                        None if shape.is_open => {}
                        None => {
                            let subject = format!("{} {inner} ({})", self.seen.status, json_type(value));
                            self.found.add(DriftKind::UndocumentedMember, self.title, &subject, self.seen);
                        }
                    }
                }
            }
            _ => {}
        }
    }
}
