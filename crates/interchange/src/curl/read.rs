//! Reads curl commands.

use super::options::{OptionEffect, OptionSpec, long, short};
use crate::draft::{Body, ImportedRequest, Part};
use percent_encoding::utf8_percent_encode;
use std::ops::Range;
use yieldtray_source::percent::PERCENT_ENCODE_SET;
use yieldtray_syntax::shell::{Input, behind_prompt, is_command, split};
use yieldtray_syntax::{ValuePiece, ValueText, is_token};

/// One command of a text.
#[derive(Debug)]
pub struct Command {
    /// Its span.
    pub span: Range<usize>,
    /// The request, or why the command cannot be imported.
    pub drafts: Result<Vec<ImportedRequest>, String>,
}

/// Reads every command in a text, with comments and blank lines between them. Comments just above a command belong to
/// it.
pub fn commands(text: &str) -> impl Iterator<Item = Command> {
    commands_with(text, None)
}

/// Reads a file that an option names; the error says why it cannot be.
pub type ReadFile<'f> = &'f dyn Fn(&str) -> Result<String, String>;

/// The same, where files that hold header fields (`-H @FILE`) can be read.
pub fn commands_with<'f>(text: &'f str, files: Option<ReadFile<'f>>) -> impl Iterator<Item = Command> + 'f {
    let mut at = 0;
    let mut above: Vec<String> = Vec::new();
    std::iter::from_fn(move || {
        loop {
            let rest = text.get(at..).filter(|rest| !rest.is_empty())?;
            let line = rest.lines().next().unwrap_or_default();
            let bare = line.trim();
            if bare.is_empty() || bare.starts_with('#') {
                match bare.strip_prefix('#') {
                    Some(comment) if !comment.starts_with('!') => above.push(comment.trim().to_owned()),
                    _ => above.clear(),
                }
                at += rest.find('\n').map_or(rest.len(), |end| end + 1);
                continue;
            }
            let start = at + line.len() - behind_prompt(line).len();
            let found = split(&text[start..]);
            at = start + found.length.max(1);
            // The rest of a command that ended before its line did.
            let words = match found.words {
                Ok(words) if words.is_empty() => continue,
                words => words,
            };
            let mut drafts = words.and_then(|words| read_words(words, found.left_out, found.input, files));
            if let Ok(Some(first)) = drafts.as_mut().map(|drafts| drafts.first_mut()) {
                first.notes.splice(0..0, above.drain(..));
            }
            above.clear();
            return Some(Command { span: start..at.min(text.len()), drafts });
        }
    })
}

/// Reads one command, or several of which each can be taken.
///
/// # Errors
/// Why that cannot be done, in words.
pub fn read(text: &str) -> Result<Vec<ImportedRequest>, String> {
    if !is_command(text) {
        return Err("this is no command of curl".to_owned());
    }
    let drafts = commands(text).map(|command| command.drafts).collect::<Result<Vec<_>, _>>()?;
    Ok(drafts.into_iter().flatten().collect())
}

fn read_words(
    words: Vec<ValueText>,
    left_out: Option<String>,
    input: Option<Input>,
    files: Option<ReadFile<'_>>,
) -> Result<Vec<ImportedRequest>, String> {
    let mut words = words.into_iter();
    match words.next().as_ref().and_then(ValueText::plain) {
        Some("curl" | "curl.exe") => {}
        Some(other) => return Err(format!("`{}` is no command of curl", other.chars().take(40).collect::<String>())),
        None => return Err("this is no command of curl".to_owned()),
    }
    let mut drafts = Vec::new();
    let mut reading = CurlReader { input, files, ..CurlReader::default() };
    if let Some(words) = left_out {
        reading.draft.note(format!("`{words}` is about what came back, and was left out"));
    }
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
            let OptionSpec(_, _, takes, does) = known.ok_or_else(|| unknown(&head))?;
            let given = if *takes { Some(value()?) } else { None };
            // A switched off option is as if it was not given.
            if !(name.starts_with("no-") && long(name).is_none()) {
                reading.take(&head, *does, given, &mut drafts)?;
            }
            continue;
        }
        // Letters in a row; the value of one is what follows it, or the next word.
        let mut rest = word.behind(1);
        while let Some(letter) = rest.head().chars().next() {
            let shown = format!("-{letter}");
            let OptionSpec(_, _, takes, does) = short(letter).ok_or_else(|| unknown(&shown))?;
            rest = rest.behind(letter.len_utf8());
            if *takes {
                let given = if rest.is_empty() { value()? } else { std::mem::take(&mut rest) };
                reading.take(&shown, *does, Some(given), &mut drafts)?;
                break;
            }
            reading.take(&shown, *does, None, &mut drafts)?;
        }
    }
    reading.end(&mut drafts)?;
    if drafts.is_empty() { Err("the command names no address".to_owned()) } else { Ok(drafts) }
}

