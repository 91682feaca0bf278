//! Finds the variables in a resolved request. A value may have come through an expression: so the request is prepared
//! again with sentinel values, and the results are compared.

use super::shape::{Chunk, Shape};
use yieldtray_expression::Value;
use yieldtray_http::PreparedRequest;
use yieldtray_workspace::request::SubstitutionContext;
use yieldtray_workspace::secret::Masker;

/// A name that a request uses.
#[derive(Clone, Debug)]
pub struct NamedValue {
    /// The name.
    pub name: String,
    /// Its kind.
    pub kind: NamedValueKind,
}

/// The kind of a variable.
#[derive(Clone, Debug)]
pub enum NamedValueKind {
    /// A secret, which is never written as text.
    Secret(String),
    /// A value that is kept as a name.
    Value(Value),
    /// It has no value here: one of the environment takes its place.
    Open,
    /// Taken from an earlier response.
    Answer,
}

/// The encoding of a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Encoding {
    Plain,
    Percent,
    /// Inside a JSON string.
    Json,
    /// As a JSON value.
    JsonValue,
    Form,
    Xml,
}

impl Encoding {
    pub(super) const ALL: &[Self] = &[Self::Plain, Self::Percent, Self::Json, Self::Form, Self::Xml];

    pub(super) fn as_str(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Percent => "percent",
            Self::Json => "json",
            Self::JsonValue => "json_value",
            Self::Form => "form",
            Self::Xml => "xml",
        }
    }

    /// A text as a request has it there.
    pub(super) fn encode(self, text: &str) -> String {
        let place = match self {
            Self::JsonValue => return serde_json::Value::from(text).to_string(),
            Self::Plain => SubstitutionContext::Text,
            Self::Percent => SubstitutionContext::Target,
            Self::Json => SubstitutionContext::JsonString,
            Self::Form => SubstitutionContext::Form,
            Self::Xml => SubstitutionContext::Xml,
        };
        place.encode(text.into()).into_owned()
    }
}

/// A piece of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum TextSegment {
    Text(String),
    /// The place of a name in the list, and how its value is written here.
    Value(usize, Encoding),
}

/// A request with its variables.
#[derive(Clone, Debug)]
pub struct ParameterizedRequest {
    pub(super) shape: Shape,
    pub(super) texts: Vec<Vec<TextSegment>>,
    /// Names, those of texts that must be given whole at the end.
    pub(super) names: Vec<NamedValue>,
    /// Names that could not be kept, with the reason.
    pub notes: Vec<String>,
}

impl ParameterizedRequest {
    /// The bytes of files in place of their names, for formats that can name none.
    pub fn inline_files(&mut self, read: impl Fn(&str) -> Vec<u8>) {
        for chunk in &mut self.shape.body {
            if let Chunk::File(path) = chunk {
                *chunk = Chunk::Bytes(read(path));
            }
        }
    }

    /// Whether files are named in it.
    pub fn has_files(&self) -> bool {
        self.shape.body.iter().any(|chunk| matches!(chunk, Chunk::File(_)))
    }

    /// True if an earlier response defines this name.
    pub fn takes(&self, name: &str) -> bool {
        self.used().any(|own| own.name == name && matches!(own.kind, NamedValueKind::Answer))
    }

    /// The names that the environment must give.
    pub fn reads(&self) -> Vec<String> {
        let given = self.used().filter(|name| matches!(name.kind, NamedValueKind::Open | NamedValueKind::Secret(_)));
        given.map(|name| name.name.clone()).collect()
    }

    fn used(&self) -> impl Iterator<Item = &NamedValue> {
        self.texts.iter().flatten().filter_map(|bit| match bit {
            TextSegment::Value(index, _) => Some(&self.names[*index]),
            TextSegment::Text(_) => None,
        })
    }
}

/// A text that comes out differently in each encoding, and by itself nowhere. The other one is longer too.
fn distinguishing(index: usize, other: bool) -> String {
    format!("{}{index:03}q\"<&\u{e9}~ z", if other { "Zkk" } else { "Yt" })
}

/// Numbers are written as they are everywhere.
fn number(index: usize, other: bool) -> i64 {
    if other { 7_461_700_000 + index as i64 } else { 746_160_000 + index as i64 }
}

