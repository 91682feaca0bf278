//! Prompts in a pseudo-terminal, and the messages without one.

use crate::support::TestWorkspace;
use crate::support::terminal::{Terminal, plain};

const BOOKING: &str = "%% Book in
% ask grower \"Which grower?\" default 'G-11' from ['G-11', 'G-13', 'G-12']
% ask bins \"How many bins?\" default 12
% ask key \"The scale's key?\" secret
POST /lots
X-Api-Key: {{key}}

{ \"grower\": \"{{grower}}\", \"bins\": {{bins}} }

% check status == 201
% check body.bins == bins && body.grower == grower

%% Book in again
% ask key \"The scale's key?\" secret
POST /lots
X-Api-Key: {{key}}

{ \"grower\": \"G-11\", \"bins\": 3 }

% check status == 201
";

#[test]
fn questions_are_asked_once_a_run_and_secrets_are_not_seen() {
    let workspace = TestWorkspace::new().file("a.http", BOOKING);
    let mut terminal = Terminal::start(&workspace, &["replay"], 100, &[]);
    // An unknown choice is refused; a choice can be named or numbered.
    terminal.wait_for("Which grower?").wait_for("3  G-12").wait_for("[1]").type_in("G-99\r");
    terminal.wait_for("type a number from 1 to 3, or one of the values").wait_for("[1]").type_in("2\r");
    terminal.wait_for("How many bins?").wait_for("12").type_in("30\r");
    terminal.wait_for("The scale's key?").type_in("local-key-4616\r");
    let (code, shown) = terminal.end();
    let shown = plain(&shown);
    assert_eq!(code, 0, "{shown}");
    assert!(shown.starts_with("local  http://"), "who is asked knows where it goes: {shown}");
    assert!(shown.contains("2 requests · 3 checks · all passed"), "{shown}");
    assert_eq!(shown.matches("[hidden]").count(), 1, "asked once: {shown}");
    assert!(!shown.contains("local-key"), "{shown}");

    // The return key alone takes the default; with `--set` there is no prompt.
    let mut terminal = Terminal::start(&workspace, &["send", "book-in", "--set", "key=local-key-4616"], 100, &[]);
    terminal.wait_for("Which grower?").wait_for("[1]").type_in("\r").wait_for("How many bins?").type_in("\r");
    let (code, shown) = terminal.end();
    assert_eq!(code, 0, "{shown}");
    assert!(plain(&shown).contains("\"bins\": 12"), "{shown}");
}

#[test]
fn where_nobody_can_be_asked_the_way_out_is_told() {
    let workspace = TestWorkspace::new().file("a.http", BOOKING);
    let run = workspace.run(&["send", "book-in"]).exits(2);
    assert!(
        run.stderr.contains(
            "[unanswered-prompt]: `key` must be prompted for, which is not possible here: “The scale's key?”"
        )
    );
    assert!(run.stderr.contains("hint: pass `--set key=…`"), "{}", run.stderr);
    assert!(run.stderr.contains("[default-used]: cannot prompt for `bins`: using its default, 12"));
    let run = workspace.run(&["replay", "--set", "key=local-key-4616", "--set", "grower=G-13"]).exits(0);
    assert!(!run.stderr.contains("grower") && run.stderr.contains("`bins`"), "{}", run.stderr);
}

#[test]
fn an_interrupt_leaves_the_terminal_as_it_was() {
    let workspace = TestWorkspace::new().file("a.http", BOOKING);
    for (set, question) in [
        (&["--set", "bins=1", "--set", "grower=G-11"][..], "The scale's key?"),
        (&["--set", "key=x", "--set", "grower=G-11"], "How many bins?"),
        (&["--set", "key=x", "--set", "bins=1"], "[1]"),
    ] {
        let args: Vec<&str> = ["send", "book-in"].iter().chain(set).copied().collect();
        let mut terminal = Terminal::start(&workspace, &args, 100, &[]);
        terminal.wait_for(question);
        terminal.type_in("\u{3}");
        assert!(terminal.echoes(), "{question}: what is typed next is seen");
        let (code, shown) = terminal.end();
        assert!(code != 0, "{question}: {shown}");
        assert!(!shown.contains("\u{1b}[?25l"), "{question}: the cursor is never hidden: {shown:?}");
        assert!(!workspace.path().join(".yieldtray").exists(), "{question}: nothing is left behind");
    }
}

#[test]
fn a_guarded_environment_asks_before_it_is_changed() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "%% Book in\nPOST /lots\nX-Api-Key: local-key-4616\n\n{ \"grower\": \"G-11\", \"bins\": 3 }\n\n%% Look\nGET /lots\n",
    );
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    let workspace =
        workspace.file("yieldtray.toml", &format!("{config}\n[environments.live]\nguard = true\ntint = \"red\"\n"));
    let base = workspace.base();

    let refused = workspace.run(&["replay", "-e", "live"]).exits(2);
    assert!(
        refused.stderr.contains(&format!(
            "environment `live` is guarded, and 1 request with POST may modify data at {base}/lots"
        ))
    );
    assert!(refused.stderr.contains("pass `--yes` to send anyway; nothing was sent"), "{}", refused.stderr);
    workspace.run(&["replay", "-e", "live", "--yes"]).exits(0);
    workspace.run(&["send", "look", "-e", "live"]).exits(0);
    workspace.run(&["send", "book-in", "-e", "local"]).exits(0);

    let mut terminal = Terminal::start(&workspace, &["send", "book-in", "-e", "live"], 120, &[]);
    terminal.wait_for(&format!("Environment live is guarded. Send 1 request with POST to {base}/lots?")).type_in("n");
    let (code, shown) = terminal.end();
    assert_eq!(code, 2, "{shown}");
    assert!(shown.contains("cancelled; nothing was sent"), "{shown}");
    let mut terminal = Terminal::start(&workspace, &["send", "book-in", "-e", "live"], 120, &[]);
    terminal.wait_for("is guarded").type_in("y");
    let (code, shown) = terminal.end();
    assert_eq!(code, 0, "{shown}");
    assert!(shown.contains("\u{1b}[1m\u{1b}[31mlive\u{1b}[0m"), "the name stands in its tint: {shown:?}");
}

