//! Replaces secrets in texts, in every encoding of [`Encoding`] and in base64.

use super::encoding::{Encoding, base64_forms};
use aho_corasick::{AhoCorasick, AhoCorasickKind};
use rustc_hash::{FxHashMap, FxHashSet};
use std::borrow::Cow;
use std::fmt;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};
use url::Url;
use yieldtray_expression::Value;
use yieldtray_http::MASK;
use yieldtray_source::Problem;

/// A text of fewer bytes inside a secret list or map, of a cookie or of a line is not a secret by itself.
const MIN_PART_BYTES: usize = 8;

/// A secret of fewer characters is masked only where it is a whole word: inside words it is everywhere.
pub(super) const MIN_SECRET_BYTES: usize = 4;

/// The automaton knows forms by so many bytes; what follows is compared byte by byte. This bounds its memory.
const INDEXED_BYTES: usize = 32;

/// So many members of one secret list or map are looked for in every encoding, the others in those of [`MEMBER_ENCODINGS`].
const MAX_MASKED_MEMBERS: usize = 200;

/// The encodings in which the members of a large list or map are looked for.
const MEMBER_ENCODINGS: &[Encoding] = &[Encoding::Json, Encoding::JsonAscii, Encoding::JsonSlash, Encoding::Percent];

/// A list or map whose JSON text has more bytes is looked for by its members alone.
const MAX_STRUCTURE_BYTES: usize = 16 << 10;

/// Comparing what follows a head may take so many steps for each byte of the text. Only secrets that repeat
/// themselves over and over take more; then the rest of the text is masked as a whole.
const STEPS_PER_BYTE: usize = 32;

/// Masks secrets in texts. Secrets can be added at any time.
#[derive(Default)]
pub struct Masker {
    forms: Vec<Form>,
    known: FxHashSet<Arc<[u8]>>,
    /// Whether nothing is masked, since the user asked to see secrets.
    revealing: bool,
    /// Find the forms, each a run of them. Those of new forms are built when a text is looked at, and joined with one
    /// before it that is no larger: a run that captures thousands of secrets builds each form in a few times.
    automata: Mutex<Vec<Arc<Automaton>>>,
}

/// One way in which one secret may be written.
#[derive(Clone)]
struct Form {
    bytes: Arc<[u8]>,
    /// True if it is masked only as a whole word.
    whole_word: bool,
}

struct Automaton {
    /// Which of the forms it finds.
    range: Range<usize>,
    heads: AhoCorasick,
    /// For each head, the forms that begin with it.
    forms: Vec<Vec<usize>>,
}

impl fmt::Debug for Masker {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Masker({} forms)", self.forms.len())
    }
}

impl Clone for Masker {
    fn clone(&self) -> Self {
        let Self { forms, known, revealing, .. } = self;
        let automata = Mutex::new(self.automata().clone());
        Self { forms: forms.clone(), known: known.clone(), revealing: *revealing, automata }
    }
}

impl Masker {
    /// A masker that masks nothing, for a user who asked to see secrets.
    pub fn revealing() -> Self {
        Self::default().reveal()
    }

    /// The same secrets, shown.
    #[must_use]
    pub fn reveal(self) -> Self {
        Self { revealing: true, ..self }
    }

