//! A test case for each operation, which fails if nothing exercises it.

use crate::junit::attribute;
use std::fmt::Write;
use yieldtray_description::Coverage;

/// The coverage as JUnit XML.
pub fn junit(coverage: &Coverage) -> String {
    let (tests, failures) =
        (coverage.operations.len(), coverage.operations.iter().filter(|own| !own.is_covered()).count());
    let mut out = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_owned();
    let name = attribute(&format!("API coverage: {}", coverage.title));
    let _ = writeln!(out, "<testsuites tests=\"{tests}\" failures=\"{failures}\">");
    let _ = writeln!(
        out,
        "<testsuite name=\"{name}\" tests=\"{tests}\" failures=\"{failures}\" errors=\"0\" skipped=\"0\">"
    );
    for own in &coverage.operations {
        let (class, title) = (attribute(&own.operation.path), attribute(&own.operation.title()));
        let _ = write!(out, "<testcase classname=\"{class}\" name=\"{title}\" time=\"0\"");
        match own.is_covered() {
            true => out.push_str("/>\n"),
            false => out.push_str(
                ">\n<failure message=\"no request and no logged exchange has this operation\" type=\"coverage\"/>\n</testcase>\n",
            ),
        }
    }
    out.push_str("</testsuite>\n</testsuites>\n");
    out
}
