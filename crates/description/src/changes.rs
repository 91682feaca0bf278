//! What differs between two descriptions, and what of it breaks clients.

use crate::api::Api;
use crate::index::IndexError;
use crate::model::{ApiKind, FieldRecord, Operation, Parameter, TypeRecord};
use crate::schema_walk::SchemaMember;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// A difference between an old and a new description.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// Whether a client that worked with the old one may fail with the new one.
    pub breaking: bool,
    /// What changed: an operation, a type or a field.
    pub subject: String,
    /// How.
    pub message: String,
}

/// The differences, by what they are about.
///
/// # Errors
/// If an index cannot be read.
pub fn changes(old: &Api, new: &Api) -> Result<Vec<Change>, IndexError> {
    let mut found = Changes::default();
    if old.info().kind != new.info().kind {
        let message = format!("{} became {}", old.info().kind.as_str(), new.info().kind.as_str());
        found.add(true, "the description", message);
        return Ok(found.0);
    }
    match old.info().kind {
        ApiKind::OpenApi => openapi(old, new, &mut found)?,
        ApiKind::GraphQl => graphql(old, new, &mut found)?,
    }
    Ok(found.0)
}

#[derive(Default)]
struct Changes(Vec<Change>);

impl Changes {
    fn add(&mut self, breaking: bool, subject: &str, message: impl Into<String>) {
        self.0.push(Change { breaking, subject: subject.to_owned(), message: message.into() });
    }
}

fn openapi(old: &Api, new: &Api, found: &mut Changes) -> Result<(), IndexError> {
    let after = new.operations()?;
    let before = old.operations()?;
    for summary in &before {
        let title = summary.title();
        let Some(was) = old.operation(&summary.method, &summary.path)? else { continue };
        match new.operation(&summary.method, &summary.path)? {
            None => found.add(true, &title, "operation removed"),
            Some(now) => operation((old, &was), (new, &now), found),
        }
    }
    for summary in after {
        if !before.iter().any(|own| own.method == summary.method && own.path == summary.path) {
            found.add(false, &summary.title(), "operation added");
        }
    }
    Ok(())
}

fn operation((old, was): (&Api, &Operation), (new, now): (&Api, &Operation), found: &mut Changes) {
    let title = was.summary.title();
    if now.summary.deprecated && !was.summary.deprecated {
        found.add(false, &title, "deprecated");
    }
    parameters(&was.parameters, &now.parameters, &title, found);
    match (&was.body, &now.body) {
        (None, Some(body)) => {
            found.add(body.required, &title, if body.required { "required body added" } else { "body added" })
        }
        (Some(_), None) => found.add(true, &title, "body removed"),
        (Some(before), Some(after)) => {
            if after.required && !before.required {
                found.add(true, &title, "body became required");
            }
            for content in &before.content {
                match after.content.iter().find(|own| own.media_type == content.media_type) {
                    None => found.add(true, &title, format!("request content type {} removed", content.media_type)),
                    Some(own) => {
                        let (before, after) =
                            (members(old, content.schema.as_ref()), members(new, own.schema.as_ref()));
                        sent_members(&before, &after, &title, found);
                    }
                }
            }
        }
        (None, None) => {}
    }
    for response in &was.responses {
        let status = &response.status;
        let Some(after) = now.responses.iter().find(|own| own.status == *status) else {
            found.add(status.starts_with('2'), &title, format!("response {status} removed"));
            continue;
        };
        for content in &response.content {
            match after.content.iter().find(|own| own.media_type == content.media_type) {
                None => {
                    found.add(true, &title, format!("response {status}: content type {} removed", content.media_type))
                }
                Some(own) => {
                    let (before, after) = (members(old, content.schema.as_ref()), members(new, own.schema.as_ref()));
                    received_members(&before, &after, &format!("response {status}"), &title, found);
                }
            }
        }
    }
    for response in &now.responses {
        if !was.responses.iter().any(|own| own.status == response.status) {
            found.add(false, &title, format!("response {} added", response.status));
        }
    }
}

fn members(api: &Api, schema: Option<&Value>) -> BTreeMap<String, SchemaMember> {
    schema
        .map(|schema| api.members(schema))
        .unwrap_or_default()
        .into_iter()
        .map(|own| (own.path.clone(), own))
        .collect()
}

fn parameters(was: &[Parameter], now: &[Parameter], title: &str, found: &mut Changes) {
    let same = |a: &Parameter, b: &Parameter| a.name == b.name && a.place == b.place;
    let kind = |parameter: &Parameter| {
        let schema = parameter.schema.as_ref();
        schema.and_then(|schema| schema.get("type")).map(|own| own.to_string().replace('"', "")).unwrap_or_default()
    };
    for old in was {
        let words = format!("{} parameter `{}`", old.place, old.name);
        match now.iter().find(|own| same(own, old)) {
            None => found.add(true, title, format!("{words} removed")),
            Some(new) => {
                if new.required && !old.required {
                    found.add(true, title, format!("{words} became required"));
                }
                if kind(new) != kind(old) && !kind(old).is_empty() {
                    found.add(true, title, format!("{words}: type {} became {}", kind(old), kind(new)));
                }
            }
        }
    }
    for new in now.iter().filter(|new| !was.iter().any(|old| same(old, new))) {
        let required = if new.required { "required " } else { "" };
        found.add(new.required, title, format!("{required}{} parameter `{}` added", new.place, new.name));
    }
}

