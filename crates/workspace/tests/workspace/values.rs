//! Resolving values.

use std::path::Path;
use yieldtray_expression::Value;
use yieldtray_source::{Code, SourceId};
use yieldtray_test_support::{json_answer, replay, settings, workspace};
use yieldtray_workspace::config::Config;

/// The query `v=…` that the one request goes out with, or its problems with their places.
fn sent_value(fixture: &str, environment: Option<&str>, set: &[(&str, Value)]) -> Result<String, Vec<String>> {
    let record = replay(fixture, &["in/a.http"], settings(environment, set), |_| Ok(json_answer(200, "{}")));
    match record.sent.last() {
        Some(request) => Ok(request.url.query().unwrap_or_default().to_owned()),
        None => Err(record
            .problems()
            .iter()
            .map(|problem| format!("{} | {}", problem.message, problem.hint.clone().unwrap_or_default()))
            .collect()),
    }
}

#[test]
fn the_first_value_found_wins() {
    // The layers, the weakest first; each new one hides those before it.
    let layers = [
        ("yieldtray.toml", "[environments.local.values]\nother = 1\n[values]\nv = \"values\"\n"),
        ("_common.http", "% let v = 'outer common'\n"),
        ("in/_common.http", "% let v = 'inner common'\n"),
        ("in/a.http", "% let v = 'file'\n"),
        ("yieldtray.toml", "[environments.local.values]\nv = \"environment\"\n[values]\nv = \"values\"\n"),
    ];
    let expected = ["values", "outer%20common", "inner%20common", "file", "environment"];
    let mut files: Vec<(&str, String)> = Vec::new();
    for ((path, text), expected) in layers.into_iter().zip(expected) {
        files.retain(|(known, _)| *known != path);
        files.push((path, text.to_owned()));
        let preamble = files.iter().find(|(path, _)| *path == "in/a.http").map_or("", |(_, text)| text);
        let mut fixture = format!("#- in/a.http\n{preamble}%% one\nhttp://local/?v={{{{v}}}}\n");
        for (path, text) in files.iter().filter(|(path, _)| *path != "in/a.http") {
            fixture.push_str(&format!("#- {path}\n{text}"));
        }
        assert_eq!(sent_value(&fixture, Some("local"), &[]), Ok(format!("v={expected}")));
    }
    // The tray hides the environment, a cell's own `let` hides the tray, `--set` hides all.
    let tray = "#- yieldtray.toml\n[environments.local.values]\nv = \"environment\"\n\
        #- in/a.http\n%% one\nhttp://local/\n\n% yield v = 'tray'\n%% two\nhttp://local/?v={{v}}\n";
    assert_eq!(sent_value(tray, Some("local"), &[]), Ok("v=tray".to_owned()));
    let own = tray.replace("%% two\n", "%% two\n% let v = 'own'\n");
    assert_eq!(sent_value(&own, Some("local"), &[]), Ok("v=own".to_owned()));
    assert_eq!(sent_value(&own, Some("local"), &[("v", Value::from("set"))]), Ok("v=set".to_owned()));
}

#[test]
fn a_let_uses_others_and_has_one_value_in_a_cell() {
    let fixture =
        "#- in/a.http\n% let name = 'lot ' + string(number)\n% let number = 40 + 3\n%% one\nhttp://local/?v={{name}}\n";
    assert_eq!(sent_value(fixture, None, &[]), Ok("v=lot%2043".to_owned()));
    let random = "#- in/a.http\n% let id = uuid()\n%% one\nhttp://local/?v={{id}}&w={{id}}\n\n% check url == url && size(id) == 36\n";
    let sent = sent_value(random, None, &[]).expect("a request");
    let (v, w) = sent.split_once('&').expect("two parameters");
    assert_eq!(v.trim_start_matches("v="), w.trim_start_matches("w="));
    let environment = "#- yieldtray.toml\n[values]\nbase = 'http://local'\n#- in/a.http\n%% one\nhttp://local/?v={{env.SHIFT}}-{{request.name}}-{{environment == null}}\n";
    assert_eq!(sent_value(environment, None, &[]), Ok("v=early-one-true".to_owned()));
}

#[test]
fn values_that_need_each_other_show_the_circle() {
    let fixture = "#- in/a.http\n% let a = b + 1\n% let b = c\n% let c = a\n%% one\nhttp://local/?v={{a}}\n";
    assert_eq!(
        sent_value(fixture, None, &[]),
        Err(vec!["circular definition: a → b → c → a | define one of them without the others".to_owned()])
    );
    let response = "#- in/a.http\n% let a = status\n%% one\nhttp://local/?v={{a}}\n";
    assert_eq!(
        sent_value(response, None, &[]),
        Err(vec![
            "`status` is available only after the response | move it below the request: `% yield a = …`".to_owned()
        ])
    );
}

