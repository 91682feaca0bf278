//! The parts of a response that go to standard output, whether it was just received or logged.

use super::pager::Pager;
use super::{Out, body, exchange};
use crate::args::{DisplayArgs, Part};
use crate::error::CommandError;
use crate::host::HostFacts;
use std::io::Write;
use yieldtray_engine::Run;
use yieldtray_http::Exchange;
use yieldtray_source::escape::escape_terminal;
use yieldtray_workspace::CellId;
use yieldtray_workspace::secret::Masker;

impl DisplayArgs {
    /// Whether a part is to be printed.
    pub(crate) fn wants(&self, part: Part) -> bool {
        self.show.contains(&part) || self.show.contains(&Part::All)
    }
}

/// A response to show.
pub(crate) struct ResponseView<'a> {
    /// The response.
    pub(crate) answer: &'a Exchange,
    /// The masker of its secrets.
    pub(crate) masker: &'a Masker,
    /// Whether the body went to a file.
    pub(crate) in_file: bool,
}

impl ResponseView<'_> {
    /// The parts that are asked for, else the body.
    pub(crate) fn print(&self, looking: &DisplayArgs, host: &HostFacts, out: &mut Out) -> Result<(), CommandError> {
        let Self { answer, masker, in_file } = *self;
        let (look, terminal, width) = (out.look, out.terminal, out.width);
        let body = looking.wants(Part::Body) || (looking.show.is_empty() && !in_file);
        if looking.show.is_empty() && !terminal {
            if body {
                body::for_a_program(out.result(), answer, masker)?;
            }
            return Ok(out.flush()?);
        }
        let mut page = Vec::new();
        if looking.wants(Part::Sent) {
            exchange::sent(&mut page, answer, masker, look)?;
        }
        if looking.wants(Part::Timeline) {
            exchange::timeline(&mut page, answer, masker, look, width)?;
        }
        if looking.wants(Part::Cookies) {
            exchange::cookies(&mut page, answer, look)?;
        }
        if looking.wants(Part::Head) {
            exchange::head(&mut page, answer, masker, look)?;
        }
        if body {
            body::for_a_person(&mut page, answer, masker, look)?;
        }
        out.flush()?;
        let pager = Pager::of(host).filter(|_| !looking.no_pager);
        if !pager.map_or(Ok(false), |pager| pager.show(&page))? {
            out.result().write_all(&page)?;
        }
        Ok(out.flush()?)
    }

    /// The value of one expression on the response, as a cell's check would see it.
    pub(crate) fn pick(
        &self,
        run: &Run<'_>,
        cell: CellId,
        expression: &str,
        out: &mut Out,
    ) -> Result<(), CommandError> {
        // No expression starts with `$`, and every JSONPath does.
        let path = expression.starts_with('$').then(|| format!("path(body, {})", quoted(expression)));
        let text = run.evaluate_on(cell, path.as_deref().unwrap_or(expression), self.answer);
        let text =
            text.map_err(|message| CommandError::refused(format!("`--pick {expression}` has no value: {message}")))?;
        let text = if out.terminal { escape_terminal(&text).into_owned() } else { text };
        writeln!(out.result(), "{text}")?;
        Ok(())
    }
}

/// A text as a literal of an expression.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}
