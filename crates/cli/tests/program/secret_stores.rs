//! Secrets that are kept for a user in the keyring, and for a team in an encrypted file.

use crate::support::{Run, TestWorkspace};

const CELL: &str = "GET /echo\n% auth bearer {{clerk_password}}\n\n% check body.headers.exists(h, h == ['authorization', 'Bearer windfall-2026'])\n";

fn workspace(value: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the file");
    let config = format!("{config}\n[values]\nclerk_password = {value}\n");
    workspace.file("yieldtray.toml", &config).file("a.http", CELL)
}

#[test]
fn a_team_shares_secrets_in_a_file_that_is_committed() {
    let workspace = workspace("{ from = \"sealed:secrets.toml\" }");
    let other_home = tempfile::tempdir().expect("a folder");
    let other = |args: &[&str]| -> Run {
        workspace.run_with(args, "", &[("XDG_STATE_HOME", &other_home.path().display().to_string())])
    };
    let mine = workspace.run(&["secret", "identity"]).exits(0).stdout;
    assert!(mine.starts_with("age1") && mine == workspace.run(&["secret", "identity"]).exits(0).stdout);
    let early = workspace.run(&["send", "a.http"]).exits(2);
    assert!(early.stderr.contains("`clerk_password` is sealed in `secrets.toml`: file not found"), "{}", early.stderr);

    let sealed =
        workspace.run_with(&["secret", "seal", "clerk_password", "--from", "-"], "windfall-2026\n", &[]).exits(0);
    assert!(sealed.stderr.contains("encrypted for 1 in secrets.toml"), "{}", sealed.both());
    let file = workspace.path().join("secrets.toml");
    let text = || std::fs::read_to_string(&file).expect("the file");
    assert!(text().contains(mine.trim()) && !text().contains("windfall"), "{}", text());
    let sent = workspace.run(&["send", "a.http", "--show", "all"]).exits(0);
    assert!(!sent.both().contains("windfall"), "{}", sent.both());
    let listed = workspace.run(&["values"]).exits(0);
    assert!(listed.stdout.contains("sealed secrets.toml") && !listed.stdout.contains("windfall"), "{}", listed.stdout);

    // Somebody else cannot read it until it is encrypted for them.
    let nobody = other(&["send", "a.http"]).exits(2);
    assert!(nobody.stderr.contains("you have no identity: `yieldtray secret identity` makes one"), "{}", nobody.stderr);
    let theirs = other(&["secret", "identity"]).exits(0).stdout;
    let unknown = other(&["send", "a.http"]).exits(2);
    assert!(
        unknown.stderr.contains(&format!("ask somebody who can read it to add {}", theirs.trim())),
        "{}",
        unknown.stderr
    );
    let before = text();
    let added =
        before.replace(&format!("\"{}\",", mine.trim()), &format!("\"{}\",\n    \"{}\",", mine.trim(), theirs.trim()));
    std::fs::write(&file, added).expect("a file");
    workspace.run(&["secret", "reseal"]).exits(0);
    other(&["send", "a.http"]).exits(0);
    // A build job has the identity in a variable.
    let identity = std::fs::read_to_string(other_home.path().join("yieldtray/identity.txt")).expect("the identity");
    let home = tempfile::tempdir().expect("a folder");
    let variables = [
        ("XDG_STATE_HOME", home.path().to_str().expect("text")),
        ("YIELDTRAY_IDENTITY", identity.lines().last().expect("a line")),
    ];
    workspace.run_with(&["send", "a.http"], "", &variables).exits(0);

    // A folder that was cloned decrypts nothing by itself.
    let refused = workspace
        .run_as_stranger(&["send", "a.http"], &[("XDG_STATE_HOME", workspace.home().to_str().expect("text"))])
        .exits(2);
    assert!(refused.stderr.contains("this workspace is not allowed to decrypt it"), "{}", refused.stderr);
    assert!(workspace.run(&["allow"]).both().contains("decrypts with your identity the values in `secrets.toml`"));

    for (args, message) in [
        (&["secret", "seal", "a b", "--from", "a.http"][..], "`a b` is not a valid variable name"),
        (
            &["secret", "seal", "pin", "--file", "../out.toml", "--from", "a.http"],
            "`../out.toml` is outside the workspace",
        ),
        (
            &["secret", "seal", "pin", "--file", "a.http", "--from", "a.http"],
            "cannot use `a.http`: request files cannot be overwritten",
        ),
        (&["secret", "seal", "pin"], "the secret can be typed only on a terminal"),
        (&["secret", "seal", "pin", "--from", "gone.txt"], "cannot read the secret"),
    ] {
        let run = workspace.run(args).exits(2);
        assert!(run.stderr.contains(message), "{args:?}: {}", run.stderr);
    }
    std::fs::write(&file, text().replace("age1", "age2")).expect("a file");
    let run = workspace.run(&["secret", "reseal"]).exits(2);
    assert!(run.stderr.contains("is not a recipient"), "{}", run.stderr);
}

