//! The HTML report in a real browser: Chromium, driven through WebDriver on a port that it chooses itself.

mod support;

use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use support::{TestWorkspace, raw_server};

const HOSTILE: &[u8] = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n</pre></details></section><script>window.taken = 1; document.title = 'taken'</script><img src=x onerror='window.taken = 2'><style>main { display: none }</style>";

/// Chromium's driver.
struct Driver {
    child: Child,
    address: String,
}

impl Driver {
    fn start() -> Self {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("`chromedriver` is needed here");
        let out = BufReader::new(child.stdout.take().expect("a pipe"));
        let port = out.lines().find_map(|line| {
            let line = line.expect("text");
            line.split("successfully on port ").nth(1).map(|rest| rest.trim_end_matches('.').to_owned())
        });
        Self { child, address: format!("http://127.0.0.1:{}", port.expect("it says its port")) }
    }

    async fn open(&self, file: &Path) -> Client {
        self.open_with(file, true).await
    }

    async fn open_with(&self, file: &Path, scripts: bool) -> Client {
        let arguments =
            ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--window-size=1280,800"];
        let allowed = if scripts { 1 } else { 2 };
        let preferences = json!({ "profile.managed_default_content_settings.javascript": allowed });
        let capabilities = json!({ "goog:chromeOptions": { "args": arguments, "prefs": preferences } });
        let Value::Object(capabilities) = capabilities else { unreachable!() };
        let client = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&self.address)
            .await
            .expect("a browser");
        client.goto(&format!("file://{}", file.display())).await.expect("the page opens");
        client
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Works out a script on the page, which its policy does not hold up.
async fn asks(page: &Client, script: &str) -> Value {
    page.execute(script, Vec::new()).await.expect("the script runs")
}

/// Waits until a script on the page gives this.
#[track_caller]
fn comes_to(page: &Client, script: &'static str, expected: Value) -> impl Future<Output = ()> {
    let caller = std::panic::Location::caller();
    async move {
        let mut last = Value::Null;
        for _ in 0..100 {
            last = asks(page, script).await;
            if last == expected {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("{caller}: `{script}` stays {last}, not {expected}");
    }
}

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

/// Runs with a browser; whatever happens, it ends.
fn with_browser(work: impl AsyncFnOnce(&Driver)) {
    let driver = Driver::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(120), work(&driver)).await.expect("in time") });
}

#[test]
fn a_person_reads_clicks_and_searches() {
    let workspace = workspace();
    let file = report(&workspace);
    with_browser(async |driver| {
        let page = driver.open(&file).await;
        assert_eq!(page.title().await.expect("a title"), "Replay of bench: 1 of 4 failed");

        // What failed comes first, open, with its explanation.
        let failed = page.find(Locator::Css("#failed")).await.expect("a section").text().await.expect("text");
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
        let growers = page.find(Locator::Css("#e2")).await.expect("an entry");
        assert!(!growers.text().await.expect("text").contains("Came back"));
        page.find(Locator::Css("#e2 > summary")).await.expect("a line").click().await.expect("a click");
        assert!(growers.text().await.expect("text").contains("Came back"));
        // By the keyboard too.
        page.find(Locator::Css("#e4 > summary")).await.expect("a line").send_keys("\u{e007}").await.expect("a key");
        comes_to(&page, "return document.getElementById('e4').open", json!(true)).await;
        // A bar leads to its request.
        page.find(Locator::Css("#when a[href='#e3']")).await.expect("a bar").click().await.expect("a click");
        comes_to(&page, "return document.getElementById('e3').open", json!(true)).await;

        // Searching: in names, addresses and bodies, and only what did not pass.
        page.find(Locator::Css("body")).await.expect("it").send_keys("/").await.expect("a key");
        comes_to(&page, "return document.activeElement.id", json!("find")).await;
        let shown = "return [...document.querySelectorAll('.file .entry:not([hidden]) .name')].map(e => e.textContent)";
        let field = page.find(Locator::Css("#find")).await.expect("a field");
        field.send_keys("Orchard GROWERS").await.expect("keys");
        comes_to(&page, shown, json!(["list-the-growers"])).await;
        comes_to(&page, "return document.getElementById('found').textContent", json!("1 of 4")).await;
        field.clear().await.expect("it clears");
        field.send_keys("no such thing").await.expect("keys");
        comes_to(&page, shown, json!([])).await;
        field.clear().await.expect("it clears");
        field.send_keys(" ").await.expect("keys");
        page.find(Locator::Css("#only-bad")).await.expect("a box").click().await.expect("a click");
        comes_to(&page, shown, json!(["read-a-lot"])).await;

        // Light and dark.
        let paper = "return getComputedStyle(document.body).backgroundColor";
        let before = asks(&page, paper).await;
        page.find(Locator::Css("#scheme")).await.expect("a button").click().await.expect("a click");
        assert_ne!(asks(&page, paper).await, before);
        page.close().await.expect("it ends");
    });
}

#[test]
fn a_hostile_answer_does_nothing_and_nothing_comes_from_outside() {
    let workspace = workspace();
    let file = report(&workspace);
    with_browser(async |driver| {
        let page = driver.open(&file).await;
        page.find(Locator::Css("#e3 > summary")).await.expect("a line").click().await.expect("a click");
        let text =
            page.find(Locator::Css("#e3 pre:last-child")).await.expect("the exchange").text().await.expect("text");
        assert!(text.contains("GET http"), "{text}");
        let came = page.find(Locator::Css("#e3 .exchange > div:last-child pre")).await.expect("the answer");
        assert!(came.text().await.expect("text").contains("<script>window.taken = 1"), "it is shown as it came");
        let page_state = "return [typeof window.taken, document.scripts.length, document.querySelectorAll('img, iframe, object, link, form').length, getComputedStyle(document.querySelector('main')).display]";
        assert_eq!(asks(&page, page_state).await, json!(["undefined", 1, 0, "block"]));
        assert_eq!(asks(&page, "return performance.getEntriesByType('resource').length").await, json!(0));
        // Even if markup got in, the policy would hold it up.
        let tried = "const s = document.createElement('script'); s.textContent = 'window.taken = 3'; document.body.append(s); const d = document.createElement('div'); d.setAttribute('style', 'position: fixed'); document.body.append(d); return [typeof window.taken, getComputedStyle(d).position]";
        assert_eq!(asks(&page, tried).await, json!(["undefined", "static"]));
        page.close().await.expect("it ends");
    });
}

#[test]
fn the_page_is_read_without_scripts() {
    let workspace = workspace();
    let file = report(&workspace);
    with_browser(async |driver| {
        let page = driver.open_with(&file, false).await;
        let shown = async |place: &str| page.find(Locator::Css(place)).await.expect("it is there").is_displayed().await;
        for place in [".strip", "#failed .check", "#when .bar", "#times .span", "#e2 > summary"] {
            assert!(shown(place).await.expect("an answer"), "{place}");
        }
        for place in ["#search", "#scheme", "#e2 pre"] {
            assert!(!shown(place).await.expect("an answer"), "{place}: what needs a script is not there without one");
        }
        page.find(Locator::Css("#e2 > summary")).await.expect("a line").click().await.expect("a click");
        assert!(shown("#e2 pre").await.expect("an answer"));
        page.close().await.expect("it ends");
    });
}
