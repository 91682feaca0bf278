//! Documents: the manifest as XML, the stock as CSV.

use crate::state::Shared;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use std::fmt::Write;
use std::sync::Arc;

pub(crate) async fn manifest(State(shared): State<Arc<Shared>>) -> impl IntoResponse {
    let stock = shared.stock();
    let mut xml = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(xml, "<manifest server=\"{}\">", shared.server.name());
    for lot in stock.lots.values() {
        let (id, grower, variety) = (escape(&lot.id), escape(&lot.grower), escape(&lot.variety));
        let _ = writeln!(xml, "  <lot id=\"{id}\" grower=\"{grower}\" bins=\"{}\">{variety}</lot>", lot.bins);
    }
    xml.push_str("</manifest>\n");
    ([(header::CONTENT_TYPE, "application/xml")], xml)
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

pub(crate) async fn stock(State(shared): State<Arc<Shared>>) -> impl IntoResponse {
    let stock = shared.stock();
    let mut csv = String::from("lot,grower,variety,bins\r\n");
    for lot in stock.lots.values() {
        // RFC 4180 2.6: a field with a quote, a comma or a line end is in quotes.
        let variety = if lot.variety.contains(['"', ',', '\r', '\n']) {
            format!("\"{}\"", lot.variety.replace('"', "\"\""))
        } else {
            lot.variety.clone()
        };
        let _ = write!(csv, "{},{},{variety},{}\r\n", lot.id, lot.grower, lot.bins);
    }
    ([(header::CONTENT_TYPE, "text/csv; charset=utf-8")], csv)
}

pub(crate) async fn moved() -> impl IntoResponse {
    (StatusCode::PERMANENT_REDIRECT, [(header::LOCATION, "/growers")])
}
