//! Lists and objects of a JSON text, read in place.

use super::scan::{skip_blank, skip_string, skip_value, string};
use crate::value::{List, ListSource, Map, MapSource, Value};
use bytes::Bytes;
use rustc_hash::FxHashMap;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// A text that is known to be JSON.
pub(super) struct Document {
    text: Bytes,
    /// Where each large list or object ends that begins at a place.
    ends: FxHashMap<u32, u32>,
    /// The members of large lists and objects, by where they begin, so that a loop that asks for the same one again
    /// does not look for its members again.
    known: Mutex<FxHashMap<u32, Arc<Members>>>,
}

/// Lists and objects whose text is shorter than this are gone through again when they are asked for again.
const KEPT_FROM_BYTES: usize = 512;

/// Objects with more members than this are searched by a sorted index, once they were searched a few times.
const INDEXED_FROM_MEMBERS: usize = 64;
const INDEXED_FROM_SEARCHES: u32 = 8;

/// Where the members of a list or object are.
struct Members {
    /// Where each begins: of an object, its name.
    starts: Box<[u32]>,
    /// The members of an object in the order of their names.
    sorted: OnceLock<Box<[u32]>>,
    searches: AtomicU32,
}

impl Document {
    pub(super) fn new(text: Bytes, ends: FxHashMap<u32, u32>) -> Self {
        Self { text, ends, known: Mutex::default() }
    }

    /// The value that begins at a place.
    pub(super) fn value_at(document: &Arc<Self>, at: usize) -> Value {
        let text = &document.text[..];
        match text.get(at) {
            Some(b'{') => Value::Map(Map::from_source(Arc::new(Node::new(document, at)))),
            Some(b'[') => Value::List(List::from_source(Arc::new(Node::new(document, at)))),
            Some(b'"') => Value::string(&*string(text, at)),
            Some(b't') => Value::Bool(true),
            Some(b'f') => Value::Bool(false),
            Some(b'n') | None => Value::Null,
            Some(_) => Value::from_digits(std::str::from_utf8(&text[at..skip_value(text, at)]).unwrap_or_default()),
        }
    }

    /// The end of the value that begins at a place.
    fn end_of(&self, at: usize) -> usize {
        match self.text.get(at) {
            Some(b'{' | b'[') if let Some(end) = self.ends.get(&(at as u32)) => *end as usize,
            _ => skip_value(&self.text, at),
        }
    }

    /// Where the value of the last member with a name begins, in the object that begins at a place.
    fn find_in_object(&self, open: usize, name: &str) -> Option<usize> {
        let text = &self.text[..];
        let (mut found, mut at) = (None, skip_blank(text, open + 1));
        while text.get(at) == Some(&b'"') {
            let value = value_of_member(text, at);
            if has_name(text, at, name) {
                found = Some(value);
            }
            at = skip_blank(text, self.end_of(value));
            if text.get(at) == Some(&b',') {
                at = skip_blank(text, at + 1);
            }
        }
        found
    }

    /// Where the member with an index begins, in the list that begins at a place.
    fn find_in_list(&self, open: usize, index: usize) -> Option<usize> {
        let text = &self.text[..];
        let mut at = skip_blank(text, open + 1);
        for _ in 0..index {
            at = skip_blank(text, self.end_of(at));
            if text.get(at) != Some(&b',') {
                return None;
            }
            at = skip_blank(text, at + 1);
        }
        (text.get(at) != Some(&b']')).then_some(at)
    }

    /// The members of the list or object that begins at a place.
    fn members(&self, at: usize) -> Arc<Members> {
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(members) = known().get(&(at as u32)) {
            return Arc::clone(members);
        }
        let members = Arc::new(Members::find(self, at));
        if self.end_of(at) - at >= KEPT_FROM_BYTES {
            known().insert(at as u32, Arc::clone(&members));
        }
        members
    }
}

impl Members {
    fn find(document: &Document, open: usize) -> Self {
        let text = &document.text[..];
        let is_object = text.get(open) == Some(&b'{');
        let mut starts: Vec<u32> = Vec::new();
        let mut at = skip_blank(text, open + 1);
        while !matches!(text.get(at), Some(b'}' | b']') | None) {
            starts.push(at as u32);
            let value = if is_object { value_of_member(text, at) } else { at };
            at = skip_blank(text, document.end_of(value));
            if text.get(at) == Some(&b',') {
                at = skip_blank(text, at + 1);
            }
        }
        if is_object {
            remove_repeated(text, &mut starts);
        }
        let (sorted, searches) = (OnceLock::new(), AtomicU32::new(0));
        Self { starts: starts.into(), sorted, searches }
    }

