//! Formats request files. Only the text around bodies changes; whatever is sent stays the same.

use super::file::{Cell, Field, Instruction, InstructionKind, Item, Node, RequestFile, RequestLine};
use rustc_hash::FxHashMap;
use yieldtray_source::{Edit, Span};

/// The edits that format `text`; none if it is tidy already. `file` is its tree.
///
/// - a blank line before each `%%`, but not between it and a comment just above;
/// - at most one blank line elsewhere, none below a `%%` line, one between a body and what follows it;
/// - `%% Title`, `% word …`, `Name: value`, `NAME = EXPR`, `a, b`, one blank between the words of a request line;
/// - no blanks at the ends of lines, one line end at the end of the file, all line ends like the first that stays.
///
/// Lines with mistakes in them stay as they are, and so do bodies and comments.
pub fn tidy(text: &str, file: &RequestFile) -> Vec<Edit> {
    let lines = Lines::of(text, file);
    let nodes = file.nodes(text);
    // The first line end that stays.
    let first = nodes.iter().find(|(node, _)| *node != Node::Gap).map_or("", |(_, span)| &text[span.start()..]);
    let end = if first.find('\n').is_some_and(|end| first[..end].ends_with('\r')) { "\r\n" } else { "\n" };
    let mut edits = Vec::new();
    let mut edit = |span: Span, tidied: String| {
        if tidied != span.of(text) {
            edits.push(Edit::replace(span, tidied));
        }
    };
    for (index, (node, span)) in nodes.iter().enumerate() {
        let before = index.checked_sub(1).map(|before| nodes[before]);
        match node {
            Node::Gap => edit(*span, gap(text, *span, before, nodes.get(index + 1).copied(), end)),
            Node::Body | Node::Stray => {}
            _ => edit(*span, lines.line(*node, *span)),
        }
    }
    match nodes.last() {
        Some((Node::Gap, _)) | None => {}
        // A line end behind a CR would take it into itself, and a body would lose it.
        Some((Node::Body | Node::Stray, last)) if last.of(text).ends_with('\r') => {}
        Some(_) => edits.push(Edit::insert(text.len(), end)),
    }
    edits
}

/// The text between two nodes: line ends, blank lines, indentation.
fn gap(text: &str, span: Span, before: Option<(Node, Span)>, after: Option<(Node, Span)>, end: &str) -> String {
    let written = span.of(text);
    let indent = after.map_or("", |(node, line)| indent(written, node, line.of(text)));
    let Some((before, line_before)) = before else {
        return match written.starts_with('\u{feff}') {
            true => format!("\u{feff}{indent}"),
            // At the start of the file it would be a byte order mark.
            false if after.is_some_and(|(_, line)| line.of(text).starts_with('\u{feff}')) => written.to_owned(),
            false => indent.to_owned(),
        };
    };
    let after = after.map(|(node, _)| node);
    let ends = written.matches('\n').count();
    if (before, after) == (Node::Stray, Some(Node::Stray)) {
        return written.to_owned();
    }
    let wanted = match (before, after) {
        (_, None) => 1,
        (Node::Comment, Some(Node::Title)) if ends == 1 => 1,
        (_, Some(Node::Title)) | (Node::Body, _) => 2,
        (Node::Title, _) => 1,
        _ => ends.min(2),
    };
    // A CR at the end of a body is the body's: `\n` alone behind it would take it into the line end.
    let first =
        if matches!(before, Node::Body | Node::Stray) && line_before.of(text).ends_with('\r') { "\r\n" } else { end };
    if wanted == 0 { indent.to_owned() } else { format!("{first}{}{indent}", end.repeat(wanted - 1)) }
}

/// The indentation that must stay: without it the line would begin like something else.
fn indent<'t>(gap: &'t str, node: Node, line: &str) -> &'t str {
    let needed = match node {
        Node::Request => line.starts_with(['%', '#']) || line.starts_with("curl"),
        node => node == Node::Stray,
    };
    let blanks = gap.rfind('\n').map_or(gap, |end| &gap[end + 1..]).trim_start_matches('\u{feff}');
    if needed { blanks } else { "" }
}

/// The lines of a file by their start.
struct Lines<'t> {
    text: &'t str,
    instructions: FxHashMap<usize, InstructionKind>,
    requests: FxHashMap<usize, RequestLine>,
    fields: FxHashMap<usize, Field>,
    titles: FxHashMap<usize, Span>,
}

