//! The parts of an exchange that `--show` names.

use super::{body, table};
use crate::styles::Styles;
use std::io::{self, Write};
use std::time::Duration;
use yieldtray_http::{
    Body, BodyPart, CookieNote, CookieStatus, Exchange, Hop, HopKind, HttpVersion, PreparedRequest, StreamRecord,
    Timings,
};
use yieldtray_report::record::header_value;
use yieldtray_source::escape::{escape_line, escape_terminal};
use yieldtray_workspace::secret::Masker;

/// The bars of a timeline are this many columns wide where no terminal gives a width.
const DEFAULT_BAR_COLUMNS: usize = 60;

/// The request as it went out: its line, its header fields and its body.
pub(crate) fn sent(exchange: &Exchange, masker: &Masker, styles: Styles) -> String {
    let through = exchange.proxy.as_ref().map(|proxy| styles.dim(&format!("through {}", escape_line(proxy))) + "\n");
    through.unwrap_or_default() + &request_text(&exchange.sent, exchange.version, masker, styles) + "\n"
}

/// A request line, header fields and body; the content of files is shown as their names.
pub(crate) fn request_text(request: &PreparedRequest, version: &str, masker: &Masker, styles: Styles) -> String {
    let line = masker.mask(&format!("{} {} {version}", request.method, request.wire_target())).into_owned();
    let mut text = styles.strong(&escape_line(&line)) + "\n";
    for (name, value) in request.wire_headers() {
        let value = header_value(&name, &value, masker);
        text.push_str(&format!("{}: {}\n", styles.name(&escape_line(&name)), escape_line(&value)));
    }
    if let Some(body) = &request.body {
        text.push_str(&format!("\n{}\n", escape_terminal(&masker.mask(&body.text()))));
    }
    text
}

/// The version that a request would probably be sent with.
pub(crate) fn version_to_send(request: &PreparedRequest) -> &'static str {
    if request.version == Some(HttpVersion::Http2) { "HTTP/2" } else { "HTTP/1.1" }
}

/// Writes the bytes that would be sent, secrets masked. Written, not returned, since files may be larger than memory.
///
/// # Errors
/// If a file cannot be read, or `out` cannot be written.
pub(crate) fn write_wire(out: &mut impl Write, request: &PreparedRequest, masker: &Masker) -> io::Result<()> {
    let line = format!("{} {} {}", request.method, request.wire_target(), version_to_send(request));
    write!(out, "{}\r\n", masker.mask(&line))?;
    for (name, value) in request.wire_headers() {
        write!(out, "{name}: {}\r\n", header_value(&name, &value, masker))?;
    }
    out.write_all(b"\r\n")?;
    for piece in request.body.iter().flat_map(Body::pieces) {
        match piece.as_ref() {
            BodyPart::Bytes(bytes) => out.write_all(&masker.mask_bytes(bytes))?,
            BodyPart::File(file) => {
                io::copy(&mut std::fs::File::open(&file.path)?, out)?;
            }
        }
    }
    Ok(())
}

/// Status line and header fields of the response.
pub(crate) fn head(exchange: &Exchange, masker: &Masker, styles: Styles) -> String {
    let line = format!("{} {} {}", exchange.version, exchange.status, exchange.reason);
    let mut text = styles.strong(escape_line(&line).trim_end()) + "\n";
    for (name, value) in &exchange.headers {
        let value = header_value(name, &String::from_utf8_lossy(value), masker);
        text.push_str(&format!("{}: {}\n", styles.name(&escape_line(name)), escape_line(&value)));
    }
    for (name, value) in &exchange.trailers {
        let value = header_value(name, &String::from_utf8_lossy(value), masker);
        text.push_str(&format!(
            "{}: {}\n",
            styles.name(&format!("trailer {}", escape_line(name))),
            escape_line(&value)
        ));
    }
    text + "\n"
}

/// How many events there were, and why no more.
fn described_stream(stream: &StreamRecord) -> String {
    let count = super::table::count(usize::try_from(stream.count).unwrap_or(usize::MAX), "event", "events");
    let again = match stream.reconnected {
        0 => String::new(),
        times => format!(", reconnected {}", super::table::count(times as usize, "time", "times")),
    };
    format!("{count}{again}: {}", stream.end.describe())
}