    /// The member of an object with a name: where the name begins.
    fn find_name(&self, text: &[u8], name: &str) -> Option<usize> {
        let is_long = self.starts.len() > INDEXED_FROM_MEMBERS;
        if is_long && self.searches.fetch_add(1, Ordering::Relaxed) >= INDEXED_FROM_SEARCHES {
            let sorted = self.sorted.get_or_init(|| {
                let mut sorted = self.starts.clone();
                sorted.sort_by_cached_key(|start| string(text, *start as usize));
                sorted
            });
            let found = sorted.binary_search_by(|start| (*string(text, *start as usize)).cmp(name)).ok()?;
            return Some(sorted[found] as usize);
        }
        self.starts.iter().map(|start| *start as usize).find(|start| has_name(text, *start, name))
    }
}

/// Where the value of the member begins whose name begins at a place.
fn value_of_member(text: &[u8], name: usize) -> usize {
    let colon = skip_blank(text, skip_string(text, name));
    skip_blank(text, colon + 1)
}

/// Whether the string at a place is this one.
fn has_name(text: &[u8], at: usize, name: &str) -> bool {
    let inner = &text[at + 1..];
    if inner.starts_with(name.as_bytes()) && inner.get(name.len()) == Some(&b'"') {
        // A backslash in the name itself would be an escape in the text.
        return !name.contains('\\');
    }
    let end = skip_string(text, at);
    memchr::memchr(b'\\', &text[at..end]).is_some() && string(text, at) == name
}

/// Of members with the same name, keeps the place of the first one and the value of the last one.
fn remove_repeated(text: &[u8], starts: &mut Vec<u32>) {
    /// So few are compared with each other.
    const FEW: usize = 16;
    let name = |start: u32| -> Cow<'_, str> { string(text, start as usize) };
    if starts.len() <= FEW {
        let quoted = |start: u32| &text[start as usize..skip_string(text, start as usize)];
        let is_plain = |start: u32| !quoted(start).contains(&b'\\');
        let equal = |a: u32, b: u32| match is_plain(a) && is_plain(b) {
            true => quoted(a) == quoted(b),
            false => name(a) == name(b),
        };
        let mut at = 1;
        while at < starts.len() {
            match starts[..at].iter().position(|earlier| equal(*earlier, starts[at])) {
                Some(first) => starts[first] = starts.remove(at),
                None => at += 1,
            }
        }
        return;
    }
    let mut seen = HashSet::with_capacity(starts.len());
    if starts.iter().all(|start| seen.insert(name(*start))) {
        return;
    }
    let mut places: HashMap<Cow<'_, str>, usize> = HashMap::new();
    let mut kept: Vec<u32> = Vec::new();
    for start in starts.iter() {
        match places.entry(name(*start)) {
            std::collections::hash_map::Entry::Occupied(place) => kept[*place.get()] = *start,
            std::collections::hash_map::Entry::Vacant(place) => {
                place.insert(kept.len());
                kept.push(*start);
            }
        }
    }
    *starts = kept;
}

/// A list or object of a document.
struct Node {
    document: Arc<Document>,
    start: usize,
    members: OnceLock<Arc<Members>>,
    /// Whether a member was searched before. Of most objects in a list one member is asked for, once.
    was_searched: AtomicBool,
}

impl Node {
    fn new(document: &Arc<Document>, start: usize) -> Self {
        let (members, was_searched) = (OnceLock::new(), AtomicBool::new(false));
        Self { document: Arc::clone(document), start, members, was_searched }
    }

    fn members(&self) -> &Members {
        self.members.get_or_init(|| self.document.members(self.start))
    }

    fn value_of(&self, name: usize) -> Value {
        Document::value_at(&self.document, value_of_member(&self.document.text, name))
    }

    fn text(&self) -> &[u8] {
        &self.document.text[self.start..self.document.end_of(self.start)]
    }
}

impl ListSource for Node {
    fn len(&self) -> usize {
        self.members().starts.len()
    }

    fn get(&self, index: usize) -> Option<Value> {
        if self.members.get().is_none() && !self.was_searched.swap(true, Ordering::Relaxed) {
            let start = self.document.find_in_list(self.start, index)?;
            return Some(Document::value_at(&self.document, start));
        }
        let start = *self.members().starts.get(index)?;
        Some(Document::value_at(&self.document, start as usize))
    }

    fn json(&self) -> Option<&[u8]> {
        Some(self.text())
    }
}

impl MapSource for Node {
    fn len(&self) -> usize {
        self.members().starts.len()
    }

    fn get(&self, name: &str) -> Option<Value> {
        if self.members.get().is_none() && !self.was_searched.swap(true, Ordering::Relaxed) {
            let found = self.document.find_in_object(self.start, name)?;
            return Some(Document::value_at(&self.document, found));
        }
        self.members().find_name(&self.document.text, name).map(|start| self.value_of(start))
    }

    fn entry(&self, index: usize) -> Option<(Arc<str>, Value)> {
        let start = *self.members().starts.get(index)? as usize;
        Some((string(&self.document.text, start).into(), self.value_of(start)))
    }

    fn json(&self) -> Option<&[u8]> {
        Some(self.text())
    }
}
