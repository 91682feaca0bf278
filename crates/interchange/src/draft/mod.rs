//! Requests that come from elsewhere, on their way to become cells: a command of a shell, a recording and a
//! description of an API are all read into [`ImportedRequest`]s, and a [`CellFileBuilder`] makes cells of them that send the same.

mod address;
mod cell_file;
mod error;
mod graphql;
mod secret_extractor;
mod write;

#[cfg(test)]
mod tests;

pub use cell_file::CellFileBuilder;
pub use error::RequestError;
pub use secret_extractor::SecretExtractor;
pub(crate) use secret_extractor::without_secrets;
pub(crate) use write::comment;
use yieldtray_source::names::slug;
use yieldtray_syntax::ValueText;

/// The cells that send these requests unchanged.
///
/// # Errors
/// Why one of them cannot be written as a cell.
pub fn cells(drafts: &[ImportedRequest]) -> Result<Vec<String>, RequestError> {
    drafts.iter().map(ImportedRequest::cell).collect()
}

/// One request.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ImportedRequest {
    /// The title; if empty, the method and the path.
    pub title: String,
    /// A name that its title does not give.
    pub name: Option<String>,
    /// Comments at its head, lines without the mark.
    pub notes: Vec<String>,
    /// Instructions at its head, as they are written.
    pub lines: Vec<String>,
    /// `% auth`: the kind, and its words.
    pub auth: Option<(&'static str, Vec<ValueText>)>,
    /// The method; GET where nothing is said.
    pub method: Option<ValueText>,
    /// The URL, or a path that is joined to `base`.
    pub target: ValueText,
    /// Query parameters that are added to the URL unchanged.
    pub query: Vec<ValueText>,
    /// `% query` lines: the name and the value.
    pub parameters: Vec<(ValueText, ValueText)>,
    /// The version asked for, as `HTTP/2`.
    pub version: Option<&'static str>,
    /// The header fields in order.
    pub headers: Vec<(ValueText, ValueText)>,
    /// The body.
    pub body: Body,
    /// Instructions behind the body.
    pub tail: Vec<String>,
}

/// The body.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Body {
    /// None at all.
    #[default]
    None,
    /// This text.
    Text(ValueText),
    /// Binary data, which goes to a file.
    Bytes(Vec<u8>),
    /// A file, as it is.
    File(ValueText),
    /// Parts of a form, each with its name.
    Parts(Vec<(ValueText, Part)>),
}

/// A part of a form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// A text, and its media type if it has one.
    Text(ValueText, Option<String>),
    /// A file with its media type and name, where those are not what its path suggests.
    File {
        /// Its path, relative to the request file.
        path: ValueText,
        /// Its media type.
        media: Option<String>,
        /// The name it is sent with.
        name: Option<String>,
    },
}

impl ImportedRequest {
    /// Whether a header field of that name is among them.
    pub fn has_header(&self, name: &str) -> bool {
        self.header(name).is_some()
    }

    /// The first value of a header field.
    pub fn header(&self, name: &str) -> Option<&ValueText> {
        let is = |own: &ValueText| own.plain().is_some_and(|own| own.eq_ignore_ascii_case(name));
        self.headers.iter().find(|(own, _)| is(own)).map(|(_, value)| value)
    }

    /// The name of its cell, as long as no other has it.
    pub fn cell_name(&self) -> String {
        self.name.clone().unwrap_or_else(|| slug(&self.title()))
    }

    /// Adds a comment at its head.
    pub fn note(&mut self, note: impl Into<String>) {
        self.notes.push(note.into());
    }
}
