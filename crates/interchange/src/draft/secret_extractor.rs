//! Secrets of requests from elsewhere become values, so that no shared file has them.

use super::{Body, ImportedRequest, Part};
use regex::Regex;
use rustc_hash::FxHashMap;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;
use url::Url;
use yieldtray_http::{credential, is_secret_header, origin_of};
use yieldtray_source::entropy::high_entropy_runs;
use yieldtray_source::names::is_value_name;
use yieldtray_syntax::{ValuePiece, ValueText, is_language_name};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::ValueSource;
use yieldtray_workspace::request::SubstitutionContext;
use yieldtray_workspace::secret::is_secret_name;

/// The shortest credential that is taken for one.
const MIN_CREDENTIAL_CHARS: usize = 4;

/// A secret of this many characters is replaced wherever it occurs.
const MIN_GLOBAL_SECRET_CHARS: usize = 8;

/// Finds secrets, gives each a name, and puts that in its place.
#[derive(Clone, Debug, Default)]
pub struct SecretExtractor {
    /// The name of each secret that has one.
    names: FxHashMap<String, String>,
    /// The last number that a name got.
    numbers: FxHashMap<String, usize>,
    /// Names in use, with their values.
    taken: BTreeSet<String>,
    /// The secrets that were found, by name.
    pub found: Vec<(String, String)>,
    /// The origins that each of them is sent to.
    origins: BTreeMap<String, BTreeSet<String>>,
    /// The origins of values at the head of a file.
    heads: BTreeMap<String, String>,
    /// The origin of the request that is looked at.
    current: Option<String>,
    /// Whether nothing is one.
    nothing: bool,
}

/// `"name": "value"`
static MEMBER: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r#""([^"\\]{1,80})"\s*:\s*"([^"\\]+)""#).expect("it is one"));
/// `name=value`
static PAIR: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"(?:^|[?&;])\s*([^=&?;#]{1,80})=([^&#;]+)").expect("it is one"));

impl SecretExtractor {
    /// One that knows the secrets of a workspace's private configuration.
    pub fn of(workspace: &Workspace) -> Self {
        let entries = || workspace.config.all_entries();
        let known =
            entries().filter(|entry| entry.private && entry.secret).filter_map(|entry| match &entry.source_kind {
                ValueSource::Value(value) => Some((value.as_text()?.to_owned(), entry.name.clone())),
                _ => None,
            });
        let (names, taken) = (known.collect(), entries().map(|entry| entry.name.clone()).collect());
        Self { names, taken, ..Self::default() }
    }

    /// One that finds nothing: for generated requests.
    pub fn nothing() -> Self {
        Self { nothing: true, ..Self::default() }
    }

    /// Takes a name for something else than a secret: `wanted`, or with a number where that is taken.
    pub fn reserve(&mut self, wanted: &str) -> String {
        let base = plain_name(wanted);
        let first = self.numbers.get(&base).map_or(1, |last| last + 1);
        let numbered = |number: usize| if number == 1 { base.clone() } else { format!("{base}_{number}") };
        let number = (first..).find(|number| !self.taken.contains(&numbered(*number))).unwrap_or(first);
        let name = numbered(number);
        self.numbers.insert(base, number);
        self.taken.insert(name.clone());
        name
    }

    /// True if a name is free.
    pub fn is_free(&self, name: &str) -> bool {
        !self.taken.contains(name)
    }

    /// Records that a value at the head of the file is an origin.
    pub(crate) fn stand_for_key(&mut self, name: &str, origin: &str) {
        self.heads.insert(name.to_owned(), origin.to_owned());
    }

    /// The secrets that were found: name, text, and the origins that they belong to, as far as requests name them.
    pub fn secrets(&self) -> Vec<(String, String, Vec<String>)> {
        let origins = |name: &str| self.origins.get(name).into_iter().flatten().cloned().collect();
        self.found.iter().map(|(name, secret)| (name.clone(), secret.clone(), origins(name))).collect()
    }

    /// The origin that a request goes to, where it says so itself or by a value at the head of its file.
    fn origin(&self, target: &ValueText) -> Option<String> {
        let named = match target.pieces().first() {
            Some(ValuePiece::Value(name)) => self.heads.get(name),
            Some(ValuePiece::Literal(text)) if text.starts_with('/') => self.heads.get("base"),
            _ => None,
        };
        let text = named.map_or_else(|| target.head(), String::as_str);
        Url::parse(text).ok().filter(Url::has_host).map(|url| origin_of(&url))
    }

