//! A real Neovim with our plugin, on real files, against the packhouse.

use crate::support::TestWorkspace;
use std::path::Path;
use std::process::{Command, Stdio};

const INTAKE: &str = "%% Look\nGET /lots?grower={{grower}}\nAcept: application/json\n\n% check status == 200\n";

#[test]
fn neovim_reads_sends_and_renames() {
    let workspace = TestWorkspace::new().file("intake.http", INTAKE);
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let plugin = here.join("../../editors/neovim").canonicalize().expect("the plugin is there");
    let seen = workspace.home().join("seen.json");
    let output = Command::new("nvim")
        .args(["--headless", "-u", "NONE", "-i", "NONE", "-n", "--cmd", "filetype plugin on"])
        .arg("--cmd")
        .arg(format!("set runtimepath^={}", plugin.display()))
        .arg("-c")
        .arg(format!("luafile {}", here.join("tests/neovim/drive.lua").display()))
        .current_dir(workspace.path())
        .env("YIELDTRAY_PROGRAM", crate::support::program())
        .env("SEEN", &seen)
        .env("HOME", workspace.home())
        .env("XDG_STATE_HOME", workspace.home())
        .env("XDG_CACHE_HOME", workspace.home())
        .env_remove("YIELDTRAY_ENV")
        .stdin(Stdio::null())
        .output()
        .expect("Neovim is installed (CONTRIBUTING.md says how)");
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    let seen = std::fs::read_to_string(&seen).unwrap_or_else(|error| panic!("{error}: {said}"));
    let seen: serde_json::Value = serde_json::from_str(&seen).expect("JSON");
    assert_eq!(seen["error"], serde_json::Value::Null, "{said}");
    assert_eq!(seen["filetype"], "yieldtray");
    let found = seen["diagnostics"][0].as_str().expect("a line");
    assert_eq!(found, "2 unknown header `Acept`\ndid you mean `Accept`?");
    assert_eq!(seen["lenses"], serde_json::json!(["Environment: local", "Replay", "Send"]));
    let sheet: Vec<&str> = seen["sheet"].as_array().expect("lines").iter().filter_map(|line| line.as_str()).collect();
    assert_eq!(workspace.redacted(sheet[0]), "local  http://127.0.0.1:#####  intake.http:1  look");
    assert!(sheet.iter().any(|line| line.contains("1 check passed")), "{sheet:#?}");
    assert!(sheet.contains(&"accept: application/json"), "{sheet:#?}");
    assert_eq!((&seen["writable"], &seen["windows"]), (&serde_json::json!(false), &serde_json::json!(2)));
    assert_eq!(seen["text"][1], "GET /lots?grower={{farm}}");
    assert!(seen["config"].to_string().contains("farm = \\\"G-11\\\""), "{}", seen["config"]);
}
