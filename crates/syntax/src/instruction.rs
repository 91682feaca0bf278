//! Instructions (`% word …`): the keywords, where each is allowed, and how its arguments are parsed.

use super::file::{Instruction, InstructionKind};
use yieldtray_source::names::{is_cell_name, is_value_name};
use yieldtray_source::{Code, Problem, Span, closest, join_words, scan};

/// The instructions that are carried out.
pub const SUPPORTED: &[&str] = &[
    "name",
    "tag",
    "needs",
    "let",
    "ask",
    "header",
    "query",
    "field",
    "part",
    "body",
    "auth",
    "sign",
    "timeout",
    "retry",
    "redirects",
    "cookies",
    "insecure",
    "yield",
    "check",
    "waive",
    "path",
    "save",
    "skip",
    "wait",
    "each",
    "play",
    "afterwards",
    "contract",
    "until",
    "take",
    "reconnect",
    "say",
    "expect",
    "follow",
    "graphql",
    "variable",
    "operation",
    "fragments",
];

/// Whether the language itself gives `name` to expressions, so that no value may take it.
pub fn is_language_name(name: &str) -> bool {
    // A match, not a list: it is asked for every name of a file.
    matches!(
        name,
        "env"
            | "environment"
            | "request"
            | "row"
            | "status"
            | "reason"
            | "headers"
            | "cookies"
            | "body"
            | "text"
            | "size"
            | "elapsed"
            | "url"
            | "hops"
            | "sent"
            | "true"
            | "false"
            | "null"
    )
}

/// Whether a response gives `name` to expressions, where no value has it.
pub fn is_late_name(name: &str) -> bool {
    matches!(name, "event" | "events" | "trailers" | "message" | "messages" | "pages")
}

/// Whether a response to a GraphQL request gives `name` to expressions, where no value has it.
pub fn is_graphql_name(name: &str) -> bool {
    matches!(name, "data" | "errors" | "extensions")
}

/// The part of a file that an instruction is in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Section {
    /// Before the first cell, or in `_common.http`.
    Preamble,
    /// In a cell, before its request line.
    Head,
    /// In a cell, after its request line.
    Tail,
    /// Before the request line of a file that is one cell.
    Alone,
}

/// Whether a word is that of an instruction.
pub(super) fn is_word(word: &str) -> bool {
    SUPPORTED.contains(&word)
}

/// The instruction that a word is probably a misspelling of.
pub(super) fn meant_word(word: &str) -> Option<&'static str> {
    closest(word, SUPPORTED.iter().copied())
}

/// True if a body line `% word …` begins the tail: a keyword, or a misspelling of one.
pub(super) fn begins_tail(line: &str) -> bool {
    let Some(rest) = line.strip_prefix("% ") else { return false };
    let word = rest.split_ascii_whitespace().next().unwrap_or_default();
    SUPPORTED.contains(&word) || closest(word, SUPPORTED.iter().copied()).is_some()
}

/// Reads the instruction on the line `span`, which starts with `%`.
pub(super) fn parse(text: &str, span: Span, zone: Section, problems: &mut Vec<Problem>) -> Instruction {
    let after = Span::new(span.start() + 1, span.end());
    let kind = match Reader::new(text, after).read(zone) {
        Ok(kind) => kind,
        Err(problem) => {
            problems.push(*problem);
            InstructionKind::Broken
        }
    };
    Instruction { span, kind }
}

pub(super) type ParseResult<T> = Result<T, Box<Problem>>;

/// Parses the arguments of one line. `expect_*` reports a problem if the argument is not valid.
pub(super) struct Reader<'t> {
    pub(super) text: &'t str,
    /// The instruction's word.
    pub(super) word: Span,
    /// The rest of the line, without surrounding white space.
    pub(super) rest: Span,
}

impl<'t> Reader<'t> {
    fn new(text: &'t str, after_mark: Span) -> Self {
        let line = after_mark.trimmed(text);
        let end = line.of(text).find(|c: char| c.is_ascii_whitespace()).unwrap_or(line.len());
        let word = line.part(0, end);
        Self { text, word, rest: line.part(end, line.len()).trimmed(text) }
    }

