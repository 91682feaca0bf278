//! The words of a command that was pasted from a shell, quoted as shells quote: the parser must know how far it goes.

use super::ValueText;
use thiserror::Error;

/// Whether a line begins a command of curl.
pub fn is_command(line: &str) -> bool {
    let first = after_prompt(line).split_whitespace().next().unwrap_or_default();
    matches!(first, "curl" | "curl.exe")
}

/// A line without the mark of a prompt.
pub fn after_prompt(line: &str) -> &str {
    let line = line.trim_start();
    ["$ ", "> ", "% "].iter().find_map(|prompt| line.strip_prefix(prompt)).unwrap_or(line).trim_start()
}

/// How many bytes of a text its first command takes: lines that go on, and texts of several lines, belong to it.
pub fn extent(text: &str) -> usize {
    split(text).length
}

/// The words of the first command in a text.
#[derive(Debug)]
pub struct Split {
    /// The words, or why they cannot be read.
    pub words: Result<Vec<ValueText>, ShellError>,
    /// The redirections of its output, and the commands that it is piped into: not part of the request.
    pub ignored: Option<String>,
    /// Its standard input.
    pub input: Option<Input>,
    /// How many bytes it takes, with what ends it.
    pub length: usize,
}

/// Why a command cannot be split into words.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ShellError {
    /// A text begins with this quote and does not end.
    #[error("unclosed `{0}`")]
    Unclosed(&'static str),
    /// A command whose output would be part of this one.
    #[error("command substitution is not supported: insert its output")]
    NestedCommand,
    /// An expansion that depends on more than a variable.
    #[error("shell expansion `${0}` is not supported: insert its result")]
    Expansion(String),
    /// A `&` in a word without quotes.
    #[error("an unquoted `&` ends the command: put the URL in quotes")]
    Background,
    /// An input of a Windows command.
    #[error("input redirection `<` is not supported: use `@FILE`")]
    WindowsInput,
    /// A text with escapes that is not UTF-8.
    #[error("a string in `$'…'` is not UTF-8: put it in a file and use `@FILE`")]
    NotUtf8,
    /// The number of an escape is not that of a character.
    #[error("`\\u{0:x}` is not a character")]
    NotACharacter(u32),
}

/// Splits off the first command.
pub fn split(text: &str) -> Split {
    let first_line = text.lines().next().unwrap_or_default();
    let windows = is_windows(first_line);
    let mut splitter = Splitter { text, at: 0, windows, ignored: None, input: None, document: None };
    match splitter.words() {
        Ok(words) => {
            splitter.read_document();
            let Splitter { at, ignored, input, .. } = splitter;
            Split { words: Ok(words), length: at, ignored, input }
        }
        Err(why) => {
            // A quote that is never closed takes its own line alone.
            let unclosed = matches!(why, ShellError::Unclosed(_));
            let from = if unclosed { 0 } else { splitter.at.min(text.len()) };
            let length = text[from..].find('\n').map_or(text.len(), |end| from + end + 1);
            Split { words: Err(why), length, ignored: None, input: None }
        }
    }
}

/// True if a command is quoted as for a Windows prompt: a word begins with `^"`, a line continues after `^`, or quotes
/// in a text are doubled. Text in quotes of another shell does not count.
fn is_windows(line: &str) -> bool {
    if line.contains("curl.exe ") {
        return true;
    }
    let (mut quote, mut begins) = (None, true);
    let mut rest = line.chars();
    while let Some(c) = rest.next() {
        match quote {
            Some('"') if c == '\\' => drop(rest.next()),
            Some(own) if c == own => quote = None,
            Some('"') if c == '{' && rest.as_str().starts_with("\"\"") => return true,
            Some(_) => {}
            None if begins && c == '^' && rest.as_str().starts_with('"') => return true,
            None if c == '"' || c == '\'' => quote = Some(c),
            None if c == '\\' => drop(rest.next()),
            None => {}
        }
        begins = c.is_whitespace();
    }
    quote.is_none() && line.trim_end().ends_with('^')
}

struct Splitter<'t> {
    text: &'t str,
    at: usize,
    windows: bool,
    ignored: Option<String>,
    input: Option<Input>,
    document: Option<Document>,
}

/// The standard input of a command.
#[derive(Debug)]
pub enum Input {
    /// This text.
    Text(ValueText),
    /// The file at this path.
    File(ValueText),
}

/// The lines behind a command that it reads, up to one that is a word alone.
struct Document {
    end: String,
    quoted: bool,
    tabs: bool,
}

