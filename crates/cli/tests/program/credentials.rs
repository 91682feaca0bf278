//! Credentials: every scheme of `% auth`, stored and renewed tokens, TLS in both directions, proxies
//! and sockets.

use crate::support::TestWorkspace;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::thread;
use yieldtray_packhouse::{Packhouse, Server};

const PROFILE: &str = "token_url = '{{base}}/oauth/token'\nclient_id = 'packhouse-desk'\nclient_secret = '{{key}}'\n";

fn workspace(profile: &str, cells: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the file");
    let config = format!("{config}\n[oauth2.shift]\n{PROFILE}{profile}");
    workspace.file("yieldtray.toml", &config).file("a.http", cells)
}

#[test]
fn the_nearest_credentials_win() {
    let workspace =
        TestWorkspace::new().file("_common.http", "% auth basic outer one\n").file("sub/_common.http", "% auth none\n");
    let workspace = workspace.file("sub/a.http", "%% none\n/echo\n").file(
        "a.http",
        "% auth basic {{'G11'}} \"two words\"\n\n%% shared\n/echo\n\n%% own\n% auth bearer {{key}}\n/echo\n\n\
         %% field\n/echo\nAuthorization: Shift early\n\n%% off\n% auth none\n/echo\n",
    );
    // The values themselves are masked wherever they are shown, so they are compared where they arrive.
    for (place, expected) in [
        ("shared", "['Basic RzExOnR3byB3b3Jkcw==']"),
        ("own", "['Bearer local-key-4616']"),
        ("field", "['Shift early']"),
        ("off", "[]"),
        ("sub/a.http", "[]"),
    ] {
        let pick = format!("body.headers.filter(h, h[0] == 'authorization').map(h, h[1]) == {expected}");
        assert_eq!(workspace.run(&["send", place, "--pick", &pick]).exits(0).stdout, "true\n", "{place}");
    }
}

#[test]
fn a_digest_challenge_is_answered_and_remembered() {
    let cells = "% auth digest clerk@packhouse.example {{pass}}\n\n%% a\n/ledger?page=1\n\n% check body.season == 2026\n\n\
                 %% b\n/ledger\n\n% check status == 200\n\n%% wrong\n% auth digest clerk@packhouse.example no\n/ledger\n\n% check status == 401\n";
    let workspace = workspace("", cells);
    let run = workspace.run(&["send", "a", "--set", "pass=windfall-local", "--show", "sent"]).exits(0);
    assert!(run.stderr.contains("→ 401, answered the authentication challenge"), "{}", run.stderr);
    assert!(run.stdout.contains("authorization: Digest [secret]"), "{}", run.stdout);
    let run = workspace.run(&["replay", "--set", "pass=windfall-local", "--json"]).exits(0);
    assert!(!run.stdout.contains("windfall"), "{}", run.stdout);
}

#[test]
fn tokens_are_kept_until_they_end_and_then_renewed() {
    let workspace = workspace("", "% auth oauth2 shift\n\n%% pay\n/payroll\n\n% check status == 200\n");
    let given = |args: &[&str]| {
        let mut all = vec!["send", "pay", "--pick", "body.tokens_given"];
        all.extend(args);
        workspace.run(&all).exits(0).stdout
    };
    assert_eq!((given(&[]), given(&[])), ("1\n".to_owned(), "1\n".to_owned()), "one token serves both");
    assert_eq!(given(&["-e", "local", "--set", "key=local-key-4616"]), "1\n");
    let run = workspace.run(&["send", "pay", "--show", "sent", "--reveal"]);
    assert_eq!(run.code, 2, "nobody is shown a token without a terminal");

    // The server forgets: the kept token is dropped, and the next sending gets another.
    workspace.run(&["send", "--text", "DELETE /oauth/token"]).exits(0);
    let run = workspace.run(&["send", "pay"]).exits(1);
    assert!(run.stderr.contains("the stored token of `shift` was rejected and removed"), "{}", run.stderr);
    assert_eq!(given(&[]), "2\n");
    // In a replay one token serves all.
    let two = workspace.run(&["replay", "a.http"]).exits(0);
    assert!(two.stdout.contains("1 request · 1 check"), "{}", two.stdout);
}

