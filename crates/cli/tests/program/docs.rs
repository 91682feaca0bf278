//! The documentation: its recipes run, and every other block of code is read by what it is for.
//!
//! `YIELDTRAY_UPDATE_DOCS=1 cargo test -p yieldtray --test program docs` writes the output of the recipes anew.

use crate::support::{TestWorkspace, program, redact::Redaction, run};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use yieldtray_packhouse::{Packhouse, Server};

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

/// The pages whose recipes run.
fn pages() -> [PathBuf; 2] {
    [docs().join("cookbook.md"), docs().join("../README.md")]
}

/// A workspace for the recipe of a section, beside the sample API.
struct Recipe {
    workspace: TestWorkspace,
    _servers: [Packhouse; 2],
    ports: [u16; 2],
}

/// The port that the pages show.
const SHOWN_PORTS: [&str; 2] = [":4616", ":9027"];

impl Recipe {
    fn new(files: &[&Block]) -> Self {
        let servers = [Server::Local, Server::Production].map(|server| Packhouse::start(server).expect("a packhouse"));
        let ports = [servers[0].address().port(), servers[1].address().port()];
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
        let read = |name: &str| std::fs::read_to_string(demo.join(name)).expect("a file of the demo");
        let config = read("yieldtray.toml")
            .replace("http://local.invalid", &servers[0].base())
            .replace("http://production.invalid", &servers[1].base());
        let mut recipe = Self { workspace: TestWorkspace::empty(), _servers: servers, ports };
        recipe.workspace = recipe.workspace.file("yieldtray.toml", &config);
        recipe.workspace = recipe.workspace.file("openapi.json", yieldtray_packhouse::OPENAPI);
        recipe.workspace = recipe.workspace.file("yieldtray.local.toml", &read("yieldtray.local.toml"));
        recipe.workspace =
            recipe.workspace.file(".gitignore", "/yieldtray.local.toml\n.yieldtray/\n").file("requests/.keep", "");
        for block in files {
            let text = recipe.with_ports(&block.text);
            recipe.workspace = recipe.workspace.file(block.file.as_deref().expect("a path"), &text);
        }
        recipe
    }

    /// A text of a page with the ports of this run.
    fn with_ports(&self, text: &str) -> String {
        let own = self.ports.map(|port| format!(":{port}"));
        text.replace(SHOWN_PORTS[0], &own[0]).replace(SHOWN_PORTS[1], &own[1])
    }

    /// The output of the commands of a block, each after its line.
    fn run(&self, block: &Block) -> String {
        let mut shown = String::new();
        for line in block.text.lines().filter_map(|line| line.strip_prefix("$ ")) {
            let mut command = Command::new("sh");
            command.arg("-c").arg(format!("({}) 2>&1", self.with_ports(line)));
            command.current_dir(self.workspace.path());
            let own = program();
            let path = std::env::var_os("PATH").unwrap_or_default();
            let folders = own.parent().map(Path::to_owned).into_iter().chain(std::env::split_paths(&path));
            command.env("PATH", std::env::join_paths(folders).expect("a path"));
            command.env("XDG_STATE_HOME", self.workspace.home());
            command.env_remove("YIELDTRAY_ENV").env_remove("YIELDTRAY_ALLOW").env_remove("NO_COLOR");
            let output = run(command, "");
            let _ = write!(shown, "$ {line}\n{}", output.stdout);
            if !shown.ends_with('\n') {
                shown.push('\n');
            }
        }
        let folder = self.workspace.path().canonicalize().expect("it is there").display().to_string();
        let shown = shown.replace(&folder, "~/packhouse");
        let own = self.ports.map(|port| format!(":{port}"));
        shown.replace(&own[0], SHOWN_PORTS[0]).replace(&own[1], SHOWN_PORTS[1])
    }
}

/// Without what differs from run to run.
fn comparable(text: &str) -> String {
    let redacted = Redaction::new("/nowhere".to_owned(), None).apply(text);
    // Times have different widths, so the spaces before them do not count.
    redacted.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ") + "\n").collect()
}

#[cfg(feature = "other-programs")]
#[test]
fn the_recipes_print_what_their_pages_show() {
    let mut wrong = String::new();
    for path in pages() {
        let page = std::fs::read_to_string(&path).expect("a page");
        let all = blocks(&page);
        let mut updated = page.clone();
        let mut recipe: Option<(String, Recipe)> = None;
        for block in all.iter().filter(|block| block.kind == "console") {
            let is_open = recipe.as_ref().is_some_and(|(heading, _)| *heading == block.heading);
            if !is_open {
                let of_section = |other: &&Block| other.heading == block.heading && other.file.is_some();
                recipe = Some((block.heading.clone(), Recipe::new(&all.iter().filter(of_section).collect::<Vec<_>>())));
            }
            let Some((_, open)) = &recipe else { continue };
            let shown = open.run(block);
            if comparable(&shown) != comparable(&block.text) {
                let _ = writeln!(wrong, "{}:{}\n{shown}", path.display(), block.line);
                updated = updated.replace(&block.text, &shown);
            }
        }
        if std::env::var_os("YIELDTRAY_UPDATE_DOCS").is_some() {
            std::fs::write(&path, updated).expect("a page can be written");
        }
    }
    assert_eq!(wrong, "", "the pages show something else; YIELDTRAY_UPDATE_DOCS=1 writes them anew");
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
                wrong.push(format!("{name}:{}: {why}", block.line));
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
            let is_part = |code: &str| matches!(code, "unsupported" | "no-request" | "misplaced-instruction");
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
