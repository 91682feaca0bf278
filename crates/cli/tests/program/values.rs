//! Variables: sources, their order, environments, generated data, and the commands that show them.

use crate::support::TestWorkspace;

/// The query a request went out with.
#[track_caller]
fn sent(workspace: &TestWorkspace, args: &[&str], variables: &[(&str, &str)]) -> String {
    let all: Vec<&str> = ["send", "a.http", "--pick", "sent.url"].iter().chain(args).copied().collect();
    let run = workspace.run_with(&all, "", variables);
    assert_eq!(run.code, 0, "{}", run.both());
    run.stdout.trim().split_once("?v=").map(|(_, value)| value.to_owned()).unwrap_or_default()
}

#[test]
fn each_place_hides_those_after_it() {
    let workspace = TestWorkspace::new().file("a.http", "GET /lots?v={{v}}\n");
    let base = workspace.base();
    let config = |environment: &str| {
        format!(
            "[workspace]\nenvironment = 'local'\n[values]\nv = 'values'\n[environments.local.values]\nbase = '{base}'\n{environment}"
        )
    };
    let workspace = workspace.file("yieldtray.toml", &config(""));
    assert_eq!(sent(&workspace, &[], &[]), "values");
    let workspace = workspace.file("yieldtray.local.toml", "[values]\nv = 'local-values'\n");
    assert_eq!(sent(&workspace, &[], &[]), "local-values");
    let workspace = workspace.file("_common.http", "% let v = 'common'\n");
    assert_eq!(sent(&workspace, &[], &[]), "common");
    let workspace = workspace.file("yieldtray.toml", &config("v = 'environment'\n"));
    assert_eq!(sent(&workspace, &[], &[]), "environment");
    let workspace = workspace.file("yieldtray.local.toml", "[environments.local.values]\nv = 'local-environment'\n");
    assert_eq!(sent(&workspace, &[], &[]), "local-environment");
    let workspace = workspace.file("a.http", "%% y\nGET /health\n\n% yield v = 'tray'\n%% a\nGET /lots?v={{v}}\n");
    workspace.run(&["send", "a.http#y"]).exits(0);
    let tray = workspace.run(&["send", "a.http#a", "--pick", "sent.url"]).exits(0);
    assert!(tray.stdout.trim().ends_with("?v=tray"), "{}", tray.stdout);
    let workspace = workspace.file("a.http", "%% a\n% let v = 'own'\nGET /lots?v={{v}}\n");
    assert_eq!(sent(&workspace, &[], &[]), "own");
    assert_eq!(sent(&workspace, &["--set", "v=set"], &[]), "set");
}

#[test]
fn values_come_from_variables_files_and_commands() {
    let workspace = TestWorkspace::new().file("a.http", "GET /lots?v={{v}}\n");
    let base = workspace.base();
    let with = |workspace: TestWorkspace, source: &str| {
        workspace.file("yieldtray.local.toml", &format!("[values]\nbase = '{base}'\nv = {source}\n"))
    };
    let workspace = workspace.file("yieldtray.toml", "");
    let workspace = with(workspace, "{ from = 'env:CRATE', secret = false }");
    assert_eq!(sent(&workspace, &[], &[("CRATE", "c-1")]), "c-1");
    let workspace = workspace.file(".env", "# ours\nexport CRATE=\"dot 1\" # the crate\nLONG='two\nlines'\n");
    assert_eq!(sent(&workspace, &[], &[]), "dot%201");
    assert_eq!(sent(&workspace, &[], &[("CRATE", "real")]), "real", "the real environment wins");
    let workspace = with(workspace, "{ from = 'env:LONG', secret = false }");
    assert_eq!(sent(&workspace, &[], &[]), "two%0Alines");
    let workspace = with(workspace.file("crate.txt", "from-file\r\n\n"), "{ from = 'file:crate.txt' }");
    assert_eq!(sent(&workspace, &[], &[]), "from-file");

    // A command runs once, however many requests use its value, and not at all where nothing does.
    let count = "{ command = ['sh', '-c', 'echo x >> runs; echo from-command'] }";
    let workspace =
        with(workspace, count).file("two.http", "%% a\nGET /lots?v={{v}}\n%% b\nGET /lots?v={{v}}&v={{v}}\n");
    workspace.run(&["replay", "two.http"]).exits(0);
    assert_eq!(std::fs::read_to_string(workspace.path().join("runs")).expect("a file"), "x\n");
    workspace.run(&["values"]).exits(0);
    workspace.run(&["send", "--text", "GET /health"]).exits(0);
    assert_eq!(std::fs::read_to_string(workspace.path().join("runs")).expect("a file"), "x\n");

    for (source, message) in [
        (
            "{ from = 'env:NOT_SET_ANYWHERE' }",
            "`v` reads the environment variable `NOT_SET_ANYWHERE`, which is not set",
        ),
        ("{ from = 'file:none.txt' }", "`v` reads the file `none.txt`, which cannot be read: "),
        (
            "{ command = ['sh', '-c', 'echo the store is locked >&2; exit 4'] }",
            "`v` runs the command `sh -c echo the store is locked >&2; exit 4`, which failed with 4: the store is locked",
        ),
    ] {
        let workspace =
            with(TestWorkspace::new().file("a.http", "GET /lots?v={{v}}\n").file("yieldtray.toml", ""), source);
        let run = workspace.run(&["send", "a.http"]).exits(2);
        assert!(run.stderr.contains(&format!("[unavailable-source]: {message}")), "{}", run.stderr);
        assert!(run.stderr.contains("yieldtray.local.toml:3:1") && run.stderr.contains("it is defined here"));
    }
    let shared =
        TestWorkspace::new().file("yieldtray.toml", "[values]\nv = { command = ['id'] }\n").file("a.http", "/x\n");
    let run = shared.run(&["list"]).exits(2);
    assert!(run.stderr.contains("commands are allowed only in the local configuration"), "{}", run.stderr);
    let broken = TestWorkspace::new().file(".env", "A=1\nB=\"open\n").file("a.http", "/x\n");
    let run = broken.run(&["list"]).exits(2);
    assert!(run.stderr.contains("invalid line in `.env"), "{}", run.stderr);
}

