//! Imports an OpenAPI description.

use super::operation::{ImportContext, Operation};
use super::schema::Schemas;
use super::security::{NeededValue, OauthProfile, Security};
use super::servers;
use crate::draft::ImportedRequest;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;
use thiserror::Error;
use yieldtray_description::{Documents, METHODS, Node, Samples, VersionError, is_v30};
use yieldtray_source::names::{first_free, slug};
use yieldtray_syntax::{ValueText, is_token};

/// Options of an import.
#[derive(Clone, Debug, Default)]
pub struct ImportOptions {
    /// One operation: its id, `GET /lots`, or its path.
    pub operation: Option<String>,
    /// True if responses are checked with schema files.
    pub schemas: bool,
}

/// The imported requests of a description.
#[derive(Debug, Default)]
pub struct ImportedApi {
    /// The request files.
    pub files: Vec<RequestFile>,
    /// Schemas: their paths from a request file, and what is in them.
    pub schemas: Vec<(String, String)>,
    /// Environments, with the URL that paths are joined to.
    pub environments: Vec<(String, String)>,
    /// Values that somebody must fill in.
    pub values: BTreeMap<String, NeededValue>,
    /// How tokens are got.
    pub profiles: BTreeMap<String, OauthProfile>,
    /// Parts that could not be imported.
    pub notes: Vec<String>,
}

/// The operations of one tag.
#[derive(Debug)]
pub struct RequestFile {
    /// Its name, without the end.
    pub name: String,
    /// The lines at its head.
    pub head: String,
    /// Its requests.
    pub drafts: Vec<ImportedRequest>,
}

/// Why no request files can be made of a description.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum DescriptionError {
    /// It is not OpenAPI 3.0 or 3.1.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// It has no operation of that name.
    #[error("no operation named `{name}`{}", did_you_mean(.closest.as_deref()))]
    UnknownOperation {
        /// The name.
        name: String,
        /// A name that is almost the same.
        closest: Option<String>,
    },
    /// It has webhooks and no operations.
    #[error("it describes only webhooks, which the server sends itself")]
    OnlyWebhooks,
    /// It has no operations.
    #[error("it describes no operations")]
    NoOperations,
}

fn did_you_mean(name: Option<&str>) -> String {
    name.map(|name| format!(": did you mean `{name}`?")).unwrap_or_default()
}

/// Makes request files of a description.
///
/// # Errors
/// If it is not OpenAPI 3.0 or 3.1, or has no such operation.
pub fn import(documents: &Documents, wish: &ImportOptions) -> Result<ImportedApi, DescriptionError> {
    let root = documents.root();
    let is_v30 = is_v30(root)?;
    let mut taken = ImportedApi { notes: documents.missing.clone(), ..ImportedApi::default() };
    taken.environments = servers::environments(root, &mut taken.notes);
    for (word, what) in [("webhooks", "webhooks")] {
        if root.value.get(word).is_some() {
            taken.notes.push(format!("its {what} are skipped"));
        }
    }
    let mut making = ImportContext {
        documents,
        samples: Samples::new(documents),
        schemas: Schemas::new(documents, is_v30),
        security: Security::new(documents),
        with_schemas: wish.schemas,
        base: taken.environments.first().map(|(_, address)| address.clone()).unwrap_or_default(),
    };
    let mut by_tag: FxHashMap<Option<&str>, usize> = FxHashMap::default();
    let mut tags: Vec<(Option<&str>, Vec<ImportedRequest>)> = Vec::new();
    for operation in operations(documents, root, &mut taken.notes) {
        if wish.operation.as_deref().is_some_and(|wanted| !operation.is_called(wanted)) {
            continue;
        }
        let (draft, notes) = operation.draft(&mut making);
        let title = format!("{} {}", operation.method.to_uppercase(), operation.path);
        taken.notes.extend(notes.into_iter().map(|note| format!("{title}: {note}")));
        let index = *by_tag.entry(operation.tag()).or_insert_with(|| {
            tags.push((operation.tag(), Vec::new()));
            tags.len() - 1
        });
        tags[index].1.push(draft);
    }
    if tags.is_empty() {
        return Err(match &wish.operation {
            Some(wanted) => DescriptionError::UnknownOperation {
                name: wanted.clone(),
                closest: closest(documents, root, wanted).map(str::to_owned),
            },
            None if root.value.get("webhooks").is_some() => DescriptionError::OnlyWebhooks,
            None => DescriptionError::NoOperations,
        });
    }
    let title = root.get("info").and_then(|info| info.text("title")).unwrap_or("requests");
    let mut names: Vec<String> = Vec::new();
    for (tag, mut drafts) in tags {
        let wanted = match slug(tag.unwrap_or(title)) {
            empty if empty.is_empty() => "requests".to_owned(),
            name => name,
        };
        let name = first_free(&wanted, "-", |name| !names.iter().any(|known| known == name));
        names.push(name.clone());
        let mut head = about(root, tag);
        head.push_str(&shared_credentials(&mut drafts));
        taken.files.push(RequestFile { name, head, drafts });
    }
    (taken.values, taken.profiles) = (making.security.values, making.security.profiles);
    taken.schemas = making.schemas.files();
    taken.notes.dedup();
    Ok(taken)
}

