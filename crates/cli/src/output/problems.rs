//! Problems as a person reads them: the place, the line underlined, a hint.

use crate::settings::OutputSettings;
use crate::styles::Styles;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use std::borrow::Cow;
use std::path::Path;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::escape::{escape_line, escape_terminal};
use yieldtray_source::{Code, Problem, Severity, SourceId, Span};
use yieldtray_workspace::config::redact_keeping_offsets;
use yieldtray_workspace::{SourceFile, Workspace};

/// A problem with its source line.
pub(crate) fn snippet(workspace: &Workspace, problem: &Problem, styles: Styles) -> String {
    let message = escape_line(&problem.message);
    let title = level(problem.severity).primary_title(message).id(problem.code.as_str());
    let mut lines = Vec::new();
    if let Some(source) = problem.source {
        let excerpt = SnippetSource::new(workspace, source, problem.span, problem.code);
        lines.push((excerpt, AnnotationKind::Primary, None));
    }
    if let Some(related) = &problem.related {
        let excerpt = SnippetSource::new(workspace, related.source, related.span, problem.code);
        lines.push((excerpt, AnnotationKind::Context, Some(related.message.as_str())));
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
        Some(hint) => group.element(Level::HELP.with_name("hint").message(escape_line(hint))),
        None => group,
    };
    // A blank line separates problems.
    format!("{}\n", renderer(styles).render(&[group]))
}

/// Problems with their source lines; only the errors if `settings` are quiet.
pub(crate) fn snippets(workspace: &Workspace, problems: &[Problem], settings: &OutputSettings) -> Vec<String> {
    let shown = problems.iter().filter(|problem| problem.is_error() || !settings.quiet);
    shown.map(|problem| snippet(workspace, problem, settings.error_styles)).collect()
}

/// An error without a place.
pub(crate) fn error(code: Option<&str>, message: &str, hint: Option<&str>, styles: Styles) -> String {
    placeless(&styles.bad("error"), code, message, hint, styles)
}

/// A warning without a place.
pub(crate) fn warning(code: &str, message: &str, hint: Option<&str>, styles: Styles) -> String {
    placeless(&styles.warn("warning"), Some(code), message, hint, styles)
}

fn placeless(level: &str, code: Option<&str>, message: &str, hint: Option<&str>, styles: Styles) -> String {
    let code = code.map(|code| format!("[{code}]")).unwrap_or_default();
    let hint = hint.map(|hint| format!("\n{} {}", styles.strong("hint:"), escape_line(hint))).unwrap_or_default();
    format!("{level}{code}: {}{hint}", escape_line(message))
}

fn level(weight: Severity) -> Level<'static> {
    match weight {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Info => Level::INFO,
    }
}

fn renderer(styles: Styles) -> Renderer {
    if styles.has_color() { Renderer::styled() } else { Renderer::plain() }
}

/// The line a span begins in, cut out of the whole text: a file may be large.
struct SnippetSource {
    path: String,
    text: String,
    line: usize,
    from: usize,
    to: usize,
}

/// A line longer than this is cut around the span.
const MAX_LINE_CHARS: usize = 400;

impl SnippetSource {
    fn new(workspace: &Workspace, id: SourceId, span: Span, code: Code) -> Self {
        let source = workspace.source(id);
        let line = source.lines().line_of(span.start());
        let whole = source.lines().span(&source.text, line).unwrap_or_default();
        let text = &*without_secrets(source, whole, span, code);
        let from = (span.start() - whole.start()).min(text.len());
        let to = (span.end().saturating_sub(whole.start())).clamp(from, text.len());
        // Cut a long line to what is around the span, and never inside a character.
        let start = if text.len() > MAX_LINE_CHARS {
            text.floor_char_boundary(from.saturating_sub(MAX_LINE_CHARS / 4))
        } else {
            0
        };
        let end = text.ceil_char_boundary((start + MAX_LINE_CHARS).min(text.len()));
        let to = text.floor_char_boundary(to.min(end)).max(from);
        // Escaping makes text longer: the positions move with it.
        let before = escape_terminal(&text[start..from]).into_owned();
        let under = escape_terminal(&text[from..to]).into_owned();
        let after = escape_terminal(&text[to..end]);
        let (from, to) = (before.len(), before.len() + under.len());
        Self { path: workspace.shown_path(id), text: format!("{before}{under}{after}"), line, from, to }
    }
}

/// A line as it is shown, its places where they were: of the private configuration nobody sees a value, of a line with a
/// secret in it only what it begins with, of a shell command only the option that is spoken of. Where it is written down,
/// others may read it.
fn without_secrets(source: &SourceFile, line: Span, span: Span, code: Code) -> Cow<'_, str> {
    let own = line.of(&source.text).trim_end_matches(['\n', '\r']);
    let shared = source.path == Path::new(CONFIG_FILE);
    if source.path == Path::new(LOCAL_FILE) || code == Code::SecretInFile && shared {
        return Cow::Owned(redact_keeping_offsets(&source.text)[line.start()..line.start() + own.len()].to_owned());
    }
    if !matches!(code, Code::SecretInFile | Code::ShellCommand) {
        return Cow::Borrowed(own);
    }
    let indent = own.len() - own.trim_start().len();
    let first = own[indent..].find(' ').map_or("", |end| &own[indent..=indent + end]);
    let visible_until = if code == Code::SecretInFile || first == "curl " { indent + first.len() } else { indent };
    // Words stay apart, so that it can be seen which is meant.
    let covered: String = own[visible_until..].bytes().map(|byte| if byte == b' ' { ' ' } else { '*' }).collect();
    let mut shown = format!("{}{covered}", &own[..visible_until]);
    let option = span.of(&source.text).split(['=', ' ', '\t', '\r', '\n']).next().filter(|word| word.starts_with('-'));
    if let (Code::ShellCommand, Some(option)) = (code, option) {
        let at = span.start() - line.start();
        shown.replace_range(at..at + option.len(), option);
    }
    Cow::Owned(shown)
}
