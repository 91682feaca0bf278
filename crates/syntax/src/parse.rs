//! The parser of request files.

use super::file::{Cell, InstructionKind, Item, RequestFile};
use super::instruction::Section;
use super::{request_line, shell, swallowed};
use crate::instruction;
use rustc_hash::{FxBuildHasher, FxHashMap};
use yieldtray_source::names::slug;
use yieldtray_source::{Code, Problem, SourceId, Span};

/// The longest text that is taken, in bytes: spans count in 32 bits.
pub const MAX_TEXT: usize = u32::MAX as usize;

/// The result of parsing: always a file, and its problems.
#[derive(Debug, Default)]
pub struct Parsed {
    /// The tree.
    pub file: RequestFile,
    /// The problems in the order of the text, without their source.
    pub problems: Vec<Problem>,
}

/// Parses a request file. `stem` is the file's name without its extension: it names the one cell of
/// a file without a `%%` line.
pub fn parse(text: &str, source: SourceId, stem: &str) -> Parsed {
    let mut parser = Parser { text, at: 0, line: None, problems: Vec::new() };
    parser.at = if text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { 0 };
    parser.advance();
    let mut file = parser.file(stem);
    let mut problems = parser.problems;
    name_cells(text, source, &mut file, &mut problems);
    problems.sort_by_key(|problem| problem.span.start());
    for problem in &mut problems {
        problem.source = Some(source);
    }
    Parsed { file, problems }
}

/// `parse_*` consume lines and report what is wrong in them; none of them fails.
struct Parser<'t> {
    text: &'t str,
    /// Where the next line starts.
    at: usize,
    /// The line now looked at, without its end.
    line: Option<Span>,
    problems: Vec<Problem>,
}

impl<'t> Parser<'t> {
    fn advance(&mut self) {
        if self.at >= self.text.len() {
            self.line = None;
            return;
        }
        let bytes = &self.text.as_bytes()[self.at..];
        let (end, next) = match memchr::memchr(b'\n', bytes) {
            Some(0) => (0, 1),
            Some(end) => (if bytes[end - 1] == b'\r' { end - 1 } else { end }, end + 1),
            None => (bytes.len(), bytes.len()),
        };
        self.line = Some(Span::new(self.at, self.at + end));
        self.at += next;
    }

    /// The line now looked at, unless it starts a cell.
    fn line_of_cell(&self) -> Option<(Span, &'t [u8])> {
        let line = self.line?;
        let bytes = &self.text.as_bytes()[line.range()];
        (!bytes.starts_with(b"%%")).then_some((line, bytes))
    }

    fn file(&mut self, stem: &str) -> RequestFile {
        let mut file = RequestFile::default();
        let alone = !has_cell_line(self.text);
        let zone = if alone { Section::Alone } else { Section::Preamble };
        self.parse_items(zone, &mut file.preamble);
        if alone {
            if self.line.is_some() {
                let mut cell = empty_cell(Span::new(0, self.text.len()), Span::empty(0));
                cell.items = std::mem::take(&mut file.preamble);
                cell.name = slug(stem).into();
                self.parse_request(&mut cell);
                file.cells.push(cell);
            } else {
                self.only_preamble(&file.preamble);
            }
            return file;
        }
        if let Some((line, _)) = self.line_of_cell() {
            self.problems.push(
                Problem::error(Code::StrayText, line, "request before the first `%%` line")
                    .with_hint("add a line `%% Title` above it: with several requests in a file, each needs one"),
            );
            self.parse_stray(&mut file.preamble);
        }
        let rest = self.line.map_or("", |line| &self.text[line.start()..]);
        file.cells.reserve(memchr::memmem::find_iter(rest.as_bytes(), b"\n%%").count() + 1);
        let mut scratch = Vec::new();
        while self.line.is_some() {
            let mut cell = self.parse_cell(std::mem::take(&mut scratch));
            // The items grow in one list that all cells share, and each cell keeps a copy that fits.
            let items = cell.items.drain(..).collect();
            scratch = std::mem::replace(&mut cell.items, items);
            file.cells.push(cell);
        }
        file
    }