#[test]
fn a_token_that_ends_is_renewed_and_each_grant_works() {
    // Tokens of this scope end within the leeway, so each sending renews the one before.
    let brief = workspace("scope = 'brief'\n", "% auth oauth2 shift\n\n%% pay\n/payroll\n\n% check status == 200\n");
    for given in ["1\n", "2\n", "3\n"] {
        assert_eq!(brief.run(&["send", "pay", "--pick", "body.tokens_given"]).exits(0).stdout, given);
    }
    // The refresh token is gone too: a new token is requested.
    brief.run(&["send", "--text", "DELETE /oauth/token"]).exits(0);
    brief.run(&["send", "pay"]).exits(0);

    let cells = "%% pay\n% auth oauth2 shift\n/payroll\n\n% check status == 200\n";
    let password =
        "grant = 'password'\nusername = 'clerk@packhouse.example'\npassword = '{{env.PASS}}'\nclient_auth = 'body'\n";
    workspace(password, cells)
        .run_with(&["send", "pay", "--read-env", "PASS"], "", &[("PASS", "windfall-local")])
        .exits(0);
    let refused = workspace(password, cells)
        .run_with(&["replay", "--read-env", "PASS"], "", &[("PASS", "windfall-live")])
        .exits(3);
    assert!(refused.stdout.contains("invalid_grant: this grant is not valid"), "{}", refused.stdout);
    assert!(!refused.both().contains("windfall"), "{}", refused.both());
    let lacking = workspace("grant = 'refresh_token'\n", cells).run(&["send", "pay"]).exits(2);
    assert!(lacking.stderr.contains("`[oauth2.shift]` is missing `refresh_token`"), "{}", lacking.stderr);
    // A dry run gets no token.
    let dry = workspace("", cells).run(&["send", "pay", "--dry-run"]).exits(0);
    assert!(dry.stdout.contains("authorization: Bearer [secret]"), "{}", dry.stdout);
}

#[test]
fn certificates_are_checked_in_both_directions() {
    let (packhouse, papers) = Packhouse::start_secure(Server::Local, true).expect("a packhouse");
    let config = |send: &str| format!("[values]\nbase = '{}'\n[send]\n{send}", packhouse.base());
    let workspace = TestWorkspace::empty()
        .file("ca.pem", &papers.authority)
        .file("client.pem", &papers.client)
        .file("a.http", "%% a\n/health\n\n% check body.status == 'open'\n\n%% loose\n% insecure\n/health\n");
    let run = |send: &str, args: &[&str]| {
        std::fs::write(workspace.path().join("yieldtray.toml"), config(send)).expect("a file");
        workspace.run(args)
    };
    let unknown = run("certificate = 'client.pem'", &["send", "a"]).exits(3);
    assert!(unknown.stderr.contains("not signed by a trusted authority"), "{}", unknown.stderr);
    let all = "ca = 'ca.pem'\ncertificate = 'client.pem'";
    let sent = run(all, &["send", "a", "--show", "head,timeline"]).exits(0);
    assert!(sent.stdout.contains("HTTP/2 200") && sent.stdout.contains("  TLS  "), "{}", sent.stdout);
    run("certificate = 'client.pem'", &["send", "loose"]).exits(0);
    run("certificate = 'client.pem'\ninsecure = true", &["send", "a"]).exits(0);
    run("ca = 'ca.pem'", &["send", "a"]).exits(3);
    for (send, message) in [
        ("certificate = 'gone.pem'", "cannot read"),
        ("certificate = 'ca.pem'", "ca.pem`: no PEM private key found"),
        ("ca = 'a.http'\ncertificate = 'client.pem'", "contains no PEM certificate"),
    ] {
        let run = run(send, &["send", "a"]).exits(2);
        assert!(run.stderr.contains(message), "{send}: {}", run.stderr);
    }
    // Certificate and key in one encrypted file; its password is the value of a variable.
    std::fs::write(workspace.path().join("client.p12"), papers.client_pkcs12("windfall").expect("a file"))
        .expect("a file");
    let encrypted = "ca = 'ca.pem'\ncertificate = 'client.p12'\nkey_password = 'desk_password'";
    run(encrypted, &["send", "a", "--set", "desk_password=windfall"]).exits(0);
    let wrong = run(encrypted, &["send", "a", "--set", "desk_password=windfell"]).exits(2);
    assert!(wrong.stderr.contains("client.p12`: the PKCS#12 file cannot be read"), "{}", wrong.stderr);
    let unset = run(encrypted, &["send", "a"]).exits(2);
    assert!(
        unset.stderr.contains("`key_password = \"desk_password\"` of yieldtray.toml:6: there is no such variable"),
        "{}",
        unset.stderr
    );
    let old = run(all, &["send", "--text", "GET /health HTTP/1.1", "--show", "head"]).exits(0);
    assert!(old.stdout.contains("HTTP/1.1 200 OK"), "{}", old.stdout);
}

