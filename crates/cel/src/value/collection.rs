//! Lists and maps: of values, or read by the host as they are asked for.

use super::Value;
use indexmap::{Equivalent, IndexMap};
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// A list. Cloning shares it.
#[derive(Clone)]
pub struct List(ListKind);

#[derive(Clone)]
enum ListKind {
    Values(Arc<Owned<Vec<Value>>>),
    Source(Arc<dyn ListSource>),
}

/// Values with the depth of what holds them: how many lists and maps are inside each other. What is read in place counts
/// as one.
struct Owned<T> {
    values: T,
    depth: u32,
}

impl<T> Owned<T> {
    fn new(values: T, members: impl FnOnce(&T) -> Option<u32>) -> Arc<Self> {
        let depth = members(&values).unwrap_or_default().saturating_add(1);
        Arc::new(Self { values, depth })
    }
}

/// A list whose members are made when they are asked for.
pub trait ListSource: Send + Sync {
    /// How many members it has.
    fn len(&self) -> usize;

    /// True if it has no members.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The member at an index.
    fn get(&self, index: usize) -> Option<Value>;

    /// Its JSON text, if it is read in place from one.
    fn json(&self) -> Option<&[u8]> {
        None
    }
}

impl List {
    /// A list that is read in place.
    pub fn from_source(source: Arc<dyn ListSource>) -> Self {
        List(ListKind::Source(source))
    }

    /// How many members it has.
    pub fn len(&self) -> usize {
        match &self.0 {
            ListKind::Values(own) => own.values.len(),
            ListKind::Source(source) => source.len(),
        }
    }

    /// True if it has no members.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The member at an index.
    pub fn get(&self, index: usize) -> Option<Value> {
        match &self.0 {
            ListKind::Values(own) => own.values.get(index).cloned(),
            ListKind::Source(source) => source.get(index),
        }
    }

    /// The members, in order.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = Value> + ExactSizeIterator + '_ {
        (0..self.len()).map(|index| self.get(index).unwrap_or(Value::Null))
    }

    /// Its JSON text, if it is read in place from one.
    pub fn json(&self) -> Option<&[u8]> {
        match &self.0 {
            ListKind::Values(_) => None,
            ListKind::Source(source) => source.json(),
        }
    }

    pub(super) fn depth(&self) -> u32 {
        match &self.0 {
            ListKind::Values(own) => own.depth,
            ListKind::Source(_) => 1,
        }
    }
}

impl From<Vec<Value>> for List {
    fn from(values: Vec<Value>) -> Self {
        List(ListKind::Values(Owned::new(values, |values| values.iter().map(Value::depth).max())))
    }
}

impl FromIterator<Value> for List {
    fn from_iter<I: IntoIterator<Item = Value>>(values: I) -> Self {
        values.into_iter().collect::<Vec<_>>().into()
    }
}

/// A map. Its entries keep the order in which they were added. Cloning shares it.
#[derive(Clone)]
pub struct Map(MapKind);

#[derive(Clone)]
enum MapKind {
    Entries(Arc<Owned<IndexMap<Key, Value>>>),
    Source(Arc<dyn MapSource>),
}

/// A map from texts whose values are made when they are asked for.
pub trait MapSource: Send + Sync {
    /// How many entries it has.
    fn len(&self) -> usize;

    /// True if it has no entries.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The value of a name.
    fn get(&self, name: &str) -> Option<Value>;

    /// The name and value at an index, in the order of the map.
    fn entry(&self, index: usize) -> Option<(Arc<str>, Value)>;

    /// Its JSON text, if it is read in place from one.
    fn json(&self) -> Option<&[u8]> {
        None
    }
}

impl Map {
    /// A map that is read in place.
    pub fn from_source(source: Arc<dyn MapSource>) -> Self {
        Map(MapKind::Source(source))
    }

    /// How many entries it has.
    pub fn len(&self) -> usize {
        match &self.0 {
            MapKind::Entries(own) => own.values.len(),
            MapKind::Source(source) => source.len(),
        }
    }

    /// True if it has no entries.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The value of a key.
    pub fn get(&self, key: KeyRef<'_>) -> Option<Value> {
        match (&self.0, key) {
            (MapKind::Entries(own), key) => own.values.get(&key).cloned(),
            (MapKind::Source(source), KeyRef::String(name)) => source.get(name),
            (MapKind::Source(_), _) => None,
        }
    }

    /// The value of a name.
    pub fn member(&self, name: &str) -> Option<Value> {
        self.get(KeyRef::String(name))
    }

