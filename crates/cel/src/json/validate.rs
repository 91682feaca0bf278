//! Checks that a text is JSON.

use thiserror::Error;

/// Lists and objects inside each other that are read: what goes through a value needs a bounded stack therefore.
pub const MAX_JSON_DEPTH: usize = 128;

/// Why a text is not JSON.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{kind} at line {line}, column {column}")]
pub struct JsonError {
    /// What is wrong.
    pub kind: JsonErrorKind,
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
}

/// What is wrong with a text that is not JSON.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum JsonErrorKind {
    /// Something else is expected.
    #[error("expected {0}")]
    Expected(&'static str),
    /// The text ends too early.
    #[error("the text ends where {0} is expected")]
    End(&'static str),
    /// A number that does not follow the grammar.
    #[error("this is not a number")]
    Number,
    /// A control character in a text.
    #[error("a control character in a text must be escaped")]
    ControlCharacter,
    /// An escape that is not defined.
    #[error("this is not an escape sequence")]
    Escape,
    /// Bytes that are not UTF-8.
    #[error("this is not UTF-8")]
    Utf8,
    /// Too many levels.
    #[error("more than {MAX_JSON_DEPTH} levels are nested")]
    Depth,
    /// A text of more than 4 GiB.
    #[error("the text has more than 4 GiB")]
    Size,
}

/// Checks a text. Returns where its value begins.
pub(super) fn validate(text: &[u8]) -> Result<usize, JsonError> {
    let error = |at: usize, kind| {
        let before = &text[..at.min(text.len())];
        let line_start = before.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
        JsonError { kind, line, column: String::from_utf8_lossy(&before[line_start..]).chars().count() + 1 }
    };
    if u32::try_from(text.len()).is_err() {
        return Err(error(0, JsonErrorKind::Size));
    }
    if let Err(wrong) = std::str::from_utf8(text) {
        return Err(error(wrong.valid_up_to(), JsonErrorKind::Utf8));
    }
    let mut validator = Validator { text, at: 0, open: Vec::new() };
    validator.blank();
    let start = validator.at;
    match validator.document() {
        Ok(()) => Ok(start),
        Err(kind) => Err(error(validator.at, kind)),
    }
}

struct Validator<'t> {
    text: &'t [u8],
    at: usize,
    /// The closing brackets of what is open.
    open: Vec<u8>,
}

