//! The instructions that say what goes out and how: `query`, `field`, `part`, `body`, `auth`,
//! `timeout`, `redirects`, `cookies`, `insecure`, `save`.

use super::duration;
use super::file::{Auth, InstructionKind, KeyPlace, PartContent};
use super::instruction::{ParseResult, Reader};
use super::request_line::is_token;
use yieldtray_source::{Span, scan};

/// The most redirects that can be asked for.
const MAX_REDIRECTS: u8 = 50;

impl Reader<'_> {
    /// Reads one of these instructions; `None` where the word is another.
    pub(super) fn sending(&mut self) -> Option<ParseResult<InstructionKind>> {
        Some(match self.word.of(self.text) {
            "query" => self.query(),
            "field" => self.field(),
            "part" => self.part(),
            "body" => self.body(),
            "auth" => self.auth().map(InstructionKind::Auth),
            "sign" => self.sign(),
            "timeout" => self.timeout(),
            "retry" => self.retry_after(),
            "redirects" => self.redirects(),
            "cookies" => self.switch("% cookies off", false).map(InstructionKind::Cookies),
            "insecure" => self.switch("% insecure", true).map(InstructionKind::Insecure),
            "path" => self.verbatim_path(),
            "save" => self.save(),
            _ => return None,
        })
    }

    fn query(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% query grower = {{grower}}`";
        let (name, value) = match find_outside_marks(self.rest.of(self.text), "=") {
            None => (self.rest, None),
            Some(equals) => {
                let (name, value) = self.split(equals, 1);
                (name, Some(value))
            }
        };
        if name.is_empty() {
            return self.malformed(self.end_of_line(), "`% query` is missing a name", EXAMPLE);
        }
        Ok(InstructionKind::Query { name, value })
    }

    fn field(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% field grower = {{grower}}`";
        let Some(equals) = find_outside_marks(self.rest.of(self.text), "=") else {
            return self.malformed(self.end_of_line(), "`% field` is missing `= TEXT`", EXAMPLE);
        };
        let (name, value) = self.split(equals, 1);
        if name.is_empty() {
            return self.malformed(self.rest, "`% field` is missing a name", EXAMPLE);
        }
        Ok(InstructionKind::Field { name, value })
    }

    fn part(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% part note = ripe` or `% part photo from photos/lot.jpg`";
        let rest = self.rest.of(self.text);
        let (equals, from) = (find_outside_marks(rest, "="), find_outside_marks(rest, " from "));
        let (name, content) = match (equals, from) {
            // The first of the two decides: a text may hold the other.
            (Some(equals), from) if from.is_none_or(|from| equals < from) => {
                let (name, value) = self.split(equals, 1);
                (name, self.part_text(value))
            }
            (_, Some(from)) => {
                let (name, file) = self.split(from, " from ".len());
                self.rest = file;
                (name, self.part_file(EXAMPLE)?)
            }
            _ => return self.malformed(self.end_of_line(), "`% part` is missing `= TEXT` or `from PATH`", EXAMPLE),
        };
        if name.is_empty() {
            return self.malformed(self.rest, "`% part` is missing a name", EXAMPLE);
        }
        Ok(InstructionKind::Part { name, content })
    }

    /// `TEXT [type MEDIA]`: the last two words, where they are that.
    fn part_text(&self, value: Span) -> PartContent {
        let text = value.of(self.text);
        match media_at_end(text) {
            None => PartContent::Text { value, media: None },
            Some((end, start)) => {
                PartContent::Text { value: value.part(0, end), media: Some(value.part(start, text.len())) }
            }
        }
    }

    /// `PATH [type MEDIA] [as FILENAME]`
    fn part_file(&mut self, example: &str) -> ParseResult<PartContent> {
        let Some(path) = self.next_word() else {
            return self.malformed(self.end_of_line(), "`% part … from` is missing a path", example);
        };
        let (mut media, mut filename) = (None, None);
        while let Some(word) = self.next_word() {
            let slot = match word.of(self.text) {
                "type" => &mut media,
                "as" => &mut filename,
                other => {
                    let message = format!("unexpected `{other}`");
                    let hint = "only `type MEDIA` and `as FILENAME` may follow the path; put a path with spaces in double quotes";
                    return self.malformed(word, message, hint);
                }
            };
            if slot.is_some() {
                return self.malformed(word, format!("duplicate `{}`", word.of(self.text)), "keep one of the two");
            }
            *slot = self.next_word();
            if slot.is_none() {
                let message = format!("missing value after `{}`", word.of(self.text));
                return self.malformed(word, message, "for example `type image/jpeg` or `as lot.jpg`");
            }
        }
        Ok(PartContent::File { path, media, filename })
    }

    fn body(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% body from lots/new.json`";
        let from = self.next_word();
        if from.is_none_or(|word| word.of(self.text) != "from") {
            return self.malformed(from.unwrap_or(self.end_of_line()), "`% body` is missing `from PATH`", EXAMPLE);
        }
        let Some(path) = self.next_word() else {
            return self.malformed(self.end_of_line(), "`% body from` is missing a path", EXAMPLE);
        };
        let verbatim = match self.next_word() {
            None => false,
            Some(word) if word.of(self.text) == "verbatim" && self.rest.is_empty() => true,
            Some(word) => {
                let hint = "only `verbatim` may follow the path; put a path with spaces in double quotes";
                return self.malformed(word, format!("unexpected `{}`", word.of(self.text)), hint);
            }
        };
        Ok(InstructionKind::BodyFrom { path, verbatim })
    }

    fn auth(&mut self) -> ParseResult<Auth> {
        const EXAMPLE: &str = "add `basic USER PASS`, `bearer TOKEN`, `digest USER PASS`, `oauth2 PROFILE`, `key PLACE NAME VALUE` or `none`";
        const SCHEMES: [&str; 6] = ["basic", "bearer", "digest", "oauth2", "key", "none"];
        let Some(scheme) = self.next_word() else {
            return self.malformed(self.end_of_line(), "`% auth` is missing a scheme", EXAMPLE);
        };
        let word = scheme.of(self.text);
        let mut need = |what: &str, example: &str| match self.next_word() {
            Some(word) => Ok(word),
            None => self.malformed(
                self.end_of_line(),
                format!("`% auth {word}` is missing {what}"),
                format!("for example `{example}`"),
            ),
        };
        const BASIC: &str = "% auth basic {{clerk}} {{clerk_password}}";
        const KEY: &str = "% auth key header X-Api-Key {{api_key}}";
        const DIGEST: &str = "% auth digest {{clerk}} {{clerk_password}}";
        let auth = match word {
            "basic" => Auth::Basic { user: need("a user", BASIC)?, password: need("a password", BASIC)? },
            "digest" => Auth::Digest { user: need("a user", DIGEST)?, password: need("a password", DIGEST)? },
            "bearer" => Auth::Bearer(need("a token", "% auth bearer {{token}}")?),
            "oauth2" => Auth::OAuth2(need("a profile", "% auth oauth2 shift")?),
            "key" => {
                let place = need("where it goes", KEY)?;
                let places = [KeyPlace::Header, KeyPlace::Query, KeyPlace::Cookie];
                let Some(place) = places.into_iter().find(|known| known.as_str() == place.of(self.text)) else {
                    let message = format!("an API key cannot go to `{}`", place.of(self.text));
                    return self.malformed(place, message, "use `header`, `query` or `cookie`");
                };
                let mut need = |what: &str| match self.next_word() {
                    Some(word) => Ok(word),
                    None => self.malformed(
                        self.end_of_line(),
                        format!("`% auth key {}` is missing {what}", place.as_str()),
                        format!("for example `{KEY}`"),
                    ),
                };
                let (name, value) = (need("a name")?, need("the key")?);
                if !is_token(name.of(self.text)) && place != KeyPlace::Query {
                    let message = format!("`{}` is not a valid name of a {}", name.of(self.text), place.as_str());
                    return self.malformed(name, message, format!("for example `{KEY}`"));
                }
                Auth::Key { place, name, value }
            }
            "none" => Auth::None,
            other => {
                let hint = yieldtray_source::closest(other, SCHEMES.iter().copied())
                    .map_or_else(|| EXAMPLE.to_owned(), |meant| format!("did you mean `% auth {meant}`?"));
                return self.malformed(scheme, format!("unknown authentication scheme `{other}`"), hint);
            }
        };
        match self.next_word() {
            None => Ok(auth),
            Some(more) => {
                let hint = "put an argument with spaces in double quotes";
                self.malformed(more, format!("unexpected argument `{}`", more.of(self.text)), hint)
            }
        }
    }

    fn sign(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% sign gate` with `[signing.gate]` in `yieldtray.toml`";
        let Some(profile) = self.next_word() else {
            return self.malformed(self.end_of_line(), "`% sign` is missing a profile", EXAMPLE);
        };
        if !self.rest.is_empty() {
            let message = format!("unexpected argument `{}`", self.rest.of(self.text));
            return self.malformed(self.rest, message, EXAMPLE);
        }
        Ok(InstructionKind::Sign(Some(profile).filter(|profile| profile.of(self.text) != "off")))
    }

    fn timeout(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "add a unit (ms, s, m, h): `% timeout 500ms`, `% timeout 5s` or `% timeout 2m`";
        let text = self.rest.of(self.text);
        match duration(text) {
            Some(duration) => Ok(InstructionKind::Timeout(duration)),
            None if text.is_empty() => self.malformed(self.end_of_line(), "`% timeout` is missing a duration", EXAMPLE),
            None => self.malformed(self.rest, format!("`{text}` is not a valid duration (at most 24h)"), EXAMPLE),
        }
    }

    /// `after D` or `off`
    fn retry_after(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% retry after 30s`, the longest wait, or `% retry off`";
        match self.next_word().map(|word| word.of(self.text)) {
            Some("off") if self.rest.is_empty() => Ok(InstructionKind::RetryAfter(None)),
            Some("after") => match duration(self.rest.of(self.text)) {
                Some(most) => Ok(InstructionKind::RetryAfter(Some(most))),
                None => self.malformed(self.rest, "expected a duration, at most 24h", EXAMPLE),
            },
            _ => self.malformed(self.end_of_line(), "`% retry` is missing `after DURATION`", EXAMPLE),
        }
    }

    fn redirects(&mut self) -> ParseResult<InstructionKind> {
        let text = self.rest.of(self.text);
        match text.parse() {
            Ok(number) if number <= MAX_REDIRECTS => Ok(InstructionKind::Redirects(number)),
            _ => {
                let place = if text.is_empty() { self.end_of_line() } else { self.rest };
                let hint = "for example `% redirects 0` to follow none";
                self.malformed(place, format!("expected a number from 0 to {MAX_REDIRECTS}"), hint)
            }
        }
    }

    /// `on` or `off`; without an argument, the default of the keyword.
    fn switch(&mut self, example: &str, alone: bool) -> ParseResult<bool> {
        match self.rest.of(self.text) {
            "on" => Ok(true),
            "off" => Ok(false),
            "" if alone => Ok(true),
            "" => self.malformed(self.end_of_line(), "expected `on` or `off`", format!("for example `{example}`")),
            other => self.malformed(
                self.rest,
                format!("expected `on` or `off`, found `{other}`"),
                format!("for example `{example}`"),
            ),
        }
    }

    fn verbatim_path(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% path verbatim`";
        match self.rest.of(self.text) {
            "verbatim" => Ok(InstructionKind::VerbatimPath),
            "" => self.malformed(self.end_of_line(), "`% path` is missing `verbatim`", EXAMPLE),
            other => self.malformed(self.rest, format!("expected `verbatim`, not `{other}`"), EXAMPLE),
        }
    }

    fn save(&mut self) -> ParseResult<InstructionKind> {
        const EXAMPLE: &str = "for example `% save labels/{{grower}}.png`";
        let Some(path) = self.next_word() else {
            return self.malformed(self.end_of_line(), "`% save` is missing a path", EXAMPLE);
        };
        match self.next_word() {
            None => Ok(InstructionKind::Save(path)),
            Some(more) => self.malformed(
                more,
                format!("unexpected argument `{}`", more.of(self.text)),
                "put a path with spaces in double quotes",
            ),
        }
    }

    /// The spans before and after `length` bytes at `at`.
    fn split(&self, at: usize, length: usize) -> (Span, Span) {
        let (name, value) = (self.rest.part(0, at), self.rest.part(at + length, self.rest.len()));
        (name.trimmed(self.text), value.trimmed(self.text))
    }

    /// Takes the next word: up to white space outside placeholders, or a text in double quotes.
    pub(super) fn next_word(&mut self) -> Option<Span> {
        let text = self.rest.of(self.text);
        if text.is_empty() {
            return None;
        }
        let quoted = text.starts_with('"').then(|| find_outside_marks(&text[1..], "\"")).flatten();
        let (word, end) = match quoted {
            Some(close) => (self.rest.part(1, close + 1), close + 2),
            None => {
                let end = [" ", "\t"].iter().filter_map(|blank| find_outside_marks(text, blank)).min();
                let end = end.unwrap_or(text.len());
                (self.rest.part(0, end), end)
            }
        };
        self.rest = self.rest.part(end, text.len()).trimmed(self.text);
        Some(word)
    }
}

/// Where the text of a part ends and its media type begins, if it ends with ` type MEDIA` (RFC 9110 8.3.1).
pub fn media_at_end(text: &str) -> Option<(usize, usize)> {
    let start = text.trim_end().rfind(|c: char| c.is_ascii_whitespace())? + 1;
    let media = text[start..].trim_end();
    let (essence, parameters) = media.split_once(';').unwrap_or((media, ""));
    let (kind, subtype) = essence.split_once('/')?;
    let fits = is_token(kind) && is_token(subtype) && parameters.split(';').all(|it| it.is_empty() || it.contains('='));
    let before = text[..start].trim_end();
    let rest = before.strip_suffix("type").filter(|rest| rest.is_empty() || rest.ends_with([' ', '\t']))?;
    fits.then(|| (rest.trim_end().len(), start))
}

/// The first position of `needle` outside placeholders.
fn find_outside_marks(text: &str, needle: &str) -> Option<usize> {
    let mut at = 0;
    while at < text.len() {
        let rest = &text[at..];
        let mark = rest.find("{{").unwrap_or(rest.len());
        if let Some(found) = rest[..mark].find(needle) {
            return Some(at + found);
        }
        let inside = at + (mark + 2).min(rest.len());
        at = scan::mark_end(text, inside).map_or(inside, |end| end + 2);
    }
    None
}
