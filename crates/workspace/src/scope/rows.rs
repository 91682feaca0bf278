//! The rows of `% each`: read one after another, so that a file of any length takes no more memory than
//! its longest row.

use crate::{CellId, Workspace};
use std::io::{self, BufReader, Read};
use thiserror::Error;
use yieldtray_expression::Value;
use yieldtray_source::Span;
use yieldtray_syntax::InstructionKind;

type Bytes = Box<dyn Read + Send>;

/// Why rows cannot be read.
#[derive(Debug, Error)]
pub enum RowError {
    /// The file cannot be opened.
    #[error(transparent)]
    Open(#[from] io::Error),
    /// The file has another extension than those of tables and JSON.
    #[error("rows must come from a .csv, .tsv, .json or .jsonl file")]
    Format,
    /// A row has another number of cells than the first.
    #[error("{}it has {cells} fields, but the header row has {columns}", line_prefix(*.line))]
    Length {
        /// The line of the row, from 1.
        line: Option<u64>,
        /// Its cells.
        cells: u64,
        /// The columns that the first row names.
        columns: u64,
    },
    /// The table is not UTF-8.
    #[error("it is not UTF-8 text")]
    NotUtf8,
    /// The table cannot be read.
    #[error(transparent)]
    Table(csv::Error),
    /// The file is not JSON.
    #[error("this is not JSON: {0}")]
    Json(serde_json::Error),
}

fn line_prefix(line: Option<u64>) -> String {
    line.map(|line| format!("line {line}: ")).unwrap_or_default()
}

impl From<csv::Error> for RowError {
    fn from(error: csv::Error) -> Self {
        match error.kind() {
            csv::ErrorKind::UnequalLengths { pos, expected_len, len } => {
                Self::Length { line: pos.as_ref().map(csv::Position::line), cells: *len, columns: *expected_len }
            }
            csv::ErrorKind::Utf8 { .. } => Self::NotUtf8,
            _ => Self::Table(error),
        }
    }
}

/// The rows of one file, or why one of them cannot be read.
pub struct Rows(RowFormat);

enum RowFormat {
    /// A table whose first row names the columns.
    Table { reader: csv::Reader<Bytes>, columns: Vec<String> },
    /// JSON: the members of an array, or one document a line.
    Json(Box<dyn Iterator<Item = serde_json::Result<serde_json::Value>> + Send>),
}

impl Rows {
    /// The rows of `bytes`, the content of a file of that name.
    pub(crate) fn read(name: &str, bytes: Bytes) -> Result<Self, RowError> {
        let extension = name.rsplit_once('.').map(|(_, extension)| extension.to_ascii_lowercase());
        Ok(Self(match extension.as_deref() {
            Some("json" | "jsonl" | "ndjson") => {
                let members =
                    ArraySplitter { bytes: BufReader::new(bytes), array: None, depth: 0, text: false, escaped: false };
                RowFormat::Json(Box::new(serde_json::Deserializer::from_reader(members).into_iter()))
            }
            Some(table @ ("csv" | "tsv")) => {
                let separator = if table == "csv" { b',' } else { b'\t' };
                let mut reader = csv::ReaderBuilder::new().delimiter(separator).from_reader(bytes);
                let columns = reader.headers()?;
                let columns: Vec<String> =
                    columns.iter().map(|name| name.trim_start_matches('\u{feff}').trim().to_owned()).collect();
                RowFormat::Table { reader, columns }
            }
            _ => return Err(RowError::Format),
        }))
    }
}

impl Iterator for Rows {
    type Item = Result<Value, RowError>;

    /// The next row: of a table a map of its columns, each as [`Value::infer`] reads it.
    fn next(&mut self) -> Option<Self::Item> {
        match &mut self.0 {
            RowFormat::Table { reader, columns } => {
                let record = reader.records().next()?;
                Some(record.map_err(RowError::from).map(|record| {
                    let cells = columns.iter().zip(&record);
                    Value::map(cells.map(|(name, cell)| (name.clone(), Value::infer(cell))))
                }))
            }
            RowFormat::Json(documents) => Some(match documents.next()? {
                Ok(document) => Ok(Value::from_json(&document)),
                Err(error) => Err(RowError::Json(error)),
            }),
        }
    }
}

/// Splits an array into its members, one document after another; other documents pass through.
struct ArraySplitter {
    bytes: BufReader<Bytes>,
    /// True for an array, once its first character was read.
    array: Option<bool>,
    depth: usize,
    text: bool,
    escaped: bool,
}

impl Read for ArraySplitter {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let read = self.bytes.read(out)?;
        for byte in &mut out[..read] {
            if self.array.is_none() && !byte.is_ascii_whitespace() {
                self.array = Some(*byte == b'[');
            }
            if self.array != Some(true) {
                continue;
            }
            match *byte {
                _ if self.escaped => self.escaped = false,
                b'\\' if self.text => self.escaped = true,
                b'"' => self.text = !self.text,
                _ if self.text => {}
                b'[' | b'{' => {
                    self.depth += 1;
                    if self.depth == 1 {
                        *byte = b' ';
                    }
                }
                b']' | b'}' => {
                    self.depth = self.depth.saturating_sub(1);
                    if self.depth == 0 {
                        *byte = b' ';
                    }
                }
                b',' if self.depth == 1 => *byte = b' ',
                _ => {}
            }
        }
        Ok(read)
    }
}

