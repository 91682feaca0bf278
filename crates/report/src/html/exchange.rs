//! One entry on the page: a line, and its details: failures, request and response.

use super::text::{Content, Time, fitting};
use crate::entry::{DiffRecord, Entry, FailedCheck};
use crate::explain::difference_line;
use crate::received_parts::ReceivedParts;
use crate::record::{RequestRecord, ResponseRecord};
use maud::{Markup, html};
use std::fmt::Write;
use yieldtray_engine::Outcome;
use yieldtray_http::StreamEnd;
use yieldtray_http::layout::pretty_print;

/// An entry behind its line; `limit` is how many bytes of a body are shown.
pub(super) fn entry(entry: &Entry<'_>, anchor: &str, limit: usize, open: bool) -> Markup {
    html! {
        details.entry.(class(entry.outcome)) id=(anchor) open[open] {
            summary { (line(entry)) }
            (inside(entry, limit))
        }
    }
}

/// The line of an entry whose details are elsewhere on the page.
pub(super) fn pointer(entry: &Entry<'_>, anchor: &str) -> Markup {
    html! {
        p.entry.(class(entry.outcome)) { a href=(format!("#{anchor}")) { (line(entry)) } }
    }
}

fn class(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Passed => "well",
        Outcome::Skipped | Outcome::NotSent => "idle",
        Outcome::Failed | Outcome::Invalid | Outcome::NoResponse => "bad",
    }
}

fn line(entry: &Entry<'_>) -> Markup {
    let failed = entry.failures.len();
    let message = match (entry.outcome, entry.checks) {
        (Outcome::Passed, 0) => "no checks".to_owned(),
        (Outcome::Passed, 1) => "1 check".to_owned(),
        (Outcome::Passed, all) => format!("{all} checks"),
        (Outcome::Failed, all) if failed > 0 => format!("{failed} of {all} failed"),
        (outcome, _) => outcome.describe().to_owned(),
    };
    html! {
        span.name { (Content(entry.title())) }
        span.target {
            @if let (Some(method), Some(url)) = (&entry.method, &entry.url) { b { (Content(method)) } " " (Content(path(url))) }
        }
        span.status { @if let Some(status) = entry.status { (status) } }
        span.time { @if let Some(millis) = entry.elapsed_ms { (Time(millis)) } }
        span.words {
            (message)
            @if let Some(tries) = entry.tries { ", tried " (tries) " times" }
            @if let Some(attempts) = entry.attempts { ", attempt " (attempts) }
        }
    }
}

/// A URL without scheme and host.
fn path(url: &str) -> &str {
    let after_scheme = url.find("://").map_or(0, |at| at + 3);
    url[after_scheme..].find('/').map_or(url, |at| &url[after_scheme + at..])
}

fn inside(entry: &Entry<'_>, limit: usize) -> Markup {
    html! {
        div.inside {
            p.place { (Content(format!("{}:{}", entry.file, entry.line))) }
            @if let Some(need) = &entry.needs { p { "not sent: " b { (Content(need)) } " did not pass" } }
            @if let Some(reason) = &entry.reason { p { "skipped: " (Content(reason)) } }
            @if let Some(failure) = &entry.failure {
                p.why { (Content(&failure.message)) }
                @if let Some(hint) = &failure.hint { p { (Content(hint)) } }
            }
            @for failed in &entry.failures { (check(failed)) }
            @for (name, why) in entry.failed_yields() {
                p.why { code { (Content(name)) } " was not yielded: " (Content(why)) }
            }
            @for problem in &entry.diagnostics {
                p.why[problem.severity == "error"] {
                    @if let (Some(file), Some(line)) = (&problem.file, problem.line) {
                        span.place { (Content(format!("{file}:{line}"))) } " "
                    }
                    (Content(&problem.message))
                    @if let Some(hint) = &problem.hint { " – " (Content(hint)) }
                }
            }
            @if let Some(advice) = &entry.advice { p { (Content(advice)) } }
            (yields(entry))
            div.exchange {
                @if let Some(request) = &entry.request { (sent(request, limit)) }
                @if let Some(response) = &entry.response {
                    (answer(response, limit))
                    @for (title, text) in parts(&response.parts) { (block(title, &cut(text, limit))) }
                }
            }
        }
    }
}

fn yields(entry: &Entry<'_>) -> Markup {
    let taken = entry.yields.iter().filter_map(|taken| Some((&taken.name, taken.value.as_ref()?)));
    html! {
        @for (name, value) in taken { p { code { (Content(name)) " = " (Content(value)) } " was yielded" } }
    }
}

/// A check that failed: its place and words, its parts with their values, how long sides differ.
fn check(failed: &FailedCheck) -> Markup {
    html! {
        div.check {
            p.why {
                span.place { (Content(format!("{}:{}", failed.file, failed.line))) } " "
                @if let Some(label) = &failed.label { (Content(label)) ": " }
                code { (Content(&failed.expression)) }
            }
            @if !failed.parts.is_empty() {
                table.parts {
                    @for part in &failed.parts {
                        tr {
                            th scope="row" { code { (Content(&part.text)) } }
                            td {
                                @if let Some(value) = &part.value { code { (Content(value)) } }
                                @else if let Some(error) = &part.error { "no value: " (Content(error)) }
                            }
                        }
                    }
                }
            }
            @if let Some(sides) = &failed.difference { (difference(sides)) }
            @for note in failed.notes.iter().chain(&failed.hint) { p { (Content(note)) } }
        }
    }
}

