//! Each form of request, byte for byte, as a socket receives it.

use crate::support::{TestWorkspace, answer, server};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;
use yieldtray_packhouse::FaultyServer;

/// A workspace whose server returns what it receives.
fn workspace(faulty: &FaultyServer) -> TestWorkspace {
    TestWorkspace::empty()
        .file(
            "yieldtray.toml",
            &format!("[values]\nbase = '{}'\ngrower = 'Käthe & Söhne'\nbins = 24\nnothing = ''\n", faulty.base()),
        )
        .file("lots/new.json", "{ \"grower\": \"{{grower}}\", \"bins\": {{bins}} }\n")
        .file("lots/photo.jpg", "no real photo\n")
        .file("lots/ripe apples.txt", "ripe\n")
}

/// The received bytes of `text`, with the port and the boundary replaced.
#[track_caller]
fn arrives(text: &str, more: &[&str]) -> String {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty).file("a.http", text);
    let mut args = vec!["send", "a.http"];
    args.extend(more);
    let sent = workspace.run(&args).exits(0).bytes;
    // `--dry-run` prints what is then sent.
    let mut dry = args.clone();
    dry.push("--dry-run");
    let dry = workspace.run(&dry).exits(0).bytes;
    let redacted = |bytes: Vec<u8>| {
        let text = String::from_utf8(bytes).expect("text");
        let host = faulty.base().replace("http://", "");
        let boundary = regex::Regex::new("yieldtray-[0-9a-f]{32}").expect("a pattern");
        boundary.replace_all(&text, "BOUNDARY").replace(&host, "HOST")
    };
    let sent = redacted(sent);
    assert_eq!(redacted(dry), sent);
    assert_eq!(faulty.requests(), 1, "a dry run sends nothing");
    let sent = sent.replace("content-length: 0\r\nhost: HOST\r\n", "host: HOST\r\ncontent-length: 0\r\n");
    let usual = "accept-encoding: gzip, br, zstd\r\nuser-agent: yieldtray/0.1.0\r\nhost: HOST\r\n";
    assert!(sent.contains(usual) || sent.contains("host:"), "{sent}");
    sent.replace(usual, "").replace("accept: */*\r\n", "")
}

#[test]
fn headers_go_out_in_order_and_repeated_ones_apart() {
    assert_eq!(
        arrives("/bytes\nX-Grower: G-11\nAccept: text/csv\nX-Note: a\nX-Gate: 2\nx-note: b, c\n", &[]),
        "GET /bytes HTTP/1.1\r\nx-grower: G-11\r\naccept: text/csv\r\nx-note: a\r\nx-note: b, c\r\nx-gate: 2\r\n\r\n"
    );
    assert_eq!(
        arrives(
            "% header X-Gate: 2\n%% a\n% header X-Gate:\n/bytes\nX-Note: a\n",
            &["-H", "X-Note: z", "-H", "X-More: {{m}}"]
        ),
        "GET /bytes HTTP/1.1\r\nx-note: z\r\nx-more: {{m}}\r\n\r\n"
    );
    assert_eq!(arrives("/bytes\nX-Note: a\n", &["-H", "x-note:"]), "GET /bytes HTTP/1.1\r\n\r\n");
}

#[test]
fn any_method_token_goes_out() {
    assert_eq!(arrives("WEIGH /bytes\n", &[]), "WEIGH /bytes HTTP/1.1\r\n\r\n");
    assert_eq!(arrives("POST /bytes\n", &[]), "POST /bytes HTTP/1.1\r\ncontent-length: 0\r\n\r\n");
    assert_eq!(arrives("DELETE /bytes\n", &[]), "DELETE /bytes HTTP/1.1\r\n\r\n");
}

#[test]
fn query_lines_follow_the_target() {
    assert_eq!(
        arrives(
            "/bytes?state=open\n% query grower = {{grower}}\n% query q = 50% red & ripe=1\n% query none =\n% query bare\n\
             % query {{'n' + string(bins)}} = {{raw('a/b')}}\n",
            &[]
        ),
        "GET /bytes?state=open&grower=K%C3%A4the%20%26%20S%C3%B6hne&q=50%25%20red%20%26%20ripe%3D1&none=&bare&n24=a/b HTTP/1.1\r\n\r\n"
    );
    assert_eq!(arrives("/bytes?\n% query a = 1\n", &[]), "GET /bytes?a=1 HTTP/1.1\r\n\r\n");
}