    /// Lifts what is secret in a request.
    pub fn draft(&mut self, draft: &mut ImportedRequest) {
        self.current = self.origin(&draft.target);
        // A title must not contain a secret either, and placeholders are not resolved there.
        if draft.title.trim().is_empty() {
            draft.title = draft.title();
        }
        std::iter::once(&mut draft.title).chain(&mut draft.notes).for_each(without_secrets);
        if self.nothing {
            return;
        }
        for (name, value) in &mut draft.headers {
            let Some(name) = name.plain() else { continue };
            if let (true, Some(text)) = (is_secret_header(name), value.plain()) {
                // A scheme is before credentials only; cookies are secret from their first character.
                let secret = match name.to_ascii_lowercase().ends_with("authorization") {
                    true => credential(text),
                    false => text.trim(),
                };
                if secret.len() >= MIN_CREDENTIAL_CHARS {
                    let scheme = text[..text.rfind(secret).unwrap_or_default()].to_owned();
                    let mut lifted = ValueText::from(scheme.as_str());
                    lifted.push_value(self.named(&header_name(name, scheme.trim()), secret));
                    *value = lifted;
                    continue;
                }
            }
            self.text(value, SubstitutionContext::Text);
        }
        if let Some((kind, words)) = &mut draft.auth {
            let user =
                words.first().filter(|_| words.len() > 1).and_then(ValueText::plain).unwrap_or_default().to_owned();
            let name = match *kind {
                "bearer" => "bearer_token".to_owned(),
                _ if is_value_name(&user) => format!("{user}_password"),
                _ => "password".to_owned(),
            };
            // An API key is often used as the user, without a password.
            let is_key = words.len() > 1 && words.last().is_some_and(ValueText::is_empty);
            let (name, secret) = match is_key {
                true => ("api_key".to_owned(), words.first_mut()),
                false => (name, words.last_mut()),
            };
            if let Some(secret) = secret
                && let Some(plain) = secret.plain().filter(|plain| !plain.is_empty())
            {
                *secret = ValueText::value(self.named(&name, plain));
            }
        }
        self.text(&mut draft.target, SubstitutionContext::Target);
        draft.query.iter_mut().for_each(|parameter| self.text(parameter, SubstitutionContext::Target));
        for (name, value) in &mut draft.parameters {
            self.pair(name, value);
        }
        match &mut draft.body {
            Body::Text(text) => {
                let form =
                    |text: &ValueText| text.plain().is_some_and(|text| text.starts_with("application/x-www-form"));
                let is_form = draft.headers.iter().any(|(_, value)| form(value));
                let place = match text.head().trim_start().chars().next() {
                    Some('{' | '[') => SubstitutionContext::JsonString,
                    _ if is_form => SubstitutionContext::Form,
                    _ => SubstitutionContext::Text,
                };
                self.text(text, place);
            }
            Body::Parts(parts) => {
                for (name, part) in parts {
                    if let Part::Text(text, _) = part {
                        self.pair(name, text);
                    }
                }
            }
            Body::None | Body::Bytes(_) | Body::File(_) => {}
        }
        self.known_elsewhere(draft);
    }

    /// Replaces the secrets that were found by their names wherever else they occur in a request.
    fn known_elsewhere(&self, draft: &mut ImportedRequest) {
        let known: Vec<(&str, &str)> = self
            .names
            .iter()
            .filter(|(secret, _)| secret.len() >= MIN_GLOBAL_SECRET_CHARS)
            .map(|(secret, name)| (secret.as_str(), name.as_str()))
            .collect();
        if known.is_empty() {
            return;
        }
        let replace = |text: &mut ValueText| {
            if !text.pieces().iter().any(
                |piece| matches!(piece, ValuePiece::Literal(own) if known.iter().any(|(secret, _)| own.contains(secret))),
            ) {
                return;
            }
            let mut replaced = ValueText::default();
            for piece in text.pieces() {
                let ValuePiece::Literal(literal) = piece else {
                    replaced.push_piece(piece.clone());
                    continue;
                };
                let mut rest = literal.as_str();
                while let Some((at, secret, name)) =
                    // Of several at one place the longest: another may be its beginning.
                    known
                        .iter()
                        .filter_map(|(secret, name)| Some((rest.find(secret)?, *secret, *name)))
                        .min_by_key(|(at, secret, _)| (*at, Reverse(secret.len())))
                {
                    replaced.push_str(&rest[..at]);
                    replaced.push_value(format!("raw({name})"));
                    rest = &rest[at + secret.len()..];
                }
                replaced.push_str(rest);
            }
            *text = replaced;
        };
        replace(&mut draft.target);
        draft.query.iter_mut().for_each(replace);
        draft.parameters.iter_mut().for_each(|(_, value)| replace(value));
        draft.headers.iter_mut().for_each(|(_, value)| replace(value));
        match &mut draft.body {
            Body::Text(text) => replace(text),
            Body::Parts(parts) => parts.iter_mut().for_each(|(_, part)| {
                if let Part::Text(text, _) = part {
                    replace(text);
                }
            }),
            Body::None | Body::Bytes(_) | Body::File(_) => {}
        }
    }

    /// The value of something that has a name.
    fn pair(&mut self, name: &ValueText, value: &mut ValueText) {
        match (name.plain(), value.plain()) {
            (Some(name), Some(plain)) if is_secret_name(name) && plain.len() >= MIN_CREDENTIAL_CHARS => {
                *value = ValueText::value(self.named(name, plain));
            }
            _ => self.text(value, SubstitutionContext::Text),
        }
    }