#[test]
fn what_is_missing_is_offered_to_be_sent_first() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "%% Sign in\nPOST /session\n\n{ \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }\n\n\
         % yield token = body.token secret\n\n\
         %% Book in\nPOST /lots\nAuthorization: Bearer {{token}}\n\n{ \"grower\": \"G-11\", \"bins\": 3 }\n\n\
         % yield lot_id = body.id\n\n%% Look at it\n% needs book-in\nGET /lots/{{lot_id}}\n\n% check body.id == lot_id\n",
    );
    let mut terminal = Terminal::start(&workspace, &["send", "look-at-it"], 160, &[]);
    terminal
        .wait_for("`look-at-it` needs `lot_id`, which `book-in` yields.")
        .wait_for("`book-in` needs `token`, which `sign-in` yields.")
        .wait_for("Send `sign-in` and `book-in` first?")
        .type_in("y");
    let (code, shown) = terminal.end();
    assert_eq!(code, 0, "{shown}");
    assert!(plain(&shown).contains("1 check passed"), "{shown}");

    // Now it is on the tray: nobody is asked, in this process or the next.
    let (code, shown) = Terminal::start(&workspace, &["send", "look-at-it"], 160, &[]).end();
    assert_eq!(code, 0, "{shown}");
    assert!(!shown.contains("first?"), "{shown}");
    workspace.run(&["tray", "clear"]).exits(0);
    let mut terminal = Terminal::start(&workspace, &["send", "look-at-it"], 160, &[]);
    terminal.wait_for("first?").type_in("n");
    let (code, shown) = terminal.end();
    assert_eq!(code, 2, "{shown}");
    let alone = workspace.run(&["send", "look-at-it", "--needs", "never"]).exits(2);
    assert!(alone.stderr.contains("send `book-in` first: add `--needs send`"), "{}", alone.stderr);
    workspace.run(&["send", "look-at-it", "--needs", "send"]).exits(0);
}

#[test]
fn secrets_are_shown_on_a_terminal_to_who_says_yes() {
    let workspace = TestWorkspace::new()
        .file(
            "yieldtray.local.toml",
            "[environments.local.values]\nkey = { value = \"local-key-4616\", secret = true }\n",
        )
        .file("a.http", "GET /lots?per_page=1\nX-Api-Key: {{key}}\n");
    let refused = workspace.run(&["send", "a.http", "--reveal"]).exits(2);
    assert!(refused.stderr.contains("`--reveal` works only on a terminal"), "{}", refused.stderr);
    for (answer, seen) in [("y", true), ("n", false)] {
        for args in [&["send", "a.http", "--show", "sent", "--reveal"][..], &["values", "a.http", "--reveal"]] {
            let mut terminal = Terminal::start(&workspace, args, 120, &[]);
            terminal.wait_for("Show secrets on this screen?").type_in(answer);
            let (code, shown) = terminal.end();
            assert_eq!(code, 0, "{shown}");
            assert_eq!(shown.contains("local-key-4616"), seen, "{args:?} {answer}: {shown}");
        }
    }
}

