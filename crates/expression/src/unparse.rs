//! A parsed expression back as text, as a person would write it. The fast parser keeps no places, so
//! the parts of a failed check are named this way.

use super::files::FILES;
use super::json::key_text;
use super::tree::{STEP, uncounted};
use super::user_functions;
use super::value::scalar_text;
use crate::random::RANDOM;
use cel::common::ast::{CallExpr, ComprehensionExpr, EntryExpr, Expr, IdedExpr, LiteralValue, operators};
use std::fmt::Write;

/// `node` as text.
pub(super) fn unparse(node: &IdedExpr) -> String {
    let mut out = String::new();
    write(&mut out, node, 0);
    out
}

/// How tightly an operator binds; brackets are written around what binds less.
fn binary(function: &str) -> Option<(&'static str, u8)> {
    Some(match function {
        operators::LOGICAL_OR => ("||", 2),
        operators::LOGICAL_AND => ("&&", 3),
        operators::EQUALS => ("==", 4),
        operators::NOT_EQUALS => ("!=", 4),
        operators::LESS => ("<", 4),
        operators::LESS_EQUALS => ("<=", 4),
        operators::GREATER => (">", 4),
        operators::GREATER_EQUALS => (">=", 4),
        operators::IN => ("in", 4),
        operators::ADD => ("+", 5),
        operators::SUBSTRACT => ("-", 5),
        operators::MULTIPLY => ("*", 6),
        operators::DIVIDE => ("/", 6),
        operators::MODULO => ("%", 6),
        _ => return None,
    })
}

const UNARY: u8 = 7;
const MEMBER: u8 = 8;

fn write(out: &mut String, node: &IdedExpr, outer: u8) {
    match &node.expr {
        Expr::Ident(name) => out.push_str(name),
        Expr::Literal(literal) => write_literal(out, literal),
        Expr::Select(select) if select.test => {
            out.push_str("has(");
            write(out, &select.operand, MEMBER);
            let _ = write!(out, ".{})", select.field);
        }
        Expr::Select(select) => {
            write(out, &select.operand, MEMBER);
            let _ = write!(out, ".{}", select.field);
        }
        Expr::Call(call) => write_call(out, call, outer),
        Expr::List(list) => {
            out.push('[');
            write_all(out, &list.elements);
            out.push(']');
        }
        Expr::Map(map) => {
            out.push('{');
            for (index, entry) in map.entries.iter().enumerate() {
                out.push_str(if index > 0 { ", " } else { "" });
                if let EntryExpr::MapEntry(entry) = &entry.expr {
                    write(out, &entry.key, 0);
                    out.push_str(": ");
                    write(out, &entry.value, 0);
                }
            }
            out.push('}');
        }
        Expr::Comprehension(comprehension) => write_comprehension(out, comprehension),
        Expr::Struct(structure) => {
            let _ = write!(out, "{}{{…}}", structure.type_name);
        }
        Expr::Unspecified => out.push('…'),
    }
}

fn write_all(out: &mut String, nodes: &[IdedExpr]) {
    let written = nodes.iter().filter(|node| !is_made(node));
    for (index, node) in written.enumerate() {
        out.push_str(if index > 0 { ", " } else { "" });
        write(out, node, 0);
    }
}

fn is_made(node: &IdedExpr) -> bool {
    matches!(&node.expr, Expr::Ident(name) if name == RANDOM || name == FILES)
}

