//! One page that a person opens: it needs nothing from outside, and no script to be read.

mod axis;
mod exchange;
mod page;
mod text;
mod times;
mod waterfall;

use super::entry::Entry;
use super::{Format, Frame, RunInfo, Streams};
use maud::{Render, html};
use page::PageFrame;
use text::{Content, fitting};
use times::Times;
use waterfall::Waterfall;
use yieldtray_engine::Outcome;

/// Bytes of a body that are shown of a failed exchange.
const BODY_LIMIT_FAILED: usize = 64 << 10;

/// Bytes of a body that are shown of a passed exchange, at most.
const BODY_LIMIT_PASSED: usize = 4 << 10;

/// All bodies of those that passed take about so much of the page at most: the more there are, the less is
/// shown of each.
const BODY_BUDGET_PASSED: usize = 4 << 20;

/// Failures whose details come first on the page; the details of more are among all entries.
const MAX_FAILURES_FIRST: usize = 200;

/// Writes it.
#[derive(Default)]
pub(super) struct Html {
    entries: usize,
    well: usize,
    idle: usize,
    bad: usize,
    /// The file and round whose entries are being written.
    group: Option<(String, Option<usize>)>,
    /// How much of bodies was shown.
    shown: usize,
    waterfall: Waterfall,
    times: Times,
}

impl Format for Html {
    fn entry(&mut self, entry: &Entry<'_>, to: &mut Streams) {
        self.entries += 1;
        let anchor = format!("e{}", self.entries);
        self.waterfall.add(entry, &anchor);
        self.times.add(entry, &anchor);
        if self.group.as_ref().is_none_or(|(file, round)| *file != entry.file || *round != entry.round) {
            self.begin_group(entry, &mut to.all);
        }
        let is_bad = matches!(entry.outcome, Outcome::Failed | Outcome::Invalid | Outcome::NoResponse);
        match entry.outcome {
            Outcome::Passed => self.well += 1,
            Outcome::Skipped | Outcome::NotSent => self.idle += 1,
            _ => self.bad += 1,
        }
        if is_bad && self.bad <= MAX_FAILURES_FIRST {
            exchange::entry(entry, &anchor, BODY_LIMIT_FAILED, true).render_to(&mut to.first);
            exchange::pointer(entry, &anchor).render_to(&mut to.all);
        } else {
            let left = BODY_BUDGET_PASSED.saturating_sub(self.shown);
            let limit = (left / 512).clamp(200, BODY_LIMIT_PASSED);
            self.shown += shown_of(entry, limit);
            exchange::entry(entry, &anchor, limit, false).render_to(&mut to.all);
        }
        to.all.push('\n');
    }

    fn frame(&mut self, about: &RunInfo) -> Frame {
        let page = PageFrame { page: self, about };
        Frame { head: page.head(), middle: page.middle(), tail: page.tail() }
    }
}

impl Html {
    fn begin_group(&mut self, entry: &Entry<'_>, all: &mut String) {
        if self.group.is_some() {
            all.push_str("</section>\n");
        }
        let round = entry.round.map(|round| format!(" · round {round}")).unwrap_or_default();
        let heading = html! { h3 { (Content(&entry.file)) (round) } };
        all.push_str("<section class=\"file\">");
        heading.render_to(all);
        self.group = Some((entry.file.clone(), entry.round));
    }
}

/// How much is shown of an entry's bodies.
fn shown_of(entry: &Entry<'_>, limit: usize) -> usize {
    let sent = entry.request.as_ref().and_then(|request| request.body.as_ref());
    let came = entry.response.as_ref().and_then(|response| response.body.as_ref());
    let parts = entry.response.as_ref().map(|response| exchange::parts(&response.parts)).unwrap_or_default();
    let parts: usize = parts.iter().map(|(_, text)| fitting(text, limit).1).sum();
    parts + sent.into_iter().chain(came).map(|body| fitting(body, limit).1).sum::<usize>()
}