#[test]
fn a_question_tells_no_secret_and_drives_no_terminal() {
    let workspace = TestWorkspace::new()
        .file("yieldtray.local.toml", "[values]\npin = { value = \"windfall-4616\", secret = true }\n")
        .file(
            "a.http",
            "%% a\n% ask plain \"PIN?\" default pin\n% ask one \"Which?\" default pin from ['other', pin]\n% ask odd \"Odd?\" default \"a\\u001b[2Jb\"\nGET /health\nX-A: {{base64(plain + one + odd)}}\n",
        );
    let mut terminal = Terminal::start(&workspace, &["send", "a.http", "--show", "sent"], 120, &[]);
    terminal.wait_for("PIN? [secret]").type_in("\r").wait_for("1  [secret]").wait_for("[2]").type_in("\r");
    terminal.wait_for("Odd? [a\\u{1b}[2Jb]").type_in("\r");
    let (code, shown) = terminal.end();
    assert_eq!(code, 0, "{shown}");
    assert!(!shown.contains("windfall") && !shown.contains("\u{1b}[2Jb"), "{shown:?}");
}

#[cfg(unix)]
#[test]
fn an_interrupted_question_ends_the_run_in_good_order() {
    let cells = "%% Book\nPOST /lots\nX-Api-Key: local-key-4616\n\n{ \"grower\": \"G-11\", \"bins\": 3 }\n\n% yield lot_id = body.id\n\n\
        %% Weigh\n% ask tray \"Which tray?\"\nGET /health\n\n\
        %% Wait\n% afterwards\nGET /scale/reading?ms=400\n\n% check body.still\n\n\
        %% Take away\n% afterwards\nDELETE /lots/{{lot_id}}\nX-Api-Key: local-key-4616\n\n% check status == 204\n";
    let workspace = TestWorkspace::new().file("a.http", cells);
    let mut terminal = Terminal::start(&workspace, &["replay"], 100, &[("NO_COLOR", "1")]);
    terminal.wait_for("Which tray?").type_in("\u{3}");
    let (code, shown) = terminal.end();
    assert_eq!(code, 130, "{shown}");
    // The one Ctrl-C ends the question and the run, and none of what undoes it.
    assert!(shown.contains("3 requests · 2 checks · 1 not reached · interrupted"), "{shown}");
    assert!(!shown.contains("no answer"), "{shown}");
}

#[test]
fn a_watched_guarded_environment_asks_before_the_first_change() {
    let config = |base: &str| {
        format!(
            "[workspace]\nenvironment = \"live\"\n[environments.live]\nguard = true\n[environments.live.values]\nbase = \"{base}\"\n"
        )
    };
    let workspace = TestWorkspace::new();
    let config = config(&workspace.base());
    let workspace = workspace.file("yieldtray.toml", &config).file("a.http", "%% Look\nGET /health\n");
    let write = |text: &str| std::fs::write(workspace.path().join("a.http"), text).expect("a file");
    let mut terminal = Terminal::start(&workspace, &["replay", "--watch"], 100, &[("NO_COLOR", "1")]);
    // Reading needs no confirmation; a missing terminal is not a confirmation.
    terminal.wait_for("waiting for changes");
    write("%% Look\nGET /health\n\n%% End\nDELETE /session\n");
    terminal.wait_for("Environment live is guarded").type_in("n");
    terminal.wait_for("cancelled; nothing was sent").wait_for("waiting for changes");
    write("%% Look\nGET /health\n\n%% End it\nDELETE /session\n");
    terminal.wait_for("Environment live is guarded").type_in("y");
    terminal.wait_for("2 requests").wait_for("waiting for changes");
    // `--yes` confirms.
    write("%% Look\nGET /health\n\n%% End it all\nDELETE /session\n");
    terminal.wait_for("end-it-all").wait_for("waiting for changes").type_in("\u{3}");
    let (code, shown) = terminal.end();
    assert_eq!(code, 130, "{shown}");
    assert_eq!(plain(&shown).matches("[y/N]").count(), 2, "{shown}");
}