fn write_call(out: &mut String, call: &CallExpr, outer: u8) {
    let open = |out: &mut String, own: u8| {
        if own < outer {
            out.push('(');
        }
    };
    let close = |out: &mut String, own: u8| {
        if own < outer {
            out.push(')');
        }
    };
    match (call.func_name.as_str(), call.args.as_slice()) {
        (STEP, [_, inner]) => write(out, inner, outer),
        (operators::CONDITIONAL, [condition, yes, no]) => {
            open(out, 1);
            write(out, condition, 2);
            out.push_str(" ? ");
            write(out, yes, 2);
            out.push_str(" : ");
            write(out, no, 1);
            close(out, 1);
        }
        (operators::INDEX, [operand, index]) => {
            write(out, operand, MEMBER);
            out.push('[');
            write(out, index, 0);
            out.push(']');
        }
        (name @ (operators::LOGICAL_NOT | operators::NEGATE), [operand]) => {
            let sign = if name == operators::NEGATE { '-' } else { '!' };
            out.push(sign);
            let from = out.len();
            write(out, operand, UNARY);
            // Two signs in a row would not parse, and a sign before a digit would become part of the number; a number
            // keeps its own sign only if nothing precedes it.
            let inner = &out[from..];
            let number = inner.strip_prefix('-').is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
            if number || inner.starts_with(|c: char| c == sign || (sign == '-' && c.is_ascii_digit())) {
                out.insert(from, '(');
                out.push(')');
            }
        }
        (function, [left, right]) if binary(function).is_some() => {
            let (sign, own) = binary(function).unwrap_or_default();
            open(out, own);
            write(out, left, own);
            let _ = write!(out, " {sign} ");
            write(out, right, own + 1);
            close(out, own);
        }
        (function, arguments) => {
            if let Some(target) = &call.target {
                write(out, target, MEMBER);
                out.push('.');
            }
            out.push_str(function);
            out.push('(');
            write_all(out, arguments);
            out.push(')');
        }
    }
}

fn write_literal(out: &mut String, literal: &LiteralValue) {
    match literal {
        LiteralValue::String(text) => {
            let _ = write!(out, "{}", serde_json::Value::from(text.inner()));
        }
        LiteralValue::Bytes(bytes) => {
            let _ = write!(out, "b\"{}\"", bytes.inner().escape_ascii());
        }
        LiteralValue::Null => out.push_str("null"),
        LiteralValue::UInt(number) => {
            let _ = write!(out, "{}u", number.inner());
        }
        other => out.push_str(&scalar_text(other.to_val().as_ref()).unwrap_or_default()),
    }
}

/// A loop that CEL has a short form for.
pub(super) struct Loop<'e> {
    /// `all`, `exists`, `exists_one`, `map` or `filter`.
    pub(super) name: &'static str,
    /// The expression for each element.
    pub(super) each: &'e IdedExpr,
}

/// The short form of a comprehension, recognized by its structure.
pub(super) fn short_form(comprehension: &ComprehensionExpr) -> Option<Loop<'_>> {
    let Expr::Call(step) = &comprehension.loop_step.expr else { return None };
    let (name, each) = match (step.func_name.as_str(), step.args.as_slice()) {
        (operators::LOGICAL_AND, [_, each]) => ("all", each),
        (operators::LOGICAL_OR, [_, each]) => ("exists", each),
        (operators::ADD, [_, items]) => match &items.expr {
            Expr::List(list) => ("map", list.elements.first()?),
            _ => return None,
        },
        (operators::CONDITIONAL, [guard, then, _]) => match &then.expr {
            Expr::Call(add) if add.args.len() == 2 && matches!(add.args[1].expr, Expr::List(_)) => ("filter", guard),
            _ => ("exists_one", guard),
        },
        _ => return None,
    };
    let each = uncounted(each);
    Some(Loop { name, each })
}

fn write_comprehension(out: &mut String, comprehension: &ComprehensionExpr) {
    if let Some((name, arguments)) = user_functions::replaced_call(comprehension) {
        let _ = write!(out, "{name}(");
        for (index, argument) in arguments.into_iter().enumerate() {
            out.push_str(if index > 0 { ", " } else { "" });
            write(out, argument, 0);
        }
        return out.push(')');
    }
    write(out, &comprehension.iter_range, MEMBER);
    match short_form(comprehension) {
        Some(Loop { name, each }) => {
            let _ = write!(out, ".{name}({}, ", comprehension.iter_var);
            write(out, each, 0);
            out.push(')');
        }
        None => out.push_str(".…"),
    }
}

/// The text that selects `key` from `of`.
pub(super) fn element(of: &str, key: &cel::common::types::CelMapKey<'_>) -> String {
    format!("{of}[{}]", serde_json::Value::from(key_text(key)))
}
