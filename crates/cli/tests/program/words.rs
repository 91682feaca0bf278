//! The vocabulary: messages, help and documentation use the terms of CONTRIBUTING.md.

use regex::Regex;
use std::path::{Path, PathBuf};

/// Banned words, and what to write instead.
const BANNED: &[(&str, &str)] = &[
    (r"\b(mistake|remark)s?\[", "error[, warning["),
    (r"\bremarks?\b", "warning, info"),
    (r"\b(told|tells)\b", "reports, prints"),
    (r"\bstands?\b", "is"),
    (r"\b(nobody|whoever)\b", "the passive voice, or `you`"),
    (r"\bis no (URL|file|number|JSON|name|valid|request|XPath|duration|method|command)\b", "is not a …"),
    (r"\blacks\b", "is missing"),
    (r"\bso (many|much)\b", "at most N"),
    (r"\bmade[- ]up\b", "generated"),
    (r"\bslips?\b", "typo"),
    (r"\b(the|an|its|no|last) answers?\b", "response"),
    (r"\b(a|no|leading) blanks?\b", "space, empty"),
    (r"\b(laid|lays?) out\b", "format"),
    (r"\bin vain\b|\bwith words\b", "say what happens"),
    (r"\bhand(s|ed|ing)? over\b", "export"),
    (r"\btruth value\b", "boolean"),
    (r"\bworked out\b", "evaluated"),
    (r"\bheader fields?\b", "header"),
    (r"\b(colour|licence|behaviour|labelled\b)", "American spelling"),
    (r"\bno finding\b|\bfindings\b", "diagnostic"),
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn files(folder: &Path, end: &str, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).expect("a directory").flatten() {
        let (path, name) = (entry.path(), entry.file_name());
        if path.is_dir() {
            let is_ours = !["target", "node_modules", "tests", "benches", "examples"].iter().any(|own| name == *own);
            if is_ours {
                files(&path, end, found);
            }
        } else if path.extension().is_some_and(|own| own == end) {
            found.push(path);
        }
    }
}

/// The texts of a source file that people read: string literals with at least two words, and the help of arguments.
fn literals(path: &Path, source: &str) -> Vec<(usize, String)> {
    let literal = Regex::new(r#""((?:\\.|[^"\\])*)""#).expect("a pattern");
    let is_help = path.components().any(|part| part.as_os_str() == "args");
    let end = source.find("#[cfg(test)]\nmod tests {").unwrap_or(source.len());
    let mut found = Vec::new();
    for (index, line) in source[..end].lines().enumerate() {
        let text = line.trim_start();
        match text.strip_prefix("///") {
            Some(help) if is_help => found.push((index + 1, help.to_owned())),
            _ if text.starts_with("//") => {}
            _ => found.extend(literal.captures_iter(line).map(|one| (index + 1, one[1].to_owned()))),
        }
    }
    found.retain(|(_, text)| text.trim().contains(' '));
    found
}

#[test]
fn people_read_plain_words() {
    let root = root();
    let mut texts: Vec<(String, usize, String)> = Vec::new();
    let mut sources = Vec::new();
    files(&root.join("crates"), "rs", &mut sources);
    let skipped = ["packhouse", "test-support"];
    sources.retain(|path| !skipped.iter().any(|name| path.components().any(|part| part.as_os_str() == *name)));
    sources.retain(|path| !path.file_name().is_some_and(|name| name.to_string_lossy().ends_with("tests.rs")));
    for path in sources {
        let source = std::fs::read_to_string(&path).expect("a source");
        let name = path.strip_prefix(&root).unwrap_or(&path).display().to_string();
        texts.extend(literals(&path, &source).into_iter().map(|(line, text)| (name.clone(), line, text)));
    }
    let mut pages = vec![root.join("README.md"), root.join("SECURITY.md")];
    files(&root.join("docs"), "md", &mut pages);
    for path in pages {
        let page = std::fs::read_to_string(&path).expect("a page");
        let name = path.strip_prefix(&root).unwrap_or(&path).display().to_string();
        // For contributors; its words are those of the code.
        if !name.ends_with("architecture.md") && !name.ends_with("performance.md") {
            texts.extend(page.lines().enumerate().map(|(index, line)| (name.clone(), index + 1, line.to_owned())));
        }
    }
    assert!(texts.len() > 3_000, "{} texts", texts.len());
    let banned: Vec<(Regex, &str)> =
        BANNED.iter().map(|(pattern, instead)| (Regex::new(pattern).expect("a pattern"), *instead)).collect();
    let mut wrong = Vec::new();
    for (name, line, text) in &texts {
        for (pattern, instead) in &banned {
            if let Some(found) = pattern.find(text) {
                wrong.push(format!("{name}:{line}: `{}`: write {instead}: {}", found.as_str(), text.trim()));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
