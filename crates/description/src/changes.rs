//! What differs between two descriptions, and what of it breaks clients.

use crate::api::Api;
use crate::index::IndexError;
use crate::model::{ApiKind, Content, FieldRecord, Operation, OperationSummary, Parameter, TypeRecord};
use crate::schema_walk::SchemaMember;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

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
    let before = old.operations()?;
    let known: BTreeSet<String> = before.iter().map(OperationSummary::title).collect();
    for summary in &before {
        let Some(was) = old.operation(&summary.method, &summary.path)? else { continue };
        match new.operation(&summary.method, &summary.path)? {
            None => found.add(true, &summary.title(), "operation removed"),
            Some(now) => operation((old, &was), (new, &now), found),
        }
    }
    for title in new.operations()?.iter().map(OperationSummary::title).filter(|title| !known.contains(title)) {
        found.add(false, &title, "operation added");
    }
    Ok(())
}

fn operation((old, was): (&Api, &Operation), (new, now): (&Api, &Operation), found: &mut Changes) {
    let title = &was.summary.title();
    if now.summary.deprecated && !was.summary.deprecated {
        found.add(false, title, "deprecated");
    }
    values(&parameters(old, &was.parameters), &parameters(new, &now.parameters), Direction::Sent, title, found);
    match (&was.body, &now.body) {
        (None, Some(body)) => {
            found.add(body.required, title, if body.required { "required body added" } else { "body added" })
        }
        (Some(_), None) => found.add(true, title, "body removed"),
        (Some(before), Some(after)) => {
            if after.required && !before.required {
                found.add(true, title, "body became required");
            }
            contents((old, &before.content), (new, &after.content), "request", Direction::Sent, title, found);
        }
        (None, None) => {}
    }
    for response in &was.responses {
        let status = &response.status;
        match now.responses.iter().find(|own| own.status == *status) {
            None => found.add(status.starts_with('2'), title, format!("response {status} removed")),
            Some(after) => {
                let place = format!("response {status}:");
                contents((old, &response.content), (new, &after.content), &place, Direction::Received, title, found);
            }
        }
    }
    for response in &now.responses {
        if !was.responses.iter().any(|own| own.status == response.status) {
            found.add(false, title, format!("response {} added", response.status));
        }
    }
}

/// Which way a value goes. It decides what breaks a client: a server that wants more, or one that gives less.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Direction {
    Sent,
    Received,
}

/// Values by what they are called in a message.
type Values = BTreeMap<String, SchemaMember>;

fn parameters(api: &Api, all: &[Parameter]) -> Values {
    let named = all.iter().map(|own| {
        let name = format!("{} parameter `{}`", own.place, own.name);
        (name.clone(), api.value_of(name, own.schema.as_ref(), own.required))
    });
    named.collect()
}

fn members(api: &Api, schema: Option<&Value>, place: &str) -> Values {
    let all = schema.map(|schema| api.members(schema)).unwrap_or_default();
    all.into_iter().map(|own| (format!("{place} member `{}`", own.path), own)).collect()
}

fn contents(
    (old, was): (&Api, &[Content]),
    (new, now): (&Api, &[Content]),
    place: &str,
    direction: Direction,
    title: &str,
    found: &mut Changes,
) {
    for content in was {
        match now.iter().find(|own| own.media_type == content.media_type) {
            None => found.add(true, title, format!("{place} content type {} removed", content.media_type)),
            Some(own) => {
                let before = members(old, content.schema.as_ref(), place);
                values(&before, &members(new, own.schema.as_ref(), place), direction, title, found);
            }
        }
    }
}

fn values(was: &Values, now: &Values, direction: Direction, title: &str, found: &mut Changes) {
    for (name, old) in was {
        let Some(new) = now.get(name) else {
            found.add(true, title, format!("{name} removed"));
            continue;
        };
        if old.type_words != new.type_words && !old.type_words.is_empty() {
            let type_words = if new.type_words.is_empty() { "any type" } else { &new.type_words };
            found.add(true, title, format!("{name}: type {} became {type_words}", old.type_words));
        }
        // One that lists no values allows all of them.
        let only_in = |one: &SchemaMember, other: &SchemaMember| {
            let missing = one.choices.iter().filter(|own| !other.choices.is_empty() && !other.choices.contains(own));
            missing.cloned().collect::<Vec<_>>()
        };
        match direction {
            Direction::Sent => {
                if new.required && !old.required {
                    found.add(true, title, format!("{name} became required"));
                }
                for choice in only_in(old, new) {
                    found.add(true, title, format!("{name} no longer allows {choice}"));
                }
            }
            Direction::Received => {
                if old.required && !new.required {
                    found.add(true, title, format!("{name} became optional"));
                }
                for choice in only_in(new, old) {
                    found.add(false, title, format!("{name} may be {choice}"));
                }
            }
        }
    }
    for (name, new) in now.iter().filter(|(name, _)| !was.contains_key(*name)) {
        let breaks = direction == Direction::Sent && new.required;
        found.add(breaks, title, format!("{}{name} added", if breaks { "required " } else { "" }));
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
