//! The request of a curl command, read option by option.

use super::encode::{encoded, file_text, globbed};
use super::error::{CurlError, ReadFileError};
use super::options::OptionEffect;
use crate::draft::{Body, ImportedRequest, Part};
use percent_encoding::utf8_percent_encode;
use yieldtray_source::percent::PERCENT_ENCODE_SET;
use yieldtray_syntax::shell::Input;
use yieldtray_syntax::{ValuePiece, ValueText, is_token};

/// Reads a file that an option names.
pub type ReadFile<'f> = &'f dyn Fn(&str) -> Result<String, ReadFileError>;

/// The longest time limit that a cell can have, in seconds.
const MAX_TIMEOUT_SECONDS: f64 = 86_400.0;

/// One request, as far as its options were read.
#[derive(Default)]
pub(super) struct CurlReader<'f> {
    files: Option<ReadFile<'f>>,
    draft: ImportedRequest,
    urls: Vec<ValueText>,
    body: BodyOptions,
    flags: Flags,
    user: Option<ValueText>,
    redirects: Option<String>,
    /// The standard input.
    input: Option<Input>,
}

/// The options about the body.
#[derive(Default)]
struct BodyOptions {
    data: Vec<ValueText>,
    file: Option<ValueText>,
    parts: Vec<(ValueText, Part)>,
    json: bool,
    upload: bool,
}

/// The options without a value.
#[derive(Default)]
struct Flags {
    get: bool,
    head: bool,
    follow: bool,
    digest: bool,
    /// Credentials are sent in a way that a cell has no line for.
    other_auth: bool,
    globoff: bool,
}

impl<'f> CurlReader<'f> {
    /// A reader of the options of one command. `input` is its standard input.
    pub(super) fn new(input: Option<Input>, files: Option<ReadFile<'f>>) -> Self {
        Self { input, files, ..Self::default() }
    }
}

