//! When what was under way: a bar a request, or in a long run a bar a file.

use super::axis::Axis;
use super::text::{Content, Time, count};
use crate::entry::Entry;
use maud::{Markup, html};
use rustc_hash::FxHashMap;

/// With more requests than this a file is one bar.
const MAX_BARS: usize = 250;

/// Bars as they are gathered: as many as are shown, whatever the length of the run.
#[derive(Default)]
pub(super) struct Waterfall {
    requests: usize,
    bars: Vec<Bar>,
    files: Vec<Bar>,
    file_at: FxHashMap<String, usize>,
    end: f64,
}

struct Bar {
    name: String,
    anchor: String,
    began: f64,
    /// Looking up, connecting, TLS.
    connect: f64,
    wait: f64,
    receive: f64,
    whole: f64,
    requests: usize,
    bad: usize,
}

impl Waterfall {
    /// Adds an entry that was sent; `anchor` is its place on the page.
    pub(super) fn add(&mut self, entry: &Entry<'_>, anchor: &str) {
        let (Some(began), Some(whole)) = (entry.started_ms, entry.elapsed_ms) else { return };
        self.requests += 1;
        self.end = self.end.max(began + whole);
        let bad = usize::from(!entry.outcome.is_fine());
        match self.file_at.get(&entry.file) {
            Some(at) => {
                let file = &mut self.files[*at];
                let end = (file.began + file.whole).max(began + whole);
                file.began = file.began.min(began);
                file.whole = end - file.began;
                file.requests += 1;
                file.bad += bad;
            }
            None => {
                self.file_at.insert(entry.file.clone(), self.files.len());
                let (connect, wait, receive) = (0.0, 0.0, 0.0);
                let (name, anchor) = (entry.file.clone(), anchor.to_owned());
                self.files.push(Bar { name, anchor, began, connect, wait, receive, whole, requests: 1, bad });
            }
        }
        if self.bars.len() < MAX_BARS {
            let phases = entry.response.as_ref().map(|response| response.timings_ms).unwrap_or_default();
            let connect = [phases.lookup, phases.connect, phases.tls].into_iter().flatten().sum();
            let (wait, receive) = (phases.wait, phases.receive);
            let (name, anchor) = (entry.title(), anchor.to_owned());
            self.bars.push(Bar { name, anchor, began, connect, wait, receive, whole, requests: 1, bad });
        }
    }

    /// Whether anything was sent.
    pub(super) fn has_bars(&self) -> bool {
        self.requests > 0
    }

    /// The bars; empty if nothing was sent.
    pub(super) fn render(&self) -> Markup {
        let by_file = self.requests > self.bars.len();
        let bars = if by_file { &self.files } else { &self.bars };
        if bars.is_empty() {
            return html! {};
        }
        let axis = Axis::new(self.end);
        html! {
            section #when aria-labelledby="when-title" {
                h2 #when-title { "Timeline" }
                p.about {
                    @if by_file {
                        (count(self.requests, "request", "requests")) ": a bar is a file, from its first request to its last."
                    } @else {
                        span.key.connect {} "connecting " span.key.wait {} "waiting for the response "
                        span.key.receive {} "receiving it " span.key.other {} "all else, such as redirects"
                    }
                }
                div.scroll tabindex="0" role="region" aria-labelledby="when-title" {
                    table.bars {
                        thead { tr { th scope="col" { "Request" } th scope="col" { (axis.render()) } th.time scope="col" { "Time" } } }
                        tbody {
                            @for bar in bars.iter().take(MAX_BARS) { (bar.render(&axis)) }
                        }
                    }
                }
                @if bars.len() > MAX_BARS {
                    p.about { "and " (count(bars.len() - MAX_BARS, "more file", "more files")) }
                }
            }
        }
    }
}

impl Bar {
    fn render(&self, axis: &Axis) -> Markup {
        // Time that is not connecting, waiting or receiving is before the last hop.
        let other = (self.whole - self.connect - self.wait - self.receive).max(0.0);
        let mut end = self.began;
        let parts = [("other", other), ("connect", self.connect), ("wait", self.wait), ("receive", self.receive)];
        let parts = parts.map(|(class, width)| {
            let at = end;
            end += width;
            (class, at, width)
        });
        html! {
            tr.bad[self.bad > 0] {
                th scope="row" {
                    a href=(format!("#{}", self.anchor)) { (Content(&self.name)) }
                    @if self.requests > 1 { " " small { (self.requests) } }
                }
                td {
                    svg.bar aria-hidden="true" {
                        @for (class, at, width) in parts {
                            @if width > 0.0 {
                                rect class=(class) x=(axis.at(at)) width=(axis.at(width)) height="100%" {}
                            }
                        }
                        // Any duration at all is visible.
                        rect.least x=(axis.at(self.began)) width="2" height="100%" {}
                    }
                }
                td.time { (Time(self.whole)) }
            }
        }
    }
}
