//! Paths into values, as far as they are written.

/// Whether an expression so far ends inside a text.
pub(super) fn in_string(written: &str) -> bool {
    let (mut quote, mut escaped) = (None, false);
    for c in written.chars() {
        match (quote, c) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(own), c) if own == c => quote = None,
            (None, '"' | '\'') => quote = Some(c),
            _ => {}
        }
    }
    quote.is_some()
}

/// Where the path begins that an expression so far ends with: names, dots and constant indices.
pub(super) fn path_start(written: &str) -> usize {
    let bytes = written.as_bytes();
    let mut at = bytes.len();
    while at > 0 {
        match bytes[at - 1] {
            b if b.is_ascii_alphanumeric() || b == b'_' || b == b'.' => at -= 1,
            b']' => match written[..at].rfind('[') {
                Some(open) => at = open,
                None => break,
            },
            _ => break,
        }
    }
    at
}

pub(super) enum Step<'p> {
    Member(&'p str),
    Index(usize),
}

pub(super) fn split_root(path: &str) -> (&str, &str) {
    let end = path.find(['.', '[']).unwrap_or(path.len());
    path.split_at(end)
}

/// The steps of `.lots[0].id`.
pub(super) fn steps(mut rest: &str) -> Vec<Step<'_>> {
    let mut steps = Vec::new();
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix('.') {
            let end = after.find(['.', '[']).unwrap_or(after.len());
            steps.push(Step::Member(&after[..end]));
            rest = &after[end..];
        } else if let Some((inside, after)) = rest.strip_prefix('[').and_then(|inside| inside.split_once(']')) {
            steps.push(match inside.parse() {
                Ok(index) => Step::Index(index),
                Err(_) => Step::Member(inside.trim_matches(['"', '\''])),
            });
            rest = after;
        } else {
            break;
        }
    }
    steps
}

/// The list of the loop whose variable is `local`: `body.lots` in `body.lots.exists(l, l.`
pub(super) fn looped<'e>(written: &'e str, local: &str) -> Option<&'e str> {
    let loops = ["all", "exists", "exists_one", "filter", "map"];
    let places = loops.iter().filter_map(|name| {
        let open = format!(".{name}({local},");
        written.rfind(&open)
    });
    let at = places.max()?;
    Some(&written[path_start(&written[..at])..at])
}
