use super::lint;
use crate::testing::{engine, settings, workspace};
use std::path::Path;

/// The findings of a workspace: code, file, and the text underlined.
fn findings(fixture: &str, files: &[&str]) -> Vec<(String, String, String)> {
    let mut workspace = workspace(fixture);
    let sources: Vec<_> = files.iter().map(|file| workspace.load(Path::new(file)).expect("a file")).collect();
    let cells: Vec<_> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
    let problems = lint(&mut workspace, &engine(), &settings(Some("bench"), &[]), &cells);
    let shown = |problem: &crate::problem::Problem| {
        let source = workspace.source(problem.source.expect("a place"));
        let code = format!("{}{}", problem.code.as_str(), if problem.is_mistake() { "!" } else { "" });
        (code, source.path.display().to_string(), problem.span.of(&source.text).to_owned())
    };
    problems.iter().map(shown).collect()
}

#[track_caller]
fn check(fixture: &str, expected: &[(&str, &str, &str)]) {
    let found = findings(fixture, &["a.http"]);
    let found: Vec<_> = found.iter().map(|(code, file, text)| (code.as_str(), file.as_str(), text.as_str())).collect();
    assert_eq!(found, expected, "{fixture}");
}

#[test]
fn names_that_nobody_or_only_some_give() {
    let config = "#- yieldtray.toml\n[environments.bench.values]\nbase = 'http://bench'\ngrower = 'G-11'\n\
        [environments.live.values]\nbase = 'http://live'\n";
    check(
        &format!(
            "{config}#- a.http\n% let lot = grower + '/1'\n%% a\nGET /{{{{lot}}}}/{{{{growr}}}}\n\n% check row_id == 1\n"
        ),
        &[
            ("missing-value", "a.http", "grower"),
            ("unknown-value!", "a.http", "growr"),
            ("unknown-value!", "a.http", "row_id"),
        ],
    );
    // What a response yields is there, and so is what is asked for, or given in every environment.
    check(
        &format!(
            "{config}#- a.http\n%% a\n% ask bins \"How many?\"\nPOST /\n\n{{{{bins}}}}\n\n% yield id = body.id\n% check id != ''\n\
             %% b\n/{{{{id}}}}\n"
        ),
        &[],
    );
    // A yield of another file is not in reach without a need.
    let two =
        "#- b.http\n%% sign-in\nhttp://b/\n\n% yield token = body.t\n#- a.http\n%% a\nNEEDS\nhttp://b/{{token}}\n";
    check(&two.replace("NEEDS\n", "% needs b.http#sign-in\n"), &[]);
    check(&two.replace("NEEDS\n", ""), &[("unknown-value!", "a.http", "token")]);
}

#[test]
fn values_that_hide_each_other() {
    let config = "#- yieldtray.toml\n[values]\nseason = 1\n[environments.bench.values]\nseason = 2\ngate = 'n'\n";
    check(
        &format!(
            "{config}#- _common.http\n% let crop = 1\n#- a.http\n% let gate = 's'\n% let crop = 2\n%% a\n% let crop = 3\nhttp://b/{{{{crop}}}}{{{{gate}}}}\n"
        ),
        &[
            ("hidden-value", "_common.http", "crop"),
            ("hidden-value", "a.http", "gate"),
            ("hidden-value", "a.http", "crop"),
        ],
    );
    check(
        &format!(
            "{config}#- yieldtray.local.toml\n[environments.bench.values]\ngate = 'x'\n#- a.http\nhttp://b/{{{{season}}}}\n"
        ),
        &[],
    );
}

#[test]
fn yields_that_nobody_uses_or_that_come_twice() {
    check(
        "#- a.http\n%% a\nhttp://b/\n\n% yield id = body.id\n% yield kg = body.kg\n%% b\nhttp://b/{{id}}\n\n% yield id = body.id\n",
        &[("unused-yield", "a.http", "kg"), ("repeated-yield", "a.http", "id")],
    );
}

#[test]
fn secrets_in_files_that_others_see() {
    let random = "q7Fz2LmX9cVb4NkR8tWy1PdS";
    check(
        &format!(
            "#- yieldtray.toml\n[values]\nscale_key = 'bench-1'\npin = {{ from = 'env:PIN' }}\n#- yieldtray.local.toml\n[values]\ntoken = 'own'\n\
             #- a.http\n% header X-Api-Key: 4616-abc\n%% a\nhttp://b/?session={random}\nAuthorization: Bearer {{{{token}}}}\nCookie: packhouse=1\nX-Id: 0b7c0f8e-6a1d-4c0e-9a57-3f1f6b3c2d11\n"
        ),
        &[
            ("secret-in-file!", "a.http", "4616-abc"),
            ("secret-in-file!", "a.http", random),
            ("secret-in-file!", "a.http", "packhouse=1"),
            ("secret-in-file!", "yieldtray.toml", "scale_key"),
        ],
    );
}

#[test]
fn credentials_in_files_that_others_see() {
    check(
        "#- yieldtray.toml\n[values]\ndesk = 'd'\n[oauth2.shift]\ntoken_url = '{{nowhere}}/t'\nclient_id = '{{desk}}'\nclient_secret = 'windfall'\n\
         #- yieldtray.local.toml\n[oauth2.own]\ntoken_url = 'http://b/'\nclient_secret = 'own'\n\
         #- a.http\n% auth bearer shared-4616\n\n%% a\n% auth basic clerk windfall\nhttp://b/\n\n%% b\n% auth digest {{desk}} {{desk}}\nhttp://b/\n\n\
         %% c\n% auth oauth2 shfit\nhttp://b/\n\n%% d\n% auth oauth2 shift\nhttp://b/\n",
        &[
            ("secret-in-file!", "a.http", "shared-4616"),
            ("secret-in-file!", "a.http", "windfall"),
            ("unknown-profile!", "a.http", "shfit"),
            ("unknown-value!", "yieldtray.toml", "nowhere"),
            ("secret-in-file!", "yieldtray.toml", "windfall"),
        ],
    );
}

#[test]
fn what_sending_would_tell_is_told_once() {
    check(
        "#- a.http\n% check oks: staus(body) == 1\n% chekc 1\n%% a\n% needs b\nhttp://b/{{x\n%% c\nhttp://b/\n\n% check size(\n",
        &[
            ("unknown-function!", "a.http", "staus"),
            ("unknown-instruction!", "a.http", "chekc"),
            ("unknown-cell!", "a.http", "b"),
            ("unclosed-mark!", "a.http", "{{x"),
            ("bad-expression!", "a.http", ""),
        ],
    );
}
