//! Compiles and evaluates expressions.

use super::compiled::Compiled;
use super::error::EvalError;
use super::explain::Explanation;
use super::files::{FILES, FileReader};
use super::parse::CompileError;
use super::{Value, fault, functions};
use crate::explain;
use crate::random::{RANDOM, RandomSource};
use crate::user_functions::{UserFunction, UserFunctions};
use cel::common::value::CowVal;
use cel::context::VariableResolver;
use cel::{Context, Env};
use rustc_hash::FxHashMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// The environment of CEL, the same for all engines.
static ENV: OnceLock<Arc<Env>> = OnceLock::new();

/// Compiles expressions, each distinct one once, and evaluates them.
#[derive(Default)]
pub struct Engine {
    cache: Mutex<FxHashMap<Box<str>, Outcome>>,
    functions: UserFunctions,
}

type Outcome = Result<Arc<Compiled>, Arc<[CompileError]>>;

/// The names an expression sees when it runs.
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

    /// How many expressions are known.
    pub fn cache_len(&self) -> usize {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).len()
    }

    /// Forgets all expressions: those that are still wanted are compiled again.
    pub fn clear_cache(&self) {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Compiles `source`, or gives what it gave before.
    pub fn compile(&self, source: &str) -> Outcome {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(outcome) = cache.get(source) {
            return outcome.clone();
        }
        let outcome: Outcome = Compiled::new(source, &self.functions).map(Arc::new).map_err(Arc::from);
        cache.insert(source.into(), outcome.clone());
        outcome
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
        random.reset_budget();
        compiled.with_stack(|| {
            let resolver = Resolver { bindings, random };
            let context = self.context(&resolver);
            match cel::Value::resolve_val(&compiled.tree, &context) {
                Ok(value) if !random.is_within_limit(value.as_ref()) => Err(EvalError::new(random.too_large())),
                Ok(value) => Ok(Value::copy_of(value.as_ref())),
                Err(error) => {
                    let text = explain::why(&compiled.tree, &context).unwrap_or_else(|| fault::describe(&error));
                    Err(EvalError::new(text))
                }
            }
        })
    }

    /// The parts of `compiled` that show why it has its value.
    pub fn explain(&self, compiled: &Compiled, bindings: &Bindings<'_>, random: &RandomSource) -> Explanation {
        random.reset_budget();
        compiled.with_stack(|| {
            let resolver = Resolver { bindings, random };
            explain::explain(&compiled.tree, &self.context(&resolver))
        })
    }

    /// The lists for which `all()` is vacuously true because they are empty.
    pub fn vacuous_alls(&self, compiled: &Compiled, bindings: &Bindings<'_>, random: &RandomSource) -> Vec<String> {
        // Asked for every check that passes.
        if !compiled.has_all() {
            return Vec::new();
        }
        compiled.with_stack(|| {
            let resolver = Resolver { bindings, random };
            explain::vacuous_alls(&compiled.tree, &self.context(&resolver))
        })
    }

    /// Makes now what the first expression that runs would have to wait for. It takes a tenth of a millisecond.
    pub fn init(&self) {
        env();
    }

    fn context<'r>(&self, resolver: &'r Resolver<'_>) -> Context<'r, 'r> {
        let mut context = Context::with_env(Arc::clone(env()));
        context.set_variable_resolver(resolver);
        context
    }
}

fn env() -> &'static Arc<Env> {
    ENV.get_or_init(|| {
        let mut env = Env::stdlib();
        functions::declare(&mut env);
        Arc::new(env)
    })
}

struct Resolver<'a> {
    bindings: &'a Bindings<'a>,
    random: &'a RandomSource,
}

impl VariableResolver for Resolver<'_> {
    fn resolve<'b>(&'b self, name: &str) -> Option<CowVal<'b, 'b>> {
        if name == RANDOM {
            return Some(CowVal::Borrowed(self.random));
        }
        if name == FILES {
            return self.bindings.files.as_ref().map(|reader| CowVal::Borrowed(reader as _));
        }
        self.bindings.get(name).map(|value| CowVal::Borrowed(&*value.0))
    }
}
