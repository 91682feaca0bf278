//! Reads an HTTP archive.

use super::choice::{EntryFilter, SkipReason};
use super::entry::{Entry, EntryError, Response};
use crate::draft::ImportedRequest;
use serde::de::{DeserializeOwned, DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};
use std::fmt;
use std::io::{BufRead, BufReader, Read};
use std::marker::PhantomData;
use thiserror::Error;

/// The imported requests of an archive.
#[derive(Debug, Default)]
pub struct ImportedArchive {
    /// The requests, in order.
    pub drafts: Vec<ImportedRequest>,
    /// How many entries there were.
    pub entries: usize,
    /// How many were parts of pages.
    pub fixed: usize,
    /// How many were no requests of HTTP.
    pub other: usize,
    /// The entries that could not become requests: URL and reason.
    pub refused: Vec<(String, EntryError)>,
}

/// Why an archive cannot be read.
#[derive(Debug, Error)]
pub enum ArchiveError {
    /// Its bytes cannot be read.
    #[error(transparent)]
    Read(#[from] std::io::Error),
    /// It is not JSON, or an entry is not one of HTTP Archive 1.2.
    #[error(transparent)]
    Json(#[from] serde_json::Error),
    /// It has no list of entries.
    #[error("`log.entries` is missing (HTTP Archive 1.2)")]
    NoEntries,
}

/// Reads an archive. Entries that are not kept are dropped at once, so that memory holds the requests alone; with
/// `checks` each gets checks that hold for its response.
///
/// # Errors
/// If it cannot be read or is not an archive.
pub fn read(archive: impl Read, choice: &EntryFilter, checks: bool) -> Result<ImportedArchive, ArchiveError> {
    let mut archive = BufReader::with_capacity(1 << 16, archive);
    let start = archive.fill_buf()?;
    // A byte order mark is tolerated.
    let mark = if start.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
    archive.consume(mark);
    let mut visitor = ArchiveVisitor { choice, pages: Vec::new(), recording: ImportedArchive::default(), found: false };
    let mut json = serde_json::Deserializer::from_reader(archive);
    let outcome = match checks {
        true => ArchiveSeed(&mut visitor, PhantomData::<String>).deserialize(&mut json),
        false => ArchiveSeed(&mut visitor, PhantomData::<IgnoredAny>).deserialize(&mut json),
    };
    outcome?;
    match visitor.found {
        true => Ok(visitor.recording),
        false => Err(ArchiveError::NoEntries),
    }
}

struct ArchiveVisitor<'c> {
    choice: &'c EntryFilter,
    /// Ids and titles.
    pages: Vec<(String, String)>,
    recording: ImportedArchive,
    found: bool,
}

/// The use of a response's text.
trait ResponseText: DeserializeOwned {
    fn checks(response: &Response<Self>) -> Vec<String>;
}

impl ResponseText for String {
    fn checks(response: &Response<Self>) -> Vec<String> {
        response.checks()
    }
}

impl ResponseText for IgnoredAny {
    fn checks(_response: &Response<Self>) -> Vec<String> {
        Vec::new()
    }
}

impl ArchiveVisitor<'_> {
    fn take<T: ResponseText>(&mut self, entry: Entry<T>) {
        let recording = &mut self.recording;
        recording.entries += 1;
        match self.choice.skip_reason(&entry, &self.pages) {
            Some(SkipReason::Static) => recording.fixed += 1,
            Some(SkipReason::Other) => recording.other += 1,
            Some(SkipReason::Chosen) => {}
            None => {
                let checks = entry.response.as_ref().map(T::checks).unwrap_or_default();
                let url = entry.request.url.clone();
                match entry.request.draft() {
                    Ok(mut draft) => {
                        draft.tail = checks.iter().map(|check| format!("% check {check}")).collect();
                        recording.drafts.push(draft);
                    }
                    Err(why) => recording.refused.push((url, why)),
                }
            }
        }
    }
}

/// `{ "log": … }`
struct ArchiveSeed<'a, 'c, T>(&'a mut ArchiveVisitor<'c>, PhantomData<T>);
/// `{ "pages": […], "entries": […] }`
struct Log<'a, 'c, T>(&'a mut ArchiveVisitor<'c>, PhantomData<T>);
/// `[ entry, … ]`
struct Entries<'a, 'c, T>(&'a mut ArchiveVisitor<'c>, PhantomData<T>);

#[derive(serde::Deserialize)]
struct HarPage {
    id: String,
    #[serde(default)]
    title: Option<String>,
}

impl<'de, T: ResponseText> DeserializeSeed<'de> for ArchiveSeed<'_, '_, T> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, T: ResponseText> Visitor<'de> for ArchiveSeed<'_, '_, T> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object with a `log`")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(name) = map.next_key::<String>()? {
            match name.as_str() {
                "log" => map.next_value_seed(Log(self.0, self.1))?,
                _ => map.next_value::<IgnoredAny>().map(drop)?,
            }
        }
        Ok(())
    }
}

impl<'de, T: ResponseText> DeserializeSeed<'de> for Log<'_, '_, T> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, T: ResponseText> Visitor<'de> for Log<'_, '_, T> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object with `entries`")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(name) = map.next_key::<String>()? {
            match name.as_str() {
                "entries" => map.next_value_seed(Entries(self.0, self.1))?,
                "pages" => {
                    let pages: Option<Vec<HarPage>> = map.next_value()?;
                    let pages = pages.unwrap_or_default().into_iter();
                    self.0.pages.extend(pages.map(|page| (page.id, page.title.unwrap_or_default())));
                }
                _ => map.next_value::<IgnoredAny>().map(drop)?,
            }
        }
        Ok(())
    }
}

impl<'de, T: ResponseText> DeserializeSeed<'de> for Entries<'_, '_, T> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de, T: ResponseText> Visitor<'de> for Entries<'_, '_, T> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a list of entries")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut entries: A) -> Result<(), A::Error> {
        self.0.found = true;
        while let Some(entry) = entries.next_element::<Entry<T>>()? {
            self.0.take(entry);
        }
        Ok(())
    }
}
