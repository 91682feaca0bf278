//! One style for request files. Only what lies around bodies is laid out; what is sent stays as it is.

use super::file::{Cell, Field, File, Instruction, Item, Kind, Node, RequestLine};
use super::{Edit, Span};
use rustc_hash::FxHashMap;

/// The edits that lay `text` out; none where it is tidy already. `file` is its tree.
///
/// - a blank line before each `%%`, but not between it and a comment just above;
/// - at most one blank line elsewhere, none below a `%%` line, one between a body and what follows it;
/// - `%% Title`, `% word …`, `Name: value`, `NAME = EXPR`, `a, b`, one blank between the words of a request line;
/// - no blanks at the ends of lines, one line end at the end of the file, all line ends like the first.
///
/// Lines with mistakes in them stay as they are, and so do bodies and comments.
pub fn tidy(text: &str, file: &File) -> Vec<Edit> {
    let lines = Lines::of(text, file);
    let end =
        if text.lines().next().is_some_and(|line| text[line.len()..].starts_with("\r\n")) { "\r\n" } else { "\n" };
    let nodes = file.nodes(text);
    let mut edits = Vec::new();
    let mut edit = |span: Span, tidied: String| {
        if tidied != span.of(text) {
            edits.push(Edit::replace(span, tidied));
        }
    };
    for (index, (node, span)) in nodes.iter().enumerate() {
        let before = index.checked_sub(1).map(|before| nodes[before].0);
        let after = nodes.get(index + 1).map(|(node, _)| *node);
        match node {
            Node::Gap => edit(*span, gap(span.of(text), before, after, end)),
            Node::Body | Node::Stray => {}
            _ => edit(*span, lines.line(*node, *span)),
        }
    }
    match nodes.last() {
        Some((Node::Gap, _)) | None => {}
        Some(_) => edits.push(Edit::insert(text.len(), end)),
    }
    edits
}

/// What stands between two nodes: line ends, blank lines, blanks before a line.
fn gap(text: &str, before: Option<Node>, after: Option<Node>, end: &str) -> String {
    let Some(before) = before else {
        return if text.starts_with('\u{feff}') { "\u{feff}".to_owned() } else { String::new() };
    };
    let ends = text.matches('\n').count();
    if (before, after) == (Node::Stray, Some(Node::Stray)) {
        return text.to_owned();
    }
    let wanted = match (before, after) {
        (_, None) => 1,
        (Node::Comment, Some(Node::Title)) if ends == 1 => 1,
        (_, Some(Node::Title)) | (Node::Body, _) => 2,
        (Node::Title, _) => 1,
        _ => ends.min(2),
    };
    end.repeat(wanted)
}

/// What the lines of a file hold, by where they begin.
struct Lines<'t> {
    text: &'t str,
    instructions: FxHashMap<usize, Kind>,
    requests: FxHashMap<usize, RequestLine>,
    fields: FxHashMap<usize, Field>,
    titles: FxHashMap<usize, Span>,
}

impl<'t> Lines<'t> {
    fn of(text: &'t str, file: &File) -> Self {
        let (instructions, requests) = (FxHashMap::default(), FxHashMap::default());
        let mut lines =
            Self { text, instructions, requests, fields: FxHashMap::default(), titles: FxHashMap::default() };
        lines.take(&file.preamble);
        for cell in &file.cells {
            lines.cell(cell);
        }
        lines
    }

    fn take(&mut self, items: &[Item]) {
        for Instruction { span, kind } in super::instructions(items) {
            self.instructions.insert(span.start(), *kind);
        }
    }

    fn cell(&mut self, cell: &Cell) {
        self.take(&cell.items);
        self.titles.insert(cell.span.start(), cell.title);
        self.requests.extend(cell.request.iter().map(|line| (line.span.start(), line.clone())));
        self.fields.extend(cell.fields.iter().map(|field| (field.span.start(), *field)));
    }

