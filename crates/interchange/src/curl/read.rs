//! Reads curl commands.

use super::error::CurlError;
use super::options::{OptionSpec, long, short};
use super::reader::{CurlReader, ReadFile};
use crate::draft::ImportedRequest;
use std::ops::Range;
use yieldtray_syntax::ValueText;
use yieldtray_syntax::shell::{Input, after_prompt, is_command, split};

/// One command of a text.
#[derive(Debug)]
pub struct Command {
    /// Its span.
    pub span: Range<usize>,
    /// The request, or why the command cannot be imported.
    pub drafts: Result<Vec<ImportedRequest>, CurlError>,
}

/// Reads every command in a text, with comments and blank lines between them. Comments just above a command belong to
/// it.
pub fn commands(text: &str) -> impl Iterator<Item = Command> {
    commands_with(text, None)
}

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
            let start = at + line.len() - after_prompt(line).len();
            let found = split(&text[start..]);
            at = start + found.length.max(1);
            // The rest of a command that ended before its line did.
            let words = match found.words {
                Ok(words) if words.is_empty() => continue,
                words => words,
            };
            let mut drafts =
                words.map_err(CurlError::Shell).and_then(|words| read_words(words, found.ignored, found.input, files));
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
/// The first command that cannot be imported.
pub fn read(text: &str) -> Result<Vec<ImportedRequest>, CurlError> {
    if !is_command(text) {
        return Err(CurlError::NotCurl);
    }
    let drafts = commands(text).map(|command| command.drafts).collect::<Result<Vec<_>, _>>()?;
    Ok(drafts.into_iter().flatten().collect())
}

fn read_words(
    words: Vec<ValueText>,
    ignored: Option<String>,
    input: Option<Input>,
    files: Option<ReadFile<'_>>,
) -> Result<Vec<ImportedRequest>, CurlError> {
    let mut words = words.into_iter();
    match words.next().as_ref().and_then(ValueText::plain) {
        Some("curl" | "curl.exe") => {}
        Some(other) => return Err(CurlError::OtherProgram(other.chars().take(40).collect())),
        None => return Err(CurlError::NotCurl),
    }
    let mut drafts = Vec::new();
    let mut reader = CurlReader::new(input, files);
    if let Some(words) = ignored {
        reader.note(format!("`{words}` concerns output and was omitted"));
    }
    let mut only_words = false;
    while let Some(word) = words.next() {
        let head = word.head().to_owned();
        if only_words || !head.starts_with('-') || head == "-" {
            reader.add_url(word);
            continue;
        }
        if head == "--" && word.plain().is_some() {
            only_words = true;
            continue;
        }
        let mut value = || words.next().ok_or_else(|| CurlError::MissingValue(head.clone()));
        if let Some(name) = head.strip_prefix("--") {
            let known = long(name.strip_prefix("no-").filter(|_| long(name).is_none()).unwrap_or(name));
            let OptionSpec(_, _, takes, does) = known.ok_or_else(|| unknown(&head))?;
            let given = if *takes { Some(value()?) } else { None };
            // A switched off option is as if it was not given.
            if !(name.starts_with("no-") && long(name).is_none()) {
                reader.apply(&head, *does, given, &mut drafts)?;
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
                reader.apply(&shown, *does, Some(given), &mut drafts)?;
                break;
            }
            reader.apply(&shown, *does, None, &mut drafts)?;
        }
    }
    reader.finish(&mut drafts)?;
    if drafts.is_empty() { Err(CurlError::NoAddress) } else { Ok(drafts) }
}

fn unknown(option: &str) -> CurlError {
    // The text after a `=` may be a secret.
    CurlError::UnknownOption(option.split('=').next().unwrap_or_default().to_owned())
}

/// Why no request can be made of a pasted command, in words.
pub fn why_no_request(command: &str) -> Option<String> {
    let cells = read(command).and_then(|drafts| Ok(crate::draft::cells(&drafts)?));
    cells.err().map(|error| error.to_string())
}
