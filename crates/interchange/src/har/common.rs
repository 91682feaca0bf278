//! Factors out what requests have in common.

use crate::draft::{ImportedRequest, SecretExtractor};
use std::collections::BTreeMap;
use yieldtray_http::is_secret_header;
use yieldtray_syntax::ValueText;

/// Factors out what requests have in common: origins become `base` and similar values, header fields that all of them
/// have become one line. Returns the lines for the head of a file, a new one if `new`; `base` is the URL that paths
/// are joined to already.
pub fn factor_out_common(
    drafts: &mut [ImportedRequest],
    extractor: &mut SecretExtractor,
    base: Option<&str>,
    new: bool,
) -> String {
    let mut head = String::new();
    let mut origins: BTreeMap<String, usize> = BTreeMap::new();
    for draft in drafts.iter() {
        *origins.entry(origin(draft).to_owned()).or_default() += 1;
    }
    let mut often: Vec<(String, usize)> =
        origins.into_iter().filter(|(own, count)| !own.is_empty() && *count > 1).collect();
    often.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let own_base = base.map(|base| base.trim_end_matches('/'));
    for (origin, _) in often {
        let name = match own_base {
            Some(base) if base == origin => None,
            _ if !new => continue,
            _ => {
                let host = origin.split_once("://").map_or("", |(_, host)| host);
                // The first and likeliest is what paths are joined to, unless that is something else here.
                let first = head.is_empty() && own_base.is_none() && extractor.is_free("base");
                let name = extractor.reserve(if first { "base" } else { host });
                head.push_str(&format!("% let {name} = {}\n", serde_json::Value::from(origin.as_str())));
                extractor.stand_for_key(&name, &origin);
                (name != "base").then_some(name)
            }
        };
        drafts
            .iter_mut()
            .filter(|draft| self::origin(draft) == origin)
            .for_each(|draft| lift_origin(draft, &origin, name.as_deref()));
    }
    let lines = ["% redirects 0", "% cookies off"];
    match new {
        // A recording has each redirect and each cookie as an entry or a field of its own.
        true => head.push_str(&format!("{}\n", lines.join("\n"))),
        false => drafts.iter_mut().for_each(|draft| draft.lines.extend(lines.map(str::to_owned))),
    }
    if new && drafts.len() > 2 {
        for (name, value) in shared(drafts) {
            let (plain_name, plain_value) = (name.plain().unwrap_or_default(), value.plain().unwrap_or_default());
            head.push_str(&format!("% header {plain_name}: {plain_value}\n"));
            drafts.iter_mut().for_each(|draft| draft.headers.retain(|field| *field != (name.clone(), value.clone())));
        }
    }
    head
}

/// Scheme, host and port of a URL.
fn origin(draft: &ImportedRequest) -> &str {
    let target = draft.target.head();
    let Some(host) = target.find("://").map(|at| at + 3) else { return "" };
    let end = target[host..].find(['/', '?']).map_or(target.len(), |end| host + end);
    // Only a path can follow it.
    if target[end..].starts_with('/') { &target[..end] } else { "" }
}

fn lift_origin(draft: &mut ImportedRequest, origin: &str, name: Option<&str>) {
    // The title is made of the path alone either way.
    let path = draft.target.behind(origin.len());
    draft.title = draft.title();
    draft.target = match name {
        None => path,
        Some(name) => {
            let mut target = ValueText::value(name);
            target.append(&path);
            target
        }
    };
}

/// Header fields that every request has exactly once, with the same value.
fn shared(drafts: &[ImportedRequest]) -> Vec<(ValueText, ValueText)> {
    let Some(first) = drafts.first() else { return Vec::new() };
    let alike =
        |name: &ValueText, draft: &ImportedRequest| draft.headers.iter().filter(|(own, _)| own == name).count() == 1;
    let everywhere = |field: &&(ValueText, ValueText)| {
        let (name, value) = field;
        let is_known =
            name.plain().is_some_and(|name| !is_secret_header(name) && !name.eq_ignore_ascii_case("content-type"));
        let plain = value.plain().is_some_and(|value| {
            !value.is_empty() && !value.contains("{{") && !value.contains(|c: char| c.is_control())
        });
        is_known && plain && drafts.iter().all(|draft| draft.headers.contains(field) && alike(name, draft))
    };
    first.headers.iter().filter(everywhere).cloned().collect()
}
