//! Problems of a file, a value or an option: a place, a message, a stable code, and a hint. Nothing here prints;
//! terminal and editor render the same data.

use crate::Span;

/// The id of a source text that a span points into.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SourceId(pub u32);

/// How much a problem matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// An assumption that was made; nothing is wrong.
    Info,
    /// Probably a mistake; nothing is stopped.
    Warning,
    /// The request cannot be sent.
    Error,
}

impl Severity {
    /// The word for it, in messages, data and the configuration.
    pub fn as_str(self) -> &'static str {
        match self {
            Severity::Info => "info",
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}

macro_rules! codes {
    ($($(#[$doc:meta])+ $name:ident = $text:literal,)+) => {
        /// A stable name for each class of problem: tools may rely on it.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[non_exhaustive]
        pub enum Code { $($(#[$doc])+ $name,)+ }

        impl Code {
            /// Every code there is, in the order of the reference.
            pub const ALL: &'static [Code] = &[$(Code::$name,)+];

            /// The code of that name, or of its name before version 0.2.
            pub fn named(name: &str) -> Option<Self> {
                let former = || FORMER_NAMES.iter().find(|(former, _)| *former == name).map(|(_, code)| *code);
                Self::ALL.iter().copied().find(|code| code.as_str() == name).or_else(former)
            }

            /// The code as it is printed and documented.
            pub fn as_str(self) -> &'static str {
                match self { $(Code::$name => $text,)+ }
            }
        }
    };
}

codes! {
    /// A `%` line with an unknown keyword.
    UnknownInstruction = "unknown-instruction",
    /// An instruction in a place where it is not allowed.
    MisplacedInstruction = "misplaced-instruction",
    /// An instruction with a missing or extra argument.
    MalformedInstruction = "malformed-instruction",
    /// A name that is not `[A-Za-z_][A-Za-z0-9_]*`, or a cell name with other characters.
    BadName = "bad-name",
    /// A value that takes a name of the language itself.
    ReservedName = "reserved-name",
    /// Two cells of one name in a file, or two names for one cell.
    DuplicateName = "duplicate-name",
    /// Text where only a cell, an instruction or a comment is allowed.
    StrayText = "stray-text",
    /// A cell without a request line.
    NoRequest = "no-request",
    /// A shell command in place of a request.
    ShellCommand = "shell-command",
    /// A request line that cannot be read.
    BadRequestLine = "bad-request-line",
    /// A header line that cannot be read.
    BadHeader = "bad-header",
    /// A header field that belongs to the connection.
    ConnectionHeader = "connection-header",
    /// Two lines of a cell that cannot both hold.
    ConflictingLines = "conflicting-lines",
    /// A `{{` that is never closed, or with nothing in it.
    UnclosedPlaceholder = "unclosed-placeholder",
    /// An expression that cannot be read.
    BadExpression = "bad-expression",
    /// An expression calls a function that is not there.
    UnknownFunction = "unknown-function",
    /// A function called with the wrong number of arguments.
    WrongArguments = "wrong-arguments",
    /// Values of types that do not go together: a comparison that never holds, an operator that does not take them.
    MismatchedTypes = "mismatched-types",
    /// A member that a value of the language does not have.
    UnknownMember = "unknown-member",
    /// A name no value has.
    UnknownVariable = "unknown-variable",
    /// A name that has a value elsewhere, but not now: another environment, a request not sent yet.
    MissingValue = "missing-value",
    /// A value whose source gives none: a variable that is not set, a file or a command that fails.
    UnavailableSource = "unavailable-source",
    /// A value that is asked for, where nobody can be asked.
    UnansweredPrompt = "unanswered-prompt",
    /// Values that need each other.
    VariableCycle = "variable-cycle",
    /// A name that exists only once the response is there, used before.
    NeedsResponse = "needs-response",
    /// An expression that failed while it was worked out.
    FailedExpression = "failed-expression",
    /// A value that cannot be written in its context.
    InvalidValue = "invalid-value",
    /// A target that is not a valid URL.
    BadTarget = "bad-target",
    /// Something that was taken for granted and is worth knowing.
    Assumption = "assumption",
    /// The default of a question, where nobody can be asked.
    DefaultUsed = "default-used",
    /// A `needs` or a name on the command line that no cell has.
    UnknownCell = "unknown-cell",
    /// Cells that need each other.
    NeedsCycle = "needs-cycle",
    /// A value that another place hides.
    ShadowedVariable = "shadowed-variable",
    /// A yield that no cell uses.
    UnusedYield = "unused-yield",
    /// A name that a file yields twice.
    RepeatedYield = "repeated-yield",
    /// A value that nobody uses.
    UnusedVariable = "unused-variable",
    /// A name that is yielded only after the cell that uses it.
    YieldedLater = "yielded-later",
    /// A JSON body that is none.
    BadJson = "bad-json",
    /// A header field whose name is probably a misspelling of a known one.
    MisspelledHeader = "misspelled-header",
    /// A method that is probably a misspelling of a known one.
    MisspelledMethod = "misspelled-method",
    /// Credentials that go out without encryption.
    PlainCredentials = "plain-credentials",
    /// A cell without checks; reported only if `[lint]` asks for it.
    NoChecks = "no-checks",
    /// `# allow …` with an unknown code or without a reason.
    BadSuppression = "bad-suppression",
    /// `# allow …` that suppresses nothing.
    UnusedSuppression = "unused-suppression",
    /// A text that looks like a secret in a file that others see.
    SecretInFile = "secret-in-file",
    /// A private file that git keeps.
    TrackedFile = "tracked-file",
    /// A check that passed since there was nothing to look at.
    EmptyList = "empty-list",
    /// A check that cannot be judged on a logged response, since it reads a secret.
    NotEvaluated = "not-evaluated",
    /// A label nobody has.
    UnknownLabel = "unknown-label",
    /// A configuration that cannot be read.
    BadConfiguration = "bad-configuration",
    /// A key of the configuration that is not known.
    UnknownKey = "unknown-key",
    /// A profile of `[oauth2]` that does not exist or is incomplete.
    UnknownProfile = "unknown-profile",
    /// An environment that is not there.
    UnknownEnvironment = "unknown-environment",
    /// The program itself failed at a cell.
    InternalError = "internal-error",
    /// A secret that would be sent to an origin it does not belong to.
    SecretDestination = "secret-destination",
    /// A secret that is too short to be masked inside words.
    ShortSecret = "short-secret",
    /// A value that is yielded as if it were no secret, though its name says that it is one.
    UnmarkedSecret = "unmarked-secret",
    /// Something that only an allowed workspace may do.
    NotAllowed = "not-allowed",
    /// Something in a response that breaks the rules of HTTP, and what became of it.
    MalformedResponse = "malformed-response",
    /// Something in a body that looks like a request or an instruction.
    SwallowedText = "swallowed-text",
    /// A GraphQL document, or a variable of it, that is not valid.
    InvalidGraphql = "invalid-graphql",
    /// Errors in the response to a GraphQL request that no check reads.
    GraphqlErrors = "graphql-errors",
    /// A placeholder in a GraphQL document, where it is not replaced.
    GraphqlPlaceholder = "graphql-placeholder",
    /// A field, parameter or operation of the API that should no longer be used.
    Deprecated = "deprecated",
    /// A request that the description of the API does not have.
    UndocumentedRequest = "undocumented-request",
    /// A parameter or body that the description requires, and that is not sent.
    MissingParameter = "missing-parameter",
    /// A body that does not fit its schema in the description.
    InvalidBody = "invalid-body",
    /// A file that cannot be read.
    UnreadableFile = "unreadable-file",
}

/// Names that codes had before: configurations and suppressions may still use them.
const FORMER_NAMES: &[(&str, Code)] = &[
    ("unclosed-mark", Code::UnclosedPlaceholder),
    ("bad-acceptance", Code::BadSuppression),
    ("needless-acceptance", Code::UnusedSuppression),
    ("hidden-value", Code::ShadowedVariable),
    ("unused-value", Code::UnusedVariable),
    ("unknown-value", Code::UnknownVariable),
    ("value-cycle", Code::VariableCycle),
    ("not-answered", Code::UnansweredPrompt),
    ("default-taken", Code::DefaultUsed),
    ("misspelt-header", Code::MisspelledHeader),
    ("misspelt-method", Code::MisspelledMethod),
    ("unfit-value", Code::InvalidValue),
    ("not-judged", Code::NotEvaluated),
    ("secret-elsewhere", Code::SecretDestination),
    ("internal-failure", Code::InternalError),
    ("contradiction", Code::ConflictingLines),
    ("absent-source", Code::UnavailableSource),
];

/// One thing that is wrong, or worth knowing.
#[derive(Clone, Debug, PartialEq)]
pub struct Problem {
    /// The class of the problem.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// The text that `span` is in; `None` for a problem of an option.
    pub source: Option<SourceId>,
    /// The bytes to underline.
    pub span: Span,
    /// The message: lower case, no full stop, the user's words in backticks.
    pub message: String,
    /// How to correct it, if known.
    pub hint: Option<String>,
    /// The exact text to put in place of the underlined one, if known. Boxed: problems travel as errors, and few have
    /// it.
    pub replacement: Option<Box<String>>,
    /// Another place that explains this one.
    pub related: Option<Box<RelatedPlace>>,
    /// The value that is missing, where that is the problem. Boxed for the same reason.
    pub missing: Option<Box<MissingValue>>,
}

/// A place that explains a problem at another one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RelatedPlace {
    /// The text.
    pub source: SourceId,
    /// The bytes to underline.
    pub span: Span,
    /// A label for it.
    pub message: String,
}

/// A value that a problem says is missing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingValue {
    /// Its name.
    pub name: String,
    /// Why it has none, where the message gives a reason behind the name.
    pub reason: Option<String>,
}

impl Problem {
    /// An error at `span`; the caller sets the source.
    pub fn error(code: Code, span: Span, message: impl Into<String>) -> Self {
        Self {
            code,
            severity: Severity::Error,
            source: None,
            span,
            message: message.into(),
            hint: None,
            replacement: None,
            related: None,
            missing: None,
        }
    }

    /// A warning at `span`.
    pub fn warning(code: Code, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, span, message) }
    }

    /// Something worth knowing at `span`.
    pub fn info(code: Code, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Info, ..Self::error(code, span, message) }
    }

