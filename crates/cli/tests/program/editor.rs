//! The language server, driven like an editor does.

use crate::support::TestWorkspace;
use crate::support::editor::{Editor, described};
use serde_json::{Value, json};

const INTAKE: &str = "# The intake desk.\n\n%% Sign in\nPOST /session\n\n\
    { \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }\n\n\
    % yield token = body.token secret\n% check status == 200\n\n\
    %% Book a lot in\n% needs sign-in\nPOST /lots\nAuthorization: Bearer {{token}}\n\n\
    { \"grower\": \"{{grower}}\", \"bins\": 24, \"variety\": \"gala\" }\n\n\
    % yield lot_id = body.id\n% check status == 201\n% check body.bins == 25\n\n\
    %% Look\nGET /lots/{{lot_id}}\n\n% check status == 200\n";

fn workspace() -> TestWorkspace {
    TestWorkspace::new().file("intake.http", INTAKE)
}

/// The position of a text in another: line and column, from 0.
fn place(text: &str, of: &str) -> (u32, u32) {
    let at = text.find(of).expect("it is there");
    let line = text[..at].matches('\n').count();
    let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
    (line as u32, text[start..at].encode_utf16().count() as u32)
}

#[test]
fn what_is_wrong_is_told_while_it_is_written_and_mended() {
    let workspace = workspace();
    let mut editor = Editor::start(&workspace);
    assert_eq!(described(&editor.open("intake.http")), Vec::<String>::new());
    let slips = INTAKE.replace("{{grower}}", "{{growr}}").replace("\"gala\" }", "\"gala\", }");
    let found = editor.change("intake.http", &slips);
    assert_eq!(
        described(&found),
        [
            "15 unknown-variable: no variable named `growr`",
            "15 bad-json: this body is not JSON: a comma after the last value"
        ]
    );
    // Typed letter by letter, in ranges, with a fruit that has two units of UTF-16 before it.
    let (line, column) = place(&slips, "growr");
    let at = |from: u32, to: u32| json!({ "start": { "line": line, "character": from }, "end": { "line": line, "character": to } });
    let changes = json!([{ "range": at(2, 2), "text": "\"🍏\": 1, " }, { "range": at(column + 9, column + 14), "text": "grower" }]);
    let found = editor.change_by("intake.http", changes);
    assert_eq!(described(&found), ["15 bad-json: this body is not JSON: a comma after the last value"]);
    let actions = editor.ask(
        "textDocument/codeAction",
        json!({ "textDocument": { "uri": editor.uri("intake.http") }, "range": found[0]["range"], "context": { "diagnostics": found } }),
    );
    let fix = &actions[0];
    assert_eq!(fix["title"], "Remove `,`");
    let edit = &fix["edit"]["documentChanges"][0]["edits"][0];
    assert_eq!((&edit["newText"], &edit["range"]), (&json!(""), &found[0]["range"]));
    assert_eq!(editor.change_by("intake.http", json!([{ "range": edit["range"], "text": "" }])), [] as [Value; 0]);
    assert_eq!(editor.end(), 0);
}