fn operations<'d>(documents: &'d Documents, root: Node<'d>, notes: &mut Vec<String>) -> Vec<Operation<'d>> {
    let mut operations = Vec::new();
    for (path, item) in root.get("paths").into_iter().flat_map(Node::members) {
        let Some(item) = documents.resolve(item) else {
            notes.push(format!("path `{path}` cannot be resolved"));
            continue;
        };
        for method in METHODS {
            if let Some(node) = item.get(method) {
                operations.push(Operation { path, item, method, node });
            }
        }
    }
    operations
}

fn closest<'d>(documents: &'d Documents, root: Node<'d>, wanted: &str) -> Option<&'d str> {
    let all = operations(documents, root, &mut Vec::new());
    let names = all.iter().filter_map(|operation| operation.node.text("operationId"));
    yieldtray_source::closest(wanted, names)
}

/// The description of a tag.
fn about(root: Node<'_>, tag: Option<&str>) -> String {
    let described = root.get("tags").into_iter().flat_map(Node::list).find(|own| own.text("name") == tag);
    let words = match tag {
        Some(tag) => described.and_then(|own| own.text("description")).unwrap_or(tag),
        None => root.get("info").and_then(|info| info.text("title")).unwrap_or_default(),
    };
    let mut text: String = words.trim().lines().map(crate::draft::comment).collect();
    crate::draft::without_secrets(&mut text);
    if text.is_empty() { text } else { text + "\n" }
}

/// Credentials that every request of a file has, as a line for all.
fn shared_credentials(drafts: &mut [ImportedRequest]) -> String {
    let Some(first) = drafts.first().filter(|_| drafts.len() > 1).cloned() else { return String::new() };
    let mut head = String::new();
    let written = |text: &ValueText| match text.pieces() {
        [yieldtray_syntax::ValuePiece::Value(expression)] => Some(format!("{{{{{expression}}}}}")),
        _ => text.plain().map(str::to_owned),
    };
    if let Some((kind, words)) = &first.auth
        && drafts.iter().all(|draft| draft.auth == first.auth)
    {
        let words: Option<Vec<String>> = words.iter().map(written).collect();
        head.push_str(&format!("% auth {kind} {}\n", words.unwrap_or_default().join(" ")));
        drafts.iter_mut().for_each(|draft| draft.auth = None);
    }
    for field in &first.headers {
        let name = field.0.plain().filter(|name| is_token(name));
        let (Some(name), Some(value)) = (name, written(&field.1)) else { continue };
        // Only what is a value of the workspace: one of a cell is seen there alone.
        let own = |draft: &ImportedRequest| {
            draft.lines.iter().any(|line| line.starts_with(&format!("% let {} ", value.trim_matches(['{', '}']))))
        };
        if value.starts_with("{{") && drafts.iter().all(|draft| draft.headers.contains(field) && !own(draft)) {
            head.push_str(&format!("% header {name}: {value}\n"));
            drafts.iter_mut().for_each(|draft| draft.headers.retain(|known| known != field));
        }
    }
    head
}