/// A script that runs in a session with a keyring of its own.
#[cfg(feature = "other-programs")]
fn in_keyring_session(workspace: &TestWorkspace, script: &str) -> Run {
    let program = crate::support::program();
    let script = format!(
        "printf pin | gnome-keyring-daemon --unlock --components=secrets >/dev/null 2>&1 || exit 99\n{}",
        script.replace("yieldtray", &program.display().to_string())
    );
    let mut command = std::process::Command::new("dbus-run-session");
    command.args(["--", "sh", "-c", &script]).current_dir(workspace.path());
    let home = workspace.home();
    command.env("HOME", home).env("XDG_DATA_HOME", home.join("data")).env("XDG_RUNTIME_DIR", home);
    command.env("XDG_STATE_HOME", home).env("YIELDTRAY_ALLOW", workspace.path());
    crate::support::run(command, "")
}

#[cfg(feature = "other-programs")]
#[test]
fn a_secret_of_the_keyring_is_stored_used_and_removed() {
    let workspace = workspace("{ from = \"keyring:packhouse-clerk\" }");
    let run = in_keyring_session(
        &workspace,
        "yieldtray send a.http; echo \"first $?\"\n\
         echo windfall-2026 | yieldtray secret store packhouse-clerk --from - || exit 98\n\
         yieldtray send a.http --show all; echo \"second $?\"\n\
         YIELDTRAY_ALLOW= yieldtray send a.http; echo \"third $?\"\n\
         yieldtray secret remove packhouse-clerk && yieldtray secret remove packhouse-clerk; echo \"fourth $?\"\n\
         pkill -P $$ gnome-keyring-d; exit 0\n",
    );
    let run = run.exits(0);
    let all = run.both();
    for expected in ["first 2", "second 0", "third 2", "fourth 2"] {
        assert!(all.contains(expected), "{expected}: {all}");
    }
    for message in [
        "`clerk_password` comes from the keyring: the keyring has no secret `packhouse-clerk`",
        "`packhouse-clerk` is stored in the keyring",
        "this workspace is not allowed to read it",
        "`packhouse-clerk` is removed from the keyring",
    ] {
        assert!(all.contains(message), "{message}: {all}");
    }
    assert!(!all.contains("windfall"), "{all}");
}

#[test]
fn a_system_without_a_keyring_is_told_so() {
    let workspace = workspace("{ from = \"keyring:packhouse-clerk\" }");
    let nowhere = [("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere"), ("DISPLAY", "")];
    let run = workspace.run_with(&["send", "a.http"], "", &nowhere).exits(2);
    assert!(run.stderr.contains("the keyring of this system cannot be used"), "{}", run.stderr);
    // What needs no secret works.
    workspace.run_with(&["list"], "", &nowhere).exits(0);
}
