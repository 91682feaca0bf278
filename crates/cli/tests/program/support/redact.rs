//! Replaces what differs from run to run in an output. Each kind has its own form, as wide as what it replaces, so that
//! columns stay where they are.

use regex::{Captures, Regex};

/// The kind of a replaced text.
#[derive(Clone, Copy, Debug)]
enum Kind {
    /// A port, digit by digit.
    Port,
    /// How long ago something was: `# ago`.
    Age,
    /// A duration: `# ms`.
    Duration,
    /// The bar of a timeline, whose length is a time.
    Bar,
    /// A date, a time, or both, digit by digit.
    Date,
    /// The name of a day or a month in a date.
    DateName,
    /// A digest, a commit, a UUID or the boundary of a form, digit by digit.
    Hex,
    /// The version of the program.
    Version,
}

/// The patterns, in the order in which they are applied.
const RULES: &[(Kind, &str)] = &[
    (Kind::DateName, r"\b(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun), \d\d (?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)\b"),
    (Kind::Date, r"(?:# ###|\b\d{4}-\d\d-\d\d)(?:[ T]\d{4})?(?:[ T]\d\d:\d\d:\d\d(?:\.\d+)?)"),
    (Kind::Age, r"\bjust now\b|\b\d+ (?:s|min) ago\b"),
    (Kind::Duration, r#" *<?\b\d+(?:\.\d+)? (?:ms|s)\b|"(?:elapsed_ms|started|connect|wait|receive)":\d+(?:\.\d+)?"#),
    (Kind::Bar, r" *━+"),
    (Kind::Hex, r"\b[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}\b|\b[0-9a-f]{16,}\b"),
    (Kind::Version, r"\byieldtray[/ ]\d+\.\d+\.\d+\b"),
];

/// The redaction of the output of one workspace.
pub struct Redaction {
    folder: String,
    port: Option<u16>,
    rules: Vec<(Kind, Regex)>,
}

impl Redaction {
    /// The redaction for a workspace in `folder` beside a server at `port`.
    pub fn new(folder: String, port: Option<u16>) -> Self {
        let rules = RULES.iter().map(|(kind, pattern)| (*kind, Regex::new(pattern).expect("a pattern"))).collect();
        Self { folder, port, rules }
    }

    /// A text with everything replaced. The folder, which is in no column, becomes `FOLDER`.
    pub fn apply(&self, text: &str) -> String {
        let mut text = text.replace(&self.folder, "FOLDER");
        if let Some(port) = self.port {
            text = text.replace(&format!(":{port}"), &format!(":{}", Kind::Port.replacement(&port.to_string())));
        }
        for (kind, pattern) in &self.rules {
            text = pattern.replace_all(&text, |found: &Captures<'_>| kind.replacement(&found[0])).into_owned();
        }
        text
    }
}

impl Kind {
    fn replacement(self, found: &str) -> String {
        match self {
            Kind::Port | Kind::Hex => found.chars().map(|c| if c == '-' { '-' } else { '#' }).collect(),
            Kind::Date => found.chars().map(|c| if c.is_ascii_digit() { '#' } else { c }).collect(),
            Kind::DateName => found.chars().map(|c| if c.is_ascii_alphanumeric() { '#' } else { c }).collect(),
            Kind::Version => found.chars().map(|c| if c.is_ascii_digit() { '#' } else { c }).collect(),
            Kind::Bar => String::new(),
            Kind::Duration if found.starts_with('"') => {
                let (name, _) = found.split_once(':').expect("a member");
                format!("{name}:0")
            }
            // In its column a time is aligned right, and has at least nine places with the spaces before it.
            Kind::Duration if found.chars().count() >= 9 => format!("{:>1$}", "# ms", found.chars().count()),
            // Elsewhere as many spaces precede it as separate any two parts.
            Kind::Duration if found.starts_with("  ") => "  # ms".to_owned(),
            Kind::Duration if found.starts_with(' ') => " # ms".to_owned(),
            Kind::Duration => "# ms".to_owned(),
            Kind::Age => "# ago".to_owned(),
        }
    }
}
