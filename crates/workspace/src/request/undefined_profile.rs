//! Errors of lines that name a profile which the configuration does not define.

use crate::config::Config;
use yieldtray_source::access::CONFIG_FILE;
use yieldtray_source::{Code, Problem, Span, closest, join_words};

/// An OAuth 2.0 profile that is not defined, with the probable one.
pub(crate) fn unknown_profile(config: &Config, name: &str, span: Span) -> Problem {
    let names = config.profiles.iter().map(|profile| profile.name.as_str());
    undefined_profile(("OAuth 2.0 profile", "oauth2"), names, name, span)
}

/// A signing profile that is not defined, with the probable one.
pub(crate) fn unknown_signing_profile(config: &Config, name: &str, span: Span) -> Problem {
    let names = config.signing.iter().map(|profile| profile.name.as_str());
    undefined_profile(("signing profile", "signing"), names, name, span)
}

/// A profile of the table `section` that is not defined, with the probable one among `names`.
fn undefined_profile<'n>(
    (kind, section): (&str, &str),
    names: impl Iterator<Item = &'n str>,
    name: &str,
    span: Span,
) -> Problem {
    let names: Vec<&str> = names.collect();
    let problem = Problem::error(Code::UnknownProfile, span, format!("no {kind} `{name}`"));
    match closest(name, names.iter().copied()) {
        Some(meant) => problem.did_you_mean(meant),
        None if names.is_empty() => problem.with_hint(format!("define it in `{CONFIG_FILE}`: `[{section}.{name}]`")),
        None => problem.with_hint(format!("available: {}", join_words(names))),
    }
}