#[test]
fn a_form_is_encoded() {
    assert_eq!(
        arrives("POST /bytes\n% field grower = {{grower}}\n% field note = a+b = c\n% field none = {{nothing}}\n", &[]),
        "POST /bytes HTTP/1.1\r\ncontent-type: application/x-www-form-urlencoded\r\ncontent-length: 60\r\n\r\n\
         grower=K%C3%A4the+%26+S%C3%B6hne&note=a%2Bb+%3D+c&none="
            .replace("content-length: 60", "content-length: 55")
            .as_str()
    );
}

#[test]
fn parts_are_text_and_files() {
    assert_eq!(
        arrives(
            "POST /bytes\n% part note = ripe {{grower}}\n% part photo from lots/photo.jpg\n\
             % part \"odd\" from \"lots/ripe apples.txt\" type text/x-note as \"a \\\"b\\\".txt\"\n"
                .replace("as \"a \\\"b\\\".txt\"", "as {{'a \"b\".txt'}}")
                .as_str(),
            &[]
        ),
        "POST /bytes HTTP/1.1\r\ncontent-type: multipart/form-data; boundary=BOUNDARY\r\ncontent-length: 479\r\n\r\n\
         --BOUNDARY\r\nContent-Disposition: form-data; name=\"note\"\r\n\r\nripe Käthe & Söhne\r\n\
         --BOUNDARY\r\nContent-Disposition: form-data; name=\"photo\"; filename=\"photo.jpg\"\r\n\
         Content-Type: image/jpeg\r\n\r\nno real photo\n\r\n\
         --BOUNDARY\r\nContent-Disposition: form-data; name=\"%22odd%22\"; filename=\"a %22b%22.txt\"\r\n\
         Content-Type: text/x-note\r\n\r\nripe\n\r\n--BOUNDARY--\r\n"
    );
}

#[test]
fn a_body_comes_from_a_file() {
    let body = "{ \"grower\": \"Käthe & Söhne\", \"bins\": 24 }\n";
    assert_eq!(
        arrives("POST /bytes\n% body from lots/new.json\n", &[]),
        format!(
            "POST /bytes HTTP/1.1\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
            body.len()
        )
    );
    assert_eq!(
        arrives("POST /bytes\nContent-Type: text/plain\n% body from lots/new.json verbatim\n", &[]),
        "POST /bytes HTTP/1.1\r\ncontent-type: text/plain\r\ncontent-length: 47\r\n\r\n{ \"grower\": \"{{grower}}\", \"bins\": {{bins}} }\n"
            .replace("length: 47", "length: 45")
    );
}

#[test]
fn paths_may_not_leave_the_workspace() {
    let faulty = FaultyServer::start().expect("a server");
    let outside = tempfile::tempdir().expect("a folder");
    std::fs::write(outside.path().join("keys.txt"), "keys").expect("a file");
    let workspace = workspace(&faulty);
    std::os::unix::fs::symlink(outside.path(), workspace.path().join("out")).expect("a link");
    std::os::unix::fs::symlink(outside.path().join("keys.txt"), workspace.path().join("keys.txt")).expect("a link");
    for (line, why) in [
        ("% body from ../x.json", "it is outside the workspace"),
        ("% body from /etc/hostname verbatim", "it is outside the workspace"),
        ("% body from keys.txt", "it links to a file outside the workspace"),
        ("% part keys from out/keys.txt", "it links to a file outside the workspace"),
        ("% body from lots", "it is not a file"),
        ("% body from lots/gone.json", "file not found"),
        ("% part photo from {{'../' + 'x'}}", "it is outside the workspace"),
    ] {
        std::fs::write(workspace.path().join("a.http"), format!("POST /bytes\n{line}\n")).expect("a file");
        let run = workspace.run(&["send", "a.http"]).exits(2);
        assert!(run.stderr.contains("a.http:2:") && run.stderr.contains(why), "{line}: {}", run.stderr);
    }
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).unwrap_or_default();
    let config = format!("[workspace]\nsaved = 'out'\n{config}");
    std::fs::write(workspace.path().join("yieldtray.toml"), config).expect("a file");
    for (path, why) in [
        ("../x.bin", "not a file inside the directory `out`"),
        ("x.bin", "outside the workspace"),
        ("new/", "not a file inside"),
    ] {
        std::fs::write(workspace.path().join("a.http"), format!("/bytes\n\n% save {path}\n")).expect("a file");
        let run = workspace.run(&["send", "a.http"]);
        assert!(run.code >= 2 && run.stderr.contains(why), "{path}: {}", run.both());
    }
    assert_eq!(faulty.requests(), 0);
    assert_eq!(std::fs::read_dir(outside.path()).expect("a folder").count(), 1, "nothing was written there");
}

