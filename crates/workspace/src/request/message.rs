//! Messages of a conversation, made when they are sent: they may use what was received before.

use super::destination;
use super::write::TemplateRenderer;
use crate::auth_of;
use crate::request::encoding::{ContextTracker, SubstitutionContext};
use crate::scope::Resolver;
use url::Url;
use yieldtray_http::MessageData;
use yieldtray_source::{Code, Problem, Span};

/// The message of `% say TEXT`, in which placeholders are encoded as JSON if it looks like JSON.
pub fn message_text(resolver: &mut Resolver<'_>, span: Span, url: &Url) -> Result<MessageData, Vec<Problem>> {
    let source = resolver.cell.source;
    let written = span.of(&resolver.workspace.source(source).text);
    let context = context_of(written);
    let mut writer = TemplateRenderer { resolver, problems: Vec::new() };
    let text = writer.write(source, span, context, false);
    let problems = writer.problems;
    checked(resolver, url, problems, MessageData::Text(text))
}

/// The message of `% say from PATH`: the text of a file with its placeholders, or its bytes.
pub fn message_from_file(resolver: &mut Resolver<'_>, path: Span, url: &Url) -> Result<MessageData, Vec<Problem>> {
    let source = resolver.cell.source;
    let mut writer = TemplateRenderer { resolver, problems: Vec::new() };
    let file = writer.text(source, path);
    let workspace = writer.resolver.workspace;
    let data = match workspace.read_relative(source, &file) {
        Err(error) => {
            let message = format!("cannot read `{file}`: {error}");
            writer.problems.push(Problem::error(Code::UnreadableFile, path, message).in_source(source));
            MessageData::Text(String::new())
        }
        Ok(bytes) => match String::from_utf8(bytes) {
            Ok(text) => {
                let context = context_of(&text);
                MessageData::Text(writer.write_file(source, path, &file, &text, context))
            }
            Err(error) => MessageData::Binary(error.into_bytes().into()),
        },
    };
    let problems = writer.problems;
    checked(resolver, url, problems, data)
}

fn context_of(text: &str) -> ContextTracker {
    match text.trim_start().starts_with(['{', '[']) && !text.trim_start().starts_with("{{") {
        true => ContextTracker::json(),
        false => ContextTracker::Same(SubstitutionContext::Text),
    }
}

fn checked(
    resolver: &mut Resolver<'_>,
    url: &Url,
    mut problems: Vec<Problem>,
    data: MessageData,
) -> Result<MessageData, Vec<Problem>> {
    let auth = auth_of(resolver.workspace, resolver.cell);
    problems.extend(destination::check(resolver, url, auth.as_ref()));
    if problems.iter().any(Problem::is_error) { Err(problems) } else { Ok(data) }
}