fn difference(sides: &DiffRecord) -> Markup {
    html! {
        pre.difference tabindex="0" {
            "< " (Content(&sides.left)) "\n> " (Content(&sides.right)) "\n"
            @for (whose, what) in &sides.lines {
                @let line = difference_line(whose, what);
                @match whose.as_str() {
                    "left" => del { (Content(&line)) },
                    "right" => ins { (Content(&line)) },
                    _ => (Content(&line)),
                }
                "\n"
            }
        }
    }
}

fn sent(request: &RequestRecord<'_>, limit: usize) -> Markup {
    let mut text = String::with_capacity(512);
    push(&mut text, &[&request.method, " ", &request.url, "\n"]);
    push_fields(&mut text, &request.headers);
    if let Some(body) = &request.body {
        let media = request.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type"));
        push_body(&mut text, body, media.map_or("", |(_, value)| value), limit);
    }
    block("Request", &text)
}

fn answer(response: &ResponseRecord<'_>, limit: usize) -> Markup {
    let mut text = String::with_capacity(1024);
    for hop in &response.hops {
        push(&mut text, &[&hop.method, " ", &hop.url, " → ", &hop.status.to_string(), " ", &hop.location, "\n"]);
    }
    push(&mut text, &[&response.version, " ", &response.status.to_string(), " ", &response.reason, "\n"]);
    push_fields(&mut text, &response.headers);
    match (&response.body, response.size) {
        (Some(body), _) => push_body(&mut text, body, &response.media_type(), limit),
        (None, 0) => {}
        (None, size) => {
            let what = if response.body_base64.is_some() { response.media_type() } else { "omitted".to_owned() };
            push(&mut text, &["\n(", &size.to_string(), " bytes, ", &what, ")\n"]);
        }
    }
    block("Response", &text)
}

/// The parts of a response beside head and body, each under its title.
pub(super) fn parts(parts: &ReceivedParts) -> Vec<(&'static str, String)> {
    let mut found = Vec::new();
    if let Some(stream) = &parts.stream {
        let end = StreamEnd::of(&stream.end).describe();
        let count = if stream.events == 1 { "1 event".to_owned() } else { format!("{} events", stream.events) };
        let again = match stream.reconnected {
            0 => String::new(),
            times => format!(", connections after the first: {times}"),
        };
        found.push(("Stream", format!("{count}{again}: {end}\n")));
    }
    let mut text = String::new();
    for message in &parts.messages {
        let arrow = if message.received { "←" } else { "→" };
        let data = message.text.as_deref().unwrap_or("(binary data)");
        let _ = writeln!(text, "{:>9.3} s  {arrow}  {data}", message.at_ms / 1e3);
    }
    found.push(("Messages", std::mem::take(&mut text)));
    for (number, page) in (1..).zip(&parts.pages) {
        let _ = writeln!(text, "page {number}\n{page}\n");
    }
    found.push(("Pages before this one", std::mem::take(&mut text)));
    push_fields(&mut text, &parts.trailers);
    found.push(("Trailers", text));
    if parts.omitted {
        found.push(("Left out", "messages or pages that are too large\n".to_owned()));
    }
    found.retain(|(_, text)| !text.is_empty());
    found
}

/// As much of a text as fits, with the number of bytes left out.
fn cut(mut text: String, limit: usize) -> String {
    let (fits, _) = fitting(&text, limit);
    let left = text.len() - fits;
    text.truncate(fits);
    if left > 0 {
        let _ = write!(text, "\n… {left} more bytes");
    }
    text
}

/// Text under its title. It is made safe here, in one go: nothing that is put together above is.
fn block(title: &str, text: &str) -> Markup {
    html! {
        div { h4 { (title) } pre tabindex="0" { (Content(text)) } }
    }
}

fn push(text: &mut String, parts: &[&str]) {
    parts.iter().for_each(|part| text.push_str(part));
}

fn push_fields<T: AsRef<str>>(text: &mut String, fields: &[(T, T)]) {
    for (name, value) in fields {
        push(text, &[name.as_ref(), ": ", value.as_ref(), "\n"]);
    }
}

/// A body, pretty-printed if it is JSON; a long one is truncated, with the number of bytes left out.
fn push_body(text: &mut String, body: &str, content_type: &str, limit: usize) {
    if body.is_empty() {
        return;
    }
    text.push('\n');
    let media = content_type.split(';').next().unwrap_or_default().trim();
    // A truncated body is not pretty-printed, since half a document is not valid. Nor is a form, which would be
    // decoded.
    let start = text.len();
    let stays = body.len() > limit || media.eq_ignore_ascii_case("application/x-www-form-urlencoded");
    let whole = !stays && pretty_print(body, &media.to_ascii_lowercase(), |_, piece| text.push_str(piece));
    if !whole {
        text.push_str(body);
    }
    let (fits, _) = fitting(&text[start..], if whole { limit * 2 } else { limit });
    let left = text.len() - start - fits;
    text.truncate(start + fits);
    if left > 0 {
        let _ = write!(text, "\n… {left} more bytes");
    }
    text.push('\n');
}