#[test]
fn a_cell_is_sent_from_its_lens_and_what_failed_is_drawn() {
    let workspace = workspace();
    let mut editor = Editor::start(&workspace);
    editor.open("intake.http");
    let titles = |lenses: &Value| -> Vec<String> {
        let all = lenses.as_array().expect("lenses").iter();
        all.map(|lens| {
            format!("{} {}", lens["range"]["start"]["line"], lens["command"]["title"].as_str().unwrap_or(""))
        })
        .collect()
    };
    let lenses = editor.about("textDocument/codeLens", "intake.http");
    assert_eq!(
        titles(&lenses),
        [
            "0 Environment: local",
            "0 Replay",
            "2 Send",
            "10 Send",
            "10 Send with its dependencies",
            "21 Send",
            "21 Send with its dependencies"
        ]
    );
    let command = &lenses[4]["command"];
    editor.ask("workspace/executeCommand", json!({ "command": command["command"], "arguments": command["arguments"] }));
    let progress = editor.hear("$/progress");
    assert_eq!(progress["value"]["title"], "Send book-a-lot-in");
    let sheet = editor.sheet();
    let lines: Vec<&str> = sheet.lines().collect();
    assert_eq!(workspace.redacted(lines[0]), "local  http://127.0.0.1:#####  intake.http:11  book-a-lot-in");
    assert!(lines[1].contains("sign-in") && lines[1].contains("200"), "{sheet}");
    assert!(sheet.contains("1 of 2 checks failed") && sheet.contains("body.bins  is  24"), "{sheet}");
    assert!(sheet.contains("\"variety\": \"gala\"") && sheet.contains("content-type: application/json"), "{sheet}");
    let found = editor.wait(|message| {
        message["params"]["diagnostics"].as_array().is_some_and(|list| list.iter().any(|one| one["code"] == "failed"))
    });
    let found = found["params"]["diagnostics"].as_array().expect("a list").clone();
    assert_eq!(described(&found), ["19 failed: failed for `book-a-lot-in`: body.bins is 24"]);
    // Lines above it move it; mended and sent again, it is gone.
    let moved = editor.change("intake.http", &format!("# New.\n{INTAKE}"));
    assert_eq!(described(&moved), ["20 failed: failed for `book-a-lot-in`: body.bins is 24"]);
    // Now there is a response to check against.
    editor.change("intake.http", &INTAKE.replace("== 25", "== 24"));
    let lenses = editor.about("textDocument/codeLens", "intake.http");
    assert!(titles(&lenses).contains(&"10 Check against the last response".to_owned()), "{lenses}");
    editor.run("yieldtray.judge", "intake.http", Some("book-a-lot-in"));
    let sheet = editor.sheet();
    assert!(sheet.contains("nothing was sent; response from") && sheet.contains("2 checks passed"), "{sheet}");
    let cleared = editor.wait(|message| message["params"]["diagnostics"] == json!([]));
    assert_eq!(cleared["params"]["uri"], editor.uri("intake.http"));
    assert_eq!(editor.end(), 0);
}

#[test]
fn a_file_is_replayed_with_progress() {
    let workspace = workspace();
    let mut editor = Editor::start(&workspace);
    editor.open("intake.http");
    editor.run("yieldtray.replay", "intake.http", None);
    let sheet = editor.sheet();
    assert!(sheet.contains("intake.http") && sheet.contains("3 requests · 4 checks · 1 failed"), "{sheet}");
    // Progress is reported once the client has created its token, and always to its end.
    let first = editor.hear("$/progress")["value"].clone();
    assert_eq!((&first["kind"], &first["cancellable"]), (&json!("begin"), &json!(true)));
    while editor.hear("$/progress")["value"]["kind"] != "end" {}
    // It is in the log like any other.
    assert_eq!(workspace.run(&["log", "--json"]).exits(0).json()["exchanges"].as_array().map(Vec::len), Some(3));
    assert_eq!(editor.end(), 0);
}

#[test]
fn what_is_lacking_is_asked_for_and_never_hung_on() {
    let asking = "%% Ask\n% ask bins \"How many bins?\" from [12, 24]\nGET /echo?bins={{bins}}\n\n\
        %% Type\n% ask note \"Which note?\"\nGET /echo?note={{note}}\n\n\
        %% Other\n% ask crate \"Which crate?\" default 'C-1'\nGET /echo?crate={{crate}}\n\n\
        %% Hide\n% ask pin \"Which pin?\" secret\nGET /echo?pin={{pin}}\n\n\
        %% Needs\nGET /lots/{{lot}}\n\n%% Gives\nGET /lots\n\n% yield lot = body.lots[0].id\n";
    let workspace = workspace().file("ask.http", asking);
    let mut editor = Editor::start(&workspace);
    editor.open("ask.http");
    // A line behind the end is nobody's.
    let behind = json!({ "command": "yieldtray.send", "arguments": [{ "uri": editor.uri("ask.http"), "line": 99 }] });
    let refused = editor.answer("workspace/executeCommand", behind);
    assert_eq!(refused["error"]["message"], "line 99 does not exist: the file has 24 lines");
    // One of several: buttons.
    editor.run("yieldtray.send", "ask.http", Some("ask"));
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    assert_eq!(asked["params"]["message"], "How many bins?");
    assert_eq!(asked["params"]["actions"], json!([{ "title": "12" }, { "title": "24" }]));
    editor.reply(&asked, json!({ "title": "24" }));
    assert!(editor.sheet().contains("/echo?bins=24"));
    // The prompt is cancelled.
    editor.run("yieldtray.send", "ask.http", Some("ask"));
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    editor.reply(&asked, Value::Null);
    assert_eq!(editor.hear("window/showMessage")["message"], "nothing was sent");
    // Text: a document to write into, which is read with the next try and then gone.
    editor.run("yieldtray.send", "ask.http", Some("type"));
    let shown = editor.hear("window/showDocument");
    let file = shown["uri"].as_str().expect("an address").trim_start_matches("file://").to_owned();
    let text = std::fs::read_to_string(&file).expect("the document is there");
    assert!(text.contains("# Which note?\nnote = \n"), "{text}");
    editor.wait(|message| message["params"]["message"] == "nothing was sent");
    std::fs::write(&file, text.replace("note = ", "note = ripe")).expect("it can be written");
    editor.run("yieldtray.send", "ask.http", Some("type"));
    assert!(editor.sheet().contains("/echo?note=ripe"));
    assert!(!std::path::Path::new(&file).exists());
    // A default, or another text.
    editor.run("yieldtray.send", "ask.http", Some("other"));
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    assert_eq!(asked["params"]["actions"], json!([{ "title": "C-1" }, { "title": "Write another value" }]));
    editor.reply(&asked, json!({ "title": "C-1" }));
    assert!(editor.sheet().contains("/echo?crate=C-1"));
    // A secret is not written down.
    editor.run("yieldtray.send", "ask.http", Some("hide"));
    let said = editor.wait(|message| message["params"]["message"].as_str().is_some_and(|text| text.contains("`pin`")));
    assert!(said["params"]["message"].as_str().expect("text").contains("yieldtray.local.toml"));
    editor.wait(|message| message["params"]["message"] == "nothing was sent");
    // A value that another cell yields.
    editor.run("yieldtray.send", "ask.http", Some("needs"));
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    assert_eq!(asked["params"]["message"], "`needs` needs `lot`, which `gives` yields. Send `gives` first?");
    editor.reply(&asked, json!({ "title": "Send them first" }));
    assert!(editor.sheet().contains("200 OK"));
    assert_eq!(editor.end(), 0);
}

