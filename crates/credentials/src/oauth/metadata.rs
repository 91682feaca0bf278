//! The metadata of an authorization server (RFC 8414, OpenID Connect Discovery 1.0).

use super::{Endpoints, TokenError};
use serde_json::Value;
use url::{Host, Url};

/// Where the metadata of an issuer may be: first by RFC 8414 3, then by OpenID Connect Discovery 4.
pub(crate) fn locations(issuer: &Url) -> Vec<Url> {
    let path = issuer.path().trim_end_matches('/');
    let at = |path: String| {
        let mut url = issuer.clone();
        url.set_path(&path);
        url.set_query(None);
        url.set_fragment(None);
        url
    };
    let mut found = vec![
        at(format!("/.well-known/oauth-authorization-server{path}")),
        at(format!("{path}/.well-known/openid-configuration")),
    ];
    found.dedup();
    found
}

/// Adds the endpoints of the metadata to those that are known already.
///
/// # Errors
/// If the document is that of another issuer (RFC 8414 3.3), or names an endpoint that must not be used.
pub(crate) fn complete(endpoints: &mut Endpoints, issuer: &Url, document: &[u8]) -> Result<(), TokenError> {
    let refused = |why: String| TokenError::Metadata { issuer: issuer.to_string(), why };
    let document: Value =
        serde_json::from_slice(document).map_err(|error| refused(format!("not valid JSON: {error}")))?;
    let named = document["issuer"].as_str().ok_or_else(|| refused("it has no `issuer`".to_owned()))?;
    if !is_same_issuer(named, issuer.as_str()) {
        return Err(refused(format!("it is that of `{named}` (RFC 8414 3.3)")));
    }
    let read = |key: &'static str, what: &'static str, profile_key: &str, own: &mut Option<Url>| {
        let Some(text) = document[key].as_str().filter(|_| own.is_none()) else { return Ok(()) };
        let refuse = |why: String| TokenError::Endpoint { what, url: text.to_owned(), why };
        let url = Url::parse(text).map_err(|error| refuse(error.to_string()))?;
        if !is_protected(&url) {
            return Err(refuse("it must use https".to_owned()));
        }
        // Secrets of the profile go there: metadata alone must not choose a stranger's server for them.
        if url.origin() != issuer.origin() {
            let why =
                format!("it is at another origin than the issuer: if that is right, set `{profile_key} = \"{url}\"`");
            return Err(refuse(why));
        }
        *own = Some(url);
        Ok(())
    };
    read("token_endpoint", "token", "token_url", &mut endpoints.token)?;
    read("authorization_endpoint", "authorization", "authorization_url", &mut endpoints.authorization)?;
    read("device_authorization_endpoint", "device authorization", "device_url", &mut endpoints.device)?;
    read("revocation_endpoint", "revocation", "revocation_url", &mut endpoints.revocation)
}

/// Whether two identifiers are of one issuer: servers disagree about the slash at the end.
pub(crate) fn is_same_issuer(one: &str, other: &str) -> bool {
    one.trim_end_matches('/') == other.trim_end_matches('/')
}

/// Whether requests to a URL cannot be read on the way: by TLS, or since they stay on this machine.
pub(crate) fn is_protected(url: &Url) -> bool {
    let is_loopback = match url.host() {
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        Some(Host::Domain(name)) => name == "localhost" || name.ends_with(".localhost"),
        None => false,
    };
    url.scheme() == "https" || (url.scheme() == "http" && is_loopback)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metadata_is_looked_for_where_both_standards_say() {
        let of = |issuer: &str| {
            locations(&Url::parse(issuer).expect("it is valid")).iter().map(Url::to_string).collect::<Vec<_>>()
        };
        assert_eq!(
            of("https://door.packhouse.example/"),
            [
                "https://door.packhouse.example/.well-known/oauth-authorization-server",
                "https://door.packhouse.example/.well-known/openid-configuration",
            ]
        );
        assert_eq!(
            of("https://door.packhouse.example/north"),
            [
                "https://door.packhouse.example/.well-known/oauth-authorization-server/north",
                "https://door.packhouse.example/north/.well-known/openid-configuration",
            ]
        );
    }

    #[test]
    fn metadata_of_a_stranger_sends_secrets_nowhere() {
        let issuer = Url::parse("https://door.packhouse.example").expect("it is valid");
        let refused = |document: &str| {
            let mut endpoints = Endpoints::default();
            let error = complete(&mut endpoints, &issuer, document.as_bytes()).expect_err("it is refused").to_string();
            assert_eq!(endpoints.token, None, "{document}");
            error
        };
        assert!(refused("<html>").contains("not valid JSON"));
        assert!(refused("{}").contains("it has no `issuer`"));
        let other = refused(r#"{ "issuer": "https://other.example", "token_endpoint": "https://other.example/t" }"#);
        assert!(other.contains("it is that of `https://other.example`"), "{other}");
        let elsewhere =
            r#"{ "issuer": "https://door.packhouse.example", "token_endpoint": "https://other.example/t" }"#;
        assert!(refused(elsewhere).contains("set `token_url = \"https://other.example/t\"`"));
        let open =
            r#"{ "issuer": "https://door.packhouse.example", "token_endpoint": "http://door.packhouse.example/t" }"#;
        assert!(refused(open).contains("it must use https"));

        // Endpoints of the profile are not replaced.
        let own = Url::parse("https://other.example/t").expect("it is valid");
        let mut endpoints = Endpoints { token: Some(own.clone()), ..Endpoints::default() };
        complete(&mut endpoints, &issuer, elsewhere.as_bytes()).expect("it is valid");
        assert_eq!(endpoints.token, Some(own));
    }
}
