//! The display of a response: parts, formatting, hints, the pager.

use crate::support::TestWorkspace;
use crate::support::terminal::{in_terminal, plain};
use yieldtray_packhouse::FaultyServer;

fn workspace() -> TestWorkspace {
    TestWorkspace::new()
}

#[test]
fn bodies_are_laid_out_for_a_person_by_their_media_type() {
    let workspace = workspace().file("form.http", "POST /echo\n% field lot = L-2043\n% field note = very ripe\n");
    let shown = |args: &[&str]| plain(&in_terminal(&workspace, args, 100, &[]));
    let xml = shown(&["send", "--text", "/manifest.xml"]);
    assert!(xml.contains("\n  <lot id=\"L-2038\""), "{xml}");
    let csv = shown(&["send", "--text", "/stock.csv"]);
    let heading = csv.lines().find(|line| line.starts_with("lot")).unwrap_or_else(|| panic!("{csv}"));
    assert!(heading.contains("  ") && !heading.contains(','), "{csv}");
    let image = shown(&["send", "--text", "/lots/L-2038/label.png"]);
    assert!(
        image.contains("image/png, 160 × 48 pixels, ") && image.contains("use `--output FILE` to save it"),
        "{image}"
    );
    let json = shown(&["send", "--text", "/lots/L-2038"]);
    assert!(json.contains("\n  \"id\": \"L-2038\","), "{json}");
    // Piped, the bytes are unchanged.
    assert!(workspace.run(&["send", "--text", "/stock.csv"]).exits(0).stdout.contains("L-2038,"));
}

#[test]
fn a_path_picks_too() {
    let workspace = workspace();
    let run = workspace.run(&["send", "--text", "/lots?per_page=2", "--pick", "$.lots[*].id"]).exits(0);
    assert_eq!(run.stdout, "[\"L-2038\",\"L-2039\"]\n");
    let wrong = workspace.run(&["send", "--text", "/lots", "--pick", "$.lots[*"]).exits(2);
    assert!(wrong.stderr.contains("invalid `--pick` expression `$.lots[*`: it is not a JSONPath"), "{}", wrong.stderr);
}

#[test]
fn the_timeline_shows_each_hop_and_its_phases() {
    let workspace = workspace();
    let run = workspace.run(&["send", "--text", "/moved", "--show", "timeline"]).exits(0);
    let stable = workspace.redacted(&run.stdout);
    let lines: Vec<&str> = stable.lines().map(|line| line.trim_end_matches(['━', ' '])).collect();
    assert_eq!(
        lines,
        [
            "GET http://127.0.0.1:#####/moved  308",
            "  connect         # ms",
            "  wait            # ms",
            "  receive         # ms",
            "GET http://127.0.0.1:#####/growers  200",
            "  wait            # ms",
            "  receive         # ms",
            "  on a reused connection",
            "  total           # ms",
            ""
        ]
    );
    let all = workspace.run(&["send", "--text", "/moved", "--json"]).exits(0).json();
    assert_eq!(all["response"]["hops"][0]["kind"], "redirect");
    assert!(
        all["response"]["timings_ms"]["started"].as_f64()
            > all["response"]["hops"][0]["timings_ms"]["started"].as_f64()
    );
    assert_eq!(all["request"]["method"], "GET");
}

