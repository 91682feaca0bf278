//! The parts of the page around the entries.

use super::Html;
use super::text::{Content, Time, count};
use crate::RunInfo;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::SecondsFormat;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use sha2::{Digest, Sha256};

const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// The page of a run.
pub(super) struct PageFrame<'p> {
    pub(super) page: &'p Html,
    pub(super) about: &'p RunInfo,
}

impl PageFrame<'_> {
    /// Everything before what failed.
    pub(super) fn head(&self) -> String {
        let environment = self.about.environment.as_deref().unwrap_or("no environment");
        let head = html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta http-equiv="Content-Security-Policy" content=(policy());
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta name="color-scheme" content="light dark";
                    title { "Replay of " (Content(environment)) ": " (self.verdict()) }
                    style { (PreEscaped(STYLE)) }
                }
                body {
                    (self.header(environment))
                    main {
                        @if self.page.bad > 0 {
                            section #failed aria-labelledby="failed-title" {
                                h2 #failed-title { "Failures" }
                                (PreEscaped(HERE))
                            }
                        } @else {
                            (PreEscaped(HERE))
                        }
                    }
                }
            }
        };
        // Elements opened here are closed by the next part.
        let whole = head.into_string();
        whole.split(HERE).next().unwrap_or_default().to_owned()
    }

    fn header(&self, environment: &str) -> Markup {
        let began = self.about.started.to_rfc3339_opts(SecondsFormat::Secs, true);
        let fact = |name: &str, value: Markup| html! { div { dt { (name) } dd { (value) } } };
        html! {
            header {
                p.tool {
                    (Content(&self.about.tool)) " · "
                    time datetime=(began) { (began.replace('T', " ").replace('Z', " UTC")) }
                }
                h1 { (self.verdict()) }
                (self.strip())
                p.figures { (self.figures()) }
                dl {
                    (fact("Environment", html! { (Content(environment)) }))
                    @if let Some(base) = &self.about.base { (fact("Base URL", html! { (Content(base)) })) }
                    (fact("Duration", html! { (Time(self.about.elapsed_ms)) }))
                    @if let Some(seed) = self.about.seed { (fact("Seed", html! { code { "--seed " (seed) } })) }
                    @if let Some(joined) = self.about.merged {
                        (fact("Merged from", html! { (count(joined, "report", "reports")) }))
                    }
                }
                nav aria-label="Parts of this page" {
                    @if self.page.bad > 0 { a href="#failed" { "Failures" } }
                    @if self.page.waterfall.has_bars() { a href="#when" { "Timeline" } a href="#times" { "Durations" } }
                    a href="#requests" { "Requests" }
                    button #scheme type="button" hidden { "Toggle theme" }
                }
            }
        }
    }

    /// The summary, in a few words.
    fn verdict(&self) -> String {
        let Html { entries, well, bad, idle, .. } = *self.page;
        let totals = &self.about.totals;
        let message = match (bad, totals.checks) {
            (0, 0) => "Nothing was checked".to_owned(),
            (0, _) if idle == 0 => format!("All {entries} passed"),
            (0, _) => format!("{well} of {entries} passed"),
            (bad, _) => format!("{bad} of {entries} failed"),
        };
        if totals.interrupted { format!("{message}, then the run was interrupted") } else { message }
    }

    /// The shares of those that failed, were not sent and passed, as a strip.
    fn strip(&self) -> Markup {
        let Html { entries, well, bad, idle, .. } = *self.page;
        let share = |number: usize| format!("{:.3}%", number as f64 / entries.max(1) as f64 * 100.0);
        html! {
            svg.strip role="img" aria-label=(format!("{bad} failed, {idle} not sent, {well} passed")) {
                rect.bad width=(share(bad)) height="100%" {}
                rect.idle x=(share(bad)) width=(share(idle)) height="100%" {}
                rect.well x=(share(bad + idle)) width=(share(well)) height="100%" {}
            }
        }
    }

    /// The figures that are not nothing.
    fn figures(&self) -> String {
        let totals = &self.about.totals;
        let mut parts =
            vec![count(totals.requests, "request", "requests") + " sent", count(totals.checks, "check", "checks")];
        let mut add = |number: usize, message: &str| {
            if number > 0 {
                parts.push(format!("{number} {message}"));
            }
        };
        add(totals.failed_checks, "failed");
        add(totals.failed_yields, "not yielded");
        add(totals.no_response, "without a response");
        add(totals.invalid, "with errors");
        add(totals.not_sent, "not sent");
        add(totals.skipped, "skipped");
        add(totals.not_reached, "not reached");
        parts.join(" · ")
    }

    /// The part between the failures and all entries.
    pub(super) fn middle(&self) -> String {
        let Html { bad, waterfall, times, .. } = self.page;
        let (close, open) = match bad {
            0 => ("", SECTION),
            _ => ("</section>\n", SECTION),
        };
        let middle = html! {
            (PreEscaped(close))
            (waterfall.render())
            (times.render())
            (PreEscaped(open))
            h2 #requests-title { "Requests" }
            search #search hidden {
                label for="find" { "Find" }
                input #find type="search" placeholder="in names, URLs, headers and bodies" autocomplete="off";
                label { input #only-bad type="checkbox"; " only failures" }
                output #found for="find only-bad" {}
            }
        };
        middle.into_string()
    }

    /// Everything behind the entries.
    pub(super) fn tail(&self) -> String {
        let group = if self.page.group.is_some() { "</section>\n" } else { "<p>There is none.</p>\n" };
        format!("{group}</section>\n</main>\n<script>{SCRIPT}</script>\n</body>\n</html>\n")
    }
}

const SECTION: &str = "<section id=\"requests\" aria-labelledby=\"requests-title\">";

/// The place of the entries in the page.
const HERE: &str = "<!-- entries -->";

/// The page may use its own style and script, and nothing else at all (Content Security Policy 3).
fn policy() -> String {
    let digest = |text: &str| format!("'sha256-{}'", STANDARD.encode(Sha256::digest(text.as_bytes())));
    let (style, script) = (digest(STYLE), digest(SCRIPT));
    format!("default-src 'none'; style-src {style}; script-src {script}; base-uri 'none'; form-action 'none'")
}
