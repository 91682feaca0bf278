//! The parts of an exchange that `--show` names.

use super::{body, table};
use crate::output::styles::Styles;
use std::io::{self, Write};
use std::time::Duration;
use yieldtray_http::{Body, BodyPart, CookieStatus, Exchange, Hop, HopKind, PreparedRequest, Timings};
use yieldtray_report::record::header_value;
use yieldtray_source::escape::{escape_line, escape_terminal};
use yieldtray_workspace::secret::Masker;

/// The bars of a timeline are this many columns wide where no terminal gives a width.
const DEFAULT_BAR_COLUMNS: usize = 60;

/// The request as it went out: its line, its header fields and its body.
pub(crate) fn sent(out: &mut impl Write, exchange: &Exchange, masker: &Masker, look: Styles) -> io::Result<()> {
    if let Some(proxy) = &exchange.proxy {
        writeln!(out, "{}", look.faint(&format!("through {}", escape_line(proxy))))?;
    }
    let request = &exchange.sent;
    let line = format!("{} {} {}", request.method, request.wire_target(), exchange.version);
    writeln!(out, "{}", look.strong(&escape_line(&masker.mask(&line))))?;
    for (name, value) in request.wire_headers() {
        writeln!(out, "{}: {}", look.name(&escape_line(&name)), escape_line(&header_value(&name, &value, masker)))?;
    }
    if let Some(body) = &request.body {
        writeln!(out, "\n{}", escape_terminal(&masker.mask(&body.text())))?;
    }
    writeln!(out)
}

