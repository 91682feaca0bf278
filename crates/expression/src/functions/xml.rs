//! `xpath`, and the limits of XML documents.

use super::text;
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use regex::Regex;
use std::borrow::Cow;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock, Mutex, PoisonError, mpsc};
use std::thread;
use std::time::Duration;
use sxd_xpath::{Context, Factory, Value as Found, XPath};
use thiserror::Error;
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome};

/// Elements inside each other that are taken: the library goes down into them by calling itself.
const MAX_ELEMENT_DEPTH: usize = 500;

/// Elements, attributes and texts that are taken.
const MAX_NODES: usize = 500_000;

/// Attributes of one element that are taken: the library compares each with all others.
const MAX_ATTRIBUTES: usize = 1_000;

/// How long an expression may take. Many take time with the square of the nodes.
const XPATH_TIMEOUT: Duration = Duration::from_secs(5);

/// How many evaluations that took too long may go on beside the run: they cannot be stopped.
const MAX_ABANDONED_THREADS: usize = 2;

/// Bytes of the stack of an evaluation; the system gives only the pages that are used.
const STACK_BYTES: usize = 64 << 20;

/// Evaluations that took too long and may still go on.
static ABANDONED: AtomicUsize = AtomicUsize::new(0);

/// The digests of their texts and expressions.
static SLOW: Mutex<Vec<blake3::Hash>> = Mutex::new(Vec::new());

/// Why an XPath has no value on a text.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
enum XmlError {
    #[error(transparent)]
    XPath(#[from] XPathError),
    #[error("this is not XML: {error} (line {line}, column {column})")]
    Syntax { error: String, line: usize, column: usize },
    #[error("this is not XML: an element is never closed")]
    Unclosed,
    #[error("this is not XML that can be read, at line {line}, column {column}")]
    Unreadable { line: usize, column: usize },
    #[error("its entities expand to more than {MAX_EXPANDED_BYTES} bytes")]
    Entities,
    #[error("an element has more than {MAX_ATTRIBUTES} attributes")]
    Attributes,
    #[error("elements are nested deeper than {MAX_ELEMENT_DEPTH} levels")]
    Depth,
    #[error("the document has more than {MAX_NODES} nodes")]
    Nodes,
    #[error("cannot evaluate `{path}`: {error}")]
    Evaluation { path: String, error: String },
}

/// The result of an XPath 1.0 expression on an XML text: for nodes, the list of their texts. Prefixes are those that
/// the root element declares.
pub(super) fn xpath(_: &super::Context<'_>, call: &mut Call<'_>) -> Outcome {
    let (xml, path) = (text(call, 0)?, text(call, 1)?);
    check_size(xml).map_err(Fault::message)?;
    // A query that took too long is not started again.
    let too_slow = || Fault::message(format!("the expression takes longer than {} s", XPATH_TIMEOUT.as_secs()));
    let slow = || SLOW.lock().unwrap_or_else(PoisonError::into_inner);
    if !slow().is_empty() && slow().contains(&digest_of(xml, path)) {
        return Err(too_slow());
    }
    if ABANDONED.load(Ordering::SeqCst) >= MAX_ABANDONED_THREADS {
        return Err(Fault::message("earlier expressions timed out and are still running"));
    }
    let Some(found) = in_time(xml.to_owned(), path.to_owned())
        .map_err(|why| Fault::message(format!("cannot be evaluated: {why}")))?
    else {
        slow().push(digest_of(xml, path));
        return Err(too_slow());
    };
    let value = match found.map_err(Fault::message)? {
        Picked::Boolean(truth) => Value::Bool(truth),
        Picked::Number(number) => Value::Double(number),
        Picked::Text(text) => Value::string(text),
        Picked::Texts(texts) => Value::List(texts.into_iter().map(Value::string).collect()),
    };
    call.budget.take_value(&value)?;
    Ok(value)
}

/// The maximum size of an entity's text, in bytes, and of all of a document.
const MAX_ENTITY_BYTES: usize = 64 << 10;
const MAX_EXPANDED_BYTES: usize = 1 << 20;

/// A document without its type declaration, and with the text of the entities that it declares in their places
/// (XML 1.0 4.4): the library knows neither. Entities of other files are not read, and those that refer to others are
/// not expanded.
fn without_document_type(xml: &str) -> Result<Cow<'_, str>, XmlError> {
    let mut reader = Reader::from_str(xml);
    let (declared, from, to) = loop {
        let before = reader.buffer_position() as usize;
        match reader.read_event() {
            Ok(Event::DocType(declared)) => break (declared.into_owned(), before, reader.buffer_position() as usize),
            Ok(Event::Start(_) | Event::Empty(_) | Event::Eof) | Err(_) => return Ok(Cow::Borrowed(xml)),
            Ok(_) => {}
        }
    };
    let declared = declared.as_ref().to_owned();
    let entities: Vec<(String, String)> = ENTITY
        .captures_iter(&declared)
        .filter_map(|found| {
            let text = found.get(2).or(found.get(3))?.as_str();
            (text.len() <= MAX_ENTITY_BYTES && !text.contains('&')).then(|| (found[1].to_owned(), text.to_owned()))
        })
        .collect();
    let rest = &xml[to.max(from)..];
    let mut plain = String::with_capacity(xml.len());
    plain.push_str(xml[..from].trim_end());
    if entities.is_empty() {
        plain.push_str(rest);
        return Ok(Cow::Owned(plain));
    }
    let (mut at, mut expanded) = (0, 0);
    for found in REFERENCE.captures_iter(rest) {
        let (whole, name) = (found.get(0).expect("the whole"), &found[1]);
        let Some((_, text)) = entities.iter().find(|(known, _)| known == name) else { continue };
        expanded += text.len();
        if expanded > MAX_EXPANDED_BYTES {
            return Err(XmlError::Entities);
        }
        plain.push_str(&rest[at..whole.start()]);
        plain.push_str(text);
        at = whole.end();
    }
    plain.push_str(&rest[at..]);
    Ok(Cow::Owned(plain))
}