#[test]
fn a_missing_value_says_where_it_would_come_from() {
    let config =
        "#- yieldtray.toml\n[environments.local.values]\ngrower = 'G-11'\n[environments.live.values]\nclerk = 'c'\n";
    let with = |file: &str| format!("{config}#- in/a.http\n{file}");
    let missing =
        |file: &str, environment| sent_value(&with(file), environment, &[]).expect_err("a value is missing").join("\n");
    assert_eq!(
        missing("%% one\nhttp://local/{{grower}}", None),
        "`grower` has no value: no environment is selected | `local` has it: pass `-e local`"
    );
    assert_eq!(
        missing("%% one\nhttp://local/{{grower}}", Some("live")),
        "`grower` has no value in environment `live` | `local` has it: pass `-e local`, or add it to `[environments.live.values]`"
    );
    assert_eq!(
        missing("%% one\nhttp://local/{{growr + clerk}}", Some("live")),
        "no variable named `growr` | did you mean `grower`?"
    );
    assert_eq!(
        missing("%% one\nhttp://local/{{clrek}}", Some("live")),
        "no variable named `clrek` | did you mean `clerk`?"
    );
    assert_eq!(
        missing("%% one\nhttp://local/\n\n% check stauts == 200", Some("live")),
        "no variable named `stauts` | did you mean `status`?"
    );
    // Each name is said, not only the first.
    assert_eq!(missing("%% one\nhttp://local/{{aa}}/{{bb + cc}}", None).lines().count(), 3);
}

#[test]
fn a_yield_is_seen_in_its_file_and_by_who_needs_it() {
    let session = "#- in/session.http\n%% Sign in\nhttp://local/in\n\n% yield token = body.token\n";
    let needing = |needs: &str| format!("{session}#- in/a.http\n%% one\n{needs}http://local/?v={{{{token}}}}\n");
    let record = |fixture: &str| {
        replay(fixture, &["in/session.http", "in/a.http"], settings(None, &[]), |_| {
            Ok(json_answer(200, "{\"token\": \"t-1\"}"))
        })
    };
    let seen = record(&needing("% needs session.http#sign-in\n"));
    assert_eq!(seen.sent[1].url.query(), Some("v=t-1"));
    let unseen = record(&needing(""));
    assert_eq!(unseen.sent.len(), 1);
    assert_eq!(unseen.problems()[0].message, "`token` has no value here: `sign-in` in `in/session.http` yields it");
}

#[test]
fn the_configuration_is_read() {
    let text = "[workspace]\nrequests = \"requests/\"\nenvironment = \"local\"\n\n[values]\nn = 1_000\nd = 2.5\nt = true\nl = [1, 'a']\nwhen = 2026-09-14\nm = { a = 1 }\n\n[environments.local.values]\nbase = \"http://local\"\n";
    let (config, problems) = Config::parse(text, SourceId(0), false);
    assert_eq!(problems, []);
    assert_eq!(config.requests, "requests");
    assert_eq!(config.environment.map(|(name, ..)| name).as_deref(), Some("local"));
    let shown: Vec<String> =
        config.values.iter().map(|entry| format!("{} {:?}", entry.name, entry.source_kind)).collect();
    assert_eq!(
        shown,
        [
            "n Value(1000)",
            "d Value(2.5)",
            "t Value(true)",
            "l Value([1,\"a\"])",
            "when Value(\"2026-09-14\")",
            "m Value({\"a\":1})"
        ]
    );
}

/// Checks that a configuration has one problem: its class, the text that it is about, and its hint.
#[track_caller]
fn check_problem(text: &str, code: Code, at: &str, hint: &str) {
    let (config, problems) = Config::parse(text, SourceId(0), false);
    let problems: Vec<_> = problems.into_iter().chain(config.examine()).collect();
    assert_eq!(problems.len(), 1, "{text}: {problems:?}");
    assert_eq!((problems[0].code, problems[0].span.of(text)), (code, at), "{text}");
    assert_eq!(problems[0].hint.as_deref(), Some(hint), "{text}");
}

#[test]
fn an_unknown_key_is_reported_with_the_known_one_that_is_closest() {
    for (text, code, at, hint) in [
        ("[workspce]\n", Code::UnknownKey, "workspce", "did you mean `workspace`?"),
        ("[workspace]\nenviroment = 'a'\n", Code::UnknownKey, "enviroment", "did you mean `environment`?"),
        ("[lint]\nunused-yeild = 'off'\n", Code::UnknownKey, "unused-yeild", "did you mean `unused-yield`?"),
        ("[send]\ntimout = '1s'\n", Code::UnknownKey, "timout", "did you mean `timeout`?"),
        ("[values]\nk = { from = 'env:K', scret = true }\n", Code::UnknownKey, "scret", "did you mean `secret`?"),
        (
            "[functions]\nf = { params = ['a'], is = 'a + 1', hlep = '' }\n",
            Code::UnknownKey,
            "hlep",
            "did you mean `help`?",
        ),
    ] {
        check_problem(text, code, at, hint);
    }
}

