//! Which proxy a request goes through.

use crate::Options;
use crate::options::Proxy;
use hyper_util::client::proxy::matcher::Matcher;
use url::Url;

/// The variables that name a proxy.
const VARIABLES: &[&str] = &["http_proxy", "https_proxy", "all_proxy", "HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"];

/// The rule by which proxies are chosen, for whoever wants to know; the HTTP library has the same.
#[derive(Debug)]
pub(crate) struct Proxies(Option<Matcher>);

impl Proxies {
    pub(crate) fn new(options: &Options) -> Self {
        let set = |name: &&str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
        Self(match &options.proxy {
            _ if options.socket.is_some() => None,
            Proxy::Off => None,
            Proxy::Surroundings => VARIABLES.iter().any(set).then(Matcher::from_env),
            Proxy::Address(address) => {
                let no = options.no_proxy.clone().unwrap_or_default();
                Some(Matcher::builder().all(address.clone()).no(no).build())
            }
        })
    }

    /// The proxy for `url`, without credentials.
    pub(crate) fn of(&self, url: &Url) -> Option<String> {
        let found = self.0.as_ref()?.intercept(&url.as_str().parse().ok()?)?;
        let address = found.uri();
        Some(format!(
            "{}://{}",
            address.scheme_str().unwrap_or("http"),
            address.authority()?.as_str().rsplit('@').next()?
        ))
    }
}
