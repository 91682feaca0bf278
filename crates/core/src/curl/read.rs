use super::options::{Does, Known, long, short};
use super::words::{Piece, Word, words};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// What a command would send.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Transfer {
    pub(super) method: Option<Word>,
    pub(super) url: Word,
    /// Parameters that are added to the address.
    pub(super) query: Vec<Word>,
    pub(super) headers: Vec<(Word, Word)>,
    pub(super) body: Body,
    pub(super) auth: Option<(&'static str, Vec<Word>)>,
    pub(super) lines: Vec<String>,
    pub(super) version: Option<&'static str>,
    /// What a cell cannot say, and what was left out since it is not about the request.
    pub notes: Vec<String>,
}

/// What is sent as the body.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) enum Body {
    #[default]
    None,
    Text(Word),
    /// A file, as it is.
    File(Word),
    /// Parts: a name and a text, or a file with its media type and name.
    Parts(Vec<(Word, Part)>),
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    Text(Word),
    File { path: Word, media: Option<String>, name: Option<String> },
}

/// Reads the commands in a text, as a shell would.
///
/// # Errors
/// Why that cannot be done, in words.
pub fn read(text: &str) -> Result<Vec<Transfer>, String> {
    let text = text.trim_start().trim_start_matches("$ ");
    let mut words = words(text)?.into_iter().peekable();
    match words.next().as_ref().and_then(Word::plain) {
        Some("curl" | "curl.exe") => {}
        _ => return Err("this is no command of curl".to_owned()),
    }
    let mut transfers = Vec::new();
    let mut reading = Reading::default();
    let mut only_words = false;
    while let Some(word) = words.next() {
        let head = word.head().to_owned();
        if only_words || !head.starts_with('-') || head == "-" {
            reading.urls.push(word);
            continue;
        }
        if head == "--" && word.plain().is_some() {
            only_words = true;
            continue;
        }
        let mut value = || words.next().ok_or_else(|| format!("`{head}` lacks its value"));
        if let Some(name) = head.strip_prefix("--") {
            let known = long(name.strip_prefix("no-").filter(|_| long(name).is_none()).unwrap_or(name));
            let Known(_, _, takes, does) = known.ok_or_else(|| unknown(&head))?;
            let given = if *takes { Some(value()?) } else { None };
            // What is switched off is as if nothing was said.
            if !(name.starts_with("no-") && long(name).is_none()) {
                reading.take(&head, *does, given, &mut transfers)?;
            }
            continue;
        }
        // Letters in a row; the value of one is what follows it, or the next word.
        let mut rest = word.behind(1);
        while let Some(letter) = rest.head().chars().next() {
            let shown = format!("-{letter}");
            let Known(_, _, takes, does) = short(letter).ok_or_else(|| unknown(&shown))?;
            rest = rest.behind(letter.len_utf8());
            if *takes {
                let given = if rest.is_empty() { value()? } else { std::mem::take(&mut rest) };
                reading.take(&shown, *does, Some(given), &mut transfers)?;
                break;
            }
            reading.take(&shown, *does, None, &mut transfers)?;
        }
    }
    reading.end(&mut transfers)?;
    if transfers.is_empty() { Err("the command names no address".to_owned()) } else { Ok(transfers) }
}

fn unknown(option: &str) -> String {
    format!("`{option}` is not known here: leave it out, if it does not matter")
}

/// One request, as far as it was read.
#[derive(Default)]
struct Reading {
    transfer: Transfer,
    urls: Vec<Word>,
    data: Vec<Word>,
    file: Option<Word>,
    parts: Vec<(Word, Part)>,
    json: bool,
    get: bool,
    head: bool,
    upload: bool,
    follow: bool,
    digest: bool,
    user: Option<Word>,
    redirects: Option<String>,
}