    fn read(mut self, zone: Section) -> ParseResult<InstructionKind> {
        let word = self.word.of(self.text);
        if let Some(problem) = self.misplaced(zone) {
            return Err(Box::new(problem));
        }
        match word {
            "name" => self.expect_cell_name("a name").map(InstructionKind::Name),
            "tag" => self.expect_list("tag").map(InstructionKind::Tag),
            "needs" => self.expect_list("name").map(InstructionKind::Needs),
            "waive" => self.expect_list("label").map(InstructionKind::Waive),
            "let" => {
                let name = self.expect_value_name()?;
                Ok(InstructionKind::Let { name, expression: self.expect_expression("% let season = 2026")? })
            }
            "ask" => self.ask(),
            "header" => self.header(zone),
            "yield" => {
                let name = self.expect_value_name()?;
                let expression = self.expect_expression("% yield lot_id = body.id")?;
                let (expression, secret) = self.split_secret(expression)?;
                Ok(InstructionKind::Yield { name, expression, secret })
            }
            "check" => self.check(),
            "variable" => {
                let name = self.expect_variable_name()?;
                let expression = self.expect_expression("% variable id = lot_id")?;
                Ok(InstructionKind::Variable { name, expression })
            }
            _ => self
                .sending()
                .or_else(|| self.control())
                .or_else(|| self.stream())
                .unwrap_or_else(|| Err(Box::new(self.unknown()))),
        }
    }

    fn unknown(&self) -> Problem {
        let word = self.word.of(self.text);
        if word.is_empty() {
            return Problem::error(Code::UnknownInstruction, self.word, "expected an instruction after `%`")
                .with_hint(format!("available: {}", join_words(SUPPORTED)));
        }
        let problem = Problem::error(Code::UnknownInstruction, self.word, format!("unknown instruction `% {word}`"));
        match closest(word, SUPPORTED.iter().copied()) {
            Some(meant) => problem.with_hint(format!("did you mean `% {meant}`?")).with_replacement(meant),
            None => problem.with_hint(format!("available: {}", join_words(SUPPORTED))),
        }
    }

    /// An instruction that is not allowed in `zone`.
    fn misplaced(&self, zone: Section) -> Option<Problem> {
        let word = self.word.of(self.text);
        let (why, hint) = match (word, zone) {
            (
                "name" | "needs" | "waive" | "ask" | "query" | "field" | "part" | "body" | "skip" | "each"
                | "afterwards" | "take" | "reconnect" | "say" | "expect" | "follow" | "graphql" | "variable"
                | "operation" | "fragments",
                Section::Preamble,
            ) => ("belongs to a single request, but is before the first one", "move it below a `%%` line".to_owned()),
            ("yield" | "save" | "wait" | "until", Section::Preamble | Section::Head | Section::Alone) => {
                ("needs a response, but is before the request", "move it below the request".to_owned())
            }
            _ => return None,
        };
        let message = format!("`% {word}` {why}");
        Some(Problem::error(Code::MisplacedInstruction, self.word, message).with_hint(hint))
    }

    pub(super) fn malformed<T>(
        &self,
        span: Span,
        message: impl Into<String>,
        hint: impl Into<String>,
    ) -> ParseResult<T> {
        Err(Box::new(Problem::error(Code::MalformedInstruction, span, message).with_hint(hint)))
    }

    /// The place where something is missing: the end of what is there.
    pub(super) fn end_of_line(&self) -> Span {
        Span::empty(if self.rest.is_empty() { self.word.end() } else { self.rest.end() })
    }

    fn expect_cell_name(&self, what: &str) -> ParseResult<Span> {
        let word = self.word.of(self.text);
        if self.rest.is_empty() {
            return self.malformed(
                self.end_of_line(),
                format!("`% {word}` is missing {what}"),
                format!("for example `% {word} sign-in`"),
            );
        }
        let name = self.rest.of(self.text);
        if is_cell_name(name) {
            return Ok(self.rest);
        }
        let problem = Problem::error(Code::BadName, self.rest, format!("`{name}` is not a valid name")).with_hint(
            format!("use letters, digits, `-`, `_` and `.`, for example `{}`", yieldtray_source::names::slug(name)),
        );
        Err(Box::new(problem))
    }

