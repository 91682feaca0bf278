//! A record of an evaluation, to explain its result.

use crate::eval_error::EvalError;
use crate::tree::NodeId;
use crate::value::Value;

/// The values of the parts of an expression, as they were when it was evaluated last.
#[derive(Debug, Default)]
pub struct Record {
    parts: Vec<Option<(u64, Result<Value, EvalError>)>>,
    loops: Vec<(NodeId, Loop)>,
    clock: u64,
}

/// A loop: `all`, `exists` and the like.
#[derive(Clone, Debug)]
pub struct Loop {
    /// How many elements there are.
    pub length: usize,
    /// The element that decided: of `all` the first of which the condition does not hold, of `exists` the first of
    /// which it does.
    pub deciding: Option<Element>,
    /// When the last element was begun: what was recorded before is of another one.
    began: u64,
}

/// An element of a loop.
#[derive(Clone, Debug)]
pub struct Element {
    /// Its index.
    pub index: usize,
    /// Its index or key as a value.
    pub key: Value,
    /// The element; of a map the value.
    pub value: Value,
    /// The outcome of the condition.
    pub outcome: Result<Value, EvalError>,
    /// True if it was the last element that was evaluated: then the parts of the condition have their values of it.
    pub is_last: bool,
}

impl Record {
    /// An empty record.
    pub fn new() -> Self {
        Self::default()
    }

    /// The value of a part, or why it has none; nothing if it was not evaluated.
    pub fn part(&self, node: NodeId) -> Option<&Result<Value, EvalError>> {
        self.parts.get(node.index())?.as_ref().map(|(_, outcome)| outcome)
    }

    /// The value of a part of the condition of a loop, of the element that was looked at last.
    pub fn part_in(&self, of: &Loop, node: NodeId) -> Option<&Result<Value, EvalError>> {
        let (when, outcome) = self.parts.get(node.index())?.as_ref()?;
        (*when > of.began).then_some(outcome)
    }

    /// The record of a loop.
    pub fn find_loop(&self, node: NodeId) -> Option<&Loop> {
        self.loops.iter().find(|(known, _)| *known == node).map(|(_, found)| found)
    }

    pub(crate) fn begin(&mut self, nodes: usize) {
        self.parts.clear();
        self.parts.resize(nodes, None);
        self.loops.clear();
        self.clock = 0;
    }

    #[inline]
    pub(crate) fn note(&mut self, node: NodeId, outcome: &Result<Value, EvalError>) {
        self.clock += 1;
        self.parts[node.index()] = Some((self.clock, outcome.clone()));
    }

    pub(crate) fn now(&self) -> u64 {
        self.clock
    }

    pub(crate) fn note_loop(&mut self, node: NodeId, length: usize, deciding: Option<Element>, began: u64) {
        let found = Loop { length, deciding, began };
        match self.loops.iter_mut().find(|(known, _)| *known == node) {
            Some((_, known)) => *known = found,
            None => self.loops.push((node, found)),
        }
    }
}
