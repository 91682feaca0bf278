//! Where servers have their descriptions: links (RFC 8631), the catalog of APIs (RFC 9727), and usual paths.

use serde_json::Value;
use std::collections::VecDeque;
use url::Url;
use yieldtray_http::{Exchange, links};

/// Paths at which descriptions are looked for, where nothing else is configured.
pub(super) const USUAL_PATHS: &[&str] = &[
    "/openapi.json",
    "/openapi.yaml",
    "/openapi.yml",
    "/openapi",
    "/api/openapi.json",
    "/docs/openapi.json",
    "/api-docs",
];

/// Links that are followed at most.
const MAX_LINKS: usize = 8;

/// A place at which something may be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Candidate {
    /// A response whose `Link` fields may lead to a description.
    Links(Url),
    /// A catalog of APIs.
    Catalog(Url),
    /// A description.
    Description(Url),
    /// A GraphQL endpoint.
    GraphQl(Url),
}

/// The places to look at first, in order.
pub(super) fn first(base: &Url, paths: Option<&[String]>) -> VecDeque<Candidate> {
    let at_origin = |path: &str| base.join(path).ok();
    let below = |path: &str| {
        let mut url = base.clone();
        url.set_path(&format!("{}{path}", base.path().trim_end_matches('/')));
        url
    };
    let mut all = VecDeque::from([Candidate::Links(base.clone())]);
    all.extend(at_origin("/.well-known/api-catalog").map(Candidate::Catalog));
    let paths: Vec<&str> = match paths {
        Some(paths) => paths.iter().map(String::as_str).collect(),
        None => USUAL_PATHS.to_vec(),
    };
    all.extend(paths.iter().map(|path| Candidate::Description(below(path))));
    if base.path() != "/" {
        all.extend(paths.iter().filter_map(|path| at_origin(path)).map(Candidate::Description));
    }
    all.push_back(Candidate::GraphQl(below("/graphql")));
    all
}

/// The descriptions that a response links to, at the same server: another one was not asked.
pub(super) fn linked(candidate: &Candidate, answer: &Exchange, base: &Url) -> Vec<Url> {
    let mut targets = links(answer, "service-desc");
    if matches!(candidate, Candidate::Catalog(_)) && (200..300).contains(&answer.status) {
        targets.extend(of_catalog(&answer.body));
    }
    let absolute = targets.iter().filter_map(|target| answer.sent.url.join(target).ok());
    absolute.filter(|url| url.origin() == base.origin()).take(MAX_LINKS).collect()
}

/// The targets of `service-desc` in a catalog: a set of links as JSON (RFC 9264 4.2).
fn of_catalog(body: &[u8]) -> Vec<String> {
    let Ok(catalog) = serde_json::from_slice::<Value>(body) else { return Vec::new() };
    let contexts = catalog["linkset"].as_array().into_iter().flatten();
    let links = contexts.filter_map(|context| context["service-desc"].as_array()).flatten();
    links.filter_map(|link| link["href"].as_str()).map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_catalog_names_descriptions() {
        let body =
            br#"{"linkset":[{"anchor":"/","service-desc":[{"href":"/openapi.json"}]},{"item":[{"href":"/x"}]}]}"#;
        assert_eq!(of_catalog(body), ["/openapi.json"]);
        assert!(of_catalog(b"[]").is_empty());
    }

    #[test]
    fn a_base_with_a_path_is_looked_below_and_beside() {
        let base = Url::parse("http://127.0.0.1:4616/v1").expect("a URL");
        let all = first(&base, Some(&["/api.json".to_owned()]));
        let shown: Vec<String> =
            all.iter().map(|one| format!("{one:?}").split('"').nth(1).unwrap_or("").to_owned()).collect();
        assert_eq!(shown.len(), 5);
        assert!(matches!(&all[2], Candidate::Description(url) if url.path() == "/v1/api.json"));
        assert!(matches!(&all[3], Candidate::Description(url) if url.path() == "/api.json"));
    }
}