#[test]
fn a_body_is_edited_for_one_sending() {
    let faulty = FaultyServer::start().expect("a server");
    let text = "%% a\nPOST /bytes\nContent-Type: text/plain\n\n{{bins}} bins\n\n% check status == 200\n%% b\n/bytes\n";
    let workspace = workspace(&faulty).file("a.http", text);
    let editor = |script: &str| [("VISUAL", format!("sh -c '{script}' editor")), ("EDITOR", "false".to_owned())];
    let run = |script: &str, cell: &str| {
        let variables = editor(script);
        let variables = variables.each_ref().map(|(name, value)| (*name, value.as_str()));
        workspace.run_with(&["send", cell, "--edit"], "", &variables)
    };
    let sent = run("echo \"and {{bins + 1}}\" >> \"$1\"", "a").exits(0).stdout;
    assert!(sent.ends_with("\r\n\r\n24 binsand 25"), "{sent}");
    let sent = run("printf \"[1]\" > \"$1\"", "b").exits(0).stdout;
    assert!(sent.contains("content-type: application/json\r\n") && sent.ends_with("\r\n\r\n[1]"), "{sent}");
    assert_eq!(std::fs::read_to_string(workspace.path().join("a.http")).expect("the file"), text);
    let requests = faulty.requests();
    assert!(run("exit 3", "a").exits(2).stderr.contains("nothing was sent"));
    assert!(run("echo %% more > \"$1\"", "a").exits(2).stderr.contains("would not be read as a body"));
    assert!(
        workspace
            .run_with(&["send", "a", "--edit"], "", &[("VISUAL", ""), ("EDITOR", "")])
            .exits(2)
            .stderr
            .contains("set VISUAL or EDITOR")
    );
    assert_eq!(faulty.requests(), requests, "none of these was sent");
}

#[test]
fn a_tried_request_becomes_a_cell() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty);
    let file = || std::fs::read_to_string(workspace.path().join("tried.http")).unwrap_or_default();
    workspace.run(&["send", "--text", "/bytes?a=1", "--append", "tried.http"]).exits(0);
    std::fs::create_dir(workspace.path().join("requests")).expect("a folder");
    workspace.run(&["send", "--text", "/bytes?a=1", "--append", "requests/tried.http"]).exits(0);
    std::fs::remove_dir_all(workspace.path().join("requests")).expect("a folder");
    let run = workspace.run(&["send", "--text", "/bytes?a=2", "-H", "X-Note: n", "--append", "tried.http"]).exits(0);
    assert!(run.stderr.contains("appended as `get-bytes-2`"), "{}", run.stderr);
    let cell = "%% Book in\nPOST /bytes\n\n[{{bins}}]\n\n% check status == 200\n";
    workspace.run_with(&["send", "-", "--append", "tried.http"], cell, &[]).exits(0);
    assert_eq!(
        file(),
        "%% GET /bytes\n/bytes?a=1\n\n%% GET /bytes 2\n/bytes?a=2\nX-Note: n\n\n%% Book in\nPOST /bytes\n\n[{{bins}}]\n\n% check status == 200\n"
    );
    assert_eq!(workspace.run(&["replay", "tried.http", "--json"]).exits(0).stdout.lines().count(), 5);
    let before = file();
    for (args, why) in [
        (
            &["send", "--text", "%% Book in\n/bytes", "--append", "tried.http"][..],
            "already contains a request named `book-in`",
        ),
        (&["send", "--text", "/bytes", "--append", "tried.txt"], "is not a request file"),
        (&["send", "book-in", "--append", "tried.http"], "is already in a file"),
        (&["send", "--text", "http://127.0.0.1:1/", "--append", "tried.http"], "nothing was appended"),
    ] {
        let run = workspace.run(args);
        assert!(run.code >= 2 && run.stderr.contains(why), "{}", run.both());
    }
    assert_eq!(file(), before);
}

