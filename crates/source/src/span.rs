//! Byte spans.

use std::ops::Range;

/// A range of bytes in a source text. Line and column exist only at the edge, in [`super::Lines`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Span {
    start: u32,
    end: u32,
}

impl Span {
    /// A span from byte `start` up to, not including, byte `end`.
    ///
    /// # Panics
    /// If `start > end`, or a text of more than 4 GiB is addressed: both are our bugs, since
    /// The parser refuses larger texts.
    #[inline]
    pub fn new(start: usize, end: usize) -> Self {
        assert!(start <= end && end <= u32::MAX as usize, "span {start}..{end}");
        Self { start: start as u32, end: end as u32 }
    }

    /// The empty span at `at`.
    #[inline]
    pub fn empty(at: usize) -> Self {
        Self::new(at, at)
    }

    /// First byte.
    #[inline]
    pub fn start(self) -> usize {
        self.start as usize
    }

    /// One past the last byte.
    #[inline]
    pub fn end(self) -> usize {
        self.end as usize
    }

    /// Length in bytes.
    #[inline]
    pub fn len(self) -> usize {
        (self.end - self.start) as usize
    }

    /// Whether the span covers no byte.
    #[inline]
    pub fn is_empty(self) -> bool {
        self.start == self.end
    }

    /// The text under the span.
    #[inline]
    pub fn of(self, text: &str) -> &str {
        &text[self.range()]
    }

    /// The span as a range of indices.
    #[inline]
    pub fn range(self) -> Range<usize> {
        self.start()..self.end()
    }

    /// True if `other` is wholly inside.
    pub fn contains(self, other: Span) -> bool {
        self.start <= other.start && other.end <= self.end
    }

    /// The part `from..to` of this span, both counted from its start.
    pub fn part(self, from: usize, to: usize) -> Span {
        Span::new(self.start() + from, self.start() + to)
    }

    /// The span without white space at both ends.
    #[inline]
    pub fn trimmed(self, text: &str) -> Span {
        let bytes = &text.as_bytes()[self.range()];
        let Some(first) = bytes.iter().position(|b| !b.is_ascii_whitespace()) else { return Span::empty(self.start()) };
        let last = bytes.iter().rposition(|b| !b.is_ascii_whitespace()).unwrap_or(first);
        Span::new(self.start() + first, self.start() + last + 1)
    }
}

impl From<Range<usize>> for Span {
    fn from(range: Range<usize>) -> Self {
        Self::new(range.start, range.end)
    }
}

impl std::fmt::Debug for Span {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}..{}", self.start, self.end)
    }
}
