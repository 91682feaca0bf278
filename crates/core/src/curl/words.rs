//! The words of a command, quoted as shells quote.

/// A word: text, and variables that the shell would put in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Word(pub(super) Vec<Piece>);

/// A piece of a word.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    /// Text as it is.
    Text(String),
    /// `$NAME`, `${NAME}` or `%NAME%`.
    Variable(String),
}

impl Word {
    pub(super) fn text(text: &str) -> Self {
        let mut word = Self::default();
        text.chars().for_each(|c| word.push(c));
        word
    }

    fn push(&mut self, c: char) {
        match self.0.last_mut() {
            Some(Piece::Text(text)) => text.push(c),
            _ => self.0.push(Piece::Text(c.to_string())),
        }
    }

    /// The text, where no variable is in it.
    pub(super) fn plain(&self) -> Option<&str> {
        match self.0.as_slice() {
            [] => Some(""),
            [Piece::Text(text)] => Some(text),
            _ => None,
        }
    }

    /// The text it begins with.
    pub(super) fn head(&self) -> &str {
        match self.0.first() {
            Some(Piece::Text(text)) => text,
            _ => "",
        }
    }

    /// The word behind the first `bytes` bytes of its head.
    pub(super) fn behind(&self, bytes: usize) -> Self {
        let mut pieces = self.0.clone();
        if let Some(Piece::Text(text)) = pieces.first_mut() {
            text.drain(..bytes);
            if text.is_empty() {
                pieces.remove(0);
            }
        }
        Self(pieces)
    }

    /// What stands before and behind the first `mark`, if that stands in its text.
    pub(super) fn split(&self, mark: char) -> Option<(Self, Self)> {
        for (index, piece) in self.0.iter().enumerate() {
            let Piece::Text(text) = piece else { continue };
            if let Some((before, behind)) = text.split_once(mark) {
                let (mut first, mut second) = (self.0[..index].to_vec(), Vec::new());
                let text = |text: &str| (!text.is_empty()).then(|| Piece::Text(text.to_owned()));
                first.extend(text(before));
                second.extend(text(behind));
                second.extend_from_slice(&self.0[index + 1..]);
                return Some((Self(first), Self(second)));
            }
        }
        None
    }