    /// Adds how to correct it.
    #[must_use]
    pub fn with_hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// Adds how to correct it, if that is known.
    #[must_use]
    pub fn with_hint_if(mut self, hint: Option<String>) -> Self {
        self.hint = hint.or(self.hint);
        self
    }

    /// Says that `meant` was probably meant by what is underlined.
    #[must_use]
    pub fn did_you_mean(self, meant: impl Into<String>) -> Self {
        let meant = meant.into();
        let problem = self.with_hint(format!("did you mean `{meant}`?"));
        Self { replacement: Some(Box::new(meant)), ..problem }
    }

    /// Says what to write in place of what is underlined.
    #[must_use]
    pub fn with_replacement(self, text: impl Into<String>) -> Self {
        Self { replacement: Some(Box::new(text.into())), ..self }
    }

    /// Says which text the span points into.
    #[must_use]
    pub fn in_source(mut self, source: SourceId) -> Self {
        self.source = Some(source);
        self
    }

    /// Points at a second place.
    #[must_use]
    pub fn with_related(mut self, source: SourceId, span: Span, words: impl Into<String>) -> Self {
        self.related = Some(Box::new(RelatedPlace { source, span, message: words.into() }));
        self
    }

    /// Names the value that is missing, and why it is.
    #[must_use]
    pub fn with_missing(mut self, name: &str, reason: Option<String>) -> Self {
        self.missing = Some(Box::new(MissingValue { name: name.to_owned(), reason }));
        self
    }

