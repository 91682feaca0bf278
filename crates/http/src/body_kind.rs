//! The kinds of binary bodies.

use super::{Exchange, charset};

/// How a body is looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BodyKind {
    /// As text.
    Text,
    /// By its description: what it is, and its size in pixels where it is an image.
    Binary(String, Option<(usize, usize)>),
}

impl Exchange {
    /// Whether the body is text, and else what it is.
    pub fn body_kind(&self) -> BodyKind {
        let content_type = self.header("content-type").unwrap_or_default();
        let media = self.media_type();
        if charset::is_text(&self.body, &content_type) {
            return BodyKind::Text;
        }
        let pixels = imagesize::blob_size(&self.body).ok().map(|size| (size.width, size.height));
        let kind = if media.is_empty() { "no media type".to_owned() } else { media };
        BodyKind::Binary(kind, pixels)
    }
}
