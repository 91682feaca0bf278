//! Evaluates a program.

mod arithmetic;
mod loops;

use crate::budget::{Budget, LimitExceeded, Limits};
use crate::environment::Activation;
use crate::eval_error::{EvalError, EvalErrorKind, FunctionError, SHOWN_MEMBERS};
use crate::functions::{Call, Fault};
use crate::parser::MAX_DEPTH;
use crate::program::{Callee, Operation, Program, UserFunction};
use crate::record::Record;
use crate::tree::{Binary, NodeId};
use crate::value::{Key, KeyRef, Value};
use loops::is_limit;
use std::cmp::Ordering;
use std::sync::Arc;

type Outcome = Result<Value, EvalError>;

impl Program {
    /// Evaluates the expression within limits. What its parts give goes to `record`.
    ///
    /// # Errors
    /// Why there is no value.
    pub fn evaluate(
        &self,
        activation: &dyn Activation,
        limits: Limits,
        record: Option<&mut Record>,
    ) -> Result<Value, EvalError> {
        let mut budget = Budget::new(limits);
        let mut record = record;
        if let Some(record) = &mut record {
            record.begin(self.operations.len());
        }
        let mut evaluator = Evaluator::new(self, activation, &mut budget, record, Vec::new());
        let value = evaluator.node(self.tree().root())?;
        // A shared value may be large without having been made: a list with the same text a thousand times.
        let fits = value.size_in_bytes(limits.bytes + 1) <= limits.bytes;
        if fits { Ok(value) } else { evaluator.fail(self.tree().root(), EvalErrorKind::Bytes(limits.bytes)) }
    }
}

struct Evaluator<'e> {
    program: &'e Program,
    activation: &'e dyn Activation,
    budget: &'e mut Budget,
    record: Option<&'e mut Record>,
    /// The variables that are bound, innermost last.
    locals: Vec<Value>,
    /// Nodes whose first operand is being evaluated.
    pending: Vec<NodeId>,
}

impl<'e> Evaluator<'e> {
    fn new(
        program: &'e Program,
        activation: &'e dyn Activation,
        budget: &'e mut Budget,
        record: Option<&'e mut Record>,
        locals: Vec<Value>,
    ) -> Self {
        Self { program, activation, budget, record, locals, pending: Vec::new() }
    }

