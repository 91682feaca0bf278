//! Renders templates.

use super::chain::Source;
use super::model::ModelBuilder;
use super::outline::ParameterizedRequest;
use super::quote;
use super::shape::Chunk;
use super::target::Target;
use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment, UndefinedBehavior};

/// A request to be handed over.
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

/// Requests in a language or format.
/// ¶
/// ¶ # Errors
/// ¶ If the target cannot express them, or the template fails.
pub fn write(target: &Target, requests: &[ExportedRequest<'_>]) -> Result<String, String> {
    let bytes = |chunk: &Chunk| !matches!(chunk, Chunk::Text(_));
    if target.name == "http" && requests.iter().any(|request| request.outline.shape.body.iter().any(bytes)) {
        return Err("this body is no text: hand it over as something else".to_owned());
    }
    let mut modeller = ModelBuilder::new(target.chains);
    let requests = requests.iter().map(|request| modeller.request(request)).collect();
    let model = modeller.finish(requests);
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    let syntax = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).keep_trailing_newline(true).build();
    environment.set_syntax(syntax.map_err(|error| error.to_string())?);
    environment.add_global("crlf", "\r\n");
    environment.add_global("version", env!("CARGO_PKG_VERSION"));
    quote::add_filters(&mut environment);
    let words = |error: minijinja::Error| format!("the template of `{}`: {error:#}", target.name);
    environment.add_template(target.name, target.template).map_err(words)?;
    environment.get_template(target.name).and_then(|template| template.render(Serde(&model))).map_err(words)
}
