//! The rules of `docs/architecture.md` that a compiler does not check: which crate may use which, which third-party
//! crate has which home, that modules of a crate form no cycle, and that what has no input and output has none.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The crates from the lowest to the highest, each with those it may use. All are above those that they use.
const CRATES: &[(&str, &[&str])] = &[
    ("source", &[]),
    ("store", &[]),
    ("packhouse", &[]),
    ("syntax", &["source"]),
    ("cel", &["source"]),
    ("expression", &["source", "cel"]),
    ("http", &["source"]),
    ("credentials", &["source", "http"]),
    ("transport", &["source", "http", "credentials"]),
    ("description", &["source", "cel", "expression", "http"]),
    ("workspace", &["source", "syntax", "expression", "http", "credentials", "description"]),
    ("engine", &["source", "syntax", "expression", "http", "credentials", "workspace"]),
    ("report", &["source", "expression", "http", "description", "workspace", "engine"]),
    ("interchange", &["source", "syntax", "expression", "http", "description", "workspace"]),
    ("ide", &["source", "syntax", "expression", "http", "description", "workspace", "interchange"]),
    ("lsp", &["source", "syntax", "expression", "http", "workspace", "engine", "interchange", "ide"]),
    ("test-support", &["source", "expression", "http", "credentials", "workspace", "engine"]),
    (
        "cli",
        &[
            "source",
            "syntax",
            "expression",
            "http",
            "credentials",
            "transport",
            "description",
            "workspace",
            "engine",
            "report",
            "interchange",
            "ide",
            "lsp",
            "store",
            "packhouse",
        ],
    ),
];

/// Third-party crates that any crate may use: types and small helpers that appear in the signatures of several.
const COMMON: &[&str] = &[
    "base64",
    "blake3",
    "bytes",
    "chrono",
    "memchr",
    "percent-encoding",
    "rustc-hash",
    "serde",
    "serde_json",
    "sha2",
    "thiserror",
    "url",
];

