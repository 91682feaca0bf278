//! JUnit XML as common CI systems read it: one suite, a test case a cell, whose class name is its file.

use super::entry::Entry;
use super::explain::{explanation, headline};
use super::{Format, Frame, RunInfo, Streams};
use chrono::SecondsFormat;
use quick_xml::escape::{escape, partial_escape};
use std::fmt::Write;
use yieldtray_engine::Outcome;
use yieldtray_source::escape::{escape_line, escape_terminal};

/// Writes it.
#[derive(Default)]
pub(super) struct Junit {
    tests: usize,
    failures: usize,
    errors: usize,
    skipped: usize,
}

impl Format for Junit {
    fn entry(&mut self, entry: &Entry<'_>, to: &mut Streams) {
        self.tests += 1;
        let out = &mut to.all;
        let file = attribute(&entry.file);
        let _ = write!(
            out,
            "<testcase classname=\"{file}\" name=\"{}\" file=\"{file}\" line=\"{}\" time=\"{:.6}\"",
            attribute(&entry.title()),
            entry.line,
            entry.elapsed().as_secs_f64()
        );
        if entry.outcome == Outcome::Passed {
            out.push_str("/>\n");
            return;
        }
        out.push_str(">\n");
        let message = attribute(&headline(entry));
        let (element, kind) = match entry.outcome {
            Outcome::Skipped | Outcome::NotSent | Outcome::Passed => {
                self.skipped += 1;
                let _ = writeln!(out, "<skipped message=\"{message}\"/>\n</testcase>");
                return;
            }
            Outcome::Failed => {
                self.failures += 1;
                ("failure", if entry.failures.is_empty() { "yield" } else { "check" })
            }
            Outcome::Invalid => {
                self.errors += 1;
                ("error", "invalid")
            }
            Outcome::NoResponse => {
                self.errors += 1;
                ("error", entry.failure.as_ref().map_or("no-response", |failure| failure.kind.as_str()))
            }
        };
        let kind = attribute(kind);
        let text = explanation(entry);
        let _ =
            write!(out, "<{element} message=\"{message}\" type=\"{kind}\">{}", partial_escape(escape_terminal(&text)));
        let _ = writeln!(out, "</{element}>\n</testcase>");
    }

    fn frame(&mut self, about: &RunInfo) -> Frame {
        let Self { tests, failures, errors, skipped } = self;
        let counts = format!(
            "name=\"yieldtray\" tests=\"{tests}\" failures=\"{failures}\" errors=\"{errors}\" skipped=\"{skipped}\""
        );
        let time = format!("time=\"{:.6}\"", about.elapsed_ms / 1e3);
        // The schema in use knows no zone: it is UTC.
        let began = about.started.to_rfc3339_opts(SecondsFormat::Secs, true);
        let began = began.trim_end_matches('Z');
        let mut head = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_owned();
        let _ = writeln!(head, "<testsuites {counts} {time}>\n<testsuite {counts} {time} timestamp=\"{began}\">");
        head.push_str("<properties>\n");
        let mut property = |name: &str, value: &str| {
            let _ = writeln!(head, "<property name=\"{name}\" value=\"{}\"/>", attribute(value));
        };
        property("tool", &about.tool);
        about.environment.iter().for_each(|name| property("environment", name));
        about.base.iter().for_each(|base| property("base", base));
        about.seed.iter().for_each(|seed| property("seed", &seed.to_string()));
        let totals = &about.totals;
        if totals.not_reached > 0 {
            property("not_reached", &totals.not_reached.to_string());
        }
        if totals.interrupted {
            property("interrupted", "true");
        }
        head.push_str("</properties>\n");
        Frame { head, tail: "</testsuite>\n</testsuites>\n".to_owned(), ..Frame::default() }
    }
}

/// Text as an attribute has it: on one line, and nothing in it that XML refuses.
pub(crate) fn attribute(text: &str) -> String {
    escape(escape_line(text)).into_owned()
}
