//! The syntax tree of a request file.

use std::time::Duration;
use yieldtray_source::{Span, scan};

/// A request file: a preamble, then cells.
#[derive(Clone, Debug, Default)]
pub struct RequestFile {
    /// The lines before the first cell: comments, and instructions for every cell.
    pub preamble: Vec<Item>,
    /// The cells, in order.
    pub cells: Vec<Cell>,
}

/// A comment, an instruction, or an unexpected line.
#[derive(Clone, Debug)]
pub enum Item {
    /// `# …`, the whole line.
    Comment(Span),
    /// `% word …`.
    Instruction(Instruction),
    /// A line that is not allowed here; a problem was reported for it.
    Unexpected(Span),
}

impl Item {
    /// The line without its end.
    pub fn span(&self) -> Span {
        match self {
            Item::Comment(span) | Item::Unexpected(span) => *span,
            Item::Instruction(instruction) => instruction.span,
        }
    }
}

/// `% word …`, one line.
#[derive(Clone, Debug)]
pub struct Instruction {
    /// The line without its end.
    pub span: Span,
    /// The kind of instruction, with its arguments.
    pub kind: InstructionKind,
}

/// The kind of an instruction. Lists are one span, split by [`InstructionKind::list`] when needed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // each variant's line says what its fields are
pub enum InstructionKind {
    /// `% name NAME`
    Name(Span),
    /// `% tag NAME, …`
    Tag(Span),
    /// `% needs NAME, …`
    Needs(Span),
    /// `% waive LABEL, …`
    Waive(Span),
    /// `% let NAME = EXPR`
    Let { name: Span, expression: Span },
    /// `% header Name: value`
    Header { name: Span, value: Span },
    /// `% yield NAME = EXPR [secret]`
    Yield { name: Span, expression: Span, secret: bool },
    /// `% check [LABEL:] EXPR [else "hint"]`; the hint without its quotes
    Check { label: Option<Span>, expression: Span, hint: Option<Span> },
    /// `% ask NAME "question" [secret] [default EXPR] [from LIST]`; the question without its quotes
    Ask { name: Span, question: Span, secret: bool, default: Option<Span>, choices: Option<Span> },
    /// `% query NAME = TEXT`; without `=`, the bare name
    Query { name: Span, value: Option<Span> },
    /// `% field NAME = TEXT`
    Field { name: Span, value: Span },
    /// `% part NAME = TEXT`, `% part NAME from PATH [type MEDIA] [as FILENAME]`
    Part { name: Span, content: PartContent },
    /// `% body from PATH [verbatim]`
    BodyFrom { path: Span, verbatim: bool },
    /// `% auth …`
    Auth(Auth),
    /// `% sign PROFILE`, `% sign off`: a table of the configuration
    Sign(Option<Span>),
    /// `% timeout DURATION`
    Timeout(Duration),
    /// `% retry after D`, `% retry off`
    RetryAfter(Option<Duration>),
    /// `% redirects N`
    Redirects(u8),
    /// `% cookies on|off`
    Cookies(bool),
    /// `% insecure [off]`
    Insecure(bool),
    /// `% path verbatim`
    VerbatimPath,
    /// `% save PATH`
    Save(Span),
    /// `% skip when EXPR ["reason"]`; the reason without its quotes
    Skip { condition: Span, reason: Option<Span> },
    /// `% wait until EXPR every D for D`
    Wait { until: Span, every: Duration, within: Duration },
    /// `% each row in "FILE"`; the path without its quotes
    Each(Span),
    /// `% afterwards`
    Afterwards,
    /// `% contract [NAME]`
    Contract(Option<Span>),
    /// `% until EXPR`
    Until(Span),
    /// `% take N events`
    Take(u64),
    /// `% reconnect [N times]`
    Reconnect(u32),
    /// `% say TEXT`
    Say(Span),
    /// `% say from PATH`
    SayFrom(Span),
    /// `% expect EXPR within D [as NAME]`
    Expect { condition: Span, within: Duration, name: Option<Span> },
    /// `% follow next [EXPR] [for N pages]`
    Follow { next: Option<Span>, pages: u32 },
    /// `% graphql`
    GraphQl,
    /// `% variable NAME = EXPR`
    Variable { name: Span, expression: Span },
    /// `% operation NAME`
    Operation(Span),
    /// `% fragments from PATH`
    Fragments(Span),
    /// `% play NAME [with NAME = EXPR, …] [times N]`; the list is split by [`InstructionKind::assignments`]
    Play { name: Span, with: Option<Span>, times: u16 },
    /// A line with an error, which was reported.
    Broken,
}