fn unknown(option: &str) -> String {
    // The text after a `=` may be a secret.
    let option = option.split('=').next().unwrap_or_default();
    format!("`{option}` is not known here: leave it out, if it does not matter")
}

/// The longest time limit that a cell can have, in seconds.
const MAX_TIMEOUT_SECONDS: f64 = 86_400.0;

/// One request, as far as it was read.
#[derive(Default)]
struct CurlReader<'f> {
    files: Option<ReadFile<'f>>,
    draft: ImportedRequest,
    urls: Vec<ValueText>,
    data: Vec<ValueText>,
    file: Option<ValueText>,
    parts: Vec<(ValueText, Part)>,
    json: bool,
    get: bool,
    head: bool,
    upload: bool,
    follow: bool,
    digest: bool,
    /// Whether credentials go out in a way that a cell has no line for.
    other_auth: bool,
    globoff: bool,
    user: Option<ValueText>,
    redirects: Option<String>,
    /// The standard input.
    input: Option<Input>,
}

impl CurlReader<'_> {
    fn take(
        &mut self,
        option: &str,
        does: OptionEffect,
        given: Option<ValueText>,
        done: &mut Vec<ImportedRequest>,
    ) -> Result<(), String> {
        let value = given.unwrap_or_default();
        match does {
            OptionEffect::Method => self.draft.method = Some(value),
            OptionEffect::Url => self.urls.push(value),
            OptionEffect::Header => self.header(value)?,
            OptionEffect::Data | OptionEffect::Json | OptionEffect::DataBinary
                if value.plain() == Some("@-") && self.input.is_some() =>
            {
                self.json |= does == OptionEffect::Json;
                self.take_input(option, does == OptionEffect::Data)?;
            }
            OptionEffect::Data | OptionEffect::Json if value.head().starts_with('@') => {
                self.json |= does == OptionEffect::Json;
                self.draft.note(format!("`{option}` drops line ends of the file, which is sent as it is here"));
                self.take_file(value.behind(1))?;
            }
            OptionEffect::DataBinary if value.head().starts_with('@') => self.take_file(value.behind(1))?,
            OptionEffect::Data | OptionEffect::DataRaw | OptionEffect::DataBinary => self.data.push(value),
            OptionEffect::Json => {
                self.json = true;
                // Several are one after the other, not joined by `&`.
                match self.data.last_mut() {
                    Some(last) => last.append(&value),
                    None => self.data.push(value),
                }
            }
            OptionEffect::DataUrlencode => self.data.push(encoded(option, &value)?),
            OptionEffect::UrlQuery => {
                let bare = value.head().strip_prefix('+').map(|_| value.behind(1));
                self.draft.query.push(match bare {
                    Some(bare) => bare,
                    None => encoded(option, &value)?,
                });
            }
            OptionEffect::Form => {
                let part = self.part(&value)?;
                self.parts.push(part);
            }
            OptionEffect::FormString => {
                let (name, text) = value.split('=').ok_or_else(|| format!("`{option}` lacks a `=`"))?;
                self.parts.push((name, Part::Text(text, None)));
            }
            OptionEffect::Upload if matches!(value.plain(), Some("-" | ".")) && self.input.is_some() => {
                self.upload = true;
                self.take_input(option, false)?;
            }
            OptionEffect::Upload => {
                self.upload = true;
                self.take_file(value)?;
            }
            OptionEffect::Get => self.get = true,
            OptionEffect::Head => self.head = true,
            OptionEffect::User => self.user = Some(value),
            OptionEffect::Bearer => self.draft.auth = Some(("bearer", vec![value])),
            OptionEffect::Digest => self.digest = true,
            OptionEffect::PathAsIs => self.line("% path verbatim"),
            OptionEffect::Basic | OptionEffect::Usual => {}
            OptionEffect::Globoff => self.globoff = true,
            OptionEffect::Settings => return Err(format!("`{option}` names a file of options, which is not read")),
            OptionEffect::Cookie if value.split('=').is_some() => self.cookie(value),
            OptionEffect::Cookie => self.draft.note(format!("`{option}` names a file of cookies, which is not read")),
            OptionEffect::Agent => self.field("User-Agent", value),
            OptionEffect::Range => {
                let mut ranges = ValueText::from("bytes=");
                ranges.append(&value);
                self.field("Range", ranges);
            }
            OptionEffect::Referer => self.field("Referer", value.map(|text| text.trim_end_matches(";auto").to_owned())),
            OptionEffect::Insecure => self.line("% insecure"),
            OptionEffect::Follow => self.follow = true,
            OptionEffect::MostRedirects => self.redirects = value.plain().map(str::to_owned),
            OptionEffect::MaxTime => {
                match value.plain().and_then(|text| text.parse::<f64>().ok()).filter(|time| *time > 0.0) {
                    Some(time) if time >= MAX_TIMEOUT_SECONDS => {
                        return Err(format!("`{option} {time}` is longer than a day"));
                    }
                    Some(time) if time.fract() == 0.0 => self.line(&format!("% timeout {time}s")),
                    Some(time) => self.line(&format!("% timeout {}ms", (time * 1e3).round())),
                    None => return Err(format!("`{option}` wants seconds")),
                }
            }
            OptionEffect::Http11 => self.draft.version = Some("HTTP/1.1"),
            OptionEffect::Http2 => self.draft.version = Some("HTTP/2"),
            OptionEffect::Next => {
                let files = self.files;
                let begun = std::mem::replace(self, Self { files, ..Self::default() });
                begun.end(done)?;
            }
            OptionEffect::Output => self.draft.note(format!("`{option}` is about output, and was left out")),
            OptionEffect::OtherAuth => {
                self.other_auth = true;
                self.draft.note(format!("`{option}`: there is no such `% auth`: the credentials are not sent"));
            }
            OptionEffect::Elsewhere(words) => self.draft.note(format!("`{option}`: {words}")),
        }
        Ok(())
    }

    fn line(&mut self, line: &str) {
        if !self.draft.lines.iter().any(|known| known == line) {
            self.draft.lines.push(line.to_owned());
        }
    }

    /// Takes standard input as data; `folded` drops its line ends.
    fn take_input(&mut self, option: &str, folded: bool) -> Result<(), String> {
        match self.input.take() {
            Some(Input::Text(text)) => {
                let kept = |own: &str| if folded { own.replace(['\r', '\n'], "") } else { own.to_owned() };
                self.data.push(text.map(kept));
                Ok(())
            }
            Some(Input::File(path)) => {
                if folded {
                    self.draft.note(format!("`{option}` drops line ends of the file, which is sent as it is here"));
                }
                self.take_file(path)
            }
            None => Ok(()),
        }
    }

    fn field(&mut self, name: &str, value: ValueText) {
        self.draft.headers.push((name.into(), value));
    }

    /// Cookies of several options go out in one field.
    fn cookie(&mut self, value: ValueText) {
        let is_cookie = |name: &ValueText| name.plain() == Some("Cookie");
        match self.draft.headers.iter_mut().find(|(name, _)| is_cookie(name)) {
            Some((_, cookies)) => {
                cookies.push(';');
                cookies.append(&value);
            }
            None => self.field("Cookie", value),
        }
    }

    fn header(&mut self, value: ValueText) -> Result<(), String> {
        if value.head().starts_with('@') {
            let path = value.behind(1);
            let path = path.plain().ok_or("a variable in the path of a file of header fields")?;
            let read = self.files.ok_or("header fields in a file are not read here: write them one by one")?;
            for line in read(path)?.lines().filter(|line| !line.trim().is_empty()) {
                self.header(ValueText::from(line.trim_end()))?;
            }
            return Ok(());
        }
        match (value.split(':'), value.split(';')) {
            (Some((name, value)), _) => {
                let blanks = value.head().len() - value.head().trim_start().len();
                let value = value.behind(blanks);
                if !name.plain().is_some_and(is_token) {
                    self.draft.note(format!("`{}:` names no header field, and was left out", name.head()));
                    return Ok(());
                }
                match value.is_empty() {
                    // The field is not sent at all.
                    true => self.line(&format!("% header {}:", name.head())),
                    false => self.draft.headers.push((name, value)),
                }
            }
            // `NamedValue;` is sent without a value.
            (None, Some((name, _))) if name.plain().is_some_and(is_token) => {
                self.draft.headers.push((name, ValueText::default()))
            }
            (None, _) => {
                self.draft.note(format!("`{}` is no header field, and was left out", value.head()));
            }
        }
        Ok(())
    }

    fn take_file(&mut self, path: ValueText) -> Result<(), String> {
        if path.plain() == Some("-") {
            return Err("a body from standard input cannot be kept in a file: put it in one".to_owned());
        }
        if self.file.replace(path).is_some() {
            return Err(JOINED.to_owned());
        }
        Ok(())
    }

    /// `name=text`, `name=@file;type=…;filename=…`, `name=<file`
    fn part(&mut self, value: &ValueText) -> Result<(ValueText, Part), String> {
        let (name, content) = value.split('=').ok_or("`-F` lacks a `=`")?;
        if content.head().starts_with('<') {
            let (path, media) = self.part_words(content.behind(1));
            let path = path.plain().ok_or("a variable in the path of a part")?;
            return Ok((name, Part::Text(ValueText::value(file_text(path)), media)));
        }
        if !content.head().starts_with('@') {
            let (text, media) = self.part_words(content);
            return Ok((name, Part::Text(text, media)));
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
                _ => self.draft.note(format!("`{word}` of a part was left out")),
            }
        }
        Ok((name, Part::File { path, media, name: filename }))
    }

    /// A text without the words behind its first `;`, which are about the part: its media type is taken. A text in
    /// double quotes may hold a `;`.
    fn part_words(&mut self, content: ValueText) -> (ValueText, Option<String>) {
        let trimmed = |text: ValueText| match text.plain() {
            Some(plain) => ValueText::from(plain.trim()),
            None => text,
        };
        let quoted = content.plain().and_then(|plain| {
            let mut rest = plain.trim_start().strip_prefix('"')?.chars();
            let mut text = String::new();
            loop {
                match rest.next()? {
                    '"' => return Some((ValueText::from(text), rest.as_str().to_owned())),
                    '\\' => text.extend(rest.next()),
                    c => text.push(c),
                }
            }
        });
        let (text, words) = match quoted {
            Some((text, rest)) => (text, rest.trim_start().trim_start_matches(';').to_owned()),
            None => match content.split(';') {
                Some((text, words)) => (trimmed(text), words.head().to_owned()),
                None => return (content, None),
            },
        };
        let mut media: Option<String> = None;
        for word in words.split(';').map(str::trim).filter(|word| !word.is_empty()) {
            match word.split_once('=') {
                Some(("type", own)) => media = Some(own.to_owned()),
                // A parameter of the media type.
                Some(_) if media.is_some() => media.iter_mut().for_each(|media| media.push_str(&format!(";{word}"))),
                _ => self.draft.note(format!("`; {word}` of a part was left out, as curl does")),
            }
        }
        (text, media)
    }

    fn end(mut self, done: &mut Vec<ImportedRequest>) -> Result<(), String> {
        if self.urls.is_empty() {
            let begun = !self.data.is_empty() || !self.draft.headers.is_empty();
            return if begun { Err("the command names no address".to_owned()) } else { Ok(()) };
        }
        let has_data = !self.data.is_empty();
        if self.file.is_some() && (has_data || self.get) {
            return Err(JOINED.to_owned());
        }
        if !self.parts.is_empty() && (has_data || self.file.is_some()) {
            return Err("a form of parts and another body do not go together".to_owned());
        }
        let mut data = ValueText::default();
        for (index, piece) in self.data.iter().enumerate() {
            data.push_str(if index > 0 { "&" } else { "" });
            data.append(piece);
        }
        let draft = &mut self.draft;
        if self.get {
            // curl puts either of the two into the URL.
            if has_data && !draft.query.is_empty() {
                draft.query.clear();
                draft.note("`--url-query` has no effect beside `-G` with data, and was left out");
            }
            draft.query.extend(has_data.then_some(data));
        } else if has_data {
            draft.body = Body::Text(data);
        } else if let Some(path) = &self.file {
            draft.body = Body::File(path.clone());
        } else if !self.parts.is_empty() {
            draft.body = Body::Parts(std::mem::take(&mut self.parts));
        }
        let is_form = matches!(draft.body, Body::Text(_) | Body::File(_)) && !self.upload;
        // A field that is taken away stays away.
        let taken = |name: &str| draft.lines.iter().any(|line| line.eq_ignore_ascii_case(&format!("% header {name}:")));
        let (no_media, no_accept) = (taken("content-type"), taken("accept"));
        if is_form && !no_media && !draft.has_header("content-type") {
            let media = if self.json { "application/json" } else { "application/x-www-form-urlencoded" };
            draft.headers.push(("Content-Type".into(), media.into()));
        }
        if self.json && !no_accept && !draft.has_header("accept") {
            draft.headers.push(("Accept".into(), "application/json".into()));
        }
        if draft.method.is_none() {
            let method = match &draft.body {
                _ if self.head => Some("HEAD"),
                Body::None => None,
                _ if self.upload => Some("PUT"),
                _ => Some("POST"),
            };
            draft.method = method.map(ValueText::from);
        }
        // A field of one's own goes out in place of what `-u` would make.
        let own_field = draft.has_header("authorization") && !self.digest;
        if own_field && (self.user.is_some() || draft.auth.is_some()) {
            draft.auth = None;
            draft.note("`-u` has no effect beside an `Authorization` field, and was left out");
        }
        if let Some(user) = self.user.take().filter(|_| !self.other_auth && !own_field) {
            let kind = if self.digest { "digest" } else { "basic" };
            let words = match user.split(':') {
                Some((user, password)) => vec![user, password],
                None => {
                    let who = user.plain().unwrap_or_default().replace('"', "");
                    draft.lines.push(format!("% ask password \"The password of {who}?\" secret"));
                    vec![user, ValueText::value("password")]
                }
            };
            draft.auth = Some((kind, words));
        }
        match (self.follow, &self.redirects) {
            (false, _) => draft.lines.push("% redirects 0".to_owned()),
            (true, Some(most)) => draft.lines.push(format!("% redirects {most}")),
            (true, None) => {}
        }
        for url in std::mem::take(&mut self.urls) {
            let draft = self.addressed(url)?;
            done.push(draft);
        }
        Ok(())
    }

    /// The request to one of the URLs.
    fn addressed(&self, mut url: ValueText) -> Result<ImportedRequest, String> {
        let mut draft = self.draft.clone();
        if !self.globoff {
            url = globbed(url)?;
        }
        // A file goes under its own name into a folder.
        let into =
            url.pieces().last().is_some_and(|piece| matches!(piece, ValuePiece::Literal(text) if text.ends_with('/')));
        if let (true, true, Some(path)) = (self.upload, into, self.file.as_ref().and_then(ValueText::plain)) {
            url.push_str(&utf8_percent_encode(path.rsplit('/').next().unwrap_or(path), PERCENT_ENCODE_SET).to_string());
        }
        draft.send_to(url)?;
        Ok(draft)
    }
}

