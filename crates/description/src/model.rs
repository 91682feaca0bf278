//! What an API offers, as records that can be read one by one.

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What a description is about, and where its paths begin.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ApiInfo {
    /// The form of the description.
    pub kind: ApiKind,
    /// Its title.
    pub title: String,
    /// The version of the API that it states.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The paths of its servers' URLs, without a `/` at the end: what comes before its own paths.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub server_paths: Vec<String>,
    /// How many operations it has: of OpenAPI operations, of GraphQL the fields of the root types.
    pub operations: usize,
    /// Parts that could not be read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// The form of a description.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ApiKind {
    /// OpenAPI 3.0 or 3.1.
    #[default]
    OpenApi,
    /// A GraphQL schema.
    GraphQl,
}

impl ApiKind {
    /// Its name.
    pub fn as_str(self) -> &'static str {
        match self {
            ApiKind::OpenApi => "OpenAPI",
            ApiKind::GraphQl => "GraphQL",
        }
    }
}

/// An operation in a list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OperationSummary {
    /// The method, in upper case.
    pub method: String,
    /// The path, with its parameters in braces.
    pub path: String,
    /// The operation id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// A line about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// Whether it should no longer be used.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub deprecated: bool,
}

impl OperationSummary {
    /// `POST /lots`
    pub fn title(&self) -> String {
        format!("{} {}", self.method, self.path)
    }
}

/// One operation of OpenAPI, references followed. Schemas refer to definitions by `#/$defs/NAME`.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Operation {
    /// Its line in a list.
    #[serde(flatten)]
    pub summary: OperationSummary,
    /// Its description, in Markdown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// Its parameters, those of the path first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<Parameter>,
    /// The body that it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<RequestBody>,
    /// Its responses, in the order of the description.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub responses: Vec<Response>,
}

impl Operation {
    /// The response documented for a status: of the status itself, of its class, else the default one.
    pub fn response(&self, status: u16) -> Option<&Response> {
        let (exact, class) = (status.to_string(), format!("{}XX", status / 100));
        let by_name = |name: &str| self.responses.iter().find(|response| response.status.eq_ignore_ascii_case(name));
        by_name(&exact).or_else(|| by_name(&class)).or_else(|| by_name("default"))
    }

    /// The schemas of all its JSON responses.
    pub fn response_schemas(&self) -> Vec<Value> {
        let contents = self.responses.iter().flat_map(|response| &response.content);
        contents.filter(|content| content.is_json()).filter_map(|content| content.schema.clone()).collect()
    }

    /// The schemas of its JSON bodies.
    pub fn body_schemas(&self) -> Vec<Value> {
        let contents = self.body.iter().flat_map(|body| &body.content);
        contents.filter(|content| content.is_json()).filter_map(|content| content.schema.clone()).collect()
    }

    /// The response of success: the lowest status of the class 2, else the default one.
    pub fn success(&self) -> Option<&Response> {
        let good = self.responses.iter().filter(|response| response.status.starts_with('2'));
        good.min_by_key(|response| response.status.as_str())
            .or_else(|| self.responses.iter().find(|response| response.status == "default"))
    }
}

/// A parameter of an operation, or a header of a response.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// `path`, `query`, `header` or `cookie`.
    #[serde(rename = "in")]
    pub place: String,
    /// Whether it must be there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub required: bool,
    /// Whether it should no longer be used.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub deprecated: bool,
    /// What it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// The schema of its value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<Value>,
    /// A value that fits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub example: Option<Value>,
}

/// The body of a request.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RequestBody {
    /// Whether it must be there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub required: bool,
    /// What it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// What it may be, by media type.
    pub content: Vec<Content>,
}

impl RequestBody {
    /// The content to show first: JSON, if there is some.
    pub fn preferred_content(&self) -> Option<&Content> {
        self.content.iter().min_by_key(|content| !content.is_json())
    }
}

/// A documented response.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Response {
    /// A status, a class (`2XX`) or `default`.
    pub status: String,
    /// What it means.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Its header fields.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub headers: Vec<Parameter>,
    /// What its body may be, by media type.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub content: Vec<Content>,
}

/// A body of one media type.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Content {
    /// The media type; `*` stands for any.
    pub media_type: String,
    /// The schema of the body.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<Value>,
    /// A body that fits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub example: Option<Value>,
}

impl Content {
    /// Whether this is JSON (RFC 8259), or a format in it (RFC 6839 3.1).
    pub fn is_json(&self) -> bool {
        let essence = self.media_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        essence == "*/*" || essence == "application/*" || essence.ends_with("/json") || essence.ends_with("+json")
    }

    /// Whether a media type is one of these (RFC 9110 12.5.1), without parameters.
    pub fn matches(&self, essence: &str) -> bool {
        let own = self.media_type.split(';').next().unwrap_or_default().trim();
        match own.split_once('/') {
            Some(("*", "*")) => true,
            Some((kind, "*")) => essence.split_once('/').is_some_and(|(other, _)| other.eq_ignore_ascii_case(kind)),
            _ => own.eq_ignore_ascii_case(essence),
        }
    }
}

/// One level of an API: what is directly below a place.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Level {
    /// The operations at the place itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub operations: Vec<OperationSummary>,
    /// The places below it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub places: Vec<Place>,
}

/// A place below another one: a path, a tag or a type.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// A path, the name of a tag, a type, or a field as `Query.lots`.
    pub name: String,
    /// `path`, `tag`, `query`, `mutation`, `subscription`, `object`, `interface`, `union`, `enum`, `input` or `scalar`.
    pub kind: String,
    /// A line about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// The operations at the place itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub operations: Vec<OperationSummary>,
    /// How many operations (of a type: fields) there are at the place and below it.
    pub count: usize,
    /// Whether it should no longer be used.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub deprecated: bool,
}

/// A type of a GraphQL schema.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TypeRecord {
    /// Its name.
    pub name: String,
    /// `object`, `interface`, `union`, `enum`, `input` or `scalar`.
    pub kind: String,
    /// What it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Its fields.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fields: Vec<FieldRecord>,
    /// The values of an enum.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<EnumValueRecord>,
    /// The interfaces that it implements.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub interfaces: Vec<String>,
    /// The object types that a union or an interface can be.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub possible_types: Vec<String>,
}

/// A field of a GraphQL type.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FieldRecord {
    /// Its name.
    pub name: String,
    /// Its type, as GraphQL writes it: `[Lot!]!`.
    #[serde(rename = "type")]
    pub type_name: String,
    /// What it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Why it should no longer be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deprecated: Option<String>,
    /// Its arguments; of an input field, none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub arguments: Vec<ArgumentRecord>,
    /// The default value of an input field.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
}

/// An argument of a field.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ArgumentRecord {
    /// Its name.
    pub name: String,
    /// Its type.
    #[serde(rename = "type")]
    pub type_name: String,
    /// What it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Its default value, as GraphQL writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
}

/// A value of an enum.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EnumValueRecord {
    /// Its name.
    pub name: String,
    /// What it means.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Why it should no longer be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deprecated: Option<String>,
}

/// The type inside lists and `!`: `Lot` of `[Lot!]!`.
pub fn named_type(type_name: &str) -> &str {
    type_name.trim_matches(['[', ']', '!'])
}
