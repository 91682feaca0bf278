//! The coverage as a page: it has no scripts and loads nothing.

use crate::static_page::static_page;
use maud::{Markup, html};
use std::collections::BTreeMap;
use yieldtray_description::{Coverage, OperationCoverage, Ratio};

const STYLE: &str = include_str!("page.css");

/// The coverage as an HTML page.
pub fn page(coverage: &Coverage) -> String {
    let missing = coverage.operations.iter().filter(|own| !own.is_covered()).count();
    let title = format!("API coverage: {}", coverage.title);
    let body = html! {
        h1 { (title) }
        p.about {
            @match missing {
                0 => "Every operation has a request or a logged exchange.",
                1 => "1 operation has neither a request nor a logged exchange.",
                more => { (more) " operations have neither a request nor a logged exchange." },
            }
        }
        dl {
            (figure("Operations", coverage.operation_ratio))
            (figure("Statuses", coverage.status_ratio))
            (figure("Parameters", coverage.parameter_ratio))
            (figure("Members of bodies", coverage.member_ratio))
        }
        table {
            thead { tr { th { "Operation" } th { "Requests" } th { "Statuses" } th { "Parameters" } th { "Members" } } }
            tbody { @for own in &coverage.operations { (row(own)) } }
        }
        @if !coverage.unknown.is_empty() {
            h2 { "Requests that are no operation of the description" }
            ul { @for request in &coverage.unknown { li { code { (request) } } } }
        }
    };
    static_page(&title, STYLE, &body)
}

fn figure(name: &str, ratio: Ratio) -> Markup {
    html! {
        div {
            dt { (name) }
            dd { (ratio.percent()) " % " small { (ratio.covered) " of " (ratio.total) } }
            meter min="0" max="100" value=(ratio.percent()) { (ratio.percent()) " %" }
        }
    }
}

fn row(own: &OperationCoverage) -> Markup {
    html! {
        tr.well[own.is_covered()].bad[!own.is_covered()] {
            td {
                code { (own.operation.method) " " (own.operation.path) }
                @if own.operation.deprecated { span.faint { " deprecated" } }
                @if let Some(summary) = &own.operation.summary { br; span.faint { (summary) } }
            }
            td {
                @for request in &own.requests { code { (request) } br; }
                @if own.exchanges > 0 { span.faint { (own.exchanges) " logged" } }
                @if !own.is_covered() { span.miss { "none" } }
            }
            td.number { (items(own.status_ratio(), [("", &own.statuses)])) }
            td.number { (items(own.parameter_ratio(), [("", &own.parameters)])) }
            td.number { (items(own.member_ratio(), [("sent ", &own.request_members), ("received ", &own.response_members)])) }
        }
    }
}

/// A ratio, and behind it what is missing.
fn items<const N: usize>(ratio: Ratio, groups: [(&str, &BTreeMap<String, bool>); N]) -> Markup {
    if ratio.total == 0 {
        return html! { span.faint { "–" } };
    }
    let missing = groups.iter().flat_map(|(word, items)| {
        items.iter().filter(|(_, covered)| !**covered).map(move |(name, _)| format!("{word}{name}"))
    });
    let missing: Vec<String> = missing.collect();
    html! {
        @if missing.is_empty() {
            (ratio.covered) " of " (ratio.total)
        } @else {
            details {
                summary { (ratio.covered) " of " (ratio.total) }
                ul { @for name in &missing { li { code.miss { (name) } } } }
            }
        }
    }
}
