//! Renders templates.

use super::exported_request::ExportedRequest;
use super::model::ModelBuilder;
use super::quote;
use super::shape::Chunk;
use super::target::Target;
use minijinja::syntax::SyntaxConfig;
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment, UndefinedBehavior};
use thiserror::Error;

/// Why requests cannot be written in a language or format.
#[derive(Debug, Error)]
pub enum SnippetError {
    /// The format has text bodies only.
    #[error("this body is binary: choose another target")]
    BinaryBody,
    /// The syntax of the templates is not valid.
    #[error(transparent)]
    Syntax(#[from] minijinja::Error),
    /// The template of the target fails.
    #[error("the template of `{target}`: {error:#}")]
    Render {
        /// The name of the target.
        target: &'static str,
        /// The error of the template engine.
        error: minijinja::Error,
    },
}

/// Requests in a language or format.
///
/// # Errors
/// If the target cannot express them, or the template fails.
pub fn write(target: &Target, requests: &[ExportedRequest<'_>]) -> Result<String, SnippetError> {
    let bytes = |chunk: &Chunk| !matches!(chunk, Chunk::Text(_));
    if target.name == "http" && requests.iter().any(|request| request.outline.shape.body.iter().any(bytes)) {
        return Err(SnippetError::BinaryBody);
    }
    let mut modeller = ModelBuilder::new(target.chains);
    let requests = requests.iter().map(|request| modeller.request(request)).collect();
    let model = modeller.finish(requests);
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    let syntax = SyntaxConfig::builder().trim_blocks(true).lstrip_blocks(true).keep_trailing_newline(true).build();
    environment.set_syntax(syntax?);
    environment.add_global("crlf", "\r\n");
    environment.add_global("version", env!("CARGO_PKG_VERSION"));
    quote::add_filters(&mut environment);
    let failed = |error| SnippetError::Render { target: target.name, error };
    environment.add_template(target.name, target.template).map_err(failed)?;
    environment.get_template(target.name).and_then(|template| template.render(Serde(&model))).map_err(failed)
}
