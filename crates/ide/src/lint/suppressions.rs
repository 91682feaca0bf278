//! Suppressions: `# allow CODE, …: reason`. The comment applies to the line below it; above a `%%` line to the
//! cell; with a blank line below it to the cell it is in, and before the first cell to the whole file.

use yieldtray_source::{Code, Problem, SourceId, Span, closest};
use yieldtray_syntax::{InstructionKind, Item, RequestFile};
use yieldtray_workspace::Workspace;

const WORD: &str = "# allow";
/// The word before version 0.2.
const FORMER_WORD: &str = "# accepted";

/// One code of one comment.
struct Suppression {
    source: SourceId,
    code: Code,
    /// The span of the code.
    at: Span,
    /// Where it holds.
    context: Span,
    /// True if it suppressed a diagnostic.
    used: bool,
}

/// Removes the diagnostics that comments in `sources` suppress; reports comments that are invalid or suppress nothing.
pub(super) fn apply(workspace: &Workspace, sources: impl Iterator<Item = SourceId>, problems: &mut Vec<Problem>) {
    let (mut accepted, mut own) = (Vec::new(), Vec::new());
    for source in sources {
        // Most files have none, and need no more than this to know it.
        let text = workspace.source(source).text.as_bytes();
        if [WORD, FORMER_WORD].iter().any(|word| memchr::memmem::find(text, word.as_bytes()).is_some()) {
            read(workspace, source, &mut accepted, &mut own);
        }
    }
    if accepted.is_empty() && own.is_empty() {
        return;
    }
    problems.retain(|problem| {
        let mut remains = true;
        for one in &mut accepted {
            let holds = Some(one.source) == problem.source && one.code == problem.code;
            if holds && one.context.start() <= problem.span.start() && problem.span.start() <= one.context.end() {
                one.used = true;
                remains = false;
            }
        }
        remains
    });
    problems.append(&mut own);
    problems.extend(accepted.into_iter().filter(|one| !one.used).map(|one| {
        let message = format!("no `{}` diagnostic to suppress here", one.code.as_str());
        let problem = Problem::warning(Code::UnusedSuppression, one.at, message);
        problem.with_hint("remove it from the comment").in_source(one.source)
    }));
}

fn read(workspace: &Workspace, source: SourceId, accepted: &mut Vec<Suppression>, problems: &mut Vec<Problem>) {
    let own = workspace.source(source);
    let text = &own.text;
    let mut take = |comment: Span, context: Span| {
        let line = comment.of(text).trim_end();
        let Some((word, rest)) = suppression(line) else { return };
        let bad = |at: Span, message: &str, hint: &str| {
            Problem::warning(Code::BadSuppression, at, message).with_hint(hint).in_source(source)
        };
        const EXAMPLE: &str = "for example `# allow unused-yield: read by the night shift`";
        let (codes, reason) = rest.split_once(':').unwrap_or((rest, ""));
        let list = Span::new(comment.start() + word.len(), comment.start() + word.len() + codes.len());
        if reason.trim().is_empty() {
            return problems.push(bad(comment.part(0, line.len()), "the suppression has no reason", EXAMPLE));
        }
        for at in InstructionKind::list(list, text) {
            let name = at.of(text);
            match Code::named(name) {
                Some(code) => accepted.push(Suppression { source, code, at, context, used: false }),
                None => {
                    let problem = bad(at, &format!("unknown diagnostic code `{name}`"), EXAMPLE);
                    let meant = closest(name, Code::ALL.iter().map(|code| code.as_str()));
                    problems.push(match meant {
                        Some(meant) => problem.did_you_mean(meant),
                        None => problem,
                    });
                }
            }
        }
    };
    for comment in comments(text, &own.file) {
        take(comment, context(text, &own.file, comment));
    }
}

/// The comment lines of a text: of a request file those of its tree, of a configuration those that begin so.
fn comments(text: &str, file: &RequestFile) -> Vec<Span> {
    let all = file.preamble.iter().chain(file.cells.iter().flat_map(|cell| &cell.items));
    let of_tree: Vec<Span> = all
        .filter_map(|item| match item {
            Item::Comment(span) => Some(*span),
            _ => None,
        })
        .collect();
    if !of_tree.is_empty() || !file.cells.is_empty() || !file.preamble.is_empty() {
        return of_tree;
    }
    let mut at = 0;
    let lines = text.split_inclusive('\n').map(|line| {
        at += line.len();
        Span::new(at - line.len(), at - line.len() + line.trim_end().len())
    });
    lines.filter(|line| suppression(line.of(text)).is_some()).collect()
}

/// The word of a suppression, and the text after it. A comment that only happens to begin with the word is none: the first
/// word after it must look like a code.
fn suppression(line: &str) -> Option<(&'static str, &str)> {
    let after = |word: &'static str| line.strip_prefix(word).map(|rest| (word, rest));
    if let Some((word, rest)) = after(FORMER_WORD) {
        return (rest.is_empty() || rest.starts_with([' ', ':'])).then_some((word, rest));
    }
    let (word, rest) = after(WORD)?;
    let first = rest.trim_start().split([' ', ',', ':']).next().unwrap_or_default();
    (rest.starts_with(' ') && (first.contains('-') || Code::named(first).is_some())).then_some((word, rest))
}

/// Where a comment holds.
fn context(text: &str, file: &RequestFile, comment: Span) -> Span {
    let mut at = comment.end();
    loop {
        let start = text[at..].find('\n').map_or(text.len(), |end| at + end + 1);
        let end = text[start..].find('\n').map_or(text.len(), |end| start + end);
        let line = &text[start..end];
        // Comments below belong to it.
        if line.starts_with('#') && start < text.len() {
            at = end;
            continue;
        }
        let cell_at =
            |place: usize| file.cells.iter().find(|cell| cell.span.start() <= place && place < cell.span.end());
        return if line.trim().is_empty() {
            cell_at(comment.start()).map_or(Span::new(0, text.len()), |cell| cell.span)
        } else if line.starts_with("%%") {
            cell_at(start).map_or(Span::new(start, end), |cell| cell.span)
        } else {
            let body = file.cells.iter().map(|cell| cell.body).find(|body| body.start() == start);
            body.unwrap_or(Span::new(start, end))
        };
    }
}