/// Members of a request: what is needed in addition breaks, and what is no longer accepted.
fn sent_members(
    was: &BTreeMap<String, SchemaMember>,
    now: &BTreeMap<String, SchemaMember>,
    title: &str,
    found: &mut Changes,
) {
    for (path, old) in was {
        match now.get(path) {
            None => found.add(true, title, format!("request member `{path}` removed")),
            Some(new) => {
                if new.required && !old.required {
                    found.add(true, title, format!("request member `{path}` became required"));
                }
                types(old, new, &format!("request member `{path}`"), title, found);
                for choice in old.choices.iter().filter(|own| !new.choices.is_empty() && !new.choices.contains(own)) {
                    found.add(true, title, format!("request member `{path}` no longer allows {choice}"));
                }
            }
        }
    }
    for (path, new) in now.iter().filter(|(path, _)| !was.contains_key(*path)) {
        let required = if new.required { "required " } else { "" };
        found.add(new.required, title, format!("{required}request member `{path}` added"));
    }
}

/// Members of a response: what a client may read and is no longer there breaks.
fn received_members(
    was: &BTreeMap<String, SchemaMember>,
    now: &BTreeMap<String, SchemaMember>,
    place: &str,
    title: &str,
    found: &mut Changes,
) {
    for (path, old) in was {
        match now.get(path) {
            None => found.add(true, title, format!("{place}: member `{path}` removed")),
            Some(new) => {
                if old.required && !new.required {
                    found.add(true, title, format!("{place}: member `{path}` became optional"));
                }
                types(old, new, &format!("{place}: member `{path}`"), title, found);
                for choice in new.choices.iter().filter(|own| !old.choices.is_empty() && !old.choices.contains(own)) {
                    found.add(false, title, format!("{place}: member `{path}` may be {choice}"));
                }
            }
        }
    }
    for path in now.keys().filter(|path| !was.contains_key(*path)) {
        found.add(false, title, format!("{place}: member `{path}` added"));
    }
}

fn types(old: &SchemaMember, new: &SchemaMember, words: &str, title: &str, found: &mut Changes) {
    if old.type_words != new.type_words && !old.type_words.is_empty() {
        let now = if new.type_words.is_empty() { "any type" } else { &new.type_words };
        found.add(true, title, format!("{words}: type {} became {now}", old.type_words));
    }
}

fn graphql(old: &Api, new: &Api, found: &mut Changes) -> Result<(), IndexError> {
    let names = |api: &Api| -> Result<Vec<String>, IndexError> {
        Ok(api.level(None)?.unwrap_or_default().places.into_iter().map(|place| place.name).collect())
    };
    let (before, after) = (names(old)?, names(new)?);
    for name in &before {
        let Some(was) = old.type_named(name)? else { continue };
        match new.type_named(name)? {
            None => found.add(true, name, "type removed"),
            Some(now) => graphql_type(&was, &now, found),
        }
    }
    for name in after.iter().filter(|name| !before.contains(name)) {
        found.add(false, name, "type added");
    }
    Ok(())
}

fn graphql_type(was: &TypeRecord, now: &TypeRecord, found: &mut Changes) {
    if was.kind != now.kind {
        return found.add(true, &was.name, format!("{} became {}", was.kind, now.kind));
    }
    let is_input = was.kind == "input";
    for old in &was.fields {
        let subject = format!("{}.{}", was.name, old.name);
        match now.fields.iter().find(|own| own.name == old.name) {
            None => found.add(true, &subject, "field removed"),
            Some(new) => graphql_field(old, new, is_input, &subject, found),
        }
    }
    for new in now.fields.iter().filter(|new| !was.fields.iter().any(|old| old.name == new.name)) {
        let required = is_input && new.type_name.ends_with('!') && new.default.is_none();
        found.add(
            required,
            &format!("{}.{}", was.name, new.name),
            if required { "required field added" } else { "field added" },
        );
    }
    for value in was.values.iter().filter(|old| !now.values.iter().any(|new| new.name == old.name)) {
        found.add(true, &was.name, format!("value `{}` removed", value.name));
    }
    for value in now.values.iter().filter(|new| !was.values.iter().any(|old| old.name == new.name)) {
        found.add(false, &was.name, format!("value `{}` added", value.name));
    }
    for name in was.possible_types.iter().filter(|name| !now.possible_types.contains(name)) {
        found.add(true, &was.name, format!("is no longer `{name}`"));
    }
    for name in now.possible_types.iter().filter(|name| !was.possible_types.contains(name)) {
        found.add(false, &was.name, format!("may be `{name}`"));
    }
}

fn graphql_field(old: &FieldRecord, new: &FieldRecord, is_input: bool, subject: &str, found: &mut Changes) {
    if old.type_name != new.type_name {
        // A result that is never null any more, and an input that may be, break nobody.
        let safe = match is_input {
            false => new.type_name == format!("{}!", old.type_name),
            true => old.type_name == format!("{}!", new.type_name),
        };
        found.add(!safe, subject, format!("type {} became {}", old.type_name, new.type_name));
    }
    if new.deprecated.is_some() && old.deprecated.is_none() {
        found.add(false, subject, "deprecated");
    }
    for was in &old.arguments {
        match new.arguments.iter().find(|own| own.name == was.name) {
            None => found.add(true, subject, format!("argument `{}` removed", was.name)),
            Some(now) if now.type_name != was.type_name => {
                let safe = was.type_name == format!("{}!", now.type_name);
                found.add(
                    !safe,
                    subject,
                    format!("argument `{}`: type {} became {}", was.name, was.type_name, now.type_name),
                );
            }
            Some(_) => {}
        }
    }
    for now in new.arguments.iter().filter(|now| !old.arguments.iter().any(|was| was.name == now.name)) {
        let required = now.type_name.ends_with('!') && now.default.is_none();
        let words = if required { "required argument" } else { "argument" };
        found.add(required, subject, format!("{words} `{}` added", now.name));
    }
}