    /// The same secrets, masked even if the user asked to see them: for what is written to files.
    pub fn hiding(&self) -> Cow<'_, Masker> {
        match self.revealing {
            true => Cow::Owned(Self { revealing: false, ..self.clone() }),
            false => Cow::Borrowed(self),
        }
    }

    /// True if it masks nothing.
    pub fn reveals(&self) -> bool {
        self.revealing
    }

    /// How many forms are looked for. The number only grows.
    pub fn forms(&self) -> usize {
        self.forms.len()
    }

    /// Masks these values from now on, as texts or as JSON; of a list or map also the texts in it that have at
    /// least 8 bytes.
    pub fn learn(&mut self, secrets: impl IntoIterator<Item = Value>) {
        for value in secrets {
            match value.to_text() {
                Ok(text) => self.add(&text),
                Err(_) => {
                    let shown = value.show();
                    if shown.len() <= MAX_STRUCTURE_BYTES {
                        self.add(&shown);
                    }
                    self.learn_members(&value.to_json(), &mut 0);
                }
            }
        }
    }

    fn learn_members(&mut self, value: &serde_json::Value, count: &mut usize) {
        match value {
            serde_json::Value::String(text) if text.len() >= MIN_PART_BYTES => {
                *count += 1;
                match *count <= MAX_MASKED_MEMBERS {
                    true => self.add(text),
                    false => self.add_forms(text, MEMBER_ENCODINGS),
                }
            }
            serde_json::Value::Array(members) => members.iter().for_each(|member| self.learn_members(member, count)),
            serde_json::Value::Object(members) => {
                members.values().for_each(|member| self.learn_members(member, count));
            }
            _ => {}
        }
    }

    /// Masks a text from now on that may be a secret, unless it is so short that it occurs everywhere.
    pub fn add_unless_short(&mut self, text: &str) {
        if text.len() >= MIN_PART_BYTES {
            self.add(text);
        }
    }

    /// Masks `secret` from now on: as a whole, each of its long lines, and the parts of a URL. Empty text is
    /// not a secret.
    pub fn add(&mut self, secret: &str) {
        if secret.is_empty() || self.known.contains(secret.as_bytes()) {
            return;
        }
        self.add_forms(secret, Encoding::ALL);
        if secret.chars().count() < MIN_SECRET_BYTES {
            return;
        }
        for form in base64_forms(secret) {
            self.insert(form.as_bytes(), false);
        }
        if secret.contains('\n') {
            secret.lines().map(str::trim).for_each(|line| self.add_unless_short(line));
        }
        self.add_parts_of_url(secret);
    }

    fn add_forms(&mut self, secret: &str, encodings: &[Encoding]) {
        let whole_word = secret.chars().count() < MIN_SECRET_BYTES;
        self.insert(secret.as_bytes(), whole_word);
        for encoding in encodings {
            // Two hexadecimal digits occur everywhere.
            if !(whole_word && matches!(encoding, Encoding::Hex | Encoding::HexUpper)) {
                self.insert(encoding.of(secret).as_bytes(), whole_word);
            }
        }
    }

    /// A server, a log or a header line may show parts of a URL that is a secret.
    fn add_parts_of_url(&mut self, secret: &str) {
        if !secret.contains("://") {
            return;
        }
        let Ok(url) = Url::parse(secret.trim()) else { return };
        if !url.has_host() {
            return;
        }
        self.add_forms(url.as_str(), Encoding::ALL);
        if let Some(password) = url.password() {
            let decoded = percent_encoding::percent_decode_str(password).decode_utf8_lossy();
            self.add(&decoded);
        }
        let from_path = &url[url::Position::BeforePath..];
        self.add_unless_short(from_path);
        self.add_unless_short(&url[url::Position::BeforePath..url::Position::AfterPath]);
        self.add_unless_short(&url[url::Position::BeforePath..url::Position::AfterQuery]);
        for segment in url.path_segments().into_iter().flatten() {
            self.add_unless_short(segment);
        }
        for (_, value) in url.query_pairs() {
            self.add_unless_short(&value);
        }
    }

    fn insert(&mut self, form: &[u8], whole_word: bool) {
        if form.is_empty() || self.known.contains(form) {
            return;
        }
        let bytes: Arc<[u8]> = form.into();
        self.known.insert(Arc::clone(&bytes));
        self.forms.push(Form { bytes, whole_word });
    }

    /// `text` with every secret replaced by [`MASK`].
    pub fn mask<'t>(&self, text: &'t str) -> Cow<'t, str> {
        match self.mask_bytes(text.as_bytes()) {
            Cow::Borrowed(_) => Cow::Borrowed(text),
            // The forms are text, and text without some of its text is text.
            Cow::Owned(masked) => Cow::Owned(String::from_utf8_lossy(&masked).into_owned()),
        }
    }

    /// The same, of text that may be shared.
    pub fn mask_cow<'t>(&self, text: Cow<'t, str>) -> Cow<'t, str> {
        match text {
            Cow::Borrowed(text) => self.mask(text),
            Cow::Owned(mut text) => {
                self.hide(&mut text);
                Cow::Owned(text)
            }
        }
    }

    /// Masks secrets in all texts of a problem.
    pub fn hide_in_problem(&self, problem: &mut Problem) {
        let Problem { message, hint, replacement, related, missing, .. } = problem;
        let replacement = replacement.iter_mut().map(|replacement| &mut **replacement);
        let related = related.iter_mut().map(|related| &mut related.message);
        let reason = missing.iter_mut().filter_map(|missing| missing.reason.as_mut());
        [message]
            .into_iter()
            .chain(hint)
            .chain(replacement)
            .chain(related)
            .chain(reason)
            .for_each(|words| self.hide(words));
    }

    /// The same, in place.
    pub fn hide(&self, text: &mut String) {
        if let Cow::Owned(masked) = self.mask(text) {
            *text = masked;
        }
    }

    /// Whether a secret occurs in `text`, masked or not: then it must not be written to a file.
    pub fn finds_in(&self, text: &str) -> bool {
        self.finds_in_bytes(text.as_bytes())
    }

    /// The same of bytes.
    pub fn finds_in_bytes(&self, bytes: &[u8]) -> bool {
        !self.forms.is_empty() && !self.spans(bytes).is_empty()
    }

    /// Where secrets are in `text`, in order; those that [`Self::mask`] replaces.
    pub fn secrets_in(&self, text: &str) -> Vec<Range<usize>> {
        self.spans(text.as_bytes())
    }

    /// `bytes` with every secret replaced, whatever else they hold.
    pub fn mask_bytes<'t>(&self, bytes: &'t [u8]) -> Cow<'t, [u8]> {
        if self.revealing || self.forms.is_empty() {
            return Cow::Borrowed(bytes);
        }
        let spans = self.spans(bytes);
        if spans.is_empty() {
            return Cow::Borrowed(bytes);
        }
        let (mut out, mut at) = (Vec::with_capacity(bytes.len()), 0);
        for span in spans {
            out.extend_from_slice(&bytes[at..span.start]);
            out.extend_from_slice(MASK.as_bytes());
            at = span.end;
        }
        out.extend_from_slice(&bytes[at..]);
        Cow::Owned(out)
    }

    /// The places of secrets, in order. Overlapping ones are one place, so that no part of either stays.
    fn spans(&self, text: &[u8]) -> Vec<Range<usize>> {
        let mut spans: Vec<Range<usize>> = Vec::new();
        if self.forms.is_empty() {
            return spans;
        }
        let mut steps = text.len().saturating_mul(STEPS_PER_BYTE).saturating_add(1 << 16);
        let automata = self.up_to_date();
        for automaton in &automata {
            let found = automaton.find(&self.forms, text, &mut steps);
            if spans.is_empty() {
                spans = found;
            } else if !found.is_empty() {
                // Only what one automaton finds is in order.
                let mut all = [std::mem::take(&mut spans), found].concat();
                all.sort_unstable_by_key(|span| span.start);
                all.into_iter().for_each(|span| add_span(&mut spans, span));
            }
        }
        spans
    }

    fn automata(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Automaton>>> {
        self.automata.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The automata of all forms.
    fn up_to_date(&self) -> Vec<Arc<Automaton>> {
        let mut automata = self.automata();
        let mut start = automata.last().map_or(0, |last| last.range.end);
        if start < self.forms.len() {
            while let Some(last) = automata.pop_if(|last| last.range.len() <= self.forms.len() - start) {
                start = last.range.start;
            }
            automata.push(Arc::new(Automaton::new(&self.forms, start..self.forms.len())));
        }
        automata.clone()
    }
}

impl Automaton {
    fn new(all: &[Form], range: Range<usize>) -> Self {
        let (mut heads, mut forms) = (Vec::<&[u8]>::new(), Vec::<Vec<usize>>::new());
        let mut by_head: FxHashMap<&[u8], usize> = FxHashMap::default();
        for (index, form) in range.clone().zip(&all[range.clone()]) {
            let head = &form.bytes[..form.bytes.len().min(INDEXED_BYTES)];
            let place = *by_head.entry(head).or_insert_with(|| {
                heads.push(head);
                forms.push(Vec::new());
                heads.len() - 1
            });
            forms[place].push(index);
        }
        // The other kinds are faster for longer texts than answers are, and take far longer to build.
        let heads = AhoCorasick::builder().kind(Some(AhoCorasickKind::ContiguousNFA)).build(&heads);
        Self { range, heads: heads.expect("patterns of 32 bytes fit"), forms }
    }

    /// The places of its forms, those with overlaps as one.
    fn find(&self, all: &[Form], text: &[u8], steps: &mut usize) -> Vec<Range<usize>> {
        let mut spans = Vec::new();
        for found in self.heads.find_overlapping_iter(text) {
            for form in self.forms[found.pattern().as_usize()].iter().map(|index| &all[*index]) {
                let rest = &form.bytes[found.end() - found.start()..];
                let same = text[found.end()..].iter().zip(rest).take_while(|(a, b)| a == b).count();
                let span = found.start()..found.end() + same;
                match steps.checked_sub(same) {
                    Some(left) => *steps = left,
                    None => {
                        add_span(&mut spans, found.start()..text.len());
                        return spans;
                    }
                }
                if !form.whole_word || is_whole_word(text, &span) {
                    add_span(&mut spans, span);
                }
            }
        }
        spans
    }
}

/// Adds a span to those before it; they come in the order of where their heads end.
fn add_span(spans: &mut Vec<Range<usize>>, mut span: Range<usize>) {
    while let Some(last) = spans.last().filter(|last| last.end > span.start) {
        span = last.start.min(span.start)..last.end.max(span.end);
        spans.pop();
    }
    spans.push(span);
}

fn is_whole_word(text: &[u8], span: &Range<usize>) -> bool {
    let is_word = |byte: &u8| byte.is_ascii_alphanumeric() || *byte == b'_' || !byte.is_ascii();
    let before = span.start.checked_sub(1).and_then(|at| text.get(at));
    !before.is_some_and(is_word) && !text.get(span.end).is_some_and(is_word)
}