impl Reading {
    fn take(&mut self, option: &str, does: Does, given: Option<Word>, done: &mut Vec<Transfer>) -> Result<(), String> {
        let value = given.unwrap_or_default();
        match does {
            Does::Method => self.transfer.method = Some(value),
            Does::Url => self.urls.push(value),
            Does::Header => self.header(value),
            Does::Data | Does::Json if value.head().starts_with('@') => {
                self.json |= does == Does::Json;
                self.transfer
                    .notes
                    .push(format!("`{option}` drops line ends of the file, which is sent as it is here"));
                self.take_file(value.behind(1))?;
            }
            Does::DataBinary if value.head().starts_with('@') => self.take_file(value.behind(1))?,
            Does::Data | Does::DataRaw | Does::DataBinary => self.data.push(value),
            Does::Json => {
                self.json = true;
                // Several are one after the other, not joined by `&`.
                match self.data.last_mut() {
                    Some(last) => last.append(&value),
                    None => self.data.push(value),
                }
            }
            Does::DataUrlencode => self.data.push(encoded(option, &value)?),
            Does::UrlQuery => {
                let bare = value.head().strip_prefix('+').map(|_| value.behind(1));
                self.transfer.query.push(match bare {
                    Some(bare) => bare,
                    None => encoded(option, &value)?,
                });
            }
            Does::Form => {
                let part = self.part(&value)?;
                self.parts.push(part);
            }
            Does::FormString => {
                let (name, text) = value.split('=').ok_or_else(|| format!("`{option}` lacks a `=`"))?;
                self.parts.push((name, Part::Text(text)));
            }
            Does::Upload => {
                self.upload = true;
                self.take_file(value)?;
            }
            Does::Get => self.get = true,
            Does::Head => self.head = true,
            Does::User => self.user = Some(value),
            Does::Bearer => self.transfer.auth = Some(("bearer", vec![value])),
            Does::Digest => self.digest = true,
            Does::Basic | Does::Usual => {}
            Does::Cookie if value.split('=').is_some() => self.transfer.headers.push((Word::text("Cookie"), value)),
            Does::Cookie => self.transfer.notes.push(format!("`{option}` names a file of cookies, which is not read")),
            Does::Agent => self.transfer.headers.push((Word::text("User-Agent"), value)),
            Does::Referer => self.transfer.headers.push((Word::text("Referer"), value)),
            Does::Insecure => self.line("% insecure"),
            Does::Follow => self.follow = true,
            Does::MostRedirects => self.redirects = value.plain().map(str::to_owned),
            Does::MaxTime => match value.plain().and_then(|text| text.parse::<f64>().ok()).filter(|time| *time > 0.0) {
                Some(time) if time.fract() == 0.0 => self.line(&format!("% timeout {time}s")),
                Some(time) => self.line(&format!("% timeout {}ms", (time * 1e3).round())),
                None => return Err(format!("`{option}` wants seconds")),
            },
            Does::Http11 => self.transfer.version = Some("HTTP/1.1"),
            Does::Http2 => self.transfer.version = Some("HTTP/2"),
            Does::Next => {
                let begun = std::mem::take(self);
                begun.end(done)?;
            }
            Does::Output => self.transfer.notes.push(format!("`{option}` is about output, and was left out")),
            Does::Elsewhere(words) => self.transfer.notes.push(format!("`{option}`: {words}")),
        }
        Ok(())
    }

    fn line(&mut self, line: &str) {
        self.transfer.lines.push(line.to_owned());
    }

    fn header(&mut self, value: Word) {
        match (value.split(':'), value.split(';')) {
            (Some((name, value)), _) => {
                let blanks = value.head().len() - value.head().trim_start().len();
                let value = value.behind(blanks);
                match value.is_empty() {
                    // The field is not sent at all.
                    true => self.line(&format!("% header {}:", name.head())),
                    false => self.transfer.headers.push((name, value)),
                }
            }
            // `Name;` is sent without a value.
            (None, Some((name, _))) => self.transfer.headers.push((name, Word::default())),
            (None, None) => {
                self.transfer.notes.push(format!("`{}` is no header field, and was left out", value.head()));
            }
        }
    }

    fn take_file(&mut self, path: Word) -> Result<(), String> {
        if path.plain() == Some("-") {
            return Err("a body from standard input cannot be kept in a file: put it in one".to_owned());
        }
        if self.file.replace(path).is_some() || !self.data.is_empty() {
            return Err("a body that is joined of a file and more cannot be written as a cell".to_owned());
        }
        Ok(())
    }

    /// `name=text`, `name=@file;type=…;filename=…`, `name=<file`
    fn part(&mut self, value: &Word) -> Result<(Word, Part), String> {
        let (name, content) = value.split('=').ok_or("`-F` lacks a `=`")?;
        if content.head().starts_with('<') {
            return Err("a part that is a file's text cannot be written as a cell: use `@`".to_owned());
        }
        if !content.head().starts_with('@') {
            return Ok((name, Part::Text(content)));
        }
        let file = content.behind(1);
        let Some((path, more)) = file.split(';') else {
            return Ok((name, Part::File { path: file, media: None, name: None }));
        };
        let (mut media, mut filename) = (None, None);
        for word in more.plain().ok_or("a variable in the words behind a file")?.split(';') {
            match word.trim().split_once('=') {
                Some(("type", text)) => media = Some(text.to_owned()),
                Some(("filename", text)) => filename = Some(text.trim_matches('"').to_owned()),
                _ => self.transfer.notes.push(format!("`{word}` of a part was left out")),
            }
        }
        Ok((name, Part::File { path, media, name: filename }))
    }