    /// True for an error, which prevents sending.
    pub fn is_error(&self) -> bool {
        self.severity == Severity::Error
    }
}

/// The candidate closest to `word`, if it is close enough to be a misspelling: one edit in a short word, two in a
/// longer one. A swap of neighbors counts as one edit.
pub fn closest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let slips = match word.chars().count() {
        0..=1 => return None,
        2..=4 => 1,
        _ => 2,
    };
    let meant = word.to_lowercase();
    let alike = |candidate: &str| meant.chars().zip(candidate.chars()).take_while(|(a, b)| a == b).count();
    candidates
        .into_iter()
        .map(|candidate| (strsim::osa_distance(&meant, &candidate.to_lowercase()), candidate))
        .filter(|&(distance, candidate)| distance <= slips && distance < candidate.chars().count())
        // Among equals, the one that begins most alike.
        .min_by_key(|&(distance, candidate)| (distance, std::cmp::Reverse(alike(candidate))))
        .map(|(_, candidate)| candidate)
}

/// Words in a row as prose: `a`, `a and b`, `a, b and c`, each in backticks.
pub fn join_words<S: AsRef<str>>(words: impl IntoIterator<Item = S>) -> String {
    let words: Vec<String> = words.into_iter().map(|word| format!("`{}`", word.as_ref())).collect();
    match words.split_last() {
        None => String::new(),
        Some((only, [])) => only.clone(),
        Some((last, rest)) => format!("{} and {last}", rest.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_finds_its_word_and_a_stranger_does_not() {
        let words = ["check", "yield", "let", "tag"];
        assert_eq!(closest("chekc", words), Some("check"));
        assert_eq!(closest("yeild", words), Some("yield"));
        assert_eq!(closest("lte", words), Some("let"));
        assert_eq!(closest("of", words), None);
        assert_eq!(closest("weather", words), None);
    }

    #[test]
    fn codes_are_unique() {
        let mut texts: Vec<_> = Code::ALL.iter().map(|code| code.as_str()).collect();
        texts.sort_unstable();
        texts.dedup();
        assert_eq!(texts.len(), Code::ALL.len());
    }
}
