//! The input of a template: a request and the values that later ones take from its response.

use super::json_path::Source;
use super::outline::ParameterizedRequest;

/// A request to be exported.
#[derive(Clone, Debug)]
pub struct ExportedRequest<'o> {
    /// The name of its cell.
    pub name: &'o str,
    /// Its title.
    pub title: &'o str,
    /// The request with its variables.
    pub outline: &'o ParameterizedRequest,
    /// The values that later requests take from its response.
    pub yields: Vec<ResponseValue>,
}

/// A value taken from a response.
#[derive(Clone, Debug)]
pub struct ResponseValue {
    /// The name it gets.
    pub name: String,
    /// The expression.
    pub expression: String,
    /// Where it is taken from, if every language can say that.
    pub source: Option<Source>,
}
