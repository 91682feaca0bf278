//! Selects entries of an archive.

use super::entry::Entry;
use yieldtray_source::glob::glob_match;

/// Which entries are taken; one that is empty takes all.
#[derive(Clone, Debug, Default)]
pub struct EntryFilter {
    /// Patterns of the whole URL, or of its path, in which `*` matches any run of characters.
    pub only: Vec<String>,
    /// Methods.
    pub methods: Vec<String>,
    /// Media types of responses, as `application/json` or `application/*`.
    pub media: Vec<String>,
    /// The id of a page, or its title.
    pub page: Option<String>,
    /// Images, fonts, style and scripts too.
    pub everything: bool,
}

/// Why an entry is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum SkipReason {
    /// Not an HTTP request.
    Other,
    /// It is a part of a page.
    Static,
    /// Somebody chose others.
    Chosen,
}

impl EntryFilter {
    pub(super) fn skip_reason<T>(&self, entry: &Entry<T>, pages: &[(String, String)]) -> Option<SkipReason> {
        let url = &entry.request.url;
        let Some((scheme, rest)) = url.split_once("://") else { return Some(SkipReason::Other) };
        if !["http", "https"].iter().any(|own| own.eq_ignore_ascii_case(scheme)) {
            return Some(SkipReason::Other);
        }
        let path = rest.find('/').map_or("/", |at| &rest[at..]);
        let path = path.split(['?', '#']).next().unwrap_or(path);
        let any = |patterns: &[String], fits: &dyn Fn(&str) -> bool| {
            patterns.is_empty() || patterns.iter().any(|pattern| fits(pattern))
        };
        let media = entry.media().to_ascii_lowercase();
        let chosen = any(&self.only, &|pattern| glob_match(pattern, url) || glob_match(pattern, path))
            && any(&self.methods, &|method| method.eq_ignore_ascii_case(&entry.request.method))
            && any(&self.media, &|pattern| glob_match(&pattern.to_ascii_lowercase(), &media))
            && self.page.as_ref().is_none_or(|page| {
                let titled = pages.iter().find(|(_, title)| title == page).map(|(id, _)| id);
                entry.pageref.as_ref().is_some_and(|own| own == page || Some(own) == titled)
            });
        if !chosen {
            return Some(SkipReason::Chosen);
        }
        // A media type that is named is wanted.
        let wanted = self.everything || !self.media.is_empty();
        (!wanted && is_static(&entry.request.method, path, &media)).then_some(SkipReason::Static)
    }
}

/// Whether this is a part of a page rather than a call: an image, a font, style, a script.
fn is_static(method: &str, path: &str, media: &str) -> bool {
    const KINDS: &[&str] = &["image/", "font/", "audio/", "video/", "application/font", "application/x-font"];
    const TYPES: &[&str] = &["text/css", "text/javascript", "application/javascript", "application/x-javascript"];
    const ENDS: &[&str] = &[
        "css", "js", "mjs", "map", "png", "jpg", "jpeg", "gif", "svg", "ico", "webp", "avif", "woff", "woff2", "ttf",
        "otf", "eot", "mp4", "webm", "mp3", "wasm",
    ];
    if !method.eq_ignore_ascii_case("GET") {
        return false;
    }
    let end = path.rsplit('/').next().and_then(|name| name.rsplit_once('.')).map(|(_, end)| end.to_ascii_lowercase());
    KINDS.iter().any(|kind| media.starts_with(kind))
        || TYPES.contains(&media)
        || media == "application/wasm"
        // Data that happens to be called so is data.
        || !media.ends_with("json") && end.is_some_and(|end| ENDS.contains(&end.as_str()))
}
