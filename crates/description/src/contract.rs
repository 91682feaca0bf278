//! Validates responses against a description.

use crate::api::{Api, Matched};
use crate::model::{ApiKind, Operation, Response};
use crate::recent::Recent;
use crate::schema_walk::schema_type;
use std::fmt;
use std::sync::Arc;
use url::Url;
use yieldtray_cel::Type;
use yieldtray_http::Exchange;
use yieldtray_source::scan;

/// A description, and the URL that its paths are joined to.
pub struct Contract {
    name: String,
    api: Arc<Api>,
    base: Url,
    /// Paths that were looked for, by method and path.
    matches: Recent<Matched>,
    /// The types of responses, by operation. They hold the description, so they are not kept in it.
    response_types: Recent<Type>,
}

impl fmt::Debug for Contract {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Contract({})", self.name)
    }
}

/// How a response differs from its description.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Violation {
    /// `operation`, `status`, `content-type`, `header` or `body`.
    pub rule: &'static str,
    /// What differs.
    pub message: String,
}

impl Contract {
    /// A contract of the servers below `base`.
    pub fn new(name: impl Into<String>, api: Api, base: Url) -> Self {
        Self {
            name: name.into(),
            api: Arc::new(api),
            base,
            matches: Recent::default(),
            response_types: Recent::default(),
        }
    }

    /// The name of the description.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The description.
    pub fn api(&self) -> &Arc<Api> {
        &self.api
    }

    /// The path of a URL as the description counts it; `None` for a URL of another server.
    pub fn path_of(&self, url: &Url) -> Option<String> {
        if !is_same_server(url, &self.base) {
            return None;
        }
        below(url.path(), self.base.path()).map(str::to_owned)
    }

    /// The operation that a request is one of: its path may count from the base, or from the server's path. `None` for a
    /// URL of another server.
    pub fn matched(&self, method: &str, url: &Url) -> Option<Matched> {
        match self.matched_path(method, &self.path_of(url)?)? {
            Matched::Unknown => self.api.matched(method, url.path()).ok(),
            found => Some(found),
        }
    }

    /// [`matched`](Self::matched) for a path below the base.
    pub fn matched_path(&self, method: &str, path: &str) -> Option<Matched> {
        let find = || {
            let mut best = Matched::Unknown;
            for path in self.counted(path) {
                match self.api.matched(method, path)? {
                    found @ Matched::Operation(_) => return Ok(Some(found)),
                    other @ Matched::OtherMethods(..) if best == Matched::Unknown => best = other,
                    _ => {}
                }
            }
            Ok(Some(best))
        };
        let found = self.matches.get(&format!("{method} {path}"), find);
        found.ok().flatten().map(|found| Matched::clone(&found))
    }

    /// The type of the JSON responses to an operation, for the checker of expressions; `None` if none is described.
    pub fn response_type(&self, operation: &Operation) -> Option<Type> {
        let describe = || {
            let schemas = operation.response_schemas();
            Ok((!schemas.is_empty()).then(|| schema_type(&self.api, &schemas)))
        };
        let found = self.response_types.get(&operation.summary.title(), describe);
        found.ok().flatten().map(|found| Type::clone(&found))
    }

    /// A path as the description may count it: below the path of a server, or as it is.
    fn counted<'p>(&'p self, path: &'p str) -> impl Iterator<Item = &'p str> {
        let servers = self.api.info().server_paths.iter().filter(|prefix| !prefix.is_empty());
        servers.filter_map(move |prefix| below(path, prefix)).chain([path])
    }

    /// The path of a request's operation as the description counts it, or its own below the base if there is none;
    /// `None` for a URL of another server.
    pub fn described_path(&self, method: &str, url: &Url) -> Option<String> {
        let path = self.path_of(url)?;
        let is_operation = |path: &&str| matches!(self.api.matched(method, path), Ok(Matched::Operation(_)));
        Some(self.counted(&path).find(is_operation).unwrap_or(&path).to_owned())
    }

    /// The path of a request's target as its file writes it, without the query, and with stand-ins for placeholders;
    /// `None` for a URL of another server.
    pub fn path_of_target(&self, target: &str) -> Option<String> {
        let target = target.strip_prefix("{{base}}").unwrap_or(target);
        let path = with_stand_ins(target.split('?').next().unwrap_or_default());
        if path.starts_with('/') {
            return Some(path);
        }
        self.path_of(&Url::parse(&path).ok()?)
    }

    /// Whether a request is one of the operations that are described.
    pub fn is_described(&self, method: &str, url: &Url) -> bool {
        matches!(self.matched(method, url), Some(Matched::Operation(_)))
    }