#[test]
fn environments_are_shown_chosen_and_added() {
    let workspace = TestWorkspace::new().file("a.http", "GET /lots?grower={{grower}}\n");
    let shown = workspace.run(&["env", "--json"]).exits(0).json();
    assert_eq!((&shown["chosen"], &shown["by"]), (&"local".into(), &"yieldtray.toml:2".into()));
    assert_eq!(shown["environments"][1]["missing"], serde_json::json!(["key"]));
    let table = workspace.run(&["env"]).exits(0);
    assert!(table.stdout.contains("local  selected by yieldtray.toml:2  3 values"), "{}", table.stdout);
    assert!(table.stdout.contains("live                                 2 values, 1 missing: key"), "{}", table.stdout);

    let slip = workspace.run(&["env", "lvie"]).exits(2);
    assert!(slip.stderr.contains("did you mean `live`?"), "{}", slip.stderr);
    workspace.run(&["env", "live"]).exits(0);
    let heading = |args: &[&str], variables: &[(&str, &str)]| {
        let run = workspace.run_with(args, "", variables);
        let said = if args[0] == "replay" { &run.stdout } else { &run.stderr };
        said.lines()
            .find(|line| line.contains("http://"))
            .unwrap_or_default()
            .split("  ")
            .next()
            .unwrap_or_default()
            .to_owned()
    };
    assert_eq!(heading(&["send", "a.http"], &[]), "live");
    assert_eq!(heading(&["replay", "a.http"], &[]), "live");
    assert_eq!(heading(&["list"], &[]), "live");
    assert_eq!(heading(&["values"], &[]), "live");
    assert_eq!(heading(&["tray"], &[]), "live");
    assert_eq!(heading(&["lint"], &[]), "live");
    assert_eq!(heading(&["send", "a.http"], &[("YIELDTRAY_ENV", "local")]), "local");
    assert_eq!(heading(&["send", "a.http", "-e", "live"], &[("YIELDTRAY_ENV", "local")]), "live");

    let before = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    let added = workspace.run(&["env", "rehearsal", "--copy-from", "local"]).exits(0);
    assert!(
        added.stdout.contains("environment `rehearsal` is now the default for this working copy"),
        "{}",
        added.stdout
    );
    let after = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    assert_eq!(after, format!("{before}\n[environments.rehearsal.values]\nbase = \"\"\ngrower = \"\"\nkey = \"\"\n"));
    assert_eq!(workspace.run(&["env", "--json"]).json()["environments"][2]["empty"], 3);
    workspace.run(&["env", "rehearsal", "--copy-from", "local"]).exits(2);
    // A choice that is gone says so, and can be made anew.
    std::fs::write(workspace.path().join("yieldtray.toml"), &before).expect("a file");
    let gone = workspace.run(&["list"]).exits(2);
    assert!(gone.stderr.contains("no environment `rehearsal`, selected by `yieldtray env`"), "{}", gone.stderr);
    workspace.run(&["env", "local"]).exits(0);
    workspace.run(&["list"]).exits(0);
}

