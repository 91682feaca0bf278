//! Compiled expressions, and the checks before they run.

use super::explain;
use super::parse::{CompileError, parse};
use super::tree::{CEL_FUNCTIONS, CEL_MACROS};
use super::walk::BodyAccess;
use super::{FUNCTIONS, functions};
use crate::user_functions::UserFunctions;
use crate::walk;
use cel::common::ast::{Expr, IdedExpr};
use yieldtray_source::scan::calls_and_names;
use yieldtray_source::{Code, Span, closest};

/// The longest expression that is taken, in bytes. Evaluation recurses once per operator, and
/// [`STACK_BYTES`] holds every chain of this length.
const MAX_EXPRESSION_BYTES: usize = 16 * 1024;

/// Expressions beyond this length are parsed, run and dropped on a stack of their own.
const OWN_STACK_FROM_BYTES: usize = 256;

/// Bytes of that stack; the system gives only the pages that are used.
const STACK_BYTES: usize = 64 * 1024 * 1024;

/// An expression that can be run.
#[derive(Debug)]
pub struct Compiled {
    pub(super) tree: IdedExpr,
    /// The names it uses, each once.
    names: Vec<String>,
    body: BodyAccess,
    variables: Vec<String>,
    required_variables: Vec<String>,
    made_up: bool,
    reads_files: bool,
    raw: bool,
    has_all: bool,
    long: bool,
    constants: Vec<(String, String)>,
}

impl Compiled {
    /// Compiles `source`; all faults that can be known without running it are given.
    pub(super) fn new(source: &str, own: &UserFunctions) -> Result<Self, Vec<CompileError>> {
        let whole = Span::new(0, source.len());
        if source.len() > MAX_EXPRESSION_BYTES {
            let message = format!("the expression has {} bytes, more than {MAX_EXPRESSION_BYTES}", source.len());
            let hint = Some("split it: name its parts with `% let`".to_owned());
            return Err(vec![CompileError::new(Code::BadExpression, whole, message, hint)]);
        }
        let long = source.len() > OWN_STACK_FROM_BYTES;
        on_stack(long, || {
            let mut tree = parse(source)?;
            let expanded = own.expand(&mut tree).map_err(|mut fault| {
                fault.span = place_of_call(source, fault.about.as_deref().unwrap_or_default());
                vec![fault]
            })?;
            let long = long || expanded;
            let raw = matches!(&tree.expr, Expr::Call(call) if call.func_name == "raw" && call.target.is_none());
            let uses = walk::prepare(&mut tree);
            let mut faults = call_faults(source, &uses.calls, own);
            faults.extend(uses.whole_env.then(|| whole_env(source)));
            let compiled = Self {
                has_all: explain::has_all(&tree),
                tree,
                names: uses.names,
                body: uses.body,
                variables: uses.variables,
                required_variables: uses.required_variables,
                made_up: uses.made_up,
                reads_files: uses.reads_files,
                raw,
                long,
                constants: uses.constants,
            };
            if faults.is_empty() { Ok(compiled) } else { Err(faults) }
        })
    }

    /// The names it uses that are not its own, each once, in order of appearance.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// The environment variables it names.
    pub fn variables(&self) -> &[String] {
        &self.variables
    }

    /// Those of them without which it has no value.
    pub fn required_variables(&self) -> &[String] {
        &self.required_variables
    }

    /// True if it generates values: then each evaluation gives another one.
    pub fn is_made_up(&self) -> bool {
        self.made_up
    }

    /// True if it reads files: then it needs a reader.
    pub fn reads_files(&self) -> bool {
        self.reads_files
    }

    /// True if an `all` decides its value.
    pub(super) fn has_all(&self) -> bool {
        self.has_all
    }

    /// The members of `body` that it reads.
    pub fn reads_of_body(&self) -> &BodyAccess {
        &self.body
    }

    /// Calls whose last argument is a literal text, which can be looked at before anything runs.
    pub fn constants(&self) -> &[(String, String)] {
        &self.constants
    }

    /// True for `raw(…)`: a placeholder then writes it without encoding.
    pub fn is_raw(&self) -> bool {
        self.raw
    }

    /// Runs `work` with the stack this expression needs.
    pub(super) fn with_stack<T>(&self, work: impl FnOnce() -> T) -> T {
        on_stack(self.long, work)
    }
}

impl Drop for Compiled {
    fn drop(&mut self) {
        if self.long {
            let tree = std::mem::take(&mut self.tree);
            on_stack(true, || drop(tree));
        }
    }
}

fn on_stack<T>(long: bool, work: impl FnOnce() -> T) -> T {
    if long { stacker::grow(STACK_BYTES, work) } else { work() }
}

/// `env` as a whole: everything that the process knows would be sent, shown or compared.
fn whole_env(source: &str) -> CompileError {
    let names = calls_and_names(source);
    let span = names.iter().map(|name| name.span).find(|span| span.of(source) == "env");
    let hint = "name one variable, as in `env.PACKHOUSE_KEY`; `has(env.PACKHOUSE_KEY)` says whether it is set";
    let message = "`env` cannot be used as a whole".to_owned();
    CompileError::new(Code::BadExpression, span.unwrap_or(Span::new(0, source.len())), message, Some(hint.to_owned()))
}

/// Where a function is called in `source`, or all of it where that is not written there.
fn place_of_call(source: &str, name: &str) -> Span {
    let calls = calls_and_names(source).into_iter().filter(|identifier| identifier.call);
    let mut places = calls.map(|identifier| identifier.span).filter(|span| span.of(source) == name);
    places.next().unwrap_or(Span::new(0, source.len()))
}

/// Calls of functions that are not there, or with a wrong number of arguments.
fn call_faults(source: &str, calls: &[(String, usize)], own: &UserFunctions) -> Vec<CompileError> {
    let mut faults: Vec<CompileError> = Vec::new();
    for (name, arguments) in calls {
        let span = place_of_call(source, name);
        let fault = match functions::by_name(name) {
            Some(function) if function.arity == *arguments => continue,
            Some(function) => CompileError::new(
                Code::WrongArguments,
                span,
                format!(
                    "`{name}` takes {}, but got {arguments}",
                    match function.arity {
                        0 => "no arguments".to_owned(),
                        1 => "1 argument".to_owned(),
                        more => format!("{more} arguments"),
                    }
                ),
                Some(format!("write it as in `{}`", function.example)),
            ),
            None if CEL_FUNCTIONS.contains(&name.as_str()) => continue,
            None => {
                let ours = FUNCTIONS.iter().map(|function| function.name);
                let known =
                    ours.chain(own.names()).chain(CEL_FUNCTIONS.iter().copied()).chain(CEL_MACROS.iter().copied());
                let meant = closest(name, known);
                let hint = meant.map(|meant| format!("did you mean `{meant}`?"));
                let fault = CompileError::new(Code::UnknownFunction, span, format!("no function `{name}`"), hint);
                CompileError { replacement: meant.map(str::to_owned), ..fault }
            }
        };
        if !faults.contains(&fault) {
            faults.push(fault);
        }
    }
    faults
}
