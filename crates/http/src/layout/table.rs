//! Tables of text (CSV, RFC 4180): columns under each other, the first row as their names.

use super::{LayoutPiece, new_line};

/// A cell is cut to this many characters: a table is looked over, and read elsewhere.
const MAX_COLUMN_CHARS: usize = 40;

/// Rows that decide how wide the columns are.
const MEASURED_ROWS: usize = 1_000;

pub(super) fn lay_out(text: &str, separator: u8, mut piece: impl FnMut(LayoutPiece, &str)) -> bool {
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).flexible(true).delimiter(separator).from_reader(text.as_bytes());
    let Ok(rows) = reader.records().collect::<Result<Vec<_>, _>>() else { return false };
    let Some(columns) = rows.iter().map(csv::StringRecord::len).max().filter(|columns| *columns > 1) else {
        return false;
    };
    let mut widths = vec![0; columns];
    for row in rows.iter().take(MEASURED_ROWS) {
        for (width, cell) in widths.iter_mut().zip(row) {
            *width = (*width).max(cell.chars().count().min(MAX_COLUMN_CHARS));
        }
    }
    let is_number = |cell: &str| cell.parse::<f64>().is_ok();
    for (at, row) in rows.iter().enumerate() {
        if at > 0 {
            new_line(0, &mut piece);
        }
        for (column, cell) in row.iter().enumerate() {
            let shown = cut(cell);
            let blanks = " ".repeat(widths[column].saturating_sub(shown.chars().count()));
            let kind = match at {
                0 => LayoutPiece::Key,
                _ if is_number(cell) => LayoutPiece::Number,
                _ => LayoutPiece::Text,
            };
            let last = column + 1 == row.len();
            // Numbers and the name of their column are aligned right, so that digits line up.
            let right =
                is_number(if at == 0 { rows.get(1).and_then(|row| row.get(column)).unwrap_or_default() } else { cell });
            if right {
                piece(LayoutPiece::Space, &blanks);
            }
            piece(kind, &shown);
            if !last {
                if !right {
                    piece(LayoutPiece::Space, &blanks);
                }
                piece(LayoutPiece::Space, "  ");
            }
        }
    }
    true
}

fn cut(cell: &str) -> String {
    let line = cell.replace(['\n', '\r'], "⏎");
    match line.char_indices().nth(MAX_COLUMN_CHARS) {
        None => line,
        Some(_) => line.chars().take(MAX_COLUMN_CHARS - 1).chain(['…']).collect(),
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn columns_stand_under_each_other() {
        let mut out = String::new();
        let text = "lot,bins,note\nL-1,24,\"ripe, and\nsweet\"\nL-2043,7,\n";
        assert!(super::lay_out(text, b',', |_, text| out.push_str(text)));
        assert_eq!(out, "lot     bins  note\nL-1       24  ripe, and⏎sweet\nL-2043     7  ");
        assert!(!super::lay_out("no table", b',', |_, _| unreachable!("nothing is handed on")));
    }
}