    /// In a file without any request, what belongs to a cell has none to belong to.
    fn only_preamble(&mut self, preamble: &[Item]) {
        for item in super::file::instructions(preamble) {
            if let InstructionKind::Name(span) | InstructionKind::Needs(span) | InstructionKind::Waive(span) = item.kind
            {
                self.problems.push(
                    Problem::error(
                        Code::MisplacedInstruction,
                        span,
                        "this belongs to a request, but there is none here",
                    )
                    .with_hint("add a request below it, or remove the line"),
                );
            }
        }
    }

    /// Comments, instructions and blank lines, up to any other line.
    fn parse_items(&mut self, zone: Section, items: &mut Vec<Item>) {
        while let Some((line, bytes)) = self.line_of_cell() {
            match bytes.first() {
                Some(b'#') => items.push(Item::Comment(line)),
                Some(b'%') => self.parse_instruction(line, zone, items),
                _ if is_blank(bytes) => {}
                _ => return,
            }
            self.advance();
        }
    }

    fn parse_instruction(&mut self, line: Span, zone: Section, items: &mut Vec<Item>) {
        let line = line.trimmed(self.text);
        items.push(Item::Instruction(instruction::parse(self.text, line, zone, &mut self.problems)));
    }

    /// Unexpected lines, up to the next cell; the problem was reported with the first.
    fn parse_stray(&mut self, items: &mut Vec<Item>) {
        while let Some((line, bytes)) = self.line_of_cell() {
            if !is_blank(bytes) {
                items.push(Item::Unexpected(line));
            }
            self.advance();
        }
    }

    /// True if a line that was meant to make the cell a sequence cannot be parsed: then a missing request is not the
    /// problem.
    fn looks_like_sequence(&self, cell: &Cell) -> bool {
        let word = |span: Span| span.of(self.text).trim_start_matches(['%', ' ', '\t']).starts_with("play");
        cell.instructions().any(|line| line.kind == InstructionKind::Broken && word(line.span))
    }

    fn parse_cell(&mut self, items: Vec<Item>) -> Cell {
        let line = self.line.unwrap_or_default();
        let title = Span::new((line.start() + 2).min(line.end()), line.end()).trimmed(self.text);
        let mut cell = empty_cell(line, title);
        cell.items = items;
        self.advance();
        self.parse_items(Section::Head, &mut cell.items);
        if self.line_of_cell().is_some() {
            self.parse_request(&mut cell);
        } else if !cell.plays() && !self.looks_like_sequence(&cell) {
            let message = match title.of(self.text) {
                "" => "this section has no request".to_owned(),
                title => format!("`{title}` has no request"),
            };
            let shown = if title.is_empty() { line } else { title };
            self.problems.push(
                Problem::error(Code::NoRequest, shown, message)
                    .with_hint("add a request line below it, for example `GET /lots`"),
            );
        }
        let end = self.line.map_or(self.text.len(), Span::start);
        cell.span = Span::new(line.start(), end);
        cell
    }

    /// Request line, header fields, body, tail.
    fn parse_request(&mut self, cell: &mut Cell) {
        let Some((line, bytes)) = self.line_of_cell() else { return };
        if bytes.starts_with(b"curl") && shell::is_command(line.of(self.text)) {
            self.parse_command(line, &mut cell.items);
            return self.parse_tail(&mut cell.items);
        }
        cell.request = request_line::parse(self.text, line, &mut self.problems);
        if cell.request.is_none() {
            cell.items.push(Item::Unexpected(line.trimmed(self.text)));
        }
        self.advance();
        while let Some((line, bytes)) = self.line_of_cell() {
            match bytes.first() {
                Some(b'#') => cell.items.push(Item::Comment(line)),
                Some(b'%') => self.parse_instruction(line, Section::Tail, &mut cell.items),
                _ if is_blank(bytes) => break,
                _ => match request_line::field(self.text, line, &mut self.problems) {
                    Some(field) => cell.fields.push(field),
                    None => cell.items.push(Item::Unexpected(line)),
                },
            }
            self.advance();
        }
        // The blank line between the fields and the body; there is none if the next cell follows at once.
        if self.line_of_cell().is_some() {
            self.advance();
        }
        self.parse_body(cell);
        self.parse_tail(&mut cell.items);
    }

