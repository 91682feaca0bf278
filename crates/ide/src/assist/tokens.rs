//! Semantic tokens.

use super::{IdeContext, Referent, needs, occurrence};
use rustc_hash::FxHashSet;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::Item;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{EvalCache, Resolver};

/// A piece of text with its meaning, for colours.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Token {
    /// The piece; never more than a line.
    pub span: Span,
    /// Its type.
    pub kind: TokenKind,
    /// True for a definition.
    pub given: bool,
}

/// The type of a semantic token.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the names say it
pub enum TokenKind {
    Comment,
    Title,
    Instruction,
    Method,
    Header,
    Function,
    Language,
    Member,
    Local,
    /// A value that there is.
    Value,
    /// A value that there is not, yet.
    Missing,
    Cell,
    Label,
    File,
}

/// The tokens of a file in order; none overlaps another.
pub fn tokens(view: IdeContext<'_>, source: SourceId) -> Vec<Token> {
    let workspace = view.workspace();
    let own = workspace.source(source);
    let text = &own.text;
    let mut tokens = Vec::new();
    let items = own.file.preamble.iter().chain(own.file.cells.iter().flat_map(|cell| &cell.items));
    tokens.extend(items.filter_map(|item| match item {
        Item::Comment(span) => Some(Token { span: *span, kind: TokenKind::Comment, given: false }),
        _ => None,
    }));
    for cell in &own.file.cells {
        if cell.span.of(text).starts_with("%%") {
            let end = cell.title.end().max(cell.span.start() + 2);
            tokens.push(Token { span: Span::new(cell.span.start(), end), kind: TokenKind::Title, given: true });
        }
    }
    let mut lacking = Lacking { view, source, cell: None, names: FxHashSet::default() };
    for found in occurrence::in_requests(workspace, view.context.engine, source) {
        let (kind, given) = match found.what {
            Referent::Value { given: true, .. } => (TokenKind::Value, true),
            Referent::Value { after, .. } => {
                let missing = lacking.has(found.span, after);
                (if missing { TokenKind::Missing } else { TokenKind::Value }, false)
            }
            Referent::Language => (TokenKind::Language, false),
            Referent::Local => (TokenKind::Local, false),
            Referent::Member => (TokenKind::Member, false),
            Referent::Function => (TokenKind::Function, false),
            Referent::Cell { given, .. } => (TokenKind::Cell, given),
            Referent::Label { given } => (TokenKind::Label, given),
            Referent::File => (TokenKind::File, false),
            Referent::Profile { given } => (TokenKind::Label, given),
            Referent::Signing => (TokenKind::Label, false),
            Referent::Header => (TokenKind::Header, false),
            Referent::Method => (TokenKind::Method, false),
            Referent::Instruction => (TokenKind::Instruction, false),
        };
        tokens.push(Token { span: found.span, kind, given });
    }
    tokens.sort_by_key(|token| (token.span.start(), token.span.end()));
    let mut end = 0;
    tokens.retain(|token| {
        let fits = token.span.start() >= end && !token.span.is_empty();
        end = if fits { token.span.end() } else { end };
        fits
    });
    tokens
}

/// The names that the cell has no value for, found once a cell.
struct Lacking<'a> {
    view: IdeContext<'a>,
    source: SourceId,
    cell: Option<CellId>,
    names: FxHashSet<String>,
}

impl Lacking<'_> {
    fn has(&mut self, name: Span, after: bool) -> bool {
        let workspace = self.view.workspace();
        let Some(cell) = super::nearest_cell(workspace, self.source, name.start()) else { return false };
        if self.cell != Some(cell) {
            let needs = needs(workspace, cell);
            let mut cache = EvalCache::default();
            let resolver = Resolver::new(self.view.context, cell, &needs, &mut cache);
            self.names = resolver.unresolved_names().into_iter().map(|used| used.name).collect();
            self.cell = Some(cell);
        }
        let text = self.view.text(self.source);
        let own = yieldtray_workspace::scope::yields(workspace, cell).any(|own| own == name.of(text));
        self.names.contains(name.of(text)) && !(after && own)
    }
}