/// Every other third-party crate, with its home. Where one has several, each uses another part of it.
const HOMES: &[(&str, &[&str])] = &[
    ("age", &["cli"]),
    ("aho-corasick", &["workspace"]),
    ("annotate-snippets", &["cli"]),
    ("anstyle", &["cli"]),
    ("anyhow", &["cli"]),
    ("async-compression", &["transport"]),
    // Reading and validating GraphQL, and in the packhouse executing it.
    ("apple-native-keyring-store", &["cli"]),
    ("apollo-compiler", &["description", "packhouse"]),
    ("axum", &["packhouse"]),
    ("clap", &["cli"]),
    ("clap_complete", &["cli"]),
    ("clap_mangen", &["cli"]),
    ("cookie_store", &["transport"]),
    // Tables of rows in files, and tables in bodies.
    ("csv", &["workspace", "http"]),
    ("dbus-secret-service-keyring-store", &["cli"]),
    ("dialoguer", &["cli"]),
    ("digest_auth", &["transport"]),
    ("dotenvy", &["cli"]),
    ("encoding_rs", &["http"]),
    ("fake", &["expression"]),
    // The random source of expressions, and its seed.
    ("fastrand", &["expression", "cli"]),
    ("flate2", &["packhouse"]),
    // Streams of bytes, in servers, clients and the loop of a run.
    ("futures-util", &["transport", "packhouse", "cli"]),
    ("hmac", &["expression"]),
    ("http-body", &["transport"]),
    ("hyper", &["packhouse", "transport"]),
    ("hyper-rustls", &["transport"]),
    ("hyper-util", &["packhouse", "transport"]),
    // Not used in code: its version is chosen here.
    ("idna_adapter", &["transport"]),
    ("ignore", &["cli"]),
    ("imagesize", &["http"]),
    ("indicatif", &["cli"]),
    ("indexmap", &["cel"]),
    ("jiff", &["cel"]),
    ("jsonschema", &["expression"]),
    ("keyring-core", &["cli"]),
    ("lsp-types", &["lsp"]),
    ("maud", &["report"]),
    ("mime_guess", &["workspace"]),
    ("minijinja", &["interchange"]),
    ("notify", &["cli"]),
    // Keys of people, and in tests those of clients.
    ("p12-keystore", &["credentials", "packhouse"]),
    ("pkcs8", &["credentials"]),
    ("png", &["packhouse"]),
    ("psl", &["transport"]),
    ("pulldown-cmark", &["cli"]),
    // Reads bodies in XML, and writes reports in it.
    ("quick-xml", &["expression", "report"]),
    ("rand", &["expression"]),
    ("rcgen", &["packhouse"]),
    // Patterns in expressions, entities of XML, and patterns in descriptions of APIs.
    ("regex", &["cel", "expression", "description", "interchange"]),
    ("regex-syntax", &["description"]),
    ("reqwest", &["transport"]),
    // Sealing the state, signatures and random texts, digests of bodies, and in the packhouse what verifies them.
    ("ring", &["store", "credentials", "transport", "packhouse"]),
    ("rusqlite", &["store"]),
    // File modes of the state, and the terminal.
    ("rustix", &["store", "cli"]),
    ("rustls", &["transport"]),
    ("rustls-pki-types", &["credentials"]),
    ("rustls-native-certs", &["transport"]),
    ("rustls-webpki", &["transport"]),
    ("serde-saphyr", &["description"]),
    ("serde_json_path", &["expression"]),
    ("serde_urlencoded", &["packhouse"]),
    ("sha1", &["expression"]),
    ("signal-hook", &["cli"]),
    // Of lines of text, of lists of responses, and of files that an import would change.
    ("similar", &["source", "report", "cli"]),
    ("strsim", &["source"]),
    ("sxd-document", &["expression"]),
    ("sxd-xpath", &["expression"]),
    // A file is written beside its place, then moved there.
    ("tempfile", &["store", "cli"]),
    ("terminal_size", &["cli"]),
    ("thread-priority", &["cli"]),
    // A client, a server, and the loop of a run.
    ("tokio", &["transport", "packhouse", "cli"]),
    ("tokio-rustls", &["packhouse"]),
    ("tokio-tungstenite", &["packhouse", "transport"]),
    ("tokio-util", &["transport"]),
    // The configuration, and what an editor asks of it.
    ("toml", &["workspace", "ide"]),
    ("toml_edit", &["workspace"]),
    ("tower", &["transport"]),
    ("tracing", &["transport", "cli"]),
    ("tracing-subscriber", &["cli"]),
    ("uuid", &["expression"]),
    ("webbrowser", &["cli"]),
    ("windows-native-keyring-store", &["cli"]),
];

/// Crates without input and output: files, the network, other processes, the clock and the environment are passed as
/// arguments.
const WITHOUT_IO: &[&str] = &[
    "source",
    "syntax",
    "cel",
    "expression",
    "http",
    "credentials",
    "description",
    "workspace",
    "engine",
    "report",
    "interchange",
    "ide",
];

/// The names that those must not contain.
const IO: &[&str] = &["std::fs", "std::net", "std::process", "std::env", "SystemTime::now", "Instant::now", "Utc::now"];

fn crates_folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("crates stand in a folder").to_owned()
}

#[test]
fn a_crate_uses_only_the_crates_below_it_and_third_party_crates_only_at_home() {
    let mut found = Vec::new();
    let mut seen = BTreeSet::new();
    for (name, allowed) in CRATES {
        for used in *allowed {
            let below = CRATES.iter().take_while(|(other, _)| other != name).any(|(other, _)| other == used);
            assert!(below, "the table of this test lets {name} use {used}, which is not below it");
        }
        for dependency in dependencies(name) {
            if let Some(own) = dependency.strip_prefix("yieldtray-") {
                if !allowed.contains(&own) {
                    found.push(format!("{name} uses {own}"));
                }
            } else if !COMMON.contains(&&*dependency) {
                match HOMES.iter().find(|(library, _)| *library == dependency) {
                    Some((_, homes)) if homes.contains(name) => drop(seen.insert((dependency, *name))),
                    Some((_, homes)) => found.push(format!("{name} uses {dependency}, whose home is {homes:?}")),
                    None => found.push(format!("{name} uses {dependency}, which has no home in this test")),
                }
            }
        }
    }
    for (library, homes) in HOMES {
        for home in homes.iter().filter(|home| !seen.contains(&((*library).to_owned(), **home))) {
            found.push(format!("{library} is no longer used by {home}: take it out of this test"));
        }
    }
    assert_eq!(found, Vec::<String>::new());
    let folders: BTreeSet<String> = fs::read_dir(crates_folder())
        .expect("the crates")
        .map(|entry| entry.expect("a folder").file_name().to_string_lossy().into_owned())
        .collect();
    assert_eq!(folders, CRATES.iter().map(|(name, _)| (*name).to_owned()).collect(), "every crate is in the table");
}