    /// A pasted shell command: one problem, however many lines it has.
    fn parse_command(&mut self, line: Span, items: &mut Vec<Item>) {
        let rest = &self.text[line.start()..];
        let cell = rest.find("\n%").map_or(rest.len(), |end| end + 1);
        let end = line.start() + shell::extent(&rest[..cell]);
        let span = Span::new(line.start(), end).trimmed(self.text);
        while let Some(line) = self.line.filter(|line| line.start() < end) {
            if !is_blank(line.of(self.text).as_bytes()) {
                items.push(Item::Unexpected(line));
            }
            self.advance();
        }
        let hint = "run `yieldtray import curl`, or use the quick fix in an editor";
        let problem = Problem::error(Code::ShellCommand, span, "this is a shell command, not a request");
        self.problems.push(problem.with_hint(hint));
    }

    fn parse_body(&mut self, cell: &mut Cell) {
        let Some(first) = self.line else { return };
        let mut end = first.start();
        while let Some((line, bytes)) = self.line_of_cell() {
            if bytes.first() == Some(&b'%') && instruction::begins_tail(line.of(self.text)) {
                break;
            }
            if !is_blank(bytes) {
                end = line.end();
            }
            self.advance();
        }
        cell.body = Span::new(first.start(), end);
        if !cell.body.is_empty() {
            let method = cell.request.as_ref().and_then(|request| request.method).map_or("GET", |it| it.of(self.text));
            swallowed::check(self.text, cell.body, method, &mut self.problems);
        }
    }

    fn parse_tail(&mut self, items: &mut Vec<Item>) {
        let mut reported = false;
        loop {
            self.parse_items(Section::Tail, items);
            let Some((line, _)) = self.line_of_cell() else { return };
            if !reported {
                self.problems.push(
                    Problem::error(Code::StrayText, line, "expected an instruction or a comment after the body")
                        .with_hint("write `\\%` to begin a body line with `%`; a new request starts with `%%`"),
                );
                reported = true;
            }
            items.push(Item::Unexpected(line));
            self.advance();
        }
    }
}

fn is_blank(line: &[u8]) -> bool {
    line.iter().all(u8::is_ascii_whitespace)
}

fn has_cell_line(text: &str) -> bool {
    text.strip_prefix('\u{feff}').unwrap_or(text).starts_with("%%")
        || memchr::memmem::find(text.as_bytes(), b"\n%%").is_some()
}

fn empty_cell(span: Span, title: Span) -> Cell {
    let name = Box::default();
    Cell { span, title, name, items: Vec::new(), request: None, fields: Vec::new(), body: Span::empty(span.end()) }
}

/// Gives each cell its name, and reports two of one name and two names for one cell.
fn name_cells(text: &str, source: SourceId, file: &mut RequestFile, problems: &mut Vec<Problem>) {
    for (index, cell) in file.cells.iter_mut().enumerate() {
        let mut explicit: Option<Span> = None;
        for instruction in super::file::instructions(&cell.items) {
            let InstructionKind::Name(name) = instruction.kind else { continue };
            if let Some(first) = explicit {
                problems.push(
                    Problem::error(Code::DuplicateName, name, "duplicate `% name` for this request")
                        .with_hint("remove one of the two lines")
                        .with_related(source, first, "first one here"),
                );
            }
            explicit.get_or_insert(name);
        }
        if let Some(name) = explicit {
            cell.name = name.of(text).into();
        } else if cell.name.is_empty() {
            let title = slug(cell.title.of(text));
            cell.name = if title.is_empty() { format!("request-{}", index + 1).into() } else { title.into() };
        }
    }
    let mut seen: FxHashMap<&str, usize> = FxHashMap::with_capacity_and_hasher(file.cells.len(), FxBuildHasher);
    for (index, cell) in file.cells.iter().enumerate() {
        let first = *seen.entry(&cell.name).or_insert(index);
        if first != index {
            let place = name_place(text, cell);
            problems.push(
                Problem::error(Code::DuplicateName, place, format!("duplicate request name `{}`", cell.name))
                    .with_hint("add `% name …` below its `%%` line")
                    .with_related(source, name_place(text, &file.cells[first]), "first one here"),
            );
        }
    }
}

/// Where a cell got its name: its `% name`, its title, or its `%%`.
fn name_place(text: &str, cell: &Cell) -> Span {
    let explicit = cell.instructions().find_map(|instruction| match instruction.kind {
        InstructionKind::Name(name) => Some(name),
        _ => None,
    });
    let line = cell.span.of(text).find(['\r', '\n']).unwrap_or(cell.span.len());
    explicit.unwrap_or(if cell.title.is_empty() { cell.span.part(0, line) } else { cell.title })
}
