//! Renders text with placeholders.

use crate::request::encoding::{ContextTracker, SubstitutionContext};
use crate::scope::{Phase, Resolver};
use yieldtray_expression::{NotRepresentable, Value};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{Segment, Template, control_in_field};

/// Writes templates with the values one cell sees, and collects what is wrong on the way.
pub(super) struct TemplateRenderer<'l, 'a> {
    pub(super) resolver: &'l mut Resolver<'a>,
    pub(super) problems: Vec<Problem>,
}

impl TemplateRenderer<'_, '_> {
    /// The text at `span` of `source` with its placeholders resolved. One that fails is left out and reported.
    pub(super) fn write(&mut self, source: SourceId, span: Span, mut around: ContextTracker, body: bool) -> String {
        let workspace = self.resolver.workspace;
        let text = &workspace.source(source).text;
        // Most texts have neither a mark nor anything that is escaped.
        if memchr::memchr2(b'{', b'\\', span.of(text).as_bytes()).is_none() {
            return around.literal(span.of(text)).into_owned();
        }
        let mut problems = Vec::new();
        let template = Template::parse(text, span, body, &mut problems);
        self.problems.extend(problems.into_iter().map(|problem| problem.in_source(source)));
        let mut out = String::with_capacity(span.len() + 16);
        for segment in template.segments {
            match segment {
                Segment::Text(span) => {
                    around.consume(span.of(text));
                    out.push_str(&around.literal(span.of(text)));
                }
                Segment::Escape(_) => {}
                Segment::Placeholder { expression, .. } => {
                    let place = around.at_placeholder();
                    self.write_mark(&mut out, source, expression, place);
                }
            }
        }
        out
    }

    /// A text argument: no encoding, since where it goes is known only later.
    pub(super) fn text(&mut self, source: SourceId, span: Span) -> String {
        self.write(source, span, ContextTracker::Same(SubstitutionContext::Text), false)
    }

    /// The text of a file, named at `at` of `source`, with its marks resolved.
    pub(super) fn write_file(
        &mut self,
        source: SourceId,
        at: Span,
        file: &str,
        text: &str,
        mut around: ContextTracker,
    ) -> String {
        let mut problems = Vec::new();
        let template = Template::parse(text, Span::new(0, text.len()), false, &mut problems);
        let lines = yieldtray_source::Lines::new(text);
        let placed = |offset: usize, mut problem: Problem| {
            problem.message = format!("in `{file}`, line {}: {}", lines.line_of(offset), problem.message);
            problem.span = at;
            problem.in_source(source)
        };
        let slips: Vec<Problem> = problems.into_iter().map(|slip| placed(slip.span.start(), slip)).collect();
        self.problems.extend(slips);
        let mut out = String::with_capacity(text.len() + 16);
        for segment in template.segments {
            match segment {
                Segment::Text(span) => {
                    around.consume(span.of(text));
                    out.push_str(span.of(text));
                }
                Segment::Escape(_) => {}
                Segment::Placeholder { expression, .. } => {
                    let place = around.at_placeholder();
                    let before = self.problems.len();
                    let expression_text = expression.of(text);
                    match self.resolver.evaluate_text(expression_text, source, at) {
                        Ok(value) => self.write_value(&mut out, source, (at, expression_text), place, &value),
                        Err(problems) => self.problems.extend(problems),
                    }
                    let found: Vec<Problem> = self.problems.drain(before..).collect();
                    self.problems.extend(found.into_iter().map(|problem| placed(expression.start(), problem)));
                }
            }
        }
        out
    }

    fn write_mark(&mut self, out: &mut String, source: SourceId, expression: Span, place: SubstitutionContext) {
        let text = expression.of(&self.resolver.workspace.source(source).text);
        match self.resolver.evaluate(source, expression, Phase::Request) {
            Ok(value) => self.write_value(out, source, (expression, text), place, &value),
            Err(problems) => self.problems.extend(problems),
        }
    }

    /// Writes the value of the expression `text` at `at`.
    fn write_value(
        &mut self,
        out: &mut String,
        source: SourceId,
        (at, text): (Span, &str),
        place: SubstitutionContext,
        value: &Value,
    ) {
        let raw = text.starts_with("raw") && self.resolver.context.engine.compile(text).is_ok_and(|it| it.is_raw());
        match place.write(value, raw) {
            Ok(written) => {
                if let Some(odd) = (place == SubstitutionContext::Header).then(|| control_in_field(&written)).flatten()
                {
                    let odd = match odd {
                        '\r' | '\n' => "a line end".to_owned(),
                        odd => format!("the control character U+{:04X}", odd as u32),
                    };
                    let message = format!("the value of `{text}` contains {odd}, which headers cannot contain");
                    let problem = Problem::error(Code::InvalidValue, at, message);
                    self.problems.push(
                        problem
                            .with_hint("encode it, for example with `base64(…)`, or use `trim(…)`")
                            .in_source(source),
                    );
                }
                out.push_str(&written);
            }
            Err(unfit) => {
                let problem = unfit_problem(text, at, place, unfit, value);
                self.problems.push(problem.in_source(source));
            }
        }
    }
}

fn unfit_problem(text: &str, at: Span, place: SubstitutionContext, unfit: NotRepresentable, value: &Value) -> Problem {
    let whither = place.describe();
    match unfit {
        NotRepresentable::Null
            if matches!(
                place,
                SubstitutionContext::TargetStart | SubstitutionContext::Target | SubstitutionContext::Header
            ) =>
        {
            Problem::error(Code::InvalidValue, at, format!("`{text}` is null, which {whither} cannot contain"))
                .with_hint("set it, or omit the part")
        }
        NotRepresentable::Null => {
            Problem::warning(Code::InvalidValue, at, format!("`{text}` is null: inserting nothing"))
        }
        NotRepresentable::Structure(_) => {
            let kind = value.kind().describe();
            Problem::error(Code::InvalidValue, at, format!("`{text}` is {kind}, which {whither} cannot contain"))
                .with_hint(format!("use `json({text})` for JSON, or `join({text}, ',')` for a list"))
        }
        NotRepresentable::NotText => Problem::error(Code::InvalidValue, at, format!("`{text}` is binary data"))
            .with_hint(format!("encode it, for example `base64({text})`")),
    }
}