#[test]
fn values_tell_where_they_come_from_and_what_they_hide() {
    let workspace = TestWorkspace::new()
        .file("_common.http", "% let gate = 'north'\n")
        .file("a.http", "% let gate = 'south'\n% let label = gate + '-' + grower\n\n%% a\n% let id = uuid()\n/{{label}}/{{id}}/{{gone}}\n\n%% b\n/{{grower}}\n");
    let rows = workspace.run(&["values", "a.http#a", "--json", "--set", "grower=G-99"]).exits(0).json();
    let row = |name: &str| rows["values"].as_array().expect("rows").iter().find(|row| row["name"] == name).cloned();
    assert_eq!(row("label").expect("a row")["value"], "south-G-99");
    let grower = row("grower").expect("a row");
    assert_eq!((&grower["origin"]["kind"], &grower["shadows"][0]["environment"]), (&"set".into(), &"local".into()));
    let gate = row("gate").expect("a row");
    assert_eq!(gate["origin"], serde_json::json!({ "kind": "let", "file": "a.http", "line": 1 }));
    assert_eq!(gate["shadows"], serde_json::json!([{ "kind": "let", "file": "_common.http", "line": 1 }]));
    assert_eq!(row("id").expect("a row")["generated"], "uuid()");
    assert_eq!(row("gone").expect("a row")["missing"], "no variable named `gone`");
    assert_eq!(row("key"), None, "only what the cell uses");
    let all = workspace.run(&["values"]).exits(0);
    assert!(all.stdout.contains("key     \"local-key-4616\""), "{}", all.stdout);
    insta::assert_snapshot!(
        "values_across",
        workspace.redacted(&workspace.run(&["values", "--all-envs"]).exits(0).both())
    );
}

#[test]
fn own_functions_are_called_explained_and_checked() {
    let functions = "[functions]\nlabel = { params = ['lot', 'row'], is = \"'PH-' + lot + '-' + string(row)\", help = 'a label' }\n\
                     twice = { params = ['x'], is = 'label(x, 1) + label(x, 2)' }\nokay = { is = 'status < 400' }\n";
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    let workspace = workspace.file("yieldtray.toml", &format!("{functions}{config}")).file(
        "a.http",
        "%% a\nGET /health?v={{label('L', 2)}}\n\n% check okay()\n% check twice(random(1, 9) > 0 ? 'a' : 'b') == 'PH-a-1PH-a-2'\n% check label('L', status) == 'no'\n",
    );
    let run = workspace.run(&["send", "a.http"]).exits(1);
    assert!(run.stderr.contains("1 of 3 checks failed"), "{}", run.stderr);
    assert!(run.stderr.contains("label('L', status)  is  \"PH-L-200\""), "{}", run.stderr);
    let shown = workspace.run(&["values", "--functions"]).exits(0);
    assert!(shown.stdout.contains("label(lot, row)") && shown.stdout.contains("yieldtray.toml:2"), "{}", shown.stdout);
    assert!(shown.stdout.contains("fake(kind)"), "{}", shown.stdout);

    for (functions, message) in [
        ("a = { is = 'b()' }\nb = { is = 'a()' }", "functions call each other recursively: a → b → a"),
        ("a = { is = 'a()' }", "functions call each other recursively: a → a"),
        (
            "a = { params = ['x'], is = 'x + grwer' }",
            "`a` uses `grwer`, which is neither a parameter nor a configured variable",
        ),
        ("a = { is = 'sise(1)' }", "`a`: no function `sise`"),
        ("a = { is = 'b(1)' }\nb = { is = '1' }", "`a`: `b` takes no arguments, but got 1"),
        ("uuid = { is = '1' }", "`uuid` is a built-in function and cannot be redefined"),
        ("a = { is = '1 +' }", "`a`: the expression ends too early"),
    ] {
        let workspace = TestWorkspace::empty()
            .file("yieldtray.toml", &format!("[functions]\n{functions}\n"))
            .file("a.http", "/x\n");
        let run = workspace.run(&["list"]).exits(2);
        assert!(run.stderr.contains(message), "{functions}: {}", run.stderr);
    }
    let arity = workspace.run(&["send", "--text", "GET /{{label(1)}}"]).exits(2);
    assert!(arity.stderr.contains("`label` takes 2 arguments, but got 1"), "{}", arity.stderr);
    assert!(arity.stderr.contains("hint: for example `label(lot, row)`"), "{}", arity.stderr);
}

