//! Answers: JSON, and problems as `application/problem+json` (RFC 9457).

use axum::body::{Body, Bytes};
use axum::http::{HeaderMap, Response, StatusCode, Uri, header};
use axum::response::IntoResponse;
use serde_json::{Map, Value, json};

/// A JSON response.
pub(crate) fn json_answer(status: StatusCode, value: &Value) -> Response<Body> {
    (status, [(header::CONTENT_TYPE, "application/json")], value.to_string()).into_response()
}

/// A description of the error.
#[derive(Debug)]
pub(crate) struct Problem {
    pub(crate) status: StatusCode,
    pub(crate) title: &'static str,
    pub(crate) detail: String,
    /// Field errors: name and reason.
    pub(crate) errors: Vec<(String, String)>,
}

impl Problem {
    pub(crate) fn new(status: StatusCode, title: &'static str, detail: impl Into<String>) -> Self {
        Self { status, title, detail: detail.into(), errors: Vec::new() }
    }

    /// Fields that are not as they must be.
    pub(crate) fn fields(errors: Vec<(String, String)>) -> Self {
        let detail = format!("{} of the fields cannot be taken", errors.len());
        Self { errors, ..Self::new(StatusCode::UNPROCESSABLE_ENTITY, "the fields do not fit", detail) }
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response<Body> {
        let mut problem = json!({
            "type": "about:blank",
            "title": self.title,
            "status": self.status.as_u16(),
            "detail": self.detail,
        });
        if !self.errors.is_empty() {
            let errors: Vec<Value> =
                self.errors.iter().map(|(field, reason)| json!({ "field": field, "reason": reason })).collect();
            problem["errors"] = errors.into();
        }
        let content = [(header::CONTENT_TYPE, "application/problem+json")];
        let mut answer = (self.status, content, problem.to_string()).into_response();
        if self.status == StatusCode::UNAUTHORIZED {
            answer.headers_mut().insert(header::WWW_AUTHENTICATE, header::HeaderValue::from_static("Bearer"));
        }
        answer
    }
}

pub(crate) async fn no_such_path(uri: Uri) -> Problem {
    Problem::new(StatusCode::NOT_FOUND, "no such path", format!("nothing is served at {}", uri.path()))
}

pub(crate) async fn no_such_method(uri: Uri) -> Problem {
    let detail = format!("{} does not take this method", uri.path());
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, "no such method", detail)
}

/// The body as a JSON object; anything else is a problem.
pub(crate) fn object(headers: &HeaderMap, body: &Bytes) -> Result<Map<String, Value>, Problem> {
    let media = headers.get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let media = media.split(';').next().unwrap_or_default().trim();
    if !media.eq_ignore_ascii_case("application/json") {
        let detail =
            if media.is_empty() { "there is no Content-Type".to_owned() } else { format!("`{media}` is not taken") };
        return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "application/json is wanted", detail));
    }
    match serde_json::from_slice(body) {
        Ok(Value::Object(object)) => Ok(object),
        Ok(_) => Err(Problem::new(StatusCode::BAD_REQUEST, "an object is wanted", "the body is JSON, but no object")),
        Err(error) => Err(Problem::new(StatusCode::BAD_REQUEST, "the body is not JSON", error.to_string())),
    }
}

/// Reads the fields of an object and notes what is wrong with them.
pub(crate) struct Fields {
    object: Map<String, Value>,
    errors: Vec<(String, String)>,
}

impl Fields {
    pub(crate) fn new(object: Map<String, Value>) -> Self {
        Self { object, errors: Vec::new() }
    }

    pub(crate) fn wrong(&mut self, field: &str, reason: impl Into<String>) {
        self.errors.push((field.to_owned(), reason.into()));
    }

    /// A text of 1 to 80 characters; `None` where it is not there.
    pub(crate) fn text(&mut self, field: &str) -> Option<String> {
        match self.object.remove(field)? {
            Value::String(text) if (1..=80).contains(&text.chars().count()) => Some(text),
            Value::String(_) => {
                self.wrong(field, "must have 1 to 80 characters");
                None
            }
            _ => {
                self.wrong(field, "must be text");
                None
            }
        }
    }

    /// A number within a range; `None` where it is not there.
    pub(crate) fn number(&mut self, field: &str, low: f64, high: f64, whole: bool) -> Option<f64> {
        let value = self.object.remove(field)?;
        let kind = if whole { "a whole number" } else { "a number" };
        match value.as_f64() {
            Some(number) if (low..=high).contains(&number) && (!whole || number.fract() == 0.0) => Some(number),
            _ => {
                self.wrong(field, format!("must be {kind} from {low} to {high}"));
                None
            }
        }
    }

    pub(crate) fn need<T>(&mut self, field: &str, value: &Option<T>) {
        if value.is_none() && !self.errors.iter().any(|(known, _)| known == field) {
            self.wrong(field, "is missing");
        }
    }

    /// Done: fields nobody asked for are wrong too.
    pub(crate) fn finish(mut self) -> Result<(), Problem> {
        let unknown: Vec<String> = self.object.keys().cloned().collect();
        for field in unknown {
            self.wrong(&field, "is not known");
        }
        if self.errors.is_empty() { Ok(()) } else { Err(Problem::fields(self.errors)) }
    }
}