#[test]
fn send_settings_and_token_profiles_are_checked() {
    for (text, code, at, hint) in [
        (
            "[send]\ntimeout = '1x'\n",
            Code::BadConfiguration,
            "'1x'",
            "for example `\"500ms\"`, `\"30s\"` or `\"2m\"`, at most `\"24h\"`",
        ),
        ("[environments.live.send]\nredirects = 51\n", Code::BadConfiguration, "51", "for example `0` to follow none"),
        (
            "[send]\nproxy = 'proxy:3128'\n",
            Code::BadConfiguration,
            "'proxy:3128'",
            "for example `\"http://proxy.packhouse.example:3128\"` (http, https, socks5, socks5h), or `\"none\"`",
        ),
        (
            "[oauth2.shift]\ngrant = 'implicit'\n",
            Code::BadConfiguration,
            "'implicit'",
            "available: `client_credentials`, `password`, `refresh_token`, `authorization_code`, `device_code`, `jwt_bearer` and `token_exchange`",
        ),
        (
            "[oauth2.shift]\nscope = \"a\\tb\"\n",
            Code::BadConfiguration,
            "\"a\\tb\"",
            "write it on one line in single quotes, without `\\`",
        ),
    ] {
        check_problem(text, code, at, hint);
    }
}

#[test]
fn environments_and_the_workspace_are_checked() {
    for (text, code, at, hint) in [
        ("[environments.live]\nguard = 1\n", Code::BadConfiguration, "1", "remove the quotes"),
        ("[environments.live]\ntint = 'rde'\n", Code::BadConfiguration, "'rde'", "did you mean `red`?"),
        (
            "[workspace]\nenvironment = 'loacl'\n[environments.local]\n",
            Code::UnknownEnvironment,
            "'loacl'",
            "did you mean `local`?",
        ),
        ("[workspace]\nrequests = '../up'\n", Code::BadConfiguration, "'../up'", "use a directory below this file"),
    ] {
        check_problem(text, code, at, hint);
    }
}

#[test]
fn a_lint_level_is_one_of_three() {
    check_problem(
        "[lint]\nunused-yield = 'of'\n",
        Code::BadConfiguration,
        "'of'",
        "available: `off`, `info`, `warning` and `error`",
    );
}

#[test]
fn values_of_a_configuration_are_checked() {
    for (text, code, at, hint) in [
        ("values = 1\n", Code::BadConfiguration, "1", "see `yieldtray help config`"),
        (
            "[values]\n\"a-b\" = 1\n",
            Code::BadName,
            "\"a-b\"",
            "use letters, digits and `_`, not starting with a digit, for example `lot_id`",
        ),
        ("[values]\nstatus = 1\n", Code::ReservedName, "status", "use another name, for example `my_status`"),
        (
            "[values]\nk = { from = 'K' }\n",
            Code::BadConfiguration,
            "'K'",
            "use `env:NAME`, `file:PATH`, `keyring:NAME` or `sealed:PATH`",
        ),
        (
            "[values]\nk = { command = ['pass', 'show'] }\n",
            Code::BadConfiguration,
            "command",
            "move this line to `yieldtray.local.toml`, which is not committed",
        ),
        (
            "[values]\nk = { secret = true }\n",
            Code::BadConfiguration,
            "{ secret = true }",
            "use one of `value`, `from` and `command`",
        ),
        (
            "[values]\nn = 99999999999999999999\n",
            Code::BadConfiguration,
            "99999999999999999999",
            "write it as a string, in quotes",
        ),
    ] {
        check_problem(text, code, at, hint);
    }
}

#[test]
fn a_configuration_that_is_not_toml_has_one_problem() {
    let (_, problems) = Config::parse("[values\nx = 1", SourceId(0), false);
    assert_eq!(problems.iter().map(|problem| problem.code).collect::<Vec<_>>(), [Code::BadConfiguration]);
}

