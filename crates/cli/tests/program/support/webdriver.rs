//! A client of WebDriver (W3C), as far as the tests need it: one request for each command, without a runtime.

use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// The member that holds the id of an element (12.3.1).
const ELEMENT: &str = "element-6066-11e4-a52e-4f735466cecf";
/// A command that takes longer has failed.
const TIMEOUT: Duration = Duration::from_secs(60);

/// Chromium's driver, on a port that it chooses itself.
pub struct Driver {
    child: Child,
    address: String,
}

impl Driver {
    pub fn start() -> Self {
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
        Self { child, address: format!("127.0.0.1:{}", port.expect("it prints its port")) }
    }

    /// A browser, with scripts or without, that opens a URL.
    pub fn open(&self, url: &str, scripts: bool) -> BrowserPage<'_> {
        let arguments =
            ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--window-size=1280,800"];
        let preferences = json!({ "profile.managed_default_content_settings.javascript": if scripts { 1 } else { 2 } });
        let options = json!({ "goog:chromeOptions": { "args": arguments, "prefs": preferences } });
        let session = self.command("POST", "/session", &json!({ "capabilities": { "alwaysMatch": options } }));
        let page = BrowserPage { driver: self, session: session["sessionId"].as_str().expect("a session").to_owned() };
        page.post("url", &json!({ "url": url }));
        page
    }

    /// Sends a command, and returns the `value` of the response.
    #[track_caller]
    fn command(&self, method: &str, path: &str, body: &Value) -> Value {
        let mut stream = TcpStream::connect(&self.address).expect("the driver listens");
        stream.set_read_timeout(Some(TIMEOUT)).expect("a time limit");
        let body = if method == "POST" { body.to_string() } else { String::new() };
        let head = format!("{method} {path} HTTP/1.1\r\nHost: {}\r\nConnection: close\r\n", self.address);
        let length = format!("Content-Type: application/json\r\nContent-Length: {}\r\n\r\n", body.len());
        stream.write_all(format!("{head}{length}{body}").as_bytes()).expect("it is sent");
        // The driver keeps the connection open: the head says how long the body is.
        let mut reader = BufReader::new(stream);
        let (mut head, mut line) = (String::new(), String::new());
        while reader.read_line(&mut line).expect("a response") > 2 {
            head.push_str(&line);
            line.clear();
        }
        let length = head.to_ascii_lowercase();
        let length = length.lines().find_map(|line| line.strip_prefix("content-length:")).expect("a length");
        let mut body = vec![0; length.trim().parse().expect("a number")];
        reader.read_exact(&mut body).expect("a body");
        let value: Value = serde_json::from_slice(&body).expect("JSON");
        assert!(head.starts_with("HTTP/1.1 200"), "{method} {path}: {}", value["value"]["message"]);
        value["value"].clone()
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A page of a browser, which closes with it.
pub struct BrowserPage<'d> {
    driver: &'d Driver,
    session: String,
}

impl BrowserPage<'_> {
    #[track_caller]
    fn post(&self, command: &str, body: &Value) -> Value {
        self.driver.command("POST", &format!("/session/{}/{command}", self.session), body)
    }

    #[track_caller]
    fn get(&self, command: &str) -> Value {
        self.driver.command("GET", &format!("/session/{}/{command}", self.session), &Value::Null)
    }

    pub fn title(&self) -> String {
        self.get("title").as_str().expect("text").to_owned()
    }

    /// Runs a script on the page, which its policy does not prevent.
    #[track_caller]
    pub fn run(&self, script: &str) -> Value {
        self.post("execute/sync", &json!({ "script": script, "args": [] }))
    }

    /// Waits until a script on the page returns this.
    #[track_caller]
    pub fn wait_for(&self, script: &str, expected: Value) {
        let until = Instant::now() + Duration::from_secs(10);
        let mut last = self.run(script);
        while last != expected {
            assert!(Instant::now() < until, "`{script}` stays {last}, not {expected}");
            std::thread::sleep(Duration::from_millis(50));
            last = self.run(script);
        }
    }

    /// The first element of a CSS selector.
    #[track_caller]
    pub fn find(&self, selector: &str) -> Element<'_> {
        let found = self.post("element", &json!({ "using": "css selector", "value": selector }));
        Element { page: self, id: found[ELEMENT].as_str().expect("an id").to_owned() }
    }
}

impl Drop for BrowserPage<'_> {
    fn drop(&mut self) {
        if !std::thread::panicking() {
            self.driver.command("DELETE", &format!("/session/{}", self.session), &Value::Null);
        }
    }
}

/// An element of a page.
pub struct Element<'p> {
    page: &'p BrowserPage<'p>,
    id: String,
}

impl Element<'_> {
    #[track_caller]
    pub fn text(&self) -> String {
        self.page.get(&format!("element/{}/text", self.id)).as_str().expect("text").to_owned()
    }

    #[track_caller]
    pub fn is_displayed(&self) -> bool {
        self.page.get(&format!("element/{}/displayed", self.id)).as_bool().expect("a boolean")
    }

    #[track_caller]
    pub fn click(&self) {
        self.page.post(&format!("element/{}/click", self.id), &json!({}));
    }

    #[track_caller]
    pub fn clear(&self) {
        self.page.post(&format!("element/{}/clear", self.id), &json!({}));
    }

    #[track_caller]
    pub fn type_keys(&self, keys: &str) {
        self.page.post(&format!("element/{}/value", self.id), &json!({ "text": keys }));
    }
}
