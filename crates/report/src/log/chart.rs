//! A trend as a drawing (SVG 1.1), and as a page with a table of the same.

use super::trend::{Point, Trend};
use crate::static_page::static_page;
use chrono::{DateTime, SecondsFormat};
use maud::{Markup, PreEscaped, html};

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
pub struct TrendChart<'t> {
    /// The subject of the trend.
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

impl TrendChart<'_> {
    /// A file of its own.
    pub fn svg(&self) -> String {
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{}\n", self.drawing().into_string())
    }

    /// A page without dependencies, with all responses in a table, the newest first.
    pub fn page(&self) -> String {
        let trend = self.trend;
        let body = html! {
            h1 { (self.title) }
            (self.drawing())
            h2 { "All responses" }
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
        };
        static_page(self.title, PAGE_STYLE, &body)
    }

    fn drawing(&self) -> Markup {
        let trend = self.trend;
        let points = &trend.points;
        let slowest = &points[trend.slowest];
        let longest = slowest.micros.max(1) as f64;
        let largest = points.iter().map(|point| point.size).max().unwrap_or_default().max(1) as f64;
        let across = |at: usize| {
            // A single response is in the middle.
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
                    (points.len()) (if points.len() == 1 { " response" } else { " responses" })
                    ", median " (millis(trend.median)) ", slowest " (millis(slowest.micros)) " (exchange " (slowest.number) ")"
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
                    circle.time cx=(at(across(place))) cy=(at(up(point.micros))) r=(radius) { title { (describe(point)) } }
                    circle.size cx=(at(across(place))) cy=(at(size_up(point.size))) r=(radius * 0.8) { title { (describe(point)) } }
                }
                circle.slowest cx=(at(across(trend.slowest))) cy=(at(up(slowest.micros))) r="5" { title { (describe(slowest)) } }
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

fn describe(point: &Point) -> String {
    let commit = point.revision.as_ref().map(|revision| format!(", at {revision}")).unwrap_or_default();
    let Point { number, micros, size, status, .. } = point;
    format!("exchange {number}, {}: {status}, {}, {}{commit}", time_of(point), millis(*micros), bytes(*size))
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

#[cfg(test)]
mod tests {
    use super::*;
    use quick_xml::events::Event;
    use quick_xml::reader::Reader;

    fn trend(points: &[(u64, u64)], revision: Option<&str>) -> Trend {
        let point = |(at, (micros, size)): (usize, &(u64, u64))| Point {
            number: at as i64 + 1,
            at: 1_789_000_000_000 + at as i64 * 60_000,
            micros: *micros,
            size: *size,
            status: 200,
            revision: revision.map(str::to_owned),
        };
        Trend::of(points.iter().enumerate().map(point).collect()).expect("there are points")
    }

    /// The elements of a drawing: name and attributes.
    fn elements(svg: &str) -> Vec<(String, Vec<(String, String)>)> {
        let mut reader = Reader::from_str(svg);
        let mut found = Vec::new();
        loop {
            match reader.read_event().expect("it is XML") {
                Event::Start(start) | Event::Empty(start) => {
                    let name = start.name().as_ref().to_owned();
                    let attributes = start.attributes().map(|attribute| {
                        let attribute = attribute.expect("it is an attribute");
                        (attribute.key.as_ref().to_owned(), attribute.value.into_owned())
                    });
                    found.push((name, attributes.collect()));
                }
                Event::Eof => return found,
                _ => {}
            }
        }
    }

    #[test]
    fn all_that_is_drawn_stands_on_the_drawing() {
        let many: Vec<(u64, u64)> = (0..1_000).map(|n| (1_000 + n * n % 7_919, n % 90)).collect();
        for points in [&[(0, 0)][..], &[(3, 0), (5_000_000, 3 << 20)], &many] {
            let svg = TrendChart { title: "read-lot", trend: &trend(points, None) }.svg();
            let elements = elements(&svg);
            // One mark for the time and one for the size of each response, and the mark of the slowest.
            let circles = elements.iter().filter(|(name, _)| name == "circle").count();
            assert_eq!(circles, points.len() * 2 + 1);
            let places = elements.iter().flat_map(|(_, attributes)| attributes);
            for (name, place) in
                places.filter(|(name, _)| ["x", "x1", "x2", "cx", "y", "y1", "y2", "cy"].contains(&&**name))
            {
                let edge = if name.contains('x') { WIDTH } else { HEIGHT };
                let place: f64 = place.parse().expect("a number");
                assert!((0.0..=edge).contains(&place), "{name} is {place}");
            }
        }
    }

    #[test]
    fn the_longest_time_stands_highest_and_a_jump_tells_its_commit() {
        let times = [10, 11, 10, 9, 10, 10, 30, 31, 29, 30, 45, 30].map(|millis| (millis * 1_000, 100));
        let svg = TrendChart { title: "read-lot", trend: &trend(&times, Some("0a1b2c3d4e5f+")) }.svg();
        let elements = elements(&svg);
        let of = |attributes: &[(String, String)], wanted: &str| -> Option<String> {
            attributes.iter().find(|(name, _)| name == wanted).map(|(_, value)| value.clone())
        };
        let marked = |class: &str| -> Vec<String> {
            let own =
                elements.iter().filter(|(name, own)| name == "circle" && of(own, "class").as_deref() == Some(class));
            own.filter_map(|(_, own)| of(own, "cy")).collect()
        };
        let heights = marked("time");
        assert_eq!(heights.len(), 12);
        assert_eq!((heights[10].clone(), marked("slowest")), (at(TOP), vec![at(TOP)]));
        assert!(svg.contains("10 ms → 30 ms at 0a1b2c3d4e5f+"), "{svg}");
        assert!(svg.contains("12 responses, median 11 ms, slowest 45 ms (exchange 11)"), "{svg}");
    }

    #[test]
    fn hostile_names_stay_text() {
        let title = "</title><script>alert('L-2039')</script> & \"lots\"";
        let trend = trend(&[(1_000, 5)], Some("<b>main</b>"));
        let drawn = TrendChart { title, trend: &trend };
        for text in [drawn.svg(), drawn.page()] {
            assert!(!text.contains("<script") && !text.contains("<b>"), "{text}");
            assert!(text.contains("&lt;script&gt;alert('L-2039')&lt;/script&gt; &amp; "), "{text}");
        }
        let names = elements(&drawn.svg()).into_iter().map(|(name, _)| name);
        assert!(names.collect::<Vec<_>>().iter().all(|name| name != "script"));
    }

    #[test]
    fn a_page_has_a_row_an_answer_the_newest_first() {
        let page =
            TrendChart { title: "read-lot", trend: &trend(&[(900, 5), (12_345, 2_048), (2_500_000, 0)], None) }.page();
        let cells: Vec<&str> = page.split("<td>").skip(1).filter_map(|rest| rest.split("</td>").next()).collect();
        let rows: Vec<String> = cells.chunks(6).map(|row| [row[0], row[2], row[3], row[4]].join(" ")).collect();
        assert_eq!(rows, ["3 2.50 s 0 B 200", "2 12 ms 2048 B 200", "1 0.9 ms 5 B 200"]);
        assert_eq!([bytes(1_023), bytes(1_536), bytes(3 << 20)], ["1023 B", "1.5 KiB", "3.0 MiB"]);
    }
}
