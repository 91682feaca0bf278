//! The HTML report in a real browser: Chromium, driven through WebDriver on a port that it chooses itself.

use crate::support::webdriver::{BrowserPage, Driver};
use crate::support::{TestWorkspace, raw_server};
use serde_json::json;
use std::path::Path;

const HOSTILE: &[u8] = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n</pre></details></section><script>window.taken = 1; document.title = 'taken'</script><img src=x onerror='window.taken = 2'><style>main { display: none }</style>";

fn report(workspace: &TestWorkspace) -> std::path::PathBuf {
    workspace.run(&["replay", "--report", "html=r.html"]).exits(1);
    workspace.path().join("r.html")
}

fn workspace() -> TestWorkspace {
    let hostile = raw_server(HOSTILE, false);
    let cells = format!(
        "%% Read a lot\nGET /lots/L-2039\n\n% check body.bins == 17 else \"count again\"\n\n\
         %% List the growers\nGET /growers\n\n% check status == 200\n\n\
         %% Hostile\nGET {hostile}/\n\n% check status == 200\n\n\
         %% Hall\n% skip when true\nGET /health\n"
    );
    TestWorkspace::new().file("desk.http", &cells)
}

fn open<'d>(driver: &'d Driver, file: &Path, scripts: bool) -> BrowserPage<'d> {
    driver.open(&format!("file://{}", file.display()), scripts)
}

#[test]
fn a_person_reads_clicks_and_searches() {
    let workspace = workspace();
    let file = report(&workspace);
    {
        let driver = Driver::start();
        let page = open(&driver, &file, true);
        assert_eq!(page.title(), "Replay of local: 1 of 4 failed");

        // Failures come first, open, with their explanation.
        let failed = page.find("#failed").text();
        for message in [
            "read-a-lot",
            "desk.http:4 body.bins == 17",
            "body.bins",
            "18",
            "count again",
            "GET http://",
            "\"bins\": 18",
        ] {
            assert!(failed.contains(message), "{message}: {failed}");
        }
        // The rest is closed until somebody clicks.
        let growers = page.find("#e2");
        assert!(!growers.text().contains("Response"));
        page.find("#e2 > summary").click();
        assert!(growers.text().contains("Response"));
        // By the keyboard too.
        page.find("#e4 > summary").type_keys("\u{e007}");
        page.wait_for("return document.getElementById('e4').open", json!(true));
        // A bar leads to its request.
        page.find("#when a[href='#e3']").click();
        page.wait_for("return document.getElementById('e3').open", json!(true));

        // Search in names, URLs and bodies, and only in failures.
        page.find("body").type_keys("/");
        page.wait_for("return document.activeElement.id", json!("find"));
        let shown = "return [...document.querySelectorAll('.file .entry:not([hidden]) .name')].map(e => e.textContent)";
        let field = page.find("#find");
        field.type_keys("Orchard GROWERS");
        page.wait_for(shown, json!(["list-the-growers"]));
        page.wait_for("return document.getElementById('found').textContent", json!("1 of 4"));
        field.clear();
        field.type_keys("no such thing");
        page.wait_for(shown, json!([]));
        field.clear();
        field.type_keys(" ");
        page.find("#only-bad").click();
        page.wait_for(shown, json!(["read-a-lot"]));

        // Light and dark.
        let paper = "return getComputedStyle(document.body).backgroundColor";
        let before = page.run(paper);
        page.find("#scheme").click();
        assert_ne!(page.run(paper), before);
    }
}

#[test]
fn a_hostile_answer_does_nothing_and_nothing_comes_from_outside() {
    let workspace = workspace();
    let file = report(&workspace);
    {
        let driver = Driver::start();
        let page = open(&driver, &file, true);
        page.find("#e3 > summary").click();
        let text = page.find("#e3 pre:last-child").text();
        assert!(text.contains("GET http"), "{text}");
        let came = page.find("#e3 .exchange > div:last-child pre");
        assert!(came.text().contains("<script>window.taken = 1"), "it is shown as it came");
        let page_state = "return [typeof window.taken, document.scripts.length, document.querySelectorAll('img, iframe, object, link, form').length, getComputedStyle(document.querySelector('main')).display]";
        assert_eq!(page.run(page_state), json!(["undefined", 1, 0, "block"]));
        assert_eq!(page.run("return performance.getEntriesByType('resource').length"), json!(0));
        // Even if markup got in, the policy would hold it up.
        let tried = "const s = document.createElement('script'); s.textContent = 'window.taken = 3'; document.body.append(s); const d = document.createElement('div'); d.setAttribute('style', 'position: fixed'); document.body.append(d); return [typeof window.taken, getComputedStyle(d).position]";
        assert_eq!(page.run(tried), json!(["undefined", "static"]));
    }
}

#[test]
fn the_page_is_read_without_scripts() {
    let workspace = workspace();
    let file = report(&workspace);
    {
        let driver = Driver::start();
        let page = open(&driver, &file, false);
        let shown = |place: &str| page.find(place).is_displayed();
        for place in [".strip", "#failed .check", "#when .bar", "#times .span", "#e2 > summary"] {
            assert!(shown(place), "{place}");
        }
        for place in ["#search", "#scheme", "#e2 pre"] {
            assert!(!shown(place), "{place}: what needs a script is not there without one");
        }
        page.find("#e2 > summary").click();
        assert!(shown("#e2 pre"));
    }
}
