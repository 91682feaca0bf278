//! Signing in with a real browser: Chromium opens the page that the program shows, and clicks.

use crate::oauth::workspace;
use crate::support::TestWorkspace;
use crate::support::terminal::Terminal;
use crate::support::webdriver::Driver;
use std::os::unix::fs::PermissionsExt;

fn profile(grant: &str, scope: &str) -> String {
    format!("issuer = '{{{{base}}}}'\nclient_id = 'packhouse-phone'\ngrant = '{grant}'\nscope = '{scope}'\n")
}

/// A browser that only writes down the address, so that the test's own opens it.
fn noting_browser(workspace: &TestWorkspace) -> String {
    let script = workspace.path().join("browser.sh");
    let noted = workspace.path().join("page.txt");
    std::fs::write(&script, format!("#!/bin/sh\nprintf %s \"$1\" > {0}.part && mv {0}.part {0}\n", noted.display()))
        .expect("a file");
    std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).expect("it can run");
    script.display().to_string()
}

/// The address that the browser was opened with.
fn noted_page(workspace: &TestWorkspace) -> String {
    let noted = workspace.path().join("page.txt");
    for _ in 0..200 {
        if let Ok(page) = std::fs::read_to_string(&noted) {
            return page;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    panic!("no page was opened")
}

/// Sends the request, signs in with a click on `answer`, and returns what the terminal and the page show at the end.
fn signed_in(workspace: &TestWorkspace, driver: &Driver, answer: &str) -> (u32, String, String) {
    let browser = noting_browser(workspace);
    let _ = std::fs::remove_file(workspace.path().join("page.txt"));
    let args = ["send", "pay", "--pick", "[body.client, body.user, body.scope]"];
    let mut terminal = Terminal::start(workspace, &args, 200, &[("BROWSER", &browser)]);
    terminal.wait_for("sign in for `scale` in the browser");
    let page = driver.open(&noted_page(workspace), false);
    page.find(answer).click();
    page.wait_for("return /igned in$/.test(document.querySelector('h1')?.textContent)", true.into());
    let shown = page.find("h1").text();
    let (code, text) = terminal.end();
    (code, text, shown)
}

#[test]
fn a_clerk_signs_in_with_a_browser() {
    let driver = Driver::start();
    let desk = workspace(&profile("authorization_code", "openid weigh"));
    let (code, text, shown) = signed_in(&desk, &driver, "#allow");
    assert_eq!((code, shown.as_str()), (0, "Signed in"), "{text}");
    assert!(text.contains("[\"packhouse-phone\",\"clerk@packhouse.example\",\"openid weigh\"]"), "{text}");
    // Once: the token is kept, and renewed when it ends.
    let kept = desk.run(&["send", "pay", "--pick", "body.scope"]).exits(0);
    assert_eq!(kept.stdout, "openid weigh\n");

    for (scope, answer, message) in [
        ("weigh", "#deny", "access_denied: the clerk said no"),
        ("weigh confused", "#allow", "the redirect has another `state` than this sign-in"),
        ("weigh replayed", "#allow", "invalid_grant"),
        ("openid mistaken", "#allow", "its `nonce` is not that of this sign-in"),
    ] {
        let desk = workspace(&profile("authorization_code", scope));
        let (code, text, shown) = signed_in(&desk, &driver, answer);
        assert!(code == 3 && text.contains(message), "{scope}: {text}");
        // A wrong code or ID token is found only after the page was answered.
        let is_found_later = scope.contains("mistaken") || scope.contains("replayed");
        assert_eq!(shown, if is_found_later { "Signed in" } else { "Not signed in" }, "{scope}");
        let kept = desk.run(&["token", "--json"]).exits(0).json();
        assert_eq!(kept["tokens"], serde_json::json!([]), "{scope}");
    }
}

#[test]
fn a_clerk_enters_the_code_of_a_device() {
    let driver = Driver::start();
    for (answer, expected) in [("#allow", "token of `scale`"), ("#deny", "access_denied")] {
        let workspace = workspace(&profile("device_code", "weigh"));
        let mut terminal = Terminal::start(&workspace, &["token", "get", "scale"], 200, &[]);
        terminal.wait_for("/oauth/device and enter the code PEAR-2038");
        let page = driver.open(&format!("{}/oauth/device", workspace.base()), false);
        page.find("#code").type_keys("pear-2038");
        page.find(answer).click();
        page.wait_for("return document.querySelector('h1')?.textContent", "Done".into());
        let (_, text) = terminal.end();
        assert!(text.contains(expected), "{text}");
    }
    let late = workspace(&profile("device_code", "brief"));
    let mut terminal = Terminal::start(&late, &["token", "get", "scale"], 200, &[]);
    terminal.wait_for("the code expired before it was entered");
    assert_eq!(terminal.end().0, 2);
}

#[test]
fn a_page_is_opened_only_for_a_workspace_that_may() {
    // Not allowed: the page is shown, and nothing is opened. Ctrl-C ends the wait.
    let workspace = workspace(&profile("authorization_code", "weigh"));
    let browser = noting_browser(&workspace);
    let mut terminal =
        Terminal::start(&workspace, &["send", "pay"], 200, &[("BROWSER", &browser), ("YIELDTRAY_ALLOW", "")]);
    terminal.wait_for("opens a sign-in page in the browser").wait_for("[y/N]").type_in("n");
    terminal.wait_for("sign in for `scale`: open http://127.0.0.1:");
    terminal.type_in("\u{3}");
    let (code, text) = terminal.end();
    assert_eq!(code, 130, "{text}");
    assert!(!workspace.path().join("page.txt").exists());
}

#[test]
fn a_redirect_that_never_arrives_ends_with_an_error() {
    let limited =
        |limit: &str| workspace(&format!("{}sign_in_timeout = '{limit}'\n", profile("authorization_code", "weigh")));
    let workspace = limited("300ms");
    let browser = noting_browser(&workspace);
    let mut terminal = Terminal::start(&workspace, &["send", "pay"], 200, &[("BROWSER", &browser)]);
    terminal.wait_for("the sign-in was not completed within 0.3 s");
    assert_eq!(terminal.end().0, 3);
    let wrong = limited("soon").run(&["send", "pay"]).exits(2);
    assert!(wrong.stderr.contains("`sign_in_timeout` is `soon`, not a duration"), "{}", wrong.both());
}

#[test]
fn a_port_in_use_is_an_error_that_names_it() {
    let taken = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = taken.local_addr().expect("an address").port();
    let redirect = format!("redirect_url = 'http://127.0.0.1:{port}/callback'\n");
    let workspace = workspace(&format!("{}{redirect}", profile("authorization_code", "weigh")));
    let mut terminal = Terminal::start(&workspace, &["send", "pay"], 200, &[]);
    terminal.wait_for(&format!("cannot listen at 127.0.0.1:{port}"));
    assert_eq!(terminal.end().0, 3);
}