#[test]
fn a_client_with_an_input_of_its_own_is_asked_there() {
    let workspace = workspace().file("ask.http", "%% Hide\n% ask pin \"Which pin?\" secret\nGET /echo?pin={{pin}}\n");
    let capabilities = json!({ "window": { "showDocument": { "support": true } } });
    let mut editor =
        Editor::with(&workspace, &json!({ "capabilities": capabilities, "initializationOptions": { "asks": true } }));
    editor.open("ask.http");
    editor.run("yieldtray.send", "ask.http", Some("hide"));
    let asked = editor.wait(|message| message["method"] == "yieldtray/ask");
    assert_eq!((&asked["params"]["question"], &asked["params"]["secret"]), (&json!("Which pin?"), &json!(true)));
    editor.reply(&asked, json!("4616-windfall"));
    let sheet = editor.sheet();
    assert!(sheet.contains("200 OK") && !sheet.contains("4616-windfall"), "{sheet}");
    assert_eq!(editor.end(), 0);
}

#[test]
fn a_guarded_environment_is_asked_about_and_another_is_chosen() {
    let workspace = workspace();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the configuration");
    let guarded =
        config.replace("[environments.live.values]", "[environments.live]\nguard = true\n\n[environments.live.values]");
    let workspace = workspace.file("yieldtray.toml", &guarded);
    let mut editor = Editor::start(&workspace);
    editor.open("intake.http");
    editor.run("yieldtray.environment", "intake.http", None);
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    assert_eq!(asked["params"]["actions"], json!([{ "title": "local" }, { "title": "live" }]));
    editor.reply(&asked, json!({ "title": "live" }));
    // Its diagnostics are published again, since the environment has changed.
    editor.found("intake.http");
    let lenses = editor.about("textDocument/codeLens", "intake.http");
    assert_eq!(lenses[0]["command"]["title"], "Environment: live");
    assert_eq!(workspace.run(&["env", "--json"]).exits(0).json()["chosen"], "live");
    editor.run("yieldtray.send", "intake.http", Some("sign-in"));
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    let message = asked["params"]["message"].as_str().expect("text").to_owned();
    assert!(message.starts_with("Environment live is guarded. Send 1 request with POST to "), "{message}");
    editor.reply(&asked, json!({ "title": "Do not send" }));
    assert_eq!(editor.hear("window/showMessage")["message"], "cancelled; nothing was sent");
    editor.run("yieldtray.send", "intake.http", Some("sign-in"));
    let asked = editor.wait(|message| message["method"] == "window/showMessageRequest");
    editor.reply(&asked, json!({ "title": "Send to live" }));
    assert!(editor.sheet().contains("live  http"));
    assert_eq!(editor.end(), 0);
}