#[test]
fn advice_follows_a_known_slip() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the file");
    let workspace = workspace.file(
        "yieldtray.toml",
        &config.replace(
            "[environments.live.values]\nbase = \"http://127.0.0.1",
            "[environments.live.values]\nbase = \"http://127.0.0.1:1\"\nold = \"",
        ),
    );
    for (text, advice) in [
        ("POST /lots/\n\n{ \"bins\": 3 }", "301 redirect turned POST into GET; use the path `/lots`"),
        ("POST /lots\n\n{ \"bins\": 3 }", "no credentials were sent: add `% auth …` or an `Authorization` header"),
        ("POST /lots\nX-Api-Key: {{key}}\n\nbins: 3", "no Content-Type was sent"),
        ("POST /lots\nX-Api-Key: {{key}}", "neither a body nor a Content-Type was sent"),
    ] {
        let run = workspace.run(&["send", "--text", text]).exits(0);
        assert!(run.stderr.contains(advice), "{text}: {}", run.stderr);
        let data = workspace.run(&["send", "--text", text, "--json"]).exits(0).json();
        assert!(data["cells"][0]["advice"].as_str().is_some_and(|said| said.contains(advice)), "{data}");
    }
    let run = workspace.run(&["send", "--text", "/health", "-e", "live"]).exits(3);
    assert!(run.stderr.contains("the URL comes from `base`, in yieldtray.toml:10, environment live"), "{}", run.stderr);
    let run = workspace.run(&["send", "--text", "/health", "--set", "base=http://127.0.0.1:1"]).exits(3);
    assert!(run.stderr.contains("the URL comes from `base`, set by --set"), "{}", run.stderr);
    let run = workspace.run(&["send", "--text", "/lots/L-2038\n\n% check body.bins == '24'"]).exits(1);
    assert!(run.stderr.contains("an integer never equals a string"), "{}", run.stderr);
    // Whatever is well gets none.
    let run = workspace.run(&["send", "--text", &format!("{}/until-close", faulty.base()), "--json"]).exits(0).json();
    assert!(run["cells"][0].get("advice").is_none(), "{run}");
}

#[test]
fn what_was_tried_again_fits_the_terminal() {
    let cell = "GET /scale/flaky\n% query key = k\n% query fails = 2\n\n% wait until status == 200 every 5ms for 5s\n";
    for (columns, message) in [(50, "1 check ×3"), (160, "1 check, 3 attempts")] {
        let workspace = workspace().file("flaky.http", cell);
        let shown = plain(&in_terminal(&workspace, &["replay", "flaky.http"], columns, &[]));
        let line = shown
            .lines()
            .find(|line| line.contains("flaky") && line.contains("200"))
            .unwrap_or_else(|| panic!("{shown}"));
        assert!(line.contains(message) && line.chars().count() <= usize::from(columns), "{shown}");
    }
}

#[test]
fn long_bodies_go_through_the_users_pager() {
    let workspace = workspace();
    let pager = [("PAGER", "sed s/^/paged:/")];
    let long = in_terminal(&workspace, &["send", "--text", "/lots?per_page=100"], 100, &pager);
    assert!(plain(&long).contains("paged:{"), "{long}");
    for (args, variables) in [
        (&["send", "--text", "/health"][..], &pager[..]),
        (&["send", "--text", "/lots?per_page=100", "--no-pager"], &pager[..]),
        (&["send", "--text", "/lots?per_page=100"], &[("PAGER", "")][..]),
        (&["send", "--text", "/lots?per_page=100"], &[("PAGER", "no-such-pager-here")][..]),
    ] {
        let shown = plain(&in_terminal(&workspace, args, 100, variables));
        assert!(shown.contains("\"") && !shown.contains("paged:"), "{args:?}: {shown}");
    }
    let piped = workspace.run_with(&["send", "--text", "/lots?per_page=100", "--show", "body"], "", &pager).exits(0);
    assert!(!piped.stdout.contains("paged:"));
}

#[test]
fn a_save_line_keeps_the_body_of_each_answer() {
    let workspace = workspace().file(
        "sub/a.http",
        "%% Label\nGET /lots/L-2038/label.png\n\n% save labels/{{grower}}/L-2038.png\n\n%% Health\n/health\n\n% save health.json\n% check body.status == 'open'\n",
    );
    workspace.run(&["replay"]).exits(0);
    let image = std::fs::read(workspace.path().join("saved/labels/G-11/L-2038.png")).expect("the label");
    assert!(image.starts_with(b"\x89PNG"));
    let run = workspace.run(&["send", "label", "--output", "own.png"]).exits(0);
    assert_eq!(run.stdout, "");
    assert_eq!(std::fs::read(workspace.path().join("own.png")).expect("the label"), image);
    assert_eq!(
        std::fs::read_to_string(workspace.path().join("saved/health.json")).expect("the file"),
        "{\"status\":\"open\",\"server\":\"local\"}"
    );
}
