//! The program in a pseudo-terminal.

use crate::support::terminal::{in_terminal, plain};
use crate::support::{TestWorkspace, raw_server};

#[test]
fn a_body_is_laid_out_and_coloured_on_a_terminal_only() {
    let workspace = TestWorkspace::new();
    let shown = in_terminal(&workspace, &["send", "--text", "GET /growers/G-11"], 100, &[]);
    assert!(shown.contains("\u{1b}[36m\"name\"\u{1b}[0m: \u{1b}[32m\"Marlow Ridge\"\u{1b}[0m"), "{shown:?}");
    assert!(plain(&shown).contains("{\n  \"id\": \"G-11\",\n"), "{shown}");
    let no_color = in_terminal(&workspace, &["send", "--text", "GET /growers/G-11"], 100, &[("NO_COLOR", "1")]);
    assert!(!no_color.contains('\u{1b}') && no_color.contains("{\n  \"id\": \"G-11\",\n"), "{no_color:?}");
    let piped = workspace.run(&["send", "--text", "GET /growers/G-11"]).exits(0);
    assert!(piped.stdout.starts_with("{\"id\":\"G-11\",\"name\""), "{}", piped.stdout);
    let always = workspace.run(&["send", "--text", "GET /growers/G-11", "--color", "always"]).exits(0);
    assert!(!always.stdout.contains('\u{1b}'), "a piped body stays as it came");
    assert!(always.stderr.contains('\u{1b}'));
    let image = in_terminal(&workspace, &["send", "--text", "GET /lots/L-2038/label.png"], 100, &[]);
    assert!(plain(&image).contains("image/png, "), "{image:?}");
    assert!(image.contains("binary, not shown"), "{image:?}");
}

#[test]
fn lines_are_cut_to_the_terminal() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "%% A request with a rather long title, as people write them\n% tag x\nGET /lots?grower=G-11&state=open&per_page=100&page=1\n\n\
         % yield all = json(body)\n% check body.lots.map(l, l.id) == []\n",
    );
    for columns in [60, 80, 120, 200] {
        let shown = plain(&in_terminal(&workspace, &["replay"], columns, &[]));
        let lines: Vec<&str> = shown.lines().collect();
        for line in &lines {
            let expression = line.contains("body.lots.map(l, l.id) == []");
            assert!(expression || line.chars().count() <= usize::from(columns), "{columns}: {line}");
        }
        assert!(shown.contains("1 of 1 failed"), "{shown}");
    }
}

#[test]
fn what_a_server_sends_never_drives_the_terminal() {
    let hostile = b"HTTP/1.1 200 O\x1bK\r\nContent-Type: text/plain\r\nX-A: \x1b[2J\r\nContent-Length: 22\r\n\r\n\x1b]0;title\x07a\rb\xe2\x80\xaec\x1b[31md";
    let workspace = TestWorkspace::empty();
    let base = raw_server(hostile, false);
    for args in [
        &["send", "--text", &base][..],
        &["send", "--text", &base, "--show", "all"],
        &["send", "--text", &base, "--pick", "text"],
    ] {
        let shown = plain(&in_terminal(&workspace, args, 100, &[]));
        assert!(!shown.contains(['\u{1b}', '\u{7}', '\u{202e}', '\r']), "{args:?}: {shown:?}");
    }
}

#[test]
fn tables_fit_the_terminal_and_quiet_says_less() {
    let workspace = TestWorkspace::new().file("_common.http", "% let grower = 'G-99'\n").file(
        "a.http",
        "%% A request with a rather long title\n% let note = 'a rather long note about the truck at the gate of the orchard'\nGET /lots?grower={{grower}}\nX-Note: {{note}}{{gone}}\n\n% yield first = body.lots[0].id\n",
    );
    workspace.run(&["send", "a.http", "--set", "gone=1"]).exits(0);
    for columns in [40, 60, 100] {
        for args in
            [&["values"][..], &["values", "--all-envs"], &["values", "--functions"], &["tray"], &["env"], &["list"]]
        {
            let shown = plain(&in_terminal(&workspace, args, columns, &[]));
            let (heading, rows) = shown.split_once('\n').expect("a heading and rows");
            assert!(heading.starts_with("local  http://"), "{args:?}: {shown}");
            assert!(!rows.is_empty(), "{args:?}");
            for line in rows.lines() {
                assert!(line.chars().count() <= usize::from(columns), "{args:?} in {columns}: {line}");
            }
        }
    }
    for args in [
        &["values", "-q"][..],
        &["tray", "-q"],
        &["env", "-q"],
        &["list", "-q"],
        &["send", "a.http", "-q", "--set", "gone=1"],
    ] {
        assert_eq!(workspace.run(args).exits(0).stderr, "", "{args:?}");
    }
    let coloured = workspace.run(&["values", "--color", "always"]).exits(0);
    assert!(coloured.stdout.contains("\u{1b}[36mgrower\u{1b}[0m"), "{:?}", coloured.stdout);
    assert!(!workspace.run(&["values"]).exits(0).stdout.contains('\u{1b}'));
}
