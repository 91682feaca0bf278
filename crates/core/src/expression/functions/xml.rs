use super::{Evaluated, error, text};
use crate::expression::Value;
use cel::common::value::CowVal;
use sxd_xpath::{Context, Factory, Value as Found};

/// Elements inside each other that are taken: the library goes down into them by calling itself.
const DEEPEST: usize = 500;

/// What an XPath 1.0 expression gives of an XML text: of nodes the list of their texts. Prefixes are those
/// that the document's first element declares.
pub(super) fn xpath<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let (xml, path) = (text("xpath", &arguments, 0)?, text("xpath", &arguments, 1)?);
    if depth(xml) > DEEPEST {
        return Err(error("xpath", format!("more than {DEEPEST} elements stand inside each other")));
    }
    let trimmed = xml.trim_start_matches('\u{feff}').trim_start();
    let package =
        sxd_document::parser::parse(trimmed).map_err(|found| error("xpath", format!("this is not XML: {found}")))?;
    let document = package.as_document();
    let compiled =
        Factory::new().build(path).map_err(|found| error("xpath", format!("`{path}` is no XPath: {found}")))?;
    let compiled = compiled.ok_or_else(|| error("xpath", "the XPath is empty"))?;
    let mut context = Context::new();
    if let Some(root) = document.root().children().iter().find_map(|child| child.element()) {
        for namespace in root.namespaces_in_scope() {
            context.set_namespace(namespace.prefix(), namespace.uri());
        }
    }
    let found = compiled.evaluate(&context, document.root());
    let found = found.map_err(|found| error("xpath", format!("`{path}` cannot be worked out: {found}")))?;
    let value = match found {
        Found::Boolean(truth) => Value::from(truth),
        Found::Number(number) => Value::from(number),
        Found::String(text) => Value::text(text),
        Found::Nodeset(nodes) => {
            Value::list(nodes.document_order().iter().map(|node| Value::text(node.string_value())))
        }
    };
    Ok(CowVal::Owned(value.0.clone_as_boxed()))
}

/// How many elements stand inside each other at most, as far as it can be told without reading closely.
fn depth(xml: &str) -> usize {
    let (mut depth, mut deepest) = (0usize, 0);
    for (at, _) in xml.match_indices('<') {
        match xml.as_bytes().get(at + 1) {
            Some(b'/') => depth = depth.saturating_sub(1),
            Some(b'!' | b'?') => {}
            _ => {
                let closed = xml[at..].find('>').is_some_and(|end| xml[at..at + end].ends_with('/'));
                depth += usize::from(!closed);
                deepest = deepest.max(depth);
            }
        }
    }
    deepest
}
