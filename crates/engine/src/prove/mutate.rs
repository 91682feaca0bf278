//! Makes mutants of a response.

use crate::prove::mutation::{Field, Mutation};
use crate::prove::other_value::other_value;
use bytes::Bytes;
use serde_json::Value;
use serde_json::value::RawValue;
use std::fmt::Write;
use std::time::Duration;
use yieldtray_http::Exchange;
use yieldtray_http::body_shape::{BodyShape, Member, Members, Segment};

/// A copy of a response with one mutation.
pub fn mutate(exchange: &Exchange, outline: &BodyShape<'_>, change: &Mutation) -> Exchange {
    let mut copy = exchange.clone();
    let mut body = |text: String| {
        copy.size = text.len() as u64;
        copy.body = Bytes::from(text);
    };
    match change {
        Mutation::Status(status) => {
            copy.status = *status;
            let known = [(200, "OK"), (404, "Not Found"), (500, "Internal Server Error")];
            let reason = known.iter().find(|(known, _)| known == status);
            copy.reason = reason.map_or("", |(_, reason)| reason).to_owned();
        }
        Mutation::EmptyBody => body(String::new()),
        Mutation::NotJson => body("<html><body>The packing line is closed for repairs.</body></html>".to_owned()),
        Mutation::OtherBody => body("The packing line is closed for repairs.".to_owned()),
        Mutation::EmptyList => body("[]".to_owned()),
        Mutation::Field { path, how } => body(with_field(outline, &path.0, *how)),
        Mutation::ContentType => {
            let other = if exchange.media_type() == "text/html" { "text/plain" } else { "text/html" };
            for (name, value) in &mut copy.headers {
                if name.eq_ignore_ascii_case("content-type") {
                    *value = other.as_bytes().to_vec();
                }
            }
        }
        Mutation::Header(name) => copy.headers.retain(|(own, _)| !own.eq_ignore_ascii_case(name)),
        Mutation::Slow(time) => {
            let more = time.saturating_sub(exchange.timings.total);
            copy.timings.total += more.max(Duration::ZERO);
            copy.timings.wait += more;
        }
    }
    copy
}

/// The body's text with one field altered.
fn with_field(outline: &BodyShape<'_>, path: &[Segment], how: Field) -> String {
    let mut text = String::new();
    match (outline, path) {
        (BodyShape::Object(members), [Segment::Key(name), rest @ ..]) => object(&mut text, members, name, rest, how),
        (BodyShape::List(members), [Segment::Each, rest @ ..]) => {
            text.push('[');
            for (at, member) in members.iter().enumerate() {
                if at > 0 {
                    text.push(',');
                }
                match (member, rest) {
                    (Member::Object(members), [Segment::Key(name), rest @ ..]) => {
                        object(&mut text, members, name, rest, how);
                    }
                    (Member::Object(members), _) => object(&mut text, members, "", &[], Field::OtherValue),
                    (Member::Other(value), _) => text.push_str(value.get()),
                }
            }
            text.push(']');
        }
        _ => {}
    }
    text
}

fn object(text: &mut String, members: &Members<'_>, altered: &str, rest: &[Segment], how: Field) {
    text.push('{');
    let mut first = true;
    for (name, value) in &members.0 {
        let own = name == altered;
        if own && rest.is_empty() && how == Field::Missing {
            continue;
        }
        if !std::mem::take(&mut first) {
            text.push(',');
        }
        let _ = write!(text, "{}:", Value::from(name.as_str()));
        match own {
            true => inside(text, value, rest, how),
            false => text.push_str(value.get()),
        }
    }
    text.push('}');
}

/// A value in which the field at `path` is altered, if it has one.
fn inside(text: &mut String, value: &RawValue, path: &[Segment], how: Field) {
    match path {
        [] => return text.push_str(&value_of(value, how)),
        [Segment::Key(name), rest @ ..] => {
            if let Ok(members) = serde_json::from_str::<Members<'_>>(value.get()) {
                return object(text, &members, name, rest, how);
            }
        }
        [Segment::Each, rest @ ..] => {
            if let Ok(members) = serde_json::from_str::<Vec<&RawValue>>(value.get()) {
                text.push('[');
                for (at, member) in members.into_iter().enumerate() {
                    if at > 0 {
                        text.push(',');
                    }
                    inside(text, member, rest, how);
                }
                return text.push(']');
            }
        }
    }
    text.push_str(value.get());
}

fn value_of(value: &RawValue, how: Field) -> String {
    let text = value.get();
    match how {
        Field::Missing | Field::Null => "null".to_owned(),
        Field::Empty => "[]".to_owned(),
        Field::OtherType => match text.as_bytes().first() {
            Some(b'"') => "7",
            Some(b'[') => "{}",
            Some(b'{') => "[]",
            _ => "\"other\"",
        }
        .to_owned(),
        Field::OtherValue => other_value(text),
    }
}