/// The content of a part of a multipart body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // each variant's line says what its fields are
pub enum PartContent {
    /// `= TEXT [type MEDIA]`
    Text { value: Span, media: Option<Span> },
    /// `from PATH [type MEDIA] [as FILENAME]`
    File { path: Span, media: Option<Span>, filename: Option<Span> },
}

/// The credentials an `% auth` line asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // each variant's line says what its fields are
pub enum Auth {
    /// `basic USER PASS` (RFC 7617)
    Basic { user: Span, password: Span },
    /// `bearer TOKEN` (RFC 6750)
    Bearer(Span),
    /// `digest USER PASS` (RFC 7616)
    Digest { user: Span, password: Span },
    /// `oauth2 PROFILE` (RFC 6749): a table of the configuration
    OAuth2(Span),
    /// `key PLACE NAME VALUE`: an API key
    Key { place: KeyPlace, name: Span, value: Span },
    /// `none`: not what an outer line asks for
    None,
}

/// Where an API key goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyPlace {
    /// In a header field.
    Header,
    /// In the query of the URL.
    Query,
    /// In a cookie.
    Cookie,
}

impl KeyPlace {
    /// Its word.
    pub fn as_str(self) -> &'static str {
        match self {
            KeyPlace::Header => "header",
            KeyPlace::Query => "query",
            KeyPlace::Cookie => "cookie",
        }
    }
}

impl InstructionKind {
    /// Whether it is a line of a conversation over a WebSocket.
    pub fn is_of_conversation(&self) -> bool {
        matches!(self, Self::Say(_) | Self::SayFrom(_) | Self::Expect { .. })
    }

    /// Every text on the line in which placeholders are allowed.
    pub fn texts(&self) -> impl Iterator<Item = Span> + use<> {
        let texts = match *self {
            InstructionKind::Header { value, .. } => [Some(value), None, None, None],
            InstructionKind::Check { hint, .. } => [hint, None, None, None],
            InstructionKind::Query { name, value } => [Some(name), value, None, None],
            InstructionKind::Field { name, value } => [Some(name), Some(value), None, None],
            InstructionKind::Part { name, content: PartContent::Text { value, media } } => {
                [Some(name), Some(value), media, None]
            }
            InstructionKind::Part { name, content: PartContent::File { path, media, filename } } => {
                [Some(name), Some(path), media, filename]
            }
            InstructionKind::BodyFrom { path, .. }
            | InstructionKind::Save(path)
            | InstructionKind::Each(path)
            | InstructionKind::Fragments(path)
            | InstructionKind::Say(path)
            | InstructionKind::SayFrom(path) => [Some(path), None, None, None],
            InstructionKind::Skip { reason, .. } => [reason, None, None, None],
            InstructionKind::Auth(Auth::Basic { user, password } | Auth::Digest { user, password }) => {
                [Some(user), Some(password), None, None]
            }
            InstructionKind::Auth(Auth::Bearer(token)) => [Some(token), None, None, None],
            InstructionKind::Auth(Auth::Key { name, value, .. }) => [Some(name), Some(value), None, None],
            _ => [None; 4],
        };
        texts.into_iter().flatten()
    }

    /// The names and expressions of `NAME = EXPR, …`.
    pub fn assignments(list: Span, text: &str) -> Vec<(Span, Span)> {
        let (mut found, mut rest) = (Vec::new(), list);
        while !rest.is_empty() {
            let end = scan::find_outside_strings(rest.of(text), ",").unwrap_or(rest.len());
            let one = rest.part(0, end);
            let equals = memchr::memchr(b'=', one.of(text).as_bytes()).unwrap_or(one.len());
            let expression = one.part((equals + 1).min(one.len()), one.len()).trimmed(text);
            found.push((one.part(0, equals).trimmed(text), expression));
            rest = rest.part((end + 1).min(rest.len()), rest.len());
        }
        found
    }

    /// The members of a comma-separated list, without white space.
    pub fn list(list: Span, text: &str) -> impl Iterator<Item = Span> + '_ {
        let mut start = list.start();
        list.of(text).split(',').map(move |member| {
            let span = Span::new(start, start + member.len());
            start += member.len() + 1;
            span.trimmed(text)
        })
    }
}

/// One request with all that belongs to it.
#[derive(Clone, Debug)]
pub struct Cell {
    /// From its `%%` (or the start of the file) to the next one.
    pub span: Span,
    /// The `%%` line's text after the mark; empty where there is none.
    pub title: Span,
    /// `% name`, or the title as a name, or `request-N`.
    pub name: Box<str>,
    /// Comments and instructions anywhere in the cell, in order.
    pub items: Vec<Item>,
    /// The request line; `None` if an error was reported.
    pub request: Option<RequestLine>,
    /// The header fields as written.
    pub fields: Vec<Field>,
    /// The body without trailing blank lines; empty if there is none.
    pub body: Span,
}