/// The dependencies of a crate, without those of its tests.
fn dependencies(name: &str) -> Vec<String> {
    let manifest = fs::read_to_string(crates_folder().join(name).join("Cargo.toml")).expect("a manifest");
    let mut wanted = false;
    let mut dependencies = Vec::new();
    for line in manifest.lines() {
        if let Some(section) = line.strip_prefix('[') {
            wanted = section.trim_end_matches(']').rsplit('.').next() == Some("dependencies");
        } else if let (true, Some((left, _))) = (wanted, line.split_once('=')) {
            dependencies.push(left.trim().trim_end_matches(".workspace").to_owned());
        }
    }
    dependencies.sort();
    dependencies.dedup();
    dependencies
}

#[test]
fn every_manifest_states_the_rule_of_its_crate() {
    for (name, _) in CRATES {
        let manifest = fs::read_to_string(crates_folder().join(name).join("Cargo.toml")).expect("a manifest");
        assert!(manifest.starts_with(&format!("# {name}: ")), "{name} does not say what it holds and what it does not");
    }
}

#[test]
fn the_first_line_of_every_file_says_what_is_in_it() {
    let mut without = Vec::new();
    for (name, _) in CRATES {
        for folder in ["src", "tests", "benches"].map(|folder| crates_folder().join(name).join(folder)) {
            without.extend(rust_files(&folder).into_iter().filter(|file| {
                let text = fs::read_to_string(file).expect("a source");
                !text.starts_with("//! ")
            }));
        }
    }
    assert_eq!(without, Vec::<PathBuf>::new());
}

#[test]
fn the_modules_of_a_crate_form_no_cycle() {
    let mut found = Vec::new();
    for (name, _) in CRATES {
        let source = crates_folder().join(name).join("src");
        for folder in module_folders(&source) {
            let uses = uses_between_modules(&source, &folder);
            found.extend(cycle(&uses).map(|modules| format!("{name} {}: {}", folder.display(), modules.join(" → "))));
        }
    }
    assert_eq!(found, Vec::<String>::new());
}

#[test]
fn a_cycle_is_found_and_named() {
    let uses = |pairs: &[(&str, &str)]| {
        let mut uses: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for (from, to) in pairs {
            uses.entry((*from).to_owned()).or_default().insert((*to).to_owned());
        }
        uses
    };
    assert_eq!(cycle(&uses(&[("lots", "scale"), ("scale", "units"), ("lots", "units")])), None);
    let circle = uses(&[("lots", "scale"), ("scale", "units"), ("units", "scale")]);
    assert_eq!(cycle(&circle), Some(vec!["scale", "units", "scale"]));
    let text =
        "use crate::{scale::{Weight, read}, units}; // crate::none\nlet a = \"crate::text\"; super::super::top::f();";
    assert_eq!(
        paths(&tokens(text)),
        [
            vec!["crate", "scale", "Weight"],
            vec!["crate", "scale", "read"],
            vec!["crate", "units"],
            vec!["super", "super", "top", "f"]
        ]
    );
}

#[test]
fn what_has_no_input_and_output_names_none() {
    let mut found = Vec::new();
    for name in WITHOUT_IO {
        for file in sources(&crates_folder().join(name).join("src")) {
            let text = tokens(&production(&fs::read_to_string(&file).expect("a source"))).concat();
            let named = IO.iter().filter(|io| text.contains(*io));
            found.extend(named.map(|io| format!("{}: {io}", file.display())));
        }
    }
    assert_eq!(found, Vec::<String>::new());
}

