//! Completion in real shells, and the manual pages.

use crate::support::{TestWorkspace, program, run, terminal::Terminal};
use std::process::Command;

const FILE: &str = "%% Sign in\n% tag smoke\nPOST /session\n\n% yield token = 1\n\n%% Announce a truck\nPOST /gate\n";

/// A shell that finds the program under its name.
fn shell(workspace: &TestWorkspace, name: &str) -> Command {
    let mut command = Command::new(name);
    let path = std::env::var_os("PATH").unwrap_or_default();
    let own = program().parent().expect("a folder").to_owned();
    let folders = [own].into_iter().chain(std::env::split_paths(&path));
    command.current_dir(workspace.path()).env("PATH", std::env::join_paths(folders).expect("a path"));
    command.env("XDG_STATE_HOME", workspace.home()).env("HOME", workspace.home());
    command
}

/// The lines and what bash and fish complete them to.
const LINES: &[(&str, &[&str])] = &[
    ("yieldtray sen", &["send"]),
    ("yieldtray send sig", &["sign-in"]),
    ("yieldtray send gate.http#", &["gate.http#announce-a-truck", "gate.http#sign-in"]),
    ("yieldtray replay --tag s", &["smoke"]),
    ("yieldtray env l", &["live", "local"]),
    ("yieldtray tray drop t", &["token"]),
    ("yieldtray help unused-y", &["unused-yield"]),
    ("yieldtray export sign-in --as pyt", &["python", "python-requests"]),
];

#[test]
fn bash_completes_commands_and_what_the_workspace_has() {
    let workspace = TestWorkspace::new().file("gate.http", FILE);
    for (line, expected) in LINES {
        let words: Vec<&str> = line.split(' ').collect();
        let script = format!(
            "source <(yieldtray completions bash); COMP_WORDS=({}); COMP_CWORD={}; COMP_TYPE=9; COMP_LINE='{line}'; \
             _clap_complete_yieldtray yieldtray '{}' ''; printf '%s\\n' \"${{COMPREPLY[@]}}\"",
            words.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" "),
            words.len() - 1,
            words.last().expect("a word"),
        );
        let mut command = shell(&workspace, "bash");
        command.args(["--norc", "-c", &script]);
        let shown = run(command, "");
        let found: Vec<&str> = shown.stdout.lines().map(str::trim).collect();
        assert_eq!(found, *expected, "{line}: {}", shown.both());
    }
}

#[test]
fn fish_completes_commands_and_what_the_workspace_has() {
    let workspace = TestWorkspace::new().file("gate.http", FILE);
    for (line, expected) in LINES {
        let mut command = shell(&workspace, "fish");
        let script = format!("yieldtray completions fish | source; complete -C '{line}'");
        command.args(["--no-config", "-c", &script]);
        let shown = run(command, "");
        let mut found: Vec<&str> = shown.stdout.lines().map(|line| line.split('\t').next().unwrap_or(line)).collect();
        found.sort_unstable();
        assert_eq!(found, *expected, "{line}: {}", shown.both());
    }
}

#[test]
fn zsh_completes_at_its_prompt() {
    let workspace = TestWorkspace::new().file("gate.http", FILE);
    let mut zsh = Terminal::start_shell(&workspace, "zsh", &["-f", "-i"]);
    zsh.type_in(
        "PS1='ready> '; autoload -U compinit; compinit -D; source <(yieldtray completions zsh); echo loaded-$((1+1))\r",
    );
    zsh.wait_for("loaded-2");
    zsh.type_in("yieldtray send sig\t");
    zsh.wait_for("sign-in");
    zsh.type_in("\u{15}yieldtray env liv\t");
    zsh.wait_for("live");
    zsh.type_in("\u{15}exit\r");
    assert_eq!(zsh.end().0, 0);
}

#[test]
fn nothing_is_offered_outside_a_workspace_or_for_a_broken_one() {
    let broken = TestWorkspace::empty().file("yieldtray.toml", "[values\n").file("a.http", "%% A\n% chekc\n");
    for workspace in [TestWorkspace::empty(), broken] {
        let mut command = shell(&workspace, "fish");
        command.args(["--no-config", "-c", "yieldtray completions fish | source; complete -C 'yieldtray env x'"]);
        let shown = run(command, "");
        assert_eq!((shown.stdout.as_str(), shown.stderr.as_str()), ("", ""));
    }
}

#[test]
fn a_directory_given_with_c_is_where_names_come_from_and_topics_need_none() {
    let workspace = TestWorkspace::new().file("gate.http", FILE);
    let elsewhere = TestWorkspace::empty();
    let of_other = format!("send -C {} sig", workspace.path().display());
    for (line, expected) in [(of_other.as_str(), "sign-in"), ("send sig", ""), ("help lang", "language")] {
        let mut command = shell(&elsewhere, "fish");
        let script = format!("yieldtray completions fish | source; complete -C 'yieldtray {line}'");
        command.args(["--no-config", "-c", &script]);
        let shown = run(command, "");
        assert_eq!(shown.stdout.split(['\t', '\n']).next(), Some(expected), "{line}: {}", shown.both());
    }
}

#[test]
fn manual_pages_are_read_by_man() {
    let workspace = TestWorkspace::empty();
    let shown = workspace.run(&["man", "--output", "man"]).exits(0);
    assert!(shown.stdout.contains("manual pages written to man"), "{}", shown.stdout);
    let names = ["yieldtray.1", "yieldtray-send.1", "yieldtray-log-compare.1", "yieldtray-import-curl.1"];
    for name in names {
        let page = std::fs::read_to_string(workspace.path().join("man").join(name)).expect(name);
        assert!(page.contains(".SH NAME") && page.contains("SYNOPSIS"), "{name}: {page}");
    }
    let send = std::fs::read_to_string(workspace.path().join("man/yieldtray-send.1")).expect("a page");
    assert!(send.contains("dry\\-run") && send.contains("requests/intake.http#book"), "{send}");
}
