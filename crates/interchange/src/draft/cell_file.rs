//! Writes several requests as a file.

use super::{Body, ImportedRequest, RequestError, SecretExtractor};
use rustc_hash::{FxHashMap, FxHashSet};
use yieldtray_source::names::slug;
use yieldtray_source::{SourceId, edited};
use yieldtray_syntax::{parse, tidy};

/// Cells of requests from elsewhere, for one file.
#[derive(Clone, Debug, Default)]
pub struct CellFileBuilder {
    /// Names of cells, those that were there before among them.
    names: FxHashSet<String>,
    /// The last number that a name got.
    numbers: FxHashMap<String, usize>,
    /// Header fields that the preamble adds to each cell.
    shared_headers: Vec<String>,
    /// True if the preamble adds credentials too.
    shared_auth: bool,
    /// The name of the folder for body files.
    folder: String,
    cells: String,
    /// Files that the cells need: the path from the request file, and what is in it.
    pub files: Vec<(String, Vec<u8>)>,
    /// The requests that could not become cells: title and reason.
    pub refused: Vec<(String, RequestError)>,
    /// How many cells there are.
    pub count: usize,
}

impl CellFileBuilder {
    /// For a file that has cells of these names. Binary bodies go to files in `folder`.
    pub fn new(names: impl IntoIterator<Item = String>, folder: impl Into<String>) -> Self {
        Self { names: names.into_iter().collect(), folder: folder.into(), ..Self::default() }
    }

    /// For cells to which the preamble adds header fields of these names, and maybe credentials: a request that has
    /// none is written so that it gets none.
    #[must_use]
    pub fn below(mut self, headers: Vec<String>, auth: bool) -> Self {
        (self.shared_headers, self.shared_auth) = (headers, auth);
        self
    }

    /// Adds a request, its secrets lifted.
    pub fn add(&mut self, mut draft: ImportedRequest, extractor: &mut SecretExtractor) {
        for name in &self.shared_headers {
            let dropped = format!("% header {name}:");
            let said = draft.has_header(name) || draft.lines.iter().any(|line| line.eq_ignore_ascii_case(&dropped));
            if !said {
                draft.lines.push(dropped);
            }
        }
        if self.shared_auth && draft.auth.is_none() {
            draft.lines.push("% auth none".to_owned());
        }
        extractor.draft(&mut draft);
        draft.turn_into_graphql();
        let name = self.name(&mut draft);
        let media = draft.header("content-type").map_or("", |media| media.head());
        let extension = extension(media).to_owned();
        if let Body::Bytes(bytes) = &mut draft.body {
            let path = format!("{}/{name}.{extension}", self.folder);
            self.files.push((path.clone(), std::mem::take(bytes)));
            draft.body = Body::File(path.into());
        }
        match draft.cell() {
            Ok(cell) => {
                self.count += 1;
                self.names.insert(name);
                self.cells.push_str(&cell);
                self.cells.push('\n');
            }
            Err(why) => self.refused.push((draft.title(), why)),
        }
    }

    /// Gives a request a title and a name that no other has.
    fn name(&mut self, draft: &mut ImportedRequest) -> String {
        if let Some(own) = draft.name.take() {
            let number = self.number(&own);
            let free = if number > 1 { format!("{own}-{number}") } else { own };
            // A title that gives the same name says it once.
            draft.name = (slug(&draft.title()) != free).then(|| free.clone());
            return free;
        }
        let title = match draft.title() {
            title if slug(&title).is_empty() => "Request".to_owned(),
            title => title,
        };
        let number = self.number(&slug(&title));
        draft.title = if number > 1 { format!("{title} {number}") } else { title };
        slug(&draft.title)
    }

    /// The first number that makes a name of its own of this one; 1 where it is free as it is.
    fn number(&mut self, name: &str) -> usize {
        let first = self.numbers.get(name).map_or(1, |last| last + 1);
        let taken = |number: &usize| match number {
            1 => self.names.contains(name),
            number => self.names.contains(&format!("{name}-{number}")),
        };
        let number = (first..).find(|number| !taken(number)).unwrap_or(first);
        self.numbers.insert(name.to_owned(), number);
        number
    }

    /// The cells, formatted; empty if there are none.
    pub fn text(&self) -> String {
        let edits = tidy(&self.cells, &parse(&self.cells, SourceId(0), "request").file);
        edited(&self.cells, &edits)
    }
}

/// The end of a file's name for a media type.
fn extension(media: &str) -> &str {
    let essence = media.split(';').next().unwrap_or_default().trim();
    let (_, kind) = essence.split_once('/').unwrap_or_default();
    let known = ["png", "jpeg", "gif", "webp", "avif", "pdf", "zip", "gzip", "zstd", "wasm", "mp4", "mpeg"];
    known.into_iter().find(|known| *known == kind).unwrap_or("bin")
}
