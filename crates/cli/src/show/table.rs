//! Text in columns.

/// How many columns a text takes: one a character, which is right for all but East Asian letters.
fn width(text: &str) -> usize {
    text.chars().count()
}

/// `text` filled with blanks to `columns`.
pub(crate) fn left(text: &str, columns: usize) -> String {
    let mut filled = String::with_capacity(text.len() + columns);
    filled.push_str(text);
    filled.extend(std::iter::repeat_n(' ', columns.saturating_sub(width(text))));
    filled
}

/// `text` with blanks before it.
pub(crate) fn right(text: &str, columns: usize) -> String {
    let mut filled = String::with_capacity(text.len() + columns);
    filled.extend(std::iter::repeat_n(' ', columns.saturating_sub(width(text))));
    filled.push_str(text);
    filled
}

/// `text` cut to `columns`, the cut marked.
pub(crate) fn cut(text: &str, columns: usize) -> String {
    if width(text) <= columns {
        return text.to_owned();
    }
    let kept: String = text.chars().take(columns.saturating_sub(1)).collect();
    format!("{kept}…")
}

/// `one` or `many` with the number before it.
pub(crate) fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Rows as aligned columns, two blanks between; the last column is cut to the terminal's width.
pub(crate) fn rows(rows: &[Vec<String>], terminal: Option<usize>) -> Vec<String> {
    let columns = rows.iter().map(Vec::len).max().unwrap_or_default();
    let widths: Vec<usize> = (0..columns)
        .map(|column| rows.iter().filter_map(|row| row.get(column)).map(|cell| width(cell)).max().unwrap_or_default())
        .collect();
    rows.iter()
        .map(|row| {
            let cells = row.iter().enumerate().map(|(column, cell)| left(cell, widths[column]));
            let line = cells.collect::<Vec<_>>().join("  ");
            let line = line.trim_end();
            terminal.map_or_else(|| line.to_owned(), |columns| cut(line, columns))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_align_and_the_terminal_cuts() {
        let table = [vec!["ä".to_owned(), "one".to_owned()], vec!["bcd".to_owned(), "second".to_owned()]];
        assert_eq!(rows(&table, None), ["ä    one", "bcd  second"]);
        assert_eq!(rows(&table, Some(8)), ["ä    one", "bcd  se…"]);
        assert_eq!(rows(&[], None), Vec::<String>::new());
    }
}