/// `<!ENTITY name "text">`
static ENTITY: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r#"<!ENTITY\s+([A-Za-z_:][A-Za-z0-9_:.-]*)\s+(?:"([^"]*)"|'([^']*)')\s*>"#).expect("it is one")
});

/// `&name;`
static REFERENCE: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"&([A-Za-z_:][A-Za-z0-9_:.-]*);").expect("it is one"));

/// Line and column, from 1, of a place in a text.
fn line_and_column(text: &str, at: usize) -> (usize, usize) {
    let before = &text.as_bytes()[..at.min(text.len())];
    let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
    let column = before.iter().rev().take_while(|byte| **byte != b'\n').count() + 1;
    (line, column)
}

/// Why a text is not an XPath 1.0 expression.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum XPathError {
    /// It is empty.
    #[error("the XPath is empty")]
    Empty,
    /// It does not follow the grammar.
    #[error("invalid XPath `{path}`: {error}")]
    Syntax {
        /// The text.
        path: String,
        /// The message of the parser.
        error: String,
    },
}

/// Checks that a text is an XPath.
pub(super) fn check_xpath(path: &str) -> Result<(), XPathError> {
    compile(path).map(drop)
}

fn compile(path: &str) -> Result<XPath, XPathError> {
    let compiled = Factory::new().build(path);
    let syntax = |error: sxd_xpath::ParserError| XPathError::Syntax { path: path.to_owned(), error: error.to_string() };
    compiled.map_err(syntax)?.ok_or(XPathError::Empty)
}

fn digest_of(xml: &str, path: &str) -> blake3::Hash {
    blake3::Hasher::new().update(xml.as_bytes()).update(b"\0").update(path.as_bytes()).finalize()
}

/// Evaluates on a thread of its own, which is left behind where it takes too long: then `None`.
fn in_time(xml: String, path: String) -> std::io::Result<Option<Result<Picked, XmlError>>> {
    let (sender, receiver) = mpsc::channel();
    // Whichever ends second, the work or the time, knows of the first.
    let ended = Arc::new(AtomicBool::new(false));
    let work_ended = Arc::clone(&ended);
    let work = move || {
        let _ = sender.send(evaluate(&xml, &path));
        if work_ended.swap(true, Ordering::SeqCst) {
            ABANDONED.fetch_sub(1, Ordering::SeqCst);
        }
    };
    thread::Builder::new().stack_size(STACK_BYTES).spawn(work)?;
    if let Ok(found) = receiver.recv_timeout(XPATH_TIMEOUT) {
        return Ok(Some(found));
    }
    ABANDONED.fetch_add(1, Ordering::SeqCst);
    if ended.swap(true, Ordering::SeqCst) {
        ABANDONED.fetch_sub(1, Ordering::SeqCst);
    }
    Ok(receiver.try_recv().ok())
}

/// The result of an expression.
enum Picked {
    Boolean(bool),
    Number(f64),
    Text(String),
    Texts(Vec<String>),
}

