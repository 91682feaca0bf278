//! Bodies of several parts (multipart/form-data, RFC 7578).

use crate::secret::Encoding;
use std::borrow::Cow;
use yieldtray_http::{Body, BodyPart, FileBody};

/// One part.
pub(super) struct Part {
    /// The form field's name.
    pub(super) name: String,
    /// The file's name, of a part from a file.
    pub(super) filename: Option<String>,
    /// The media type.
    pub(super) media: Option<String>,
    /// Its content.
    pub(super) piece: BodyPart,
}

/// The body of `parts`, which `boundary` keeps apart.
pub(super) fn body(parts: Vec<Part>, boundary: &str) -> Body {
    let mut pieces = Vec::with_capacity(parts.len() * 2 + 1);
    let mut text = String::new();
    for Part { name, filename, media, piece } in parts {
        text.push_str(&format!("--{boundary}\r\nContent-Disposition: form-data; name=\"{}\"", quoted(&name)));
        if let Some(filename) = &filename {
            text.push_str(&format!("; filename=\"{}\"", quoted(filename)));
        }
        if let Some(media) = &media {
            text.push_str(&format!("\r\nContent-Type: {media}"));
        }
        text.push_str("\r\n\r\n");
        match piece {
            BodyPart::Bytes(bytes) => text.push_str(&String::from_utf8_lossy(&bytes)),
            BodyPart::File(file) => {
                pieces.push(BodyPart::Bytes(std::mem::take(&mut text).into()));
                pieces.push(BodyPart::File(file));
            }
        }
        text.push_str("\r\n");
    }
    text.push_str(&format!("--{boundary}--\r\n"));
    pieces.push(BodyPart::Bytes(text.into()));
    Body::Pieces(pieces)
}

/// A name between quotes, so that it cannot end them (RFC 7578 2, as the HTML standard writes it).
fn quoted(name: &str) -> Cow<'_, str> {
    Encoding::Multipart.of(name)
}

/// The media type a file's name suggests.
pub(super) fn media_type(filename: &str) -> String {
    mime_guess::from_path(filename).first_or_octet_stream().essence_str().to_owned()
}

/// A file as a part of its own name.
pub(super) fn file_part(name: String, file: FileBody, filename: Option<String>, media: Option<String>) -> Part {
    let own = || file.shown.rsplit('/').next().unwrap_or_default().to_owned();
    let filename = filename.unwrap_or_else(own);
    let media = media.unwrap_or_else(|| media_type(&filename));
    Part { name, filename: Some(filename), media: Some(media), piece: BodyPart::File(file) }
}
