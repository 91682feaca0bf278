//! Where a position is in a GraphQL document that somebody writes: which type's fields, which field's arguments. The text
//! up to the position is read token by token, since a document that is being written is rarely valid.

use std::ops::Range;
use yieldtray_description::{Api, ArgumentRecord, FieldRecord, TypeRecord, named_type};

/// The deepest nesting that is followed.
const MAX_DEPTH: usize = 200;

/// What may be written at a position.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Place {
    /// A field of this type, or a fragment after `...`.
    Field { owner: String, after_spread: bool },
    /// An argument of a field, or a field of an input object: of these, by their names and types.
    Argument { of: Vec<ArgumentRecord> },
    /// A value of this type.
    Value { type_name: String },
    /// A variable, after `$`.
    Variable,
    /// A type, in the declaration of a variable or after `on`.
    Type { after_on: bool },
    /// A keyword at the top.
    Top,
}

/// One brace or parenthesis that is open.
#[derive(Clone, Debug)]
enum Open {
    Selection(Option<String>),
    Arguments(Vec<ArgumentRecord>),
    Declarations,
    List,
}

/// Follows a document to a position.
pub(super) struct Cursor<'a> {
    api: &'a Api,
    open: Vec<Open>,
    /// The type that the next `{` opens.
    next: Option<String>,
    /// The arguments that the next `(` opens.
    arguments: Vec<ArgumentRecord>,
    /// The type of the value that follows.
    value: Option<String>,
    last: String,
    before_last: String,
    /// The field that was read last, with the type it is of.
    pub(super) field: Option<(String, FieldRecord)>,
    /// The type that was named last.
    pub(super) named: Option<String>,
}

impl<'a> Cursor<'a> {
    /// Reads a document up to byte `at`: whole tokens before the word that is being written there.
    pub(super) fn read(api: &'a Api, text: &str, at: usize) -> Self {
        let mut cursor = Self {
            api,
            open: Vec::new(),
            next: None,
            arguments: Vec::new(),
            value: None,
            last: String::new(),
            before_last: String::new(),
            field: None,
            named: None,
        };
        let text = &text[..at.min(text.len())];
        let mut rest = text;
        while let Some((token, after)) = token(rest) {
            let followed_by_colon = after.trim_start().starts_with(':');
            cursor.take(token, followed_by_colon);
            rest = after;
        }
        cursor
    }

    fn record(&self, name: &str) -> Option<TypeRecord> {
        self.api.type_named(named_type(name)).ok().flatten()
    }

    fn root(&self, kind: &str) -> Option<String> {
        let roots = self.api.level(None).ok()??;
        roots.places.into_iter().find(|place| place.kind == kind).map(|place| place.name)
    }

    fn take(&mut self, token: &str, followed_by_colon: bool) {
        match token {
            "{" => {
                let opened = match (self.open.last(), &self.value) {
                    // An input object.
                    (Some(Open::Arguments(_) | Open::List), Some(kind)) => {
                        let fields = self.record(kind).map(|record| record.fields).unwrap_or_default();
                        let arguments = fields.into_iter().map(|own| ArgumentRecord {
                            name: own.name,
                            type_name: own.type_name,
                            description: own.description,
                            default: own.default,
                        });
                        Open::Arguments(arguments.collect())
                    }
                    (None, _) if self.next.is_none() && self.last.is_empty() => Open::Selection(self.root("query")),
                    _ => Open::Selection(self.next.take()),
                };
                if self.open.len() < MAX_DEPTH {
                    self.open.push(opened);
                }
                self.value = None;
            }
            "}" | ")" | "]" => {
                self.open.pop();
                self.value = None;
                if self.open.is_empty() {
                    self.next = None;
                    self.last.clear();
                    self.before_last.clear();
                    return;
                }
            }
            "(" => match self.open.last() {
                Some(Open::Selection(_)) => self.open.push(Open::Arguments(std::mem::take(&mut self.arguments))),
                _ => self.open.push(Open::Declarations),
            },
            "[" => self.open.push(Open::List),
            "query" | "mutation" | "subscription" if self.open.is_empty() => self.next = self.root(token),
            name if name.starts_with(|c: char| c.is_alphabetic() || c == '_') => self.name(name, followed_by_colon),
            _ => {}
        }
        self.before_last = std::mem::replace(&mut self.last, token.to_owned());
    }

