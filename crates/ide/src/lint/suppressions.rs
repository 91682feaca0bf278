//! Suppressions: `# accepted CODE, …: reason`. The comment applies to the line below it; above a `%%` line to the
//! cell; with a blank line below it to the cell it is in, and before the first cell to the whole file.

use yieldtray_source::{Code, Problem, SourceId, Span, closest};
use yieldtray_syntax::{InstructionKind, Item, RequestFile};
use yieldtray_workspace::Workspace;

const WORD: &str = "# accepted";

/// One code of one comment.
struct Accepted {
    source: SourceId,
    code: Code,
    /// The span of the code.
    at: Span,
    /// Where it holds.
    context: Span,
    /// Whether a finding was left out for it.
    used: bool,
}

/// Leaves out what was accepted in `sources`, and says where that cannot be read or meets nothing.
pub(super) fn apply(workspace: &Workspace, sources: impl Iterator<Item = SourceId>, problems: &mut Vec<Problem>) {
    let (mut accepted, mut own) = (Vec::new(), Vec::new());
    for source in sources {
        // Most files have none, and need no more than this to know it.
        if memchr::memmem::find(workspace.source(source).text.as_bytes(), WORD.as_bytes()).is_some() {
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
        let message = format!("there is no `{}` here to accept", one.code.as_str());
        let problem = Problem::warning(Code::NeedlessAcceptance, one.at, message);
        problem.with_hint("remove it from the comment").in_source(one.source)
    }));
}

fn read(workspace: &Workspace, source: SourceId, accepted: &mut Vec<Accepted>, problems: &mut Vec<Problem>) {
    let own = workspace.source(source);
    let text = &own.text;
    let mut take = |comment: Span, context: Span| {
        let line = comment.of(text).trim_end();
        let Some(rest) = line.strip_prefix(WORD).filter(|rest| rest.is_empty() || rest.starts_with([' ', ':'])) else {
            return;
        };
        let bad = |at: Span, message: &str, hint: &str| {
            Problem::warning(Code::BadAcceptance, at, message).with_hint(hint).in_source(source)
        };
        const EXAMPLE: &str = "write it as in `# accepted unused-yield: read by the night shift`";
        let (codes, reason) = rest.split_once(':').unwrap_or((rest, ""));
        let list = Span::new(comment.start() + WORD.len(), comment.start() + WORD.len() + codes.len());
        if reason.trim().is_empty() {
            return problems.push(bad(comment.part(0, line.len()), "it is accepted without a reason", EXAMPLE));
        }
        for at in InstructionKind::list(list, text) {
            let name = at.of(text);
            match Code::named(name) {
                Some(code) => accepted.push(Accepted { source, code, at, context, used: false }),
                None => {
                    let problem = bad(at, &format!("no finding is named `{name}`"), EXAMPLE);
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
    lines.filter(|line| line.of(text).starts_with(WORD)).collect()
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
