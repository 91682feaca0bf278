//! Tokens to a tree: a Pratt parser that reports all errors and always gives a tree.

mod macros;

use crate::error::{SyntaxError, SyntaxErrorKind};
use crate::lexer::{Token, TokenKind, tokens};
use crate::literal::{self, Literal};
use crate::tree::{Binary, Element, Entry, Field, Kind, NodeId, Tree, Unary};
use std::sync::Arc;
use yieldtray_source::Span;

/// The levels of brackets, conditionals and operators before an operand that are read. What walks a tree needs a bounded
/// stack therefore; chains of operators and members count as one level, and are walked in a loop.
pub const MAX_DEPTH: usize = 200;

/// Words that cannot be names (langdef, "Values").
const RESERVED: &[&str] = &[
    "as",
    "break",
    "const",
    "continue",
    "else",
    "for",
    "function",
    "if",
    "import",
    "let",
    "loop",
    "package",
    "namespace",
    "return",
    "var",
    "void",
    "while",
];

/// The result of reading a text.
#[derive(Clone, Debug, PartialEq)]
pub struct Parsed {
    /// The tree. Parts that could not be read are [`Kind::Error`].
    pub tree: Tree,
    /// The errors, by place.
    pub errors: Vec<SyntaxError>,
}

/// Reads an expression.
pub fn parse(text: &str) -> Parsed {
    let mut tokens = tokens(text);
    tokens.retain(|token| token.kind != TokenKind::Blank);
    // Most nodes have a token of their own.
    let room = tokens.len();
    let mut parser = Parser { text, tokens, at: 0, depth: 0, tree: Tree::with_room(room), errors: Vec::new() };
    let root = parser.expression();
    if parser.peek().is_some() {
        parser.expected("an operator or the end");
    }
    parser.tree.set_root(root);
    parser.errors.sort_by_key(|error| error.span.start());
    Parsed { tree: parser.tree, errors: parser.errors }
}

struct Parser<'t> {
    text: &'t str,
    /// Without whitespace.
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    tree: Tree,
    errors: Vec<SyntaxError>,
}

impl<'t> Parser<'t> {
    fn peek(&self) -> Option<Token> {
        self.tokens.get(self.at).copied()
    }