impl<'t> Lines<'t> {
    fn of(text: &'t str, file: &RequestFile) -> Self {
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
        let written = span.of(text).trim_ascii_end();
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

    fn instruction(&self, span: Span, kind: &InstructionKind) -> String {
        let text = self.text;
        let line = span.part(1, span.len()).trimmed(text).of(text);
        let (word, rest) = line.split_once(|c: char| c.is_ascii_whitespace()).unwrap_or((line, ""));
        let given = |name: Span, equals: &str, value: Span| {
            // Words after the value, as `secret`, stay.
            let more = Span::new(value.end(), span.end()).trimmed(text).of(text);
            joined(&format!("{}{equals}{}", name.of(text), value.of(text)), " ", more)
        };
        let rest = match *kind {
            InstructionKind::Broken => return span.of(text).to_owned(),
            InstructionKind::Tag(list) | InstructionKind::Needs(list) | InstructionKind::Waive(list) => {
                InstructionKind::list(list, text).map(|member| member.of(text)).collect::<Vec<_>>().join(", ")
            }
            InstructionKind::Let { name, expression } | InstructionKind::Yield { name, expression, .. } => {
                given(name, " = ", expression)
            }
            InstructionKind::Query { name, value: Some(value) } | InstructionKind::Field { name, value } => {
                given(name, " = ", value)
            }
            InstructionKind::Check { label: Some(label), expression, .. } => given(label, ": ", expression),
            InstructionKind::Header { name, value } => joined(&format!("{}:", name.of(text)), " ", value.of(text)),
            _ => rest.trim_ascii().to_owned(),
        };
        joined(&format!("% {word}"), " ", &rest).trim_ascii_end().to_owned()
    }
}

fn joined(first: &str, between: &str, second: &str) -> String {
    if second.is_empty() { first.to_owned() } else { format!("{first}{between}{second}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parse;
    use proptest::prelude::*;
    use yieldtray_source::{SourceId, edited};

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

    /// Each thing that is read in `text`, with the words it is made of, and each problem found.
    fn reading(text: &str) -> Vec<String> {
        let parsed = parse(text, SourceId(0), "a");
        let lines = Lines::of(text, &parsed.file);
        let nodes = parsed.file.nodes(text).into_iter().filter(|(node, _)| *node != Node::Gap);
        let read = nodes.map(|(node, span)| match node {
            Node::Body => format!("{node:?} {:?}", span.of(text)),
            Node::Stray => format!("{node:?} {}", span.of(text).trim_ascii()),
            _ => format!("{node:?} {}", lines.line(node, span).trim_ascii()),
        });
        read.chain(parsed.problems.iter().map(|problem| format!("{:?} {}", problem.code, problem.message))).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4096))]

        #[test]
        fn what_is_read_stays_and_a_second_time_changes_nothing(
            pieces in prop::collection::vec(prop::sample::select(PIECES), 0..14)
        ) {
            let text = pieces.concat();
            let once = tidied(&text);
            prop_assert_eq!(reading(&once), reading(&text), "{:?}", once);
            prop_assert_eq!(&tidied(&once), &once);
        }
    }

    /// Complete request files and fragments of them.
    const PIECES: &[&str] = &[
        "\n",
        "\n",
        "\n",
        "\n",
        "\r\n",
        "\r\n",
        "\r",
        " ",
        " ",
        "\t",
        "\u{feff}",
        "\u{a0}",
        "\u{b}",
        "\u{c}",
        "é",
        "%",
        "%%",
        "%%",
        "\n%% Book a lot in",
        "# Why.",
        "#",
        "GET",
        "POST ",
        "/lots",
        "http://127.0.0.1/lots",
        "{{base}}",
        "{{",
        "}}",
        "HTTP/1.1",
        "X-Gate: north",
        "X-Gate:",
        ":",
        "a",
        "=",
        ",",
        "\"",
        "{ \"bins\": 1 }",
        "curl -d 1 http://127.0.0.1/lots",
        "curl",
        "\n% check",
        "% check ok: status == 200 else \"why\"",
        "% check",
        "% let a=1",
        "% yield id = body.id secret",
        "% tag a ,b",
        "% header Accept:*/*",
        "% needs a,b",
        "% query a = 1",
        "% field a=b",
        "% play a with n=1,m = 2 times 3",
        "% each {\"a\": 1}",
        "% part a = \"b\" type text/plain",
        "% auth basic a \"b\"",
        "% wait until status == 200 every 1s for 3s",
        "% timeout 2s",
        "% accept",
        "% ask pin \"PIN?\" secret",
        "% body from \"a.json\"",
        "% fn f(a) = a + 1",
        "% path verbatim",
        "% chekc 1",
    ];
}
