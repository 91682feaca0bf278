//! The topics of `help`: pages of the documentation, which are part of the program.

/// The topics: name, one line about it, and its page.
const TOPICS: &[(&str, &str, &str)] = &[
    ("language", "the request files on one page", include_str!("../../../docs/cheat-sheet.md")),
    ("config", "the keys of yieldtray.toml", include_str!("../../../docs/configuration-reference.md")),
    ("environment", "environment variables", include_str!("../../../docs/environment-variables.md")),
    ("functions", "the functions of expressions", include_str!("../../../docs/functions.md")),
    ("diagnostics", "the codes of errors and warnings", include_str!("../../../docs/diagnostics.md")),
    ("exit-codes", "the exit codes", include_str!("../../../docs/exit-codes.md")),
];

/// The names of the topics, each with a line about it.
pub(crate) fn topics() -> impl Iterator<Item = (&'static str, &'static str)> {
    TOPICS.iter().map(|(name, about, _)| (*name, *about))
}

/// The page of a topic.
pub(crate) fn page(topic: &str) -> Option<&'static str> {
    TOPICS.iter().find(|(name, ..)| *name == topic).map(|(.., page)| *page)
}