impl CurlReader<'_> {
    /// Adds a comment to the request.
    pub(super) fn note(&mut self, note: String) {
        self.draft.note(note);
    }

    /// Adds a URL: there is a request to each.
    pub(super) fn add_url(&mut self, url: ValueText) {
        self.urls.push(url);
    }

    /// Applies an option. One that ends the request adds it to `done`.
    pub(super) fn apply(
        &mut self,
        option: &str,
        does: OptionEffect,
        given: Option<ValueText>,
        done: &mut Vec<ImportedRequest>,
    ) -> Result<(), CurlError> {
        let value = given.unwrap_or_default();
        match does {
            OptionEffect::Method => self.draft.method = Some(value),
            OptionEffect::Url => self.urls.push(value),
            OptionEffect::Header => self.apply_header(value)?,
            OptionEffect::Data | OptionEffect::Json | OptionEffect::DataBinary
                if value.plain() == Some("@-") && self.input.is_some() =>
            {
                self.body.json |= does == OptionEffect::Json;
                self.set_input_body(option, does == OptionEffect::Data)?;
            }
            OptionEffect::Data | OptionEffect::Json if value.head().starts_with('@') => {
                self.body.json |= does == OptionEffect::Json;
                self.draft.note(format!("`{option}` removes line ends, but here the file is sent unchanged"));
                self.set_file_body(value.behind(1))?;
            }
            OptionEffect::DataBinary if value.head().starts_with('@') => self.set_file_body(value.behind(1))?,
            OptionEffect::Data | OptionEffect::DataRaw | OptionEffect::DataBinary => self.body.data.push(value),
            OptionEffect::Json => {
                self.body.json = true;
                // Several are one after the other, not joined by `&`.
                match self.body.data.last_mut() {
                    Some(last) => last.append(&value),
                    None => self.body.data.push(value),
                }
            }
            OptionEffect::DataUrlencode => self.body.data.push(encoded(option, &value)?),
            OptionEffect::UrlQuery => {
                let bare = value.head().strip_prefix('+').map(|_| value.behind(1));
                self.draft.query.push(match bare {
                    Some(bare) => bare,
                    None => encoded(option, &value)?,
                });
            }
            OptionEffect::Form => {
                let part = self.read_part(&value)?;
                self.body.parts.push(part);
            }
            OptionEffect::FormString => {
                let (name, text) = value.split('=').ok_or_else(|| CurlError::MissingEquals(option.to_owned()))?;
                self.body.parts.push((name, Part::Text(text, None)));
            }
            OptionEffect::Upload if matches!(value.plain(), Some("-" | ".")) && self.input.is_some() => {
                self.body.upload = true;
                self.set_input_body(option, false)?;
            }
            OptionEffect::Upload => {
                self.body.upload = true;
                self.set_file_body(value)?;
            }
            OptionEffect::Get => self.flags.get = true,
            OptionEffect::Head => self.flags.head = true,
            OptionEffect::User => self.user = Some(value),
            OptionEffect::Bearer => self.draft.auth = Some(("bearer", vec![value])),
            OptionEffect::Digest => self.flags.digest = true,
            OptionEffect::PathAsIs => self.add_line("% path verbatim"),
            OptionEffect::Basic | OptionEffect::Usual => {}
            OptionEffect::Globoff => self.flags.globoff = true,
            OptionEffect::Settings => return Err(CurlError::OptionsFile(option.to_owned())),
            OptionEffect::Cookie if value.split('=').is_some() => self.add_cookie(value),
            OptionEffect::Cookie => self.draft.note(format!("`{option}` names a cookie file, which is not read")),
            OptionEffect::Agent => self.add_header("User-Agent", value),
            OptionEffect::Range => {
                let mut ranges = ValueText::from("bytes=");
                ranges.append(&value);
                self.add_header("Range", ranges);
            }
            OptionEffect::Referer => {
                self.add_header("Referer", value.map(|text| text.trim_end_matches(";auto").to_owned()))
            }
            OptionEffect::Insecure => self.add_line("% insecure"),
            OptionEffect::Follow => self.flags.follow = true,
            OptionEffect::MostRedirects => self.redirects = value.plain().map(str::to_owned),
            OptionEffect::MaxTime => {
                match value.plain().and_then(|text| text.parse::<f64>().ok()).filter(|time| *time > 0.0) {
                    Some(time) if time >= MAX_TIMEOUT_SECONDS => {
                        return Err(CurlError::LongTimeout { option: option.to_owned(), seconds: time });
                    }
                    Some(time) if time.fract() == 0.0 => self.add_line(&format!("% timeout {time}s")),
                    Some(time) => self.add_line(&format!("% timeout {}ms", (time * 1e3).round())),
                    None => return Err(CurlError::NotSeconds(option.to_owned())),
                }
            }
            OptionEffect::Http11 => self.draft.version = Some("HTTP/1.1"),
            OptionEffect::Http2 => self.draft.version = Some("HTTP/2"),
            OptionEffect::Next => {
                let files = self.files;
                let begun = std::mem::replace(self, Self { files, ..Self::default() });
                begun.finish(done)?;
            }
            OptionEffect::Output => self.draft.note(format!("`{option}` concerns output and was omitted")),
            OptionEffect::OtherAuth => {
                self.flags.other_auth = true;
                self.draft.note(format!("`{option}` has no equivalent in `% auth`: the credentials are not sent"));
            }
            OptionEffect::Elsewhere(words) => self.draft.note(format!("`{option}`: {words}")),
        }
        Ok(())
    }

    fn add_line(&mut self, line: &str) {
        if !self.draft.lines.iter().any(|known| known == line) {
            self.draft.lines.push(line.to_owned());
        }
    }

    /// Takes standard input as data; `folded` drops its line ends.
    fn set_input_body(&mut self, option: &str, folded: bool) -> Result<(), CurlError> {
        match self.input.take() {
            Some(Input::Text(text)) => {
                let kept = |own: &str| if folded { own.replace(['\r', '\n'], "") } else { own.to_owned() };
                self.body.data.push(text.map(kept));
                Ok(())
            }
            Some(Input::File(path)) => {
                if folded {
                    self.draft.note(format!("`{option}` removes line ends, but here the file is sent unchanged"));
                }
                self.set_file_body(path)
            }
            None => Ok(()),
        }
    }

    fn add_header(&mut self, name: &str, value: ValueText) {
        self.draft.headers.push((name.into(), value));
    }

    /// Cookies of several options go out in one field.
    fn add_cookie(&mut self, value: ValueText) {
        let is_cookie = |name: &ValueText| name.plain() == Some("Cookie");
        match self.draft.headers.iter_mut().find(|(name, _)| is_cookie(name)) {
            Some((_, cookies)) => {
                cookies.push(';');
                cookies.append(&value);
            }
            None => self.add_header("Cookie", value),
        }
    }

    fn apply_header(&mut self, value: ValueText) -> Result<(), CurlError> {
        if value.head().starts_with('@') {
            let path = value.behind(1);
            let path = path.plain().ok_or(CurlError::VariableIn("the path of a header file"))?;
            let read = self.files.ok_or(CurlError::HeaderFile)?;
            for line in read(path)?.lines().filter(|line| !line.trim().is_empty()) {
                self.apply_header(ValueText::from(line.trim_end()))?;
            }
            return Ok(());
        }
        match (value.split(':'), value.split(';')) {
            (Some((name, value)), _) => {
                let blanks = value.head().len() - value.head().trim_start().len();
                let value = value.behind(blanks);
                if !name.plain().is_some_and(is_token) {
                    self.draft.note(format!("`{}:` is not a valid header and was omitted", name.head()));
                    return Ok(());
                }
                match value.is_empty() {
                    // The field is not sent at all.
                    true => self.add_line(&format!("% header {}:", name.head())),
                    false => self.draft.headers.push((name, value)),
                }
            }
            // `NamedValue;` is sent without a value.
            (None, Some((name, _))) if name.plain().is_some_and(is_token) => {
                self.draft.headers.push((name, ValueText::default()))
            }
            (None, _) => {
                self.draft.note(format!("`{}` is not a valid header and was omitted", value.head()));
            }
        }
        Ok(())
    }

    fn set_file_body(&mut self, path: ValueText) -> Result<(), CurlError> {
        if path.plain() == Some("-") {
            return Err(CurlError::BodyFromInput);
        }
        if self.body.file.replace(path).is_some() {
            return Err(CurlError::JoinedBody);
        }
        Ok(())
    }

    /// `name=text`, `name=@file;type=…;filename=…`, `name=<file`
    fn read_part(&mut self, value: &ValueText) -> Result<(ValueText, Part), CurlError> {
        let (name, content) = value.split('=').ok_or_else(|| CurlError::MissingEquals("-F".to_owned()))?;
        if content.head().starts_with('<') {
            let (path, media) = self.part_words(content.behind(1));
            let path = path.plain().ok_or(CurlError::VariableIn("the path of a part"))?;
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
        for word in more.plain().ok_or(CurlError::VariableIn("the words behind a file"))?.split(';') {
            match word.trim().split_once('=') {
                Some(("type", text)) => media = Some(text.to_owned()),
                Some(("filename", text)) => filename = Some(text.trim_matches('"').to_owned()),
                _ => self.draft.note(format!("`{word}` of a part was omitted")),
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
                _ => self.draft.note(format!("`; {word}` of a part was omitted, as curl does")),
            }
        }
        (text, media)
    }

    /// Adds the requests, one to each URL, to `done`.
    pub(super) fn finish(mut self, done: &mut Vec<ImportedRequest>) -> Result<(), CurlError> {
        if self.urls.is_empty() {
            let begun = !self.body.data.is_empty() || !self.draft.headers.is_empty();
            return if begun { Err(CurlError::NoAddress) } else { Ok(()) };
        }
        let has_data = !self.body.data.is_empty();
        if self.body.file.is_some() && (has_data || self.flags.get) {
            return Err(CurlError::JoinedBody);
        }
        if !self.body.parts.is_empty() && (has_data || self.body.file.is_some()) {
            return Err(CurlError::PartsAndBody);
        }
        let mut data = ValueText::default();
        for (index, piece) in self.body.data.iter().enumerate() {
            data.push_str(if index > 0 { "&" } else { "" });
            data.append(piece);
        }
        let draft = &mut self.draft;
        if self.flags.get {
            // curl puts either of the two into the URL.
            if has_data && !draft.query.is_empty() {
                draft.query.clear();
                draft.note("`--url-query` has no effect together with `-G` and data, and was omitted");
            }
            draft.query.extend(has_data.then_some(data));
        } else if has_data {
            draft.body = Body::Text(data);
        } else if let Some(path) = &self.body.file {
            draft.body = Body::File(path.clone());
        } else if !self.body.parts.is_empty() {
            draft.body = Body::Parts(std::mem::take(&mut self.body.parts));
        }
        let is_form = matches!(draft.body, Body::Text(_) | Body::File(_)) && !self.body.upload;
        // A field that is taken away stays away.
        let taken = |name: &str| draft.lines.iter().any(|line| line.eq_ignore_ascii_case(&format!("% header {name}:")));
        let (no_media, no_accept) = (taken("content-type"), taken("accept"));
        if is_form && !no_media && !draft.has_header("content-type") {
            let media = if self.body.json { "application/json" } else { "application/x-www-form-urlencoded" };
            draft.headers.push(("Content-Type".into(), media.into()));
        }
        if self.body.json && !no_accept && !draft.has_header("accept") {
            draft.headers.push(("Accept".into(), "application/json".into()));
        }
        if draft.method.is_none() {
            let method = match &draft.body {
                _ if self.flags.head => Some("HEAD"),
                Body::None => None,
                _ if self.body.upload => Some("PUT"),
                _ => Some("POST"),
            };
            draft.method = method.map(ValueText::from);
        }
        // A field of one's own goes out in place of what `-u` would make.
        let own_field = draft.has_header("authorization") && !self.flags.digest;
        if own_field && (self.user.is_some() || draft.auth.is_some()) {
            draft.auth = None;
            draft.note("`-u` has no effect together with an `Authorization` header, and was omitted");
        }
        if let Some(user) = self.user.take().filter(|_| !self.flags.other_auth && !own_field) {
            let kind = if self.flags.digest { "digest" } else { "basic" };
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
        match (self.flags.follow, &self.redirects) {
            (false, _) => draft.lines.push("% redirects 0".to_owned()),
            (true, Some(most)) => draft.lines.push(format!("% redirects {most}")),
            (true, None) => {}
        }
        for url in std::mem::take(&mut self.urls) {
            let draft = self.request_to(url)?;
            done.push(draft);
        }
        Ok(())
    }

    /// The request to one of the URLs.
    fn request_to(&self, mut url: ValueText) -> Result<ImportedRequest, CurlError> {
        let mut draft = self.draft.clone();
        if !self.flags.globoff {
            url = globbed(url)?;
        }
        // A file goes under its own name into a folder.
        let into =
            url.pieces().last().is_some_and(|piece| matches!(piece, ValuePiece::Literal(text) if text.ends_with('/')));
        if let (true, true, Some(path)) = (self.body.upload, into, self.body.file.as_ref().and_then(ValueText::plain)) {
            url.push_str(&utf8_percent_encode(path.rsplit('/').next().unwrap_or(path), PERCENT_ENCODE_SET).to_string());
        }
        draft.send_to(url)?;
        Ok(draft)
    }
}