/// Changes that are saved to a file during its request are kept, and so are those of other processes.
#[test]
fn appending_loses_nothing_that_others_write_meanwhile() {
    let (arrived, requests) = mpsc::channel();
    let base = crate::support::server(move |head| {
        let slow = head.starts_with("GET /slow");
        if slow {
            let _ = arrived.send(());
        }
        (Duration::from_millis(if slow { 900 } else { 0 }), b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n".to_vec())
    });
    let workspace =
        TestWorkspace::empty().file("yieldtray.toml", &format!("[values]\nbase = '{base}'\n")).file("a.http", "");
    let path = workspace.path().join("a.http");
    thread::scope(|scope| {
        let sent = scope.spawn(|| workspace.run(&["send", "--text", "/slow", "--append", "a.http"]).exits(0));
        requests.recv_timeout(Duration::from_secs(60)).expect("the request arrives");
        std::fs::write(&path, "%% Saved meanwhile\n/saved\n").expect("it can be written");
        sent.join().expect("it was sent");
    });
    assert_eq!(std::fs::read_to_string(&path).expect("text"), "%% Saved meanwhile\n/saved\n\n%% GET /slow\n/slow\n");
    // Eight at once, of both kinds.
    thread::scope(|scope| {
        for number in 0..4 {
            let workspace = &workspace;
            scope.spawn(move || {
                workspace.run(&["send", "--text", &format!("/lots/{number}"), "--append", "a.http"]).exits(0);
            });
            scope.spawn(move || {
                workspace
                    .run(&[
                        "import",
                        "curl",
                        &format!("curl {}/trays/{number}", "http://127.0.0.1:1"),
                        "--into",
                        "a.http",
                    ])
                    .exits(0);
            });
        }
    });
    let file = std::fs::read_to_string(&path).expect("text");
    for number in 0..4 {
        for part in [format!("/lots/{number}\n"), format!("/trays/{number}\n")] {
            assert!(file.contains(&part), "{part} is not in {file}");
        }
    }
    assert_eq!(file.matches("%% ").count(), 10, "{file}");
}

#[test]
fn a_dry_request_is_one_document() {
    let workspace = TestWorkspace::empty().file("yieldtray.toml", "[values]\nbase = 'http://127.0.0.1:1'\n");
    let run =
        workspace.run(&["send", "--text", "/lots?{{crate}}", "--set", "crate=C-1", "--dry-run", "--json"]).exits(0);
    assert_eq!(run.json()["request"]["url"], "http://127.0.0.1:1/lots?C-1", "{}", run.stdout);
    let run = workspace.run(&["send", "--text", "/lots?{{crate}}", "--dry-run", "--json"]).exits(2);
    assert_eq!(run.json()["diagnostics"][0]["code"], "unknown-variable", "{}", run.stdout);
    // Invalid arguments are reported as JSON, too.
    let run = workspace.run(&["send", "--json", "--drye", "a.http"]).exits(2);
    let record = &run.json()["diagnostics"][0];
    assert_eq!(
        (&record["message"], &record["severity"]),
        (&"unexpected argument '--drye' found".into(), &"error".into())
    );
    assert_eq!((record["hint"].as_str(), run.stderr.as_str()), (Some("a similar argument exists: '--dry'"), ""));
}

#[test]
fn trailers_come_after_the_body_and_can_be_checked() {
    let base = server(|_| {
        let response = "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: X-Weighed\r\n\r\n4\r\nkilo\r\n0\r\nX-Weighed: 12.5\r\nX-Token: windfall\r\n\r\n";
        (Duration::ZERO, response.as_bytes().to_vec())
    });
    let cell = format!("GET {base}\nTE: trailers\n\n% check trailers['x-weighed'] == '12.5' && body == 'kilo'\n");
    let workspace = TestWorkspace::new().file("a.http", &cell);
    let run = workspace.run(&["send", "a.http", "--show", "head"]).exits(0);
    assert!(run.stdout.contains("trailer x-weighed: 12.5\ntrailer x-token: [secret]\n"), "{}", run.stdout);
    let run = workspace.run(&["send", "a.http", "--json"]).exits(0);
    assert_eq!(run.json()["response"]["parts"]["trailers"][0], serde_json::json!(["x-weighed", "12.5"]));
    workspace.run(&["replay", "--from-log"]).exits(0);
    // Also by the client that knows proxies, TLS and HTTP/2.
    let config = format!("[send]\nproxy = '{base}'\n");
    let through = TestWorkspace::empty()
        .file("yieldtray.toml", &config)
        .file("a.http", &cell.replace(&base, "http://scale.packhouse.example/"));
    let run = through.run(&["send", "a.http", "--show", "head"]).exits(0);
    assert!(run.stdout.contains("trailer x-weighed: 12.5\n"), "{}", run.stdout);
}

#[test]
fn names_go_out_as_they_are_written_where_a_server_needs_it() {
    let base = server(|head| (Duration::ZERO, answer("text/plain", head)));
    let cell = format!(
        "POST {base}/lots\nX-Gate-ID: 7\nCONTENT-type: text/plain\nx-lower: a\n\nhello\n\n% check text.contains('X-Gate-ID: 7') && text.contains('CONTENT-type: text/plain') && text.contains('x-lower: a')\n"
    );
    let config = "[send]\nheader_case = 'as-written'\n";
    let workspace = TestWorkspace::empty().file("yieldtray.toml", config).file("a.http", &cell);
    let run = workspace.run(&["send", "a.http"]).exits(0);
    assert!(run.stdout.contains("Host: 127.0.0.1:") && run.stdout.contains("Content-Length: 5"), "{}", run.stdout);
    let lower = TestWorkspace::empty().file("a.http", &cell).run(&["send", "a.http"]).exits(1);
    assert!(lower.stdout.contains("x-gate-id: 7"), "{}", lower.stdout);
    let wrong = TestWorkspace::empty().file("yieldtray.toml", "[send]\nheader_case = 'Title'\n").file("a.http", &cell);
    assert!(wrong.run(&["send", "a.http"]).exits(2).stderr.contains("use `\"lower\"` or `\"as-written\"`"));
}

#[test]
fn a_server_that_asks_to_wait_is_asked_again() {
    let count = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let base = server({
        let count = std::sync::Arc::clone(&count);
        move |_| {
            match count.fetch_add(1, std::sync::atomic::Ordering::Relaxed) {
            0 => (Duration::ZERO, b"HTTP/1.1 429 Too Many Requests\r\nRetry-After: 0\r\nContent-Length: 0\r\n\r\n".to_vec()),
            1 => (Duration::ZERO, b"HTTP/1.1 503 Service Unavailable\r\nRetry-After: Sun, 06 Nov 1994 08:49:37 GMT\r\nContent-Length: 0\r\n\r\n".to_vec()),
            2 => (Duration::ZERO, answer("text/plain", "now")),
            _ => (Duration::ZERO, b"HTTP/1.1 429 Too Many Requests\r\nRetry-After: 3600\r\nContent-Length: 0\r\n\r\n".to_vec()),
        }
        }
    });
    let workspace = TestWorkspace::new()
        .file("a.http", &format!("% retry after 5s\n\n%% a\nPOST {base}\n\n% check status == 200\n"));
    let run = workspace.run(&["send", "a"]).exits(0);
    assert!(run.stderr.contains("3 attempts"), "{}", run.stderr);
    // An hour is more than the user waits.
    let run = workspace.run(&["send", "a"]).exits(1);
    assert!(run.stderr.contains("429") && !run.stderr.contains("attempts"), "{}", run.stderr);
    let wrong = TestWorkspace::new().file("a.http", "% retry soon\n\n%% a\nGET /health\n").run(&["send", "a"]).exits(2);
    assert!(wrong.stderr.contains("`% retry` is missing `after DURATION`"), "{}", wrong.stderr);
}
