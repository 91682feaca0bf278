//! The data of a template. Its fields are described in CONTRIBUTING.md.

use super::exported_request::ExportedRequest;
use super::outline::{Encoding, NamedValueKind, ParameterizedRequest, TextSegment};
use super::quote;
use super::shape::Chunk;
use base64::Engine as _;
use serde::Serialize;
use serde_json::{Value, json};
use std::collections::{BTreeSet, HashMap};
use yieldtray_http::HttpVersion;
use yieldtray_source::names::first_free;

/// The whole of it.
#[derive(Serialize)]
pub(super) struct Model {
    pub(super) several: bool,
    pub(super) variables: Vec<Variable>,
    pub(super) encodings: Vec<&'static str>,
    pub(super) requests: Vec<Request>,
}

/// A name of the language that holds a text.
#[derive(Clone, Serialize)]
pub(super) struct Variable {
    /// Its name, as `lot_id`.
    id: String,
    /// The variable of the environment it is read from, if it is.
    env: Option<String>,
    /// Its text, if it is literal.
    value: Option<String>,
    /// How the text must be written already, where that matters.
    encoded: Option<&'static str>,
}

#[derive(Serialize)]
pub(super) struct Request {
    name: String,
    title: String,
    method: String,
    url: Vec<Value>,
    /// The query parameters, decoded, if they are literal text.
    query: Vec<Value>,
    /// The URL without variables, for formats that want its parts.
    host: String,
    path: Vec<Value>,
    headers: Vec<Value>,
    /// The same with the fields of one name as one, which says the same (RFC 9110 5.2).
    joined_headers: Vec<Value>,
    has_media: bool,
    has_host: bool,
    basic: Option<Value>,
    digest: Option<Value>,
    has_body: bool,
    body: Vec<Value>,
    version: Option<&'static str>,
    seconds: f64,
    milliseconds: u64,
    redirects: u8,
    insecure: bool,
    yields: Vec<Value>,
    /// Whether a text of the body is all that it has.
    plain_body: bool,
}

/// Makes models, and names variables on the way.
pub(super) struct ModelBuilder {
    chains: bool,
    variables: Vec<Variable>,
    by_use: HashMap<(String, Encoding), String>,
    ids: BTreeSet<String>,
    encodings: BTreeSet<Encoding>,
}

impl ModelBuilder {
    pub(super) fn new(chains: bool) -> Self {
        Self { chains, variables: Vec::new(), by_use: HashMap::new(), ids: BTreeSet::new(), encodings: BTreeSet::new() }
    }

    pub(super) fn finish(self, requests: Vec<Request>) -> Model {
        Model {
            several: requests.len() > 1,
            variables: self.variables,
            encodings: self.encodings.into_iter().map(Encoding::as_str).collect(),
            requests,
        }
    }

