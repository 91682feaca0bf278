//! The instructions about responses that come in pieces: `until`, `take`, `reconnect` for streams of events, `say` and `expect`
//! for conversations over a WebSocket, `follow` for pages.

use super::duration;
use super::file::InstructionKind;
use super::instruction::{ParseResult, Reader};
use yieldtray_source::{Span, scan};

/// The most events that `% take` waits for.
const MAX_EVENTS: u64 = 1_000_000;

/// The most often a stream is connected again.
const MAX_RECONNECTS: u32 = 1_000;

/// The most pages that are followed, and how many where nothing else is said.
const MAX_PAGES: u32 = 1_000;
const DEFAULT_PAGES: u32 = 10;

impl Reader<'_> {
    /// Reads one of these instructions; `None` where the word is another.
    pub(super) fn stream(&mut self) -> Option<ParseResult<InstructionKind>> {
        Some(match self.word.of(self.text) {
            "until" => self.until(),
            "take" => self.take(),
            "reconnect" => self.reconnect(),
            "say" => self.say(),
            "expect" => self.expect_message(),
            "follow" => self.follow(),
            _ => return None,
        })
    }

    /// `EXPR`
    fn until(&mut self) -> ParseResult<InstructionKind> {
        if self.rest.is_empty() {
            let hint = "for example `% until event.data.state == 'done'`";
            return self.malformed(self.end_of_line(), "`% until` is missing an expression", hint);
        }
        Ok(InstructionKind::Until(self.rest))
    }

    /// `N events`
    fn take(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% take 3 events`";
        let (number, unit) = (self.next_word(), self.next_word());
        let count = number.and_then(|number| number.of(self.text).parse().ok());
        let is_unit = unit.is_some_and(|unit| matches!(unit.of(self.text), "events" | "event"));
        match count {
            Some(count) if is_unit && self.rest.is_empty() && (1..=MAX_EVENTS).contains(&count) => {
                Ok(InstructionKind::Take(count))
            }
            _ => {
                let message = format!("expected a number from 1 to {MAX_EVENTS} and `events`");
                self.malformed(number.unwrap_or(self.end_of_line()), message, EXAMPLE)
            }
        }
    }

    /// `[N times]`
    fn reconnect(&mut self) -> ParseResult<InstructionKind> {
        let (number, unit) = (self.next_word(), self.next_word());
        let Some(number) = number else { return Ok(InstructionKind::Reconnect(1)) };
        let is_unit = unit.is_some_and(|unit| matches!(unit.of(self.text), "times" | "time"));
        match number.of(self.text).parse() {
            Ok(times) if is_unit && self.rest.is_empty() && (1..=MAX_RECONNECTS).contains(&times) => {
                Ok(InstructionKind::Reconnect(times))
            }
            _ => {
                let message = format!("expected a number from 1 to {MAX_RECONNECTS} and `times`");
                self.malformed(number, message, "for example `% reconnect 5 times`")
            }
        }
    }

    /// `TEXT` or `from PATH`
    fn say(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% say {\"want\": \"readings\"}` or `% say from message.json`";
        if self.rest.is_empty() {
            return self.malformed(self.end_of_line(), "`% say` is missing a message", EXAMPLE);
        }
        let whole = self.rest;
        if self.next_word().is_some_and(|word| word.of(self.text) == "from") {
            return match (self.next_word(), self.rest.is_empty()) {
                (Some(path), true) => Ok(InstructionKind::SayFrom(path)),
                (None, _) => self.malformed(self.end_of_line(), "`% say from` is missing a path", EXAMPLE),
                (_, false) => {
                    let hint = "put a path with spaces in double quotes";
                    self.malformed(self.rest, format!("unexpected argument `{}`", self.rest.of(self.text)), hint)
                }
            };
        }
        Ok(InstructionKind::Say(whole))
    }

    /// `EXPR within D [as NAME]`
    fn expect_message(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% expect message.kg > 0 within 2s as reading`";
        let line = self.rest.of(self.text);
        let Some(at) = scan::find_outside_strings(line, " within ") else {
            return self.malformed(self.end_of_line(), "`% expect` is missing `within DURATION`", EXAMPLE);
        };
        let condition = self.rest.part(0, at).trimmed(self.text);
        self.rest = self.rest.part(at + " within ".len(), self.rest.len()).trimmed(self.text);
        let time = self.next_word();
        let within = time.and_then(|time| duration(time.of(self.text)));
        let name = match self.next_word() {
            None => None,
            Some(word) if word.of(self.text) == "as" => {
                let Some(name) = self.next_word() else {
                    return self.malformed(self.end_of_line(), "`% expect … as` is missing a name", EXAMPLE);
                };
                self.check_value_name(name)?;
                Some(name)
            }
            Some(word) => {
                return self.malformed(word, format!("expected `as NAME`, not `{}`", word.of(self.text)), EXAMPLE);
            }
        };
        match within {
            Some(within) if self.rest.is_empty() && !condition.is_empty() => {
                Ok(InstructionKind::Expect { condition, within, name })
            }
            _ => self.malformed(time.unwrap_or(condition), "expected `EXPR within DURATION [as NAME]`", EXAMPLE),
        }
    }

    /// `next [EXPR] [for N pages]`
    fn follow(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% follow next for 5 pages`, or `% follow next body.next for 5 pages`";
        match self.next_word() {
            Some(word) if word.of(self.text) == "next" => {}
            found => {
                let place = found.unwrap_or(self.end_of_line());
                return self.malformed(place, "`% follow` is missing `next`", EXAMPLE);
            }
        }
        let line = self.rest.of(self.text);
        let at = scan::find_outside_strings(line, " for ").or_else(|| line.starts_with("for ").then_some(0));
        let Some(at) = at else {
            let next = Some(self.rest).filter(|next| !next.is_empty());
            return Ok(InstructionKind::Follow { next, pages: DEFAULT_PAGES });
        };
        let next = Some(self.rest.part(0, at).trimmed(self.text)).filter(|next: &Span| !next.is_empty());
        let words = self.rest.part(at, self.rest.len()).trimmed(self.text);
        let mut parts = words.of(self.text).split_ascii_whitespace().skip(1);
        let (number, unit, more) = (parts.next(), parts.next(), parts.next());
        match number.and_then(|number| number.parse().ok()) {
            Some(pages)
                if matches!(unit, Some("pages" | "page")) && more.is_none() && (1..=MAX_PAGES).contains(&pages) =>
            {
                Ok(InstructionKind::Follow { next, pages })
            }
            _ => self.malformed(words, format!("expected `for N pages`, at most {MAX_PAGES}"), EXAMPLE),
        }
    }
}