    pub(super) fn append(&mut self, other: &Word) {
        for piece in &other.0 {
            match piece {
                Piece::Text(text) => text.chars().for_each(|c| self.push(c)),
                Piece::Variable(_) => self.0.push(piece.clone()),
            }
        }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// Whether a line begins a command of curl.
pub fn is_command(line: &str) -> bool {
    let line = line.trim_start().trim_start_matches("$ ");
    let first = line.split_whitespace().next().unwrap_or_default();
    matches!(first, "curl" | "curl.exe")
}

/// How many bytes of a text its first command takes: lines that go on, and texts of several lines, belong to it.
pub fn extent(text: &str) -> usize {
    let mut end = 0;
    for line in text.split_inclusive('\n') {
        end += line.len();
        let goes_on = line.trim_end_matches(['\r', '\n']).ends_with(['\\', '^']);
        let open = matches!(words(&text[..end]), Err(why) if why.ends_with("is never closed"));
        if !goes_on && !open {
            return end;
        }
    }
    // A quote that is never closed takes its own line alone.
    let closed = words(text).is_ok();
    if closed { end } else { text.find('\n').map_or(text.len(), |at| at + 1) }
}

/// The words of a text, and where it is not closed.
pub(super) fn words(text: &str) -> Result<Vec<Word>, String> {
    // The quoting of a Windows prompt: carets before what it would take for itself.
    let carets = text.contains("^\"") || text.contains("^\n") || text.contains("^\r\n");
    Splitter { chars: text.chars().collect(), at: 0, carets }.words()
}

struct Splitter {
    chars: Vec<char>,
    at: usize,
    carets: bool,
}

impl Splitter {
    fn next(&mut self) -> Option<char> {
        let c = self.chars.get(self.at).copied();
        self.at += usize::from(c.is_some());
        c
    }

    fn peek(&self) -> Option<char> {
        self.chars.get(self.at).copied()
    }

    fn words(mut self) -> Result<Vec<Word>, String> {
        let mut words = Vec::new();
        let mut word: Option<Word> = None;
        while let Some(c) = self.next() {
            match c {
                '\n' | ' ' | '\t' | '\r' => words.extend(word.take()),
                '\\' if !self.carets => match self.next() {
                    // The line goes on.
                    Some('\n') => {}
                    Some('\r') if self.peek() == Some('\n') => self.at += 1,
                    Some(c) => word.get_or_insert_default().push(c),
                    None => {}
                },
                '^' if self.carets => match self.next() {
                    Some('\n') => {}
                    Some('\r') if self.peek() == Some('\n') => self.at += 1,
                    Some('"') => self.doubled(word.get_or_insert_default())?,
                    Some(c) => word.get_or_insert_default().push(c),
                    None => {}
                },
                '\'' if !self.carets => self.single(word.get_or_insert_default())?,
                '"' if self.carets => self.doubled(word.get_or_insert_default())?,
                '"' => self.double(word.get_or_insert_default())?,
                '$' if self.peek() == Some('\'') && !self.carets => {
                    self.at += 1;
                    self.escaped(word.get_or_insert_default())?;
                }
                '$' if !self.carets => self.variable(word.get_or_insert_default()),
                '%' if self.carets => self.percent(word.get_or_insert_default()),
                // What follows is no part of the command.
                ';' | '|' | '&' | '>' | '<' if !self.carets => {
                    words.extend(word.take());
                    let rest: String = self.chars[self.at - 1..].iter().take(12).collect();
                    return Err(format!(
                        "`{}` begins something that is no transfer: paste the command alone",
                        rest.trim()
                    ));
                }
                '#' if word.is_none() && !self.carets => {
                    while self.peek().is_some_and(|c| c != '\n') {
                        self.at += 1;
                    }
                }
                c => word.get_or_insert_default().push(c),
            }
        }
        words.extend(word);
        Ok(words)
    }

    fn single(&mut self, word: &mut Word) -> Result<(), String> {
        loop {
            match self.next() {
                Some('\'') => return Ok(()),
                Some(c) => word.push(c),
                None => return Err("a `'` is never closed".to_owned()),
            }
        }
    }

    fn double(&mut self, word: &mut Word) -> Result<(), String> {
        loop {
            match self.next() {
                Some('"') => return Ok(()),
                Some('\\') => match self.next() {
                    Some('\n') => {}
                    Some(c @ ('"' | '\\' | '$' | '`')) => word.push(c),
                    Some(c) => {
                        word.push('\\');
                        word.push(c);
                    }
                    None => break,
                },
                Some('$') => self.variable(word),
                Some(c) => word.push(c),
                None => break,
            }
        }
        Err("a `\"` is never closed".to_owned())
    }

    /// A text of a Windows prompt: a quote in it is doubled, or written with a backslash; carets go.
    fn doubled(&mut self, word: &mut Word) -> Result<(), String> {
        loop {
            match self.next() {
                Some('^') => match self.next() {
                    Some('"') if self.chars.get(self.at - 3) == Some(&'\\') => {}
                    Some('"') => return Ok(()),
                    Some('\n') => word.push('\n'),
                    Some('\\') if self.chars[self.at..].starts_with(&['^', '"']) => {
                        self.at += 2;
                        word.push('"');
                    }
                    Some(c) => word.push(c),
                    None => break,
                },
                Some('\\') if self.peek() == Some('"') => {
                    self.at += 1;
                    word.push('"');
                }
                Some('"') if self.peek() == Some('"') => {
                    self.at += 1;
                    word.push('"');
                }
                Some('"') => return Ok(()),
                Some('%') => self.percent(word),
                Some(c) => word.push(c),
                None => break,
            }
        }
        Err("a `\"` is never closed".to_owned())
    }

    /// `$'…'`, with the escapes of C.
    fn escaped(&mut self, word: &mut Word) -> Result<(), String> {
        let mut bytes: Vec<u8> = Vec::new();
        let done = |bytes: &[u8], word: &mut Word| {
            let text = String::from_utf8(bytes.to_vec());
            let text = text.map_err(|_| "a text in `$'…'` is no UTF-8: put it into a file, and name that with `@`")?;
            text.chars().for_each(|c| word.push(c));
            Ok(())
        };
        loop {
            match self.next() {
                Some('\'') => return done(&bytes, word),
                Some('\\') => match self.next() {
                    Some('n') => bytes.push(b'\n'),
                    Some('t') => bytes.push(b'\t'),
                    Some('r') => bytes.push(b'\r'),
                    Some('a') => bytes.push(7),
                    Some('b') => bytes.push(8),
                    Some('e' | 'E') => bytes.push(27),
                    Some('f') => bytes.push(12),
                    Some('v') => bytes.push(11),
                    Some('x') => bytes.push(self.number(16, 2) as u8),
                    Some('u') => self.unicode(4, &mut bytes)?,
                    Some('U') => self.unicode(8, &mut bytes)?,
                    Some(c @ '0'..='7') => {
                        self.at -= 1;
                        let _ = c;
                        bytes.push(self.number(8, 3) as u8);
                    }
                    Some(c) => bytes.extend(c.to_string().as_bytes()),
                    None => break,
                },
                Some(c) => bytes.extend(c.to_string().as_bytes()),
                None => break,
            }
        }
        Err("a `$'` is never closed".to_owned())
    }

    fn number(&mut self, radix: u32, digits: usize) -> u32 {
        let mut number = 0;
        for _ in 0..digits {
            let Some(digit) = self.peek().and_then(|c| c.to_digit(radix)) else { break };
            number = number * radix + digit;
            self.at += 1;
        }
        number
    }

    fn unicode(&mut self, digits: usize, bytes: &mut Vec<u8>) -> Result<(), String> {
        let mut number = self.number(16, digits);
        // A pair of UTF-16, as browsers write it.
        if (0xD800..0xDC00).contains(&number) && self.chars[self.at..].starts_with(&['\\', 'u']) {
            self.at += 2;
            let low = self.number(16, 4);
            number = 0x1_0000 + ((number - 0xD800) << 10) + (low.wrapping_sub(0xDC00) & 0x3FF);
        }
        let c = char::from_u32(number).ok_or_else(|| format!("`\\u{number:x}` is no character"))?;
        bytes.extend(c.to_string().as_bytes());
        Ok(())
    }

    /// `$NAME` or `${NAME}`; any other `$` is one.
    fn variable(&mut self, word: &mut Word) {
        let braces = self.peek() == Some('{');
        let start = self.at + usize::from(braces);
        let name: String = self.chars[start.min(self.chars.len())..]
            .iter()
            .take_while(|c| c.is_ascii_alphanumeric() || **c == '_')
            .collect();
        let end = start + name.chars().count();
        let closed = !braces || self.chars.get(end) == Some(&'}');
        if closed && crate::syntax::is_value_name(&name) {
            self.at = end + usize::from(braces);
            word.0.push(Piece::Variable(name));
        } else {
            word.push('$');
        }
    }

    /// `%NAME%`
    fn percent(&mut self, word: &mut Word) {
        let name: String =
            self.chars[self.at..].iter().take_while(|c| c.is_ascii_alphanumeric() || **c == '_').collect();
        let end = self.at + name.chars().count();
        if self.chars.get(end) == Some(&'%') && crate::syntax::is_value_name(&name) {
            self.at = end + 1;
            word.0.push(Piece::Variable(name));
        } else {
            word.push('%');
        }
    }
}
