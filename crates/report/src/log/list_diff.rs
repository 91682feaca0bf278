//! Which members of two lists belong together.

use rustc_hash::{FxHashMap, FxHasher};
use serde_json::{Map, Value};
use similar::{Algorithm, DiffOp, capture_diff_slices};
use std::hash::{Hash, Hasher};

/// Names of members that usually identify an object of a list, the most likely first.
const LIKELY_KEYS: [&str; 6] = ["id", "key", "uuid", "number", "code", "name"];

/// Lists of up to this many members without a key are aligned by content, in time that grows with the square of their
/// number. Longer ones are aligned by index.
const MAX_MYERS_ITEMS: usize = 4_000;

/// The change of the members of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum ListEdit {
    /// The member at the first index moved to the second.
    Both(usize, usize),
    /// Equal, but in another order than those around it.
    Moved(usize, usize),
    /// The one at this place of the old list is gone.
    Gone(usize),
    /// The one at this place of the new list is new.
    New(usize),
}

/// A member name whose value is in every object of both lists, and in none twice.
pub(super) fn key_of<'v>(left: &'v [Value], right: &[Value]) -> Option<&'v str> {
    let Value::Object(first) = left.first()? else { return None };
    let usual = LIKELY_KEYS.iter().filter_map(|key| first.get_key_value(*key)).map(|(key, _)| key.as_str());
    let others = first.keys().map(String::as_str).filter(|key| key.ends_with("id") || key.ends_with("Id"));
    usual.chain(others).find(|key| tells_apart(key, left) && tells_apart(key, right))
}

fn tells_apart(key: &str, list: &[Value]) -> bool {
    let mut seen: FxHashMap<String, ()> = FxHashMap::default();
    list.iter().all(|item| {
        let value = item.as_object().and_then(|members: &Map<String, Value>| members.get(key));
        value.and_then(label).is_some_and(|label| seen.insert(label, ()).is_none())
    })
}

/// A value that can name something: text or a number.
pub(super) fn label(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

/// Aligns the members of two lists: by their key, if they have one, else by content and index.
pub(super) fn pair(left: &[Value], right: &[Value], key: Option<&str>) -> Vec<ListEdit> {
    match key {
        Some(key) => by_key(left, right, key),
        None => by_place(left, right),
    }
}

fn by_key(left: &[Value], right: &[Value], key: &str) -> Vec<ListEdit> {
    let labels = |list: &[Value]| list.iter().map(|item| label(&item[key]).unwrap_or_default()).collect::<Vec<_>>();
    let (ours, theirs) = (labels(left), labels(right));
    let places: FxHashMap<&str, usize> = ours.iter().enumerate().map(|(at, label)| (label.as_str(), at)).collect();
    let common: Vec<(usize, usize)> =
        theirs.iter().enumerate().filter_map(|(at, label)| Some((*places.get(label.as_str())?, at))).collect();
    let in_order = longest_rise(&common.iter().map(|(old, _)| *old).collect::<Vec<_>>());
    let mut steps = Vec::with_capacity(left.len());
    let still: FxHashMap<usize, ()> = common.iter().map(|(old, _)| (*old, ())).collect();
    steps.extend((0..left.len()).filter(|old| !still.contains_key(old)).map(ListEdit::Gone));
    let mut common = common.into_iter().zip(in_order).peekable();
    for at in 0..right.len() {
        match common.next_if(|((_, new), _)| *new == at) {
            Some(((old, new), true)) => steps.push(ListEdit::Both(old, new)),
            Some(((old, new), false)) => steps.push(ListEdit::Moved(old, new)),
            None => steps.push(ListEdit::New(at)),
        }
    }
    steps
}

/// Which of the numbers belong to a longest rising sequence of them.
fn longest_rise(numbers: &[usize]) -> Vec<bool> {
    // For each length, where the sequence of that length with the lowest end ends.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = Vec::with_capacity(numbers.len());
    for (at, number) in numbers.iter().enumerate() {
        let length = ends.partition_point(|end| numbers[*end] < *number);
        before.push(length.checked_sub(1).map(|shorter| ends[shorter]));
        match ends.get_mut(length) {
            Some(end) => *end = at,
            None => ends.push(at),
        }
    }
    let mut rises = vec![false; numbers.len()];
    let mut at = ends.last().copied();
    while let Some(own) = at {
        rises[own] = true;
        at = before[own];
    }
    rises
}

fn by_place(left: &[Value], right: &[Value]) -> Vec<ListEdit> {
    let prints = |list: &[Value]| list.iter().map(print).collect::<Vec<u64>>();
    let (ours, theirs) = (prints(left), prints(right));
    let alike = ours.iter().zip(&theirs).take_while(|(old, new)| old == new).count();
    let (ours, theirs) = (&ours[alike..], &theirs[alike..]);
    let behind = ours.iter().rev().zip(theirs.iter().rev()).take_while(|(old, new)| old == new).count();
    let (ours, theirs) = (&ours[..ours.len() - behind], &theirs[..theirs.len() - behind]);
    let mut steps: Vec<ListEdit> = (0..alike).map(|at| ListEdit::Both(at, at)).collect();
    if ours.len() + theirs.len() > MAX_MYERS_ITEMS {
        replace(&mut steps, (alike, ours.len()), (alike, theirs.len()));
    } else {
        for op in capture_diff_slices(Algorithm::Myers, ours, theirs) {
            match op {
                DiffOp::Equal { old_index, new_index, len } => {
                    steps.extend((alike..alike + len).map(|at| ListEdit::Both(old_index + at, new_index + at)));
                }
                DiffOp::Delete { old_index, old_len, new_index } => {
                    replace(&mut steps, (alike + old_index, old_len), (alike + new_index, 0));
                }
                DiffOp::Insert { old_index, new_index, new_len } => {
                    replace(&mut steps, (alike + old_index, 0), (alike + new_index, new_len));
                }
                DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                    replace(&mut steps, (alike + old_index, old_len), (alike + new_index, new_len));
                }
            }
        }
    }
    let rest = (left.len() - behind..left.len()).zip(right.len() - behind..right.len());
    steps.extend(rest.map(|(old, new)| ListEdit::Both(old, new)));
    steps
}

/// Members at the same index are the same one, changed; the rest of the longer side is added or removed. Each is an
/// index and a length.
fn replace(steps: &mut Vec<ListEdit>, (old, gone): (usize, usize), (new, come): (usize, usize)) {
    let both = gone.min(come);
    steps.extend((0..both).map(|at| ListEdit::Both(old + at, new + at)));
    steps.extend((old + both..old + gone).map(ListEdit::Gone));
    steps.extend((new + both..new + come).map(ListEdit::New));
}

/// The same number for the same value. Should two values share one by chance, they are compared all the same.
fn print(value: &Value) -> u64 {
    let mut hasher = FxHasher::default();
    hash(value, &mut hasher);
    hasher.finish()
}

fn hash(value: &Value, hasher: &mut FxHasher) {
    std::mem::discriminant(value).hash(hasher);
    match value {
        Value::Null => {}
        Value::Bool(truth) => truth.hash(hasher),
        Value::Number(number) => number.hash(hasher),
        Value::String(text) => text.hash(hasher),
        Value::Array(items) => items.iter().for_each(|item| hash(item, hasher)),
        Value::Object(members) => {
            // The order of members says nothing.
            let own = |(name, member): (&String, &Value)| {
                let mut hasher = FxHasher::default();
                name.hash(&mut hasher);
                hash(member, &mut hasher);
                hasher.finish()
            };
            members.iter().map(own).fold(0u64, u64::wrapping_add).hash(hasher);
        }
    }
}