impl Cell {
    /// True if it plays other cells instead of having a request.
    pub fn plays(&self) -> bool {
        self.instructions().any(|line| matches!(line.kind, InstructionKind::Play { .. }))
    }

    /// True if its body is a GraphQL document.
    pub fn is_graphql(&self) -> bool {
        self.instructions().any(|line| line.kind == InstructionKind::GraphQl)
    }

    /// True if it speaks over a WebSocket: by its lines, by its URL, or by the header `Upgrade: websocket`.
    pub fn is_conversation(&self, text: &str) -> bool {
        let target = self.request.as_ref().map(|request| request.target.of(text)).unwrap_or_default();
        target.starts_with("ws://")
            || target.starts_with("wss://")
            || self.instructions().any(|line| line.kind.is_of_conversation())
            || self.fields.iter().any(|field| {
                field.name.of(text).eq_ignore_ascii_case("upgrade")
                    && field.value.of(text).eq_ignore_ascii_case("websocket")
            })
    }

    /// The body in which placeholders are replaced: none in a GraphQL document.
    pub fn template_body(&self) -> Span {
        if self.is_graphql() { Span::empty(self.body.start()) } else { self.body }
    }

    /// The instructions of the cell in order.
    pub fn instructions(&self) -> impl Iterator<Item = &Instruction> {
        instructions(&self.items)
    }
}

/// The instructions among `items`, in order.
pub fn instructions(items: &[Item]) -> impl Iterator<Item = &Instruction> {
    items.iter().filter_map(|item| match item {
        Item::Instruction(instruction) => Some(instruction),
        _ => None,
    })
}

/// `[METHOD ]TARGET[ HTTP-version]`
#[derive(Clone, Debug)]
pub struct RequestLine {
    /// The line without its end and surrounding white space.
    pub span: Span,
    /// The method; none means GET.
    pub method: Option<Span>,
    /// A URL, or a path joined to `base`.
    pub target: Span,
    /// The version asked for, if any.
    pub version: Option<Version>,
}

/// A version of HTTP that can be asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Version {
    /// RFC 9112
    Http11,
    /// RFC 9113
    Http2,
}

/// `Name: value`
#[derive(Clone, Copy, Debug)]
pub struct Field {
    /// The line without its end.
    pub span: Span,
    /// The field's name.
    pub name: Span,
    /// The value without surrounding white space.
    pub value: Span,
}

/// A node of the tree, as it is in the text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Node {
    /// A cell's `%%` line.
    Title,
    /// A comment line.
    Comment,
    /// An instruction line, broken ones too.
    Instruction,
    /// A request line.
    Request,
    /// A header field.
    Field,
    /// A body.
    Body,
    /// A line that belongs nowhere.
    Stray,
    /// Text between nodes: blank lines, line ends, a byte order mark.
    Gap,
}

impl RequestFile {
    /// Every node in the order of the text, with the gaps between: the spans joined are the text.
    pub fn nodes(&self, text: &str) -> Vec<(Node, Span)> {
        let mut nodes: Vec<(Node, Span)> = items(&self.preamble).collect();
        for cell in &self.cells {
            let line_end = text[cell.span.start()..].find('\n').map_or(text.len(), |end| cell.span.start() + end);
            if text[cell.span.start()..].starts_with("%%") {
                let line = Span::new(cell.span.start(), line_end);
                nodes.push((Node::Title, line.part(0, line.of(text).trim_end_matches('\r').len())));
            }
            nodes.extend(items(&cell.items));
            nodes.extend(cell.request.iter().map(|request| (Node::Request, request.span)));
            nodes.extend(cell.fields.iter().map(|field| (Node::Field, field.span)));
            nodes.extend((!cell.body.is_empty()).then_some((Node::Body, cell.body)));
        }
        nodes.sort_by_key(|(_, span)| span.start());
        let mut with_gaps = Vec::with_capacity(nodes.len() * 2 + 1);
        let mut at = 0;
        for (node, span) in nodes {
            if at < span.start() {
                with_gaps.push((Node::Gap, Span::new(at, span.start())));
            }
            with_gaps.push((node, span));
            at = span.end();
        }
        if at < text.len() {
            with_gaps.push((Node::Gap, Span::new(at, text.len())));
        }
        with_gaps
    }
}

fn items(items: &[Item]) -> impl Iterator<Item = (Node, Span)> + '_ {
    items.iter().map(|item| match item {
        Item::Comment(span) => (Node::Comment, *span),
        Item::Instruction(instruction) => (Node::Instruction, instruction.span),
        Item::Unexpected(span) => (Node::Stray, *span),
    })
}