    fn name(&mut self, name: &str, followed_by_colon: bool) {
        if self.last == "on" {
            self.next = Some(name.to_owned());
            self.named = Some(name.to_owned());
            return;
        }
        match self.open.last() {
            Some(Open::Selection(Some(owner)))
                if !followed_by_colon && name != "on" && self.last != "..." && self.last != "@" =>
            {
                let owner = owner.clone();
                let field =
                    self.record(&owner).and_then(|record| record.fields.into_iter().find(|own| own.name == name));
                self.next = field.as_ref().map(|field| named_type(&field.type_name).to_owned());
                self.arguments = field.as_ref().map(|field| field.arguments.clone()).unwrap_or_default();
                self.field = field.map(|field| (owner, field));
                self.named = None;
            }
            Some(Open::Arguments(of)) if followed_by_colon => {
                self.value = of.iter().find(|own| own.name == name).map(|own| own.type_name.clone());
            }
            Some(Open::Arguments(_)) => self.value = None,
            Some(Open::Declarations) if self.last == ":" || self.last == "[" => self.named = Some(name.to_owned()),
            _ => {}
        }
    }

    /// What may be written next.
    pub(super) fn place(self) -> Option<Place> {
        if self.last == "$" {
            return Some(Place::Variable);
        }
        if self.last == "on" {
            return Some(Place::Type { after_on: true });
        }
        match self.open.last() {
            None if self.next.is_none() => Some(Place::Top),
            Some(Open::Selection(Some(owner))) => {
                Some(Place::Field { owner: owner.clone(), after_spread: self.last == "..." })
            }
            Some(Open::Arguments(of)) => match (&self.value, self.last.as_str()) {
                (Some(kind), ":") => Some(Place::Value { type_name: kind.clone() }),
                _ => Some(Place::Argument { of: of.clone() }),
            },
            Some(Open::List) => self.value.map(|type_name| Place::Value { type_name }),
            Some(Open::Declarations) if self.last == ":" || self.last == "[" => Some(Place::Type { after_on: false }),
            _ => None,
        }
    }
}

/// The word around byte `at` of a text, empty if there is none.
pub(super) fn word_around(text: &str, at: usize) -> Range<usize> {
    let (before, after) = text.split_at(at);
    let start = before.trim_end_matches(is_word).len();
    let end = text.len() - after.trim_start_matches(is_word).len();
    start..end
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

/// The first token of a text, and what follows it.
fn token(text: &str) -> Option<(&str, &str)> {
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches(|c: char| c.is_whitespace() || c == ',');
        match rest.strip_prefix('#') {
            Some(comment) => rest = comment.find('\n').map_or("", |end| &comment[end..]),
            None => break,
        }
    }
    let first = rest.chars().next()?;
    let length = match first {
        '"' if rest.starts_with("\"\"\"") => rest[3..].find("\"\"\"").map_or(rest.len(), |end| end + 6),
        '"' => {
            let mut escaped = false;
            let end = rest[1..].find(|c: char| {
                let closes = c == '"' && !escaped;
                escaped = c == '\\' && !escaped;
                closes || c == '\n'
            });
            end.map_or(rest.len(), |end| end + 2)
        }
        '.' if rest.starts_with("...") => 3,
        c if is_word(c) => word_around(rest, 0).end,
        c => c.len_utf8(),
    };
    Some(rest.split_at(length.min(rest.len())))
}

#[cfg(test)]
mod tests {
    use super::word_around;

    #[test]
    fn a_word_ends_where_others_begin_whatever_they_are() {
        let text = "{ lots · bins }";
        assert_eq!(&text[word_around(text, 4)], "lots");
        let dot = text.find('·').expect("it is there");
        assert_eq!(word_around(text, dot + '·'.len_utf8()), dot + 2..dot + 2);
        assert_eq!(&text[word_around(text, dot + 3)], "bins");
    }
}