impl Splitter<'_> {
    fn next(&mut self) -> Option<char> {
        let c = self.peek();
        self.at += c.map_or(0, char::len_utf8);
        c
    }

    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn peek(&self) -> Option<char> {
        self.rest().chars().next()
    }

    /// Takes a text, if it is next.
    fn takes(&mut self, text: &str) -> bool {
        let there = self.rest().starts_with(text);
        self.at += if there { text.len() } else { 0 };
        there
    }

    fn line_end(&mut self) -> bool {
        self.takes("\n") || self.takes("\r\n")
    }

    fn words(&mut self) -> Result<Vec<ValueText>, ShellError> {
        let mut words = Vec::new();
        let mut word: Option<ValueText> = None;
        while let Some(c) = self.next() {
            match c {
                '\n' => {
                    words.extend(word.take());
                    // Where a line begins with an option, the mark at the end of the one before it was lost.
                    let goes_on = self.rest().trim_start_matches([' ', '\t']).starts_with("-");
                    if !words.is_empty() && !goes_on {
                        return Ok(words);
                    }
                }
                ' ' | '\t' | '\r' => words.extend(word.take()),
                '\\' if !self.windows => {
                    // The line goes on, or what follows is itself.
                    if !self.line_end() {
                        word.get_or_insert_default().extend(self.next());
                    }
                }
                '^' if self.windows => {
                    if self.takes("\"") {
                        self.doubled(word.get_or_insert_default())?;
                    } else if !self.line_end() {
                        word.get_or_insert_default().extend(self.next());
                    }
                }
                '\'' if !self.windows => self.single(word.get_or_insert_default())?,
                '"' if self.windows => self.doubled(word.get_or_insert_default())?,
                '"' => self.double(word.get_or_insert_default())?,
                '`' if !self.windows => return Err(ShellError::NestedCommand),
                '$' if !self.windows => match self.peek() {
                    Some('\'') => {
                        self.at += 1;
                        self.escaped(word.get_or_insert_default())?;
                    }
                    // `$"…"` is a text that a shell may translate.
                    Some('"') => {}
                    _ => self.variable(word.get_or_insert_default())?,
                },
                '%' if self.windows => self.percent(word.get_or_insert_default()),
                ';' => {
                    words.extend(word.take());
                    return Ok(words);
                }
                '&' | '|' if self.rest().starts_with(c) => {
                    self.at += 1;
                    words.extend(word.take());
                    return Ok(words);
                }
                '&' if self.peek().is_none_or(char::is_whitespace) => {
                    words.extend(word.take());
                    return Ok(words);
                }
                '&' => return Err(ShellError::Background),
                '|' | '>' => {
                    // The number of a stream is not a word.
                    let stream =
                        word.as_ref().and_then(ValueText::plain).is_some_and(|word| word == "1" || word == "2");
                    words.extend(word.take().filter(|_| !(c == '>' && stream)));
                    self.skip_output(c);
                }
                '<' if !self.windows => {
                    words.extend(word.take());
                    self.input()?;
                }
                '<' => return Err(ShellError::WindowsInput),
                '#' if word.is_none() && !self.windows => {
                    self.at += self.rest().find('\n').unwrap_or(self.rest().len());
                }
                c => word.get_or_insert_default().push(c),
            }
        }
        words.extend(word);
        Ok(words)
    }

    /// Parses the input after a `<`: a file, a text (`<<<`), or the word that ends the following lines (`<<`).
    fn input(&mut self) -> Result<(), ShellError> {
        let (text, document) = (self.takes("<<"), self.takes("<"));
        let tabs = document && self.takes("-");
        self.at += self.rest().len() - self.rest().trim_start_matches([' ', '\t']).len();
        let quoted = self.rest().starts_with(['\'', '"', '\\']);
        let end = self.rest().find(|c: char| c.is_whitespace() || matches!(c, ';' | '|' | '&' | '>' | '<'));
        let plain = &self.rest()[..end.unwrap_or(self.rest().len())];
        if document {
            let word = plain.trim_matches(['\'', '"', '\\']).to_owned();
            self.at += plain.len();
            self.document = Some(Document { end: word, quoted, tabs });
            return Ok(());
        }
        let mut word = ValueText::default();
        match self.peek() {
            Some('\'') => {
                self.at += 1;
                self.single(&mut word)?;
            }
            Some('"') => {
                self.at += 1;
                self.double(&mut word)?;
            }
            _ => {
                word.push_str(plain);
                self.at += plain.len();
            }
        }
        if text {
            word.push('\n');
        }
        self.input = Some(if text { Input::Text(word) } else { Input::File(word) });
        Ok(())
    }

    /// Reads the lines after the command that are its input. The line end before them was read.
    fn read_document(&mut self) {
        let Some(Document { end, quoted, tabs }) = self.document.take() else { return };
        let mut document = ValueText::default();
        while !self.rest().is_empty() {
            let line = self.rest().split_inclusive('\n').next().unwrap_or_default();
            let (line, length) = (if tabs { line.trim_start_matches('\t') } else { line }.to_owned(), line.len());
            self.at += length;
            if line.trim_end_matches(['\r', '\n']) == end {
                break;
            }
            if quoted || !line.contains(['$', '\\', '`']) {
                document.push_str(&line);
                continue;
            }
            // As in double quotes, but that a quote is one.
            let escaped = format!("{}\"", line.replace('"', "\\\""));
            let mut own =
                Splitter { text: &escaped, at: 0, windows: false, ignored: None, input: None, document: None };
            if own.double(&mut document).is_err() {
                document.push_str(&line);
            }
        }
        self.input = Some(Input::Text(document));
    }

    /// Goes over where the output goes: a file behind `>`, or all that follows `|`.
    fn skip_output(&mut self, mark: char) {
        let begin = self.at - 1;
        let line = self.rest().find('\n').unwrap_or(self.rest().len());
        let length = if mark == '|' {
            line
        } else {
            let blanks = self.rest().len() - self.rest().trim_start_matches(['>', '&', ' ', '\t']).len();
            let name = self.rest()[blanks.min(line)..line].find([' ', '\t', '|', ';', '>', '\\']);
            name.map_or(line, |end| blanks + end)
        };
        self.at += length;
        let all = self.text[begin..self.at].trim();
        self.ignored.get_or_insert_with(|| all.chars().take(40).collect());
    }

    fn single(&mut self, word: &mut ValueText) -> Result<(), ShellError> {
        let end = self.rest().find('\'').ok_or(ShellError::Unclosed("'"))?;
        word.push_str(&self.text[self.at..self.at + end]);
        self.at += end + 1;
        Ok(())
    }

    fn double(&mut self, word: &mut ValueText) -> Result<(), ShellError> {
        while let Some(c) = self.next() {
            match c {
                '"' => return Ok(()),
                '\\' if self.line_end() => {}
                '\\' => match self.next() {
                    Some(c @ ('"' | '\\' | '$' | '`')) => word.push(c),
                    Some(c) => {
                        word.push('\\');
                        word.push(c);
                    }
                    None => break,
                },
                '$' => self.variable(word)?,
                '`' => return Err(ShellError::NestedCommand),
                c => word.push(c),
            }
        }
        Err(ShellError::Unclosed("\""))
    }

    /// A text of a Windows prompt: a quote in it is doubled, or written with a backslash; carets go.
    fn doubled(&mut self, word: &mut ValueText) -> Result<(), ShellError> {
        while let Some(c) = self.next() {
            match c {
                '^' if self.rest().starts_with('\\') => {
                    self.at -= 1;
                    if self.backslashes(word) {
                        return Ok(());
                    }
                }
                // A caret joins lines; before two line ends it leaves one.
                '^' if self.line_end() => {
                    if self.line_end() {
                        word.push('\n');
                    }
                }
                '^' => match self.next() {
                    Some('"') => return Ok(()),
                    Some(c) => word.push(c),
                    None => break,
                },
                '\\' => {
                    self.at -= 1;
                    if self.backslashes(word) {
                        return Ok(());
                    }
                }
                '"' if self.takes("\"") => word.push('"'),
                '"' => return Ok(()),
                '%' => self.percent(word),
                c => word.push(c),
            }
        }
        Err(ShellError::Unclosed("\""))
    }

    /// Backslashes in a row, each with or without a caret: before a quote two are one, and a single one makes the quote
    /// a part of the text. Whether the text ended.
    fn backslashes(&mut self, word: &mut ValueText) -> bool {
        let mut count = 0;
        while self.takes("^\\") || self.takes("\\") {
            count += 1;
        }
        let before_quote = self.rest().starts_with('"') || self.rest().starts_with("^\"");
        for _ in 0..if before_quote { count / 2 } else { count } {
            word.push('\\');
        }
        if before_quote {
            let _ = self.takes("^\"") || self.takes("\"");
            if count % 2 == 0 {
                return true;
            }
            word.push('"');
        }
        false
    }

    /// `$'…'`, with the escapes of C.
    fn escaped(&mut self, word: &mut ValueText) -> Result<(), ShellError> {
        let mut bytes: Vec<u8> = Vec::new();
        while let Some(c) = self.next() {
            let byte = match c {
                '\'' => {
                    word.push_str(std::str::from_utf8(&bytes).map_err(|_| ShellError::NotUtf8)?);
                    return Ok(());
                }
                '\\' => match self.next() {
                    Some('n') => b'\n',
                    Some('t') => b'\t',
                    Some('r') => b'\r',
                    Some('a') => 7,
                    Some('b') => 8,
                    Some('e' | 'E') => 27,
                    Some('f') => 12,
                    Some('v') => 11,
                    Some('x') => self.number(16, 2) as u8,
                    Some('u') => {
                        self.unicode(4, &mut bytes)?;
                        continue;
                    }
                    Some('U') => {
                        self.unicode(8, &mut bytes)?;
                        continue;
                    }
                    Some('0'..='7') => {
                        self.at -= 1;
                        self.number(8, 3) as u8
                    }
                    Some(c) => {
                        bytes.extend(c.encode_utf8(&mut [0; 4]).bytes());
                        continue;
                    }
                    None => break,
                },
                c => {
                    bytes.extend(c.encode_utf8(&mut [0; 4]).bytes());
                    continue;
                }
            };
            bytes.push(byte);
        }
        Err(ShellError::Unclosed("$'"))
    }

    fn number(&mut self, radix: u32, digits: usize) -> u32 {
        let mut number: u32 = 0;
        for _ in 0..digits {
            let Some(digit) = self.peek().and_then(|c| c.to_digit(radix)) else { break };
            number = number.wrapping_mul(radix).wrapping_add(digit);
            self.at += 1;
        }
        number
    }

    fn unicode(&mut self, digits: usize, bytes: &mut Vec<u8>) -> Result<(), ShellError> {
        let mut number = self.number(16, digits);
        // A pair of UTF-16, as browsers write it.
        if (0xD800..0xDC00).contains(&number) && self.takes("\\u") {
            let low = self.number(16, 4);
            number = 0x1_0000 + ((number - 0xD800) << 10) + (low.wrapping_sub(0xDC00) & 0x3FF);
        }
        let c = char::from_u32(number).ok_or(ShellError::NotACharacter(number))?;
        bytes.extend(c.encode_utf8(&mut [0; 4]).bytes());
        Ok(())
    }

    /// The rest of `$(printf '…')`, by which a shell is given characters that nobody sees.
    fn printed(&mut self, word: &mut ValueText) -> Result<(), ShellError> {
        let mut bytes: Vec<u8> = Vec::new();
        loop {
            if self.takes("')") {
                // A shell leaves line ends at the end out.
                let text = std::str::from_utf8(&bytes).map_err(|_| ShellError::NestedCommand)?;
                word.push_str(text.trim_end_matches('\n'));
                return Ok(());
            }
            match self.next() {
                Some('\'') if self.takes("\\''") => bytes.push(b'\''),
                Some('%') if self.takes("%") => bytes.push(b'%'),
                Some('\\') if self.takes("\\") => bytes.push(b'\\'),
                Some('\\') if self.peek().is_some_and(|c| c.is_digit(8)) => bytes.push(self.number(8, 3) as u8),
                Some(c) if !matches!(c, '%' | '\\' | '\'') => bytes.extend(c.encode_utf8(&mut [0; 4]).bytes()),
                _ => return Err(ShellError::NestedCommand),
            }
        }
    }

    /// `$NAME` or `${NAME}`; any other `$` is one, but for what a shell would work out.
    fn variable(&mut self, word: &mut ValueText) -> Result<(), ShellError> {
        if self.takes("(printf '") {
            return self.printed(word);
        }
        if self.rest().starts_with('(') {
            return Err(ShellError::NestedCommand);
        }
        let braces = self.rest().starts_with('{');
        let start = self.at + usize::from(braces);
        let name = word_at(&self.text[start..]);
        let end = start + name.len();
        let closed = !braces || self.text[end..].starts_with('}');
        if closed && yieldtray_source::names::is_value_name(name) {
            word.push_value(format!("env.{name}"));
            self.at = end + usize::from(braces);
        } else if braces {
            let line = self.rest().lines().next().unwrap_or_default();
            let whole = line.find('}').map_or(line, |end| &line[..=end]);
            let shown: String = whole.chars().take(40).collect();
            return Err(ShellError::Expansion(shown));
        } else {
            word.push('$');
        }
        Ok(())
    }

    /// `%NAME%`
    fn percent(&mut self, word: &mut ValueText) {
        let name = word_at(self.rest());
        if yieldtray_source::names::is_value_name(name) && self.rest()[name.len()..].starts_with('%') {
            word.push_value(format!("env.{name}"));
            self.at += name.len() + 1;
        } else {
            word.push('%');
        }
    }
}

fn word_at(text: &str) -> &str {
    let end = text.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(text.len());
    &text[..end]
}