#[test]
fn a_long_one_is_stopped_from_the_editor() {
    let slow = crate::support::raw_server(b"", true);
    let workspace = workspace().file("slow.http", &format!("%% Slow\nGET {slow}/\n"));
    let mut editor = Editor::start(&workspace);
    editor.open("slow.http");
    editor.run("yieldtray.send", "slow.http", Some("slow"));
    let token = editor.hear("$/progress")["token"].clone();
    // The same once more meanwhile is refused.
    let uri = editor.uri("slow.http");
    let again = json!({ "command": "yieldtray.send", "arguments": [{ "uri": uri, "line": 1 }] });
    assert_eq!(editor.answer("workspace/executeCommand", again)["error"]["message"], "Send slow is already running");
    editor.tell("window/workDoneProgress/cancel", json!({ "token": token }));
    assert!(editor.sheet().contains("interrupted"), "it says so");
    // And with the end of the session nothing is left under way.
    editor.run("yieldtray.send", "slow.http", Some("slow"));
    editor.hear("$/progress");
    assert_eq!(editor.end(), 0);
}

#[test]
fn names_are_followed_explained_and_changed() {
    let workspace = workspace();
    let mut editor = Editor::start(&workspace);
    editor.open("intake.http");
    let (line, column) = place(INTAKE, "grower}}");
    let hover = editor.at("textDocument/hover", "intake.http", line, column);
    assert!(hover["contents"]["value"].as_str().expect("Markdown").contains("| live | `\"G-13\"` |"), "{hover}");
    let defined = editor.at("textDocument/definition", "intake.http", line, column);
    assert_eq!(defined[0]["uri"], editor.uri("yieldtray.toml"));
    let (line, column) = place(INTAKE, "lot_id}}");
    let uri = editor.uri("intake.http");
    let new = json!({ "textDocument": { "uri": uri }, "position": { "line": line, "character": column }, "newName": "lot_number" });
    let edit = editor.ask("textDocument/rename", new);
    let edits = edit["documentChanges"][0]["edits"].as_array().expect("edits");
    let lines: Vec<&Value> = edits.iter().map(|edit| &edit["range"]["start"]["line"]).collect();
    assert_eq!(lines, [&json!(17), &json!(22)]);
    let refused =
        json!({ "textDocument": { "uri": uri }, "position": { "line": line, "character": column }, "newName": "body" });
    assert_eq!(
        editor.answer("textDocument/rename", refused)["error"]["message"],
        "`body` is reserved and cannot be a variable name"
    );
    let references = json!({ "textDocument": { "uri": uri }, "position": { "line": line, "character": column }, "context": { "includeDeclaration": true } });
    assert_eq!(editor.ask("textDocument/references", references).as_array().map(Vec::len), Some(2));
    let (line, column) = place(INTAKE, "{{grower}}");
    let typed = editor.at("textDocument/completion", "intake.http", line, column + 2);
    let labels: Vec<&Value> = typed["items"].as_array().expect("items").iter().map(|item| &item["label"]).collect();
    assert!(labels.contains(&&json!("grower")) && labels.contains(&&json!("token")), "{labels:?}");
    assert_eq!(editor.about("textDocument/documentSymbol", "intake.http")[1]["detail"], "POST /lots");
    assert_eq!(editor.ask("workspace/symbol", json!({ "query": "book" }))[0]["name"], "book-a-lot-in");
    assert!(!editor.about("textDocument/foldingRange", "intake.http").as_array().expect("a list").is_empty());
    let selection = json!({ "textDocument": { "uri": uri }, "positions": [{ "line": line, "character": column + 3 }] });
    assert_eq!(editor.ask("textDocument/selectionRange", selection)[0]["range"]["start"]["character"], column + 2);
    let tokens = editor.about("textDocument/semanticTokens/full", "intake.http");
    assert_eq!(tokens["data"].as_array().map(|data| data.len() % 5), Some(0));
    let all = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": 99, "character": 0 } });
    let hints = editor.ask("textDocument/inlayHint", json!({ "textDocument": { "uri": uri }, "range": all }));
    let labels: Vec<&Value> = hints.as_array().expect("hints").iter().map(|hint| &hint["label"]).collect();
    assert_eq!(labels, [&json!("= G-11")]);
    editor.change("intake.http", &INTAKE.replace("%% Look\n", "%%Look\n"));
    let tidied = editor.about("textDocument/formatting", "intake.http");
    assert_eq!(tidied[0]["newText"], "%% Look");
    assert_eq!(editor.end(), 0);
}