    fn end(mut self, done: &mut Vec<Transfer>) -> Result<(), String> {
        if self.urls.is_empty() {
            let begun = !self.data.is_empty() || !self.transfer.headers.is_empty();
            return if begun { Err("the command names no address".to_owned()) } else { Ok(()) };
        }
        let transfer = &mut self.transfer;
        let named = |name: &str, transfer: &Transfer| {
            transfer.headers.iter().any(|(own, _)| own.plain().is_some_and(|own| own.eq_ignore_ascii_case(name)))
        };
        let has_data = !self.data.is_empty();
        let mut data = Word::default();
        for (index, piece) in self.data.iter().enumerate() {
            if index > 0 {
                data.append(&Word::text("&"));
            }
            data.append(piece);
        }
        if self.get {
            transfer.query.extend(has_data.then_some(data));
        } else if has_data {
            transfer.body = Body::Text(data);
        } else if let Some(path) = self.file {
            transfer.body = Body::File(path);
        } else if !self.parts.is_empty() {
            transfer.body = Body::Parts(self.parts);
        }
        let is_form = matches!(transfer.body, Body::Text(_) | Body::File(_)) && !self.upload;
        if is_form && !named("content-type", transfer) {
            let media = if self.json { "application/json" } else { "application/x-www-form-urlencoded" };
            transfer.headers.push((Word::text("Content-Type"), Word::text(media)));
        }
        if self.json && !named("accept", transfer) {
            transfer.headers.push((Word::text("Accept"), Word::text("application/json")));
        }
        if transfer.method.is_none() {
            let method = match &transfer.body {
                _ if self.head => Some("HEAD"),
                Body::None => None,
                _ if self.upload => Some("PUT"),
                _ => Some("POST"),
            };
            transfer.method = method.map(Word::text);
        }
        if let Some(user) = self.user {
            let (user, password) = user.split(':').unwrap_or((user, Word::default()));
            transfer.auth = Some((if self.digest { "digest" } else { "basic" }, vec![user, password]));
        }
        match (self.follow, self.redirects) {
            (false, _) => transfer.lines.push("% redirects 0".to_owned()),
            (true, Some(most)) => transfer.lines.push(format!("% redirects {most}")),
            (true, None) => {}
        }
        for url in self.urls {
            if let Some(glob) = globbed(&url) {
                return Err(format!("`{glob}` stands for several addresses: write them one by one"));
            }
            done.push(Transfer { url, ..transfer.clone() });
        }
        Ok(())
    }
}

/// What stands for several addresses in one.
fn globbed(url: &Word) -> Option<String> {
    let Piece::Text(text) = url.0.first()? else { return None };
    let at = text.find(['{', '['])?;
    let close = if text.as_bytes()[at] == b'{' { '}' } else { ']' };
    let end = text[at..].find(close)? + at;
    let inside = &text[at + 1..end];
    // An address of IP version 6 stands in brackets too.
    let several = if close == '}' { inside.contains(',') } else { inside.contains('-') && !inside.contains(':') };
    several.then(|| text[at..=end].to_owned())
}

/// What stays as it is (RFC 3986 2.3).
const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// `content`, `=content`, `name=content`: the content percent-encoded.
fn encoded(option: &str, value: &Word) -> Result<Word, String> {
    let from_file = value.plain().is_some_and(|text| text.split_once('@').is_some_and(|(name, _)| !name.contains('=')));
    if from_file {
        return Err(format!("`{option}` of a file cannot be written as a cell"));
    }
    let (name, content) = value.split('=').map_or((None, value.clone()), |(name, content)| (Some(name), content));
    let mut word = Word::default();
    if let Some(name) = name.filter(|name| !name.is_empty()) {
        word.append(&name);
        word.append(&Word::text("="));
    }
    for piece in &content.0 {
        match piece {
            Piece::Text(text) => {
                word.append(&Word::text(&utf8_percent_encode(text, UNRESERVED).to_string()));
            }
            Piece::Variable(name) => word.0.push(Piece::Variable(name.clone())),
        }
    }
    Ok(word)
}