#[test]
fn a_seed_makes_up_the_same_again() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "GET /lots?v={{fake('person')}}/{{fake('email')}}/{{uuid()}}/{{random(1, 1000000)}}/{{pick(['a', 'b', 'c'])}}\n\n% check status == 418\n",
    );
    let url = |seed: &str| {
        let run = workspace.run(&["send", "a.http", "--pick", "sent.url", "--seed", seed]).exits(1);
        assert!(run.stderr.contains(&format!("`--seed {seed}` reproduces the generated values")), "{}", run.stderr);
        run.stdout
    };
    assert_eq!(url("4616"), url("4616"));
    assert_ne!(url("4616"), url("4617"));
    // A failed replay prints its seed, which repeats its values.
    let failed = workspace.run(&["replay"]).exits(1);
    let (_, after) = failed.stderr.split_once("`--seed ").expect("the seed is told");
    let seed = after.split('`').next().expect("a number");
    let first = failed.stdout.lines().find(|line| line.contains("/lots?v=")).expect("a line").to_owned();
    let again = workspace.run(&["replay", "--seed", seed]).exits(1);
    let target =
        |line: &str| line.split("/lots").nth(1).map(|rest| rest.split(' ').next().unwrap_or_default().to_owned());
    assert_eq!(again.stdout.lines().find(|line| line.contains("/lots?v=")).and_then(target), target(&first));
    let events = workspace.run(&["replay", "--json", "--seed", "7"]).exits(1);
    let ended: serde_json::Value = serde_json::from_str(events.stdout.lines().last().expect("a line")).expect("JSON");
    assert_eq!(ended["seed"], 7);
    let unknown = workspace.run(&["send", "--text", "GET /{{fake('emial')}}"]).exits(2);
    assert!(unknown.stderr.contains("`fake` unknown kind `emial`: did you mean `email`?"), "{}", unknown.stderr);
}

#[test]
fn who_yields_what_for_whom_is_drawn() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "%% Sign in\nPOST /session\n\n% yield token = body.token\n\n%% Book \"in\"\n% needs sign-in\nPOST /lots\nAuthorization: {{token}}\n\n% yield id = body.id\n\n%% Look\nGET /lots/{{id}}\n",
    );
    let text = workspace.run(&["list", "--graph", "a.http"]).exits(0);
    assert_eq!(text.stdout, "sign-in\nbook-in\n  token from sign-in\nlook\n  id from book-in (undeclared)\n");
    let dot = workspace.run(&["list", "--graph=dot"]).exits(0);
    assert!(
        dot.stdout.contains("n0 -> n1 [label=\"token\"];")
            && dot.stdout.contains("n1 -> n2 [label=\"id\", style=dashed];")
    );
    let mermaid = workspace.run(&["list", "--graph=mermaid"]).exits(0);
    assert!(
        mermaid.stdout.starts_with("flowchart LR\n") && mermaid.stdout.contains("n1 -.->|\"id\"| n2"),
        "{}",
        mermaid.stdout
    );
    let data = workspace.run(&["list", "--graph", "--json"]).exits(0).json();
    assert_eq!(data["edges"][1]["declared"], false);
}

#[test]
fn a_private_file_that_git_would_keep_is_told() {
    let workspace =
        TestWorkspace::new().file("yieldtray.local.toml", "[values]\nx = 1\n").file("a.http", "GET /health\n");
    let quiet = workspace.run(&["list"]).exits(0);
    assert!(!quiet.stderr.contains("git"), "no repository, no complaint: {}", quiet.stderr);
    std::fs::create_dir(workspace.path().join(".git")).expect("a folder");
    for args in [&["list"][..], &["send", "a.http"], &["replay"], &["values"], &["env"]] {
        let run = workspace.run(args).exits(0);
        assert!(
            run.stderr.contains("warning[tracked-file]: `yieldtray.local.toml` holds private values"),
            "{args:?}: {}",
            run.stderr
        );
    }
    let lint = workspace.run(&["lint"]).exits(2);
    assert!(lint.stdout.contains("error[tracked-file]") && !lint.stderr.contains("tracked-file"), "{}", lint.both());
    std::fs::write(workspace.path().join(".gitignore"), "yieldtray.local.toml\n").expect("a file");
    assert!(!workspace.run(&["list"]).exits(0).stderr.contains("git"));
    std::fs::write(workspace.path().join(".git/index"), crate::support::index_of("yieldtray.local.toml"))
        .expect("a file");
    assert!(workspace.run(&["list"]).exits(0).stderr.contains("is tracked by git"), "tracked although it is ignored");
}