#[test]
fn what_changes_elsewhere_is_followed() {
    let workspace = workspace();
    let mut editor = Editor::start(&workspace);
    editor.open("intake.http");
    // In another open file, not saved.
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the configuration");
    editor.open("yieldtray.toml");
    editor.change("yieldtray.toml", &config.replace("grower = \"G-11\"\n", "").replace("grower = \"G-13\"\n", ""));
    let uri = editor.uri("intake.http");
    let missing = editor.wait(|message| {
        message["params"]["uri"] == uri.as_str()
            && message["params"]["diagnostics"].as_array().is_some_and(|list| !list.is_empty())
    });
    assert!(missing.to_string().contains("no variable named `grower`"), "{missing}");
    // On disk, by somebody else.
    editor.tell("textDocument/didClose", json!({ "textDocument": { "uri": editor.uri("yieldtray.toml") } }));
    editor.wait(|message| message["params"]["uri"] == uri.as_str() && message["params"]["diagnostics"] == json!([]));
    std::fs::write(workspace.path().join("yieldtray.toml"), config.replace("grower", "farm"))
        .expect("it can be written");
    let changes = json!({ "changes": [{ "uri": editor.uri("yieldtray.toml"), "type": 2 }] });
    editor.tell("workspace/didChangeWatchedFiles", changes);
    let missing = editor.wait(|message| {
        message["params"]["uri"] == uri.as_str()
            && message["params"]["diagnostics"].as_array().is_some_and(|list| !list.is_empty())
    });
    assert!(missing.to_string().contains("no variable named `grower`"), "{missing}");
    assert_eq!(editor.end(), 0);
}

/// An open file is checked again when another one that it depends on changes.
#[test]
fn other_open_files_are_looked_at_again() {
    let workspace = workspace()
        .file("a.http", "%% Weigh\n% needs b.http#book\nGET /lots/{{lot}}\n")
        .file("b.http", "%% Book\nPOST /lots\n\n% yield lot = body.id\n");
    let mut editor = Editor::start(&workspace);
    assert_eq!(described(&editor.open("a.http")), [""; 0]);
    assert_eq!(described(&editor.open("b.http")), [""; 0]);
    let uri = editor.uri("a.http");
    let about_a = |editor: &mut Editor, wanted: usize| {
        let message = editor.wait(|message| {
            message["method"] == "textDocument/publishDiagnostics"
                && message["params"]["uri"] == uri.as_str()
                && message["params"]["diagnostics"].as_array().is_some_and(|list| list.len() == wanted)
        });
        described(message["params"]["diagnostics"].as_array().expect("a list"))
    };
    editor.forget();
    editor.change("b.http", "%% Booked\nPOST /lots\n\n% yield lot = body.id\n");
    assert_eq!(about_a(&mut editor, 2)[0], "1 unknown-cell: no request `book` in `b.http`");
    editor.forget();
    editor.change("b.http", "%% Book\nPOST /lots\n\n% yield number = body.id\n");
    assert_eq!(about_a(&mut editor, 1), ["2 unknown-variable: no variable named `lot`"]);
    editor.forget();
    editor.change("b.http", "%% Book\nPOST /lots\n\n% yield lot = body.id\n");
    assert_eq!(about_a(&mut editor, 0), [""; 0]);
    assert_eq!(editor.end(), 0);
}