/// A URL, which is only at the beginning of one.
fn address(index: usize, other: bool) -> String {
    format!("http://{}{index:03}q.test", if other { "zkk" } else { "yt" })
}

fn is_address(text: &str) -> bool {
    text.starts_with("http://") || text.starts_with("https://")
}

/// The value that takes the place of a name, and its text.
fn sentinel(index: usize, name: &NamedValue, other: bool) -> Option<(Value, String)> {
    let text = |text: String| Some((Value::text(text.clone()), text));
    match &name.kind {
        NamedValueKind::Secret(_) => None,
        NamedValueKind::Value(value) => match (value.as_text(), value.to_text()) {
            (Some(own), _) if is_address(own) => text(address(index, other)),
            (Some(_), _) => text(distinguishing(index, other)),
            (None, Ok(own)) if own.parse::<i64>().is_ok() => {
                let number = number(index, other);
                Some((Value::infer(&number.to_string()), number.to_string()))
            }
            _ => None,
        },
        NamedValueKind::Open | NamedValueKind::Answer if name.name == "base" => text(address(index, other)),
        NamedValueKind::Open | NamedValueKind::Answer => text(distinguishing(index, other)),
    }
}

/// Finds the variables of a request. `prepare` makes it with some of its values replaced, and generates the same
/// values each time; `masker` knows the secrets.
///
/// # Errors
/// Those of `prepare`.
pub fn outline<E>(
    names: &[NamedValue],
    masker: &Masker,
    mut prepare: impl FnMut(&[(String, Value)]) -> Result<PreparedRequest, E>,
) -> Result<ParameterizedRequest, E> {
    let mut notes = Vec::new();
    // Those that have no value are needed for a request at all.
    let mut marked: Vec<usize> = (0..names.len())
        .filter(|index| matches!(names[*index].kind, NamedValueKind::Open | NamedValueKind::Answer))
        .collect();
    let needed = marked.clone();
    for (index, name) in names.iter().enumerate() {
        if matches!(name.kind, NamedValueKind::Value(_)) {
            match survives(index, name, names, &needed, &mut prepare) {
                true => marked.push(index),
                false => notes.push(format!("the result of the expression with `{}` is exported", name.name)),
            }
        }
    }
    let with = |other: bool| -> Vec<(String, Value)> {
        let set = |index: &usize| Some((names[*index].name.clone(), sentinel(*index, &names[*index], other)?.0));
        marked.iter().filter_map(set).collect()
    };
    let (shape, texts) = Shape::of(&prepare(&with(false))?);
    let mut texts: Vec<Vec<TextSegment>> = texts.iter().map(|text| split(text, &marked, names)).collect();
    let mut worked: Vec<(usize, usize)> = Vec::new();
    for index in &needed {
        let places = is_transformed(*index, &texts, names, &marked, &mut prepare);
        worked.extend(places.into_iter().map(|place| (place, *index)));
    }
    detect_types(&mut texts, names, &marked, &mut prepare);
    let mut names = names.to_vec();
    for (place, text) in texts.iter_mut().enumerate() {
        // The result of an expression on an undefined value is unknown.
        if let Some((_, index)) = worked.iter().find(|(own, _)| *own == place) {
            let called = shape.called(place);
            notes.push(format!("the {called} is computed from `{}`: set it yourself", names[*index].name));
            names.push(NamedValue { name: called, kind: NamedValueKind::Open });
            *text = vec![TextSegment::Value(names.len() - 1, Encoding::Plain)];
            continue;
        }
        *text = text.drain(..).flat_map(|bit| without_secrets(bit, &names)).collect();
        // A part that still contains a secret in another encoding becomes a variable as a whole.
        let leaks = |bit: &TextSegment| matches!(bit, TextSegment::Text(text) if masker.finds_in(text));
        if text.iter().any(leaks) && !masker.reveals() {
            let called = shape.called(place);
            notes.push(format!("the {called} is computed from a secret: set it yourself"));
            names.push(NamedValue { name: called, kind: NamedValueKind::Open });
            *text = vec![TextSegment::Value(names.len() - 1, Encoding::Plain)];
        }
    }
    Ok(ParameterizedRequest { shape, texts, names, notes })
}

