//! Text in columns.

/// How many columns a text takes: one a character, which is right for all but East Asian letters.
fn width(text: &str) -> usize {
    text.chars().count()
}

/// `text` padded with spaces to `columns`.
pub(crate) fn left(text: &str, columns: usize) -> String {
    let mut filled = String::with_capacity(text.len() + columns);
    filled.push_str(text);
    filled.extend(std::iter::repeat_n(' ', columns.saturating_sub(width(text))));
    filled
}

/// `text` aligned right.
pub(crate) fn right(text: &str, columns: usize) -> String {
    let mut filled = String::with_capacity(text.len() + columns);
    push_right(&mut filled, text, columns);
    filled
}

/// Adds `text` to a line, cut or padded to `columns`; [`cut`] and [`left`] in one.
pub(crate) fn push_left(line: &mut String, text: &str, columns: usize) {
    let own = width(text);
    if own > columns {
        return line.push_str(&cut(text, columns));
    }
    line.push_str(text);
    line.extend(std::iter::repeat_n(' ', columns - own));
}

/// Adds `text` to a line, aligned right.
pub(crate) fn push_right(line: &mut String, text: &str, columns: usize) {
    line.extend(std::iter::repeat_n(' ', columns.saturating_sub(width(text))));
    line.push_str(text);
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

/// A cell of a table: its text, and how that is painted.
#[derive(Clone, Debug)]
pub(crate) struct Cell {
    text: String,
    painted: Option<String>,
    shrinkable: bool,
}

impl Cell {
    /// A cell with this text.
    pub(crate) fn new(text: impl Into<String>) -> Self {
        Self { text: text.into(), painted: None, shrinkable: false }
    }

    /// The same text in colour.
    pub(crate) fn painted(self, painted: impl Into<String>) -> Self {
        Self { painted: Some(painted.into()), ..self }
    }

    /// A cell that is cut where the terminal is too narrow for the whole table.
    pub(crate) fn shrinkable(self) -> Self {
        Self { shrinkable: true, ..self }
    }

    fn fill(&self, columns: usize) -> String {
        if width(&self.text) > columns {
            // Colours would have to be cut too: a text that is cut loses them.
            return cut(&self.text, columns);
        }
        let blanks = " ".repeat(columns - width(&self.text));
        format!("{}{blanks}", self.painted.as_deref().unwrap_or(&self.text))
    }
}

/// The narrowest that a yielding column becomes.
const MIN_COLUMNS: usize = 8;

/// Rows as aligned columns, two spaces between. If the terminal is too narrow, the widest shrinkable columns shrink;
/// the rest is cut at the right.
pub(crate) fn columns(rows: &[Vec<Cell>], terminal: Option<usize>) -> Vec<String> {
    let count = rows.iter().map(Vec::len).max().unwrap_or_default();
    let of = |column: usize| rows.iter().filter_map(move |row| row.get(column));
    let mut widths: Vec<usize> =
        (0..count).map(|column| of(column).map(|cell| width(&cell.text)).max().unwrap_or_default()).collect();
    let yields: Vec<bool> = (0..count).map(|column| of(column).any(|cell| cell.shrinkable)).collect();
    // An empty column takes no space.
    let used: Vec<usize> = (0..count).filter(|column| widths[*column] > 0).collect();
    let gaps = used.len().saturating_sub(1) * 2;
    if let Some(terminal) = terminal {
        while used.iter().map(|column| widths[*column]).sum::<usize>() + gaps > terminal {
            let widest = used.iter().copied().filter(|column| yields[*column] && widths[*column] > MIN_COLUMNS);
            match widest.max_by_key(|column| widths[*column]) {
                Some(column) => widths[column] -= 1,
                None => break,
            }
        }
    }
    rows.iter()
        .map(|row| {
            let mut line = String::new();
            let mut room = terminal.unwrap_or(usize::MAX);
            for (index, column) in used.iter().enumerate() {
                let Some(cell) = row.get(*column) else { continue };
                let gap = if index > 0 { 2 } else { 0 };
                if room <= gap {
                    break;
                }
                let columns = widths[*column].min(room - gap);
                line.push_str(&" ".repeat(gap));
                line.push_str(&cell.fill(columns));
                room -= gap + columns;
            }
            line.trim_end().to_owned()
        })
        .collect()
}

/// The text in lines of at most `width` columns, broken between words; one empty line if there are no words.
pub(crate) fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split_whitespace() {
        let Some(line) = lines.last_mut() else { continue };
        let columns = line.chars().count();
        if columns > 0 && columns + 1 + word.chars().count() > width {
            lines.push(word.to_owned());
        } else {
            if columns > 0 {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wide_columns_give_way_first() {
        let row = |a: &str, b: &str, c: &str| {
            vec![Cell::new(a).painted(format!("<{a}>")), Cell::new(b).shrinkable(), Cell::new(""), Cell::new(c)]
        };
        let table = [row("lot", "a rather long value", "x.http:12"), row("grower", "G-11", "y:1")];
        assert_eq!(
            columns(&table, None),
            ["<lot>     a rather long value  x.http:12", "<grower>  G-11                 y:1"]
        );
        assert_eq!(columns(&table, Some(30)), ["<lot>     a rather l…  x.http:12", "<grower>  G-11         y:1"]);
        assert_eq!(columns(&table, Some(20)), ["<lot>     a rathe…  x…", "<grower>  G-11      y…"]);
        assert_eq!(columns(&[vec![Cell::new("ä"), Cell::new("b")]], None), ["ä  b"]);
        assert_eq!(columns(&[], Some(9)), Vec::<String>::new());
    }
}
