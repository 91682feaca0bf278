//! The mutations that are tried on a response, and their descriptions.

use crate::prove::other_value::has_other_value;
use std::time::Duration;
use yieldtray_http::Exchange;
use yieldtray_http::body_shape::{BodyShape, FieldAt, FieldPath};

/// One change of a response.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mutation {
    /// It has this status, and all else as it was.
    Status(u16),
    /// It has no body.
    EmptyBody,
    /// Its body is not JSON any more.
    NotJson,
    /// Its body, which is not JSON, is another text.
    OtherBody,
    /// The list that its body is has no members.
    EmptyList,
    /// A field of its JSON object is altered, or that of each object in its list.
    Field {
        /// Where the field is.
        path: FieldPath,
        /// How.
        how: Field,
    },
    /// It has another media type.
    ContentType,
    /// This header field is removed.
    Header(String),
    /// It takes this long.
    Slow(Duration),
}

/// How a field is altered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    /// It is not there.
    Missing,
    /// It is null.
    Null,
    /// Its value is of another type.
    OtherType,
    /// It is a list without members.
    Empty,
    /// It has another value of its type.
    OtherValue,
}

/// Header fields that belong to the connection or the server, not to what the API promises.
const OF_THE_LINE: &[&str] = &[
    "age",
    "alt-svc",
    "connection",
    "content-encoding",
    "content-length",
    "content-type",
    "date",
    "keep-alive",
    "server",
    "strict-transport-security",
    "transfer-encoding",
    "vary",
    "via",
];

/// The mutations that are tried on a response, the most important first.
pub fn mutations(exchange: &Exchange, outline: &BodyShape<'_>, fields: &[FieldAt<'_>]) -> Vec<Mutation> {
    let mut all = Vec::new();
    let statuses = match exchange.status {
        400..500 => [200, 500],
        500.. => [200, 404],
        _ => [404, 500],
    };
    all.extend(statuses.map(Mutation::Status));
    match outline {
        BodyShape::Nothing => {}
        BodyShape::Object(_) | BodyShape::Json => all.extend([Mutation::EmptyBody, Mutation::NotJson]),
        BodyShape::List(members) => {
            all.extend([Mutation::EmptyBody, Mutation::NotJson]);
            if !members.is_empty() {
                all.push(Mutation::EmptyList);
            }
        }
        BodyShape::Other => all.extend([Mutation::EmptyBody, Mutation::OtherBody]),
    }
    for how in [Field::Missing, Field::Null, Field::OtherType, Field::Empty, Field::OtherValue] {
        for FieldAt { path, value, .. } in fields {
            let text = value.get();
            let applies = match how {
                Field::Null => text != "null",
                Field::OtherValue => has_other_value(text),
                Field::Empty => text.starts_with('[') && !text[1..].trim_start().starts_with(']'),
                Field::Missing | Field::OtherType => true,
            };
            if applies {
                all.push(Mutation::Field { path: path.clone(), how });
            }
        }
    }
    let mut names: Vec<String> = exchange.headers.iter().map(|(name, _)| name.to_ascii_lowercase()).collect();
    if names.iter().any(|name| name == "content-type") {
        all.push(Mutation::ContentType);
    }
    names.retain(|name| !OF_THE_LINE.contains(&name.as_str()));
    names.sort_unstable();
    names.dedup();
    all.extend(names.into_iter().map(Mutation::Header));
    // A response slower than the timeout would not arrive at all.
    all.push(Mutation::Slow(exchange.sent.sending.timeout));
    all
}

impl Mutation {
    /// A stable word for data output.
    pub fn as_str(&self) -> &'static str {
        match self {
            Mutation::Status(_) => "status",
            Mutation::EmptyBody => "empty-body",
            Mutation::NotJson => "not-json",
            Mutation::OtherBody => "other-body",
            Mutation::EmptyList => "empty-list",
            Mutation::Field { how, .. } => match how {
                Field::Missing => "field-missing",
                Field::Null => "field-null",
                Field::OtherType => "field-of-another-type",
                Field::Empty => "field-empty",
                Field::OtherValue => "field-changed",
            },
            Mutation::ContentType => "content-type",
            Mutation::Header(_) => "header-missing",
            Mutation::Slow(_) => "slow",
        }
    }

    /// The part that is changed, where the kind alone does not say: a status, a field, a header field, seconds.
    pub fn subject(&self) -> Option<String> {
        match self {
            Mutation::Status(status) => Some(status.to_string()),
            Mutation::Field { path, .. } => Some(path.shown()),
            Mutation::Header(name) => Some(name.clone()),
            Mutation::Slow(time) => Some(time.as_secs_f64().to_string()),
            Mutation::EmptyBody
            | Mutation::NotJson
            | Mutation::OtherBody
            | Mutation::EmptyList
            | Mutation::ContentType => None,
        }
    }
}

