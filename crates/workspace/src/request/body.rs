//! The body of a request: the cell's own text, form fields, parts, or a file.

use super::multipart::Part;
use super::write::TemplateRenderer;
use crate::request::encoding::{ContextTracker, SubstitutionContext};
use crate::request::multipart;
use std::path::{Path, PathBuf};
use yieldtray_http::{Body, BodyPart, FileBody, HeaderFields};
use yieldtray_source::access::check_writable;
use yieldtray_source::files::normalize;
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{InstructionKind, PartContent};

const FORM: &str = "application/x-www-form-urlencoded";

impl TemplateRenderer<'_, '_> {
    /// The body, and the Content-Type that belongs to it where no field gives one.
    pub(super) fn body(&mut self, source: SourceId, headers: &HeaderFields) -> (Option<Body>, Option<String>) {
        let workspace = self.resolver.workspace;
        let cell = workspace.cell(self.resolver.cell);
        let (mut form, mut parts) = (Vec::new(), Vec::new());
        for line in cell.instructions() {
            match line.kind {
                InstructionKind::Field { name, value } => {
                    let name = self.write(source, name, ContextTracker::Encoded(SubstitutionContext::Form), false);
                    let value = self.write(source, value, ContextTracker::Encoded(SubstitutionContext::Form), false);
                    form.push(format!("{name}={value}"));
                }
                InstructionKind::Part { name, content } => parts.extend(self.part(source, name, content)),
                InstructionKind::BodyFrom { path, verbatim } => return self.body_from(source, path, verbatim, headers),
                _ => {}
            }
        }
        if !form.is_empty() {
            return (Some(form.join("&").into()), Some(FORM.to_owned()));
        }
        if !parts.is_empty() {
            let boundary = self.resolver.context.random.boundary();
            let media = format!("multipart/form-data; boundary={boundary}");
            return (Some(multipart::body(parts, &boundary)), Some(media));
        }
        if cell.body.is_empty() {
            return (None, None);
        }
        let around = ContextTracker::body(content_type(headers), cell.body.of(&workspace.source(source).text));
        let body = self.write(source, cell.body, around, true);
        let media = is_json_document(&body).then(|| "application/json".to_owned());
        (Some(body.into()), media)
    }

    pub(super) fn part(&mut self, source: SourceId, name: Span, content: PartContent) -> Option<Part> {
        let name = self.text(source, name);
        match content {
            PartContent::Text { value, media } => {
                let media = media.map(|span| (span, self.text(source, span)));
                self.check_media(source, media.as_ref());
                let piece = BodyPart::Bytes(self.text(source, value).into());
                Some(Part { name, filename: None, media: media.map(|(_, media)| media), piece })
            }
            PartContent::File { path, media, filename } => {
                let filename = filename.map(|span| self.text(source, span));
                let written = media.map(|span| (span, self.text(source, span)));
                self.check_media(source, written.as_ref());
                let file = self.file(source, path)?;
                Some(multipart::file_part(name, file, filename, written.map(|(_, media)| media)))
            }
        }
    }

    fn check_media(&mut self, source: SourceId, written: Option<&(Span, String)>) {
        let Some((span, media)) = written else { return };
        if media.contains(|c: char| c.is_control()) || !media.contains('/') {
            let problem = Problem::error(Code::InvalidValue, *span, format!("`{media}` is not a media type"));
            self.problems.push(problem.with_hint("for example `image/jpeg`").in_source(source));
        }
    }

    /// `% body from PATH [verbatim]`
    fn body_from(
        &mut self,
        source: SourceId,
        path: Span,
        verbatim: bool,
        headers: &HeaderFields,
    ) -> (Option<Body>, Option<String>) {
        let Some(file) = self.file(source, path) else { return (None, None) };
        let guessed = multipart::media_type(&file.shown);
        let media = (guessed != "application/octet-stream").then_some(guessed);
        if verbatim {
            return (Some(Body::Pieces(vec![BodyPart::File(file)])), media);
        }
        let workspace = self.resolver.workspace;
        let text = match workspace.read_relative(source, &self.text(source, path)) {
            Ok(bytes) => String::from_utf8(bytes).map_err(|_| "it is not UTF-8 text".to_owned()),
            Err(error) => Err(error.to_string()),
        };
        match text {
            Ok(text) => {
                let around = ContextTracker::body(content_type(headers).or(media.as_deref()), &text);
                let body = self.write_file(source, path, &file.shown, &text, around);
                let json = || is_json_document(&body).then(|| "application/json".to_owned());
                let media = media.or_else(json);
                (Some(body.into()), media)
            }
            Err(why) => {
                let message = format!("cannot read the body from `{}`: {why}", file.shown);
                let hint = "add `verbatim` after the path to send the bytes unchanged";
                self.problems
                    .push(Problem::error(Code::UnreadableFile, path, message).with_hint(hint).in_source(source));
                (None, None)
            }
        }
    }

    /// The file at `path`, which is relative to the request file.
    fn file(&mut self, source: SourceId, path: Span) -> Option<FileBody> {
        let written = self.text(source, path);
        let workspace = self.resolver.workspace;
        match workspace.locate_relative(source, &written) {
            Ok(file) => Some(file),
            Err(why) => {
                let message = format!("cannot send `{written}`: {why}");
                let hint = "paths are relative to the request file and must be inside the workspace";
                self.problems
                    .push(Problem::error(Code::UnreadableFile, path, message).with_hint(hint).in_source(source));
                None
            }
        }
    }

    /// The file that `% save` writes the response body to, relative to the root.
    pub(super) fn save(&mut self, source: SourceId) -> Option<PathBuf> {
        let workspace = self.resolver.workspace;
        let saves = workspace.cell(self.resolver.cell).instructions().filter_map(|line| match line.kind {
            InstructionKind::Save(path) => Some(path),
            _ => None,
        });
        let span = saves.last()?;
        let written = self.text(source, span);
        let folder = workspace.config.saved();
        let path = normalize(Path::new(&written)).filter(|path| path.file_name().is_some() && !written.ends_with('/'));
        let why = match path.map(|path| Path::new(folder).join(path)) {
            Some(path) => match check_writable(&path) {
                Ok(()) => return Some(path),
                Err(why) => why.to_string(),
            },
            None => format!("it is not a file inside the directory `{folder}`"),
        };
        let message = format!("cannot save to `{written}`: {why}");
        let hint = format!("paths are relative to `{folder}`; change it with `saved` in `[workspace]`");
        self.problems.push(Problem::error(Code::UnreadableFile, span, message).with_hint(hint).in_source(source));
        None
    }
}

fn content_type(headers: &HeaderFields) -> Option<&str> {
    headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type")).map(|(_, value)| &**value)
}

/// A JSON object or array, and nothing after it.
fn is_json_document(body: &str) -> bool {
    super::encoding::looks_like_json(body) && serde_json::from_str::<serde::de::IgnoredAny>(body).is_ok()
}