/// The folders of a crate whose files are the modules of one parent.
fn module_folders(source: &Path) -> BTreeSet<PathBuf> {
    sources(source).iter().filter_map(|file| Some(file.parent()?.to_owned())).collect()
}

/// Which module in a folder uses which other one there.
fn uses_between_modules(source: &Path, folder: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let root = ["lib.rs", "main.rs", "mod.rs"].map(|name| folder.join(name)).into_iter().find(|root| root.exists());
    let root = root.unwrap_or_else(|| folder.with_extension("rs"));
    let text = fs::read_to_string(&root).expect("a folder of modules has a parent");
    let root_tokens = tokens(&text);
    let modules: BTreeSet<&str> =
        root_tokens.windows(2).filter(|pair| pair[0] == "mod").map(|pair| &*pair[1]).collect();
    // Names that the parent exports are of the module that they come from.
    let mut exported = BTreeMap::new();
    for at in root_tokens.iter().enumerate().filter(|(_, token)| *token == "use").map(|(at, _)| at + 1) {
        let mut tree = Vec::new();
        expand(&root_tokens, at, &mut Vec::new(), &mut tree);
        for path in tree.iter().filter(|path| modules.contains(path[0])) {
            exported.insert(path[path.len() - 1].to_owned(), path[0].to_owned());
        }
    }
    let names = |path: &Path| -> Vec<String> {
        let inner = path.strip_prefix(source).expect("it is in the folder");
        inner.with_extension("").iter().map(|part| part.to_string_lossy().into_owned()).collect()
    };
    let parent = names(folder);
    let mut uses: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for file in sources(folder).into_iter().filter(|file| *file != root) {
        let mut module = names(&file);
        let own = module[parent.len()].clone();
        if module.last().is_some_and(|last| last == "mod") {
            module.pop();
        }
        let tokens = tokens(&production(&fs::read_to_string(&file).expect("a source")));
        for path in paths(&tokens) {
            let supers = path.iter().take_while(|part| **part == "super").count();
            // The path from the root of the crate.
            let whole: Vec<&str> = match path[0] {
                "crate" => path[1..].to_vec(),
                _ if supers <= module.len() => {
                    let above = module[..module.len() - supers].iter().map(String::as_str);
                    above.chain(path[supers..].iter().copied()).collect()
                }
                _ => continue,
            };
            let inside = whole.strip_prefix(&*parent.iter().map(String::as_str).collect::<Vec<_>>());
            let Some(first) = inside.and_then(<[&str]>::first) else { continue };
            let target =
                if modules.contains(first) { Some((*first).to_owned()) } else { exported.get(*first).cloned() };
            if let Some(target) = target.filter(|target| *target != own) {
                uses.entry(own.clone()).or_default().insert(target);
            }
        }
    }
    uses
}

/// The sources in a folder, without tests.
fn sources(folder: &Path) -> Vec<PathBuf> {
    let is_test = |part: &str| part == "tests" || part == "testing" || part.ends_with("_tests");
    let mut files = rust_files(folder);
    files.retain(|file| {
        let inner = file.strip_prefix(folder).expect("it is in the folder").with_extension("");
        !inner.iter().any(|part| is_test(&part.to_string_lossy()))
    });
    files
}

/// All Rust files in a folder, which may not exist.
fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten() {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            files.extend(rust_files(&path));
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            files.push(path);
        }
    }
    files.sort();
    files
}

/// A source without the tests at its end.
fn production(text: &str) -> String {
    text.split("\n#[cfg(test)]\nmod tests {").next().unwrap_or_default().to_owned()
}

