use super::compiled::{Compiled, Fault};
use super::explain::Explanation;
use super::files::{FILES, FileReader};
use super::{Value, fault, functions};
use crate::explain;
use crate::random::{MADE, MadeUp};
use crate::user_functions::{OwnFunction, OwnFunctions};
use cel::common::value::CowVal;
use cel::context::VariableResolver;
use cel::{Context, Env};
use rustc_hash::FxHashMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// The environment of CEL, the same for all engines.
static ENV: OnceLock<Arc<Env>> = OnceLock::new();

/// Compiles expressions, each distinct one once, and runs them.
pub struct Engine {
    cache: Mutex<FxHashMap<Box<str>, Outcome>>,
    made: MadeUp,
    own: OwnFunctions,
}

type Outcome = Result<Arc<Compiled>, Arc<[Fault]>>;

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
    /// An engine whose made-up values come from `made`.
    pub fn new(made: MadeUp) -> Self {
        Self { cache: Mutex::default(), made, own: OwnFunctions::default() }
    }

    /// The same engine with functions of a workspace's own.
    #[must_use]
    pub fn with_functions(self, functions: &[OwnFunction]) -> Self {
        Self { own: OwnFunctions::new(functions), ..self }
    }

    /// Where made-up values come from.
    pub fn made_up(&self) -> &MadeUp {
        &self.made
    }

    /// How many expressions are known.
    pub fn known(&self) -> usize {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).len()
    }

    /// Forgets all expressions: those that are still wanted are compiled again.
    pub fn forget(&self) {
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Compiles `source`, or gives what it gave before.
    pub fn compile(&self, source: &str) -> Outcome {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(outcome) = cache.get(source) {
            return outcome.clone();
        }
        let outcome: Outcome = Compiled::new(source, &self.own).map(Arc::new).map_err(Arc::from);
        cache.insert(source.into(), outcome.clone());
        outcome
    }

    /// Runs `compiled`. The error says in a line what went wrong.
    pub fn evaluate(&self, compiled: &Compiled, bindings: &Bindings<'_>) -> Result<Value, String> {
        self.made.refill();
        compiled.with_stack(|| {
            let resolver = Resolver { bindings, made: &self.made };
            let context = self.context(&resolver);
            match cel::Value::resolve_val(&compiled.tree, &context) {
                Ok(value) if !self.made.may_be(value.as_ref()) => Err(self.made.too_large()),
                Ok(value) => Ok(Value::copy_of(value.as_ref())),
                Err(error) => Err(explain::why(&compiled.tree, &context).unwrap_or_else(|| fault::words(&error))),
            }
        })
    }

    /// The parts of `compiled` that show why it came to what it did.
    pub fn explain(&self, compiled: &Compiled, bindings: &Bindings<'_>) -> Explanation {
        self.made.refill();
        compiled.with_stack(|| {
            let resolver = Resolver { bindings, made: &self.made };
            explain::explain(&compiled.tree, &self.context(&resolver))
        })
    }

    /// The lists that `all` went over in vain: they are empty, so what it says holds of nothing.
    pub fn held_of_nothing(&self, compiled: &Compiled, bindings: &Bindings<'_>) -> Vec<String> {
        if !compiled.has_all() {
            return Vec::new();
        }
        compiled.with_stack(|| {
            let resolver = Resolver { bindings, made: &self.made };
            explain::held_of_nothing(&compiled.tree, &self.context(&resolver))
        })
    }

    /// Makes now what the first expression that runs would have to wait for. It takes a tenth of a millisecond.
    pub fn warm_up(&self) {
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
    made: &'a MadeUp,
}

impl VariableResolver for Resolver<'_> {
    fn resolve<'b>(&'b self, name: &str) -> Option<CowVal<'b, 'b>> {
        if name == MADE {
            return Some(CowVal::Borrowed(self.made));
        }
        if name == FILES {
            return self.bindings.files.as_ref().map(|reader| CowVal::Borrowed(reader as _));
        }
        self.bindings.get(name).map(|value| CowVal::Borrowed(&*value.0))
    }
}