    /// The key and value at an index, in the order of the map.
    pub fn entry(&self, index: usize) -> Option<(Key, Value)> {
        match &self.0 {
            MapKind::Entries(own) => own.values.get_index(index).map(|(key, value)| (key.clone(), value.clone())),
            MapKind::Source(source) => source.entry(index).map(|(name, value)| (Key::String(name), value)),
        }
    }

    /// The entries, in order.
    pub fn iter(&self) -> impl Iterator<Item = (Key, Value)> + '_ {
        (0..self.len()).filter_map(|index| self.entry(index))
    }

    /// Its JSON text, if it is read in place from one.
    pub fn json(&self) -> Option<&[u8]> {
        match &self.0 {
            MapKind::Entries(_) => None,
            MapKind::Source(source) => source.json(),
        }
    }

    pub(super) fn depth(&self) -> u32 {
        match &self.0 {
            MapKind::Entries(own) => own.depth,
            MapKind::Source(_) => 1,
        }
    }
}

impl From<IndexMap<Key, Value>> for Map {
    fn from(entries: IndexMap<Key, Value>) -> Self {
        Map(MapKind::Entries(Owned::new(entries, |entries| entries.values().map(Value::depth).max())))
    }
}

impl FromIterator<(Key, Value)> for Map {
    fn from_iter<I: IntoIterator<Item = (Key, Value)>>(entries: I) -> Self {
        entries.into_iter().collect::<IndexMap<_, _>>().into()
    }
}

/// The key of an entry. Integers are equal if their numbers are, signed or not.
#[derive(Clone)]
pub enum Key {
    /// A truth value.
    Bool(bool),
    /// An integer.
    Int(i64),
    /// An unsigned integer.
    Uint(u64),
    /// A text.
    String(Arc<str>),
}

/// A key to look up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum KeyRef<'a> {
    /// A truth value.
    Bool(bool),
    /// A negative integer.
    Negative(i64),
    /// An integer from zero on.
    Natural(u64),
    /// A text.
    String(&'a str),
}

impl Key {
    /// The text, if it is one.
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Key::String(text) => Some(text),
            _ => None,
        }
    }

    /// The key as what is looked up.
    pub fn as_ref(&self) -> KeyRef<'_> {
        match self {
            Key::Bool(truth) => KeyRef::Bool(*truth),
            Key::Int(number) => u64::try_from(*number).map_or(KeyRef::Negative(*number), KeyRef::Natural),
            Key::Uint(number) => KeyRef::Natural(*number),
            Key::String(text) => KeyRef::String(text),
        }
    }

    /// The key as text.
    pub fn text(&self) -> String {
        match self {
            Key::Bool(truth) => truth.to_string(),
            Key::Int(number) => number.to_string(),
            Key::Uint(number) => number.to_string(),
            Key::String(text) => text.to_string(),
        }
    }

    /// A value as a key; none for one of a type that keys do not have.
    pub fn from_value(value: &Value) -> Option<Self> {
        Some(match value {
            Value::Bool(truth) => Key::Bool(*truth),
            Value::Int(number) => Key::Int(*number),
            Value::Uint(number) => Key::Uint(*number),
            Value::String(text) => Key::String(Arc::clone(text)),
            _ => return None,
        })
    }
}

impl<'a> KeyRef<'a> {
    /// The key that a value looks up: a double with a whole number finds an integer.
    pub fn from_value(value: &'a Value) -> Option<Self> {
        let number = |number: i64| u64::try_from(number).map_or(KeyRef::Negative(number), KeyRef::Natural);
        Some(match value {
            Value::Bool(truth) => KeyRef::Bool(*truth),
            Value::Int(int) => number(*int),
            Value::Uint(uint) => KeyRef::Natural(*uint),
            Value::Double(double) => super::number::whole(*double).map(|whole| match i64::try_from(whole) {
                Ok(int) => number(int),
                Err(_) => KeyRef::Natural(whole as u64),
            })?,
            Value::String(text) => KeyRef::String(text),
            _ => return None,
        })
    }
}

impl From<Key> for Value {
    fn from(key: Key) -> Self {
        match key {
            Key::Bool(truth) => Value::Bool(truth),
            Key::Int(number) => Value::Int(number),
            Key::Uint(number) => Value::Uint(number),
            Key::String(text) => Value::String(text),
        }
    }
}

impl PartialEq for Key {
    fn eq(&self, other: &Self) -> bool {
        self.as_ref() == other.as_ref()
    }
}

impl Eq for Key {}

impl Hash for Key {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.as_ref().hash(state);
    }
}

impl Equivalent<Key> for KeyRef<'_> {
    fn equivalent(&self, key: &Key) -> bool {
        *self == key.as_ref()
    }
}

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        Value::from(self.clone()).fmt(f)
    }
}
