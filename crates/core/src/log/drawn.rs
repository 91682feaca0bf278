//! A trend as a drawing (SVG 1.1), and as a page with a table of the same.

use super::trend::{Point, Trend};
use chrono::{DateTime, SecondsFormat};
use maud::{DOCTYPE, Markup, PreEscaped, html};

/// The size of the drawing, and of its parts, in its own units.
const WIDTH: f64 = 960.0;
const HEIGHT: f64 = 420.0;
const LEFT: f64 = 74.0;
const RIGHT: f64 = 24.0;
const TOP: f64 = 54.0;
/// Where the times end and the sizes begin.
const MIDDLE: f64 = 300.0;
const SIZES: f64 = 322.0;
const BOTTOM: f64 = 384.0;

/// A trend that is drawn under a title.
#[derive(Debug)]
pub struct Drawn<'t> {
    /// What it is a trend of.
    pub title: &'t str,
    /// The trend.
    pub trend: &'t Trend,
}

const STYLE: &str = "
    :root { color-scheme: light dark; }
    svg { font: 13px system-ui, sans-serif; background: #fff; fill: #1c2321; }
    .faint { fill: #5d6864; } .grid { stroke: #d9dedb; } .median { stroke: #5d6864; stroke-dasharray: 6 4; }
    .time { fill: #1f6f5c; } .size { fill: #6b5b95; } .slowest { fill: #b3261e; } .jump { stroke: #a15c00; }
    .jumped { fill: #a15c00; }
    @media (prefers-color-scheme: dark) {
        svg { background: #161a19; fill: #e4e9e6; } .faint { fill: #9aa5a0; } .grid { stroke: #333b38; }
        .median { stroke: #9aa5a0; } .time { fill: #6fcdb4; } .size { fill: #b9a8e6; } .slowest { fill: #ff8a80; }
        .jump { stroke: #ffb74d; } .jumped { fill: #ffb74d; }
    }";

const PAGE_STYLE: &str = "
    body { font: 16px/1.5 system-ui, sans-serif; margin: 2rem auto; max-width: 62rem; padding: 0 1rem;
        background: #fff; color: #1c2321; }
    svg { width: 100%; height: auto; } h1 { font-size: 1.3rem; }
    table { border-collapse: collapse; font-variant-numeric: tabular-nums; }
    th, td { text-align: right; padding: .15rem .9rem .15rem 0; } th { font-weight: 600; }
    td:nth-child(2), th:nth-child(2), td:last-child, th:last-child { text-align: left; }
    @media (prefers-color-scheme: dark) { body { background: #161a19; color: #e4e9e6; } }";

impl Drawn<'_> {
    /// A file of its own.
    pub fn svg(&self) -> String {
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{}\n", self.drawing().into_string())
    }

    /// A page that needs nothing else, with all the answers in a table, the newest first.
    pub fn page(&self) -> String {
        let trend = self.trend;
        html! {
            (DOCTYPE)
            html lang="en" {
                head {
                    meta charset="utf-8";
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'";
                    title { (self.title) }
                    style { (PreEscaped(PAGE_STYLE)) }
                }
                body {
                    h1 { (self.title) }
                    (self.drawing())
                    h2 { "All answers" }
                    table {
                        thead { tr { th { "Number" } th { "Sent" } th { "Time" } th { "Size" } th { "Status" } th { "Commit" } } }
                        tbody {
                            @for point in trend.points.iter().rev() {
                                tr {
                                    td { (point.number) } td { (time_of(point)) } td { (millis(point.micros)) }
                                    td { (point.size) " B" } td { (point.status) }
                                    td { (point.revision.as_deref().unwrap_or_default()) }
                                }
                            }
                        }
                    }
                }
            }
        }
        .into_string()
    }

    fn drawing(&self) -> Markup {
        let trend = self.trend;
        let points = &trend.points;
        let slowest = &points[trend.slowest];
        let longest = slowest.micros.max(1) as f64;
        let largest = points.iter().map(|point| point.size).max().unwrap_or_default().max(1) as f64;
        let across = |at: usize| {
            // A single answer stands in the middle.
            let share = if points.len() > 1 { at as f64 / (points.len() - 1) as f64 } else { 0.5 };
            LEFT + share * (WIDTH - LEFT - RIGHT)
        };
        let up = |micros: u64| MIDDLE - micros as f64 / longest * (MIDDLE - TOP);
        let size_up = |size: u64| BOTTOM - size as f64 / largest * (BOTTOM - SIZES);
        let median = up(trend.median);
        let radius = if points.len() > 200 { 1.6 } else { 3.2 };
        html! {
            svg xmlns="http://www.w3.org/2000/svg" viewBox=(format!("0 0 {WIDTH} {HEIGHT}")) width=(WIDTH) height=(HEIGHT)
                role="img" aria-label=(format!("{}: median {}, slowest {}", self.title, millis(trend.median), millis(slowest.micros))) {
                style { (PreEscaped(STYLE)) }
                text x=(LEFT) y="24" font-weight="600" { (self.title) }
                text.faint x=(WIDTH - RIGHT) y="24" text-anchor="end" {
                    (points.len()) (if points.len() == 1 { " answer" } else { " answers" })
                    ", median " (millis(trend.median)) ", slowest " (millis(slowest.micros)) " (number " (slowest.number) ")"
                }
                @for share in [0.0, 0.5, 1.0] {
                    @let y = MIDDLE - share * (MIDDLE - TOP);
                    line.grid x1=(LEFT) x2=(WIDTH - RIGHT) y1=(at(y)) y2=(at(y)) {}
                    text.faint x=(LEFT - 8.0) y=(at(y + 4.0)) text-anchor="end" { (millis((longest * share) as u64)) }
                }
                line.grid x1=(LEFT) x2=(WIDTH - RIGHT) y1=(at(BOTTOM)) y2=(at(BOTTOM)) {}
                text.faint x=(LEFT - 8.0) y=(at(SIZES + 4.0)) text-anchor="end" { (bytes(largest as u64)) }
                text.faint x=(LEFT - 8.0) y=(at(BOTTOM + 4.0)) text-anchor="end" { "0 B" }
                line.median x1=(LEFT) x2=(WIDTH - RIGHT) y1=(at(median)) y2=(at(median)) {}
                @for jump in &trend.jumps {
                    @let x = at(across(jump.at));
                    @let late = across(jump.at) > WIDTH - 240.0;
                    line.jump x1=(x) x2=(x) y1=(TOP - 12.0) y2=(BOTTOM) {}
                    text.jumped x=(x) y=(TOP - 16.0) text-anchor=(if late { "end" } else { "start" }) {
                        (millis(jump.before)) " → " (millis(jump.after))
                        @if let Some(revision) = &points[jump.at].revision { " at " (revision) }
                    }
                }
                @for (place, point) in points.iter().enumerate() {
                    circle.time cx=(at(across(place))) cy=(at(up(point.micros))) r=(radius) { title { (told(point)) } }
                    circle.size cx=(at(across(place))) cy=(at(size_up(point.size))) r=(radius * 0.8) { title { (told(point)) } }
                }
                circle.slowest cx=(at(across(trend.slowest))) cy=(at(up(slowest.micros))) r="5" { title { (told(slowest)) } }
                text.faint x=(LEFT) y=(HEIGHT - 14.0) { (points.first().map(time_of).unwrap_or_default()) }
                @if points.len() > 1 {
                    text.faint x=(WIDTH - RIGHT) y=(HEIGHT - 14.0) text-anchor="end" { (points.last().map(time_of).unwrap_or_default()) }
                }
            }
        }
    }
}

/// A place with one digit behind the point: finer is not seen.
fn at(place: f64) -> String {
    format!("{place:.1}")
}

fn told(point: &Point) -> String {
    let commit = point.revision.as_ref().map(|revision| format!(", at {revision}")).unwrap_or_default();
    let Point { number, micros, size, status, .. } = point;
    format!("number {number}, {}: {status}, {}, {}{commit}", time_of(point), millis(*micros), bytes(*size))
}

fn time_of(point: &Point) -> String {
    DateTime::from_timestamp_millis(point.at).unwrap_or_default().to_rfc3339_opts(SecondsFormat::Secs, true)
}

fn millis(micros: u64) -> String {
    match micros {
        0..9_950 => format!("{:.1} ms", micros as f64 / 1e3),
        9_950..1_000_000 => format!("{:.0} ms", micros as f64 / 1e3),
        _ => format!("{:.2} s", micros as f64 / 1e6),
    }
}

fn bytes(size: u64) -> String {
    match size {
        0..1_024 => format!("{size} B"),
        1_024..1_048_576 => format!("{:.1} KiB", size as f64 / 1_024.0),
        _ => format!("{:.1} MiB", size as f64 / 1_048_576.0),
    }
}
