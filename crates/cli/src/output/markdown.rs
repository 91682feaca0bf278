//! Pages of the documentation as text for a terminal: headings, paragraphs, lists, code and tables.

use super::table::{self, Cell, wrapped};
use crate::styles::Styles;
use pulldown_cmark::{CodeBlockKind, Event, Options, Parser, Tag, TagEnd};

/// The page as text of at most `width` columns; code and tables may be wider where they cannot be broken.
pub(crate) fn to_text(page: &str, width: usize, styles: Styles) -> String {
    let mut writer = Writer { out: String::new(), text: String::new(), width, styles, lists: 0, rows: Vec::new() };
    let mut code = false;
    for event in Parser::new_ext(page, Options::ENABLE_TABLES) {
        match event {
            Event::Text(text) if code => {
                text.lines().for_each(|line| writer.out.push_str(&format!("    {line}\n")));
            }
            Event::Text(text) | Event::Code(text) => writer.text.push_str(&text),
            Event::SoftBreak | Event::HardBreak => writer.text.push(' '),
            Event::Start(Tag::CodeBlock(CodeBlockKind::Fenced(_) | CodeBlockKind::Indented)) => code = true,
            Event::End(TagEnd::CodeBlock) => {
                code = false;
                writer.out.push('\n');
            }
            Event::Start(tag) => writer.start(&tag),
            Event::End(tag) => writer.end(tag),
            _ => {}
        }
    }
    writer.out.trim_end().to_owned() + "\n"
}

struct Writer {
    out: String,
    /// The text of the open block.
    text: String,
    width: usize,
    styles: Styles,
    /// How many lists are open.
    lists: usize,
    /// The rows of the open table.
    rows: Vec<Vec<String>>,
}

impl Writer {
    fn start(&mut self, tag: &Tag<'_>) {
        match tag {
            Tag::List(_) => {
                self.flush_item();
                self.lists += 1;
            }
            Tag::Table(_) => self.rows.clear(),
            Tag::TableHead | Tag::TableRow => self.rows.push(Vec::new()),
            _ => {}
        }
    }

    fn end(&mut self, tag: TagEnd) {
        match tag {
            TagEnd::Heading(_) => {
                let heading = std::mem::take(&mut self.text);
                self.out.push_str(&format!("{}\n\n", self.styles.strong(&heading)));
            }
            TagEnd::Paragraph if self.lists == 0 => {
                let text = std::mem::take(&mut self.text);
                wrapped(&text, self.width).iter().for_each(|line| self.out.push_str(&format!("{line}\n")));
                self.out.push('\n');
            }
            TagEnd::Item => self.flush_item(),
            TagEnd::List(_) => {
                self.lists -= 1;
                if self.lists == 0 {
                    self.out.push('\n');
                }
            }
            TagEnd::TableCell => {
                let text = std::mem::take(&mut self.text);
                self.rows.last_mut().into_iter().for_each(|row| row.push(text.clone()));
            }
            TagEnd::Table => self.write_table(),
            _ => {}
        }
    }

    /// Writes the text of an item, before its end or before a list inside it.
    fn flush_item(&mut self) {
        let text = std::mem::take(&mut self.text);
        if self.lists == 0 || text.is_empty() {
            return;
        }
        let indent = "  ".repeat(self.lists - 1);
        for (index, line) in wrapped(&text, self.width.saturating_sub(indent.len() + 2)).iter().enumerate() {
            self.out.push_str(&format!("{indent}{} {line}\n", if index == 0 { "-" } else { " " }));
        }
    }

    /// Writes a table: every column as wide as its widest cell, the last one wrapped.
    fn write_table(&mut self) {
        let rows = std::mem::take(&mut self.rows);
        let count = rows.iter().map(Vec::len).max().unwrap_or_default();
        let widest = |column: usize| {
            rows.iter().filter_map(|row| row.get(column)).map(|text| text.chars().count()).max().unwrap_or_default()
        };
        let before: usize = (0..count.saturating_sub(1)).map(|column| widest(column) + 2).sum();
        let last = self.width.saturating_sub(before).max(24);
        let mut cells: Vec<Vec<Cell>> = Vec::new();
        for (index, row) in rows.iter().enumerate() {
            let Some((text, first)) = row.split_last() else { continue };
            let lines = wrapped(text, last);
            for (number, line) in lines.iter().enumerate() {
                let own = first.iter().map(|text| if number == 0 { text.as_str() } else { "" });
                let cell = |text: &str| match index {
                    0 => Cell::new(text).painted(self.styles.strong(text)),
                    _ => Cell::new(text),
                };
                cells.push(own.map(cell).chain([cell(line)]).collect());
            }
        }
        table::columns(&cells, None).iter().for_each(|line| self.out.push_str(&format!("{line}\n")));
        self.out.push('\n');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_becomes_text() {
        let page = "# Keys\n\nA `key` of a [table](x.md), and what it\nmeans.\n\n- one\n- two\n  - three\n\n```toml\n[send]\n\
                    timeout = \"5s\"\n```\n\n| key | meaning |\n| --- | --- |\n| `timeout` | how long a request may take |\n| `a` | b |\n";
        let expected = "Keys\n\nA key of a table, and what it\nmeans.\n\n- one\n- two\n  - three\n\n    [send]\n    \
                        timeout = \"5s\"\n\nkey      meaning\ntimeout  how long a request may\n         take\na        b\n";
        assert_eq!(to_text(page, 32, Styles::new(false)), expected);
    }
}
