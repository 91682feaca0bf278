//! Whether the secrets of a request belong to the origin it goes to.

use crate::AuthLine;
use crate::scope::Resolver;
use crate::secret::{Destinations, UsedSecret};
use url::Url;
use yieldtray_http::origin_of;
use yieldtray_source::{Code, Problem, join_words};
use yieldtray_syntax::Auth;

/// The secrets that were looked up for a request to `url`, and do not belong there.
pub(super) fn check(resolver: &mut Resolver<'_>, url: &Url, auth: Option<&AuthLine<'_>>) -> Vec<Problem> {
    let origin = origin_of(url);
    let oauth2 = auth.filter(|line| matches!(line.auth, Auth::OAuth2(_)));
    if (resolver.cache.secrets.is_empty() && oauth2.is_none()) || is_listed(resolver, &origin) {
        return Vec::new();
    }
    let base = resolver.base_origin();
    let mut problems: Vec<Problem> = Vec::new();
    for secret in &resolver.cache.secrets {
        if !secret.may_go_to(&origin, base.as_deref()) {
            let problem = elsewhere(secret, &origin, base.as_deref());
            let is_same = |old: &Problem| old.message == problem.message;
            if !problems.iter().any(is_same) {
                problems.push(problem);
            }
        }
    }
    problems.extend(oauth2.and_then(|line| token_elsewhere(resolver, line, &origin, base.as_deref())));
    problems
}

/// A token goes where `base` is, to its token endpoint, and to the origins that its profile lists.
fn token_elsewhere(resolver: &Resolver<'_>, line: &AuthLine<'_>, origin: &str, base: Option<&str>) -> Option<Problem> {
    let Auth::OAuth2(span) = line.auth else { return None };
    let workspace = resolver.workspace;
    let name = span.of(&workspace.source(line.origin).text);
    let profile = workspace.config.profile(name)?;
    let endpoint = profile.entries.iter().find(|entry| entry.key == "token_url");
    let endpoint = endpoint.and_then(|entry| Url::parse(entry.span.of(&workspace.source(entry.source).text)).ok());
    // A profile whose endpoint is relative to a value belongs to `base`, which that value is in all likelihood.
    let of_profile = profile.origins.iter().any(|listed| listed == origin)
        || endpoint.is_some_and(|endpoint| origin_of(&endpoint) == origin);
    if base == Some(origin) || of_profile {
        return None;
    }
    let message = format!("the token of `{name}` is a secret and may not be sent to `{origin}`");
    let hint = format!(
        "{}: add `for = [\"{origin}\"]` to `[oauth2.{name}]`, or pass `--secrets-to {origin}` to send it once",
        belongs_to(base, &profile.origins)
    );
    let problem = Problem::error(Code::SecretDestination, span, message).with_hint(hint);
    Some(problem.with_related(profile.source, profile.span, "the profile is here").in_source(line.origin))
}

/// The same for an endpoint of an authorization server: it is where the secrets of a profile belong, unless they say otherwise
/// themselves.
pub(super) fn check_token_endpoint(resolver: &Resolver<'_>, origin: &str) -> Vec<Problem> {
    if is_listed(resolver, origin) {
        return Vec::new();
    }
    let listed = resolver.cache.secrets.iter().filter(|secret| matches!(secret.destinations, Destinations::Listed(_)));
    let elsewhere = listed.filter(|secret| !secret.may_go_to(origin, None));
    elsewhere.map(|secret| self::elsewhere(secret, origin, None)).collect()
}

/// Whether the user allows an origin for this time.
pub(super) fn is_listed(resolver: &Resolver<'_>, origin: &str) -> bool {
    resolver.context.settings.secrets_to.iter().any(|listed| listed == origin)
}

fn elsewhere(secret: &UsedSecret, origin: &str, base: Option<&str>) -> Problem {
    let (source, span) = secret.used_at;
    let name = &secret.name;
    let message = format!("`{name}` is a secret and may not be sent to `{origin}`");
    let listed: &[String] = match &secret.destinations {
        Destinations::Listed(origins) => origins,
        _ => &[],
    };
    let belongs = belongs_to(base.filter(|_| listed.is_empty()), listed);
    let define = match secret.defined_at {
        Some(_) => format!("add `for = [\"{origin}\"]` where it is defined"),
        None => format!("define it in the configuration with `for = [\"{origin}\"]`"),
    };
    let hint = format!("{belongs}: {define}, or pass `--secrets-to {origin}` to send it once");
    let problem = Problem::error(Code::SecretDestination, span, message).with_hint(hint).in_source(source);
    match secret.defined_at {
        Some((source, span)) => problem.with_related(source, span, "it is defined here"),
        None => problem,
    }
}

fn belongs_to(base: Option<&str>, listed: &[String]) -> String {
    match (base, listed) {
        (_, [_, ..]) => format!("it may be sent to {}", join_words(listed)),
        (Some(base), []) => format!("it may be sent to `{base}`, the origin of `base`"),
        (None, []) => "the configuration has no `base` to bind it to".to_owned(),
    }
}