    pub(super) fn request(&mut self, handed: &ExportedRequest<'_>) -> Request {
        let outline = handed.outline;
        let shape = &outline.shape;
        let url = self.text(outline, shape.url);
        let (host, path) = parts(&url);
        let headers: Vec<Value> = shape
            .headers
            .iter()
            .map(|(name, text)| {
                let value = self.text(outline, *text);
                let line = joined(&format!("{name}: "), &value);
                json!({ "name": name, "value": value, "line": line })
            })
            .collect();
        let has = |name: &str| shape.headers.iter().any(|(own, _)| own.eq_ignore_ascii_case(name));
        let login = |pair: &Option<(usize, usize)>, own: &mut Self| {
            pair.map(|(user, password)| {
                let (user, password) = (own.text(outline, user), own.text(outline, password));
                let mut pair = user.clone();
                pair.extend(joined(":", &password));
                json!({ "user": user, "password": password, "pair": merged(pair) })
            })
        };
        let (basic, digest) = (login(&shape.basic, self), login(&shape.digest, self));
        let body = shape.body.iter().map(|chunk| match chunk {
            Chunk::Text(text) => json!({ "text": self.text(outline, *text) }),
            Chunk::Bytes(bytes) => json!({ "base64": base64::engine::general_purpose::STANDARD.encode(bytes) }),
            Chunk::File(path) => json!({ "file": path }),
        });
        let body: Vec<Value> = body.collect();
        let yields: Vec<Value> = handed
            .yields
            .iter()
            .map(|own| {
                let id = self.id(&own.name, Encoding::Plain);
                match &own.source {
                    Some(source) => json!({ "id": id, "from": source.data(), "name": own.name }),
                    None => {
                        self.declare(&id, &own.name, None, Encoding::Plain);
                        json!({ "id": id, "name": own.name, "expression": own.expression })
                    }
                }
            })
            .collect();
        let plain_body = shape.has_body && shape.body.iter().all(|chunk| matches!(chunk, Chunk::Text(_)));
        Request {
            name: handed.name.to_owned(),
            title: handed.title.to_owned(),
            method: shape.method.clone(),
            query: query(&url),
            url,
            host,
            path,
            joined_headers: joined_fields(&headers),
            has_media: has("content-type"),
            has_host: has("host"),
            headers,
            basic,
            digest,
            has_body: shape.has_body,
            body,
            version: shape.version.map(|version| match version {
                HttpVersion::Http11 => "1.1",
                HttpVersion::Http2 => "2",
            }),
            seconds: shape.timeout.as_secs_f64(),
            milliseconds: u64::try_from(shape.timeout.as_millis()).unwrap_or(u64::MAX),
            redirects: shape.redirects,
            insecure: shape.insecure,
            yields,
            plain_body,
        }
    }

    fn text(&mut self, outline: &ParameterizedRequest, text: usize) -> Vec<Value> {
        let bits = outline.texts[text].iter();
        bits.map(|bit| match bit {
            TextSegment::Text(text) => json!({ "text": text }),
            TextSegment::Value(name, encoding) => self.value(outline, *name, *encoding),
        })
        .collect()
    }

    fn value(&mut self, outline: &ParameterizedRequest, name: usize, encoding: Encoding) -> Value {
        let name = &outline.names[name];
        let real = match &name.kind {
            NamedValueKind::Secret(text) => Some(text.clone()),
            NamedValueKind::Value(value) => value.to_text().ok().map(|text| text.into_owned()),
            NamedValueKind::Open | NamedValueKind::Answer => None,
        };
        // The type of a value from a response is unknown.
        let ascii = real.as_ref().map_or(!matches!(name.kind, NamedValueKind::Answer), |real| real.is_ascii());
        // A text that comes out the same is not encoded for show; one that nobody knows yet may not, and neither may the
        // secret of whoever runs this.
        let is_known = matches!(name.kind, NamedValueKind::Value(_));
        let same = is_known && real.as_ref().is_some_and(|real| encoding.encode(real) == *real);
        let encoding = if same { Encoding::Plain } else { encoding };
        if self.chains {
            if encoding != Encoding::Plain {
                self.encodings.insert(encoding);
            }
            let id = self.id(&name.name, Encoding::Plain);
            let answer = matches!(name.kind, NamedValueKind::Answer);
            if !answer {
                let given = matches!(name.kind, NamedValueKind::Value(_)).then_some(real).flatten();
                self.declare(&id, &name.name, given, Encoding::Plain);
            }
            let env = self.variables.iter().find(|known| known.id == id).and_then(|known| known.env.clone());
            return json!({ "id": id, "env": env, "answer": answer, "encoding": encoding.as_str(), "ascii": ascii });
        }
        let id = self.id(&name.name, encoding);
        let given = matches!(name.kind, NamedValueKind::Value(_)).then_some(real).flatten();
        self.declare(&id, &name.name, given.map(|text| encoding.encode(&text)), encoding);
        let env = self.variables.iter().find(|known| known.id == id).and_then(|known| known.env.clone());
        json!({ "id": id, "env": env, "answer": false, "encoding": "plain", "ascii": ascii })
    }

