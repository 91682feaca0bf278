//! The rules for names of values and cells, and how a name is derived from a title.

/// Whether `word` may name a value: `[A-Za-z_][A-Za-z0-9_]*`.
pub fn is_value_name(word: &str) -> bool {
    let mut bytes = word.bytes();
    bytes.next().is_some_and(|b| b.is_ascii_alphabetic() || b == b'_')
        && bytes.all(|b| b.is_ascii_alphanumeric() || b == b'_')
}

/// Whether `word` may name a cell, a tag or a label: letters, digits, `-`, `_` and `.`.
pub fn is_cell_name(word: &str) -> bool {
    !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.'))
}

/// A title as a name: lower case, each run of other characters than letters and digits one `-`.
pub fn slug(title: &str) -> String {
    let mut name = String::with_capacity(title.len());
    for c in title.chars() {
        if c.is_ascii_alphanumeric() {
            name.push(c.to_ascii_lowercase());
        } else if c.is_alphanumeric() {
            name.extend(c.to_lowercase());
        } else if !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
    }
    if name.ends_with('-') {
        name.pop();
    }
    name
}

/// `wanted` if it is free, else with the first number behind it that makes it so, `between` between the two.
pub fn first_free(wanted: &str, between: &str, is_free: impl Fn(&str) -> bool) -> String {
    let numbered = (2..).map(|number: usize| format!("{wanted}{between}{number}"));
    std::iter::once(wanted.to_owned()).chain(numbered).find(|name| is_free(name)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn titles_become_names() {
        for (title, name) in [
            ("Sign in", "sign-in"),
            ("  Book in -- a lot! ", "book-in-a-lot"),
            ("Über 40 Kisten", "über-40-kisten"),
            ("...", ""),
        ] {
            assert_eq!(slug(title), name, "{title:?}");
        }
    }
}
