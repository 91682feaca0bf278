//! Text with the values of expressions in it.

/// Text of a request, with values in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ValueText(Vec<ValuePiece>);

/// A piece of a [`ValueText`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ValuePiece {
    /// Text as it is.
    Literal(String),
    /// The value of an expression, written as it is.
    Value(String),
}

impl From<&str> for ValueText {
    fn from(text: &str) -> Self {
        text.to_owned().into()
    }
}

impl From<String> for ValueText {
    fn from(text: String) -> Self {
        if text.is_empty() { Self::default() } else { Self(vec![ValuePiece::Literal(text)]) }
    }
}

impl ValueText {
    /// The value of an expression.
    pub fn value(expression: impl Into<String>) -> Self {
        Self(vec![ValuePiece::Value(expression.into())])
    }

    /// The pieces in order; two literals never follow each other.
    pub fn pieces(&self) -> &[ValuePiece] {
        &self.0
    }

    /// Adds text at the end.
    pub fn push_str(&mut self, more: &str) {
        match self.0.last_mut() {
            Some(ValuePiece::Literal(text)) => text.push_str(more),
            _ if more.is_empty() => {}
            _ => self.0.push(ValuePiece::Literal(more.to_owned())),
        }
    }

    /// Adds a character at the end.
    pub fn push(&mut self, c: char) {
        self.push_str(c.encode_utf8(&mut [0; 4]));
    }

    /// Adds a value at the end.
    pub fn push_value(&mut self, expression: impl Into<String>) {
        self.0.push(ValuePiece::Value(expression.into()));
    }

    /// Adds a piece at the end.
    pub fn push_piece(&mut self, piece: ValuePiece) {
        match piece {
            ValuePiece::Literal(text) => self.push_str(&text),
            value @ ValuePiece::Value(_) => self.0.push(value),
        }
    }

    /// Adds another text at the end.
    pub fn append(&mut self, other: &ValueText) {
        other.0.iter().for_each(|piece| self.push_piece(piece.clone()));
    }

    /// Whether there is nothing in it.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The text, where no value is in it.
    pub fn plain(&self) -> Option<&str> {
        match self.0.as_slice() {
            [] => Some(""),
            [ValuePiece::Literal(text)] => Some(text),
            _ => None,
        }
    }

    /// The text it begins with.
    pub fn head(&self) -> &str {
        match self.0.first() {
            Some(ValuePiece::Literal(text)) => text,
            _ => "",
        }
    }

    /// The rest after the first `bytes` bytes of its head.
    #[must_use]
    pub fn behind(&self, bytes: usize) -> Self {
        let mut rest = Self::default();
        rest.push_str(&self.head()[bytes..]);
        let skipped = usize::from(!self.head().is_empty());
        rest.0.extend_from_slice(&self.0[skipped..]);
        rest
    }

    /// The parts before and after the first `mark` of its literal text.
    pub fn split(&self, mark: char) -> Option<(Self, Self)> {
        for (index, piece) in self.0.iter().enumerate() {
            let ValuePiece::Literal(text) = piece else { continue };
            if let Some((before, behind)) = text.split_once(mark) {
                let (mut first, mut second) = (Self(self.0[..index].to_vec()), Self::from(behind));
                first.push_str(before);
                second.0.extend_from_slice(&self.0[index + 1..]);
                return Some((first, second));
            }
        }
        None
    }

    /// The same with another text in place of each literal one.
    #[must_use]
    pub fn map(&self, change: impl Fn(&str) -> String) -> Self {
        let mut changed = Self::default();
        for piece in &self.0 {
            match piece {
                ValuePiece::Literal(text) => changed.push_str(&change(text)),
                ValuePiece::Value(_) => changed.0.push(piece.clone()),
            }
        }
        changed
    }
}

impl Extend<char> for ValueText {
    fn extend<I: IntoIterator<Item = char>>(&mut self, more: I) {
        more.into_iter().for_each(|c| self.push(c));
    }
}
