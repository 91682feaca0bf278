//! The parts of a response that go to standard output, whether it was just received or logged.

use super::events::{messages, readable};
use super::pager::Pager;
use super::{Out, body, exchange};
use crate::args::{DisplayArgs, Part};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::styles::Styles;
use serde_json::value::RawValue;
use std::collections::HashMap;
use std::io::{self, Write};
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
    /// Whether the request was one of GraphQL.
    pub(crate) is_graphql: bool,
}

impl ResponseView<'_> {
    /// Whether the body is among the parts that are asked for: it is if none is named and it went to no file.
    fn shows_body(&self, display: &DisplayArgs) -> bool {
        display.wants(Part::Body) || (display.show.is_empty() && !self.in_file)
    }

    /// The parts that are asked for, for a person to read.
    fn readable(&self, display: &DisplayArgs, styles: Styles, width: Option<usize>) -> String {
        let Self { answer, masker, .. } = *self;
        let mut text = String::new();
        if display.wants(Part::Sent) {
            text.push_str(&exchange::sent(answer, masker, styles));
        }
        if display.wants(Part::Timeline) {
            text.push_str(&exchange::timeline(answer, masker, styles, width));
        }
        if display.wants(Part::Cookies) {
            text.push_str(&exchange::cookies(answer, styles));
        }
        if display.wants(Part::Head) {
            text.push_str(&exchange::head(answer, masker, styles));
        }
        if self.shows_body(display) {
            match self.graphql_parts() {
                Some(parts) => {
                    for (name, part) in parts {
                        text.push_str(&format!("{}\n{}", styles.dim(name), body::readable(&part, masker, styles)));
                    }
                }
                None => text.push_str(&readable(answer, masker, styles)),
            }
        }
        text
    }

    /// `data` and `errors` of a GraphQL response, each as a response of its own.
    fn graphql_parts(&self) -> Option<Vec<(&'static str, Exchange)>> {
        if !self.is_graphql {
            return None;
        }
        let members: HashMap<String, &RawValue> = serde_json::from_slice(&self.answer.body).ok()?;
        let parts: Vec<(&'static str, Exchange)> = ["data", "errors", "extensions"]
            .into_iter()
            .filter_map(|name| {
                let text = members.get(name)?.get();
                let (body, size) = (text.to_owned().into(), text.len() as u64);
                Some((name, Exchange { body, size, ..self.answer.clone() }))
            })
            .collect();
        (parts.len() > 1).then_some(parts)
    }

    /// The value of one expression on the response, as a cell's check would see it.
    ///
    /// # Errors
    /// If the expression has no value on this response.
    pub(crate) fn pick(&self, run: &Run<'_>, cell: CellId, expression: &str) -> Result<String, CommandError> {
        // No expression starts with `$`, and every JSONPath does.
        let path = expression.starts_with('$').then(|| format!("path(body, {})", quoted(expression)));
        let text = run.evaluate_on(cell, path.as_deref().unwrap_or(expression), self.answer);
        text.map_err(|message| CommandError::refused(format!("`--pick {expression}` failed: {message}")))
    }
}

impl Out {
    /// Prints a response: for a person the parts that are asked for, through the pager if they are long; for a program
    /// that names no parts the received bytes, secrets masked.
    pub(crate) fn response(
        &mut self,
        view: &ResponseView<'_>,
        display: &DisplayArgs,
        host: &HostFacts,
    ) -> io::Result<()> {
        if display.show.is_empty() && !self.settings.terminal {
            if view.shows_body(display) && !view.answer.messages.is_empty() {
                let text = messages(view.answer, view.masker, self.settings.styles);
                self.result().write_all(text.as_bytes())?;
            } else if view.shows_body(display) {
                self.result().write_all(&view.masker.mask_bytes(&view.answer.body))?;
            }
            return self.flush();
        }
        let text = view.readable(display, self.settings.styles, self.settings.width);
        self.flush()?;
        let pager = Pager::of(host).filter(|_| !display.no_pager);
        if !pager.map_or(Ok(false), |pager| pager.show(text.as_bytes()))? {
            self.result().write_all(text.as_bytes())?;
        }
        self.flush()
    }

    /// Prints the value of `--pick`.
    pub(crate) fn picked(&mut self, text: &str) -> io::Result<()> {
        let text = if self.settings.terminal { escape_terminal(text) } else { text.into() };
        writeln!(self.result(), "{text}")
    }
}

/// A text as a literal of an expression.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}