impl Validator<'_> {
    #[inline]
    fn peek(&self) -> Option<u8> {
        self.text.get(self.at).copied()
    }

    #[inline]
    fn blank(&mut self) {
        while let Some(b' ' | b'\n' | b'\t' | b'\r') = self.peek() {
            self.at += 1;
        }
    }

    fn expected(&self, what: &'static str) -> JsonErrorKind {
        if self.at < self.text.len() { JsonErrorKind::Expected(what) } else { JsonErrorKind::End(what) }
    }

    /// One value and the end. Lists and objects are gone through in a loop, so that their depth takes no stack.
    fn document(&mut self) -> Result<(), JsonErrorKind> {
        loop {
            let opened = self.value()?;
            if opened && !self.first_member()? {
                continue;
            }
            // After a value: what closes, until something follows.
            loop {
                self.blank();
                let Some(close) = self.open.last().copied() else {
                    return if self.peek().is_none() { Ok(()) } else { Err(JsonErrorKind::Expected("the end")) };
                };
                match self.peek() {
                    Some(b',') => {
                        self.at += 1;
                        self.blank();
                        if close == b'}' {
                            self.name()?;
                        }
                        break;
                    }
                    Some(byte) if byte == close => {
                        self.at += 1;
                        self.open.pop();
                    }
                    _ => {
                        return Err(self.expected(if close == b'}' { "`,` or `}`" } else { "`,` or `]`" }));
                    }
                }
            }
        }
    }

    /// A value; of a list or object its opening bracket, then true.
    fn value(&mut self) -> Result<bool, JsonErrorKind> {
        self.blank();
        match self.peek() {
            Some(b'"') => self.string()?,
            Some(b'-' | b'0'..=b'9') => self.number()?,
            Some(b'{' | b'[') => {
                if self.open.len() == MAX_JSON_DEPTH {
                    return Err(JsonErrorKind::Depth);
                }
                self.open.push(if self.peek() == Some(b'{') { b'}' } else { b']' });
                self.at += 1;
                return Ok(true);
            }
            Some(b't') => self.word(b"true")?,
            Some(b'f') => self.word(b"false")?,
            Some(b'n') => self.word(b"null")?,
            _ => return Err(self.expected("a value")),
        }
        Ok(false)
    }

    /// After an opening bracket: whether it closes at once; else of an object the first name.
    fn first_member(&mut self) -> Result<bool, JsonErrorKind> {
        self.blank();
        let close = self.open.last().copied();
        if self.peek() == close {
            self.at += 1;
            self.open.pop();
            return Ok(true);
        }
        if close == Some(b'}') {
            self.name()?;
        }
        Ok(false)
    }

    /// The name of a member, and the colon.
    fn name(&mut self) -> Result<(), JsonErrorKind> {
        if self.peek() != Some(b'"') {
            return Err(self.expected("a name in double quotes"));
        }
        self.string()?;
        self.blank();
        if self.peek() != Some(b':') {
            return Err(self.expected("`:`"));
        }
        self.at += 1;
        Ok(())
    }

    fn word(&mut self, word: &[u8]) -> Result<(), JsonErrorKind> {
        if !self.text[self.at..].starts_with(word) {
            return Err(JsonErrorKind::Expected("a value"));
        }
        self.at += word.len();
        Ok(())
    }

    fn string(&mut self) -> Result<(), JsonErrorKind> {
        self.at += 1;
        loop {
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(());
                }
                Some(b'\\') => self.escape()?,
                Some(0..=0x1f) => return Err(JsonErrorKind::ControlCharacter),
                Some(_) => self.at += 1,
                None => return Err(JsonErrorKind::End("`\"`")),
            }
        }
    }

    fn escape(&mut self) -> Result<(), JsonErrorKind> {
        match self.text.get(self.at + 1) {
            Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => self.at += 2,
            Some(b'u') => {
                let unit = super::scan::unit(&self.text[self.at..]).ok_or(JsonErrorKind::Escape)?;
                let second = || super::scan::unit(&self.text[self.at + 6..]);
                match unit {
                    0xd800..=0xdbff if matches!(second(), Some(0xdc00..=0xdfff)) => self.at += 12,
                    0xd800..=0xdfff => return Err(JsonErrorKind::Escape),
                    _ => self.at += 6,
                }
            }
            _ => return Err(JsonErrorKind::Escape),
        }
        Ok(())
    }

    fn number(&mut self) -> Result<(), JsonErrorKind> {
        let digits = |validator: &mut Self| {
            let start = validator.at;
            while let Some(b'0'..=b'9') = validator.peek() {
                validator.at += 1;
            }
            validator.at > start
        };
        self.at += usize::from(self.peek() == Some(b'-'));
        let leads_with_zero = self.peek() == Some(b'0');
        if leads_with_zero {
            self.at += 1;
        } else if !digits(self) {
            return Err(JsonErrorKind::Number);
        }
        if leads_with_zero && matches!(self.peek(), Some(b'0'..=b'9')) {
            return Err(JsonErrorKind::Number);
        }
        if self.peek() == Some(b'.') {
            self.at += 1;
            if !digits(self) {
                return Err(JsonErrorKind::Number);
            }
        }
        if let Some(b'e' | b'E') = self.peek() {
            self.at += 1;
            self.at += usize::from(matches!(self.peek(), Some(b'+' | b'-')));
            if !digits(self) {
                return Err(JsonErrorKind::Number);
            }
        }
        Ok(())
    }
}