    /// The text of the next token; empty at the end.
    fn peek_text(&self) -> &'t str {
        self.peek().map_or("", |token| token.span.of(self.text))
    }

    /// Whether the next token is this sign or keyword.
    fn is_next(&self, sign: &str) -> bool {
        self.peek().is_some_and(|token| matches!(token.kind, TokenKind::Sign | TokenKind::Name))
            && self.peek_text() == sign
    }

    /// Takes the next token if it is this sign.
    fn takes(&mut self, sign: &str) -> bool {
        let found = self.is_next(sign);
        self.at += usize::from(found);
        found
    }

    /// Where the next token is; at the end, the empty span there.
    fn here(&self) -> Span {
        self.peek().map_or(Span::new(self.text.len(), self.text.len()), |token| token.span)
    }

    /// The end of the token before the next one.
    fn last_end(&self) -> usize {
        self.at.checked_sub(1).and_then(|at| self.tokens.get(at)).map_or(0, |token| token.span.end())
    }

    fn error(&mut self, span: Span, kind: SyntaxErrorKind) {
        // One error at a place, and none after too many levels: what follows from them says nothing new.
        let says_it = |last: &SyntaxError| last.span == span || matches!(last.kind, SyntaxErrorKind::Depth(_));
        if !self.errors.last().is_some_and(says_it) {
            self.errors.push(SyntaxError { span, kind });
        }
    }

    /// Reports that the next token is not what should be here.
    fn expected(&mut self, expected: &'static str) {
        let span = self.here();
        let kind = match self.peek() {
            Some(Token { kind: TokenKind::Unknown, .. }) => {
                SyntaxErrorKind::Character(self.peek_text().chars().next().unwrap_or_default())
            }
            Some(_) => SyntaxErrorKind::Expected { expected, found: format!("`{}`", self.peek_text()) },
            None => SyntaxErrorKind::Expected { expected, found: "the end".to_owned() },
        };
        self.error(span, kind);
    }

    /// Goes one level deeper to read something; an error if there are too many levels.
    fn nested(&mut self, read: impl FnOnce(&mut Self) -> NodeId) -> NodeId {
        if self.depth == MAX_DEPTH {
            let span = self.here();
            self.error(span, SyntaxErrorKind::Depth(MAX_DEPTH));
            // Whatever is left would only be the same error again.
            self.at = self.tokens.len();
            return self.tree.add(span, Kind::Error);
        }
        self.depth += 1;
        let node = read(self);
        self.depth -= 1;
        node
    }

    /// From a place to the end of the last token: parentheses around an operand belong to what uses it.
    fn span_from(&self, start: usize) -> Span {
        Span::new(start, self.last_end().max(start))
    }

    fn span_of(&self, node: NodeId) -> Span {
        self.tree.node(node).span
    }

    fn expression(&mut self) -> NodeId {
        self.nested(|parser| {
            let start = parser.here().start();
            let condition = parser.binary(2);
            if !parser.takes("?") {
                return condition;
            }
            let yes = parser.binary(2);
            if !parser.takes(":") {
                parser.expected("`:`");
                return yes;
            }
            let no = parser.expression();
            let span = parser.span_from(start);
            parser.tree.add(span, Kind::Conditional { condition, yes, no })
        })
    }

    /// Operands with the operators between them that bind as tightly as `least`, or more.
    fn binary(&mut self, least: u8) -> NodeId {
        let start = self.here().start();
        let mut left = self.unary();
        while let Some(operator) = self.operator().filter(|operator| operator.precedence() >= least) {
            let operator_span = self.here();
            self.at += 1;
            let right = self.binary(operator.precedence() + 1);
            let span = self.span_from(start);
            left = self.tree.add(span, Kind::Binary { operator, operator_span, left, right });
        }
        left
    }

    fn operator(&self) -> Option<Binary> {
        let kind = self.peek()?.kind;
        let operator = match self.peek_text() {
            "||" => Binary::Or,
            "&&" => Binary::And,
            "==" => Binary::Equal,
            "!=" => Binary::NotEqual,
            "<" => Binary::Less,
            "<=" => Binary::LessOrEqual,
            ">" => Binary::Greater,
            ">=" => Binary::GreaterOrEqual,
            "in" => Binary::In,
            "+" => Binary::Add,
            "-" => Binary::Subtract,
            "*" => Binary::Multiply,
            "/" => Binary::Divide,
            "%" => Binary::Modulo,
            _ => return None,
        };
        matches!(kind, TokenKind::Sign | TokenKind::Name).then_some(operator)
    }

    /// `!` or `-`, any number of one of them, before an operand.
    fn unary(&mut self) -> NodeId {
        let operator = match self.peek_text() {
            "!" => Unary::Not,
            "-" => Unary::Negate,
            _ => return self.member(),
        };
        let start = self.here().start();
        if operator == Unary::Negate && self.is_number_at(self.at + 1) {
            return self.member();
        }
        self.at += 1;
        let other = if operator == Unary::Not { "-" } else { "!" };
        if self.is_next(other) && !(other == "-" && self.is_number_at(self.at + 1)) {
            self.expected("an operand");
        }
        let operand = self.nested(Self::unary);
        let span = self.span_from(start);
        self.tree.add(span, Kind::Unary { operator, operand })
    }

    /// Whether a token is a number that a minus sign belongs to.
    fn is_number_at(&self, at: usize) -> bool {
        let Some(token) = self.tokens.get(at) else { return false };
        token.kind == TokenKind::Number && !token.span.of(self.text).ends_with(['u', 'U'])
    }

    /// An operand with its members, indices, calls and message fields.
    fn member(&mut self) -> NodeId {
        let start = self.here().start();
        let mut operand = self.primary();
        loop {
            if self.takes(".") {
                operand = self.selected(operand, start);
            } else if self.takes("[") {
                let optional = self.takes("?");
                let index = self.expression();
                self.close("]");
                let span = self.span_from(start);
                operand = self.tree.add(span, Kind::Index { operand, index, optional });
            } else if self.is_next("{")
                && let Some(name) = self.type_name(operand)
            {
                operand = self.message(name, start);
            } else {
                return operand;
            }
        }
    }

    /// A member or a call, after the dot.
    fn selected(&mut self, operand: NodeId, start: usize) -> NodeId {
        let optional = self.takes("?");
        let field_span = self.here();
        let is_quoted = self.peek().is_some_and(|token| token.kind == TokenKind::QuotedName);
        let Some(field) = self.member_name() else {
            self.expected("the name of a member");
            return operand;
        };
        if !optional && !is_quoted && self.is_next("(") {
            return self.call(field, field_span, Some(operand), start, false);
        }
        let span = Span::new(start, field_span.end());
        self.tree.add(span, Kind::Select { operand, field, field_span, optional })
    }

    /// A name after a dot, which may be reserved, or any in backticks.
    fn member_name(&mut self) -> Option<Arc<str>> {
        let (token, text) = (self.peek()?, self.peek_text());
        let name = match token.kind {
            TokenKind::QuotedName => &text[1..text.len() - 1],
            TokenKind::Name if !matches!(text, "true" | "false" | "null" | "in") => text,
            _ => return None,
        };
        self.at += 1;
        Some(name.into())
    }

    fn primary(&mut self) -> NodeId {
        let (span, text) = (self.here(), self.peek_text());
        let Some(token) = self.peek() else { return self.missing() };
        match token.kind {
            TokenKind::Number => {
                self.at += 1;
                self.literal(span, literal::number(text, false))
            }
            TokenKind::String { closed } => {
                self.at += 1;
                self.string(span, text, closed)
            }
            TokenKind::Name => self.name(span, text),
            TokenKind::Sign => match text {
                "-" => {
                    self.at += 1;
                    let number = self.here();
                    self.at += 1;
                    self.literal(Span::new(span.start(), number.end()), literal::number(number.of(self.text), true))
                }
                "." => {
                    self.at += 1;
                    let name_span = self.here();
                    match self.peek() {
                        Some(Token { kind: TokenKind::Name, .. }) => self.named(span.start(), name_span, true),
                        _ => self.missing(),
                    }
                }
                "(" => {
                    self.at += 1;
                    let inner = self.expression();
                    self.close(")");
                    inner
                }
                "[" => self.list(),
                "{" => self.map(),
                _ => self.missing(),
            },
            TokenKind::QuotedName | TokenKind::Unknown | TokenKind::Blank => self.missing(),
        }
    }

    /// Reports a missing operand. Brackets and separators are left to the construct around it.
    fn missing(&mut self) -> NodeId {
        let span = self.here();
        self.expected("an expression");
        let is_kept = matches!(self.peek_text(), "" | ")" | "]" | "}" | "," | ":" | "?") || self.operator().is_some();
        self.at += usize::from(!is_kept && self.at < self.tokens.len());
        self.tree.add(span, Kind::Error)
    }

    fn literal(&mut self, span: Span, value: Result<Literal, SyntaxErrorKind>) -> NodeId {
        match value {
            Ok(value) => self.tree.add(span, Kind::Literal(value)),
            Err(kind) => {
                self.error(span, kind);
                self.tree.add(span, Kind::Error)
            }
        }
    }

    fn string(&mut self, span: Span, text: &str, closed: bool) -> NodeId {
        if !closed {
            let is_cut = self.text[span.end()..].starts_with(['\n', '\r']);
            self.error(span, if is_cut { SyntaxErrorKind::LineEnd } else { SyntaxErrorKind::UnclosedString });
            return self.tree.add(span, Kind::Error);
        }
        match literal::string(text) {
            Ok(value) => self.tree.add(span, Kind::Literal(value)),
            Err((from, to, kind)) => {
                self.error(span.part(from, to), kind);
                self.tree.add(span, Kind::Error)
            }
        }
    }

    fn name(&mut self, span: Span, text: &str) -> NodeId {
        let literal = match text {
            "null" => Literal::Null,
            "true" => Literal::Bool(true),
            "false" => Literal::Bool(false),
            "in" => return self.missing(),
            _ => return self.named(span.start(), span, false),
        };
        self.at += 1;
        self.tree.add(span, Kind::Literal(literal))
    }

    /// A name, or a call of a function of that name.
    fn named(&mut self, start: usize, span: Span, absolute: bool) -> NodeId {
        let name = span.of(self.text);
        self.at += 1;
        if RESERVED.contains(&name) {
            self.error(span, SyntaxErrorKind::Reserved(name.to_owned()));
        }
        if self.is_next("(") {
            return self.call(name.into(), span, None, start, absolute);
        }
        self.tree.add(Span::new(start, span.end()), Kind::Name { name: name.into(), absolute })
    }

    /// The arguments of a call, from the bracket.
    fn call(
        &mut self,
        function: Arc<str>,
        name_span: Span,
        receiver: Option<NodeId>,
        start: usize,
        absolute: bool,
    ) -> NodeId {
        self.at += 1;
        let mut arguments = Vec::new();
        if !self.is_next(")") {
            arguments.push(self.expression());
            while self.takes(",") {
                arguments.push(self.expression());
            }
        }
        self.close(")");
        let span = self.span_from(start);
        self.call_or_macro(span, function, name_span, receiver, arguments, absolute)
    }

    /// The dotted name that an operand is, if it is one.
    fn type_name(&self, operand: NodeId) -> Option<Arc<str>> {
        let mut parts = Vec::new();
        let mut at = operand;
        loop {
            match &self.tree.node(at).kind {
                Kind::Name { name, absolute } => {
                    parts.push(if *absolute { format!(".{name}") } else { name.to_string() });
                    break;
                }
                Kind::Select { operand, field, optional: false, .. } => {
                    parts.push(field.to_string());
                    at = *operand;
                }
                _ => return None,
            }
        }
        parts.reverse();
        Some(parts.join(".").into())
    }

    /// Reads the parts between brackets, separated by commas; one may follow the last. `read` returns false if a part
    /// could not be read. The opening bracket is next.
    fn bracketed(&mut self, close: &'static str, mut read: impl FnMut(&mut Self) -> bool) {
        self.at += 1;
        while !self.is_next(close) && self.peek().is_some() {
            if !read(self) || !self.takes(",") {
                break;
            }
        }
        self.close(close);
    }

    /// The value after a colon; none if there is no colon.
    fn value_after_colon(&mut self) -> Option<NodeId> {
        if self.takes(":") {
            return Some(self.expression());
        }
        self.expected("`:`");
        None
    }

    fn message(&mut self, name: Arc<str>, start: usize) -> NodeId {
        let mut fields = Vec::new();
        self.bracketed("}", |parser| {
            let optional = parser.takes("?");
            let span = parser.here();
            let Some(name) = parser.member_name() else {
                parser.expected("the name of a field");
                return false;
            };
            let value = parser.value_after_colon();
            fields.extend(value.map(|value| Field { name, span, value, optional }));
            value.is_some()
        });
        let span = self.span_from(start);
        self.tree.add(span, Kind::Message { name, fields })
    }

    fn list(&mut self) -> NodeId {
        let start = self.here().start();
        let mut elements = Vec::new();
        self.bracketed("]", |parser| {
            let optional = parser.takes("?");
            elements.push(Element { value: parser.expression(), optional });
            true
        });
        let span = self.span_from(start);
        self.tree.add(span, Kind::List(elements))
    }

    fn map(&mut self) -> NodeId {
        let start = self.here().start();
        let mut entries = Vec::new();
        self.bracketed("}", |parser| {
            let optional = parser.takes("?");
            let key = parser.expression();
            let value = parser.value_after_colon();
            entries.extend(value.map(|value| Entry { key, value, optional }));
            value.is_some()
        });
        let span = self.span_from(start);
        self.tree.add(span, Kind::Map(entries))
    }

    /// Takes a closing bracket. If it is not next, the error says so, and what is before it is passed over.
    fn close(&mut self, bracket: &'static str) {
        if self.takes(bracket) {
            return;
        }
        self.expected(match bracket {
            ")" => "`,` or `)`",
            "]" => "`,` or `]`",
            _ => "`,` or `}`",
        });
        let mut open = 0_usize;
        while let Some(token) = self.peek() {
            let sign = if token.kind == TokenKind::Sign { self.peek_text() } else { "" };
            match sign {
                "(" | "[" | "{" => open += 1,
                ")" | "]" | "}" if open > 0 => open -= 1,
                // The bracket, or that of something around it.
                ")" | "]" | "}" => break,
                _ => {}
            }
            self.at += 1;
        }
        self.takes(bracket);
    }
}
