//! The instructions that say whether, when and how often a cell is sent: `skip`, `wait`, `each`,
//! `afterwards`.

use super::duration;
use super::file::InstructionKind;
use super::instruction::{ParseResult, Reader};
use yieldtray_source::{Span, scan};

/// The most often a cell is played by one line.
const MAX_TIMES: u16 = 10_000;

impl Reader<'_> {
    /// Reads one of these instructions; `None` where the word is another.
    pub(super) fn control(&mut self) -> Option<ParseResult<InstructionKind>> {
        Some(match self.word.of(self.text) {
            "skip" => self.skip(),
            "wait" => self.wait(),
            "each" => self.each(),
            "afterwards" => self.afterwards(),
            "contract" => self.contract(),
            "graphql" => self.graphql(),
            "operation" => self.operation(),
            "fragments" => self.fragments(),
            "play" => self.play(),
            _ => return None,
        })
    }

    /// `when EXPR ["reason"]`
    fn skip(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% skip when environment == \"production\"`";
        self.expect_word("when", EXAMPLE)?;
        let mut condition = self.rest;
        if condition.is_empty() {
            return self.malformed(self.end_of_line(), "`% skip when` is missing an expression", EXAMPLE);
        }
        let mut reason = None;
        // Two operands in a row are not an expression, so a text after a complete one can only be the reason.
        if let Some(at) = scan::last_string(condition.of(self.text)) {
            let before = condition.part(0, at).trimmed(self.text);
            if is_whole(before.of(self.text)) {
                reason = Some(condition.part(at + 1, condition.len() - 1));
                condition = before;
            }
        }
        Ok(InstructionKind::Skip { condition, reason })
    }

    /// `until EXPR every D for D`
    fn wait(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% wait until body.state == \"done\" every 500ms for 30s`";
        self.expect_word("until", EXAMPLE)?;
        let line = self.rest.of(self.text);
        let Some(at) = scan::find_outside_strings(line, " every ") else {
            return self.malformed(
                self.end_of_line(),
                "`% wait until` is missing `every DURATION for DURATION`",
                EXAMPLE,
            );
        };
        let until = self.rest.part(0, at).trimmed(self.text);
        self.rest = self.rest.part(at + " every ".len(), self.rest.len()).trimmed(self.text);
        let every = self.next_word();
        let word = self.next_word();
        let within = self.next_word();
        let duration_of = |span: Option<Span>| span.and_then(|span| duration(span.of(self.text)));
        let says_for = word.is_some_and(|word| word.of(self.text) == "for") && self.rest.is_empty();
        match (duration_of(every), duration_of(within)) {
            (Some(every), Some(within)) if says_for && !until.is_empty() => {
                Ok(InstructionKind::Wait { until, every, within })
            }
            _ => self.malformed(until, "expected `EXPR every DURATION for DURATION`", EXAMPLE),
        }
    }

    /// `row in "FILE"`
    fn each(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% each row in \"lots.csv\"`";
        self.expect_word("row", EXAMPLE)?;
        self.expect_word("in", EXAMPLE)?;
        match self.next_word() {
            Some(path) if self.rest.is_empty() && !path.is_empty() => Ok(InstructionKind::Each(path)),
            _ => self.malformed(self.end_of_line(), "`% each row in` is missing a file", EXAMPLE),
        }
    }

    fn afterwards(&mut self) -> ParseResult<InstructionKind> {
        if self.rest.is_empty() {
            return Ok(InstructionKind::Afterwards);
        }
        self.malformed(self.rest, "`% afterwards` takes no arguments", "remove the rest of the line")
    }

    /// `[NAME]`
    fn contract(&mut self) -> ParseResult<InstructionKind> {
        let name = self.next_word();
        match self.next_word() {
            None => Ok(InstructionKind::Contract(name)),
            Some(more) => {
                let hint = "only the name of a description may follow: `% contract stock`";
                self.malformed(more, format!("unexpected argument `{}`", more.of(self.text)), hint)
            }
        }
    }

    fn graphql(&mut self) -> ParseResult<InstructionKind> {
        if self.rest.is_empty() {
            return Ok(InstructionKind::GraphQl);
        }
        let hint = "write the document below the headers, and `% operation NAME` to select one of several operations";
        self.malformed(self.rest, "`% graphql` takes no arguments", hint)
    }

    /// `NAME`
    fn operation(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% operation OpenLots`";
        match (self.next_word(), self.next_word()) {
            (Some(name), None) => Ok(InstructionKind::Operation(name)),
            (None, _) => self.malformed(self.end_of_line(), "`% operation` is missing a name", EXAMPLE),
            (_, Some(more)) => self.malformed(more, format!("unexpected argument `{}`", more.of(self.text)), EXAMPLE),
        }
    }

    /// `from PATH`
    fn fragments(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% fragments from lots.graphql`";
        self.expect_word("from", EXAMPLE)?;
        match (self.next_word(), self.next_word()) {
            (Some(path), None) => Ok(InstructionKind::Fragments(path)),
            (None, _) => self.malformed(self.end_of_line(), "`% fragments from` is missing a path", EXAMPLE),
            (_, Some(more)) => {
                let hint = "put a path with spaces in double quotes";
                self.malformed(more, format!("unexpected argument `{}`", more.of(self.text)), hint)
            }
        }
    }

    /// `NAME [with NAME = EXPR, …] [times N]`
    fn play(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% play book-lot with bins = 24, grower = 'G-11' times 3`";
        let Some(name) = self.next_word() else {
            return self.malformed(self.end_of_line(), "`% play` is missing the name of a request", EXAMPLE);
        };
        let mut times = 1;
        let line = self.rest.of(self.text);
        let at = scan::find_outside_strings(line, " times ").or_else(|| line.starts_with("times ").then_some(0));
        if let Some(at) = at {
            let number = self.rest.part(line[at..].find("times ").map_or(at, |word| at + word + 6), line.len());
            let number = number.trimmed(self.text);
            times = match number.of(self.text).parse() {
                Ok(times) if (1..=MAX_TIMES).contains(&times) => times,
                _ => return self.malformed(number, format!("expected a number from 1 to {MAX_TIMES}"), EXAMPLE),
            };
            self.rest = self.rest.part(0, at).trimmed(self.text);
        }
        if self.rest.is_empty() {
            return Ok(InstructionKind::Play { name, with: None, times });
        }
        self.expect_word("with", EXAMPLE)?;
        let with = self.rest;
        for (name, expression) in InstructionKind::assignments(with, self.text) {
            if expression.is_empty() {
                return self.malformed(with, "expected `NAME = EXPRESSION` after `with`", EXAMPLE);
            }
            self.check_value_name(name)?;
        }
        if with.is_empty() {
            return self.malformed(self.end_of_line(), "expected `NAME = EXPRESSION` after `with`", EXAMPLE);
        }
        Ok(InstructionKind::Play { name, with: Some(with), times })
    }

    fn expect_word(&mut self, word: &str, example: &str) -> ParseResult<()> {
        match self.next_word() {
            Some(found) if found.of(self.text) == word => Ok(()),
            found => {
                let own = self.word.of(self.text);
                self.malformed(found.unwrap_or(self.end_of_line()), format!("`% {own}` is missing `{word}`"), example)
            }
        }
    }
}

/// Whether `expression` could end where it does: not with an operator, which wants something after it.
fn is_whole(expression: &str) -> bool {
    let operator = expression.bytes().last().is_none_or(|b| b"+-*/%<>=!&|?:,([{.".contains(&b));
    let word = expression.rsplit(|c: char| !c.is_alphanumeric() && c != '_').next();
    !operator && word != Some("in")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reason_is_told_from_a_text_of_the_expression() {
        for (expression, reason) in [
            ("environment == \"live\"", None),
            ("environment == \"live\" \"not there\"", Some(22)),
            ("closed \"closed today\"", Some(7)),
            ("x.startsWith(\"a\")", None),
            ("x in \"abc\"", None),
            ("f('a') 'why'", Some(7)),
        ] {
            let at = scan::last_string(expression).filter(|at| is_whole(expression[..*at].trim_end()));
            assert_eq!(at, reason, "{expression}");
        }
    }
}