/// An action that is asked for right behind a keystroke belongs to the text as it is then, or there is none.
#[test]
fn actions_belong_to_the_text_of_their_version() {
    const TEXT: &str = "%% A\nGET /x\n\n% chekc status == 200\n";
    let workspace = workspace().file("a.http", TEXT);
    let mut editor = Editor::start(&workspace);
    assert_eq!(described(&editor.open("a.http")).len(), 1);
    let at = |line: u32, column: u32| json!({ "line": line, "character": column });
    let typed = json!([{ "range": { "start": at(0, 4), "end": at(0, 4) }, "text": "pples" }]);
    editor.change_unheard("a.http", typed);
    let uri = json!({ "uri": editor.uri("a.http") });
    let ask = |editor: &mut Editor, context: Value| {
        let range = json!({ "start": at(3, 2), "end": at(3, 7) });
        editor.ask("textDocument/codeAction", json!({ "textDocument": uri, "range": range, "context": context }))
    };
    let actions = ask(&mut editor, json!({ "diagnostics": [] }));
    let titles = |actions: &Value| -> Vec<String> {
        let all = actions.as_array().expect("a list").iter();
        all.map(|action| action["title"].as_str().expect("a title").to_owned()).collect()
    };
    for action in actions.as_array().expect("a list") {
        for change in action["edit"]["documentChanges"].as_array().into_iter().flatten() {
            assert_eq!(change["textDocument"]["version"], 2, "{change}");
            assert_eq!(change["edits"][0]["range"], json!({ "start": at(3, 2), "end": at(3, 7) }), "{change}");
        }
    }
    editor.found("a.http");
    let actions = ask(&mut editor, json!({ "diagnostics": [] }));
    assert!(titles(&actions).contains(&"Change to `check`".to_owned()), "{actions}");
    let preferred = actions.as_array().expect("a list").iter().filter(|action| action["isPreferred"] == true);
    assert_eq!(preferred.count(), 1, "{actions}");
    // Only the kinds that are asked for.
    assert_eq!(titles(&ask(&mut editor, json!({ "diagnostics": [], "only": ["source.organizeImports"] }))), [""; 0]);
    let fixes = ask(&mut editor, json!({ "diagnostics": [], "only": ["quickfix"] }));
    assert!(fixes.as_array().expect("a list").iter().all(|action| action["kind"] == "quickfix"), "{fixes}");
    assert_eq!(editor.end(), 0);
}

/// A client that says nothing of itself gets plain text, and no member that is null.
#[test]
fn a_plain_client_gets_what_it_understands() {
    let workspace = workspace();
    let mut editor = Editor::with(&workspace, &json!({ "capabilities": {} }));
    editor.open("intake.http");
    let (line, column) = place(INTAKE, "{{grower");
    let items = editor.at("textDocument/completion", "intake.http", line, column + 4);
    let items = items.as_array().or(items["items"].as_array()).expect("a list").clone();
    assert!(items.iter().any(|item| item["label"] == "grower"), "{items:?}");
    for item in &items {
        assert!(item["insertTextFormat"].is_null() || item["insertTextFormat"] == 1, "{item}");
        assert!(!item["textEdit"]["newText"].as_str().is_some_and(|text| text.contains('$')), "{item}");
        assert!(item["documentation"].is_null() || item["documentation"].is_string(), "{item}");
    }
    let hover = editor.at("textDocument/hover", "intake.http", line, column + 4);
    assert_ne!(hover["contents"]["kind"], "markdown", "{hover}");
    let symbols = editor.about("textDocument/documentSymbol", "intake.http");
    assert!(symbols[0]["location"].is_object(), "{symbols}");
    assert!(!editor.said().contains("\"params\":null"));
    assert_eq!(editor.end(), 0);
}

#[test]
fn two_roots_and_a_folder_that_goes_away() {
    let workspace = TestWorkspace::empty()
        .file("a/yieldtray.toml", "[values]\nbase = 'http://127.0.0.1:1'\ncrop = 1\n")
        .file("a/a.http", "/{{crop}}\n")
        .file("b/yieldtray.toml", "[values]\nbase = 'http://127.0.0.1:1'\n")
        .file("b/b.http", "/{{crop}}\n");
    let mut editor = Editor::start(&workspace);
    assert_eq!(described(&editor.open("a/a.http")), Vec::<String>::new());
    assert_eq!(described(&editor.open("b/b.http")), ["0 unknown-variable: no variable named `crop`"]);
    std::fs::remove_dir_all(workspace.path().join("a")).expect("it can be removed");
    // The text in the editor is still there, and the server runs.
    editor.change("b/b.http", "/{{base}}\n");
    let uri = editor.uri("a/a.http");
    let position = json!({ "line": 0, "character": 4 });
    let hover = editor.answer("textDocument/hover", json!({ "textDocument": { "uri": uri }, "position": position }));
    assert!(hover.get("result").is_some() || hover.get("error").is_some());
    let sent = json!({ "command": "yieldtray.send", "arguments": [{ "uri": uri, "line": 0 }] });
    editor.answer("workspace/executeCommand", sent);
    assert_eq!(described(&editor.change("b/b.http", "/{{x\n")), ["0 unclosed-placeholder: this `{{` is never closed"]);
    assert_eq!(editor.end(), 0);
}