/// Changes in plain words, those that are alike in one: each goes on after "undetected".
pub fn describe(mutations: &[Mutation]) -> Vec<String> {
    let mut lines = Vec::new();
    let statuses: Vec<String> = mutations
        .iter()
        .filter_map(|change| match change {
            Mutation::Status(status) => Some(status.to_string()),
            _ => None,
        })
        .collect();
    if !statuses.is_empty() {
        lines.push(format!("the status is {}", statuses.join(" or ")));
    }
    let has = |change: &Mutation| mutations.contains(change);
    match (has(&Mutation::EmptyBody), has(&Mutation::NotJson), has(&Mutation::OtherBody)) {
        (true, true, _) => lines.push("the body is empty or not JSON".to_owned()),
        (true, _, true) => lines.push("the body is empty or different text".to_owned()),
        (true, ..) => lines.push("the body is empty".to_owned()),
        (_, true, _) => lines.push("the body is not JSON".to_owned()),
        (.., true) => lines.push("the body is different text".to_owned()),
        _ => {}
    }
    if has(&Mutation::EmptyList) {
        lines.push("the list is empty".to_owned());
    }
    lines.extend(describe_field(mutations));
    if has(&Mutation::ContentType) {
        lines.push("the content type changes".to_owned());
    }
    let headers: Vec<&String> = mutations
        .iter()
        .filter_map(|change| match change {
            Mutation::Header(name) => Some(name),
            _ => None,
        })
        .collect();
    if !headers.is_empty() {
        let names: Vec<String> = headers.iter().map(|name| format!("`{name}`")).collect();
        lines.push(format!("the header {} is missing", or(&names)));
    }
    for change in mutations {
        if let Mutation::Slow(time) = change {
            lines.push(format!("it takes {} s", time.as_secs_f64()));
        }
    }
    lines
}

/// Fields with the same mutation share a line.
fn describe_field(mutations: &[Mutation]) -> Vec<String> {
    let mut fields: Vec<(&FieldPath, Vec<Field>)> = Vec::new();
    for change in mutations {
        let Mutation::Field { path, how } = change else { continue };
        match fields.iter_mut().find(|(known, ..)| *known == path) {
            Some((.., hows)) => hows.push(*how),
            None => fields.push((path, vec![*how])),
        }
    }
    let mut groups: Vec<(Vec<Field>, bool, Vec<&FieldPath>)> = Vec::new();
    for (path, hows) in fields {
        let of_each = path.of_each();
        match groups.iter_mut().find(|(known, each, _)| *known == hows && *each == of_each) {
            Some((.., paths)) => paths.push(path),
            None => groups.push((hows, of_each, vec![path])),
        }
    }
    let line = |(hows, of_each, paths): (Vec<Field>, bool, Vec<&FieldPath>)| {
        let names = or(&field_names(&paths));
        let of = if of_each { " of each member" } else { "" };
        if hows == [Field::OtherValue] {
            return format!("{names}{of} changes");
        }
        let how = hows.iter().map(|how| match how {
            Field::Missing => "missing",
            Field::Null => "null",
            Field::OtherType => "of another type",
            Field::Empty => "empty",
            Field::OtherValue => "changed",
        });
        format!("{names}{of} is {}", or(&how.map(str::to_owned).collect::<Vec<_>>()))
    };
    groups.into_iter().map(line).collect()
}

/// Fields of one inner object that are named one by one.
const MAX_NAMED_MUTATIONS: usize = 3;

/// The fields by their paths; many of one inner object are grouped.
fn field_names(paths: &[&FieldPath]) -> Vec<String> {
    let mut parents: Vec<(String, Vec<&FieldPath>)> = Vec::new();
    for path in paths {
        let parent = path.shown_parent();
        match parents.iter_mut().find(|(known, _)| *known == parent) {
            Some((_, fields)) => fields.push(path),
            None => parents.push((parent, vec![path])),
        }
    }
    let mut names = Vec::new();
    for (parent, fields) in parents {
        match parent.is_empty() || fields.len() <= MAX_NAMED_MUTATIONS {
            true => names.extend(fields.iter().map(|path| format!("`{}`", path.shown()))),
            false => names.push(format!("any of {} fields of `{parent}`", fields.len())),
        }
    }
    names
}

fn or(terms: &[String]) -> String {
    match terms.split_last() {
        Some((last, rest)) if !rest.is_empty() => format!("{} or {last}", rest.join(", ")),
        _ => terms.concat(),
    }
}