/// The bytes that would be sent, secrets masked; for a person, files are shown by name.
pub(crate) fn wire(
    out: &mut impl Write,
    request: &PreparedRequest,
    masker: &Masker,
    person: Option<Styles>,
) -> io::Result<()> {
    use yieldtray_http::HttpVersion;
    let version = if request.version == Some(HttpVersion::Http2) { "HTTP/2" } else { "HTTP/1.1" };
    let line = format!("{} {} {version}", request.method, request.wire_target());
    let line = masker.mask(&line);
    let fields = request.wire_headers();
    let fields = fields.iter().map(|(name, value)| (name, header_value(name, value, masker)));
    if let Some(look) = person {
        writeln!(out, "{}", look.strong(&escape_line(&line)))?;
        for (name, value) in fields {
            writeln!(out, "{}: {}", look.name(&escape_line(name)), escape_line(&value))?;
        }
        if let Some(body) = &request.body {
            writeln!(out, "\n{}", escape_terminal(&masker.mask(&body.text())))?;
        }
        return Ok(());
    }
    write!(out, "{line}\r\n")?;
    for (name, value) in fields {
        write!(out, "{name}: {value}\r\n")?;
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
pub(crate) fn head(out: &mut impl Write, exchange: &Exchange, masker: &Masker, look: Styles) -> io::Result<()> {
    let line = format!("{} {} {}", exchange.version, exchange.status, exchange.reason);
    writeln!(out, "{}", look.strong(escape_line(&line).trim_end()))?;
    for (name, value) in &exchange.headers {
        let value = header_value(name, &String::from_utf8_lossy(value), masker);
        writeln!(out, "{}: {}", look.name(&escape_line(name)), escape_line(&value))?;
    }
    writeln!(out)
}

/// How long what took, hop by hop, each phase as a bar where it lies in the whole.
pub(crate) fn timeline(
    out: &mut impl Write,
    exchange: &Exchange,
    masker: &Masker,
    look: Styles,
    width: Option<usize>,
) -> io::Result<()> {
    const LABEL_COLUMNS: usize = 26;
    let bars = width.map_or(DEFAULT_BAR_COLUMNS, |width| width.saturating_sub(LABEL_COLUMNS).clamp(12, 100));
    // Our own time before the first hop is negligible: the bars begin with the hop.
    let first = exchange.hops.first().map_or(exchange.timings.began, |hop| hop.timings.began);
    let whole = exchange.timings.total.saturating_sub(first).as_secs_f64().max(1e-9);
    let column = |at: Duration| (at.as_secs_f64() / whole * bars as f64).round() as usize;
    let last = (exchange.sent.method.as_str(), &*exchange.sent.address(), exchange.status, &exchange.timings);
    let hops = exchange.hops.iter().map(|hop| (hop.method.as_str(), hop.url.as_str(), hop.status, &hop.timings));
    for (method, url, status, timings) in hops.chain([last]) {
        let line = format!("{method} {url}  {status}");
        writeln!(out, "{}", look.strong(&escape_line(&masker.mask(&line))))?;
        let mut at = timings.began.saturating_sub(first);
        for (phase, took, paint) in phases(timings) {
            let time = format!("{:>9.2} ms", took.as_secs_f64() * 1e3);
            let (from, to) = (column(at).min(bars - 1), column(at + took));
            at += took;
            // Any duration at all is visible.
            let bar = "━".repeat(to.saturating_sub(from).clamp(1, bars - from));
            writeln!(out, "  {}{time}  {}{}", table::left(phase, 8), " ".repeat(from), paint(look, &bar))?;
        }
        if timings.connect.is_none() {
            writeln!(out, "  {}", look.faint("on a connection that was open already"))?;
        }
    }
    writeln!(out, "  {}{:>9.2} ms", table::left("in all", 8), exchange.timings.total.as_secs_f64() * 1e3)?;
    writeln!(out)
}

type Paint = fn(Styles, &str) -> String;

fn phases(timings: &Timings) -> Vec<(&'static str, Duration, Paint)> {
    let all: [(_, _, Paint); 5] = [
        ("look up", timings.lookup, Styles::name),
        ("connect", timings.connect, Styles::name),
        ("TLS", timings.tls, Styles::name),
        ("wait", Some(timings.wait), Styles::odd),
        ("receive", Some(timings.receive), Styles::good),
    ];
    all.into_iter().filter_map(|(phase, took, paint)| Some((phase, took?, paint))).collect()
}

/// The cookies, in order.
pub(crate) fn cookies(out: &mut impl Write, exchange: &Exchange, look: Styles) -> io::Result<()> {
    if exchange.cookies.is_empty() {
        let words = if exchange.sent.sending.cookies { "no cookies" } else { "no cookies: they are switched off" };
        writeln!(out, "{}", look.faint(words))?;
    }
    for note in &exchange.cookies {
        let fate = table::left(note.fate.as_str(), 7);
        let fate = match note.fate {
            CookieStatus::Refused => look.bad(&fate),
            CookieStatus::Ended => look.odd(&fate),
            CookieStatus::Sent | CookieStatus::Set => fate,
        };
        let (name, words) = (escape_line(&note.name), escape_line(&note.words));
        writeln!(out, "{fate}  {}  {words}", look.name(&name))?;
    }
    writeln!(out)
}

/// A hop that was not the last, in words.
pub(crate) fn hop_words(hop: &Hop) -> String {
    let Hop { kind, method, url, status, location, .. } = hop;
    match kind {
        HopKind::Redirect => format!("{method} {url} → {status} {location}"),
        HopKind::Challenge => format!("{method} {url} → {status}, and the proof it asks for"),
    }
}

/// Status, time, size and media type, as one line.
pub(crate) fn status_line(exchange: &Exchange, masker: &Masker, look: Styles) -> String {
    let status = format!("{} {}", exchange.status, exchange.reason);
    let status = match exchange.status {
        200..400 => look.good(escape_line(&status).trim_end()),
        _ => look.bad(escape_line(&status).trim_end()),
    };
    let address = exchange.sent.address();
    let url = masker.mask(&address);
    let media = exchange.media_type();
    let parts = [
        format!("{} {}", exchange.sent.method, escape_line(&url)),
        status,
        super::cell::time(exchange.timings.total),
        body::size(exchange.size),
        escape_line(&media).into_owned(),
    ];
    parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("  ")
}