    /// A line as it should be.
    fn line(&self, node: Node, span: Span) -> String {
        let text = self.text;
        let written = span.of(text).trim_end();
        match node {
            Node::Title => self.titles.get(&span.start()).map(|title| joined("%%", " ", title.of(text))),
            Node::Request => self.requests.get(&span.start()).map(|line| {
                let version = Span::new(line.target.end(), line.span.end()).trimmed(text).of(text);
                let method = line.method.map(|method| format!("{} ", method.of(text))).unwrap_or_default();
                joined(&format!("{method}{}", line.target.of(text)), " ", version)
            }),
            Node::Field => {
                let field = self.fields.get(&span.start());
                field.map(|field| joined(&format!("{}:", field.name.of(text)), " ", field.value.of(text)))
            }
            Node::Instruction => self.instructions.get(&span.start()).map(|kind| self.instruction(span, kind)),
            _ => None,
        }
        .unwrap_or_else(|| written.to_owned())
    }

    fn instruction(&self, span: Span, kind: &Kind) -> String {
        let text = self.text;
        let line = span.part(1, span.len()).trimmed(text).of(text);
        let (word, rest) = line.split_once(|c: char| c.is_ascii_whitespace()).unwrap_or((line, ""));
        let given = |name: Span, equals: &str, value: Span| {
            // What follows the value on the line, as `secret`, stays.
            let more = Span::new(value.end(), span.end()).trimmed(text).of(text);
            joined(&format!("{}{equals}{}", name.of(text), value.of(text)), " ", more)
        };
        let rest = match *kind {
            Kind::Broken => return span.of(text).to_owned(),
            Kind::Tag(list) | Kind::Needs(list) | Kind::Waive(list) => {
                Kind::list(list, text).map(|member| member.of(text)).collect::<Vec<_>>().join(", ")
            }
            Kind::Let { name, expression } | Kind::Yield { name, expression, .. } => given(name, " = ", expression),
            Kind::Query { name, value: Some(value) } | Kind::Field { name, value } => given(name, " = ", value),
            Kind::Check { label: Some(label), expression, .. } => given(label, ": ", expression),
            Kind::Header { name, value } => joined(&format!("{}:", name.of(text)), " ", value.of(text)),
            _ => rest.trim().to_owned(),
        };
        joined(&format!("% {word}"), " ", &rest).trim_end().to_owned()
    }
}

fn joined(first: &str, between: &str, second: &str) -> String {
    if second.is_empty() { first.to_owned() } else { format!("{first}{between}{second}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::problem::SourceId;
    use crate::syntax::{edited, parse};

    fn tidied(text: &str) -> String {
        edited(text, &tidy(text, &parse(text, SourceId(0), "a").file))
    }

    #[test]
    fn lines_and_gaps_get_one_style() {
        let untidy = "\n\n# Intake.\n%let  season=2026\n%header   Accept:*/*\n\n\n\n%%Book a lot in   \n\n# Why.\n%tag smoke ,slow\n\
            POST   /lots   HTTP/1.1  \nX-Gate:north \n\n\n  { \"bins\": 1 }  \n% check  ok :status==201  else \"why?\"\n\n\n\
            % yield  id=body.id   secret\n%% b\nGET /lots";
        assert_eq!(
            tidied(untidy),
            "# Intake.\n% let season = 2026\n% header Accept: */*\n\n%% Book a lot in\n# Why.\n% tag smoke, slow\n\
             POST /lots HTTP/1.1\nX-Gate: north\n\n\n  { \"bins\": 1 }  \n\n% check ok: status==201 else \"why?\"\n\n\
             % yield id = body.id secret\n\n%% b\nGET /lots\n"
        );
    }

    #[test]
    fn what_is_tidy_or_wrong_stays() {
        for text in [
            "",
            "# Only words.\n",
            "%% a\nGET /lots\n\n# of the body\n",
            "# Head.\n\n# About a.\n%% a\nGET /lots\n",
            "%% a\n%chekc  1\nGET /lots\n",
            "%% a\r\nGET /lots\r\n\r\n{\n}\r\n\r\n% check status == 200\r\n",
        ] {
            assert_eq!(tidied(text), text);
        }
        assert_eq!(tidied("%% a\r\nGET /lots\n\n\n\n% check 1 == 1"), "%% a\r\nGET /lots\r\n\r\n% check 1 == 1\r\n");
    }
}
