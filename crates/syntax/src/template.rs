//! Placeholders in a text.

use yieldtray_source::{Code, Problem, Span, scan};

/// A text in which `{{ EXPR }}` placeholders are allowed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Template {
    /// The pieces in order; together they cover the text.
    pub segments: Vec<Segment>,
}

/// One piece of a [`Template`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // each variant's line says what its fields are
pub enum Segment {
    /// Text as it is.
    Text(Span),
    /// A backslash that is not written: the one of `\{{` or of `\%` at the start of a body line.
    Escape(Span),
    /// `{{ EXPR }}`: the whole placeholder, and the expression in it without surrounding white space.
    Placeholder { span: Span, expression: Span },
}

impl Template {
    /// Finds the placeholders in `span` of `text`. In a `body`, a leading `\%` of a line means `%`.
    pub fn parse(text: &str, span: Span, body: bool, problems: &mut Vec<Problem>) -> Self {
        let mut segments = Vec::new();
        let bytes = &text.as_bytes()[..span.end()];
        let (mut start, mut at) = (span.start(), span.start());
        let flush = |segments: &mut Vec<Segment>, from: usize, to: usize| {
            if from < to {
                segments.push(Segment::Text(Span::new(from, to)));
            }
        };
        while let Some(found) = memchr::memchr2(b'{', b'\\', &bytes[at..]).map(|offset| at + offset) {
            let line_start = found == span.start() || bytes[found - 1] == b'\n';
            let rest = &bytes[found..];
            if rest.starts_with(b"\\{{") || (body && line_start && rest.starts_with(b"\\%")) {
                flush(&mut segments, start, found);
                segments.push(Segment::Escape(Span::new(found, found + 1)));
                // Escaped braces are text: skip them, or they would be parsed as a placeholder.
                start = found + 1;
                at = found + if rest[1] == b'{' { 3 } else { 2 };
            } else if rest.starts_with(b"{{") {
                match mark(text, found, span.end()) {
                    Ok((mark, expression)) => {
                        flush(&mut segments, start, found);
                        segments.push(Segment::Placeholder { span: mark, expression });
                        (start, at) = (mark.end(), mark.end());
                    }
                    Err(problem) => {
                        problems.push(problem);
                        at = found + 2;
                    }
                }
            } else {
                at = found + 1;
            }
        }
        flush(&mut segments, start, span.end());
        Self { segments }
    }

    /// The expressions of the marks.
    pub fn expressions(&self) -> impl Iterator<Item = Span> + '_ {
        self.segments.iter().filter_map(|segment| match segment {
            Segment::Placeholder { expression, .. } => Some(*expression),
            _ => None,
        })
    }

    /// True if there is no placeholder in it.
    pub fn is_plain(&self) -> bool {
        self.expressions().next().is_none()
    }
}

/// Parses the placeholder whose `{{` is at `open`.
fn mark(text: &str, open: usize, limit: usize) -> Result<(Span, Span), Problem> {
    let inside = open + 2;
    let Some(close) = scan::mark_end(&text[..limit], inside) else {
        // The likely position of the missing braces: at a single one, else at the end of the word.
        let line = text[inside..limit].lines().next().unwrap_or_default();
        let word = line.trim_start();
        let blanks = line.len() - word.len();
        let one_brace = word.find('}').filter(|at| !word[..*at].contains(['{', '"', '\'']));
        let word_end = word.find(|c: char| !c.is_alphanumeric() && c != '_' && c != '.').unwrap_or(word.len());
        let end = one_brace.unwrap_or(word_end);
        let name = word[..end].trim_end();
        let problem = Problem::error(
            Code::UnclosedPlaceholder,
            Span::new(open, inside + blanks + end),
            "this `{{` is never closed",
        );
        return Err(if name.is_empty() {
            problem.with_hint("write `}}` after the expression, on the same line; a literal `{{` is written `\\{{`")
        } else {
            problem.with_hint(format!("write `{{{{{name}}}}}`; a literal `{{{{` is written `\\{{{{`"))
        });
    };
    let mark = Span::new(open, close + 2);
    let expression = Span::new(inside, close).trimmed(text);
    if expression.is_empty() {
        return Err(Problem::error(Code::UnclosedPlaceholder, mark, "this mark has no expression in it")
            .with_hint("name a value, as in `{{grower}}`; a literal `{{` is written `\\{{`"));
    }
    Ok((mark, expression))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pieces(text: &str) -> (Vec<String>, usize) {
        let mut problems = Vec::new();
        let template = Template::parse(text, Span::new(0, text.len()), true, &mut problems);
        let shown = template.segments.iter().map(|segment| match segment {
            Segment::Text(span) => span.of(text).to_owned(),
            Segment::Escape(_) => "<escape>".to_owned(),
            Segment::Placeholder { expression, .. } => format!("<{}>", expression.of(text)),
        });
        (shown.collect(), problems.len())
    }

    #[test]
    fn marks_escapes_and_slips() {
        for (text, expected, slips) in [
            ("a {{ b }} c", vec!["a ", "<b>", " c"], 0),
            ("{{a}}{{b}}", vec!["<a>", "<b>"], 0),
            ("\\{{a}}", vec!["<escape>", "{{a}}"], 0),
            ("\\% tea\n\\% two \\% three", vec!["<escape>", "% tea\n", "<escape>", "% two \\% three"], 0),
            ("{{ '}}' }}", vec!["<'}}'>"], 0),
            ("{{open", vec!["{{open"], 1),
            ("{{}} {{a}}", vec!["{{}} ", "<a>"], 1),
            ("{ \"a\": { } } \\n", vec!["{ \"a\": { } } \\n"], 0),
        ] {
            let (shown, problems) = pieces(text);
            assert_eq!(shown, expected, "{text:?}");
            assert_eq!(problems, slips, "{text:?}");
        }
    }

    #[test]
    fn a_mark_without_an_end_is_written_out_as_it_was_meant() {
        for (text, hint) in [
            ("{{ 20 * 2 } }", "write `{{20 * 2}}`"),
            ("{{grower/x", "write `{{grower}}`"),
            ("{{grower {{lot}}", "write `{{grower}}`"),
            ("{{'}}", "write `}}` after the expression"),
        ] {
            let mut problems = Vec::new();
            Template::parse(text, Span::new(0, text.len()), false, &mut problems);
            let found = problems[0].hint.as_deref().unwrap_or_default();
            assert!(found.starts_with(hint), "{text}: {found}");
        }
    }
}
