//! The recipes of the documentation run.

use super::{Block, blocks, docs};
use crate::support::{TestWorkspace, program, redact::Redaction, run};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use yieldtray_packhouse::{Packhouse, Server};

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
