//! Parsing expressions, and the errors of what cannot be compiled.

use cel::common::ast::IdedExpr;
use cel::parser::PrattParser;
use yieldtray_source::{Code, Span};

/// An error in an expression, its span counted from the expression's start.
#[derive(Clone, Debug, PartialEq)]
pub struct CompileError {
    /// The class of the problem.
    pub code: Code,
    /// The bytes at fault.
    pub span: Span,
    /// The message.
    pub message: String,
    /// How to correct it.
    pub hint: Option<String>,
    /// The likely replacement for the text at `span`.
    pub replacement: Option<String>,
    /// The function it is about, where the place is that of its call.
    pub(super) about: Option<String>,
}

impl CompileError {
    pub(super) fn new(code: Code, span: Span, message: String, hint: Option<String>) -> Self {
        Self { code, span, message, hint, replacement: None, about: None }
    }
}

/// Parses `source` and nothing else.
pub(super) fn parse(source: &str) -> Result<IdedExpr, Vec<CompileError>> {
    PrattParser::new().parse(source).map_err(|errors| syntax_faults(source, &errors.errors))
}

/// The parser's errors in our words, at their place.
fn syntax_faults(source: &str, errors: &[cel::ParseError]) -> Vec<CompileError> {
    // One error often causes several; the first is the one to fix.
    errors
        .iter()
        .take(1)
        .map(|error| {
            let column = usize::try_from(error.pos.1).unwrap_or(1).saturating_sub(1);
            let at = source.char_indices().nth(column).map_or(source.len(), |(at, _)| at);
            let token = source[at..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(source.len() - at);
            let one = source[at..].chars().next().map_or(0, char::len_utf8);
            let span = Span::new(at, (at + token.max(one)).min(source.len()));
            let (message, hint) = describe_syntax(source, span, &error.msg);
            CompileError::new(Code::BadExpression, span, message, hint)
        })
        .collect()
}

fn describe_syntax(source: &str, span: Span, parser_says: &str) -> (String, Option<String>) {
    let found = span.of(source);
    let rest = source[span.start()..].trim_start();
    let hint = if rest.starts_with('=') || source[..span.start()].trim_end().ends_with('=') && !source.contains("==") {
        Some("write `==` to compare".to_owned())
    } else if found == "and" {
        Some("write `&&`".to_owned())
    } else if found == "or" {
        Some("write `||`".to_owned())
    } else if found == "not" {
        Some("write `!`".to_owned())
    } else {
        None
    };
    let expecting = parser_says.split("expecting ").nth(1).map(|what| what.trim().replace('\'', "`"));
    let expecting = expecting.filter(|what| !what.contains("<EOF>"));
    let message = match (found.is_empty(), expecting) {
        (true, Some(what)) if what.contains("expression") => "the expression ends too early".to_owned(),
        (true, Some(what)) => format!("the expression ends too early: expected {what}"),
        (true, None) => "the expression ends too early".to_owned(),
        (false, Some(what)) if what.len() < 40 => format!("expected {what} but found `{found}`"),
        (false, _) if parser_says.contains("token recognition") || parser_says.contains("unterminated") => {
            format!("`{found}` begins nothing that an expression can hold")
        }
        (false, _) => format!("`{found}` has no meaning here"),
    };
    (message, hint)
}
