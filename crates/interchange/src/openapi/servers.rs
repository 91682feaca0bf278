//! Servers as environments.

use url::Url;
use yieldtray_description::Node;
use yieldtray_source::names::{first_free, slug};

/// The servers of a description as environments: a name, and the URL before paths.
pub(super) fn environments(root: Node<'_>, notes: &mut Vec<String>) -> Vec<(String, String)> {
    let mut environments: Vec<(String, String)> = Vec::new();
    for server in root.get("servers").into_iter().flat_map(Node::list) {
        let Some(written) = server.text("url") else { continue };
        let address = address(server, written, None, notes);
        let name_hint = server.text("x-name").or_else(|| server.text("name")).or_else(|| server.text("description"));
        let host = address.split_once("://").map_or("", |(_, rest)| rest.split(['/', ':']).next().unwrap_or(rest));
        // A description may be a whole text.
        let short = name_hint.map(slug).filter(|name| !name.is_empty() && name.len() <= 24);
        let wanted = short.unwrap_or_else(|| slug(host.split('.').next().unwrap_or(host)));
        let wanted = if wanted.is_empty() { "server".to_owned() } else { wanted };
        let name = first_free(&wanted, "-", |name| !environments.iter().any(|(known, _)| known == name));
        environments.push((name, address));
    }
    if environments.is_empty() {
        notes.push("no server is described: `base` is set to `http://127.0.0.1`".to_owned());
        environments.push(("local".to_owned(), "http://127.0.0.1".to_owned()));
    }
    environments
}

/// The URL before the path of an operation that has servers of its own, or whose path has; `base` is the URL before
/// the others.
pub(super) fn of_operation(holders: [Node<'_>; 2], base: &str, notes: &mut Vec<String>) -> Option<String> {
    let servers = holders.into_iter().find_map(|holder| holder.get("servers"))?;
    let mut servers = servers.list().filter_map(|server| Some((server, server.text("url")?)));
    let (server, written) = servers.next()?;
    let more = servers.count();
    if more > 0 {
        notes.push(format!("it has {} servers of its own; the first is used", more + 1));
    }
    let address = address(server, written, Some(base), notes);
    (address != base).then_some(address)
}

/// A URL with the defaults of its variables. One without a host is relative to `base`.
fn address(server: Node<'_>, written: &str, base: Option<&str>, notes: &mut Vec<String>) -> String {
    let mut address = written.to_owned();
    for (name, variable) in server.get("variables").into_iter().flat_map(Node::members) {
        if let Some(value) = variable.text("default") {
            address = address.replace(&format!("{{{name}}}"), value);
            notes.push(format!("server `{written}`: `{name}` is `{value}`"));
        }
    }
    if address.starts_with("//") {
        address.insert_str(0, "https:");
        notes.push(format!("server `{written}` has no scheme: using `https`"));
    }
    let absolute = base.and_then(|base| Url::parse(base).ok()).and_then(|base| base.join(&address).ok());
    if let Some(absolute) = absolute.filter(|_| !address.contains("://")) {
        address = absolute.to_string();
    }
    if !address.contains("://") {
        notes.push(format!("server `{written}` has no host: `base` is set to `http://127.0.0.1`"));
        address = format!("http://127.0.0.1/{}", address.trim_start_matches('/'));
    }
    address.trim_end_matches('/').to_owned()
}