#[test]
fn files_that_cannot_be_taken_say_why() {
    let mut workspace = workspace("#- a.http\n/x\n#- _common.http\n% check true\nGET /x\n");
    let message = |outcome: Result<SourceId, yieldtray_source::Problem>| outcome.map_err(|problem| problem.message);
    assert_eq!(message(workspace.load(Path::new("b.http"))), Err("no file `b.http`".to_owned()));
    assert_eq!(message(workspace.load(Path::new("../a.http"))), Err("`../a.http` is outside the workspace".to_owned()));
    let a = workspace.load(Path::new("./in/../a.http")).expect("it is there");
    assert_eq!(message(workspace.load(Path::new("a.http"))), Ok(a));
    let common = workspace.source(a).inherited[0];
    let problems: Vec<&str> =
        workspace.source(common).problems.iter().map(|problem| problem.message.as_str()).collect();
    assert_eq!(problems, ["`_common.http` cannot contain requests"]);
}

#[test]
fn a_private_configuration_wins_key_by_key() {
    let shared = "[workspace]\nenvironment = 'local'\n[values]\na = 1\nb = 1\n[environments.local]\ntint = 'red'\nguard = true\n\
        [environments.local.values]\nc = 1\nd = 1\n[functions]\nf = { is = '1' }\ng = { is = '1' }\n";
    let private = "[workspace]\nenvironment = 'own'\n[values]\nb = 2\n[environments.local]\nguard = false\n[environments.local.values]\nd = 2\n\
        [environments.own.values]\ne = 2\n[functions]\ng = { is = '2' }\n";
    let workspace = workspace(&format!("#- yieldtray.toml\n{shared}#- yieldtray.local.toml\n{private}"));
    let config = &workspace.config;
    assert_eq!(workspace.config_problems().count(), 0);
    assert_eq!(config.environment.as_ref().map(|(name, ..)| name.as_str()), Some("own"));
    let given = |environment: &str, name: &str| {
        config.entry(Some(environment), name).map(|entry| format!("{:?}", entry.source_kind))
    };
    for (name, expected) in [("a", Some("1")), ("b", Some("2")), ("c", Some("1")), ("d", Some("2")), ("e", None)] {
        assert_eq!(given("local", name), expected.map(|value| format!("Value({value})")), "{name}");
    }
    assert!(given("own", "e").is_some());
    let local = config.environment("local").expect("an environment");
    assert!(!local.is_guarded() && local.tint.is_some());
    let functions: Vec<(&str, &str)> = config.functions.iter().map(|own| (&*own.name, &*own.is)).collect();
    assert_eq!(functions, [("f", "1"), ("g", "2")]);
}

#[test]
fn own_functions_bind_their_arguments_once_and_hide_nothing_of_the_callers() {
    let functions = "#- yieldtray.toml\n[functions]\npair = { params = ['a', 'b'], is = \"a + '-' + b\" }\n\
        same = { params = ['x'], is = 'x == x' }\nouter = { params = ['b', 'a'], is = 'pair(a, b)' }\n\
        names = { params = ['list'], is = 'list.map(a, pair(a, a)).filter(x, x != list[0])' }\nnone = { is = 'season' }\n\
        first = { params = ['body'], is = 'body.id' }\n[values]\nseason = 'autumn'\n";
    for (expression, expected) in [
        ("pair('1', '2')", "1-2"),
        ("pair(pair('1', '2'), pair('3', '4'))", "1-2-3-4"),
        ("outer('1', '2')", "2-1"),
        ("string(same(uuid()))", "true"),
        ("join(names(['p', 'q']), ',')", "p-p,q-q"),
        ("none()", "autumn"),
        ("'1'.pair('2')", "1-2"),
        ("['u', 'v'].map(a, pair(a, 'w'))[1]", "v-w"),
        ("first({'id': 'L-1'})", "L-1"),
    ] {
        let fixture = format!("{functions}#- in/a.http\n%% one\nhttp://local/?{{{{raw({expression})}}}}\n");
        let encoded = expected.replace(' ', "%20");
        assert_eq!(sent_value(&fixture, None, &[]).map(|query| query.replace('+', "%20")), Ok(encoded), "{expression}");
    }
}

#[test]
fn an_expression_reads_files_of_the_workspace() {
    let file = |expression: &str| {
        let fixture =
            format!("#- in/list.csv\na;b\n#- out.csv\nx\n#- in/a.http\n%% one\nhttp://local/?v={{{{{expression}}}}}\n");
        sent_value(&fixture, None, &[])
    };
    assert_eq!(file("trim(file('list.csv'))"), Ok("v=a%3Bb".to_owned()));
    assert_eq!(file("size(file('../out.csv'))"), Ok("v=2".to_owned()));
    let words = |path: &str| file(&format!("file('{path}')")).expect_err("cannot be read");
    assert_eq!(words("../../x"), ["`file` cannot read `../../x`: it is outside the workspace | "]);
    assert_eq!(words("none.csv"), ["`file` cannot read `none.csv`: entity not found | "]);
}