#[test]
fn an_api_key_goes_where_its_line_says_and_to_no_other_server() {
    let cells = "%% header\n% auth key header X-Api-Key {{key}}\n/echo\n\n%% query\n% auth key query \"api key\" {{key}}\n/echo?page=1\n\n\
                 %% cookie\n% auth key cookie desk {{key}}\n/echo\n\n%% own\n% auth key header X-Api-Key {{key}}\n/echo\nX-Api-Key: mine-4617\n";
    let workspace = TestWorkspace::new().file("a.http", cells);
    for (place, expected) in [
        ("header", "body.headers.exists(h, h == ['x-api-key', 'local-key-4616'])"),
        ("query", "body.target == '/echo?page=1&api%20key=local-key-4616'"),
        ("cookie", "body.headers.exists(h, h == ['cookie', 'desk=local-key-4616'])"),
        ("own", "body.headers.filter(h, h[0] == 'x-api-key') == [['x-api-key', 'mine-4617']]"),
    ] {
        let run = workspace.run(&["send", place, "--pick", expected]).exits(0);
        assert_eq!(run.stdout, "true\n", "{place}");
        let run = workspace.run(&["send", place, "--show", "all"]).exits(0);
        assert!(!run.both().contains("local-key"), "{place}: {}", run.both());
    }
    // A key that is written out in a shared line is bound to `base` all the same.
    let shared = "% auth key query key windfall-4616\n\n%% here\n/echo\n\n%% there\nGET http://127.0.0.1:1/echo\n";
    let workspace = TestWorkspace::new().file("a.http", shared);
    let run = workspace.run(&["send", "here", "--show", "sent"]).exits(0);
    assert!(run.stdout.contains("/echo?key=[secret]") && !run.both().contains("windfall"), "{}", run.both());
    let run = workspace.run(&["send", "there"]).exits(2);
    assert!(
        run.stderr.contains("`this API key` is a secret and may not be sent to `http://127.0.0.1:1`"),
        "{}",
        run.stderr
    );

    for (line, message) in [
        ("% auth key", "`% auth key` is missing where it goes"),
        ("% auth key body X {{key}}", "an API key cannot go to `body`"),
        ("% auth key header X", "`% auth key header` is missing the key"),
        ("% auth key header \"X Y\" {{key}}", "`X Y` is not a valid name of a header"),
        ("% auth key cookie a {{key + ';'}}", "a key in a cookie cannot contain U+003B"),
    ] {
        let run = TestWorkspace::new().file("a.http", &format!("{line}\n\n%% a\n/echo\n")).run(&["send", "a"]).exits(2);
        assert!(run.stderr.contains(message), "{line}: {}", run.stderr);
    }
}