    fn expect_list(&self, what: &str) -> ParseResult<Span> {
        let word = self.word.of(self.text);
        for member in InstructionKind::list(self.rest, self.text) {
            if member.is_empty() {
                let place = if self.rest.is_empty() { self.end_of_line() } else { member };
                let hint = format!("add one {what}, or several separated by `,`");
                return self.malformed(place, format!("`% {word}` is missing a {what}"), hint);
            }
            let name = member.of(self.text);
            // A need may name another file's cell: `other.http#name`.
            let own = name.rsplit_once('#').map_or(name, |(_, own)| own);
            let path_allowed = word == "needs";
            if !is_cell_name(if path_allowed { own } else { name }) {
                let hint = "use letters, digits, `-`, `_` and `.`; separate several by `,`";
                let problem = Problem::error(Code::BadName, member, format!("`{name}` is not a valid {what}"));
                return Err(Box::new(problem.with_hint(hint)));
            }
        }
        Ok(self.rest)
    }

    /// `NAME =`, leaving what follows in `rest`.
    fn expect_value_name(&mut self) -> ParseResult<Span> {
        let word = self.word.of(self.text);
        let rest = self.rest.of(self.text);
        let Some(equals) = memchr::memchr(b'=', rest.as_bytes()) else {
            let example = if word == "let" { "% let season = 2026" } else { "% yield lot_id = body.id" };
            return self.malformed(
                self.end_of_line(),
                format!("`% {word}` is missing `= EXPRESSION`"),
                format!("for example `{example}`"),
            );
        };
        let name = self.rest.part(0, equals).trimmed(self.text);
        self.check_value_name(name)?;
        self.rest = self.rest.part(equals + 1, self.rest.len()).trimmed(self.text);
        Ok(name)
    }

    /// `NAME =` of a GraphQL variable, which may have any name of GraphQL.
    fn expect_variable_name(&mut self) -> ParseResult<Span> {
        const EXAMPLE: &str = "for example `% variable id = lot_id`";
        let rest = self.rest.of(self.text);
        let Some(equals) = memchr::memchr(b'=', rest.as_bytes()) else {
            return self.malformed(self.end_of_line(), "`% variable` is missing `= EXPRESSION`", EXAMPLE);
        };
        let name = self.rest.part(0, equals).trimmed(self.text);
        let shown = name.of(self.text);
        if !is_value_name(shown) {
            let message = match shown.strip_prefix('$') {
                Some(bare) => format!("the name of a variable is written without `$`: `{bare}`"),
                None => format!("`{shown}` is not a valid name of a GraphQL variable"),
            };
            let problem = Problem::error(Code::BadName, name, message).with_hint(EXAMPLE);
            let bare = shown.trim_start_matches('$').to_owned();
            return Err(Box::new(if is_value_name(&bare) { problem.with_replacement(bare) } else { problem }));
        }
        self.rest = self.rest.part(equals + 1, self.rest.len()).trimmed(self.text);
        Ok(name)
    }

    /// That the text at `name` may name a value.
    pub(super) fn check_value_name(&self, name: Span) -> ParseResult<()> {
        let (word, shown) = (self.word.of(self.text), name.of(self.text));
        if !is_value_name(shown) {
            let message = if shown.is_empty() {
                format!("`% {word}` is missing a name")
            } else {
                format!("`{shown}` is not a valid variable name")
            };
            let problem = Problem::error(Code::BadName, name, message)
                .with_hint("use letters, digits and `_`, not starting with a digit, for example `lot_id`");
            return Err(Box::new(problem));
        }
        if is_language_name(shown) {
            let message = format!("`{shown}` is reserved and cannot be a variable name");
            let problem = Problem::error(Code::ReservedName, name, message)
                .with_hint(format!("use another name, for example `my_{shown}`"));
            return Err(Box::new(problem));
        }
        Ok(())
    }

    /// `NAME "question" [secret] [default EXPR] [from LIST]`
    fn ask(&self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% ask bins \"How many bins?\" default 24`";
        let rest = self.rest.of(self.text);
        let name = self.rest.part(0, rest.find([' ', '\t', '"']).unwrap_or(rest.len()));
        self.check_value_name(name)?;
        let after = self.rest.part(name.len(), rest.len()).trimmed(self.text);
        let Some(end) = after.of(self.text).strip_prefix('"').and_then(|text| text.find('"')) else {
            let place = if after.is_empty() { self.end_of_line() } else { after };
            return self.malformed(place, "`% ask` is missing its question in double quotes", EXAMPLE);
        };
        let question = after.part(1, end + 1).trimmed(self.text);
        if question.is_empty() {
            return self.malformed(after.part(0, end + 2), "this question asks nothing", EXAMPLE);
        }
        let mut more = after.part(end + 2, after.len()).trimmed(self.text);
        let words = more.of(self.text);
        let secret = words == "secret" || words.starts_with("secret ");
        if secret {
            more = more.part("secret".len(), more.len()).trimmed(self.text);
        }
        let (mut default, mut choices) = (None, None);
        while !more.is_empty() {
            let words = more.of(self.text);
            let (slot, word, other) = if words.starts_with("default ") {
                (&mut default, "default ", " from ")
            } else if words.starts_with("from ") {
                (&mut choices, "from ", " default ")
            } else {
                return self.malformed(more, format!("`{words}` has no meaning here"), EXAMPLE);
            };
            let end = scan::find_outside_strings(words, other).unwrap_or(words.len());
            let expression = more.part(word.len().min(end), end).trimmed(self.text);
            if expression.is_empty() || slot.is_some() {
                return self.malformed(more, format!("expected one expression after `{}`", word.trim_end()), EXAMPLE);
            }
            *slot = Some(expression);
            more = more.part(end, more.len()).trimmed(self.text);
        }
        Ok(InstructionKind::Ask { name, question, secret, default, choices })
    }

