//! Evaluates macros.

use super::{Evaluator, Outcome};
use crate::eval_error::{EvalError, EvalErrorKind};
use crate::functions::{Fault, sorted};
use crate::program::{MacroKind, Operation};
use crate::record::Element;
use crate::tree::NodeId;
use crate::value::{List, Map, Value};

/// The list or map that a loop goes through.
enum Elements {
    List(List),
    Map(Map),
}

impl Elements {
    fn len(&self) -> usize {
        match self {
            Elements::List(list) => list.len(),
            Elements::Map(map) => map.len(),
        }
    }

    /// Index and element, or key and value.
    fn get(&self, index: usize) -> Option<(Value, Value)> {
        match self {
            Elements::List(list) => list.get(index).map(|value| (Value::Int(index as i64), value)),
            Elements::Map(map) => map.entry(index).map(|(key, value)| (key.into(), value)),
        }
    }
}

impl Evaluator<'_> {
    pub(super) fn macro_call(
        &mut self,
        id: NodeId,
        kind: MacroKind,
        (receiver, of): (NodeId, Value),
        arguments: &[NodeId],
    ) -> Outcome {
        match (kind, arguments) {
            (MacroKind::Bind, [result]) => self.with_local(of, *result),
            (MacroKind::OptMap | MacroKind::OptFlatMap, [result]) => match of {
                Value::Optional(None) => Ok(Value::none()),
                Value::Optional(Some(value)) => {
                    let found = self.with_local((*value).clone(), *result)?;
                    match (kind, found) {
                        (MacroKind::OptMap, found) => Ok(Value::some(found)),
                        (_, found @ Value::Optional(_)) => Ok(found),
                        (_, other) => self.fail(*result, EvalErrorKind::NotOptional(other.type_name())),
                    }
                }
                other => self.fail(receiver, EvalErrorKind::NotOptional(other.type_name())),
            },
            _ => {
                let elements = match of {
                    Value::List(list) => Elements::List(list),
                    Value::Map(map) => Elements::Map(map),
                    other => return self.fail(receiver, EvalErrorKind::NotIterable(other.type_name())),
                };
                let before = self.locals.len();
                let outcome = self.go_through(id, kind, &elements, arguments);
                self.locals.truncate(before);
                outcome
            }
        }
    }

    fn with_local(&mut self, value: Value, result: NodeId) -> Outcome {
        self.locals.push(value);
        let outcome = self.node(result);
        self.locals.pop();
        outcome
    }

    fn go_through(&mut self, id: NodeId, kind: MacroKind, elements: &Elements, arguments: &[NodeId]) -> Outcome {
        match (kind, arguments) {
            (MacroKind::All { pair }, [condition]) => self.quantify(id, elements, pair, *condition, false),
            (MacroKind::Exists { pair }, [condition]) => self.quantify(id, elements, pair, *condition, true),
            (MacroKind::ExistsOne { pair }, [condition]) => self.exists_one(id, elements, pair, *condition),
            (MacroKind::Map { pair }, arguments) => {
                let mut values = Vec::new();
                self.each(id, elements, pair, arguments, |evaluator, _, _, result| {
                    let value = evaluator.node(result)?;
                    evaluator.bytes(id, 32)?;
                    values.push(value);
                    Ok(())
                })?;
                Ok(Value::list(values))
            }
            (MacroKind::Filter, [condition]) => {
                let mut values = Vec::new();
                let is_map = matches!(elements, Elements::Map(_));
                self.each(id, elements, false, &[*condition], |evaluator, key, value, condition| {
                    if evaluator.condition(condition)? {
                        evaluator.bytes(id, 32)?;
                        values.push(if is_map { key } else { value });
                    }
                    Ok(())
                })?;
                Ok(Value::list(values))
            }
            (MacroKind::TransformMap, arguments) => {
                let mut map = indexmap::IndexMap::new();
                self.each(id, elements, true, arguments, |evaluator, key, _, result| {
                    let value = evaluator.node(result)?;
                    evaluator.bytes(id, 64)?;
                    evaluator.insert(result, &mut map, &key, value)
                })?;
                Ok(Value::Map(map.into()))
            }
            (MacroKind::TransformMapEntry, arguments) => {
                let mut map = indexmap::IndexMap::new();
                self.each(id, elements, true, arguments, |evaluator, _, _, result| {
                    let entry = evaluator.node(result)?;
                    evaluator.bytes(id, 64)?;
                    let entries = entry.as_map().cloned();
                    for (key, value) in entries.iter().flat_map(Map::iter) {
                        evaluator.insert(result, &mut map, &key.into(), value)?;
                    }
                    Ok(())
                })?;
                Ok(Value::Map(map.into()))
            }
            (MacroKind::SortBy, [key]) => {
                let mut pairs = Vec::new();
                self.each(id, elements, false, &[*key], |evaluator, _, value, key| {
                    let key = evaluator.node(key)?;
                    evaluator.bytes(id, 64)?;
                    pairs.push((key, value));
                    Ok(())
                })?;
                sorted(pairs).or_else(|fault| match fault {
                    Fault::Kind(kind) => self.fail(id, kind),
                    Fault::Message(message) => {
                        self.fail(id, EvalErrorKind::Function { function: "sortBy".to_owned(), message })
                    }
                    Fault::NoOverload => self.fail(id, EvalErrorKind::Syntax),
                })
            }
            _ => self.fail(id, EvalErrorKind::Syntax),
        }
    }

    /// Does something with each element of which the condition holds that is before the last argument, if there is one.
    fn each(
        &mut self,
        id: NodeId,
        elements: &Elements,
        pair: bool,
        arguments: &[NodeId],
        mut work: impl FnMut(&mut Self, Value, Value, NodeId) -> Result<(), EvalError>,
    ) -> Result<(), EvalError> {
        let Some((result, conditions)) = arguments.split_last() else { return self.fail(id, EvalErrorKind::Syntax) };
        for index in 0..elements.len() {
            let Some((key, value)) = elements.get(index) else { break };
            self.bind(id, elements, pair, &key, &value, index)?;
            let mut holds = true;
            for condition in conditions {
                holds = holds && self.condition(*condition)?;
            }
            if holds {
                work(self, key, value, *result)?;
            }
        }
        Ok(())
    }

    /// Binds the variables of a loop to an element.
    fn bind(
        &mut self,
        id: NodeId,
        elements: &Elements,
        pair: bool,
        key: &Value,
        value: &Value,
        index: usize,
    ) -> Result<(), EvalError> {
        let steps = self.steps_of_loop(id);
        self.take(id, |budget| budget.take_steps(steps))?;
        if index > 0 {
            self.locals.truncate(self.locals.len() - if pair { 2 } else { 1 });
        }
        match (pair, elements) {
            (true, _) => self.locals.extend([key.clone(), value.clone()]),
            (false, Elements::List(_)) => self.locals.push(value.clone()),
            (false, Elements::Map(_)) => self.locals.push(key.clone()),
        }
        Ok(())
    }

    /// The steps that one turn of a loop takes: one, and more if a long expression is in it.
    fn steps_of_loop(&self, id: NodeId) -> u64 {
        let Operation::Macro { receiver, .. } = self.operation(id) else { return 1 };
        1 + ((id.index() - receiver.index()) >> 6) as u64
    }

    fn condition(&mut self, condition: NodeId) -> Result<bool, EvalError> {
        match self.node(condition)? {
            Value::Bool(truth) => Ok(truth),
            other => self.fail(condition, EvalErrorKind::Condition(other.type_name())),
        }
    }

    /// `all` and `exists`: the first element whose condition is `decides` decides, even if others fail.
    fn quantify(&mut self, id: NodeId, elements: &Elements, pair: bool, condition: NodeId, decides: bool) -> Outcome {
        let mut failed: Option<(usize, EvalError)> = None;
        let mut deciding = None;
        let mut began = 0;
        for index in 0..elements.len() {
            let Some((key, value)) = elements.get(index) else { break };
            self.bind(id, elements, pair, &key, &value, index)?;
            began = self.record.as_ref().map_or(0, |record| record.now());
            match self.condition(condition) {
                Ok(truth) if truth == decides => {
                    deciding = Some(Element { index, key, value, outcome: Ok(Value::Bool(truth)), is_last: true });
                    break;
                }
                Ok(_) => {}
                Err(error) if is_limit(&error) => return Err(error),
                Err(error) => {
                    failed.get_or_insert((index, error));
                }
            }
        }
        let found = deciding.is_some();
        if let (None, Some((index, error))) = (&deciding, &failed)
            && let Some((key, value)) = elements.get(*index)
        {
            let is_last = index + 1 == elements.len();
            deciding = Some(Element { index: *index, key, value, outcome: Err(error.clone()), is_last });
        }
        if let Some(record) = &mut self.record {
            record.note_loop(id, elements.len(), deciding, began);
        }
        match failed {
            Some((_, error)) if !found => Err(error),
            _ => Ok(Value::Bool(found == decides)),
        }
    }

    fn exists_one(&mut self, id: NodeId, elements: &Elements, pair: bool, condition: NodeId) -> Outcome {
        let mut count = 0_usize;
        self.each(id, elements, pair, &[condition], |evaluator, _, _, condition| {
            count += usize::from(evaluator.condition(condition)?);
            Ok(())
        })?;
        Ok(Value::Bool(count == 1))
    }
}

/// Whether an error is a limit that was reached: nothing else is evaluated after it.
pub(super) fn is_limit(error: &EvalError) -> bool {
    match error.kind() {
        EvalErrorKind::Steps(_) | EvalErrorKind::Bytes(_) => true,
        EvalErrorKind::InFunction(inner) => is_limit(&inner.error),
        _ => false,
    }
}