fn evaluate(xml: &str, path: &str) -> Result<Picked, XmlError> {
    let trimmed = xml.trim_start_matches('\u{feff}').trim_start();
    let plain = without_document_type(trimmed)?;
    let package = sxd_document::parser::parse(&plain).map_err(|found| {
        // Documents that are not well-formed were reported before; this is an error that only one of the two libraries
        // finds.
        let (line, column) = line_and_column(&plain, found.location());
        XmlError::Unreadable { line, column }
    })?;
    let document = package.as_document();
    let compiled = compile(path)?;
    let mut context = Context::new();
    if let Some(root) = document.root().children().iter().find_map(|child| child.element()) {
        for namespace in root.namespaces_in_scope() {
            context.set_namespace(namespace.prefix(), namespace.uri());
        }
    }
    let found = compiled.evaluate(&context, document.root());
    Ok(match found.map_err(|error| XmlError::Evaluation { path: path.to_owned(), error: error.to_string() })? {
        Found::Boolean(truth) => Picked::Boolean(truth),
        Found::Number(number) => Picked::Number(number),
        Found::String(text) => Picked::Text(text),
        Found::Nodeset(nodes) => Picked::Texts(nodes.document_order().iter().map(|node| node.string_value()).collect()),
    })
}

/// Refuses a text that is not well-formed, or that would take the library too much time or stack.
fn check_size(xml: &str) -> Result<(), XmlError> {
    let mut reader = Reader::from_str(xml);
    let (mut depth, mut nodes) = (0usize, 0usize);
    let count = |element: &BytesStart<'_>| -> Result<usize, XmlError> {
        let attributes = element.attributes().with_checks(false).take(MAX_ATTRIBUTES + 1).count();
        match attributes > MAX_ATTRIBUTES {
            true => Err(XmlError::Attributes),
            false => Ok(attributes + 1),
        }
    };
    loop {
        match reader.read_event() {
            Ok(Event::Start(element)) => {
                depth += 1;
                nodes += count(&element)?;
            }
            Ok(Event::Empty(element)) => nodes += count(&element)?,
            Ok(Event::End(_)) => depth = depth.saturating_sub(1),
            Ok(Event::Eof) if depth > 0 => return Err(XmlError::Unclosed),
            Ok(Event::Eof) => return Ok(()),
            Err(error) => {
                let (line, column) = line_and_column(xml, reader.error_position() as usize);
                return Err(XmlError::Syntax { error: error.to_string(), line, column });
            }
            Ok(_) => nodes += 1,
        }
        if depth > MAX_ELEMENT_DEPTH {
            return Err(XmlError::Depth);
        }
        if nodes > MAX_NODES {
            return Err(XmlError::Nodes);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_that_would_take_too_much_are_refused() {
        let attributes: String = (0..2_000).map(|number| format!(" x{number}='1'")).collect();
        for (xml, why) in [
            (format!("<a{attributes}/>"), "an element has more than 1000 attributes"),
            // Not closed, though it looks so to a simple scan.
            ("<a b='/>'>".repeat(600), "elements are nested deeper than 500 levels"),
            ("<a><!--</x>-->".repeat(600), "elements are nested deeper than 500 levels"),
            (format!("<a>{}</a>", "<b/>".repeat(600_000)), "the document has more than 500000 nodes"),
        ] {
            assert_eq!(check_size(&xml).map_err(|error| error.to_string()), Err(why.to_owned()));
        }
        assert_eq!(check_size("<a><b c='d'>e</b></a>"), Ok(()));
        assert_eq!(check_size("<a>\n<b>"), Err(XmlError::Unclosed));
    }

    #[test]
    fn a_document_type_is_read_over_and_its_entities_stand_for_their_texts() {
        let text = |xml: &str, path: &str| match evaluate(xml, path) {
            Ok(Picked::Texts(texts)) => Ok(texts.join(", ")),
            Ok(_) => panic!("nodes were asked for"),
            Err(why) => Err(why),
        };
        for (xml, found) in [
            ("<!DOCTYPE note><note><a>1</a></note>", "1"),
            ("<?xml version='1.0'?>\n<!DOCTYPE html SYSTEM 'x.dtd'>\n<note><a>1</a></note>", "1"),
            ("<!DOCTYPE note [<!ENTITY x \"ripe\"><!ENTITY y '<b>2</b>'>]><note><a>&x;&y;</a></note>", "ripe2"),
        ] {
            assert_eq!(text(xml, "//a").as_deref(), Ok(found), "{xml}");
        }
        // Entities that refer to each other would grow without end.
        let circle = "<!DOCTYPE n [<!ENTITY a '&b;&b;'><!ENTITY b '&a;&a;'>]><n><a>&a;</a></n>";
        assert!(text(circle, "//a").is_err_and(|why| matches!(why, XmlError::Unreadable { line: 1, .. })));
        let large = format!("<!DOCTYPE n [<!ENTITY a '{}'>]><n>{}</n>", "x".repeat(60_000), "&a;".repeat(40));
        assert!(text(&large, "//a").is_err_and(|why| why == XmlError::Entities));
        let why = check_size("<html>\n <p>1</b></html>").expect_err("this is not well-formed");
        assert!(matches!(why, XmlError::Syntax { line: 2, .. }), "{why}");
    }
}