    fn expect_expression(&self, example: &str) -> ParseResult<Span> {
        if self.rest.is_empty() {
            return self.malformed(self.end_of_line(), "expected an expression", format!("for example `{example}`"));
        }
        Ok(self.rest)
    }

    /// A trailing word `secret`: two words in a row are not an expression, so it is unambiguous.
    fn split_secret(&self, expression: Span) -> ParseResult<(Span, bool)> {
        let Some(before) = expression.of(self.text).strip_suffix("secret") else { return Ok((expression, false)) };
        if !before.ends_with([' ', '\t']) {
            return Ok((expression, false));
        }
        let expression = expression.part(0, before.len()).trimmed(self.text);
        // `a + secret` uses a value of that name: an operator wants something after it.
        let last = expression.of(self.text).as_bytes().last().copied();
        if last.is_none_or(|b| b"+-*/%<>=!&|?:,([{.".contains(&b)) {
            return Ok((self.rest, false));
        }
        Ok((expression, true))
    }

    fn header(&self, zone: Section) -> ParseResult<InstructionKind> {
        let Some(colon) = memchr::memchr(b':', self.rest.of(self.text).as_bytes()) else {
            return self.malformed(
                self.end_of_line(),
                "`% header` is missing `Name: value`",
                "write it as in `% header Accept: application/json`",
            );
        };
        let name = self.rest.part(0, colon);
        let value = self.rest.part(colon + 1, self.rest.len()).trimmed(self.text);
        super::request_line::check_field_name(self.text, name).map_err(Box::new)?;
        super::request_line::check_field_value(self.text, value).map_err(Box::new)?;
        if matches!(zone, Section::Head | Section::Tail) && !value.is_empty() {
            let problem = Problem::error(
                Code::MisplacedInstruction,
                self.word,
                "`% header` with a value applies to every request of a file, but is inside a request",
            )
            .with_hint(format!("write `{}` below the request line", self.rest.of(self.text)));
            return Err(Box::new(problem));
        }
        Ok(InstructionKind::Header { name, value })
    }

    fn check(&self) -> ParseResult<InstructionKind> {
        let mut expression = self.expect_expression("% check status == 200")?;
        let mut label = None;
        let line = expression.of(self.text);
        if let Some(colon) = memchr::memchr(b':', line.as_bytes())
            && is_cell_name(line[..colon].trim_end())
            && !line[..colon].trim_end().starts_with(|c: char| c.is_ascii_digit())
        {
            label = Some(expression.part(0, colon).trimmed(self.text));
            expression = expression.part(colon + 1, expression.len()).trimmed(self.text);
        }
        let mut hint = None;
        if let Some(at) = scan::find_outside_strings(expression.of(self.text), " else ") {
            let words = expression.part(at + " else ".len(), expression.len()).trimmed(self.text);
            let quoted = words.of(self.text);
            if quoted.len() < 2 || !quoted.starts_with('"') || !quoted.ends_with('"') {
                return self.malformed(
                    words,
                    "the text after `else` must be in double quotes",
                    "write them as in `else \"was the truck full?\"`",
                );
            }
            hint = Some(words.part(1, words.len() - 1));
            expression = expression.part(0, at).trimmed(self.text);
        }
        if expression.is_empty() {
            return self.malformed(
                Span::empty(expression.start()),
                "`% check` is missing an expression",
                "for example `% check ok: status == 200`",
            );
        }
        Ok(InstructionKind::Check { label, expression, hint })
    }
}