impl Workspace {
    /// The file that gives a cell its rows.
    pub fn rows_file(&self, cell: CellId) -> Option<Span> {
        let lines = self.cell(cell).instructions().filter_map(|line| match line.kind {
            InstructionKind::Each(path) => Some(path),
            _ => None,
        });
        lines.last()
    }

    /// The rows of a file at `path`, relative to the folder of a cell's text.
    ///
    /// # Errors
    /// If the file cannot be read, or is neither a table nor JSON.
    pub fn rows(&self, cell: CellId, path: &str) -> Result<Rows, RowError> {
        Rows::read(path, self.open_relative(cell.source, path)?)
    }

    /// Whether a cell has so many rows that can be read.
    pub fn has_row(&self, cell: CellId, number: usize) -> bool {
        let Some(path) = self.rows_file(cell) else { return false };
        let rows = self.rows(cell, path.of(&self.source(cell.source).text));
        rows.is_ok_and(|mut rows| (0..number).all(|_| matches!(rows.next(), Some(Ok(_)))))
    }

    /// The names that the rows of a cell define, as far as the first row shows.
    pub fn columns(&self, cell: CellId) -> Vec<String> {
        let text = &self.source(cell.source).text;
        let Some(path) = self.rows_file(cell) else { return Vec::new() };
        let Ok(mut rows) = self.rows(cell, path.of(text)) else { return Vec::new() };
        if let RowFormat::Table { columns, .. } = &rows.0 {
            return columns.clone();
        }
        let first = rows.next().and_then(Result::ok).map(|row| row.to_json());
        let names = first.as_ref().and_then(|row| row.as_object()).map(|row| row.keys().cloned().collect());
        names.unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(name: &str, text: &str) -> Vec<String> {
        let bytes: Bytes = Box::new(io::Cursor::new(text.as_bytes().to_vec()));
        let mut rows = match Rows::read(name, bytes) {
            Ok(rows) => rows,
            Err(error) => return vec![error.to_string()],
        };
        std::iter::from_fn(|| rows.next())
            .map(|row| row.map_or_else(|error| error.to_string(), |row| row.show()))
            .collect()
    }

    #[test]
    fn rows_come_from_tables_and_from_json() {
        assert_eq!(
            rows("lots.csv", "\u{feff}lot, bins,note\r\nL-1,24,\"ripe, \"\"sweet\"\"\"\r\nL-2,007,\n"),
            [r#"{"lot":"L-1","bins":24,"note":"ripe, \"sweet\""}"#, r#"{"lot":"L-2","bins":"007","note":""}"#]
        );
        assert_eq!(rows("lots.tsv", "lot\tbins\nL-1\t24\n"), [r#"{"lot":"L-1","bins":24}"#]);
        let members = [r#"{"a":[1,2]}"#, "\"x,]\\\"\"", "12345678901234567890123"];
        assert_eq!(rows("lots.json", " [ {\"a\": [1, 2]}, \"x,]\\\"\", 12345678901234567890123 ]\n"), members);
        assert_eq!(rows("lots.jsonl", "{\"a\": [1,2]}\n\n\"x,]\\\"\"\n12345678901234567890123"), members);
        assert_eq!(rows("none.json", "[]"), [""; 0]);
        assert_eq!(rows("none.csv", "lot,bins\n"), [""; 0]);
    }

    #[test]
    fn rows_that_cannot_be_read_say_where() {
        assert_eq!(
            rows("lots.csv", "lot,bins\nL-1,24\nL-2\n").last().map(String::as_str),
            Some("line 3: it has 1 fields, but the header row has 2")
        );
        assert!(rows("lots.json", "[{\"a\": }]")[0].starts_with("this is not JSON: "));
        assert!(rows("lots.xml", "<lots/>")[0].starts_with("rows must come from a"));
        let deep = format!("[{}]", "[".repeat(100_000));
        assert!(rows("deep.json", &deep)[0].contains("recursion limit"));
    }
}