/// True if a value occurs in the request only unchanged, so that another one can replace it.
fn survives<E>(
    index: usize,
    name: &NamedValue,
    names: &[NamedValue],
    needed: &[usize],
    prepare: &mut impl FnMut(&[(String, Value)]) -> Result<PreparedRequest, E>,
) -> bool {
    let NamedValueKind::Value(value) = &name.kind else { return false };
    let Ok(real) = value.to_text() else { return false };
    let mut make = |own: Option<Value>| {
        let others =
            needed.iter().filter_map(|own| Some((names[*own].name.clone(), sentinel(*own, &names[*own], false)?.0)));
        let all: Vec<(String, Value)> = others.chain(own.map(|value| (name.name.clone(), value))).collect();
        prepare(&all).ok().map(|prepared| Shape::of(&prepared))
    };
    let Some((sentinel, _)) = sentinel(index, name, false) else { return false };
    let (Some((shape, texts)), Some((real_shape, real_texts))) = (make(Some(sentinel)), make(None)) else {
        return false;
    };
    let all: Vec<usize> = needed.iter().copied().chain([index]).collect();
    let put = |text: &String| -> String {
        let bits = split(text, &all, names);
        bits.iter().map(|bit| filled(bit, index, &real, names)).collect()
    };
    shape == real_shape && texts.iter().map(put).eq(real_texts)
}

/// The texts in which a value occurs changed: with another one they would differ.
fn is_transformed<E>(
    index: usize,
    texts: &[Vec<TextSegment>],
    names: &[NamedValue],
    marked: &[usize],
    prepare: &mut impl FnMut(&[(String, Value)]) -> Result<PreparedRequest, E>,
) -> Vec<usize> {
    let set = |own: &usize| Some((names[*own].name.clone(), sentinel(*own, &names[*own], *own == index)?.0));
    let all: Vec<(String, Value)> = marked.iter().filter_map(set).collect();
    let (Ok(prepared), Some((_, other))) = (prepare(&all), sentinel(index, &names[index], true)) else {
        return Vec::new();
    };
    let put = |bits: &Vec<TextSegment>| -> String {
        let text = |bit: &TextSegment| match bit {
            TextSegment::Value(own, encoding) if *own != index => {
                sentinel(*own, &names[*own], false).map(|(_, text)| encoding.encode(&text)).unwrap_or_default()
            }
            bit => filled(bit, index, &other, names),
        };
        bits.iter().map(text).collect()
    };
    let should = texts.iter().map(put);
    should.zip(Shape::of(&prepared).1).enumerate().filter(|(_, (should, is))| should != is).map(|(at, _)| at).collect()
}

/// A segment with a text for one of the names, and sentinels for the others.
fn filled(bit: &TextSegment, index: usize, value: &str, names: &[NamedValue]) -> String {
    match bit {
        TextSegment::Text(text) => text.clone(),
        TextSegment::Value(own, encoding) if *own == index => {
            let value = if is_address(value) { value.trim_end_matches('/') } else { value };
            encoding.encode(value)
        }
        TextSegment::Value(own, encoding) => match (&names[*own].kind, sentinel(*own, &names[*own], false)) {
            (NamedValueKind::Value(value), _) => value.to_text().map(|text| encoding.encode(&text)).unwrap_or_default(),
            (_, Some((_, text))) => encoding.encode(&text),
            (_, None) => String::new(),
        },
    }
}

/// A text split at the sentinels.
fn split(text: &str, marked: &[usize], names: &[NamedValue]) -> Vec<TextSegment> {
    let mut found: Vec<(usize, usize, usize, Encoding)> = Vec::new();
    for index in marked {
        let Some((_, own)) = sentinel(*index, &names[*index], false) else { continue };
        let plain = names[*index].name == "base" || is_address(&own) || own.parse::<i64>().is_ok();
        for encoding in if plain { &Encoding::ALL[..1] } else { Encoding::ALL } {
            let form = encoding.encode(&own);
            found.extend(text.match_indices(&form).map(|(at, _)| (at, at + form.len(), *index, *encoding)));
        }
    }
    found.sort_by_key(|(at, end, ..)| (*at, std::cmp::Reverse(*end)));
    let (mut bits, mut at) = (Vec::new(), 0);
    for (from, to, index, encoding) in found {
        if from < at {
            continue;
        }
        push(&mut bits, &text[at..from]);
        bits.push(TextSegment::Value(index, encoding));
        at = to;
    }
    push(&mut bits, &text[at..]);
    bits
}