/// The expression for the text of a file.
fn file_text(path: &str) -> String {
    format!("file({})", serde_json::Value::from(path))
}

const JOINED: &str = "a body that is joined of a file and more cannot be written as a cell";

/// A URL without the braces around a single word, as curl sends it.
fn globbed(url: ValueText) -> Result<ValueText, String> {
    let Some(ValuePiece::Literal(text)) = url.pieces().first() else { return Ok(url) };
    let Some(at) = text.find(['{', '[']) else { return Ok(url) };
    let close = if text.as_bytes()[at] == b'{' { '}' } else { ']' };
    let Some(end) = text[at..].find(close).map(|end| end + at) else { return Ok(url) };
    let inside = &text[at + 1..end];
    // IPv6 addresses are in brackets too.
    let several = if close == '}' { inside.contains(',') } else { inside.contains('-') && !inside.contains(':') };
    match several {
        true => Err(format!("`{}` stands for several addresses: write them one by one", &text[at..=end])),
        false if close == '}' && !inside.contains('{') => {
            let mut bare = ValueText::from(format!("{}{inside}", &text[..at]));
            bare.append(&url.behind(end + 1));
            Ok(bare)
        }
        false => Ok(url),
    }
}

/// `content`, `=content`, `name=content`: the content percent-encoded.
fn encoded(option: &str, value: &ValueText) -> Result<ValueText, String> {
    let from_file = value.plain().and_then(|text| text.split_once('@')).filter(|(name, _)| !name.contains('='));
    if let Some((name, path)) = from_file {
        if path == "-" {
            return Err(format!("`{option}` of standard input cannot be written as a cell: put it into a file"));
        }
        let mut word = ValueText::from(if name.is_empty() { String::new() } else { format!("{name}=") });
        word.push_value(format!("urlencode({})", file_text(path)));
        return Ok(word);
    }
    let (name, content) = value.split('=').map_or((None, value.clone()), |(name, content)| (Some(name), content));
    let mut word = ValueText::default();
    if let Some(name) = name.filter(|name| !name.is_empty()) {
        word.append(&name);
        word.push('=');
    }
    for piece in content.pieces() {
        match piece {
            // A space is a `+` here, as in forms.
            ValuePiece::Literal(text) => {
                word.push_str(&utf8_percent_encode(text, PERCENT_ENCODE_SET).to_string().replace("%20", "+"))
            }
            ValuePiece::Value(expression) => word.push_value(format!("urlencode({expression})")),
        }
    }
    Ok(word)
}

/// Why no request can be made of a pasted command.
pub fn why_no_request(command: &str) -> Option<String> {
    read(command).and_then(|drafts| crate::draft::cells(&drafts)).err()
}