    /// How a response differs from its description; `None` if the request is not one for this API.
    pub fn check(&self, exchange: &Exchange) -> Option<Vec<Violation>> {
        if self.api.info().kind != ApiKind::OpenApi {
            return None;
        }
        let method = &exchange.sent.method;
        let violation = |rule, message| Some(vec![Violation { rule, message }]);
        let path = match self.matched(method, &exchange.sent.url)? {
            Matched::Operation(path) => path,
            Matched::OtherMethods(path, methods) => {
                let message = format!("{method} is not described for `{path}`, which has {}", methods.join(", "));
                return violation("operation", message);
            }
            Matched::Unknown => {
                let path = self.path_of(&exchange.sent.url)?;
                return violation("operation", format!("`{path}` is not described"));
            }
        };
        let operation = match self.api.operation(method, &path) {
            Ok(operation) => operation?,
            Err(error) => return violation("operation", format!("the description cannot be read: {error}")),
        };
        Some(self.check_response(&operation, exchange))
    }

    fn check_response(&self, operation: &Operation, exchange: &Exchange) -> Vec<Violation> {
        let mut found = Vec::new();
        let Some(response) = operation.response(exchange.status) else {
            let documented: Vec<&str> = operation.responses.iter().map(|own| own.status.as_str()).collect();
            let message =
                format!("status {} is not documented; documented: {}", exchange.status, documented.join(", "));
            return vec![Violation { rule: "status", message }];
        };
        let is_sent = |name: &str| exchange.headers.iter().any(|(own, _)| own.eq_ignore_ascii_case(name));
        for header in response.headers.iter().filter(|header| header.required && !is_sent(&header.name)) {
            found.push(Violation { rule: "header", message: format!("the header `{}` is missing", header.name) });
        }
        let is_bodiless = exchange.sent.method == "HEAD" || matches!(exchange.status, 204 | 304);
        if !is_bodiless && !response.content.is_empty() {
            self.check_body(response, exchange, &mut found);
        }
        found
    }

    fn check_body(&self, response: &Response, exchange: &Exchange, found: &mut Vec<Violation>) {
        let essence = exchange.media_type();
        let Some(content) = response.content.iter().find(|content| content.matches(&essence)) else {
            let documented: Vec<&str> = response.content.iter().map(|content| content.media_type.as_str()).collect();
            let own =
                if essence.is_empty() { "no content type".to_owned() } else { format!("content type `{essence}`") };
            let message = format!(
                "{own} is not documented for status {}; documented: {}",
                exchange.status,
                documented.join(", ")
            );
            found.push(Violation { rule: "content-type", message });
            return;
        };
        let Some(schema) = content.schema.as_ref().filter(|_| content.is_json()) else { return };
        let body = |message| Violation { rule: "body", message };
        if !exchange.is_body_complete() {
            found.push(body("the body was not kept, so that it could not be validated".to_owned()));
            return;
        }
        let value = match serde_json::from_slice(&exchange.body) {
            Ok(value) => value,
            Err(error) => return found.push(body(format!("the body is not valid JSON: {error}"))),
        };
        match self.api.violations_in_words(schema, value) {
            Ok(violations) => found.extend(violations.into_iter().map(body)),
            Err(why) => found.push(body(format!("its schema cannot be used: {why}"))),
        }
    }
}

/// Whether two URLs have one server; a WebSocket begins as a request to that of its URL (RFC 6455 3).
fn is_same_server(one: &Url, other: &Url) -> bool {
    let scheme = |url: &Url| match url.scheme() {
        "ws" => "http".to_owned(),
        "wss" => "https".to_owned(),
        scheme => scheme.to_owned(),
    };
    let server = |url: &Url| (scheme(url), url.host().map(|host| host.to_owned()), url.port_or_known_default());
    server(one) == server(other)
}

/// A path below another one, with its `/`.
fn below<'p>(path: &'p str, prefix: &str) -> Option<&'p str> {
    let rest = path.strip_prefix(prefix.trim_end_matches('/'))?;
    (rest.is_empty() || rest.starts_with('/')).then_some(rest)
}

/// A text with another one in place of each placeholder.
fn with_stand_ins(text: &str) -> String {
    let (mut out, mut rest) = (String::new(), text);
    while let Some((before, after)) = rest.split_once("{{") {
        out.push_str(before);
        out.push_str("value");
        rest = scan::mark_end(after, 0).map_or("", |end| &after[end + 2..]);
    }
    out.push_str(rest);
    out
}