    fn operation(&self, id: NodeId) -> &'e Operation {
        &self.program.operations[id.index()]
    }

    fn fail<T>(&self, id: NodeId, kind: EvalErrorKind) -> Result<T, EvalError> {
        Err(EvalError::new(self.program.tree().node(id).span, kind))
    }

    /// Takes what a node needs from the budget.
    fn take(
        &mut self,
        id: NodeId,
        take: impl FnOnce(&mut Budget) -> Result<(), LimitExceeded>,
    ) -> Result<(), EvalError> {
        take(self.budget).or_else(|exceeded| self.fail(id, exceeded.into()))
    }

    /// Takes the bytes of what a node makes.
    fn bytes(&mut self, id: NodeId, bytes: usize) -> Result<(), EvalError> {
        self.take(id, |budget| budget.take_bytes(bytes as u64))
    }

    /// Evaluates a node. Chains of operators and members are followed in a loop: there may be thousands.
    fn node(&mut self, id: NodeId) -> Outcome {
        let base = self.pending.len();
        let mut at = id;
        while let Some(first) = first_operand(self.operation(at)) {
            self.pending.push(at);
            at = first;
        }
        let mut outcome = self.leaf(at);
        outcome = self.checked(at, outcome);
        while self.pending.len() > base {
            let Some(at) = self.pending.pop() else { break };
            outcome = self.apply(at, outcome);
            outcome = self.checked(at, outcome);
        }
        outcome
    }

    /// The outcome of a node, or an error if its value is too deep: going through a value needs a bounded stack.
    #[inline]
    fn checked(&mut self, id: NodeId, outcome: Outcome) -> Outcome {
        let is_deep = |value: &Value| value.depth() as usize > MAX_DEPTH;
        let outcome =
            if outcome.as_ref().is_ok_and(is_deep) { self.fail(id, EvalErrorKind::Depth(MAX_DEPTH)) } else { outcome };
        self.note(id, &outcome);
        outcome
    }

    #[inline]
    fn note(&mut self, id: NodeId, outcome: &Outcome) {
        if let Some(record) = &mut self.record {
            record.note(id, outcome);
        }
    }

    /// A node without an operand that is always evaluated first.
    fn leaf(&mut self, id: NodeId) -> Outcome {
        match self.operation(id) {
            Operation::Constant(value) => Ok(value.clone()),
            Operation::Local(index) => Ok(self.locals[*index].clone()),
            Operation::Global(index) => self.global(id, *index),
            Operation::GlobalOrType(index, type_name) => {
                self.global(id, *index).or_else(|_| Ok(Value::Type(type_name)))
            }
            Operation::Fail(kind) => self.fail(id, kind.clone()),
            Operation::Call { callee, arguments, .. } => self.call(id, callee, None, arguments),
            Operation::List(elements) => self.list(id, elements),
            Operation::Map(entries) => self.map(id, entries),
            Operation::Block { values, result } => {
                let before = self.locals.len();
                let outcome = values.iter().try_for_each(|value| {
                    let value = self.node(*value)?;
                    self.locals.push(value);
                    Ok(())
                });
                let outcome = outcome.and_then(|()| self.node(*result));
                self.locals.truncate(before);
                outcome
            }
            // All others have a first operand.
            _ => self.fail(id, EvalErrorKind::Syntax),
        }
    }

    fn global(&self, id: NodeId, index: usize) -> Outcome {
        let name = &self.program.names()[index];
        match self.activation.value(name) {
            Some(value) => Ok(value),
            None => self.fail(id, EvalErrorKind::UnknownName(name.to_string())),
        }
    }

    /// A node whose first operand was evaluated.
    fn apply(&mut self, id: NodeId, first: Outcome) -> Outcome {
        match self.operation(id) {
            Operation::And(left, right) => self.logic(*left, *right, first, false),
            Operation::Or(left, right) => self.logic(*left, *right, first, true),
            Operation::Select { operand, field, optional } => self.select(id, *operand, first?, field, *optional),
            Operation::Has { operand, field } => self.has(id, *operand, &first?, field),
            Operation::Index { operand, index, optional } => {
                let of = first?;
                let by = self.node(*index)?;
                self.index(id, (*operand, of), (*index, by), *optional)
            }
            Operation::Call { callee, receiver: Some(_), arguments } => self.call(id, callee, Some(first?), arguments),
            Operation::Macro { kind, receiver, arguments } => {
                let of = first?;
                self.macro_call(id, *kind, (*receiver, of), arguments)
            }
            Operation::Not(_) => match first? {
                Value::Bool(truth) => Ok(Value::Bool(!truth)),
                other => self.no_overload(id, "!", &[&other]),
            },
            Operation::Negate(_) => self.negate(id, first?),
            Operation::Binary(operator, _, right) => {
                let left_value = first?;
                let right_value = self.node(*right)?;
                self.binary(id, *operator, left_value, right_value)
            }
            Operation::Conditional { condition, yes, no } => match first? {
                Value::Bool(true) => self.node(*yes),
                Value::Bool(false) => self.node(*no),
                other => self.fail(*condition, EvalErrorKind::Condition(other.type_name())),
            },
            _ => self.fail(id, EvalErrorKind::Syntax),
        }
    }

    fn no_overload<T>(&self, id: NodeId, function: &str, values: &[&Value]) -> Result<T, EvalError> {
        let arguments = values.iter().map(|value| value.type_name()).collect();
        self.fail(id, EvalErrorKind::NoOverload { function: function.to_owned(), arguments })
    }

    /// `&&` and `||`: the value `decides` of either side is the result, even if the other side fails.
    fn logic(&mut self, left: NodeId, right: NodeId, first: Outcome, decides: bool) -> Outcome {
        let sign = if decides { "||" } else { "&&" };
        let truth = |this: &Self, side: NodeId, outcome: Outcome| match outcome? {
            Value::Bool(truth) => Ok(truth),
            other => this.no_overload(side, sign, &[&other]),
        };
        let first = truth(self, left, first);
        match &first {
            Ok(truth) if *truth == decides => return Ok(Value::Bool(decides)),
            Err(error) if is_limit(error) => return first.map(Value::Bool),
            _ => {}
        }
        let second = self.node(right);
        let second = truth(self, right, second);
        match (first, second) {
            (_, Ok(truth)) if truth == decides => Ok(Value::Bool(decides)),
            (Err(error), _) | (Ok(_), Err(error)) => Err(error),
            (Ok(_), Ok(_)) => Ok(Value::Bool(!decides)),
        }
    }

    /// `operand.field`. Of an optional it is that of its value, an optional again.
    fn select(&mut self, id: NodeId, operand: NodeId, of: Value, field: &Arc<str>, optional: bool) -> Outcome {
        match of {
            Value::Optional(None) => Ok(Value::none()),
            Value::Optional(Some(value)) => match &*value {
                Value::Map(map) => Ok(map.member(field).map_or_else(Value::none, Value::some)),
                other => self.no_members(id, operand, other, field),
            },
            Value::Map(map) => match map.member(field) {
                Some(value) if optional => Ok(Value::some(value)),
                None if optional => Ok(Value::none()),
                Some(value) => Ok(value),
                None => {
                    let known = map.iter().take(SHOWN_MEMBERS).map(|(key, _)| key.text()).collect();
                    let (operand, member) = (self.program.tree().node(operand).span, field.to_string());
                    self.fail(id, EvalErrorKind::NoMember { operand, member, known, count: map.len() })
                }
            },
            other => self.no_members(id, operand, &other, field),
        }
    }

    fn no_members(&self, id: NodeId, operand: NodeId, of: &Value, field: &str) -> Outcome {
        let (operand, member) = (self.program.tree().node(operand).span, field.to_owned());
        self.fail(id, EvalErrorKind::NoMembers { operand, type_name: of.type_name(), member })
    }

    fn has(&mut self, id: NodeId, operand: NodeId, of: &Value, field: &str) -> Outcome {
        Ok(Value::Bool(match of {
            Value::Map(map) => map.member(field).is_some(),
            Value::Optional(None) => false,
            Value::Optional(Some(value)) => return self.has(id, operand, value, field),
            other => return self.no_members(id, operand, other, field),
        }))
    }

    /// `operand[index]`. Of an optional it is that of its value, an optional again.
    fn index(
        &mut self,
        id: NodeId,
        (operand, of): (NodeId, Value),
        (index, by): (NodeId, Value),
        optional: bool,
    ) -> Outcome {
        let (of, optional) = match of {
            Value::Optional(None) => return Ok(Value::none()),
            Value::Optional(Some(value)) => ((*value).clone(), true),
            other => (other, optional),
        };
        let operand_span = self.program.tree().node(operand).span;
        let found = match &of {
            Value::List(list) => {
                let wanted = match &by {
                    Value::Int(number) => *number,
                    Value::Uint(number) => i64::try_from(*number).unwrap_or(i64::MAX),
                    Value::Double(number) if number.fract() == 0.0 && number.abs() < i64::MAX as f64 => *number as i64,
                    other => return self.fail(index, EvalErrorKind::IndexType { type_name: other.type_name() }),
                };
                let found = usize::try_from(wanted).ok().and_then(|wanted| list.get(wanted));
                // The length is looked up only for the error: a list that is read in place does not know it.
                found.ok_or_else(|| EvalErrorKind::NoElement {
                    operand: operand_span,
                    index: wanted,
                    length: list.len(),
                })
            }
            Value::Map(map) => KeyRef::from_value(&by).and_then(|key| map.get(key)).ok_or_else(|| {
                let known = map.iter().take(SHOWN_MEMBERS).map(|(key, _)| key.text()).collect();
                let member = by.to_text().map_or_else(|| by.type_name().to_owned(), |text| text.into_owned());
                EvalErrorKind::NoMember { operand: operand_span, member, known, count: map.len() }
            }),
            other => return self.no_overload(id, "[ ]", &[other, &by]),
        };
        match found {
            Ok(value) => Ok(if optional { Value::some(value) } else { value }),
            Err(_) if optional => Ok(Value::none()),
            Err(kind) => self.fail(id, kind),
        }
    }

    fn list(&mut self, id: NodeId, elements: &[(NodeId, bool)]) -> Outcome {
        self.bytes(id, 32 * elements.len())?;
        let mut values = Vec::with_capacity(elements.len());
        for (element, optional) in elements {
            let value = self.node(*element)?;
            match value {
                Value::Optional(Some(value)) if *optional => values.push((*value).clone()),
                Value::Optional(None) if *optional => {}
                other if *optional => return self.fail(*element, EvalErrorKind::NotOptional(other.type_name())),
                value => values.push(value),
            }
        }
        Ok(Value::list(values))
    }

    fn map(&mut self, id: NodeId, entries: &[(NodeId, NodeId, bool)]) -> Outcome {
        self.bytes(id, 64 * entries.len())?;
        let mut map = indexmap::IndexMap::with_capacity(entries.len());
        for (key_node, value_node, optional) in entries {
            let key = self.node(*key_node)?;
            let value = match self.node(*value_node)? {
                Value::Optional(Some(value)) if *optional => (*value).clone(),
                Value::Optional(None) if *optional => continue,
                other if *optional => return self.fail(*value_node, EvalErrorKind::NotOptional(other.type_name())),
                value => value,
            };
            self.insert(*key_node, &mut map, &key, value)?;
        }
        Ok(Value::Map(map.into()))
    }

    /// Adds an entry to a map that does not have its key yet.
    fn insert(
        &self,
        at: NodeId,
        map: &mut indexmap::IndexMap<Key, Value>,
        key: &Value,
        value: Value,
    ) -> Result<(), EvalError> {
        let Some(own) = Key::from_value(key) else {
            return self.fail(at, EvalErrorKind::KeyType(key.type_name()));
        };
        match map.entry(own) {
            indexmap::map::Entry::Occupied(entry) => self.fail(at, EvalErrorKind::DuplicateKey(entry.key().text())),
            indexmap::map::Entry::Vacant(entry) => {
                entry.insert(value);
                Ok(())
            }
        }
    }

    fn call(&mut self, id: NodeId, callee: &Callee, receiver: Option<Value>, arguments: &[NodeId]) -> Outcome {
        let mut values: Vec<Value> = Vec::with_capacity(arguments.len() + 1);
        values.extend(receiver);
        for argument in arguments {
            let value = self.node(*argument)?;
            values.push(value);
        }
        for value in &values {
            self.take(id, |budget| budget.take_reading(value))?;
        }
        let call = Call { arguments: &values, budget: self.budget };
        let (name, outcome) = match callee {
            Callee::Library(function) => (function.name, function.call(call)),
            Callee::Host(host, name) => (&**name, self.activation.call(*host, call)),
            Callee::User(function) => return self.call_user(id, function, values),
        };
        match outcome {
            Ok(value) => Ok(value),
            Err(Fault::Kind(kind)) => self.fail(id, kind),
            Err(Fault::Message(message)) => {
                self.fail(id, EvalErrorKind::Function { function: name.to_owned(), message })
            }
            Err(Fault::NoOverload) => self.no_overload(id, name, &values.iter().collect::<Vec<_>>()),
        }
    }

    fn call_user(&mut self, id: NodeId, function: &Arc<UserFunction>, arguments: Vec<Value>) -> Outcome {
        self.take(id, |budget| budget.take_steps(1))?;
        let program = &function.program;
        let mut inner = Evaluator::new(program, self.activation, self.budget, None, arguments);
        let outcome = inner.node(program.tree().root());
        // Its places are those of another text.
        outcome.or_else(|error| {
            let (function, text) = (function.name.as_str().into(), program.shared_text());
            self.fail(id, EvalErrorKind::InFunction(Box::new(FunctionError { function, text, error })))
        })
    }

    fn binary(&mut self, id: NodeId, operator: Binary, a: Value, b: Value) -> Outcome {
        let ordering = |wanted: fn(Ordering) -> bool| {
            // Of numbers, NaN alone has no order.
            if a.has_order_with(&b) { Some(a.partial_cmp(&b).is_some_and(wanted)) } else { None }
        };
        let truth = match operator {
            Binary::Equal | Binary::NotEqual => {
                self.take(id, |budget| budget.take_reading(&a))?;
                self.take(id, |budget| budget.take_all_of(&a))?;
                return Ok(Value::Bool((a == b) == (operator == Binary::Equal)));
            }
            Binary::In => {
                self.take(id, |budget| budget.take_reading(&b))?;
                // A list that is looked for is compared with each member.
                self.take(id, |budget| budget.take_all_of(&a))?;
                match &b {
                    Value::List(list) => return Ok(Value::Bool(list.contains(&a))),
                    Value::Map(map) => return Ok(Value::Bool(map.has_key(&a))),
                    _ => None,
                }
            }
            Binary::Less => ordering(Ordering::is_lt),
            Binary::LessOrEqual => ordering(Ordering::is_le),
            Binary::Greater => ordering(Ordering::is_gt),
            Binary::GreaterOrEqual => ordering(Ordering::is_ge),
            _ => return self.arithmetic(id, operator, a, b),
        };
        match truth {
            Some(truth) => Ok(Value::Bool(truth)),
            None => self.no_overload(id, operator.as_str(), &[&a, &b]),
        }
    }
}

/// The operand of a node that is always evaluated first.
#[inline]
fn first_operand(operation: &Operation) -> Option<NodeId> {
    match operation {
        Operation::Select { operand, .. } | Operation::Has { operand, .. } | Operation::Index { operand, .. } => {
            Some(*operand)
        }
        Operation::Call { receiver, .. } => *receiver,
        Operation::Macro { receiver, .. } => Some(*receiver),
        Operation::Not(operand) | Operation::Negate(operand) => Some(*operand),
        Operation::And(left, _) | Operation::Or(left, _) | Operation::Binary(_, left, _) => Some(*left),
        Operation::Conditional { condition, .. } => Some(*condition),
        _ => None,
    }
}
