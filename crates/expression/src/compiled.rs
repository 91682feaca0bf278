//! Compiled expressions, and what is known of them before they are evaluated.

use crate::compile_error::CompileError;
use crate::user_functions::UserFunctions;
use yieldtray_cel::{Kind, Literal, NodeId, Program, Type};
use yieldtray_source::{Code, Span};

/// The longest expression that is taken, in bytes.
const MAX_EXPRESSION_BYTES: usize = 16 * 1024;

/// An expression that can be evaluated.
#[derive(Debug)]
pub struct Compiled {
    pub(crate) program: Program,
    variables: Vec<String>,
    required_variables: Vec<String>,
    is_made_up: bool,
    reads_files: bool,
    constants: Vec<CalledConstant>,
}

/// A literal text as the last argument of a function.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CalledConstant {
    /// The name of the function.
    pub function: String,
    /// The text.
    pub text: String,
    /// Where it is, counted from the expression's start.
    pub span: Span,
}

impl Compiled {
    /// Compiles `source`; all errors that can be known without evaluating it are given.
    pub(crate) fn new(source: &str, own: &UserFunctions) -> Result<Self, Vec<CompileError>> {
        let whole = Span::new(0, source.len());
        if source.len() > MAX_EXPRESSION_BYTES {
            let message = format!("the expression is longer than {MAX_EXPRESSION_BYTES} bytes ({})", source.len());
            let hint = Some("split it with `% let`".to_owned());
            return Err(vec![CompileError::new(Code::BadExpression, whole, message, hint)]);
        }
        let (program, errors) = Program::compile(source, own);
        let mut errors: Vec<CompileError> =
            errors.iter().map(|error| CompileError::of(source, error, |name| own.example(name))).collect();
        own.explain_calls(&program, &mut errors);
        let env = EnvironmentVariables::of(&program);
        errors.extend(env.whole.map(whole_env));
        errors.sort_by_key(|error| error.span.start());
        if !errors.is_empty() {
            return Err(errors);
        }
        let uses = own.uses(&program);
        Ok(Self {
            variables: env.variables,
            required_variables: env.required,
            is_made_up: uses.random,
            reads_files: uses.files,
            constants: constants(&program),
            program,
        })
    }

    /// The names it uses that are not its own, each once, in order of appearance.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.program.names().iter().map(|name| &**name)
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
        self.is_made_up
    }

    /// True if it reads files: then it needs a reader.
    pub fn reads_files(&self) -> bool {
        self.reads_files
    }

    /// Calls whose last argument is a literal text, which can be looked at before anything is evaluated.
    pub fn constants(&self) -> &[CalledConstant] {
        &self.constants
    }

    /// True for `raw(…)`: a placeholder then writes it without encoding.
    pub fn is_raw(&self) -> bool {
        let tree = self.program.tree();
        matches!(&tree.node(tree.root()).kind, Kind::Call { function, receiver: None, .. } if &**function == "raw")
    }

    /// Whether its value may be true or false, as far as that is known.
    pub fn may_be_bool(&self) -> bool {
        self.program.result_type().is_dyn() || matches!(self.program.result_type(), Type::Bool)
    }

    /// The type of its value in words, with its article.
    pub fn describe_type(&self) -> String {
        crate::error_text::kind(&self.program.result_type().to_string()).to_owned()
    }
}

/// `env` as a whole: everything that the process knows would be sent, shown or compared.
fn whole_env(span: Span) -> CompileError {
    let hint = "use one variable, for example `env.PACKHOUSE_KEY`; test it with `has(env.PACKHOUSE_KEY)`";
    CompileError::new(Code::BadExpression, span, "`env` cannot be used as a whole", Some(hint.to_owned()))
}

/// The environment variables that a tree names.
#[derive(Default)]
struct EnvironmentVariables {
    variables: Vec<String>,
    /// Those that it does not only test with `has`.
    required: Vec<String>,
    /// Where `env` is used in another way.
    whole: Option<Span>,
}

impl EnvironmentVariables {
    fn of(program: &Program) -> Self {
        let (tree, mut found) = (program.tree(), Self::default());
        // The variable of a macro may have the name too.
        let free: Vec<Span> = program.places("env").collect();
        if free.is_empty() {
            return found;
        }
        let is_env = |id: NodeId| {
            let node = tree.node(id);
            matches!(&node.kind, Kind::Name { name, .. } if &**name == "env") && free.contains(&node.span)
        };
        let mut named: Vec<Span> = Vec::new();
        for (_, node) in tree.nodes() {
            let (operand, variable, required) = match &node.kind {
                Kind::Select { operand, field, optional, .. } => (*operand, field.to_string(), !optional),
                Kind::Has { operand, field, .. } => (*operand, field.to_string(), false),
                Kind::Index { operand, index, optional } => match &tree.node(*index).kind {
                    Kind::Literal(Literal::String(text)) => (*operand, text.to_string(), !optional),
                    _ => continue,
                },
                _ => continue,
            };
            if !is_env(operand) {
                continue;
            }
            named.push(tree.node(operand).span);
            if required && !found.required.contains(&variable) {
                found.required.push(variable.clone());
            }
            if !found.variables.contains(&variable) {
                found.variables.push(variable);
            }
        }
        found.whole = free.iter().copied().find(|span| !named.contains(span));
        found
    }
}

/// Calls whose last argument is a literal text.
fn constants(program: &Program) -> Vec<CalledConstant> {
    let tree = program.tree();
    let last = |call: &yieldtray_cel::CalledFunction| {
        let Kind::Call { arguments, .. } = &tree.node(call.node).kind else { return None };
        let node = tree.node(*tree.list(*arguments).last()?);
        match &node.kind {
            Kind::Literal(Literal::String(text)) => {
                // Between its quotes, unless it is written in another way than it reads.
                let inner = node.span.len().checked_sub(2).map(|length| node.span.part(1, 1 + length));
                let span = inner.filter(|inner| inner.of(program.text()) == &**text).unwrap_or(node.span);
                Some(CalledConstant { function: call.name.to_string(), text: text.to_string(), span })
            }
            _ => None,
        }
    };
    program.calls().iter().filter_map(last).collect()
}
