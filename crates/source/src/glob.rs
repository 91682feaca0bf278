//! Patterns with `*`.

/// True if `name` matches `pattern`, in which `*` matches any run of characters.
pub fn glob_match(pattern: &str, name: &str) -> bool {
    let mut pieces = pattern.split('*');
    let first = pieces.next().unwrap_or_default();
    let Some(mut rest) = name.strip_prefix(first) else { return false };
    let mut pieces = pieces.peekable();
    if pieces.peek().is_none() {
        return rest.is_empty();
    }
    while let Some(piece) = pieces.next() {
        if pieces.peek().is_none() {
            return rest.ends_with(piece);
        }
        match rest.find(piece) {
            Some(at) => rest = &rest[at + piece.len()..],
            None => return false,
        }
    }
    true
}