    /// The identifier of a value in the language; an encoded one has a name of its own.
    fn id(&mut self, name: &str, encoding: Encoding) -> String {
        if let Some(id) = self.by_use.get(&(name.to_owned(), encoding)) {
            return id.clone();
        }
        let base = match encoding {
            Encoding::Plain => quote::variable(name),
            _ => quote::variable(&format!("{name}_{}", encoding.as_str())),
        };
        let id = first_free(&base, "_", |id| !self.ids.contains(id));
        self.ids.insert(id.clone());
        self.by_use.insert((name.to_owned(), encoding), id.clone());
        id
    }

    fn declare(&mut self, id: &str, name: &str, value: Option<String>, encoding: Encoding) {
        if self.variables.iter().any(|known| known.id == id) {
            return;
        }
        let encoded = match encoding {
            Encoding::Plain => None,
            Encoding::Percent => Some("percent-encoded"),
            Encoding::Json => Some("escaped as in a JSON string"),
            Encoding::JsonValue => Some("as a JSON value"),
            Encoding::Form => Some("form-encoded"),
            Encoding::Xml => Some("escaped as in XML"),
        };
        let plain: String =
            name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect();
        let env = value.is_none().then(|| match encoding {
            Encoding::Plain => plain.clone(),
            _ => format!("{plain}_{}", encoding.as_str().to_ascii_uppercase()),
        });
        self.variables.push(Variable { id: id.to_owned(), env, value, encoded });
    }
}

/// The query parameters of a URL without variables.
fn query(url: &[Value]) -> Vec<Value> {
    let [only] = url else { return Vec::new() };
    let text = only["text"].as_str().unwrap_or_default();
    let query = text.split_once('?').map_or("", |(_, query)| query);
    let pairs = url::form_urlencoded::parse(query.as_bytes());
    pairs.map(|(name, value)| json!({ "name": name, "value": value })).collect()
}

/// Fields of one name as one, their values with commas between.
fn joined_fields(headers: &[Value]) -> Vec<Value> {
    let mut fields: Vec<(String, Vec<Value>)> = Vec::new();
    for header in headers {
        let name = header["name"].as_str().unwrap_or_default();
        let value = header["value"].as_array().cloned().unwrap_or_default();
        match fields.iter_mut().find(|(known, _)| known.eq_ignore_ascii_case(name)) {
            Some((_, all)) => all.extend(joined(", ", &value)),
            None => fields.push((name.to_owned(), value)),
        }
    }
    fields.into_iter().map(|(name, value)| json!({ "name": name, "value": merged(value) })).collect()
}

/// Pieces behind a text.
fn joined(text: &str, pieces: &[Value]) -> Vec<Value> {
    let mut all = vec![json!({ "text": text })];
    all.extend_from_slice(pieces);
    merged(all)
}

/// The same pieces, no two texts of which follow each other.
fn merged(pieces: Vec<Value>) -> Vec<Value> {
    let mut merged: Vec<Value> = Vec::new();
    for piece in pieces {
        match (merged.last().and_then(|last| last["text"].as_str()), piece["text"].as_str()) {
            (Some(before), Some(text)) => {
                let text = format!("{before}{text}");
                merged.pop();
                merged.push(json!({ "text": text }));
            }
            _ => merged.push(piece),
        }
    }
    merged
}

/// The host of a URL, if it is literal, and the rest.
fn parts(url: &[Value]) -> (String, Vec<Value>) {
    let head = url.first().and_then(|piece| piece["text"].as_str()).unwrap_or_default();
    let from = head.find("://").map_or(0, |at| at + 3);
    let Some(end) = head[from..].find('/').map(|end| from + end) else { return (String::new(), url.to_vec()) };
    let mut path = vec![json!({ "text": &head[end..] })];
    path.extend_from_slice(&url[1..]);
    (head[from..end].to_owned(), path)
}