#[test]
fn whatever_a_client_says_the_server_goes_on() {
    let workspace = workspace();
    let mut editor = Editor::raw(&workspace);
    let early = editor.answer("textDocument/hover", json!({}));
    assert_eq!(early["error"]["code"], -32002);
    editor.ask("initialize", json!({ "capabilities": { "window": 7, "workspace": null } }));
    editor.tell("initialized", json!({}));
    editor.write(b"Content-Length: 5\r\n\r\n{nope");
    assert_eq!(editor.wait(|message| message["error"]["code"] == -32700)["id"], Value::Null);
    editor.write(b"rubbish\r\nContent-Length: 2\r\n\r\n[]");
    editor.wait(|message| message["error"]["code"] == -32600);
    assert_eq!(editor.answer("textDocument/nothing", json!({}))["error"]["code"], -32601);
    assert_eq!(editor.answer("textDocument/hover", json!({ "textDocument": 4 }))["error"]["code"], -32602);
    assert_eq!(editor.answer("initialize", json!({}))["error"]["code"], -32600);
    let none = json!({ "textDocument": { "uri": "untitled:one" }, "position": { "line": 0, "character": 0 } });
    assert_eq!(editor.answer("textDocument/hover", none)["error"]["message"], "`untitled:one` is not a file");
    let beyond = json!([{ "range": { "start": { "line": 900, "character": 9 }, "end": { "line": 3, "character": 1 } }, "text": "x" }]);
    editor.open("intake.http");
    editor.change_by("intake.http", beyond);
    editor.tell(
        "textDocument/didChange",
        json!({ "textDocument": { "uri": "file:///nowhere.http", "version": 1 }, "contentChanges": [{ "text": "" }] }),
    );
    editor.tell("textDocument/didClose", json!({ "textDocument": { "uri": "file:///nowhere.http" } }));
    editor.tell("window/workDoneProgress/cancel", json!({ "token": "no number" }));
    editor.tell("$/setTrace", json!({ "value": "off" }));
    // Places far outside, in a text with each kind of line end.
    editor.change("intake.http", "%% a\r\nGET /🍏{{grower\r\n\n% check é == 1\r\n");
    for (line, column) in [(0, 0), (1, 7), (1, 4_000_000_000), (4_000_000_000, 0), (3, 9)] {
        for method in
            ["textDocument/hover", "textDocument/completion", "textDocument/definition", "textDocument/signatureHelp"]
        {
            editor.at(method, "intake.http", line, column);
        }
    }
    // A huge file, and one of nothing but cells.
    let huge = format!("%% a\nPOST /\n\n{}\n", "x".repeat(8 << 20));
    editor.change("intake.http", &huge);
    editor.change("intake.http", &"%%\n".repeat(2_000));
    editor.about("textDocument/semanticTokens/full", "intake.http");
    assert_eq!(editor.change("intake.http", INTAKE), [] as [Value; 0]);
    assert_eq!(editor.go(), 1);
}

#[test]
fn options_of_the_command_hold_for_the_session() {
    let workspace = workspace();
    let mut editor = Editor::raw_with(&workspace, &["-e", "live", "--set", "grower=G-12"], &[]);
    editor.ask("initialize", json!({ "capabilities": { "window": { "showDocument": { "support": true } } } }));
    editor.open("intake.http");
    let (line, column) = place(INTAKE, "grower}}");
    let hover = editor.at("textDocument/hover", "intake.http", line, column);
    assert!(hover["contents"]["value"].as_str().expect("Markdown").starts_with("`grower` is `\"G-12\"`"), "{hover}");
    editor.run("yieldtray.send", "intake.http", Some("sign-in"));
    assert!(editor.sheet().starts_with("live  "));
    let uri = editor.uri("intake.http");
    let other = json!({ "command": "yieldtray.environment", "arguments": [{ "uri": uri, "name": "local" }] });
    let refused = editor.answer("workspace/executeCommand", other)["error"]["message"].to_string();
    assert!(refused.contains("was started with `--env live`"), "{refused}");
    assert_eq!(editor.end(), 0);
}

