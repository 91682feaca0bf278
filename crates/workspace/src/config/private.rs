//! The private configuration as it may be shown: names and tables, without what is written for them.

use std::ops::Range;
use toml_edit::{Document, Item, Table, Value};
use yieldtray_http::{MASK, parse_origin};

/// The text with values and comments masked. Values that are written in one way look alike.
pub fn redact_values(text: &str) -> String {
    hide(text, |_| MASK.to_owned())
}

/// The same, with a `*` for each byte: places in the text stay where they are.
pub fn redact_keeping_offsets(text: &str) -> String {
    let cover = |byte: u8| if matches!(byte, b'\n' | b'\r') { char::from(byte) } else { '*' };
    hide(text, |piece| piece.bytes().map(cover).collect())
}

fn hide(text: &str, hidden: impl Fn(&str) -> String) -> String {
    let Ok(document) = Document::parse(text) else { return hide_lines(text, hidden) };
    let mut values = Vec::new();
    of_table(document.as_table(), &mut values);
    values.sort_by_key(|value| value.start);
    let (mut shown, mut at) = (String::new(), 0);
    for value in values {
        hide_comments(&text[at..value.start], &hidden, &mut shown);
        shown.push_str(&hidden(&text[value.clone()]));
        at = value.end;
    }
    hide_comments(&text[at..], &hidden, &mut shown);
    shown
}

/// The ranges of texts, numbers and times. Booleans disclose nothing.
fn of_table(table: &Table, values: &mut Vec<Range<usize>>) {
    for (_, item) in table {
        match item {
            Item::None => {}
            Item::Value(value) => of_value(value, values),
            Item::Table(table) => of_table(table, values),
            Item::ArrayOfTables(tables) => tables.iter().for_each(|table| of_table(table, values)),
        }
    }
}

fn of_value(value: &Value, values: &mut Vec<Range<usize>>) {
    match value {
        Value::Boolean(_) => {}
        Value::Array(members) => members.iter().for_each(|member| of_value(member, values)),
        Value::InlineTable(table) => {
            let visible = table.iter().filter(|(key, value)| !(*key == "for" && are_origins(value)));
            visible.for_each(|(_, value)| of_value(value, values));
        }
        _ => values.extend(value.span()),
    }
}

/// The origins of a secret are not secret themselves.
fn are_origins(value: &Value) -> bool {
    value
        .as_array()
        .is_some_and(|list| list.iter().all(|member| member.as_str().is_some_and(|text| parse_origin(text).is_some())))
}

/// Between values a `#` begins a comment: an older value, for instance.
fn hide_comments(between: &str, hidden: &impl Fn(&str) -> String, shown: &mut String) {
    for line in between.split_inclusive('\n') {
        let written = line.trim_end_matches(['\n', '\r']);
        let visible = written.find('#').map_or(written.len(), |hash| hash + 1);
        shown.push_str(&written[..visible]);
        if visible < written.len() {
            shown.push_str(&hidden(&written[visible..]));
        }
        shown.push_str(&line[written.len()..]);
    }
}

/// Masks a text that is not valid TOML line by line: only table heads, and names with their ` = `, are shown.
fn hide_lines(text: &str, hidden: impl Fn(&str) -> String) -> String {
    let is_name = |text: &str| text.chars().all(|c| c.is_ascii_alphanumeric() || "_-. ".contains(c));
    let mut shown = String::new();
    for line in text.split_inclusive('\n') {
        let written = line.trim_end_matches(['\n', '\r']);
        let head = written.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).is_some_and(is_name);
        let name = written.find(" = ").filter(|end| is_name(&written[..*end])).map_or(0, |end| end + " = ".len());
        let visible = if head { written.len() } else { name };
        shown.push_str(&written[..visible]);
        if visible < written.len() {
            shown.push_str(&hidden(&written[visible..]));
        }
        shown.push_str(&line[written.len()..]);
    }
    shown
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_shown_and_nothing_that_is_written_for_them() {
        let text = "# pin was 4616\n[values]\nbase = \"http://b\" # ours\npin = { value = \"\"\"\nwind\n[fall\n#ab\ncd==\n\"\"\", \
                    secret = true, for = ['http://b'], or = ['https://u:p@b'] }\nlist = [1, 'a = b']\n\n[environments.\"live\"]\nguard = true\nat = 2026-09-14\n";
        let shown = "#[secret]\n[values]\nbase = [secret] #[secret]\npin = { value = [secret], secret = true, for = ['http://b'], or = [[secret]] }\n\
                     list = [[secret], [secret]]\n\n[environments.\"live\"]\nguard = true\nat = [secret]\n";
        assert_eq!(redact_values(text), shown);
        let covered = redact_keeping_offsets(text);
        assert_eq!(covered.len(), text.len());
        assert_eq!(covered.lines().nth(2), Some("base = ********** #*****"));
        assert_eq!(covered.lines().skip(4).take(4).collect::<Vec<_>>(), ["****", "*****", "***", "****"]);
        assert_eq!(covered.find("secret = true"), text.find("secret = true"));
    }

    #[test]
    fn of_what_is_no_toml_only_heads_and_names_are_shown() {
        let text = "[values]\nkey = windfall\nabcd==\n[fall] x\nä = \"b\"\r\npin=\"4616\"\n";
        let shown = "[values]\nkey = [secret]\n[secret]\n[secret]\n[secret]\r\n[secret]\n";
        assert_eq!(redact_values(text), shown);
        assert_eq!(
            redact_keeping_offsets(text),
            "[values]\nkey = ********\n******\n********\n********\r\n**********\n"
        );
    }
}
