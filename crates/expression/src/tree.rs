//! Expression trees: their nodes, and the names that CEL itself defines.

use cel::common::ast::{ComprehensionExpr, EntryExpr, Expr, IdedExpr};

/// Counts a step and the bytes of its value: `@step(@made, x)` is `x`.
pub(super) const STEP: &str = "@step";

/// CEL's own functions, by name.
pub(super) const CEL_FUNCTIONS: &[&str] = &[
    "size",
    "contains",
    "startsWith",
    "endsWith",
    "matches",
    "string",
    "int",
    "uint",
    "double",
    "bool",
    "bytes",
    "type",
    "dyn",
    "duration",
    "timestamp",
    "getDate",
    "getDayOfMonth",
    "getDayOfWeek",
    "getDayOfYear",
    "getFullYear",
    "getHours",
    "getMilliseconds",
    "getMinutes",
    "getMonth",
    "getSeconds",
];

/// CEL's own macros, for suggestions.
pub(super) const CEL_MACROS: &[&str] = &["has", "all", "exists", "exists_one", "map", "filter"];

/// Whether CEL itself has a function or macro of that name.
pub fn is_builtin(name: &str) -> bool {
    CEL_FUNCTIONS.contains(&name) || CEL_MACROS.contains(&name)
}

/// Whether CEL gives the name to a kind of values: `type(x) == int`.
pub fn is_type_name(name: &str) -> bool {
    matches!(
        name,
        "bool" | "int" | "uint" | "double" | "string" | "bytes" | "list" | "map" | "null_type" | "type" | "dyn"
    )
}

/// Does `work` to each node directly below `node`.
pub(super) fn each_child<E>(
    node: &mut IdedExpr,
    work: &mut dyn FnMut(&mut IdedExpr) -> Result<(), E>,
) -> Result<(), E> {
    match &mut node.expr {
        Expr::Select(select) => work(&mut select.operand),
        Expr::Call(call) => call.target.iter_mut().map(|target| &mut **target).chain(&mut call.args).try_for_each(work),
        Expr::List(list) => list.elements.iter_mut().try_for_each(work),
        Expr::Map(map) => map.entries.iter_mut().try_for_each(|entry| match &mut entry.expr {
            EntryExpr::MapEntry(entry) => work(&mut entry.key).and_then(|()| work(&mut entry.value)),
            EntryExpr::StructField(field) => work(&mut field.value),
        }),
        Expr::Struct(structure) => structure.entries.iter_mut().try_for_each(|entry| match &mut entry.expr {
            EntryExpr::MapEntry(entry) => work(&mut entry.key).and_then(|()| work(&mut entry.value)),
            EntryExpr::StructField(field) => work(&mut field.value),
        }),
        Expr::Comprehension(comprehension) => {
            let ComprehensionExpr { iter_range, accu_init, loop_cond, loop_step, result, .. } = &mut **comprehension;
            [iter_range, accu_init, loop_cond, loop_step, result].into_iter().try_for_each(work)
        }
        Expr::Ident(_) | Expr::Literal(_) | Expr::Unspecified => Ok(()),
    }
}

/// Whether a call is an operator: those have names nobody can write as a function.
pub(super) fn is_operator(function: &str) -> bool {
    function.starts_with(['_', '@', '!', '-']) && function != "_"
}

/// A node without the counting around it.
pub(super) fn uncounted(node: &IdedExpr) -> &IdedExpr {
    match &node.expr {
        Expr::Call(call) if call.func_name == STEP => call.args.get(1).unwrap_or(node),
        _ => node,
    }
}

/// The name of the function whose binding has this variable.
pub(super) fn function_of(variable: &str) -> Option<&str> {
    variable.strip_prefix('@')?.split_once('.').map(|(function, _)| function)
}