/// The words and signs of a source. Comments, texts and white space are left out.
fn tokens(text: &str) -> Vec<String> {
    let mut tokens = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let word = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
        let length = if word > 0 {
            word
        } else if rest.starts_with("//") {
            rest.find('\n').unwrap_or(rest.len())
        } else if rest.starts_with("::") {
            2
        } else if first == '"' {
            end_of_text(rest)
        } else {
            first.len_utf8()
        };
        let token = &rest[..length];
        // `r"…"` and `r#"…"#`: what follows the word is a text that ends with as many signs.
        let raw = matches!(token, "r" | "br").then(|| end_of_raw_text(&rest[length..])).flatten();
        if raw.is_none() && !token.starts_with("//") && first != '"' && !first.is_whitespace() {
            tokens.push(token.to_owned());
        }
        rest = &rest[length + raw.unwrap_or(0)..];
        // A quoted character may be a quote.
        if token == "'" {
            let quoted = ["\\\"'", "\"'", "\\''", "\\\\'"].iter().find(|quoted| rest.starts_with(**quoted));
            rest = &rest[quoted.map_or(0, |quoted| quoted.len())..];
        }
    }
    tokens
}

fn end_of_text(text: &str) -> usize {
    let mut escaped = false;
    for (at, c) in text.char_indices().skip(1) {
        match c {
            '"' if !escaped => return at + 1,
            _ => escaped = c == '\\' && !escaped,
        }
    }
    text.len()
}

fn end_of_raw_text(text: &str) -> Option<usize> {
    let signs = text.len() - text.trim_start_matches('#').len();
    let inner = text[signs..].strip_prefix('"')?;
    let end = format!("\"{}", "#".repeat(signs));
    Some(signs + 1 + inner.find(&end)? + end.len())
}

/// The paths from `crate` and `super`, each name of a tree as a path of its own.
fn paths(tokens: &[String]) -> Vec<Vec<&str>> {
    let mut paths = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        let begins = at == 0 || tokens[at - 1] != "::";
        if begins && matches!(&**token, "crate" | "super") && tokens.get(at + 1).is_some_and(|next| next == "::") {
            expand(tokens, at, &mut Vec::new(), &mut paths);
        }
    }
    paths
}

/// Takes the tree of paths that begins at a token; where it ends.
fn expand<'t>(tokens: &'t [String], mut at: usize, before: &mut Vec<&'t str>, paths: &mut Vec<Vec<&'t str>>) -> usize {
    let length = before.len();
    while let Some(token) = tokens.get(at) {
        match &**token {
            "{" => {
                at += 1;
                while tokens.get(at).is_some_and(|token| token != "}") {
                    at = expand(tokens, at, before, paths);
                    at += usize::from(tokens.get(at).is_some_and(|token| token == ","));
                }
                before.truncate(length);
                return at + 1;
            }
            "as" => at += 2,
            "::" => at += 1,
            name if name.starts_with(|c: char| c.is_alphanumeric() || c == '_' || c == '*') => {
                before.push(token);
                at += 1;
                if tokens.get(at).is_none_or(|next| next != "::") {
                    paths.push(before.clone());
                    before.truncate(length);
                    // `a as b` has the path `a`.
                    return at + if tokens.get(at).is_some_and(|next| next == "as") { 2 } else { 0 };
                }
            }
            _ => {
                before.truncate(length);
                return at + 1;
            }
        }
    }
    before.truncate(length);
    at
}

/// A cycle of modules that use each other, if there is one: the first is repeated at the end.
fn cycle(uses: &BTreeMap<String, BTreeSet<String>>) -> Option<Vec<&str>> {
    let mut done = BTreeSet::new();
    uses.keys().find_map(|module| follow(module, uses, &mut Vec::new(), &mut done))
}

fn follow<'u>(
    module: &'u str,
    uses: &'u BTreeMap<String, BTreeSet<String>>,
    way: &mut Vec<&'u str>,
    done: &mut BTreeSet<&'u str>,
) -> Option<Vec<&'u str>> {
    if let Some(at) = way.iter().position(|other| *other == module) {
        return Some(way[at..].iter().copied().chain([module]).collect());
    }
    if !done.insert(module) {
        return None;
    }
    way.push(module);
    let found = uses.get(module).into_iter().flatten().find_map(|next| follow(next, uses, way, done));
    way.pop();
    found
}