    /// Extracts values whose names suggest a secret from a text, and high-entropy texts.
    fn text(&mut self, text: &mut ValueText, place: SubstitutionContext) {
        let mut lifted = ValueText::default();
        for piece in text.pieces() {
            match piece {
                ValuePiece::Literal(literal) => self.literal(literal, place, &mut lifted),
                value @ ValuePiece::Value(_) => lifted.push_piece(value.clone()),
            }
        }
        *text = lifted;
    }

    fn literal(&mut self, literal: &str, place: SubstitutionContext, lifted: &mut ValueText) {
        let members: Option<&Regex> = match place {
            SubstitutionContext::JsonString => Some(&MEMBER),
            SubstitutionContext::Target | SubstitutionContext::Form => Some(&PAIR),
            _ => None,
        };
        let mut spans: Vec<(usize, usize, String)> = Vec::new();
        for found in members.into_iter().flat_map(|members| members.captures_iter(literal)) {
            let (name, value) = (found.get(1).expect("a group"), found.get(2).expect("a group"));
            if is_secret_name(name.as_str()) && value.len() >= MIN_CREDENTIAL_CHARS {
                spans.push((value.start(), value.end(), name.as_str().to_owned()));
            }
        }
        for span in high_entropy_runs(literal) {
            if !spans.iter().any(|(from, to, _)| *from < span.end() && span.start() < *to) {
                spans.push((span.start(), span.end(), name_before(literal, span.start())));
            }
        }
        spans.sort_unstable();
        let mut at = 0;
        for (from, to, name) in spans {
            lifted.push_str(&literal[at..from]);
            lifted.push_value(self.written(&name, &literal[from..to], place));
            at = to;
        }
        lifted.push_str(&literal[at..]);
    }

    /// The expression that writes a text at its place, whatever the value's own form is.
    fn written(&mut self, name: &str, text: &str, place: SubstitutionContext) -> String {
        let decoded = match place {
            SubstitutionContext::Target | SubstitutionContext::Form => {
                let spaced = if place == SubstitutionContext::Form { text.replace('+', " ") } else { text.to_owned() };
                percent_encoding::percent_decode_str(&spaced).decode_utf8().map(|text| text.into_owned()).ok()
            }
            _ => None,
        };
        let plain = decoded.as_deref().unwrap_or(text);
        match place.encode(plain.into()) == text {
            true => self.named(name, plain),
            // Written in a way of its own, it is kept so.
            false => format!("raw({})", self.named(name, text)),
        }
    }

    fn note_origin(&mut self, name: &str) {
        if let Some(origin) = &self.current {
            self.origins.entry(name.to_owned()).or_default().insert(origin.clone());
        }
    }

    /// The name of a secret: its own if it has one, else a new one like `wanted`.
    fn named(&mut self, wanted: &str, secret: &str) -> String {
        if let Some(name) = self.names.get(secret).cloned() {
            self.note_origin(&name);
            return name;
        }
        let name = self.reserve(wanted);
        self.note_origin(&name);
        self.names.insert(secret.to_owned(), name.clone());
        self.found.push((name.clone(), secret.to_owned()));
        name
    }
}

/// Takes what looks like a secret out of a text that people read.
pub(crate) fn without_secrets(text: &mut String) {
    for span in high_entropy_runs(text).into_iter().rev() {
        text.replace_range(span.range(), "…");
    }
}

/// A name as values have it.
fn plain_name(wanted: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
    let name: String = wanted.chars().map(plain).take(40).collect();
    let name = name.trim_matches('_');
    if is_value_name(name) && !is_language_name(name) { name.to_owned() } else { format!("my_{name}") }
}

/// The name for the secret of a header field.
fn header_name(header: &str, scheme: &str) -> String {
    match (header.to_ascii_lowercase().as_str(), scheme.to_ascii_lowercase().as_str()) {
        ("authorization", "bearer") => "bearer_token".to_owned(),
        ("authorization", "basic") => "basic_credentials".to_owned(),
        ("authorization" | "proxy-authorization", _) => "credentials".to_owned(),
        ("cookie" | "set-cookie", _) => "session_cookies".to_owned(),
        (name, _) => name.trim_start_matches("x-").to_owned(),
    }
}

/// The name before a text, as in `"name": "text` or `name=text`.
fn name_before(text: &str, at: usize) -> String {
    let before = text[..at].trim_end_matches(['"', '\'', ' ', ':', '=']);
    let found = before.len() < at;
    let odd = before.char_indices().rfind(|(_, c)| !c.is_ascii_alphanumeric() && *c != '_' && *c != '-');
    let from = odd.map_or(0, |(at, c)| at + c.len_utf8());
    match &before[from..] {
        word if found && word.len() < 40 && word.starts_with(|c: char| c.is_ascii_alphabetic()) => word.to_owned(),
        _ => "secret".to_owned(),
    }
}
