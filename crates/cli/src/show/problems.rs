//! Problems as a person reads them: the place, the line underlined, what to write instead.

use super::look::Look;
use super::safe::{safe, safe_line};
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use yieldtray_core::problem::{Level as Weight, Problem, SourceId};
use yieldtray_core::syntax::Span;
use yieldtray_core::workspace::Workspace;

/// A problem with the line it stands in.
pub(crate) fn snippet(workspace: &Workspace, problem: &Problem, look: Look) -> String {
    let message = safe_line(&problem.message);
    let title = level(problem.level).primary_title(message).id(problem.code.as_str());
    let mut lines = Vec::new();
    if let Some(source) = problem.source {
        lines.push((Excerpt::new(workspace, source, problem.span), AnnotationKind::Primary, None));
    }
    if let Some((source, span, words)) = &problem.also {
        lines.push((Excerpt::new(workspace, *source, *span), AnnotationKind::Context, Some(words.as_str())));
    }
    let group = lines.iter().fold(
        title.elements(None::<Snippet<'_, annotate_snippets::Annotation<'_>>>),
        |group, (excerpt, kind, words)| {
            let annotation = kind.span(excerpt.from..excerpt.to).label(*words);
            let snippet =
                Snippet::source(&*excerpt.text).line_start(excerpt.line).path(&*excerpt.path).annotation(annotation);
            group.element(snippet)
        },
    );
    let group = match &problem.hint {
        Some(hint) => group.element(Level::HELP.with_name("instead").message(safe_line(hint))),
        None => group,
    };
    // A blank line lets several be told apart.
    format!("{}\n", renderer(look).render(&[group]))
}

/// A problem that has no place.
pub(crate) fn plain(code: Option<&str>, message: &str, hint: Option<&str>, look: Look) -> String {
    let title = level(Weight::Mistake).primary_title(safe_line(message));
    let title = match code {
        Some(code) => title.id(code),
        None => title,
    };
    let group = title.elements(hint.map(|hint| Level::HELP.with_name("instead").message(safe_line(hint))));
    renderer(look).render(&[group])
}

/// A remark that has no place.
pub(crate) fn remark(code: &str, message: &str, hint: Option<&str>, look: Look) -> String {
    let title = level(Weight::Remark).primary_title(safe_line(message)).id(code);
    let group = title.elements(hint.map(|hint| Level::HELP.with_name("instead").message(safe_line(hint))));
    renderer(look).render(&[group])
}

fn level(weight: Weight) -> Level<'static> {
    match weight {
        Weight::Mistake => Level::ERROR.with_name("mistake"),
        Weight::Remark => Level::NOTE.with_name("remark"),
    }
}

fn renderer(look: Look) -> Renderer {
    if look.is_coloured() { Renderer::styled() } else { Renderer::plain() }
}

/// The line a span begins in, cut out of the whole text: a file may be large.
struct Excerpt {
    path: String,
    text: String,
    line: usize,
    from: usize,
    to: usize,
}

/// A line longer than this is cut around the span.
const LONGEST_LINE: usize = 400;

impl Excerpt {
    fn new(workspace: &Workspace, id: SourceId, span: Span) -> Self {
        let source = workspace.source(id);
        let line = source.lines().line_of(span.start());
        let whole = source.lines().span(&source.text, line).unwrap_or_default();
        let text = whole.of(&source.text).trim_end_matches(['\n', '\r']);
        let from = (span.start() - whole.start()).min(text.len());
        let to = (span.end().saturating_sub(whole.start())).clamp(from, text.len());
        // Cut a long line to what is around the span, and never inside a character.
        let start =
            if text.len() > LONGEST_LINE { text.floor_char_boundary(from.saturating_sub(LONGEST_LINE / 4)) } else { 0 };
        let end = text.ceil_char_boundary((start + LONGEST_LINE).min(text.len()));
        let to = text.floor_char_boundary(to.min(end)).max(from);
        // What is made visible becomes longer: the places move with it.
        let before = safe(&text[start..from]).into_owned();
        let under = safe(&text[from..to]).into_owned();
        let after = safe(&text[to..end]);
        let (from, to) = (before.len(), before.len() + under.len());
        Self { path: workspace.shown_path(id), text: format!("{before}{under}{after}"), line, from, to }
    }
}
