//! Compiles and evaluates expressions.

use crate::compile_error::CompileError;
use crate::compiled::Compiled;
use crate::error::EvalError;
use crate::evaluation::Evaluation;
use crate::files::FileReader;
use crate::functions::{self, Context};
use crate::random::RandomSource;
use crate::user_functions::{UserFunction, UserFunctions};
use crate::value::Value;
use rustc_hash::FxHashMap;
use std::sync::{Arc, Mutex, PoisonError};
use yieldtray_cel as cel;
use yieldtray_cel::Activation;
use yieldtray_cel::functions::{Call, Outcome as CallOutcome};

/// Compiles expressions, each distinct one once, and evaluates them.
#[derive(Default)]
pub struct Engine {
    cache: Mutex<FxHashMap<Box<str>, Outcome>>,
    functions: UserFunctions,
}

type Outcome = Result<Arc<Compiled>, Arc<[CompileError]>>;

/// The names an expression sees when it is evaluated.
#[derive(Clone, Debug, Default)]
pub struct Bindings<'n> {
    pairs: Vec<(&'n str, Value)>,
    /// Reads files, for an expression that does.
    pub files: Option<FileReader>,
}

impl<'n> Bindings<'n> {
    /// Gives `name` a value; the first one given stays.
    pub fn insert(&mut self, name: &'n str, value: Value) {
        if self.get(name).is_none() {
            self.pairs.push((name, value));
        }
    }

    /// The value of `name`.
    pub fn get(&self, name: &str) -> Option<&Value> {
        self.pairs.iter().find(|(bound, _)| *bound == name).map(|(_, value)| value)
    }
}

impl Engine {
    /// An engine with these functions beside the built-in ones.
    pub fn with_functions(functions: &[UserFunction]) -> Self {
        Self { functions: UserFunctions::new(functions), ..Self::default() }
    }

    pub(crate) fn functions(&self) -> &UserFunctions {
        &self.functions
    }

    /// How many expressions are known.
    pub fn cache_len(&self) -> usize {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).len()
    }

    /// Forgets all expressions: those that are still wanted are compiled again.
    pub fn clear_cache(&self) {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Compiles `source`, or gives what it gave before.
    ///
    /// # Errors
    /// All errors that can be known without evaluating it.
    pub fn compile(&self, source: &str) -> Outcome {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(outcome) = cache.get(source) {
            return outcome.clone();
        }
        let outcome: Outcome = Compiled::new(source, &self.functions).map(Arc::new).map_err(Arc::from);
        cache.insert(source.into(), outcome.clone());
        outcome
    }

    /// The errors of an expression of which the types of these names are known. It is not kept.
    pub fn check_with_types(&self, source: &str, types: &[(&str, cel::Type)]) -> Vec<CompileError> {
        let environment = Typed { functions: &self.functions, types };
        let (_, errors) = cel::Program::compile(source, &environment);
        errors.iter().map(|error| CompileError::of(source, error, |name| self.functions.example(name))).collect()
    }

    /// Evaluates `compiled`. Random values are drawn from `random`.
    ///
    /// # Errors
    /// Why there is no value.
    pub fn evaluate(
        &self,
        compiled: &Compiled,
        bindings: &Bindings<'_>,
        random: &RandomSource,
    ) -> Result<Value, EvalError> {
        let names = Names { bindings, random };
        let outcome = compiled.program.evaluate(&names, random.limits(), None);
        outcome.map(Value).map_err(|error| EvalError::of(&compiled.program, &error))
    }

    /// Evaluates `compiled` so that its result can be explained.
    pub fn evaluate_with_record<'c>(
        &self,
        compiled: &'c Compiled,
        bindings: &Bindings<'_>,
        random: &RandomSource,
    ) -> Evaluation<'c> {
        let names = Names { bindings, random };
        let mut record = cel::Record::new();
        let outcome = compiled.program.evaluate(&names, random.limits(), Some(&mut record));
        Evaluation::new(compiled, outcome, record, bindings.files.clone())
    }
}

/// The functions of a workspace, and names with types that are known where an expression is.
struct Typed<'a> {
    functions: &'a UserFunctions,
    types: &'a [(&'a str, cel::Type)],
}

impl cel::Environment for Typed<'_> {
    fn name(&self, name: &str) -> Option<cel::Type> {
        let known = self.types.iter().find(|(own, _)| *own == name).map(|(_, kind)| kind.clone());
        known.or_else(|| self.functions.name(name))
    }

    fn function(&self, name: &str) -> Option<cel::HostFunction<'_>> {
        self.functions.function(name)
    }

    fn user_function(&self, name: &str) -> Option<Arc<cel::UserFunction>> {
        self.functions.user_function(name)
    }

    fn function_names(&self) -> Vec<String> {
        self.functions.function_names()
    }
}

/// The values and functions of one evaluation.
struct Names<'a> {
    bindings: &'a Bindings<'a>,
    random: &'a RandomSource,
}

impl Activation for Names<'_> {
    fn value(&self, name: &str) -> Option<cel::Value> {
        self.bindings.get(name).map(|value| value.0.clone())
    }

    fn call(&self, id: usize, mut call: Call<'_>) -> CallOutcome {
        let context = Context { random: self.random, files: self.bindings.files.as_ref() };
        functions::call(id, &context, &mut call)
    }
}