fn push(bits: &mut Vec<TextSegment>, text: &str) {
    if !text.is_empty() {
        bits.push(TextSegment::Text(text.to_owned()));
    }
}

/// Finds values in JSON that are not part of a text: a number there has no quotes.
fn detect_types<E>(
    texts: &mut [Vec<TextSegment>],
    names: &[NamedValue],
    marked: &[usize],
    prepare: &mut impl FnMut(&[(String, Value)]) -> Result<PreparedRequest, E>,
) {
    let open = |index: &usize| {
        matches!(names[*index].kind, NamedValueKind::Open | NamedValueKind::Answer) && names[*index].name != "base"
    };
    let set: Vec<(String, Value)> = marked
        .iter()
        .filter_map(|index| match open(index) {
            true => Some((names[*index].name.clone(), Value::infer(&number(*index, false).to_string()))),
            false => Some((names[*index].name.clone(), sentinel(*index, &names[*index], false)?.0)),
        })
        .collect();
    let Ok(prepared) = prepare(&set) else { return };
    let (_, numbered) = Shape::of(&prepared);
    for (bits, numbered) in texts.iter_mut().zip(numbered) {
        let mut rest = numbered.as_str();
        for at in 0..bits.len() {
            match &bits[at] {
                TextSegment::Value(index, Encoding::Json) if open(index) => {
                    let own = number(*index, false).to_string();
                    if let Some(after) = rest.strip_prefix(&own) {
                        rest = after;
                        continue;
                    }
                    return;
                }
                TextSegment::Value(index, encoding) => {
                    let own = match (open(index), sentinel(*index, &names[*index], false)) {
                        (true, _) => number(*index, false).to_string(),
                        (false, Some((_, own))) => encoding.encode(&own),
                        (false, None) => return,
                    };
                    let Some(after) = rest.strip_prefix(&own) else { return };
                    rest = after;
                }
                TextSegment::Text(text) => {
                    let text = text.clone();
                    if let Some(after) = rest.strip_prefix(&text) {
                        rest = after;
                        continue;
                    }
                    // Without the quote before the value that follows: it goes with the value.
                    let quoted = text.strip_suffix('"').and_then(|bare| Some((bare, rest.strip_prefix(bare)?)));
                    let next = bits.get(at + 1).cloned();
                    let (Some((bare, after)), Some(TextSegment::Value(index, Encoding::Json))) = (quoted, next) else {
                        return;
                    };
                    let closes = matches!(bits.get(at + 2), Some(TextSegment::Text(text)) if text.starts_with('"'));
                    if !closes {
                        return;
                    }
                    bits[at] = TextSegment::Text(bare.to_owned());
                    bits[at + 1] = TextSegment::Value(index, Encoding::JsonValue);
                    if let Some(TextSegment::Text(text)) = bits.get_mut(at + 2) {
                        text.remove(0);
                    }
                    rest = after;
                }
            }
        }
    }
}

/// A bit in which secrets are names.
fn without_secrets(bit: TextSegment, names: &[NamedValue]) -> Vec<TextSegment> {
    let TextSegment::Text(text) = bit else { return vec![bit] };
    let mut forms: Vec<(String, usize, Encoding)> = Vec::new();
    for (index, name) in names.iter().enumerate() {
        let NamedValueKind::Secret(secret) = &name.kind else { continue };
        for encoding in Encoding::ALL {
            let form = encoding.encode(secret);
            // A form that is the plain one is found as that.
            if !form.is_empty() && !forms.iter().any(|(known, own, _)| *known == form && *own == index) {
                forms.push((form, index, *encoding));
            }
        }
    }
    forms.sort_by_key(|(form, ..)| std::cmp::Reverse(form.len()));
    let (mut bits, mut at, mut from) = (Vec::new(), 0, 0);
    while at < text.len() {
        match forms.iter().find(|(form, ..)| text[at..].starts_with(form.as_str())) {
            Some((form, index, encoding)) => {
                push(&mut bits, &text[from..at]);
                bits.push(TextSegment::Value(*index, *encoding));
                at += form.len();
                from = at;
            }
            None => at += text[at..].chars().next().map_or(1, char::len_utf8),
        }
    }
    push(&mut bits, &text[from..]);
    bits
}