#[test]
fn files_that_hold_for_others_do_not_wake_each_other_for_ever() {
    let workspace = workspace()
        .file("yieldtray.local.toml", "[values]\npin = 1\n")
        .file("_common.http", "% check fast: elapsed < duration('9s')\n")
        .file("in/_common.http", "% check well: status < 500\n")
        .file("in/a.http", "%% a\nGET /lots\n");
    let mut editor = Editor::start(&workspace);
    for file in ["yieldtray.toml", "yieldtray.local.toml", "_common.http", "in/_common.http", "in/a.http"] {
        editor.open(file);
    }
    for file in ["yieldtray.local.toml", "yieldtray.toml", "in/_common.http", "_common.http"] {
        let text = std::fs::read_to_string(workspace.path().join(file)).expect("the file is there");
        editor.change(file, &format!("# New.\n{text}"));
    }
    assert!(!editor.about("textDocument/codeLens", "in/a.http").as_array().expect("lenses").is_empty());
    assert_eq!(editor.end(), 0);
}

#[test]
fn requests_are_handed_over_and_taken_in() {
    let canary = "canary-4616";
    let workspace =
        workspace().file("yieldtray.local.toml", "[values]\npin = { value = \"canary-4616\", secret = true }\n");
    let look = "%% Look\nGET /lots\nX-Pin: {{pin}}\n";
    let workspace = workspace.file("look.http", look);
    let mut editor = Editor::start(&workspace);
    editor.open("look.http");
    let about = json!({ "uri": editor.uri("look.http"), "line": 1, "as": "python" });
    let answer =
        editor.ask("workspace/executeCommand", json!({ "command": "yieldtray.handOver", "arguments": [about] }));
    let text = answer["text"].as_str().expect("a text");
    assert!(text.contains("(\"X-Pin\", pin)") && text.contains("os.environ[\"PIN\"]"), "{text}");
    // As an action it opens beside the file.
    let top = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": 0, "character": 0 } });
    let asked =
        json!({ "textDocument": { "uri": editor.uri("look.http") }, "range": top, "context": { "diagnostics": [] } });
    let actions = editor.ask("textDocument/codeAction", asked);
    let shell = actions.as_array().expect("a list").iter().find(|action| action["title"] == "Copy as shell: look");
    editor.request("workspace/executeCommand", shell.expect("it is offered")["command"].clone());
    let shown = editor.hear("window/showDocument")["uri"].as_str().expect("an address").replace("file://", "");
    let sheet = std::fs::read_to_string(shown).expect("a file");
    assert!(sheet.contains("-H \"X-Pin: ${PIN}\""), "{sheet}");
    let wrong = json!({ "uri": editor.uri("look.http"), "name": "look", "as": "pyhton" });
    let refused =
        editor.answer("workspace/executeCommand", json!({ "command": "yieldtray.handOver", "arguments": [wrong] }));
    assert!(
        refused["error"]["message"].as_str().is_some_and(|why| why.contains("did you mean `python`?")),
        "{refused}"
    );
    // A pasted command becomes a request; its secret, which has a name already, keeps it.
    let copied = format!("curl http://b/lots -H 'Authorization: Bearer {canary}' -H 'X-Api-Key: other-4616'");
    let about = json!({ "uri": editor.uri("look.http"), "text": copied });
    editor.request("workspace/executeCommand", json!({ "command": "yieldtray.takeIn", "arguments": [about] }));
    let edit = editor.hear("workspace/applyEdit")["edit"].clone();
    let text = edit.to_string();
    assert!(
        text.contains("%% GET /lots\\n% redirects 0\\nGET http://b/lots\\nAuthorization: Bearer {{pin}}"),
        "{text}"
    );
    assert!(text.contains("api_key = { value = \\\"other-4616\\\", secret = true }"), "{text}");
    let about = json!({ "uri": editor.uri("look.http"), "text": "fetch http://b" });
    let refused =
        editor.answer("workspace/executeCommand", json!({ "command": "yieldtray.takeIn", "arguments": [about] }));
    assert_eq!(refused["error"]["message"], "this is not a curl command");
    assert!(!editor.said().contains(canary));
    assert_eq!(editor.end(), 0);
}

/// The extension offers what `export` knows.
#[test]
fn the_extension_knows_every_target() {
    let run = TestWorkspace::empty().run(&["export", "--targets", "--json"]).exits(0).json();
    let names: Vec<&str> =
        run["targets"].as_array().expect("a list").iter().filter_map(|target| target["name"].as_str()).collect();
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/../../editors/vscode/src/pure.ts");
    let source = std::fs::read_to_string(source).expect("the extension is there");
    let list = source.split_once("TARGETS = [").and_then(|(_, rest)| rest.split_once(']')).expect("a list").0;
    let offered: Vec<&str> =
        list.split(',').map(|name| name.trim().trim_matches('"')).filter(|name| !name.is_empty()).collect();
    assert_eq!(offered, names);
}
