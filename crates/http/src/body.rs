//! Bodies of requests.

use bytes::Bytes;
use std::borrow::Cow;
use std::fmt;
use std::path::PathBuf;

/// A body as it goes out: pieces in order. Files are read only when they are sent.
#[derive(Clone, PartialEq, Eq)]
pub enum Body {
    /// These bytes.
    Bytes(Bytes),
    /// Bytes and files, one after another.
    Pieces(Vec<BodyPart>),
}

/// A piece of a body.
#[derive(Clone, PartialEq, Eq)]
pub enum BodyPart {
    /// These bytes.
    Bytes(Bytes),
    /// A file's bytes.
    File(FileBody),
}

/// A file that goes out as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileBody {
    /// The path of the file.
    pub path: PathBuf,
    /// How the file is called in the workspace.
    pub shown: String,
    /// How many bytes it has.
    pub size: u64,
}

impl fmt::Debug for Body {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // It may hold secrets.
        write!(f, "Content({} bytes)", self.size())
    }
}

impl fmt::Debug for BodyPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            BodyPart::Bytes(bytes) => write!(f, "Bytes({})", bytes.len()),
            BodyPart::File(file) => file.fmt(f),
        }
    }
}

impl Body {
    /// Whether `is_secret` says so of any bytes of it; files are not looked into.
    pub fn any_bytes(&self, is_secret: impl Fn(&[u8]) -> bool) -> bool {
        match self {
            Body::Bytes(bytes) => is_secret(bytes),
            Body::Pieces(pieces) => {
                pieces.iter().any(|piece| matches!(piece, BodyPart::Bytes(bytes) if is_secret(bytes)))
            }
        }
    }

    /// How many bytes go out.
    pub fn size(&self) -> u64 {
        self.pieces().map(|piece| piece.size()).sum()
    }

    /// The pieces in order.
    pub fn pieces(&self) -> impl Iterator<Item = Cow<'_, BodyPart>> {
        let (one, several) = match self {
            Body::Bytes(bytes) => (Some(Cow::Owned(BodyPart::Bytes(bytes.clone()))), &[][..]),
            Body::Pieces(pieces) => (None, pieces.as_slice()),
        };
        one.into_iter().chain(several.iter().map(Cow::Borrowed))
    }

    /// The body as text, with files shown by their names.
    pub fn text(&self) -> Cow<'_, str> {
        match self {
            Body::Bytes(bytes) => String::from_utf8_lossy(bytes),
            Body::Pieces(pieces) => pieces
                .iter()
                .map(|piece| match piece {
                    BodyPart::Bytes(bytes) => String::from_utf8_lossy(bytes),
                    BodyPart::File(file) => Cow::Owned(format!("[{}: {} bytes]", file.shown, file.size)),
                })
                .collect::<String>()
                .into(),
        }
    }
}

impl BodyPart {
    fn size(&self) -> u64 {
        match self {
            BodyPart::Bytes(bytes) => bytes.len() as u64,
            BodyPart::File(file) => file.size,
        }
    }
}

impl From<String> for Body {
    fn from(text: String) -> Self {
        Body::Bytes(text.into())
    }
}

impl From<&'static str> for Body {
    fn from(text: &'static str) -> Self {
        Body::Bytes(Bytes::from_static(text.as_bytes()))
    }
}