#[test]
fn a_request_is_signed_as_it_goes_out() {
    let cells = "% sign scale\n\n%% order\nPOST /dispatch/orders\n\n{ \"trays\": 12 }\n\n% check status == 202\n\n\
                 %% big\nPOST /dispatch/orders\nContent-Type: application/json\n% body from order.json verbatim\n\n% check body.trays == 13\n\n\
                 %% bare\n% sign off\nPOST /dispatch/orders\n\n{}\n\n% check body.detail == 'Signature-Input is wanted'\n";
    let workspace = signing_workspace(
        "key = 'scale.pem'\nkey_id = 'scale-1'\ntag = 'dispatch'\nexpires = '1m'\nnonce = true\n",
        cells,
    );
    workspace.run(&["replay"]).exits(0);
    let run = workspace.run(&["send", "order", "--show", "sent"]).exits(0);
    assert!(run.stdout.contains("content-digest: sha-256=:"), "{}", run.stdout);
    let parameters = "sig1=(\"@method\" \"@target-uri\" \"content-digest\");created=";
    assert!(run.stdout.contains(parameters), "{}", run.stdout);
    assert!(run.stdout.contains("alg=\"ed25519\";keyid=\"scale-1\";tag=\"dispatch\";expires="), "{}", run.stdout);
    let dry = workspace.run(&["send", "order", "--dry-run"]).exits(0);
    assert!(dry.stdout.contains("signature: sig1=:"), "{}", dry.stdout);

    let listed =
        "components = ['@method', '@path', 'content-type', 'content-digest']\nlabel = 'gate'\nkey = 'scale.pem'\n";
    let run = signing_workspace(listed, cells).run(&["send", "order", "--pick", "body.signed"]).exits(0);
    assert_eq!(run.stdout, "[\"@method\",\"@path\",\"content-type\",\"content-digest\"]\n");

    for (signing, message) in [
        ("", "`[signing.scale]` needs either `key` or `secret`"),
        ("secret = 'windfall'\n", "the secret is shorter than 32 bytes"),
        ("key = 'scale.pem'\ncomponents = ['@methd']\n", "unknown component `@methd`: did you mean `@method`?"),
        ("key = 'scale.pem'\ncomponents = ['x-gate']\n", "cannot sign the request: it has no `x-gate`"),
        ("key = 'scale.pem'\nlabel = 'A b'\n", "`A b` cannot be a label"),
    ] {
        let run = signing_workspace(signing, cells).run(&["send", "order"]);
        assert!(run.code >= 2 && run.stderr.contains(message), "{signing}: {}", run.both());
    }
    let run = TestWorkspace::new().file("a.http", "% sign scale\n\n%% a\n/echo\n").run(&["lint"]).exits(2);
    assert!(run.both().contains("no signing profile `scale`"), "{}", run.both());
}

fn signing_workspace(signing: &str, cells: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the file");
    let workspace = workspace.file("yieldtray.toml", &format!("{config}\n[signing.scale]\n{signing}"));
    let workspace = workspace.file("scale.pem", Server::Local.client_key()).file("order.json", "{ \"trays\": 13 }");
    workspace.file("a.http", cells)
}

/// A proxy with one kind of response, which contains what it was asked for.
fn proxy() -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut request = vec![0; 4096];
            let read = stream.read(&mut request).unwrap_or(0);
            let body = &request[..read];
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body));
        }
    });
    address.to_string()
}

#[test]
fn proxies_come_from_settings_and_from_the_surroundings() {
    let proxy = proxy();
    let config = |send: &str| format!("[values]\nbase = 'http://packhouse.invalid'\n[send]\n{send}");
    let workspace = TestWorkspace::empty().file("a.http", "/lots\n");
    let run = |send: &str, variables: &[(&str, &str)]| {
        std::fs::write(workspace.path().join("yieldtray.toml"), config(send)).expect("a file");
        workspace.run_with(&["send", "a.http", "--show", "sent,body"], "", variables)
    };
    let own = format!("proxy = 'http://gate:windfall@{proxy}'");
    let sent = run(&own, &[]).exits(0).stdout;
    assert!(sent.contains("GET http://packhouse.invalid/lots HTTP/1.1"), "{sent}");
    assert!(
        sent.contains("proxy-authorization: Basic ") && sent.contains(&format!("through http://{proxy}\n")),
        "{sent}"
    );
    assert!(!sent.contains("windfall"), "{sent}");
    let variable = format!("http://{proxy}");
    run("", &[("http_proxy", &variable)]).exits(0);
    run("", &[("http_proxy", &variable), ("no_proxy", "packhouse.invalid")]).exits(3);
    run("proxy = 'none'", &[("http_proxy", &variable)]).exits(3);
    run(&format!("{own}\nno_proxy = 'packhouse.invalid'"), &[]).exits(3);
}

#[cfg(unix)]
#[test]
fn a_socket_takes_everything() {
    use std::os::unix::net::UnixListener;
    let workspace = TestWorkspace::empty()
        .file("yieldtray.toml", "[values]\nbase = 'http://packhouse.invalid'\n[send]\nsocket = 'packhouse.sock'\n");
    let listener = UnixListener::bind(workspace.path().join("packhouse.sock")).expect("a socket");
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut request = [0; 4096];
            let _ = stream.read(&mut request);
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nopen");
        }
    });
    assert_eq!(workspace.run(&["send", "--text", "/health"]).exits(0).stdout, "open");
}
