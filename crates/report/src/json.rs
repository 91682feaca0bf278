//! All of a run as data, in one document, an entry a line: see docs/reports.md.

use super::saved::{NAME, VERSION};
use super::{Entry, Format, Frame, RunInfo, Streams};

/// Writes it.
#[derive(Default)]
pub(super) struct Json {
    entries: usize,
}

impl Format for Json {
    fn entry(&mut self, entry: &Entry<'_>, to: &mut Streams) {
        if self.entries > 0 {
            to.all.push_str(",\n");
        }
        self.entries += 1;
        to.all.push_str(&data(entry));
    }

    fn frame(&mut self, about: &RunInfo) -> Frame {
        let head = format!("{{\"report\":\"{NAME}\",\"version\":{VERSION},\n\"run\":{},\n\"entries\":[\n", data(about));
        Frame { head, tail: "\n]}\n".to_owned(), ..Frame::default() }
    }
}

fn data(value: &impl serde::Serialize) -> String {
    // Texts, numbers and lists of them always serialize.
    serde_json::to_string(value).unwrap_or_default()
}
