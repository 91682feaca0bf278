//! Where the description of the API has what a request names.

use super::graphql_cursor::{Cursor, word_around};
use super::{IdeContext, cell_at};
use crate::described::Described;
use std::path::Path;
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::{LoadedApi, graphql_api_of, graphql_document};

/// A place in a file that is no request file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DescriptionPlace {
    /// The file, relative to the root.
    pub path: String,
    /// The text of the file.
    pub text: String,
    /// The name in it.
    pub span: Span,
}

/// Where the operation of a request line, or the field or type at a place of a GraphQL document, is described; `None` if
/// it is not, or the description is no file of the workspace.
pub fn described_definition(view: IdeContext<'_>, source: SourceId, offset: usize) -> Option<DescriptionPlace> {
    let workspace = view.workspace();
    let cell = cell_at(workspace, source, offset)?;
    let own = workspace.cell(cell);
    let touches = |span: Span| span.start() <= offset && offset <= span.end();
    let (api, found): (&LoadedApi, Vec<String>) = match graphql_document(workspace, cell) {
        Some(document) => {
            let document = document.ok()?;
            let at = document.offset_of(source, offset)?;
            let word = word_around(&document.text, at);
            let name = &document.text[word.clone()];
            let loaded = graphql_api_of(workspace, cell)?;
            let cursor = Cursor::read(loaded.api()?, &document.text, word.end);
            match cursor.field.filter(|(_, field)| field.name == name) {
                Some((owner, field)) => (loaded, vec![owner, field.name]),
                None => (loaded, vec![name.to_owned()]),
            }
        }
        None => {
            own.request.as_ref().filter(|line| touches(line.target) || line.method.is_some_and(touches))?;
            let described = Described::of(workspace, cell)?;
            let is_own = |api: &&LoadedApi| api.api().is_some_and(|api| std::ptr::eq(&**api, &**described.api));
            let loaded = workspace.apis().iter().find(is_own)?;
            let summary = &described.operation.summary;
            (loaded, vec![summary.path.clone(), summary.method.to_ascii_lowercase()])
        }
    };
    let path = api.file()?;
    let text = String::from_utf8(workspace.api_inputs().files.read_data(Path::new(path)).ok()?).ok()?;
    let span = match api.is_graphql {
        true => graphql_place(&text, &found)?,
        false => found.iter().try_fold(Span::empty(0), |before, key| key_after(&text, before.end(), key))?,
    };
    Some(DescriptionPlace { path: path.to_owned(), text, span })
}

/// The next key of this name in JSON or YAML.
fn key_after(text: &str, from: usize, key: &str) -> Option<Span> {
    text[from..].match_indices(key).map(|(at, _)| from + at).find_map(|at| {
        let (before, after) = (&text[..at], &text[at + key.len()..]);
        let quote = before.chars().next_back().filter(|c| matches!(c, '"' | '\''));
        let after = match quote {
            Some(quote) => after.strip_prefix(quote)?,
            // A key of YAML is the first word of its line.
            None => {
                let line = &before[before.rfind('\n').map_or(0, |end| end + 1)..];
                line.trim().is_empty().then_some(after)?
            }
        };
        after.trim_start().starts_with(':').then(|| Span::new(at, at + key.len()))
    })
}

/// A type, and a field of it, in the GraphQL language.
fn graphql_place(text: &str, names: &[String]) -> Option<Span> {
    const WORDS: &[&str] = &["type", "interface", "union", "enum", "input", "scalar"];
    let is_name = |rest: &str, name: &str| {
        rest.strip_prefix(name).is_some_and(|after| !after.starts_with(|c: char| c.is_alphanumeric() || c == '_'))
    };
    let mut at = 0;
    let mut owner: Option<Span> = None;
    for line in text.split_inclusive('\n') {
        let start = at;
        at += line.len();
        let trimmed = line.trim_start();
        let indent = line.len() - trimmed.len();
        match (&owner, names.get(1)) {
            (None, field) => {
                let word = WORDS.iter().find(|word| is_name(trimmed, word));
                let Some(rest) = word.map(|word| trimmed[word.len()..].trim_start()) else { continue };
                if is_name(rest, &names[0]) {
                    let begin = at - rest.len();
                    let span = Span::new(begin, begin + names[0].len());
                    if field.is_none() {
                        return Some(span);
                    }
                    owner = Some(span);
                }
            }
            (Some(owner), Some(field)) => {
                if is_name(trimmed, field) {
                    return Some(Span::new(start + indent, start + indent + field.len()));
                }
                if trimmed.starts_with('}') {
                    return Some(*owner);
                }
            }
            (Some(owner), None) => return Some(*owner),
        }
    }
    owner
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_and_fields_are_found_where_they_are_defined() {
        let json =
            "{ \"a\": \"/lots\", \"paths\": { \"/lots/{id}\": {}, \"/lots\" : { \"x\": \"get\", \"get\": {} } } }";
        let path = key_after(json, 0, "/lots").expect("a key");
        assert_eq!(&json[path.range()], "/lots");
        assert_eq!(key_after(json, path.end(), "get").map(|span| span.start()), json.rfind("get"));
        let yaml = "paths:\n  # /lots: none\n  /lots:\n    get:\n";
        assert_eq!(key_after(yaml, 0, "/lots").map(|span| span.start()), yaml.rfind("/lots"));
        let schema = "type Lots { id: ID! }\n\ntype Lot {\n  \"bins\"\n  binsize: Int\n  bins: Int!\n}\n";
        let names =
            |names: &[&str]| graphql_place(schema, &names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>());
        assert_eq!(names(&["Lot", "bins"]).map(|span| span.start()), schema.rfind("bins:"));
        assert_eq!(names(&["Lot"]).map(|span| span.start()), schema.rfind("Lot {"));
        assert_eq!(names(&["Pear"]), None);
    }
}