/// The durations of all phases, hop by hop, each with a bar at its position in the whole.
pub(crate) fn timeline(exchange: &Exchange, masker: &Masker, styles: Styles, width: Option<usize>) -> String {
    const LABEL_COLUMNS: usize = 26;
    let bars = width.map_or(DEFAULT_BAR_COLUMNS, |width| width.saturating_sub(LABEL_COLUMNS).clamp(12, 100));
    // Our own time before the first hop is negligible: the bars begin with the hop.
    let first = exchange.hops.first().map_or(exchange.timings.began, |hop| hop.timings.began);
    let whole = exchange.timings.total.saturating_sub(first).as_secs_f64().max(1e-9);
    let column = |at: Duration| (at.as_secs_f64() / whole * bars as f64).round() as usize;
    let last = (exchange.sent.method.as_str(), &*exchange.sent.address(), exchange.status, &exchange.timings);
    let hops = exchange.hops.iter().map(|hop| (hop.method.as_str(), hop.url.as_str(), hop.status, &hop.timings));
    let mut lines = Vec::new();
    for (method, url, status, timings) in hops.chain([last]) {
        let line = format!("{method} {url}  {status}");
        lines.push(styles.strong(&escape_line(&masker.mask(&line))));
        let mut at = timings.began.saturating_sub(first);
        for (phase, took, paint) in phases(timings) {
            let time = format!("{:>9.2} ms", took.as_secs_f64() * 1e3);
            let (from, to) = (column(at).min(bars - 1), column(at + took));
            at += took;
            // Any duration at all is visible.
            let bar = "━".repeat(to.saturating_sub(from).clamp(1, bars - from));
            lines.push(format!("  {}{time}  {}{}", table::left(phase, 8), " ".repeat(from), paint(styles, &bar)));
        }
        if timings.connect.is_none() {
            lines.push(format!("  {}", styles.dim("on a reused connection")));
        }
    }
    lines.push(format!("  {}{:>9.2} ms", table::left("total", 8), exchange.timings.total.as_secs_f64() * 1e3));
    lines.join("\n") + "\n\n"
}

type Paint = fn(Styles, &str) -> String;

fn phases(timings: &Timings) -> Vec<(&'static str, Duration, Paint)> {
    let all: [(_, _, Paint); 5] = [
        ("DNS lookup", timings.lookup, Styles::name),
        ("connect", timings.connect, Styles::name),
        ("TLS", timings.tls, Styles::name),
        ("wait", Some(timings.wait), Styles::warn),
        ("receive", Some(timings.receive), Styles::good),
    ];
    all.into_iter().filter_map(|(phase, took, paint)| Some((phase, took?, paint))).collect()
}

/// The cookies, in order.
pub(crate) fn cookies(exchange: &Exchange, styles: Styles) -> String {
    if exchange.cookies.is_empty() {
        let message =
            if exchange.sent.sending.cookies { "no cookies" } else { "no cookies: disabled for this request" };
        return styles.dim(message) + "\n\n";
    }
    let line = |note: &CookieNote| {
        let status = table::left(note.status.as_str(), 7);
        let status = match note.status {
            CookieStatus::Refused => styles.bad(&status),
            CookieStatus::Ended => styles.warn(&status),
            CookieStatus::Sent | CookieStatus::Set => status,
        };
        format!("{status}  {}  {}\n", styles.name(&escape_line(&note.name)), escape_line(&note.message))
    };
    exchange.cookies.iter().map(line).collect::<String>() + "\n"
}

/// A hop that was not the last, in words.
pub(crate) fn describe_hop(hop: &Hop) -> String {
    let Hop { kind, method, url, status, location, .. } = hop;
    match kind {
        HopKind::Redirect => format!("{method} {url} → {status} {location}"),
        HopKind::Page => format!("{method} {url} → {status}, next page {location}"),
        HopKind::Challenge => format!("{method} {url} → {status}, answered the authentication challenge"),
    }
}

/// Status, time, size and media type, as one line; of a stream also how many events there were, as another one.
pub(crate) fn status_line(exchange: &Exchange, masker: &Masker, styles: Styles) -> String {
    let status = format!("{} {}", exchange.status, exchange.reason);
    let status = match exchange.status {
        101 | 200..400 => styles.good(escape_line(&status).trim_end()),
        _ => styles.bad(escape_line(&status).trim_end()),
    };
    let address = exchange.sent.address();
    let url = masker.mask(&address);
    let media = exchange.media_type();
    let received = exchange.messages.iter().filter(|message| message.is_received).count();
    let size = match exchange.messages.len() {
        0 => body::size(exchange.size),
        all => {
            let sent = super::table::count(all - received, "message", "messages");
            let more = if exchange.lacks_parts { " or more" } else { "" };
            format!("{sent} sent, {received}{more} received")
        }
    };
    let parts = [
        format!("{} {}", exchange.sent.method, escape_line(&url)),
        status,
        super::cell::time(exchange.timings.total),
        size,
        escape_line(&media).into_owned(),
    ];
    let line = parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("  ");
    match &exchange.stream {
        None => line,
        Some(stream) => format!("{line}\n{}", described_stream(stream)),
    }
}
