//! The documentation: its recipes run, and every other block of code is read by what it is for.
//!
//! `YIELDTRAY_UPDATE_DOCS=1 cargo test -p yieldtray --test program docs` writes the output of the recipes anew.

#[cfg(feature = "other-programs")]
mod recipes;

use crate::support::{TestWorkspace, program, run};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A fenced block of a page.
#[derive(Clone, Debug)]
struct Block {
    /// The line of the opening fence, from 1.
    line: usize,
    /// The heading above it.
    heading: String,
    /// The word after the fence.
    kind: String,
    /// The path in the line before it, as in "`requests/a.http`:".
    file: Option<String>,
    text: String,
}

fn blocks(page: &str) -> Vec<Block> {
    let (mut found, mut heading, mut before) = (Vec::new(), String::new(), String::new());
    let mut open: Option<Block> = None;
    for (index, line) in page.lines().enumerate() {
        match (&mut open, line.trim_start().strip_prefix("```")) {
            (Some(_), Some(_)) => {
                found.extend(open.take());
                before.clear();
            }
            (Some(block), None) => {
                let _ = writeln!(block.text, "{line}");
            }
            (None, Some(kind)) => {
                let quoted = before.strip_prefix('`').and_then(|rest| rest.split_once('`'));
                let file = quoted.filter(|(_, after)| after.ends_with(':')).map(|(path, _)| path.to_owned());
                let text = String::new();
                open = Some(Block { line: index + 1, heading: heading.clone(), kind: kind.to_owned(), file, text });
            }
            (None, None) if line.starts_with('#') => line.trim_start_matches(['#', ' ']).clone_into(&mut heading),
            (None, None) if !line.trim().is_empty() => line.clone_into(&mut before),
            (None, None) => {}
        }
    }
    found
}

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

#[test]
fn every_function_is_on_its_page() {
    let page = std::fs::read_to_string(docs().join("functions.md")).expect("a page").replace("\\|", "|");
    let listed = TestWorkspace::empty().run(&["values", "--functions", "--json"]).exits(0).json();
    let all = listed["language"].as_array().expect("a list").clone();
    let calls = all.iter().filter_map(|function| function["call"].as_str());
    let missing: Vec<&str> = calls.filter(|call| !page.contains(&format!("`{call}`"))).collect();
    assert!(all.len() > 100 && missing.is_empty(), "{missing:?}");
}

#[test]
fn every_block_of_code_can_be_read() {
    let mut wrong = Vec::new();
    let folder = docs();
    let pages = std::fs::read_dir(&folder).expect("the docs").flatten().map(|entry| entry.path());
    let top = ["README.md", "CONTRIBUTING.md", "SECURITY.md"].map(|name| folder.join("..").join(name));
    for path in pages.filter(|path| path.extension().is_some_and(|end| end == "md")).chain(top) {
        let page = std::fs::read_to_string(&path).expect("a page");
        let name = path.file_name().expect("a name").to_string_lossy().into_owned();
        // The settings of editors are read by editors.
        for block in blocks(&page).into_iter().filter(|block| name != "editors.md" || block.kind != "toml") {
            if let Err(why) = read(&block) {
                wrong.push(format!("{name}:{} ({}): {why}", block.line, block.heading));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Reads a block by its kind.
fn read(block: &Block) -> Result<(), String> {
    match block.kind.as_str() {
        "http" => {
            let workspace = TestWorkspace::empty().file("a.http", &block.text);
            let listed = workspace.run(&["list", "a.http", "--json"]).json();
            let found = listed["diagnostics"].as_array().cloned().unwrap_or_default();
            // A page may show what is wrong, or only a part of a file.
            let is_part = |code: &str| matches!(code, "no-request" | "misplaced-instruction");
            match found.iter().find(|one| !one["code"].as_str().is_some_and(is_part)) {
                Some(problem) => Err(problem.to_string()),
                None => Ok(()),
            }
        }
        "toml" => {
            let local = block.file.as_deref() == Some("yieldtray.local.toml") || block.text.contains("command = [");
            let name = if local || block.text.contains("[env]") { "yieldtray.local.toml" } else { "yieldtray.toml" };
            let workspace = TestWorkspace::empty().file(name, &block.text).file("requests/.keep", "");
            let shown = workspace.run(&["list"]);
            if shown.code == 0 { Ok(()) } else { Err(shown.stderr) }
        }
        "json" => {
            // Events are shown a line each, shortened by `…`.
            let mut lines = block.text.lines().filter(|line| !line.contains('…'));
            let whole = serde_json::from_str::<serde_json::Value>(&block.text).is_ok();
            match whole || lines.all(|line| serde_json::from_str::<serde_json::Value>(line).is_ok()) {
                true => Ok(()),
                false => Err("not JSON".to_owned()),
            }
        }
        "sh" => block.text.lines().try_for_each(command_line),
        "console" | "text" | "yaml" | "lua" | "elisp" | "toml5" | "vim" | "jsonc" => Ok(()),
        other => Err(format!("no kind of block is read as `{other}`")),
    }
}

/// Lets the program read the arguments of a line that begins with its name.
fn command_line(line: &str) -> Result<(), String> {
    let line = line.trim_start_matches("$ ").trim();
    // After `--` everything belongs to another program.
    if !line.starts_with("yieldtray ") || line.contains(" -- ") {
        return Ok(());
    }
    // Up to what is the shell's.
    let command = line.split(" | ").next().unwrap_or_default().split(" && ").next().unwrap_or_default();
    let command = command.split(" # ").next().unwrap_or_default().split(" > ").next().unwrap_or_default();
    let command = command.split(" < ").next().unwrap_or_default().split(" || ").next().unwrap_or_default();
    let rest = command.strip_prefix("yieldtray").unwrap_or_default();
    let mut shell = Command::new("sh");
    shell.arg("-c").arg(format!("'{}'{rest} --help", program().display()));
    let shown = run(shell, "");
    if shown.code == 0 { Ok(()) } else { Err(format!("`{line}`: {}", shown.stderr)) }
}
